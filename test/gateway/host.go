package gateway

import (
	"context"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/backup"
	"amber.example/gatekeeper/internal/certs"
	"amber.example/gatekeeper/internal/config"
	"amber.example/gatekeeper/internal/logging"
	"amber.example/gatekeeper/internal/service"
)

// host stands for the process of a gateway that runs inside of a test.
type host struct {
	*certs.Keeper
	cfg *config.Config
	log *logging.Log
	svc *service.Service
	dir string
}

func newHost(t testing.TB, svc *service.Service, state string, with []Option) *host {
	t.Helper()
	h := &host{svc: svc, dir: t.TempDir()}
	var err error
	h.cfg, err = config.Load(config.Sources{State: state})
	require.NoError(t, err)
	h.log, err = logging.Open(io.Discard, "stderr", "text", "info")
	require.NoError(t, err)
	files := certs.Files{State: state}
	for _, option := range with {
		option(&files)
	}
	h.Keeper, err = certs.Open(files, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	return h
}

func (h *host) Settings() []config.Value                 { return h.cfg.Values() }
func (h *host) Reload() ([]string, error)                { return nil, h.Again() }
func (h *host) ConsoleAt() string                        { return "127.0.0.1:8460" }
func (h *host) SetLogLevel(level string) error           { return h.log.SetLevel(level) }
func (h *host) Certificate() certs.Standing              { return h.Standing() }
func (h *host) Backups() (string, []backup.Kept, string) { return h.dir, nil, "" }

func (h *host) MakeBackup(ctx context.Context, to io.Writer, seal backup.Seal) error {
	_, err := backup.Write(ctx, to, h.svc, seal, "test")
	return err
}

func (h *host) KeepBackup(ctx context.Context) (backup.Kept, error) {
	f, err := os.Create(filepath.Join(h.dir, "amber.tar.gz"))
	if err != nil {
		return backup.Kept{}, err
	}
	defer f.Close()
	return backup.Kept{Name: f.Name(), Made: time.Now().UTC()}, h.MakeBackup(ctx, f, backup.Seal{})
}
