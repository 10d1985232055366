// Package nfs is the server's half of NFS versions 3 (RFC 1813), 4.0 (RFC 7530) and 4.1 (RFC
// 8881), with MOUNT version 3 and the lock manager's version 4, all on one port. It translates;
// what is allowed is decided by the files package and the core.
package nfs

import (
	"context"
	"crypto/rand"
	"encoding/binary"
	"log/slog"
	"net"
	"net/netip"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/meter"
	"amber.example/gatekeeper/internal/onc"
)

// Program numbers.
const (
	programNFS   = 100003
	programMount = 100005
	programNLM   = 100021
	programNSM   = 100024
	programACL   = 100227
)

// Memory keeps, over restarts, which clients hold state: see service.Remember.
type Memory interface {
	Remembered(ctx context.Context, kind string) ([][]byte, error)
	Remember(ctx context.Context, kind string, owner []byte) error
	Forget(ctx context.Context, kind string, owner []byte) error
}

// Config is what a Server is made from.
type Config struct {
	Policy func() *site.Policy
	Files  *files.Namespace
	// Names gives the host names of an address, as far as client rules care, and whether that is sure.
	Names  func(context.Context, netip.Addr) (names []string, sure bool)
	Key    []byte // seals file handles
	Memory Memory
	Lease  time.Duration // of version 4; 0 for the default
	Log    *slog.Logger
	Meter  *meter.Meter // counts what is asked; nil for nothing
	// Refused is told of mounts that are; nil for nobody.
	Refused files.EventSink
}

// Server answers NFS.
type Server struct {
	Config
	rpc      *onc.Server
	handles  *handles
	verifier uint64 // changes at each start: RFC 1813 section 3.3.7
	replies  *replyCache
	state    *state
	locks    *lockManager
	began    time.Time
	numbers  atomic.Uint64 // of clients, to who looks after things
	stirs    atomic.Uint64 // see live.Door
	spoken   [len(spokenNames)]*meter.Tally
}

const defaultLease = 60 * time.Second

// NewServer makes a server, which answers once Serve is called.
func NewServer(c Config) (*Server, error) {
	if c.Lease == 0 {
		c.Lease = defaultLease
	}
	var v [8]byte
	rand.Read(v[:])
	s := &Server{Config: c, handles: newHandles(c.Key), verifier: binary.BigEndian.Uint64(v[:]), replies: newReplyCache(), began: time.Now()}
	if c.Meter != nil {
		for i, name := range spokenNames {
			s.spoken[i] = c.Meter.Tally(meter.ByProtocol, name)
		}
	}
	var err error
	if s.state, err = newState(s); err != nil {
		return nil, err
	}
	if s.locks, err = newLockManager(s); err != nil {
		return nil, err
	}
	s.rpc = &onc.Server{Log: c.Log, Trusted: s.trusted, Programs: []onc.Program{
		{Number: programNFS, Low: 3, High: 4, Serve: s.serveNFS},
		{Number: programMount, Low: 3, High: 3, Serve: s.serveMount},
		{Number: programNLM, Low: 4, High: 4, Serve: s.locks.serve},
		{Number: programNSM, Low: 1, High: 1, Serve: s.locks.serveStatus},
		{Number: programACL, Low: 3, High: 3, Serve: s.serveACL},
		{Number: programRQuota, Low: 1, High: 2, Serve: s.serveRQuota},
	}}
	return s, nil
}

// Serve answers connections until the listener is closed.
func (s *Server) Serve(l net.Listener) error { return s.rpc.Serve(l) }

// ServePackets answers the remote quota protocol over UDP, by which some clients ask, until the connection is closed.
func (s *Server) ServePackets(pc net.PacketConn) error {
	return onc.ServePackets(pc, []onc.Program{{Number: programRQuota, Low: 1, High: 2, Serve: s.serveRQuota}})
}

// Try gives the client's end of a connection inside of the process, which nobody else can reach, served as one from an address. What happens on it is no
// access event.
func (s *Server) Try(from netip.AddrPort) net.Conn { return s.rpc.Inside(from) }

// Close ends every connection and gives up all state.
func (s *Server) Close() {
	s.rpc.Close()
	s.locks.close()
	s.state.close()
}

// Mappings is what a port mapper tells of the server.
func (s *Server) Mappings(port uint16) []onc.Mapping {
	var out []onc.Mapping
	for _, pv := range [][2]uint32{{programNFS, 3}, {programNFS, 4}, {programMount, 3}, {programNLM, 4}, {programNSM, 1}, {programACL, 3}, {programRQuota, 1}, {programRQuota, 2}} {
		out = append(out, onc.Mapping{Program: pv[0], Version: pv[1], Protocol: onc.ProtocolTCP, Port: uint32(port)})
	}
	for version := uint32(1); version <= 2; version++ {
		out = append(out, onc.Mapping{Program: programRQuota, Version: version, Protocol: onc.ProtocolUDP, Port: uint32(port)})
	}
	return out
}

