package nfs

import (
	"errors"
	"math"
	"net/netip"

	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/onc"
)

// Special stateids, RFC 8881 section 8.2.3.
var (
	anonymousID    = stateID{}
	bypassID       = stateID{math.MaxUint32, [12]byte{255, 255, 255, 255, 255, 255, 255, 255, 255, 255, 255, 255}}
	currentStateID = stateID{seq: 1}
)

func special(id stateID) bool { return id == anonymousID || id == bypassID }

// lookUp finds what a stateid names: an open file, and the lock if it is of that kind. The caller
// holds mu. In version 4.0, where no session says which client it is, it is one at that address: what a
// host has open is of no use to another.
func (st *state) lookUp(c *client4, from netip.Addr, id stateID) (*open4, *lock4, status4) {
	if c == nil {
		for _, other := range st.clients {
			_, revoked := other.revoked[id.other]
			if other.minor == 0 && other.address == from && (revoked || other.opens[id.other] != nil || other.locks[id.other] != nil) {
				c = other
				break
			}
		}
	}
	var boot [4]byte
	copy(boot[:], id.other[:4])
	if c == nil {
		if uint32(boot[0])<<24|uint32(boot[1])<<16|uint32(boot[2])<<8|uint32(boot[3]) != st.boot {
			return nil, nil, err4StaleStateID
		}
		return nil, nil, err4BadStateID
	}
	check := func(seq uint32) status4 {
		switch {
		case id.seq == 0 && c.minor == 1 || id.seq == seq:
			return ok4
		case id.seq > seq:
			return err4BadStateID
		}
		return err4OldStateID
	}
	if o := c.opens[id.other]; o != nil {
		return o, nil, check(o.seq)
	}
	if l := c.locks[id.other]; l != nil {
		return l.open, l, check(l.seq)
	}
	if _, revoked := c.revoked[id.other]; revoked {
		return nil, nil, err4AdminRevoked
	}
	return nil, nil, err4BadStateID
}

// given is the stateid that is meant: in version 4.1 a special one stands for the current.
func (q *compound) given(id stateID) (stateID, status4) {
	if q.minor == 1 && id == currentStateID {
		if !q.hasState {
			return id, err4BadStateID
		}
		return q.stateid, ok4
	}
	return id, ok4
}

// find finds the open file that a stateid of an operation names, and renews the client's lease.
func (q *compound) find(id stateID) (*open4, status4) {
	id, s := q.given(id)
	if s != ok4 {
		return nil, s
	}
	st := q.s.state
	st.mu.Lock()
	defer st.unlock()
	o, _, s := st.lookUp(q.client, q.Conn.Remote.Addr(), id)
	if s == err4BadStateID && q.client != nil {
		if d := q.client.delegations[id.other]; d != nil && id.seq <= d.seq {
			o, s = &d.open4, ok4
		}
	}
	if s == err4OldStateID { // reading and writing may be under way while it moves on
		s = ok4
	}
	if s != ok4 {
		return nil, s
	}
	h, _ := q.s.handles.open(q.current)
	if o.fh != h {
		return nil, err4BadStateID
	}
	o.client.renew()
	return o, ok4
}

// opener says whether the caller is who opened a file. A stateid is no secret among the people of one host, so
// what one has open is of no use to another: what they read and write by it is judged as theirs.
func (q *compound) opener(o *open4) bool {
	return q.s.Files.SamePerson(o.by, q.s.guest(q.Call, o.fh.export))
}

// ordered runs an operation of version 4.0 in the order of its owner's requests: the one before is
// answered as it was, others but the next are refused (RFC 7530 section 9.1.7). The caller holds mu
// and fn gives it up only where it takes it again.
func (q *compound) ordered(owner *seqOwner, seq uint32, fn func() status4) status4 {
	if q.minor == 1 {
		return fn()
	}
	switch {
	case owner.known && seq == owner.seq && owner.answer != nil:
		st := status4(uint32(owner.answer[0])<<24 | uint32(owner.answer[1])<<16 | uint32(owner.answer[2])<<8 | uint32(owner.answer[3]))
		q.w.B = append(q.w.B, owner.answer[4:]...)
		return st
	case owner.known && seq != owner.seq+1:
		return err4BadSeqID
	}
	at := q.w.Len()
	s := fn()
	switch s { // these do not count
	case err4StaleClientID, err4StaleStateID, err4BadStateID, err4BadSeqID, err4BadXDR, err4Resource, err4NoFileHandle:
		return s
	}
	owner.known, owner.seq = true, seq
	keep := onc.Writer{}
	keep.Uint32(uint32(s))
	owner.answer = append(keep.B, q.w.B[at:]...)
	return s
}

