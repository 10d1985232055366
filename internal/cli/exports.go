package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/core/plain"
)

// ruleFlags are the terms of a client rule.
func ruleFlags() []cli.Flag {
	return []cli.Flag{
		&cli.BoolFlag{Name: "rw", Usage: "read-write"},
		&cli.BoolFlag{Name: "ro", Usage: "read-only", DefaultText: "yes, for a new rule"},
		&cli.StringFlag{Name: "squash", Usage: "whose numbers are taken for the anonymous ones: none, root or all", DefaultText: "root"},
		&cli.Uint32Flag{Name: "anon-uid", Usage: "the uid of squashed requests", DefaultText: "65534"},
		&cli.Uint32Flag{Name: "anon-gid", Usage: "and the gid", DefaultText: "65534"},
		&cli.StringSliceFlag{Name: "sec", Usage: "security flavours: sys", DefaultText: "sys"},
		&cli.BoolFlag{Name: "privileged-port", Usage: "only from source ports below 1024 (=false ends that)"},
		&cli.StringFlag{Name: "unknown", Usage: "what becomes of a uid that no user has: refused, anonymous, or number, which acts by its bare number where modes decide", DefaultText: "refused"},
	}
}

func ruleBody(cmd *cli.Command) (api.RuleBody, error) {
	var b api.RuleBody
	yes, no := true, false
	switch rw, ro := cmd.Bool("rw"), cmd.Bool("ro"); {
	case rw && ro:
		return b, usage("--rw and --ro contradict each other")
	case rw:
		b.Write = &yes
	case ro:
		b.Write = &no
	}
	text := func(name string, to **string) {
		if cmd.IsSet(name) {
			v := cmd.String(name)
			*to = &v
		}
	}
	text("squash", &b.Squash)
	text("unknown", &b.Unknown)
	number := func(name string, to **uint32) {
		if cmd.IsSet(name) {
			v := cmd.Uint32(name)
			*to = &v
		}
	}
	number("anon-uid", &b.AnonUID)
	number("anon-gid", &b.AnonGID)
	if cmd.IsSet("privileged-port") {
		v := cmd.Bool("privileged-port")
		b.PrivilegedPort = &v
	}
	if cmd.IsSet("sec") {
		b.Security = cmd.StringSlice("sec")
	}
	return b, nil
}

// knowing calls a route and, where it wants the caller to know what they do, asks them and calls it
// again with that said.
func (a *app) knowing(ctx context.Context, cmd *cli.Command, method, path string, b *api.RuleBody, out any) error {
	err := a.client.call(ctx, method, path, nil, b, out)
	if f := (*failure)(nil); errors.As(err, &f) && f.confirm {
		if err := a.confirm(cmd, f.msg); err != nil {
			return err
		}
		b.Everyone = true
		return a.client.call(ctx, method, path, nil, b, out)
	}
	return err
}

// ruleCommands work on the client rules of an export, or of a host set.
func (a *app) ruleCommands(list, route string, print func(ctx context.Context, cmd *cli.Command, name string) error) *cli.Command {
	rules := func(name string) string { return route + escapeExport(name) + "/rules" }
	position := &cli.IntFlag{Name: "at", Usage: "where among the rules, counted from 1", DefaultText: "last"}
	return group("rule", "who may mount, and on what terms; the first rule that matches decides",
		a.leaf("add", "write a client rule; FROM is an address, a network, a host name, a pattern such as '*.larkfell.example', '*' for everyone, or @NAME for a host set",
			list+" FROM", append(ruleFlags(), position), func(ctx context.Context, cmd *cli.Command, args []string) error {
				b, err := ruleBody(cmd)
				if err != nil {
					return err
				}
				b.From, b.Position = args[1], cmd.Int("at")
				var made api.Made
				if err := a.knowing(ctx, cmd, http.MethodPost, rules(args[0]), &b, &made); err != nil {
					return err
				}
				return print(ctx, cmd, args[0])
			}),
		a.leaf("set", "change a client rule", list+" NUMBER", append(ruleFlags(), &cli.StringFlag{Name: "from", Usage: "from whom"}), func(ctx context.Context, cmd *cli.Command, args []string) error {
			b, err := ruleBody(cmd)
			if err != nil {
				return err
			}
			b.From = cmd.String("from")
			if err := a.knowing(ctx, cmd, http.MethodPatch, rules(args[0])+"/"+escape(args[1]), &b, nil); err != nil {
				return err
			}
			return print(ctx, cmd, args[0])
		}),
		a.leaf("move", "put a client rule elsewhere among the others", list+" NUMBER POSITION", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
			to, err := strconv.Atoi(args[2])
			if err != nil || to < 1 {
				return usage("position %q is no number from 1 up", args[2])
			}
			if err := a.client.call(ctx, http.MethodPut, rules(args[0])+"/"+escape(args[1])+"/position", nil, map[string]int{"position": to}, nil); err != nil {
				return err
			}
			return print(ctx, cmd, args[0])
		}),
		a.leaf("remove", "remove a client rule", list+" NUMBER", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
			if err := a.client.call(ctx, http.MethodDelete, rules(args[0])+"/"+escape(args[1]), nil, nil, nil); err != nil {
				return err
			}
			return print(ctx, cmd, args[0])
		}),
	)
}

