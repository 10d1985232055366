package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/core/site"
)

func (a *app) sessionCommands() []*cli.Command {
	return []*cli.Command{
		a.leaf("sign-in", "sign in and keep the token", "USER", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
			password, err := a.password("Password of " + args[0] + ": ")
			if err != nil {
				return err
			}
			return a.signIn(ctx, cmd, "sign-in", map[string]string{"user": args[0], "password": password})
		}),
		a.leaf("sign-out", "end the sign-in", "", nil, func(ctx context.Context, cmd *cli.Command, _ []string) error {
			err := a.client.call(ctx, http.MethodPost, "sign-out", nil, nil, nil)
			if ferr := storeToken(a.client.base.String(), ""); err == nil {
				err = ferr
			}
			if err != nil {
				return err
			}
			return a.done(cmd, "signed out at %s", a.client.base)
		}),
		a.leaf("password", "change your own password, whoever you are; from AMBER_PASSWORD and AMBER_NEW_PASSWORD, or prompts", "[USER]", []cli.Flag{
			&cli.StringFlag{Name: "reset", Usage: "the code that the service printed, for an administrator who has forgotten the password: see amber serve --reset-password"},
		}, func(ctx context.Context, cmd *cli.Command, args []string) error {
			var me api.Me
			err := a.client.call(ctx, http.MethodGet, "me", nil, nil, &me)
			if len(args) == 0 {
				if err != nil {
					return err
				}
				args = []string{me.User}
			}
			proof := map[string]string{"user": args[0]}
			if proof["reset"] = cmd.String("reset"); proof["reset"] == "" {
				delete(proof, "reset")
				if proof["old"], err = a.password("Password of " + args[0] + " as it is: "); err != nil {
					return err
				}
			}
			password, err := a.newSecret("AMBER_NEW_PASSWORD", "What it is to be: ")
			if err != nil {
				return err
			}
			proof["password"] = password
			if err := a.withCode(proof, func() error { return a.client.call(ctx, http.MethodPost, "own-password", nil, proof, nil) }); err != nil {
				return err
			}
			if strings.EqualFold(args[0], me.User) { // the sign-in ended with the old one
				return a.signIn(ctx, cmd, "sign-in", map[string]string{"user": args[0], "password": password})
			}
			return a.done(cmd, "changed the password of %s", args[0])
		}),
		a.leaf("first-administrator", "make the first administrator, with the code that the service printed", "USER", []cli.Flag{
			&cli.StringFlag{Name: "code", Usage: "the code", Required: true},
		}, func(ctx context.Context, cmd *cli.Command, args []string) error {
			password, err := a.newSecret("AMBER_PASSWORD", "Password for "+args[0]+": ")
			if err != nil {
				return err
			}
			return a.signIn(ctx, cmd, "first-administrator", map[string]string{"user": args[0], "password": password, "code": cmd.String("code")})
		}),
	}
}

// onOff reads a flag that says on or off; nil where it is not given.
func onOff(cmd *cli.Command, name string) (*bool, error) {
	if !cmd.IsSet(name) {
		return nil, nil
	}
	var v bool
	switch cmd.String(name) {
	case "on":
		v = true
	case "off":
	default:
		return nil, usage("--%s takes on or off, not %q", name, cmd.String(name))
	}
	return &v, nil
}

// switches puts what flags say that say on or off into what the API takes.
func switches(cmd *cli.Command, b map[string]any, names ...string) error {
	for _, name := range names {
		v, err := onOff(cmd, name)
		if err != nil {
			return err
		}
		if v != nil {
			b[name] = *v
		}
	}
	return nil
}

// noneOr is a list that a flag gives, in which none is for an empty one.
func noneOr(list []string) []string {
	return slices.DeleteFunc(append([]string{}, list...), func(name string) bool { return name == "none" })
}

// endDate reads a date or a time; never is the zero time.
func endDate(s string) (time.Time, error) {
	if s == "never" {
		return time.Time{}, nil
	}
	if t, day, ok := site.ParseDay(s, time.Local); ok {
		if day {
			t = t.AddDate(0, 0, 1) // the day itself still counts
		}
		return t, nil
	}
	return time.Time{}, usage("--ends takes never, a day such as 2026-12-31, or a time such as 2026-12-31T18:00:00Z, not %q", s)
}

