package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"strings"

	"github.com/urfave/cli/v3"

	"amber.example/gatekeeper/internal/api"
)

func outFlag() cli.Flag {
	return &cli.StringFlag{Name: "out", Aliases: []string{"o"}, Usage: "the file to write", DefaultText: "the standard output"}
}

// save asks a route for bytes and writes them where --out says.
func (a *app) save(ctx context.Context, cmd *cli.Command, path string, query url.Values) error {
	raw, err := a.client.fetch(ctx, path, query)
	if err != nil {
		return err
	}
	name := cmd.String("out")
	if name == "" {
		_, err = a.out.Write(raw)
		return err
	}
	if err := os.WriteFile(name, raw, 0o600); err != nil {
		return &failure{code: exitFailed, msg: fmt.Sprintf("%s cannot be written: %s", name, inWords(err))}
	}
	return a.done(cmd, "wrote %s", name)
}

func (a *app) reportCommand() *cli.Command {
	one := func(kind, text, args string) *cli.Command {
		return a.leaf(kind, text, args, []cli.Flag{
			&cli.StringFlag{Name: "format", Usage: "html, a page that opens without a network and prints on A4; csv; or json", Value: "html"},
			outFlag(), atFlag(),
		}, func(ctx context.Context, cmd *cli.Command, args []string) error {
			q := url.Values{"format": {cmd.String("format")}}
			if len(args) > 0 {
				q.Set("of", args[0])
			}
			if err := setAt(cmd, q); err != nil {
				return err
			}
			return a.save(ctx, cmd, "reports/"+kind, q)
		})
	}
	return group("report", "what the audit says, for paper and spreadsheets",
		one("folder", "who may do what in a folder, and through what", "FOLDER"),
		one("person", "where a user gets", "USER"),
		one("leaving", "what somebody who leaves has and what becomes of it, or became of it", "USER"),
		one("findings", "what is found to be wrong, and what is accepted", ""),
		one("review", "what a review decided", "REVIEW"))
}