// escapeExport is an export's path as one part of a route: the slash in front says nothing.
func escapeExport(name string) string { return url.PathEscape(strings.TrimPrefix(name, "/")) }

func (a *app) exportCommands() []*cli.Command {
	show := func(ctx context.Context, cmd *cli.Command, name string) error {
		return exports.shown(ctx, a, cmd, []string{name})
	}
	export := group("export", "folders published over NFS",
		a.leaf("add", "publish a folder, or a path below it, over NFS", "FOLDER[/PATH]", []cli.Flag{
			&cli.StringFlag{Name: "at", Usage: "the path that clients mount", DefaultText: "/ and the folder's name"},
			&cli.StringFlag{Name: "description", Usage: "what it is for"},
			&cli.BoolFlag{Name: "sync", Usage: "have every write on disk before it is answered"},
			&cli.BoolFlag{Name: "client-groups", Usage: "take groups from the client's list, at most 16, and not from the records"},
			markFlag(),
		}, func(ctx context.Context, cmd *cli.Command, args []string) error {
			b := body{"folder": args[0], "path": cmd.String("at"), "description": cmd.String("description"), "sync": cmd.Bool("sync"), "clientGroups": cmd.Bool("client-groups")}
			if err := fillLabels(cmd, b); err != nil {
				return err
			}
			return ask(ctx, a, cmd, http.MethodPost, "exports", nil, b, printExport)
		}),
		exports.set(a, "change an export", "what, such as --sync", []cli.Flag{
			&cli.StringFlag{Name: "at", Usage: "another path that clients mount; those that have it mounted go on"},
			&cli.StringFlag{Name: "description", Usage: "what it is for"},
			&cli.BoolFlag{Name: "sync", Usage: "have every write on disk before it is answered (=false ends that)"},
			&cli.BoolFlag{Name: "client-groups", Usage: "take groups from the client's list (=false ends that)"},
		}, func(cmd *cli.Command, b body) error {
			for flag, field := range map[string]string{"sync": "sync", "client-groups": "clientGroups"} {
				if cmd.IsSet(flag) {
					b[field] = cmd.Bool(flag)
				}
			}
			given(cmd, b.put, "description")
			given(cmd, func(_, value string) { b["path"] = value }, "at")
			return nil
		}),
		exports.list(a, "list the exports"), exports.show(a, "show an export with its client rules"), exports.remove(a),
		a.leaf("test", "say which client rule applies to an address, and why", "EXPORT", []cli.Flag{
			&cli.StringFlag{Name: "from", Usage: "an address, or a host name", Required: true},
			&cli.IntFlag{Name: "port", Usage: "the source port", DefaultText: "a privileged one"},
		}, func(ctx context.Context, cmd *cli.Command, args []string) error {
			q := url.Values{"from": {cmd.String("from")}}
			if cmd.IsSet("port") {
				q.Set("port", strconv.Itoa(cmd.Int("port")))
			}
			return ask(ctx, a, cmd, http.MethodGet, "exports/"+escapeExport(args[0])+"/test", q, nil, printTried)
		}),
		a.ruleCommands("EXPORT", "exports/", show),
	)
	showSet := func(ctx context.Context, cmd *cli.Command, name string) error {
		return hostSets.shown(ctx, a, cmd, []string{name})
	}
	hosts := group("hosts", "host sets: named lists of client rules, to be used in exports as @NAME",
		a.leaf("add", "make a host set", "NAME", []cli.Flag{&cli.StringFlag{Name: "description", Usage: "whose hosts they are"}}, func(ctx context.Context, cmd *cli.Command, args []string) error {
			b := map[string]string{"name": args[0], "description": cmd.String("description")}
			return ask(ctx, a, cmd, http.MethodPost, "host-sets", nil, b, printHostSet)
		}),
		hostSets.list(a, "list the host sets"), hostSets.show(a, "show a host set with its client rules"), hostSets.remove(a),
		hostSets.set(a, "give a host set another name, or description", "--name or --description", []cli.Flag{
			nameFlag(), &cli.StringFlag{Name: "description", Usage: "whose hosts they are"},
		}, func(cmd *cli.Command, b body) error {
			given(cmd, b.put, "name", "description")
			return nil
		}),
		a.ruleCommands("NAME", "host-sets/", showSet),
	)
	mode := group("mode", "owner, group and mode, in folders where those decide",
		a.leaf("show", "show owner, group, mode and POSIX ACL", "PATH", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
			return ask(ctx, a, cmd, http.MethodGet, "mode", url.Values{"path": {args[0]}}, nil, printMode)
		}),
		a.leaf("set", "set the mode, in octal", "PATH [MODE]", []cli.Flag{
			&cli.StringFlag{Name: "owner", Usage: "to whom it belongs"},
			&cli.StringFlag{Name: "group", Usage: "and to which group"},
		}, func(ctx context.Context, cmd *cli.Command, args []string) error {
			b := map[string]string{"path": args[0], "owner": cmd.String("owner"), "group": cmd.String("group")}
			if len(args) > 1 {
				b["mode"] = args[1]
			} else if b["owner"] == "" && b["group"] == "" {
				return usage("nothing to change: give a mode such as 2775, or --owner or --group")
			}
			return ask(ctx, a, cmd, http.MethodPut, "mode", nil, b, printMode)
		}),
	)
	return []*cli.Command{export, hosts, mode}
}

