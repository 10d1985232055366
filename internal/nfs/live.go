package nfs

import (
	"cmp"
	"maps"
	"math"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/live"
	"amber.example/gatekeeper/internal/onc"
)

// What is there is called by what it is and a number that goes up: a client of version 4, a connection of version 3, a handle.
const (
	clientPrefix = "nfs-c"
	connPrefix   = "nfs-h"
	openPrefix   = "nfs-"
)

func numbered(prefix string, n uint64) string { return prefix + strconv.FormatUint(n, 10) }

// number is that of an ID; false for one that begins otherwise.
func number(prefix, id string) (uint64, bool) {
	digits, ok := strings.CutPrefix(id, prefix)
	n, err := strconv.ParseUint(digits, 10, 64)
	return n, ok && err == nil
}

// hearing is what is known of who speaks on a connection.
type hearing struct {
	own    live.Traffic // of version 3, and of version 4 before it is said by whom
	three  atomic.Bool  // version 3 was spoken
	client atomic.Pointer[client4]
	trust  atomic.Pointer[trust]
}

// trust is what trusted said of an address by a policy.
type trust struct {
	policy *site.Policy
	is     bool
	until  time.Time // hosts may be called otherwise then
}

func heard(c *onc.Conn) *hearing {
	v, ok := c.Data.Load(heardOf)
	if !ok {
		v, _ = c.Data.LoadOrStore(heardOf, new(hearing))
	}
	return v.(*hearing)
}

func (h *hearing) traffic() *live.Traffic {
	if c := h.client.Load(); c != nil {
		return &c.traffic
	}
	return &h.own
}

// stateRevoked is SEQ4_STATUS_ADMIN_STATE_REVOKED, RFC 8881 section 18.46.3.
const stateRevoked = 0x20

// happened is what SEQUENCE says of a client's state.
func (c *client4) happened() (flags uint32) {
	for _, flag := range c.revoked {
		flags |= flag
	}
	return flags
}

// mostRevoked is of how many stateids of a client it is remembered that they were revoked; the others are unknown.
const mostRevoked = 1 << 16

// revoke takes an open file away from a client with the locks on it (RFC 8881 section 8.5). The caller holds mu.
func (st *state) revoke(o *open4) {
	for _, l := range o.locks {
		o.client.note(l.other, stateRevoked)
	}
	o.client.note(o.other, stateRevoked)
	st.closeOpen(o)
}

func (c *client4) note(other [12]byte, flag uint32) {
	if len(c.revoked) < mostRevoked {
		c.revoked[other] = flag
	}
}

// visitors are the guests that came by a client.
type visitors struct {
	mu sync.Mutex
	by map[guestKey]*files.Guest
}

func (v *visitors) add(key guestKey, g *files.Guest) {
	v.mu.Lock()
	defer v.mu.Unlock()
	if v.by == nil || len(v.by) >= mostGuests {
		v.by = make(map[guestKey]*files.Guest)
	}
	v.by[key] = g
}

func (v *visitors) all() []*files.Guest {
	v.mu.Lock()
	defer v.mu.Unlock()
	return slices.Collect(maps.Values(v.by))
}

// guestsOn are those that came on a connection.
func guestsOn(c *onc.Conn) (out []*files.Guest) {
	v, ok := c.Data.Load(guestsOf)
	if !ok {
		return nil
	}
	gs := v.(*guests)
	gs.mu.Lock()
	defer gs.mu.Unlock()
	for _, g := range gs.by {
		out = append(out, g.Guest)
	}
	return out
}

// whoAre gives the people that guests are, each person and number once, and through which exports they came.
func (s *Server) whoAre(guests []*files.Guest) (who []live.Person, through []string) {
	p := s.Policy()
	for _, g := range guests {
		e := p.Export(g.Export)
		if e == nil {
			continue
		}
		through = append(through, e.Path)
		one := s.Files.Person(g)
		if !slices.ContainsFunc(who, func(have live.Person) bool { return have.User == one.User && *have.UID == *one.UID }) {
			who = append(who, one)
		}
	}
	slices.SortFunc(who, func(a, b live.Person) int { return cmp.Compare(*a.UID, *b.UID) })
	slices.Sort(through)
	return who, slices.Compact(through)
}

