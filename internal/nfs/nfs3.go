package nfs

import (
	"errors"
	"math"
	"time"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/onc"
)

// Procedures of NFS version 3, RFC 1813 section 3.3.
const (
	proc3Null = iota
	proc3GetAttr
	proc3SetAttr
	proc3Lookup
	proc3Access
	proc3ReadLink
	proc3Read
	proc3Write
	proc3Create
	proc3Mkdir
	proc3Symlink
	proc3Mknod
	proc3Remove
	proc3Rmdir
	proc3Rename
	proc3Link
	proc3ReadDir
	proc3ReadDirPlus
	proc3FSStat
	proc3FSInfo
	proc3PathConf
	proc3Commit
)

const (
	longestName3   = 4096 // longer than any name may be, so that one that is too long gets that answer
	longestTarget3 = 4096
)

// moved is how many bytes of files a request took along.
type moved struct{ read, written int }

// call3 is one call of version 3.
type call3 struct {
	*onc.Call
	s *Server
	w *onc.Writer
	r *onc.Reader

	refused error // what was read says somebody who is nobody
	moved   moved
}

var procs3 = [...]func(q *call3) onc.AcceptStat{
	func(*call3) onc.AcceptStat { return onc.Success }, (*call3).getAttr, (*call3).setAttr, (*call3).lookup, (*call3).access, (*call3).readLink, (*call3).read,
	(*call3).write, (*call3).create, (*call3).mkdir, (*call3).symlink, (*call3).mknod, func(q *call3) onc.AcceptStat { return q.remove(false) },
	func(q *call3) onc.AcceptStat { return q.remove(true) }, (*call3).rename, (*call3).link, func(q *call3) onc.AcceptStat { return q.readDir(false) },
	func(q *call3) onc.AcceptStat { return q.readDir(true) }, (*call3).fsStat, (*call3).fsInfo, (*call3).pathConf, (*call3).commit,
}

func (s *Server) serve3(c *onc.Call, w *onc.Writer) onc.AcceptStat {
	q := &call3{Call: c, s: s, w: w, r: c.Args}
	h := heard(c.Conn)
	h.three.Store(true)
	h.own.Did()
	start := w.Len()
	defer func() { // of what is no procedure there is nothing to be counted
		if c.Procedure < uint32(len(kinds3)) {
			s.counted(c, 0, kinds3[c.Procedure], statusAt(w, start), c.Began, time.Now(), q.moved.read, q.moved.written)
		}
	}()
	if c.Procedure >= uint32(len(procs3)) {
		return onc.ProcUnavail
	}
	switch c.Procedure {
	case proc3SetAttr, proc3Create, proc3Mkdir, proc3Symlink, proc3Mknod, proc3Remove, proc3Rmdir, proc3Rename, proc3Link:
	default:
		return procs3[c.Procedure](q)
	}
	if !s.comesIn(c) { // nothing comes of it, and it takes nobody's place
		return procs3[c.Procedure](q)
	}
	key, fresh, reply := s.replies.begin(c.Conn.Remote, c.XID, c.Procedure, c.Args.Rest())
	if !fresh {
		if reply == nil {
			return onc.Drop
		}
		w.B = append(w.B, reply...)
		return onc.Success
	}
	at := w.Len()
	stat := procs3[c.Procedure](q)
	s.replies.end(key, w.B[at:])
	return stat
}

func (q *call3) handle() []byte { return q.r.Opaque(mostHandle3) }

// status writes the status of an error, and says whether it is success.
func (q *call3) status(err error) bool {
	st := toStatus3(q.s.Log, err)
	q.w.Uint32(uint32(st))
	if st != ok3 {
		q.s.Log.Debug("refused", "client", q.Conn.Remote, "procedure", q.Procedure, "uid", q.Cred.UID, "error", err)
	}
	return st == ok3
}

// errBadHandle is for a handle that was not made here.
var errBadHandle = errors.New("not a handle of this server")

