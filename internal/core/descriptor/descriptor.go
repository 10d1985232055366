// Package descriptor has the security descriptors of MS-DTYP section 2.4.6, and what they and the entries of the records are to each
// other: what a desktop is shown of who may do what, and what it writes as entries.
//
// It is pure: no clock, no storage, no network.
package descriptor

import (
	"fmt"
	"slices"

	"amber.example/gatekeeper/internal/core/acl"
)

// Types and flags of an ACE, MS-DTYP section 2.4.4.1.
const (
	Allow = 0x00
	Deny  = 0x01

	ObjectInherit    = 0x01 // files below have it
	ContainerInherit = 0x02 // directories below have it
	NoPropagate      = 0x04 // and what is below those has not
	InheritOnly      = 0x08 // the object itself has it not
	Inherited        = 0x10 // it comes from above

	inheritance = ObjectInherit | ContainerInherit | NoPropagate | InheritOnly
)

// Flags of a descriptor, MS-DTYP section 2.4.6.
const (
	DACLPresent       = 0x0004
	DACLAutoInherited = 0x0400
	DACLProtected     = 0x1000 // nothing is inherited
	SelfRelative      = 0x8000
)

// Bounds of what is read.
const (
	MostACEs = 1024
	MostSize = 64 << 10 // bytes of a list
)

// Ace is one entry of a list.
type Ace struct {
	Type  byte // Allow or Deny
	Flags byte
	Mask  uint32 // access rights, MS-DTYP section 2.4.3
	Who   SID
}

// Descriptor is a security descriptor. An empty owner or group is none.
type Descriptor struct {
	Control uint16
	Owner   SID
	Group   SID
	DACL    []Ace // with DACLPresent; nil is a list that is not there, which is not one without entries
}

const (
	headSize  = 20
	listHead  = 8
	aceHead   = 8
	revision  = 1
	listOf    = 2 // the revision of a list
	listOfAny = 4 // of one that may have ACEs about kinds of objects
)

// Parse reads the self-relative form. An ACE of another type than Allow and Deny is refused: it would be lost.
func (d *Descriptor) Parse(b []byte) error {
	*d = Descriptor{}
	if len(b) < headSize || b[0] != revision {
		return ErrMalformed
	}
	d.Control = le.Uint16(b[2:])
	owner, group, dacl := le.Uint32(b[4:]), le.Uint32(b[8:]), le.Uint32(b[16:])
	if d.Control&SelfRelative == 0 {
		return ErrMalformed
	}
	part := func(at uint32) ([]byte, error) {
		if at < headSize || uint64(at) > uint64(len(b)) {
			return nil, ErrMalformed
		}
		return b[at:], nil
	}
	for _, p := range []struct {
		at  uint32
		sid *SID
	}{{owner, &d.Owner}, {group, &d.Group}} {
		if p.at == 0 {
			continue
		}
		rest, err := part(p.at)
		if err != nil {
			return err
		}
		if *p.sid, _, err = ParseSID(rest); err != nil {
			return err
		}
	}
	if d.Control&DACLPresent == 0 || dacl == 0 {
		return nil
	}
	rest, err := part(dacl)
	if err != nil {
		return err
	}
	d.DACL, err = parseList(rest)
	return err
}

func parseList(b []byte) ([]Ace, error) {
	if len(b) < listHead || b[0] != listOf && b[0] != listOfAny {
		return nil, ErrMalformed
	}
	size, count := int(le.Uint16(b[2:])), int(le.Uint16(b[4:]))
	if size < listHead || size > len(b) || count > MostACEs {
		return nil, ErrMalformed
	}
	out := make([]Ace, 0, min(count, 64))
	for b = b[listHead:size]; count > 0; count-- {
		if len(b) < aceHead {
			return nil, ErrMalformed
		}
		n := int(le.Uint16(b[2:]))
		if n < aceHead || n > len(b) || n%4 != 0 {
			return nil, ErrMalformed
		}
		a := Ace{Type: b[0], Flags: b[1], Mask: le.Uint32(b[4:])}
		if a.Type != Allow && a.Type != Deny {
			return nil, refuse("an entry of type %d has no place in the records", a.Type)
		}
		sid, _, err := ParseSID(b[aceHead:n])
		if err != nil {
			return nil, err
		}
		a.Who = sid
		out, b = append(out, a), b[n:]
	}
	return out, nil
}

// Append puts the self-relative form.
func (d *Descriptor) Append(b []byte) ([]byte, error) {
	start := len(b)
	b = append(b, make([]byte, headSize)...)
	b[start] = revision
	le.PutUint16(b[start+2:], d.Control|SelfRelative)
	var err error
	for at, sid := range map[int]SID{4: d.Owner, 8: d.Group} {
		if sid != "" {
			le.PutUint32(b[start+at:], uint32(len(b)-start))
			if b, err = sid.Append(b); err != nil {
				return nil, err
			}
		}
	}
	if d.Control&DACLPresent == 0 || d.DACL == nil {
		return b, nil
	}
	list := len(b)
	le.PutUint32(b[start+16:], uint32(list-start))
	b = append(b, listOf, 0, 0, 0)
	b = le.AppendUint16(b, uint16(len(d.DACL)))
	b = append(b, 0, 0)
	for _, a := range d.DACL {
		at := len(b)
		b = append(b, a.Type, a.Flags, 0, 0)
		b = le.AppendUint32(b, a.Mask)
		if b, err = a.Who.Append(b); err != nil {
			return nil, err
		}
		le.PutUint16(b[at+2:], uint16(len(b)-at))
	}
	if len(b)-list > MostSize {
		return nil, refuse("%d entries are more than a descriptor holds", len(d.DACL))
	}
	le.PutUint16(b[list+2:], uint16(len(b)-list))
	return b, nil
}

// Refusal says why a descriptor cannot be what is written in the records.
type Refusal string

func (r Refusal) Error() string { return string(r) }

func refuse(format string, args ...any) error { return Refusal(fmt.Sprintf(format, args...)) }

// Check is the algorithm of MS-DTYP section 2.5.3.2, which desktops follow to say who may do what: what a list gives to whoever has these SIDs,
// their own first, of the rights wanted.
func (d *Descriptor) Check(token []SID, want acl.Mask) acl.Mask {
	var allowed acl.Mask
	owns := slices.Contains(token, d.Owner)
	said := false
	for _, a := range d.DACL {
		said = said || a.Who == OwnerRights && a.Flags&InheritOnly == 0
	}
	open := want
	if owns && !said {
		allowed = want & (acl.ReadACL | acl.WriteACL)
		open &^= allowed
	}
	for _, a := range d.DACL {
		if a.Flags&InheritOnly != 0 || !slices.Contains(token, a.Who) && (a.Who != OwnerRights || !owns) {
			continue
		}
		is, _ := acl.Rights(a.Mask)
		if a.Type == Allow {
			allowed |= is & open
		}
		open &^= is
	}
	return allowed
}
