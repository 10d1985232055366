package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"

	"amber.example/gatekeeper/internal/core/site"
)

// Pending is an effect that was written down and is not known to be done.
type Pending struct {
	ID     int64
	Row    int64 // of the journal: the change that it belongs to
	Effect site.Effect
}

// saveEffects writes down what a draft has to do on disk.
func (tx *Tx) saveEffects(ctx context.Context, d *site.Draft) (ids []int64, err error) {
	for _, e := range d.Effects() {
		raw, err := json.Marshal(e)
		if err != nil {
			return nil, err
		}
		id, err := tx.Insert(ctx, `INSERT INTO effects (effect) VALUES (?)`, string(raw))
		if err != nil {
			return nil, err
		}
		ids = append(ids, id)
	}
	return ids, nil
}

// Pending lists the effects that are not known to be done, in their order.
func (s *Store) Pending(ctx context.Context) (out []Pending, err error) {
	err = each(ctx, s.db, `SELECT id, row, effect FROM effects ORDER BY id`, func(rows *sql.Rows) error {
		var p Pending
		var raw string
		if err := rows.Scan(&p.ID, &p.Row, &raw); err != nil {
			return err
		}
		if err := json.Unmarshal([]byte(raw), &p.Effect); err != nil {
			return fmt.Errorf("effect %d: %w", p.ID, err)
		}
		out = append(out, p)
		return nil
	})
	return out, err
}

// Settled notes that effects are done, or will not be.
func (s *Store) Settled(ctx context.Context, ids []int64) error {
	return s.Write(ctx, func(tx *Tx) error { return tx.Settled(ctx, ids) })
}

// Settled is the same within a transaction.
func (tx *Tx) Settled(ctx context.Context, ids []int64) error {
	for _, id := range ids {
		if err := tx.Run(ctx, `DELETE FROM effects WHERE id = ?`, id); err != nil {
			return err
		}
	}
	return nil
}

// Belong notes to which row of the journal effects belong.
func (tx *Tx) Belong(ctx context.Context, ids []int64, row int64) error {
	for _, id := range ids {
		if err := tx.Run(ctx, `UPDATE effects SET row = ? WHERE id = ?`, row, id); err != nil {
			return err
		}
	}
	return nil
}
