package files

import (
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/site"
)

// heldBelow are the descriptors of this process that are open on a path, or below it.
func heldBelow(t *testing.T, path string) (out []string) {
	fds, err := os.ReadDir("/proc/self/fd")
	require.NoError(t, err)
	for _, fd := range fds {
		if at, err := os.Readlink("/proc/self/fd/" + fd.Name()); err == nil && (at == path || strings.HasPrefix(at, path+"/")) {
			out = append(out, at)
		}
	}
	return out
}

// What is kept open is what is at its path at each use, whatever is put there in between; and soon nothing is.
func TestRootsAreWhatIsThere(t *testing.T) {
	top := t.TempDir()
	volume := filepath.Join(top, "summit")
	at := site.Location{Volume: volume, Below: "data/nightlog"}
	make := func(dir, text string) {
		require.NoError(t, os.MkdirAll(filepath.Join(dir, "data/nightlog"), 0o755))
		require.NoError(t, os.WriteFile(filepath.Join(dir, "data/nightlog", text), nil, 0o644))
	}
	make(volume, "first")
	r := newRoots()
	shows := func() string {
		u, err := r.take(at, false)
		if err != nil {
			require.ErrorIs(t, err, ErrGone)
			return "gone"
		}
		defer r.give(u)
		names, err := readNames(u.fd)
		require.NoError(t, err)
		return strings.Join(names, " ")
	}
	move := func(from, to string) { require.NoError(t, os.Rename(filepath.Join(top, from), filepath.Join(top, to))) }
	for range 3 {
		require.Equal(t, "first", shows())
	}
	u, err := r.take(at, false)
	require.NoError(t, err)
	move("summit/data", "summit/other")
	require.Equal(t, "gone", shows())
	make(volume, "second")
	require.Equal(t, "second", shows())
	names, err := readNames(u.fd)
	require.NoError(t, err)
	require.Equal(t, []string{"first"}, names, "whoever has it has it until the end")
	r.give(u)
	move("summit", "gone")
	require.Equal(t, "gone", shows())
	make(volume, "third")
	require.Equal(t, "third", shows())
	move("summit", "gone2")
	move("gone", "summit")
	require.Equal(t, "second", shows())
	require.NoError(t, os.RemoveAll(filepath.Join(volume, "data/nightlog")))
	require.NoError(t, os.Symlink(filepath.Join(top, "gone2/data/nightlog"), filepath.Join(volume, "data/nightlog")))
	require.Equal(t, "gone", shows(), "a link that leads out of the volume is no folder")
	require.NoError(t, os.Remove(filepath.Join(volume, "data/nightlog")))
	make(volume, "fourth")
	require.Equal(t, "fourth", shows())

	require.NotEmpty(t, heldBelow(t, top))
	require.Eventually(t, func() bool { return len(heldBelow(t, top)) == 0 }, 20*time.Second, 50*time.Millisecond, "a volume could not be unmounted")
	require.Equal(t, "fourth", shows(), "and then it is opened anew")
}

// What is kept open is of no use once its volume does not carry its mark, though the directory is the very same.
func TestRootsOfAVolumeThatIsAnothers(t *testing.T) {
	at := site.Location{Volume: filepath.Join(t.TempDir(), "summit"), Mark: "roots-" + t.Name(), Below: "nightlog"}
	require.NoError(t, os.MkdirAll(filepath.Join(at.Volume, at.Below), 0o755))
	require.NoError(t, MarkVolume(at.Volume, at.Mark))
	defer claims.release(at.Mark)
	r := newRoots()
	take := func() error {
		u, err := r.take(at, false)
		if err == nil {
			r.give(u)
		}
		return err
	}
	require.NoError(t, take())
	require.NoError(t, take())
	require.Len(t, r.of, 1)
	require.NoError(t, MarkVolume(at.Volume, "another"))
	away := at
	away.Mark = "another"
	require.NoError(t, IsThere(away), "whoever has it now looks at it")
	defer claims.release("another")
	require.ErrorIs(t, take(), ErrIO)
	require.ErrorIs(t, take(), ErrIO)
	require.NoError(t, MarkVolume(at.Volume, at.Mark))
	require.NoError(t, take())
}

// Many at once, while what is there is changed, get what is there or was a moment ago, never anything closed; and nothing is left open.
func TestRootsOfMany(t *testing.T) {
	top := t.TempDir()
	at := site.Location{Volume: filepath.Join(top, "summit"), Below: "nightlog"}
	for _, d := range []string{"summit/nightlog/a", "summit/away/b"} {
		require.NoError(t, os.MkdirAll(filepath.Join(top, d), 0o755))
	}
	r := newRoots()
	var group sync.WaitGroup
	stop := make(chan struct{})
	for range 8 {
		group.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
				}
				u, err := r.take(at, false)
				if err != nil {
					if !strings.Contains(err.Error(), ErrGone.Error()) {
						t.Error(err)
					}
					continue
				}
				if names, err := readNames(u.fd); err != nil || len(names) != 1 || names[0] != "a" && names[0] != "b" {
					t.Error(names, err)
				}
				r.give(u)
			}
		})
	}
	in := func(name string) string { return filepath.Join(top, "summit", name) }
	for range 200 {
		require.NoError(t, os.Rename(in("nightlog"), in("third")))
		require.NoError(t, os.Rename(in("away"), in("nightlog")))
		require.NoError(t, os.Rename(in("third"), in("away")))
	}
	close(stop)
	group.Wait()
	require.Eventually(t, func() bool { return len(heldBelow(t, top)) == 0 }, 20*time.Second, 50*time.Millisecond)
}