// startDate reads a date or a time; now is the beginning of time.
func startDate(s string) (time.Time, error) {
	if s == "now" {
		return time.Unix(0, 0).UTC(), nil
	}
	if t, _, ok := site.ParseDay(s, time.Local); ok {
		return t, nil
	}
	return time.Time{}, usage("--starts takes now, a day such as 2026-12-31, or a time such as 2026-12-31T18:00:00Z, not %q", s)
}

func (a *app) peopleCommands() []*cli.Command {
	userFlags := func() []cli.Flag {
		return []cli.Flag{
			&cli.StringFlag{Name: "full-name", Usage: "the person's name"},
			&cli.Uint32Flag{Name: "uid", Usage: "the number that NFS clients know the user by"},
			&cli.BoolFlag{Name: "reuse", Usage: "give the number even though it was somebody else's within a year"},
			&cli.StringFlag{Name: "primary", Usage: "the primary group"},
			&cli.StringFlag{Name: "role", Usage: "administrator, operator or auditor; none for most"},
			&cli.StringFlag{Name: "description", Usage: "what is to be known of the account"},
			&cli.StringFlag{Name: "profile", Usage: "give what this profile says: groups, services, role, limit and end; none takes the profile away and leaves that"},
			&cli.StringFlag{Name: "mail", Usage: "the mail address, to which it is told that a limit is close; none for none"},
			&cli.StringFlag{Name: "starts", Usage: "the account's first day, a time, or now"},
			&cli.StringFlag{Name: "ends", Usage: "the account's last day, a time, or never"},
			&cli.StringFlag{Name: "smb", Usage: "on or off: whether the user may use SMB"},
			&cli.StringFlag{Name: "nfs", Usage: "on or off: whether the user may use NFS"},
			&cli.StringFlag{Name: "console", Usage: "on or off: whether the user may sign in to the console for what is theirs"},
		}
	}
	user := group("user", "the people and programs that use the gateway",
		a.leaf("add", "add a user; the password comes from AMBER_PASSWORD or a prompt", "NAME", append(userFlags(),
			&cli.StringSliceFlag{Name: "group", Usage: "put the user into this group; again for more"},
			&cli.BoolFlag{Name: "service", Usage: "the account is a program's"},
			markFlag(),
			&cli.BoolFlag{Name: "no-password", Usage: "set none: the account cannot sign in by SMB or here"},
			&cli.BoolFlag{Name: "must-change", Usage: "the password opens nothing until the user has changed it"},
			&cli.BoolFlag{Name: "only-owns", Usage: "nobody signs in as the account, by any way: it owns, and that is all"},
		), func(ctx context.Context, cmd *cli.Command, args []string) error {
			b := body{}
			err := errors.Join(fillUser(cmd, b, false), fillLabels(cmd, b))
			if err != nil {
				return err
			}
			b["name"], b["service"] = args[0], cmd.Bool("service") || cmd.Bool("only-owns")
			if cmd.Bool("only-owns") {
				b["smb"], b["nfs"], b["console"] = false, false, false
			}
			if groups := cmd.StringSlice("group"); len(groups) > 0 {
				b["groups"] = groups
			}
			if !cmd.Bool("no-password") && !cmd.Bool("service") && !cmd.Bool("only-owns") {
				b["mustChange"] = cmd.Bool("must-change")
				if b["password"], err = a.newSecret("AMBER_PASSWORD", "Password for "+args[0]+": "); err != nil {
					return err
				}
			}
			return ask(ctx, a, cmd, http.MethodPost, "users", nil, b, printUser)
		}),
		users.set(a, "change a user", "what, such as --disable", append(userFlags(),
			nameFlag(),
			&cli.BoolFlag{Name: "enable", Usage: "let the account work again"},
			&cli.BoolFlag{Name: "disable", Usage: "shut the account; sessions that are open feel it at once"},
		), func(cmd *cli.Command, b body) error {
			switch {
			case cmd.Bool("enable") && cmd.Bool("disable"):
				return usage("--enable and --disable contradict each other")
			case cmd.Bool("enable"), cmd.Bool("disable"):
				b["disabled"] = cmd.Bool("disable")
			}
			given(cmd, b.put, "name")
			return fillUser(cmd, b, true)
		}),
		a.userPasswordCommand(),
		a.importCommand(), a.exportUsersCommand(),
		users.list(a, "list the users"), a.showPersonCommand(), a.leaveCommand(), users.remove(a),
	)
	groupCommand := group("group", "groups of users, and of groups",
		a.leaf("add", "add a group", "NAME", []cli.Flag{
			&cli.Uint32Flag{Name: "gid", Usage: "the number that NFS clients know the group by"},
			&cli.StringFlag{Name: "description", Usage: "what it is for"},
			&cli.StringSliceFlag{Name: "member", Usage: "a user or group to put into it; again for more"},
			&cli.StringSliceFlag{Name: "owner", Usage: "a user or group who decides who is in it; again for more"},
			markFlag(),
		}, func(ctx context.Context, cmd *cli.Command, args []string) error {
			b := body{"name": args[0], "description": cmd.String("description")}
			if err := fillLabels(cmd, b); err != nil {
				return err
			}
			if cmd.IsSet("gid") {
				b["gid"] = cmd.Uint32("gid")
			}
			if members := cmd.StringSlice("member"); len(members) > 0 {
				b["members"] = members
			}
			if owners := cmd.StringSlice("owner"); len(owners) > 0 {
				b["owners"] = owners
			}
			return ask(ctx, a, cmd, http.MethodPost, "groups", nil, b, printGroup)
		}),
		groups.list(a, "list the groups"), groups.show(a, "show a group"), groups.remove(a),
		groups.set(a, "change a group", "--name, --gid, --owner or --description", []cli.Flag{
			&cli.StringSliceFlag{Name: "owner", Usage: "a user or group who decides who is in it, in the place of those before; again for more, none for none"},
			nameFlag(),
			&cli.Uint32Flag{Name: "gid", Usage: "the number that NFS clients know the group by"},
			&cli.StringFlag{Name: "description", Usage: "what it is for"},
		}, func(cmd *cli.Command, b body) error {
			given(cmd, b.put, "name", "description")
			if cmd.IsSet("gid") {
				b["gid"] = cmd.Uint32("gid")
			}
			if owners := cmd.StringSlice("owner"); cmd.IsSet("owner") {
				b["owners"] = noneOr(owners)
			}
			return nil
		}),
		a.membership("join", http.MethodPut, "put users or groups into a group", "%s %s now in %s"),
		a.membership("leave", http.MethodDelete, "take users or groups out of a group", "%s %s no longer listed in %s"),
	)
	return []*cli.Command{user, groupCommand, a.profileCommand(), a.holdingCommand(), a.idsCommand()}
}

