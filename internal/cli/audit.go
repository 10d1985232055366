package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/urfave/cli/v3"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/service"
)

func atFlag() cli.Flag {
	return &cli.StringFlag{Name: "at", Usage: "as of this moment: 2026-03-01, or 2026-03-01T18:30", DefaultText: "now"}
}

// moment reads a day, at its end, or a time.
func moment(s string) (time.Time, error) {
	for _, layout := range []string{time.RFC3339, "2006-01-02T15:04:05", "2006-01-02T15:04", "2006-01-02 15:04:05", "2006-01-02 15:04"} {
		if t, err := time.ParseInLocation(layout, s, time.Local); err == nil {
			return t, nil
		}
	}
	t, err := time.ParseInLocation("2006-01-02", s, time.Local)
	if err != nil {
		return t, usage("%q is no moment: write 2026-03-01, or 2026-03-01T18:30", s)
	}
	if t = t.AddDate(0, 0, 1).Add(-time.Second); t.After(time.Now()) && t.AddDate(0, 0, -1).Before(time.Now()) {
		t = time.Now().Truncate(time.Second) // today, so far
	}
	return t, nil
}

func setAt(cmd *cli.Command, q url.Values) error {
	if !cmd.IsSet("at") {
		return nil
	}
	t, err := moment(cmd.String("at"))
	q.Set("at", t.Format(time.RFC3339))
	return err
}

// beginning reads a moment of which a day alone is its first.
func beginning(s string) (time.Time, error) {
	if t, err := time.ParseInLocation("2006-01-02", s, time.Local); err == nil {
		return t, nil
	}
	return moment(s)
}

func (a *app) auditCommands() []*cli.Command {
	who := a.leaf("who", "list who may do what to a path, and through what", "PATH", []cli.Flag{
		&cli.StringFlag{Name: "level", Usage: "only those who have at least this: pass, read, add, change or control"},
		&cli.StringFlag{Name: "name", Usage: "only users whose name holds this"},
		atFlag(), withFlag(),
	}, func(ctx context.Context, cmd *cli.Command, args []string) error {
		q := url.Values{"path": {args[0]}, "limit": {"100000"}}
		given(cmd, q.Set, "level", "name")
		if err := setAt(cmd, q); err != nil {
			return err
		}
		return question(ctx, a, cmd, "who", q, printWho)
	})
	reach := a.leaf("reach", "list where a user gets, with the paths on which the level changes", "USER", []cli.Flag{atFlag(), withFlag()}, func(ctx context.Context, cmd *cli.Command, args []string) error {
		q := url.Values{"user": {args[0]}}
		if err := setAt(cmd, q); err != nil {
			return err
		}
		return question(ctx, a, cmd, "reach", q, printReach)
	})
	matrix := a.leaf("matrix", "show the level of each user, or group, on each folder", "", []cli.Flag{
		&cli.BoolFlag{Name: "groups", Usage: "of groups: what somebody may do who is in that one alone"},
		&cli.StringFlag{Name: "name", Usage: "only rows whose name holds this"},
		atFlag(), withFlag(),
	}, func(ctx context.Context, cmd *cli.Command, _ []string) error {
		q := url.Values{"limit": {fmt.Sprint(mostRows)}}
		if cmd.Bool("groups") {
			q.Set("groups", "true")
		}
		given(cmd, q.Set, "name")
		if err := setAt(cmd, q); err != nil {
			return err
		}
		return question(ctx, a, cmd, "matrix", q, printMatrix)
	})
	compare := a.leaf("compare", "say in what two moments, two users or two trees differ", "[ONE] [OTHER]", []cli.Flag{
		&cli.StringFlag{Name: "from", Usage: "what became other since this moment"},
		&cli.StringFlag{Name: "to", Usage: "and until this one", DefaultText: "now"},
		&cli.BoolFlag{Name: "users", Usage: "ONE and OTHER are users"},
		&cli.BoolFlag{Name: "paths", Usage: "ONE and OTHER are paths"},
	}, func(ctx context.Context, cmd *cli.Command, args []string) error {
		q := url.Values{}
		switch {
		case cmd.IsSet("from") && len(args) == 0:
			for _, flag := range []string{"from", "to"} {
				if cmd.IsSet(flag) {
					t, err := moment(cmd.String(flag))
					if flag == "from" {
						t, err = beginning(cmd.String(flag))
					}
					if err != nil {
						return err
					}
					q.Set(flag, t.Format(time.RFC3339))
				}
			}
		case len(args) == 2 && cmd.Bool("users"):
			q["user"] = []string{strings.Join(args, ",")}
		case len(args) == 2 && cmd.Bool("paths"):
			q["path"] = []string{strings.Join(args, ",")}
		default:
			return usage("compare --from MOMENT, or --users ONE OTHER, or --paths ONE OTHER")
		}
		return ask(ctx, a, cmd, http.MethodGet, "compare", q, nil, func(w io.Writer, c api.Comparison) { printComparison(w, c, cmd.Bool("names")) })
	})
	survey := a.leaf("survey", "look at every file of a folder where modes decide, and say what everybody may do to them", "FOLDER", []cli.Flag{
		&cli.StringFlag{Name: "user", Usage: "where this user's level changes, instead of everybody's counts"},
		withFlag(),
	}, func(ctx context.Context, cmd *cli.Command, args []string) error {
		path := "surveys/" + escape(args[0])
		if cmd.IsSet("with") {
			q := url.Values{}
			given(cmd, q.Set, "user")
			return question(ctx, a, cmd, path, q, printSurvey)
		}
		b := body{}
		given(cmd, b.put, "user")
		var j api.Job
		if err := a.client.send(ctx, http.MethodPost, path, nil, b, &j); err != nil {
			return err
		}
		return a.followed(ctx, cmd, &j)
	})
	return []*cli.Command{a.whyCommand(), a.tryCommand(), a.linkCommand(), who, reach, matrix, survey, compare, a.findingCommand(), a.reviewCommand(), a.reportCommand()}
}

