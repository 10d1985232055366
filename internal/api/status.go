package api

import (
	"context"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"amber.example/gatekeeper/internal/core/audit"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/service"
)

// How something stands.
const (
	well  = "well"
	mind  = "to mind"
	wrong = "wrong"
)

// Status is how the service stands.
type Status struct {
	State   string       `json:"state" enum:"well,to mind,wrong" doc:"That of the worst line."`
	Version string       `json:"version"`
	Since   time.Time    `json:"since" doc:"When the service began."`
	Lines   []StatusLine `json:"lines"`
}

// StatusLine is how one thing stands.
type StatusLine struct {
	What  string `json:"what"`
	State string `json:"state" enum:"well,to mind,wrong"`
	Says  string `json:"says"`
	Next  string `json:"next,omitempty" doc:"The command that tells more, or mends it."`
}

// Ready says that clients can be served.
type Ready struct {
	Ready bool `json:"ready"`
}

// Of the room on a volume so much free is worth minding, and so much is wrong, in percent.
const (
	minded = 10
	scarce = 2
)

// serving is how the protocols and the records stand: what has to be well for anybody to be served.
func (s *Server) serving(ctx context.Context) (lines []StatusLine) {
	on := s.svc.Policy().Services
	for _, p := range []Service{serviceOf(ctx, "smb", on.SMB, s.smbAt), serviceOf(ctx, "nfs", on.NFS, s.nfsAt)} {
		line := StatusLine{What: strings.ToUpper(p.Protocol), State: well, Says: "answers at " + p.Listens}
		switch {
		case !p.On:
			line.Says, line.Next = "is switched off", "amber service on "+p.Protocol
		case p.Trouble != "":
			line.State, line.Says = wrong, p.Trouble
		}
		lines = append(lines, line)
	}
	line := StatusLine{What: "records", State: well, Says: "what is changed and done is written down"}
	if says := s.svc.TroubleSays(); says != "" {
		line.State, line.Says = wrong, says
	}
	return append(lines, line)
}

// status is how all of it stands.
func (s *Server) status(ctx context.Context) Status {
	out := Status{State: well, Version: s.version, Since: s.since.UTC(), Lines: s.serving(ctx)}
	clients := StatusLine{What: "clients", State: well, Says: "nobody is connected", Next: "amber session list"}
	if sessions, opens := len(s.live.Sessions()), len(s.live.Opens()); sessions > 0 {
		clients.Says = plain.Counted(sessions, "is connected", "are connected") + ", with " + plain.Counted(opens, "open file, directory or pipe", "open files, directories and pipes")
	}
	out.Lines = append(out.Lines, clients)
	for _, v := range s.svc.Policy().Volumes {
		out.Lines = append(out.Lines, s.volumeLine(s.roomOf(ctx, v)))
	}
	counts := StatusLine{What: "counting", State: well, Says: "what is stored is counted"}
	for _, c := range s.svc.Counts() {
		if c.Problem != "" {
			counts.State, counts.Says, counts.Next = mind, c.Folder+": "+c.Problem, "amber count list"
		}
	}
	out.Lines = append(out.Lines, counts, s.limitsLine(ctx), s.findingsLine())
	if s.host != nil {
		out.Lines = append(out.Lines, certificateLine(s.host.Certificate(), time.Now()), s.backupsLine(time.Now()))
	}
	if unsent, err := s.svc.Unsent(ctx); err == nil && len(unsent) > 0 {
		out.Lines = append(out.Lines, StatusLine{What: "notices", State: mind, Says: plain.Counted(len(unsent), "could not be brought", "could not be brought"), Next: "amber notice unsent"})
	}
	for _, l := range out.Lines {
		if l.State == wrong || l.State == mind && out.State == well {
			out.State = l.State
		}
	}
	return out
}

func (s *Server) volumeLine(v VolumeRoom) StatusLine {
	line := StatusLine{What: "volume " + v.Name, State: well, Next: "amber volume show " + v.Name}
	switch {
	case v.Away != "":
		line.State, line.Says = wrong, "it is away: "+v.Away
	case v.TotalBytes == nil || *v.TotalBytes == 0:
		line.State, line.Says = mind, "how much room there is on it cannot be told"
	default:
		line.Says = limit.FormatSize(*v.FreeBytes) + " free of " + limit.FormatSize(*v.TotalBytes)
		switch free := *v.FreeBytes * 100 / max(*v.TotalBytes, 1); {
		case free < scarce:
			line.State = wrong
		case free < minded:
			line.State = mind
		}
	}
	return line
}

func (s *Server) limitsLine(ctx context.Context) StatusLine {
	line := StatusLine{What: "limits", State: well, Says: "nobody is at one", Next: "amber use"}
	at := 0
	for _, by := range []service.Subject{service.ByUser, service.ByFolder} {
		uses, err := s.svc.Uses(ctx, by)
		if err != nil {
			return StatusLine{What: "limits", State: mind, Says: "they cannot be told just now"}
		}
		for i := range uses {
			for _, st := range useOf(s.svc.Policy(), &uses[i], s.svc.Ledger().Now()).Standings {
				if st.State == "full" || st.State == "grace over" {
					at++
					break
				}
			}
		}
	}
	if at > 0 {
		line.State, line.Says = mind, plain.Counted(at, "can store no more", "can store no more")
	}
	return line
}

func (s *Server) findingsLine() StatusLine {
	line := StatusLine{What: "findings", State: well, Says: "none that is grave", Next: "amber finding list"}
	grave := 0
	for _, f := range s.svc.Audit().Findings() {
		if f.Accepted == nil && f.Severity == audit.High {
			grave++
		}
	}
	if grave > 0 {
		line.State, line.Says = mind, plain.Counted(grave, "is grave", "are grave")
	}
	return line
}

func (s *Server) registerStatus() {
	handle(s, operation("show-status", http.MethodGet, "/status", "Say how the service stands, with what mends what is not well", "live"), func(ctx context.Context, _ *struct{}) (Status, error) {
		return s.status(ctx), nil
	})
	op := operation("ready", http.MethodGet, "/ready", "Say whether clients can be served", "session")
	op.Security = public
	huma.Register(s.api, op, func(ctx context.Context, _ *struct{}) (*struct{ Body Ready }, error) {
		if s.svc.WindingDown() {
			return nil, s.asProblem(&service.Error{Kind: service.Unavailable, Message: "the service is ending"}, "")
		}
		for _, l := range s.serving(ctx) {
			if l.State == wrong {
				return nil, s.asProblem(&service.Error{Kind: service.Unavailable, Message: l.What + " cannot be served just now"}, "")
			}
		}
		return &struct{ Body Ready }{Ready{true}}, nil
	})
}
