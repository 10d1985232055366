package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"os/signal"
	"path/filepath"
	"syscall"

	"github.com/urfave/cli/v3"

	"amber.example/gatekeeper/demo"
	"amber.example/gatekeeper/internal/config"
	"amber.example/gatekeeper/internal/doctor"
	"amber.example/gatekeeper/internal/heap"
	"amber.example/gatekeeper/internal/process"
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

// defaultConfig is the file of settings that is read where none is named and it is there.
const defaultConfig = "/etc/amber-gatekeeper/amber.yaml"

// settingFlags are the settings as options of a command.
func settingFlags() []cli.Flag {
	flags := []cli.Flag{&cli.StringFlag{Name: "config", Usage: "file of settings (YAML), each by the name of its option", Sources: cli.EnvVars("AMBER_CONFIG"), DefaultText: defaultConfig + " where it is there"}}
	for _, s := range config.Settings(defaultState()) {
		switch {
		case s.Switch:
			flags = append(flags, &cli.BoolFlag{Name: s.Name, Usage: s.Usage})
		case s.Many:
			flags = append(flags, &cli.StringSliceFlag{Name: s.Name, Usage: s.Usage + "; may be given several times", DefaultText: s.Instead})
		default:
			flags = append(flags, &cli.StringFlag{Name: s.Name, Usage: s.Usage, Value: s.Default, DefaultText: cmp.Or(s.Instead, s.Default)})
		}
	}
	return flags
}

// sources says where the settings of a command are looked for.
func sources(cmd *cli.Command) config.Sources {
	from := config.Sources{Given: make(map[string][]string), Variable: os.LookupEnv, State: defaultState(), File: cmd.String("config"), Defaults: make(map[string]string)}
	if from.File == "" {
		from.File, from.Optional = defaultConfig, true
	}
	for _, s := range config.Settings(from.State) {
		if !cmd.IsSet(s.Name) {
			continue
		}
		switch {
		case s.Switch:
			from.Given[s.Name] = []string{fmt.Sprint(cmd.Bool(s.Name))}
		case s.Many:
			from.Given[s.Name] = cmd.StringSlice(s.Name)
		default:
			from.Given[s.Name] = []string{cmd.String(s.Name)}
		}
	}
	if cmd.Bool("demo") { // its passwords are known to everyone: it answers this machine only
		from.Defaults["smb"], from.Defaults["nfs"] = "127.0.0.1:4450", "127.0.0.1:20490"
	}
	if cmd.Bool("debug") && from.Given["log-level"] == nil {
		from.Given["log-level"] = []string{"debug"}
	}
	return from
}

func (a *app) serveCommand() *cli.Command {
	return a.leaf("serve", "run the service", "", append(settingFlags(),
		&cli.BoolFlag{Name: "check", Usage: "read the settings, say what they are and where each was said, or what is wrong with which, and end"},
		&cli.BoolFlag{Name: "demo", Usage: "fill an empty state directory with Larkfell Observatory, made up"},
		&cli.BoolFlag{Name: "new-key", Usage: "make a new key where secret.key is missing, though what was sealed with it is lost"},
		&cli.StringFlag{Name: "reset-password", Usage: "print a code with which this administrator sets another password, for who has forgotten it; a file reset-password with the name in it, in the state directory, does the same while the service runs"},
		&cli.BoolFlag{Name: "debug", Usage: "log what clients are refused, and more: --log-level debug"},
	), func(ctx context.Context, cmd *cli.Command, _ []string) error {
		err := a.serve(ctx, cmd)
		var f *failure
		var wrong *config.Fault
		switch {
		case err == nil || errors.As(err, &f):
			return err
		case errors.As(err, &wrong):
			return &failure{code: exitUsage, msg: err.Error()}
		}
		return &failure{code: exitFailed, msg: err.Error()}
	})
}

func (a *app) serve(ctx context.Context, cmd *cli.Command) error {
	from := sources(cmd)
	cfg, err := config.Load(from)
	if err != nil {
		return err
	}
	if cmd.Bool("check") {
		if err := process.Check(cfg); err != nil {
			return err
		}
		return show(a, cmd, settingsOf(cfg), printSettings)
	}
	ctx, stop := signal.NotifyContext(ctx, os.Interrupt, syscall.SIGTERM)
	defer stop()
	heap.Keep()
	again := make(chan os.Signal, 1)
	signal.Notify(again, syscall.SIGHUP)
	defer signal.Stop(again)
	p, err := process.Start(ctx, cfg, process.Options{Demo: cmd.Bool("demo"), NewKey: cmd.Bool("new-key"), Version: a.version, Stderr: a.err,
		Again: func() (*config.Config, error) { return config.Load(from) }})
	if err != nil {
		return err
	}
	err = a.greet(p, cmd.Bool("demo"), cfg.State)
	if name := cmd.String("reset-password"); err == nil && name != "" {
		err = printReset(a.out, p.Service, name)
	}
	if err == nil {
		go a.watchReset(ctx, p.Service, cfg.State)
		err = p.Wait(ctx, again)
	}
	stop() // who asks a second time does not wait
	return errors.Join(err, p.Close())
}

// consoleURL is how the console is reached at an address: other machines only by TLS.
func consoleURL(a net.Addr) string {
	tcp, ok := a.(*net.TCPAddr)
	if ok && tcp.IP.IsLoopback() {
		return "http://" + a.String()
	}
	if ok && tcp.IP.IsUnspecified() { // of all addresses of this machine, one by which it can be reached
		if own := doctor.OwnAddresses(); len(own) > 0 {
			return fmt.Sprintf("https://%s (and http://127.0.0.1:%d on this machine)", netip.AddrPortFrom(own[0], uint16(tcp.Port)), tcp.Port)
		}
	}
	return "https://" + a.String()
}

// greet prints where everything answers and what to do first.
func (a *app) greet(p *process.Process, isDemo bool, state string) error {
	w, svc := a.out, p.Service
	console, smbAddr, nfsAddr := p.Addresses()
	_, port, err := net.SplitHostPort(smbAddr.String())
	if err != nil {
		return err
	}
	_, nfsPort, err := net.SplitHostPort(nfsAddr.String())
	if err != nil {
		return err
	}
	fmt.Fprintf(w, "Amber Gatekeeper %s is up.\n\n  console and API  %s\n  SMB              %s\n  NFS              %s\n", a.version, consoleURL(console), smbAddr, nfsAddr)
	if is := p.Certificate(); is.Own {
		first, second := halves(is.Fingerprint)
		fmt.Fprintf(w, "\nOver HTTPS it shows a certificate that it has signed itself, of this fingerprint (SHA-256):\n\n  %s\n  %s\n", first, second)
	}
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

The console shows the same: %[3]s as keeper or auditor. Stop with Ctrl-C; make demo-reset starts over.
`, demo.PasswordSuffix, port, consoleURL(console), nfsPort, filepath.Join(state, demo.PostboxDir))
	return nil
}
