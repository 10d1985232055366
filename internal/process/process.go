// Package process is the running service: it listens, opens the records, answers by all protocols, takes up what changes in its settings,
// and ends. The service manager is told how it goes, where there is one.
package process

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/demo"
	"amber.example/gatekeeper/internal/announce"
	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/backup"
	"amber.example/gatekeeper/internal/certs"
	"amber.example/gatekeeper/internal/config"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/listen"
	"amber.example/gatekeeper/internal/live"
	"amber.example/gatekeeper/internal/logging"
	"amber.example/gatekeeper/internal/nfs"
	"amber.example/gatekeeper/internal/scrape"
	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/internal/smb"
	"amber.example/gatekeeper/internal/store"
	"amber.example/gatekeeper/internal/trying"
	"amber.example/gatekeeper/web"
)

// Options are what a process is told for once.
type Options struct {
	Demo    bool // an empty state directory is filled with the demo
	NewKey  bool // a key that is missing is made anew
	Version string
	Stderr  io.Writer
	// Again reads the settings again; nil where they cannot be.
	Again func() (*config.Config, error)
}

// Process is a running service.
type Process struct {
	Service *service.Service

	opts  Options
	log   *logging.Log
	certs *certs.Keeper

	mu       sync.Mutex // of what follows
	cfg      *config.Config
	levelSet string // the level of the log that was asked for while it runs; "" for what the settings say

	backupProblem string        // why the last backup that was to be kept came to nothing
	keeping       sync.Mutex    // one backup at a time is written to where they are kept
	sending       chan struct{} // backups that are being sent

	sockets   *sockets
	quic      net.Listener // SMB over QUIC; nil where it is not wanted
	namespace *files.Namespace
	smb       *smb.Server
	nfs       *nfs.Server
	http      *http.Server
	metrics   *http.Server
	failed    chan error
	ends      []func() // what is undone at the end, the last first
}

// How many connections the console takes, in all and from one address; and how long a stop may take.
const (
	mostConsole     = 512
	mostConsoleFrom = 256
	stopPatience    = 30 * time.Second
	httpPatience    = 1500 * time.Millisecond
)

// LockState keeps a second service off the same records, until the file is closed or the process ends, however it ends.
func LockState(dir string) (io.Closer, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("state directory: %w", err)
	}
	f, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, err
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		f.Close()
		return nil, fmt.Errorf("another service is running on %s", dir)
	}
	return f, nil
}

// Check tries out what settings name, as far as nothing is begun or changed by it.
func Check(cfg *config.Config) error {
	var err error
	switch {
	case cfg.Certificate != "":
		_, err = certs.Open(certificateFiles(cfg), slog.New(slog.DiscardHandler))
	case cfg.ClientAuthorities != "":
		err = certs.CheckAuthorities(cfg.ClientAuthorities)
	}
	if err != nil {
		return asFault(cfg, err)
	}
	return checkBackups(cfg)
}

func checkBackups(cfg *config.Config) error {
	if cfg.BackupTo == "" {
		return nil
	}
	info, err := os.Stat(cfg.BackupTo)
	if err != nil || !info.IsDir() {
		return cfg.Wrong("backup-to", cfg.BackupTo+" is no directory that the service can see")
	}
	if state, err := filepath.Abs(cfg.State); err == nil && files.Inside(cfg.BackupTo, state) {
		return cfg.Wrong("backup-to", "it is in the state directory, which is lost with what it is a backup of")
	}
	return nil
}

// asFault says which setting named the file that is wrong.
func asFault(cfg *config.Config, err error) error {
	var f *certs.Fault
	if errors.As(err, &f) {
		for name, file := range map[string]string{"tls-certificate": cfg.Certificate, "tls-key": cfg.Key, "tls-client-authority": cfg.ClientAuthorities} {
			if file == f.File {
				return cfg.Wrong(name, f.Error())
			}
		}
	}
	return err
}

