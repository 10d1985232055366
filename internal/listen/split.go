package listen

import (
	"crypto/tls"
	"net"
	"sync"
	"time"
)

// firstByte is how long who connects may take to say the first thing.
const firstByte = 10 * time.Second

// handshake is the first byte of TLS: a record of the handshake (RFC 8446 section 5.1).
const handshake = 22

// Split parts what comes to one listener into those who begin with TLS and those who do not. Either listener ends with the one it is of.
func Split(l net.Listener, with *tls.Config) (bare, secure net.Listener) {
	s := &splitter{Listener: l, ended: make(chan struct{}), silent: make(map[net.Conn]bool)}
	p, t := &part{splitter: s, come: make(chan net.Conn)}, &part{splitter: s, come: make(chan net.Conn)}
	go s.run(p, t)
	return p, tls.NewListener(t, with)
}

type splitter struct {
	net.Listener
	end   sync.Once
	close sync.Once
	ended chan struct{}

	mu     sync.Mutex
	silent map[net.Conn]bool // they have said nothing yet; nil once it has ended
}

// expects notes that a connection has said nothing yet; false where no more are taken.
func (s *splitter) expects(c net.Conn) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.silent != nil {
		s.silent[c] = true
	}
	return s.silent != nil
}

func (s *splitter) spoke(c net.Conn) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.silent, c)
}

type part struct {
	*splitter
	come chan net.Conn
}

func (s *splitter) run(bare, secure *part) {
	defer s.over()
	for {
		c, err := Accept(s.Listener)
		if err != nil {
			return
		}
		if !s.expects(c) {
			c.Close()
			return
		}
		go func() {
			defer s.spoke(c)
			var first [1]byte
			_ = c.SetReadDeadline(time.Now().Add(firstByte))
			if n, err := c.Read(first[:]); err != nil || n == 0 {
				c.Close()
				return
			}
			_ = c.SetReadDeadline(time.Time{})
			to := bare
			if first[0] == handshake {
				to = secure
			}
			select {
			case to.come <- &begun{Conn: c, first: first[:]}:
			case <-s.ended:
				c.Close()
			}
		}()
	}
}

func (p *part) Accept() (net.Conn, error) {
	select {
	case c := <-p.come:
		return c, nil
	case <-p.ended:
		return nil, net.ErrClosed
	}
}

func (s *splitter) over() {
	s.end.Do(func() {
		close(s.ended)
		s.mu.Lock()
		defer s.mu.Unlock()
		for c := range s.silent {
			c.Close()
		}
		s.silent = nil
	})
}

// Close ends both listeners; who closes the other as well does nothing more.
func (s *splitter) Close() (err error) {
	s.close.Do(func() { err = s.Listener.Close() })
	s.over()
	return err
}

// begun is a connection of which the first byte has been read.
type begun struct {
	net.Conn
	first []byte
}

func (b *begun) Read(p []byte) (int, error) {
	if len(b.first) > 0 && len(p) > 0 {
		n := copy(p, b.first)
		b.first = b.first[n:]
		return n, nil
	}
	return b.Conn.Read(p)
}
