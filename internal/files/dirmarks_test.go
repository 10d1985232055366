package files

import (
	"errors"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/posix"
)

// afresh are the marks of what is at a path, by nothing that is remembered.
func (l *larkfell) afresh(path string) (is posix.Attributes, there bool) {
	f := FactsOf(l.policy.Load(), l.policy.Load().Folders[0])
	f.at(path, func(fd int, st *unix.Statx_t) { is, there = f.read(fd, st), true })
	return is, there
}

// What is made in a directory, and what is told of it, goes by the marks that the directory has, however lately somebody read others of it: whoever has
// changed them since, whichever directory has its name and number by now.
func TestMarksOfDirectoriesAreThoseOnDisk(t *testing.T) {
	l := newLarkfell(t)
	l.byModes()
	seed := rand.Uint64()
	r := rand.New(rand.NewPCG(seed, 7))
	paths := []string{"", "a", "b", "a/x"}
	uids := []uint32{2003, 2005, 2006}
	at := func(uid uint32, path string, do func(v *Visit, o *Object) error) error {
		return l.visit(uid, Working, func(v *Visit, _ *Object) error {
			o, err := v.open(path)
			if err != nil {
				return err
			}
			return do(v, o)
		})
	}
	made, agreed := 0, 0
	for step := range 1500 {
		path, uid := paths[r.IntN(len(paths))], uids[r.IntN(len(uids))]
		perm := []uint32{0o777, 0o2777, 0o2775, 0o755, 0o700, 0o3777}[r.IntN(6)]
		switch r.IntN(7) {
		case 0, 1: // whoever likes makes it, or takes it away
			dir, name := split(path)
			if path == "" {
				continue
			}
			if err := at(uid, dir, func(_ *Visit, o *Object) error { _, err := o.Mkdir(name, Set{Mode: &perm}); return err }); errors.Is(err, ErrExists) {
				for _, file := range []string{"file", "by-smb"} {
					_ = os.Remove(filepath.Join(l.root, path, file))
				}
				_ = at(uid, dir, func(_ *Visit, o *Object) error { return o.Remove(name, true) })
			}
		case 2:
			_ = at(uid, path, func(_ *Visit, o *Object) error { return o.Set(Set{Mode: &perm}) })
		case 3:
			inherited := posix.Of(perm & 0o777)
			_ = at(uid, path, func(_ *Visit, o *Object) error { return o.SetACL(posix.Of(perm&0o777), inherited) })
		case 4:
			_ = SetMode(l.policy.Load(), l.ledger, l.policy.Load().Folders[0], path, Set{UID: &uid, Mode: &perm})
		case 5: // moved, and another may be where it was
			_ = l.visit(uid, Alone, func(_ *Visit, root *Object) error { return root.Rename(t.Context(), "a", root, "b") })
		case 6:
			l.now = l.now.Add(time.Duration(r.IntN(int(verdictFor))))
		}
		for _, path := range paths {
			in, there := l.afresh(path)
			if !there {
				continue
			}
			for _, manner := range []Manner{Working, Looking} {
				require.NoError(t, l.visit(2003, manner, func(v *Visit, _ *Object) error {
					o, err := v.open(path)
					require.NoError(t, err)
					for range 2 {
						a := o.Attributes()
						require.Equal(t, []uint32{in.Mode, in.UID, in.GID}, []uint32{a.Mode, a.UID, a.GID}, "%q, seed %d, step %d", path, seed, step)
						acl, inherited := o.ACL()
						if in.ACL != nil {
							require.Equal(t, in.ACL, acl, "%q, seed %d, step %d", path, seed, step)
						}
						require.Equal(t, in.Default, inherited, "%q, seed %d, step %d", path, seed, step)
					}
					agreed++
					return nil
				}))
			}
			uid := uids[r.IntN(len(uids))]
			who := l.guest(uid).Said
			err := at(uid, path, func(v *Visit, o *Object) error {
				who = v.v.credential()
				_, err := o.CreateFile("file", Set{})
				return err
			})
			if err != nil {
				continue
			}
			made++
			is, _ := l.afresh(join(path, "file"))
			want := posix.Made(&who, &in, 0o600, false)
			require.Equal(t, []uint32{want.Mode, want.UID, want.GID}, []uint32{is.Mode, is.UID, is.GID}, "in %q by %d, seed %d, step %d", path, uid, seed, step)
			require.True(t, slices.Equal(want.ACL, is.ACL), "in %q by %d, seed %d, step %d: %v, not %v", path, uid, seed, step, is.ACL, want.ACL)
			require.NoError(t, os.Remove(filepath.Join(l.root, path, "file")))
		}
	}
	require.Greater(t, made, 200)
	require.Greater(t, agreed, 1000)

	// What the host itself writes upon a directory is seen a moment later at most.
	require.NoError(t, unix.Setxattr(l.root, ownerAttr, []byte("2006:3001:755"), 0))
	l.now = l.now.Add(verdictFor)
	require.NoError(t, l.visit(2003, Working, func(_ *Visit, root *Object) error {
		require.EqualValues(t, 2006, root.Attributes().UID)
		return nil
	}))
}