func (a *app) reviewCommand() *cli.Command {
	at := func(name string) string { return "reviews/" + escape(name) }
	mark := func(ctx context.Context, cmd *cli.Command, name string, marks []map[string]any) error {
		return ask(ctx, a, cmd, http.MethodPatch, at(name)+"/lines", nil, map[string]any{"marks": marks}, printReviewHead)
	}
	return group("review", "who has what, to be kept or removed line by line",
		a.leaf("add", "begin a review: list who has what in some folders", "NAME", []cli.Flag{
			&cli.StringSliceFlag{Name: "folder", Usage: "a folder to look at; again for more", Required: true},
			&cli.StringSliceFlag{Name: "reviewer", Usage: "who is to look, an auditor or administrator; again for more", Required: true},
		}, func(ctx context.Context, cmd *cli.Command, args []string) error {
			b := map[string]any{"name": args[0], "folders": cmd.StringSlice("folder"), "reviewers": cmd.StringSlice("reviewer")}
			return ask(ctx, a, cmd, http.MethodPost, "reviews", nil, b, printReviewHead)
		}),
		reviews.list(a, "list the reviews"), reviews.remove(a),
		a.leaf("show", "show a review line by line", "NAME", []cli.Flag{
			&cli.BoolFlag{Name: "undecided", Usage: "only lines that are not decided"},
		}, func(ctx context.Context, cmd *cli.Command, args []string) error {
			return ask(ctx, a, cmd, http.MethodGet, at(args[0]), nil, nil, func(w io.Writer, r api.Review) {
				printReviewHead(w, r)
				fmt.Fprintln(w)
				t := newTable("line", "decision", "where", "what", "people")
				t.wrapLast = true
				for _, l := range r.Lines {
					if l.Decision == "" || !cmd.Bool("undecided") {
						where := l.Path
						if l.Group != "" {
							where = "group " + l.Group
						}
						t.row(fmt.Sprint(l.Number), l.Decision, where, l.Says, strings.Join(l.People, ", "))
					}
				}
				t.empty = "every line is decided"
				t.print(w)
			})
		}),
		a.leaf("mark", "decide about lines: 3, or 1,4-7, or all", "NAME LINES keep|remove|undecided", []cli.Flag{
			&cli.StringFlag{Name: "comment", Usage: "why"},
		}, func(ctx context.Context, cmd *cli.Command, args []string) error {
			decision := args[2]
			switch decision {
			case "keep", "remove":
			case "undecided":
				decision = ""
			default:
				return usage("write keep, remove or undecided, not %q", decision)
			}
			var r api.Review
			if err := a.client.call(ctx, http.MethodGet, at(args[0]), nil, nil, &r); err != nil {
				return err
			}
			lines, err := linesOf(args[1], len(r.Lines))
			if err != nil {
				return err
			}
			var marks []map[string]any
			for _, n := range lines {
				m := map[string]any{"line": n, "comment": cmd.String("comment")}
				if decision != "" {
					m["decision"] = decision
				}
				marks = append(marks, m)
			}
			return mark(ctx, cmd, args[0], marks)
		}),
		a.leaf("export", "write the lines as CSV, to be marked in a spreadsheet; or the whole record as JSON", "NAME", []cli.Flag{
			&cli.BoolFlag{Name: "record", Usage: "the record, signed once the review is closed"}, outFlag(),
		}, func(ctx context.Context, cmd *cli.Command, args []string) error {
			if cmd.Bool("record") {
				return a.save(ctx, cmd, at(args[0])+"/record", nil)
			}
			return a.save(ctx, cmd, at(args[0])+"/csv", nil)
		}),
		a.leaf("import", "take decisions from a CSV that export wrote; - is the standard input", "NAME FILE", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
			text, err := a.readFile(args[1])
			if err != nil {
				return err
			}
			return ask(ctx, a, cmd, http.MethodPut, at(args[0])+"/csv", nil, map[string]string{"text": text}, printReviewHead)
		}),
		a.leaf("apply", "make the removals as one change, close the review and sign its record", "NAME", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
			a.says = "This makes the removals of " + args[0] + " and closes it."
			return ask(ctx, a, cmd, http.MethodPost, at(args[0])+"/apply", nil, struct{}{}, printReviewHead)
		}),
		a.leaf("verify", "say whether a record is as this gateway signed it", "FILE", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
			text, err := a.readFile(args[0])
			if err != nil {
				return err
			}
			if !json.Valid([]byte(text)) {
				return usage("%s is no record of a review", args[0])
			}
			var v api.Verified
			if err := a.client.call(ctx, http.MethodPost, "reviews/verify", nil, map[string]any{"record": json.RawMessage(text)}, &v); err != nil {
				return err
			}
			if err := show(a, cmd, v, func(w io.Writer, v api.Verified) {
				if v.Valid {
					fmt.Fprintln(w, "it is as this gateway signed it; public key", v.Key)
				}
			}); err != nil || v.Valid {
				return err
			}
			return &failure{code: exitFailed, msg: "it is not as this gateway signed it"}
		}),
	)
}

var reviews = resource[api.Review]{
	one: "review", many: "reviews", route: "reviews/", arg: "NAME",
	head: []string{"name", "folders", "reviewers", "keep", "remove", "undecided", "state"}, empty: "no reviews yet: amber review add NAME --folder FOLDER --reviewer USER",
	row: func(r api.Review) []string {
		return []string{r.Name, strings.Join(r.Folders, ", "), strings.Join(r.Reviewers, ", "), fmt.Sprint(r.Keep), fmt.Sprint(r.Remove), fmt.Sprint(r.Undecided), reviewState(r)}
	},
	print: printReviewHead, removes: "This forgets the review %s. The journal keeps what it was.",
}

func reviewState(r api.Review) string {
	if r.Closed != nil {
		return "closed " + r.Closed.Local().Format("2 Jan 2006")
	}
	return "open"
}

func printReviewHead(w io.Writer, r api.Review) {
	fields(w, "review", r.Name, "folders", strings.Join(r.Folders, ", "), "reviewers", strings.Join(r.Reviewers, ", "),
		"decided", fmt.Sprintf("%d to keep, %d to remove, %d undecided", r.Keep, r.Remove, r.Undecided), "state", reviewState(r))
}

// linesOf reads "3", "1,4-7" or "all".
func linesOf(s string, most int) ([]int, error) {
	var out []int
	if s == "all" {
		s = fmt.Sprintf("1-%d", most)
	}
	for part := range strings.SplitSeq(s, ",") {
		from, to, ranged := strings.Cut(part, "-")
		first, err := strconv.Atoi(from)
		last := first
		if err == nil && ranged {
			last, err = strconv.Atoi(to)
		}
		if err != nil || first < 1 || last < first || last > most {
			return nil, usage("%q names no lines of 1 to %d: write 3, or 1,4-7, or all", part, most)
		}
		for n := first; n <= last; n++ {
			out = append(out, n)
		}
	}
	return out, nil
}
