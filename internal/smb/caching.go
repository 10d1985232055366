package smb

import (
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/smb/message"
)

// What clients may cache (leases, and the oplocks of old ones), and what stays open for them while they have no connection (durable handles).

// leaseID is what a lease is known by: clients choose keys, each for itself.
type leaseID struct{ client, key [16]byte }

// createID is what a create is known by, where its client says that it will ask again if it gets no answer.
type createID struct{ client, create [16]byte }

// cached is a lease of a client, or the oplock of one open.
type cached struct {
	srv    *Server
	id     leaseID // of a lease
	second bool    // a lease of the second version
	parent [16]byte
	oplock *open        // whose oplock it is; nil for a lease
	lease  *files.Lease // fixed once it is found by others

	opens map[*open]struct{} // guarded by Server.cacheMu
	owed  *files.Break       // what a client that has no connection is told when it comes back; guarded by Server.cacheMu
}

// wants is what a create asks to be allowed to cache.
type wants struct {
	lease   *message.Lease
	id      leaseID
	oplock  files.Caching
	durable *durable
}

// durable is how an open stays while its client has no connection.
type durable struct {
	second     bool
	create     createID // by which the client knows that it is the one it made; with the second
	timeout    time.Duration
	persistent bool // while the service is started anew, too
}

const (
	durableTime = 60 * time.Second // where the client leaves it to the server
	longestTime = 5 * time.Minute
	mostOrphans = 4096 // opens that are kept for clients that have no connection
)

// wanted reads it.
func (r *request) wanted(m *message.CreateRequest) (w wants, status Status) {
	switch m.Oplock {
	case message.OplockShared:
		w.oplock = files.CacheRead
	case message.OplockExclusive:
		w.oplock = files.CacheRead | files.CacheWrite
	case message.OplockBatch:
		w.oplock = files.CacheRead | files.CacheWrite | files.CacheHandle
	}
	if data, ok := m.Context(message.ContextLease); ok && m.Oplock == message.OplockLease {
		w.lease = new(message.Lease)
		if w.lease.Parse(data) != nil || w.lease.Second && r.c.dialect < dialect30 {
			return w, statusInvalidParameter
		}
		w.id = leaseID{r.c.client.ClientGUID, w.lease.Key}
	}
	if data, ok := m.Context(message.ContextDurableV2); ok && r.c.dialect >= dialect30 {
		var d message.DurableV2
		if d.Parse(data) != nil {
			return w, statusInvalidParameter
		}
		w.durable = &durable{second: true, create: createID{r.c.client.ClientGUID, d.Create}, timeout: durableTime}
		if d.Timeout != 0 {
			w.durable.timeout = min(time.Duration(d.Timeout)*time.Millisecond, longestTime)
		}
		w.durable.persistent = d.Flags&message.DurablePersistent != 0
	} else if _, ok := m.Context(message.ContextDurable); ok {
		w.durable = &durable{timeout: durableTime}
	}
	return w, statusOK
}

// key is by which files know what it may cache of one file; nil where it asks for no lease.
func (w *wants) key() any {
	if w.lease == nil {
		return nil
	}
	return w.id
}

// parentKey is by which files know what it caches of the directory in which it opens something; nil where it does not say.
func (w *wants) parentKey() any {
	if w.lease == nil || !w.lease.Second || w.lease.Flags&message.LeaseHasParent == 0 {
		return nil
	}
	return leaseID{w.id.client, w.lease.Parent}
}

// cache lets an open's client cache what it asked for as far as it may, and says so in the answer. It is false where the client uses the key of
// a lease for another file.
func (r *request) cache(o *open, w *wants, out *message.CreateResponse) bool {
	if o.handle == nil || r.c.late.Load() {
		return true
	}
	if o.handle.Dir() && (w.lease == nil || !w.lease.Second) { // of directories, only leases of the second version are
		return true
	}
	var c *cached
	switch {
	case w.lease != nil:
		if c = r.c.srv.shareLease(o, w.id, w.lease.Second, w.lease.Parent, files.Caching(w.lease.State&7)); c == nil {
			return false
		}
	case w.oplock != 0:
		c = r.c.srv.giveOplock(o, w.oplock)
		if state, _, _ := c.lease.Now(); state&files.CacheWrite == 0 { // an oplock of level II keeps nothing open
			c.lease.Waive(files.CacheHandle)
		}
	default:
		return true
	}
	c.say(out)
	return true
}

