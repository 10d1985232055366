package nfs

import (
	"context"
	"math"
	"path"

	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/onc"
)

// The operations that look at, or set, the current object.

func (q *compound) access(_ *files.Visit, o *files.Object, _ int64) status4 {
	asked := q.r.Uint32()
	const all = accessRead | accessLookup | accessModify | accessExtend | accessDelete | accessExecute
	q.w.Uint32(asked & all)
	may, lasting := o.Says()
	q.w.Uint32(accessBits(may, o) & asked)
	if !lasting {
		q.shortLived()
	}
	return ok4
}

// facts of an object for its attributes.
func (q *compound) facts(v *files.Visit, o *files.Object, export int64, a files.Attributes) *facts4 {
	f := &facts4{Attributes: a, o: o, v: v, fsMajor: fsid(0), fsMinor: uint64(export), mountedOn: a.FileID}
	if o.IsRoot() {
		if e := q.s.Policy().Export(export); e != nil {
			f.mountedOn = pseudoID(e.Path)
		}
	}
	return f
}

func (q *compound) getAttr(v *files.Visit, o *files.Object, export int64) status4 {
	asked := readBitmap(q.r)
	if err := mayTell(o, asked); err != nil {
		return q.fail(err)
	}
	q.s.putAttrs(q.w, q.minor, asked, q.facts(v, o, export, o.Attributes()))
	return ok4
}

// mayTell says whether the guest may be told some attributes: who may read an object's ACL is a right of its own
// (RFC 8881 section 6.2.1.3.1, ACE4_READ_ACL).
func mayTell(o *files.Object, asked bitmap) error {
	if err := o.MayLook(); err != nil {
		return err
	}
	if asked.has(attrACL) {
		return o.MayReadACL()
	}
	return nil
}

func (q *compound) setAttr(v *files.Visit, o *files.Object, export int64) status4 {
	st := q.setAttrs(v, o)
	if st != ok4 {
		putBitmap(q.w, bitmap{})
	}
	return st
}

func (q *compound) setAttrs(v *files.Visit, o *files.Object) status4 {
	id := q.readStateID()
	set, which, err := q.readSet4()
	if err != nil {
		return q.fail(err)
	}
	if set.Size != nil && !special(id) && !(q.minor == 1 && id == currentStateID) {
		// Whoever has it open for writing may cut it short, whatever its mode says by now.
		op, st := q.forUse(id)
		switch {
		case st != ok4:
			return st
		case op == nil: // somebody else's: the caller's own rights say
		case op.access&shareWrite == 0:
			return err4OpenMode
		case *set.Size > math.MaxInt64:
			return err4FBig
		default:
			if err := op.file.Truncate(int64(*set.Size)); err != nil {
				return q.fail(err)
			}
			set.Size = nil
		}
	}
	if err := o.Set(set.Set); err != nil {
		return q.fail(err)
	}
	if st := q.setList(v, o, set); st != ok4 {
		return st
	}
	putBitmap(q.w, which)
	return ok4
}

// setList sets an object's ACL: its POSIX ACL where modes decide, else its entries.
func (q *compound) setList(v *files.Visit, o *files.Object, set set4) status4 {
	if !set.list {
		return ok4
	}
	if !v.Unix() {
		entries, st := q.s.toEntries(o.Numbers(), set.aces, o.Dir())
		if st != ok4 {
			return st
		}
		return q.fail(o.SetEntries(context.Background(), entries))
	}
	list, inherited, st := q.s.toPOSIX(o.Numbers(), set.aces, o.Dir())
	if st != ok4 {
		return st
	}
	return q.fail(o.SetACL(list, inherited))
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
	q.found(export, c)
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
	q.found(export, c)
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

// verify4 says whether what is sent is what an object's attributes are.
func (q *compound) verify4(v *files.Visit, o *files.Object, export int64) (bool, status4) {
	asked := readBitmap(q.r)
	sent := q.r.Opaque(64 << 10)
	if q.r.Err() != nil {
		return false, err4BadXDR
	}
	all := supported[q.minor]
	for i := range asked {
		if asked[i]&^all[i] != 0 {
			return false, err4AttrNotSupp
		}
	}
	if asked.has(attrRdattrError) || asked.has(attrAccessSet) || asked.has(attrModifySet) {
		return false, err4Inval
	}
	if err := mayTell(o, asked); err != nil {
		return false, q.fail(err)
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