func certificateFiles(cfg *config.Config) certs.Files {
	files := certs.Files{Certificate: cfg.Certificate, Key: cfg.Key, Authorities: cfg.ClientAuthorities, State: cfg.State, Names: cfg.ConsoleNames}
	if host, _, err := net.SplitHostPort(cfg.Console); err == nil && host != "" {
		if ip := net.ParseIP(host); ip == nil || !ip.IsUnspecified() && !ip.IsLoopback() {
			files.Names = append([]string{host}, files.Names...)
		}
	}
	return files
}

// Start listens, opens the records and begins to answer. What it has begun is undone where something fails.
func Start(ctx context.Context, cfg *config.Config, opts Options) (p *Process, err error) {
	p = &Process{opts: opts, cfg: cfg, failed: make(chan error, 8), sending: make(chan struct{}, mostBackups)}
	defer func() {
		if err != nil {
			p.undo()
			p = nil
		}
	}()
	if cfg.State, err = filepath.Abs(cfg.State); err != nil {
		return p, err
	}
	if p.log, err = logging.Open(opts.Stderr, cfg.LogTo, cfg.LogFormat, cfg.LogLevel); err != nil {
		return p, err
	}
	was := slog.Default()
	slog.SetDefault(p.log.Logger)
	p.later(func() { slog.SetDefault(was) })
	lock, err := LockState(cfg.State)
	if err != nil {
		return p, err
	}
	p.later(func() { lock.Close() })
	// Listening comes first: if an address is taken, nothing has been touched.
	if p.sockets, err = openSockets(cfg); err != nil {
		return p, err
	}
	p.later(p.sockets.close)
	if err = checkBackups(cfg); err != nil {
		return p, err
	}
	if p.certs, err = certs.Open(certificateFiles(cfg), p.log.With("service", "console")); err != nil {
		return p, asFault(cfg, err)
	}
	if err = p.openService(ctx); err != nil {
		return p, err
	}
	if err = p.openServers(); err != nil {
		return p, err
	}
	if err = p.announce(); err != nil {
		return p, err
	}
	p.serve()
	return p, nil
}

// announce has the service be found on the networks that the settings name.
func (p *Process) announce() error {
	if len(p.cfg.Announce) == 0 {
		return nil
	}
	a, err := announce.Start(announce.Config{Interfaces: p.cfg.Announce, Host: p.name(), ID: p.Service.Identity(), Services: p.announced, Changed: p.Service.Changed, Log: p.log.With("service", "announce")})
	if err != nil {
		return p.cfg.Wrong("announce", err.Error())
	}
	p.later(a.Close)
	return nil
}

// name is this host's as it is announced: one label.
func (p *Process) name() string { return strings.ToLower(serverName()) }

// announced are the services that other machines can reach now.
func (p *Process) announced() (out []announce.Service) {
	on := p.Service.Policy().Services
	for _, s := range []struct {
		kind string
		at   net.Addr
		on   bool
	}{{"_smb._tcp", p.sockets.smb.Addr(), on.SMB}, {"_nfs._tcp", p.sockets.nfs.Addr(), on.NFS}, {"_https._tcp", p.sockets.console.Addr(), true}} {
		if tcp, ok := s.at.(*net.TCPAddr); ok && s.on && (!tcp.IP.IsLoopback() || slices.Contains(p.cfg.Announce, "lo")) {
			out = append(out, announce.Service{Type: s.kind, Port: uint16(tcp.Port)})
		}
	}
	return out
}

// later has something be undone at the end.
func (p *Process) later(f func()) { p.ends = append(p.ends, f) }

func (p *Process) undo() {
	for len(p.ends) > 0 {
		last := p.ends[len(p.ends)-1]
		p.ends = p.ends[:len(p.ends)-1]
		last()
	}
}

