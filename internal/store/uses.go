package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"

	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/usage"
)

// UsesFileName is the name of the database in which uses are kept, beside the records'. All in it can be
// counted again, so that it is not worth a wait for the disk at each step, and nothing is lost with it but time.
const UsesFileName = "use.sqlite"

// Uses is that database.
type Uses struct {
	db    *sql.DB
	store *Store
	Lost  error // why it is kept in memory, and ends with the process; nil where it is not
}

const usesSchema = `
CREATE TABLE IF NOT EXISTS state (name TEXT PRIMARY KEY, value TEXT NOT NULL) STRICT, WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS folders (folder INTEGER PRIMARY KEY, setup TEXT NOT NULL) STRICT;
CREATE TABLE IF NOT EXISTS uses (
    folder INTEGER NOT NULL, of INTEGER NOT NULL, number INTEGER NOT NULL, tree INTEGER NOT NULL,
    bytes INTEGER NOT NULL, files INTEGER NOT NULL, PRIMARY KEY (folder, of, number, tree)) STRICT, WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS graces (grace TEXT NOT NULL) STRICT;
CREATE TABLE IF NOT EXISTS counts (folder INTEGER NOT NULL, below TEXT NOT NULL, PRIMARY KEY (folder, below)) STRICT, WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS samples (
    subject TEXT NOT NULL, at INTEGER NOT NULL, bytes INTEGER NOT NULL, files INTEGER NOT NULL, PRIMARY KEY (subject, at)) STRICT, WITHOUT ROWID;
CREATE INDEX IF NOT EXISTS samples_at ON samples (at);
CREATE TABLE IF NOT EXISTS told (
    counter TEXT NOT NULL, limit_id INTEGER NOT NULL, told TEXT NOT NULL, PRIMARY KEY (counter, limit_id)) STRICT, WITHOUT ROWID;
CREATE TABLE IF NOT EXISTS notices (id INTEGER PRIMARY KEY AUTOINCREMENT, at INTEGER NOT NULL, notice TEXT NOT NULL) STRICT;
CREATE TABLE IF NOT EXISTS outbox (
    id INTEGER PRIMARY KEY AUTOINCREMENT, made INTEGER NOT NULL, target TEXT NOT NULL, message TEXT NOT NULL,
    tries INTEGER NOT NULL DEFAULT 0, due INTEGER, problem TEXT NOT NULL DEFAULT '') STRICT;
CREATE INDEX IF NOT EXISTS outbox_due ON outbox (target, due);
`

// OpenUses opens the database in dir, making it if there is none. One that is damaged is put aside, under the name that is given
// back, and an empty one takes its place.
func OpenUses(ctx context.Context, dir string) (u *Uses, aside string, err error) {
	db, aside, lost, err := openAside(ctx, dir, UsesFileName, usesSchema)
	if err != nil {
		return nil, "", err
	}
	return &Uses{db: db, store: &Store{db: db}, Lost: lost}, aside, nil
}

// Close closes the database.
func (u *Uses) Close() error { return u.db.Close() }

func (u *Uses) write(ctx context.Context, fn func(*Tx) error) error {
	return u.store.Write(ctx, fn)
}

// Kept is what OpenUses found.
type Kept struct {
	Clean   bool // the service was stopped in order, and the numbers are right
	Folders []usage.KeptFolder
	Uses    map[int64][]usage.Kept // by folder
	Graces  []usage.KeptGrace
	Counts  []usage.Need // counts that were going on, or due
}

// Load reads what is kept, and notes that the service runs: from now on it is not clean. Where that cannot be noted, which is
// ErrUnwritable, what was read is right all the same.
func (u *Uses) Load(ctx context.Context) (k Kept, err error) {
	k.Uses = make(map[int64][]usage.Kept)
	var clean string
	if err := u.db.QueryRowContext(ctx, `SELECT value FROM state WHERE name = 'clean'`).Scan(&clean); err != nil && err != sql.ErrNoRows {
		return k, err
	}
	k.Clean = clean == "yes"
	return k, firstError(
		func() error {
			return each(ctx, u.db, `SELECT setup FROM folders`, func(rows *sql.Rows) error { return scanJSON(rows, &k.Folders) })
		},
		func() error {
			return each(ctx, u.db, `SELECT folder, of, number, tree, bytes, files FROM uses`, func(rows *sql.Rows) error {
				var r usage.Kept
				err := rows.Scan(&r.Folder, &r.Of, &r.Number, &r.Tree, &r.Amount.Bytes, &r.Amount.Files)
				k.Uses[r.Folder] = append(k.Uses[r.Folder], r)
				return err
			})
		},
		func() error {
			return each(ctx, u.db, `SELECT grace FROM graces`, func(rows *sql.Rows) error { return scanJSON(rows, &k.Graces) })
		},
		func() error {
			return each(ctx, u.db, `SELECT folder, below FROM counts`, func(rows *sql.Rows) error {
				var n usage.Need
				err := rows.Scan(&n.Folder, &n.Below)
				k.Counts = append(k.Counts, n)
				return err
			})
		},
		func() error {
			return u.write(ctx, func(tx *Tx) error { return tx.Run(ctx, `INSERT OR REPLACE INTO state VALUES ('clean', 'no')`) })
		},
	)
}

func scanJSON[T any](rows *sql.Rows, list *[]T) error {
	var raw string
	if err := rows.Scan(&raw); err != nil {
		return err
	}
	var v T
	err := json.Unmarshal([]byte(raw), &v)
	*list = append(*list, v)
	return err
}

