package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/plain"
)

// connectedFlags narrow what is connected or open.
func connectedFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "who", Usage: "only of this user, or of those who come with this number"},
		&cli.StringFlag{Name: "from", Usage: "only from this host: an address, a network or a name"},
		&cli.StringFlag{Name: "via", Usage: "only over smb or nfs"},
		&cli.StringFlag{Name: "on", Usage: "only what concerns this folder, or a path in it"},
	}
}

// connectedQuery is what those say, and whether they say anything.
func connectedQuery(cmd *cli.Command) (q url.Values, any bool) {
	q = url.Values{}
	given(cmd, q.Set, "who", "from", "via", "on")
	any = len(q) > 0
	q.Set("limit", "10000")
	return q, any
}

func (a *app) connectedCommands() []*cli.Command {
	return []*cli.Command{
		a.statusCommand(),
		a.throughputCommand(),
		group("session", "who is connected over SMB and NFS",
			a.leaf("list", "list sessions", "", connectedFlags(), func(ctx context.Context, cmd *cli.Command, _ []string) error {
				q, _ := connectedQuery(cmd)
				return ask(ctx, a, cmd, http.MethodGet, "sessions", q, nil, printSessions)
			}),
			a.leaf("end", "end sessions, with all they have open: those named, or all that match; who still may comes back", "[SESSION]...", connectedFlags(), func(ctx context.Context, cmd *cli.Command, args []string) error {
				var found api.Sessions
				return a.endEach(ctx, cmd, "sessions", args, &found, func() (ids []string, says string) {
					for _, s := range found.Sessions {
						ids = append(ids, s.ID)
					}
					return ids, "This ends " + plain.Counted(len(ids), "session", "sessions") + ", with all that is open in them."
				}, "ended")
			}),
		),
		group("open", "what clients hold open",
			a.leaf("list", "list open files, directories and pipes", "", connectedFlags(), func(ctx context.Context, cmd *cli.Command, _ []string) error {
				q, _ := connectedQuery(cmd)
				return ask(ctx, a, cmd, http.MethodGet, "opens", q, nil, printOpens)
			}),
			a.leaf("close", "close what is open: what is named, or all that matches; what was written stays", "[OPEN]...", connectedFlags(), func(ctx context.Context, cmd *cli.Command, args []string) error {
				var found api.Opens
				return a.endEach(ctx, cmd, "opens", args, &found, func() (ids []string, says string) {
					for _, o := range found.Opens {
						ids = append(ids, o.ID)
					}
					return ids, "This closes " + plain.Counted(len(ids), "open", "opens") + ": a program that has one open finds it closed."
				}, "closed")
			}),
		),
	}
}

// endEach ends what is named, or all that the flags match, once that has been agreed to. Found is filled with what matches, and all gives it.
func (a *app) endEach(ctx context.Context, cmd *cli.Command, path string, ids []string, found any, all func() (ids []string, says string), done string) error {
	q, narrowed := connectedQuery(cmd)
	switch {
	case len(ids) > 0 && narrowed:
		return usage("name some, or say which by --who, --from, --via and --on, but not both")
	case len(ids) == 0 && !narrowed:
		return usage("name some, or say which by --who, --from, --via and --on")
	case narrowed:
		if err := a.client.call(ctx, http.MethodGet, path, q, nil, found); err != nil {
			return err
		}
		var says string
		if ids, says = all(); len(ids) == 0 {
			return a.done(cmd, "nothing matches, and nothing was %s", done)
		}
		if err := a.goOn(cmd, says); err != nil {
			return err
		}
	}
	ended := 0
	for _, id := range ids {
		err := a.client.call(ctx, http.MethodDelete, path+"/"+escape(id), nil, nil, nil)
		if f, ok := err.(*failure); ok && narrowed && f.gone {
			continue // it has ended by itself since
		}
		if err != nil {
			return err
		}
		ended++
	}
	return a.done(cmd, "%s %d of %d", done, ended, len(ids))
}

// host is an address, with what it is called where that is known.
func host(address, name string) string {
	if name == "" {
		return address
	}
	return name + " (" + address + ")"
}

func whoIs(c api.Connected) string {
	switch {
	case c.User == "" && c.UID != nil:
		return "uid " + strconv.FormatUint(uint64(*c.UID), 10)
	case c.User == "":
		return "nobody"
	}
	return c.User
}

// clock is a moment of today by its time, and another by its day.
func clock(t time.Time) string {
	if time.Since(t) < 12*time.Hour {
		return t.Local().Format("15:04")
	}
	return t.Local().Format("2 Jan")
}

func several(names []string) string {
	const most = 4
	if len(names) > most {
		return strings.Join(names[:most], ", ") + " and " + strconv.Itoa(len(names)-most) + " more"
	}
	return strings.Join(names, ", ")
}

// lasted is a span of time, in the unit that matters most.
func lasted(d time.Duration) string {
	switch {
	case d < time.Minute:
		return fmt.Sprintf("%d s", int(d.Seconds()))
	case d < time.Hour:
		return fmt.Sprintf("%d min", int(d.Minutes()))
	case d < 48*time.Hour:
		return fmt.Sprintf("%d h", int(d.Hours()))
	}
	return fmt.Sprintf("%d d", int(d.Hours()/24))
}

func printSessions(w io.Writer, all api.Sessions) {
	t := newTable("session", "who", "from", "over", "since", "idle", "read", "written", "open", "through")
	t.empty = "nobody is connected"
	for _, s := range all.Sessions {
		var who []string
		for _, c := range s.Who {
			who = append(who, whoIs(c))
		}
		if s.Guest {
			who = append(who, "without an account")
		}
		t.row(s.ID, several(who), host(s.Address, s.Host), strings.ToUpper(s.Via)+" "+s.Version, clock(s.Since), lasted(time.Duration(s.Idle)*time.Second),
			limit.FormatSize(int64(s.Read)), limit.FormatSize(int64(s.Written)), strconv.Itoa(s.Opens), several(s.Through))
	}
	t.print(w)
	if more := all.Total - len(all.Sessions); more > 0 {
		fmt.Fprintf(w, "\nand %d that began earlier\n", more)
	}
}

func printOpens(w io.Writer, all api.Opens) {
	t := newTable("open", "path", "who", "from", "for", "keeps others from", "locks", "since")
	t.empty = "nothing is open"
	for _, o := range all.Opens {
		does := strings.Join(o.Does, ", ")
		if does == "" {
			does = "a look"
		}
		if o.Delegated {
			does += " (delegated)"
		}
		locks := ""
		if len(o.Locks) > 0 {
			locks = strconv.Itoa(len(o.Locks))
		}
		path := o.Path
		if o.Kind == "pipe" {
			path = "pipe " + path
		}
		t.row(o.ID, path, whoIs(o.Who), host(o.Address, o.Host), does, strings.Join(o.Keeps, ", "), locks, clock(o.Since))
	}
	t.print(w)
	if more := all.Total - len(all.Opens); more > 0 {
		fmt.Fprintf(w, "\nand %d that were opened earlier\n", more)
	}
}
