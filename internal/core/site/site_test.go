package site

import (
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
)

func TestSplitPath(t *testing.T) {
	for full, want := range map[string][2]string{
		"nightlog": {"nightlog", ""}, "/nightlog/": {"nightlog", ""}, "nightlog/2026/03": {"nightlog", "2026/03"},
		`nightlog\2026\03`: {"nightlog", "2026/03"}, "nightlog//2026/./03/": {"nightlog", "2026/03"},
	} {
		folder, path, err := SplitPath(full)
		require.NoError(t, err, full)
		require.Equal(t, want, [2]string{folder, path}, full)
	}
	for _, full := range []string{"", "/", ".", "nightlog/../etc", "..", `nightlog\..\..`, "nightlog/a\x00b"} {
		_, _, err := SplitPath(full)
		require.Error(t, err, "%q", full)
	}
}

func TestCompileNamesWhatIsWrong(t *testing.T) {
	good := func() Records {
		return Records{Users: []identity.User{{ID: 1, Name: "wren", UID: 2001}}, Volumes: []Volume{{ID: 1, Name: "summit", Path: "/srv"}},
			Folders: []Folder{{ID: 1, Name: "plates", VolumeID: 1, Path: "raw/plates", Owner: 1}}, Shares: []Share{{ID: 1, Name: "Plates", FolderID: 1}}}
	}
	p, err := Compile(good())
	require.NoError(t, err)
	f := p.FolderNamed("PLATES")
	require.Equal(t, "/srv/raw/plates", f.Root)
	require.Equal(t, acl.Ownership{User: 0, Group: identity.None}, f.OwnedBy)
	require.Same(t, f, p.Folder(1))
	require.Same(t, f, p.ShareNamed("plates").Folder)
	require.Equal(t, "plates/2026", f.Display("2026"))
	for name, c := range map[string]struct {
		spoil func(*Records)
		is    error
		says  string
	}{
		"no volume":    {func(r *Records) { r.Volumes = nil }, identity.ErrAbsent, "folder plates"},
		"no folder":    {func(r *Records) { r.Folders = nil }, identity.ErrAbsent, "share Plates"},
		"two folders":  {func(r *Records) { r.Folders = append(r.Folders, Folder{ID: 2, Name: "Plates", VolumeID: 1}) }, identity.ErrDuplicate, `"Plates"`},
		"two shares":   {func(r *Records) { r.Shares = append(r.Shares, Share{ID: 2, Name: "plates", FolderID: 1}) }, identity.ErrDuplicate, `"plates"`},
		"unclean rule": {func(r *Records) { r.Folders[0].Rules = []acl.Rule{{Path: "../x"}} }, nil, "folder plates"},
		"people":       {func(r *Records) { r.Users = append(r.Users, identity.User{ID: 2, Name: "piran", UID: 2001}) }, identity.ErrDuplicate, "uid 2001"},
	} {
		r := good()
		c.spoil(&r)
		_, err := Compile(r)
		require.ErrorContains(t, err, c.says, name)
		if c.is != nil {
			require.ErrorIs(t, err, c.is, name)
		}
	}
}
