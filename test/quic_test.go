package test

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/tls"
	"crypto/x509"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/quic-go/quic-go"
	"github.com/stretchr/testify/require"
)

// onStream is the one stream of a QUIC connection as a connection, as a client has it.
type onStream struct {
	*quic.Stream
	of *quic.Conn
}

func (c onStream) LocalAddr() net.Addr  { return c.of.LocalAddr() }
func (c onStream) RemoteAddr() net.Addr { return c.of.RemoteAddr() }
func (c onStream) Close() error         { return c.of.CloseWithError(0, "") }

// SMB over QUIC: by the certificate of the console, and no other way; a working bit of everything, and what is no client of it is let go of and leaves nothing.
func TestSMBOverQUIC(t *testing.T) {
	free, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	at := free.LocalAddr().String()
	require.NoError(t, free.Close())
	p := serve(t, binary(t), filepath.Join(t.TempDir(), "state"), "--demo", "--smb-over-quic", at)

	shown, err := tls.Dial("tcp", strings.TrimPrefix(p.url, "http://"), &tls.Config{InsecureSkipVerify: true})
	require.NoError(t, err)
	console := sha256.Sum256(shown.ConnectionState().PeerCertificates[0].Raw)
	shown.Close()
	dial := func(alpn string) (*quic.Conn, error) {
		ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
		defer cancel()
		return quic.DialAddr(ctx, at, &tls.Config{NextProtos: []string{alpn}, InsecureSkipVerify: true, // it is held to the console's
			VerifyPeerCertificate: func(raw [][]byte, _ [][]*x509.Certificate) error {
				require.Equal(t, console, sha256.Sum256(raw[0]))
				return nil
			}}, nil)
	}
	_, err = dial("h3")
	require.Error(t, err, "it is SMB that is spoken there, and nothing else")

	c, err := dial("smb")
	require.NoError(t, err)
	stream, err := c.OpenStream()
	require.NoError(t, err)
	s := over(t, onStream{stream, c}, "piran", 0x0311)
	m, err := s.Mount("nightlog")
	require.NoError(t, err)
	plate := make([]byte, 1<<20+7)
	rand.Read(plate)
	require.NoError(t, m.WriteFile("by-quic.fits", plate, 0o666))
	got, err := m.ReadFile("by-quic.fits")
	require.NoError(t, err)
	require.True(t, bytes.Equal(plate, got))
	list, err := m.ReadDir("")
	require.NoError(t, err)
	require.NotEmpty(t, list)
	_, err = c.OpenStream()
	require.Error(t, err, "one stream is all there is")
	require.NoError(t, m.Umount())
	require.NoError(t, s.Logoff())
	require.NoError(t, c.CloseWithError(0, ""))

	// Rubbish, a stream that ends at once, and a frame that is too long: each ends its own connection.
	for _, say := range [][]byte{[]byte("GET / HTTP/1.1\r\n\r\n"), {}, {0, 0xff, 0xff, 0xff}, bytes.Repeat([]byte{0}, 5000)} {
		c, err := dial("smb")
		require.NoError(t, err)
		stream, err := c.OpenStream()
		require.NoError(t, err)
		_, _ = stream.Write(say)
		_ = stream.Close() // the service may have ended the connection by then
		_ = stream.SetReadDeadline(time.Now().Add(20 * time.Second))
		_, err = stream.Read(make([]byte, 1))
		require.Error(t, err)
		require.NotErrorIs(t, err, os.ErrDeadlineExceeded, "%q", say[:min(len(say), 20)])
		require.NoError(t, c.CloseWithError(0, ""))
	}
	udp, err := net.Dial("udp", at)
	require.NoError(t, err)
	defer udp.Close()
	_, err = udp.Write(bytes.Repeat([]byte{0xc3}, 1200))
	require.NoError(t, err)
	c, err = dial("smb")
	require.NoError(t, err, "it answers on")

	// And it stops as soon as ever, with a client connected.
	stream, err = c.OpenStream()
	require.NoError(t, err)
	s = over(t, onStream{stream, c}, "piran", 0x0311)
	_, err = s.Mount("nightlog")
	require.NoError(t, err)
	require.Less(t, p.stop(t), 10*time.Second)
	select {
	case <-c.Context().Done():
	case <-time.After(time.Minute):
		t.Fatal("the client was not told")
	}
}
