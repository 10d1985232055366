package store

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strconv"
	"time"

	"amber.example/gatekeeper/internal/core/site"
)

// Change is one record before and after.
type Change = site.Change

// JournalRow is one administrative act.
type JournalRow struct {
	Seq     int64
	At      time.Time
	Actor   string
	Action  string // what was asked: "add entry"
	Subject string // to what: "nightlog"
	Changes []Change
	Hash    []byte // of this row and, by the one before, of all before it; set when it is appended
}

// DeedKind is the kind of a change that is none of a record: something done or refused at the wire.
const DeedKind = "deed"

// TellAction is the action of rows that say what somebody was told of limits.
const TellAction = "tell"

// ErrBroken is wrapped by the errors of what verifies a chain.
var ErrBroken = errors.New("something has been altered, or taken out")

func (r *JournalRow) seal(prev, changes []byte) []byte {
	h := sha256.New()
	for _, part := range [][]byte{prev, binary.BigEndian.AppendUint64(nil, uint64(r.Seq)),
		[]byte(r.At.UTC().Format(time.RFC3339Nano)), []byte(r.Actor), []byte(r.Action), []byte(r.Subject), changes} {
		h.Write(binary.BigEndian.AppendUint64(nil, uint64(len(part))))
		h.Write(part)
	}
	return h.Sum(nil)
}

