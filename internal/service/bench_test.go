package service

import (
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/secret"
	"amber.example/gatekeeper/internal/store"
)

// size is how big a site is.
type size struct{ users, groups, folders int } // with 25 paths in each folder, and ten entries on each

var (
	bigSite   = size{10_000, 1000, 200}
	hugeSite  = size{100_000, 5000, 1000}
	bigSites  = map[size]*Service{}
	sitesLeft []func()
)

func TestMain(m *testing.M) {
	secret.Cheap()
	code := m.Run()
	for _, leave := range sitesLeft {
		leave()
	}
	os.Exit(code)
}

// big gives a service with users in groups nested five deep, and entries of users on paths of folders. Benchmarks share it.
func big(b *testing.B, of size) *Service {
	if s := bigSites[of]; s != nil {
		return s
	}
	ctx := context.Background()
	dir, err := os.MkdirTemp("", "big")
	require.NoError(b, err)
	s, err := Open(ctx, filepath.Join(dir, "state"))
	require.NoError(b, err)
	sitesLeft = append(sitesLeft, func() { s.Close(); os.RemoveAll(dir) })
	root := filepath.Join(dir, "volume")
	require.NoError(b, os.Mkdir(root, 0o755))
	rnd := rand.New(rand.NewPCG(8, 60))
	require.NoError(b, s.change(ctx, Itself, "fill", "", func(d *site.Draft) error {
		groups := make([]identity.Group, of.groups+1)
		for i := 1; i <= of.groups; i++ {
			groups[i] = identity.Group{ID: identity.ID(i), Name: fmt.Sprint("g", i), GID: uint32(200_000 + i)}
			if i%5 != 1 {
				groups[i-1].Members = append(groups[i-1].Members, identity.GroupPrincipal(identity.ID(i)))
			}
		}
		for i := 1; i <= of.users; i++ {
			site.Put(d, identity.User{ID: identity.ID(i), Name: fmt.Sprint("u", i), UID: uint32(30_000 + i), Primary: identity.ID(1 + rnd.IntN(of.groups)), SMB: true, NFS: true})
			g := &groups[1+rnd.IntN(of.groups)]
			g.Members = append(g.Members, identity.UserPrincipal(identity.ID(i)))
		}
		for _, g := range groups[1:] {
			site.Put(d, g)
		}
		site.Put(d, site.Volume{ID: 1, Name: "summit", Path: root, Counting: site.CountNothing})
		for f := int64(1); f <= int64(of.folders); f++ {
			name := fmt.Sprint("f", f)
			require.NoError(b, os.Mkdir(filepath.Join(root, name), 0o755))
			site.Put(d, site.Folder{ID: f, Name: name, VolumeID: 1, Path: name, Owner: 1, Group: 1, Permissions: site.ByEntries, Ownership: site.Mapped})
			for p := range 25 {
				r := acl.Rule{}
				if p > 0 {
					r.Path = fmt.Sprint("d", p)
				}
				for range 10 {
					r.Entries = append(r.Entries, acl.Entry{Who: identity.UserPrincipal(identity.ID(1 + rnd.IntN(of.users))), Level: acl.Levels[rnd.IntN(5)], Applies: acl.Everywhere, Deny: rnd.IntN(12) == 0})
				}
				d.PutRule(f, r)
			}
		}
		return nil
	}))
	bigSites[of] = s
	return s
}

// typical is what something takes when nothing else is in its way: the lower quartile of so many times.
func typical(_ *testing.B, times int, do func(i int)) time.Duration {
	return typicalOf(times, do, func() {})
}

// typicalOf is the same, with something that is done after each time and does not count.
func typicalOf(times int, do func(i int), after func()) time.Duration {
	took := make([]time.Duration, times)
	for i := range took {
		begun := time.Now()
		do(i)
		took[i] = time.Since(begun)
		after()
	}
	slices.Sort(took)
	return took[times/4]
}

// addOne is a change of one entry, and memberOne one of one member, a different one each time.
func addOne(b *testing.B, s *Service) func(int) {
	return func(i int) {
		_, err := s.AddEntry(context.Background(), Itself, "f9", EntryInput{Who: fmt.Sprint("g", 1+i%900), Level: "read"})
		require.NoError(b, err)
	}
}

func memberOne(b *testing.B, s *Service) func(int) {
	return func(i int) {
		require.NoError(b, s.AddMember(context.Background(), Itself, fmt.Sprint("g", 1+i%900), fmt.Sprint("u", 1+i)))
	}
}

