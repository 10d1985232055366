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
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
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
	require.NoError(b, s.change(ctx, Itself, "fill", "", func(d *site.Draft) error {
		groups := make([]identity.Group, 1001)
		for i := 1; i <= 1000; i++ {
			groups[i] = identity.Group{ID: identity.ID(i), Name: fmt.Sprint("g", i), GID: uint32(20_000 + i)}
			if i%5 != 1 {
				groups[i-1].Members = append(groups[i-1].Members, identity.GroupPrincipal(identity.ID(i)))
			}
		}
		for i := 1; i <= 10_000; i++ {
			site.Put(d, identity.User{ID: identity.ID(i), Name: fmt.Sprint("u", i), UID: uint32(30_000 + i), Primary: identity.ID(1 + rnd.IntN(1000)), SMB: true, NFS: true})
			g := &groups[1+rnd.IntN(1000)]
			g.Members = append(g.Members, identity.UserPrincipal(identity.ID(i)))
		}
		for _, g := range groups[1:] {
			site.Put(d, g)
		}
		site.Put(d, site.Volume{ID: 1, Name: "summit", Path: root})
		for f := int64(1); f <= 200; f++ {
			name := fmt.Sprint("f", f)
			require.NoError(b, os.Mkdir(filepath.Join(root, name), 0o755))
			site.Put(d, site.Folder{ID: f, Name: name, VolumeID: 1, Path: name, Owner: 1, Group: 1, Permissions: site.ByEntries, Ownership: site.Mapped})
			for p := range 25 {
				r := acl.Rule{}
				if p > 0 {
					r.Path = fmt.Sprint("d", p)
				}
				for range 10 {
					r.Entries = append(r.Entries, acl.Entry{Who: identity.UserPrincipal(identity.ID(1 + rnd.IntN(10_000))), Level: acl.Levels[rnd.IntN(5)], Applies: acl.Everywhere, Deny: rnd.IntN(12) == 0})
				}
				d.PutRule(f, r)
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
