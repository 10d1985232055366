package posix

// Grant is what an ACL says as one of a list that is gone through in order, each bit decided by the first grant that names it.
type Grant struct {
	Deny bool
	Tag  Tag
	ID   uint32 // for User and Group
	Perm uint32 // of Read, Write and Exec
}

// Grants spells an ACL as such a list. Where somebody whom an entry names gets less than those after it, a denial keeps
// them from it.
func (l ACL) Grants() []Grant {
	most := uint32(7)
	for _, e := range l {
		if e.Tag == Mask {
			most = e.Perm
		}
	}
	var out, denies []Grant
	for _, e := range l {
		perm := e.Perm
		if e.Tag != UserObj && e.Tag != Other {
			perm &= most
		}
		missing := Grant{true, e.Tag, e.ID, ^perm & 7}
		switch e.Tag {
		case UserObj, User:
			if missing.Perm != 0 {
				out = append(out, missing)
			}
		case GroupObj, Group:
			if missing.Perm != 0 {
				denies = append(denies, missing)
			}
		case Other:
			out = append(out, denies...)
		case Mask:
			continue
		}
		out = append(out, Grant{false, e.Tag, e.ID, perm})
	}
	return out
}
