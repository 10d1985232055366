package smb

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/binary"
	"io"
	"log/slog"
	"net"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/lanes"
	"amber.example/gatekeeper/internal/listen"
	"amber.example/gatekeeper/internal/meter"
	"amber.example/gatekeeper/internal/smb/message"
	"amber.example/gatekeeper/internal/turns"
)

// Accounts is what the server must know of people.
type Accounts interface {
	// ProveNT has a proof compared with the secret that NTLMv2 is checked with, nil where there is none, and gives
	// whose it is. It is where guesses are slowed: an error wraps ntlm.ErrWrong, or ntlm.ErrPutOff
	// where it was not compared at all.
	ProveNT(ctx context.Context, name, address string, compare func(hash []byte) bool) (identity.ID, error)
}

// Config is what a Server is made from.
type Config struct {
	Name     string // as the server calls itself
	Policy   func() *site.Policy
	Accounts Accounts
	Names    Names
	// HostNames gives the names of an address as far as client rules care; false where it may have others.
	HostNames func(ctx context.Context, a netip.Addr) ([]string, bool)
	Administrators
	Limits     Limits // nil: no quotas are told or set
	Files      *files.Namespace
	Lasting    Opens        // where what outlasts the service is written down; nil: nothing does
	Meter      *meter.Meter // counts what is asked; nil for nothing
	Log        *slog.Logger
	MaxClients int // connections at once; 0 is 1024
}

// Server answers SMB.
type Server struct {
	Config
	guid    [16]byte
	started time.Time

	mu       sync.Mutex
	conns    map[*conn]struct{}
	from     map[string]int // connections by address
	sessions map[uint64]*session
	orphans  map[uint64]*orphan // by what they are known by
	hoard    *hoard
	aside    *lanes.Aside
	stopped  bool
	wait     sync.WaitGroup
	nextID   atomic.Uint64
	stirs    atomic.Uint64 // see live.Door
	joining  sync.Mutex    // held while a share with room for only so many is connected to

	cacheMu sync.Mutex // of what follows, and of which opens share a lease
	leases  map[leaseID]*cached
	creates map[createID]*open // those that their clients may ask for again
}

const (
	maxTransact = 1 << 20 // bytes of data in one request or response
	maxFrame    = maxTransact + (64 << 10)
	maxFirst    = 64 << 10 // before anyone has signed in
	maxParallel = 32       // requests of one connection in work at once
	maxCredits  = 512      // a client may have in hand
	maxSessions = 64       // on one connection
	maxTrees    = 256      // in one session
	maxOpens    = 16384    // in one session
	maxWaiting  = 1024     // change notifications of one connection

	readAhead = 4 << 10 // bytes that may be read of what comes next

	signInTime = 30 * time.Second
	writeTime  = 60 * time.Second
	frameTime  = 60 * time.Second
)

// NewServer makes a server that listens to nothing yet.
func NewServer(c Config) *Server {
	if c.MaxClients == 0 {
		c.MaxClients = listen.Share(1024)
	}
	s := &Server{Config: c, conns: make(map[*conn]struct{}), from: make(map[string]int), sessions: make(map[uint64]*session),
		orphans: make(map[uint64]*orphan), leases: make(map[leaseID]*cached), creates: make(map[createID]*open), hoard: newHoard(), aside: lanes.NewAside(lanes.MostAside), started: time.Now()}
	rand.Read(s.guid[:])
	return s
}

// Serve answers on a listener until Close. It returns nil then.
func (s *Server) Serve(l net.Listener) error {
	for {
		nc, err := listen.Accept(l)
		if err != nil {
			if s.isStopped() {
				return nil
			}
			return err
		}
		s.begin(newConn(s, nc))
	}
}

// begin serves a connection by itself, if there is a place for it; else it closes it.
func (s *Server) begin(c *conn) bool {
	s.mu.Lock()
	// One address never takes all the places.
	full := len(s.conns) >= s.MaxClients || s.from[c.address] >= max(s.MaxClients/4, 1)
	if s.stopped || full || !s.Policy().Services.SMB {
		s.mu.Unlock()
		c.cancel()
		c.nc.Close()
		return false
	}
	s.conns[c] = struct{}{}
	s.from[c.address]++
	s.wait.Add(1)
	s.mu.Unlock()
	go c.serve(func() {
		defer s.wait.Done()
		s.stirs.Add(1)
		s.mu.Lock()
		delete(s.conns, c)
		if s.from[c.address]--; s.from[c.address] == 0 {
			delete(s.from, c.address)
		}
		s.mu.Unlock()
	})
	return true
}

