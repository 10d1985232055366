package store

import (
	"context"
	"database/sql"
	"encoding/json"
	"fmt"

	"amber.example/gatekeeper/internal/core/site"
)

func (tx *Tx) readNotices(ctx context.Context, r *site.Records) error {
	err := each(ctx, tx, `SELECT record FROM notices`, func(rows *sql.Rows) error {
		var raw string
		if err := rows.Scan(&raw); err != nil {
			return err
		}
		return json.Unmarshal([]byte(raw), &r.Notices)
	})
	if err != nil {
		return fmt.Errorf("read notices: %w", err)
	}
	return each(ctx, tx, `SELECT id, name, site, is_off FROM hooks ORDER BY id`, func(rows *sql.Rows) error {
		var h site.Hook
		err := rows.Scan(&h.ID, &h.Name, &h.Site, &h.Off)
		r.Hooks = append(r.Hooks, h)
		return err
	})
}

// PutNotices writes down who is told of limits. The password of the mail server stays what it is.
func (tx *Tx) PutNotices(ctx context.Context, n site.Notices) error {
	raw, err := json.Marshal(n)
	if err != nil {
		return err
	}
	return tx.Run(ctx, `INSERT INTO notices (id, record) VALUES (1, ?) ON CONFLICT (id) DO UPDATE SET record = excluded.record`, string(raw))
}
