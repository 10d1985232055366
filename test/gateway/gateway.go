// Package gateway starts a whole gateway on loopback with free ports, holding the
// demo scenario, for the tests and benchmarks that drive its real interfaces.
package gateway

import (
	"context"
	"errors"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"testing"
	"time"

	"github.com/cloudsoda/go-smb2"
	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/demo"
	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/certs"
	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/live"
	"amber.example/gatekeeper/internal/nfs"
	"amber.example/gatekeeper/internal/scrape"
	"amber.example/gatekeeper/internal/secret"
	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/internal/signin"
	"amber.example/gatekeeper/internal/smb"
	"amber.example/gatekeeper/internal/store"
	"amber.example/gatekeeper/internal/trying"
	"amber.example/gatekeeper/web"
)

// Gateway is a running one.
type Gateway struct {
	Service *service.Service
	Files   *files.Namespace
	State   string
	SMB     string // address
	NFS     string
	URL     string // of the console and the API
	Doors   trying.Doors
	Live    live.Doors
	Handler http.Handler // of the console and the API

	config api.Config
}

// Behind is the console and the API as they answer who comes by a proxy that is trusted.
func (g *Gateway) Behind(proxy string) http.Handler {
	c, addr := g.config, netip.MustParseAddr(proxy)
	c.Proxies = []netip.Prefix{netip.PrefixFrom(addr, addr.BitLen())}
	return api.New(c)
}

// Option is something about a gateway that is decided when it is started.
type Option func(*certs.Files)

// WithClientAuthority has clients be asked for certificates that are signed by those in a file.
func WithClientAuthority(name string) Option { return func(f *certs.Files) { f.Authorities = name } }

// Start starts one; it ends with the test.
func Start(t testing.TB, with ...Option) *Gateway {
	t.Helper()
	if _, measured := t.(*testing.B); !measured {
		secret.Cheap()
	}
	ctx := context.Background()
	state := t.TempDir()
	svc, err := service.Open(ctx, state)
	require.NoError(t, err)
	require.NoError(t, demo.Load(ctx, svc, state))
	g := &Gateway{Service: svc, Files: files.New(svc.Policy, svc), State: state}
	g.Files.ReportTo(svc)
	g.Files.HoldUp(svc.HeldUp)
	g.Files.Account(svc.Ledger())
	svc.Account(g.Files, 0)
	svc.AwaitCounts(ctx)
	require.NoError(t, demo.Remember(ctx, svc))
	told, stopTelling := context.WithCancel(ctx)
	toldAll := make(chan struct{})
	go func() { defer close(toldAll); svc.RecordEvents(told) }()
	go g.Files.FollowRules(told, svc.Changed)
	log := slog.New(slog.NewTextHandler(io.Discard, nil))

	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	lasting, _, err := store.OpenOpens(ctx, state)
	require.NoError(t, err)
	server := smb.NewServer(smb.Config{Name: "larkfell", Policy: svc.Policy, Accounts: svc, Names: svc.SIDs(), HostNames: svc.NamesOf,
		Administrators: svc, Limits: svc, Files: g.Files, Lasting: lasting, Meter: svc.Meter(), Log: log})
	done := make(chan error, 1)
	go func() { done <- server.Serve(l) }()
	g.SMB = l.Addr().String()
	nl, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	nfsServer, err := nfs.NewServer(nfs.Config{Policy: svc.Policy, Files: g.Files, Names: svc.NamesOf, Key: svc.HandleKey(), Memory: svc, Meter: svc.Meter(), Log: log, Refused: svc})
	require.NoError(t, err)
	nfsDone := make(chan error, 1)
	go func() { nfsDone <- nfsServer.Serve(nl) }()
	g.NFS = nl.Addr().String()
	g.Doors = trying.Doors{SMB: server.Try, NFS: nfsServer.Try, Files: g.Files}
	g.Live = live.Doors{server, nfsServer}
	g.config = api.Config{Service: svc, Host: newHost(t, svc, state, with), Doors: g.Doors, Live: g.Live, Scrape: scrape.Handler(scrape.Source{Meter: svc.Meter(), FolderName: svc.FolderName, Doors: g.Live, Jobs: svc.JobsRunning, Databases: svc.Databases, Queues: svc.Queues, Version: "test"}), SMBAt: g.SMB, NFSAt: g.NFS, Log: log, Console: web.Console(), Version: "test",
		SMBPort: l.Addr().(*net.TCPAddr).Port, NFSPort: nl.Addr().(*net.TCPAddr).Port}
	g.Handler = api.New(g.config)
	console := httptest.NewServer(g.Handler)
	g.URL = console.URL
	t.Cleanup(func() {
		console.Close()
		l.Close()
		server.Close()
		nl.Close()
		nfsServer.Close()
		<-nfsDone
		if err := <-done; err != nil && !errors.Is(err, net.ErrClosed) {
			t.Error(err)
		}
		stopTelling()
		<-toldAll
		require.NoError(t, lasting.Close())
		require.NoError(t, svc.Close())
	})
	return g
}

