package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/notice"
)

func (a *app) noticeCommand() *cli.Command {
	return group("notice", "who is told in time that a limit is close, and how",
		a.leaf("list", "list what was told, the latest last", "", []cli.Flag{
			&cli.IntFlag{Name: "top", Usage: "only the last so many", Value: 20},
		}, func(ctx context.Context, cmd *cli.Command, _ []string) error {
			q := url.Values{"limit": {strconv.Itoa(cmd.Int("top"))}}
			return ask(ctx, a, cmd, http.MethodGet, "notices", q, nil, printNotices)
		}),
		a.leaf("unsent", "list mails and webhooks' messages that could not be brought to where they belong", "", nil, func(ctx context.Context, cmd *cli.Command, _ []string) error {
			return ask(ctx, a, cmd, http.MethodGet, "notices/unsent", nil, nil, func(w io.Writer, list []api.Unsent) {
				t := newTable("to", "from", "tries", "again", "problem")
				t.empty = "all notices are where they belong"
				t.wrapLast = true
				for _, u := range list {
					again := "never"
					if u.Again != nil {
						again = u.Again.Local().Format("2 Jan 15:04")
					}
					t.row(u.To, u.Made.Local().Format("2 Jan 15:04"), strconv.Itoa(u.Tries), again, u.Problem)
				}
				t.print(w)
			})
		}),
		a.leaf("show", "show when people are told, and where mail is handed in", "", nil, func(ctx context.Context, cmd *cli.Command, _ []string) error {
			return ask(ctx, a, cmd, http.MethodGet, "notices/settings", nil, nil, printNoticeSettings)
		}),
		a.noticeSetCommand(),
		group("template", "the letters that are sent",
			a.leaf("list", "list the letters", "", nil, func(ctx context.Context, cmd *cli.Command, _ []string) error {
				return ask(ctx, a, cmd, http.MethodGet, "notices/templates", nil, nil, func(w io.Writer, list []api.Letter) {
					t := newTable("letter", "is", "subject")
					for _, l := range list {
						is := "as it comes"
						if l.Own {
							is = "your own"
						}
						first, _, _ := strings.Cut(l.Text, "\n")
						t.row(l.Name, is, strings.TrimSpace(strings.TrimPrefix(first, "Subject:")))
					}
					t.print(w)
					if len(list) > 0 {
						fmt.Fprintln(w, "\nWhat is filled in:", list[0].Fills)
					}
				})
			}),
			a.leaf("show", "show a letter: person or administrators", "NAME", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
				var list []api.Letter
				if err := a.client.call(ctx, http.MethodGet, "notices/templates", nil, nil, &list); err != nil {
					return err
				}
				for _, l := range list {
					if l.Name == args[0] {
						return show(a, cmd, l, func(w io.Writer, l api.Letter) { fmt.Fprintln(w, strings.TrimSuffix(l.Text, "\n")) })
					}
				}
				return &failure{code: exitFailed, msg: fmt.Sprintf("there is no letter %q", args[0]), next: "amber notice template list"}
			}),
			describe(a.leaf("set", "write a letter: person or administrators", "NAME", []cli.Flag{
				&cli.StringFlag{Name: "file", Usage: "from this file; - is the standard input"},
				&cli.BoolFlag{Name: "default", Usage: "take the one that comes with the service"},
			}, func(ctx context.Context, cmd *cli.Command, args []string) error {
				text := ""
				if cmd.IsSet("file") == cmd.Bool("default") {
					return usage("say --file FILE, or --default")
				}
				if cmd.IsSet("file") {
					var err error
					if text, err = a.readFile(cmd.String("file")); err != nil {
						return err
					}
					if text == "" {
						return usage("%s is empty", cmd.String("file"))
					}
				}
				if err := a.client.call(ctx, http.MethodPut, "notices/templates/"+escape(args[0]), nil, map[string]string{"text": text}, nil); err != nil {
					return err
				}
				return a.done(cmd, "wrote the letter %s", args[0])
			}), `The first line is "Subject: …", then comes an empty line, then the text. These are filled in: `+notice.PlacesText()+`.`),
		),
		group("hook", "web addresses that are called with what is told",
			hooks.list(a, "list them"), hooks.remove(a),
			a.leaf("add", "have a web address called; its secret is shown once", "NAME URL", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
				return ask(ctx, a, cmd, http.MethodPost, "notices/hooks", nil, map[string]string{"name": args[0], "url": args[1]}, printHook)
			}),
			hooks.set(a, "change a web address that is called", "what, such as --is off", []cli.Flag{
				&cli.StringFlag{Name: "address", Usage: "call this address instead"},
				&cli.StringFlag{Name: "is", Usage: "on or off"},
				&cli.BoolFlag{Name: "new-secret", Usage: "sign with another secret, which is shown once"},
			}, func(cmd *cli.Command, b body) error {
				if cmd.IsSet("address") {
					b["url"] = cmd.String("address")
				}
				on, err := onOff(cmd, "is")
				if on != nil {
					b["on"] = *on
				}
				if cmd.Bool("new-secret") {
					b["newSecret"] = true
				}
				return err
			}),
		),
		a.leaf("test", "send a notice that is none, and wait until it has arrived", "", []cli.Flag{
			&cli.StringFlag{Name: "hook", Usage: "to this webhook"},
			&cli.StringFlag{Name: "mail", Usage: "to this mail address", DefaultText: "yours"},
		}, func(ctx context.Context, cmd *cli.Command, _ []string) error {
			b := make(map[string]string)
			given(cmd, func(flag, value string) { b[map[string]string{"hook": "hook", "mail": "address"}[flag]] = value }, "hook", "mail")
			if len(b) > 1 {
				return usage("one at a time: --hook or --mail")
			}
			return ask(ctx, a, cmd, http.MethodPost, "notices/test", nil, b, func(w io.Writer, t api.NoticeTest) {
				fmt.Fprintf(w, "taken: %s\n", t.To)
			})
		}),
	)
}

