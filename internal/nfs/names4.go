package nfs

import (
	"context"
	"errors"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/onc"
)

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

// savedAndCurrent begins a visit at the saved and the current object.
func (q *compound) savedAndCurrent(manner files.Manner) (*files.Visit, []*files.Object, status4) {
	if q.saved == nil {
		return nil, nil, err4NoFileHandle
	}
	if q.inPseudo(q.saved) || q.inPseudo(q.current) {
		return nil, nil, err4ROFS
	}
	v, found, _, err := q.s.visit(q.Call, manner, q.saved, q.current)
	return v, found, q.fail(err)
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
	v, found, st := q.savedAndCurrent(files.Alone)
	if st != ok4 {
		return st
	}
	defer v.End()
	before, beforeTo := now3(found[0]), now3(found[1])
	err := found[0].Rename(context.Background(), from, found[1], to)
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
	v, found, st := q.savedAndCurrent(files.Working)
	if st != ok4 {
		return st
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
	set, which, err := q.readNewSet4()
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
	q.found(export, o)
	return ok4
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
					err = mayTell(o, asked)
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
