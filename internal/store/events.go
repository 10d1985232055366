package store

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
	"time"
)

// EventsFileName is the name of the database of what was seen at the wire, beside the records'. It is bounded, and apart from the
// journal, so that nobody who only knocks fills that.
const EventsFileName = "events.sqlite"

// Events is that database. Its rows have a chain of their own, which begins with the first that is kept.
type Events struct {
	*Store
	Lost error         // why it is kept in memory, and ends with the process; nil where it is not
	Keep time.Duration // for how long; KeepEvents where it is zero
}

// How many events are kept, and for how long if nothing else is said.
const (
	MostEvents = 200_000
	KeepEvents = 90 * 24 * time.Hour
)

const eventsSchema = `
CREATE TABLE IF NOT EXISTS events (
    id INTEGER PRIMARY KEY AUTOINCREMENT, at INTEGER NOT NULL, since INTEGER NOT NULL, kind TEXT NOT NULL, who TEXT NOT NULL, path TEXT NOT NULL,
    via TEXT NOT NULL, origin TEXT NOT NULL, gate TEXT NOT NULL, count INTEGER NOT NULL) STRICT;
CREATE INDEX IF NOT EXISTS events_at ON events (at);
CREATE TABLE IF NOT EXISTS probe (id INTEGER PRIMARY KEY, at INTEGER NOT NULL, room BLOB NOT NULL) STRICT;
CREATE TABLE IF NOT EXISTS chain (one INTEGER PRIMARY KEY CHECK (one = 1), id INTEGER NOT NULL, hash BLOB NOT NULL) STRICT;
CREATE INDEX IF NOT EXISTS events_who ON events (who COLLATE NOCASE, id);
CREATE TABLE IF NOT EXISTS last_seen (user INTEGER NOT NULL, via TEXT NOT NULL, at INTEGER NOT NULL, origin TEXT NOT NULL, PRIMARY KEY (user, via)) STRICT, WITHOUT ROWID;
CREATE INDEX IF NOT EXISTS events_path ON events (path, id);
`

// eventsLater are columns that came later. Rows from before have no hash, and are before the chain.
var eventsLater = []string{
	`ALTER TABLE events ADD COLUMN target TEXT NOT NULL DEFAULT ''`,
	`ALTER TABLE events ADD COLUMN prev BLOB`,
	`ALTER TABLE events ADD COLUMN hash BLOB`,
}

// Event is something done or refused at the wire, so many times since a moment, as seen at another.
type Event struct {
	ID        int64
	At, Since time.Time // to the millisecond
	Kind      string    // refused, read, wrote, removed, renamed
	Who       string
	Path      string
	Target    string // what it was renamed to
	Via       string // SMB, NFS
	From      string // an address
	Gate      string // of what was refused
	Count     int64
}

func (v *Event) seal(prev []byte) []byte {
	h := sha256.New()
	number := func(n int64) []byte { return binary.BigEndian.AppendUint64(nil, uint64(n)) }
	for _, part := range [][]byte{prev, number(v.ID), number(v.At.UnixMilli()), number(v.Since.UnixMilli()), []byte(v.Kind), []byte(v.Who), []byte(v.Path), []byte(v.Target),
		[]byte(v.Via), []byte(v.From), []byte(v.Gate), number(v.Count)} {
		h.Write(number(int64(len(part))))
		h.Write(part)
	}
	return h.Sum(nil)
}

// OpenEvents opens the database in dir, making it if there is none. One that is damaged is put aside, under the name that is given
// back, and an empty one takes its place.
func OpenEvents(ctx context.Context, dir string) (e *Events, aside string, err error) {
	db, aside, lost, err := openAside(ctx, dir, EventsFileName, eventsSchema)
	if err != nil {
		return nil, "", err
	}
	for _, add := range eventsLater {
		if _, err := db.ExecContext(ctx, add); err != nil && !strings.Contains(err.Error(), "duplicate column") {
			db.Close()
			return nil, "", err
		}
	}
	return &Events{Store: &Store{db: db}, Lost: lost}, aside, nil
}