// shareLease makes an open one of a lease, which it makes where there is none; nil where its client has that key for another file.
func (s *Server) shareLease(o *open, id leaseID, second bool, parent [16]byte, want files.Caching) *cached {
	s.cacheMu.Lock()
	defer s.cacheMu.Unlock()
	c := s.leases[id]
	if c != nil && !c.lease.Same(o.handle) {
		return nil
	}
	if c == nil {
		c = &cached{srv: s, id: id, second: second, parent: parent, opens: make(map[*open]struct{})}
		s.leases[id] = c
	}
	c.opens[o] = struct{}{}
	o.cache = c
	if l := o.handle.Cache(id, want, c.tell); c.lease != l {
		c.lease = l
	}
	return c
}

// giveOplock gives an open an oplock.
func (s *Server) giveOplock(o *open, want files.Caching) *cached {
	c := &cached{srv: s, oplock: o, opens: map[*open]struct{}{o: {}}}
	s.cacheMu.Lock()
	defer s.cacheMu.Unlock()
	o.cache = c
	c.lease = o.handle.Cache(o, want, c.tell)
	return c
}

// outlast has an open stay while its client has no connection, if it asks for that and may: where it caches that it has it open, or on a share on
// which what is open outlasts the service itself.
func (r *request) outlast(o *open, w *wants, out *message.CreateResponse) {
	if w.durable == nil || o.handle == nil || o.handle.Dir() || o.handle.Linked() || r.c.trial != nil || r.sess.guest {
		return
	}
	s, d := r.c.srv, *w.durable
	d.persistent = d.persistent && r.c.persists(s.Policy().ShareNamed(r.tree.share)) && s.writeDown(o, r.c, &d)
	if !d.persistent && !o.keptOpen() {
		return
	}
	o.durable.Store(&d)
	d.say(out)
	if d.second {
		s.cacheMu.Lock()
		s.creates[d.create] = o
		s.cacheMu.Unlock()
	}
	if o.cache != nil {
		o.cache.remember(o)
	}
}

// keptOpen says whether its client caches that it has it open, and is not to give that back.
func (o *open) keptOpen() bool {
	if o.cache == nil {
		return false
	}
	state, broken, _ := o.cache.lease.Now()
	return state&files.CacheHandle != 0 && !broken
}

// say puts in an answer what may be cached now.
func (c *cached) say(out *message.CreateResponse) {
	state, broken, epoch := c.lease.Now()
	if c.oplock != nil {
		out.Oplock = levelOf(state)
		return
	}
	l := message.Lease{Second: c.second, Key: c.id.key, State: uint32(state), Parent: c.parent, Epoch: epoch}
	if c.second && c.parent != [16]byte{} {
		l.Flags |= message.LeaseHasParent
	}
	if broken {
		l.Flags |= message.LeaseBreaking
	}
	out.Oplock = message.OplockLease
	out.Contexts = append(out.Contexts, message.CreateContext{Name: message.ContextLease, Data: l.Append(nil)})
}

// say puts in an answer that an open is durable.
func (d *durable) say(out *message.CreateResponse) {
	if d.second {
		flags := uint32(0)
		if d.persistent {
			flags = message.DurablePersistent
		}
		out.Contexts = append(out.Contexts, message.DurableV2Granted(uint32(d.timeout/time.Millisecond), flags))
	} else {
		out.Contexts = append(out.Contexts, message.DurableGranted())
	}
}

func levelOf(c files.Caching) byte {
	switch c {
	case files.CacheRead:
		return message.OplockShared
	case files.CacheRead | files.CacheWrite:
		return message.OplockExclusive
	case files.CacheRead | files.CacheWrite | files.CacheHandle:
		return message.OplockBatch
	}
	return message.OplockNone
}

// tell asks for caching to be given back, MS-SMB2 sections 3.3.4.6 and 3.3.4.7: over any connection of the client. What is open for a client that has none
// is closed: nobody could answer; what outlasts even the service is told of when its client comes back.
func (c *cached) tell(b files.Break) bool {
	s, o := c.connected()
	if b.Late {
		if s != nil { // it made others wait once, and is not to again and again
			s.conn.late.Store(true)
			s.conn.log.Info("a client did not give back what it caches in time: it caches nothing more over this connection", "user", s.name)
		}
		return true
	}
	if s == nil {
		return c.abandon(b)
	}
	var rep *reply
	if c.oplock != nil {
		level := byte(message.OplockNone)
		if b.To&files.CacheRead != 0 {
			level = message.OplockShared
		}
		rep = answer(&message.OplockBreakMessage{Level: level, ID: o.fileID()})
	} else {
		n := message.LeaseBreakNotification{Key: c.id.key, Now: uint32(b.From), New: uint32(b.To)}
		if c.second {
			n.Epoch = b.Epoch
		}
		if b.Answer {
			n.Flags = message.LeaseMustAnswer
		}
		rep = answer(&n)
	}
	rep.h = message.Header{Command: message.OplockBreak, Flags: message.FlagResponse, MessageID: ^uint64(0)}
	if s.sealing != nil && s.sealing.used.Load() {
		rep.seal = s
	}
	s.conn.transmit([]*reply{rep})
	return true
}

