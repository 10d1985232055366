package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"amber.example/gatekeeper/internal/api"
)

// signIn signs in, and asks for a one-time code where one is needed.
func (a *app) signIn(ctx context.Context, cmd *cli.Command, path string, body map[string]string) error {
	var out api.SignedIn
	a.client.token = ""
	if err := a.withCode(body, func() error { return a.client.call(ctx, http.MethodPost, path, nil, body, &out) }); err != nil {
		return err
	}
	if err := storeToken(a.client.base.String(), out.Token); err != nil {
		return &failure{code: exitFailed, msg: "signed in, but the token could not be kept: " + err.Error()}
	}
	return a.done(cmd, "signed in at %s as %s (%s) until %s", a.client.base, out.User, out.Role, out.Expires.Local().Format("2 Jan 15:04"))
}

// withCode does what takes a password, and again with a one-time code where the answer says that one is needed.
func (a *app) withCode(body map[string]string, do func() error) error {
	if code := os.Getenv("AMBER_CODE"); code != "" {
		body["code"] = code
		return do()
	}
	err := do()
	if f, ok := err.(*failure); !ok || f.need != "code" || body["code"] != "" {
		return err
	}
	code, err := a.ask("AMBER_CODE", "One-time code of "+body["user"]+": ")
	if err != nil {
		return err
	}
	body["code"] = code
	return do()
}

// themselves is who a command is about that is about who types it: the argument, or who is signed in; and what they show for it.
func (a *app) themselves(ctx context.Context, args []string) (map[string]string, error) {
	if len(args) == 0 {
		var me api.Me
		if err := a.client.call(ctx, http.MethodGet, "me", nil, nil, &me); err != nil {
			return nil, err
		}
		args = []string{me.User}
	}
	password, err := a.password("Password of " + args[0] + ": ")
	return map[string]string{"user": args[0], "password": password}, err
}

func (a *app) signingCommands() []*cli.Command {
	return []*cli.Command{a.codesCommand(), a.signInsCommand(), a.tokenCommand(), a.signingInCommand()}
}

func (a *app) codesCommand() *cli.Command {
	return group("codes", "one-time codes, which the console and this command ask for besides your password",
		a.leaf("set-up", "set them up, with a program for one-time codes (RFC 6238) that reads the QR code; AMBER_PASSWORD, AMBER_CODE and AMBER_NEW_CODE, or prompts", "[USER]", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
			body, err := a.themselves(ctx, args)
			if err != nil {
				return err
			}
			var begun api.CodesBegun
			if err := a.withCode(body, func() error { return a.client.call(ctx, http.MethodPost, "own-codes", nil, body, &begun) }); err != nil {
				return err
			}
			fmt.Fprintf(a.err, "\n%s\nor type this secret: %s\n\n", qrText(begun.QR), begun.Secret)
			if body["fresh"], err = a.ask("AMBER_NEW_CODE", "The code that it shows: "); err != nil {
				return err
			}
			delete(body, "code") // it has been used
			var out api.Recovery
			if err := a.client.call(ctx, http.MethodPost, "own-codes/confirm", nil, body, &out); err != nil {
				return err
			}
			return show(a, cmd, out, func(w io.Writer, out api.Recovery) {
				fmt.Fprintf(w, "%s signs in with one-time codes from now on.\n\nEach of these stands for one of them, once. Keep them where you find them without it:\n\n", body["user"])
				for i, code := range out.Codes {
					fmt.Fprint(w, "  ", code)
					if i%2 == 1 {
						fmt.Fprintln(w)
					}
				}
			})
		}),
		a.leaf("remove", "sign in without, from now on", "[USER]", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
			body, err := a.themselves(ctx, args)
			if err != nil {
				return err
			}
			if err := a.withCode(body, func() error { return a.client.call(ctx, http.MethodPost, "own-codes/remove", nil, body, nil) }); err != nil {
				return err
			}
			return a.done(cmd, "%s signs in without one-time codes from now on", body["user"])
		}),
		a.leaf("take-away", "take those of somebody away who has lost what makes them", "USER", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
			if err := a.confirm(cmd, "This lets "+args[0]+" in with the password alone."); err != nil {
				return err
			}
			if err := a.client.call(ctx, http.MethodDelete, "users/"+escape(args[0])+"/codes", nil, nil, nil); err != nil {
				return err
			}
			return a.done(cmd, "%s signs in without one-time codes", args[0])
		}),
	)
}

