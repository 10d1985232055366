// Package cli is the command line: the service itself, and a client that speaks
// its HTTP API and nothing else.
package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math"
	"net/url"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/core/plain"
)

// Exit codes of every command.
const (
	exitFailed      = 1 // refused, or failed
	exitUsage       = 2 // wrong usage
	exitUnreachable = 3 // no service answers
	exitMind        = 4 // status: something is to be minded
	exitWrong       = 5 // status: something is wrong
)

// failure is an error with its exit code and, perhaps, the command to type next.
type failure struct {
	code int
	msg  string
	next string
	// confirm says that it is done once the caller says that they know.
	confirm bool
	need    string // what has to be given first, as the API says it
	gone    bool   // what was named is not there
}

func (f *failure) Error() string { return f.msg }

// said is a failure as --json has it.
type said struct {
	Error string `json:"error"`
	Next  string `json:"next,omitempty"`
	Code  int    `json:"code"`
}

func usage(format string, args ...any) error {
	return &failure{code: exitUsage, msg: fmt.Sprintf(format, args...)}
}

// app is what the commands share.
type app struct {
	in       io.Reader
	out, err io.Writer
	lines    []*lines // what out and err print to
	terminal bool     // whether in is one
	version  string
	args     []string
	client   *client

	says   string        // what is about to happen, to be asked about
	record *[]api.Change // changes are noted here and not made; nil where they are
}

// Main runs a command line and gives its exit code.
func Main(ctx context.Context, args []string, in *os.File, out, errOut io.Writer, version string) int {
	printed, told := &lines{to: out, colour: shows(out)}, &lines{to: errOut, colour: shows(errOut)}
	out, errOut = &filter{to: printed}, &filter{to: told}
	a := &app{in: in, out: out, err: errOut, lines: []*lines{printed, told}, terminal: term.IsTerminal(int(in.Fd())), version: version, args: args}
	err := a.root().Run(ctx, args)
	if err == nil {
		return 0
	}
	var f *failure
	if !errors.As(err, &f) { // the argument parser's own
		f = &failure{code: exitUsage, msg: plainly(&cli.Command{}, err.Error()), next: "amber --help"}
	}
	if slices.Contains(args, "--json") {
		_ = encode(errOut, said{f.msg, f.next, f.code})
		return f.code
	}
	if isTerminal(told.to) {
		hung(errOut, "amber: ", plain.Text(f.msg))
	} else { // whole, for whoever looks for it in a log
		fmt.Fprintln(errOut, "amber:", plain.Text(f.msg))
	}
	if f.next != "" {
		fmt.Fprintln(errOut, "  next:", plain.Text(f.next))
	}
	return f.code
}

func (a *app) root() *cli.Command {
	cli.HelpPrinter = printHelp
	cli.HelpFlag = &cli.BoolFlag{Name: "help", Aliases: []string{"h"}, Usage: "show help", HideDefault: true, Local: true}
	return &cli.Command{
		Name:                  "amber",
		Usage:                 "a NAS file gateway that tells why",
		Version:               a.version,
		EnableShellCompletion: true,
		ConfigureShellCompletionCommand: func(c *cli.Command) {
			c.Hidden, c.Usage, c.Action, c.OnUsageError = false, "print what has a shell complete commands and options", list, misused
			c.Description = "In bash, a line of ~/.bashrc: source <(amber completion bash). In zsh, a line of ~/.zshrc: source <(amber completion zsh). " +
				"In fish, once: amber completion fish > ~/.config/fish/completions/amber.fish."
			c.Commands = slices.DeleteFunc(c.Commands, func(shell *cli.Command) bool { return shell.Name == "pwsh" })
			for _, shell := range c.Commands {
				shell.Usage = "for " + shell.Name
			}
		},
		Flags: append([]cli.Flag{
			&cli.StringFlag{Name: "url", Usage: "where the service answers", Value: "http://127.0.0.1:8460", Sources: cli.EnvVars("AMBER_URL")},
			&cli.StringFlag{Name: "fingerprint", Usage: "SHA-256 of the certificate that the service shows, where no authority has signed it", Sources: cli.EnvVars("AMBER_FINGERPRINT")},
			&cli.StringFlag{Name: "certificate", Usage: "file with a certificate of the client's own (PEM), for services that ask tokens for one", Sources: cli.EnvVars("AMBER_CERTIFICATE")},
			&cli.StringFlag{Name: "key", Usage: "file with the key of that certificate (PEM)", Sources: cli.EnvVars("AMBER_KEY")},
			&cli.BoolFlag{Name: "json", Usage: "print what the API answers"},
		}, effectFlags()...),
		Writer: a.out, ErrWriter: a.err,
		ExitErrHandler: func(context.Context, *cli.Command, error) {},
		OnUsageError:   misused,
		Action:         list,
		Before: func(ctx context.Context, cmd *cli.Command) (context.Context, error) {
			var err error
			if a.client, err = newClient(cmd.String("url")); err != nil {
				return ctx, err
			}
			a.client.strange = a.unknown
			transport, err := a.client.transport(cmd.String("certificate"), cmd.String("key"), cmd.String("fingerprint"))
			if err != nil {
				return ctx, err
			}
			a.client.http.Transport = transport
			if slices.ContainsFunc(a.args, func(s string) bool { return s == "--url" || strings.HasPrefix(s, "--url=") }) && !cmd.Bool("json") {
				for _, l := range a.lines {
					l.url = strings.Join(quoted([]string{cmd.String("url")}), "")
				}
			}
			return ctx, err
		},
		Commands: slices.Concat([]*cli.Command{a.serveCommand()}, a.sessionCommands(), a.signingCommands(), a.peopleCommands(), a.placeCommands(), a.publishCommands(), a.serverNameCommands(), a.exportCommands(),
			a.limitCommands(), a.connectedCommands(), []*cli.Command{a.noticeCommand()}, a.auditCommands(), []*cli.Command{a.journalCommand(), a.undoCommand(), a.togetherCommand(), a.jobCommand(), a.eventsCommand()}, a.runningCommands()),
	}
}

