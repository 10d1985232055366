package listen_test

import (
	"errors"
	"net"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/listen"
)

// failing is a listener whose Accept fails so many times first, as at the end of file descriptors.
type failing struct {
	net.Listener
	times atomic.Int64
}

func (f *failing) Accept() (net.Conn, error) {
	if f.times.Add(-1) >= 0 {
		return nil, &net.OpError{Op: "accept", Net: "tcp", Err: errors.Join(syscall.EMFILE)}
	}
	return f.Listener.Accept()
}

func listener(t *testing.T) net.Listener {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { l.Close() })
	return l
}

func TestTheEndOfDescriptorsPasses(t *testing.T) {
	f := &failing{Listener: listener(t)}
	f.times.Store(4)
	go func() {
		c, err := net.Dial("tcp", f.Addr().String())
		if err == nil {
			defer c.Close()
			time.Sleep(time.Second)
		}
	}()
	c, err := listen.Accept(f)
	require.NoError(t, err)
	require.True(t, listen.Remote(c).IsValid())
	c.Close()
	f.Close()
	_, err = listen.Accept(f)
	require.ErrorIs(t, err, net.ErrClosed)
}

func TestConnectionsAreBounded(t *testing.T) {
	b := &listen.Bounded{Listener: listener(t), Most: 3, From: 2}
	taken := make(chan net.Conn, 10)
	go func() {
		for {
			c, err := b.Accept()
			if err != nil {
				close(taken)
				return
			}
			taken <- c
		}
	}()
	dial := func(from string) (net.Conn, bool) {
		t.Helper()
		d := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}
		c, err := d.Dial("tcp", b.Addr().String())
		require.NoError(t, err)
		t.Cleanup(func() { c.Close() })
		_ = c.SetReadDeadline(time.Now().Add(100 * time.Millisecond))
		_, err = c.Read(make([]byte, 1))
		var timeout net.Error
		return c, errors.As(err, &timeout) && timeout.Timeout() // it is held open
	}
	_, ok := dial("127.0.0.1")
	require.True(t, ok)
	_, ok = dial("127.0.0.1")
	require.True(t, ok)
	_, ok = dial("127.0.0.1")
	require.False(t, ok, "the third of one address")
	_, ok = dial("127.0.0.2")
	require.True(t, ok)
	_, ok = dial("127.0.0.3")
	require.False(t, ok, "the fourth in all")
	first := <-taken
	require.NoError(t, first.Close())
	first.Close() // its place is given back once
	_, ok = dial("127.0.0.3")
	require.True(t, ok)
	_, ok = dial("127.0.0.4")
	require.False(t, ok)
	require.NoError(t, b.Close())
}
