package service

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/secret"
	"amber.example/gatekeeper/internal/store"
)

func (s *Service) lastRow(t *testing.T) store.JournalRow {
	t.Helper()
	rows, err := s.Journal(context.Background(), store.Match{Back: true, Most: 1})
	require.NoError(t, err)
	return rows[0]
}

// plainRecords are the records in force.
func plainRecords(s *Service) site.Records { return s.force.Load().records }

// Each change is taken back to what there was before, and that in turn to what there was after; and the journal alone still leads to the records.
func TestUndoOfEachChange(t *testing.T) {
	s, ctx := observatory(t), context.Background()
	ends := time.Date(2031, 1, 1, 0, 0, 0, 0, time.UTC)
	other := t.TempDir()
	for name, do := range map[string]func() error{
		"entry": func() error {
			_, err := s.AddEntry(ctx, keeper, "instruments/firmware/bench", EntryInput{Who: "tomasz", Level: "read", Through: true, Expires: ends})
			return err
		},
		"cut":         func() error { return s.SetInherit(ctx, keeper, "instruments/firmware", false, true) },
		"rules":       func() error { return s.ClearRules(ctx, keeper, "instruments", true) },
		"arrangement": func() error { return s.Arrange(ctx, keeper, "instruments", "personal", []string{"engineers"}, nil) },
		"user": func() error {
			_, err := s.CreateUser(ctx, keeper, UserInput{Name: "lunt", Groups: []string{"engineers"}, Password: "a long enough one"})
			return err
		},
		"renamed": func() error {
			_, err := s.UpdateUser(ctx, keeper, "tomasz", UserChange{Name: new("tom"), Disabled: new(true)})
			return err
		},
		"password": func() error { return s.SetPassword(ctx, keeper, "tomasz", "another long one", false) },
		"group":    func() error { return s.AddMember(ctx, keeper, "staff", "tomasz") },
		"folder":   func() error { return s.RemoveFolder(ctx, keeper, "instruments") },
		"limit": func() error {
			_, err := s.SetLimit(ctx, keeper, LimitInput{Kind: limit.OfUser, Name: "tomasz", HardBytes: "1GB"})
			return err
		},
		"export": func() error {
			_, err := s.CreateExport(ctx, keeper, ExportInput{Folder: "instruments", Path: "/other", Rules: []RuleInput{{From: "192.0.2.1"}}})
			return err
		},
		"service": func() error { return s.SetService(ctx, keeper, "smb", ServiceChange{On: new(false)}) },
		"notices": func() error { return s.SetNotices(ctx, keeper, NoticesChange{Percent: &[]int{75}}) },
		"volume": func() error {
			_, err := s.CreateVolume(ctx, keeper, VolumeInput{Name: "other", Path: other})
			return err
		},
		"review": func() error {
			_, err := s.CreateReview(ctx, keeper, "spring", []string{"instruments"}, []string{"keeper"})
			return err
		},
	} {
		t.Run(name, func(t *testing.T) {
			before := plainRecords(s)
			require.NoError(t, do())
			after, row := plainRecords(s), s.lastRow(t).Seq
			require.NotEqual(t, before, after)
			done, err := s.Undo(ctx, keeper, nil)
			require.NoError(t, err)
			require.Equal(t, row, done[0].Seq, "the last change")
			require.Equal(t, before, plainRecords(s))
			_, err = s.Undo(ctx, keeper, []int64{s.lastRow(t).Seq})
			require.NoError(t, err, "an undo can be undone")
			require.Equal(t, after, plainRecords(s))
			_, err = s.Undo(ctx, keeper, nil)
			require.NoError(t, err, "the change is there again, and is again the last")
			require.Equal(t, before, plainRecords(s))
			rows, err := s.Journal(ctx, store.Match{})
			require.NoError(t, err)
			rebuilt, err := store.Rebuild(rows)
			require.NoError(t, err)
			require.Equal(t, before, rebuilt)
		})
	}
	mark, err := files.VolumeMark(other)
	require.NoError(t, err)
	require.Empty(t, mark, "no volume, no mark")
}

