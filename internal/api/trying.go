package api

import (
	"context"
	"net/http"
	"strings"

	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/internal/trying"
)

// ToTry is as whom, where and how the service is to speak to itself.
type ToTry struct {
	User string `json:"user" minLength:"1" maxLength:"64"`
	Path string `json:"path" minLength:"1" maxLength:"4096"`
	Via  string `json:"via,omitempty" enum:"smb,nfs" doc:"One way; every way in which the folder is published, if left out."`
	From string `json:"from,omitempty" maxLength:"255" doc:"As if from this host, by address or name; over NFS from one that a client rule names, if left out."`
	Look bool   `json:"look,omitempty" doc:"Nothing is made: it is only looked."`
}

// TriedOut is what came of it.
type TriedOut struct {
	User   string     `json:"user"`
	Path   string     `json:"path"`
	Agrees bool       `json:"agrees" doc:"All went as the audit says."`
	Ways   []WayTried `json:"ways"`
}

// WayTried is one way in, as far as it led.
type WayTried struct {
	Via     string      `json:"via" enum:"smb,nfs"`
	Through string      `json:"through" doc:"The share, or the export."`
	From    string      `json:"from" doc:"The address it was as if from."`
	Agrees  bool        `json:"agrees"`
	Steps   []StepTried `json:"steps"`
	Left    string      `json:"left,omitempty" doc:"What could not be tidied up."`
}

// StepTried is one thing that was tried.
type StepTried struct {
	Does     string `json:"does"`
	Done     bool   `json:"done"`
	Says     string `json:"says,omitempty" doc:"What came back where it was not done."`
	Expected bool   `json:"expected" doc:"The audit says that it can be done."`
	Gate     string `json:"gate,omitempty" doc:"The gate that refuses it, as the audit says."`
	Reason   string `json:"reason,omitempty" doc:"What that gate says."`
}

func triedOf(user, path string, ways []trying.Way) TriedOut {
	out := TriedOut{User: user, Path: path, Agrees: true, Ways: []WayTried{}}
	for i := range ways {
		w := &ways[i]
		one := WayTried{Via: strings.ToLower(w.Via.String()), Through: w.Through, From: w.From.String(), Agrees: w.Agrees(), Steps: []StepTried{}, Left: w.Left}
		for _, s := range w.Steps {
			one.Steps = append(one.Steps, StepTried(s))
		}
		out.Agrees = out.Agrees && one.Agrees
		out.Ways = append(out.Ways, one)
	}
	return out
}

func (s *Server) registerTrying() {
	handle(s, operation("try", http.MethodPost, "/try", "Go in as somebody, by the wire itself, and hold what comes back against the audit", "audit"), func(ctx context.Context, in *struct{ Body ToTry }) (TriedOut, error) {
		q := in.Body
		if s.doors.SMB == nil || s.doors.NFS == nil {
			return TriedOut{}, &service.Error{Kind: service.Unavailable, Message: "SMB and NFS are not served by this process"}
		}
		ctx, done, err := s.previews.take(ctx, caller(ctx))
		if err != nil {
			return TriedOut{}, err
		}
		defer done()
		if err := s.on(ctx).MayTry(ctx, caller(ctx), q.User, q.Path); err != nil {
			return TriedOut{}, err
		}
		ways, err := s.doors.Try(ctx, s.svc, trying.Question{User: q.User, Path: q.Path, Via: q.Via, From: q.From, Look: q.Look})
		return shownBy(ways, err, func(w []trying.Way) TriedOut { return triedOf(q.User, q.Path, w) })
	})
}
