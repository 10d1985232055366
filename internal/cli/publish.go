package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"

	"github.com/urfave/cli/v3"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/core/site"
)

func (a *app) publishCommands() []*cli.Command {
	share := group("share", "folders published over SMB",
		a.leaf("add", "publish a folder over SMB", "FOLDER", []cli.Flag{
			&cli.StringFlag{Name: "name", Usage: "the share's name, if not the folder's"},
			&cli.StringFlag{Name: "description", Usage: "what clients see beside the name"},
			&cli.BoolFlag{Name: "hidden", Usage: "do not announce it, as with a name that ends in $"},
			&cli.BoolFlag{Name: "read-only", Usage: "let nobody change anything through it"},
			&cli.BoolFlag{Name: "list-only-openable", Usage: "leave out of listings what the user may not open"},
			&cli.BoolFlag{Name: "encrypted", Usage: "let nothing go over the wire open: clients before SMB 3.0 are refused"},
			&cli.BoolFlag{Name: "persistent", Usage: "have what is open outlast a restart of the service"},
			&cli.BoolFlag{Name: "show-links", Usage: "tell clients of symbolic links, and do not follow them for them"},
			&cli.BoolFlag{Name: "guests", Usage: "let in who comes without an account"},
			hostsFlag(), offlineFlag(), mostFlag(), markFlag(),
		}, func(ctx context.Context, cmd *cli.Command, args []string) error {
			b := body{"folder": args[0], "hidden": cmd.Bool("hidden"), "readOnly": cmd.Bool("read-only"),
				"listOnlyOpenable": cmd.Bool("list-only-openable"), "encrypted": cmd.Bool("encrypted"), "persistent": cmd.Bool("persistent"),
				"showLinks": cmd.Bool("show-links"), "guests": cmd.Bool("guests"),
				"name": cmd.String("name"), "description": cmd.String("description")}
			serveShare(cmd, b)
			if err := fillLabels(cmd, b); err != nil {
				return err
			}
			return ask(ctx, a, cmd, http.MethodPost, "shares", nil, b, printShare)
		}),
		shares.set(a, "change a share", "what, such as --read-only", []cli.Flag{
			nameFlag(),
			&cli.StringFlag{Name: "description", Usage: "what clients see beside the name"},
			&cli.BoolFlag{Name: "announced", Usage: "appear in the list of shares (--announced=false hides it)"},
			&cli.BoolFlag{Name: "read-only", Usage: "let nobody change anything through it (--read-only=false ends that)"},
			&cli.BoolFlag{Name: "list-only-openable", Usage: "leave out of listings what the user may not open (=false ends that)"},
			&cli.BoolFlag{Name: "encrypted", Usage: "let nothing go over the wire open: clients before SMB 3.0 are refused (=false ends that)"},
			&cli.BoolFlag{Name: "persistent", Usage: "have what is open outlast a restart of the service (=false ends that)"},
			&cli.BoolFlag{Name: "show-links", Usage: "tell clients of symbolic links, and do not follow them for them (=false ends that)"},
			&cli.BoolFlag{Name: "guests", Usage: "let in who comes without an account (=false ends that)"},
			hostsFlag(), offlineFlag(), mostFlag(),
		}, func(cmd *cli.Command, b body) error {
			for flag, field := range map[string]string{"announced": "announced", "read-only": "readOnly",
				"list-only-openable": "listOnlyOpenable", "encrypted": "encrypted", "persistent": "persistent", "show-links": "showLinks", "guests": "guests"} {
				if cmd.IsSet(flag) {
					b[field] = cmd.Bool(flag)
				}
			}
			given(cmd, b.put, "name", "description")
			serveShare(cmd, b)
			return nil
		}),
		shares.list(a, "list the shares"), shares.show(a, "show a share"), shares.remove(a),
		group("entry", "share-level permission, on top of the folder's own: the narrower holds",
			a.leaf("add", "write a share-level entry; the first one ends that everyone is let through", "SHARE allow|deny WHO LEVEL", []cli.Flag{
				&cli.StringFlag{Name: "note", Usage: "why it is there"},
			}, func(ctx context.Context, cmd *cli.Command, args []string) error {
				b, err := entryBody(args[1:], cmd)
				if err != nil {
					return err
				}
				return ask(ctx, a, cmd, http.MethodPost, "shares/"+escape(args[0])+"/entries", nil, b, func(w io.Writer, m api.Made) {
					fmt.Fprintf(w, "entry %d on share %s: %s %s %s\n", m.ID, args[0], args[1], b.Who, b.Level)
				})
			}),
			a.leaf("list", "list the share-level entries of a share", "SHARE", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
				return ask(ctx, a, cmd, http.MethodGet, "shares/"+escape(args[0]), nil, nil, func(w io.Writer, s api.Share) {
					if len(s.Entries) == 0 {
						fmt.Fprintf(w, "share %s has no entries of its own: it adds no limits to those of folder %s\n", s.Name, s.Folder)
						return
					}
					printPlace(w, api.Place{Path: "share " + s.Name, Entries: s.Entries, Explicit: len(s.Entries)}, false)
				})
			}),
			a.leaf("set", "change a share-level entry", "SHARE NUMBER", []cli.Flag{
				&cli.StringFlag{Name: "level", Usage: "pass, read, add, change or control, or RFC 8881 bits"},
				&cli.StringFlag{Name: "ends", Usage: "the last day on which it counts, a time, or never"},
				&cli.StringFlag{Name: "note", Usage: "why it is there"},
			}, func(ctx context.Context, cmd *cli.Command, args []string) error {
				b, err := entryChange(cmd)
				if err != nil {
					return err
				}
				return ask(ctx, a, cmd, http.MethodPatch, "shares/"+escape(args[0])+"/entries/"+escape(args[1]), nil, b, printShare)
			}),
			a.leaf("remove", "remove a share-level entry", "SHARE NUMBER", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
				if err := a.client.call(ctx, http.MethodDelete, "shares/"+escape(args[0])+"/entries/"+escape(args[1]), nil, nil, nil); err != nil {
					return err
				}
				return a.done(cmd, "removed entry %s from share %s", args[1], args[0])
			}),
		),
	)
	toggle := func(name, text string, on bool) *cli.Command {
		return a.leaf(name, text, "smb|nfs", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
			if err := a.client.call(ctx, http.MethodPut, "services/"+escape(args[0]), nil, map[string]bool{"on": on}, nil); err != nil {
				return err
			}
			return a.done(cmd, "%s is %s", strings.ToUpper(args[0]), name)
		})
	}
	services := group("service", "the protocols",
		a.leaf("list", "list the protocols and whether they are on", "", nil, func(ctx context.Context, cmd *cli.Command, _ []string) error {
			return ask(ctx, a, cmd, http.MethodGet, "services", nil, nil, func(w io.Writer, services []api.Service) {
				t := newTable("service", "state", "listens at", "trouble")
				t.wrapLast = true
				for _, s := range services {
					state := "off"
					if s.On {
						state = "on"
					}
					if s.Encrypted {
						state += ", encrypted"
					}
					if s.Guest != "" {
						state += ", guests are " + s.Guest
					}
					listens := s.Listens
					if s.OverQUIC != "" {
						listens += ", over QUIC " + s.OverQUIC
					}
					t.row(s.Protocol, state, listens, s.Trouble)
				}
				t.print(w)
			})
		}),
		toggle("on", "switch a protocol on", true), toggle("off", "switch a protocol off", false),
		a.leaf("set", "set how a protocol is served", "smb", []cli.Flag{
			&cli.StringFlag{Name: "encrypted", Usage: "on or off: whether nothing goes over the wire open, whatever the shares say"},
			&cli.StringFlag{Name: "guest", Usage: "the user as whom those come in who have no account, on shares that take guests; none for nobody"},
		}, func(ctx context.Context, cmd *cli.Command, args []string) error {
			b := make(map[string]any)
			if err := switches(cmd, b, "encrypted"); err != nil {
				return err
			}
			if cmd.IsSet("guest") {
				if b["guest"] = cmd.String("guest"); b["guest"] == "none" {
					b["guest"] = ""
				}
			}
			if err := a.client.call(ctx, http.MethodPut, "services/"+escape(args[0]), nil, b, nil); err != nil {
				return err
			}
			return a.done(cmd, "%s is set", strings.ToUpper(args[0]))
		}),
	)
	connect := a.leaf("connect", "show what to type on clients to open a folder", "FOLDER", []cli.Flag{
		&cli.StringFlag{Name: "user", Usage: "for whom"},
		&cli.StringFlag{Name: "host", Usage: "the gateway as clients reach it, if not as this command does"},
	}, func(ctx context.Context, cmd *cli.Command, args []string) error {
		q := url.Values{}
		given(cmd, q.Set, "user", "host")
		return ask(ctx, a, cmd, http.MethodGet, "folders/"+escape(args[0])+"/connect", q, nil, func(w io.Writer, ways []api.Way) {
			if len(ways) == 0 {
				fmt.Fprintf(w, "%s is not published yet: amber share add %s, or amber export add %s\n", args[0], args[0], args[0])
			}
			for i, way := range ways {
				if i == 0 || ways[i-1].System != way.System || ways[i-1].Over != way.Over {
					fmt.Fprintf(w, "%s, over %s\n", way.System, way.Over)
				}
				fmt.Fprintf(w, "  %s\n    %s\n", way.Does, way.Text)
			}
		})
	})
	return []*cli.Command{share, connect, services}
}

