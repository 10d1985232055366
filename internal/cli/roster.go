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
)

// mostListed is how many lines of a list are shown where not all are asked for.
const mostListed = 40

func (a *app) importCommand() *cli.Command {
	return describe(a.leaf("import", "put a list of people into the records, as one change that is shown first; - is the standard input", "FILE", []cli.Flag{
		&cli.StringFlag{Name: "format", Usage: "csv, passwd, group or ldif", DefaultText: "what it looks like"},
		&cli.StringSliceFlag{Name: "column", Usage: "what a header stands for: Login=name; again for more"},
		&cli.BoolFlag{Name: "skip-wrong", Usage: "do the rest where a line is refused"},
		&cli.StringFlag{Name: "gone", Usage: "what becomes of those who are in no line: ignore, disable or leave", DefaultText: "ignore"},
		&cli.StringFlag{Name: "within-group", Usage: "the list is complete for this group: whoever is in it and in no line is gone"},
		&cli.StringFlag{Name: "within-label", Usage: "the same for those who have this label: KEY=VALUE, or KEY"},
	}, a.importUsers), `A CSV begins with a header, of which the words may be in any order: `+"name, full name, uid, group, groups, mail, starts, ends, label, profile"+`.
What a line does not say stays as it is; who is new gets the next free uid. A cell of groups names all groups in which somebody
is listed, one of labels is such as season=spring;team=dome, and ends is the last day on which the account works.

Nothing is done while a line is refused. The same list again changes nothing, and what was done can be taken back as one.`)
}

func (a *app) importUsers(ctx context.Context, cmd *cli.Command, args []string) error {
	text, err := a.readFile(args[0])
	if err != nil {
		return err
	}
	if text == "" {
		return usage("%s is empty", args[0])
	}
	b := api.Roster{File: []byte(text), Format: cmd.String("format"), SkipWrong: cmd.Bool("skip-wrong"), Gone: cmd.String("gone"), WithinGroup: cmd.String("within-group"), WithinLabel: cmd.String("within-label")}
	for _, column := range cmd.StringSlice("column") {
		theirs, ours, ok := strings.Cut(column, "=")
		if !ok {
			return usage("--column takes HEADER=WORD, such as Login=name, not %q", column)
		}
		if b.Columns == nil {
			b.Columns = make(map[string]string)
		}
		b.Columns[theirs] = ours
	}
	var read api.RosterRead
	if err := a.client.send(ctx, http.MethodPost, "users/import/read", nil, b, &read); err != nil {
		return err
	}
	all := cmd.Bool("names")
	if read.Refused > 0 && !b.SkipWrong {
		printRoster(a.err, spelled(read), all)
		return &failure{code: exitFailed, msg: fmt.Sprintf("nothing was done: %d lines are refused", read.Refused), next: "amber user import " + strings.Join(quoted(args), "") + " --skip-wrong"}
	}
	if read.Made+read.Changed == 0 && (read.Gone == 0 || b.Gone == "" || b.Gone == "ignore") {
		return show(a, cmd, read, func(w io.Writer, r api.RosterRead) { printRoster(w, r, all) })
	}
	printRoster(a.err, spelled(read), all)
	a.says = fmt.Sprintf("This makes %d users and changes %d.", read.Made, read.Changed)
	if what := map[string]string{"disable": "disables", "leave": "has leave"}[b.Gone]; what != "" && read.Gone > 0 {
		a.says = fmt.Sprintf("This makes %d users, changes %d and %s %d.", read.Made, read.Changed, what, read.Gone)
	}
	var made api.RosterRead
	if err := a.client.call(ctx, http.MethodPost, "users/import", nil, b, &made); err != nil {
		return err
	}
	return show(a, cmd, made, func(w io.Writer, r api.RosterRead) { fmt.Fprintln(w, rosterCounts(r)) })
}

// rosterCounts spells what became of a list.
func rosterCounts(r api.RosterRead) string {
	text := fmt.Sprintf("%d made, %d changed, %d as they were", r.Made, r.Changed, r.Same)
	if r.Refused > 0 {
		text += fmt.Sprintf(", %d refused", r.Refused)
	}
	if r.Gone > 0 {
		text += fmt.Sprintf(", %d in no line", r.Gone)
	}
	return text
}

// printRoster shows what becomes of a list line by line: first what is refused.
func printRoster(w io.Writer, r api.RosterRead, all bool) {
	t := newTable("line", "user", "is", "what")
	t.wrapLast = true
	left := 0
	for _, refused := range []bool{true, false} {
		for _, l := range r.Lines {
			if (l.Act == "refused") != refused {
				continue
			}
			if len(t.rows) >= mostListed && !all {
				left++
				continue
			}
			line, what := "", l.Why
			if l.Line > 0 {
				line = fmt.Sprint(l.Line)
			}
			if what == "" {
				what = changedText(l.Changed)
			}
			t.row(line, l.Name, l.Act, what)
		}
	}
	if len(t.rows) > 0 {
		t.print(w)
	}
	if left > 0 {
		fmt.Fprintf(w, "and %d more; --names lists them all\n", left)
	}
	fmt.Fprintln(w, rosterCounts(r))
}

// changedText spells what a record says after a change, and what it said: "groups: staff, was observers".
func changedText(changed []api.Changed) string {
	var out []string
	for _, c := range changed {
		switch {
		case c.Before == "":
			out = append(out, c.Name+" "+c.After)
		case c.After == "":
			out = append(out, "no "+c.Name+" any more, was "+c.Before)
		default:
			out = append(out, c.Name+" "+c.After+", was "+c.Before)
		}
	}
	return strings.Join(out, "; ")
}

func (a *app) exportUsersCommand() *cli.Command {
	return a.leaf("export", "write the users down in a form that import reads", "", []cli.Flag{
		&cli.StringFlag{Name: "format", Usage: "csv, passwd, group or ldif", Value: "csv"}, outFlag(),
	}, func(ctx context.Context, cmd *cli.Command, _ []string) error {
		return a.save(ctx, cmd, "users/export", url.Values{"format": {cmd.String("format")}})
	})
}