func printWho(w io.Writer, who api.Who) {
	kind := "directory"
	if who.File {
		kind = "file"
	}
	if !who.Exists {
		kind = "not on disk; as a directory there"
	}
	fmt.Fprintf(w, "%s (%s): %s\n", who.Path, kind, people(who.Total))
	t := newTable("user", "level", "through")
	t.wrapLast = true
	t.empty = "nobody"
	for _, h := range who.Holders {
		t.row(h.User, h.Level.Text, h.Through)
	}
	t.print(w)
}

func printReach(w io.Writer, r api.Reach) {
	fmt.Fprintf(w, "%s gets to:\n", r.User)
	t := newTable("path", "level")
	t.empty = "nothing"
	for _, s := range r.Spots {
		depth := strings.Count(s.Path, "/")
		t.row(strings.Repeat("  ", depth)+s.Path, s.Level.Text)
	}
	t.print(w)
}

func printSurvey(w io.Writer, s service.Survey) {
	fmt.Fprintf(w, "%s: %d files in %d directories, with %d different owners, modes and ACLs\n", s.Folder, s.Files, s.Directories, s.Kinds)
	if s.User != "" {
		t := newTable("path", "", s.User+"'s level")
		for _, spot := range s.Spots {
			what := ""
			if spot.Files > 0 {
				what = fmt.Sprintf("%d files in it", spot.Files)
			}
			t.row(spot.Path, what, spot.Level.Text)
		}
		t.empty = s.User + " gets nowhere"
		t.print(w)
		return
	}
	t := newTable("user", "files: read", "change", "directories: read", "add", "change")
	t.empty = "nobody gets anywhere"
	for _, r := range s.People {
		t.row(r.User, fmt.Sprint(r.Files["read"]), fmt.Sprint(r.Files["change"]), fmt.Sprint(r.Directories["read"]), fmt.Sprint(r.Directories["add"]), fmt.Sprint(r.Directories["change"]))
	}
	t.print(w)
}

// mostRows is how many rows of a matrix are shown at once.
const mostRows = 500

