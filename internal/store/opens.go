package store

import (
	"context"
	"database/sql"
)

// OpensFileName is the name of the database of what clients have open that outlasts the service. Without it, they open it anew.
const OpensFileName = "opens.sqlite"

const opensSchema = `CREATE TABLE IF NOT EXISTS opens (id INTEGER PRIMARY KEY, body BLOB NOT NULL) STRICT;`

// Opens is what clients have open that outlasts the service, each as whoever has it open wrote it down.
type Opens struct {
	*Store
	Lost error // why it is in memory alone; nil where it is not
}

// OpenOpens opens the database in dir, making it if there is none. One that is damaged is put aside, under the name that is given back, and an
// empty one takes its place.
func OpenOpens(ctx context.Context, dir string) (o *Opens, aside string, err error) {
	db, aside, lost, err := openAside(ctx, dir, OpensFileName, opensSchema)
	if err != nil {
		return nil, "", err
	}
	return &Opens{&Store{db: db}, lost}, aside, nil
}

// Keep writes one down, in the place of what was written under its number before.
func (o *Opens) Keep(ctx context.Context, id uint64, body []byte) error {
	return o.Write(ctx, func(tx *Tx) error {
		return tx.Run(ctx, `INSERT OR REPLACE INTO opens (id, body) VALUES (?, ?)`, int64(id), body)
	})
}

// Forget is for one that is closed.
func (o *Opens) Forget(ctx context.Context, id uint64) error {
	return o.Write(ctx, func(tx *Tx) error { return tx.Run(ctx, `DELETE FROM opens WHERE id = ?`, int64(id)) })
}

// Kept gives all of them.
func (o *Opens) Kept(ctx context.Context) (map[uint64][]byte, error) {
	out := make(map[uint64][]byte)
	err := each(ctx, o.db, `SELECT id, body FROM opens`, func(rows *sql.Rows) error {
		var id int64
		var body []byte
		err := rows.Scan(&id, &body)
		out[uint64(id)] = body
		return err
	})
	return out, err
}
