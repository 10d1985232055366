package site

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"amber.example/gatekeeper/internal/core/identity"
)

// Others says what becomes of the numbers that a number map does not have.
type Others string

// The kinds of Others.
const (
	OthersSame    Others = "same"    // they are whose they are here
	OthersUnknown Others = "unknown" // they are nobody's
)

// NumberMap says which user or group of the records a number is at some hosts, whose numbers cannot be changed. From are their addresses, networks, names or
// patterns of names, as in client rules. Users and Groups are in the order of the hosts' numbers; no number and nobody is in one twice.
type NumberMap struct {
	ID          int64       `json:"id,omitzero"`
	Name        string      `json:"name,omitzero"`
	Description string      `json:"description,omitzero"`
	From        []string    `json:"from,omitzero"`
	Users       []NumberFor `json:"users,omitzero"`
	Groups      []NumberFor `json:"groups,omitzero"`
	Others      Others      `json:"others,omitzero"`
}

// NumberFor is a number of a host, and the record of whom it means there.
type NumberFor struct {
	There uint32      `json:"there"`
	Who   identity.ID `json:"who"`
}

// HostNumbers are the numbers of some hosts and those of the records, either way: a number map as compiled. A nil one changes nothing.
type HostNumbers struct {
	NumberMap
	hosts         []hosts
	users, groups []NumberFor // in the order of the records
	directory     *identity.Directory
}

func byWho(list []NumberFor) []NumberFor {
	return slices.SortedFunc(slices.Values(list), func(a, b NumberFor) int { return cmp.Compare(a.Who, b.Who) })
}

func findThere(list []NumberFor, there uint32) (identity.ID, bool) {
	i, found := slices.BinarySearchFunc(list, there, func(n NumberFor, there uint32) int { return cmp.Compare(n.There, there) })
	if !found {
		return 0, false
	}
	return list[i].Who, true
}

func findWho(list []NumberFor, who identity.ID) (uint32, bool) {
	i, found := slices.BinarySearchFunc(list, who, func(n NumberFor, who identity.ID) int { return cmp.Compare(n.Who, who) })
	if !found {
		return 0, false
	}
	return list[i].There, true
}

// numbering is one side of a map: users, or groups.
type numbering struct {
	there, who []NumberFor
	others     Others
	of         func(identity.ID) (uint32, bool) // whose number here is what
	whose      func(uint32) identity.ID         // 0 for nobody
}

func (h *HostNumbers) ofUsers() numbering {
	d := h.directory
	return numbering{h.Users, h.users, h.Others, func(id identity.ID) (uint32, bool) {
		if u := d.User(id); u != nil {
			return u.UID, true
		}
		return 0, false
	}, func(uid uint32) identity.ID {
		if i := d.UserIndexByUID(uid); i != identity.None {
			return d.Users()[i].ID
		}
		return 0
	}}
}

func (h *HostNumbers) ofGroups() numbering {
	d := h.directory
	return numbering{h.Groups, h.groups, h.Others, func(id identity.ID) (uint32, bool) {
		if g := d.Group(id); g != nil {
			return g.GID, true
		}
		return 0, false
	}, func(gid uint32) identity.ID {
		if i := d.GroupIndexByGID(gid); i != identity.None {
			return d.Groups()[i].ID
		}
		return 0
	}}
}

// here is the number of the records for one of the hosts. Without a number of its own in the map, one is the same here, if others are, and if whoever has it
// here is not somebody else there.
func (n numbering) here(there uint32) (here uint32, known bool) {
	if id, mapped := findThere(n.there, there); mapped {
		return n.of(id)
	}
	if n.others == OthersUnknown {
		return 0, false
	}
	if id := n.whose(there); id != 0 {
		if _, elsewhere := findWho(n.who, id); elsewhere {
			return 0, false
		}
	}
	return there, true
}

// back is here the other way round.
func (n numbering) back(here uint32) (there uint32, known bool) {
	if id := n.whose(here); id != 0 {
		if there, mapped := findWho(n.who, id); mapped {
			return there, true
		}
	}
	if n.others == OthersUnknown {
		return 0, false
	}
	if _, somebody := findThere(n.there, here); somebody {
		return 0, false
	}
	return here, true
}

// UserHere gives the uid of the records for one that the hosts say; false for one that is nobody's there.
func (h *HostNumbers) UserHere(there uint32) (uint32, bool) {
	if h == nil || there == 0 {
		return there, true
	}
	return h.ofUsers().here(there)
}

// GroupHere is UserHere for a gid.
func (h *HostNumbers) GroupHere(there uint32) (uint32, bool) {
	if h == nil || there == 0 {
		return there, true
	}
	return h.ofGroups().here(there)
}

// UserThere gives the uid by which the hosts know a uid of the records; false where they have none for it.
func (h *HostNumbers) UserThere(here uint32) (uint32, bool) {
	if h == nil || here == 0 || here == Anonymous {
		return here, true
	}
	return h.ofUsers().back(here)
}

// GroupThere is UserThere for a gid.
func (h *HostNumbers) GroupThere(here uint32) (uint32, bool) {
	if h == nil || here == 0 || here == Anonymous {
		return here, true
	}
	return h.ofGroups().back(here)
}