// Claims of OPEN, RFC 8881 section 18.16.
const (
	claimNull     = 0
	claimPrevious = 1
	claimFH       = 4

	// By who has the file delegated.
	claimDelegateCur   = 2
	claimDelegateCurFH = 5
)

type openArgs struct {
	seq, access, deny uint32
	clientID          uint64
	owner             string
	create            bool
	how               uint32 // as CREATE of version 3, and 3 for exclusive with attributes
	set               files.Set
	which             bitmap
	verifier          files.Verifier
	claim             uint32
	name              string
	want              uint32  // of delegations
	delegation        stateID // by which it is claimed
}

func (q *compound) readOpen() (a openArgs, st status4) {
	a.seq, a.access, a.deny = q.r.Uint32(), q.r.Uint32(), q.r.Uint32()
	a.clientID, a.owner = q.r.Uint64(), q.r.String(longestOwner)
	a.create = q.r.Uint32() == 1
	var err error
	if a.create {
		a.how = q.r.Uint32()
		switch a.how {
		case unchecked, guarded:
			a.set, a.which, err = q.readNewSet4()
		case exclusive:
			copy(a.verifier[:], q.r.Fixed(8))
		case 3:
			if q.minor == 0 {
				return a, err4Inval
			}
			copy(a.verifier[:], q.r.Fixed(8))
			a.set, a.which, err = q.readNewSet4()
		default:
			return a, err4BadXDR
		}
	}
	if err != nil {
		return a, q.fail(err)
	}
	a.claim = q.r.Uint32()
	switch a.claim {
	case claimNull:
		var s status4
		if a.name, s = q.name(); s != ok4 {
			return a, s
		}
	case claimPrevious:
		if q.r.Uint32() > 2 { // a delegation, which none has any more
			return a, err4BadXDR
		}
	case claimDelegateCur, claimDelegateCurFH:
		if q.minor == 0 {
			return a, err4ReclaimBad
		}
		if a.delegation = q.readStateID(); a.claim == claimDelegateCur {
			var s status4
			if a.name, s = q.name(); s != ok4 {
				return a, s
			}
		}
	case claimFH:
		if q.minor == 0 {
			return a, err4Inval
		}
	default:
		return a, err4NotSupp
	}
	if q.r.Err() != nil {
		return a, err4BadXDR
	}
	if q.minor == 1 {
		a.want, a.access = a.access&wantMask, a.access&0xff
	}
	if a.access == 0 || a.access > 3 || a.deny > 3 {
		return a, err4Inval
	}
	if a.create && a.claim != claimNull {
		return a, err4Inval
	}
	return a, ok4
}

func (q *compound) open() status4 {
	a, s := q.readOpen()
	if s == err4BadXDR {
		return s
	}
	if q.minor == 1 {
		a.clientID = q.session.client.id
	}
	st := q.s.state
	st.mu.Lock()
	defer st.unlock()
	c, cs := st.client(a.clientID, q.minor, q.Conn.Remote.Addr())
	if cs != ok4 {
		return cs
	}
	heard(q.Conn).client.Store(c)
	owner := c.owners[a.owner]
	if owner == nil {
		if !st.moreOwners(c) {
			return exhausted(c.minor, err4NoSpc)
		}
		owner = &openOwner{client: c}
		c.owners[a.owner] = owner
	}
	owner.opening++
	defer func() {
		if owner.opening--; q.minor > 0 { // nothing is to be remembered of who opened nothing, as there are no sequence numbers
			st.forgetOwner(c, a.owner)
		}
	}()
	if q.minor == 0 && !owner.confirmed && owner.known && a.seq != owner.seq {
		*owner = openOwner{client: c} // never confirmed: it begins anew (RFC 7530 section 16.18.5)
	}
	return q.ordered(&owner.seqOwner, a.seq, func() status4 {
		if s != ok4 {
			return s
		}
		return q.openAs(c, owner, a)
	})
}

