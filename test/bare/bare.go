// Package bare measures the least that moving bytes over loopback can cost, for
// benchmarks to stand beside.
package bare

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"io"
	"math/big"
	"net"
	"os"
	"slices"
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

// Trips sends a request of so many bytes over loopback and waits for an answer of as many as said, n times, and gives how many a second.
func Trips(t testing.TB, n, request, answer int) float64 {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer l.Close()
	go func() {
		if c, err := l.Accept(); err == nil {
			defer c.Close()
			in, out := make([]byte, request), make([]byte, answer)
			for {
				if _, err := io.ReadFull(c, in); err != nil {
					return
				}
				if _, err := c.Write(out); err != nil {
					return
				}
			}
		}
	}()
	c, err := net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	defer c.Close()
	in, out := make([]byte, answer), make([]byte, request)
	start := time.Now()
	for range n {
		_, err := c.Write(out)
		require.NoError(t, err)
		_, err = io.ReadFull(c, in)
		require.NoError(t, err)
	}
	return float64(n) / time.Since(start).Seconds()
}

// Beside holds small requests against bare trips that are made in turn with them, round by round: a shared machine is not the same one from one second to the
// next, but nearly so within a round.
type Beside struct{ rates, ratios map[string][]float64 }

// Round makes one: bare, and then each of what is held against it; each gives how many a second there were.
func (s *Beside) Round(bare func() float64, of map[string]func() float64) {
	if s.rates == nil {
		s.rates, s.ratios = make(map[string][]float64), make(map[string][]float64)
	}
	least := bare()
	s.rates[""] = append(s.rates[""], least)
	for name, rate := range of {
		is := rate()
		s.rates[name], s.ratios[name] = append(s.rates[name], is), append(s.ratios[name], is/least)
	}
}

// Report gives the medians of all rounds; what is called so is what they are held against.
func (s *Beside) Report(b *testing.B, against string) {
	for name, rates := range s.rates {
		if name == "" {
			name = against
		}
		b.ReportMetric(median(rates), name+"/s")
	}
	for name, ratios := range s.ratios {
		b.ReportMetric(median(ratios), name+"/"+against)
	}
}

func median(of []float64) float64 {
	of = slices.Sorted(slices.Values(of))
	return of[len(of)/2]
}

// Over is what a copy goes over: what is put upon a TCP connection at either end.
type Over struct{ far, near func(net.Conn) net.Conn }

// Plain is nothing at all.
var Plain = Over{same, same}

func same(c net.Conn) net.Conn { return c }

// TLS is TLS 1.3 with AES-128-GCM, of a certificate of the test's.
func TLS(t testing.TB) Over {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	template := &x509.Certificate{SerialNumber: big.NewInt(1), DNSNames: []string{"larkfell"}, NotAfter: time.Now().Add(time.Hour)}
	der, err := x509.CreateCertificate(rand.Reader, template, template, &key.PublicKey, key)
	require.NoError(t, err)
	cert := tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
	parsed, err := x509.ParseCertificate(der)
	require.NoError(t, err)
	roots := x509.NewCertPool()
	roots.AddCert(parsed)
	return Over{
		far: func(c net.Conn) net.Conn {
			return tls.Server(c, &tls.Config{Certificates: []tls.Certificate{cert}, MinVersion: tls.VersionTLS13})
		},
		near: func(c net.Conn) net.Conn {
			wire := tls.Client(c, &tls.Config{RootCAs: roots, ServerName: "larkfell", MinVersion: tls.VersionTLS13})
			require.NoError(t, wire.Handshake())
			require.EqualValues(t, tls.TLS_AES_128_GCM_SHA256, wire.ConnectionState().CipherSuite)
			return wire
		},
	}
}

// Fetch sends a file over loopback in pieces, each read from it into memory, and gives MB/s: a copy of a
// file by TCP and nothing else.
func Fetch(t testing.TB, over Over, path string, piece int) float64 {
	return throughFile(t, over, path, func(c net.Conn, f *os.File, size int64) error {
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
func Store(t testing.TB, over Over, path string, piece int) float64 {
	done := make(chan error, 1)
	return throughFile(t, over, path, func(c net.Conn, f *os.File, size int64) error {
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

func throughFile(t testing.TB, over Over, path string, far func(net.Conn, *os.File, int64) error, near func(net.Conn, int64) error) float64 {
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
			_ = far(over.far(c), f, info.Size())
		}
	}()
	c, err := net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	defer c.Close()
	wire := over.near(c)
	start := time.Now()
	require.NoError(t, near(wire, info.Size()))
	return float64(info.Size()) / 1e6 / time.Since(start).Seconds()
}
