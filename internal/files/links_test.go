package files

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/site"
)

// told has a second share of the folder tell of links.
func (l *larkfell) told() {
	l.records.Shares = append(l.records.Shares, site.Share{ID: 2, Name: "told", FolderID: 1, ShowLinks: true})
	l.compile()
}

func (l *larkfell) link(target, path string) {
	require.NoError(l.t, os.Symlink(target, filepath.Join(l.root, path)))
}

func (l *larkfell) through(user identity.ID, share, path string, link bool, access acl.Mask, d Disposition) (*Handle, error) {
	h, _, err := l.Open(Subject{User: user, Via: site.SMB}, OpenRequest{Share: share, Path: path, Link: link, Access: access, Disposition: d, Sharing: shareAll})
	if err == nil {
		l.t.Cleanup(func() { _ = h.Close() })
	}
	return h, err
}

func TestLinksAreToldOrFollowed(t *testing.T) {
	l := newLarkfell(t)
	l.told()
	l.link("../README.txt", "2026/up")
	l.link("2026/03", "todir")
	l.link("/etc/passwd", "out")
	l.link("nowhere", "dangling")
	l.link("key.txt", "closed/way")
	l.link("closed/key.txt", "toclosed")
	l.write("2026/03/a.txt", "a night")

	for _, c := range []struct {
		who          identity.ID
		path         string
		target, rest string
		err          error
	}{
		{piran, "2026/up", "../README.txt", "", nil},
		{piran, "2026/UP", "../README.txt", "", nil},
		{piran, "todir", "2026/03", "", nil},
		{piran, "todir/a.txt", "2026/03", "a.txt", nil},
		{piran, "todir/b/c.txt", "2026/03", "b/c.txt", nil},
		{piran, "out", "/etc/passwd", "", nil},
		{piran, "dangling", "nowhere", "", nil},
		{piran, "toclosed", "closed/key.txt", "", nil}, // what is there is decided about when they come by its own path
		{piran, "closed/way", "", "", ErrDenied},
		{piran, "closed/way/further", "", "", ErrDenied},
	} {
		for _, d := range []Disposition{OpenOnly, OpenIf, CreateOnly, OverwriteIf, Supersede} {
			_, err := l.through(c.who, "told", c.path, false, reading, d)
			if c.err != nil {
				require.ErrorIs(t, err, c.err, c.path)
				continue
			}
			var met *LinkMet
			require.ErrorAs(t, err, &met, "%s %d", c.path, d)
			require.Equal(t, LinkMet{c.target, c.rest}, *met)
		}
	}

	// The link itself.
	h, err := l.through(piran, "told", "todir", true, acl.ReadAttributes|acl.Delete|acl.ReadData, OpenOnly)
	require.NoError(t, err)
	require.True(t, h.Linked())
	target, err := h.Target()
	require.NoError(t, err)
	require.Equal(t, "2026/03", target)
	info, err := h.Stat()
	require.NoError(t, err)
	require.True(t, info.Link && info.ToDir && !info.Dir && info.Size == 0)
	_, err = h.ReadAt(make([]byte, 8), 0)
	require.ErrorIs(t, err, ErrInvalid)
	for _, d := range []Disposition{Overwrite, OverwriteIf, Supersede} {
		_, err := l.through(piran, "told", "todir", true, reading, d)
		require.ErrorIs(t, err, ErrInvalid)
	}
	_, err = l.through(piran, "told", "todir", true, reading, CreateOnly)
	require.ErrorIs(t, err, ErrExists)
	_, err = l.through(orla, "told", "todir", true, acl.Delete, OpenOnly)
	require.ErrorIs(t, err, ErrDenied)
	_, err = l.through(piran, "told", "closed/way", true, reading, OpenOnly)
	require.ErrorIs(t, err, ErrDenied)
	_, _, err = l.Open(Subject{User: piran, Via: site.SMB}, OpenRequest{Share: "told", Path: "todir", Stream: "s", Link: true, Access: reading, Disposition: OpenIf, Sharing: shareAll})
	require.ErrorIs(t, err, ErrInvalid)

	// Renamed, and deleted: the link, and nothing of what it leads to.
	require.NoError(t, h.Rename(t.Context(), "2026/moved", false))
	is, err := os.Readlink(filepath.Join(l.root, "2026/moved"))
	require.NoError(t, err)
	require.Equal(t, "2026/03", is)
	require.NoError(t, h.SetDelete(true))
	require.NoError(t, h.Close())
	require.NoFileExists(t, filepath.Join(l.root, "2026/moved"))
	require.Equal(t, "a night", l.read("2026/03/a.txt"))
	mine := l.mustOpen(piran, "2026/03/a.txt", readWrite, OpenOnly)
	mine.share = "told"
	require.ErrorIs(t, mine.Rename(t.Context(), "2026/up", false), ErrExists)
	require.NoError(t, mine.Rename(t.Context(), "2026/up", true), "the link makes way, not what it leads to")
	require.Equal(t, "night log", l.read("README.txt"))
	require.Equal(t, "a night", l.read("2026/up"))
	require.ErrorIs(t, mine.Rename(t.Context(), "out/x", false), ErrPathNotFound)

	// A listing shows all of them, where they are told of; else what they lead to, and nothing from outside.
	shown := func(share string) (out []string) {
		dir, err := l.through(piran, share, "", false, acl.ListDirectory, OpenOnly)
		require.NoError(t, err)
		names, err := dir.Names()
		require.NoError(t, err)
		for _, n := range names {
			if e, ok := dir.Look(n); ok {
				if e.Info.Link {
					n += "@"
				}
				out = append(out, n)
			}
		}
		return out
	}
	require.ElementsMatch(t, []string{"2026", "drop", "closed", "README.txt", "out@", "dangling@", "toclosed@"}, shown("told"))
	require.ElementsMatch(t, []string{"2026", "drop", "closed", "README.txt", "toclosed"}, shown("nightlog"))
	for path, want := range map[string]error{"out": ErrNotFound, "dangling": ErrNotFound, "toclosed": ErrDenied} {
		_, err := l.through(piran, "nightlog", path, true, reading, OpenOnly)
		require.Error(t, err, path)
		if want == ErrDenied {
			require.ErrorIs(t, err, want, path)
		}
	}
}