// Who was removed comes back with number, groups, identity and password; who has taken the name meanwhile is in the way.
func TestWhoWasRemovedComesBackAsTheyWere(t *testing.T) {
	s, ctx := observatory(t), context.Background()
	require.NoError(t, s.ClearRules(ctx, keeper, "instruments", true))
	was := *s.Policy().Directory.UserNamed("tomasz")
	proves := func() bool {
		_, err := s.ProveNT(ctx, "tomasz", "192.0.2.17", func(hash []byte) bool { return bytes.Equal(hash, secret.NTHash("tomasz-at-larkfell")) })
		return err == nil
	}
	require.True(t, proves())
	groups := s.Policy().Directory.MemberOf(was.ID)
	require.NotEmpty(t, groups)
	require.NoError(t, s.RemoveUser(ctx, keeper, "tomasz"))
	removed := s.lastRow(t).Seq
	require.False(t, proves())
	_, err := s.CreateUser(ctx, keeper, UserInput{Name: "tomasz"})
	require.NoError(t, err)
	taken := s.lastRow(t).Seq
	_, err = s.Undo(ctx, keeper, []int64{removed})
	var e *Error
	require.ErrorAs(t, err, &e)
	require.Equal(t, Conflict, e.Kind)
	require.Contains(t, e.Message, fmt.Sprint(taken, ", add user (tomasz)"))
	require.Equal(t, fmt.Sprintf("amber undo %d %d", taken, removed), e.Next)
	_, err = s.Undo(ctx, keeper, []int64{removed, taken})
	require.NoError(t, err)
	require.Equal(t, was, *s.Policy().Directory.UserNamed("tomasz"))
	require.Equal(t, groups, s.Policy().Directory.MemberOf(was.ID))
	require.True(t, proves(), "by the password of before")

	require.NoError(t, s.RemoveUser(ctx, keeper, "tomasz"))
	s.forgetSecrets(ctx)
	var kept int
	require.NoError(t, s.store.DB().QueryRow(`SELECT count(*) FROM secrets WHERE id = ?`, was.Password).Scan(&kept))
	require.Equal(t, 1, kept, "not yet")
	_, err = s.store.DB().Exec(`UPDATE secrets SET dropped = ? WHERE dropped IS NOT NULL`, time.Now().Add(-keepSecrets-time.Hour).UTC().Format(time.RFC3339))
	require.NoError(t, err)
	s.forgetSecrets(ctx)
	_, err = s.Undo(ctx, keeper, nil)
	require.NoError(t, err)
	require.Zero(t, s.Policy().Directory.UserNamed("tomasz").Password, "it is not kept for ever")
}

