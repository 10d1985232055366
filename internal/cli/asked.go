package cli

import (
	"bytes"
	"context"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/urfave/cli/v3"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/core/limit"
)

// askedFlags are how the journal, and what was done at the wire, are asked.
func askedFlags(only string) []cli.Flag {
	return []cli.Flag{
		&cli.StringFlag{Name: "by", Usage: "only what this one did"},
		&cli.StringFlag{Name: "on", Usage: "only what concerns this record, or this path and what is below it"},
		&cli.StringFlag{Name: "since", Usage: "only from then on: 2026-03-01, 2026-03-01T18:30, or 90m, 36h, 7d ago"},
		&cli.StringFlag{Name: "until", Usage: "and until then"},
		&cli.StringFlag{Name: "only", Usage: only},
	}
}

// asked is what those say, as a query.
func asked(cmd *cli.Command) (url.Values, error) {
	q := url.Values{}
	given(cmd, q.Set, "by", "on", "only")
	for _, name := range []string{"since", "until"} {
		text := cmd.String(name)
		if text == "" {
			continue
		}
		at, err := ago(text, name == "until")
		if err != nil {
			return nil, err
		}
		q.Set(name, at.UTC().Format(time.RFC3339))
	}
	return q, nil
}

// ago reads a moment, or how long ago it is. A day is its beginning, or its end.
func ago(text string, end bool) (time.Time, error) {
	if d, err := limit.ParseGrace(text); err == nil {
		return time.Now().Add(-d), nil
	}
	if end {
		return moment(text)
	}
	return beginning(text)
}

// followed is how often it is looked whether there is more.
const followed = time.Second

// latest prints the last of what there is, the latest last, and with --follow goes on with what comes. More gives a page, latest first, or, after a number, what
// came since; number is that of one, and text prints some.
func latest[T any](ctx context.Context, a *app, cmd *cli.Command, path string, q url.Values, number func(T) int64, text func(w io.Writer, list []T)) error {
	last := cmd.Int("last")
	if cmd.IsSet("after") {
		q.Set("after", strconv.FormatInt(cmd.Int64("after"), 10))
	}
	var list []T
	for len(list) < last { // by pages, as the service gives at most so many at a time
		want := min(last-len(list), 1000)
		q.Set("limit", strconv.Itoa(want))
		var page []T
		if err := a.client.call(ctx, http.MethodGet, path, q, nil, &page); err != nil {
			return err
		}
		list = append(list, page...)
		if len(page) < want {
			break
		}
		if cmd.IsSet("after") {
			q.Set("after", strconv.FormatInt(number(page[len(page)-1]), 10))
		} else {
			q.Set("before", strconv.FormatInt(number(page[len(page)-1]), 10))
		}
	}
	if !cmd.IsSet("after") {
		slices.Reverse(list)
	}
	if !cmd.Bool("follow") {
		return show(a, cmd, list, text)
	}
	seen := max(cmd.Int64("after"), 0)
	for {
		if len(list) > 0 {
			seen = number(list[len(list)-1])
			if cmd.Bool("json") { // one object a line, as there is no end
				for _, v := range list {
					raw, err := json.Marshal(v)
					if err != nil {
						return err
					}
					fmt.Fprintln(a.out, string(raw))
				}
			} else {
				text(a.out, spelled(list))
			}
		}
		select {
		case <-ctx.Done():
			return nil
		case <-time.After(followed):
		}
		q.Del("before")
		q.Set("limit", "1000")
		q.Set("after", strconv.FormatInt(seen, 10))
		list = nil
		if err := a.client.call(ctx, http.MethodGet, path, q, nil, &list); err != nil {
			return err
		}
	}
}

// export writes out all that matches, as it comes.
func (a *app) export(ctx context.Context, cmd *cli.Command, path string) error {
	q, err := asked(cmd)
	if err != nil {
		return err
	}
	q.Set("format", cmd.String("format"))
	name := cmd.String("out")
	if name == "" {
		return a.client.stream(ctx, path, q, a.out)
	}
	f, err := os.OpenFile(name, os.O_WRONLY|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return usage("%s cannot be written: %s", name, inWords(err))
	}
	err = a.client.stream(ctx, path, q, f)
	if closed := f.Close(); err == nil && closed != nil {
		err = &failure{code: exitFailed, msg: fmt.Sprintf("%s cannot be written: %s", name, inWords(closed))}
	}
	if err != nil {
		return err
	}
	return a.done(cmd, "wrote %s", name)
}

