package nfs

import (
	"slices"
	"strconv"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/onc"
)

// ACE flags, RFC 8881 section 6.2.1.4.
const (
	aceFileInherit   = 0x01
	aceDirInherit    = 0x02
	aceNoPropagate   = 0x04
	aceInheritOnly   = 0x08
	aceGroup         = 0x40
	aceAllow, aceDen = 0, 1
)

type ace4 struct {
	kind, flags uint32
	mask        acl.Mask
	who         string
}

func putACL4(w *onc.Writer, aces []ace4) {
	w.Uint32(uint32(len(aces)))
	for _, a := range aces {
		w.Uint32(a.kind)
		w.Uint32(a.flags)
		w.Uint32(uint32(a.mask))
		w.String(a.who)
	}
}

// whoUser spells a user of the records for a client: the number that it has for them, else the one that they have here, marked as such.
func whoUser(h *site.HostNumbers, uid uint32) string { return who(h.UserThere, uid) }

// whoGroup is whoUser for a group.
func whoGroup(h *site.HostNumbers, gid uint32) string { return who(h.GroupThere, gid) }

func who(there func(uint32) (uint32, bool), here uint32) string {
	n, known := there(here)
	if !known {
		return strconv.FormatUint(uint64(here), 10) + hereMark
	}
	return strconv.FormatUint(uint64(n), 10)
}

// hereMark is the domain of numbers of the records, where a client has none of its own.
const hereMark = "@gatekeeper"

// entriesACL spells the entries that bear on an object.
func entriesACL(d *identity.Directory, o *files.Object) []ace4 {
	var out []ace4
	for _, a := range o.Entries().Aces {
		e := ace4{mask: a.Mask}
		if a.Entry.Deny {
			e.kind = aceDen
		}
		switch who := a.Entry.Who; who.Kind {
		case identity.KindUser:
			if u := d.User(who.ID); u != nil {
				e.who = whoUser(o.Numbers(), u.UID)
			}
		case identity.KindGroup:
			if g := d.Group(who.ID); g != nil {
				e.who, e.flags = whoGroup(o.Numbers(), g.GID), aceGroup
			}
		case identity.KindOwner:
			e.who = "OWNER@"
		case identity.KindOwningGroup:
			e.who, e.flags = "GROUP@", aceGroup
		case identity.KindEveryone:
			e.who = "EVERYONE@"
		}
		if o.Dir() {
			if a.Entry.Applies&acl.Files != 0 {
				e.flags |= aceFileInherit
			}
			if a.Entry.Applies&acl.Subfolders != 0 {
				e.flags |= aceDirInherit
			}
			if a.Entry.Applies&acl.DirectOnly != 0 {
				e.flags |= aceNoPropagate
			}
		}
		out = append(out, e)
	}
	return out
}

// unixACL spells owner, mode and POSIX ACL. Where somebody whom an entry names gets less than those
// after it, a deny keeps them from it.
func unixACL(o *files.Object) []ace4 {
	list, inherited := o.ACL()
	numbers := o.Numbers()
	out := posixACEs(numbers, list, o.Dir(), 0)
	if o.Dir() && inherited != nil {
		out = append(out, posixACEs(numbers, inherited, true, aceFileInherit|aceDirInherit|aceInheritOnly)...)
	}
	return out
}

func posixACEs(numbers *site.HostNumbers, list posix.ACL, dir bool, flags uint32) []ace4 {
	var out []ace4
	for _, g := range list.Grants() {
		a := ace4{kind: aceAllow, flags: flags, mask: access.MaskOf(g, dir)}
		if g.Deny {
			a.kind = aceDen
		}
		switch g.Tag {
		case posix.UserObj:
			a.who = "OWNER@"
		case posix.User:
			a.who = whoUser(numbers, g.ID)
		case posix.GroupObj:
			a.who, a.flags = "GROUP@", flags|aceGroup
		case posix.Group:
			a.who, a.flags = whoGroup(numbers, g.ID), flags|aceGroup
		default:
			a.who = "EVERYONE@"
		}
		out = append(out, a)
	}
	return out
}

// errACL is for a list that modes and POSIX ACLs cannot say.
const errACL = err4Inval

// mostACEs bounds a list that is sent.
const mostACEs = posix.MostACEs

// readACL4 reads the acl attribute.
func readACL4(r *onc.Reader) (out []ace4) {
	for range r.Count(mostACEs, 16) {
		out = append(out, ace4{kind: r.Uint32(), flags: r.Uint32(), mask: acl.Mask(r.Uint32()), who: r.String(longestOwner)})
	}
	return out
}

// toEntries turns a list into entries. The records evaluate what denies before what allows, and a list
// that means something else by its order is turned down.
func (s *Server) toEntries(numbers *site.HostNumbers, aces []ace4, dir bool) ([]acl.Entry, status4) {
	d := s.Policy().Directory
	var out []acl.Entry
	for _, a := range aces {
		const inherits = aceFileInherit | aceDirInherit | aceNoPropagate | aceInheritOnly
		if a.kind > aceDen || a.flags&^(inherits|aceGroup) != 0 || a.flags&inherits != 0 && !dir {
			return nil, errACL
		}
		e := acl.Entry{Deny: a.kind == aceDen, Applies: acl.Here}
		for flag, applies := range map[uint32]acl.Applies{aceFileInherit: acl.Files, aceDirInherit: acl.Subfolders, aceNoPropagate: acl.DirectOnly} {
			if a.flags&flag != 0 {
				e.Applies |= applies
			}
		}
		if a.flags&aceInheritOnly != 0 {
			e.Applies &^= acl.Here
		}
		if e.Level, e.Mask = acl.GrantOf(a.mask&acl.All, e.Deny, dir); e.Level == acl.NoLevel && e.Mask == 0 || e.Applies&acl.Everywhere == 0 {
			continue // it says nothing
		}
		h, ok := s.holderOf(numbers, a)
		switch {
		case !ok:
			return nil, err4BadOwner
		case h.tag == posix.UserObj:
			e.Who = identity.Owner
		case h.tag == posix.GroupObj:
			e.Who = identity.OwningGroup
		case h.tag == posix.Other:
			e.Who = identity.Everyone
		case h.tag == posix.Group:
			i := d.GroupIndexByGID(h.id)
			if i == identity.None {
				return nil, err4BadOwner
			}
			e.Who = identity.GroupPrincipal(d.Groups()[i].ID)
		default:
			i := d.UserIndexByUID(h.id)
			if i == identity.None {
				return nil, err4BadOwner
			}
			e.Who = identity.UserPrincipal(d.Users()[i].ID)
		}
		if acl.OrderCounts(out, e, dir) {
			return nil, errACL
		}
		out = append(out, e)
	}
	return out, ok4
}

