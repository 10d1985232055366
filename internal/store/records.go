package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"amber.example/gatekeeper/internal/core/site"
)

type querier interface {
	QueryContext(ctx context.Context, query string, args ...any) (*sql.Rows, error)
}

// each calls scan for every row of a query.
func each(ctx context.Context, q querier, query string, scan func(*sql.Rows) error, args ...any) error {
	rows, err := q.QueryContext(ctx, query, args...)
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if err := scan(rows); err != nil {
			return err
		}
	}
	return rows.Err()
}

func (tx *Tx) eachRecord(ctx context.Context, visit func(key site.Key, body json.RawMessage)) error {
	return each(ctx, tx, `SELECT kind, id, body FROM records ORDER BY kind, id`, func(rows *sql.Rows) error {
		var key site.Key
		var body string
		err := rows.Scan(&key.Kind, &key.ID, &body)
		visit(key, json.RawMessage(body))
		return err
	})
}

// Records reads everything that decides anything, in the order of the records' numbers, and the last number that was given of each kind.
func (tx *Tx) Records(ctx context.Context) (site.Records, site.Numbers, error) {
	all, last := make(map[site.Key]json.RawMessage), make(site.Numbers)
	if err := tx.eachRecord(ctx, func(key site.Key, body json.RawMessage) { all[key] = body }); err != nil {
		return site.Records{}, nil, fmt.Errorf("read records: %w", err)
	}
	err := each(ctx, tx, `SELECT kind, last FROM numbers`, func(rows *sql.Rows) error {
		var kind string
		var n int64
		err := rows.Scan(&kind, &n)
		last[kind] = n
		return err
	})
	if err != nil {
		return site.Records{}, nil, fmt.Errorf("read numbers: %w", err)
	}
	r, err := site.Assemble(all)
	if err != nil {
		return r, nil, fmt.Errorf("read %w", err)
	}
	return r, last, nil
}

const (
	putRecord  = `INSERT OR REPLACE INTO records (kind, id, body) VALUES (?, ?, ?)`
	fewChanges = 4
)

// Save writes down what a draft changes, and what goes with it: its secrets, and the end of the sessions of users who have gone or have another
// password. It gives the numbers under which the draft's effects are pending.
func (tx *Tx) Save(ctx context.Context, d *site.Draft, changes []site.Change) (pending []int64, err error) {
	put := func(args ...any) error { return tx.Run(ctx, putRecord, args...) }
	if len(changes) > fewChanges { // read once by the database, and not for each
		stmt, err := tx.PrepareContext(ctx, putRecord)
		if err != nil {
			return nil, err
		}
		defer stmt.Close()
		put = func(args ...any) error {
			_, err := stmt.ExecContext(ctx, args...)
			return err
		}
	}
	for _, c := range changes {
		if c.After == nil {
			err = tx.Run(ctx, `DELETE FROM records WHERE kind = ? AND id = ?`, c.Kind, c.ID)
		} else {
			err = put(c.Kind, c.ID, string(c.After))
		}
		if err != nil {
			return nil, err
		}
	}
	for id, s := range d.Secrets() {
		if err := tx.Run(ctx, `INSERT INTO secrets (id, hash, sealed) VALUES (?, ?, ?)`, id, s.Hash, s.Sealed); err != nil {
			return nil, err
		}
	}
	for kind, last := range d.Given() {
		if err := tx.Run(ctx, `INSERT OR REPLACE INTO numbers (kind, last) VALUES (?, ?)`, kind, last); err != nil {
			return nil, err
		}
	}
	if pending, err = tx.saveEffects(ctx, d); err != nil {
		return nil, err
	}
	return pending, tx.settleSecrets(ctx, changes)
}

// settleSecrets notes which secrets nothing refers to any more, and which something does again.
func (tx *Tx) settleSecrets(ctx context.Context, changes []site.Change) error {
	now := time.Now().UTC().Format(time.RFC3339)
	for _, c := range changes {
		was, is, err := secretsOf(c)
		if err != nil {
			return err
		}
		if slices.Equal(was, is) {
			continue
		}
		for _, id := range was {
			if err := tx.Run(ctx, `UPDATE secrets SET dropped = ? WHERE id = ?`, now, id); err != nil {
				return err
			}
		}
		for _, id := range is {
			if err := tx.Run(ctx, `UPDATE secrets SET dropped = NULL WHERE id = ?`, id); err != nil {
				return err
			}
		}
		if c.Kind == "user" && (len(was) == 0 || len(is) == 0 || was[0] != is[0]) { // another password: the first of them
			if err := tx.Run(ctx, `DELETE FROM sessions WHERE user_id = ?`, c.ID); err != nil {
				return err
			}
		}
	}
	return nil
}

// secretsOf are the secrets that a record referred to and refers to.
func secretsOf(c site.Change) (was, is []int64, err error) {
	of := func(raw json.RawMessage) (out []int64, err error) {
		var v struct {
			Password, Secret, Codes int64
			PastPasswords           []int64
			Mail                    json.RawMessage
		}
		if raw == nil {
			return nil, nil
		}
		switch c.Kind {
		case "user", "hook", "token":
			err = json.Unmarshal(raw, &v)
			out = append([]int64{v.Password, v.Secret, v.Codes}, v.PastPasswords...)
		case "notices":
			var n site.Notices
			err = json.Unmarshal(raw, &n)
			out = []int64{n.Mail.Password}
		}
		return slices.DeleteFunc(out, func(id int64) bool { return id == 0 }), err
	}
	was, err = of(c.Before)
	if err == nil {
		is, err = of(c.After)
	}
	return was, is, err
}

// Secret gives a secret by its number; an empty one for 0, and where it is not kept any more.
func (s *Store) Secret(ctx context.Context, id int64) (out site.Secret, err error) {
	err = s.db.QueryRowContext(ctx, `SELECT hash, sealed FROM secrets WHERE id = ?`, id).Scan(&out.Hash, &out.Sealed)
	if errors.Is(err, sql.ErrNoRows) {
		err = nil
	}
	return out, err
}

// ForgetSecrets forgets those that nothing has referred to since a moment: what was removed longer ago comes back without.
func (s *Store) ForgetSecrets(ctx context.Context, since time.Time) error {
	return s.Write(ctx, func(tx *Tx) error {
		return tx.Run(ctx, `DELETE FROM secrets WHERE dropped < ?`, since.UTC().Format(time.RFC3339))
	})
}
