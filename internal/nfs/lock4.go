package nfs

import (
	"errors"
	"math"

	"amber.example/gatekeeper/internal/files"
)

// Locks, RFC 8881 sections 18.10 to 18.12.

const (
	lockRead   = 1
	lockWrite  = 2
	lockReadW  = 3 // and ready to wait: the client asks again
	lockWriteW = 4
)

func lockRange(kind uint32, offset, length uint64) (files.Range, status4) {
	r := files.Range{Offset: offset, Length: length, Exclusive: kind == lockWrite || kind == lockWriteW}
	switch {
	case kind < lockRead || kind > lockWriteW, length == 0:
		return r, err4Inval
	case length == math.MaxUint64:
		r.Length = math.MaxUint64 - offset // to the end of the file, wherever that will be
		if r.Length == 0 {
			return r, err4Inval
		}
	case offset+length < offset:
		return r, err4Inval
	}
	return r, ok4
}

// putDenied writes LOCK4denied.
func (q *compound) putDenied(h *files.Held) {
	q.w.Uint64(h.Offset)
	if h.Offset+h.Length == math.MaxUint64 {
		q.w.Uint64(math.MaxUint64)
	} else {
		q.w.Uint64(h.Length)
	}
	kind := uint32(lockRead)
	if h.Exclusive {
		kind = lockWrite
	}
	q.w.Uint32(kind)
	if o, ok := h.By.(*lockOwner); ok {
		q.w.Uint64(o.client.id)
		q.w.Opaque(o.name)
		return
	}
	q.w.Uint64(0) // of another protocol
	q.w.String("other")
}

func (st *state) locker(c *client4, name string) (*lockOwner, status4) {
	if o := c.lockers[name]; o != nil {
		return o, ok4
	}
	if !st.moreOwners(c) {
		return nil, exhausted(c.minor, err4Delay)
	}
	o := &lockOwner{client: c, name: []byte(name)}
	c.lockers[name] = o
	return o, ok4
}

func (q *compound) lock() status4 {
	kind, reclaim := q.r.Uint32(), q.r.Bool()
	offset, length := q.r.Uint64(), q.r.Uint64()
	fresh := q.r.Bool()
	var openSeq, lockSeq uint32
	var id stateID
	var clientID uint64
	var name string
	if fresh {
		openSeq, id, lockSeq = q.r.Uint32(), q.readStateID(), q.r.Uint32()
		clientID, name = q.r.Uint64(), q.r.String(longestOwner)
	} else {
		id, lockSeq = q.readStateID(), q.r.Uint32()
	}
	if q.r.Err() != nil {
		return err4BadXDR
	}
	id, s := q.given(id)
	if s != ok4 {
		return s
	}
	r, s := lockRange(kind, offset, length)
	st := q.s.state
	st.mu.Lock()
	defer st.unlock()
	o, l, found := st.lookUp(q.client, q.Conn.Remote.Addr(), id)
	if o != nil { // what has to be asked of a disk for it is asked while nobody waits for mu
		file := o.file
		st.mu.Unlock()
		file.Settle()
		st.mu.Lock()
		o, l, found = st.lookUp(q.client, q.Conn.Remote.Addr(), id)
	}
	if o == nil || found != ok4 && found != err4OldStateID || fresh == (l != nil) {
		if found == ok4 {
			found = err4BadStateID
		}
		return found
	}
	if !q.opener(o) {
		return err4Access
	}
	do := func(owner *lockOwner) status4 {
		if s != ok4 {
			return s
		}
		grace := st.inGrace()
		switch {
		case reclaim && (!grace || !st.reclaiming[ownerKey(o.client.minor, o.client.owner)]):
			return err4NoGrace
		case !reclaim && grace:
			return err4Grace
		case r.Exclusive && o.access&shareWrite == 0, !r.Exclusive && o.access&shareRead == 0:
			return err4OpenMode
		}
		o.client.renew()
		held, _, err := o.file.LockRange(owner, r)
		if held != nil {
			q.putDenied(held)
			return err4Denied
		}
		if errors.Is(err, files.ErrNoSpace) {
			return exhausted(o.client.minor, err4Delay)
		}
		if err != nil {
			return q.fail(err)
		}
		lk := o.locks[owner]
		if lk == nil {
			lk = &lock4{other: st.other(), open: o, owner: owner}
			o.locks[owner] = lk
			o.client.locks[lk.other] = lk
		}
		lk.seq++
		q.putStateID(stateID{lk.seq, lk.other})
		q.stateid, q.hasState = stateID{lk.seq, lk.other}, true
		return ok4
	}
	if !fresh {
		return q.ordered(&l.owner.seqOwner, lockSeq, func() status4 { return do(l.owner) })
	}
	if q.minor == 0 && clientID != o.client.id {
		return err4BadStateID
	}
	return q.ordered(&o.owner.seqOwner, openSeq, func() status4 {
		owner, s := st.locker(o.client, name)
		if s != ok4 {
			return s
		}
		if !owner.known {
			owner.known, owner.seq = true, lockSeq
		}
		owner.seq = lockSeq
		return do(owner)
	})
}

