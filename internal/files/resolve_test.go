package files

import (
	"errors"
	"fmt"
	"io"
	"math/rand"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/site"
)

// Whatever links a tree holds: what Find finds is what the operating system finds, is
// below the root, and has no link left in it.
func TestFindAgainstTheSystem(t *testing.T) {
	base := t.TempDir()
	n := 0
	rapid.Check(t, func(t *rapid.T) {
		n++
		root := filepath.Join(base, fmt.Sprint(n), "root")
		require.NoError(t, os.MkdirAll(filepath.Join(root, "a", "b"), 0o755))
		require.NoError(t, os.MkdirAll(filepath.Join(root, "C"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(root, "..", "outside"), nil, 0o644))
		for _, f := range []string{"f", "a/f", "a/b/g", "C/h"} {
			require.NoError(t, os.WriteFile(filepath.Join(root, f), nil, 0o644))
		}
		for i, target := range rapid.SliceOfN(rapid.SampledFrom([]string{"a", "b", "..", "../..", "../outside", "f", "a/b", "../C", "l0", "l1", "../l2", ".", "/etc", "x", "../../root/a"}), 0, 4).Draw(t, "targets") {
			dir := rapid.SampledFrom([]string{"", "a", "a/b", "C"}).Draw(t, "in")
			require.NoError(t, os.Symlink(target, filepath.Join(root, dir, fmt.Sprint("l", i))))
		}
		path := strings.Join(rapid.SliceOfN(rapid.SampledFrom([]string{"a", "b", "A", "B", "c", "C", "f", "g", "H", "l0", "l1", "l2", "l3", "x"}), 1, 4).Draw(t, "path"), "/")
		place, err := Find(site.Location{Volume: root}, path)
		if err != nil {
			require.ErrorIs(t, err, ErrLoop)
			return
		}
		if !place.Exists {
			// Then it is not there by that very name either, or the way leads outside.
			if real, err := filepath.EvalSymlinks(filepath.Join(root, path)); err == nil && under(real, root) {
				require.Contains(t, path, "l", "%s is %s", path, real)
			}
			return
		}
		real, err := filepath.EvalSymlinks(filepath.Join(root, place.Path))
		require.NoError(t, err)
		require.Equal(t, filepath.Join(root, place.Path), real, "no link is left in it")
		info, err := os.Lstat(real)
		require.NoError(t, err)
		require.Equal(t, !info.IsDir(), place.File)
		if exact, err := filepath.EvalSymlinks(filepath.Join(root, path)); err == nil && under(exact, root) {
			require.Equal(t, exact, real)
		}
	})
}

func TestNamesThatCannotBe(t *testing.T) {
	root := t.TempDir()
	for _, path := range []string{"..", "a/../b", ".", "a//b", "/a", "a/", "a\x00b", `\x2e\x2e`, `a/\x2e\x2E/b`, strings.Repeat("x", 256), strings.Repeat("x/", 3000)} {
		_, err := Find(site.Location{Volume: root}, path)
		require.ErrorIs(t, err, ErrName, "%.20q", path)
	}
	_, err := Find(site.Location{Volume: filepath.Join(root, "gone")}, "a")
	require.ErrorIs(t, err, ErrGone)
}

// While somebody on the host swaps a directory for a link to the outside and back, no
// open ever leads there.
func TestSwappingLinksLeadsNowhere(t *testing.T) {
	l := newLarkfell(t)
	outside := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(outside, "f"), []byte("secret"), 0o644))
	swap := filepath.Join(l.root, "swap")
	require.NoError(t, os.Mkdir(swap, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(swap, "f"), []byte("inside"), 0o644))
	require.NoError(t, os.Symlink(outside, filepath.Join(l.root, "link")))
	stop := make(chan struct{})
	var swapping sync.WaitGroup
	swapping.Go(func() {
		for {
			select {
			case <-stop:
				return
			default:
				_ = unix.Renameat2(unix.AT_FDCWD, swap, unix.AT_FDCWD, filepath.Join(l.root, "link"), unix.RENAME_EXCHANGE)
			}
		}
	})
	read, refused := 0, 0
	for end := time.Now().Add(300 * time.Millisecond); time.Now().Before(end); {
		h, err := l.open(piran, "swap/f", acl.ReadData, OpenOnly)
		if err != nil {
			refused++
			continue
		}
		buf := make([]byte, 6)
		if _, err := h.ReadAt(buf, 0); err == nil {
			require.Equal(t, "inside", string(buf))
			read++
		}
		_ = h.Close()
		if h, err := l.open(piran, "swap/made", acl.WriteData, OpenIf); err == nil {
			_ = h.Close()
		}
	}
	close(stop)
	swapping.Wait()
	require.Positive(t, read)
	require.Positive(t, refused)
	entries, err := os.ReadDir(outside)
	require.NoError(t, err)
	require.Len(t, entries, 1, "nothing was made there")
}

