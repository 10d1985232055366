package service

import (
	"context"
	"slices"
	"strings"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
)

// CreateHostSet makes a named list of client rules.
func (s *Service) CreateHostSet(ctx context.Context, by Actor, name, description string, rules []RuleInput) (*site.HostSet, error) {
	if err := checkPlaceName("name", name); err != nil {
		return nil, err
	}
	err := s.change(ctx, by, "add host set", name, func(d *site.Draft) error {
		if s.Policy().HostSetNamed(name) != nil {
			return conflict("name", "amber hosts show "+quote(name), "there is a host set %s already", name)
		}
		h := site.HostSet{Name: name, Description: description}
		for _, r := range rules {
			c, err := s.newRule(d, r, true, nil)
			if err != nil {
				return err
			}
			h.Rules = append(h.Rules, c)
		}
		site.Put(d, h)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return s.HostSet(name)
}

// HostSetChange is what is to change of a host set; nil leaves a field as it is.
type HostSetChange struct{ Name, Description *string }

// UpdateHostSet gives a host set another name, or description.
func (s *Service) UpdateHostSet(ctx context.Context, by Actor, name string, in HostSetChange) (*site.HostSet, error) {
	h, err := s.HostSet(name)
	if err != nil {
		return nil, err
	}
	err = s.change(ctx, by, "change host set", h.Name, func(d *site.Draft) error {
		is, ok := site.Get[site.HostSet](d, h.ID)
		if !ok {
			return notFound("set", "amber hosts list", "there is no host set %q", name)
		}
		was := is.Name
		if err := rename(s.hostSetNames(), h.ID, &is.Name, in.Name); err != nil {
			return err
		}
		set(&is.Description, in.Description)
		site.Put(d, is)
		if is.Name != was {
			renameSet(d, was, is.Name)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return s.HostSet(nameAfter(h.Name, in.Name))
}

// renameSet has the rules that stand for a host set name it as it is called now.
func renameSet(d *site.Draft, was, is string) {
	for _, sh := range slices.Clone(d.Records().Shares) {
		if at := slices.IndexFunc(sh.Hosts, named(was)); at >= 0 {
			sh.Hosts = slices.Clone(sh.Hosts)
			sh.Hosts[at].From = site.SetMark + is
			site.Put(d, sh)
		}
	}
	for _, e := range slices.Clone(d.Records().Exports) {
		altered := false
		e.Rules = slices.Clone(e.Rules)
		for i := range e.Rules {
			if identity.Fold(e.Rules[i].From) == identity.Fold(site.SetMark+was) {
				e.Rules[i].From, altered = site.SetMark+is, true
			}
		}
		if altered {
			site.Put(d, e)
		}
	}
}

// named picks the term that names a host set.
func named(set string) func(site.HostTerm) bool {
	return func(t site.HostTerm) bool { return identity.Fold(t.From) == identity.Fold(site.SetMark+set) }
}

// UsedBy lists the paths of the exports in which a host set stands, and the shares that are kept to it, as "share plates".
func (s *Service) UsedBy(set string) []string {
	var out []string
	for _, u := range s.SetUses(set) {
		if by := u.by(); !slices.Contains(out, by) {
			out = append(out, by)
		}
	}
	return out
}

// SetUse is where a host set stands: as a rule of an export, by the number under which it can be removed, or among the hosts of a share.
type SetUse struct {
	Export string
	Rule   int64
	Share  string
	Left   string // the hosts that the share is kept to besides, as they are typed
}

func (u SetUse) by() string {
	if u.Share != "" {
		return "share " + u.Share
	}
	return u.Export
}

// SetUses lists where a host set stands.
func (s *Service) SetUses(set string) (out []SetUse) {
	for _, e := range s.Policy().Exports {
		for _, r := range e.Rules {
			if identity.Fold(r.From) == identity.Fold(site.SetMark+set) {
				out = append(out, SetUse{Export: e.Path, Rule: r.ID})
			}
		}
	}
	for _, sh := range s.Policy().Shares {
		if left := site.Without(sh.Hosts, named(set)); len(left) < len(sh.Hosts) {
			out = append(out, SetUse{Share: sh.Name, Left: site.HostTerms(left)})
		}
	}
	return out
}

// RemoveHostSet removes a host set that nothing uses.
func (s *Service) RemoveHostSet(ctx context.Context, by Actor, name string) error {
	h, err := s.HostSet(name)
	if err != nil {
		return err
	}
	return s.change(ctx, by, "remove host set", h.Name, func(d *site.Draft) error {
		if used := s.UsedBy(h.Name); len(used) > 0 {
			show := "amber export show " + quote(used[0])
			if name, isShare := strings.CutPrefix(used[0], "share "); isShare {
				show = "amber share show " + quote(name)
			}
			return conflict("", show, "host set %s is used by %s", h.Name, strings.Join(used, ", "))
		}
		site.Delete[site.HostSet](d, h.ID)
		return nil
	})
}