var shares = resource[api.Share]{
	one: "share", many: "shares", route: "shares/", arg: "SHARE", labels: func(s api.Share) map[string]string { return s.Labels },
	head: []string{"name", "folder", "options", "description"}, empty: "no shares yet: amber share add FOLDER",
	row:   func(s api.Share) []string { return []string{s.Name, s.Folder, shareOptions(s), s.Description} },
	print: printShare, removes: "This ends the publication %s. The folder, its entries and its data stay.",
}

func hostsFlag() cli.Flag {
	return &cli.StringFlag{Name: "hosts", Usage: "from which hosts it is used: addresses, networks, names, patterns, @HOST-SET; FROM=ro only reads; * from everywhere"}
}

func offlineFlag() cli.Flag {
	return &cli.StringFlag{Name: "offline", Usage: "what clients may keep for when they are not connected: manual, auto, vdo or none"}
}

func mostFlag() cli.Flag {
	return &cli.IntFlag{Name: "most-connections", Usage: "how many sessions may be connected at once (0 for as many as come)"}
}

// serveShare takes what those flags say.
func serveShare(cmd *cli.Command, b body) {
	if cmd.IsSet("hosts") {
		terms := []api.HostTerm{}
		for _, t := range strings.FieldsFunc(cmd.String("hosts"), func(r rune) bool { return r == ',' || r == ' ' }) {
			terms = append(terms, api.HostTerm(site.ParseHostTerm(t)))
		}
		b["hosts"] = terms
	}
	if cmd.IsSet("most-connections") {
		b["mostConnections"] = cmd.Int("most-connections")
	}
	given(cmd, b.put, "offline")
}