// They are bounded, and those of another version of the folder, or of another object with the same number, count for nothing.
func TestMarksOfDirectoriesAreBounded(t *testing.T) {
	var d dirMarks
	now := time.Now()
	key := func(n uint64) dirMarkKey { return dirMarkKey{dirIdentity{1, n, 5}, true} }
	for n := range uint64(3 * mostDirMarks) {
		d.put(key(n), 0o755, 1, now, marked{own: true, is: posix.Attributes{UID: uint32(n)}})
		require.LessOrEqual(t, len(d.of), mostDirMarks)
	}
	last := key(3*mostDirMarks - 1)
	m, ok := d.get(last, 0o755, 1, now)
	require.True(t, ok)
	require.EqualValues(t, 3*mostDirMarks-1, m.is.UID)
	another := last
	another.born++
	modeless := last
	modeless.unix = false
	for _, none := range []func() (marked, bool){
		func() (marked, bool) { return d.get(last, 0o700, 1, now) },
		func() (marked, bool) { return d.get(last, 0o755, 2, now) },
		func() (marked, bool) { return d.get(last, 0o755, 1, now.Add(verdictFor)) },
		func() (marked, bool) { return d.get(another, 0o755, 1, now) },
		func() (marked, bool) { return d.get(modeless, 0o755, 1, now) },
	} {
		_, ok := none()
		require.False(t, ok)
	}
	d.put(key(1), 0o755, 2, now, marked{})
	require.Len(t, d.of, 1, "nothing of an older version stays")
}

// What making a file asks of the disk: the directory is opened once, and not at all where it is the folder's own and that is open; it is written to three
// times.
func TestWhatACreateAsksOfTheDisk(t *testing.T) {
	l := newLarkfell(t)
	l.byModes()
	require.NoError(t, os.Mkdir(filepath.Join(l.root, "a"), 0o777))
	require.NoError(t, os.Chmod(filepath.Join(l.root, "a"), 0o777))
	in := map[string]Key{"": l.keyOf(2003, ""), "a": l.keyOf(2003, "a")}
	for dir, opens := range map[string]int{"": 0, "a": 1} {
		g := l.guest(2003)
		create := func(name string) {
			v, o, err := l.VisitObject(g, in[dir], Working)
			require.NoError(t, err)
			defer v.End()
			c, err := o.CreateFile(name, Set{})
			require.NoError(t, err)
			require.EqualValues(t, 2003, c.Attributes().UID)
			_, err = o.Look()
			require.NoError(t, err)
		}
		create("first") // the folder's directory stays open from here on
		asked := map[string]int{}
		undo := Disturb(func(call, _ string) error { asked[call]++; return nil })
		create("second")
		undo()
		require.Equal(t, opens, asked["open"], "in %q: %v", dir, asked)
		require.LessOrEqual(t, asked["look"], 9, "in %q: %v", dir, asked)
		for _, once := range []string{"make", "mark", "sync"} {
			require.Equal(t, 1, asked[once], "%s in %q: %v", once, dir, asked)
		}
	}
}
