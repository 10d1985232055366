package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"maps"
	"net/http"
	"slices"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/service"
)

var numberMaps = resource[api.NumberMap]{
	one: "number map", many: "number maps", route: "number-maps/", arg: "MAP",
	head: []string{"name", "hosts", "users", "groups", "others", "description"}, empty: "no number maps: every host's numbers are those of the records", wrapLast: true,
	row: func(m api.NumberMap) []string {
		return []string{m.Name, strings.Join(m.From, ", "), fmt.Sprint(len(m.Users)), fmt.Sprint(len(m.Groups)), m.Others, m.Description}
	},
	print: printNumberMap, removes: "This removes the number map %s: its hosts' numbers are those of the records again.",
}

var othersSay = map[string]string{"same": "are whose they are here", "unknown": "are nobody's"}

func printNumberMap(w io.Writer, m api.NumberMap) {
	fields(w, "number map", m.Name, "description", m.Description, "hosts", strings.Join(m.From, ", "), "other numbers", othersSay[m.Others])
	side := func(kind, what string, of map[string]string) {
		if len(of) == 0 {
			return
		}
		fmt.Fprintln(w)
		t := newTable(kind+" there", what)
		for _, n := range slices.SortedFunc(maps.Keys(of), func(a, b string) int { return cmp.Or(cmp.Compare(len(a), len(b)), cmp.Compare(a, b)) }) {
			t.row(n, of[n])
		}
		t.print(w)
	}
	side("uid", "is here", m.Users)
	side("gid", "is here", m.Groups)
}

func numberMapFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "description", Usage: "why their numbers are others"},
		&cli.StringSliceFlag{Name: "from", Usage: "a host: an address, a network, a name or a pattern of names; again for more"},
		&cli.StringSliceFlag{Name: "uid", Usage: "whose number a uid of the hosts is here: UID=USER, UID=" + service.Nobodys + " for nobody's, UID=none for what the map is to have no more; again for more"},
		&cli.StringSliceFlag{Name: "gid", Usage: "the same of a gid: GID=GROUP"},
		&cli.StringFlag{Name: "like", Usage: "a client whose numbers are remembered (amber ids check --host): those that are otherwise here are put in"},
		&cli.StringFlag{Name: "others", Usage: "what other numbers are: same, whose they are here, or unknown, nobody's", DefaultText: "same"},
	}
}

func fillNumberMap(cmd *cli.Command, b body) error {
	given(cmd, b.put, "description", "others", "like")
	if cmd.IsSet("from") {
		b["from"] = cmd.StringSlice("from")
	}
	side := func(flag, field, what string) error {
		if !cmd.IsSet(flag) {
			return nil
		}
		of := make(map[string]string)
		for _, text := range cmd.StringSlice(flag) {
			number, name, ok := strings.Cut(text, "=")
			if _, err := strconv.ParseUint(number, 10, 32); err != nil || !ok || name == "" {
				return usage("--%s takes NUMBER=%s, not %q", flag, what, text)
			}
			if _, twice := of[number]; twice {
				return usage("--%s says twice what %s is", flag, number)
			}
			if name == "none" {
				name = ""
			}
			of[number] = name
		}
		b[field] = of
		return nil
	}
	return cmp.Or(side("uid", "users", "USER"), side("gid", "groups", "GROUP"))
}

func (a *app) numberMapCommand() *cli.Command {
	return group("map", "who the numbers of some hosts are here, where their own cannot be changed",
		a.leaf("add", "add a number map", "MAP", numberMapFlags(), func(ctx context.Context, cmd *cli.Command, args []string) error {
			b := body{"name": args[0]}
			if err := fillNumberMap(cmd, b); err != nil {
				return err
			}
			return ask(ctx, a, cmd, http.MethodPost, "number-maps", nil, b, printNumberMap)
		}),
		numberMaps.list(a, "list the number maps"), numberMaps.show(a, "show a number map"), numberMaps.remove(a),
		numberMaps.set(a, "change a number map", "what, such as --uid 1001=piran", append(numberMapFlags(), nameFlag()), func(cmd *cli.Command, b body) error {
			given(cmd, b.put, "name")
			return fillNumberMap(cmd, b)
		}),
	)
}

