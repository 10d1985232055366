package files

import (
	"context"
	"errors"
	"os"
	"path"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
)

// lister opens a directory and caches what is in it; told is what it was asked to forget.
func (l *larkfell) lister(dir string, key any, want Caching) (h *Handle, lease *Lease, told chan Break) {
	l.t.Helper()
	h, _, err := l.Open(Subject{User: piran, Via: site.SMB}, OpenRequest{Share: "nightlog", Path: dir, Access: acl.ListDirectory, Sharing: ShareRead | ShareWrite | ShareDelete, Disposition: OpenOnly, Directory: true, Key: key})
	require.NoError(l.t, err)
	told = make(chan Break, 64)
	return h, h.Cache(key, want, func(b Break) bool { told <- b; return true }), told
}

// by opens something for a client that knows the directory it is in by a key.
func (l *larkfell) by(parent any, p string, access acl.Mask, d Disposition, dir bool) *Handle {
	l.t.Helper()
	h, _, err := l.Open(Subject{User: piran, Via: site.SMB}, OpenRequest{Share: "nightlog", Path: p, Access: access, Sharing: ShareRead | ShareWrite | ShareDelete, Disposition: d, Directory: dir, ParentKey: parent})
	require.NoError(l.t, err)
	return h
}

// What is in a directory, and what it says of itself, is forgotten by who caches it as soon as any of it changes, by whatever way; what is beside
// it or further below takes nothing.
func TestDirectoryCachesAreBroken(t *testing.T) {
	closed := func(h *Handle) error { return h.Close() }
	overNFS := func(do func(in *Object) error) func(*larkfell) error {
		return func(l *larkfell) error {
			return l.visit(2003, Alone, func(v *Visit, _ *Object) error {
				in, err := walkTo(v, "2026")
				require.NoError(l.t, err)
				return do(in)
			})
		}
	}
	for name, c := range map[string]struct {
		does   func(l *larkfell) error
		breaks bool
	}{
		"a file is made":              {func(l *larkfell) error { return closed(l.by(nil, "2026/new.txt", acl.ReadData, CreateOnly, false)) }, true},
		"a directory is made":         {func(l *larkfell) error { return closed(l.by(nil, "2026/04", acl.ReadData, CreateOnly, true)) }, true},
		"a file is made below":        {func(l *larkfell) error { return closed(l.by(nil, "2026/03/new.txt", acl.ReadData, CreateOnly, false)) }, false},
		"a file is made beside":       {func(l *larkfell) error { return closed(l.by(nil, "new.txt", acl.ReadData, CreateOnly, false)) }, false},
		"a file is looked at":         {func(l *larkfell) error { return closed(l.by(nil, "2026/a.txt", acl.ReadData, OpenOnly, false)) }, false},
		"one with such a name beside": {func(l *larkfell) error { return closed(l.by(nil, "20266", acl.ReadData, CreateOnly, false)) }, false},
		"a file is written": {func(l *larkfell) error {
			h := l.by(nil, "2026/a.txt", acl.WriteData, OpenOnly, false)
			_, err := h.WriteAt([]byte("longer than before"), 0, false)
			return errors.Join(err, h.Close())
		}, true},
		"a file is removed": {func(l *larkfell) error {
			h := l.by(nil, "2026/a.txt", acl.Delete, OpenOnly, false)
			return errors.Join(h.SetDelete(true), h.Close())
		}, true},
		"a file gets another time": {func(l *larkfell) error {
			h := l.by(nil, "2026/a.txt", acl.WriteAttributes, OpenOnly, false)
			return errors.Join(h.SetBasic(Times{Modified: l.now}, nil), h.Close())
		}, true},
		"a file is renamed": {func(l *larkfell) error {
			h := l.by(nil, "2026/a.txt", acl.Delete, OpenOnly, false)
			return errors.Join(h.Rename(context.Background(), "2026/b.txt", false), h.Close())
		}, true},
		"a file comes": {func(l *larkfell) error {
			h := l.by(nil, "README.txt", acl.Delete, OpenOnly, false)
			return errors.Join(h.Rename(context.Background(), "2026/READ.txt", false), h.Close())
		}, true},
		"a file goes": {func(l *larkfell) error {
			h := l.by(nil, "2026/a.txt", acl.Delete, OpenOnly, false)
			return errors.Join(h.Rename(context.Background(), "a.txt", false), h.Close())
		}, true},
		"another directory is renamed": {func(l *larkfell) error {
			h := l.by(nil, "drop", acl.Delete, OpenOnly, true)
			return errors.Join(h.Rename(context.Background(), "dropped", false), h.Close())
		}, false},
		"it gets another time": {func(l *larkfell) error {
			h := l.by(nil, "2026", acl.WriteAttributes, OpenOnly, true)
			return errors.Join(h.SetBasic(Times{Modified: l.now}, nil), h.Close())
		}, true},
		"the rules change": {func(l *larkfell) error { l.RulesMoved(); return nil }, true},
		"over NFS, a file is made": {overNFS(func(in *Object) error {
			_, err := in.CreateFile("nfs.txt", Set{})
			return err
		}), true},
		"over NFS, a directory is made": {overNFS(func(in *Object) error { _, err := in.Mkdir("nfs", Set{}); return err }), true},
		"over NFS, a file is removed":   {overNFS(func(in *Object) error { return in.Remove("a.txt", false) }), true},
		"over NFS, a file is renamed":   {overNFS(func(in *Object) error { return in.Rename(context.Background(), "a.txt", in, "c.txt") }), true},
		"over NFS, a mode is set": {overNFS(func(in *Object) error {
			o, err := in.Lookup("a.txt")
			if err != nil {
				return err
			}
			return o.Set(Set{Mode: new(uint32(0o640))})
		}), true},
		"over NFS, a file is linked": {overNFS(func(in *Object) error { _, err := in.MakeLink("link", "a.txt", Set{}); return err }), true},
	} {
		t.Run(name, func(t *testing.T) {
			l := newLarkfell(t)
			l.exported()
			l.write("2026/a.txt", "a")
			h, lease, told := l.lister("2026", "mine", CacheRead|CacheHandle|CacheWrite)
			defer h.Close()
			require.Equal(t, CacheRead|CacheHandle, mayCache(lease), "nobody writes a directory late")
			_, other, tellsOther := l.lister("drop", "other", CacheRead)
			require.NoError(t, c.does(l))
			if !c.breaks {
				l.silent(told)
				require.Equal(t, CacheRead|CacheHandle, mayCache(lease))
				return
			}
			b := <-told
			require.Equal(t, CacheRead|CacheHandle, b.From)
			require.Zero(t, b.To)
			require.True(t, b.Answer)
			require.NoError(t, l.by(nil, "2026/meanwhile.txt", acl.ReadData, CreateOnly, false).Close(), "nobody waits for the answer")
			require.NoError(t, lease.Answer(0))
			require.Zero(t, mayCache(lease))
			if name != "the rules change" {
				l.silent(tellsOther)
				require.Equal(t, CacheRead, mayCache(other))
			}
			require.Empty(t, told, "once")
			// It may cache again, and is told again.
			more, again, told := l.lister("2026", "mine", CacheRead)
			defer more.Close()
			require.Same(t, lease, again)
			require.Equal(t, CacheRead, mayCache(lease))
			require.NoError(t, l.by(nil, "2026/once-more.txt", acl.ReadData, CreateOnly, false).Close())
			b = <-told
			require.False(t, b.Answer, "what was only read is given back without a word")
			require.Zero(t, mayCache(lease))
		})
	}
}

