package acl

import (
	"fmt"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
)

// Applies says which objects an entry reaches from the path it is written on.
type Applies uint8

// The parts of Applies. Here, Subfolders and Files are the absence of
// ACE4_INHERIT_ONLY, ACE4_DIRECTORY_INHERIT and ACE4_FILE_INHERIT of RFC 8881
// section 6.2.1.4; DirectOnly is ACE4_NO_PROPAGATE_INHERIT.
const (
	Here Applies = 1 << iota
	Subfolders
	Files
	DirectOnly

	// Everywhere is the path itself and all below it.
	Everywhere = Here | Subfolders | Files
)

// appliesNames are what the parts are called.
var appliesNames = []struct {
	name string
	bit  Applies
}{{"folder", Here}, {"subfolders", Subfolders}, {"files", Files}, {"direct", DirectOnly}}

// Names spells the parts, in the order of their bits.
func (a Applies) Names() (out []string) {
	for _, n := range appliesNames {
		if a&n.bit != 0 {
			out = append(out, n.name)
		}
	}
	return out
}

// ParseApplies reads parts by their names, in any order.
func ParseApplies(names []string) (a Applies, err error) {
	for _, name := range names {
		bit := Applies(0)
		for _, n := range appliesNames {
			if n.name == name {
				bit = n.bit
			}
		}
		if bit == 0 {
			return 0, fmt.Errorf("%q is not one of folder, subfolders, files, direct", name)
		}
		a |= bit
	}
	return a, nil
}

// Entry is one allow or deny of an ACL. It says a level, or, where Level is NoLevel, the exact
// bits of Mask. Expires is the first moment at which it no longer counts; zero means never.
type Entry struct {
	ID      int64              `json:"id,omitzero"`
	Deny    bool               `json:"deny,omitzero"`
	Who     identity.Principal `json:"who,omitzero"`
	Level   Level              `json:"level,omitzero"`
	Mask    Mask               `json:"mask,omitzero"`
	Applies Applies            `json:"applies,omitzero"`
	Expires time.Time          `json:"expires,omitzero"`
	Note    string             `json:"note,omitzero"`
}

// Bits are what the entry allows or denies on a directory, or on a file.
func (e *Entry) Bits(dir bool) Mask {
	switch {
	case e.Level == NoLevel:
		return e.Mask
	case e.Deny:
		return e.Level.DenyMask(dir)
	}
	return e.Level.Mask(dir)
}

// Ended says whether the entry's end date has passed.
func (e *Entry) Ended(now time.Time) bool { return !e.Expires.IsZero() && !now.Before(e.Expires) }

// Grant spells what the entry says: a level, or the names of its bits.
func (e *Entry) Grant() string { return GrantText(e.Level, e.Mask) }

// Same says whether two entries say the same; their numbers and notes do not count.
func (e Entry) Same(other Entry) bool {
	return e.Deny == other.Deny && e.Who == other.Who && e.Level == other.Level && e.Mask == other.Mask &&
		e.Applies == other.Applies && e.Expires.Equal(other.Expires)
}

// GrantText spells a level, or the names of bits with commas between.
func GrantText(level Level, mask Mask) string {
	if level != NoLevel {
		return level.String()
	}
	return strings.Join(mask.Names(true), ",")
}

// ParseGrant reads a level's name, or names of bits with commas between, as on a directory or a
// file (RFC 8881 section 6.2.1.3.1).
func ParseGrant(s string) (Level, Mask, error) {
	if level, err := ParseLevel(s); err == nil {
		return level, 0, nil
	}
	var mask Mask
	for name := range strings.SplitSeq(s, ",") {
		bit := bitNamed(strings.ToLower(strings.TrimSpace(name)))
		if bit == 0 {
			return NoLevel, 0, fmt.Errorf("%q is neither one of the levels %s nor made of names of RFC 8881 bits, such as read_acl,write_acl", s, strings.Join(levelNames[1:], ", "))
		}
		mask |= bit
	}
	return NoLevel, mask, nil
}

func bitNamed(name string) Mask {
	for _, n := range maskNames {
		if name == n.file || name == n.dir && n.dir != "" {
			return n.bit
		}
	}
	return 0
}

// Rule is what is written at one path of a folder: explicit entries, and
// whether the parent's entries are inherited as well. Path is relative to the
// folder, "" for the folder itself, with slashes.
type Rule struct {
	ID      int64   `json:"id,omitzero"`
	Path    string  `json:"path,omitzero"`
	Cut     bool    `json:"cut,omitzero"` // inherits nothing from above
	Entries []Entry `json:"entries,omitzero"`
}

// Ownership is who owns an object, as dense indexes; identity.None where unknown.
type Ownership struct{ User, Group int32 }

// Reaches says whether the entry bears on an object so many steps below the path it is written on.
func (e *Entry) Reaches(dist int, file bool) bool {
	if dist == 0 {
		return e.Applies&Here != 0
	}
	if dist > 1 && e.Applies&DirectOnly != 0 {
		return false
	}
	if file {
		return e.Applies&Files != 0
	}
	return e.Applies&Subfolders != 0
}

// Verb is what the entry does: allow, or deny.
func (e *Entry) Verb() string {
	if e.Deny {
		return "deny"
	}
	return "allow"
}

// OrderCounts says whether an entry that denies means something else after those before it than it does here, where what denies counts first: one
// of them allows what it denies, to somebody whom both may be about.
func OrderCounts(before []Entry, e Entry, dir bool) bool {
	if !e.Deny {
		return false
	}
	for _, b := range before {
		apart := b.Who.Kind == identity.KindUser && e.Who.Kind == identity.KindUser && b.Who != e.Who
		if !b.Deny && !apart && b.Bits(dir)&e.Bits(dir) != 0 {
			return true
		}
	}
	return false
}
