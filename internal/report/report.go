// Package report lays out what the audit says for people who are not at the console: as CSV, as
// JSON, and as one HTML page that opens from a file without a network and prints well on A4.
package report

import (
	_ "embed"
	"encoding/csv"
	"encoding/json"
	"fmt"
	"html/template"
	"io"
	"os"
	"time"

	"amber.example/gatekeeper/internal/core/plain"
)

// Report is one document.
type Report struct {
	Title    string    `json:"title"`
	Gateway  string    `json:"gateway"`
	At       time.Time `json:"at"`   // as of when
	Made     time.Time `json:"made"` // when it was written
	By       string    `json:"by"`
	Facts    []Fact    `json:"facts"`
	Sections []Section `json:"sections"`
}

// Fact is one line at the head.
type Fact struct {
	Name  string `json:"name"`
	Value string `json:"value"`
}

// Section is a table with a title.
type Section struct {
	Title string     `json:"title"`
	Text  string     `json:"text,omitempty"`
	Head  []string   `json:"head"`
	Rows  [][]string `json:"rows"`
	Empty string     `json:"empty,omitempty"` // instead of a table without rows
}

// Formats lists the forms, with their media types.
var Formats = map[string]string{"csv": "text/csv; charset=utf-8", "json": "application/json", "html": "text/html; charset=utf-8"}

// Write writes the report in one of the Formats.
func (r *Report) Write(w io.Writer, format string) error {
	switch format {
	case "csv":
		return r.csv(w)
	case "json":
		enc := json.NewEncoder(w)
		enc.SetIndent("", "  ")
		return enc.Encode(r)
	case "html":
		return page.Execute(w, r)
	}
	return fmt.Errorf("%q is not one of csv, json, html", format)
}

// csv writes all tables one after the other, each row with its section in front, so that one sheet
// holds them all.
func (r *Report) csv(w io.Writer) error {
	out := csv.NewWriter(w)
	for _, s := range r.Sections {
		if err := out.Write(append([]string{"section"}, s.Head...)); err != nil {
			return err
		}
		for _, row := range s.Rows {
			cells := []string{plain.Cell(s.Title)}
			for _, c := range row {
				cells = append(cells, plain.Cell(c))
			}
			if err := out.Write(cells); err != nil {
				return err
			}
		}
	}
	out.Flush()
	return out.Error()
}

//go:embed page.html
var pageText string

var page = template.Must(template.New("page").Funcs(template.FuncMap{
	"when": func(t time.Time) string { return t.Format("2 January 2006, 15:04 MST") },
}).Parse(pageText))

// New begins a report of a gateway as of a moment, for who asks.
func New(title, by string, at time.Time) *Report {
	return &Report{Title: title, Gateway: Machine(), At: at, Made: time.Now(), By: by, Facts: []Fact{}, Sections: []Section{}}
}

// Machine is what the machine calls itself.
func Machine() string {
	name, err := os.Hostname()
	if err != nil {
		return "amber"
	}
	return name
}

// Moment spells when something is; "" for never.
func Moment(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.Local().Format("2006-01-02 15:04")
}
