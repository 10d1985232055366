package files

import (
	"context"
	"os"
	"path/filepath"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
)

const (
	piran identity.ID = iota + 1
	orla
	bettany
)

// larkfell is a namespace of one folder, "nightlog", whose policy and clock a test may
// change.
type larkfell struct {
	*Namespace
	t       *testing.T
	root    string
	records site.Records
	policy  atomic.Pointer[site.Policy]
	now     time.Time
	moved   []string
}

func newLarkfell(t *testing.T) *larkfell {
	l := &larkfell{t: t, root: filepath.Join(t.TempDir(), "nightlog"), now: time.Date(2026, 3, 1, 22, 0, 0, 0, time.UTC)}
	for _, dir := range []string{"2026/03", "drop", "closed"} {
		require.NoError(t, os.MkdirAll(filepath.Join(l.root, dir), 0o755))
	}
	l.write("README.txt", "night log")
	l.write("closed/key.txt", "sealed")
	everywhere := func(id int64, who identity.Principal, level acl.Level) acl.Entry {
		return acl.Entry{ID: id, Who: who, Level: level, Applies: acl.Everywhere}
	}
	l.records = site.Records{
		Users: []identity.User{{ID: piran, Name: "piran", UID: 2003, SMB: true}, {ID: orla, Name: "orla", UID: 2006, SMB: true, Expires: l.now.Add(time.Hour)},
			{ID: bettany, Name: "bettany", UID: 2005, SMB: true}},
		Volumes: []site.Volume{{ID: 1, Name: "summit", Path: filepath.Dir(l.root)}},
		Folders: []site.Folder{{ID: 1, Name: "nightlog", VolumeID: 1, Path: "nightlog", Rules: []acl.Rule{
			{ID: 1, Path: "", Entries: []acl.Entry{everywhere(1, identity.UserPrincipal(piran), acl.Change), everywhere(2, identity.UserPrincipal(orla), acl.Read), everywhere(3, identity.UserPrincipal(bettany), acl.Pass)}},
			{ID: 2, Path: "drop", Entries: []acl.Entry{everywhere(4, identity.UserPrincipal(bettany), acl.Add)}},
			{ID: 3, Path: "closed", Cut: true, Entries: []acl.Entry{everywhere(5, identity.UserPrincipal(orla), acl.Change)}},
		}}},
		Shares: []site.Share{{ID: 1, Name: "nightlog", FolderID: 1}}, Services: site.Services{SMB: true},
	}
	l.compile()
	l.Namespace = New(l.policy.Load, l)
	l.Namespace.now = func() time.Time { return l.now }
	return l
}

func (l *larkfell) compile() {
	p, err := site.Compile(l.records)
	require.NoError(l.t, err)
	l.policy.Store(p)
}

func (l *larkfell) WriteRule(context.Context, int64, identity.ID, acl.Rule) error {
	return ErrNotSupported
}

func (l *larkfell) MoveRules(_ context.Context, _ int64, from, to string, rename, _ func() error) error {
	l.moved = append(l.moved, from+" to "+to)
	return rename()
}

func (l *larkfell) write(path, text string) {
	require.NoError(l.t, os.WriteFile(filepath.Join(l.root, path), []byte(text), 0o644))
}

func (l *larkfell) read(path string) string {
	b, err := os.ReadFile(filepath.Join(l.root, path))
	require.NoError(l.t, err)
	return string(b)
}

func (l *larkfell) open(user identity.ID, path string, access acl.Mask, d Disposition) (*Handle, error) {
	h, _, err := l.Open(Subject{User: user, Via: site.SMB}, OpenRequest{Share: "nightlog", Path: path, Access: access, Disposition: d, Sharing: ShareRead | ShareWrite | ShareDelete})
	if err == nil {
		l.t.Cleanup(func() { _ = h.Close() })
	}
	return h, err
}

func (l *larkfell) mustOpen(user identity.ID, path string, access acl.Mask, d Disposition) *Handle {
	l.t.Helper()
	h, err := l.open(user, path, access, d)
	require.NoError(l.t, err)
	return h
}

const reading = acl.ReadData | acl.ReadAttributes