// qrText draws a QR code with half blocks, light on dark as terminals are, with the margin of four that readers need.
func qrText(rows []string) string {
	const margin = 4
	dark := func(x, y int) bool {
		x, y = x-margin, y-margin
		return y >= 0 && y < len(rows) && x >= 0 && x < len(rows[y]) && rows[y][x] == '1'
	}
	var b strings.Builder
	size := len(rows) + 2*margin
	for y := 0; y < size; y += 2 {
		for x := range size {
			switch top, bottom := dark(x, y), dark(x, y+1) || y+1 >= size; {
			case top && bottom:
				b.WriteByte(' ')
			case top:
				b.WriteRune('▄')
			case bottom:
				b.WriteRune('▀')
			default:
				b.WriteRune('█')
			}
		}
		b.WriteByte('\n')
	}
	return b.String()
}

// whose are the flags of lists that are of one user, or of everybody.
func whose() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "user", Usage: "of this user", DefaultText: "your own"},
		&cli.BoolFlag{Name: "all", Usage: "of everybody"},
	}
}

func whoseQuery(cmd *cli.Command) url.Values {
	q := url.Values{}
	given(cmd, q.Set, "user")
	if cmd.Bool("all") {
		q.Set("all", "true")
	}
	return q
}

func (a *app) signInsCommand() *cli.Command {
	return group("sign-ins", "who is signed in to the console and by this command",
		a.leaf("list", "list the sign-ins that go on", "", whose(), func(ctx context.Context, cmd *cli.Command, _ []string) error {
			return ask(ctx, a, cmd, http.MethodGet, "sign-ins", whoseQuery(cmd), nil, func(w io.Writer, all []api.SignInNow) {
				t := newTable("no.", "user", "role", "from", "since", "last used", "as")
				t.empty = "nobody is signed in"
				for _, s := range all {
					as := s.Client
					if s.This {
						as += " (this one)"
					}
					t.row(strconv.FormatInt(s.ID, 10), s.User, s.Role, s.Address, shortMoment(s.Begun), shortMoment(s.Used), as)
				}
				t.wrapLast = true
				t.print(w)
			})
		}),
		a.leaf("end", "end sign-ins", "NUMBER...", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
			for _, id := range args {
				if err := a.client.call(ctx, http.MethodDelete, "sign-ins/"+escape(id), nil, nil, nil); err != nil {
					return err
				}
			}
			return a.done(cmd, "ended the sign-in %s", strings.Join(args, ", "))
		}),
	)
}

func shortMoment(t time.Time) string { return t.Local().Format("2 Jan 15:04") }

func (a *app) tokenCommand() *cli.Command {
	return group("token", "tokens, by which programs use the API on your behalf",
		a.leaf("add", "make a token; it is printed once", "NAME", []cli.Flag{
			&cli.StringFlag{Name: "role", Usage: "administrator, operator, auditor or user; no wider than yours", DefaultText: "yours"},
			&cli.StringFlag{Name: "ends", Usage: "its last day, a time, or never", DefaultText: "never"},
			&cli.StringSliceFlag{Name: "from", Usage: "an address or network from where it may be used; again for more", DefaultText: "anywhere"},
		}, func(ctx context.Context, cmd *cli.Command, args []string) error {
			b := body{"name": args[0]}
			given(cmd, b.put, "role")
			if from := cmd.StringSlice("from"); len(from) > 0 {
				b["from"] = from
			}
			if cmd.IsSet("ends") {
				t, err := endDate(cmd.String("ends"))
				if err != nil {
					return err
				}
				if !t.IsZero() {
					b["ends"] = t
				}
			}
			return ask(ctx, a, cmd, http.MethodPost, "tokens", nil, b, func(w io.Writer, t api.Token) {
				printToken(w, t)
				fmt.Fprintf(w, "\nIt is shown this once. A program sends it as a bearer token, and this command takes it from AMBER_TOKEN:\n\n  %s\n", t.Text)
			})
		}),
		a.leaf("list", "list tokens", "", whose(), func(ctx context.Context, cmd *cli.Command, _ []string) error {
			return ask(ctx, a, cmd, http.MethodGet, "tokens", whoseQuery(cmd), nil, func(w io.Writer, all []api.Token) {
				t := newTable("no.", "name", "user", "role", "ends", "last used", "from")
				t.empty = "no tokens"
				for _, k := range all {
					used := "never"
					if k.Used != nil {
						used = shortMoment(*k.Used) + " from " + k.Address
					}
					t.row(strconv.FormatInt(k.ID, 10), k.Name, k.User, k.Role, tokenEnds(k), used, tokenFrom(k))
				}
				t.print(w)
			})
		}),
		a.leaf("remove", "take tokens back", "NUMBER...", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
			if err := a.callAll(ctx, http.MethodDelete, args, nil, func(id string) string { return "tokens/" + escape(id) }); err != nil {
				return err
			}
			return a.done(cmd, "took back the token %s", strings.Join(args, ", "))
		}),
	)
}

