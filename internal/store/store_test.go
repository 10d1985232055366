package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/core/site"
)

func openStore(t require.TestingT, dir string) *Store {
	s, err := Open(context.Background(), dir)
	require.NoError(t, err)
	return s
}

func TestAFailedWriteLeavesNothing(t *testing.T) {
	dir, ctx := t.TempDir(), context.Background()
	s := openStore(t, dir)
	no := errors.New("no")
	err := s.Write(ctx, func(tx *Tx) error {
		require.NoError(t, tx.Run(ctx, `INSERT INTO volumes (name, path) VALUES ('summit', '/srv')`))
		require.NoError(t, tx.Append(ctx, &JournalRow{At: time.Now(), Actor: "keeper", Action: "add volume"}))
		return no
	})
	require.ErrorIs(t, err, no)
	n, err := s.VerifyJournal(ctx)
	require.NoError(t, err)
	require.Zero(t, n)
	require.NoError(t, s.Close())
	s = openStore(t, dir) // and again on what is there: migrations have nothing to do
	require.NoError(t, s.Write(ctx, func(tx *Tx) error {
		r, err := tx.Records(ctx)
		require.Empty(t, r.Volumes)
		require.True(t, r.Services.SMB)
		return err
	}))
	require.NoError(t, s.Close())
}

// The schema refuses what no use case should ever write.
func TestTheSchemaHoldsItsOwn(t *testing.T) {
	s, ctx := openStore(t, t.TempDir()), context.Background()
	defer s.Close()
	for _, bad := range []string{
		`INSERT INTO users (name, uid) VALUES ('a', 1), ('A', 2)`, `INSERT INTO users (name, uid) VALUES ('a', 1), ('b', 1)`,
		`INSERT INTO users (name, uid) VALUES ('a', -1)`, `INSERT INTO users (name, uid, role) VALUES ('a', 1, 'king')`,
		`INSERT INTO users (name, uid, primary_group) VALUES ('a', 1, 7)`, `INSERT INTO groups (name, gid) VALUES ('a', 4294967295)`,
		`INSERT INTO members (group_id) VALUES (1)`, `INSERT INTO folders (name, volume_id, path) VALUES ('f', 1, 'f')`,
		`INSERT INTO entries (special, level, applies) VALUES (5, 1, 1)`, `INSERT INTO services VALUES ('ftp', 1)`,
	} {
		require.Error(t, s.Write(ctx, func(tx *Tx) error { return tx.Run(ctx, bad) }), bad)
	}
}

// Renaming places in the tree of rows does what renaming paths in a list does.
func TestPlacesMoveLikePaths(t *testing.T) {
	dir := t.TempDir()
	s, ctx := openStore(t, dir), context.Background()
	defer s.Close()
	folder := int64(0)
	rapid.Check(t, func(t *rapid.T) {
		require.NoError(t, s.Write(ctx, func(tx *Tx) error {
			v, err := tx.Insert(ctx, `INSERT INTO volumes (name, path) VALUES (?, ?)`, fmt.Sprint("v", folder), fmt.Sprint("/v", folder))
			require.NoError(t, err)
			folder, err = tx.Insert(ctx, `INSERT INTO folders (name, volume_id, path) VALUES (?, ?, 'f')`, fmt.Sprint("f", folder), v)
			return err
		}))
		paths := rapid.SampledFrom([]string{"a", "b", "a/b", "a/c", "a/b/c", "b/a", "d/e/f"})
		model := make(map[string]bool)
		for range rapid.IntRange(1, 5).Draw(t, "rules") {
			path := paths.Draw(t, "rule")
			model[path] = true
			require.NoError(t, s.Write(ctx, func(tx *Tx) error {
				id, err := tx.Place(ctx, folder, path)
				require.NoError(t, err)
				return tx.Run(ctx, `UPDATE places SET cut = 1 WHERE id = ?`, id)
			}))
		}
		for range rapid.IntRange(1, 3).Draw(t, "moves") {
			from, to := paths.Draw(t, "from"), rapid.SampledFrom([]string{"x", "a/x", "d/x", "b", "a/c"}).Draw(t, "to")
			within := func(path, dir string) bool { return path == dir || strings.HasPrefix(path, dir+"/") }
			if within(to, from) || within(from, to) {
				continue
			}
			any := false
			next := make(map[string]bool)
			for path := range model {
				any = any || within(path, from)
			}
			if !any {
				continue // only directories with rules are moved here
			}
			for path := range model {
				switch {
				case within(path, from):
					next[to+path[len(from):]] = true
				case !within(path, to):
					next[path] = true
				}
			}
			model = next
			require.NoError(t, s.Write(ctx, func(tx *Tx) error { return tx.MovePlace(ctx, folder, from, to) }))
		}
		got := make(map[string]bool)
		require.NoError(t, s.Write(ctx, func(tx *Tx) error {
			r, err := tx.Records(ctx)
			require.NoError(t, err)
			for _, rule := range r.Folders[len(r.Folders)-1].Rules {
				got[rule.Path] = true
			}
			// Nothing is left that says nothing and leads nowhere.
			var idle int
			err = tx.QueryRowContext(ctx, `SELECT count(*) FROM places p WHERE folder_id = ? AND cut = 0 AND parent_id IS NOT NULL
				AND NOT EXISTS (SELECT 1 FROM places c WHERE c.parent_id = p.id)`, folder).Scan(&idle)
			require.Zero(t, idle)
			return err
		}))
		require.Equal(t, model, got)
	})
}

