package store

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"pgregory.net/rapid"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

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
		d := site.NewDraft(site.Records{}, nil)
		site.Put(d, site.Volume{Name: "summit", Path: "/srv"})
		changes, err := d.Changes()
		require.NoError(t, err)
		_, err = tx.Save(ctx, d, changes)
		require.NoError(t, err)
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
		r, last, err := tx.Records(ctx)
		require.Empty(t, r.Volumes)
		require.Zero(t, last["volume"])
		require.True(t, r.Services.SMB)
		return err
	}))
	require.NoError(t, s.Close())
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

// The text of changes is as encoding/json writes it, byte by byte: hashes are over it.
func TestTheTextOfChanges(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		record := func(name string) json.RawMessage {
			if rapid.IntRange(0, 3).Draw(t, name) == 0 {
				return nil
			}
			raw, err := json.Marshal(map[string]any{"name": rapid.String().Draw(t, "name"), "n": rapid.Int64().Draw(t, "n"), "list": []string{rapid.String().Draw(t, "item")}})
			require.NoError(t, err)
			return raw
		}
		changes := []Change{}
		for range rapid.IntRange(0, 4).Draw(t, "how many") {
			changes = append(changes, Change{Kind: rapid.String().Draw(t, "kind"), ID: rapid.Int64().Draw(t, "id"), Before: record("before"), After: record("after")})
		}
		want, err := json.Marshal(changes)
		require.NoError(t, err)
		got, err := changesText(changes)
		require.NoError(t, err)
		require.Equal(t, string(want), string(got))
	})
}
