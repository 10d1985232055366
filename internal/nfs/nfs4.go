package nfs

import (
	"bytes"
	"math"
	"time"
	"unicode/utf8"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/onc"
)

// Operations of version 4, RFC 8881 section 16.2.
const (
	opAccess             = 3
	opClose              = 4
	opCommit             = 5
	opCreate             = 6
	opDelegReturn        = 8
	opGetAttr            = 9
	opGetFH              = 10
	opLink               = 11
	opLock               = 12
	opLockT              = 13
	opLockU              = 14
	opLookup             = 15
	opLookupP            = 16
	opNVerify            = 17
	opOpen               = 18
	opOpenConfirm        = 20 // 4.0
	opOpenDowngrade      = 21
	opPutFH              = 22
	opPutPubFH           = 23
	opPutRootFH          = 24
	opRead               = 25
	opReadDir            = 26
	opReadLink           = 27
	opRemove             = 28
	opRename             = 29
	opRenew              = 30 // 4.0
	opRestoreFH          = 31
	opSaveFH             = 32
	opSecInfo            = 33
	opSetAttr            = 34
	opSetClientID        = 35 // 4.0
	opSetClientIDConfirm = 36 // 4.0
	opVerify             = 37
	opWrite              = 38
	opReleaseLockOwner   = 39 // 4.0
	opBackchannelCtl     = 40 // and all that follows 4.1
	opBindConn           = 41
	opExchangeID         = 42
	opCreateSession      = 43
	opDestroySession     = 44
	opFreeStateID        = 45
	opSecInfoNoName      = 52
	opSequence           = 53
	opTestStateID        = 55
	opDestroyClientID    = 57
	opReclaimComplete    = 58
	opLast               = 58
	opIllegal            = 10044
)

const (
	mostOps      = 128 // of one compound
	longestTag   = 1024
	longestName4 = 4096
)

// compound is one call of version 4: its operations one after the other, with a current file handle.
type compound struct {
	*onc.Call
	s     *Server
	w     *onc.Writer
	r     *onc.Reader
	minor uint32

	current, saved     []byte // nil for none
	parsed             handle // what current says, once it has been opened
	isParsed           bool
	visiting           *files.Visit  // goes on from one operation to the next, as long as those only look
	object             *files.Object // the current one, where it was found by that visit
	stateid, savedID   stateID
	hasState, hasSaved bool

	session *session4
	slot    uint32
	cache   bool // the answer is to be kept
	client  *client4
	ops     int
	moved   moved // by the operation that is being done
}

// stateID is a stateid4.
type stateID struct {
	seq   uint32
	other [12]byte
}

func (q *compound) readStateID() (id stateID) {
	id.seq = q.r.Uint32()
	copy(id.other[:], q.r.Fixed(12))
	return id
}

func (q *compound) putStateID(id stateID) {
	q.w.Uint32(id.seq)
	q.w.Fixed(id.other[:])
}

func (s *Server) serve4(c *onc.Call, w *onc.Writer) onc.AcceptStat {
	switch c.Procedure {
	case 0:
		return onc.Success
	case 1:
	default:
		return onc.ProcUnavail
	}
	if c.Cred.Flavor != onc.AuthSys || !s.comesIn(c) {
		return onc.Weak // such a host learns nothing
	}
	all := c.Args.Rest()
	tag := c.Args.Opaque(longestTag)
	q := &compound{Call: c, s: s, w: w, r: c.Args, minor: c.Args.Uint32()}
	n := c.Args.Uint32()
	if c.Args.Err() != nil {
		return onc.GarbageArgs
	}
	start := w.Len()
	header := func(st status4) {
		w.Uint32(uint32(st))
		w.Opaque(tag)
	}
	switch {
	case q.minor > 1:
		header(err4MinorVersMismatch)
		w.Uint32(0)
		return onc.Success
	case n > mostOps:
		st := err4Resource
		if q.minor == 1 {
			st = err4TooManyOps
		}
		header(st)
		w.Uint32(0)
		return onc.Success
	case !utf8.Valid(tag):
		header(err4Inval)
		w.Uint32(0)
		return onc.Success
	}
	q.ops = int(n)
	var key replyKey
	repeatable := q.minor == 0 && len(all) <= 8<<10
	if repeatable {
		var fresh bool
		var reply []byte
		if key, fresh, reply = s.replies.begin(c.Conn.Remote, c.XID, 1, all); !fresh {
			if reply == nil {
				return onc.Drop
			}
			w.B = append(w.B, reply...)
			return onc.Success
		}
	}
	header(ok4)
	count := w.Len()
	w.Uint32(0)
	done, st := q.run(int(n), start)
	heard(c.Conn).traffic().Did()
	if q.session != nil && st == errReplay {
		return onc.Success // the answer is the one kept
	}
	w.PutUint32(start, uint32(st))
	w.PutUint32(count, uint32(done))
	if q.session != nil {
		s.state.slotDone(q, w.B[start:])
	}
	if repeatable {
		s.replies.end(key, w.B[start:])
	}
	return onc.Success
}