// at begins a visit at the object that a handle names, if the guest's host gets that far.
func (q *call3) at(raw []byte, manner files.Manner) (*files.Visit, *files.Object, int64, error) {
	v, found, export, err := q.s.visit(q.Call, manner, raw)
	if err != nil {
		return nil, nil, export, err
	}
	return v, found[0], export, nil
}

// visit begins a visit at the objects that handles name, all of one export.
func (s *Server) visit(c *onc.Call, manner files.Manner, raw ...[]byte) (*files.Visit, []*files.Object, int64, error) {
	hs := make([]handle, 0, 2)
	for _, b := range raw {
		h, ok := s.handles.open(b)
		if !ok {
			return nil, nil, 0, errBadHandle
		}
		hs = append(hs, h)
	}
	return s.visitAt(c, manner, hs...)
}

// visitAt is visit for handles that have been opened.
func (s *Server) visitAt(c *onc.Call, manner files.Manner, hs ...handle) (*files.Visit, []*files.Object, int64, error) {
	export := hs[0].export
	keys := make([]files.Key, 0, 2)
	for _, h := range hs {
		if h.export != export {
			return nil, nil, 0, files.ErrAcross
		}
		keys = append(keys, h.key)
	}
	v, found, err := s.Files.VisitObjects(s.guest(c, export), manner, keys...)
	if err != nil {
		return nil, nil, export, err
	}
	if err := v.Reachable(); err != nil {
		v.End()
		return nil, nil, export, err
	}
	return v, found, export, nil
}

// fails answers an error with a status and n absent attributes.
func (q *call3) fails(err error, n int) onc.AcceptStat {
	if errors.Is(err, errBadHandle) {
		q.w.Uint32(uint32(err3BadHandle))
	} else {
		q.status(err)
	}
	for range n {
		q.w.Bool(false)
	}
	return onc.Success
}

// with begins a visit at the object that a handle names, where the arguments were whole, and answers by
// what fn does there; an error comes with so many absent attributes.
func (q *call3) with(raw []byte, absent int, fn func(v *files.Visit, o *files.Object, export int64) onc.AcceptStat) onc.AcceptStat {
	return q.within(files.Working, raw, absent, fn)
}

// looking is with, for what only looks.
func (q *call3) looking(raw []byte, absent int, fn func(v *files.Visit, o *files.Object, export int64) onc.AcceptStat) onc.AcceptStat {
	return q.within(files.Looking, raw, absent, fn)
}

func (q *call3) within(manner files.Manner, raw []byte, absent int, fn func(v *files.Visit, o *files.Object, export int64) onc.AcceptStat) onc.AcceptStat {
	if q.garbage() {
		return onc.GarbageArgs
	}
	v, o, export, err := q.at(raw, manner)
	if err != nil {
		return q.fails(err, absent)
	}
	defer v.End()
	if q.refused != nil {
		return q.fails(q.refused, absent)
	}
	return fn(v, o, export)
}

func (q *call3) garbage() bool { return q.r.Err() != nil }

func (q *call3) getAttr() onc.AcceptStat {
	raw := q.handle()
	return q.looking(raw, 0, func(v *files.Visit, o *files.Object, export int64) onc.AcceptStat {
		if !q.status(o.MayLook()) {
			return onc.Success
		}
		a := o.Attributes()
		putAttr3(q.w, export, &a)
		return onc.Success
	})
}

func (q *call3) setAttr() onc.AcceptStat {
	raw, set := q.handle(), q.readSet()
	guarded := q.r.Bool()
	var sec, nsec uint32
	if guarded {
		sec, nsec = q.r.Uint32(), q.r.Uint32()
	}
	return q.with(raw, 2, func(v *files.Visit, o *files.Object, export int64) onc.AcceptStat {
		before := now3(o)
		if guarded && before != nil && (uint32(before.Change.Sec) != sec || before.Change.Nsec != nsec) {
			q.w.Uint32(uint32(err3NotSync))
		} else {
			q.status(o.Set(set))
		}
		putWCC(q.w, export, before, now3(o))
		return onc.Success
	})
}