func TestOpenHandlesFollowThePolicy(t *testing.T) {
	l := newLarkfell(t)
	h := l.mustOpen(orla, "README.txt", reading, OpenOnly)
	buf := make([]byte, 5)
	_, err := h.ReadAt(buf, 0)
	require.NoError(t, err)

	l.now = l.now.Add(2 * time.Hour) // the account ends, and nothing else changes
	_, err = h.ReadAt(buf, 0)
	require.ErrorIs(t, err, ErrDenied)
	l.records.Users[1].Expires = time.Time{}
	l.compile()
	_, err = h.ReadAt(buf, 0)
	require.NoError(t, err)

	// A handle never gains what it was not opened for.
	l.records.Folders[0].Rules[0].Entries[1].Level = acl.Control
	l.compile()
	_, err = h.WriteAt(buf, 0, false)
	require.ErrorIs(t, err, ErrDenied)
	l.records.Folders[0].Rules[0].Entries[1].Level = acl.Pass
	l.compile()
	_, err = h.ReadAt(buf, 0)
	require.ErrorIs(t, err, ErrDenied)
	l.records.Shares = nil
	l.compile()
	_, err = h.ReadAt(buf, 0)
	require.ErrorIs(t, err, ErrGone)
	require.NoError(t, h.Close(), "closing needs no leave")
	_, err = h.ReadAt(buf, 0)
	require.ErrorIs(t, err, ErrClosed)
}

// Who may add fills what they make through the handle that made it, and no longer.
func TestTheMakingHandle(t *testing.T) {
	l := newLarkfell(t)
	h := l.mustOpen(bettany, "drop/plate.fits", acl.WriteData|acl.ReadAttributes|acl.WriteACL, CreateOnly)
	require.Zero(t, h.Granted()&acl.WriteACL, "asking for more than there is drops it")
	_, err := h.WriteAt([]byte("raw"), 0, true)
	require.NoError(t, err)
	l.compile() // another policy, the same rules
	_, err = h.WriteAt([]byte("raw"), 3, true)
	require.NoError(t, err)
	l.records.Folders[0].Rules[1].Entries = nil
	l.compile()
	_, err = h.WriteAt([]byte("raw"), 6, true)
	require.ErrorIs(t, err, ErrDenied, "who may no longer add there")
	require.NoError(t, h.Close())
	for _, access := range []acl.Mask{acl.ReadData, acl.WriteData, acl.AppendData, acl.Delete} {
		_, err = l.open(bettany, "drop/plate.fits", access, OpenOnly)
		require.ErrorIs(t, err, ErrDenied, "%v", access.Names(false))
	}
	_, err = l.open(bettany, "2026/plate.fits", acl.WriteData, CreateOnly)
	require.ErrorIs(t, err, ErrDenied)
}

// What is refused does not say what is there.
func TestWhatIsBehindAClosedDirectoryIsNotTold(t *testing.T) {
	l := newLarkfell(t)
	for _, path := range []string{"closed/key.txt", "closed/nothing", "closed/no/such/path"} {
		for _, d := range []Disposition{OpenOnly, CreateOnly, OpenIf, OverwriteIf} {
			_, err := l.open(piran, path, acl.ReadData, d)
			require.ErrorIs(t, err, ErrDenied, "%s by %d", path, d)
		}
	}
}

func TestAppendOnly(t *testing.T) {
	l := newLarkfell(t)
	h := l.mustOpen(piran, "README.txt", acl.AppendData|acl.ReadAttributes, OpenOnly)
	for _, off := range []int64{0, 3, 100} { // wherever it is sent to, it goes to the end
		_, err := h.WriteAt([]byte("x"), off, false)
		require.NoError(t, err)
	}
	require.Equal(t, "night logxxx", l.read("README.txt"))
	require.ErrorIs(t, h.Truncate(0), ErrDenied)
}

func TestSharing(t *testing.T) {
	l := newLarkfell(t)
	open := func(access acl.Mask, sharing Sharing) error {
		h, _, err := l.Open(Subject{User: piran, Via: site.SMB}, OpenRequest{Share: "nightlog", Path: "README.txt", Access: access, Sharing: sharing, Disposition: OpenOnly})
		if err == nil {
			t.Cleanup(func() { _ = h.Close() })
		}
		return err
	}
	require.NoError(t, open(acl.ReadData, ShareRead))
	require.ErrorIs(t, open(acl.WriteData, ShareRead|ShareWrite|ShareDelete), ErrSharing, "the first does not share writing")
	require.ErrorIs(t, open(acl.ReadData, ShareWrite), ErrSharing, "the second does not share the first's reading")
	require.ErrorIs(t, open(acl.Delete, ShareRead|ShareWrite|ShareDelete), ErrSharing)
	require.NoError(t, open(acl.ReadAttributes, 0), "looking disturbs nobody")
	require.NoError(t, open(acl.ReadData, ShareRead))
}