// connected gives a session of the client by which it can be told, and an open of it.
func (c *cached) connected() (*session, *open) {
	c.srv.cacheMu.Lock()
	defer c.srv.cacheMu.Unlock()
	for o := range c.opens {
		if s := o.sess.Load(); s != nil && s.conn.ctx.Err() == nil {
			return s, o
		}
	}
	return nil, nil
}

// abandon closes what is kept for a client that has no connection; it is true where some of it outlasts that, and the client is told later.
func (c *cached) abandon(b files.Break) (later bool) {
	c.srv.cacheMu.Lock()
	var kept []*open
	for o := range c.opens {
		switch {
		case o.sess.Load() != nil:
		case o.persistent():
			c.owed, later = &b, true
		default:
			kept = append(kept, o)
		}
	}
	c.srv.cacheMu.Unlock()
	for _, o := range kept {
		c.srv.dropOrphan(o.id, o)
	}
	return later
}

// settleUp tells a client that has come back what it is still to give back.
func (c *cached) settleUp() {
	c.srv.cacheMu.Lock()
	owed := c.owed
	c.owed = nil
	c.srv.cacheMu.Unlock()
	if owed == nil {
		return
	}
	// After the answer that gives it back: before that the client knows of nothing that it could give.
	time.AfterFunc(owedAfter, func() {
		if _, broken, _ := c.lease.Now(); broken {
			c.tell(*owed)
		}
	})
}

const owedAfter = 100 * time.Millisecond

// uncache is for an open that is closed.
func (o *open) uncache() {
	s, d := o.srv, o.durable.Load()
	if o.cache == nil && d == nil {
		return
	}
	s.cacheMu.Lock()
	defer s.cacheMu.Unlock()
	if c := o.cache; c != nil {
		delete(c.opens, o)
		if len(c.opens) == 0 && c.oplock == nil && s.leases[c.id] == c {
			delete(s.leases, c.id)
		}
	}
	if d != nil && d.second && s.creates[d.create] == o {
		delete(s.creates, d.create)
	}
}

// breakAnswer is MS-SMB2 section 3.3.5.22: a client says what it still caches.
func (r *request) breakAnswer() (*reply, error) {
	var lease message.LeaseBreakAnswer
	if lease.Parse(r.raw) == nil {
		s := r.c.srv
		s.cacheMu.Lock()
		c := s.leases[leaseID{r.c.client.ClientGUID, lease.Key}]
		s.cacheMu.Unlock()
		if c == nil {
			return nil, statusObjectNameNotFound
		}
		switch c.lease.Answer(files.Caching(lease.State & 7)) {
		case files.ErrNotBreaking:
			return nil, statusUnsuccessful
		case files.ErrCaching:
			return nil, statusRequestNotAccepted
		}
		c.remember(nil)
		return answer(&lease), nil
	}
	var m message.OplockBreakMessage
	if m.Parse(r.raw) != nil {
		return nil, statusInvalidParameter
	}
	o := r.sess.find(m.ID.Volatile)
	if o == nil {
		return nil, statusFileClosed
	}
	if o.cache == nil || o.cache.oplock != o {
		return nil, statusInvalidParameter
	}
	to := files.Caching(0)
	if m.Level == message.OplockShared {
		to = files.CacheRead
	} else if m.Level != message.OplockNone {
		return nil, statusInvalidParameter
	}
	if err := o.cache.lease.Answer(to); err != nil {
		return nil, statusInvalidOplockProtocol
	}
	return answer(&m), nil
}

// orphan is an open that is kept for a client that has no connection.
type orphan struct {
	o      *open
	user   identity.ID
	client [16]byte
	number uint64 // of the session it had
	from   string
	over   *time.Timer
}

// detach closes what the session has open, but for what is kept for its client to come back to (MS-SMB2 section 3.3.7.1).
func (s *session) detach() {
	for _, o := range s.shut() {
		if o.durable.Load() == nil || o.handle == nil || !s.conn.srv.keepOrphan(s, o) {
			o.close()
		}
	}
}