// Add writes events down, and forgets what is too old or too much. They get numbers in their order.
func (e *Events) Add(ctx context.Context, events []Event) error {
	return e.Write(ctx, func(tx *Tx) error {
		prev := make([]byte, sha256.Size)
		last := int64(0)
		if err := tx.QueryRowContext(ctx, `SELECT id, hash FROM chain`).Scan(&last, &prev); err != nil && err != sql.ErrNoRows {
			return err
		}
		if last == 0 { // rows from before there was a chain
			if err := tx.QueryRowContext(ctx, `SELECT coalesce(max(id), 0) FROM events`).Scan(&last); err != nil {
				return err
			}
		}
		put, err := tx.PrepareContext(ctx, `INSERT INTO events (id, at, since, kind, who, path, target, via, origin, gate, count, prev, hash) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`)
		if err != nil {
			return err
		}
		defer put.Close()
		for _, v := range events {
			last++
			v.ID = last
			hash := v.seal(prev)
			if _, err := put.ExecContext(ctx, v.ID, v.At.UnixMilli(), v.Since.UnixMilli(), v.Kind, v.Who, v.Path, v.Target, v.Via, v.From, v.Gate, v.Count, prev, hash); err != nil {
				return err
			}
			prev = hash
		}
		if err := tx.Run(ctx, `INSERT OR REPLACE INTO chain (one, id, hash) VALUES (1, ?, ?)`, last, prev); err != nil {
			return err
		}
		keep := e.Keep
		if keep == 0 {
			keep = KeepEvents
		}
		// The oldest go first, so that no hole is made: where a clock was set back, rows stay until those before them may go.
		if err := tx.Run(ctx, `DELETE FROM events WHERE id < coalesce((SELECT min(id) FROM events WHERE at >= ?), ?)`, time.Now().Add(-keep).UnixMilli(), last+1); err != nil {
			return err
		}
		return tx.Run(ctx, `DELETE FROM events WHERE id <= ? - ?`, last, MostEvents)
	})
}

// Listed gives the events that match.
func (e *Events) Listed(ctx context.Context, m Match) (out []Event, err error) {
	err = e.Each(ctx, m, func(v Event) error {
		out = append(out, v)
		return nil
	})
	return out, err
}

// Each visits the events that match, one by one.
func (e *Events) Each(ctx context.Context, m Match, visit func(Event) error) error {
	var w where
	if m.By != "" {
		w.and("who = ? COLLATE NOCASE", m.By)
	}
	if m.On != "" {
		below(&w, "path", m.On)
	}
	if m.Only != "" {
		w.and("kind = ?", m.Only)
	}
	if !m.Since.IsZero() {
		w.and("at >= ?", m.Since.UnixMilli())
	}
	if !m.Until.IsZero() {
		w.and("since <= ?", m.Until.UnixMilli())
	}
	tail := m.numbered(&w, "id")
	if m.Most > 0 {
		tail += " LIMIT ?"
		w.args = append(w.args, m.Most)
	}
	return e.eachEvent(ctx, w, tail, func(v Event, _, _ []byte) error { return visit(v) })
}

func (e *Events) eachEvent(ctx context.Context, w where, tail string, visit func(v Event, prev, hash []byte) error) error {
	return each(ctx, e.db, `SELECT id, at, since, kind, who, path, target, via, origin, gate, count, prev, hash FROM events`+w.sql()+tail, func(rows *sql.Rows) error {
		var v Event
		var at, since int64
		var prev, hash []byte
		if err := rows.Scan(&v.ID, &at, &since, &v.Kind, &v.Who, &v.Path, &v.Target, &v.Via, &v.From, &v.Gate, &v.Count, &prev, &hash); err != nil {
			return err
		}
		v.At, v.Since = time.UnixMilli(at), time.UnixMilli(since)
		return visit(v, prev, hash)
	}, w.args...)
}

// Verify follows the chain from the first event that has a place in it to the last that was written. It gives how many there are, and
// an error that wraps ErrBroken and names the first that does not fit.
func (e *Events) Verify(ctx context.Context) (n int64, err error) {
	var last []byte
	id := int64(0)
	err = e.eachEvent(ctx, where{}, " ORDER BY id", func(v Event, prev, hash []byte) error {
		if hash == nil && id == 0 {
			return nil // from before
		}
		if id != 0 && (v.ID != id+1 || !bytes.Equal(prev, last)) || !bytes.Equal(hash, v.seal(prev)) {
			return fmt.Errorf("event %d: %w", v.ID, ErrBroken)
		}
		n, id, last = n+1, v.ID, hash
		return nil
	})
	if err != nil {
		return n, err
	}
	var head int64
	var hash []byte
	switch err = e.db.QueryRowContext(ctx, `SELECT id, hash FROM chain`).Scan(&head, &hash); {
	case errors.Is(err, sql.ErrNoRows):
		return n, nil
	case err != nil:
		return n, err
	case n > 0 && (head != id || !bytes.Equal(hash, last)):
		return n, fmt.Errorf("event %d is the last there is, and %d was: %w", id, head, ErrBroken)
	}
	return n, nil
}
