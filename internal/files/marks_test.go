package files

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/core/posix"
)

// By a clock of a file system that goes in steps, and by another than ours: what is remembered of an object is never told once it is another.
func TestMarksAreNeverOld(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		m := newMemory[markKey, marked]()
		step := rapid.SampledFrom([]time.Duration{1, 4 * time.Millisecond, time.Second, 2 * time.Second}).Draw(t, "step")
		skew := time.Duration(rapid.Int64Range(-int64(time.Hour), int64(time.Hour)).Draw(t, "skew"))
		var now time.Duration
		stamp := func() unix.StatxTimestamp {
			at := (now + skew + 2*time.Hour).Truncate(step)
			return unix.StatxTimestamp{Sec: int64(at / time.Second), Nsec: uint32(at % time.Second)}
		}
		truth, changed, told := uint32(0), stamp(), 0
		k := markKey{id: fileID{1, 2}}
		for range rapid.IntRange(1, 60).Draw(t, "steps") {
			now += time.Duration(rapid.Int64Range(0, int64(3*time.Second)).Draw(t, "passes"))
			if rapid.IntRange(0, 4).Draw(t, "changes") == 0 {
				truth++
				changed = stamp()
				continue
			}
			saw := changed
			if is, ok := m.get(k, saw); ok {
				told++
				require.Equal(t, truth, is.is.UID)
				continue
			}
			looked := now
			if rapid.IntRange(0, 9).Draw(t, "changes meanwhile") == 0 {
				now += time.Duration(rapid.Int64Range(0, int64(4*time.Second)).Draw(t, "later"))
				looked = now
				truth++
				changed = stamp()
			}
			m.put(k, saw, looked, marked{true, posix.Attributes{UID: truth}})
		}
	})
}

// What the host changes beside the service is seen by the next who asks; what is remembered is asked for again, and bounded.
func TestMarksOnDisk(t *testing.T) {
	path := filepath.Join(t.TempDir(), "plate.fits")
	require.NoError(t, os.WriteFile(path, nil, 0o600))
	fd, err := unix.Open(path, unix.O_RDONLY, 0)
	require.NoError(t, err)
	defer unix.Close(fd)
	f := Facts{unix: true, marks: newMemory[markKey, marked]()}
	ask := func() posix.Attributes {
		var st unix.Statx_t
		require.NoError(t, statx(fd, &st))
		is, _ := f.told(fd, &st)
		return is
	}
	require.NoError(t, mark(fd, ownerAttr, []byte("2001:3001:640")))
	require.EqualValues(t, 2001, ask().UID)
	for _, e := range f.marks.seen {
		e.since -= 2 * still
	}
	require.EqualValues(t, 2001, ask().UID)
	k := markKey{id: fileIDOf(t, fd), unix: true}
	require.True(t, f.marks.seen[k].known, "it has stood still")
	require.NoError(t, unix.Setxattr(path, ownerAttr, []byte("2002:3001:600"), 0))
	require.EqualValues(t, 2002, ask().UID)
	require.NoError(t, unix.Removexattr(path, ownerAttr))
	require.NotEqualValues(t, 2002, ask().UID)
	for i := range uint64(2 * mostMarks) {
		f.marks.put(markKey{id: fileID{9, i}}, unix.StatxTimestamp{}, 0, marked{})
	}
	require.LessOrEqual(t, len(f.marks.seen), mostMarks)
}

func fileIDOf(t *testing.T, fd int) fileID {
	id, err := idOf(fd)
	require.NoError(t, err)
	return fileID{id.Device, id.Inode}
}