// A link takes the place of what somebody has just made, empty, and has to themselves; it is counted as links are.
func TestLinksAreMade(t *testing.T) {
	l := newLarkfell(t)
	l.told()
	l.counted(limit.Limit{ID: 7, Kind: limit.OfFolder, Folder: 1, Bounds: limit.Bounds{HardBytes: bound(90_000)}})
	const making = acl.WriteAttributes | acl.ReadAttributes | acl.Delete | acl.WriteData
	made := func(path string, dir bool) *Handle {
		t.Helper()
		h, _, err := l.Open(Subject{User: piran, Via: site.SMB}, OpenRequest{Share: "told", Path: path, Link: true, Directory: dir, Access: making, Disposition: CreateOnly, Sharing: shareAll})
		require.NoError(t, err)
		t.Cleanup(func() { _ = h.Close() })
		return h
	}
	for _, dir := range []bool{false, true} {
		h := made("new", dir)
		require.NoError(t, h.SetTarget(t.Context(), "2026/03"))
		require.ErrorIs(t, h.SetTarget(t.Context(), "2026"), ErrExists)
		target, err := h.Target()
		require.NoError(t, err)
		require.Equal(t, "2026/03", target)
		info, err := h.Stat()
		require.NoError(t, err)
		require.True(t, info.Link && info.ToDir)
		_, err = h.WriteAt([]byte("x"), 0, false)
		require.ErrorIs(t, err, ErrInvalid)
		require.ErrorIs(t, h.Rename(t.Context(), "other", false), ErrDenied)
		is, err := os.Readlink(filepath.Join(l.root, "new"))
		require.NoError(t, err)
		require.Equal(t, "2026/03", is)
		l.agrees(false, nil)
		require.NoError(t, h.SetDelete(true))
		require.NoError(t, h.Close())
		require.NoFileExists(t, filepath.Join(l.root, "new"))
		l.agrees(false, nil)
	}
	for name, c := range map[string]struct {
		handle func() *Handle
		target string
		err    error
	}{
		"nowhere":      {func() *Handle { return made("a", false) }, "", ErrInvalid},
		"a NUL":        {func() *Handle { return made("b", false) }, "x\x00y", ErrInvalid},
		"far too long": {func() *Handle { return made("c", false) }, strings.Repeat("x", longestPath), ErrNameTooLong},
		"what was there": {func() *Handle {
			h, err := l.through(piran, "told", "README.txt", true, making, OpenOnly)
			require.NoError(t, err)
			return h
		}, "x", ErrDenied},
		"something in it": {func() *Handle {
			h := made("d", false)
			_, err := h.WriteAt([]byte("x"), 0, false)
			require.NoError(t, err)
			return h
		}, "x", ErrInvalid},
		"a full directory": {func() *Handle {
			h := made("e", true)
			require.NoError(t, l.mustOpen(piran, "e/f", making, CreateOnly).Close())
			return h
		}, "x", ErrNotEmpty},
		"open to another":         {func() *Handle { h := made("g", false); l.mustOpen(piran, "g", reading, OpenOnly); return h }, "x", ErrSharing},
		"links are followed here": {func() *Handle { return l.mustOpen(piran, "h", making, CreateOnly) }, "x", ErrNotSupported},
	} {
		h := c.handle()
		require.ErrorIs(t, h.SetTarget(t.Context(), c.target), c.err, name)
		require.False(t, h.Linked(), name)
	}
	l.agrees(false, nil)

	over := made("i", false)
	left := 90_000 - l.walk(false).all.Bytes
	require.NoError(t, l.mustOpen(piran, "h", making, OpenOnly).Truncate(left-1000))
	require.ErrorIs(t, over.SetTarget(t.Context(), strings.Repeat("x/", 700)), ErrLimit)
	l.agrees(false, nil)

	require.NoError(t, l.mustOpen(piran, "h", making, OpenOnly).Truncate(0))

	// Who may only add makes them; who may not add there does not.
	h, _, err := l.Open(Subject{User: bettany, Via: site.SMB}, OpenRequest{Share: "told", Path: "drop/link", Link: true, Access: making, Disposition: CreateOnly, Sharing: shareAll})
	require.NoError(t, err)
	l.records.Folders[0].Rules[1].Entries = nil
	l.compile()
	require.ErrorIs(t, h.SetTarget(t.Context(), "x"), ErrDenied)
	require.NoError(t, h.Close())
}
