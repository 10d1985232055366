package onc

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"io"
	"log/slog"
	"maps"
	"net"
	"net/netip"
	"runtime/debug"
	"slices"
	"sync"
	"time"

	"amber.example/gatekeeper/internal/lanes"
	"amber.example/gatekeeper/internal/listen"
	"amber.example/gatekeeper/internal/turns"
)

// Server answers calls over TCP.
type Server struct {
	Programs []Program
	Log      *slog.Logger
	// Trusted says whether an address may send and be sent large messages. The others get no
	// more memory than a mount takes.
	Trusted func(netip.AddrPort) bool

	mu     sync.Mutex
	conns  map[*Conn]struct{}
	from   map[netip.Addr]int
	closed bool
	began  uint64 // connections so far
	ended  uint64 // of these
	wait   sync.WaitGroup
	most   int          // connections
	large  *lanes.Lanes // places for large messages
	aside  *lanes.Aside
	once   sync.Once
}

const (
	// MostData is the most that is read or written by one call, in bytes.
	MostData = 1 << 20

	mostRecord    = MostData + 64<<10
	mostUntrusted = 8 << 10
	mostFragments = 1 << 10
	smallMessage  = 64 << 10
	mostLarge     = 128 // messages beyond that size, in all
	mostPending   = 32  // calls of one connection
	mostConns     = 4096
	mostFrom      = 512     // connections of one address
	readAhead     = 4 << 10 // bytes that may be read of what comes next
	recordTime    = 30 * time.Second
	idleTrusted   = 30 * time.Minute
	idleUntrusted = 30 * time.Second
	writeTime     = 60 * time.Second
)

// Conn is one client's connection.
type Conn struct {
	Remote  netip.AddrPort
	Trial   bool // the service speaks to itself: see Server.Inside
	Since   time.Time
	Number  uint64 // goes up with each
	server  *Server
	c       net.Conn
	in      *bufio.Reader   // of c
	hurried time.Time       // by when what it says next has to come; of who reads, as is trusted
	calls   sync.WaitGroup  // in work
	writing sync.Mutex      // guards what follows
	until   time.Time       // when the time for writing is over
	ctx     context.Context // until the connection ends
	end     context.CancelFunc
	pending *lanes.Lanes
	trusted bool // as judged, until then; of the reading goroutine
	judged  time.Time
	asking  asking
	// Data is the programs' own.
	Data sync.Map
}

func (s *Server) prepare() {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.conns, s.from = make(map[*Conn]struct{}), make(map[netip.Addr]int)
	s.most = listen.Share(mostConns)
	s.aside = lanes.NewAside(lanes.MostAside)
	s.large = lanes.New(mostLarge, lanes.NewAside(lanes.MostAside))
}

// Serve answers connections until the listener is closed.
func (s *Server) Serve(l net.Listener) error {
	s.once.Do(s.prepare)
	for {
		nc, err := listen.Accept(l)
		if err != nil {
			return err
		}
		s.begin(nc, false)
	}
}

// Inside gives the client's end of a connection inside of the process, served as one from an address; it is closed at once where there is no place. Programs
// know it by its Trial. The server has to serve already.
func (s *Server) Inside(from netip.AddrPort) net.Conn {
	client, server := listen.Inside(from)
	s.once.Do(s.prepare)
	s.begin(server, true)
	return client
}

func (s *Server) begin(nc net.Conn, trial bool) {
	remote := listen.Remote(nc)
	c := &Conn{Remote: remote, Trial: trial, server: s, c: nc, in: bufio.NewReaderSize(nc, readAhead), pending: lanes.New(mostPending, s.aside)}
	c.ctx, c.end = context.WithCancel(context.Background())
	s.mu.Lock()
	if s.closed || len(s.conns) >= s.most || s.from[remote.Addr()] >= min(mostFrom, s.most/2) {
		s.mu.Unlock()
		c.end()
		nc.Close()
		return
	}
	s.began++
	c.Number, c.Since = s.began, time.Now()
	s.conns[c] = struct{}{}
	s.from[remote.Addr()]++
	s.wait.Add(1)
	s.mu.Unlock()
	go c.serve()
}

