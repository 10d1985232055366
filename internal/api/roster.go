package api

import (
	"bytes"
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"amber.example/gatekeeper/internal/core/roster"
	"amber.example/gatekeeper/internal/service"
)

// longestRoster is how long a request with a list of people may be: base64 takes a third more than the list.
const longestRoster = 24 << 20

// Roster is a list of people, and how it is to be read.
type Roster struct {
	File        []byte            `json:"file" doc:"The file as it is, base64: CSV (RFC 4180) with a header, in UTF-8, UTF-16 or Windows-1252; lines of passwd(5) or group(5); or LDIF (RFC 2849) with RFC 2307's attributes."`
	Format      string            `json:"format,omitempty" enum:"csv,passwd,group,ldif" doc:"What it looks like, if left out."`
	Columns     map[string]string `json:"columns,omitempty" maxProperties:"20" doc:"What headers of a CSV stand for, where they are not name, full name, uid, group, groups, mail, starts, ends, label or profile."`
	SkipWrong   bool              `json:"skipWrong,omitempty" doc:"Do the rest where a line is refused; else nothing is done then."`
	Gone        string            `json:"gone,omitempty" enum:"ignore,disable,leave" doc:"What becomes of those who are in no line; ignore if left out."`
	WithinGroup string            `json:"withinGroup,omitempty" maxLength:"64" doc:"The list is complete for this group: whoever is in it and in no line is gone."`
	WithinLabel string            `json:"withinLabel,omitempty" maxLength:"100" doc:"The same for those who have this label: KEY=VALUE, or KEY."`
}

func (b Roster) input() service.RosterInput {
	return service.RosterInput{File: b.File, Format: roster.Format(b.Format), Columns: b.Columns, SkipWrong: b.SkipWrong, Gone: b.Gone, WithinGroup: b.WithinGroup, WithinLabel: b.WithinLabel}
}

// RosterLine is what becomes of a line of a list, or of somebody who is in none.
type RosterLine struct {
	Line    int       `json:"line,omitempty" doc:"Of the file, from 1; left out for who is in none."`
	Name    string    `json:"name"`
	Act     string    `json:"act" enum:"made,changed,same,refused,gone"`
	Changed []Changed `json:"changed,omitempty"`
	Why     string    `json:"why,omitempty" doc:"It is refused."`
}

// RosterRead is what becomes of a list of people.
type RosterRead struct {
	Made    int          `json:"made"`
	Changed int          `json:"changed"`
	Same    int          `json:"same" doc:"How many lines say what is so already."`
	Refused int          `json:"refused"`
	Gone    int          `json:"gone" doc:"How many are in no line."`
	Lines   []RosterLine `json:"lines" doc:"All but those that say what is so already."`
}

func rosterOf(outcomes []roster.Outcome) RosterRead {
	out := RosterRead{Lines: []RosterLine{}}
	counts := map[roster.Act]*int{roster.Made: &out.Made, roster.Changed: &out.Changed, roster.Same: &out.Same, roster.Refused: &out.Refused, roster.Gone: &out.Gone}
	for _, o := range outcomes {
		if *counts[o.Act]++; o.Act == roster.Same {
			continue
		}
		line := RosterLine{Line: o.Line, Name: o.Name, Act: string(o.Act), Why: o.Why}
		for _, c := range o.Changed {
			line.Changed = append(line.Changed, Changed(c))
		}
		out.Lines = append(out.Lines, line)
	}
	return out
}

func (s *Server) registerRoster() {
	op := operation(readRoster, http.MethodPost, "/users/import/read", "Say what would become of each line of a list of people", "people")
	op.MaxBodyBytes = longestRoster
	handle(s, op, func(ctx context.Context, in *struct{ Body Roster }) (RosterRead, error) {
		out, err := s.on(ctx).ReadRoster(in.Body.input())
		return rosterOf(out), err
	})
	op = operation("import-users", http.MethodPost, "/users/import", "Put a list of people into the records, as one change", "people")
	op.MaxBodyBytes = longestRoster
	handle(s, op, func(ctx context.Context, in *struct{ Body Roster }) (RosterRead, error) {
		out, err := s.on(ctx).ImportUsers(ctx, caller(ctx), in.Body.input())
		return rosterOf(out), err
	})
	huma.Register(s.api, operation("export-users", http.MethodGet, "/users/export", "Write the users down in a form that can be read again", "people"), func(ctx context.Context, in *struct {
		Format string `query:"format" enum:"csv,passwd,group,ldif" default:"csv"`
	}) (*Bytes, error) {
		var b bytes.Buffer
		if err := s.on(ctx).WriteRoster(&b, roster.Format(in.Format)); err != nil {
			return nil, s.asProblem(err, "query")
		}
		kind := "text/plain; charset=utf-8"
		if in.Format == "csv" {
			kind = "text/csv; charset=utf-8"
		}
		return &Bytes{kind, `attachment; filename="users.` + in.Format + `"`, b.Bytes()}, nil
	})
}