// openService opens the records and what is done beside answering.
func (p *Process) openService(ctx context.Context) error {
	cfg := p.cfg
	svc, err := service.Open(ctx, cfg.State, service.WithVolumeRoots(cfg.VolumeRoots), service.WithNewKey(p.opts.NewKey), service.WithHashes(cfg.JournalHashes),
		service.KeepingEvents(cfg.Keep), service.RefusingUnrecorded(cfg.RefuseUnrecorded))
	if err != nil {
		return err
	}
	p.Service = svc
	backup.Sweep(cfg.State)
	p.later(func() {
		if err := svc.Close(); err != nil {
			p.log.Error("the records were not closed as they should be", "error", err)
		}
	})
	if p.opts.Demo {
		if err := demo.Load(ctx, svc, cfg.State); err != nil {
			return err
		}
		box, err := demo.Postbox(ctx, svc, cfg.State)
		if err != nil {
			p.log.Warn("there is no mail server for the demo", "error", err)
		} else if box != nil {
			p.later(func() { box.Close() })
		}
	}
	p.namespace = files.New(svc.ServedPolicy, svc)
	p.namespace.ReportTo(svc)
	p.namespace.HoldUp(svc.HeldUp)
	p.namespace.Account(svc.Ledger())
	svc.Account(p.namespace, cfg.Recount)
	if p.opts.Demo {
		svc.AwaitCounts(ctx)
		svc.AwaitTold(ctx)
		if err := demo.Remember(ctx, svc); err != nil {
			return err
		}
	}
	p.meanwhile(svc.RecordEvents)
	p.meanwhile(func(ctx context.Context) { p.namespace.FollowRules(ctx, svc.Changed) })
	if cfg.BackupTo != "" {
		p.meanwhile(p.runBackups)
	}
	return nil
}

// meanwhile does something beside until the service ends: it is through before what was opened earlier is closed.
func (p *Process) meanwhile(do func(ctx context.Context)) {
	ctx, stop := context.WithCancel(context.Background())
	through := make(chan struct{})
	go func() { defer close(through); do(ctx) }()
	p.later(func() { stop(); <-through })
}

func (p *Process) openServers() (err error) {
	svc, cfg, log := p.Service, p.cfg, p.log
	lasting, aside, err := store.OpenOpens(context.Background(), cfg.State)
	if err != nil {
		return err
	}
	p.later(func() { lasting.Close() })
	if aside != "" {
		log.Error("what clients had open could not be read, and was put aside: they open it anew", "aside", aside)
	}
	if lasting.Lost != nil {
		log.Error("what clients have open cannot be written down in the state directory, and does not outlast the service", "error", lasting.Lost)
	}
	p.smb = smb.NewServer(smb.Config{Name: serverName(), Policy: svc.ServedPolicy, Accounts: svc, Names: svc.SIDs(), HostNames: svc.NamesOf,
		Administrators: svc, Limits: svc, Files: p.namespace, Lasting: lasting, Meter: svc.Meter(), Log: log.With("service", "smb")})
	if err := p.smb.Restore(context.Background()); err != nil { // clients open it anew
		log.Error("what clients had open could not be read", "error", err)
	}
	p.nfs, err = nfs.NewServer(nfs.Config{Policy: svc.ServedPolicy, Files: p.namespace, Names: svc.NamesOf, Key: svc.HandleKey(), Memory: svc,
		Lease: cfg.Lease, Meter: svc.Meter(), Log: log.With("service", "nfs"), Refused: svc})
	if err != nil {
		return err
	}
	doors := live.Doors{p.smb, p.nfs}
	metrics := scrape.Handler(scrape.Source{Meter: svc.Meter(), FolderName: svc.FolderName, Doors: doors, Jobs: svc.JobsRunning, Databases: svc.Databases, Queues: svc.Queues, Version: p.opts.Version})
	smbAt, nfsAt := p.sockets.smb.Addr(), p.sockets.nfs.Addr()
	overQUIC := ""
	if p.sockets.quic != nil {
		overQUIC = p.sockets.quic.LocalAddr().String()
	}
	handler := api.New(api.Config{SMBOverQUIC: overQUIC, Scrape: metrics, Service: svc, Log: log.With("service", "console"), Console: web.Console(), Version: p.opts.Version, Host: p,
		SMBPort: portOf(smbAt), NFSPort: portOf(nfsAt), SMBAt: smbAt.String(), NFSAt: nfsAt.String(), Names: cfg.ConsoleNames, Proxies: cfg.TrustedProxies,
		Doors: trying.Doors{SMB: p.smb.Try, NFS: p.nfs.Try, Files: p.namespace}, Live: doors})
	if p.sockets.quic != nil {
		if p.quic, err = listen.QUIC(p.sockets.quic, p.certs.TLS()); err != nil {
			return err
		}
	}
	p.http = p.httpServer(handler)
	if p.sockets.metrics != nil {
		only := http.NewServeMux()
		only.Handle("GET /metrics", metrics)
		p.metrics = p.httpServer(only)
	}
	return nil
}