// Working is how many calls of the connection are being answered.
func (c *Conn) Working() int { return c.pending.Held() }

// Conns gives the connections that there are, in no order.
func (s *Server) Conns() []*Conn {
	s.mu.Lock()
	defer s.mu.Unlock()
	return slices.Collect(maps.Keys(s.conns))
}

// Ended counts the connections that have ended.
func (s *Server) Ended() uint64 {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.ended
}

// End closes the connection; what is being answered on it comes to its end.
func (c *Conn) End() {
	c.end()
	c.c.Close()
}

// Close ends every connection and waits for what is being answered.
func (s *Server) Close() {
	s.mu.Lock()
	s.closed = true
	for c := range s.conns {
		c.End()
	}
	s.mu.Unlock()
	s.wait.Wait()
}

func (c *Conn) serve() {
	s := c.server
	turns.Run(c.next, func() {
		c.end()
		c.c.Close()
		c.calls.Wait()
		s.mu.Lock()
		delete(s.conns, c)
		s.ended++
		if s.from[c.Remote.Addr()]--; s.from[c.Remote.Addr()] == 0 {
			delete(s.from, c.Remote.Addr())
		}
		s.mu.Unlock()
		s.wait.Done()
	})
}

// next reads a call, and gives what is to be done with it.
func (c *Conn) next() (work func(), kind turns.Kind) {
	record, err := c.read()
	if err != nil {
		if !errors.Is(err, io.EOF) && !errors.Is(err, net.ErrClosed) {
			c.server.Log.Debug("connection ended", "client", c.Remote, "error", err)
		}
		return nil, turns.Over
	}
	if record.pool == nil && c.answered(record.b) {
		return nil, turns.Inline
	}
	place := c.pending.Take(c.ctx, nil)
	if place == nil {
		record.release()
		return nil, turns.Over
	}
	if kind = turns.Alone; record.pool != nil || c.in.Buffered() > 0 {
		kind = turns.Beside
	}
	c.calls.Add(1)
	return func() {
		defer c.calls.Done()
		defer place.Done()
		c.answer(record, place)
	}, kind
}

// writers are Writers for small ones. Whoever serves a program keeps nothing of what was written.
var writers = sync.Pool{New: func() any { return &Writer{B: make([]byte, 4, 1024)} }}

var buffers = sync.Pool{New: func() any { b := make([]byte, 0, mostRecord+4096); return &b }}

// record is a message, and the pooled memory it is in if it is a large one.
type record struct {
	b    []byte
	pool *[]byte
	held *lanes.Call // its place among the large ones
}

// hold takes a place for a large message; nil where the connection ends first.
func (c *Conn) hold() *lanes.Call { return c.server.large.Take(c.ctx, nil) }

func (r *record) release() {
	if r.pool != nil {
		buffers.Put(r.pool)
		r.pool = nil
	}
	if r.held != nil {
		r.held.Done()
		r.held = nil
	}
}

// idle is for how long the client may say nothing. Clients that are let in connect again when they have something to say; others have
// nothing to stay for.
func (c *Conn) idle(now time.Time) time.Duration {
	if now.After(c.judged) {
		c.judged = now.Add(idleUntrusted)
		c.trusted = c.server.Trusted == nil || c.server.Trusted(c.Remote)
	}
	if c.trusted {
		return idleTrusted
	}
	return idleUntrusted
}

