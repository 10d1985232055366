package service

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/refusal"
)

// Nobodys is written for a number of a host that is to be nobody's here.
const Nobodys = "nobody@"

const (
	mostMapHosts   = 256
	mostMapNumbers = 50_000 // users, and as many groups
)

// NumberMapInput is what a number map is made from, or what is to change of one; nil leaves a field as it is. Users and Groups are by the hosts' numbers: a
// name of the records, Nobodys, or "" for what the map is to have no more.
type NumberMapInput struct {
	Name, Description *string
	From              *[]string
	Others            *site.Others
	Users, Groups     map[string]string
	Like              string // a host whose numbers are remembered: what is in them is added, as far as it is otherwise here
}

// NumberMap finds a number map by name, whatever its case.
func (s *Service) NumberMap(name string) (*site.HostNumbers, error) {
	all := s.Policy().NumberMaps
	if i := slices.IndexFunc(all, func(h *site.HostNumbers) bool { return identity.Fold(h.Name) == identity.Fold(name) }); i >= 0 {
		return all[i], nil
	}
	return nil, notFound("map", "amber ids map list", "there is no number map %q", name)
}

// fillNumberMap gives a number map what is said of it.
func (s *Service) fillNumberMap(m *site.NumberMap, in NumberMapInput) error {
	if in.Name != nil && *in.Name != m.Name {
		if err := refusal.PlaceName("name", *in.Name); err != nil {
			return err
		}
		if is, err := s.NumberMap(*in.Name); err == nil && is.ID != m.ID {
			return conflict("name", "amber ids map show "+quote(is.Name), "there is a number map %s already", is.Name)
		}
		m.Name = *in.Name
	}
	set(&m.Description, in.Description)
	if in.Others != nil {
		if m.Others = *in.Others; m.Others != site.OthersSame && m.Others != site.OthersUnknown {
			return invalid("others", "%q is neither same nor unknown", m.Others)
		}
	}
	if in.From != nil {
		if err := s.mapFrom(m, *in.From); err != nil {
			return err
		}
	}
	if len(m.From) == 0 {
		return invalid("from", "a number map is about some hosts: say which, by address, network, name or pattern of names")
	}
	if in.Like != "" {
		if err := s.mapLike(m, in.Like); err != nil {
			return err
		}
	}
	var err error
	if m.Users, err = s.mapNumbers("users", m.Users, in.Users, func(name string) (identity.ID, error) {
		u, err := s.User(name)
		if err != nil {
			return 0, err
		}
		return u.ID, nil
	}); err != nil {
		return err
	}
	m.Groups, err = s.mapNumbers("groups", m.Groups, in.Groups, func(name string) (identity.ID, error) {
		g, err := s.Group(name)
		if err != nil {
			return 0, err
		}
		return g.ID, nil
	})
	return err
}

// mapFrom says which hosts a number map is about.
func (s *Service) mapFrom(m *site.NumberMap, all []string) error {
	if len(all) > mostMapHosts {
		return invalid("from", "%d hosts are more than the %d that a number map takes: write networks, or patterns of names", len(all), mostMapHosts)
	}
	m.From = nil
	for _, from := range all {
		clean, everyone, err := site.CleanFrom(from)
		switch {
		case err != nil:
			return invalid("from", "%v", err)
		case everyone:
			return invalid("from", "%q is every host there is: a number map is about those that number people otherwise", from)
		}
		for _, other := range s.Policy().NumberMaps {
			if other.ID != m.ID && slices.Contains(other.From, clean) {
				return conflict("from", "amber ids map show "+quote(other.Name), "number map %s is about %s already", other.Name, clean)
			}
		}
		if !slices.Contains(m.From, clean) {
			m.From = append(m.From, clean)
		}
	}
	return nil
}

// mapNumbers puts numbers of hosts into one side of a map.
func (s *Service) mapNumbers(field string, was []site.NumberFor, in map[string]string, find func(string) (identity.ID, error)) ([]site.NumberFor, error) {
	if len(in) == 0 {
		return was, nil
	}
	is := make(map[uint32]identity.ID, len(was)+len(in))
	for _, n := range was {
		is[n.There] = n.Who
	}
	for text, name := range in {
		n, err := strconv.ParseUint(text, 10, 32)
		switch {
		case err != nil || n > 1<<32-2:
			return nil, invalid(field, "%q is no number of a user or a group", text)
		case n == 0:
			return nil, invalid(field, "0 is the superuser of every client, and no client's number for anybody else: client rules say what becomes of it")
		case name == "":
			delete(is, uint32(n))
		case strings.EqualFold(name, Nobodys):
			is[uint32(n)] = 0
		default:
			if is[uint32(n)], err = find(name); err != nil {
				return nil, err
			}
		}
	}
	return numbersOf(field, is)
}