// Every way of tampering with the journal shows: a row altered, taken out, put in, or
// put elsewhere.
func TestTheJournalShowsTampering(t *testing.T) {
	for name, tamper := range map[string]string{
		"actor": `UPDATE journal SET actor = 'wren' WHERE seq = 2`, "time": `UPDATE journal SET at = '2026-01-01T00:00:00Z' WHERE seq = 2`,
		"changes": `UPDATE journal SET changes = '[]' WHERE seq = 2`, "taken out": `DELETE FROM journal WHERE seq = 2`,
		"moved text": `UPDATE journal SET action = 'add usero', subject = 'rla' WHERE seq = 2`,
		"first":      `DELETE FROM journal WHERE seq = 1`, "put in": `INSERT INTO journal SELECT 4, at, actor, action, subject, changes, prev, hash FROM journal WHERE seq = 3`,
	} {
		t.Run(name, func(t *testing.T) {
			s, ctx := openStore(t, t.TempDir()), context.Background()
			defer s.Close()
			for i := range 3 {
				require.NoError(t, s.Write(ctx, func(tx *Tx) error {
					return tx.Append(ctx, &JournalRow{At: time.Now(), Actor: "keeper", Action: "add user", Subject: "orla",
						Changes: []Change{{Kind: "user", ID: int64(i), After: json.RawMessage(`{"name":"orla"}`)}}})
				}))
			}
			n, err := s.VerifyJournal(ctx)
			require.NoError(t, err)
			require.EqualValues(t, 3, n)
			require.NoError(t, s.Write(ctx, func(tx *Tx) error { return tx.Run(ctx, tamper) }))
			_, err = s.VerifyJournal(ctx)
			require.ErrorIs(t, err, ErrBroken)
		})
	}
}

func TestCompareAndRebuild(t *testing.T) {
	before := site.Records{Volumes: []site.Volume{{ID: 1, Name: "summit", Path: "/srv"}, {ID: 2, Name: "dome", Path: "/dome"}}}
	after := site.Records{Volumes: []site.Volume{{ID: 1, Name: "peak", Path: "/srv"}, {ID: 3, Name: "vault", Path: "/vault"}}, Services: site.Services{NFS: true}}
	same, err := Compare(before, before)
	require.NoError(t, err)
	require.Empty(t, same)
	changes, err := Compare(before, after)
	require.NoError(t, err)
	require.Len(t, changes, 4, "services, one changed, one gone, one new")
	start, err := Compare(site.Records{}, before)
	require.NoError(t, err)
	rebuilt, err := Rebuild([]JournalRow{{Changes: start}, {Changes: changes}})
	require.NoError(t, err)
	require.Equal(t, after, rebuilt)
	_, err = Rebuild([]JournalRow{{Changes: []Change{{Kind: "user", ID: 1, After: json.RawMessage(`{`)}}}})
	require.Error(t, err)
}