// errReplay ends a compound that was answered before: its answer stands already.
const errReplay status4 = math.MaxUint32

// run does the operations until one fails, and gives how many were begun.
func (q *compound) run(n, start int) (int, status4) {
	defer q.leave()
	began := q.Began
	for i := range n {
		op := q.r.Uint32()
		if q.r.Err() != nil {
			return i, err4BadXDR
		}
		at := q.w.Len()
		known := op >= opAccess && op <= opLast
		if !known {
			op = opIllegal
		}
		q.w.Uint32(op)
		q.w.Uint32(0)
		st := err4OpIllegal
		switch {
		case !known:
		case q.minor == 1 && i == 0 && !opensSession(op):
			st = err4OpNotInSession
		case q.minor == 1 && i == 0 && op != opSequence && n > 1:
			st = status4(10081) // NFS4ERR_NOT_ONLY_OP
		case i > 0 && op == opSequence:
			st = err4SequencePos
		default:
			kind := kinds4[op]
			if kind == nil {
				st = q.do(op, start)
				break
			}
			q.moved = moved{}
			st = q.do(op, start)
			ended := time.Now()
			q.s.counted(q.Call, 1+q.minor, *kind, uint32(st), began, ended, q.moved.read, q.moved.written)
			began = ended
		}
		if st == errReplay {
			return i, st
		}
		if q.r.Err() != nil && st == ok4 {
			st = err4BadXDR
		}
		if st != ok4 && op != opSetAttr && !(st == err4Denied && (op == opLock || op == opLockT)) && !(op == opSetClientID && st == err4ClidInUse) {
			q.w.B = q.w.B[:at+8] // nothing follows a failure
		}
		q.w.PutUint32(at+4, uint32(st))
		if st != ok4 {
			q.s.Log.Debug("refused", "client", q.Conn.Remote, "operation", op, "uid", q.Cred.UID, "status", uint32(st))
			return i + 1, st
		}
		if longest := q.longest(); q.w.Len()-start > longest {
			q.w.B = q.w.B[:at+8]
			st = exhausted(q.minor, err4RepTooBig)
			q.w.PutUint32(at+4, uint32(st))
			return i + 1, st
		}
	}
	return n, ok4
}

// longest is the longest answer that is sent, in bytes.
func (q *compound) longest() int {
	if q.session != nil {
		return int(q.session.longest)
	}
	return onc.MostData + 32<<10
}

// opensSession says whether a compound of version 4.1 may begin with an operation.
func opensSession(op uint32) bool {
	switch op {
	case opSequence, opExchangeID, opCreateSession, opDestroySession, opBindConn, opDestroyClientID:
		return true
	}
	return false
}

// looks are the operations that only look at the current object, and may make another the current one.
var looks = [opLast + 1]bool{opGetAttr: true, opLookup: true, opLookupP: true, opAccess: true, opReadLink: true, opVerify: true, opNVerify: true, opGetFH: true}

// leave ends the visit that is under way.
func (q *compound) leave() {
	if q.visiting != nil {
		q.visiting.End()
		q.visiting, q.object = nil, nil
	}
}