// numbersOf is one side of a map in its order; nobody is in it by two numbers, since there would be no way back.
func numbersOf(field string, is map[uint32]identity.ID) ([]site.NumberFor, error) {
	if len(is) > mostMapNumbers {
		return nil, invalid(field, "%d are more numbers than the %d that a number map takes", len(is), mostMapNumbers)
	}
	out := make([]site.NumberFor, 0, len(is))
	by := make(map[identity.ID]uint32, len(is))
	for n, who := range is {
		if other, twice := by[who]; twice && who != 0 {
			return nil, invalid(field, "%d and %d would be one and the same here: a file of theirs could be shown by one number only", min(n, other), max(n, other))
		}
		by[who] = n
		out = append(out, site.NumberFor{There: n, Who: who})
	}
	slices.SortFunc(out, func(a, b site.NumberFor) int { return cmp.Compare(a.There, b.There) })
	if len(out) == 0 {
		return nil, nil
	}
	return out, nil
}

// mapLike puts into a map what a host was seen to call its users and groups: who is known here by that name and another number, and as nobody's the numbers
// that are somebody else's here.
func (s *Service) mapLike(m *site.NumberMap, host string) error {
	p := s.Policy()
	i := slices.IndexFunc(p.IDLists, func(l site.IDList) bool { return identity.Fold(l.Host) == identity.Fold(host) })
	if i < 0 {
		return notFound("like", "amber ids check FILE --host "+quote(host), "no numbers of %q are remembered", host)
	}
	users, groups := make(map[uint32]identity.ID), make(map[uint32]identity.ID)
	for _, n := range m.Users {
		users[n.There] = n.Who
	}
	for _, n := range m.Groups {
		groups[n.There] = n.Who
	}
	for _, l := range p.Directory.CompareNumbers(p.IDLists[i].Numbers) {
		side, who := users, identity.ID(0)
		if l.Group {
			side = groups
			if g := p.Directory.GroupNamed(l.Name); g != nil && l.Known {
				who = g.ID
			}
		} else if u := p.Directory.UserNamed(l.Name); u != nil && l.Known {
			who = u.ID
		}
		if l.There == 0 {
			continue // the client's superuser, of whom client rules speak
		}
		if who != 0 {
			for n, is := range side {
				if is == who {
					delete(side, n)
				}
			}
		}
		side[l.There] = who
	}
	var err error
	if m.Users, err = numbersOf("users", users); err != nil {
		return err
	}
	m.Groups, err = numbersOf("groups", groups)
	return err
}

// CreateNumberMap makes a number map.
func (s *Service) CreateNumberMap(ctx context.Context, by Actor, in NumberMapInput) (*site.HostNumbers, error) {
	err := s.change(ctx, by, "add number map", *in.Name, func(d *site.Draft) error {
		m := site.NumberMap{Others: site.OthersSame}
		if err := s.fillNumberMap(&m, in); err != nil {
			return err
		}
		site.Put(d, m)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return s.NumberMap(*in.Name)
}

// UpdateNumberMap changes a number map.
func (s *Service) UpdateNumberMap(ctx context.Context, by Actor, name string, in NumberMapInput) (*site.HostNumbers, error) {
	was, err := s.NumberMap(name)
	if err != nil {
		return nil, err
	}
	err = s.change(ctx, by, "change number map", was.Name, func(d *site.Draft) error {
		is, ok := site.Get[site.NumberMap](d, was.ID)
		if !ok {
			return notFound("map", "amber ids map list", "there is no number map %q", name)
		}
		if err := s.fillNumberMap(&is, in); err != nil {
			return err
		}
		site.Put(d, is)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return s.NumberMap(nameAfter(was.Name, in.Name))
}

// RemoveNumberMap removes a number map: its hosts' numbers are those of the records again.
func (s *Service) RemoveNumberMap(ctx context.Context, by Actor, name string) error {
	m, err := s.NumberMap(name)
	if err != nil {
		return err
	}
	return s.change(ctx, by, "remove number map", m.Name, func(d *site.Draft) error {
		site.Delete[site.NumberMap](d, m.ID)
		return nil
	})
}

// HostNumbers is what is remembered of a host's numbers.
type HostNumbers struct {
	site.IDList
	Map        *site.HostNumbers // by which its numbers are translated; nil for none
	Mismatches []NumberCheck
}

// RememberedNumbers gives what is remembered of each host, with where it is not as the records have it.
func (s *Service) RememberedNumbers() (out []HostNumbers) {
	p := s.Policy()
	for _, l := range p.IDLists {
		out = append(out, HostNumbers{l, p.NumbersOf(l.Host), s.mismatches(l.Host, l.Numbers)})
	}
	return out
}

// mapUses says where number maps name a principal.
func mapUses(p *site.Policy, who identity.Principal) (out []naming) {
	for _, m := range p.NumberMaps {
		list, flag := m.Users, "uid"
		if who.Kind == identity.KindGroup {
			list, flag = m.Groups, "gid"
		}
		for _, n := range list {
			if n.Who == who.ID {
				out = append(out, naming{fmt.Sprintf("number map %s, as %d", m.Name, n.There), fmt.Sprintf("amber ids map set %s --%s %d=none", quote(m.Name), flag, n.There)})
			}
		}
	}
	return out
}