func (q *call3) lookup() onc.AcceptStat {
	raw, name := q.handle(), q.r.String(longestName3)
	return q.looking(raw, 1, func(v *files.Visit, dir *files.Object, export int64) onc.AcceptStat {
		o, err := dir.Lookup(name)
		if !q.status(err) {
			putPost(q.w, export, now3(dir))
			return onc.Success
		}
		q.w.Opaque(q.s.seal(export, o))
		putPost(q.w, export, seen3(o))
		putPost(q.w, export, seen3(dir))
		return onc.Success
	})
}

// The bits of ACCESS, RFC 1813 section 3.3.4; those of version 4 are the same.
const (
	accessRead    = 0x01
	accessLookup  = 0x02
	accessModify  = 0x04
	accessExtend  = 0x08
	accessDelete  = 0x10
	accessExecute = 0x20
)

// accessBits says what of ACCESS a mask amounts to.
func accessBits(m acl.Mask, o *files.Object) uint32 {
	var bits uint32
	set := func(need acl.Mask, bit uint32) {
		if m&need == need {
			bits |= bit
		}
	}
	set(acl.ReadData, accessRead)
	if o.Dir() {
		set(acl.Execute, accessLookup)
		set(acl.DeleteChild, accessModify|accessDelete)
		set(acl.AddFile|acl.AddSubdirectory, accessExtend)
		return bits
	}
	set(acl.WriteData, accessModify)
	set(acl.AppendData, accessExtend)
	if a := o.Attributes(); a.Mode&0o111 != 0 {
		set(acl.Execute, accessExecute)
	}
	return bits
}

func (q *call3) access() onc.AcceptStat {
	raw, asked := q.handle(), q.r.Uint32()
	return q.looking(raw, 1, func(v *files.Visit, o *files.Object, export int64) onc.AcceptStat {
		q.status(nil)
		putPost(q.w, export, seen3(o))
		may, _ := o.Says()
		q.w.Uint32(accessBits(may, o) & asked)
		return onc.Success
	})
}

func (q *call3) readLink() onc.AcceptStat {
	raw := q.handle()
	return q.with(raw, 1, func(v *files.Visit, o *files.Object, export int64) onc.AcceptStat {
		target, err := o.Target()
		good := q.status(err)
		putPost(q.w, export, now3(o))
		if good {
			q.w.String(target)
		}
		return onc.Success
	})
}

func (q *call3) file(raw []byte, write bool) (*files.File, int64, error) {
	h, ok := q.s.handles.open(raw)
	if !ok {
		return nil, 0, errBadHandle
	}
	f, err := q.s.Files.File(q.s.guest(q.Call, h.export), h.key, write)
	return f, h.export, err
}

func (q *call3) read() onc.AcceptStat {
	raw, offset, count := q.handle(), q.r.Uint64(), q.r.Uint32()
	if q.garbage() {
		return onc.GarbageArgs
	}
	f, export, err := q.file(raw, false)
	if err != nil {
		return q.fails(err, 1)
	}
	defer f.Release()
	a, err := f.Attributes()
	if err != nil {
		return q.fails(err, 1)
	}
	n := int(min(count, onc.MostData))
	switch {
	case offset > math.MaxInt64-onc.MostData:
		return q.fails(files.ErrInvalid, 1)
	case offset >= a.Size:
		n = 0
	case uint64(n) > a.Size-offset:
		n = int(a.Size - offset)
	}
	q.Reserve(q.w, n)
	at := q.w.Len()
	q.status(nil)
	putPost(q.w, export, &a)
	counts := q.w.Len()
	q.w.Uint32(0)
	q.w.Uint32(0)
	q.w.Uint32(0)
	got, err := f.ReadAt(q.w.Room(n), int64(offset))
	if err != nil {
		q.w.B = q.w.B[:at]
		return q.fails(err, 1)
	}
	q.w.Cut(n, got)
	heard(q.Conn).own.Read(got)
	q.moved.read = got
	q.w.PutUint32(counts, uint32(got))
	if offset+uint64(got) >= a.Size {
		q.w.PutUint32(counts+4, 1)
	}
	q.w.PutUint32(counts+8, uint32(got))
	return onc.Success
}