// connsOf gives the connections by client of version 4, and those on which version 3 is spoken. What the service tries by itself is none.
func (s *Server) connsOf() (four map[*client4][]*onc.Conn, three []*onc.Conn) {
	four = make(map[*client4][]*onc.Conn)
	for _, c := range s.rpc.Conns() {
		if c.Trial {
			continue
		}
		h := heard(c)
		if h.three.Load() {
			three = append(three, c)
		}
		if of := h.client.Load(); of != nil {
			four[of] = append(four[of], c)
		}
	}
	return four, three
}

// Sessions is live.Door's.
func (s *Server) Sessions() []live.Session {
	_, three := s.connsOf()
	locked := s.locks.opens()
	var out []live.Session
	for _, c := range three {
		is := live.Session{ID: numbered(connPrefix, c.Number), Via: site.NFS, Version: "3", Address: c.Remote.Addr().String(), Since: c.Since, Count: heard(c).own.Count()}
		is.Who, is.Through = s.whoAre(guestsOn(c))
		for _, o := range locked {
			if o.host == c.Remote.Addr() {
				is.Opens++
				is.Locks += len(o.is.Locks)
			}
		}
		out = append(out, is)
	}
	st := s.state
	st.mu.Lock()
	at := len(out)
	var clients []*client4
	for _, c := range st.clients {
		if !c.confirmed {
			continue
		}
		clients = append(clients, c)
		is := live.Session{ID: numbered(clientPrefix, c.number), Via: site.NFS, Version: "4." + strconv.Itoa(int(c.minor)), Address: c.address.String(),
			Since: c.since, Count: c.traffic.Count(), Opens: len(c.opens) + len(c.delegations)}
		for _, o := range c.opens {
			is.Locks += len(o.live().Locks)
		}
		out = append(out, is)
	}
	st.unlock()
	for i, c := range clients {
		out[at+i].Who, out[at+i].Through = s.whoAre(c.came.all())
	}
	return out
}

// live is the open as the files package has it. The caller holds mu.
func (o *open4) live() live.Open {
	owners := make([]any, 0, len(o.locks))
	for owner := range o.locks {
		owners = append(owners, owner)
	}
	is := o.file.Live(owners...)
	is.ID, is.Session, is.Via, is.Address = numbered(openPrefix, o.file.Number()), numbered(clientPrefix, o.client.number), site.NFS, o.client.address.String()
	return is
}

// Opens is live.Door's.
func (s *Server) Opens() []live.Open {
	var out []live.Open
	st := s.state
	st.mu.Lock()
	var by []*files.Guest
	for _, c := range st.clients {
		for _, o := range c.opens {
			out = append(out, o.live())
			by = append(by, o.by)
		}
		for _, d := range c.delegations {
			is := d.live()
			is.Delegated = true
			out = append(out, is)
			by = append(by, d.by)
		}
	}
	st.unlock()
	for i, g := range by {
		out[i].Who = s.Files.Person(g)
	}
	for _, o := range s.locks.opens() {
		out = append(out, o.is)
	}
	return out
}

// EndSession is live.Door's. A client of version 4 has its state revoked (RFC 8881 section 8.5) and its connections closed; of version 3 the
// connection is closed, and the locks of its host are given up once it has no other. Either may come back where it still may.
func (s *Server) EndSession(id string) bool {
	four, three := s.connsOf()
	if n, ok := number(connPrefix, id); ok {
		i := slices.IndexFunc(three, func(c *onc.Conn) bool { return c.Number == n })
		if i < 0 {
			return false
		}
		c := three[i]
		c.End()
		host := c.Remote.Addr()
		if !slices.ContainsFunc(three, func(other *onc.Conn) bool { return other != c && other.Remote.Addr() == host }) {
			s.locks.freeHost(host)
		}
		s.Log.Info("connection ended by an administrator", "client", c.Remote)
		return true
	}
	n, ok := number(clientPrefix, id)
	if !ok {
		return false
	}
	c := s.state.revokeAll(n)
	if c == nil {
		return false
	}
	for _, conn := range four[c] {
		conn.End()
	}
	s.Log.Info("client ended by an administrator", "client", c.address)
	return true
}

