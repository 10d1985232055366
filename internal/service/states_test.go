package service

import (
	"context"
	"database/sql"
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/store"
)

// The state directories that each version of the records has left, as text: what the demo writes, and a few changes by hand. Whoever adds a
// migration adds the state that the version before it leaves.
const oldStates = "testdata/states"

// layState makes a state directory as a version of the records has left it; false where there is none.
func layState(t *testing.T, version int) (state string, ok bool) {
	t.Helper()
	state = t.TempDir()
	for _, name := range []string{"records", "use", "events"} {
		raw, err := os.ReadFile(filepath.Join(oldStates, fmt.Sprintf("%d-%s.sql", version, name)))
		if os.IsNotExist(err) {
			continue
		}
		require.NoError(t, err)
		db, err := sql.Open("sqlite", filepath.Join(state, name+".sqlite"))
		require.NoError(t, err)
		_, err = db.Exec(string(raw))
		require.NoError(t, err)
		require.NoError(t, db.Close())
		ok = true
	}
	return state, ok
}

// A state directory of any version is opened by this one: nothing that was written is lost, its journal is whole and goes on to rebuild
// the records, the past can be asked about, and it can be changed. And it is the same when it is opened again.
func TestStatesOfEachVersionAreOpened(t *testing.T) {
	for version := 1; version < store.LastMigration; version++ { // the last is that of this one
		t.Run(fmt.Sprint(version), func(t *testing.T) {
			state, ok := layState(t, version)
			require.True(t, ok, "there is a state of it in %s", oldStates)
			ctx := context.Background()
			s, err := Open(ctx, state, WithNewKey(true))
			require.NoError(t, err)
			defer func() { require.NoError(t, s.Close()) }()

			d := s.Policy().Directory
			lunt := d.UserNamed("lunt")
			require.NotNil(t, lunt)
			require.Equal(t, "Lunt Harrow", lunt.FullName)
			nightlog := s.Policy().FolderNamed("nightlog")
			require.Equal(t, []acl.Entry{{ID: nightlog.Tree.Rule("2026").Entries[0].ID, Deny: true, Who: identity.UserPrincipal(lunt.ID), Level: acl.Read, Applies: acl.Everywhere}},
				nightlog.Tree.Rule("2026").Entries)
			require.True(t, s.Policy().ShareNamed("visitors").ReadOnly)
			if version >= 2 {
				lines := s.Policy().ExportAt("plates").InForce
				require.Equal(t, "192.0.2.99", lines[len(lines)-1].From)
			}
			if version >= 4 {
				limits := s.Policy().Limits.Of(limit.Counter{Of: limit.Owned, Number: d.UserNamed("wren").UID})
				require.Len(t, limits, 1)
				hard, _ := limits[0].Hard(limit.Bytes)
				require.EqualValues(t, 2_000_000_000, hard)
			}
			if version >= 5 {
				require.Equal(t, []int{75, 100}, s.Policy().Notices.Percent)
			}

			whole := func() {
				t.Helper()
				rows, err := s.Journal(ctx, store.Match{})
				require.NoError(t, err)
				n, err := s.VerifyJournal(ctx)
				require.NoError(t, err)
				require.Len(t, rows, int(n))
				rebuilt, err := store.Rebuild(rows)
				require.NoError(t, err)
				for i := range rebuilt.Volumes { // which there was no choice about
					if rebuilt.Volumes[i].Counting == "" {
						rebuilt.Volumes[i].Counting = site.CountNothing
					}
				}
				require.Equal(t, s.force.Load().records, rebuilt)
			}
			whole()
			rows, err := s.Journal(ctx, store.Match{Most: 40})
			require.NoError(t, err)
			past, err := s.AsOf(ctx, rows[len(rows)-1].At)
			require.NoError(t, err)
			require.Nil(t, past.Policy().Directory.UserNamed("lunt"), "who came later")
			require.NotNil(t, past.Policy().FolderNamed("nightlog"))
			past.Audit().Findings()

			_, err = s.UpdateUser(ctx, keeper, "lunt", UserChange{FullName: new("Lunt")})
			require.NoError(t, err)
			_, err = s.AddShareEntry(ctx, keeper, "visitors", EntryInput{Who: "lunt", Level: "read"})
			require.NoError(t, err)
			whole()
			before := s.force.Load().records
			require.NoError(t, s.Close())
			s, err = Open(ctx, state)
			require.NoError(t, err)
			require.Equal(t, before, s.force.Load().records)
			whole()
		})
	}
}
