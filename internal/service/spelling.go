package service

import (
	"context"
	"log/slog"

	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/store"
)

// spellNames has the records spell names as plain.Spell does. Those from before names could be any bytes have some as they
// are on disk: with a backslash, or with characters that do not show themselves, set by an NFS client.
func (s *Service) spellNames(ctx context.Context) error {
	spelled := func(path string) bool { return plain.Spell(plain.Unspell(path)) == path }
	clean := true
	for _, f := range s.Policy().Folders {
		for _, r := range f.Rules {
			clean = clean && spelled(r.Path)
		}
	}
	for _, l := range s.Policy().Limits.Limits {
		clean = clean && spelled(l.Path)
	}
	if clean {
		return nil
	}
	slog.Info("names that are not text are spelled from now on")
	return s.change(ctx, Itself, "spell names", "", func(tx *store.Tx) error {
		for _, of := range []struct{ list, set string }{
			{`SELECT id, name FROM places`, `UPDATE places SET name = ? WHERE id = ?`},
			{`SELECT id, path FROM limits`, `UPDATE limits SET path = ? WHERE id = ?`},
		} {
			texts, err := tx.Texts(ctx, of.list)
			if err != nil {
				return err
			}
			for id, text := range texts {
				if spelled(text) {
					continue
				}
				if err := tx.Run(ctx, of.set, plain.Spell(text), id); err != nil {
					return err
				}
			}
		}
		return nil
	})
}