func (s *Server) keepOrphan(of *session, o *open) bool {
	if !o.persistent() && !o.keptOpen() {
		return false
	}
	o.sess.Store(nil)
	return s.adopt(&orphan{o: o, user: of.user, client: of.conn.client.ClientGUID, number: of.number, from: of.conn.address})
}

// adopt keeps an open for its client for as long as was agreed, if there is room for it.
func (s *Server) adopt(a *orphan) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.stopped || len(s.orphans) >= mostOrphans {
		return false
	}
	a.over = time.AfterFunc(a.o.durable.Load().timeout, func() { s.dropOrphan(a.o.id, a.o) })
	s.orphans[a.o.id] = a
	return true
}

// dropOrphan closes an open that is kept, if it still is.
func (s *Server) dropOrphan(id uint64, o *open) bool {
	s.mu.Lock()
	kept := s.orphans[id]
	if kept == nil || o != nil && kept.o != o {
		s.mu.Unlock()
		return false
	}
	delete(s.orphans, id)
	s.mu.Unlock()
	kept.over.Stop()
	kept.o.close()
	return true
}

// reconnect gives a client back what was kept for it, MS-SMB2 sections 3.3.5.9.7 and 3.3.5.9.12: to the same person, by the same key, on the
// same share. It is false where the request asks for none.
func (r *request) reconnect(m *message.CreateRequest) (rep *reply, asked bool, err error) {
	data, second := m.Context(message.ContextReconnectV2)
	if !second {
		if data, asked = m.Context(message.ContextReconnect); !asked {
			return nil, false, nil
		}
	}
	var by message.Reconnect
	w, status := r.wanted(m)
	if by.Parse(data) != nil || by.Second != second || status != statusOK {
		return nil, true, statusInvalidParameter
	}
	s := r.c.srv
	s.mu.Lock()
	kept := s.orphans[by.ID.Persistent]
	switch {
	case kept == nil:
		status = statusObjectNameNotFound
	case kept.user != r.sess.user:
		status = statusAccessDenied
	case kept.o.tree.share != r.tree.share, kept.o.durable.Load().second != second,
		second && kept.o.durable.Load().create.create != by.Create, kept.client != r.c.client.ClientGUID:
		status = statusObjectNameNotFound
	case !kept.o.cache.fits(&w):
		status = statusObjectNameNotFound
	}
	if status != statusOK {
		s.mu.Unlock()
		r.c.log.Info("what was open before the connection broke is not given back",
			"user", r.sess.name, "share", r.tree.share, "why", status.Error(), "kept", kept != nil)
		return nil, true, status
	}
	delete(s.orphans, by.ID.Persistent)
	s.mu.Unlock()
	kept.over.Stop()
	o := kept.o
	o.whence.by.Store(r.c)
	info, err := o.handle.StatChecked(0)
	if err == nil && r.attach(o) != statusOK {
		err = statusInsufficientResources
	}
	if err != nil {
		o.close()
		return nil, true, err
	}
	r.c.log.Info("what was open before the connection broke is given back", "user", r.sess.name, "share", r.tree.share, "path", o.handle.Path())
	out := openedAs(o, files.Opened, factsOf(info))
	if o.cache != nil {
		o.cache.say(&out)
		o.cache.settleUp()
	}
	return answer(&out), true, nil
}

// fits says whether a client that comes back knows what it cached by the same key.
func (c *cached) fits(w *wants) bool {
	switch {
	case c == nil:
		return w.lease == nil
	case c.oplock != nil:
		return w.lease == nil
	}
	return w.lease != nil && w.id == c.id
}

// again answers a create that was answered before, if its client says that it does not know: MS-SMB2 section 3.3.5.9.10.
func (r *request) again(w *wants) (rep *reply, asked bool, err error) {
	if w.durable == nil || !w.durable.second {
		return nil, false, nil
	}
	s := r.c.srv
	s.cacheMu.Lock()
	made := s.creates[w.durable.create]
	s.cacheMu.Unlock()
	switch {
	case made == nil || made.sess.Load() != r.sess:
		return nil, false, nil
	case r.h.Flags&message.FlagReplay == 0:
		return nil, true, statusDuplicateObjectID
	case made.tree != r.tree || !made.cache.fits(w):
		return nil, true, statusAccessDenied
	}
	info, err := made.handle.StatChecked(0)
	if err != nil {
		return nil, true, err
	}
	out := openedAs(made, files.Opened, factsOf(info))
	if made.cache != nil {
		made.cache.say(&out)
	}
	made.durable.Load().say(&out)
	r.link.fileID, r.link.hasFile = made.id, true
	return answer(&out), true, nil
}
