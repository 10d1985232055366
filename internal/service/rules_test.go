package service

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/asking"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/site"
)

// camp is a service with three users, a group of two, and two folders with something on them.
func camp(t *testing.T) *Service {
	ctx := context.Background()
	s := open(t)
	root := t.TempDir()
	for i, name := range []string{"isolde", "piran", "wren"} {
		_, err := s.CreateUser(ctx, keeper, UserInput{Name: name, UID: new(uint32(2001 + i))})
		require.NoError(t, err)
	}
	_, err := s.CreateGroup(ctx, keeper, GroupInput{Name: "observers"})
	require.NoError(t, err)
	for _, name := range []string{"isolde", "piran"} {
		require.NoError(t, s.AddMember(ctx, keeper, "observers", name))
	}
	_, err = s.CreateVolume(ctx, keeper, VolumeInput{Name: "summit", Path: root})
	require.NoError(t, err)
	for _, name := range []string{"nightlog", "visitors"} {
		require.NoError(t, os.MkdirAll(filepath.Join(root, name, "2026", "03"), 0o755))
		_, err = s.CreateFolder(ctx, keeper, FolderInput{Name: name, Volume: "summit", Owner: "wren", Ownership: site.Mapped})
		require.NoError(t, err)
		_, err = s.CreateShare(ctx, keeper, ShareInput{Folder: name})
		require.NoError(t, err)
	}
	for _, e := range []struct{ path, who, level string }{{"nightlog", "observers", "change"}, {"nightlog", "wren", "read_acl,write_acl"}, {"nightlog/2026", "wren", "read"}, {"visitors", "wren", "control"}} {
		_, err = s.AddEntry(ctx, keeper, e.path, EntryInput{Who: e.who, Level: e.level})
		require.NoError(t, err)
	}
	return s
}

// levels is what each of the three may do to a path over SMB.
func levels(t *testing.T, s *Service, path string) string {
	t.Helper()
	f, at, err := s.Locate(path)
	require.NoError(t, err)
	st := s.Audit().At(f, at.Path, at.File)
	return st.Of(0).OverSMB() + "; " + st.Of(1).OverSMB() + "; " + st.Of(2).OverSMB()
}

func TestArrangements(t *testing.T) {
	ctx := t.Context()
	for name, c := range map[string]struct {
		others []string
		want   string
	}{
		"together": {nil, "change; change; nothing"}, "few-change": {[]string{"wren"}, "change; change; read"},
		"only-named": {nil, "change; change; nothing"}, "drop-place": {[]string{"wren"}, "add; add; read"}, "personal": {nil, "read; read; nothing"},
	} {
		s := camp(t)
		require.NoError(t, s.Arrange(ctx, keeper, "visitors", name, []string{"observers"}, c.others))
		require.Equal(t, c.want, levels(t, s, "visitors"), name)
		if name == "personal" {
			require.Equal(t, "change; nothing; nothing", levels(t, s, "visitors/isolde"), "made, and hers alone")
			require.Equal(t, "nothing; nothing; nothing", levels(t, s, "visitors/2026"))
		}
	}
	s := camp(t)
	for _, bad := range []struct {
		name         string
		team, others []string
	}{{"nothing", []string{"wren"}, nil}, {"together", nil, nil}, {"together", []string{"wren"}, []string{"piran"}}, {"together", []string{"nobody"}, nil}, {"personal", []string{"everyone@"}, nil}} {
		var e *Error
		require.ErrorAs(t, s.Arrange(ctx, keeper, "visitors", bad.name, bad.team, bad.others), &e, "%v", bad)
		require.NotEmpty(t, e.Field)
	}
	require.Equal(t, "nothing; nothing; control", levels(t, s, "visitors"), "what was turned down changed nothing")
}

func TestRulesAreCopiedClearedAndChanged(t *testing.T) {
	ctx := t.Context()
	s := camp(t)
	require.NoError(t, s.CopyRules(ctx, keeper, "nightlog", "visitors"))
	for _, path := range []string{"", "/2026", "/2026/03"} {
		require.Equal(t, levels(t, s, "nightlog"+path), levels(t, s, "visitors"+path), path)
	}
	require.NoError(t, s.CopyRules(ctx, keeper, "nightlog/2026", "visitors/2026/03"), "with what it inherits")
	require.Equal(t, levels(t, s, "nightlog/2026"), levels(t, s, "visitors/2026/03"))
	require.Error(t, s.CopyRules(ctx, keeper, "nightlog", "nightlog/2026"), "one inside the other")

	require.NoError(t, s.ClearRules(ctx, keeper, "visitors/2026", false))
	require.Equal(t, "change; change; nothing", levels(t, s, "visitors/2026"), "what is written on visitors for itself alone does not reach it")
	require.Error(t, s.ClearRules(ctx, keeper, "visitors/2026", false), "nothing is written there")
	require.NoError(t, s.ClearRules(ctx, keeper, "visitors", true))
	require.Empty(t, s.Policy().FolderNamed("visitors").Rules)

	id := s.Policy().FolderNamed("nightlog").Rules[0].Entries[0].ID
	soon := time.Now().Add(time.Hour).UTC().Truncate(time.Second)
	require.NoError(t, s.UpdateEntry(ctx, keeper, "nightlog", id, EntryChange{Level: new("read"), Expires: &soon, Applies: []string{"folder"}, Note: new("for now")}))
	e := s.Policy().FolderNamed("nightlog").Rules[0].Entries[0]
	require.Equal(t, acl.Entry{ID: id, Who: e.Who, Level: acl.Read, Applies: acl.Here, Expires: soon, Note: "for now"}, e)
	past := time.Now().Add(-time.Hour)
	require.Error(t, s.UpdateEntry(ctx, keeper, "nightlog", id, EntryChange{Expires: &past}))
	require.Error(t, s.UpdateEntry(ctx, keeper, "nightlog", 999, EntryChange{Level: new("read")}))
}

