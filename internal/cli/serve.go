package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/signal"
	"path/filepath"
	"strings"
	"syscall"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/demo"
	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/listen"
	"amber.example/gatekeeper/internal/live"
	"amber.example/gatekeeper/internal/nfs"
	"amber.example/gatekeeper/internal/onc"
	"amber.example/gatekeeper/internal/scrape"
	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/internal/smb"
	"amber.example/gatekeeper/internal/trying"
	"amber.example/gatekeeper/web"
)

func defaultState() string {
	if os.Geteuid() == 0 {
		return "/var/lib/amber-gatekeeper"
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return "amber-state"
	}
	return filepath.Join(home, ".local", "state", "amber-gatekeeper")
}

func (a *app) serveCommand() *cli.Command {
	return a.leaf("serve", "run the service", "", []cli.Flag{
		&cli.StringFlag{Name: "state", Usage: "directory of the records and keys", Value: defaultState()},
		&cli.StringFlag{Name: "console", Usage: "address of the console and the API", Value: "127.0.0.1:8460"},
		&cli.StringFlag{Name: "smb", Usage: "address of SMB", Value: ":4450", DefaultText: ":4450, with --demo 127.0.0.1:4450"},
		&cli.StringFlag{Name: "nfs", Usage: "address of NFS", Value: ":20490", DefaultText: ":20490, with --demo 127.0.0.1:20490"},
		&cli.DurationFlag{Name: "recount", Usage: "how long after it was last counted what is stored in a folder is counted again; 0 for never", Value: 24 * time.Hour},
		&cli.DurationFlag{Name: "lease", Usage: "how long an NFS 4 client that is not heard of keeps what it has open; for so long, after a restart, others wait", Value: time.Minute},
		&cli.StringFlag{Name: "portmap", Usage: "address of a port mapper, such as :111, for NFS 3 clients that are not told ports", DefaultText: "none"},
		&cli.StringSliceFlag{Name: "volume-root", Usage: "directory of the host below which volumes may be; may be given several times", DefaultText: "anywhere"},
		&cli.StringSliceFlag{Name: "console-name",
			Usage: "name or address by which browsers reach the console, besides loopback names and the addresses listened on; may be given several times"},
		&cli.StringSliceFlag{Name: "trusted-proxy",
			Usage: "address or network of a proxy before the console, which is believed for whom it asks; may be given several times", DefaultText: "none"},
		&cli.BoolFlag{Name: "demo", Usage: "fill an empty state directory with Larkfell Observatory, made up"},
		&cli.BoolFlag{Name: "refuse-unrecorded", Usage: "serve nobody while nothing can be written down in the state directory, instead of going on by what was decided before"},
		&cli.StringFlag{Name: "keep", Usage: "for how long what was done and refused at the wire is kept, such as 30d or 52w; never more than 200,000 rows of it", Value: "90d"},
		&cli.StringFlag{Name: "journal-hashes", Usage: "where to the hash of each row of the journal is sent: a file, syslog://HOST:PORT or syslog+tcp://HOST:PORT", DefaultText: "nowhere"},
		&cli.BoolFlag{Name: "new-key", Usage: "make a new key where secret.key is missing, though what was sealed with it is lost"},
		&cli.StringFlag{Name: "reset-password", Usage: "print a code with which this administrator sets another password, for who has forgotten it; a file reset-password with the name in it, in the state directory, does the same while the service runs"},
		&cli.BoolFlag{Name: "debug", Usage: "log what clients are refused, and more"},
	}, func(ctx context.Context, cmd *cli.Command, _ []string) error {
		for flag, address := range map[string]string{"smb": "127.0.0.1:4450", "nfs": "127.0.0.1:20490"} {
			if !cmd.Bool("demo") || cmd.IsSet(flag) {
				continue
			}
			// Its passwords are known to everyone: it answers this machine only.
			if err := cmd.Set(flag, address); err != nil {
				return err
			}
		}
		if err := a.serve(ctx, cmd); err != nil {
			var f *failure
			if errors.As(err, &f) {
				return err
			}
			return &failure{code: exitFailed, msg: err.Error()}
		}
		return nil
	})
}