var exports = resource[api.Export]{
	one: "export", many: "exports", route: "exports/", arg: "EXPORT", escape: escapeExport, labels: func(e api.Export) map[string]string { return e.Labels },
	head: []string{"path", "folder", "from", "options", "description"}, empty: "no exports yet: amber export add FOLDER",
	row: func(e api.Export) []string {
		return []string{e.Path, inFolder(e), strings.Join(fromOf(e.Rules), ", "), exportOptions(e), e.Description}
	},
	print: printExport, removes: "This ends the publication %s. The folder and its data stay.",
}

var hostSets = resource[api.HostSet]{
	one: "host set", many: "host sets", route: "host-sets/", arg: "NAME",
	head: []string{"name", "from", "used by", "description"}, empty: "no host sets yet: amber hosts add NAME",
	row: func(h api.HostSet) []string {
		return []string{h.Name, strings.Join(fromOf(h.Rules), ", "), strings.Join(h.UsedBy, ", "), h.Description}
	},
	print: printHostSet, removes: "This removes the host set %s.",
}

func fromOf(rules []api.ClientRule) (out []string) {
	for _, r := range rules {
		out = append(out, r.From)
	}
	return out
}

func inFolder(e api.Export) string {
	if e.Below == "" {
		return e.Folder
	}
	return e.Folder + "/" + e.Below
}

func exportOptions(e api.Export) string {
	options := namesThat(map[string]bool{"sync": e.Sync, "groups of the client": e.ClientGroups, "service off": !e.On})
	if len(options) == 0 {
		return "-"
	}
	return strings.Join(options, ", ")
}

