package service

import (
	"context"
	"net/netip"
	"slices"
	"strings"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/refusal"
)

// ServerNameInput is what another name of the server is made from.
type ServerNameInput struct {
	Name, Description string
	Leads             []LeadInput
}

// LeadInput says where a share of that name is now: To is a share here, or \\SERVER\SHARE; "" takes away what was said.
type LeadInput struct{ Share, To string }

// ServerNameChange is what is to change of one; nil leaves a field as it is. Leads are added to those there are, and take the place of those for the same
// shares.
type ServerNameChange struct {
	Name, Description *string
	Leads             []LeadInput
}

// ServerName finds one by name, whatever its case.
func (s *Service) ServerName(name string) (*site.ServerName, error) {
	names := s.Policy().ServerNames
	if i := slices.IndexFunc(names, func(n site.ServerName) bool { return identity.Fold(n.Name) == identity.Fold(name) }); i >= 0 {
		return &names[i], nil
	}
	return nil, notFound("name", "amber server-name list", "there is no server name %q", name)
}

// checkServerName takes what a host can be called (RFC 1123 section 2.1).
func checkServerName(field, name string) error {
	label := func(part string) bool {
		if part == "" || len(part) > 63 || part[0] == '-' || part[len(part)-1] == '-' {
			return false
		}
		return strings.Trim(part, "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789-_") == ""
	}
	if _, err := netip.ParseAddr(name); err == nil {
		return invalid(field, "%s is an address: clients that use addresses need no name", name)
	}
	if len(name) > 253 || slices.ContainsFunc(strings.Split(name, "."), func(part string) bool { return !label(part) }) {
		return invalid(field, "%q is no name of a server: letters, digits and hyphens, with points between parts", name)
	}
	return nil
}

// CreateServerName has the service be reached by another name.
func (s *Service) CreateServerName(ctx context.Context, by Actor, in ServerNameInput) (*site.ServerName, error) {
	if err := checkServerName("name", in.Name); err != nil {
		return nil, err
	}
	err := s.change(ctx, by, "add server name", in.Name, func(d *site.Draft) error {
		if _, err := s.ServerName(in.Name); err == nil {
			return conflict("name", "amber server-name show "+quote(in.Name), "there is a server name %s already", in.Name)
		}
		if len(d.Records().ServerNames) >= site.MostServerNames {
			return conflict("name", "amber server-name list", "there are %d server names already", site.MostServerNames)
		}
		n := site.ServerName{Name: in.Name, Description: in.Description}
		if err := s.lead(d, &n, in.Leads); err != nil {
			return err
		}
		site.Put(d, n)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return s.ServerName(in.Name)
}

// UpdateServerName changes one.
func (s *Service) UpdateServerName(ctx context.Context, by Actor, name string, in ServerNameChange) (*site.ServerName, error) {
	n, err := s.ServerName(name)
	if err != nil {
		return nil, err
	}
	err = s.change(ctx, by, "change server name", n.Name, func(d *site.Draft) error {
		is, ok := site.Get[site.ServerName](d, n.ID)
		if !ok {
			return notFound("name", "amber server-name list", "there is no server name %q", name)
		}
		if err := rename(s.serverNames(), n.ID, &is.Name, in.Name); err != nil {
			return err
		}
		set(&is.Description, in.Description)
		if err := s.lead(d, &is, in.Leads); err != nil {
			return err
		}
		site.Put(d, is)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return s.ServerName(nameAfter(n.Name, in.Name))
}

// RemoveServerName takes a name away: clients that use it get the shares that are called here as they ask.
func (s *Service) RemoveServerName(ctx context.Context, by Actor, name string) error {
	n, err := s.ServerName(name)
	if err != nil {
		return err
	}
	return s.change(ctx, by, "remove server name", n.Name, func(d *site.Draft) error {
		site.Delete[site.ServerName](d, n.ID)
		return nil
	})
}

// lead says of some shares of a name where they are.
func (s *Service) lead(d *site.Draft, n *site.ServerName, leads []LeadInput) error {
	n.Leads = slices.Clone(n.Leads)
	for _, l := range leads {
		if err := checkShareName("share", l.Share); err != nil {
			return err
		}
		n.Leads = slices.DeleteFunc(n.Leads, func(was site.Lead) bool { return identity.Fold(was.Share) == identity.Fold(l.Share) })
		is := site.Lead{Share: l.Share}
		switch {
		case l.To == "":
			continue
		case strings.HasPrefix(l.To, `\`):
			server, share, path, ok := site.SplitUNC(l.To)
			if _, err := netip.ParseAddr(server); !ok || err != nil && checkServerName("to", server) != nil || refusal.PlaceName("to", strings.TrimSuffix(share, "$")) != nil ||
				len(path) > 255 || strings.ContainsAny(path, "/:*?\"<>|\x00") {
				return invalid("to", `%s is no place: \\SERVER\SHARE, and perhaps a path below it`, l.To)
			}
			is.Elsewhere = strings.TrimRight(l.To, `\`)
		default:
			sh, err := s.Share(l.To)
			if err != nil {
				return err
			}
			is.Here = sh.ID
		}
		n.Leads = append(n.Leads, is)
	}
	if len(n.Leads) > site.MostLeads {
		return conflict("leads", "amber server-name show "+quote(n.Name), "a server name leads to %d shares at most", site.MostLeads)
	}
	return s.endsSomewhere(d, n)
}

// endsSomewhere refuses leads that come back to where they began.
func (s *Service) endsSomewhere(d *site.Draft, n *site.ServerName) error {
	p := *s.Policy()
	p.ServerNames = append(slices.DeleteFunc(slices.Clone(d.Records().ServerNames), func(o site.ServerName) bool { return o.ID == n.ID }), *n)
	for _, of := range p.ServerNames {
		for _, l := range of.Leads {
			if at, ends := p.Follow(of.Name, l.Share); !ends {
				return conflict("to", "amber server-name show "+quote(of.Name), `that would lead in a circle, through %s`, at)
			}
		}
	}
	return nil
}
