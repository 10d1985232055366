package api

import (
	"context"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"amber.example/gatekeeper/internal/store"
)

// Asked is how the journal, and what was done at the wire, are asked.
type Asked struct {
	By     string    `query:"by" maxLength:"64" doc:"Only what this one did, whatever the case of the name."`
	On     string    `query:"on" maxLength:"4096" doc:"Only what concerns this record, or this path and what is below it."`
	Since  time.Time `query:"since" doc:"Only from this moment on."`
	Until  time.Time `query:"until" doc:"And until this one."`
	After  int64     `query:"after" minimum:"-1" default:"-1" doc:"Only those with a higher number, and the oldest of them first: to go on from where one was. -1 for the latest first."`
	Before int64     `query:"before" minimum:"0" doc:"Only those with a lower number: the next page of the latest first."`
	Limit  int       `query:"limit" minimum:"1" maximum:"10000" default:"100"`
}

// match is what the store is asked for.
func (a *Asked) match(only string) store.Match {
	m := store.Match{By: a.By, On: strings.Trim(a.On, "/"), Only: only, Since: a.Since, Until: a.Until, Before: a.Before, Most: a.Limit, Back: a.After < 0}
	if !m.Back {
		m.After = a.After
	}
	return m
}

// everything is match for what is written out whole: all of it, oldest first.
func (a *Asked) everything(only string) store.Match {
	m := a.match(only)
	m.Most, m.Back = 0, false
	return m
}

// exported streams what a visit comes by, as lines of JSON or as CSV. What goes wrong on the way ends the connection, so that half of it is not
// taken for all.
func exported[T any](format, name string, head []string, each func(visit func(T) error) error, row func(T) []string) *huma.StreamResponse {
	return &huma.StreamResponse{Body: func(ctx huma.Context) {
		kind, end := "application/jsonl", "jsonl"
		if format == "csv" {
			kind, end = "text/csv; charset=utf-8", "csv"
		}
		ctx.SetHeader("Content-Type", kind)
		ctx.SetHeader("Content-Disposition", fmt.Sprintf(`attachment; filename="%s.%s"`, name, end))
		var err error
		if format == "csv" {
			err = asCSV(ctx.BodyWriter(), head, each, row)
		} else {
			out := json.NewEncoder(ctx.BodyWriter())
			err = each(func(v T) error { return out.Encode(v) })
		}
		if err != nil {
			panic(http.ErrAbortHandler)
		}
	}}
}

func asCSV[T any](w io.Writer, head []string, each func(visit func(T) error) error, row func(T) []string) error {
	out := csv.NewWriter(w)
	if err := out.Write(head); err != nil {
		return err
	}
	err := each(func(v T) error {
		cells := row(v)
		for i, c := range cells { // a spreadsheet takes these for formulas
			if c != "" && strings.ContainsRune("=+-@\t\r", rune(c[0])) {
				cells[i] = "'" + c
			}
		}
		return out.Write(cells)
	})
	if err != nil {
		return err
	}
	out.Flush()
	return out.Error()
}

// Written is how it is to be written.
type Written struct {
	Format string `query:"format" enum:"csv,jsonl" default:"jsonl" doc:"CSV, or JSON Lines: one object a line."`
}

// mostBrief is of how many records a row tells in brief.
const mostBrief = 20