// printMatrix turns the table where there are too many folders for a line.
func printMatrix(w io.Writer, m api.Matrix) {
	cell := func(f api.Column, l api.Levels) string {
		switch {
		case l.SMB == l.NFS && l.SMB == "nothing":
			return "-"
		case l.SMB == l.NFS || !f.NFS:
			return l.SMB
		case !f.SMB:
			return l.NFS
		case l.NFS == "nothing":
			return l.SMB + " s"
		case l.SMB == "nothing":
			return l.NFS + " n"
		}
		return l.SMB + " s, " + l.NFS + " n"
	}
	if len(m.Folders) > 8 {
		t := newTable("who", "folder", "level")
		for _, r := range m.Rows {
			for i, f := range m.Folders {
				if c := cell(f, r.Levels[i]); c != "-" {
					t.row(r.Who, f.Name, c)
				}
			}
		}
		t.empty = "nobody gets anywhere"
		t.print(w)
	} else {
		head := []string{""}
		for _, f := range m.Folders {
			head = append(head, f.Name)
		}
		t := newTable(head...)
		t.wrapAll = true
		t.empty = "there is nobody"
		for _, r := range m.Rows {
			row := []string{r.Who}
			for i, l := range r.Levels {
				row = append(row, cell(m.Folders[i], l))
			}
			t.row(row...)
		}
		t.print(w)
	}
	if m.Total > len(m.Rows) {
		fmt.Fprintf(w, "\nThe first %d of %d; --name narrows it down.\n", len(m.Rows), m.Total)
	}
	fmt.Fprintln(w, "\nWhere a folder is published over both: s is over SMB, n over NFS from the host that may most.")
}

func printComparison(w io.Writer, c api.Comparison, names bool) {
	if c.Effect != nil {
		fmt.Fprintf(w, "from %s to %s\n", c.One, c.Other)
		printEffect(w, *c.Effect, names)
		return
	}
	t := newTable("", c.One, c.Other)
	t.wrapAll = true
	t.empty = fmt.Sprintf("%s and %s do not differ", c.One, c.Other)
	for _, d := range c.Apart {
		t.row(d.Of, d.One.Text, d.Other.Text)
	}
	t.print(w)
}

func (a *app) findingCommand() *cli.Command {
	return group("finding", "what the audit holds to be wrong or risky",
		a.leaf("list", "list the findings, the gravest first, with the commands that fix them", "", []cli.Flag{
			&cli.BoolFlag{Name: "all", Usage: "those that are accepted as well"},
			&cli.StringFlag{Name: "match", Usage: "only those in whose subject, kind or text this stands"},
			&cli.IntFlag{Name: "top", Usage: "only so many"},
			atFlag(), withFlag(),
		}, func(ctx context.Context, cmd *cli.Command, _ []string) error {
			q, err := listQuery(cmd)
			if err != nil {
				return err
			}
			if cmd.Bool("all") {
				q.Set("all", "true")
			}
			if err := setAt(cmd, q); err != nil {
				return err
			}
			return question(ctx, a, cmd, "findings", q, printFindings)
		}),
		a.leaf("accept", "live with a finding until a day", "KEY", []cli.Flag{
			&cli.StringFlag{Name: "reason", Usage: "why", Required: true},
			&cli.StringFlag{Name: "until", Usage: "the last day", Required: true},
		}, func(ctx context.Context, cmd *cli.Command, args []string) error {
			until, err := endDate(cmd.String("until"))
			if err != nil {
				return err
			}
			if until.IsZero() {
				return usage("--until wants a day: what is accepted is looked at again")
			}
			if err := a.client.call(ctx, http.MethodPut, "findings/"+escape(args[0])+"/acceptance", nil, map[string]any{"reason": cmd.String("reason"), "until": until}, nil); err != nil {
				return err
			}
			return a.done(cmd, "accepted %s until %s", args[0], lastDay(until))
		}),
		a.leaf("reopen", "live with a finding no more", "KEY", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
			if err := a.client.call(ctx, http.MethodDelete, "findings/"+escape(args[0])+"/acceptance", nil, nil, nil); err != nil {
				return err
			}
			return a.done(cmd, "reopened %s", args[0])
		}))
}

func printFindings(w io.Writer, list []api.Finding) {
	if len(list) == 0 {
		fmt.Fprintln(w, "nothing is found to be wrong")
		return
	}
	for i, f := range list {
		if i > 0 {
			fmt.Fprintln(w)
		}
		fmt.Fprintf(w, "%-6s  %s  %s: %s\n", f.Severity, f.Key, f.Subject, f.Kind)
		for _, line := range wrap(f.Says, tableWidth-8) {
			fmt.Fprintf(w, "        %s\n", line)
		}
		if f.Accepted != nil {
			fmt.Fprintf(w, "        accepted by %s until %s: %s\n", f.Accepted.By, lastDay(f.Accepted.Until), f.Accepted.Reason)
			continue
		}
		for _, m := range f.Fix {
			fmt.Fprintf(w, "          %s\n", m)
		}
	}
}
