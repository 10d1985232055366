// Package bare measures the least that moving bytes over loopback can cost, for
// benchmarks to stand beside.
package bare

import (
	"io"
	"net"
	"os"
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

// Fetch sends a file over loopback in pieces, each read from it into memory, and gives MB/s: a copy of a
// file by TCP and nothing else.
func Fetch(t testing.TB, path string, piece int) float64 {
	return throughFile(t, path, func(c net.Conn, f *os.File, size int64) error {
		buf := make([]byte, piece)
		for off := int64(0); off < size; off += int64(piece) {
			if _, err := f.ReadAt(buf, off); err != nil {
				return err
			}
			if _, err := c.Write(buf); err != nil {
				return err
			}
		}
		return nil
	}, func(c net.Conn, size int64) error {
		_, err := io.CopyBuffer(struct{ io.Writer }{io.Discard}, io.LimitReader(c, size), make([]byte, piece))
		return err
	})
}

// Store is Fetch the other way: what comes over loopback is written to the file, and on disk at the end.
func Store(t testing.TB, path string, piece int) float64 {
	done := make(chan error, 1)
	return throughFile(t, path, func(c net.Conn, f *os.File, size int64) error {
		buf := make([]byte, piece)
		var err error
		for off := int64(0); off < size && err == nil; off += int64(piece) {
			if _, err = io.ReadFull(c, buf); err == nil {
				_, err = f.WriteAt(buf, off)
			}
		}
		if err == nil {
			err = f.Sync()
		}
		done <- err
		return err
	}, func(c net.Conn, size int64) error {
		buf := make([]byte, piece)
		for off := int64(0); off < size; off += int64(piece) {
			if _, err := c.Write(buf); err != nil {
				return err
			}
		}
		return <-done
	})
}

func throughFile(t testing.TB, path string, far func(net.Conn, *os.File, int64) error, near func(net.Conn, int64) error) float64 {
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	require.NoError(t, err)
	defer f.Close()
	info, err := f.Stat()
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	go func() {
		if c, err := l.Accept(); err == nil {
			defer c.Close()
			_ = far(c, f, info.Size())
		}
	}()
	c, err := net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	defer c.Close()
	start := time.Now()
	require.NoError(t, near(c, info.Size()))
	return float64(info.Size()) / 1e6 / time.Since(start).Seconds()
}
