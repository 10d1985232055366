package posix

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"slices"
	"strings"
)

// Tag says whom an entry is about. The numbers are those of the extended attribute.
type Tag uint16

// The tags, in the order in which a list holds them.
const (
	UserObj  Tag = 0x01 // the owner
	User     Tag = 0x02
	GroupObj Tag = 0x04 // the owning group
	Group    Tag = 0x08
	Mask     Tag = 0x10 // the most that all but owner and others get
	Other    Tag = 0x20
)

// ACE is one entry of a POSIX ACL. ID is for User and Group.
type ACE struct {
	Tag  Tag
	Perm uint32 // of Read, Write and Exec
	ID   uint32
}

// ACL is a POSIX ACL, its entries in the order of their tags.
type ACL []ACE

// permits is posix_acl_permission of the kernel. The owner was asked about before.
func (l ACL) permits(c *Credential, owningGroup uint32, want uint32) bool {
	found := false
	for _, e := range l {
		switch e.Tag {
		case User:
			if e.ID == c.UID {
				return want&^(e.Perm&l.mask()) == 0
			}
		case GroupObj, Group:
			gid := owningGroup
			if e.Tag == Group {
				gid = e.ID
			}
			if c.In(gid) {
				found = true
				if want&^e.Perm == 0 {
					return want&^l.mask() == 0
				}
			}
		case Other:
			return !found && want&^e.Perm == 0
		}
	}
	return false
}

func (l ACL) mask() uint32 {
	for _, e := range l {
		if e.Tag == Mask {
			return e.Perm
		}
	}
	return 7
}

// extended says whether it says more than mode bits can.
func (l ACL) extended() bool {
	return slices.ContainsFunc(l, func(e ACE) bool { return e.Tag == User || e.Tag == Group || e.Tag == Mask })
}

// withMode is the list after chmod.
func (l ACL) withMode(mode uint32) ACL {
	if l == nil {
		return nil
	}
	out := slices.Clone(l)
	group := GroupObj
	if slices.ContainsFunc(l, func(e ACE) bool { return e.Tag == Mask }) {
		group = Mask
	}
	for i := range out {
		switch out[i].Tag {
		case UserObj:
			out[i].Perm = mode >> 6 & 7
		case group:
			out[i].Perm = mode >> 3 & 7
		case Other:
			out[i].Perm = mode & 7
		}
	}
	return out
}

// mode gives the nine bits that a list amounts to.
func (l ACL) mode() uint32 {
	var user, group, other uint32
	masked := false
	for _, e := range l {
		switch e.Tag {
		case UserObj:
			user = e.Perm
		case GroupObj:
			if !masked {
				group = e.Perm
			}
		case Mask:
			group, masked = e.Perm, true
		case Other:
			other = e.Perm
		}
	}
	return user<<6 | group<<3 | other
}

// Of spells the permission bits of a mode as the list that says the same.
func Of(mode uint32) ACL {
	return ACL{{UserObj, mode >> 6 & 7, Nobody}, {GroupObj, mode >> 3 & 7, Nobody}, {Other, mode & 7, Nobody}}
}

// ErrACL is wrapped by the errors of ParseACL and Check.
var ErrACL = errors.New("not a POSIX ACL")

const (
	aclVersion = 2
	aceSize    = 8
	// MostACEs bounds a list: what fits into an extended attribute.
	MostACEs = 1024
)

// ParseACL reads the extended attribute system.posix_acl_access or ..._default: version 2,
// then tag, permission and id of each entry, little-endian.
func ParseACL(raw []byte) (ACL, error) {
	if len(raw) < 4 || binary.LittleEndian.Uint32(raw) != aclVersion || (len(raw)-4)%aceSize != 0 || len(raw) > 4+MostACEs*aceSize {
		return nil, fmt.Errorf("%w: %d bytes", ErrACL, len(raw))
	}
	var out ACL
	for raw = raw[4:]; len(raw) > 0; raw = raw[aceSize:] {
		out = append(out, ACE{Tag(binary.LittleEndian.Uint16(raw)), uint32(binary.LittleEndian.Uint16(raw[2:])) & 7, binary.LittleEndian.Uint32(raw[4:])})
	}
	return out, out.Check()
}

// Check says whether a list is one that the kernel would take: entries in order, the
// three basic ones once each, a mask where users or groups are named, nobody twice.
func (l ACL) Check() error {
	order := []Tag{UserObj, User, GroupObj, Group, Mask, Other}
	count := make(map[Tag]int)
	for i, e := range l {
		at := slices.Index(order, e.Tag)
		if at < 0 {
			return fmt.Errorf("%w: tag %#x", ErrACL, uint16(e.Tag))
		}
		if i > 0 {
			before := l[i-1]
			was := slices.Index(order, before.Tag)
			if was > at || was == at && before.ID >= e.ID {
				return fmt.Errorf("%w: entries out of order", ErrACL)
			}
		}
		count[e.Tag]++
	}
	if count[UserObj] != 1 || count[GroupObj] != 1 || count[Other] != 1 || count[Mask] > 1 || count[Mask] == 0 && count[User]+count[Group] > 0 {
		return fmt.Errorf("%w: a basic entry or the mask is missing", ErrACL)
	}
	return nil
}

// Bytes is the extended attribute that ParseACL reads.
func (l ACL) Bytes() []byte {
	out := binary.LittleEndian.AppendUint32(nil, aclVersion)
	for _, e := range l {
		out = binary.LittleEndian.AppendUint16(out, uint16(e.Tag))
		out = binary.LittleEndian.AppendUint16(out, uint16(e.Perm))
		id := e.ID
		if e.Tag != User && e.Tag != Group {
			id = Nobody
		}
		out = binary.LittleEndian.AppendUint32(out, id)
	}
	return out
}

// Bits spells permission bits: "rw-".
func Bits(perm uint32) string {
	var b strings.Builder
	for i, letter := range "rwx" {
		if perm&(4>>i) == 0 {
			letter = '-'
		}
		b.WriteRune(letter)
	}
	return b.String()
}

// Sorted is the list in the order in which it is kept.
func (l ACL) Sorted() ACL {
	out := slices.Clone(l)
	slices.SortStableFunc(out, func(a, b ACE) int { return cmp.Or(cmp.Compare(a.Tag, b.Tag), cmp.Compare(a.ID, b.ID)) })
	return out
}
