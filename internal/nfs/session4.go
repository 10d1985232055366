package nfs

import (
	"crypto/rand"
	"hash/maphash"
	"net/netip"
	"slices"
	"time"

	"amber.example/gatekeeper/internal/onc"
)

// renew notes that a client is there.
func (c *client4) renew() { c.renewed = time.Now() }

// begin gives the state, locked, where the arguments were whole. The caller lets it go by unlock.
func (q *compound) begin() (*state, status4) {
	if q.r.Err() != nil {
		return nil, err4BadXDR
	}
	q.s.state.mu.Lock()
	return q.s.state, ok4
}

// Version 4.0: RFC 7530 sections 16.29, 16.33 and 16.34.

func (q *compound) renew() status4 {
	id := q.r.Uint64()
	st := q.s.state
	st.mu.Lock()
	defer st.unlock()
	c, s := st.client(id, 0, q.Conn.Remote.Addr())
	if s == ok4 {
		heard(q.Conn).client.Store(c)
	}
	return s
}

// client finds a confirmed client and renews its lease. The caller holds mu. The number of a client of
// version 4.0 is no secret, and counts only from its address.
func (st *state) client(id uint64, minor uint32, from netip.Addr) (*client4, status4) {
	c := st.clients[id]
	switch {
	case c == nil && uint32(id>>32) != st.boot, c != nil && (!c.confirmed || c.minor != minor || minor == 0 && c.address != from):
		return nil, err4StaleClientID
	case c == nil:
		return nil, err4Expired
	}
	c.renew()
	return c, ok4
}

func (q *compound) setClientID() status4 {
	var verifier [8]byte
	copy(verifier[:], q.r.Fixed(8))
	owner := q.r.Opaque(longestOwner)
	q.r.Uint32()             // the callback's program: nothing is ever called back
	q.r.String(longestOwner) // its network
	q.r.String(longestOwner) // its address
	q.r.Uint32()
	st, s := q.begin()
	if s != ok4 {
		return s
	}
	defer st.unlock()
	old := st.byOwner[ownerKey(0, owner)]
	if st.inUse(old, q.Conn.Remote.Addr()) {
		q.w.String("tcp") // who has it
		q.w.String(old.address.String())
		return err4ClidInUse
	}
	for _, c := range st.clients { // an earlier try of the same
		if !c.confirmed && c.minor == 0 && c.address == q.Conn.Remote.Addr() && string(c.owner) == string(owner) {
			st.end(c)
		}
	}
	c, s := st.addClient(0, owner, verifier, q.Conn.Remote.Addr())
	if s != ok4 {
		return s
	}
	if old != nil && old.verifier == verifier && old.address == q.Conn.Remote.Addr() {
		// The same client, with another callback perhaps: its number stays, so does what it has.
		delete(st.clients, c.id)
		c = old
		c.renew()
	}
	rand.Read(c.confirm[:])
	q.w.Uint64(c.id)
	q.w.Fixed(c.confirm[:])
	return ok4
}

func (q *compound) setClientIDConfirm() status4 {
	id := q.r.Uint64()
	var confirm [8]byte
	copy(confirm[:], q.r.Fixed(8))
	st, s := q.begin()
	if s != ok4 {
		return s
	}
	defer st.unlock()
	c := st.clients[id]
	if c == nil || c.minor != 0 || c.address != q.Conn.Remote.Addr() || c.confirm != confirm {
		return err4StaleClientID
	}
	if !c.confirmed && st.inUse(st.byOwner[ownerKey(0, c.owner)], c.address) {
		return err4ClidInUse
	}
	c.renew()
	if !c.confirmed {
		st.confirmClient(c)
	}
	heard(q.Conn).client.Store(c)
	return ok4
}

// inUse says whether a client is there and not at an address. A name is told to whoever listens, and its verifier
// with it: a client that is there is not taken over from another host (RFC 8881 section 18.35.4).
func (st *state) inUse(c *client4, from netip.Addr) bool {
	return c != nil && c.address != from && (len(c.opens) > 0 || c.sessions > 0 && time.Since(c.renewed) < st.s.Lease)
}

// Version 4.1: RFC 8881 section 18.35 and those after it.

