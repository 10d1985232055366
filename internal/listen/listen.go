// Package listen accepts connections whatever the host is short of, and no more of them than there is room for.
package listen

import (
	"errors"
	"log/slog"
	"net"
	"net/netip"
	"sync"
	"time"

	"golang.org/x/sys/unix"
)

// Of what passes, such as the end of file descriptors, the next try comes after so long, twice as long each time, up to so long.
const (
	firstPause = 5 * time.Millisecond
	mostPause  = time.Second
)

// Accept takes the next connection. It gives an error only once the listener is closed.
func Accept(l net.Listener) (net.Conn, error) {
	for pause := firstPause; ; pause = min(2*pause, mostPause) {
		c, err := l.Accept()
		if err == nil || errors.Is(err, net.ErrClosed) {
			return c, err
		}
		slog.Warn("no connection can be taken just now", "at", l.Addr(), "error", err)
		time.Sleep(pause)
	}
}

// Share is how many connections one listener may hold: so many as are given, or an eighth of what the process may open where that is less, so
// that connections never take what is needed to serve those that are there.
func Share(most int) int {
	var limit unix.Rlimit
	if err := unix.Getrlimit(unix.RLIMIT_NOFILE, &limit); err != nil {
		return most
	}
	return max(16, min(most, int(min(limit.Cur, 1<<30)/8)))
}

// Remote is where a connection comes from, an IPv4 address as such; not valid for what has no address.
func Remote(c net.Conn) netip.AddrPort {
	a, ok := c.RemoteAddr().(*net.TCPAddr)
	if !ok {
		return netip.AddrPort{}
	}
	p := a.AddrPort()
	return netip.AddrPortFrom(p.Addr().Unmap().WithZone(""), p.Port())
}

// Bounded is a listener that gives at most so many connections at a time, of one address at most From. Those beyond are closed at
// once, so that whoever comes is told, and nobody waits for those who stay.
type Bounded struct {
	net.Listener
	Most, From int

	mu   sync.Mutex
	all  int
	from map[netip.Addr]int
}

// Accept is net.Listener's.
func (b *Bounded) Accept() (net.Conn, error) {
	for {
		c, err := Accept(b.Listener)
		if err != nil {
			return nil, err
		}
		addr := Remote(c).Addr()
		b.mu.Lock()
		if b.from == nil {
			b.from = make(map[netip.Addr]int)
		}
		full := b.all >= b.Most || b.from[addr] >= b.From
		if !full {
			b.all++
			b.from[addr]++
		}
		b.mu.Unlock()
		if full {
			c.Close()
			continue
		}
		return &counted{Conn: c, gone: sync.OnceFunc(func() { b.left(addr) })}, nil
	}
}

func (b *Bounded) left(addr netip.Addr) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.all--
	if b.from[addr]--; b.from[addr] == 0 {
		delete(b.from, addr)
	}
}

// counted is a connection that gives its place back when it is closed.
type counted struct {
	net.Conn
	gone func()
}

func (c *counted) Close() error {
	c.gone()
	return c.Conn.Close()
}