func tokenEnds(t api.Token) string {
	switch {
	case t.Ends == nil:
		return "never"
	case t.Ended:
		return "ended " + lastDay(*t.Ends)
	}
	return lastDay(*t.Ends)
}

func tokenFrom(t api.Token) string {
	if len(t.From) == 0 {
		return "anywhere"
	}
	return strings.Join(t.From, ", ")
}

func printToken(w io.Writer, t api.Token) {
	fields(w, "token", t.Name, "of", t.User, "role", t.Role, "last day", tokenEnds(t), "from", tokenFrom(t))
}

func (a *app) signingInCommand() *cli.Command {
	return group("signing-in", "what signing in to the console and by this command takes",
		a.leaf("show", "show it", "", nil, func(ctx context.Context, cmd *cli.Command, _ []string) error {
			return ask(ctx, a, cmd, http.MethodGet, "signing-in", nil, nil, printSigningIn)
		}),
		a.leaf("set", "change it", "", []cli.Flag{
			&cli.StringFlag{Name: "idle", Usage: "after how long a sign-in ends that nobody uses, such as 30m; default for 2h"},
			&cli.StringFlag{Name: "longest", Usage: "after how long any sign-in ends, such as 8h; default for 12h"},
			&cli.StringFlag{Name: "password-age", Usage: "after how many days people have to change their password; never for never"},
			&cli.StringFlag{Name: "codes-for", Usage: "which roles need one-time codes, with commas: administrator, operator, auditor, user; none for none"},
		}, func(ctx context.Context, cmd *cli.Command, _ []string) error {
			b := body{}
			for _, name := range []string{"idle", "longest"} {
				if cmd.IsSet(name) {
					b[name] = strings.TrimPrefix(cmd.String(name), "default")
				}
			}
			if err := days(cmd, b, "password-age", "passwordDays"); err != nil {
				return err
			}
			if cmd.IsSet("codes-for") {
				roles := []string{}
				if text := cmd.String("codes-for"); text != "none" {
					roles = strings.Split(text, ",")
				}
				b["codesFor"] = roles
			}
			if len(b) == 0 {
				return usage("nothing to change: say --idle, --longest, --password-age or --codes-for")
			}
			return ask(ctx, a, cmd, http.MethodPatch, "signing-in", nil, b, printSigningIn)
		}),
	)
}

func printSigningIn(w io.Writer, s api.SigningIn) {
	age, codes := "never", "nobody has to"
	if s.PasswordDays > 0 {
		age = fmt.Sprintf("after %d days", s.PasswordDays)
	}
	if len(s.CodesFor) > 0 {
		codes = strings.Join(s.CodesFor, ", ")
	}
	span := func(text string) string {
		d, err := time.ParseDuration(text)
		if err != nil {
			return text
		}
		text = d.String()
		for _, none := range []string{"m0s", "h0m"} {
			if strings.HasSuffix(text, none) {
				text = text[:len(text)-2]
			}
		}
		return text
	}
	fields(w, "a sign-in ends", "unused for "+span(s.Idle)+", or "+span(s.Longest)+" old", "passwords", age, "one-time codes", codes)
}