func TestDeleting(t *testing.T) {
	l := newLarkfell(t)
	there := func(path string) bool { _, err := os.Lstat(filepath.Join(l.root, path)); return err == nil }
	a := l.mustOpen(piran, "README.txt", acl.Delete|reading, OpenOnly)
	b := l.mustOpen(orla, "README.txt", reading, OpenOnly)
	require.NoError(t, a.SetDelete(true))
	_, err := l.open(orla, "README.txt", reading, OpenOnly)
	require.ErrorIs(t, err, ErrDeletePending)
	require.NoError(t, a.Close())
	require.True(t, there("README.txt"), "somebody has it open still")
	_, err = b.ReadAt(make([]byte, 5), 0)
	require.NoError(t, err)
	require.NoError(t, b.Close())
	require.False(t, there("README.txt"))

	l.write("kept.txt", "x")
	a = l.mustOpen(piran, "kept.txt", acl.Delete, OpenOnly)
	require.NoError(t, a.SetDelete(true))
	require.NoError(t, a.SetDelete(false))
	require.NoError(t, a.Close())
	require.True(t, there("kept.txt"), "taken back")

	// What has taken its name since is not what was to be deleted.
	a = l.mustOpen(piran, "kept.txt", acl.Delete, OpenOnly)
	require.NoError(t, a.SetDelete(true))
	require.NoError(t, os.Rename(filepath.Join(l.root, "kept.txt"), filepath.Join(l.root, "elsewhere.txt")))
	l.write("kept.txt", "another")
	require.ErrorIs(t, a.Close(), ErrNotFound)
	require.True(t, there("kept.txt"))

	require.ErrorIs(t, l.mustOpen(piran, "2026", acl.Delete, OpenOnly).SetDelete(true), ErrNotEmpty)
	readOnly := AttrReadOnly
	h := l.mustOpen(piran, "kept.txt", acl.Delete|acl.WriteAttributes|acl.ReadAttributes, OpenOnly)
	require.NoError(t, h.SetBasic(Times{Attributes: &readOnly}, nil))
	require.ErrorIs(t, h.SetDelete(true), ErrReadOnlyFile)
	_, err = l.open(piran, "kept.txt", acl.WriteData, OpenOnly)
	require.ErrorIs(t, err, ErrReadOnlyFile)
	_, err = l.open(piran, "", acl.Delete, OpenOnly)
	require.ErrorIs(t, err, ErrDenied, "the folder itself")
}

