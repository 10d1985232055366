// Package bare measures the least that moving bytes over loopback can cost, for
// benchmarks to stand beside.
package bare

import (
	"io"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// Copy sends size bytes in pieces over a loopback connection and gives MB/s.
func Copy(t testing.TB, size, piece int) float64 {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	go func() {
		if c, err := l.Accept(); err == nil {
			defer c.Close()
			buf := make([]byte, piece)
			for range size / piece {
				if _, err := c.Write(buf); err != nil {
					return
				}
			}
		}
	}()
	c, err := net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	defer c.Close()
	start := time.Now()
	n, err := io.CopyBuffer(struct{ io.Writer }{io.Discard}, c, make([]byte, piece))
	require.NoError(t, err)
	require.EqualValues(t, size, n)
	return float64(size) / 1e6 / time.Since(start).Seconds()
}
