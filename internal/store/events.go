package store

import (
	"context"
	"database/sql"
	"time"
)

// EventsFileName is the name of the database of what was seen at the wire, beside the records'. It is bounded, and apart from the
// journal, so that nobody who only knocks fills that.
const EventsFileName = "events.sqlite"

// Events is that database.
type Events struct {
	*Store
	Lost error // why it is kept in memory, and ends with the process; nil where it is not
}

// How many events are kept, and for how long.
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
`

// Event is something done or refused at the wire, so many times since a moment, as seen at another.
type Event struct {
	ID        int64
	At, Since time.Time
	Kind      string // refused, read, wrote
	Who       string
	Path      string
	Via       string // SMB, NFS
	From      string // an address
	Gate      string // of what was refused
	Count     int64
}

// OpenEvents opens the database in dir, making it if there is none. One that is damaged is put aside, under the name that is given
// back, and an empty one takes its place.
func OpenEvents(ctx context.Context, dir string) (e *Events, aside string, err error) {
	db, aside, lost, err := openAside(ctx, dir, EventsFileName, eventsSchema)
	if err != nil {
		return nil, "", err
	}
	return &Events{&Store{db: db}, lost}, aside, nil
}

// Add writes events down, and forgets what is too old or too much. They get numbers in their order.
func (e *Events) Add(ctx context.Context, events []Event) error {
	return e.Write(ctx, func(tx *Tx) error {
		put, err := tx.PrepareContext(ctx, `INSERT INTO events (at, since, kind, who, path, via, origin, gate, count) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`)
		if err != nil {
			return err
		}
		defer put.Close()
		for _, v := range events {
			if _, err := put.ExecContext(ctx, v.At.UnixMilli(), v.Since.UnixMilli(), v.Kind, v.Who, v.Path, v.Via, v.From, v.Gate, v.Count); err != nil {
				return err
			}
		}
		if err := tx.Run(ctx, `DELETE FROM events WHERE at < ?`, time.Now().Add(-KeepEvents).UnixMilli()); err != nil {
			return err
		}
		return tx.Run(ctx, `DELETE FROM events WHERE id <= (SELECT max(id) FROM events) - ?`, MostEvents)
	})
}

// Listed gives events after a number, oldest first; with back, those before one, the latest first, of all for 0. Kind is one of them, "" for all.
func (e *Events) Listed(ctx context.Context, from int64, back bool, kind string, most int) (out []Event, err error) {
	query := `id > ?1 AND (?2 = '' OR kind = ?2) ORDER BY id LIMIT ?3`
	if back {
		query = `(?1 = 0 OR id < ?1) AND (?2 = '' OR kind = ?2) ORDER BY id DESC LIMIT ?3`
	}
	err = each(ctx, e.db, `SELECT id, at, since, kind, who, path, via, origin, gate, count FROM events WHERE `+query, func(rows *sql.Rows) error {
		var v Event
		var at, since int64
		err := rows.Scan(&v.ID, &at, &since, &v.Kind, &v.Who, &v.Path, &v.Via, &v.From, &v.Gate, &v.Count)
		v.At, v.Since = time.UnixMilli(at), time.UnixMilli(since)
		out = append(out, v)
		return err
	}, from, kind, most)
	return out, err
}