// aceBits is what of Read, Write and Exec a mask names.
func aceBits(m acl.Mask) uint32 {
	var bits uint32
	for bit, names := range map[uint32]acl.Mask{posix.Read: acl.ReadData, posix.Write: acl.WriteData | acl.AppendData, posix.Exec: acl.Execute} {
		if m&names != 0 {
			bits |= bit
		}
	}
	return bits
}

// toPOSIX turns a list into a POSIX ACL and, for a directory, the one that what is made in it starts
// with: nil where the list says nothing of it. What a POSIX ACL would let somebody do that the list does not is
// turned down, and so is what it has no words for to withhold.
func (s *Server) toPOSIX(numbers *site.HostNumbers, aces []ace4, dir bool) (list, inherited posix.ACL, st status4) {
	var here, below []ace4
	for _, a := range aces {
		const inherits = aceFileInherit | aceDirInherit
		switch {
		case a.kind > aceDen, a.flags&^(inherits|aceInheritOnly|aceGroup) != 0, a.flags&(inherits|aceInheritOnly) != 0 && !dir:
			return nil, nil, errACL
		case a.flags&inherits != 0 && a.flags&inherits != inherits, a.flags&aceInheritOnly != 0 && a.flags&inherits == 0:
			return nil, nil, errACL // a default ACL is for files and directories alike
		}
		if a.flags&aceInheritOnly == 0 {
			here = append(here, a)
		}
		if a.flags&inherits != 0 {
			below = append(below, a)
		}
	}
	if list, st = s.posixOf(numbers, here); st != ok4 || len(below) == 0 {
		return list, nil, st
	}
	inherited, st = s.posixOf(numbers, below)
	return list, inherited, st
}

// holder is whom an entry is about, in a POSIX ACL.
type holder struct {
	tag posix.Tag
	id  uint32
}

func (s *Server) holderOf(numbers *site.HostNumbers, a ace4) (holder, bool) {
	switch a.who {
	case "OWNER@":
		return holder{posix.UserObj, posix.Nobody}, true
	case "GROUP@":
		return holder{posix.GroupObj, posix.Nobody}, true
	case "EVERYONE@":
		return holder{posix.Other, posix.Nobody}, true
	}
	id, ok := s.ownerOf(numbers, a.who, a.flags&aceGroup != 0)
	if a.flags&aceGroup != 0 {
		return holder{posix.Group, id}, ok
	}
	return holder{posix.User, id}, ok
}

func (s *Server) posixOf(numbers *site.HostNumbers, aces []ace4) (posix.ACL, status4) {
	type said struct {
		holder
		deny bool
		bits uint32
	}
	var all []said
	holders := []holder{{posix.UserObj, posix.Nobody}, {posix.GroupObj, posix.Nobody}, {posix.Other, posix.Nobody}}
	crowdDenied := false
	for _, a := range aces {
		h, ok := s.holderOf(numbers, a)
		if !ok {
			return nil, err4BadOwner
		}
		const sayable = acl.ReadData | acl.WriteData | acl.AppendData | acl.Execute | acl.DeleteChild | acl.ReadNamedAttrs | acl.WriteNamedAttrs
		crowd := h.tag == posix.Group || h.tag == posix.GroupObj || h.tag == posix.Other
		switch {
		case a.kind == aceDen && a.mask&^sayable != 0:
			return nil, errACL
		case a.kind == aceAllow && crowdDenied && h.tag != posix.Other:
			// Whoever is in the denied group as well is denied by the list, and would not be by
			// the ACL, where a user's own entry counts first and any group that allows is enough.
			return nil, errACL
		}
		crowdDenied = crowdDenied || a.kind == aceDen && crowd
		all = append(all, said{h, a.kind == aceDen, aceBits(a.mask)})
		if !slices.Contains(holders, h) {
			holders = append(holders, h)
		}
	}
	var out posix.ACL
	var most uint32
	for _, h := range holders {
		var allowed, decided uint32
		for _, e := range all { // each bit by the first entry that names it
			if e.holder != h && e.tag != posix.Other {
				continue
			}
			if !e.deny {
				allowed |= e.bits &^ decided
			}
			decided |= e.bits
		}
		out = append(out, posix.ACE{Tag: h.tag, Perm: allowed, ID: h.id})
		if h.tag == posix.User || h.tag == posix.Group || h.tag == posix.GroupObj {
			most |= allowed
		}
	}
	if len(out) > 3 {
		out = append(out, posix.ACE{Tag: posix.Mask, Perm: most, ID: posix.Nobody})
	}
	out = out.Sorted()
	if out.Check() != nil {
		return nil, errACL
	}
	return out, ok4
}