func (s *Server) isStopped() bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.stopped
}

// Close ends every connection and waits until all are gone. The listener is the
// caller's to close first. What outlasts the service stays written down.
func (s *Server) Close() {
	s.mu.Lock()
	s.stopped = true
	for c := range s.conns {
		c.nc.Close()
	}
	s.mu.Unlock()
	s.wait.Wait()
	s.mu.Lock()
	kept := s.orphans
	s.orphans = nil
	s.mu.Unlock()
	for _, k := range kept {
		k.over.Stop()
		k.o.close()
	}
}

// conn is one TCP connection.
type conn struct {
	srv     *Server
	nc      net.Conn
	in      *bufio.Reader // of nc
	log     *slog.Logger
	address string // without port
	from    site.Origin
	called  atomic.Pointer[called]
	ctx     context.Context
	cancel  context.CancelFunc
	trial   *Trial // the connection is one of the service with itself; nil for all others

	unhurried bool // no time is set any more for what it says next; of who reads

	// Owned by the reading goroutine until negotiation is over, fixed after.
	dialect    uint16
	negotiated bool
	leads      bool // some name of the server led elsewhere when it began
	signing    uint16
	cipher     uint16 // 0 for none
	preauth    [64]byte
	client     message.NegotiateRequest // what it said first, for FSCTL_VALIDATE_NEGOTIATE_INFO

	late atomic.Bool // it did not give back in time what it was to cache no more

	writing sync.Mutex // of whole frames; it guards what follows
	until   time.Time  // when the time for writing is over
	out     []byte
	slots   *lanes.Lanes
	working sync.WaitGroup

	mu       sync.Mutex
	sessions map[uint64]*session
	window   creditWindow
	waiting  map[uint64]*asyncOp // by async ID
}

func newConn(s *Server, nc net.Conn) *conn {
	address, _, err := net.SplitHostPort(nc.RemoteAddr().String())
	if err != nil {
		address = nc.RemoteAddr().String()
	}
	ctx, cancel := context.WithCancel(context.Background())
	at, _ := netip.ParseAddr(address)
	return &conn{srv: s, nc: nc, leads: s.Policy().LeadsElsewhere(),
		in: bufio.NewReaderSize(nc, readAhead), address: address, from: site.Origin{Address: at.WithZone("").Unmap()}, log: s.Log.With("client", nc.RemoteAddr().String()), ctx: ctx, cancel: cancel,
		slots: lanes.New(maxParallel, s.aside), sessions: make(map[uint64]*session),
		window: newCreditWindow(), waiting: make(map[uint64]*asyncOp)}
}

// serve reads and answers until the connection ends, which ended is told once nothing of it is in work any more. It may come back before.
func (c *conn) serve(ended func()) {
	_ = c.nc.SetReadDeadline(time.Now().Add(signInTime))
	turns.Run(c.next, func() {
		c.cancel()
		c.nc.Close()
		c.working.Wait()
		c.mu.Lock()
		sessions := c.sessions
		c.sessions = nil
		c.mu.Unlock()
		for _, s := range sessions {
			s.detach()
		}
		ended()
	})
}

// next reads one frame, and gives what is to be done with it.
func (c *conn) next() (work func(), kind turns.Kind) {
	frame := c.readFrame()
	if frame == nil {
		return nil, turns.Over
	}
	return c.receive(frame)
}