func (l *larkfell) silent(told chan Break) {
	l.t.Helper()
	select {
	case b := <-told:
		l.t.Fatalf("told: %+v", b)
	case <-time.After(20 * time.Millisecond):
	}
}

// What changes in a directory on the host, beside the service, is found when it is looked for; what the service did itself is not taken for that,
// whoever did it.
func TestChangesOnTheHostAreFound(t *testing.T) {
	l := newLarkfell(t)
	looked := func() {
		l.lookOnHost()
		require.Eventually(t, func() bool {
			_, still := l.looking.Load(int64(1))
			return !still
		}, 10*time.Second, time.Millisecond)
	}
	h, lease, told := l.lister("2026", "mine", CacheRead|CacheHandle)
	looked()
	require.NoError(t, l.by("mine", "2026/own.txt", acl.ReadData, CreateOnly, false).Close())
	made := l.by("mine", "2026/own2.txt", acl.WriteData|acl.Delete, CreateOnly, false)
	require.NoError(t, made.Rename(t.Context(), "2026/own3.txt", false))
	require.NoError(t, made.Close())
	looked()
	l.silent(told)
	require.Equal(t, CacheRead|CacheHandle, mayCache(lease))
	time.Sleep(20 * time.Millisecond) // clocks of file systems go in steps
	for _, does := range []func() error{
		func() error { return os.WriteFile(filepath.Join(l.root, "2026/host.txt"), nil, 0o644) },
		func() error {
			return os.Rename(filepath.Join(l.root, "2026/host.txt"), filepath.Join(l.root, "2026/host2.txt"))
		},
		func() error { return os.Remove(filepath.Join(l.root, "2026/host2.txt")) },
		func() error { return os.Chmod(filepath.Join(l.root, "2026"), 0o711) },
	} {
		require.NoError(t, does())
		l.silent(told)
		looked()
		b := <-told
		require.Zero(t, b.To)
		require.NoError(t, lease.Answer(0))
		looked()
		require.Empty(t, told)
		require.NoError(t, h.Close())
		h, lease, told = l.lister("2026", "mine", CacheRead|CacheHandle)
		looked()
		l.silent(told)
		time.Sleep(20 * time.Millisecond)
	}
	require.NoError(t, l.by("mine", "2026/own4.txt", acl.ReadData, CreateOnly, false).Close())
	require.NoError(t, os.WriteFile(filepath.Join(l.root, "2026/03/below.txt"), nil, 0o644))
	looked()
	l.silent(told)
	require.NoError(t, h.Close())
	looked()
}