// revokeAll takes away all that a client has open and locked; nil where there is no such client.
func (st *state) revokeAll(number uint64) *client4 {
	st.mu.Lock()
	defer st.unlock()
	for _, c := range st.clients {
		if c.number == number && c.confirmed {
			for _, o := range c.opens {
				st.revoke(o)
			}
			st.endDelegations(c, true)
			return c
		}
	}
	return nil
}

// CloseOpen is live.Door's: of version 4 its stateid is revoked, of version 3 the locks are given up.
func (s *Server) CloseOpen(id string) bool {
	n, ok := number(openPrefix, id)
	return ok && (s.state.revokeOpen(n) || s.locks.giveUp(n))
}

func (st *state) revokeOpen(number uint64) bool {
	st.mu.Lock()
	defer st.unlock()
	for _, c := range st.clients {
		for _, o := range c.opens {
			if o.file.Number() == number {
				st.revoke(o)
				return true
			}
		}
		for _, d := range c.delegations {
			if d.file.Number() == number {
				st.takeDelegation(d)
				return true
			}
		}
	}
	return false
}

// lockedOpen is a file that a host of version 3 has locks on, or holds open with SHARE.
type lockedOpen struct {
	is   live.Open
	host netip.Addr
}

func (m *lockManager) opens() []lockedOpen {
	m.mu.Lock()
	defer m.mu.Unlock()
	var out []lockedOpen
	add := func(key nlmFile, f *files.Handle, owners ...any) {
		is := f.Live(owners...)
		is.ID, is.Via, is.Address = numbered(openPrefix, f.Number()), site.NFS, key.host.String()
		out = append(out, lockedOpen{is, key.host})
	}
	for key, f := range m.files {
		var owners []any
		for owner := range m.owners[key] {
			owners = append(owners, owner)
		}
		add(key, f, owners...)
	}
	for key, by := range m.shares {
		for _, f := range by {
			add(key, f)
		}
	}
	return out
}

// giveUp gives up what is locked by a handle, or held open with it.
func (m *lockManager) giveUp(number uint64) bool {
	m.mu.Lock()
	var found *files.Handle
	for key, f := range m.files {
		if f.Number() != number {
			continue
		}
		for owner := range m.owners[key] {
			_ = f.UnlockRange(owner, 0, math.MaxUint64)
		}
		found = f
		delete(m.files, key)
		delete(m.owners, key)
	}
	var key nlmFile
	var owner nlmOwner
	for k, by := range m.shares {
		for o, f := range by {
			if f.Number() == number {
				found, key, owner = f, k, o
			}
		}
	}
	m.mu.Unlock()
	if found == nil {
		return false
	}
	if owner != (nlmOwner{}) {
		found = m.letGo(key, owner)
	}
	if found != nil {
		found.Close()
	}
	return true
}

// Stirs is live.Door's: connections that end are among it.
func (s *Server) Stirs() uint64 { return s.stirs.Load() + s.rpc.Ended() }

// Via is live.Door's.
func (s *Server) Via() string { return "NFS" }

// Load is live.Door's.
func (s *Server) Load() live.Load {
	conns := s.rpc.Conns()
	out := live.Load{Connections: len(conns), Caches: []live.Cache{s.replies.looks.Cache("NFS answers kept"), s.Files.Kept()}}
	for _, c := range conns {
		out.Working += c.Working()
	}
	return out
}
