package cli

import (
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"
)

// tableWidth is what a table fits, in columns.
const tableWidth = 100

// table is aligned text. Cells that would make it too wide are cut short, or
// wrapped in the last column, or in all of them.
type table struct {
	head     []string
	rows     [][]string
	wrapLast bool
	wrapAll  bool
	empty    string // printed instead of a table without rows
}

func newTable(head ...string) *table { return &table{head: head} }

func (t *table) row(cells ...string) { t.rows = append(t.rows, cells) }

const (
	gap       = 2
	narrowest = 10 // a column is not cut to less
)

func (t *table) widths() []int {
	widths := make([]int, len(t.head))
	used := make([]bool, len(t.head))
	for _, row := range append([][]string{t.head}, t.rows...) {
		for i, c := range row {
			widths[i] = max(widths[i], utf8.RuneCountInString(c))
		}
	}
	for _, row := range t.rows {
		for i, c := range row {
			used[i] = used[i] || c != "" || t.head[i] == ""
		}
	}
	for i := range widths {
		if !used[i] {
			widths[i] = -gap // a column in which nothing stands
		}
	}
	total := func() (n int) {
		for _, w := range widths {
			n += w + gap
		}
		return n - gap
	}
	if t.wrapLast {
		last := len(widths) - 1
		if over := total() - tableWidth; over > 0 {
			widths[last] = max(widths[last]-over, min(widths[last], 2*narrowest))
		}
	}
	for total() > tableWidth {
		cut := widths
		if t.wrapLast {
			cut = widths[:len(widths)-1]
		}
		widest := slices.Index(cut, slices.Max(cut))
		if widths[widest] <= narrowest {
			break
		}
		widths[widest]--
	}
	return widths
}

func (t *table) print(w io.Writer) {
	if len(t.rows) == 0 {
		fmt.Fprintln(w, t.empty)
		return
	}
	widths := t.widths()
	line := func(cells []string) {
		var b strings.Builder
		for i, c := range cells {
			if widths[i] < 0 {
				continue
			}
			if n := utf8.RuneCountInString(c); n > widths[i] {
				c = string([]rune(c)[:widths[i]-1]) + "…"
			}
			fmt.Fprintf(&b, "%-*s", widths[i]+gap, c)
		}
		fmt.Fprintln(w, strings.TrimRight(b.String(), " "))
	}
	line(t.head)
	for _, row := range t.rows {
		if t.wrapAll {
			parts := make([][]string, len(row))
			lines := 1
			for i, c := range row {
				parts[i] = wrap(c, max(widths[i], 1))
				lines = max(lines, len(parts[i]))
			}
			for n := range lines {
				cells := make([]string, len(row))
				for i := range row {
					if n < len(parts[i]) {
						cells[i] = parts[i][n]
					}
				}
				line(cells)
			}
			continue
		}
		if !t.wrapLast {
			line(row)
			continue
		}
		last := len(row) - 1
		cells := slices.Clone(row)
		for _, part := range wrap(row[last], widths[last]) {
			cells[last] = part
			line(cells)
			clear(cells)
		}
	}
}

// hung prints a text after what stands before it, within the width, with what wraps under its beginning.
func hung(w io.Writer, before, text string) {
	indent := max(utf8.RuneCountInString(before), 2)
	for i, line := range wrap(text, tableWidth-indent) {
		if i > 0 {
			before = strings.Repeat(" ", indent)
		}
		fmt.Fprintln(w, before+line)
	}
}

func wrap(s string, width int) []string {
	var lines []string
	var at string
	for word := range strings.FieldsSeq(s) {
		switch {
		case at == "":
			at = word
		case utf8.RuneCountInString(at)+1+utf8.RuneCountInString(word) <= width:
			at += " " + word
		default:
			lines, at = append(lines, at), word
		}
	}
	return append(lines, at)
}

// fields prints name and value pairs, one a line, leaving out empty values.
func fields(w io.Writer, pairs ...string) {
	width := 0
	for i := 0; i < len(pairs); i += 2 {
		width = max(width, len(pairs[i]))
	}
	for i := 0; i < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			fmt.Fprintf(w, "%-*s  %s\n", width, pairs[i], pairs[i+1])
		}
	}
}

// namesThat lists the names that are true, in order.
func namesThat(m map[string]bool) []string {
	var out []string
	for name, on := range m {
		if on {
			out = append(out, name)
		}
	}
	slices.Sort(out)
	return out
}