func (a *app) idsCommand() *cli.Command {
	return group("ids", "the numbers by which NFS clients know users and groups",
		a.numberMapCommand(), a.straysCommand(), a.handOverCommand(),
		a.leaf("check", "compare a client's passwd and group files (getent passwd, getent group) with the records; without a file, all that is remembered", "[FILE] [FILE]", []cli.Flag{
			&cli.StringFlag{Name: "host", Usage: "remember them under this name, so that the findings tell of them from now on"},
		}, func(ctx context.Context, cmd *cli.Command, args []string) error {
			if len(args) == 0 {
				if cmd.IsSet("host") {
					return usage("--host is the name of whose file is given: amber ids check FILE --host HOST")
				}
				return ask(ctx, a, cmd, http.MethodGet, "ids", nil, nil, printRemembered)
			}
			body := make(map[string]string)
			if cmd.IsSet("host") {
				body["host"] = cmd.String("host")
			}
			for _, name := range args {
				raw, err := a.readFile(name)
				if err != nil {
					return err
				}
				// The two differ in how many fields a line has.
				first, _, _ := strings.Cut(strings.TrimLeft(raw, "\n"), "\n")
				kind := "passwd"
				if strings.Count(first, ":") == 3 {
					kind = "group"
				}
				if body[kind] != "" {
					return usage("both files are %s files", kind)
				}
				body[kind] = string(raw)
			}
			return ask(ctx, a, cmd, http.MethodPost, "ids/check", nil, body, printNumbers)
		}),
		a.leaf("forget", "forget what a client has", "HOST", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
			if err := a.client.call(ctx, http.MethodDelete, "ids/"+escape(args[0]), nil, nil, nil); err != nil {
				return err
			}
			return a.done(cmd, "forgot the numbers of %s", args[0])
		}))
}

func printRemembered(w io.Writer, all []api.RememberedNumbers) {
	if len(all) == 0 {
		fmt.Fprintln(w, "no numbers of clients are remembered: amber ids check FILE --host HOST")
	}
	for i, h := range all {
		if i > 0 {
			fmt.Fprintln(w)
		}
		by := ""
		if h.Map != "" {
			by = ", translated by number map " + h.Map
		}
		fmt.Fprintf(w, "%s%s\n", h.Host, by)
		printNumbers(w, api.NumbersChecked{Compared: h.Compared, Mismatches: h.Mismatches})
		switch {
		case len(h.Mismatches) == 0:
		case h.Map != "":
			fmt.Fprintf(w, "\nor in the map of its numbers: amber ids map set %s --like %s\n", plain.Word(h.Map), plain.Word(h.Host))
		default:
			fmt.Fprintf(w, "\nor by a map of its numbers, which change on neither side: amber ids map add %s --from %s --like %s\n", plain.Word(h.Host), plain.Word(h.Host), plain.Word(h.Host))
		}
	}
}

func printNumbers(w io.Writer, c api.NumbersChecked) {
	fmt.Fprintf(w, "%d users and groups compared, %d mismatches\n", c.Compared, len(c.Mismatches))
	for _, m := range c.Mismatches {
		fmt.Fprintf(w, "\n%s %s is %d on the client", m.Kind, m.Name, m.There)
		if m.Here != nil {
			fmt.Fprintf(w, " and %d here", *m.Here)
		}
		if m.Taken != "" {
			fmt.Fprintf(w, "; %d is %s here", m.There, m.Taken)
		}
		fmt.Fprintln(w, "\n  here, either:")
		for _, line := range m.FixHere {
			fmt.Fprintln(w, "   ", line)
		}
		fmt.Fprintln(w, "  or on the client:")
		for _, line := range m.FixThere {
			fmt.Fprintln(w, "   ", line)
		}
	}
}