// openAs opens a file for an owner. The caller holds mu, which is given up meanwhile.
func (q *compound) openAs(c *client4, owner *openOwner, a openArgs) status4 {
	st := q.s.state
	grace := st.inGrace()
	reclaim := a.claim == claimPrevious
	switch {
	case reclaim && (!grace || !st.reclaiming[ownerKey(c.minor, c.owner)]):
		return err4NoGrace
	case !reclaim && grace:
		return err4Grace
	case q.minor == 1 && !reclaim && !c.reclaimed:
		return err4Grace // RECLAIM_COMPLETE comes first (RFC 8881 section 18.51.3)
	case st.open >= st.mostOpen:
		return exhausted(c.minor, err4NoSpc)
	}
	if err := st.record(c); err != nil {
		return q.fail(err)
	}
	may := st.mayDelegate(q, c, a)
	st.mu.Unlock()
	r, err := q.openFile(owner, a, may)
	st.mu.Lock()
	if err != nil {
		if errors.Is(err, files.ErrIsDirectory) {
			return err4IsDir
		}
		return q.fail(err)
	}
	file, h := r.file, r.handle
	undo := func() {
		st.doomed = append(st.doomed, file)
		if r.delegation != nil {
			st.closeDelegation(r.delegation)
		}
	}
	if st.clients[c.id] != c { // its lease ran out meanwhile
		undo()
		return err4Expired
	}
	o := c.openBy[openKey{owner, h}]
	if o != nil && !q.opener(o) { // an owner is one person's
		undo()
		return err4Access
	}
	if a.claim == claimDelegateCur || a.claim == claimDelegateCurFH {
		if d := c.delegated[h]; d == nil || d.other != a.delegation.other {
			undo()
			return err4BadStateID
		}
	}
	if o == nil {
		o = &open4{other: st.other(), client: c, owner: owner, by: q.s.guest(q.Call, h.export), fh: h, file: file, access: a.access, deny: a.deny, locks: make(map[*lockOwner]*lock4)}
		c.opens[o.other], c.openBy[openKey{owner, h}] = o, o
		owner.opens++
		st.open++
	} else {
		// Opened again: it is one open file with all that was asked for.
		o.access |= a.access
		o.deny |= a.deny
		st.replaceFile(q, o, file)
	}
	o.seq++
	id := stateID{o.seq, o.other}
	q.putStateID(id)
	q.cinfo(r.before, r.after)
	flags := uint32(4) // OPEN4_RESULT_LOCKTYPE_POSIX
	if q.minor == 0 && !owner.confirmed {
		flags |= 2 // OPEN4_RESULT_CONFIRM
	}
	q.w.Uint32(flags)
	if r.made {
		putBitmap(q.w, a.which)
	} else {
		putBitmap(q.w, bitmap{})
	}
	if r.delegation != nil {
		st.enter(r.delegation)
	}
	q.putDelegation(r.delegation)
	q.setCurrent(q.s.handles.seal(h))
	q.stateid, q.hasState = id, true
	return ok4
}

// replaceFile keeps, of two handles of one owner on one file, the one that can do all that the owner
// asked for.
func (st *state) replaceFile(q *compound, o *open4, file *files.Handle) {
	if had := o.file.Granted(); had&file.Granted() == file.Granted() {
		st.doomed = append(st.doomed, file)
		o.file.Narrow(maskOf(o.access), sharingOf(o.deny))
		return
	}
	st.doomed = append(st.doomed, o.file)
	o.file = file
	file.Narrow(maskOf(o.access), sharingOf(o.deny))
}

// opened4 is a file that was opened.
type opened4 struct {
	file          *files.Handle
	handle        handle
	before, after *files.Attributes // of the directory, or of the file where that is not known
	made          bool
	delegation    *delegation4 // nil for none
}

// openFile does what an OPEN asks on disk: the current handle is the directory or, where a claim says
// so, the file itself. may says whether the client may have the file delegated.
func (q *compound) openFile(owner *openOwner, a openArgs, may bool) (r opened4, err error) {
	if q.inPseudo(q.current) {
		if a.create {
			return r, err4ROFS
		}
		return r, err4IsDir
	}
	v, found, export, err := q.s.visit(q.Call, files.Working, q.current)
	if err != nil {
		return r, err
	}
	defer v.End()
	o := found[0]
	r.before = now3(o)
	r.after = r.before
	// An owner who has the file open already asks for more of it: the one handle must do it all.
	req := files.OpenRequest{Access: maskOf(a.access), Sharing: sharingOf(a.deny), Holder: owner}
	if a.claim == claimNull || a.claim == claimDelegateCur {
		dir := o
		if !dir.Dir() {
			if dir.Symlink() {
				return r, err4Symlink
			}
			return r, err4NotDir
		}
		if a.create {
			if o, err = q.openNew(&r, dir, req, a); err != nil && !errors.Is(err, files.ErrExists) {
				return r, err
			}
		}
		if !a.create || err != nil && a.how != guarded {
			if o, err = dir.Lookup(a.name); err != nil {
				return r, err
			}
			if a.create && a.how >= exclusive && !o.MadeBy(a.verifier) {
				return r, files.ErrExists
			}
		}
		if err != nil {
			return r, err
		}
		r.after = now3(dir)
	}
	r.handle = handle{export, o.Key()}
	if r.made {
		return r, nil
	}
	if o.Symlink() {
		return r, err4Symlink
	}
	if r.file, err = o.Open(q.widened(owner, export, o, req)); err != nil {
		if errors.Is(err, files.ErrInvalid) && q.minor == 1 {
			err = err4WrongType
		}
		return r, err
	}
	if a.create && a.how == unchecked && a.set.Size != nil && *a.set.Size == 0 {
		if err = r.file.Truncate(0); err != nil {
			_ = r.file.Drop()
			return r, err
		}
		may = false
	}
	if may {
		r.delegation = q.delegate(owner.client, owner, export, o)
	}
	return r, nil
}

