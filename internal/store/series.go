package store

import (
	"context"
	"database/sql"
	"encoding/binary"
	"time"

	"amber.example/gatekeeper/internal/meter"
)

// SeriesFileName is the name of the database of what was asked at the wire, over time. It is bounded, and nothing depends on it.
const SeriesFileName = "series.sqlite"

// Series is that database.
type Series struct {
	db    *sql.DB
	store *Store
	Lost  error // why it is kept in memory, and ends with the process; nil where it is not
}

// Steps are how finely it is kept, the finest first, and for how long.
var Steps = []struct{ Each, For time.Duration }{{10 * time.Second, 2 * time.Hour}, {time.Minute, 48 * time.Hour}, {time.Hour, 90 * 24 * time.Hour}}

// mostPoints is how many are given at once: two days by the minute.
const mostPoints = 2880

// MostSeries is how many things it is kept of: those that did something first.
const MostSeries = 2000

const seriesSchema = `
CREATE TABLE IF NOT EXISTS series (id INTEGER PRIMARY KEY, name TEXT NOT NULL UNIQUE) STRICT;
CREATE TABLE IF NOT EXISTS samples (
    step INTEGER NOT NULL, at INTEGER NOT NULL, series INTEGER NOT NULL, operations INTEGER NOT NULL, read INTEGER NOT NULL, written INTEGER NOT NULL, times BLOB NOT NULL,
    PRIMARY KEY (series, step, at)) STRICT, WITHOUT ROWID;
CREATE INDEX IF NOT EXISTS samples_old ON samples (step, at);
`

// OpenSeries opens the database in dir, making it if there is none. One that is damaged is put aside, under the name that is given
// back, and an empty one takes its place.
func OpenSeries(ctx context.Context, dir string) (s *Series, aside string, err error) {
	db, aside, lost, err := openAside(ctx, dir, SeriesFileName, seriesSchema)
	if err != nil {
		return nil, "", err
	}
	return &Series{db: db, store: &Store{db: db}, Lost: lost}, aside, nil
}

// Close closes the database.
func (s *Series) Close() error { return s.db.Close() }

// Span is what was asked of one thing in a span of time; those that follow are of no other use than to be added up.
type Span struct {
	Name                      string // "" for all
	Operations, Read, Written uint64
	meter.Times
}

func packed(t *meter.Times) []byte {
	b := binary.AppendUvarint(nil, uint64(t.Sum))
	for _, n := range t.Buckets {
		b = binary.AppendUvarint(b, n)
	}
	return b
}

// unpacked adds what was packed. What is not whole counts for nothing.
func unpacked(b []byte, to *meter.Times) {
	next := func() uint64 {
		n, used := binary.Uvarint(b)
		b = b[max(used, 0):]
		return n
	}
	to.Sum += time.Duration(next())
	for i := range to.Buckets {
		to.Buckets[i] += next()
	}
}

// Add adds what was asked to the span of each step in which a moment lies, and forgets what is too old.
func (s *Series) Add(ctx context.Context, at time.Time, samples []Span) error {
	return s.store.Write(ctx, func(tx *Tx) error {
		for _, one := range samples {
			var id int64
			err := tx.QueryRowContext(ctx, `SELECT id FROM series WHERE name = ?`, one.Name).Scan(&id)
			if err == sql.ErrNoRows {
				err = tx.QueryRowContext(ctx, `INSERT INTO series (name) SELECT ? WHERE (SELECT count(*) FROM series) < ? RETURNING id`, one.Name, MostSeries).Scan(&id)
				if err == sql.ErrNoRows { // there is no room for more
					continue
				}
			}
			if err != nil {
				return err
			}
			for _, step := range Steps {
				if err := addTo(ctx, tx, id, int64(step.Each/time.Second), at, one); err != nil {
					return err
				}
			}
		}
		for _, step := range Steps {
			if err := tx.Run(ctx, `DELETE FROM samples WHERE step = ? AND at < ?`, int64(step.Each/time.Second), at.Add(-step.For).Unix()); err != nil {
				return err
			}
		}
		return tx.Run(ctx, `DELETE FROM series WHERE NOT EXISTS (SELECT 1 FROM samples WHERE series = series.id)`)
	})
}

func addTo(ctx context.Context, tx *Tx, id, step int64, at time.Time, one Span) error {
	span := at.Unix() / step * step
	var operations, read, written int64
	var times []byte
	err := tx.QueryRowContext(ctx, `SELECT operations, read, written, times FROM samples WHERE series = ? AND step = ? AND at = ?`, id, step, span).Scan(&operations, &read, &written, &times)
	if err != nil && err != sql.ErrNoRows {
		return err
	}
	unpacked(times, &one.Times)
	return tx.Run(ctx, `INSERT OR REPLACE INTO samples (step, at, series, operations, read, written, times) VALUES (?, ?, ?, ?, ?, ?, ?)`,
		step, span, id, operations+int64(one.Operations), read+int64(one.Read), written+int64(one.Written), packed(&one.Times))
}

// Point is a span with the beginning of its span.
type Point struct {
	At time.Time
	Span
}

// Between gives what was asked of a thing from one moment to another, the spans of the finest step that goes back so far, as of now. Spans in which nothing
// was asked are left out.
func (s *Series) Between(ctx context.Context, name string, from, until, now time.Time) (step time.Duration, out []Point, err error) {
	is := Steps[len(Steps)-1]
	for _, one := range Steps {
		// No more points than can be drawn.
		if !from.Before(now.Add(-one.For-time.Minute)) && until.Sub(from) <= mostPoints*one.Each {
			is = one
			break
		}
	}
	err = each(ctx, s.db, `SELECT at, operations, read, written, times FROM samples JOIN series ON series.id = samples.series
		WHERE name = ? AND step = ? AND at >= ? AND at < ? ORDER BY at LIMIT 3000`, func(rows *sql.Rows) error {
		var at, operations, read, written int64
		var times []byte
		if err := rows.Scan(&at, &operations, &read, &written, &times); err != nil {
			return err
		}
		p := Point{At: time.Unix(at, 0), Span: Span{Name: name, Operations: uint64(operations), Read: uint64(read), Written: uint64(written)}}
		unpacked(times, &p.Times)
		out = append(out, p)
		return nil
	}, name, int64(is.Each/time.Second), from.Unix()/int64(is.Each/time.Second)*int64(is.Each/time.Second), until.Unix())
	return is.Each, out, err
}