// A file that goes on being written over NFS is longer each time: who caches the directory is told each time.
func TestAFileThatGrowsOverNFS(t *testing.T) {
	l := newLarkfell(t)
	l.exported()
	l.write("2026/a.txt", "a")
	key, guest := l.keyOf(2003, "2026/a.txt"), l.guest(2003)
	for i := range 4 {
		h, lease, told := l.lister("2026", "mine", CacheRead)
		require.Equal(t, CacheRead, mayCache(lease))
		f, err := l.File(guest, key, true)
		require.NoError(t, err)
		require.Equal(t, i > 0, f.path == "", "it is kept open between requests")
		_, _, err = f.WriteAt([]byte("more"), int64(4*i), Unstable)
		require.NoError(t, err)
		f.Release()
		select {
		case <-told:
		case <-time.After(5 * time.Second):
			t.Fatalf("nothing is told of write %d", i)
		}
		require.Zero(t, mayCache(lease))
		require.NoError(t, h.Close())
	}
	require.Zero(t, l.notify.caches.Load())
}

// Who changes something in a directory that they cache, and says so, knows of it: others are told.
func TestOnesOwnChangesAreKnown(t *testing.T) {
	l := newLarkfell(t)
	l.write("2026/a.txt", "a")
	h, lease, told := l.lister("2026", "mine", CacheRead|CacheHandle)
	defer h.Close()
	theirs, other, tellsOther := l.lister("2026", "theirs", CacheRead)
	next := func() {
		t.Helper()
		<-tellsOther
		l.silent(told)
		require.Equal(t, CacheRead|CacheHandle, mayCache(lease))
		require.Zero(t, mayCache(other))
		require.NoError(t, theirs.Close())
		theirs, other, tellsOther = l.lister("2026", "theirs", CacheRead)
	}
	made := l.by("mine", "2026/b.txt", acl.WriteData|acl.Delete|acl.WriteAttributes, CreateOnly, false)
	next()
	require.NoError(t, made.SetBasic(Times{Modified: l.now}, nil))
	next()
	require.NoError(t, made.Rename(t.Context(), "2026/c.txt", false))
	next()
	_, err := made.WriteAt([]byte("b"), 0, false)
	require.NoError(t, err)
	require.NoError(t, made.Close())
	next()
	gone := l.by("mine", "2026/c.txt", acl.Delete, OpenOnly, false)
	require.NoError(t, gone.SetDelete(true))
	require.NoError(t, gone.Close())
	next()
	// A key that is another's is not believed for theirs, and none at all is nobody's.
	require.NoError(t, l.by("someone", "2026/d.txt", acl.ReadData, CreateOnly, false).Close())
	<-told
	require.NoError(t, lease.Answer(0))
}

