package nfs

import (
	"context"
	"errors"
	"math"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/onc"
)

// made answers what makes something in a directory.
func (q *call3) made(export int64, dir, o *files.Object, before *files.Attributes, err error) onc.AcceptStat {
	if q.status(err) {
		q.w.Bool(true)
		q.w.Opaque(q.s.seal(export, o))
		a := o.Attributes()
		putPost(q.w, export, &a)
	}
	putWCC(q.w, export, before, now3(dir))
	return onc.Success
}

// How CREATE goes about what is there, RFC 1813 section 3.3.8.
const (
	unchecked = 0
	guarded   = 1
	exclusive = 2
)

func (q *call3) create() onc.AcceptStat {
	raw, name, how := q.handle(), q.r.String(longestName3), q.r.Uint32()
	var set files.Set
	var verifier files.Verifier
	switch how {
	case unchecked, guarded:
		set = q.readSet()
	case exclusive:
		copy(verifier[:], q.r.Fixed(8))
	default:
		return onc.GarbageArgs
	}
	return q.with(raw, 2, func(v *files.Visit, dir *files.Object, export int64) onc.AcceptStat {
		before := now3(dir)
		o, err := dir.CreateFile(name, set)
		switch {
		case err == nil && how == exclusive:
			if err = o.SetVerifier(verifier); err == nil {
				_, err = o.Look()
			}
		case errors.Is(err, files.ErrExists) && how != guarded:
			there, found := dir.Lookup(name)
			switch {
			case found != nil:
				err = found
			case how == exclusive && there.MadeBy(verifier):
				o, err = there, nil
			case how == unchecked && there.Regular():
				// Of what is there already only the size is set: opening with O_TRUNC means that.
				o, err = there, nil
				if set.Size != nil {
					err = there.Set(files.Set{Size: set.Size})
				}
			}
		}
		return q.made(export, dir, o, before, err)
	})
}

func (q *call3) mkdir() onc.AcceptStat {
	raw, name, set := q.handle(), q.r.String(longestName3), q.readSet()
	return q.with(raw, 2, func(v *files.Visit, dir *files.Object, export int64) onc.AcceptStat {
		before := now3(dir)
		o, err := dir.Mkdir(name, set)
		return q.made(export, dir, o, before, err)
	})
}

func (q *call3) symlink() onc.AcceptStat {
	raw, name, set, target := q.handle(), q.r.String(longestName3), q.readSet(), q.r.String(longestTarget3)
	return q.with(raw, 2, func(v *files.Visit, dir *files.Object, export int64) onc.AcceptStat {
		before := now3(dir)
		o, err := dir.MakeLink(name, target, set)
		return q.made(export, dir, o, before, err)
	})
}

func (q *call3) mknod() onc.AcceptStat {
	raw, name, kind := q.handle(), q.r.String(longestName3), q.r.Uint32()
	var set files.Set
	var mode uint32
	switch kind {
	case 3, 4: // devices
		set = q.readSet()
		q.r.Uint64()
		mode = unix.S_IFCHR
	case 6:
		set, mode = q.readSet(), unix.S_IFSOCK
	case 7:
		set, mode = q.readSet(), unix.S_IFIFO
	}
	return q.with(raw, 2, func(v *files.Visit, dir *files.Object, export int64) onc.AcceptStat {
		before := now3(dir)
		if mode == 0 {
			q.w.Uint32(uint32(err3BadType))
			putWCC(q.w, export, before, now3(dir))
			return onc.Success
		}
		o, err := dir.Mknod(name, mode, set)
		return q.made(export, dir, o, before, err)
	})
}

func (q *call3) remove(isDir bool) onc.AcceptStat {
	raw, name := q.handle(), q.r.String(longestName3)
	return q.with(raw, 2, func(v *files.Visit, dir *files.Object, export int64) onc.AcceptStat {
		before := now3(dir)
		q.status(dir.Remove(name, isDir))
		putWCC(q.w, export, before, now3(dir))
		return onc.Success
	})
}