func (s *Server) serveNFS(c *onc.Call, w *onc.Writer) onc.AcceptStat {
	s.stirs.Add(1)
	if c.Version == 4 {
		return s.serve4(c, w)
	}
	return s.serve3(c, w)
}

// origin is where a connection comes from.
func (s *Server) origin(c *onc.Conn, flavor uint32) site.Origin { return s.originAt(c.Remote, flavor) }

func (s *Server) originAt(a netip.AddrPort, flavor uint32) site.Origin {
	o := site.Origin{Address: a.Addr(), Port: a.Port()}
	names, sure := s.Names(context.Background(), o.Address)
	o.Names, o.Unsure = names, !sure
	if flavor == onc.AuthSys {
		o.Flavor = site.FlavorSys
	}
	return o
}

// trusted says whether any export lets an address in.
func (s *Server) trusted(a netip.AddrPort) bool {
	p, o := s.Policy(), s.originAt(a, onc.AuthSys)
	return slices.ContainsFunc(p.Exports, func(e *site.PublishedExport) bool { return access.MayMount(p, e, &o) })
}

// comesIn is trusted for the connection of a call, of which that is remembered.
func (s *Server) comesIn(c *onc.Call) bool {
	p, at := s.Policy(), &heard(c.Conn).trust
	if t := at.Load(); t != nil && t.policy == p && c.Began.Before(t.until) {
		return t.is
	}
	is := s.trusted(c.Conn.Remote)
	at.Store(&trust{p, is, c.Began.Add(guestFor)})
	return is
}

// guestFor is how long a guest is remembered before its host's names are looked up again.
const guestFor = time.Minute

type guestKey struct {
	export   int64
	flavor   uint32
	uid, gid uint32
	groups   string
}

type knownGuest struct {
	*files.Guest
	about *meter.Of
	until time.Time
}

// guests are those of one connection.
type guests struct {
	mu sync.Mutex
	by map[guestKey]knownGuest
}

const mostGuests = 1024 // of a connection; beyond, they are made anew each time

// guest is the caller as a guest of an export.
func (s *Server) guest(c *onc.Call, export int64) *files.Guest {
	var groups []byte
	for _, g := range c.Cred.Groups {
		groups = binary.BigEndian.AppendUint32(groups, g)
	}
	key := guestKey{export, c.Cred.Flavor, c.Cred.UID, c.Cred.GID, string(groups)}
	v, ok := c.Conn.Data.Load(guestsOf)
	if !ok {
		v, _ = c.Conn.Data.LoadOrStore(guestsOf, &guests{by: make(map[guestKey]knownGuest)})
	}
	gs := v.(*guests)
	gs.mu.Lock()
	defer gs.mu.Unlock()
	now := c.Began
	if g, ok := gs.by[key]; ok && now.Before(g.until) {
		c.Note = g.about
		return g.Guest
	}
	said := posix.Credential{UID: c.Cred.UID, GID: c.Cred.GID, Groups: c.Cred.Groups}
	if c.Cred.Flavor != onc.AuthSys {
		said = posix.Credential{UID: site.Anonymous, GID: site.Anonymous}
	}
	g := &files.Guest{Export: export, Origin: s.origin(c.Conn, c.Cred.Flavor), Said: said, Trial: c.Conn.Trial}
	if len(gs.by) >= mostGuests {
		clear(gs.by)
	}
	about := s.about(c, export, g)
	gs.by[key] = knownGuest{g, about, now.Add(guestFor)}
	c.Note = about
	if client := heard(c.Conn).client.Load(); client != nil {
		client.came.add(key, g)
	}
	return g
}

// numbersAt are the numbers of the client's host, where they are wanted; nil where they are the records'.
func (s *Server) numbersAt(c *onc.Call, wanted bool) *site.HostNumbers {
	p := s.Policy()
	if !wanted || len(p.NumberMaps) == 0 {
		return nil
	}
	o := s.origin(c.Conn, c.Cred.Flavor)
	numbers, _ := p.NumbersAt(&o) // who is not sure of their own arrives as nobody
	return numbers
}

// here makes a client's numbers, nil for none, those of the records; false where one is nobody's.
func here(h *site.HostNumbers, uid, gid *uint32) bool {
	good := true
	if uid != nil {
		*uid, good = h.UserHere(*uid)
	}
	if gid != nil {
		n, known := h.GroupHere(*gid)
		*gid, good = n, good && known
	}
	return good
}

type connKey int

const (
	guestsOf connKey = iota
	heardOf
)

// mountable lists the exports that an origin may mount, in the order of their paths' records.
func (s *Server) mountable(o *site.Origin) []*site.PublishedExport {
	p := s.Policy()
	var out []*site.PublishedExport
	for _, e := range p.Exports {
		if access.MayMount(p, e, o) {
			out = append(out, e)
		}
	}
	return out
}

// seal gives the handle of an object found through an export.
func (s *Server) seal(export int64, o *files.Object) []byte {
	return s.handles.seal(handle{export, o.Key()})
}
