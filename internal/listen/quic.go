package listen

import (
	"context"
	"crypto/tls"
	"net"
	"sync"
	"time"

	"github.com/quic-go/quic-go"
)

// quicALPN is what SMB over QUIC is called when a connection begins (MS-SMB2 section 2.1).
const quicALPN = "smb"

const (
	quicHandshake = 10 * time.Second
	quicStream    = 10 * time.Second // for a client to open its stream
	quicIdle      = 2 * time.Minute  // without a sign of life; clients that are only idle are asked for one
	quicAlive     = 30 * time.Second
	mostStarting  = 64 // connections that have no stream yet
)

// QUIC listens for QUIC (RFC 9000) on packets, of which each connection has one stream, opened by the client, that is as a TCP connection would
// be. Who sends from an address has to show first that they get what is sent there, so that nobody is sent more than they asked for. with gives
// the certificate; TLS is 1.3, as QUIC has it, without early data, which could be played again.
func QUIC(packets net.PacketConn, with *tls.Config) (net.Listener, error) {
	with = with.Clone()
	with.NextProtos, with.MinVersion, with.GetConfigForClient = []string{quicALPN}, tls.VersionTLS13, nil
	t := &quic.Transport{Conn: packets, VerifySourceAddress: func(net.Addr) bool { return true }}
	l, err := t.Listen(with, &quic.Config{HandshakeIdleTimeout: quicHandshake, MaxIdleTimeout: quicIdle, KeepAlivePeriod: quicAlive, MaxIncomingStreams: 1, MaxIncomingUniStreams: -1})
	if err != nil {
		return nil, err
	}
	q := &quicListener{transport: t, quic: l, ready: make(chan net.Conn), starting: make(chan struct{}, mostStarting)}
	q.ctx, q.end = context.WithCancel(context.Background())
	go q.run()
	return q, nil
}

type quicListener struct {
	transport *quic.Transport
	quic      *quic.Listener
	ready     chan net.Conn
	starting  chan struct{}
	ctx       context.Context
	end       context.CancelFunc
	once      sync.Once
}

func (q *quicListener) run() {
	defer q.end()
	for {
		c, err := q.quic.Accept(q.ctx)
		if err != nil {
			return
		}
		select {
		case q.starting <- struct{}{}:
			go q.start(c)
		default:
			_ = c.CloseWithError(0, "")
		}
	}
}

// start waits for the stream of a connection.
func (q *quicListener) start(c *quic.Conn) {
	defer func() { <-q.starting }()
	ctx, cancel := context.WithTimeout(q.ctx, quicStream)
	defer cancel()
	s, err := c.AcceptStream(ctx)
	if err == nil {
		select {
		case q.ready <- &quicConn{s, c}:
			return
		case <-ctx.Done():
		}
	}
	_ = c.CloseWithError(0, "")
}

// Accept gives the next connection: net.ErrClosed once the listener is closed.
func (q *quicListener) Accept() (net.Conn, error) {
	select {
	case c := <-q.ready:
		return c, nil
	case <-q.ctx.Done():
		return nil, net.ErrClosed
	}
}

// Close ends the listener, and what is still beginning.
func (q *quicListener) Close() (err error) {
	q.once.Do(func() {
		q.end()
		err = q.quic.Close()
	})
	return err
}

func (q *quicListener) Addr() net.Addr { return q.quic.Addr() }

// quicConn is a connection by its one stream.
type quicConn struct {
	*quic.Stream
	of *quic.Conn
}

func (c *quicConn) LocalAddr() net.Addr  { return c.of.LocalAddr() }
func (c *quicConn) RemoteAddr() net.Addr { return c.of.RemoteAddr() }

// Close ends it both ways, at once.
func (c *quicConn) Close() error {
	c.Stream.CancelRead(0)
	return c.of.CloseWithError(0, "")
}