// The index of a directory agrees with the directory, through changes of ours and of others.
func TestFoldIndexAgainstTheDirectory(t *testing.T) {
	base := t.TempDir()
	n := 0
	rapid.Check(t, func(t *rapid.T) {
		n++
		dir := filepath.Join(base, fmt.Sprint(n))
		require.NoError(t, os.Mkdir(dir, 0o755))
		// Old enough for the index to hold it.
		old := time.Now().Add(-time.Hour)
		require.NoError(t, os.Chtimes(dir, old, old))
		fd, err := unix.Open(dir, unix.O_RDONLY|unix.O_DIRECTORY, 0)
		require.NoError(t, err)
		defer unix.Close(fd)
		x := newFoldIndex()
		for range rapid.IntRange(1, 12).Draw(t, "steps") {
			name := rapid.SampledFrom([]string{"a", "A", "plate", "PLATE", "Plate", "ß", "é"}).Draw(t, "name")
			path := filepath.Join(dir, name)
			switch rapid.IntRange(0, 4).Draw(t, "what") {
			case 4: // ours as well
				_ = x.changing(fd, func() error { return os.Remove(path) }, func(names *folded) { names.drop(name) })
			case 0: // ours
				_ = x.changing(fd, func() error {
					f, err := os.OpenFile(path, os.O_CREATE|os.O_EXCL, 0o644)
					return errors.Join(err, f.Close())
				}, func(names *folded) { names.put(name) })
			case 1: // another's, long enough ago that its time shows
				_ = os.WriteFile(path, nil, 0o644)
				at := old.Add(time.Duration(rand.Int63n(int64(time.Minute))))
				require.NoError(t, os.Chtimes(dir, at, at))
			case 2:
				_ = os.Remove(path)
				at := old.Add(time.Duration(rand.Int63n(int64(time.Minute))))
				require.NoError(t, os.Chtimes(dir, at, at))
			}
			ask := rapid.SampledFrom([]string{"a", "PLATE", "É", "none"}).Draw(t, "ask")
			real, ok, err := x.find(fd, ask)
			require.NoError(t, err)
			names, err := foldNames(fd)
			require.NoError(t, err)
			want, there := names.real(ask)
			require.Equal(t, there, ok, "%s", ask)
			if ok {
				require.Equal(t, want, real, "of several, always the first")
				_, err := os.Lstat(filepath.Join(dir, real))
				require.NoError(t, err)
			}
		}
	})
}

