package api

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"

	"amber.example/gatekeeper/internal/backup"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/service"
)

// BackupInput says for whom a backup is sealed; nothing for everybody.
type BackupInput struct {
	Passphrase string   `json:"passphrase,omitempty" minLength:"8" maxLength:"1024" doc:"It is sealed with it."`
	Recipients []string `json:"recipients,omitempty" maxItems:"20" doc:"Public keys of age that it is sealed for."`
}

// KeptBackup is a backup that the service keeps.
type KeptBackup struct {
	Name string    `json:"name"`
	Made time.Time `json:"made"`
	Size int64     `json:"size" doc:"Bytes."`
}

// KeptBackups are those that the service writes by itself.
type KeptBackups struct {
	Where   string       `json:"where" doc:"The directory; empty where none are written."`
	Problem string       `json:"problem,omitempty" doc:"Why the last try came to nothing."`
	Backups []KeptBackup `json:"backups" doc:"The newest first."`
}

func keptOf(k backup.Kept) KeptBackup { return KeptBackup{Name: k.Name, Made: k.Made, Size: k.Size} }

func (s *Server) backupsLine(now time.Time) StatusLine {
	line := StatusLine{What: "backups", State: well, Says: "none are written by themselves", Next: "amber backup --list"}
	where, kept, problem := s.host.Backups()
	switch {
	case problem != "":
		line.State, line.Says = wrong, problem
	case where != "" && len(kept) == 0:
		line.State, line.Says = mind, "none has been written yet"
	case where != "":
		line.Says = plain.Counted(len(kept), "is kept", "are kept") + ", the last of " + kept[0].Made.UTC().Format("2 Jan 15:04 UTC") + ", " + limit.FormatSize(kept[0].Size)
	}
	return line
}

// sent is where a backup is written to: what fails before anything is, is answered as a problem. Who does not go on reading is cut off.
type sent struct {
	w     http.ResponseWriter
	begun bool
}

func (s *sent) Write(p []byte) (int, error) {
	s.begun = true
	_ = http.NewResponseController(s.w).SetWriteDeadline(time.Now().Add(sentPatience)) // where it cannot be set, it is bounded as any answer is
	return s.w.Write(p)
}

const sentPatience = 30 * time.Second

func (s *Server) registerBackups() {
	handle(s, operation("list-backups", http.MethodGet, "/backups", "Say which backups the service keeps", "running"), func(ctx context.Context, _ *struct{}) (KeptBackups, error) {
		out := KeptBackups{Backups: []KeptBackup{}}
		if s.host == nil {
			return out, nil
		}
		where, kept, problem := s.host.Backups()
		out.Where, out.Problem = where, problem
		for _, k := range kept {
			out.Backups = append(out.Backups, keptOf(k))
		}
		return out, nil
	})
	handle(s, operation("keep-backup", http.MethodPost, "/backups", "Have one more written to where the service keeps them", "running"), func(ctx context.Context, _ *struct{}) (KeptBackup, error) {
		var kept backup.Kept
		err := s.on(ctx).OfProcess(ctx, caller(ctx), "make backup", "kept by the service", func() (err error) {
			if s.host == nil {
				return nil
			}
			kept, err = s.host.KeepBackup(ctx)
			return asInvalid(err)
		})
		return keptOf(kept), err
	})
	op := operation("make-backup", http.MethodPost, "/backup", "Make a backup, and send it", "running")
	op.Responses = map[string]*huma.Response{"200": {Description: "The backup: a tar archive, compressed with gzip, sealed with age where that was asked for.",
		Content: map[string]*huma.MediaType{"application/octet-stream": {Schema: &huma.Schema{Type: "string", Format: "binary"}}}}}
	huma.Register(s.api, op, func(ctx context.Context, in *struct{ Body BackupInput }) (*huma.StreamResponse, error) {
		seal := backup.Seal{Passphrase: in.Body.Passphrase, Recipients: in.Body.Recipients}
		if err := seal.Check(); err != nil {
			return nil, s.asProblem(&service.Error{Kind: service.Invalid, Field: "recipients", Message: err.Error()}, "body")
		}
		about := "not sealed"
		if seal.Sealed() {
			about = "sealed"
		}
		if err := s.on(ctx).OfProcess(ctx, caller(ctx), "make backup", about+", sent to "+reachedBy(ctx).address, func() error { return nil }); err != nil {
			return nil, s.asProblem(err, "body")
		}
		if s.host == nil {
			return nil, s.asProblem(&service.Error{Kind: service.Conflict, Message: "this process makes no backups"}, "body")
		}
		return &huma.StreamResponse{Body: func(to huma.Context) { s.sendBackup(to, seal) }}, nil
	})
}

// sendBackup sends one. Where it fails on its way the connection is cut off, so that nobody takes a part for all.
func (s *Server) sendBackup(to huma.Context, seal backup.Seal) {
	to.SetHeader("Content-Type", "application/octet-stream")
	to.SetHeader("Content-Disposition", `attachment; filename="amber-`+time.Now().UTC().Format("20060102T150405Z")+seal.Extension()+`"`)
	_, direct := humachi.Unwrap(to)
	w := &sent{w: direct}
	err := s.host.MakeBackup(to.Context(), w, seal)
	if err == nil {
		return
	}
	if !errors.Is(err, context.Canceled) {
		s.log.Error("a backup came to nothing", "request", requestOf(to.Context()), "error", err)
	}
	if w.begun {
		panic(http.ErrAbortHandler)
	}
	to.SetHeader("Content-Disposition", "")
	s.problem(to, &service.Error{Kind: service.Unavailable, Message: "the backup came to nothing: " + plain.Text(err.Error())})
}
