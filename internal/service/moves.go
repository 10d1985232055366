package service

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"time"

	"amber.example/gatekeeper/internal/contain"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/store"
)

// How often, and how far apart at most, the second half of a rename is tried again.
const (
	moveTries  = 8
	movePauses = 2 * time.Second
)

// MoveRules renames a directory that has rules on it or below, and its rules
// with it: move does it on disk. What is intended is written down first, so that a
// crash at any point leaves the rules with the directory; see settleMoves.
//
// Once that is written it runs to its end, whatever becomes of the caller. Where the rules cannot be
// written down, back takes the rename back; where that cannot be done either it is tried again for as long as
// it takes, and as the caller holds the folder meanwhile, nobody is let in by rules that are at the
// wrong place.
func (s *Service) MoveRules(ctx context.Context, folder int64, from, to string, move, back func() error) error {
	var id int64
	err := s.store.Write(ctx, func(tx *store.Tx) (err error) {
		id, err = tx.Insert(ctx, `INSERT INTO moves (folder_id, from_path, to_path) VALUES (?, ?, ?)`, folder, from, to)
		return err
	})
	if err != nil {
		return err
	}
	ctx = context.WithoutCancel(ctx)
	if err := move(); err != nil {
		return errors.Join(err, s.forgetMove(ctx, id))
	}
	pause := 10 * time.Millisecond
	for try := 1; ; try++ {
		if err = s.finishMove(ctx, id, folder, from, to); err == nil {
			return nil
		}
		slog.Error("the rules of a renamed directory cannot be moved along yet", "from", from, "to", to, "tries", try, "error", err)
		if try >= moveTries || s.closing() {
			if backErr := back(); backErr == nil {
				return errors.Join(err, s.forgetMove(ctx, id))
			}
			if s.closing() { // the next start settles it, before anything is served
				return err
			}
		}
		time.Sleep(pause)
		pause = min(2*pause, movePauses)
	}
}

// forgetMove takes back what was intended and has not come to pass. It is tried for as long as the service
// runs: a later start must not take it for one that was cut off.
func (s *Service) forgetMove(ctx context.Context, id int64) error {
	forget := func() error {
		return s.store.Write(ctx, func(tx *store.Tx) error { return tx.Run(ctx, `DELETE FROM moves WHERE id = ?`, id) })
	}
	err := forget()
	if err != nil {
		contain.Go(&s.background.wait, "taking back what was intended", func() {
			for pause := 50 * time.Millisecond; !s.closing(); pause = min(2*pause, movePauses) {
				time.Sleep(pause)
				if forget() == nil {
					return
				}
			}
		})
	}
	return err
}

// WriteRule puts a rule in the place of what is written on a path, on behalf of a user who may decide
// about it: whoever calls has seen to that.
func (s *Service) WriteRule(ctx context.Context, folder int64, by identity.ID, r acl.Rule) error {
	f := s.Policy().Folder(folder)
	u := s.Policy().Directory.User(by)
	if f == nil || u == nil {
		return files.ErrGone
	}
	return s.change(ctx, Actor{ID: u.ID, Name: u.Name, Role: entitled}, "set entries", f.Display(r.Path), func(d *site.Draft) error {
		putRule(d, folder, r)
		return nil
	})
}

func (s *Service) finishMove(ctx context.Context, id, folder int64, from, to string) error {
	f := s.Policy().Folder(folder)
	if f == nil { // it has gone meanwhile, and its rules with it
		return s.forgetMove(ctx, id)
	}
	return s.change(ctx, Itself, "rename", fmt.Sprintf("%s to %s", f.Display(from), f.Display(to)), func(d *site.Draft) error {
		d.MoveRules(folder, from, to)
		return nil
	}, func(tx *store.Tx) error { return tx.Run(ctx, `DELETE FROM moves WHERE id = ?`, id) })
}

type move struct {
	id, folder int64
	from, to   string
}

// settleMoves looks at what a crash left: where the directory has its new name the
// rules follow, where it has the old one nothing happened.
//
// Folders whose volume is away are held up until it is back. Once the service runs, all is false: the other
// renames there are, are under way.
func (s *Service) settleMoves(ctx context.Context, all bool) error {
	rows, err := s.store.DB().QueryContext(ctx, `SELECT id, folder_id, from_path, to_path FROM moves ORDER BY id`)
	if err != nil {
		return err
	}
	moves, err := scanMoves(rows)
	if err != nil {
		return err
	}
	s.volumes.mu.Lock()
	heldUp := maps.Clone(s.volumes.heldUp)
	s.volumes.mu.Unlock()
	still := make(map[int64]bool)
	for _, m := range moves {
		if !all && !heldUp[m.folder] {
			continue // it is under way
		}
		f := s.Policy().Folder(m.folder)
		if f == nil {
			if err := s.forgetMove(ctx, m.id); err != nil {
				return err
			}
			continue
		}
		was, errWas := files.Find(f.At, m.from)
		is, errIs := files.Find(f.At, m.to)
		if errors.Is(errWas, files.ErrIO) || errors.Is(errIs, files.ErrIO) { // its disk is away
			still[m.folder] = true
			continue
		}
		if errWas == nil && errIs == nil && !was.Exists && is.Exists {
			err = s.finishMove(ctx, m.id, m.folder, m.from, m.to)
		} else {
			err = s.store.Write(ctx, func(tx *store.Tx) error { return tx.Run(ctx, `DELETE FROM moves WHERE id = ?`, m.id) })
		}
		if err != nil {
			return fmt.Errorf("settle the rename of %s: %w", f.Display(m.from), err)
		}
	}
	s.volumes.mu.Lock()
	defer s.volumes.mu.Unlock()
	s.volumes.heldUp = still
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