func (q *call3) rename() onc.AcceptStat {
	fromRaw, fromName, toRaw, toName := q.handle(), q.r.String(longestName3), q.handle(), q.r.String(longestName3)
	if q.garbage() {
		return onc.GarbageArgs
	}
	v, found, export, err := q.s.visit(q.Call, files.Alone, fromRaw, toRaw)
	if err != nil {
		return q.fails(err, 4)
	}
	defer v.End()
	dir, toDir := found[0], found[1]
	before, beforeTo := now3(dir), now3(toDir)
	q.status(dir.Rename(context.Background(), fromName, toDir, toName))
	putWCC(q.w, export, before, now3(dir))
	putWCC(q.w, export, beforeTo, now3(toDir))
	return onc.Success
}

func (q *call3) link() onc.AcceptStat {
	raw, dirRaw, name := q.handle(), q.handle(), q.r.String(longestName3)
	if q.garbage() {
		return onc.GarbageArgs
	}
	v, found, export, err := q.s.visit(q.Call, files.Working, raw, dirRaw)
	if err != nil {
		return q.fails(err, 3)
	}
	defer v.End()
	o, dir := found[0], found[1]
	before := now3(dir)
	q.status(o.Link(dir, name))
	putPost(q.w, export, now3(o))
	putWCC(q.w, export, before, now3(dir))
	return onc.Success
}

func (q *call3) readDir(plus bool) onc.AcceptStat {
	raw, cookie, verifier := q.handle(), q.r.Uint64(), q.r.Uint64()
	names := uint32(math.MaxUint32)
	if plus {
		names = q.r.Uint32() // what the names alone may take
	}
	most := q.r.Uint32()
	return q.with(raw, 1, func(v *files.Visit, dir *files.Object, export int64) onc.AcceptStat {
		h, _ := q.s.handles.open(raw)
		ours := q.s.handles.cookieVerifier(h)
		at := q.w.Len()
		q.status(nil)
		putPost(q.w, export, now3(dir))
		q.w.Uint64(ours)
		limit := at + int(min(most, onc.MostData)) - 8 // what ends the list
		q.Reserve(q.w, limit-at)
		any, full, taken := false, false, uint32(0)
		var err error
		if cookie != 0 && verifier != ours {
			err = errBadCookie
		} else {
			err = dir.List(cookie, func(l files.Listed) bool {
				before := q.w.Len()
				q.w.Bool(true)
				q.w.Uint64(l.FileID)
				q.w.String(l.Name)
				q.w.Uint64(l.Cookie)
				taken += uint32(q.w.Len() - before)
				if plus {
					q.plus(export, dir, l.Name)
				}
				if q.w.Len() > limit || taken > names && any {
					q.w.B, full = q.w.B[:before], true
					return false
				}
				any = true
				return true
			})
		}
		if err == nil && full && !any {
			err = errTooSmall
		}
		if err != nil {
			q.w.B = q.w.B[:at]
			switch {
			case errors.Is(err, errTooSmall):
				q.w.Uint32(uint32(err3TooSmall))
			case errors.Is(err, errBadCookie), errors.Is(err, files.ErrInvalid):
				q.w.Uint32(uint32(err3BadCookie))
			default:
				q.status(err)
			}
			putPost(q.w, export, now3(dir))
			return onc.Success
		}
		q.w.Bool(false)
		q.w.Bool(!full)
		return onc.Success
	})
}

var (
	errTooSmall  = errors.New("not one name fits")
	errBadCookie = errors.New("a cookie of another directory")
)

// plus writes what READDIRPLUS tells besides the name.
func (q *call3) plus(export int64, dir *files.Object, name string) {
	var o *files.Object
	var err error
	switch name {
	case ".", "..":
		o, err = dir.Lookup(name)
	default:
		o, err = dir.Child(name)
	}
	if err != nil || o.MayLook() != nil {
		q.w.Bool(false)
		q.w.Bool(false)
		return
	}
	a := o.Attributes()
	putPost(q.w, export, &a)
	q.w.Bool(true)
	q.w.Opaque(q.s.seal(export, o))
	if o != dir {
		o.Release()
	}
}