// openNew makes the file that an OPEN asks for: ErrExists where something is there.
func (q *compound) openNew(r *opened4, dir *files.Object, req files.OpenRequest, a openArgs) (*files.Object, error) {
	set := a.set
	size := set.Size
	set.Size = nil
	h, o, err := dir.OpenNew(a.name, req, set)
	if err != nil {
		return nil, err
	}
	if a.how >= exclusive {
		err = o.SetVerifier(a.verifier)
	}
	if err == nil && size != nil && *size > 0 && *size < math.MaxInt64 {
		err = h.Truncate(int64(*size))
	}
	if err != nil {
		_ = h.Discard()
		return nil, err
	}
	r.file, r.made = h, true
	return o, nil
}

// widened is a request that asks for what its owner has of the file already, besides.
func (q *compound) widened(owner *openOwner, export int64, o *files.Object, req files.OpenRequest) files.OpenRequest {
	st := q.s.state
	st.mu.Lock()
	defer st.mu.Unlock()
	if have := owner.client.openBy[openKey{owner, handle{export, o.Key()}}]; have != nil {
		req.Access |= maskOf(have.access)
		req.Sharing &= sharingOf(have.deny)
	}
	return req
}

func (q *compound) openConfirm() status4 {
	id, seq := q.readStateID(), q.r.Uint32()
	st, s := q.begin()
	if s != ok4 {
		return s
	}
	defer st.unlock()
	o, l, s := st.lookUp(q.client, q.Conn.Remote.Addr(), id)
	if s != ok4 && s != err4OldStateID || l != nil {
		return err4BadStateID
	}
	if !q.opener(o) {
		return err4Access
	}
	return q.ordered(&o.owner.seqOwner, seq, func() status4 {
		o.owner.confirmed = true
		o.seq++
		o.client.renew()
		q.putStateID(stateID{o.seq, o.other})
		return ok4
	})
}

// opened finds, for CLOSE and what is like it, the open file of a stateid, and runs fn in order.
func (q *compound) opened(id stateID, seq uint32, fn func(o *open4) status4) status4 {
	if q.r.Err() != nil {
		return err4BadXDR
	}
	id, s := q.given(id)
	if s != ok4 {
		return s
	}
	st := q.s.state
	st.mu.Lock()
	defer st.unlock()
	o, l, s := st.lookUp(q.client, q.Conn.Remote.Addr(), id)
	if l != nil {
		return err4BadStateID
	}
	if o == nil {
		return s
	}
	if !q.opener(o) {
		return err4Access
	}
	return q.ordered(&o.owner.seqOwner, seq, func() status4 {
		if s != ok4 {
			return s
		}
		o.client.renew()
		return fn(o)
	})
}

func (q *compound) close() status4 {
	seq, id := q.r.Uint32(), q.readStateID()
	return q.opened(id, seq, func(o *open4) status4 {
		o.seq++
		q.s.state.closeOpen(o)
		q.putStateID(stateID{math.MaxUint32, [12]byte{}})
		q.hasState = false
		return ok4
	})
}

func (q *compound) openDowngrade() status4 {
	id, seq := q.readStateID(), q.r.Uint32()
	access, deny := q.r.Uint32(), q.r.Uint32()
	return q.opened(id, seq, func(o *open4) status4 {
		if q.minor == 1 {
			access &= 0xff
		}
		if access == 0 || access&^o.access != 0 || deny&^o.deny != 0 {
			return err4Inval
		}
		o.access, o.deny = access, deny
		o.file.Narrow(maskOf(access), sharingOf(deny))
		o.seq++
		q.putStateID(stateID{o.seq, o.other})
		q.stateid, q.hasState = stateID{o.seq, o.other}, true
		return ok4
	})
}