// read reads one record (RFC 5531 section 11).
func (c *Conn) read() (rec record, err error) {
	defer func() {
		if err != nil {
			rec.release()
		}
	}()
	var mark [4]byte
	for fragment := 0; ; fragment++ {
		if fragment == 0 {
			now := time.Now()
			if err := c.comesWithin(now, c.idle(now)); err != nil {
				return rec, err
			}
		}
		if _, err := io.ReadFull(c.in, mark[:]); err != nil {
			return rec, err
		}
		m := binary.BigEndian.Uint32(mark[:])
		n, last := int(m&^(1<<31)), m>>31 == 1
		total := len(rec.b) + n
		switch {
		case total > mostRecord, fragment > mostFragments:
			return rec, errTooLong
		case total > mostUntrusted && (c.server.Trusted == nil || !c.server.Trusted(c.Remote)):
			return rec, errTooLong
		case total > smallMessage && rec.pool == nil:
			if rec.held = c.hold(); rec.held == nil {
				return rec, net.ErrClosed
			}
			rec.pool = buffers.Get().(*[]byte)
			rec.b = append((*rec.pool)[:0], rec.b...)
		}
		at := len(rec.b)
		if cap(rec.b) < total {
			grown := make([]byte, at, total)
			copy(grown, rec.b)
			rec.b = grown
		}
		rec.b = rec.b[:total]
		if fragment == 0 && (!last || c.in.Buffered() < n) { // a record that has begun has to come to an end
			c.hurried = time.Time{}
			if err := c.c.SetReadDeadline(time.Now().Add(recordTime)); err != nil {
				return rec, err
			}
		}
		if _, err := io.ReadFull(c.in, rec.b[at:]); err != nil {
			return rec, err
		}
		if last {
			return rec, nil
		}
	}
}

// comesWithin has what comes next come within a time, or a little less: it is not set anew for each of many that come one after another.
func (c *Conn) comesWithin(now time.Time, d time.Duration) error {
	if left := c.hurried.Sub(now); left > d-d/16 && left <= d || c.in.Buffered() > 0 {
		return nil
	}
	c.hurried = now.Add(d)
	return c.c.SetReadDeadline(c.hurried)
}

var errTooLong = errors.New("the record is too long")

// Reserve makes room for a large answer, waiting for others' if there are too many, and
// gives w memory for it.
func (c *Call) Reserve(w *Writer, n int) {
	if n <= smallMessage || c.held != nil || c.large { // one place for a call, so that calls cannot wait for each other
		return
	}
	if c.held = c.Conn.hold(); c.held == nil {
		return // nobody will read the answer
	}
	b := buffers.Get().(*[]byte)
	w.B = append((*b)[:0], w.B...)
}

func (c *Conn) answer(rec record, place *lanes.Call) {
	s := c.server
	in := rec.pool != nil
	w := writers.Get().(*Writer)
	w.B = w.B[:4]
	small := &w.B[0]
	var call *Call
	defer func() {
		if p := recover(); p != nil {
			s.Log.Error("a call went wrong", "client", c.Remote, "panic", p, "stack", string(debug.Stack()))
			c.c.Close()
		}
		rec.release()
		if call != nil && call.held != nil {
			b := w.B[:0]
			buffers.Put(&b)
			call.held.Done()
		}
		if len(w.B) > 0 && &w.B[0] == small { // it has not grown out of its memory
			writers.Put(w)
		}
	}()
	var answered bool
	if call, answered = dispatch(s.Programs, c, rec.b, in, w); call == nil {
		c.c.Close() // not a client of this protocol
		return
	}
	if answered {
		place.Keep()
		_ = c.send(w.B)
	}
}

// send writes a record whose first four bytes are left for its mark.
func (c *Conn) send(b []byte) error {
	binary.BigEndian.PutUint32(b, 1<<31|uint32(len(b)-4))
	c.writing.Lock()
	defer c.writing.Unlock()
	if now := time.Now(); now.After(c.until.Add(-writeTime / 2)) { // not for each: it costs as much as a small answer does
		c.until = now.Add(writeTime)
		if err := c.c.SetWriteDeadline(c.until); err != nil {
			return err
		}
	}
	_, err := c.c.Write(b)
	if err != nil {
		c.c.Close()
	}
	return err
}