func exportFlags(only string) []cli.Flag {
	return append(askedFlags(only),
		&cli.StringFlag{Name: "format", Usage: "jsonl, JSON Lines: one object a line; or csv", Value: "jsonl"},
		&cli.StringFlag{Name: "out", Aliases: []string{"o"}, Usage: "the file to write", DefaultText: "the standard output"})
}

func (a *app) eventsCommand() *cli.Command {
	const only = "refused, read, wrote, removed, renamed, signed in or sign-in refused"
	events := describe(a.leaf("events", "list what was done or refused at the wire, the latest last", "", append(askedFlags(only),
		&cli.IntFlag{Name: "last", Usage: "only the last so many", Value: 50},
		&cli.Int64Flag{Name: "after", Usage: "those after this number, instead of the last"},
		&cli.BoolFlag{Name: "follow", Aliases: []string{"f"}, Usage: "go on with what comes; Ctrl-C ends it"},
	), func(ctx context.Context, cmd *cli.Command, _ []string) error {
		q, err := asked(cmd)
		if err != nil {
			return err
		}
		return latest(ctx, a, cmd, "events", q, func(e api.Event) int64 { return e.ID }, printEvents)
	}), `Each that is told apart is written down once and then counted. Who took something away, or renamed it, is told everywhere. Reads and writes are
those of folders that ask for it: amber folder set NAME --log-access.`)
	events.Commands = []*cli.Command{
		a.leaf("export", "write out what was done or refused at the wire, oldest first", "", exportFlags(only), func(ctx context.Context, cmd *cli.Command, _ []string) error {
			return a.export(ctx, cmd, "events/export")
		}),
		a.leaf("verify", "follow the chain of what was done at the wire: has a row been altered", "", nil, func(ctx context.Context, cmd *cli.Command, _ []string) error {
			return a.verify(ctx, cmd, "events/verify", nil)
		}),
	}
	return events
}

func printEvents(w io.Writer, events []api.Event) {
	t := newTable("at", "who", "was", "path", "how")
	t.wrapLast = true
	t.empty = "nothing yet"
	for _, e := range events {
		was := e.Kind
		switch e.Kind {
		case "read":
			was = "let read"
		case "wrote":
			was = "let write"
		case "removed", "renamed":
			was = "let " + strings.TrimSuffix(e.Kind, "d")
		}
		path := e.Path
		if e.Target != "" {
			path += " to " + e.Target
		}
		if e.Kind == "signed in" || e.Kind == "sign-in refused" { // on no path
			how := "over " + e.Via + " from " + e.From
			if path != "" {
				how += ": " + path
			}
			if e.Count > 1 {
				how += fmt.Sprintf(", %d times", e.Count)
			}
			t.row(e.Since.Local().Format("2006-01-02 15:04:05"), e.Who, was, "", how)
			continue
		}
		t.row(e.Since.Local().Format("2006-01-02 15:04:05"), e.Who, was, path, howOf(&api.WireEvent{Via: e.Via, Gate: e.Gate, From: e.From, Count: e.Count}))
	}
	t.print(w)
}

// verify follows a chain.
func (a *app) verify(ctx context.Context, cmd *cli.Command, path string, q url.Values) error {
	var out api.JournalVerified
	if err := a.client.call(ctx, http.MethodGet, path, q, nil, &out); err != nil {
		return err
	}
	err := show(a, cmd, out, func(w io.Writer, v api.JournalVerified) {
		if v.Intact {
			fmt.Fprintf(w, "%d rows, each follows from the one before\n", v.Rows)
		}
	})
	if err == nil && !out.Intact {
		err = &failure{code: exitFailed, msg: out.Problem}
	}
	return err
}