// A directory that is renamed is another place: what was cached is forgotten, and what is cached afterwards is of the new one.
func TestACachedDirectoryThatMoves(t *testing.T) {
	l := newLarkfell(t)
	h, lease, told := l.lister("2026/03", "mine", CacheRead)
	mover := l.by(nil, "2026/03", acl.Delete, OpenOnly, true)
	require.NoError(t, mover.Rename(t.Context(), "moved", false))
	require.NoError(t, mover.Close())
	<-told
	require.Zero(t, mayCache(lease))
	is := h.Path()
	require.Equal(t, "moved", is)
	require.NoError(t, h.Close())
	h, lease, told = l.lister(is, "mine", CacheRead)
	require.Equal(t, CacheRead, mayCache(lease))
	require.NoError(t, os.MkdirAll(filepath.Join(l.root, "2026/03"), 0o755))
	require.NoError(t, l.by(nil, "2026/03/elsewhere.txt", acl.ReadData, CreateOnly, false).Close())
	l.silent(told)
	require.NoError(t, l.by(nil, "moved/here.txt", acl.ReadData, CreateOnly, false).Close())
	<-told
	require.NoError(t, h.Close())
	require.Empty(t, l.notify.cached, "nothing is left behind")
}

// A directory that a client keeps open for its cache alone is closed for who renames one above it; one that is open otherwise is in the way.
func TestAKeptDirectoryIsNotInTheWay(t *testing.T) {
	l := newLarkfell(t)
	h, _, told := l.lister("2026/03", "mine", CacheRead|CacheHandle)
	mover := l.by(nil, "2026", acl.Delete, OpenOnly, true)
	defer mover.Close()
	renamed := make(chan error, 1)
	go func() { renamed <- mover.Rename(t.Context(), "moved", false) }()
	b := <-told
	require.Equal(t, CacheRead, b.To)
	require.Empty(t, renamed, "not before it is given back")
	require.NoError(t, h.Close())
	require.NoError(t, <-renamed)
	h, _, _ = l.lister("moved/03", "mine", CacheRead)
	require.ErrorIs(t, mover.Rename(t.Context(), "2026", false), ErrDenied)
	require.NoError(t, h.Close())
	require.NoError(t, mover.Rename(t.Context(), "2026", false))
}

// Who may list a directory no more is told to forget it at once, and a file that one may read no more as well; who still may keeps the file.
func TestRulesTakeCaches(t *testing.T) {
	l := newLarkfell(t)
	_, dir, tellsDir := l.lister("2026", "dir", CacheRead|CacheHandle)
	_, file, tellsFile := l.cacher("README.txt", "file", cacheAll)
	l.RulesMoved()
	<-tellsDir
	l.silent(tellsFile)
	require.Equal(t, cacheAll, mayCache(file))
	require.NoError(t, dir.Answer(0))
	l.records.Folders[0].Rules[0].Entries[0].Level = acl.Read
	l.compile()
	changed := make(chan chan struct{}, 4)
	ctx, stop := context.WithCancel(t.Context())
	followed := make(chan struct{})
	go func() {
		defer close(followed)
		l.FollowRules(ctx, func() <-chan struct{} { next := make(chan struct{}); changed <- next; return next })
	}()
	close(<-changed)
	b := <-tellsFile
	require.Zero(t, b.To, "it was opened to write, and that may not be any more")
	stop()
	<-followed
}

// A rule that ends by itself takes with it what was cached by it, of files and directories, and nothing else.
func TestRulesThatEndTakeCaches(t *testing.T) {
	l := newLarkfell(t)
	l.records.Folders[0].Rules[0].Entries[0].Expires = l.now.Add(time.Hour)
	l.entry("", acl.Entry{ID: 89, Who: identity.UserPrincipal(piran), Level: acl.Pass, Applies: acl.Everywhere})
	l.entry("drop", acl.Entry{ID: 90, Who: identity.UserPrincipal(piran), Level: acl.Change, Applies: acl.Everywhere})
	_, dir, tellsDir := l.lister("2026", "dir", CacheRead)
	_, file, tellsFile := l.cacher("README.txt", "file", cacheAll)
	l.write("drop/kept.txt", "kept")
	_, stays, tellsStays := l.lister("drop", "stays", CacheRead)
	l.timesPassed()
	l.silent(tellsDir)
	l.silent(tellsFile)
	l.now = l.now.Add(time.Hour)
	l.timesPassed()
	<-tellsDir
	<-tellsFile
	require.Zero(t, mayCache(dir))
	require.NoError(t, file.Answer(0))
	l.silent(tellsStays)
	require.Equal(t, CacheRead, mayCache(stays), "they may go on there by another")
	l.timesPassed()
	require.Empty(t, tellsFile, "once")
}