const (
	exchangeUpdate    = 0x40000000
	exchangeConfirmed = 0x80000000
	exchangeNonPNFS   = 0x00010000
	exchangeKnown     = 0x00000103 | 0x00070000 | exchangeUpdate
)

func (q *compound) exchangeID() status4 {
	var verifier [8]byte
	copy(verifier[:], q.r.Fixed(8))
	owner := q.r.Opaque(longestOwner)
	flags, protect := q.r.Uint32(), q.r.Uint32()
	if q.r.Err() != nil {
		return err4BadXDR
	}
	if protect != 0 { // SP4_NONE: there is no flavour to protect state with
		return err4Inval
	}
	for range q.r.Count(1, 4) { // what the client is called is nobody's business
		q.r.Opaque(longestOwner)
		q.r.Opaque(longestOwner)
		q.r.Uint64()
		q.r.Uint32()
	}
	if q.r.Err() != nil {
		return err4BadXDR
	}
	if flags&^exchangeKnown != 0 {
		return err4Inval
	}
	st := q.s.state
	st.mu.Lock()
	defer st.unlock()
	old := st.byOwner[ownerKey(1, owner)]
	var c *client4
	var s status4
	from := q.Conn.Remote.Addr()
	if st.inUse(old, from) {
		return err4ClidInUse
	}
	if old != nil && old.address != from {
		old = nil // it begins anew, and takes the other's place when it is confirmed
	}
	switch {
	case flags&exchangeUpdate != 0:
		switch {
		case old == nil:
			return err4NoEnt
		case old.verifier != verifier:
			return err4NotSame
		}
		c = old
	case old != nil && old.verifier == verifier:
		c = old
	default: // a new client, or one that has started anew
		for _, other := range st.clients {
			if !other.confirmed && other.minor == 1 && other.address == from && string(other.owner) == string(owner) {
				st.end(other)
			}
		}
		if c, s = st.addClient(1, owner, verifier, from); s != ok4 {
			return s
		}
	}
	c.renew()
	answer := uint32(exchangeNonPNFS)
	if c.confirmed {
		answer |= exchangeConfirmed
	}
	q.w.Uint64(c.id)
	q.w.Uint32(c.sequence + 1)
	q.w.Uint32(answer)
	q.w.Uint32(0) // SP4_NONE
	name := st.identity()
	q.w.Uint64(0)
	q.w.Opaque(name)
	q.w.Opaque(name)
	q.w.Uint32(0)
	return ok4
}

// channel is channel_attrs4.
type channel struct {
	pad, maxRequest, maxResponse, maxCached, maxOps, maxRequests uint32
	rdma                                                         int
}

func (q *compound) readChannel() channel {
	c := channel{pad: q.r.Uint32(), maxRequest: q.r.Uint32(), maxResponse: q.r.Uint32(), maxCached: q.r.Uint32(), maxOps: q.r.Uint32(), maxRequests: q.r.Uint32()}
	if c.rdma = q.r.Count(1, 4); c.rdma == 1 {
		q.r.Uint32()
	}
	return c
}

func (q *compound) putChannel(c channel) {
	for _, v := range []uint32{0, c.maxRequest, c.maxResponse, c.maxCached, c.maxOps, c.maxRequests, 0} {
		q.w.Uint32(v)
	}
}