func (a *app) journalCommand() *cli.Command {
	const only = "changes, or tell for what was told of limits"
	return group("journal", "what administrators did",
		a.leaf("list", "list the journal, the latest last", "", append(askedFlags(only),
			&cli.IntFlag{Name: "last", Usage: "only the last so many", Value: 100},
			&cli.Int64Flag{Name: "after", Usage: "those after this number, instead of the last"},
			&cli.BoolFlag{Name: "follow", Aliases: []string{"f"}, Usage: "go on with what comes; Ctrl-C ends it"},
		), func(ctx context.Context, cmd *cli.Command, _ []string) error {
			q, err := asked(cmd)
			if err != nil {
				return err
			}
			return latest(ctx, a, cmd, "journal", q, func(r api.JournalRow) int64 { return r.Seq }, printJournal)
		}),
		a.leaf("show", "tell one row in words: what each record said before, and what after", "NUMBER", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
			n, err := strconv.ParseInt(args[0], 10, 64)
			if err != nil || n < 1 {
				return usage("%q is no number of a row", args[0])
			}
			return ask(ctx, a, cmd, http.MethodGet, "journal/"+fmt.Sprint(n), nil, nil, printAct)
		}),
		a.leaf("export", "write out the journal, oldest first", "", exportFlags(only), func(ctx context.Context, cmd *cli.Command, _ []string) error {
			return a.export(ctx, cmd, "journal/export")
		}),
		a.leaf("verify", "follow the journal's hash chain: has a row been altered, or has the end been cut off", "", []cli.Flag{
			&cli.StringFlag{Name: "against", Usage: "a file that the service writes hashes to: amber serve --journal-hashes"},
		}, func(ctx context.Context, cmd *cli.Command, _ []string) error {
			if name := cmd.String("against"); name != "" {
				return a.verifyAgainst(ctx, cmd, name)
			}
			return a.verify(ctx, cmd, "journal/verify", nil)
		}))
}

// printAct tells of one act, record by record.
func printAct(w io.Writer, act api.JournalAct) {
	fields(w, "row", fmt.Sprint(act.Seq), "at", act.At.Local().Format("2006-01-02 15:04:05"), "who", act.Actor, "did", act.Action)
	if act.Subject != "" {
		hung(w, "to   ", act.Subject)
	}
	fields(w, "how", howOf(act.Event))
	for _, t := range act.Told {
		what := t.Kind
		if t.Kind == "rule" {
			what = "entries of"
		}
		if t.Name != "" {
			what += " " + t.Name
		}
		fmt.Fprintf(w, "\n%s, %s\n", what, t.Act)
		width := 0
		for _, c := range t.Changed {
			width = max(width, utf8.RuneCountInString(c.Name))
		}
		line := func(name, word, value string) {
			margin := strings.Repeat(" ", 2+width+2+len(word))
			value = strings.ReplaceAll(strings.TrimRight(value, "\n"), "\n", "\n"+margin)
			fmt.Fprintf(w, "  %-*s  %s%s\n", width, name, word, value)
		}
		for _, c := range t.Changed {
			switch {
			case t.Act == "added":
				line(c.Name, "", c.After)
			case t.Act == "removed":
				line(c.Name, "", c.Before)
			case c.Before == "":
				line(c.Name, "new   ", c.After)
			case c.After == "":
				line(c.Name, "gone  ", c.Before)
			default:
				line(c.Name, "was   ", c.Before)
				line("", "is    ", c.After)
			}
		}
	}
}

func printJournal(w io.Writer, rows []api.JournalRow) {
	t := newTable("number", "at", "who", "did", "to", "how")
	t.wrapLast = true
	t.empty = "nothing after that"
	for _, r := range rows {
		t.row(fmt.Sprint(r.Seq), r.At.Local().Format("2006-01-02 15:04:05"), r.Actor, r.Action, r.Subject, howOf(r.Event))
	}
	t.print(w)
}

// verifyAgainst compares the journal with the last hash that was kept elsewhere.
func (a *app) verifyAgainst(ctx context.Context, cmd *cli.Command, name string) error {
	text, err := a.readFile(name)
	if err != nil {
		return err
	}
	lines := strings.Split(strings.TrimSpace(text), "\n")
	last := strings.Fields(lines[len(lines)-1])
	if len(last) < 2 {
		return usage("%s holds no hashes", name)
	}
	row, err := strconv.ParseInt(last[0], 10, 64)
	hash, hexErr := hex.DecodeString(last[1])
	if err != nil || hexErr != nil || row < 1 {
		return usage("the last line of %s is not a row's number and hash", name)
	}
	var out api.JournalVerified
	if err := a.client.call(ctx, http.MethodGet, "journal/verify", url.Values{"row": {last[0]}}, nil, &out); err != nil {
		return err
	}
	switch {
	case out.Problem != "":
	case out.Hash == nil:
		out.Problem = fmt.Sprintf("the journal has %d rows, and row %d was written: its end has been cut off", out.Rows, row)
	case !bytes.Equal(out.Hash, hash):
		out.Problem = fmt.Sprintf("row %d is not what was written: the journal has been written anew", row)
	default:
		return show(a, cmd, out, func(w io.Writer, v api.JournalVerified) {
			fmt.Fprintf(w, "%d rows, each follows from the one before, and row %d is what %s says\n", v.Rows, row, name)
		})
	}
	return &failure{code: exitFailed, msg: out.Problem}
}