func (q *call3) write() onc.AcceptStat {
	raw, offset, count, stable := q.handle(), q.r.Uint64(), q.r.Uint32(), q.r.Uint32()
	data := q.r.Opaque(onc.MostData)
	if q.garbage() || stable > uint32(files.FileSync) || uint64(count) > uint64(len(data)) {
		return onc.GarbageArgs
	}
	data = data[:count]
	f, export, err := q.file(raw, true)
	if err != nil {
		return q.fails(err, 2)
	}
	defer f.Release()
	before, err := f.Attributes()
	if err != nil {
		return q.fails(err, 2)
	}
	if offset > math.MaxInt64-onc.MostData {
		q.w.Uint32(uint32(err3FBig))
		putWCC(q.w, export, &before, &before)
		return onc.Success
	}
	n, did, err := f.WriteAt(data, int64(offset), files.Stability(stable))
	good := q.status(err)
	heard(q.Conn).own.Wrote(n)
	q.moved.written = n
	after, lookErr := f.Attributes()
	if lookErr != nil {
		putWCC(q.w, export, &before, nil)
	} else {
		putWCC(q.w, export, &before, &after)
	}
	if good {
		q.w.Uint32(uint32(n))
		q.w.Uint32(uint32(did))
		q.w.Uint64(q.s.verifier)
	}
	return onc.Success
}

func (q *call3) commit() onc.AcceptStat {
	raw := q.handle()
	q.r.Uint64()
	q.r.Uint32()
	if q.garbage() {
		return onc.GarbageArgs
	}
	f, export, err := q.file(raw, true)
	if err != nil {
		return q.fails(err, 2)
	}
	defer f.Release()
	before, err := f.Attributes()
	if err != nil {
		return q.fails(err, 2)
	}
	good := q.status(f.Commit())
	putWCC(q.w, export, &before, &before)
	if good {
		q.w.Uint64(q.s.verifier)
	}
	return onc.Success
}

func (q *call3) fsStat() onc.AcceptStat {
	raw := q.handle()
	return q.with(raw, 1, func(v *files.Visit, o *files.Object, export int64) onc.AcceptStat {
		space, err := v.Space()
		good := q.status(err)
		putPost(q.w, export, now3(o))
		if good {
			q.w.Uint64(space.Total)
			q.w.Uint64(space.Free)
			q.w.Uint64(space.Available)
			q.w.Uint64(space.Files)
			q.w.Uint64(space.FreeFiles)
			q.w.Uint64(space.FreeFiles)
			q.w.Uint32(0) // it may change at any moment
		}
		return onc.Success
	})
}

func (q *call3) fsInfo() onc.AcceptStat {
	raw := q.handle()
	return q.with(raw, 1, func(v *files.Visit, o *files.Object, export int64) onc.AcceptStat {
		q.status(nil)
		putPost(q.w, export, now3(o))
		const block = 4096
		for range 2 { // reading, writing
			q.w.Uint32(onc.MostData)
			q.w.Uint32(onc.MostData)
			q.w.Uint32(block)
		}
		q.w.Uint32(64 << 10) // reading directories
		q.w.Uint64(math.MaxInt64)
		q.w.Uint32(0) // times are kept to
		q.w.Uint32(1) // the nanosecond
		const links, symlinks, homogeneous, canSetTime = 0x01, 0x02, 0x08, 0x10
		q.w.Uint32(links | symlinks | homogeneous | canSetTime)
		return onc.Success
	})
}

func (q *call3) pathConf() onc.AcceptStat {
	raw := q.handle()
	return q.with(raw, 1, func(v *files.Visit, o *files.Object, export int64) onc.AcceptStat {
		q.status(nil)
		putPost(q.w, export, now3(o))
		q.w.Uint32(32000) // links to a file
		q.w.Uint32(255)   // bytes in a name
		q.w.Bool(true)    // longer ones are refused
		q.w.Bool(true)    // files are not given away
		q.w.Bool(false)   // names that differ in case are two
		q.w.Bool(true)    // and case is kept
		return onc.Success
	})
}
