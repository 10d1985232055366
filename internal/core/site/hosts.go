package site

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
)

// HostTerm says from where a share may be used, and whether it is only read from there. From is as in a ClientRule; of a host set, each rule
// stands in its place, and says itself whether its hosts may write.
type HostTerm struct {
	From     string `json:"from,omitzero"`
	ReadOnly bool   `json:"readOnly,omitzero"`
}

// readOnlyHere stands behind the hosts that only read, where terms are written.
const readOnlyHere = "=ro"

func (t HostTerm) String() string {
	if t.ReadOnly {
		return t.From + readOnlyHere
	}
	return t.From
}

// ParseHostTerm reads one as it is written: "192.0.2.0/24", "*.larkfell.example=ro", "@workroom".
func ParseHostTerm(s string) HostTerm {
	from, readOnly := strings.CutSuffix(strings.TrimSpace(s), readOnlyHere)
	return HostTerm{from, readOnly}
}

// Offline says what clients may keep of a share for when they are not connected, MS-SMB2 section 2.2.10.
type Offline string

// The kinds of Offline.
const (
	OfflineManual Offline = "manual" // what their users choose
	OfflineAuto   Offline = "auto"   // whatever is opened
	OfflineVDO    Offline = "vdo"    // whatever is opened, and what is kept is opened in its place
	OfflineNone   Offline = "none"
)

// Most is what a share's own options leave of anything, wherever one comes from: nothing where no host is let in, reading where none may write.
func (s *PublishedShare) Most() acl.Mask {
	switch {
	case len(s.Hosts) > 0 && len(s.InForce) == 0:
		return 0
	case s.ReadOnly || s.OnlyRead():
		return acl.ReadOnly
	}
	return acl.All
}

// OnlyRead says whether it is only read from all the hosts that it is kept to.
func (s *PublishedShare) OnlyRead() bool {
	return len(s.InForce) > 0 && !slices.ContainsFunc(s.InForce, func(l ExportRule) bool { return l.Write })
}

// Match gives the first of the rules about hosts that an origin fits; nil when none does, or when that cannot be told.
func (s *PublishedShare) Match(o *Origin) *ExportRule { return match(s.InForce, o) }

// NeedsNames says whether it takes a host's names to tell which of the rules it fits: no rule before the first that is about names is about its
// address.
func (s *PublishedShare) NeedsNames(address netip.Addr) bool {
	o := &Origin{Address: address}
	for i := range s.InForce {
		switch l := &s.InForce[i]; {
		case l.ByName():
			return true
		case l.hosts.match(o):
			return false
		}
	}
	return false
}

// match gives the first rule that an origin fits; nil when none does. Where it is not known whether one about names does, none
// after it is taken: it may let in more.
func match(rules []ExportRule, o *Origin) *ExportRule {
	for i := range rules {
		switch l := &rules[i]; {
		case l.hosts.match(o):
			return l
		case o.Unsure && l.ByName():
			return nil
		}
	}
	return nil
}

// hostSets puts host sets in the place of the rules that name them.
type hostSets struct {
	policy *Policy
	sets   map[string]HostSet
}

func (p *Policy) compileHostSets(r Records) (*hostSets, error) {
	h := &hostSets{p, make(map[string]HostSet)}
	for _, set := range r.HostSets {
		if _, ok := h.sets[identity.Fold(set.Name)]; ok {
			return nil, fmt.Errorf("host set %q: %w", set.Name, identity.ErrDuplicate)
		}
		for _, rule := range set.Rules {
			if _, err := parseHosts(rule.From); err != nil {
				return nil, fmt.Errorf("host set %s: %w", set.Name, err)
			}
		}
		h.sets[identity.Fold(set.Name)] = set
		p.HostSets = append(p.HostSets, set)
	}
	return h, nil
}

// inForce is what client rules come to.
func (h *hostSets) inForce(rules []ClientRule) (out []ExportRule, err error) {
	add := func(rule ClientRule, set string) error {
		hosts, err := parseHosts(rule.From)
		if err != nil {
			return err
		}
		is := ExportRule{ClientRule: rule, Number: len(out) + 1, Set: set, hosts: hosts}
		for _, before := range out {
			if before.hosts.covers(hosts) {
				is.ShadowedBy = before.Number
				break
			}
		}
		out = append(out, is)
		if hosts.pattern != "" {
			h.policy.namesMatter = true
			if hosts.exact() && !slices.Contains(h.policy.hostNames, hosts.pattern) {
				h.policy.hostNames = append(h.policy.hostNames, hosts.pattern)
			}
		}
		return nil
	}
	for _, rule := range rules {
		name, isSet := strings.CutPrefix(rule.From, SetMark)
		if !isSet {
			if err := add(rule, ""); err != nil {
				return nil, err
			}
			continue
		}
		set, ok := h.sets[identity.Fold(name)]
		if !ok {
			return nil, fmt.Errorf("host set %q: %w", name, identity.ErrAbsent)
		}
		for _, rule := range set.Rules {
			if err := add(rule, set.Name); err != nil {
				return nil, err
			}
		}
	}
	return out, nil
}

// rulesOf are the client rules that terms stand for.
func rulesOf(terms []HostTerm) (out []ClientRule) {
	for _, t := range terms {
		out = append(out, ClientRule{From: t.From, Write: !t.ReadOnly})
	}
	return out
}
