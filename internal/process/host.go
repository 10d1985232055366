package process

import (
	"context"
	"log/slog"
	"strings"

	"amber.example/gatekeeper/internal/certs"
	"amber.example/gatekeeper/internal/config"
)

// Settings are what is in force, and where each was said.
func (p *Process) Settings() []config.Value {
	p.mu.Lock()
	defer p.mu.Unlock()
	out := p.cfg.Values()
	for i, v := range out {
		if v.Name == "log-level" && p.levelSet != "" {
			out[i].Value, out[i].From = p.levelSet, config.From{Kind: "asked", Where: "what was asked for while it runs"}
		}
	}
	return out
}

// ConsoleAt is the address where the console is listened for.
func (p *Process) ConsoleAt() string { return p.sockets.console.Addr().String() }

// Certificate is how the console's certificate stands.
func (p *Process) Certificate() certs.Standing { return p.certs.Standing() }

// Firm says whether browsers that ask for a name may be told to come by TLS alone.
func (p *Process) Firm(name string) bool { return p.certs.Firm(name) }

// AsksClients says whether clients are asked for certificates.
func (p *Process) AsksClients() bool { return p.certs.AsksClients() }

// SetLogLevel changes from what on is logged, until the settings are read again.
func (p *Process) SetLogLevel(level string) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	if err := p.log.SetLevel(level); err != nil {
		return err
	}
	p.levelSet = level
	return nil
}

// quiet takes what net/http says of connections that went wrong before anybody was asked: strangers bring that about as they like, and it is
// said to who looks for it.
type quiet struct{ slog.Handler }

func (q quiet) Handle(ctx context.Context, r slog.Record) error {
	if strings.Contains(r.Message, "TLS handshake error") {
		if !q.Enabled(ctx, slog.LevelDebug) {
			return nil
		}
		r.Level = slog.LevelDebug
	}
	return q.Handler.Handle(ctx, r)
}