func (a *app) noticeSetCommand() *cli.Command {
	return a.leaf("set", "change when people are told, and where mail is handed in", "", []cli.Flag{
		&cli.StringFlag{Name: "at", Usage: "at these parts of a limit, in per cent, with commas; none for none", DefaultText: "80,90,95,100"},
		&cli.StringFlag{Name: "grace", Usage: "on or off: when a grace begins, and on its last day"},
		&cli.StringFlag{Name: "mail-server", Usage: "HOST or HOST:PORT where mail is handed in; none for none"},
		&cli.StringFlag{Name: "mail-security", Usage: "starttls (port 587), tls (465) or none (25)", DefaultText: "starttls"},
		&cli.StringFlag{Name: "mail-from", Usage: "the address that mail is sent from"},
		&cli.StringFlag{Name: "mail-user", Usage: "the name to sign in with there; none for none"},
		&cli.BoolFlag{Name: "mail-password", Usage: "set the password for it, from AMBER_MAIL_PASSWORD or a prompt"},
		&cli.StringFlag{Name: "mail-trust", Usage: "a file with certificates, in PEM, of those who may vouch for the server; none for those whom the host trusts"},
	}, func(ctx context.Context, cmd *cli.Command, _ []string) error {
		b, mail := make(map[string]any), make(map[string]any)
		if cmd.IsSet("at") {
			marks := []int{}
			if text := cmd.String("at"); text != "none" {
				for one := range strings.SplitSeq(text, ",") {
					n, err := strconv.Atoi(strings.TrimSuffix(strings.TrimSpace(one), "%"))
					if err != nil {
						return usage("--at takes numbers between 1 and 100 with commas, not %q", text)
					}
					marks = append(marks, n)
				}
			}
			b["percent"] = marks
		}
		err := switches(cmd, b, "grace")
		if err != nil {
			return err
		}
		none := func(field string) func(string, string) {
			return func(_, value string) {
				if value == "none" && field != "security" {
					value = ""
				}
				mail[field] = value
			}
		}
		for flag, field := range map[string]string{"mail-server": "server", "mail-security": "security", "mail-from": "sender", "mail-user": "user"} {
			given(cmd, none(field), flag)
		}
		if name := cmd.String("mail-trust"); name == "none" {
			mail["trust"] = ""
		} else if name != "" {
			if mail["trust"], err = a.readFile(name); err != nil {
				return err
			}
		}
		if cmd.Bool("mail-password") {
			if mail["password"], err = a.newSecret("AMBER_MAIL_PASSWORD", "Password for the mail server: "); err != nil {
				return err
			}
		}
		if len(mail) > 0 {
			b["mail"] = mail
		}
		if len(b) == 0 {
			return usage("nothing to change: say what, such as --at 80,100")
		}
		return ask(ctx, a, cmd, http.MethodPatch, "notices/settings", nil, b, printNoticeSettings)
	})
}

func printNotices(w io.Writer, list []notice.Notice) {
	if len(list) == 0 {
		fmt.Fprintln(w, "nothing was told yet")
	}
	for i := range list { // as they happened
		n := list[len(list)-1-i]
		hung(w, n.At.Local().Format("2006-01-02 15:04")+"  ", n.Says)
	}
}

var hooks = resource[api.Hook]{
	one: "webhook", many: "webhooks", route: "notices/hooks/", arg: "NAME",
	head: []string{"webhook", "at", "is"}, empty: "no webhooks yet: amber notice hook add NAME URL",
	row:   func(h api.Hook) []string { return []string{h.Name, h.Site, site.OnOff(h.On)} },
	print: printHook, removes: "This has the webhook %s called no more; what waits for it is forgotten.",
}

func printNoticeSettings(w io.Writer, n api.NoticeSettings) {
	var marks []string
	for _, m := range n.Percent {
		marks = append(marks, strconv.Itoa(m)+" %")
	}
	at := strings.Join(marks, ", ")
	if at == "" {
		at = "no part of a limit"
	}
	server, user := n.Mail.Server, n.Mail.User
	if server == "" {
		server = "none: nobody is sent mail"
	} else {
		server += " (" + n.Mail.Security + ")"
	}
	switch {
	case user != "" && n.Mail.PasswordSet:
		user += ", with a password"
	case user != "":
		user += ", without a password"
	}
	trust := ""
	if n.Mail.Trust != "" {
		trust = "certificates of its own"
	}
	fields(w, "told at", at, "grace", site.OnOff(n.Grace), "mail server", server, "from", n.Mail.Sender, "signs in as", user, "trusts", trust)
}

func printHook(w io.Writer, h api.Hook) {
	fields(w, "webhook", h.Name, "at", h.Site, "is", site.OnOff(h.On), "secret", h.Secret)
	if h.Secret != "" {
		fmt.Fprintln(w, "\nThe secret is not shown again.")
	}
}
