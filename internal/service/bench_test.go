package service

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/store"
)

// big fills a service with 10,000 users, 1,000 groups nested five deep, and 200 folders with 50,000
// entries on 5,000 paths.
func big(b *testing.B) *Service {
	ctx := context.Background()
	s, err := Open(ctx, b.TempDir())
	require.NoError(b, err)
	b.Cleanup(func() { s.Close() })
	root := b.TempDir()
	rnd := rand.New(rand.NewPCG(8, 60))
	require.NoError(b, s.change(ctx, Itself, "fill", "", func(tx *store.Tx) error {
		run := func(query string, args ...any) {
			require.NoError(b, tx.Run(ctx, query, args...))
		}
		for i := 1; i <= 1000; i++ {
			run(`INSERT INTO groups (id, name, gid) VALUES (?, ?, ?)`, i, fmt.Sprint("g", i), 20_000+i)
			if i%5 != 1 {
				run(`INSERT INTO members (group_id, member_group) VALUES (?, ?)`, i-1, i)
			}
		}
		for i := 1; i <= 10_000; i++ {
			run(`INSERT INTO users (id, name, uid, primary_group) VALUES (?, ?, ?, ?)`, i, fmt.Sprint("u", i), 30_000+i, 1+rnd.IntN(1000))
			run(`INSERT OR IGNORE INTO members (group_id, user_id) VALUES (?, ?)`, 1+rnd.IntN(1000), i)
		}
		run(`INSERT INTO volumes (id, name, path) VALUES (1, 'summit', ?)`, root)
		for f := 1; f <= 200; f++ {
			name := fmt.Sprint("f", f)
			require.NoError(b, os.Mkdir(filepath.Join(root, name), 0o755))
			run(`INSERT INTO folders (id, name, volume_id, path, owner_id, group_id, permissions, ownership) VALUES (?, ?, 1, ?, 1, 1, 'acl', 'mapped')`, f, name, name)
			for p := range 25 {
				path := ""
				if p > 0 {
					path = fmt.Sprint("d", p)
				}
				place, err := tx.Place(ctx, int64(f), path)
				require.NoError(b, err)
				for range 10 {
					e := acl.Entry{Level: acl.Levels[rnd.IntN(5)], Applies: acl.Everywhere, Deny: rnd.IntN(12) == 0}
					e.Who.Kind, e.Who.ID = 2, 1
					run(`INSERT INTO entries (place_id, deny, user_id, level, applies) VALUES (?, ?, ?, ?, 7)`, place, e.Deny, 1+rnd.IntN(10_000), int64(e.Level))
				}
			}
		}
		return nil
	}))
	return s
}

// A whole change on a big site: read, written, journalled, compiled, swapped.
func BenchmarkChangeOfABigSite(b *testing.B) {
	s := big(b)
	i := 0
	for b.Loop() {
		name := fmt.Sprint("Somebody ", i)
		_, err := s.UpdateUser(context.Background(), Itself, "u7", UserChange{FullName: &name})
		require.NoError(b, err)
		i++
	}
}

// The same, tried out and compared with what is in force.
func BenchmarkPreviewOfABigSite(b *testing.B) {
	s := big(b)
	for b.Loop() {
		trial, err := s.Try(context.Background(), func(ctx context.Context, t *Service) error {
			_, err := t.AddEntry(ctx, Itself, "f9", EntryInput{Who: "g17", Level: "change"})
			return err
		})
		require.NoError(b, err)
		s.Effect(trial)
	}
}

// A past moment of a big site with 100,000 rows in its journal, the furthest from a state that was kept; beside it what it takes to read the journal up to
// there, as it would have to be without.
func BenchmarkThePastOfABigSite(b *testing.B) {
	s, ctx := big(b), context.Background()
	const rows = 100_000
	for done := 0; done < rows; {
		require.NoError(b, s.store.Write(ctx, func(tx *store.Tx) error {
			for range 1000 {
				done++
				u := s.Policy().Directory.Users()[done%5000]
				was, err := json.Marshal(u)
				require.NoError(b, err)
				u.FullName = fmt.Sprint("Somebody ", done)
				is, err := json.Marshal(u)
				require.NoError(b, err)
				if err := tx.Append(ctx, &store.JournalRow{At: time.Now(), Actor: "keeper", Action: "change user", Subject: u.Name, Changes: []store.Change{{Kind: "user", ID: int64(u.ID), Before: was, After: is}}}); err != nil {
					return err
				}
			}
			return nil
		}))
	}
	at := int64(89_999) // those before the last few are kept of every ten thousand
	begun := time.Now()
	all, err := s.store.Journal(ctx, store.Match{Before: at + 1})
	require.NoError(b, err)
	_, err = store.Rebuild(all)
	require.NoError(b, err)
	whole := time.Since(begun)
	for b.Loop() {
		_, err := s.store.RecordsAt(ctx, at)
		require.NoError(b, err)
	}
	b.ReportMetric(float64(b.Elapsed()/time.Duration(b.N))/float64(whole), "times-without")
}