// What others did since stays, on the same record too; what stands in the way is named; and what cannot be taken back says why.
func TestUndoBesideOthers(t *testing.T) {
	s, ctx := observatory(t), context.Background()
	wren := Actor{Name: "wren", Role: identity.Administrator}
	id, err := s.AddEntry(ctx, keeper, "instruments", EntryInput{Who: "tomasz", Level: "read"})
	require.NoError(t, err)
	first := s.lastRow(t).Seq
	other, err := s.AddEntry(ctx, wren, "instruments", EntryInput{Who: "staff", Level: "add"})
	require.NoError(t, err)
	_, err = s.Undo(ctx, keeper, nil)
	require.NoError(t, err, "another entry on the same path is no obstacle")
	rule := s.rule(s.Policy().Folders[0].ID, "")
	for _, e := range rule.Entries {
		require.NotEqual(t, id, e.ID)
	}
	require.Equal(t, other, rule.Entries[len(rule.Entries)-1].ID)
	_, err = s.Undo(ctx, keeper, []int64{first})
	require.ErrorContains(t, err, "has been changed again since", "it is taken back already")

	require.NoError(t, s.UpdateEntry(ctx, wren, "instruments", other, EntryChange{Level: new("change")}))
	changed := s.lastRow(t).Seq
	_, err = s.Undo(ctx, keeper, []int64{first + 1})
	var e *Error
	require.ErrorAs(t, err, &e)
	require.Equal(t, fmt.Sprintf("amber undo %d %d", changed, first+1), e.Next)
	for n, says := range map[int64]string{0: "no row 0", -3: "no row -3", 9999: "no row 9999", 1: "the service's own"} {
		_, err = s.Undo(ctx, keeper, []int64{n})
		require.ErrorContains(t, err, says)
	}
	_, err = s.Undo(ctx, Actor{Name: "auditor", Role: identity.Auditor}, []int64{changed})
	require.ErrorContains(t, err, "only an administrator")
	_, err = s.Undo(ctx, Actor{Name: "nobody", Role: identity.Administrator}, nil)
	require.ErrorContains(t, err, "nobody has changed nothing")

	trial, err := s.Preview(ctx, func(ctx context.Context, t *Service) error { _, err := t.Undo(ctx, wren, nil); return err })
	require.NoError(t, err)
	before := s.lastRow(t).Seq
	require.Len(t, s.Effect(trial).Changes, 1)
	require.Equal(t, before, s.lastRow(t).Seq, "it was tried out")
}

// Whatever is done, by several and in any order, is taken back from the last to the first to what there was.
func TestUndoOfEverything(t *testing.T) {
	for seed := range uint64(6) {
		s, ctx, rnd := observatory(t), context.Background(), rand.New(rand.NewPCG(seed, 12))
		before, begun := plainRecords(s), s.lastRow(t).Seq
		names := []string{"tomasz", "engineers", "staff", "everyone@", "owner@"}
		paths := []string{"instruments", "instruments/firmware", "instruments/firmware/bench"}
		for range 40 {
			who, path := names[rnd.IntN(len(names))], paths[rnd.IntN(len(paths))]
			switch rnd.IntN(7) {
			case 0, 1:
				_, _ = s.AddEntry(ctx, keeper, path, EntryInput{Who: who, Level: "read", Deny: rnd.IntN(3) == 0})
			case 2:
				_ = s.SetInherit(ctx, keeper, path, rnd.IntN(2) == 0, rnd.IntN(2) == 0)
			case 3:
				_ = s.AddMember(ctx, keeper, []string{"engineers", "staff"}[rnd.IntN(2)], who)
			case 4:
				_, _ = s.CreateUser(ctx, keeper, UserInput{Name: fmt.Sprint("u", rnd.IntN(5)), Groups: []string{"staff"}})
			case 5:
				_ = s.RemoveUser(ctx, keeper, fmt.Sprint("u", rnd.IntN(5)))
			case 6:
				_ = s.ClearRules(ctx, keeper, path, rnd.IntN(2) == 0)
			}
		}
		var rows []int64
		for n := begun + 1; n <= s.lastRow(t).Seq; n++ {
			if row, _, err := s.Row(ctx, n); err == nil && len(row.Changes) > 0 {
				rows = append(rows, n)
			}
		}
		require.Greater(t, len(rows), 10)
		_, err := s.Undo(ctx, keeper, rows)
		require.NoError(t, err)
		require.Equal(t, before, plainRecords(s))
	}
}

