package files

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// Among a hundred thousand names, one of another case is found about as fast as one that is spelled as it is there; also while names come and go.
func BenchmarkManyNames(b *testing.B) {
	const n = 100_000
	dir := b.TempDir()
	many := filepath.Join(dir, "many")
	require.NoError(b, os.Mkdir(many, 0o755))
	for i := range n {
		f, err := os.Create(filepath.Join(many, fmt.Sprintf("plate%06d.fits", i)))
		require.NoError(b, err)
		require.NoError(b, f.Close())
	}
	root, err := unix.Open(dir, unix.O_PATH|unix.O_DIRECTORY, 0)
	require.NoError(b, err)
	defer unix.Close(root)
	time.Sleep(2 * settling)
	x := newFoldIndex()
	look := func(format string) time.Duration {
		started := time.Now()
		for i := range 2000 {
			place, err := find(root, fmt.Sprintf(format, i*37%n), x)
			require.NoError(b, err)
			require.True(b, place.Exists)
		}
		return time.Since(started)
	}
	for b.Loop() {
		began := time.Now()
		_, err := find(root, "MANY/PLATE000000.FITS", x)
		require.NoError(b, err)
		first := time.Since(began)
		exact, any := look("many/plate%06d.fits"), look("MANY/Plate%06d.FITS")
		fd, err := unix.Open(many, unix.O_RDONLY|unix.O_DIRECTORY, 0)
		require.NoError(b, err)
		began = time.Now()
		for i := range 2000 {
			name := fmt.Sprintf("new%d", i)
			require.NoError(b, x.changing(fd, func() error { return os.WriteFile(filepath.Join(many, name), nil, 0o644) }, func(names *folded) { names.put(name) }))
			place, err := find(root, fmt.Sprintf("many/NEW%d", i), x)
			require.NoError(b, err)
			require.Equal(b, "many/"+name, place.Path)
		}
		coming := time.Since(began)
		for i := range 2000 {
			require.NoError(b, os.Remove(filepath.Join(many, fmt.Sprintf("new%d", i))))
		}
		unix.Close(fd)
		b.ReportMetric(float64(first.Milliseconds()), "ms/first")
		b.ReportMetric(float64(exact.Microseconds())/2000, "µs/exact")
		b.ReportMetric(float64(any.Microseconds())/2000, "µs/any-case")
		b.ReportMetric(float64(any)/float64(exact), "any-case/exact")
		b.ReportMetric(float64(coming.Microseconds())/2000, "µs/made-and-found")
	}
}
