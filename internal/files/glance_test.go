package files

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/site"
)

// settle has all that was read of marks so far be old enough to be believed.
func (l *larkfell) settle() {
	l.marks.mu.Lock()
	defer l.marks.mu.Unlock()
	for _, e := range l.marks.seen {
		e.since -= still
	}
}

// Who only looks sees what who works sees, whatever happens in between: at once, but for directories that the host itself moves, which is seen a moment later.
func TestAGlanceSeesWhatIsThere(t *testing.T) {
	l := newLarkfell(t)
	l.byModes()
	for _, dir := range []string{"a/b/c", "a/d", "e"} {
		require.NoError(t, os.MkdirAll(filepath.Join(l.root, dir), 0o777))
	}
	everything := func() (paths []string) {
		require.NoError(t, filepath.WalkDir(l.root, func(path string, d os.DirEntry, err error) error {
			rel, _ := filepath.Rel(l.root, path)
			if rel == "." {
				rel = ""
			}
			paths = append(paths, rel)
			return err
		}))
		return paths
	}
	for i, file := range []string{"a/one", "a/b/two", "a/b/c/three", "a/d/four", "five"} {
		l.write(file, fmt.Sprint("text", i))
	}
	g := l.guest(2003)
	keys := map[Key]bool{}
	learn := func() {
		for _, path := range everything() {
			keys[l.keyOf(2003, path)] = true
		}
	}
	learn()
	seed := rand.Uint64()
	r := rand.New(rand.NewPCG(seed, 5))
	glanced := 0
	says := func(manner Manner, key Key) string {
		v, o, err := l.VisitObject(g, key, manner)
		for deadline := time.Now().Add(10 * time.Second); errors.Is(err, ErrBusy) && time.Now().Before(deadline); v, o, err = l.VisitObject(g, key, manner) {
			time.Sleep(time.Millisecond) // not searched for more often than every so long
		}
		if err != nil {
			return err.Error()
		}
		defer v.End()
		if o.fd < 0 {
			glanced++
		}
		out := fmt.Sprint(o.Path(), o.MayLook(), fmt.Sprintf("%+v", o.Attributes()))
		if o.Dir() {
			for _, name := range []string{"one", "two", "three", "b", "moved"} {
				c, err := o.Lookup(name)
				if out += fmt.Sprint(name, err); err == nil {
					out += fmt.Sprintf("%+v %s", c.Attributes(), c.Path())
					again, err := c.Look()
					out += fmt.Sprintf("%+v %v", again, err)
				}
			}
		}
		return out
	}
	below := func(dir, path string) bool { return under(path, dir) }
	for step := range 300 {
		paths := everything()
		path := paths[r.IntN(len(paths))]
		switch r.IntN(7) {
		case 0, 1: // a rename by the service
			to := paths[r.IntN(len(paths))]
			if path == "" || below(path, to) {
				break
			}
			_ = l.visit(2003, Alone, func(v *Visit, _ *Object) error {
				dir, name := split(path)
				from, err := v.open(dir)
				require.NoError(t, err)
				if info, err := os.Stat(filepath.Join(l.root, to)); err != nil || !info.IsDir() {
					return nil
				}
				into, err := v.open(to)
				require.NoError(t, err)
				return from.Rename(context.Background(), name, into, "moved"+fmt.Sprint(step))
			})
		case 2: // by the host: of a file at once, of a directory a moment later
			dir, _ := split(path)
			if path == "" {
				break
			}
			require.NoError(t, os.Rename(filepath.Join(l.root, path), filepath.Join(l.root, dir, fmt.Sprint("host", step))))
			l.now = l.now.Add(wayFor + time.Millisecond)
		case 3: // the host writes
			if info, err := os.Stat(filepath.Join(l.root, path)); err == nil && !info.IsDir() {
				require.NoError(t, os.WriteFile(filepath.Join(l.root, path), make([]byte, r.IntN(100)), 0o644))
			}
		case 4: // marks of the service
			perm := uint32(r.IntN(0o1000)) | 0o400
			_ = l.visit(2003, Working, func(v *Visit, _ *Object) error {
				o, err := v.open(path)
				require.NoError(t, err)
				return o.Set(Set{Mode: &perm})
			})
			l.now = l.now.Add(verdictFor + time.Millisecond)
		case 5: // another in its place, by the host
			if info, err := os.Stat(filepath.Join(l.root, path)); err == nil && !info.IsDir() {
				require.NoError(t, os.Remove(filepath.Join(l.root, path)))
				require.NoError(t, os.WriteFile(filepath.Join(l.root, path), []byte("another"), 0o600))
			}
		case 6:
			l.now = l.now.Add(wayFor / 3)
			learn()
		}
		for key := range keys {
			for range 2 {
				wants := says(Working, key)
				l.settle()
				require.Equal(t, wants, says(Looking, key), "seed %d, step %d", seed, step)
				l.settle()
			}
		}
	}
	require.Greater(t, glanced, 500, "or it was never tried")
	require.Eventually(t, func() bool { return len(heldBelow(t, l.root)) == 0 }, 20*time.Second, 50*time.Millisecond, "a volume could not be unmounted")
}