func printExport(w io.Writer, e api.Export) {
	fields(w, "export", e.Path, "folder", inFolder(e), "description", e.Description, "options", exportOptions(e), "labels", labelText(e.Labels))
	fmt.Fprintln(w)
	printRules(w, e.InForce, "no client rules: nobody may mount it. amber export rule add "+e.Path+" FROM")
}

func printHostSet(w io.Writer, h api.HostSet) {
	fields(w, "host set", h.Name, "description", h.Description, "used by", strings.Join(h.UsedBy, ", "))
	fmt.Fprintln(w)
	printRules(w, h.Rules, "no client rules yet: amber hosts rule add "+h.Name+" FROM")
	for i, u := range h.Uses {
		if i == 0 {
			fmt.Fprintln(w, "\nTo take it out of where it stands:")
		}
		if u.Share != "" {
			if u.Left == "" { // without it, the share would be used from everywhere
				fmt.Fprintf(w, "  it is all that share %s is kept to\n", u.Share)
			} else {
				fmt.Fprintf(w, "  amber share set %s --hosts %s\n", plain.Word(u.Share), plain.Word(u.Left))
			}
			continue
		}
		fmt.Fprintf(w, "  amber export rule remove %s %d\n", strings.Join(quoted([]string{u.Export}), ""), u.RuleID)
	}
}

// printRules lists client rules, with what is to be said about them below.
func printRules(w io.Writer, rules []api.ClientRule, empty string) {
	t := newTable("", "rule", "from", "of set", "on what terms")
	t.empty, t.wrapLast = empty, true
	for i, r := range rules {
		order := r.Number
		if order == 0 {
			order = i + 1
		}
		t.row(fmt.Sprint(order)+".", fmt.Sprint(r.ID), r.From, r.Set, r.Terms)
	}
	t.print(w)
	for _, r := range rules {
		if r.ShadowedBy > 0 {
			fmt.Fprintf(w, "\nThe %s never applies: the %s matches all that it does, and comes first.\n", nth(r.Number), nth(r.ShadowedBy))
		}
		if r.Everyone {
			fmt.Fprintf(w, "\n%s lets in every host that can reach this gateway.\n", r.From)
		}
	}
}

// nth spells which of several something is: 1st, 2nd, 3rd, 11th, 22nd.
func nth(n int) string {
	end := "th"
	if n/10%10 != 1 {
		switch n % 10 {
		case 1:
			end = "st"
		case 2:
			end = "nd"
		case 3:
			end = "rd"
		}
	}
	return strconv.Itoa(n) + end
}

func printTried(w io.Writer, t api.Tried) {
	from := t.Address
	if len(t.Names) > 0 && (t.Rule == nil || t.Rule.ByName) {
		from += " (" + strings.Join(t.Names, ", ") + ")"
	}
	if !t.Lets {
		fmt.Fprintf(w, "%s does not let %s in: %s.\n", t.Export, from, t.Reason)
	} else {
		fmt.Fprintf(w, "%s lets %s in by its %s rule: %s.\n", t.Export, from, nth(t.Rule.Number), t.Reason)
	}
	if t.Rule != nil {
		of := ""
		if t.Rule.Set != "" {
			of = ", of host set " + t.Rule.Set
		}
		fmt.Fprintf(w, "  rule %d%s: %s\n", t.Rule.ID, of, t.Rule.Terms)
	}
}

func printMode(w io.Writer, m api.Mode) {
	fields(w, "path", m.Path, "mode", m.Mode+"  "+m.Text, "owner", fmt.Sprintf("%s (%d)", m.Owner, m.UID), "group", fmt.Sprintf("%s (%d)", m.Group, m.GID))
	for _, l := range []struct {
		title string
		lines []api.ModeLine
	}{{"POSIX ACL", m.ACL}, {"what is made here starts with", m.Default}} {
		if len(l.lines) == 0 {
			continue
		}
		fmt.Fprintf(w, "%s\n", l.title)
		for _, e := range l.lines {
			fmt.Fprintf(w, "  %s:%s:%s\n", e.Tag, e.Name, e.Perm)
		}
	}
}
