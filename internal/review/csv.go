package review

import (
	"encoding/csv"
	"errors"
	"io"
	"strconv"
	"strings"

	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/refusal"
)

var reviewColumns = []string{"line", "path or group", "says", "people", "decision", "comment"}

// ReviewCSV writes the lines for a spreadsheet, to be marked there and read again.
func ReviewCSV(w io.Writer, r *site.Review) error {
	out := csv.NewWriter(w)
	if err := out.Write(reviewColumns); err != nil {
		return err
	}
	for _, l := range r.Lines {
		where := l.Path
		if l.Group != "" {
			where = "group " + l.Group
		}
		row := []string{strconv.Itoa(l.Number), where, l.Says, strings.Join(l.People, " "), string(l.Decision), l.Comment}
		for i := range row {
			row[i] = plain.Cell(row[i])
		}
		if err := out.Write(row); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

// noCSV says where a text is no CSV.
func noCSV(err error) error {
	if at := (*csv.ParseError)(nil); errors.As(err, &at) {
		return refusal.Bad("text", "it is no CSV: in line %d a quotation mark stands where none may, or is missing", at.Line)
	}
	return refusal.Bad("text", "it is no CSV")
}

// ReadReviewCSV reads decisions from what ReviewCSV wrote; lines may be left out and columns beyond
// the first and those of decision and comment changed.
func ReadReviewCSV(text string) ([]Mark, error) {
	in := csv.NewReader(strings.NewReader(text))
	in.FieldsPerRecord = -1
	head, err := in.Read()
	if errors.Is(err, io.EOF) {
		return nil, refusal.Bad("text", "there is nothing in it")
	}
	if err != nil {
		return nil, noCSV(err)
	}
	at := make(map[string]int)
	for i, name := range head {
		at[strings.ToLower(strings.TrimSpace(strings.TrimPrefix(name, "\ufeff")))] = i
	}
	line, okLine := at["line"]
	decision, okDecision := at["decision"]
	comment, okComment := at["comment"]
	if !okLine || !okDecision {
		return nil, refusal.Bad("text", "its first row does not name the columns line and decision")
	}
	var out []Mark
	for n := 2; ; n++ {
		row, err := in.Read()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, noCSV(err)
		}
		if len(row) <= max(line, decision) || len(out) > mostLines {
			return nil, refusal.Bad("text", "row %d has %d columns", n, len(row))
		}
		number, err := strconv.Atoi(strings.TrimSpace(row[line]))
		if err != nil {
			return nil, refusal.Bad("text", "row %d: %q is no number of a line", n, row[line])
		}
		m := Mark{Line: number, Decision: site.Decision(strings.ToLower(strings.TrimSpace(row[decision])))}
		if okComment && len(row) > comment {
			m.Comment = plain.Uncell(strings.TrimSpace(row[comment]))
		}
		out = append(out, m)
	}
}
