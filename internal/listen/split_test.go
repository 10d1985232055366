package listen_test

import (
	"bufio"
	"crypto/tls"
	"io"
	"log/slog"
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"amber.example/gatekeeper/internal/certs"
	"amber.example/gatekeeper/internal/listen"
)

// One port answers both who begins with TLS and who does not; who says nothing holds up nobody, and is cut off with the listener.
func TestOnePortForBoth(t *testing.T) {
	defer goleak.VerifyNone(t, goleak.IgnoreCurrent())
	k, err := certs.Open(certs.Files{State: t.TempDir()}, slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	bare, secure := listen.Split(l, k.TLS())
	ended := make(chan struct{}, 2)
	for name, from := range map[string]net.Listener{"bare": bare, "secure": secure} {
		go func() {
			defer func() { ended <- struct{}{} }()
			for {
				c, err := from.Accept()
				if err != nil {
					return
				}
				line, _ := bufio.NewReader(c).ReadString('\n')
				_, _ = io.WriteString(c, name+" "+line)
				c.Close()
			}
		}()
	}
	silent, err := net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	defer silent.Close()
	ask := func(c net.Conn, err error) string {
		require.NoError(t, err)
		defer c.Close()
		_, err = io.WriteString(c, "moon\n")
		require.NoError(t, err)
		raw, _ := io.ReadAll(c)
		return string(raw)
	}
	require.Equal(t, "bare moon\n", ask(net.Dial("tcp", l.Addr().String())))
	c, err := tls.Dial("tcp", l.Addr().String(), &tls.Config{InsecureSkipVerify: true})
	require.Equal(t, "secure moon\n", ask(c, err))
	gone, err := net.Dial("tcp", l.Addr().String())
	require.NoError(t, err)
	gone.Close()
	require.Equal(t, "bare moon\n", ask(net.Dial("tcp", l.Addr().String())))

	require.NoError(t, secure.Close())
	<-ended
	<-ended
	require.NoError(t, silent.SetReadDeadline(time.Now().Add(5*time.Second)))
	_, err = silent.Read(make([]byte, 1))
	require.ErrorIs(t, err, io.EOF)
}