// What goes out as text comes in as the same, for every form that goes both ways.
func TestListsGoOutAndIn(t *testing.T) {
	ctx := t.Context()
	for _, form := range []Format{NFS4Text, SDDL} {
		s := camp(t)
		_, err := s.AddEntry(ctx, keeper, "nightlog", EntryInput{Who: "everyone@", Level: "pass", Deny: true, Applies: []string{"subfolders", "files", "direct"}})
		require.NoError(t, err)
		text, err := s.ListText("nightlog", form)
		require.NoError(t, err)
		require.NoError(t, s.ReadListText(ctx, keeper, "visitors", form, text))
		again, err := s.ListText("visitors", form)
		require.NoError(t, err)
		require.Equal(t, text, again)
		require.Equal(t, levels(t, s, "nightlog"), levels(t, s, "visitors"))
		require.Error(t, s.ReadListText(ctx, keeper, "visitors", form, "A::nobody-here:r\nD:(A;;FA;;;S-1-5-21-1-2-3-4)"))
		_, err = s.ListText("visitors", Getfacl)
		require.Error(t, err, "entries say more")
	}
}

// An entry with what lets them through is of use at once, and writes no more than it takes.
func TestAnEntryWithTheWayToIt(t *testing.T) {
	s, ctx := observatory(t), context.Background()
	_, err := s.CreateUser(ctx, keeper, UserInput{Name: "ines", Password: "ines-at-larkfell"})
	require.NoError(t, err)
	why := func(path string) bool {
		a, err := s.Why(ctx, asking.Question{User: "ines", Path: path, Want: "read"})
		require.NoError(t, err)
		return a.Verdict.Allowed()
	}
	_, err = s.AddEntry(ctx, keeper, "instruments/firmware/bench", EntryInput{Who: "ines", Level: "read"})
	require.NoError(t, err)
	require.False(t, why("instruments/firmware/bench"), "nothing lets her pass what is above")
	require.NoError(t, s.ClearRules(ctx, keeper, "instruments/firmware/bench", false))
	_, err = s.AddEntry(ctx, keeper, "instruments/firmware/bench", EntryInput{Who: "ines", Level: "read", Through: true})
	require.NoError(t, err)
	require.True(t, why("instruments/firmware/bench"))
	require.False(t, why("instruments/firmware"), "to pass is all")
	count := func() (n int) {
		for _, r := range s.Policy().FolderNamed("instruments").Rules {
			n += len(r.Entries)
		}
		return n
	}
	before := count()
	_, err = s.AddEntry(ctx, keeper, "instruments/firmware/bench", EntryInput{Who: "engineers", Level: "change", Through: true})
	require.NoError(t, err)
	require.Equal(t, before+3, count(), "two directories that no entry of theirs lets them pass, though another group's does")
	_, err = s.AddEntry(ctx, keeper, "instruments/firmware/bench", EntryInput{Who: "ines", Level: "add", Through: true})
	require.NoError(t, err)
	require.Equal(t, before+4, count(), "she passes already")
	_, err = s.AddEntry(ctx, keeper, "instruments/firmware", EntryInput{Who: "ines", Deny: true, Level: "read", Through: true})
	require.Error(t, err)

	id, err := s.AddShareEntry(ctx, keeper, "instruments", EntryInput{Who: "staff", Level: "read"})
	require.NoError(t, err)
	sh, err := s.UpdateShareEntry(ctx, keeper, "instruments", id, EntryChange{Level: new("add"), Note: new("for a while")})
	require.NoError(t, err)
	require.Equal(t, acl.Add, sh.Share.Entries[0].Level)
	_, err = s.UpdateShareEntry(ctx, keeper, "instruments", id, EntryChange{Applies: []string{"files"}})
	require.Error(t, err)
	_, err = s.UpdateShareEntry(ctx, keeper, "instruments", 999, EntryChange{Level: new("add")})
	require.Error(t, err)
}