// Whatever is made, removed, renamed and moved by others, who caches a directory never takes for its names what they are not.
func TestACachedListingIsNeverStale(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		l := newLarkfell(t)
		dirs := []string{"2026", "2026/03", "drop"}
		type lister struct {
			key   int
			h     *Handle
			lease *Lease
			names []string
		}
		var listers []*lister
		names := func(h *Handle) (out []string) {
			require.NoError(r, h.use(func(fd int) (err error) { out, err = readNames(fd); return err }))
			slices.Sort(out)
			return out
		}
		all := func() (out []string) {
			require.NoError(r, filepath.WalkDir(l.root, func(at string, _ os.DirEntry, err error) error {
				if rel, _ := filepath.Rel(l.root, at); rel != "." && !under(rel, "closed") && rel != "closed" {
					out = append(out, rel)
				}
				return err
			}))
			return out
		}
		for i := range rapid.IntRange(1, 4).Draw(r, "listers") {
			x := &lister{key: i}
			x.h, x.lease, _ = l.lister(rapid.SampledFrom(dirs).Draw(r, "of"), i, CacheRead)
			x.names = names(x.h)
			listers = append(listers, x)
		}
		for range rapid.IntRange(1, 12).Draw(r, "steps") {
			for _, x := range listers {
				if mayCache(x.lease) == 0 && rapid.Bool().Draw(r, "lists again") {
					if h, _, err := l.Open(Subject{User: piran, Via: site.SMB}, OpenRequest{Share: "nightlog", Path: x.h.Path(), Access: acl.ListDirectory, Sharing: 7, Disposition: OpenOnly, Directory: true, Key: x.key}); err == nil {
						_ = x.h.Close()
						x.h, x.lease = h, h.Cache(x.key, CacheRead, func(Break) bool { return true })
						x.names = names(x.h)
					}
				}
			}
			some := rapid.SampledFrom(all()).Draw(r, "what")
			switch rapid.IntRange(0, 2).Draw(r, "step") {
			case 0:
				in := some
				if info, err := os.Stat(filepath.Join(l.root, some)); err != nil || !info.IsDir() {
					in = path.Dir(some)
				}
				h, _, err := l.Open(Subject{User: piran, Via: site.SMB}, OpenRequest{Share: "nightlog", Path: path.Join(in, rapid.SampledFrom([]string{"x", "y", "z"}).Draw(r, "name")), Access: acl.ReadData, Disposition: OpenIf, Sharing: 7, Directory: rapid.Bool().Draw(r, "dir")})
				if err == nil {
					require.NoError(r, h.Close())
				}
			case 1, 2:
				h, _, err := l.Open(Subject{User: piran, Via: site.SMB}, OpenRequest{Share: "nightlog", Path: some, Access: acl.Delete, Disposition: OpenOnly, Sharing: 7})
				if err != nil {
					continue
				}
				if rapid.Bool().Draw(r, "removes") {
					_ = h.SetDelete(true)
				} else {
					to := path.Join(rapid.SampledFrom([]string{"", "2026", "drop", "x"}).Draw(r, "to"), rapid.SampledFrom([]string{"x", "y", "z"}).Draw(r, "as"))
					_ = h.Rename(context.Background(), to, rapid.Bool().Draw(r, "over"))
				}
				_ = h.Close()
			}
			for _, x := range listers {
				if mayCache(x.lease) != 0 {
					require.Equal(r, names(x.h), x.names, "in %s", x.h.Path())
				}
			}
		}
		for _, x := range listers {
			_ = x.h.Close() // what was to be removed then may not be empty
		}
		require.Empty(r, l.notify.cached)
	})
}