func TestRenaming(t *testing.T) {
	l := newLarkfell(t)
	ctx := context.Background()
	rename := func(user identity.ID, from, to string, replace bool) error {
		h, err := l.open(user, from, acl.Delete, OpenOnly)
		if err != nil {
			return err
		}
		defer h.Close()
		return h.Rename(ctx, to, replace)
	}
	l.write("a.txt", "a")
	l.write("b.txt", "b")
	for name, c := range map[string]struct {
		from, to string
		replace  bool
		is       error
	}{
		"onto another": {"a.txt", "b.txt", false, ErrExists}, "into itself": {"2026", "2026/03/x", false, ErrInvalid},
		"onto a directory": {"a.txt", "2026", true, ErrDenied}, "where there is nothing": {"a.txt", "no/where", false, ErrPathNotFound},
		"out": {"a.txt", "../a.txt", false, ErrName}, "over the folder": {"a.txt", "", true, ErrDenied}, "into what is closed": {"a.txt", "closed/a.txt", false, ErrDenied},
	} {
		require.ErrorIs(t, rename(piran, c.from, c.to, c.replace), c.is, name)
	}
	require.ErrorIs(t, rename(orla, "a.txt", "c.txt", false), ErrDenied)

	open := l.mustOpen(orla, "b.txt", reading, OpenOnly)
	require.ErrorIs(t, rename(piran, "a.txt", "b.txt", true), ErrDenied, "what is open is not replaced")
	require.NoError(t, rename(piran, "b.txt", "2026/B.txt", false))
	require.Equal(t, "2026/B.txt", open.Path(), "who has it open goes along")
	_, err := open.ReadAt(make([]byte, 1), 0)
	require.NoError(t, err)
	require.ErrorIs(t, rename(piran, "2026", "2027", false), ErrDenied, "something in it is open")
	require.NoError(t, open.Close())
	require.NoError(t, rename(piran, "2026", "2027", false))
	require.NoError(t, rename(piran, "a.txt", "A.TXT", false), "only the case")
	require.Empty(t, l.moved)
	require.NoError(t, rename(piran, "drop", "slot", false))
	require.Equal(t, []string{"drop to slot"}, l.moved, "its rules go along")
	// Nothing is lifted out of its rules by who could not read it there.
	l.records.Folders[0].Rules[1] = acl.Rule{ID: 2, Path: "slot", Entries: []acl.Entry{{ID: 9, Deny: true, Who: identity.UserPrincipal(piran), Level: acl.Read, Applies: acl.Files},
		{ID: 10, Who: identity.UserPrincipal(piran), Level: acl.Change, Applies: acl.Here}}}
	l.compile()
	l.write("slot/secret.txt", "s")
	require.ErrorIs(t, rename(piran, "slot/secret.txt", "secret.txt", false), ErrDenied)
}

// A directory is not carried out of its rules by who may not read all that is below it, nor given
// another name where other rules hold, and stays where it is.
func TestNothingLeaksByMoving(t *testing.T) {
	l := newLarkfell(t)
	change := func(id int64, who identity.ID) acl.Entry {
		return acl.Entry{ID: id, Who: identity.UserPrincipal(who), Level: acl.Change, Applies: acl.Everywhere}
	}
	l.records.Folders[0].Rules = []acl.Rule{
		{ID: 1, Path: "", Entries: []acl.Entry{change(1, piran)}},
		{ID: 2, Path: "box/inner", Entries: []acl.Entry{{ID: 2, Deny: true, Who: identity.UserPrincipal(piran), Level: acl.Read, Applies: acl.Files}}},
		{ID: 3, Path: "pub", Entries: []acl.Entry{change(3, piran), change(4, orla)}},
		{ID: 4, Path: "near", Entries: []acl.Entry{{ID: 5, Who: identity.UserPrincipal(orla), Level: acl.Read, Applies: acl.Files | acl.DirectOnly}}},
	}
	l.compile()
	for _, name := range []string{"box/inner/secret.txt", "pub/here.txt", "near/deep/far.txt", "plain/a.txt"} {
		require.NoError(t, os.MkdirAll(filepath.Join(l.root, filepath.Dir(name)), 0o770))
		l.write(name, "s")
	}
	rename := func(user identity.ID, from, to string) error {
		h, err := l.open(user, from, acl.Delete, OpenOnly)
		if err != nil {
			return err
		}
		defer h.Close()
		return h.Rename(context.Background(), to, false)
	}
	require.ErrorIs(t, rename(piran, "box", "pub/box"), ErrDenied, "what is below could not be copied")
	require.NoError(t, rename(piran, "box", "crate"), "the same rules hold there")
	require.NoError(t, rename(piran, "plain", "pub/plain"), "all of it could be copied")
	require.NoError(t, rename(piran, "pub/plain", "plain"))
	require.NoError(t, rename(piran, "near/deep/far.txt", "near/far.txt"))
	_, err := l.open(orla, "near/far.txt", acl.ReadData, OpenOnly)
	require.ErrorIs(t, err, ErrDenied, "she may not pass the folder")
	l.records.Folders[0].Rules[0].Entries = append(l.records.Folders[0].Rules[0].Entries, acl.Entry{ID: 9, Deny: true, Who: identity.UserPrincipal(piran), Level: acl.Read, Applies: acl.Files})
	l.compile()
	require.ErrorIs(t, rename(piran, "near/far.txt", "near/deep/far.txt"), ErrDenied, "an entry that reaches one of the two and not the other")
}