// misused turns what the argument parser says into a failure like any other.
func misused(_ context.Context, cmd *cli.Command, err error, _ bool) error {
	return &failure{code: exitUsage, msg: plainly(cmd, err.Error()), next: cmd.FullName() + " --help"}
}

// group is a command that only holds others. Asked for none of them, it lists
// them; asked for another, it says so.
func group(name, text string, commands ...*cli.Command) *cli.Command {
	return &cli.Command{Name: name, Usage: text, Commands: commands, OnUsageError: misused, Action: list}
}

func list(_ context.Context, cmd *cli.Command) error {
	if cmd.Args().Present() {
		typed := cmd.Args().First()
		f := &failure{code: exitUsage, msg: fmt.Sprintf("there is no command %q in %s", typed, cmd.FullName()), next: cmd.FullName() + " --help"}
		var names []string
		for _, c := range cmd.Commands {
			names = append(names, c.Name)
		}
		if near := plain.Nearest(typed, names); near != "" {
			f.next = strings.Join(append([]string{cmd.FullName(), near}, quoted(cmd.Args().Tail())...), " ")
		}
		return f
	}
	return cli.ShowSubcommandHelp(cmd)
}

// leaf is a command with named arguments. Those in brackets may be left out.
func (a *app) leaf(name, text, argsUsage string, flags []cli.Flag, run func(ctx context.Context, cmd *cli.Command, args []string) error) *cli.Command {
	least, most := 0, 0
	for word := range strings.FieldsSeq(argsUsage) {
		if most < math.MaxInt {
			most++
		}
		if !strings.HasPrefix(word, "[") {
			least++
		}
		if strings.HasSuffix(strings.TrimSuffix(word, "]"), "...") {
			most = math.MaxInt
		}
	}
	return &cli.Command{Name: name, Usage: text, ArgsUsage: argsUsage, Flags: flags, OnUsageError: misused, Action: func(ctx context.Context, cmd *cli.Command) error {
		args := cmd.Args().Slice()
		if len(args) < least || len(args) > most {
			return &failure{code: exitUsage, msg: fmt.Sprintf("usage: %s %s", cmd.FullName(), argsUsage), next: cmd.FullName() + " --help"}
		}
		if a.client != nil {
			a.client.before = func(method, path string, query url.Values, in any) error {
				return a.change(ctx, cmd, method, path, query, in)
			}
		}
		err := run(ctx, cmd, args)
		if errors.Is(err, errRecorded) && a.record == nil {
			return nil // previewed
		}
		return err
	}}
}

// password takes AMBER_PASSWORD, or asks at the terminal without showing it.
func (a *app) password(prompt string) (string, error) { return a.secret("AMBER_PASSWORD", prompt) }

