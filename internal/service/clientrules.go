package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
)

// cleanFrom is site.CleanFrom, which says in words what is wrong.
func cleanFrom(field, from string) (clean string, everyone bool, err error) {
	clean, everyone, err = site.CleanFrom(from)
	var meant *site.FromError
	switch {
	case errors.As(err, &meant):
		return "", false, invalid(field, "%s", meant.Says)
	case err != nil:
		return "", false, invalid(field, "%q is not an address, a network such as 192.0.2.0/24, a host name, a pattern such as *.larkfell.example, or %sNAME for a host set", from, site.SetMark)
	}
	return clean, everyone, nil
}

// fill puts what an input says into a rule.
func (s *Service) fill(r *site.ClientRule, in RuleInput) error {
	if in.From != "" {
		clean, everyone, err := cleanFrom("from", in.From)
		if err != nil {
			return err
		}
		if everyone && !in.Everyone {
			return &Error{Kind: Conflict, Field: "from", Confirm: true, Message: clean + " lets in every host that can reach this gateway."}
		}
		r.From = clean
	}
	if in.Write != nil {
		r.Write = *in.Write
	}
	if in.Squash != nil {
		switch r.Squash = site.Squash(*in.Squash); r.Squash {
		case site.SquashNone, site.SquashRoot, site.SquashAll:
		default:
			return invalid("squash", "%q is not one of none, root, all", *in.Squash)
		}
	}
	if in.Unknown != nil {
		switch r.Unknown = site.Unknown(*in.Unknown); r.Unknown {
		case site.UnknownRefused, site.UnknownAnonymous, site.UnknownNumber:
		default:
			return invalid("unknown", "%q is not one of refused, anonymous, number", *in.Unknown)
		}
	}
	for _, n := range []struct {
		field string
		in    *uint32
		to    *uint32
	}{{"anonUid", in.AnonUID, &r.AnonUID}, {"anonGid", in.AnonGID, &r.AnonGID}} {
		if n.in == nil {
			continue
		}
		if *n.in == posix.Nobody {
			return invalid(n.field, "%d belongs to nobody and cannot be anyone's", *n.in)
		}
		*n.to = *n.in
	}
	if in.Security != nil {
		r.Security = nil
		for _, f := range in.Security {
			if site.Flavor(f) != site.FlavorSys {
				return invalid("security", "%q is not a security flavour that this version speaks: sys", f)
			}
			r.Security = append(r.Security, site.FlavorSys)
		}
		if len(r.Security) == 0 {
			return invalid("security", "without any security flavour nobody gets in: sys")
		}
	}
	if in.PrivilegedPort != nil {
		r.PrivilegedPort = *in.PrivilegedPort
	}
	return nil
}

// newRule is the client rule that an input stands for, with a number: of a host set, or of an export that is there or to be.
func (s *Service) newRule(d *site.Draft, in RuleInput, ofSet bool, of *site.Export) (r site.ClientRule, err error) {
	if name, ok := strings.CutPrefix(in.From, site.SetMark); ok {
		if ofSet {
			return r, invalid("from", "a host set holds rules and no other host sets")
		}
		h, err := s.HostSet(name)
		if err != nil {
			return r, err
		}
		r.From = site.SetMark + h.Name
		if of != nil && slices.ContainsFunc(of.Rules, func(c site.ClientRule) bool { return identity.Fold(c.From) == identity.Fold(r.From) }) {
			return r, conflict("from", "amber hosts show "+quote(h.Name), "host set %s stands in %s already: a second time would match nobody", h.Name, of.Path)
		}
		in.From, in.Everyone = "", false
		if in.Write != nil || in.Squash != nil || in.AnonUID != nil || in.AnonGID != nil || in.Security != nil || in.PrivilegedPort != nil || in.Unknown != nil {
			return r, invalid("from", "the rules of host set %s say for themselves on what terms their hosts come in: amber hosts rule set", h.Name)
		}
		r.ID = d.Number(site.ClientRuleNumbers)
		return r, nil
	}
	if in.From == "" {
		return r, invalid("from", "say from whom: an address, a network, a host name, a pattern, or %sNAME for a host set", site.SetMark)
	}
	r = site.ClientRule{Squash: site.SquashRoot, AnonUID: site.Anonymous, AnonGID: site.Anonymous, Security: []site.Flavor{site.FlavorSys}, Unknown: site.UnknownRefused}
	if err := s.fill(&r, in); err != nil {
		return r, err
	}
	r.ID = d.Number(site.ClientRuleNumbers)
	return r, nil
}