// Append adds a row; its Seq is set by what came before, as is its At where the host's clock has been set back: no row is
// older than the one before it.
func (tx *Tx) Append(ctx context.Context, row *JournalRow) error {
	prev, last := make([]byte, sha256.Size), ""
	err := tx.QueryRowContext(ctx, `SELECT seq, at, hash FROM journal ORDER BY seq DESC LIMIT 1`).Scan(&row.Seq, &last, &prev)
	if err != nil && err != sql.ErrNoRows {
		return err
	}
	if at, err := time.Parse(time.RFC3339Nano, last); err == nil && at.After(row.At) {
		row.At = at
	}
	row.Seq++
	if row.Changes == nil {
		row.Changes = []Change{}
	}
	changes, err := changesText(row.Changes)
	if err != nil {
		return err
	}
	row.Hash = row.seal(prev, changes)
	if err := tx.Run(ctx, `INSERT INTO journal (seq, at, actor, action, subject, changes, prev, hash) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
		row.Seq, row.At.UTC().Format(time.RFC3339Nano), row.Actor, row.Action, row.Subject, string(changes), prev, row.Hash); err != nil {
		return err
	}
	return tx.keepState(ctx, row, row.Hash)
}

// changesText is the JSON of changes, as encoding/json writes it; records that are JSON already are put in as they are, and not read again.
func changesText(changes []Change) ([]byte, error) {
	size := 2
	for _, c := range changes {
		size += len(c.Before) + len(c.After) + 64
	}
	out := append(make([]byte, 0, size), '[')
	for i, c := range changes {
		if i > 0 {
			out = append(out, ',')
		}
		kind, err := json.Marshal(c.Kind)
		if err != nil {
			return nil, err
		}
		out = append(append(out, `{"kind":`...), kind...)
		out = strconv.AppendInt(append(out, `,"id":`...), c.ID, 10)
		if len(c.Before) > 0 {
			out = append(append(out, `,"before":`...), c.Before...)
		}
		if len(c.After) > 0 {
			out = append(append(out, `,"after":`...), c.After...)
		}
		out = append(out, '}')
	}
	return append(out, ']'), nil
}

// aside are rows that are no changes: what was told of limits, and what was done at the wire when that was still written here.
const asideRow = `(action = '` + TellAction + `' OR changes LIKE '[{"kind":"` + DeedKind + `"%')`

// Journal gives the rows that match.
func (s *Store) Journal(ctx context.Context, m Match) (out []JournalRow, err error) {
	err = s.EachRow(ctx, m, func(row JournalRow) error {
		out = append(out, row)
		return nil
	})
	return out, err
}

// Row gives the row with a number; false where there is none.
func (s *Store) Row(ctx context.Context, seq int64) (row JournalRow, there bool, err error) {
	rows, err := s.Journal(ctx, Match{After: seq - 1, Most: 1})
	if err != nil || len(rows) == 0 || rows[0].Seq != seq {
		return row, false, err
	}
	return rows[0], true, nil
}

// Sound says whether a row still is what was written: by its hash, and by that of the row before.
func (s *Store) Sound(ctx context.Context, seq int64) (bool, error) {
	var w where
	w.and("seq BETWEEN ? AND ?", seq-1, seq)
	before, sound := make([]byte, sha256.Size), false
	err := s.eachJournal(ctx, w, " ORDER BY seq", func(row JournalRow, changes, prev, hash []byte) error {
		if row.Seq == seq {
			sound = bytes.Equal(prev, before) && bytes.Equal(hash, row.seal(prev, changes))
		}
		before = hash
		return nil
	})
	return sound, err
}

// EachRow visits the rows that match, one by one.
func (s *Store) EachRow(ctx context.Context, m Match, visit func(JournalRow) error) error {
	var w where
	if m.By != "" {
		w.and("actor = ? COLLATE NOCASE", m.By)
	}
	if m.On != "" {
		below(&w, "subject", m.On)
	}
	switch m.Only {
	case "":
	case "changes":
		w.and("NOT " + asideRow)
	default:
		w.and("action = ?", m.Only)
	}
	// Times are texts, whose parts of a second differ in length: they are compared by the second here, and exactly below.
	const second = "2006-01-02T15:04:05"
	if !m.Since.IsZero() {
		w.and("at >= ?", m.Since.UTC().Format(second))
	}
	if !m.Until.IsZero() {
		w.and("at < ?", m.Until.UTC().Add(time.Second).Format(second))
	}
	n := 0
	err := s.eachJournal(ctx, w, m.numbered(&w, "seq"), func(row JournalRow, _, _, _ []byte) error {
		if row.At.Before(m.Since) || !m.Until.IsZero() && row.At.After(m.Until) {
			return nil
		}
		if n++; m.Most > 0 && n > m.Most {
			return errEnough
		}
		return visit(row)
	})
	if errors.Is(err, errEnough) {
		err = nil
	}
	return err
}

var errEnough = errors.New("enough")

// Until gives the number of the last row written no later than a moment; 0 for none. It is the row before the first that is later, so that
// what is rebuilt up to it has been in force at some time.
func (s *Store) Until(ctx context.Context, at time.Time) (int64, error) {
	var last int64
	later := where{}
	later.and("at >= ?", at.UTC().Format("2006-01-02T15:04:05"))
	err := each(ctx, s.db, `SELECT seq, at FROM journal`+later.sql()+` ORDER BY seq`, func(rows *sql.Rows) error {
		var seq int64
		var text string
		if err := rows.Scan(&seq, &text); err != nil {
			return err
		}
		if when, err := time.Parse(time.RFC3339Nano, text); err != nil || when.After(at) {
			last = seq - 1
			return errors.Join(errEnough, err)
		}
		return nil
	}, later.args...)
	if errors.Is(err, errEnough) {
		return last, nil
	}
	if err == nil {
		err = s.db.QueryRowContext(ctx, `SELECT coalesce(max(seq), 0) FROM journal`).Scan(&last)
	}
	return last, err
}

func (s *Store) eachJournal(ctx context.Context, w where, tail string, visit func(row JournalRow, changes, prev, hash []byte) error) error {
	return each(ctx, s.db, `SELECT seq, at, actor, action, subject, changes, prev, hash FROM journal`+w.sql()+tail, func(rows *sql.Rows) error {
		var row JournalRow
		var at, changes string
		var prev, hash []byte
		if err := rows.Scan(&row.Seq, &at, &row.Actor, &row.Action, &row.Subject, &changes, &prev, &hash); err != nil {
			return err
		}
		var err error
		if row.At, err = time.Parse(time.RFC3339Nano, at); err != nil {
			return fmt.Errorf("journal row %d: %w", row.Seq, err)
		}
		if err := json.Unmarshal([]byte(changes), &row.Changes); err != nil {
			return fmt.Errorf("journal row %d: %w", row.Seq, err)
		}
		row.Hash = hash
		return visit(row, []byte(changes), prev, hash)
	}, w.args...)
}

// VerifyJournal follows the chain from the first row. It gives the number of rows,
// and an error that wraps ErrBroken and names the first row that does not fit.
func (s *Store) VerifyJournal(ctx context.Context) (int64, error) {
	last, n := make([]byte, sha256.Size), int64(0)
	err := s.eachJournal(ctx, where{}, " ORDER BY seq", func(row JournalRow, changes, prev, hash []byte) error {
		n++
		if row.Seq != n || !bytes.Equal(prev, last) || !bytes.Equal(hash, row.seal(prev, changes)) {
			return fmt.Errorf("row %d: %w", row.Seq, ErrBroken)
		}
		last = hash
		return nil
	})
	return n, err
}

// flatten lists every record by itself.
func flatten(r site.Records) map[site.Key]any {
	out := make(map[site.Key]any)
	r.Each(func(key site.Key, record any) { out[key] = record })
	return out
}

// Compare gives the records that differ.
func Compare(before, after site.Records) ([]Change, error) {
	var out []Change
	was, is := flatten(before), flatten(after)
	note := func(key site.Key, b, a any) error {
		c := Change{Kind: key.Kind, ID: key.ID}
		var err error
		if b != nil {
			c.Before, err = json.Marshal(b)
		}
		if a != nil && err == nil {
			c.After, err = json.Marshal(a)
		}
		out = append(out, c)
		return err
	}
	for key, b := range was {
		if a, ok := is[key]; !ok {
			if err := note(key, b, nil); err != nil {
				return nil, err
			}
		} else if !reflect.DeepEqual(a, b) {
			if err := note(key, b, a); err != nil {
				return nil, err
			}
		}
	}
	for key, a := range is {
		if _, ok := was[key]; !ok {
			if err := note(key, nil, a); err != nil {
				return nil, err
			}
		}
	}
	sortChanges(out)
	return out, nil
}

func sortChanges(changes []Change) {
	slices.SortFunc(changes, func(a, b Change) int {
		return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.ID, b.ID))
	})
}

// Rebuild folds journal rows into the records they lead to, starting from an
// empty site.
func Rebuild(rows []JournalRow) (site.Records, error) {
	now := make(past)
	for _, row := range rows {
		now.fold(row.Changes)
	}
	return now.records()
}

// past is what the records were at some moment.
type past map[site.Key]json.RawMessage

func (now past) fold(changes []Change) {
	for _, c := range changes {
		if c.Kind == DeedKind {
			continue
		}
		if key := (site.Key{Kind: c.Kind, ID: c.ID}); c.After == nil {
			delete(now, key)
		} else {
			now[key] = c.After
		}
	}
}

func (now past) records() (site.Records, error) {
	r, err := site.Assemble(now)
	if err != nil {
		return r, fmt.Errorf("journal's %w", err)
	}
	return r, nil
}

// A state is kept of every so many rows: of the last few, and of every tenth of those before.
const (
	stateEvery = 1000
	statesLate = 8
)

// keepState keeps the records as they are after a row, where it is time to.
func (tx *Tx) keepState(ctx context.Context, row *JournalRow, hash []byte) error {
	if row.Seq%stateEvery != 0 {
		return nil
	}
	var all []Change
	err := tx.eachRecord(ctx, func(key site.Key, body json.RawMessage) {
		all = append(all, Change{Kind: key.Kind, ID: key.ID, After: body})
	})
	if err != nil {
		return err
	}
	raw, err := json.Marshal(all)
	if err != nil {
		return err
	}
	if err := tx.Run(ctx, `INSERT OR REPLACE INTO states (seq, hash, records) VALUES (?, ?, ?)`, row.Seq, hash, string(raw)); err != nil {
		return err
	}
	return tx.Run(ctx, `DELETE FROM states WHERE seq <= ? AND seq % ? <> 0`, row.Seq-statesLate*stateEvery, 10*stateEvery)
}

// RecordsAt gives the records as they were after a row: from the last state that was kept before, if the journal still says what it did then.
func (s *Store) RecordsAt(ctx context.Context, seq int64) (site.Records, error) {
	now, from := make(past), int64(0)
	var text string
	err := s.db.QueryRowContext(ctx, `SELECT s.seq, s.records FROM states s JOIN journal j ON j.seq = s.seq AND j.hash = s.hash WHERE s.seq <= ? ORDER BY s.seq DESC LIMIT 1`, seq).Scan(&from, &text)
	if err != nil && err != sql.ErrNoRows {
		return site.Records{}, err
	}
	if text != "" {
		var all []Change
		if err := json.Unmarshal([]byte(text), &all); err != nil {
			return site.Records{}, fmt.Errorf("state kept of row %d: %w", from, err)
		}
		now.fold(all)
	}
	err = s.EachRow(ctx, Match{After: from, Before: seq + 1}, func(row JournalRow) error {
		now.fold(row.Changes)
		return nil
	})
	if err != nil {
		return site.Records{}, err
	}
	return now.records()
}
