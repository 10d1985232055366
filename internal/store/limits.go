package store

import (
	"context"
	"database/sql"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/site"
)

func (tx *Tx) readLimits(ctx context.Context, r *site.Records) error {
	return each(ctx, tx, `SELECT id, kind, user_id, group_id, volume_id, folder_id, path, soft_bytes, hard_bytes, soft_files, hard_files, grace_seconds FROM limits ORDER BY id`, func(rows *sql.Rows) error {
		var l limit.Limit
		var user, group, volume, folder sql.NullInt64
		err := rows.Scan(&l.ID, &l.Kind, &user, &group, &volume, &folder, &l.Path, &l.SoftBytes, &l.HardBytes, &l.SoftFiles, &l.HardFiles, &l.GraceSeconds)
		l.User, l.Group, l.Volume, l.Folder = identity.ID(user.Int64), identity.ID(group.Int64), volume.Int64, folder.Int64
		r.Limits = append(r.Limits, l)
		return err
	})
}

// PutLimit writes a limit: in the place of the one that its subject has with the same reach, if there is one. It gives
// its number.
func (tx *Tx) PutLimit(ctx context.Context, l limit.Limit) (id int64, err error) {
	err = tx.QueryRowContext(ctx, `INSERT INTO limits (kind, user_id, group_id, volume_id, folder_id, path, soft_bytes, hard_bytes, soft_files, hard_files, grace_seconds)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)
		ON CONFLICT (kind, ifnull(user_id, 0), ifnull(group_id, 0), ifnull(volume_id, 0), ifnull(folder_id, 0), path) DO UPDATE SET
		soft_bytes = excluded.soft_bytes, hard_bytes = excluded.hard_bytes, soft_files = excluded.soft_files, hard_files = excluded.hard_files,
		grace_seconds = excluded.grace_seconds RETURNING id`,
		string(l.Kind), orNull(int64(l.User)), orNull(int64(l.Group)), orNull(l.Volume), orNull(l.Folder), l.Path,
		l.SoftBytes, l.HardBytes, l.SoftFiles, l.HardFiles, l.GraceSeconds).Scan(&id)
	return id, err
}

// MoveLimits has the limits at a path of a folder, and below it, be at another.
func (tx *Tx) MoveLimits(ctx context.Context, folder int64, from, to string) error {
	return tx.Run(ctx, `UPDATE limits SET path = ? || substr(path, length(?) + 1) WHERE folder_id = ? AND kind = 'folder'
		AND (path = ? OR substr(path, 1, length(?) + 1) = ? || '/')`, to, from, folder, from, from, from)
}

func orNull(id int64) any {
	if id == 0 {
		return nil
	}
	return id
}
