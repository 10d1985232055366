package store

import (
	"context"
	"database/sql"
)

// Remembered lists the NFS clients of a kind that held state when the service last ran.
func (s *Store) Remembered(ctx context.Context, kind string) ([][]byte, error) {
	var out [][]byte
	err := each(ctx, s.db, `SELECT owner FROM nfs_clients WHERE kind = ?`, func(rows *sql.Rows) error {
		var owner []byte
		err := rows.Scan(&owner)
		out = append(out, owner)
		return err
	}, kind)
	return out, err
}

// Remember writes down that an NFS client holds state.
func (s *Store) Remember(ctx context.Context, kind string, owner []byte) error {
	return s.Write(ctx, func(tx *Tx) error {
		return tx.Run(ctx, `INSERT OR IGNORE INTO nfs_clients (kind, owner) VALUES (?, ?)`, kind, owner)
	})
}

// Forget removes an NFS client that holds none any more.
func (s *Store) Forget(ctx context.Context, kind string, owner []byte) error {
	return s.Write(ctx, func(tx *Tx) error {
		return tx.Run(ctx, `DELETE FROM nfs_clients WHERE kind = ? AND owner = ?`, kind, owner)
	})
}