func (s *Server) registerAsked() {
	handle(s, operation("list-events", http.MethodGet, "/events", "List what was done or refused at the wire, the latest first", "events"), func(ctx context.Context, in *struct {
		Asked
		Only string `query:"only" enum:"refused,read,wrote,removed,renamed,signed in,sign-in refused" doc:"Only those of that kind."`
	}) ([]Event, error) {
		list, err := s.on(ctx).Events(ctx, in.match(in.Only))
		out := []Event{}
		for _, e := range list {
			out = append(out, eventOf(e))
		}
		return out, err
	})
	huma.Register(s.api, operation("export-events", http.MethodGet, "/events/export", "Write out what was done or refused at the wire, oldest first", "events"), func(ctx context.Context, in *struct {
		Asked
		Written
		Only string `query:"only" enum:"refused,read,wrote,removed,renamed,signed in,sign-in refused" doc:"Only those of that kind."`
	}) (*huma.StreamResponse, error) {
		svc, m := s.on(ctx), in.everything(in.Only)
		return exported(in.Format, "events", []string{"number", "at", "since", "who", "was", "path", "to", "via", "from", "gate", "count"},
			func(visit func(Event) error) error {
				return svc.EachEvent(ctx, m, func(e store.Event) error { return visit(eventOf(e)) })
			},
			func(e Event) []string {
				return []string{strconv.FormatInt(e.ID, 10), e.At.Format(time.RFC3339), e.Since.Format(time.RFC3339), e.Who, e.Kind, e.Path, e.Target, e.Via, e.From, e.Gate, strconv.FormatInt(e.Count, 10)}
			}), nil
	})
	handle(s, operation("verify-events", http.MethodGet, "/events/verify", "Follow the chain of what was done at the wire, from the first that is kept", "events"), func(ctx context.Context, _ *struct{}) (JournalVerified, error) {
		n, err := s.on(ctx).VerifyEvents(ctx)
		return verified(n, err)
	})
	handle(s, operation("list-journal", http.MethodGet, "/journal", "List what was changed, the latest first", "journal"), func(ctx context.Context, in *struct {
		Asked
		Only  string `query:"only" enum:"changes,tell" doc:"Only rows of that sort."`
		Brief bool   `query:"brief" doc:"Without what was before and after, and with no more than twenty records of each row: to list them. One row alone tells all."`
	}) ([]JournalRow, error) {
		rows, err := s.on(ctx).Journal(ctx, in.match(in.Only))
		if in.Brief {
			for i := range rows {
				rows[i].Changes = slices.Clone(rows[i].Changes[:min(len(rows[i].Changes), mostBrief)])
				for c := range rows[i].Changes {
					rows[i].Changes[c].Before, rows[i].Changes[c].After = nil, nil
				}
			}
		}
		out := []JournalRow{}
		for _, r := range rows {
			row, err := rowOf(r)
			if err != nil {
				return nil, err
			}
			out = append(out, row)
		}
		return out, err
	})
	handle(s, operation("show-journal", http.MethodGet, "/journal/{row}", "Tell one change in words", "journal"), func(ctx context.Context, in *struct {
		Row int64 `path:"row" minimum:"1" doc:"The row's number."`
	}) (JournalAct, error) {
		row, told, err := s.on(ctx).Act(ctx, in.Row)
		if err != nil {
			return JournalAct{}, err
		}
		out := JournalAct{Told: make([]Told, 0, len(told))}
		for _, t := range told {
			changed := make([]Changed, 0, len(t.Changed))
			for _, c := range t.Changed {
				changed = append(changed, Changed(c))
			}
			out.Told = append(out.Told, Told{t.Kind, t.ID, t.Name, string(t.Act), changed})
		}
		out.JournalRow, err = rowOf(row)
		return out, err
	})
	huma.Register(s.api, operation("export-journal", http.MethodGet, "/journal/export", "Write out the journal, oldest first", "journal"), func(ctx context.Context, in *struct {
		Asked
		Written
		Only string `query:"only" enum:"changes,tell" doc:"Only rows of that sort."`
	}) (*huma.StreamResponse, error) {
		svc, m := s.on(ctx), in.everything(in.Only)
		return exported(in.Format, "journal", []string{"number", "at", "who", "did", "to", "changed"},
			func(visit func(JournalRow) error) error {
				return svc.EachRow(ctx, m, func(r store.JournalRow) error {
					row, err := rowOf(r)
					if err != nil {
						return err
					}
					return visit(row)
				})
			},
			func(r JournalRow) []string {
				changed, err := json.Marshal(r.Changes)
				if err != nil {
					changed = nil
				}
				return []string{strconv.FormatInt(r.Seq, 10), r.At.Format(time.RFC3339Nano), r.Actor, r.Action, r.Subject, string(changed)}
			}), nil
	})
	handle(s, operation("verify-journal", http.MethodGet, "/journal/verify", "Follow the journal's hash chain from its first row", "journal"), func(ctx context.Context, in *struct {
		Row int64 `query:"row" minimum:"0" doc:"A row whose hash is to be told: to compare with one that was kept elsewhere."`
	}) (JournalVerified, error) {
		n, err := s.on(ctx).VerifyJournal(ctx)
		out, err := verified(n, err)
		if err == nil && in.Row > 0 {
			row, _, rowErr := s.on(ctx).Row(ctx, in.Row)
			if rowErr != nil {
				return out, rowErr
			}
			out.Hash = row.Hash
		}
		return out, err
	})
}