func (q *compound) createSession() status4 {
	id, sequence := q.r.Uint64(), q.r.Uint32()
	flags := q.r.Uint32() // nothing persists
	fore, back := q.readChannel(), q.readChannel()
	program := q.r.Uint32()
	cred, callable, s := q.readCallbackSecurity()
	if s != ok4 {
		return s
	}
	if fore.maxRequest < 512 || fore.maxResponse < 512 || fore.maxRequests == 0 || fore.maxOps == 0 {
		return err4TooSmall
	}
	st := q.s.state
	st.mu.Lock()
	defer st.unlock()
	c := st.clients[id]
	if c == nil || c.minor != 1 {
		return err4StaleClientID
	}
	switch {
	case c.address != q.Conn.Remote.Addr(): // before all else: what was answered to another host is not told again
		return err4ClidInUse
	case sequence == c.sequence && c.created != nil: // asked again
		q.w.B = append(q.w.B, c.created...)
		return ok4
	case sequence != c.sequence+1:
		return err4SeqMisordered
	case c.sessions >= mostSessions:
		return err4NoSpc
	case !c.confirmed && st.inUse(st.byOwner[ownerKey(1, c.owner)], c.address):
		return err4ClidInUse
	}
	if !c.confirmed {
		st.confirmClient(c)
	}
	c.renew()
	c.sequence++
	c.sessions++
	fore.maxRequest = min(fore.maxRequest, onc.MostData+32<<10)
	fore.maxResponse = min(fore.maxResponse, onc.MostData+32<<10)
	fore.maxCached = min(fore.maxCached, mostCached)
	fore.maxOps = min(fore.maxOps, mostOps)
	fore.maxRequests = min(fore.maxRequests, mostSlots)
	se := &session4{id: st.sessionID(), client: c, slots: make([]slot4, fore.maxRequests), longest: fore.maxResponse, ops: fore.maxOps}
	st.sessions[se.id] = se
	flags &= sessionBackChannel
	if flags != 0 && callable && back.enough() {
		se.back.begin(q.Conn, program, cred, back)
		c.called = append(c.called, se)
	} else {
		flags = 0
	}
	at := q.w.Len()
	q.w.Fixed(se.id[:])
	q.w.Uint32(sequence)
	q.w.Uint32(flags)
	q.putChannel(fore)
	q.putChannel(back)
	c.created = append([]byte{}, q.w.B[at:]...)
	return ok4
}

var slotSeed = maphash.MakeSeed()

// sequence is SEQUENCE (RFC 8881 section 18.46): it finds the slot and, where the request was
// answered before, puts that answer in place of the whole compound from start on.
func (q *compound) sequence(start int) status4 {
	var id [16]byte
	copy(id[:], q.r.Fixed(16))
	seq, slot, highest := q.r.Uint32(), q.r.Uint32(), q.r.Uint32()
	cache := q.r.Bool()
	if q.r.Err() != nil {
		return err4BadXDR
	}
	rest := q.r.Rest()
	sum := maphash.Bytes(slotSeed, rest[:min(len(rest), 4096)]) ^ uint64(len(rest))
	st := q.s.state
	st.mu.Lock()
	defer st.unlock()
	se := st.session(id, q.Conn.Remote.Addr())
	if se == nil {
		return err4BadSession
	}
	if slot >= uint32(len(se.slots)) {
		return err4BadSlot
	}
	if uint32(q.ops) > se.ops {
		return err4TooManyOps
	}
	s := &se.slots[slot]
	switch {
	case s.busy && seq == s.seq:
		return err4Delay
	case seq == s.seq && s.sum != sum:
		return err4SeqFalseRetry
	case seq == s.seq && !s.kept:
		return err4RetryUncachedRep
	case seq == s.seq:
		q.session = se
		q.w.B = append(q.w.B[:start], s.answer...)
		return errReplay
	case seq != s.seq+1 || s.busy:
		return err4SeqMisordered
	}
	s.seq, s.busy, s.sum, s.kept = seq, true, sum, false
	q.session, q.slot, q.cache, q.client = se, slot, cache, se.client
	se.client.renew()
	heard(q.Conn).client.Store(se.client)
	q.w.Fixed(id[:])
	q.w.Uint32(seq)
	q.w.Uint32(slot)
	q.w.Uint32(uint32(len(se.slots)) - 1)
	q.w.Uint32(min(max(highest, uint32(len(se.slots))-1), uint32(len(se.slots))-1))
	q.w.Uint32(se.client.happened() | se.pathDown())
	return ok4
}

// slotDone keeps the answer of a compound for when it is asked again. What could be done again without
// harm, and is long, is not kept unless the client wanted it.
func (st *state) slotDone(q *compound, answer []byte) {
	st.mu.Lock()
	defer st.unlock()
	s := &q.session.slots[q.slot]
	s.busy = false
	if len(answer) <= mostCached && (q.cache || len(answer) <= 1024) {
		s.answer, s.kept = append(s.answer[:0], answer...), true
	}
}