// Keep writes down what has changed. The folders, graces and counts are all there are; with all, so are the rows. Clean says that
// nothing will change any more; texts are kept under their names.
func (u *Uses) Keep(ctx context.Context, rows []usage.Kept, all bool, folders []usage.KeptFolder, graces []usage.KeptGrace, counts []usage.Need, clean bool, texts map[string]string) error {
	return u.write(ctx, func(tx *Tx) error {
		if all {
			if err := tx.Run(ctx, `DELETE FROM uses`); err != nil {
				return err
			}
		}
		put, err := tx.PrepareContext(ctx, `INSERT OR REPLACE INTO uses VALUES (?, ?, ?, ?, ?, ?)`)
		if err != nil {
			return err
		}
		defer put.Close()
		for _, r := range rows {
			if _, err := put.ExecContext(ctx, r.Folder, int64(r.Of), int64(r.Number), r.Tree, r.Amount.Bytes, r.Amount.Files); err != nil {
				return err
			}
		}
		for _, table := range []string{"folders", "graces", "counts"} {
			if err := tx.Run(ctx, `DELETE FROM `+table); err != nil {
				return err
			}
		}
		for _, f := range folders {
			raw, err := json.Marshal(f)
			if err == nil {
				err = tx.Run(ctx, `INSERT INTO folders VALUES (?, ?)`, f.ID, string(raw))
			}
			if err != nil {
				return err
			}
		}
		for _, g := range graces {
			raw, err := json.Marshal(g)
			if err == nil {
				err = tx.Run(ctx, `INSERT INTO graces VALUES (?)`, string(raw))
			}
			if err != nil {
				return err
			}
		}
		for _, n := range counts {
			if err := tx.Run(ctx, `INSERT OR REPLACE INTO counts VALUES (?, ?)`, n.Folder, n.Below); err != nil {
				return err
			}
		}
		for name, value := range texts {
			if err := tx.Run(ctx, `INSERT OR REPLACE INTO state VALUES (?, ?)`, name, value); err != nil {
				return err
			}
		}
		state := "no"
		if clean {
			state = "yes"
		}
		return tx.Run(ctx, `INSERT OR REPLACE INTO state VALUES ('clean', ?)`, state)
	})
}

// Text gives a short text that was kept under a name; "" where there is none.
func (u *Uses) Text(ctx context.Context, name string) (string, error) {
	var value string
	err := u.db.QueryRowContext(ctx, `SELECT value FROM state WHERE name = ?`, name).Scan(&value)
	if err == sql.ErrNoRows {
		err = nil
	}
	return value, err
}

// Sample is a use at a moment.
type Sample struct {
	At     time.Time
	Amount limit.Amount
}

// AddSamples writes down uses of subjects.
func (u *Uses) AddSamples(ctx context.Context, by map[string][]Sample) error {
	return u.write(ctx, func(tx *Tx) error {
		put, err := tx.PrepareContext(ctx, `INSERT OR REPLACE INTO samples VALUES (?, ?, ?, ?)`)
		if err != nil {
			return err
		}
		defer put.Close()
		for subject, samples := range by {
			for _, s := range samples {
				if _, err := put.ExecContext(ctx, subject, s.At.Unix(), s.Amount.Bytes, s.Amount.Files); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// RollUp keeps, of the samples from before a moment, the last of each span of time, and none from before another but the
// last that a subject has.
func (u *Uses) RollUp(ctx context.Context, before time.Time, span time.Duration, oldest time.Time) error {
	return u.write(ctx, func(tx *Tx) error {
		if err := tx.Run(ctx, `DELETE FROM samples WHERE at < ? AND EXISTS (SELECT 1 FROM samples later WHERE later.subject = samples.subject AND later.at > samples.at)`, oldest.Unix()); err != nil {
			return err
		}
		s := int64(span / time.Second)
		return tx.Run(ctx, `DELETE FROM samples WHERE at < ? AND EXISTS (SELECT 1 FROM samples later WHERE later.subject = samples.subject
			AND later.at > samples.at AND later.at / ? = samples.at / ?)`, before.Unix(), s, s)
	})
}

// Samples gives the uses of a subject from a moment on, oldest first.
func (u *Uses) Samples(ctx context.Context, subject string, from time.Time) (out []Sample, err error) {
	err = each(ctx, u.db, `SELECT at, bytes, files FROM samples WHERE subject = ? AND at >= ? ORDER BY at`, func(rows *sql.Rows) error {
		var s Sample
		var at int64
		err := rows.Scan(&at, &s.Amount.Bytes, &s.Amount.Files)
		s.At = time.Unix(at, 0)
		out = append(out, s)
		return err
	}, subject, from.Unix())
	return out, err
}

// SamplesAt gives the uses of all subjects as they were last written down no later than a moment.
func (u *Uses) SamplesAt(ctx context.Context, until time.Time) (map[string]Sample, error) {
	out := make(map[string]Sample)
	err := each(ctx, u.db, `SELECT subject, max(at), bytes, files FROM samples WHERE at <= ? GROUP BY subject`, func(rows *sql.Rows) error {
		var subject string
		var s Sample
		var at int64
		err := rows.Scan(&subject, &at, &s.Amount.Bytes, &s.Amount.Files)
		s.At = time.Unix(at, 0)
		out[subject] = s
		return err
	}, until.Unix())
	return out, err
}