// RuleList is the export or the host set whose client rules are meant: one of the two.
type RuleList struct{ Export, Set string }

// ruled is an export or a host set, whose rules are being changed.
type ruled struct {
	name  string
	of    *site.Export // nil for a host set
	set   *site.HostSet
	rules []site.ClientRule
}

// put writes the rules down.
func (l *ruled) put(d *site.Draft) {
	if l.set != nil {
		l.set.Rules = l.rules
		site.Put(d, *l.set)
		return
	}
	l.of.Rules = l.rules
	site.Put(d, *l.of)
}

// ruleList finds it under the policy now in force.
func (s *Service) ruleList(l RuleList) (*ruled, error) {
	if l.Set != "" {
		h, err := s.HostSet(l.Set)
		if err != nil {
			return nil, err
		}
		is := *h
		return &ruled{name: h.Name, set: &is, rules: slices.Clone(h.Rules)}, nil
	}
	e, err := s.Export(l.Export)
	if err != nil {
		return nil, err
	}
	is := e.Export
	return &ruled{name: e.Path, of: &is, rules: slices.Clone(is.Rules)}, nil
}

// AddRule writes a client rule at a position counted from 1, at the end for 0, and gives its
// number.
func (s *Service) AddRule(ctx context.Context, by Actor, l RuleList, in RuleInput, position int) (int64, error) {
	found, err := s.ruleList(l)
	if err != nil {
		return 0, err
	}
	var id int64
	err = s.change(ctx, by, "add client rule", found.name, func(d *site.Draft) error {
		is, err := s.ruleList(l)
		if err != nil {
			return err
		}
		if position < 0 || position > len(is.rules)+1 {
			return invalid("position", "position %d is not among the %d there would be", position, len(is.rules)+1)
		}
		r, err := s.newRule(d, in, is.set != nil, is.of)
		if err != nil {
			return err
		}
		if position == 0 {
			position = len(is.rules) + 1
		}
		id, is.rules = r.ID, slices.Insert(is.rules, position-1, r)
		is.put(d)
		return nil
	})
	return id, err
}

// changeRule runs a change of one rule of a list.
func (s *Service) changeRule(ctx context.Context, by Actor, action string, l RuleList, id int64, fn func(l *ruled, at int) error) error {
	found, err := s.ruleList(l)
	if err != nil {
		return err
	}
	return s.change(ctx, by, fmt.Sprintf("%s %d", action, id), found.name, func(d *site.Draft) error {
		is, err := s.ruleList(l)
		if err != nil {
			return err
		}
		at := slices.IndexFunc(is.rules, func(r site.ClientRule) bool { return r.ID == id })
		if at < 0 {
			show := "amber export show "
			if is.set != nil {
				show = "amber hosts show "
			}
			return notFound("id", show+quote(is.name), "%s has no client rule %d", is.name, id)
		}
		if err := fn(is, at); err != nil {
			return err
		}
		is.put(d)
		return nil
	})
}

// UpdateRule changes a client rule.
func (s *Service) UpdateRule(ctx context.Context, by Actor, l RuleList, id int64, in RuleInput) error {
	return s.changeRule(ctx, by, "change client rule", l, id, func(l *ruled, at int) error {
		if strings.HasPrefix(l.rules[at].From, site.SetMark) || strings.HasPrefix(in.From, site.SetMark) {
			return invalid("from", "a rule that stands for a host set has nothing to change: remove it and add another")
		}
		return s.fill(&l.rules[at], in)
	})
}

// MoveRule puts a client rule at a position among the others, counted from 1.
func (s *Service) MoveRule(ctx context.Context, by Actor, l RuleList, id int64, position int) error {
	return s.changeRule(ctx, by, "move client rule", l, id, func(l *ruled, at int) error {
		if position < 1 || position > len(l.rules) {
			return invalid("position", "position %d is not among the %d there are", position, len(l.rules))
		}
		r := l.rules[at]
		l.rules = slices.Insert(slices.Delete(l.rules, at, at+1), position-1, r)
		return nil
	})
}

// RemoveRule removes a client rule.
func (s *Service) RemoveRule(ctx context.Context, by Actor, l RuleList, id int64) error {
	return s.changeRule(ctx, by, "remove client rule", l, id, func(l *ruled, at int) error {
		l.rules = site.Without(l.rules, func(r site.ClientRule) bool { return r.ID == id })
		return nil
	})
}