// What the host makes of a directory is seen by who works at once, and by who looks when a moment has gone by; whoever looks gets to nothing that was never there.
func TestAGlanceBelongsToItsMoment(t *testing.T) {
	l := newLarkfell(t)
	l.exported()
	require.NoError(t, os.MkdirAll(filepath.Join(l.root, "a/b"), 0o755))
	l.write("a/b/file", "old")
	key := l.keyOf(2003, "a/b/file")
	look := func(manner Manner) (path string, err error) {
		v, o, err := l.VisitObject(l.guest(2003), key, manner)
		if err != nil {
			return "", err
		}
		defer v.End()
		o.Attributes()
		return o.Path(), nil
	}
	for range 3 {
		_, err := look(Looking)
		require.NoError(t, err)
		l.settle()
	}
	v, o, err := l.VisitObject(l.guest(2003), key, Looking)
	require.NoError(t, err)
	require.Negative(t, o.fd)
	// What is opened after all is the same object or none.
	require.NoError(t, os.Rename(filepath.Join(l.root, "a/b"), filepath.Join(l.root, "a/away")))
	require.NoError(t, os.MkdirAll(filepath.Join(l.root, "a/b"), 0o755))
	l.write("a/b/file", "another")
	_, err = o.descriptor()
	require.ErrorIs(t, err, ErrStale)
	_, err = o.Look()
	require.NoError(t, err, "by the directory that was there")
	v.End()
	path, err := look(Looking)
	require.NoError(t, err)
	require.Equal(t, "a/b/file", path, "as it was a moment ago")
	path, err = look(Working)
	require.NoError(t, err)
	require.Equal(t, "a/away/file", path)
	l.now = l.now.Add(wayFor + time.Millisecond)
	path, err = look(Looking)
	require.NoError(t, err)
	require.Equal(t, "a/away/file", path)
}

// Directories on the way are bounded, are closed when nobody uses them any more, and no sooner.
func TestWaysAreBoundedAndClosed(t *testing.T) {
	top := t.TempDir()
	open := func() int {
		fd, err := openFolder(site.Location{Volume: top})
		require.NoError(t, err)
		return fd
	}
	var w ways
	now, was := time.Now(), waysKept.Load()
	held := w.add("held", open(), 1, now)
	for i := range 3 * mostWays {
		w.give(w.add(fmt.Sprint(i), open(), 1, now))
		require.LessOrEqual(t, len(w.of), mostWays)
		require.LessOrEqual(t, len(heldBelow(t, top)), mostWays+1)
	}
	require.NotEmpty(t, heldBelow(t, top))
	again := w.add("held", open(), 1, now)
	require.Nil(t, w.take("held", 2, now), "the service has moved something since")
	w.give(again)
	again = w.add("held", open(), 2, now)
	require.Nil(t, w.take("held", 2, now.Add(wayFor)))
	w.give(again)

	var group sync.WaitGroup
	for range 8 {
		group.Go(func() {
			for i := range 300 {
				path := fmt.Sprint(i % (mostWays + 3))
				d := w.take(path, 1, now)
				if d == nil {
					d = w.add(path, open(), 1, now)
				}
				if _, err := readNames(d.fd); err != nil {
					t.Error(err)
				}
				w.give(d)
			}
		})
	}
	group.Wait()
	require.LessOrEqual(t, waysKept.Load(), mostWaysKept())
	w.close()
	require.LessOrEqual(t, waysKept.Load(), was)
	require.Len(t, heldBelow(t, top), 1, "what is in use")
	_, err := readNames(held.fd)
	require.NoError(t, err)
	w.give(held)
	late := w.add("late", open(), 1, now)
	require.Nil(t, w.take("late", 1, now))
	w.give(late)

	var many []*ways // of all folders together no more than so many
	for range 3*mostWaysKept()/mostWays + 1 {
		many = append(many, new(ways))
		for i := range mostWays {
			last := many[len(many)-1]
			last.give(last.add(fmt.Sprint(i), open(), 1, now))
		}
		require.LessOrEqual(t, int64(len(heldBelow(t, top))), mostWaysKept())
	}
	for _, w := range many {
		w.close()
	}
	require.LessOrEqual(t, waysKept.Load(), was)
	require.Empty(t, heldBelow(t, top))
}

