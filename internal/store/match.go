package store

import (
	"strings"
	"time"
)

// Match says which rows of the journal, or which events, are asked for. The zero Match is all of them, oldest first.
type Match struct {
	By           string    // who: a name, whatever its case
	On           string    // where: a record or a path, with all that is below it
	Only         string    // what: an action of the journal's, or a kind of event; "changes" for rows that are neither events nor what was told
	Since, Until time.Time // when; zero for ever
	After        int64     // numbers above this one
	Before       int64     // numbers below this one; 0 for any
	Back         bool      // the latest first
	Most         int       // at most so many; 0 for all
}

// where collects the conditions of a query.
type where struct {
	conditions []string
	args       []any
}

func (w *where) and(condition string, args ...any) {
	w.conditions = append(w.conditions, condition)
	w.args = append(w.args, args...)
}

func (w *where) sql() string {
	if len(w.conditions) == 0 {
		return ""
	}
	return " WHERE " + strings.Join(w.conditions, " AND ")
}

// numbered adds what is asked of the numbers, and gives the order and the end of the query.
func (m Match) numbered(w *where, column string) (tail string) {
	if m.After > 0 {
		w.and(column+" > ?", m.After)
	}
	if m.Before > 0 {
		w.and(column+" < ?", m.Before)
	}
	tail = " ORDER BY " + column
	if m.Back {
		tail += " DESC"
	}
	return tail
}

// below adds that a column names a record or a path, or something below it, or something that begins with it as a word.
func below(w *where, column, on string) {
	w.and("("+column+" = ? OR ("+column+" >= ? AND "+column+" < ?) OR ("+column+" >= ? AND "+column+" < ?))", on, on+"/", on+"0", on+" ", on+"!")
}
