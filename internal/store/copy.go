package store

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"os"

	"amber.example/gatekeeper/internal/core/plain"
)

// CopyTo writes the database, as it is at one moment, into a file that is not there yet. Readers and writers go on meanwhile.
func (s *Store) CopyTo(ctx context.Context, path string) error {
	if _, err := s.db.ExecContext(ctx, `VACUUM INTO ?`, path); err != nil {
		os.Remove(path)
		if ctx.Err() != nil {
			return ctx.Err()
		}
		why, _ := wrong(err)
		return fmt.Errorf("the records cannot be copied to %s: %s", path, cmp.Or(why, plain.Reason(err)))
	}
	return os.Chmod(path, 0o600)
}

// CopyTo writes what is in use into a file that is not there yet.
func (u *Uses) CopyTo(ctx context.Context, path string) error { return u.store.CopyTo(ctx, path) }

// Intact reads the database whole and says whether it is as it should be.
func (s *Store) Intact(ctx context.Context) error {
	var says string
	if err := s.db.QueryRowContext(ctx, `PRAGMA integrity_check(1)`).Scan(&says); err != nil {
		return err
	}
	if says != "ok" {
		return errors.Join(errDamaged, errors.New(says))
	}
	return nil
}