// commits is what it takes to write down, durably, the rows that a change last wrote.
func commits(b *testing.B, s *Service, times int) time.Duration {
	ctx := context.Background()
	rows, err := s.Journal(ctx, store.Match{Back: true, Most: 1})
	require.NoError(b, err)
	require.NoError(b, s.store.Write(ctx, func(tx *store.Tx) error {
		return tx.Run(ctx, `CREATE TABLE IF NOT EXISTS bare (seq INTEGER PRIMARY KEY, body TEXT, changes TEXT)`)
	}))
	changes, err := json.Marshal(rows[0].Changes)
	require.NoError(b, err)
	return typical(b, times, func(int) {
		require.NoError(b, s.store.Write(ctx, func(tx *store.Tx) error {
			for _, c := range rows[0].Changes {
				if err := tx.Run(ctx, `INSERT INTO bare (body) VALUES (?)`, string(c.After)); err != nil {
					return err
				}
			}
			return tx.Run(ctx, `INSERT INTO bare (changes) VALUES (?)`, string(changes))
		}))
	})
}

func compiles(b *testing.B, s *Service, times int) time.Duration {
	return typical(b, times, func(int) {
		_, err := site.Compile(s.force.Load().records)
		require.NoError(b, err)
	})
}

func ratio(a, b time.Duration) float64 { return float64(a) / float64(b) }

// A change of one entry on a big site, beside its own commit and a whole compilation; the limit is 3 times their sum. A thousand in one set beside
// twenty; and what it takes to try one out beside a compilation and a comparison, where the limit is 2.
func BenchmarkChanges(b *testing.B) {
	s, ctx := big(b, bigSite), context.Background()
	for b.Loop() {
		one := typical(b, 51, addOne(b, s))
		own, compilation := commits(b, s, 51), compiles(b, s, 11)
		b.ReportMetric(one.Seconds()*1000, "ms/change")
		b.ReportMetric(ratio(one, own+compilation), "change/(commit+compile)")
		b.ReportMetric(ratio(one, own), "change/commit")
		thousand := func(int) {
			_, err := s.Make(ctx, Itself, 0, func(ctx context.Context, t *Service) error {
				for i := range 1000 {
					if _, err := t.AddEntry(ctx, Itself, fmt.Sprint("f", 1+i%200), EntryInput{Who: fmt.Sprint("g", 1+i%900), Level: "read"}); err != nil {
						return err
					}
				}
				return nil
			})
			require.NoError(b, err)
		}
		undo := func() {
			_, err := s.Undo(ctx, Itself, nil)
			require.NoError(b, err)
		}
		b.ReportMetric(ratio(typicalOf(5, thousand, undo), one), "thousand/one")
		// Beside it on a disk that takes a millisecond to have something safe, as most do that really do.
		failPoint = func(name string) {
			if name == "before the commit" {
				time.Sleep(time.Millisecond)
			}
		}
		b.ReportMetric(ratio(typicalOf(5, thousand, undo), typical(b, 51, addOne(b, s))), "thousand/one-at-1ms")
		failPoint = func(string) {}
		compare := typical(b, 5, func(int) { s.Effect(s) })
		tried := typical(b, 5, func(int) {
			trial, err := s.Preview(ctx, func(ctx context.Context, t *Service) error {
				_, err := t.AddEntry(ctx, Itself, "f9", EntryInput{Who: "g17", Level: "change"})
				return err
			})
			require.NoError(b, err)
			s.Effect(trial)
		})
		b.ReportMetric(tried.Seconds()*1000, "ms/preview")
		b.ReportMetric(ratio(tried, compilation+compare), "preview/(compile+compare)")
	}
}

// The same changes on a site with ten times the people and five times the entries, beside the big one; the limits are 2 for a change and 12 for
// compiling everything.
func BenchmarkChangesOfAHugeSite(b *testing.B) {
	small, large := big(b, bigSite), big(b, hugeSite)
	for b.Loop() {
		entryLarge := typical(b, 101, addOne(b, large))
		b.ReportMetric(entryLarge.Seconds()*1000, "ms/entry")
		b.ReportMetric(ratio(entryLarge, typical(b, 101, addOne(b, small))), "entry")
		b.ReportMetric(ratio(typical(b, 51, memberOne(b, large)), typical(b, 51, memberOne(b, small))), "member")
		var ofLarge, ofSmall []time.Duration
		for range 11 { // in turns, so that a machine that is slower for a while is so for both
			ofLarge, ofSmall = append(ofLarge, compiles(b, large, 1)), append(ofSmall, compiles(b, small, 5))
		}
		slices.Sort(ofLarge)
		slices.Sort(ofSmall)
		b.ReportMetric(ofLarge[5].Seconds()*1000, "ms/compile")
		b.ReportMetric(ratio(ofLarge[5], ofSmall[5]), "compile")
	}
}

// A past moment of a big site with 100,000 rows in its journal, the furthest from a state that was kept; beside it what it takes to read the journal up to
// there, as it would have to be without.
func BenchmarkThePastOfABigSite(b *testing.B) {
	s, ctx := big(b, bigSite), context.Background()
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