func (q *compound) lockT() status4 {
	kind, offset, length := q.r.Uint32(), q.r.Uint64(), q.r.Uint64()
	clientID, name := q.r.Uint64(), q.r.String(longestOwner)
	if q.r.Err() != nil {
		return err4BadXDR
	}
	r, s := lockRange(kind, offset, length)
	if s != ok4 {
		return s
	}
	if q.inPseudo(q.current) {
		return err4IsDir
	}
	st := q.s.state
	st.mu.Lock()
	if q.minor == 1 {
		clientID = q.client.id
	}
	c, s := st.client(clientID, q.minor, q.Conn.Remote.Addr())
	if s == ok4 && st.inGrace() {
		s = err4Grace
	}
	var owner *lockOwner
	if c != nil {
		owner = c.lockers[name]
	}
	st.unlock()
	if s != ok4 {
		return s
	}
	v, found, _, err := q.s.visit(q.Call, files.Working, q.current)
	if err != nil {
		return q.fail(err)
	}
	defer v.End()
	held, err := found[0].TestRange(owner, r)
	if err != nil {
		return q.fail(err)
	}
	if held != nil {
		q.putDenied(held)
		return err4Denied
	}
	return ok4
}

func (q *compound) lockU() status4 {
	kind, seq, id := q.r.Uint32(), q.r.Uint32(), q.readStateID()
	offset, length := q.r.Uint64(), q.r.Uint64()
	if q.r.Err() != nil {
		return err4BadXDR
	}
	id, s := q.given(id)
	if s != ok4 {
		return s
	}
	r, s := lockRange(max(kind, lockRead), offset, length)
	st := q.s.state
	st.mu.Lock()
	defer st.unlock()
	_, l, found := st.lookUp(q.client, q.Conn.Remote.Addr(), id)
	if l == nil {
		if found == ok4 {
			found = err4BadStateID
		}
		return found
	}
	if !q.opener(l.open) {
		return err4Access
	}
	return q.ordered(&l.owner.seqOwner, seq, func() status4 {
		switch {
		case found != ok4:
			return found
		case s != ok4:
			return s
		}
		l.open.client.renew()
		if err := l.open.file.UnlockRange(l.owner, r.Offset, r.Length); err != nil {
			return q.fail(err)
		}
		l.seq++
		q.putStateID(stateID{l.seq, l.other})
		q.stateid, q.hasState = stateID{l.seq, l.other}, true
		return ok4
	})
}

func (q *compound) releaseLockOwner() status4 {
	id, name := q.r.Uint64(), q.r.String(longestOwner)
	st, s := q.begin()
	if s != ok4 {
		return s
	}
	defer st.unlock()
	c, s := st.client(id, 0, q.Conn.Remote.Addr())
	if s != ok4 {
		return s
	}
	owner := c.lockers[name]
	if owner == nil {
		return ok4
	}
	for other, l := range c.locks {
		if l.owner != owner {
			continue
		}
		if l.open.file.HasLocks(owner) {
			return err4LocksHeld
		}
		delete(l.open.locks, owner)
		delete(c.locks, other)
	}
	delete(c.lockers, name)
	st.fewerOwners(c, 1)
	return ok4
}