func (a *app) userPasswordCommand() *cli.Command {
	return a.leaf("password", "set a user's password, from AMBER_PASSWORD or a prompt, or make one up", "NAME", []cli.Flag{
		&cli.BoolFlag{Name: "new", Usage: "make one up and print it, this once; the user has to change it first"},
		&cli.BoolFlag{Name: "must-change", Usage: "it opens nothing until the user has changed it"},
	}, func(ctx context.Context, cmd *cli.Command, args []string) error {
		at := "users/" + escape(args[0]) + "/password"
		if cmd.Bool("new") {
			return ask(ctx, a, cmd, http.MethodPost, at, nil, nil, func(w io.Writer, made api.MadePassword) {
				fmt.Fprintf(w, "The password of %s is\n\n  %s\n\nIt is shown this once, and opens nothing until they have changed it: amber password %s\n", args[0], made.Password, args[0])
			})
		}
		password, err := a.newSecret("AMBER_PASSWORD", "New password of "+args[0]+": ")
		if err != nil {
			return err
		}
		if err := a.client.call(ctx, http.MethodPut, at, nil, body{"password": password, "mustChange": cmd.Bool("must-change")}, nil); err != nil {
			return err
		}
		return a.done(cmd, "set the password of %s", args[0])
	})
}

func (a *app) membership(name, method, text, said string) *cli.Command {
	return a.leaf(name, text, "MEMBER... GROUP", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
		members, of := args[:len(args)-1], args[len(args)-1]
		if err := a.callAll(ctx, method, members, nil, func(member string) string { return groups.at(of) + "/members/" + escape(member) }); err != nil {
			return err
		}
		verb := "is"
		if len(members) > 1 {
			verb = "are"
		}
		return a.done(cmd, said, strings.Join(members, ", "), verb, of)
	})
}

