package service

import (
	"context"
	"log/slog"
	"slices"
	"strings"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/site"
)

// spellNames has the records spell names as plain.Spell does. Those from before names could be any bytes have some as they
// are on disk: with a backslash, or with characters that do not show themselves, set by an NFS client.
func (s *Service) spellNames(ctx context.Context) error {
	spelled := func(path string) bool { return spellPath(path) == path }
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
	return s.change(ctx, Itself, "spell names", "", func(d *site.Draft) error {
		for _, f := range slices.Clone(d.Records().Folders) {
			for _, r := range slices.Clone(f.Rules) {
				if is := spellPath(r.Path); is != r.Path {
					d.PutRule(f.ID, acl.Rule{Path: r.Path})
					r.Path = is
					d.PutRule(f.ID, r)
				}
			}
		}
		for _, l := range slices.Clone(d.Records().Limits) {
			if is := spellPath(l.Path); is != l.Path {
				l.Path = is
				site.Put(d, l)
			}
		}
		return nil
	})
}

// spellPath spells those names of a path that are not spelled yet.
func spellPath(path string) string {
	names := strings.Split(path, "/")
	for i, name := range names {
		if plain.Spell(plain.Unspell(name)) != name {
			names[i] = plain.Spell(name)
		}
	}
	return strings.Join(names, "/")
}
