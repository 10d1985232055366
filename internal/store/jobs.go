package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"time"

	"amber.example/gatekeeper/internal/job"
)

// Jobs gives all jobs that are written down, in the order of their numbers.
func (s *Store) Jobs(ctx context.Context) (out []job.Record, err error) {
	const query = `SELECT id, kind, args, text, actor, begun, done, total, mark, ended, error, result FROM jobs ORDER BY id`
	err = each(ctx, s.db, query, func(rows *sql.Rows) error {
		var r job.Record
		var args, begun, ended string
		var result sql.NullString
		if err := rows.Scan(&r.ID, &r.Kind, &args, &r.Text, &r.Actor, &begun, &r.Done, &r.Total, &r.Mark, &ended, &r.Error, &result); err != nil {
			return err
		}
		r.Args = json.RawMessage(args)
		if result.Valid {
			r.Result = json.RawMessage(result.String)
		}
		r.Begun, _ = time.Parse(time.RFC3339, begun) // those from before that was written down have none
		if r.Text == "" {                            // likewise
			r.Text = "go on with " + r.Kind
		}
		if ended != "" {
			if r.Ended, err = time.Parse(time.RFC3339Nano, ended); err != nil {
				return err
			}
		}
		out = append(out, r)
		return nil
	})
	return out, err
}

// AddJob writes a job down and gives its number.
func (tx *Tx) AddJob(ctx context.Context, r job.Record) (int64, error) {
	return tx.Insert(ctx, `INSERT INTO jobs (kind, args, text, actor, begun) VALUES (?, ?, ?, ?, ?)`, r.Kind, string(r.Args), r.Text, r.Actor, r.Begun.UTC().Format(time.RFC3339))
}

// AddJob writes a job down by itself and gives its number.
func (s *Store) AddJob(ctx context.Context, r job.Record) (id int64, err error) {
	err = s.Write(ctx, func(tx *Tx) error {
		id, err = tx.AddJob(ctx, r)
		return err
	})
	return id, err
}

// NoteJob writes down how far a job is.
func (s *Store) NoteJob(ctx context.Context, id int64, p job.Progress) error {
	return s.Write(ctx, func(tx *Tx) error {
		return tx.Run(ctx, `UPDATE jobs SET done = ?, total = ?, mark = ? WHERE id = ?`, p.Done, p.Total, p.Mark, id)
	})
}

// EndJob writes down how a job ended, and forgets all that have ended but the latest.
func (s *Store) EndJob(ctx context.Context, r job.Record, keep int) error {
	return s.Write(ctx, func(tx *Tx) error {
		var result any
		if r.Result != nil {
			result = string(r.Result)
		}
		err := tx.Run(ctx, `UPDATE jobs SET done = ?, total = ?, ended = ?, error = ?, result = ? WHERE id = ?`, r.Done, r.Total, r.Ended.UTC().Format(time.RFC3339Nano), r.Error, result, r.ID)
		if err != nil {
			return err
		}
		return tx.Run(ctx, `DELETE FROM jobs WHERE ended != '' AND id NOT IN (SELECT id FROM jobs WHERE ended != '' ORDER BY id DESC LIMIT ?)`, keep)
	})
}