// Shown gives the numbers by which the hosts are told of an owner and a group: nobody's where they have none.
func (h *HostNumbers) Shown(uid, gid uint32) (uint32, uint32) {
	u, known := h.UserThere(uid)
	if !known {
		u = Anonymous
	}
	g, known := h.GroupThere(gid)
	if !known {
		g = Anonymous
	}
	return u, g
}

// Mapped says whether a number of the hosts is in the map itself.
func (h *HostNumbers) Mapped(there uint32) bool {
	if h == nil {
		return false
	}
	_, mapped := findThere(h.Users, there)
	return mapped
}

// takeNumberMaps compiles the number maps, those first that mean the fewest hosts. What was sorted before is not sorted again.
func (p *Policy) takeNumberMaps(r Records, before []*HostNumbers) error {
	was := make(map[int64]*HostNumbers)
	for _, h := range before {
		was[h.ID] = h
	}
	same := func(a, b []NumberFor) bool { return len(a) == len(b) && (len(a) == 0 || &a[0] == &b[0]) }
	p.NumberMaps, p.mapsByName = nil, false
	for i := range r.NumberMaps {
		m := r.NumberMaps[i]
		h := &HostNumbers{NumberMap: m, directory: p.Directory}
		if old := was[m.ID]; old != nil && same(old.Users, m.Users) && same(old.Groups, m.Groups) {
			h.users, h.groups = old.users, old.groups
		} else {
			h.users, h.groups = byWho(m.Users), byWho(m.Groups)
		}
		for _, from := range m.From {
			is, err := parseHosts(from)
			if err != nil {
				return fmt.Errorf("number map %s: %w", m.Name, err)
			}
			h.hosts = append(h.hosts, is)
			p.mapsByName = p.mapsByName || is.pattern != ""
		}
		p.NumberMaps = append(p.NumberMaps, h)
	}
	return nil
}

// breadth is how many hosts are meant, by a measure that orders: an address, a network, a name, a pattern, all.
func (h hosts) breadth() int {
	switch {
	case h.network.IsValid():
		return h.network.Addr().BitLen() - h.network.Bits()
	case h.exact():
		return 1
	case h.pattern != "":
		return 200 - min(len(strings.Trim(h.pattern, "*?.")), 60)
	}
	return 300
}

// NumbersAt gives the number map of an origin, nil for none: of several that mean it, the one that says it most narrowly, and of those the first that was
// made. It is not sure where a map is about names and those of the origin could not be looked up.
func (p *Policy) NumbersAt(o *Origin) (numbers *HostNumbers, sure bool) {
	numbers, best := p.narrowest(func(is hosts) bool { return is.match(o) })
	return numbers, !o.Unsure || !p.mapsByName || best == 0
}

// narrowest is the map of which some hosts fit and are the fewest, with their breadth; nil where none do.
func (p *Policy) narrowest(fits func(hosts) bool) (numbers *HostNumbers, breadth int) {
	breadth = -1
	for _, h := range p.NumberMaps {
		for _, is := range h.hosts {
			if b := is.breadth(); fits(is) && (breadth < 0 || b < breadth) {
				numbers, breadth = h, b
			}
		}
	}
	return numbers, breadth
}

// MayBeMapped says whether a host, as a list of numbers names it, can be one that a number map is about.
func MayBeMapped(host string) bool {
	_, everyone, err := CleanFrom(host)
	return err == nil && !everyone
}

// NumbersOf gives the number map of a host that is written as in a list of numbers: an address, or a name; nil for none.
func (p *Policy) NumbersOf(host string) *HostNumbers {
	o := Origin{Names: []string{strings.ToLower(strings.TrimSuffix(host, "."))}}
	if a, err := netip.ParseAddr(host); err == nil {
		o = Origin{Address: a.Unmap()}
	}
	numbers, _ := p.NumbersAt(&o)
	return numbers
}

// NumbersFor is NumbersAt for every host that a rule means, as far as that can be told by what is written; nil where they have no map, or not the same one.
func (p *Policy) NumbersFor(l *ExportRule) *HostNumbers {
	is := l.hosts
	numbers, _ := p.narrowest(func(over hosts) bool { return over.covers(is) })
	for _, h := range p.NumberMaps {
		if h != numbers && slices.ContainsFunc(h.hosts, func(some hosts) bool { return is.covers(some) && some.breadth() < is.breadth() }) {
			return nil // some of its hosts have another
		}
	}
	return numbers
}

// CompareNumbers lists where the numbers of a host differ from the records', less what its number map puts right.
func (p *Policy) CompareNumbers(host string, there []identity.Numbered) []identity.Mismatch {
	all := p.Directory.CompareNumbers(there)
	h := p.NumbersOf(host)
	if h == nil {
		return all
	}
	return slices.DeleteFunc(all, func(m identity.Mismatch) bool {
		here, known := h.UserHere(m.There)
		name := p.Directory.UserNumbered
		if m.Group {
			here, known = h.GroupHere(m.There)
			name = p.Directory.GroupNumbered
		}
		return !known || identity.Fold(name(here)) == identity.Fold(m.Name)
	})
}
