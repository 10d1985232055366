package nfs

import (
	"context"
	"errors"
	"hash/fnv"
	"math"
	"path"
	"sort"
	"strings"
	"unicode/utf8"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/onc"
)

// Operations of version 4, RFC 8881 section 16.2.
const (
	opAccess             = 3
	opClose              = 4
	opCommit             = 5
	opCreate             = 6
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
	stateid, savedID   stateID
	hasState, hasSaved bool

	session *session4
	slot    uint32
	cache   bool // the answer is to be kept
	client  *client4
	ops     int
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
	if c.Cred.Flavor != onc.AuthSys || !s.trusted(c.Conn.Remote) {
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
	body := w.Len()
	done, st := q.run(int(n), start)
	if q.session != nil && st == errReplay {
		return onc.Success // the answer is the one kept
	}
	w.PutUint32(start, uint32(st))
	w.PutUint32(count, uint32(done))
	if q.session != nil {
		s.state.slotDone(q, w.B[start:], w.B[body:])
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
			st = q.do(op, i, start)
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

func (q *compound) do(op uint32, index, start int) status4 {
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
		if _, ok := q.s.handles.open(fh); !ok {
			return err4BadHandle
		}
		q.setCurrent(fh)
		return ok4
	case opRestoreFH:
		if q.saved == nil {
			return err4NoFileHandle
		}
		q.current, q.stateid, q.hasState = q.saved, q.savedID, q.hasSaved
		return ok4
	}
	if q.current == nil {
		switch op {
		case opLock, opLockT, opLockU, opOpen, opClose, opRead, opWrite, opGetAttr, opGetFH, opLookup, opLookupP, opAccess, opCommit, opCreate, opLink,
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
	h, _ := q.s.handles.open(q.current)
	if h.export == 0 {
		return q.pseudo(op, h)
	}
	fn := map[uint32]func(v *files.Visit, o *files.Object, export int64) status4{
		opAccess: q.access, opCreate: q.create, opGetAttr: q.getAttr, opLookup: q.lookup, opLookupP: q.lookupP, opReadDir: q.readDir,
		opReadLink: q.readLink, opRemove: q.remove, opSecInfo: q.secInfo, opSetAttr: q.setAttr, opVerify: q.verify, opNVerify: q.nVerify,
	}[op]
	if fn == nil {
		return err4NotSupp
	}
	v, found, export, err := q.s.visit(q.Call, false, q.current)
	if err != nil {
		return q.fail(err)
	}
	defer v.End()
	return fn(v, found[0], export)
}

func (q *compound) setCurrent(fh []byte) {
	q.current, q.hasState = fh, false
}

func (q *compound) fail(err error) status4 { return toStatus4(q.s.Log, err) }

// name reads a component and says what is wrong with it.
func (q *compound) name() (string, status4) {
	name := q.r.Opaque(longestName4)
	switch {
	case q.r.Err() != nil:
		return "", err4BadXDR
	case len(name) == 0 || !utf8.Valid(name):
		return "", err4Inval
	case strings.ContainsAny(string(name), "/\x00"):
		return "", err4BadChar
	case string(name) == "." || string(name) == "..":
		return "", err4BadName
	}
	return string(name), ok4
}

func (q *compound) access(_ *files.Visit, o *files.Object, _ int64) status4 {
	asked := q.r.Uint32()
	const all = accessRead | accessLookup | accessModify | accessExtend | accessDelete | accessExecute
	q.w.Uint32(asked & all)
	q.w.Uint32(accessBits(o.Granted(), o) & asked)
	return ok4
}

// facts of an object for its attributes.
func (q *compound) facts(v *files.Visit, o *files.Object, export int64, a files.Attributes) *facts4 {
	f := &facts4{Attributes: a, fh: q.s.seal(export, o), fsMajor: fsid(0), fsMinor: uint64(export), mountedOn: a.FileID, space: func() files.Space {
		sp, _ := v.Space()
		return sp
	}}
	if o.IsRoot() {
		if e := q.s.Policy().Export(export); e != nil {
			f.mountedOn = pseudoID(e.Path)
		}
	}
	f.acl = func(w *onc.Writer) {
		if v.Unix() {
			putACL4(w, unixACL(o))
		} else {
			putACL4(w, entriesACL(q.s.Policy().Directory, o))
		}
	}
	if o.Symlink() {
		f.acl = nil
	}
	return f
}

func (q *compound) getAttr(v *files.Visit, o *files.Object, export int64) status4 {
	asked := readBitmap(q.r)
	if err := o.MayLook(); err != nil {
		return q.fail(err)
	}
	q.s.putAttrs(q.w, q.minor, asked, q.facts(v, o, export, o.Attributes()))
	return ok4
}

func (q *compound) setAttr(v *files.Visit, o *files.Object, export int64) status4 {
	st := q.setAttrs(v, o)
	if st != ok4 {
		putBitmap(q.w, bitmap{})
	}
	return st
}

func (q *compound) setAttrs(_ *files.Visit, o *files.Object) status4 {
	id := q.readStateID()
	set, which, err := q.s.readSet4(q.r, q.minor)
	if err != nil {
		return q.fail(err)
	}
	if set.Size != nil && !special(id) && !(q.minor == 1 && id == currentStateID) {
		// Whoever has it open for writing may cut it short, whatever its mode says by now.
		op, st := q.find(id)
		if st != ok4 {
			return st
		}
		if op.access&shareWrite == 0 {
			return err4OpenMode
		}
		if *set.Size > math.MaxInt64 {
			return err4FBig
		}
		if err := op.file.Truncate(int64(*set.Size)); err != nil {
			return q.fail(err)
		}
		set.Size = nil
	}
	if err := o.Set(set); err != nil {
		return q.fail(err)
	}
	putBitmap(q.w, which)
	return ok4
}

func (q *compound) lookup(_ *files.Visit, o *files.Object, export int64) status4 {
	name, st := q.name()
	if st != ok4 {
		return st
	}
	if o.Symlink() {
		return err4Symlink
	}
	c, err := o.Lookup(name)
	if err != nil {
		return q.fail(err)
	}
	q.setCurrent(q.s.seal(export, c))
	return ok4
}

func (q *compound) lookupP(_ *files.Visit, o *files.Object, export int64) status4 {
	if !o.Dir() {
		return err4NotDir
	}
	if o.IsRoot() {
		e := q.s.Policy().Export(export)
		if e == nil {
			return err4Stale
		}
		q.setCurrent(q.s.pseudoHandle(path.Dir(e.Path)))
		return ok4
	}
	c, err := o.Lookup("..")
	if err != nil {
		return q.fail(err)
	}
	q.setCurrent(q.s.seal(export, c))
	return ok4
}

func (q *compound) readLink(_ *files.Visit, o *files.Object, _ int64) status4 {
	if !o.Symlink() {
		if q.minor == 1 {
			return err4WrongType
		}
		return err4Inval
	}
	target, err := o.Target()
	if err != nil {
		return q.fail(err)
	}
	q.w.String(target)
	return ok4
}

// cinfo writes change_info4: before and after are not one step.
func (q *compound) cinfo(before, after *files.Attributes) {
	q.w.Bool(false)
	for _, a := range []*files.Attributes{before, after} {
		if a == nil {
			q.w.Uint64(0)
		} else {
			q.w.Uint64(changeOf(a))
		}
	}
}

func (q *compound) remove(_ *files.Visit, o *files.Object, _ int64) status4 {
	name, st := q.name()
	if st != ok4 {
		return st
	}
	before := now3(o)
	err := o.Remove(name, false)
	if errors.Is(err, files.ErrIsDirectory) {
		err = o.Remove(name, true)
	}
	if errors.Is(err, files.ErrSharing) {
		return err4FileOpen
	}
	if err != nil {
		return q.fail(err)
	}
	q.cinfo(before, now3(o))
	return ok4
}

func (q *compound) rename() status4 {
	from, st := q.name()
	if st != ok4 {
		return st
	}
	to, st := q.name()
	if st != ok4 {
		return st
	}
	if q.saved == nil {
		return err4NoFileHandle
	}
	if q.inPseudo(q.saved) || q.inPseudo(q.current) {
		return err4ROFS
	}
	v, found, _, err := q.s.visit(q.Call, true, q.saved, q.current)
	if err != nil {
		return q.fail(err)
	}
	defer v.End()
	before, beforeTo := now3(found[0]), now3(found[1])
	err = found[0].Rename(context.Background(), from, found[1], to)
	switch {
	case errors.Is(err, files.ErrSharing):
		return err4FileOpen
	case errors.Is(err, files.ErrIsDirectory) && found[0].Dir() && found[1].Dir(), errors.Is(err, files.ErrNotDirectory) && found[0].Dir() && found[1].Dir():
		return err4Exist // the two are not of a kind
	case err != nil:
		return q.fail(err)
	}
	q.cinfo(before, now3(found[0]))
	q.cinfo(beforeTo, now3(found[1]))
	return ok4
}

func (q *compound) link() status4 {
	name, st := q.name()
	if st != ok4 {
		return st
	}
	if q.saved == nil {
		return err4NoFileHandle
	}
	if q.inPseudo(q.saved) || q.inPseudo(q.current) {
		return err4ROFS
	}
	v, found, _, err := q.s.visit(q.Call, false, q.saved, q.current)
	if err != nil {
		return q.fail(err)
	}
	defer v.End()
	before := now3(found[1])
	if err := found[0].Link(found[1], name); err != nil {
		return q.fail(err)
	}
	q.cinfo(before, now3(found[1]))
	return ok4
}

func (q *compound) inPseudo(fh []byte) bool {
	h, ok := q.s.handles.open(fh)
	return ok && h.export == 0
}

func (q *compound) create(_ *files.Visit, dir *files.Object, export int64) status4 {
	kind := q.r.Uint32()
	var target string
	switch kind {
	case 5:
		target = q.r.String(longestTarget3)
	case 3, 4:
		q.r.Uint64()
	}
	name, st := q.name()
	if st != ok4 {
		return st
	}
	set, which, err := q.s.readSet4(q.r, q.minor)
	if err != nil {
		return q.fail(err)
	}
	before := now3(dir)
	var o *files.Object
	switch kind {
	case 2:
		o, err = dir.Mkdir(name, set)
	case 5:
		o, err = dir.MakeLink(name, target, set)
	case 3:
		o, err = dir.Mknod(name, unix.S_IFBLK, set)
	case 4:
		o, err = dir.Mknod(name, unix.S_IFCHR, set)
	case 6:
		o, err = dir.Mknod(name, unix.S_IFSOCK, set)
	case 7:
		o, err = dir.Mknod(name, unix.S_IFIFO, set)
	default:
		return err4BadType
	}
	if errors.Is(err, files.ErrNotSupported) {
		return err4Perm
	}
	if err != nil {
		return q.fail(err)
	}
	q.cinfo(before, now3(dir))
	putBitmap(q.w, which)
	q.setCurrent(q.s.seal(export, o))
	return ok4
}

// verify4 says whether what is sent is what an object's attributes are.
func (q *compound) verify4(v *files.Visit, o *files.Object, export int64) (bool, status4) {
	asked := readBitmap(q.r)
	sent := q.r.Opaque(64 << 10)
	if q.r.Err() != nil {
		return false, err4BadXDR
	}
	all := supported(q.minor)
	for i := range asked {
		if asked[i]&^all[i] != 0 {
			return false, err4AttrNotSupp
		}
	}
	if asked.has(attrRdattrError) || asked.has(attrAccessSet) || asked.has(attrModifySet) {
		return false, err4Inval
	}
	var w, is onc.Writer
	q.s.putAttrs(&w, q.minor, asked, q.facts(v, o, export, o.Attributes()))
	putBitmap(&is, asked)
	is.Opaque(sent)
	return string(w.B) == string(is.B), ok4
}

func (q *compound) verify(v *files.Visit, o *files.Object, export int64) status4 {
	same, st := q.verify4(v, o, export)
	if st == ok4 && !same {
		return err4NotSame
	}
	return st
}

func (q *compound) nVerify(v *files.Visit, o *files.Object, export int64) status4 {
	same, st := q.verify4(v, o, export)
	if st == ok4 && same {
		return err4Same
	}
	return st
}

// readDir4 is the frame of a listing: entries are added until one does not fit.
func (q *compound) readDir4(verifier uint64, list func(cookie uint64, asked bitmap, entry func(cookie uint64, name string, attrs func(w *onc.Writer)) bool) error) status4 {
	cookie, sent, names, most := q.r.Uint64(), q.r.Uint64(), q.r.Uint32(), q.r.Uint32()
	asked := readBitmap(q.r)
	if q.r.Err() != nil {
		return err4BadXDR
	}
	if cookie == 1 || cookie == 2 || cookie != 0 && sent != verifier {
		return err4BadCookie
	}
	if names == 0 || names > most {
		names = most
	}
	at := q.w.Len()
	q.w.Uint64(verifier)
	limit := at + int(min(most, onc.MostData)) - 8
	any, full, taken := false, false, 0
	err := list(cookie, asked, func(cookie uint64, name string, attrs func(w *onc.Writer)) bool {
		before := q.w.Len()
		q.w.Bool(true)
		q.w.Uint64(cookie)
		q.w.String(name)
		taken += q.w.Len() - before
		attrs(q.w)
		if q.w.Len() > limit || taken > int(names) && any {
			q.w.B, full = q.w.B[:before], true
			return false
		}
		any = true
		return true
	})
	switch {
	case errors.Is(err, files.ErrInvalid):
		return err4BadCookie
	case err != nil:
		return q.fail(err)
	case full && !any:
		return err4TooSmall
	}
	q.w.Bool(false)
	q.w.Bool(!full)
	return ok4
}

func (q *compound) readDir(v *files.Visit, dir *files.Object, export int64) status4 {
	if !dir.Dir() {
		return err4NotDir
	}
	h, _ := q.s.handles.open(q.current)
	return q.readDir4(q.s.handles.cookieVerifier(h), func(cookie uint64, asked bitmap, entry func(uint64, string, func(*onc.Writer)) bool) error {
		return dir.List(cookie, func(l files.Listed) bool {
			if l.Name == "." || l.Name == ".." {
				return true
			}
			return entry(l.Cookie, l.Name, func(w *onc.Writer) {
				o, err := dir.Child(l.Name)
				if err == nil {
					err = o.MayLook()
				}
				if err != nil {
					// It went away, or may not be looked at: the name is told, and the reason if asked for.
					f := &facts4{rdattrErr: q.fail(err)}
					q.s.putAttrs(w, q.minor, bitmap{asked[0] & (1 << attrRdattrError)}, f)
					return
				}
				q.s.putAttrs(w, q.minor, asked, q.facts(v, o, export, o.Attributes()))
				o.Release()
			})
		})
	})
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
		q.current, q.hasState = nil, false
	}
}

// The pseudo-root: directories in which the exports appear at their paths (RFC 8881 section 7.3). A
// host sees what leads to an export that it may mount, and nothing else.

// pseudoID numbers a directory of the pseudo-root.
func pseudoID(p string) uint64 {
	h := fnv.New64a()
	h.Write([]byte(p))
	return h.Sum64()>>1 | 1
}

func (s *Server) pseudoHandle(p string) []byte {
	return s.handles.seal(handle{key: files.Key{Inode: pseudoID(p)}})
}

// pseudoChildren gives what appears in a directory of the pseudo-root to an origin: the names, with
// the export for those that are one. The second result is false where there is no such directory.
func (s *Server) pseudoChildren(o *site.Origin, dir string) (map[string]*site.PublishedExport, bool) {
	out := make(map[string]*site.PublishedExport)
	prefix := strings.TrimSuffix(dir, "/") + "/"
	for _, e := range s.mountable(o) {
		rest, ok := strings.CutPrefix(e.Path, prefix)
		if !ok {
			continue
		}
		name, deeper, _ := strings.Cut(rest, "/")
		if deeper == "" {
			out[name] = e
		} else {
			out[name] = nil
		}
	}
	return out, dir == "/" || len(out) > 0
}

// pseudoPath finds the directory of the pseudo-root that has a number.
func (s *Server) pseudoPath(o *site.Origin, id uint64) (string, bool) {
	if id == pseudoID("/") {
		return "/", true
	}
	for _, e := range s.mountable(o) {
		for p := path.Dir(e.Path); p != "/"; p = path.Dir(p) {
			if pseudoID(p) == id {
				return p, true
			}
		}
	}
	return "", false
}

func (q *compound) pseudoFacts(dir string) *facts4 {
	// What is in it changes with the records, and with what is switched on.
	changed := uint64(q.s.began.UnixNano())
	h := fnv.New64a()
	for _, e := range q.s.Policy().Exports {
		h.Write([]byte(e.Path))
	}
	changed ^= h.Sum64()
	at := unix.StatxTimestamp{Sec: q.s.began.Unix(), Nsec: uint32(changed % 1e9)}
	return &facts4{Attributes: files.Attributes{Type: unix.S_IFDIR, Mode: 0o555, Links: 2, Size: 4096, FileID: pseudoID(dir), Access: at, Modify: at, Change: at, Created: at},
		fh: q.s.pseudoHandle(dir), fsMajor: fsid(0), mountedOn: pseudoID(dir), space: func() files.Space { return files.Space{} }}
}

func (q *compound) pseudo(op uint32, h handle) status4 {
	o := q.s.origin(q.Conn, q.Cred.Flavor)
	dir, ok := q.s.pseudoPath(&o, h.key.Inode)
	if !ok {
		return err4Stale
	}
	children, _ := q.s.pseudoChildren(&o, dir)
	enter := func(name string) ([]byte, status4) {
		e, ok := children[name]
		switch {
		case !ok:
			return nil, err4NoEnt
		case e == nil:
			return q.s.pseudoHandle(path.Join(dir, name)), ok4
		}
		v, err := q.s.Files.Visit(q.s.guest(q.Call, e.ID), false)
		if err != nil {
			return nil, q.fail(err)
		}
		defer v.End()
		root, err := v.Root()
		if err != nil {
			return nil, q.fail(err)
		}
		return q.s.seal(e.ID, root), ok4
	}
	switch op {
	case opLookup, opSecInfo:
		name, st := q.name()
		if st != ok4 {
			return st
		}
		fh, st := enter(name)
		if st != ok4 {
			return st
		}
		if op == opSecInfo {
			q.putFlavors()
			q.consumed()
		} else {
			q.setCurrent(fh)
		}
		return ok4
	case opLookupP:
		if dir == "/" {
			return err4NoEnt
		}
		q.setCurrent(q.s.pseudoHandle(path.Dir(dir)))
		return ok4
	case opGetAttr:
		asked := readBitmap(q.r)
		q.s.putAttrs(q.w, q.minor, asked, q.pseudoFacts(dir))
		return ok4
	case opAccess:
		asked := q.r.Uint32()
		q.w.Uint32(asked & (accessRead | accessLookup | accessModify | accessExtend | accessDelete | accessExecute))
		q.w.Uint32(asked & (accessRead | accessLookup))
		return ok4
	case opReadDir:
		var names []string
		for name := range children {
			names = append(names, name)
		}
		sort.Strings(names)
		return q.readDir4(q.s.handles.cookieVerifier(h), func(cookie uint64, asked bitmap, entry func(uint64, string, func(*onc.Writer)) bool) error {
			for i, name := range names {
				if uint64(i)+3 <= cookie {
					continue
				}
				if !entry(uint64(i)+3, name, func(w *onc.Writer) { q.pseudoEntry(w, asked, dir, name, children[name]) }) {
					break
				}
			}
			return nil
		})
	case opReadLink:
		return err4Inval
	}
	return err4ROFS
}

func (q *compound) pseudoEntry(w *onc.Writer, asked bitmap, dir, name string, e *site.PublishedExport) {
	if e == nil {
		q.s.putAttrs(w, q.minor, asked, q.pseudoFacts(path.Join(dir, name)))
		return
	}
	v, err := q.s.Files.Visit(q.s.guest(q.Call, e.ID), false)
	if err == nil {
		defer v.End()
		var root *files.Object
		if root, err = v.Root(); err == nil {
			q.s.putAttrs(w, q.minor, asked, q.facts(v, root, e.ID, root.Attributes()))
			return
		}
	}
	q.s.putAttrs(w, q.minor, bitmap{asked[0] & (1 << attrRdattrError)}, &facts4{rdattrErr: q.fail(err)})
}

// mayMount is the origin gate for state that is about no export in particular.
func (q *compound) mayMount(export int64) bool {
	e := q.s.Policy().Export(export)
	o := q.s.origin(q.Conn, q.Cred.Flavor)
	return e != nil && access.MayMount(q.s.Policy(), e, &o)
}