// fillUser puts what is said of a user into what the API takes.
func fillUser(cmd *cli.Command, b body, change bool) error {
	for flag, field := range map[string]string{"full-name": "fullName", "primary": "primaryGroup", "role": "role", "mail": "mail", "description": "description", "profile": "profile"} {
		if cmd.IsSet(flag) {
			b[field] = cmd.String(flag)
		}
	}
	for _, field := range []string{"role", "mail", "profile"} {
		if b[field] == "none" {
			b[field] = ""
		}
	}
	if cmd.IsSet("uid") {
		b["uid"] = cmd.Uint32("uid")
	}
	if cmd.Bool("reuse") {
		b["reuse"] = true
	}
	if err := switches(cmd, b, "smb", "nfs", "console"); err != nil {
		return err
	}
	if cmd.IsSet("starts") {
		t, err := startDate(cmd.String("starts"))
		if err != nil {
			return err
		}
		b["starts"] = t
	}
	if cmd.IsSet("ends") {
		t, err := endDate(cmd.String("ends"))
		switch {
		case err != nil:
			return err
		case !t.IsZero():
			b["ends"] = t
		case change:
			b["endless"] = true
		}
	}
	return nil
}

var users = resource[api.User]{
	one: "user", many: "users", route: "users/", arg: "NAME", labels: func(u api.User) map[string]string { return u.Labels },
	head: []string{"name", "uid", "full name", "state", "groups"}, empty: "no users yet: amber user add NAME",
	row: func(u api.User) []string {
		return []string{u.Name, fmt.Sprint(u.UID), u.FullName, userState(u), strings.Join(u.Groups, ", ")}
	},
	print: printUser, removes: "This removes the user %s. What they own on disk stays.",
}

var groups = resource[api.Group]{
	one: "group", many: "groups", route: "groups/", arg: "NAME", labels: func(g api.Group) map[string]string { return g.Labels },
	head: []string{"name", "gid", "members", "description"}, empty: "no groups yet: amber group add NAME",
	row: func(g api.Group) []string {
		return []string{g.Name, fmt.Sprint(g.GID), memberNames(g.Members), g.Description}
	},
	print: printGroup, removes: "This removes the group %s.",
}

func userState(u api.User) string {
	switch {
	case u.Left != nil:
		return "left on " + u.Left.Local().Format("2 Jan 2006")
	case u.Disabled:
		return "disabled"
	case u.OnlyOwns:
		return "only owns"
	case u.Starts != nil && time.Now().Before(*u.Starts):
		return "from " + u.Starts.Local().Format("2 Jan 2006")
	case u.Ends != nil && time.Now().After(*u.Ends):
		return "ended, was until " + lastDay(*u.Ends)
	case u.Ends != nil:
		return "until " + lastDay(*u.Ends)
	case u.Role != "":
		return u.Role
	}
	return "enabled"
}

func memberNames(all []api.Member) string {
	var names []string
	for _, m := range all {
		names = append(names, m.Name)
	}
	return strings.Join(names, ", ")
}

func printUser(w io.Writer, u api.User) {
	protocols := strings.Join(namesThat(map[string]bool{"SMB": u.SMB, "NFS": u.NFS, "the console": u.Console || u.Role != ""}), ", ")
	fields(w, "user", u.Name, "full name", u.FullName, "description", u.About, "uid", fmt.Sprint(u.UID), "mail", u.Mail, "state", userState(u), "profile", u.Profile, "primary group", u.Primary,
		"groups", strings.Join(u.Groups, ", "), "may use", cmp.Or(protocols, "nothing: nobody signs in"), "password", passwordText(u), "labels", labelText(u.Labels))
	for _, n := range u.Notes {
		fmt.Fprintln(w)
		hung(w, "", "Mind: "+n+".")
	}
}

func passwordText(u api.User) string {
	text := "none"
	switch {
	case u.Password.Set && u.Password.Since != nil:
		text = "since " + u.Password.Since.Local().Format("2 Jan 2006")
	case u.Password.Set:
		text = "set"
	}
	if u.Password.MustChange {
		text += ", to be changed first"
	}
	if u.Codes {
		text += ", with one-time codes"
	}
	return text
}

func printGroup(w io.Writer, g api.Group) {
	fields(w, "group", g.Name, "gid", fmt.Sprint(g.GID), "description", g.Description, "members", memberNames(g.Members), "owners", memberNames(g.Owners), "primary of", strings.Join(g.PrimaryOf, ", "), "labels", labelText(g.Labels))
}