func (q *compound) destroySession() status4 {
	var id [16]byte
	copy(id[:], q.r.Fixed(16))
	st, s := q.begin()
	if s != ok4 {
		return s
	}
	defer st.unlock()
	se := st.session(id, q.Conn.Remote.Addr())
	if se == nil {
		return err4BadSession
	}
	se.client.sessions--
	se.client.called = slices.DeleteFunc(se.client.called, func(x *session4) bool { return x == se })
	delete(st.sessions, id)
	return ok4
}

func (q *compound) bindConn() status4 {
	var id [16]byte
	copy(id[:], q.r.Fixed(16))
	direction := q.r.Uint32()
	q.r.Bool()
	st, s := q.begin()
	if s != ok4 {
		return s
	}
	defer st.unlock()
	se := st.session(id, q.Conn.Remote.Addr())
	if se == nil {
		return err4BadSession
	}
	switch {
	case direction != bindFore && direction != bindBack && direction != bindBoth && direction != bindBackOrBoth:
		return err4Inval
	case direction == bindFore || !se.back.wanted:
		direction = bindFore
	default:
		se.back.conn = q.Conn
		direction = min(direction, bindBoth)
	}
	q.w.Fixed(id[:])
	q.w.Uint32(direction)
	q.w.Bool(false)
	return ok4
}

func (q *compound) destroyClientID() status4 {
	id := q.r.Uint64()
	st, s := q.begin()
	if s != ok4 {
		return s
	}
	defer st.unlock()
	c := st.clients[id]
	switch {
	case c == nil || c.minor != 1 || c.address != q.Conn.Remote.Addr():
		return err4StaleClientID
	case c.sessions > 0 || len(c.opens) > 0 || len(c.delegations) > 0:
		return err4ClientIDBusy
	}
	st.end(c)
	return ok4
}

func (q *compound) reclaimComplete() status4 {
	one := q.r.Bool() // of one file system: then there is nothing to note
	if q.r.Err() != nil {
		return err4BadXDR
	}
	if one {
		return ok4
	}
	st := q.s.state
	st.mu.Lock()
	defer st.unlock()
	if q.client.reclaimed {
		return err4CompleteAlready
	}
	q.client.reclaimed = true
	key := ownerKey(1, q.client.owner)
	if st.reclaiming[key] {
		delete(st.reclaiming, key)
		if !q.client.recorded { // it had nothing left to reclaim
			st.forget([]byte(key))
		}
	}
	st.inGrace()
	return ok4
}

func (q *compound) backchannelCtl() status4 {
	program := q.r.Uint32()
	cred, callable, s := q.readCallbackSecurity()
	if s != ok4 {
		return s
	}
	st := q.s.state
	st.mu.Lock()
	defer st.unlock()
	if b := &q.session.back; b.wanted && callable {
		b.program, b.cred = program, cred
	}
	return ok4
}

func (q *compound) freeStateID() status4 {
	id := q.readStateID()
	st, s := q.begin()
	if s != ok4 {
		return s
	}
	defer st.unlock()
	if l := q.client.locks[id.other]; l != nil {
		if l.open.file.HasLocks(l.owner) {
			return err4LocksHeld
		}
		delete(q.client.locks, id.other)
		delete(l.open.locks, l.owner)
		return ok4
	}
	if q.client.opens[id.other] != nil || q.client.delegations[id.other] != nil {
		return err4LocksHeld
	}
	if _, was := q.client.revoked[id.other]; was {
		delete(q.client.revoked, id.other)
		return ok4
	}
	return err4BadStateID
}

func (q *compound) testStateID() status4 {
	n := q.r.Count(1024, 16)
	ids := make([]stateID, n)
	for i := range ids {
		ids[i] = q.readStateID()
	}
	st, s := q.begin()
	if s != ok4 {
		return s
	}
	defer st.unlock()
	q.w.Uint32(uint32(n))
	for _, id := range ids {
		_, _, s := st.lookUp(q.client, q.Conn.Remote.Addr(), id)
		switch d := q.client.delegations[id.other]; {
		case d != nil && id.seq <= d.seq:
			s = ok4
		case q.client.revoked[id.other] == stateRecallableRevoked:
			s = err4DelegRevoked
		}
		q.w.Uint32(uint32(s))
	}
	return ok4
}