func hostsText(terms []api.HostTerm) string {
	out := make([]site.HostTerm, len(terms))
	for i, t := range terms {
		out[i] = site.HostTerm(t)
	}
	return site.HostTerms(out)
}

func shareOptions(s api.Share) string {
	options := namesThat(map[string]bool{"read-only": s.ReadOnly, "hidden": !s.Announced,
		"lists only the openable": s.ListOnlyOpenable, "encrypted": s.Encrypted, "persistent": s.Persistent, "links shown": s.ShowLinks, "takes guests": s.Guests, "service off": !s.On})
	if len(s.Hosts) > 0 {
		options = append(options, "from "+strings.ReplaceAll(hostsText(s.Hosts), ",", ", "))
	}
	if s.Offline != string(site.OfflineManual) {
		options = append(options, "kept offline: "+s.Offline)
	}
	if s.MostConnections > 0 {
		options = append(options, fmt.Sprintf("at most %d connections", s.MostConnections))
	}
	if len(s.Entries) > 0 {
		options = append(options, fmt.Sprintf("%d share-level entries", len(s.Entries)))
	}
	if len(options) == 0 {
		return "-"
	}
	return strings.Join(options, ", ")
}

func printShare(w io.Writer, s api.Share) {
	fields(w, "share", s.Name, "folder", s.Folder, "description", s.Description, "options", shareOptions(s), "labels", labelText(s.Labels))
	if len(s.Entries) > 0 {
		fmt.Fprintln(w)
		printPlace(w, api.Place{Path: "share " + s.Name, Entries: s.Entries, Explicit: len(s.Entries)}, false)
	}
}

// howOf spells how something came about at the wire: "over SMB from 192.0.2.7, at the entry gate, 12 times".
func howOf(d *api.WireEvent) string {
	if d == nil {
		return ""
	}
	how := "over " + d.Via
	if d.From != "" {
		how += " from " + d.From
	}
	if d.Gate != "" && d.Gate != "open" {
		how += ", at the " + d.Gate + " gate"
	}
	if d.Count > 1 {
		how += fmt.Sprintf(", %d times", d.Count)
	}
	return how
}