func TestListing(t *testing.T) {
	l := newLarkfell(t)
	require.NoError(t, syscall.Mkfifo(filepath.Join(l.root, "pipe"), 0o644))
	l.write("bad\xff", "x")
	require.NoError(t, os.Symlink("2026/03", filepath.Join(l.root, "march")))
	require.NoError(t, os.Symlink("/etc/hostname", filepath.Join(l.root, "out")))
	shown := func(user identity.ID) map[string]bool {
		h := l.mustOpen(user, "", acl.ListDirectory, OpenOnly)
		names, err := h.Names()
		require.NoError(t, err)
		out := make(map[string]bool)
		for _, n := range names {
			if e, ok := h.Look(n); ok {
				out[n] = e.Info.Dir
			}
		}
		return out
	}
	all := map[string]bool{"2026": true, "drop": true, "closed": true, "march": true, "README.txt": false, "bad\xff": false}
	require.Equal(t, all, shown(piran), "no pipes, nothing outside")
	_, err := l.open(piran, "pipe", acl.ReadData, OpenOnly)
	require.ErrorIs(t, err, ErrDenied)
	l.records.Shares[0].ListOnlyOpenable = true
	l.compile()
	delete(all, "closed")
	require.Equal(t, all, shown(piran))
}

func TestAttributesAreKept(t *testing.T) {
	l := newLarkfell(t)
	h := l.mustOpen(piran, "README.txt", acl.WriteAttributes|acl.ReadAttributes, OpenOnly)
	created, modified := time.Date(2019, 5, 1, 0, 0, 0, 7e8, time.UTC), time.Date(2020, 1, 2, 3, 4, 5, 600, time.UTC)
	hidden := AttrHidden | 0x10000000
	require.NoError(t, h.SetBasic(Times{Created: created, Modified: modified, Attributes: &hidden}, nil))
	require.NoError(t, h.SetBasic(Times{Accessed: modified}, nil), "what is not set stays")
	info, err := h.Stat()
	require.NoError(t, err)
	require.True(t, created.Equal(info.Created) && modified.Equal(info.Modified) && modified.Equal(info.Accessed), "%+v", info)
	require.Equal(t, AttrHidden, info.Attributes, "only those that are kept")

	made := l.mustOpen(orla, "closed/mine.txt", acl.WriteData, CreateOnly)
	require.NoError(t, made.Close())
	own, ok := FactsOf(l.policy.Load(), l.policy.Load().Folders[0]).OwnerOf("closed/mine.txt")
	require.True(t, ok)
	require.Equal(t, l.policy.Load().Directory.UserIndex(orla), own.User)
	_, ok = FactsOf(l.policy.Load(), l.policy.Load().Folders[0]).OwnerOf("README.txt")
	require.False(t, ok, "nobody is recorded")
}

func TestWatching(t *testing.T) {
	l := newLarkfell(t)
	root := l.mustOpen(orla, "", acl.ListDirectory, OpenOnly)
	flat, stopFlat, err := l.Watch(root, false)
	require.NoError(t, err)
	deep, stopDeep, err := l.Watch(root, true)
	require.NoError(t, err)
	defer stopDeep()
	h := l.mustOpen(piran, "2026/new.txt", acl.WriteData|acl.Delete, CreateOnly)
	require.NoError(t, h.Rename(context.Background(), "new.txt", false))
	_, err = h.WriteAt([]byte("x"), 0, false)
	require.NoError(t, err)
	require.NoError(t, h.Close())
	renamed := Event{Path: "2026/new.txt", NewPath: "new.txt", Kind: EventRenamed}
	require.Equal(t, Event{Path: "2026/new.txt", Kind: EventAdded}, <-deep)
	require.Equal(t, renamed, <-deep)
	require.Equal(t, Event{Path: "new.txt", Kind: EventModified}, <-deep)
	require.Equal(t, renamed, <-flat, "it came into the directory")
	require.Equal(t, Event{Path: "new.txt", Kind: EventModified}, <-flat)
	stopFlat()
	for range 2 * watchBuffer { // one who does not listen is told to look for himself
		l.notify.tell(1, Event{Path: "x", Kind: EventModified})
	}
	for range deep {
	}
	_, _, err = l.Watch(l.mustOpen(bettany, "", acl.Execute, OpenOnly), false)
	require.ErrorIs(t, err, ErrDenied)
}