// Who only looks goes for a moment by what was at the path of a folder; who works never does.
func TestRootsOfWhoOnlyLooks(t *testing.T) {
	top := t.TempDir()
	at := site.Location{Volume: top, Below: "nightlog"}
	for _, d := range []string{"nightlog/a", "away/b"} {
		require.NoError(t, os.MkdirAll(filepath.Join(top, d), 0o755))
	}
	r := newRoots()
	shows := func(looking bool) string {
		u, err := r.take(at, looking)
		require.NoError(t, err)
		defer r.give(u)
		names, err := readNames(u.fd)
		require.NoError(t, err)
		return names[0]
	}
	require.Equal(t, "a", shows(true))
	require.NoError(t, os.Rename(filepath.Join(top, "nightlog"), filepath.Join(top, "third")))
	require.NoError(t, os.Rename(filepath.Join(top, "away"), filepath.Join(top, "nightlog")))
	require.Equal(t, "b", shows(false))
	require.NoError(t, os.Rename(filepath.Join(top, "nightlog"), filepath.Join(top, "away")))
	require.NoError(t, os.Rename(filepath.Join(top, "third"), filepath.Join(top, "nightlog")))
	require.Eventually(t, func() bool { return shows(true) == "a" }, 10*time.Second, rootLookFor/4)
}

// A key whose number another object has got since is that of something that is gone, and is not searched for again and again.
func TestAKeyOfAnotherWithItsNumberIsStale(t *testing.T) {
	l := newLarkfell(t)
	l.exported()
	key := l.keyOf(2003, "README.txt")
	key.Born--
	for range 3 {
		_, _, err := l.VisitObject(l.guest(2003), key, Working)
		require.ErrorIs(t, err, ErrStale)
	}
	key.Born++
	v, _, err := l.VisitObject(l.guest(2003), key, Working)
	require.NoError(t, err)
	v.End()
}

// Whoever opens something finds what is there, though the host has just moved a directory on the way: nothing is made, or refused, by what was there a moment ago.
func TestOpensFindWhatTheHostHasMoved(t *testing.T) {
	l := newLarkfell(t)
	in := func(path string) string { return filepath.Join(l.root, path) }
	require.NoError(t, os.MkdirAll(in("a/b"), 0o755))
	for round := range 8 {
		l.write("a/b/file", "old")
		h, err := l.open(piran, "a/b/file", acl.ReadData, OpenOnly)
		require.NoError(t, err)
		require.NoError(t, h.Close())
		require.NoError(t, os.Rename(in("a/b"), in(fmt.Sprint("a/away", round))))
		require.NoError(t, os.MkdirAll(in("a/b"), 0o755))
		switch round % 4 {
		case 0: // nothing is there now
			_, err = l.open(piran, "a/b/file", acl.ReadData, OpenOnly)
			require.ErrorIs(t, err, ErrNotFound)
		case 1:
			h, err = l.open(piran, "a/b/file", acl.ReadData|acl.WriteData, OpenIf)
			require.NoError(t, err)
			require.NoError(t, h.Close())
			require.Empty(t, l.read("a/b/file"))
		case 2: // a directory is
			require.NoError(t, os.Mkdir(in("a/b/file"), 0o755))
			h, err = l.open(piran, "a/b/file", acl.ReadData, OpenOnly)
			require.NoError(t, err)
			require.True(t, h.Dir())
			require.NoError(t, h.Close())
			require.NoError(t, os.Remove(in("a/b/file")))
		case 3: // what is called alike but for its case is
			l.write("a/b/FILE", "other")
			h, err = l.open(piran, "a/b/file", acl.ReadData, OpenOnly)
			require.NoError(t, err)
			require.Equal(t, "a/b/FILE", h.Path())
			require.NoError(t, h.Close())
			require.NoError(t, os.Remove(in("a/b/FILE")))
		}
		require.Equal(t, "old", l.read(fmt.Sprint("a/away", round, "/file")))
	}
}

// What is remembered of attributes is what is on disk, whoever changes them.
func TestAttributesAreNeverOld(t *testing.T) {
	path := filepath.Join(t.TempDir(), "plate.fits")
	require.NoError(t, os.WriteFile(path, nil, 0o600))
	fd, err := unix.Open(path, unix.O_RDONLY, 0)
	require.NoError(t, err)
	defer unix.Close(fd)
	id := fileIDOf(t, fd)
	said := func() uint32 {
		info, err := stat(fd)
		require.NoError(t, err)
		return info.Attributes
	}
	known := func() bool {
		dosSeen.mu.Lock()
		defer dosSeen.mu.Unlock()
		return dosSeen.seen[id].known
	}
	for i := range 20 {
		want := []uint32{AttrHidden, AttrSystem, AttrArchive, AttrReadOnly | AttrHidden}[i%4]
		if i%3 == 0 {
			require.NoError(t, unix.Setxattr(path, dosAttr, fmt.Appendf(nil, "%x 0", want), 0))
		} else {
			require.NoError(t, setDOS(fd, want, time.Time{}))
		}
		require.Equal(t, want, said(), i)
		require.False(t, known(), "it has only just been changed")
		dosSeen.mu.Lock()
		dosSeen.seen[id].since -= still
		dosSeen.mu.Unlock()
		require.Equal(t, want, said())
		require.True(t, known())
		require.Equal(t, want, said())
		time.Sleep(20 * time.Millisecond) // longer than the step in which the file system keeps time
	}
}
