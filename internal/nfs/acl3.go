package nfs

import (
	"errors"
	"slices"

	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/onc"
)

// The side protocol by which version 3 clients read and set POSIX ACLs: program 100227, version 3.
// An entry is its tag, a number and its permission; those of a default ACL have a flag in the tag.

const (
	aclWant     = 0x1
	aclDefault  = 0x4
	aclDefaults = 0x1000 // in the tag
)

func (s *Server) serveACL(c *onc.Call, w *onc.Writer) onc.AcceptStat {
	q := &call3{Call: c, s: s, w: w, r: c.Args}
	switch c.Procedure {
	case 0:
		return onc.Success
	case 1:
		return q.getACL()
	case 2:
		return q.setACL()
	case 3:
		return q.getAttr()
	case 4:
		return q.access()
	}
	return onc.ProcUnavail
}

func (q *call3) getACL() onc.AcceptStat {
	raw, mask := q.handle(), q.r.Uint32()
	return q.with(raw, 1, func(v *files.Visit, o *files.Object, export int64) onc.AcceptStat {
		err := o.MayLook()
		if err == nil && !v.Unix() {
			err = files.ErrNotSupported
		}
		list, def := o.ACL()
		if numbers := o.Numbers(); numbers != nil && err == nil {
			var all, allDefault bool
			list, all = mapACL(list, numbers.UserThere, numbers.GroupThere)
			def, allDefault = mapACL(def, numbers.UserThere, numbers.GroupThere)
			if !all || !allDefault { // a list that leaves somebody out would be written back without them
				err = files.ErrNotSupported
			}
		}
		good := q.status(err)
		putPost(q.w, export, now3(o))
		if !good {
			return onc.Success
		}
		a := o.Attributes()
		if len(list) == 3 { // its readers want a mask
			list = posix.ACL{list[0], list[1], {Tag: posix.Mask, Perm: list[1].Perm}, list[2]}
		}
		q.w.Uint32(mask & 0xf)
		put := func(list posix.ACL, flag uint32, asked bool) {
			if !asked {
				list = nil
			}
			q.w.Uint32(uint32(len(list)))
			q.w.Uint32(uint32(len(list)))
			for _, e := range list {
				id := e.ID
				switch e.Tag {
				case posix.UserObj:
					id = a.UID
				case posix.GroupObj:
					id = a.GID
				case posix.Mask, posix.Other:
					id = 0
				}
				q.w.Uint32(uint32(e.Tag) | flag)
				q.w.Uint32(id)
				q.w.Uint32(e.Perm)
			}
		}
		put(list, 0, mask&aclWant != 0)
		put(def, aclDefaults, mask&aclDefault != 0)
		return onc.Success
	})
}

func (q *call3) setACL() onc.AcceptStat {
	raw, mask := q.handle(), q.r.Uint32()
	read := func() (posix.ACL, error) {
		q.r.Uint32()
		var list posix.ACL
		for range q.r.Count(posix.MostACEs, 12) {
			e := posix.ACE{Tag: posix.Tag(q.r.Uint32() &^ aclDefaults & 0xffff), ID: q.r.Uint32(), Perm: q.r.Uint32() & 7}
			if e.Tag != posix.User && e.Tag != posix.Group {
				e.ID = posix.Nobody
			}
			list = append(list, e)
		}
		if len(list) == 0 {
			return nil, nil
		}
		list = list.Sorted()
		if len(list) == 4 && list[2].Tag == posix.Mask { // a mask that says nothing
			list = posix.ACL{list[0], {Tag: posix.GroupObj, Perm: list[1].Perm & list[2].Perm, ID: posix.Nobody}, list[3]}
		}
		return list, list.Check()
	}
	list, err1 := read()
	def, err2 := read()
	return q.with(raw, 1, func(v *files.Visit, o *files.Object, export int64) onc.AcceptStat {
		err := errors.Join(err1, err2)
		numbers := o.Numbers()
		list, all := mapACL(list, numbers.UserHere, numbers.GroupHere)
		def, allDefault := mapACL(def, numbers.UserHere, numbers.GroupHere)
		if err != nil || !all || !allDefault {
			err = files.ErrInvalid
		} else {
			had, hadDefault := o.ACL()
			if mask&aclWant == 0 || list == nil {
				list = had
			}
			if mask&aclDefault == 0 {
				def = hadDefault
			}
			err = o.SetACL(list, def)
		}
		q.status(err)
		putPost(q.w, export, now3(o))
		return onc.Success
	})
}

// mapACL is an ACL with other numbers for users and groups; false where there is none for somebody.
func mapACL(list posix.ACL, user, group func(uint32) (uint32, bool)) (posix.ACL, bool) {
	list = slices.Clone(list)
	all := true
	for i := range list {
		known := true
		switch e := &list[i]; e.Tag {
		case posix.User:
			e.ID, known = user(e.ID)
		case posix.Group:
			e.ID, known = group(e.ID)
		}
		all = all && known
	}
	return list.Sorted(), all
}
