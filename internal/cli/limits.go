package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/core/limit"
)

// reachFlags say where a limit reaches.
func reachFlags() []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "volume", Usage: "it reaches this volume, instead of everywhere"},
		&cli.StringFlag{Name: "folder", Usage: "it reaches this folder, instead of everywhere"},
	}
}

// limitSubject reads KIND [NAME] as commands about limits take it.
func limitSubject(cmd *cli.Command, args []string) (api.LimitOf, error) {
	of := api.LimitOf{Kind: args[0], Volume: cmd.String("volume"), Folder: cmd.String("folder")}
	if len(args) > 1 {
		of.Name = args[1]
	}
	switch {
	case !slices.Contains([]string{"user", "group", "folder", "default"}, of.Kind):
		return of, usage("%q is not one of user, group, folder, default", of.Kind)
	case of.Kind != "default" && of.Name == "":
		return of, &failure{code: exitUsage, msg: "which " + of.Kind + "?", next: cmd.FullName() + " --help"}
	}
	return of, nil
}

func (a *app) limitCommands() []*cli.Command {
	limitCommand := group("limit", "who may store how much",
		describe(a.leaf("set", "set a limit, or change the one there is; it binds at once", "KIND [NAME]", append([]cli.Flag{
			&cli.StringFlag{Name: "soft", Usage: "a size such as 20G, 1.5TB or 512MiB, above which growing goes on for the grace only; none for none"},
			&cli.StringFlag{Name: "hard", Usage: "a size that is never passed; 0 for nothing at all, none for none"},
			&cli.StringFlag{Name: "soft-files", Usage: "the same for the number of files, directories and links: 5000, 20k, none"},
			&cli.StringFlag{Name: "hard-files", Usage: "likewise"},
			&cli.StringFlag{Name: "grace", Usage: "for how long growing goes on above what is soft: 7d, 36h, 0", DefaultText: "7d"},
		}, reachFlags()...), func(ctx context.Context, cmd *cli.Command, args []string) error {
			of, err := limitSubject(cmd, args)
			if err != nil {
				return err
			}
			b := api.LimitBody{LimitOf: of, SoftBytes: cmd.String("soft"), HardBytes: cmd.String("hard"), SoftFiles: cmd.String("soft-files"), HardFiles: cmd.String("hard-files"), Grace: cmd.String("grace")}
			return ask(ctx, a, cmd, http.MethodPut, "limits", nil, b, func(w io.Writer, l api.Limit) {
				fmt.Fprintf(w, "%s: %s\n", l.Subject, l.Says)
				if l.Waits != "" {
					fmt.Fprintln(w, "It does not bind yet:", l.Waits)
				}
			})
		}), `KIND is user, group, folder or default. A folder's NAME is FOLDER, or FOLDER/PATH for a directory
with all that is in it. A default binds users who have no limit of their own, also those who come later:
all, or the members of the group NAME.`),
		limits.list(a, "list the limits"),
		a.leaf("remove", "remove a limit", "KIND [NAME]", reachFlags(), func(ctx context.Context, cmd *cli.Command, args []string) error {
			of, err := limitSubject(cmd, args)
			if err != nil {
				return err
			}
			q := url.Values{"kind": {of.Kind}}
			for name, value := range map[string]string{"name": of.Name, "volume": of.Volume, "folder": of.Folder} {
				if value != "" {
					q.Set(name, value)
				}
			}
			if err := a.client.call(ctx, http.MethodDelete, "limits", q, nil, nil); err != nil {
				return err
			}
			return a.done(cmd, "removed the limit of %s", strings.TrimSpace(of.Kind+" "+of.Name))
		}),
	)
	return []*cli.Command{limitCommand, a.useCommand(), a.largestCommand(), a.countCommand()}
}

var limits = resource[api.Limit]{
	one: "limit", many: "limits", route: "limits/",
	head: []string{"whose", "soft", "hard", "soft files", "hard files", "grace"}, empty: "no limits yet: amber limit set user NAME --hard 20G",
	row: func(l api.Limit) []string {
		return []string{l.Subject, sizeCell(l.SoftBytes), hardCell(l), numberCell(l.SoftFiles), numberCell(l.HardFiles), graceCell(l)}
	},
	below: func(w io.Writer, all []api.Limit) {
		for _, l := range all {
			if l.Waits != "" {
				fmt.Fprintf(w, "%s does not bind yet: %s\n", l.Subject, l.Waits)
			}
		}
	},
}

var counts = resource[api.Count]{
	one: "count", many: "counts", now: true, route: "counts/", wrapLast: true,
	head: []string{"folder", "volume", "counts", "state", "files", "last counted", "then"}, empty: "no folders yet: amber folder add NAME --volume VOLUME",
	row: func(c api.Count) []string {
		ended, then := "", c.Differed
		if c.Ended != nil {
			ended = c.Ended.Local().Format("2006-01-02 15:04")
			if then == "" {
				then = "as held"
			}
		}
		if c.Problem != "" {
			then = c.Problem
		}
		state := c.State
		if c.State == "counting" || c.State == "paused" {
			state = fmt.Sprintf("%s, %d so far", c.State, c.DoneFiles)
		}
		return []string{c.Folder, c.Volume, c.Counting, state, strconv.FormatInt(c.UsedFiles, 10), ended, then}
	},
}