func (q *compound) do(op uint32, start int) status4 {
	if !looks[op] {
		q.leave()
	}
	if q.minor == 0 {
		switch op {
		case opRenew:
			return q.renew()
		case opSetClientID:
			return q.setClientID()
		case opSetClientIDConfirm:
			return q.setClientIDConfirm()
		case opReleaseLockOwner:
			return q.releaseLockOwner()
		case opOpenConfirm:
			return q.openConfirm()
		}
		if op > opReleaseLockOwner {
			return err4OpIllegal
		}
	} else {
		switch op {
		case opSequence:
			return q.sequence(start)
		case opExchangeID:
			return q.exchangeID()
		case opCreateSession:
			return q.createSession()
		case opDestroySession:
			return q.destroySession()
		case opBindConn:
			return q.bindConn()
		case opDestroyClientID:
			return q.destroyClientID()
		case opReclaimComplete:
			return q.reclaimComplete()
		case opFreeStateID:
			return q.freeStateID()
		case opTestStateID:
			return q.testStateID()
		case opBackchannelCtl:
			return q.backchannelCtl()
		case opSecInfoNoName:
			return q.secInfoNoName()
		case opOpenConfirm, opRenew, opSetClientID, opSetClientIDConfirm, opReleaseLockOwner:
			return err4NotSupp
		}
		if op > opReleaseLockOwner {
			return err4NotSupp
		}
	}
	switch op {
	case opPutRootFH, opPutPubFH:
		q.setCurrent(q.s.pseudoHandle("/"))
		return ok4
	case opPutFH:
		fh := q.r.Opaque(mostHandle4)
		if q.r.Err() != nil {
			return err4BadXDR
		}
		h, ok := q.s.handles.open(fh)
		if !ok {
			return err4BadHandle
		}
		q.setCurrent(fh)
		q.parsed, q.isParsed = h, true
		return ok4
	case opRestoreFH:
		if q.saved == nil {
			return err4NoFileHandle
		}
		q.setCurrent(q.saved)
		q.stateid, q.hasState = q.savedID, q.hasSaved
		return ok4
	}
	if q.current == nil {
		switch op {
		case opDelegReturn, opLock, opLockT, opLockU, opOpen, opClose, opRead, opWrite, opGetAttr, opGetFH, opLookup, opLookupP, opAccess, opCommit, opCreate, opLink,
			opNVerify, opVerify, opOpenDowngrade, opReadDir, opReadLink, opRemove, opRename, opSaveFH, opSecInfo, opSetAttr:
			return err4NoFileHandle
		}
		return err4NotSupp
	}
	switch op {
	case opGetFH:
		q.w.Opaque(q.current)
		return ok4
	case opSaveFH:
		q.saved, q.savedID, q.hasSaved = q.current, q.stateid, q.hasState
		return ok4
	case opOpen:
		return q.open()
	case opClose:
		return q.close()
	case opOpenDowngrade:
		return q.openDowngrade()
	case opDelegReturn:
		return q.delegReturn()
	case opLock:
		return q.lock()
	case opLockT:
		return q.lockT()
	case opLockU:
		return q.lockU()
	case opRead:
		return q.read()
	case opWrite:
		return q.write()
	case opCommit:
		return q.commit()
	case opRename:
		return q.rename()
	case opLink:
		return q.link()
	}
	if !q.isParsed {
		q.parsed, _ = q.s.handles.open(q.current)
		q.isParsed = true
	}
	if q.parsed.export == 0 {
		q.leave()
		return q.pseudo(op, q.parsed)
	}
	fn := onObject[op]
	if fn == nil {
		return err4NotSupp
	}
	if q.object == nil {
		q.leave()
		manner := files.Working
		if looks[op] {
			manner = files.Looking
		}
		v, found, _, err := q.s.visitAt(q.Call, manner, q.parsed)
		if err != nil {
			return q.fail(err)
		}
		q.visiting, q.object = v, found[0]
	}
	if !looks[op] {
		defer q.leave()
	}
	return fn(q, q.visiting, q.object, q.parsed.export)
}

// onObject are the operations on the current object and nothing else.
var onObject = [opLast + 1]func(q *compound, v *files.Visit, o *files.Object, export int64) status4{
	opAccess: (*compound).access, opCreate: (*compound).create, opGetAttr: (*compound).getAttr, opLookup: (*compound).lookup,
	opLookupP: (*compound).lookupP, opReadDir: (*compound).readDir, opReadLink: (*compound).readLink, opRemove: (*compound).remove,
	opSecInfo: (*compound).secInfo, opSetAttr: (*compound).setAttr, opVerify: (*compound).verify, opNVerify: (*compound).nVerify,
}

func (q *compound) setCurrent(fh []byte) {
	q.current, q.hasState, q.isParsed, q.object = fh, false, false, nil
}

// found makes an object that a visit has found the current one.
func (q *compound) found(export int64, o *files.Object) {
	q.setCurrent(q.s.seal(export, o))
	q.parsed, q.isParsed = handle{export, o.Key()}, true
	if q.visiting != nil && o.OneName() { // of several, all have to be known first
		q.object = o
	}
}

func (q *compound) fail(err error) status4 { return toStatus4(q.s.Log, err) }

// name reads a component and says what is wrong with it.
func (q *compound) name() (string, status4) {
	name := q.r.Opaque(longestName4)
	switch {
	case q.r.Err() != nil:
		return "", err4BadXDR
	case len(name) == 0: // names are bytes: see RFC 8881 section 14.5 on those that are not UTF-8
		return "", err4Inval
	case bytes.IndexByte(name, '/') >= 0 || bytes.IndexByte(name, 0) >= 0:
		return "", err4BadChar
	case string(name) == "." || string(name) == "..":
		return "", err4BadName
	}
	return string(name), ok4
}

func (q *compound) putFlavors() {
	q.w.Uint32(1)
	q.w.Uint32(onc.AuthSys)
}

func (q *compound) secInfo(_ *files.Visit, dir *files.Object, _ int64) status4 {
	name, st := q.name()
	if st != ok4 {
		return st
	}
	if _, err := dir.Lookup(name); err != nil {
		return q.fail(err)
	}
	q.putFlavors()
	q.consumed()
	return ok4
}

func (q *compound) secInfoNoName() status4 {
	style := q.r.Uint32() // the current object, or its parent: all take the same
	if style > 1 {
		return err4Inval
	}
	if q.current == nil {
		return err4NoFileHandle
	}
	q.putFlavors()
	q.consumed()
	return ok4
}

// consumed takes the current handle away after SECINFO, as version 4.1 has it (RFC 8881 section
// 18.29.3).
func (q *compound) consumed() {
	if q.minor == 1 {
		q.setCurrent(nil)
	}
}

// mayMount is the origin gate for state that is about no export in particular.
func (q *compound) mayMount(export int64) bool {
	e := q.s.Policy().Export(export)
	o := q.s.origin(q.Conn, q.Cred.Flavor)
	return e != nil && access.MayMount(q.s.Policy(), e, &o)
}