// A set is made as one or not at all; as of a row, only if nothing has been changed since; and beside others, of whom none gets lost.
func TestSetsOfChanges(t *testing.T) {
	s, ctx := observatory(t), context.Background()
	add := func(who string) func(context.Context, *Service) error {
		return func(ctx context.Context, set *Service) error {
			if _, err := set.CreateUser(ctx, keeper, UserInput{Name: who}); err != nil {
				return err
			}
			_, err := set.AddEntry(ctx, keeper, "instruments", EntryInput{Who: who, Level: "read"})
			return err
		}
	}
	before, row := plainRecords(s), s.lastRow(t).Seq
	_, err := s.Make(ctx, keeper, row, func(ctx context.Context, set *Service) error {
		if err := add("lunt")(ctx, set); err != nil {
			return err
		}
		_, err := set.AddEntry(ctx, keeper, "instruments", EntryInput{Who: "who is this", Level: "read"})
		return err
	})
	require.Error(t, err)
	require.Equal(t, before, plainRecords(s), "nothing of it")
	require.Equal(t, row, s.lastRow(t).Seq)

	n, err := s.Make(ctx, keeper, row, add("lunt"))
	require.NoError(t, err)
	require.Equal(t, row+1, n)
	require.Equal(t, "make 2 changes", s.lastRow(t).Action)
	_, err = s.Make(ctx, keeper, row, add("orla"))
	var e *Error
	require.ErrorAs(t, err, &e)
	require.Equal(t, Conflict, e.Kind)
	require.Contains(t, e.Message, fmt.Sprint(n, ", make 2 changes by keeper"))
	for _, none := range []int64{-1, n + 1, 1 << 60} {
		_, err = s.Make(ctx, keeper, none, add("orla"))
		require.ErrorContains(t, err, "the journal has no row")
	}
	_, err = s.Undo(ctx, keeper, nil)
	require.NoError(t, err)
	require.Equal(t, before, plainRecords(s), "a set is taken back as one")

	done := make(chan error)
	const people, each = 4, 8
	for p := range people {
		go func() {
			var err error
			for i := range each {
				if err == nil {
					_, err = s.Make(ctx, keeper, 0, add(fmt.Sprint("p", p, "n", i)))
				}
			}
			done <- err
		}()
	}
	for range people {
		require.NoError(t, <-done)
	}
	for p := range people {
		for i := range each {
			require.NotNil(t, s.Policy().Directory.UserNamed(fmt.Sprint("p", p, "n", i)))
		}
	}
}

// What a set does on disk is done once it is written down; what cannot be done takes all of it back, and says why; and what the process had no time for is
// done at the next start.
func TestEffectsOnDisk(t *testing.T) {
	s, ctx := observatory(t), context.Background()
	root := filepath.Dir(s.Policy().Folders[0].Root)
	_, err := s.Make(ctx, keeper, 0, func(ctx context.Context, set *Service) error {
		if _, err := set.CreateFolder(ctx, keeper, FolderInput{Name: "charts", Volume: set.Policy().Volumes[0].Name}); err != nil {
			return err
		}
		require.NoDirExists(t, filepath.Join(root, "charts"), "not before it is written down")
		_, err := set.AddEntry(ctx, keeper, "charts", EntryInput{Who: "tomasz", Level: "read"})
		return err
	})
	require.NoError(t, err)
	require.DirExists(t, filepath.Join(root, "charts"))
	pending, err := s.store.Pending(ctx)
	require.NoError(t, err)
	require.Empty(t, pending)

	before := plainRecords(s)
	_, err = s.Make(ctx, keeper, 0, func(ctx context.Context, set *Service) error {
		if _, err := set.CreateFolder(ctx, keeper, FolderInput{Name: "maps", Volume: set.Policy().Volumes[0].Name}); err != nil {
			return err
		}
		return os.WriteFile(filepath.Join(root, "maps"), nil, 0o600) // somebody is faster
	})
	require.ErrorContains(t, err, "maps")
	require.Equal(t, before, plainRecords(s))
	require.Equal(t, "take back: add folder", s.lastRow(t).Action)
	rows, err := s.Journal(ctx, store.Match{})
	require.NoError(t, err)
	rebuilt, err := store.Rebuild(rows)
	require.NoError(t, err)
	require.Equal(t, before, rebuilt)
	pending, err = s.store.Pending(ctx)
	require.NoError(t, err)
	require.Empty(t, pending)

	d := site.NewDraft(s.force.Load().records, s.force.Load().numbers)
	d.Do(site.Effect{Act: site.MakeDirectory, Volume: s.Policy().Volumes[0].Location(), Path: "late/and deep"})
	require.NoError(t, s.store.Write(ctx, func(tx *store.Tx) error { _, err := tx.Save(ctx, d, nil); return err }))
	state := s.state
	require.NoError(t, s.Close())
	s, err = Open(ctx, state)
	require.NoError(t, err)
	defer s.Close()
	require.DirExists(t, filepath.Join(root, "late", "and deep"))
	pending, err = s.store.Pending(ctx)
	require.NoError(t, err)
	require.Empty(t, pending)
}

