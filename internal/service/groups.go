package service

import (
	"context"
	"slices"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
)

// GroupInput is what a new group is made from. A nil GID takes the next free one
// from 1000 up. Members are names, with "group:" before those of groups where a
// user has the same.
type GroupInput struct {
	Name        string
	GID         *uint32
	Description string
	Members     []string
	Owners      []string
	Labels      map[string]string // by key; "" takes one away
}

// CreateGroup makes a group and gives the new record.
func (s *Service) CreateGroup(ctx context.Context, by Actor, in GroupInput) (*identity.Group, error) {
	if err := checkAccountName("name", in.Name); err != nil {
		return nil, err
	}
	err := s.change(ctx, by, "add group", in.Name, func(d *site.Draft) error {
		people := s.Policy().Directory
		if people.GroupNamed(in.Name) != nil {
			return conflict("name", "amber group show "+quote(in.Name), "there is a group %s already", in.Name)
		}
		gid := people.NextGID()
		if in.GID != nil {
			gid = *in.GID
			if err := s.gidFree(gid, 0); err != nil {
				return err
			}
		}
		g := identity.Group{Name: in.Name, GID: gid, Description: in.Description}
		if err := s.ownedBy(&g, in.Owners); err != nil {
			return err
		}
		if err := relabel(&g.Labelled, in.Labels); err != nil {
			return err
		}
		id := identity.ID(site.Put(d, g))
		for _, m := range in.Members {
			if err := s.writeMember(d, id, m); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return s.Group(in.Name)
}

// GroupChange is what is to change of a group; nil leaves a field as it is.
type GroupChange struct {
	Name        *string
	GID         *uint32
	Description *string
	Owners      *[]string
	Labels      map[string]string // by key; "" takes one away
}

// UpdateGroup changes a group and gives the new record.
func (s *Service) UpdateGroup(ctx context.Context, by Actor, name string, in GroupChange) (*identity.Group, error) {
	g, err := s.Group(name)
	if err != nil {
		return nil, err
	}
	err = s.change(ctx, by, "change group", g.Name, func(d *site.Draft) error {
		is, ok := site.Get[identity.Group](d, int64(g.ID))
		if !ok {
			return notFound("group", "amber group list", "there is no group %q", name)
		}
		if err := rename(s.groupNames(), int64(g.ID), &is.Name, in.Name); err != nil {
			return err
		}
		if in.GID != nil {
			if err := s.gidFree(*in.GID, g.ID); err != nil {
				return err
			}
		}
		set(&is.GID, in.GID)
		set(&is.Description, in.Description)
		if in.Owners != nil {
			if err := s.ownedBy(&is, *in.Owners); err != nil {
				return err
			}
		}
		if err := relabel(&is.Labelled, in.Labels); err != nil {
			return err
		}
		site.Put(d, is)
		s.renamePrincipal(d, identity.GroupPrincipal(g.ID), g.Name, in.Name)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return s.Group(nameAfter(g.Name, in.Name))
}

// ownedBy gives a group its owners.
func (s *Service) ownedBy(g *identity.Group, names []string) error {
	g.Owners = nil
	for _, name := range names {
		p, err := s.Principal("owners", name)
		if err != nil {
			return err
		}
		if p.Kind != identity.KindUser && p.Kind != identity.KindGroup {
			return invalid("owners", "%s cannot own a group", name)
		}
		if !slices.Contains(g.Owners, p) {
			g.Owners = append(g.Owners, p)
		}
	}
	return nil
}

func (s *Service) writeMember(d *site.Draft, group identity.ID, name string) error {
	p, err := s.Principal("member", name)
	if err != nil {
		return err
	}
	if p.Kind != identity.KindUser && p.Kind != identity.KindGroup {
		return invalid("member", "%s cannot be a member of a group", name)
	}
	site.Join(d, group, p)
	return nil
}

// RemoveGroup removes a group that no entry names and that is nobody's primary group.
func (s *Service) RemoveGroup(ctx context.Context, by Actor, name string) error {
	g, err := s.Group(name)
	if err != nil {
		return err
	}
	return s.change(ctx, by, "remove group", g.Name, func(d *site.Draft) error {
		if err := s.refuseIfUsed(identity.GroupPrincipal(g.ID), g.Name, ""); err != nil {
			return err
		}
		for _, u := range s.Policy().Directory.Users() {
			if u.Primary == g.ID {
				return conflict("", "amber user set "+quote(u.Name)+" --primary OTHER", "%s is the primary group of %s", g.Name, u.Name)
			}
		}
		site.Delete[identity.Group](d, int64(g.ID))
		return nil
	})
}

// AddMember puts a user or a group into a group. That it is in already is no error.
func (s *Service) AddMember(ctx context.Context, by Actor, group, member string) error {
	g, err := s.Group(group)
	if err != nil {
		return err
	}
	return s.change(ctx, by, "add member "+member, g.Name, func(d *site.Draft) error {
		return s.writeMember(d, g.ID, member)
	})
}

// RemoveMember takes a user or a group out of a group.
func (s *Service) RemoveMember(ctx context.Context, by Actor, group, member string) error {
	g, err := s.Group(group)
	if err != nil {
		return err
	}
	return s.change(ctx, by, "remove member "+member, g.Name, func(d *site.Draft) error {
		p, err := s.Principal("member", member)
		if err != nil {
			return err
		}
		if !slices.Contains(g.Members, p) {
			return notFound("member", "amber group show "+quote(g.Name), "%s is not listed in %s", member, g.Name)
		}
		site.Leave(d, g.ID, p)
		return nil
	})
}
