package api

import (
	"context"
	"io"
	"net/http"
	"net/netip"
	"time"

	"amber.example/gatekeeper/internal/backup"
	"amber.example/gatekeeper/internal/certs"
	"amber.example/gatekeeper/internal/config"
	"amber.example/gatekeeper/internal/service"
)

// Host is the process that serves.
type Host interface {
	Settings() []config.Value
	// Reload reads the settings again, and gives the names of those that wait for the next start.
	Reload() (waiting []string, err error)
	SetLogLevel(level string) error
	// ConsoleAt is the address where the console is listened for.
	ConsoleAt() string
	Certificate() certs.Standing
	// Firm says whether browsers that ask for a name may be told to come by TLS alone.
	Firm(name string) bool
	// AsksClients says whether clients are asked for certificates.
	AsksClients() bool
	// Backups lists those that are written by themselves, the newest first; where is "" where none are.
	Backups() (where string, kept []backup.Kept, problem string)
	KeepBackup(ctx context.Context) (backup.Kept, error)
	MakeBackup(ctx context.Context, to io.Writer, seal backup.Seal) error
}

// Setting is one setting of the process.
type Setting struct {
	Name  string `json:"name"`
	Value string `json:"value"`
	From  string `json:"from" enum:"flag,environment,file,default,asked" doc:"What said so; asked is for a log level that was asked for while the service runs."`
	Where string `json:"where" doc:"The option, variable, or file and line."`
	Live  bool   `json:"live" doc:"A change of it is taken up when the settings are read again."`
}

// Settings are what the process was told.
type Settings struct {
	Settings []Setting `json:"settings"`
}

// SettingsOf lists settings as the API does.
func SettingsOf(values []config.Value) Settings {
	out := Settings{Settings: []Setting{}}
	for _, v := range values {
		out.Settings = append(out.Settings, Setting{Name: v.Name, Value: v.Value, From: v.From.Kind, Where: v.From.String(), Live: v.Live})
	}
	return out
}

// Reread says what became of reading the settings again.
type Reread struct {
	Waiting []string `json:"waiting" doc:"Settings that say something else now, for the next start."`
}

// LogLevel is from what on is logged.
type LogLevel struct {
	Level string `json:"level" enum:"debug,info,warn,error"`
}

// Certificate is how the console's certificate stands.
type Certificate struct {
	Own         bool      `json:"own" doc:"The service signed it itself; clients know it by its fingerprint."`
	Subject     string    `json:"subject"`
	Names       []string  `json:"names" doc:"Names and addresses that it is for."`
	From        time.Time `json:"from"`
	Until       time.Time `json:"until"`
	Fingerprint string    `json:"fingerprint" doc:"SHA-256, in hexadecimal by pairs."`
	Trouble     string    `json:"trouble,omitempty" doc:"Why what is in the files now is not what is in force."`
	Clients     bool      `json:"clients" doc:"Tokens are taken only with a certificate of the client, except on this machine."`
}

// Before a certificate ends so much is worth minding, and so much is wrong.
const (
	endsSoon = 30 * 24 * time.Hour
	endsNow  = 3 * 24 * time.Hour
)

func certificateLine(c certs.Standing, now time.Time) StatusLine {
	line := StatusLine{What: "certificate", State: well, Says: "until " + c.Until.UTC().Format("2 Jan 2006"), Next: "amber certificate show"}
	if c.Own {
		line.Says = "signed by the service itself, " + line.Says
	}
	switch left := c.Until.Sub(now); {
	case left <= 0:
		line.State, line.Says = wrong, "it has ended on "+c.Until.UTC().Format("2 Jan 2006")
	case left < endsNow:
		line.State = wrong
	case left < endsSoon:
		line.State = mind
	}
	if c.Trouble != "" && line.State == well {
		line.State, line.Says = mind, "what its files hold now cannot be used; the one before is in force"
	}
	return line
}

// certified says why a token may not be used over a connection; nil where it may.
func (s *Server) certified(over reached, by service.Actor) error {
	here := isLoopback(over.at) && isLoopback(over.address) // and not somebody else by a proxy on this machine
	if s.host == nil || by.Token == "" || !s.host.AsksClients() || here || over.proved {
		return nil
	}
	return &service.Error{Kind: service.Unauthenticated, Message: "the token is taken only over a connection with a client's certificate: --certificate and --key name it"}
}

func isLoopback(address string) bool {
	a, err := netip.ParseAddr(address)
	return err == nil && a.Unmap().WithZone("").IsLoopback()
}

func (s *Server) registerHost() {
	handle(s, operation("list-settings", http.MethodGet, "/settings", "Say what the process was told, and where each of it was said", "running"), func(ctx context.Context, _ *struct{}) (Settings, error) {
		if s.host == nil {
			return Settings{Settings: []Setting{}}, nil
		}
		return SettingsOf(s.host.Settings()), nil
	})
	handle(s, operation("reread-settings", http.MethodPost, "/settings/reread", "Read the settings and the certificate again", "running"), func(ctx context.Context, _ *struct{}) (out Reread, err error) {
		err = s.on(ctx).OfProcess(ctx, caller(ctx), "reread settings", "", func() error {
			if s.host == nil {
				return nil
			}
			out.Waiting, err = s.host.Reload()
			return asInvalid(err)
		})
		out.Waiting = orNone(out.Waiting)
		return out, err
	})
	handle(s, operation("set-log-level", http.MethodPut, "/log-level", "Say from what on is logged, until the settings are read again", "running"), func(ctx context.Context, in *struct{ Body LogLevel }) (LogLevel, error) {
		return in.Body, s.on(ctx).OfProcess(ctx, caller(ctx), "set log level", in.Body.Level, func() error {
			if s.host == nil {
				return nil
			}
			return asInvalid(s.host.SetLogLevel(in.Body.Level))
		})
	})
	handle(s, operation("show-certificate", http.MethodGet, "/certificate", "Say how the console's certificate stands", "running"), func(ctx context.Context, _ *struct{}) (Certificate, error) {
		if s.host == nil {
			return Certificate{}, &service.Error{Kind: service.NotFound, Message: "this process has no certificate"}
		}
		c := s.host.Certificate()
		return Certificate{Own: c.Own, Subject: c.Subject, Names: orNone(c.Names), From: c.From.UTC(), Until: c.Until.UTC(), Fingerprint: c.Fingerprint, Trouble: c.Trouble, Clients: c.Clients}, nil
	})
}

// asInvalid has what is wrong with the settings be told as it is.
func asInvalid(err error) error {
	if err == nil {
		return nil
	}
	return &service.Error{Kind: service.Conflict, Message: err.Error()}
}