// Locks against a model that keeps, for each byte, who holds it and how.
func TestLocksAgainstBytes(t *testing.T) {
	l := newLarkfell(t)
	l.write("locked", strings.Repeat("x", 40))
	rapid.Check(t, func(t *rapid.T) {
		var handles []*Handle
		for range 3 {
			h, _, err := l.Open(Subject{User: piran, Via: site.SMB}, OpenRequest{Share: "nightlog", Path: "locked", Access: acl.ReadData | acl.WriteData, Sharing: 7, Disposition: OpenOnly})
			require.NoError(t, err)
			handles = append(handles, h)
		}
		defer func() {
			for _, h := range handles {
				_ = h.Close()
			}
			require.Zero(t, len(l.Namespace.open), "all is forgotten")
		}()
		type hold struct {
			by        int
			exclusive bool
		}
		var model [40][]hold
		type key struct {
			by, at, n int
		}
		locked := make(map[key][]bool)
		for range rapid.IntRange(1, 25).Draw(t, "steps") {
			by, at, size := rapid.IntRange(0, 2).Draw(t, "by"), rapid.IntRange(0, 30).Draw(t, "at"), rapid.IntRange(1, 9).Draw(t, "size")
			exclusive := rapid.Bool().Draw(t, "exclusive")
			clash := func(bad func(hold) bool) bool {
				for _, b := range model[at : at+size] {
					for _, h := range b {
						if bad(h) {
							return true
						}
					}
				}
				return false
			}
			switch rapid.IntRange(0, 3).Draw(t, "what") {
			case 0:
				_, err := handles[by].Lock(Range{uint64(at), uint64(size), exclusive})
				want := clash(func(h hold) bool { return h.exclusive || exclusive })
				require.Equal(t, want, errors.Is(err, ErrLocked))
				if err == nil {
					locked[key{by, at, size}] = append(locked[key{by, at, size}], exclusive)
					for i := at; i < at+size; i++ {
						model[i] = append(model[i], hold{by, exclusive})
					}
				}
			case 1:
				k := key{by, at, size}
				if rapid.Bool().Draw(t, "one held") {
					for have := range locked {
						k = have
						break
					}
				}
				err := handles[k.by].Unlock(uint64(k.at), uint64(k.n))
				if len(locked[k]) == 0 {
					require.ErrorIs(t, err, ErrNotLocked)
					continue
				}
				require.NoError(t, err)
				was := locked[k][0]
				if locked[k] = locked[k][1:]; len(locked[k]) == 0 {
					delete(locked, k)
				}
				for i := k.at; i < k.at+k.n; i++ {
					for j, h := range model[i] {
						if h == (hold{k.by, was}) {
							model[i] = append(model[i][:j:j], model[i][j+1:]...)
							break
						}
					}
				}
			case 2:
				_, err := handles[by].ReadAt(make([]byte, size), int64(at))
				require.Equal(t, clash(func(h hold) bool { return h.exclusive && h.by != by }), errors.Is(err, ErrLocked))
			case 3:
				_, err := handles[by].WriteAt(make([]byte, size), int64(at), false)
				require.Equal(t, clash(func(h hold) bool { return !h.exclusive || h.by != by }), errors.Is(err, ErrLocked))
			}
		}
	})
}

func TestVolumesAndFolders(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, CheckVolume(dir))
	require.Error(t, CheckVolume("/proc"))
	require.NoError(t, MakeFolder(site.Location{Volume: dir}, "a/b"))
	require.NoError(t, MakeFolder(site.Location{Volume: dir}, "a/b"), "it may be there")
	require.NoError(t, os.Symlink("/tmp", filepath.Join(dir, "out")))
	require.Error(t, MakeFolder(site.Location{Volume: dir}, "out"))
	require.Error(t, MakeFolder(site.Location{Volume: dir}, "out/x"))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "f"), nil, 0o644))
	require.Error(t, MakeFolder(site.Location{Volume: dir}, "f"))
	l := newLarkfell(t)
	space, err := l.Space(Subject{User: piran, Via: site.SMB}, "nightlog")
	require.NoError(t, err)
	require.Positive(t, space.Available)
	_, err = l.Space(Subject{User: piran, Via: site.SMB}, "none")
	require.ErrorIs(t, err, ErrGone)
	h := l.mustOpen(piran, "2026/03", acl.ListDirectory, OpenOnly)
	parent, err := h.Parent()
	require.NoError(t, err)
	up, err := l.mustOpen(piran, "2026", acl.ListDirectory, OpenOnly).Stat()
	require.NoError(t, err)
	require.Equal(t, up.Inode, parent.Inode)
	require.ErrorIs(t, h.Flush(), nil)
	_, err = h.ReadAt(nil, 0)
	require.ErrorIs(t, err, ErrInvalid)
	require.NotErrorIs(t, err, io.EOF)
}

// The index keeps so many directories, and so many names of all, and what it has forgotten it reads again.
func TestFoldIndexIsBounded(t *testing.T) {
	x := newFoldIndex()
	var dirs []*foldedDir
	for i := range uint64(mostFoldedDirs + 10) {
		d := x.dir(fileID{1, i}, true)
		require.True(t, x.count(d, 10))
		dirs = append(dirs, d)
	}
	require.Len(t, x.dirs, mostFoldedDirs)
	require.Equal(t, mostFoldedDirs*10, x.kept)
	require.False(t, x.count(dirs[0], 5), "it was forgotten")
	last := dirs[len(dirs)-1]
	require.True(t, x.count(last, mostFoldedNames), "one that is as large as may be stands alone")
	require.Len(t, x.dirs, 1)
	require.False(t, x.count(last, mostFoldedNames+1))
	require.Empty(t, x.dirs)
	require.Zero(t, x.kept)
	d := x.dir(fileID{1, 0}, true)
	require.True(t, x.count(d, 3))
	require.True(t, x.count(d, 2))
	require.Equal(t, 2, x.kept)
}