// describe adds a text to the help of a command.
func describe(c *cli.Command, text string) *cli.Command {
	c.Description = text
	return c
}

func sizeCell(n *int64) string {
	if n == nil {
		return ""
	}
	return limit.FormatSize(*n)
}

// hardCell says "none" where a limit only lets its user off the defaults.
func hardCell(l api.Limit) string {
	if l.SoftBytes == nil && l.HardBytes == nil && l.SoftFiles == nil && l.HardFiles == nil {
		return "none"
	}
	return sizeCell(l.HardBytes)
}

func numberCell(n *int64) string {
	if n == nil {
		return ""
	}
	return strconv.FormatInt(*n, 10)
}

func graceCell(l api.Limit) string {
	if l.SoftBytes == nil && l.SoftFiles == nil {
		return ""
	}
	return limit.FormatGrace(time.Duration(l.GraceSeconds) * time.Second)
}

func (a *app) useCommand() *cli.Command {
	return a.leaf("use", "show who, or what, has how much in use, the fullest first; of NAME, how it went", "[NAME]", []cli.Flag{
		&cli.StringFlag{Name: "by", Usage: "user, group, folder, tree (a path with a limit) or volume", Value: "user"},
		&cli.StringFlag{Name: "sort", Usage: "percent, bytes, files, week or name", Value: "percent"},
		&cli.IntFlag{Name: "top", Usage: "only so many"},
		&cli.StringFlag{Name: "over", Usage: "only those who are at so many per cent of a limit, or above: 80%"},
		labelledBy(),
		&cli.IntFlag{Name: "days", Usage: "of NAME: how far back, up to 90", Value: 7},
	}, func(ctx context.Context, cmd *cli.Command, args []string) error {
		q := url.Values{"by": {cmd.String("by")}}
		if len(args) > 0 {
			q.Set("name", args[0])
			q.Set("days", strconv.Itoa(cmd.Int("days")))
			return ask(ctx, a, cmd, http.MethodGet, "use/history", q, nil, printHistory)
		}
		q.Set("sort", cmd.String("sort"))
		if labels := cmd.StringSlice("label"); len(labels) > 0 {
			q["label"] = labels
		}
		if n := cmd.Int("top"); cmd.IsSet("top") {
			if n < 1 {
				return usage("--top %d is not a number of rows", n)
			}
			q.Set("limit", strconv.Itoa(n))
		}
		if cmd.IsSet("over") {
			over, err := strconv.ParseFloat(strings.TrimSuffix(strings.TrimSpace(cmd.String("over")), "%"), 64)
			if err != nil || over < 0 {
				return usage("--over %q is not a percentage, such as 80%%", cmd.String("over"))
			}
			q.Set("over", strconv.FormatFloat(over, 'f', -1, 64))
		}
		return ask(ctx, a, cmd, http.MethodGet, "use", q, nil, printUses)
	})
}

func printUses(w io.Writer, u api.Uses) {
	head := "user"
	if len(u.Uses) > 0 {
		head = u.Uses[0].By
	}
	t := newTable(head, "in use", "files", "week", "full", "soft", "hard", "limit", "state")
	t.empty = "nothing is counted yet: amber count list"
	t.wrapLast = true
	for _, row := range u.Uses {
		cells := []string{row.Name, limit.FormatSize(row.UsedBytes), strconv.FormatInt(row.UsedFiles, 10), weekCell(row.WeekBytes)}
		if len(row.Standings) == 0 {
			t.row(append(cells, "", "", "", "", countingState(row))...)
			continue
		}
		s := row.Standings[0]
		t.row(append(cells, fmt.Sprintf("%.0f%%", s.Percent), bound(s.SoftBytes, s.SoftFiles), bound(s.HardBytes, s.HardFiles), limitedBy(row, s), stateCell(s))...)
	}
	t.print(w)
	if more := u.Total - len(u.Uses); more > 0 {
		fmt.Fprintf(w, "and %d more\n", more)
	}
}

func countingState(u api.Use) string {
	if u.Counting {
		return "still being counted"
	}
	return ""
}

// limitedBy says which limit it is that leaves least, where it is not simply their own.
func limitedBy(u api.Use, s api.Standing) string {
	for _, own := range []string{u.By + " " + u.Name, "folder " + u.Name} {
		if rest, ok := strings.CutPrefix(s.Subject, own); ok {
			return strings.TrimSpace(rest)
		}
	}
	return s.Subject
}

func bound(bytes, files *int64) string {
	switch {
	case bytes != nil && files != nil:
		return limit.FormatSize(*bytes) + ", " + strconv.FormatInt(*files, 10) + " files"
	case files != nil:
		return strconv.FormatInt(*files, 10) + " files"
	}
	return sizeCell(bytes)
}