// lockState keeps a second service off the same records, until the file is closed
// or the process ends, however it ends.
func lockState(dir string) (io.Closer, error) {
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

func (a *app) serve(ctx context.Context, cmd *cli.Command) error {
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
	defer stop()
	level := slog.LevelInfo
	if cmd.Bool("debug") {
		level = slog.LevelDebug
	}
	log := slog.New(slog.NewTextHandler(a.err, &slog.HandlerOptions{Level: level}))
	state, err := filepath.Abs(cmd.String("state"))
	if err != nil {
		return err
	}
	lock, err := lockState(state)
	if err != nil {
		return err
	}
	defer lock.Close()
	if l := cmd.Duration("lease"); l < 5*time.Second || l > time.Hour {
		return usage("--lease %s is not between 5s and 1h", l)
	}
	proxies, err := prefixes(cmd.StringSlice("trusted-proxy"))
	if err != nil {
		return err
	}
	// Listening comes first: if an address is taken, nothing has been touched.
	console, err := net.Listen("tcp", cmd.String("console"))
	if err != nil {
		return fmt.Errorf("console: %w", err)
	}
	defer console.Close()
	smbListener, err := net.Listen("tcp", cmd.String("smb"))
	if err != nil {
		return fmt.Errorf("SMB: %w", err)
	}
	defer smbListener.Close()
	nfsListener, err := net.Listen("tcp", cmd.String("nfs"))
	if err != nil {
		return fmt.Errorf("NFS: %w", err)
	}
	defer nfsListener.Close()
	quotaPackets, quotaErr := net.ListenPacket("udp", nfsListener.Addr().String())
	if quotaErr == nil {
		defer quotaPackets.Close()
	}
	portmap, err := listenPortmap(cmd.String("portmap"))
	if err != nil {
		return err
	}
	defer portmap.close()

	keep, err := limit.ParseGrace(cmd.String("keep"))
	if err != nil || keep < time.Hour {
		return usage("--keep takes at least an hour, such as 36h, 30d or 52w, not %q", cmd.String("keep"))
	}
	svc, err := service.Open(ctx, state, service.WithVolumeRoots(cmd.StringSlice("volume-root")), service.WithNewKey(cmd.Bool("new-key")), service.WithHashes(cmd.String("journal-hashes")), service.KeepingEvents(keep), service.RefusingUnrecorded(cmd.Bool("refuse-unrecorded")))
	if err != nil {
		return err
	}
	defer svc.Close()
	if cmd.Bool("demo") {
		if err := demo.Load(ctx, svc, state); err != nil {
			return err
		}
		box, err := demo.Postbox(ctx, svc, state)
		if err != nil {
			log.Warn("there is no mail server for the demo", "error", err)
		} else if box != nil {
			defer box.Close()
		}
	}
	namespace := files.New(svc.ServedPolicy, svc)
	namespace.ReportTo(svc)
	namespace.HoldUp(svc.HeldUp)
	namespace.Account(svc.Ledger())
	svc.Account(namespace, cmd.Duration("recount"))
	if cmd.Bool("demo") {
		svc.AwaitCounts(ctx)
		svc.AwaitTold(ctx)
		if err := demo.Remember(ctx, svc); err != nil {
			return err
		}
	}
	recordedAll := make(chan struct{})
	recordUntil, stopRecording := context.WithCancel(context.Background())
	go func() { defer close(recordedAll); svc.RecordEvents(recordUntil) }()
	defer func() { stopRecording(); <-recordedAll }() // before the records are closed
	smbServer := smb.NewServer(smb.Config{Name: serverName(), Policy: svc.ServedPolicy, Accounts: svc, Limits: svc, Files: namespace, Meter: svc.Meter(), Log: log.With("service", "smb")})
	nfsServer, err := nfs.NewServer(nfs.Config{Policy: svc.ServedPolicy, Files: namespace, Names: svc.NamesOf, Key: svc.HandleKey(), Memory: svc,
		Lease: cmd.Duration("lease"), Meter: svc.Meter(), Log: log.With("service", "nfs"), Refused: svc})
	if err != nil {
		return err
	}
	doors := live.Doors{smbServer, nfsServer}
	handler := api.New(api.Config{Scrape: scrape.Handler(scrape.Source{Meter: svc.Meter(), FolderName: svc.FolderName, Doors: doors, Jobs: svc.JobsRunning, Version: a.version}), Service: svc, Log: log.With("service", "console"), Console: web.Console(), Version: a.version,
		SMBPort: portOf(smbListener), NFSPort: portOf(nfsListener), SMBAt: smbListener.Addr().String(), NFSAt: nfsListener.Addr().String(), Names: cmd.StringSlice("console-name"), Proxies: proxies,
		Doors: trying.Doors{SMB: smbServer.Try, NFS: nfsServer.Try, Files: namespace}, Live: doors})
	httpServer := &http.Server{Handler: handler,
		ReadHeaderTimeout: 10 * time.Second, ReadTimeout: 30 * time.Second, WriteTimeout: 60 * time.Second, IdleTimeout: 2 * time.Minute,
		MaxHeaderBytes: 64 << 10, ErrorLog: slog.NewLogLogger(log.Handler(), slog.LevelWarn)}

	failed := make(chan error, 6)
	go func() { failed <- nfsServer.Serve(nfsListener) }()
	if quotaErr == nil {
		go func() { failed <- nfsServer.ServePackets(quotaPackets) }()
	} else { // all else is more important
		log.Warn("the remote quota protocol is not answered over UDP", "error", quotaErr)
	}
	portmap.serve(nfsServer.Mappings(uint16(portOf(nfsListener))), log.With("service", "portmap"), failed)
	go func() { failed <- smbServer.Serve(smbListener) }()
	go func() {
		failed <- httpServer.Serve(&listen.Bounded{Listener: console, Most: listen.Share(mostConsole), From: min(mostConsoleFrom, listen.Share(mostConsole)/2)})
	}()
	if err := a.greet(svc, state, cmd.Bool("demo"), console.Addr(), smbListener.Addr(), nfsListener.Addr()); err != nil {
		return err
	}
	if name := cmd.String("reset-password"); name != "" {
		if err := printReset(a.out, svc, name); err != nil {
			return err
		}
	}
	go a.watchReset(ctx, svc, state)
	select {
	case <-ctx.Done():
	case err = <-failed:
	}
	stop() // who asks a second time does not wait
	log.Info("stopping")
	late := time.AfterFunc(stopPatience, func() {
		log.Error("what was going on has not come to an end, and is cut off", "after", stopPatience)
		os.Exit(exitFailed)
	})
	defer late.Stop()
	svc.WindDown()
	smbListener.Close()
	nfsListener.Close()
	smbServer.Close()
	nfsServer.Close()
	end, cancel := context.WithTimeout(context.Background(), 5*time.Second)
	defer cancel()
	return errors.Join(err, httpServer.Shutdown(end))
}

// How many connections the console takes, in all and from one address; and how long a stop may take.
const (
	mostConsole     = 512
	mostConsoleFrom = 256
	stopPatience    = 30 * time.Second
)

// prefixes reads addresses and networks.
func prefixes(texts []string) ([]netip.Prefix, error) {
	var out []netip.Prefix
	for _, t := range texts {
		p, err := netip.ParsePrefix(t)
		if addr, addrErr := netip.ParseAddr(t); addrErr == nil {
			p, err = netip.PrefixFrom(addr, addr.BitLen()), nil
		}
		if err != nil {
			return nil, usage("--trusted-proxy %q is neither an address nor a network, such as 192.0.2.7 or 192.0.2.0/24", t)
		}
		out = append(out, p.Masked())
	}
	return out, nil
}

// portmapper is the optional listener of the port mapper, on TCP and UDP.
type portmapper struct {
	tcp net.Listener
	udp net.PacketConn
}

func listenPortmap(address string) (*portmapper, error) {
	if address == "" {
		return &portmapper{}, nil
	}
	tcp, err := net.Listen("tcp", address)
	if err != nil {
		return nil, fmt.Errorf("port mapper: %w", err)
	}
	udp, err := net.ListenPacket("udp", address)
	if err != nil {
		tcp.Close()
		return nil, fmt.Errorf("port mapper: %w", err)
	}
	return &portmapper{tcp, udp}, nil
}

func (p *portmapper) close() {
	if p.tcp != nil {
		p.tcp.Close()
		p.udp.Close()
	}
}

// serve answers until close, and tells of what goes wrong before.
func (p *portmapper) serve(mappings []onc.Mapping, log *slog.Logger, failed chan<- error) {
	if p.tcp == nil {
		return
	}
	port := uint32(portOf(p.tcp))
	mappings = append(mappings, onc.Mapping{Program: onc.PortmapProgram, Version: onc.PortmapVersion, Protocol: onc.ProtocolTCP, Port: port},
		onc.Mapping{Program: onc.PortmapProgram, Version: onc.PortmapVersion, Protocol: onc.ProtocolUDP, Port: port})
	programs := []onc.Program{onc.Portmap(mappings)}
	server := &onc.Server{Programs: programs, Log: log}
	go func() { failed <- server.Serve(p.tcp) }()
	go func() { failed <- onc.ServePackets(p.udp, programs) }()
}

func portOf(l net.Listener) int {
	if a, ok := l.Addr().(*net.TCPAddr); ok {
		return a.Port
	}
	return 0
}

func serverName() string {
	name, err := os.Hostname()
	if name, _, _ = strings.Cut(name, "."); err != nil || name == "" {
		return "amber"
	}
	return name[:min(len(name), 15)]
}

// greet prints where everything answers and what to do first.
func (a *app) greet(svc *service.Service, state string, isDemo bool, console, smbAddr, nfsAddr net.Addr) error {
	w := a.out
	_, port, err := net.SplitHostPort(smbAddr.String())
	if err != nil {
		return err
	}
	_, nfsPort, err := net.SplitHostPort(nfsAddr.String())
	if err != nil {
		return err
	}
	fmt.Fprintf(w, "Amber Gatekeeper %s is up.\n\n  console and API  http://%s\n  SMB              %s\n  NFS              %s\n", a.version, console, smbAddr, nfsAddr)
	if code := svc.FirstCode(); code != "" {
		fmt.Fprintf(w, "\nThere is no administrator yet. Make the first one in the console, or type\n\n  amber first-administrator NAME --code %s\n", code)
	}
	if !isDemo {
		return nil
	}
	fmt.Fprintf(w, "\nThis is Larkfell Observatory, made up. Its accounts:\n\n")
	accounts := newTable("", "name", "password", "is")
	for _, u := range svc.Policy().Directory.Users() {
		accounts.row("", u.Name, u.Name+demo.PasswordSuffix, u.FullName)
	}
	accounts.print(w)
	fmt.Fprintf(w, `
Six things to try, from another terminal in this directory:

  1. Sign in as the administrator; then see what is published.
       AMBER_PASSWORD=keeper%[1]s bin/amber sign-in keeper
       bin/amber folder list
  2. Open a share as one of the observers. On Linux, as root:
       mount -t cifs //127.0.0.1/nightlog /mnt -o port=%[2]s,vers=3.1.1,username=piran,password=piran%[1]s
     In a macOS Finder: smb://piran@127.0.0.1:%[2]s/nightlog
     With python3-impacket (make test installs it), then type: ls nightlog
       test/clients/smbtry.py %[2]s piran
  3. Do the same as orla, a visiting observer: nightlog is refused. Ask why.
       bin/amber why orla nightlog
  4. Type the command that the answer ends with: it shows whom it touches, and asks. Orla gets in at
     once, without reconnecting.
       bin/amber entry add nightlog allow orla read
  5. Ask what is wrong here. Each finding ends with the command that fixes it.
       bin/amber finding list
  6. Mount an export over NFS. On Linux, as root:
       mount -t nfs -o vers=4.1,port=%[4]s 127.0.0.1:/scratch /mnt
     With libnfs (make test installs it), as the reduction hosts' account; then ask what plates lets it do:
       nfs-ls 'nfs://127.0.0.1/scratch?version=4&nfsport=%[4]s&uid=2102&gid=3001'
       bin/amber why svc-reduce plates --via nfs --from 127.0.0.1 --want change

Mail that it sends stays here: %[5]s

The console shows the same: http://%[3]s as keeper or auditor. Stop with Ctrl-C; make demo-reset starts over.
`, demo.PasswordSuffix, port, console, nfsPort, filepath.Join(state, demo.PostboxDir))
	return nil
}