// secret takes what a variable of the environment says, or asks at the terminal without showing it.
func (a *app) secret(variable, prompt string) (string, error) {
	if p := os.Getenv(variable); p != "" {
		return p, nil
	}
	f, ok := a.in.(*os.File)
	if !a.terminal || !ok {
		return "", usage("no password: set %s, or run this at a terminal", variable)
	}
	return readHidden(f, a.err, prompt)
}

// ask takes what a variable of the environment says, or asks at the terminal for what may be seen.
func (a *app) ask(variable, prompt string) (string, error) {
	if p := os.Getenv(variable); p != "" {
		return p, nil
	}
	if !a.terminal {
		return "", usage("no code: set %s, or run this at a terminal", variable)
	}
	fmt.Fprint(a.err, prompt)
	line, err := bufio.NewReader(io.LimitReader(a.in, 1<<10)).ReadString('\n')
	return strings.TrimSpace(line), err
}

// newSecret is secret for what nobody could see whether it was typed as it was meant: at the terminal it is asked for twice.
func (a *app) newSecret(variable, prompt string) (string, error) {
	one, err := a.secret(variable, prompt)
	if err != nil || os.Getenv(variable) != "" {
		return one, err
	}
	two, err := a.secret(variable, "The same again: ")
	if err == nil && one != two {
		return "", usage("the two are not the same: nothing was done")
	}
	return one, err
}

// readHidden reads a line without showing it. Whoever breaks it off gets a terminal that shows what they type.
func readHidden(f *os.File, say io.Writer, prompt string) (string, error) {
	before, err := term.GetState(int(f.Fd()))
	if err != nil {
		return "", err
	}
	broken := make(chan os.Signal, 1)
	signal.Notify(broken, os.Interrupt, syscall.SIGTERM)
	done := make(chan struct{})
	defer func() {
		signal.Stop(broken)
		close(done)
	}()
	go func() {
		select {
		case <-broken:
			_ = term.Restore(int(f.Fd()), before)
			fmt.Fprintln(say)
			os.Exit(exitFailed)
		case <-done:
		}
	}()
	fmt.Fprint(say, prompt)
	raw, err := term.ReadPassword(int(f.Fd()))
	fmt.Fprintln(say)
	return string(raw), err
}

// given calls put with those of the flags that are set, as texts.
func given(cmd *cli.Command, put func(flag, value string), flags ...string) {
	for _, f := range flags {
		if cmd.IsSet(f) {
			put(f, cmd.String(f))
		}
	}
}

// body collects what given gives.
type body map[string]any

func (b body) put(flag, value string) { b[flag] = value }

// readFile reads a file that a command names; - is the standard input.
func (a *app) readFile(name string) (string, error) {
	const most = 16 << 20
	from := a.in
	if name != "-" {
		f, err := os.Open(name)
		if err != nil {
			return "", usage("%s cannot be read: %s", name, inWords(err))
		}
		defer f.Close()
		from = f
	}
	raw, err := io.ReadAll(io.LimitReader(from, most+1))
	if err != nil {
		return "", usage("%s cannot be read: %s", name, inWords(err))
	}
	if len(raw) > most {
		return "", usage("%s is larger than %d bytes", name, most)
	}
	return string(raw), nil
}

// inWords is what the host says is wrong with a file, less what it was being done.
func inWords(err error) string {
	var at *fs.PathError
	if errors.As(err, &at) {
		err = at.Err
	}
	return err.Error()
}

// show prints an answer: as JSON if asked for, else as text makes it.
func show[T any](a *app, cmd *cli.Command, v T, text func(w io.Writer, v T)) error {
	if cmd.Bool("json") {
		return encode(a.out, v)
	}
	text(a.out, spelled(v))
	return nil
}

// ask calls one route and prints what it answers.
func ask[T any](ctx context.Context, a *app, cmd *cli.Command, method, path string, query url.Values, in any, text func(w io.Writer, v T)) error {
	var out T
	if err := a.client.call(ctx, method, path, query, in, &out); err != nil {
		return err
	}
	return show(a, cmd, out, text)
}

// done prints that a change has been made.
func (a *app) done(cmd *cli.Command, format string, args ...any) error {
	text := fmt.Sprintf(format, args...)
	return show(a, cmd, map[string]string{"done": text}, func(w io.Writer, _ map[string]string) { fmt.Fprintln(w, text) })
}