// readFrame reads one; nil where the connection ends, or is to.
func (c *conn) readFrame() *buffer {
	var prefix [4]byte
	if _, err := io.ReadFull(c.in, prefix[:]); err != nil {
		return nil
	}
	size := int(binary.BigEndian.Uint32(prefix[:]) & 0xffffff)
	limit, trusted := maxFirst, c.signedIn()
	if trusted {
		limit = maxFrame + message.TransformSize
	}
	if prefix[0] != 0 || size > limit || size < 4 {
		c.log.Debug("frame refused", "size", size)
		return nil
	}
	frame := c.buffer(size)
	if frame == nil {
		return nil
	}
	rest := trusted && c.in.Buffered() < size
	if rest { // a frame that has begun has to come to an end
		_ = c.nc.SetReadDeadline(time.Now().Add(frameTime))
	}
	if _, err := io.ReadFull(c.in, frame.b); err != nil {
		frame.release()
		return nil
	}
	if rest || trusted && !c.unhurried {
		_ = c.nc.SetReadDeadline(time.Time{})
		c.unhurried = true
	}
	return frame
}

func (c *conn) signedIn() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, s := range c.sessions {
		if s.established.Load() {
			return true
		}
	}
	return false
}

// send writes one or more responses, already signed, as one frame.
func (c *conn) send(msgs ...[]byte) {
	size := 0
	for _, m := range msgs {
		size += len(m)
	}
	c.writing.Lock()
	defer c.writing.Unlock()
	now := time.Now()
	if now.After(c.until.Add(-writeTime / 2)) { // not for each: it costs as much as a small answer does
		c.until = now.Add(writeTime)
		_ = c.nc.SetWriteDeadline(c.until)
	}
	c.out = binary.BigEndian.AppendUint32(c.out[:0], uint32(size))
	var err error
	if size <= quickFrame {
		for _, m := range msgs {
			c.out = append(c.out, m...)
		}
		_, err = c.nc.Write(c.out)
	} else {
		bufs := append(net.Buffers{c.out}, msgs...)
		_, err = bufs.WriteTo(c.nc)
	}
	if err != nil {
		c.nc.Close() // the reader sees it and ends the connection
	}
}

// subject is on whose behalf a session acts.
func (c *conn) subject(user identity.ID) files.Subject {
	return files.Subject{User: user, Via: site.SMB, From: c.address, Trial: c.trial != nil, Whence: c}
}

func (r *request) subject() files.Subject {
	sub := r.c.subject(r.sess.user)
	sub.Unproved = r.sess.guest
	return sub
}

// admit asks the gates before any folder.
func (s *Server) admit(user identity.ID) access.Gate {
	return access.Admit(s.Policy(), user, site.SMB, time.Now())
}

// buffer is a frame, or a part of a response, that is used again.
type buffer struct {
	b    []byte
	pool *sync.Pool
	back *[]byte
	give func() // gives its room in the hoard, once; nil where it is small
}

// setAside gives the room back while the buffer is still in use, by a request that a disk does not let go of. There are only so many of
// those: see lanes.
func (b *buffer) setAside() {
	if b.give != nil {
		b.give()
	}
}

// setAside has requests that have been in work for long stand in nobody's way.
func (s *Server) setAside() {
	s.mu.Lock()
	all := make([]*conn, 0, len(s.conns))
	for c := range s.conns {
		all = append(all, c)
	}
	s.mu.Unlock()
	for _, c := range all {
		c.slots.SetAside()
	}
}

var bigBuffers = sync.Pool{New: func() any { b := make([]byte, maxFrame+message.HeaderSize+message.TransformSize+tagSize); return &b }}

// buffer gives one for what comes from, or goes to, a client: a large one once there is room for it. It is nil where the connection ends
// first.
func (c *conn) buffer(size int) *buffer {
	const small = 64 << 10
	if size <= small {
		return getBuffer(size)
	}
	if !c.srv.hoard.wait(c.ctx, c.address, size, c.srv.setAside) {
		return nil
	}
	b := getBuffer(size)
	b.give = sync.OnceFunc(func() { c.srv.hoard.give(c.address, size) })
	return b
}

func getBuffer(size int) *buffer {
	if size <= 16<<10 {
		return &buffer{b: make([]byte, size, size+tagSize)}
	}
	back := bigBuffers.Get().(*[]byte)
	return &buffer{b: (*back)[:size], pool: &bigBuffers, back: back}
}

func (b *buffer) release() {
	if b.pool != nil {
		b.pool.Put(b.back)
		b.pool = nil
	}
	if b.give != nil {
		b.give()
	}
}