func stateCell(s api.Standing) string {
	if s.State == "in grace" && s.GraceLeftSeconds != nil {
		return "in grace, " + limit.FormatGrace(time.Duration(*s.GraceLeftSeconds)*time.Second) + " left"
	}
	if s.State == "within" {
		return ""
	}
	return s.State
}

func weekCell(n *int64) string {
	switch {
	case n == nil:
		return ""
	case *n > 0:
		return "+" + limit.FormatSize(*n)
	case *n == 0:
		return "0"
	}
	return limit.FormatSize(*n)
}

func printHistory(w io.Writer, h api.UseHistory) {
	fields(w, h.By, h.Name, "in use", limit.FormatSize(h.UsedBytes), "files", strconv.FormatInt(h.UsedFiles, 10), "in a week", weekCell(h.WeekBytes))
	for _, s := range h.Standings {
		fmt.Fprintf(w, "limit      %s: %s of soft %s, hard %s; %.0f%% %s\n", s.Subject, limit.FormatSize(s.UsedBytes), orNone(bound(s.SoftBytes, s.SoftFiles)), orNone(bound(s.HardBytes, s.HardFiles)), s.Percent, stateCell(s))
	}
	if h.FullAt != nil {
		fmt.Fprintf(w, "full       %s, if it goes on as in the last week\n", h.FullAt.Local().Format("2006-01-02"))
	}
	if len(h.Samples) < 2 {
		return
	}
	fmt.Fprintln(w)
	var most int64 = 1
	for _, s := range h.Samples {
		most = max(most, s.UsedBytes)
	}
	const width, rows = 40, 24
	step := max(1, (len(h.Samples)+rows-1)/rows)
	t := newTable("when", "in use", "files", "")
	for i, s := range h.Samples {
		if i%step != 0 && i != len(h.Samples)-1 {
			continue
		}
		t.row(s.At.Local().Format("2006-01-02 15:04"), limit.FormatSize(s.UsedBytes), strconv.FormatInt(s.UsedFiles, 10), strings.Repeat("▇", int(float64(s.UsedBytes)/float64(most)*width)))
	}
	t.print(w)
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

func (a *app) countCommand() *cli.Command {
	paused := func(name, text, said string, on bool) *cli.Command {
		return a.leaf(name, text, "VOLUME", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
			if err := a.client.call(ctx, http.MethodPut, "counts/"+escape(args[0])+"/paused", nil, map[string]bool{"paused": on}, nil); err != nil {
				return err
			}
			return a.done(cmd, said, args[0])
		})
	}
	return group("count", "how what is stored is counted",
		counts.list(a, "list how far the counting of each folder is"),
		a.leaf("start", "count the folders of a volume again, beside everything else", "VOLUME", []cli.Flag{
			&cli.IntFlag{Name: "rate", Usage: "how many files in a second, at most; kept for later counts", DefaultText: "as fast as it goes; 20000 for those of each night"},
		}, func(ctx context.Context, cmd *cli.Command, args []string) error {
			b := make(body)
			if cmd.IsSet("rate") {
				b["rateFiles"] = cmd.Int("rate")
			}
			if err := a.client.call(ctx, http.MethodPost, "counts/"+escape(args[0]), nil, b, nil); err != nil {
				return err
			}
			return a.done(cmd, "the folders of %s are being counted: amber count list", args[0])
		}),
		paused("pause", "hold the counting of a volume up; what was counted last goes on to bind", "the counting of %s is held up", true),
		paused("resume", "have the counting of a volume go on", "the counting of %s goes on", false),
	)
}

func (a *app) largestCommand() *cli.Command {
	return a.leaf("largest", "look for the files and directories that take most room in FOLDER or FOLDER/PATH", "PATH", []cli.Flag{
		&cli.IntFlag{Name: "top", Usage: "how many of each", Value: 10},
	}, func(ctx context.Context, cmd *cli.Command, args []string) error {
		var w api.Job
		if err := a.client.send(ctx, http.MethodPost, "use/largest", nil, body{"path": args[0], "top": cmd.Int("top")}, &w); err != nil {
			return err
		}
		return a.followed(ctx, cmd, &w)
	})
}

func printLargest(out io.Writer, l api.Largest) {
	for _, part := range []struct {
		what string
		list []api.Sized
	}{{"directory, with all below it", l.Directories}, {"file", l.Files}} {
		t := newTable("takes", "files", part.what)
		t.empty = "no " + part.what
		for _, s := range part.list {
			t.row(limit.FormatSize(s.UsedBytes), strconv.FormatInt(s.UsedFiles, 10), s.Path)
		}
		t.print(out)
		fmt.Fprintln(out)
	}
	fmt.Fprintf(out, "%s in %d files, directories and links\n", limit.FormatSize(l.UsedBytes), l.UsedFiles)
}