func (p *Process) httpServer(h http.Handler) *http.Server {
	return &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 30 * time.Second, WriteTimeout: 60 * time.Second, IdleTimeout: 2 * time.Minute,
		MaxHeaderBytes: 64 << 10, ErrorLog: slog.NewLogLogger(quiet{p.log.Handler()}, slog.LevelWarn)}
}

// serve begins to answer.
func (p *Process) serve() {
	s := p.sockets
	begin := func(f func() error) { go func() { p.failed <- f() }() }
	begin(func() error { return p.nfs.Serve(s.nfs) })
	if s.quota != nil {
		begin(func() error { return p.nfs.ServePackets(s.quota) })
	} else { // all else is more important
		p.log.Warn("the remote quota protocol is not answered over UDP", "error", s.quotaErr)
	}
	s.serveMappings(p.nfs.Mappings(uint16(portOf(s.nfs.Addr()))), p.log.With("service", "portmap"), p.failed)
	begin(func() error { return p.smb.Serve(s.smb) })
	if p.quic != nil {
		begin(func() error { return p.smb.Serve(p.quic) })
	}
	console := &listen.Bounded{Listener: s.console, Most: listen.Share(mostConsole), From: min(mostConsoleFrom, listen.Share(mostConsole)/2)}
	bare, secure := listen.Split(console, p.certs.TLS())
	begin(func() error { return p.http.Serve(bare) })
	begin(func() error { return p.http.Serve(secure) })
	if p.metrics != nil {
		begin(func() error {
			return p.metrics.Serve(&listen.Bounded{Listener: s.metrics, Most: 16, From: 16})
		})
	}
}

// Wait waits until something fails or the context ends. The service manager is told meanwhile that it lives, and settings are read
// again when it is asked for.
func (p *Process) Wait(ctx context.Context, again <-chan os.Signal) error {
	told := p.tellManager(ctx)
	defer told()
	for {
		select {
		case <-ctx.Done():
			return nil
		case err := <-p.failed:
			return err
		case <-again:
			p.readAgain()
		}
	}
}

// Close ends what goes on, in order, and within stopPatience.
func (p *Process) Close() error {
	p.log.Info("stopping")
	notify(stopping)
	late := time.AfterFunc(stopPatience, func() {
		p.log.Error("what was going on has not come to an end, and is cut off", "after", stopPatience)
		os.Exit(1)
	})
	defer late.Stop()
	p.Service.WindDown()
	p.sockets.smb.Close()
	if p.quic != nil {
		p.quic.Close()
	}
	p.sockets.nfs.Close()
	p.smb.Close()
	p.nfs.Close()
	end, cancel := context.WithTimeout(context.Background(), httpPatience)
	defer cancel()
	err := p.http.Shutdown(end)
	if errors.Is(err, context.DeadlineExceeded) { // who still reads is cut off
		err = p.http.Close()
	}
	if p.metrics != nil {
		p.metrics.Close()
	}
	p.undo()
	return err
}

// Addresses are where it answers.
func (p *Process) Addresses() (console, smb, nfs net.Addr) {
	return p.sockets.console.Addr(), p.sockets.smb.Addr(), p.sockets.nfs.Addr()
}

func serverName() string {
	name, err := os.Hostname()
	if name, _, _ = strings.Cut(name, "."); err != nil || name == "" {
		return "amber"
	}
	return name[:min(len(name), 15)]
}
