package identity

import (
	"cmp"
	"slices"
)

// Numbered is a user or a group as some other machine has it.
type Numbered struct {
	Group  bool   `json:"group,omitzero"`
	Name   string `json:"name"`
	Number uint32 `json:"number"` // uid or gid
}

// Mismatch is one way in which another machine's numbers are not ours. NFS with
// AUTH_SYS (RFC 5531 section 8.2) carries numbers only, so each is a user or a group
// taken for another.
type Mismatch struct {
	Group bool
	Name  string // there
	There uint32 // its number there
	// Here is our number for that name; it is different from There. Valid where Known.
	Here  uint32
	Known bool
	// Taken is whom the number There belongs to here, if somebody else; "" if nobody.
	Taken string
	// Free is a number that neither machine uses.
	Free uint32
}

const firstOrdinary = 1000 // below are each system's own accounts

// CompareNumbers lists where another machine's numbers differ from this directory's: a name
// that both have under two numbers, and a number that both have under two names. Accounts
// that only one of them has are no mismatch. The result is in the order of kind and name.
func (d *Directory) CompareNumbers(there []Numbered) []Mismatch {
	type key struct {
		group  bool
		number uint32
	}
	used, free := make(map[key]bool), map[bool]uint32{false: firstOrdinary, true: firstOrdinary}
	for _, u := range d.users {
		used[key{false, u.UID}] = true
	}
	for _, g := range d.groups {
		used[key{true, g.GID}] = true
	}
	for _, n := range there {
		used[key{n.Group, n.Number}] = true
	}
	var out []Mismatch
	for _, n := range there {
		m := Mismatch{Group: n.Group, Name: n.Name, There: n.Number}
		if n.Group {
			if g := d.GroupNamed(n.Name); g != nil {
				m.Here, m.Known = g.GID, true
			}
			if i := d.GroupIndexByGID(n.Number); i != None && Fold(d.groups[i].Name) != Fold(n.Name) {
				m.Taken = d.groups[i].Name
			}
		} else {
			if u := d.UserNamed(n.Name); u != nil {
				m.Here, m.Known = u.UID, true
			}
			if i := d.UserIndexByUID(n.Number); i != None && Fold(d.users[i].Name) != Fold(n.Name) {
				m.Taken = d.users[i].Name
			}
		}
		if m.Known && m.Here != m.There || m.Taken != "" {
			m.Known = m.Known && m.Here != m.There
			for used[key{n.Group, free[n.Group]}] {
				free[n.Group]++
			}
			m.Free = free[n.Group]
			used[key{n.Group, m.Free}] = true
			out = append(out, m)
		}
	}
	slices.SortFunc(out, func(a, b Mismatch) int {
		if a.Group != b.Group {
			if a.Group {
				return 1
			}
			return -1
		}
		return cmp.Compare(a.Name, b.Name)
	})
	return out
}