// Changes is how many changes the journal has: what was told of limits goes on by itself.
func (g *Gateway) Changes(t testing.TB) int {
	t.Helper()
	rows, err := g.Service.Journal(context.Background(), store.Match{Only: "changes"})
	require.NoError(t, err)
	return len(rows)
}

// Dial signs a user in over SMB with the demo's password; dialect 0 leaves the choice
// to the two.
func (g *Gateway) Dial(t testing.TB, user string, dialect uint16) *smb2.Session {
	t.Helper()
	s, err := g.TryDial(user, user+demo.PasswordSuffix, dialect)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Logoff() })
	return s
}

// DialAs signs a user in over SMB with a password of their own.
func (g *Gateway) DialAs(t testing.TB, user, password string) *smb2.Session {
	t.Helper()
	s, err := g.TryDial(user, password, 0)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Logoff() })
	return s
}

// TryDial signs in and gives the error of it.
func (g *Gateway) TryDial(user, password string, dialect uint16) (*smb2.Session, error) {
	ctx, cancel := context.WithTimeout(context.Background(), 2*time.Minute)
	defer cancel()
	d := smb2.Dialer{Negotiator: smb2.Negotiator{SpecifiedDialect: dialect, RequireMessageSigning: true}, Initiator: &smb2.NTLMInitiator{User: user, Password: password}}
	s, err := d.Dial(ctx, g.SMB)
	if err != nil {
		return nil, err
	}
	return s.WithContext(context.Background()), nil
}

// Mount connects to a share.
func (g *Gateway) Mount(t testing.TB, s *smb2.Session, share string) *smb2.Share {
	t.Helper()
	m, err := s.Mount(share)
	require.NoError(t, err)
	return m
}

// Keeper is an administrator, for changes made by the test.
var Keeper = service.Actor{Name: "keeper", Role: "administrator"}

// Token signs in over HTTP.
func (g *Gateway) Token(t testing.TB, user string) string {
	t.Helper()
	s, err := g.Service.SignIn(context.Background(), signin.Try{Name: user, Password: user + demo.PasswordSuffix, Address: "test"})
	require.NoError(t, err)
	return s.Token
}

// Client is for HTTP.
var Client = http.Client{Timeout: 2 * time.Minute}

// Unlimited takes all limits of the demo away: they are for a few megabytes.
func (g *Gateway) Unlimited(t testing.TB) {
	t.Helper()
	for _, l := range g.Service.Policy().Limits.Limits {
		n := access.NameLimit(g.Service.Policy(), &l)
		require.NoError(t, g.Service.RemoveLimit(context.Background(), Keeper, service.LimitInput{Kind: n.Kind, Name: n.Name, Volume: n.Volume, Folder: n.Folder}))
	}
}