// What is tried out is tried on all that there is, leaves nothing, and can be broken off anywhere.
func TestTryingOut(t *testing.T) {
	ctx := t.Context()
	s, err := Open(ctx, t.TempDir())
	require.NoError(t, err)
	defer s.Close()
	require.NoError(t, s.Write(ctx, func(tx *Tx) error {
		for i := range 50 {
			if err := tx.Run(ctx, `INSERT INTO groups (name, gid) VALUES (?, ?)`, fmt.Sprint("team", i), 3000+i); err != nil {
				return err
			}
		}
		return tx.Run(ctx, `DELETE FROM groups WHERE gid = 3049`)
	}))
	var before, within site.Records
	require.NoError(t, s.Write(ctx, func(tx *Tx) (err error) { before, err = tx.Records(ctx); return err }))
	always := func() bool { return true }
	require.NoError(t, s.Try(ctx, always, func(trial *Store) error {
		return trial.Write(ctx, func(tx *Tx) error {
			var err error
			if within, err = tx.Records(ctx); err != nil {
				return err
			}
			id, err := tx.Insert(ctx, `INSERT INTO groups (name, gid) VALUES ('new', 4000)`)
			require.EqualValues(t, 51, id, "numbers are not given twice")
			require.NoError(t, err)
			require.Error(t, tx.Run(ctx, `INSERT INTO members (group_id, user_id) VALUES (1, 77)`), "there is no such user")
			return tx.Append(ctx, &JournalRow{At: time.Now(), Actor: "keeper", Action: "add group", Subject: "new"})
		})
	}))
	require.Equal(t, before, within)
	var after site.Records
	require.NoError(t, s.Write(ctx, func(tx *Tx) (err error) { after, err = tx.Records(ctx); return err }))
	require.Equal(t, before, after)

	for wait := range 40 {
		ended, cancel := context.WithTimeout(ctx, time.Duration(wait)*50*time.Microsecond)
		err := s.Try(ended, always, func(*Store) error { return ended.Err() })
		if ended.Err() == nil {
			require.NoError(t, err)
		}
		cancel()
	}
	tries := 0
	require.NoError(t, s.Try(ctx, func() bool { tries++; return tries == 3 }, func(*Store) error { return nil }), "a copy that is of no one state is made again")
}

// A clock that is set back makes no hole in the past: rows keep their order, and whatever moment is asked about, they rebuild.
func TestAClockThatIsSetBack(t *testing.T) {
	st, ctx := openStore(t, t.TempDir()), context.Background()
	defer st.Close()
	noon := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	for i, at := range []time.Time{noon, noon.Add(time.Hour), noon.Add(-24 * time.Hour), noon.Add(30 * time.Minute), noon.Add(2 * time.Hour)} {
		require.NoError(t, st.Write(ctx, func(tx *Tx) error { return tx.Append(ctx, &JournalRow{At: at, Actor: "keeper", Action: fmt.Sprint(i)}) }))
	}
	rows, err := st.Journal(ctx, Match{})
	require.NoError(t, err)
	require.Len(t, rows, 5)
	for i := range rows[1:] {
		require.False(t, rows[i+1].At.Before(rows[i].At))
	}
	for at, want := range map[time.Time]int{noon.Add(-time.Hour): 0, noon: 1, noon.Add(59 * time.Minute): 1, noon.Add(time.Hour): 4, noon.Add(3 * time.Hour): 5} {
		until, err := st.Until(ctx, at)
		require.NoError(t, err)
		require.EqualValues(t, want, until)
	}
	_, err = st.VerifyJournal(ctx)
	require.NoError(t, err)

	// A journal from before this rule may have holes in its times, and is read up to them.
	_, err = st.DB().Exec(`UPDATE journal SET at = '2026-03-01T09:00:00Z' WHERE seq = 4`)
	require.NoError(t, err)
	until, err := st.Until(ctx, noon)
	require.NoError(t, err)
	require.EqualValues(t, 1, until)
}
