package service

import (
	"context"
	"database/sql"
	"errors"
	"fmt"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/store"
)

// MoveRules renames a directory that has rules on it or below, and its rules
// with it: rename does it on disk. What is intended is written down first, so that a
// crash at any point leaves the rules with the directory; see settleMoves.
func (s *Service) MoveRules(ctx context.Context, folder int64, from, to string, rename func() error) error {
	var id int64
	err := s.store.Write(ctx, func(tx *store.Tx) (err error) {
		id, err = tx.Insert(ctx, `INSERT INTO moves (folder_id, from_path, to_path) VALUES (?, ?, ?)`, folder, from, to)
		return err
	})
	if err != nil {
		return err
	}
	if err := rename(); err != nil {
		return errors.Join(err, s.store.Write(ctx, func(tx *store.Tx) error { return tx.Run(ctx, `DELETE FROM moves WHERE id = ?`, id) }))
	}
	return s.finishMove(ctx, id, folder, from, to)
}

// WriteRule puts a rule in the place of what is written on a path, on behalf of a user who may decide
// about it: whoever calls has seen to that.
func (s *Service) WriteRule(ctx context.Context, folder int64, by identity.ID, r acl.Rule) error {
	f := s.Policy().Folder(folder)
	u := s.Policy().Directory.User(by)
	if f == nil || u == nil {
		return files.ErrGone
	}
	return s.change(ctx, Actor{ID: u.ID, Name: u.Name, Role: entitled}, "set entries", f.Display(r.Path), func(tx *store.Tx) error {
		if err := putRule(ctx, tx, folder, r); err != nil {
			return err
		}
		return tx.PrunePlaces(ctx, folder)
	})
}

func (s *Service) finishMove(ctx context.Context, id, folder int64, from, to string) error {
	f := s.Policy().Folder(folder)
	return s.change(ctx, Itself, "rename", fmt.Sprintf("%s to %s", f.Display(from), f.Display(to)), func(tx *store.Tx) error {
		if err := tx.MovePlace(ctx, folder, from, to); err != nil {
			return err
		}
		return tx.Run(ctx, `DELETE FROM moves WHERE id = ?`, id)
	})
}

type move struct {
	id, folder int64
	from, to   string
}

// settleMoves looks at what a crash left: where the directory has its new name the
// rules follow, where it has the old one nothing happened.
func (s *Service) settleMoves(ctx context.Context) error {
	rows, err := s.store.DB().QueryContext(ctx, `SELECT id, folder_id, from_path, to_path FROM moves ORDER BY id`)
	if err != nil {
		return err
	}
	moves, err := scanMoves(rows)
	if err != nil {
		return err
	}
	for _, m := range moves {
		f := s.Policy().Folder(m.folder)
		was, errWas := files.Find(f.Root, m.from)
		is, errIs := files.Find(f.Root, m.to)
		if errWas == nil && errIs == nil && !was.Exists && is.Exists {
			err = s.finishMove(ctx, m.id, m.folder, m.from, m.to)
		} else {
			err = s.store.Write(ctx, func(tx *store.Tx) error { return tx.Run(ctx, `DELETE FROM moves WHERE id = ?`, m.id) })
		}
		if err != nil {
			return fmt.Errorf("settle the rename of %s: %w", f.Display(m.from), err)
		}
	}
	return nil
}

func scanMoves(rows *sql.Rows) ([]move, error) {
	defer rows.Close()
	var out []move
	for rows.Next() {
		var m move
		if err := rows.Scan(&m.id, &m.folder, &m.from, &m.to); err != nil {
			return nil, err
		}
		out = append(out, m)
	}
	return out, rows.Err()
}
