package descriptor

import (
	"slices"
	"time"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
)

// Names knows users and groups by their SIDs.
type Names interface {
	SID(who identity.Principal) SID
	Who(sid SID) (identity.Principal, bool)
}

// OfEntries is the list that entries are to a desktop: what is written on the object, then what it inherits, as borne is told by
// acl.Tree.Bearing. group is that of the object. An entry whose end has passed is not in it.
func OfEntries(borne []acl.Borne, dir bool, group SID, now time.Time, names Names) []Ace {
	out := make([]Ace, 0, len(borne)+1)
	owner := false
	for _, e := range borne {
		if e.Ended(now) {
			continue
		}
		for _, a := range acesOf(&e.Entry, dir, group, names) {
			if e.Inherited {
				a.Flags |= Inherited
			}
			owner = owner || a.Who == OwnerRights && a.Flags&InheritOnly == 0
			out = append(out, a)
		}
	}
	if !owner {
		// Without an entry about its owner, desktops take it that an owner reads and changes the list: here they do not.
		out = append(out, Ace{Flags: Inherited, Who: OwnerRights})
	}
	return out
}

// acesOf is an entry as ACEs: one, or two where it is about the owning group of the object and of what is made below it, for which there is no SID
// that stands for both.
func acesOf(e *acl.Entry, dir bool, group SID, names Names) []Ace {
	a := Ace{Mask: uint32(e.Bits(dir)), Who: names.SID(e.Who), Flags: flagsOf(e.Applies, dir)}
	if e.Deny {
		a.Type = Deny
	}
	if a.Who == "" || !dir && e.Applies&acl.Here == 0 {
		return nil // whom it is about has just gone, or nothing is
	}
	if e.Who.Kind != identity.KindOwningGroup || a.Flags&InheritOnly != 0 {
		return []Ace{a}
	}
	here := a
	here.Who, here.Flags = group, 0
	if a.Flags&(ObjectInherit|ContainerInherit) == 0 {
		return []Ace{here}
	}
	a.Who, a.Flags = CreatorGroup, a.Flags|InheritOnly
	return []Ace{here, a}
}

func flagsOf(applies acl.Applies, dir bool) (flags byte) {
	if !dir {
		return 0
	}
	for bit, flag := range map[acl.Applies]byte{acl.Files: ObjectInherit, acl.Subfolders: ContainerInherit, acl.DirectOnly: NoPropagate} {
		if applies&bit != 0 {
			flags |= flag
		}
	}
	if applies&acl.Here == 0 {
		flags |= InheritOnly
	}
	return flags
}

// Entries turns a list into what is written on an object, where of what was written there whatever says the same stays as it is, with its
// end and its note; what was not shown, because it has ended or reaches nothing, stays too. What is inherited is not written, unless nothing
// is to be inherited any more. A list that cannot be said in entries is a Refusal.
func (d *Descriptor) Entries(was []acl.Entry, dir bool, group SID, now time.Time, names Names) (cut bool, entries []acl.Entry, err error) {
	if d.Control&DACLPresent == 0 || d.DACL == nil {
		return false, nil, refuse("a list that is not there would let everybody do everything")
	}
	cut = d.Control&DACLProtected != 0
	var list []Ace
	for _, a := range d.DACL {
		if a.Flags&Inherited != 0 && !cut {
			continue
		}
		mask, others := acl.Rights(a.Mask)
		a.Mask, a.Flags = uint32(mask), a.Flags&^Inherited
		switch {
		case others != 0:
			return false, nil, refuse("the rights 0x%x are none that files have", others)
		case a.Flags&^inheritance != 0:
			return false, nil, refuse("the flags 0x%x of an entry are none that it has here", a.Flags)
		case a.Flags&inheritance != 0 && !dir:
			return false, nil, refuse("nothing inherits from a file")
		case mask != 0: // else it says nothing
			list = append(list, a)
		}
	}
	var left []acl.Entry
	for _, e := range was {
		if e.Ended(now) || len(acesOf(&e, dir, group, names)) == 0 {
			entries = append(entries, e)
		} else {
			left = append(left, e)
		}
	}
	ended := len(entries)
	for len(list) > 0 {
		e, rest, kept := keep(list, left, func(e *acl.Entry) []Ace { return acesOf(e, dir, group, names) })
		if !kept {
			if e, err = entryOf(list[0], dir, names); err != nil {
				return false, nil, err
			}
		}
		if list = rest; e.Applies&acl.Everywhere == 0 {
			continue
		}
		if kept {
			i := slices.IndexFunc(left, func(x acl.Entry) bool { return x == e })
			left = slices.Delete(left, i, i+1)
		}
		if acl.OrderCounts(entries[ended:], e, dir) {
			return false, nil, refuse("what denies counts before what allows here, and this list says it the other way round")
		}
		entries = append(entries, e)
	}
	return cut, entries, nil
}

// keep finds the entry that the first ACE of a list is of, with all of its others in the list as well, and gives the rest of the list.
func keep(list []Ace, left []acl.Entry, aces func(*acl.Entry) []Ace) (acl.Entry, []Ace, bool) {
	for _, e := range left {
		forms := aces(&e)
		if len(forms) == 0 || forms[0] != list[0] {
			continue
		}
		rest, found := slices.Clone(list[1:]), true
		for _, f := range forms[1:] {
			i := slices.Index(rest, f)
			if found = i >= 0; !found {
				break
			}
			rest = slices.Delete(rest, i, i+1)
		}
		if found {
			return e, rest, true
		}
	}
	return acl.Entry{}, list[1:], false
}

// entryOf is an ACE as an entry. One that reaches nothing says nothing.
func entryOf(a Ace, dir bool, names Names) (acl.Entry, error) {
	e := acl.Entry{Deny: a.Type == Deny, Applies: acl.Here}
	for flag, bit := range map[byte]acl.Applies{ObjectInherit: acl.Files, ContainerInherit: acl.Subfolders, NoPropagate: acl.DirectOnly} {
		if a.Flags&flag != 0 {
			e.Applies |= bit
		}
	}
	if a.Flags&InheritOnly != 0 || a.Who == CreatorOwner || a.Who == CreatorGroup { // whoever will own what is made: of the object itself it says nothing
		e.Applies &^= acl.Here
	}
	if e.Applies&(acl.Files|acl.Subfolders) == 0 {
		e.Applies &^= acl.DirectOnly
	}
	who, known := whoIs(a.Who, names)
	if !known {
		return e, refuse("%s is nobody here", a.Who)
	}
	e.Who = who
	e.Level, e.Mask = acl.GrantOf(acl.Mask(a.Mask), e.Deny, dir)
	return e, nil
}

func whoIs(sid SID, names Names) (identity.Principal, bool) {
	switch sid {
	case Everyone:
		return identity.Everyone, true
	case OwnerRights, CreatorOwner:
		return identity.Owner, true
	case CreatorGroup:
		return identity.OwningGroup, true
	}
	return names.Who(sid)
}

// OfModes is the list that a POSIX ACL is, as posix.Grants tells it; who spells whom a grant is about.
func OfModes(grants []posix.Grant, dir, below bool, who func(posix.Grant) SID) (out []Ace) {
	for _, g := range grants {
		a := Ace{Mask: uint32(access.MaskOf(g, dir)), Who: who(g)}
		if g.Deny {
			a.Type = Deny
		}
		if below {
			a.Flags = ObjectInherit | ContainerInherit | InheritOnly
		}
		out = append(out, a)
	}
	return out
}