// An entry that was the first on its path is taken back without those that came after it; a list that was taken away does not come back over what has been
// written there since.
func TestUndoOfTheFirstEntry(t *testing.T) {
	s, ctx := observatory(t), context.Background()
	require.NoError(t, s.ClearRules(ctx, keeper, "instruments", true))
	first, err := s.AddEntry(ctx, keeper, "instruments", EntryInput{Who: "tomasz", Level: "read"})
	require.NoError(t, err)
	row := s.lastRow(t).Seq
	second, err := s.AddEntry(ctx, keeper, "instruments", EntryInput{Who: "staff", Level: "read"})
	require.NoError(t, err)
	_, err = s.Undo(ctx, keeper, []int64{row})
	require.NoError(t, err)
	entries := s.rule(s.Policy().Folders[0].ID, "").Entries
	require.Len(t, entries, 1)
	require.Equal(t, second, entries[0].ID)
	require.NotEqual(t, first, second)

	require.NoError(t, s.ClearRules(ctx, keeper, "instruments", false))
	cleared := s.lastRow(t).Seq
	_, err = s.AddEntry(ctx, keeper, "instruments", EntryInput{Who: "tomasz", Level: "change"})
	require.NoError(t, err)
	anew := s.lastRow(t).Seq
	_, err = s.Undo(ctx, keeper, []int64{cleared})
	var e *Error
	require.ErrorAs(t, err, &e)
	require.Equal(t, fmt.Sprintf("amber undo %d %d", anew, cleared), e.Next)
	_, err = s.Undo(ctx, keeper, []int64{cleared, anew})
	require.NoError(t, err)
	require.Equal(t, second, s.rule(s.Policy().Folders[0].ID, "").Entries[0].ID)
}

// A row that was altered, or that a newer version wrote, is not taken back.
func TestUndoOfRowsThatCannotBeTrusted(t *testing.T) {
	s, ctx := observatory(t), context.Background()
	require.NoError(t, s.AddMember(ctx, keeper, "staff", "tomasz"))
	row := s.lastRow(t)
	before := plainRecords(s)
	for says, harm := range map[string]string{
		"is not what was written":    `UPDATE journal SET changes = replace(changes, 'engineers', 'everybody'), action = 'add member tom' WHERE seq = ?`,
		"written by a newer version": `UPDATE journal SET changes = replace(changes, '"kind":"group"', '"kind":"castle"') WHERE seq = ?`,
	} {
		_, err := s.store.DB().Exec(harm, row.Seq)
		require.NoError(t, err)
		_, err = s.Undo(ctx, keeper, []int64{row.Seq})
		require.ErrorContains(t, err, says)
		require.Equal(t, before, plainRecords(s))
		raw, err := json.Marshal(row.Changes)
		require.NoError(t, err)
		_, err = s.store.DB().Exec(`UPDATE journal SET changes = ?, action = ? WHERE seq = ?`, string(raw), row.Action, row.Seq)
		require.NoError(t, err)
	}
	_, err := s.Undo(ctx, keeper, []int64{row.Seq})
	require.NoError(t, err, "as it was")
}
