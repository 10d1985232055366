package service

import (
	"context"
	"slices"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/refusal"
)

// ProfileInput is what a profile is made from, or what is to change of one; nil leaves a field as it is, or as it is by itself.
type ProfileInput struct {
	Name, Description *string
	Groups            *[]string
	SMB, NFS, Console *bool
	Role              *identity.Role
	Hard              *string // such as 2GB; "" or none for no limit
	EndsAfter         *int    // days; 0 for never
	OnlyNew           bool    // of a change: who has the profile already stays as they are
}

// Profile finds a profile by name, whatever its case.
func (s *Service) Profile(name string) (site.Profile, error) {
	if p := site.ProfileNamed(s.Policy().Profiles, name); p != nil {
		return *p, nil
	}
	return site.Profile{}, notFound("profile", "amber profile list", "there is no profile %q", name)
}

// fillProfile gives a profile what is said of it.
func (s *Service) fillProfile(p *site.Profile, in ProfileInput) error {
	if in.Name != nil && *in.Name != p.Name {
		if err := refusal.PlaceName("name", *in.Name); err != nil {
			return err
		}
		if is, err := s.Profile(*in.Name); err == nil && is.ID != p.ID {
			return conflict("name", "amber profile show "+quote(is.Name), "there is a profile %s already", is.Name)
		}
		p.Name = *in.Name
	}
	set(&p.Description, in.Description)
	set(&p.SMB, in.SMB)
	set(&p.NFS, in.NFS)
	set(&p.Console, in.Console)
	set(&p.Role, in.Role)
	if in.EndsAfter != nil {
		if p.EndsAfter = *in.EndsAfter; p.EndsAfter < 0 || p.EndsAfter > mostPasswordAge {
			return invalid("endsAfter", "%d is not a number of days up to %d, or 0 for never", p.EndsAfter, mostPasswordAge)
		}
	}
	if in.Hard != nil {
		if p.HardBytes = nil; *in.Hard != "" && !strings.EqualFold(*in.Hard, "none") {
			n, err := limit.ParseSize(*in.Hard)
			if err != nil {
				return invalid("hard", "%v", err)
			}
			p.HardBytes = &n
		}
	}
	if in.Groups != nil {
		p.Groups = nil
		for _, name := range *in.Groups {
			g, err := s.Group(name)
			if err != nil {
				return err
			}
			if !slices.Contains(p.Groups, g.ID) {
				p.Groups = append(p.Groups, g.ID)
			}
		}
	}
	return nil
}

// CreateProfile makes a profile.
func (s *Service) CreateProfile(ctx context.Context, by Actor, in ProfileInput) (site.Profile, error) {
	err := s.change(ctx, by, "add profile", *in.Name, func(d *site.Draft) error {
		p := site.Profile{SMB: true, NFS: true, Console: true}
		if err := s.fillProfile(&p, in); err != nil {
			return err
		}
		site.Put(d, p)
		return nil
	})
	if err != nil {
		return site.Profile{}, err
	}
	return s.Profile(*in.Name)
}

// UpdateProfile changes a profile, and all who have it with it.
func (s *Service) UpdateProfile(ctx context.Context, by Actor, name string, in ProfileInput) (site.Profile, error) {
	was, err := s.Profile(name)
	if err != nil {
		return was, err
	}
	err = s.change(ctx, by, "change profile", was.Name, func(d *site.Draft) error {
		is, ok := site.Get[site.Profile](d, was.ID)
		if !ok {
			return notFound("profile", "amber profile list", "there is no profile %q", name)
		}
		before := is
		if err := s.fillProfile(&is, in); err != nil {
			return err
		}
		site.Put(d, is)
		if !in.OnlyNew {
			site.Reprofile(d, &before, &is, time.Now())
		}
		return s.keepAdministrator(d)
	})
	if err != nil {
		return was, err
	}
	return s.Profile(nameAfter(was.Name, in.Name))
}

// ApplyProfile gives all who have a profile what it says, as far as they have something else by now.
func (s *Service) ApplyProfile(ctx context.Context, by Actor, name string) error {
	p, err := s.Profile(name)
	if err != nil {
		return err
	}
	return s.change(ctx, by, "apply profile", p.Name, func(d *site.Draft) error {
		site.Reprofile(d, &p, &p, time.Now())
		return s.keepAdministrator(d)
	})
}

// RemoveProfile removes a profile that nobody has.
func (s *Service) RemoveProfile(ctx context.Context, by Actor, name string) error {
	p, err := s.Profile(name)
	if err != nil {
		return err
	}
	return s.change(ctx, by, "remove profile", p.Name, func(d *site.Draft) error {
		for _, u := range s.Policy().Directory.Users() {
			if u.Profile == p.ID {
				return conflict("", "amber user set "+quote(u.Name)+" --profile none", "%s has that profile", u.Name)
			}
		}
		site.Delete[site.Profile](d, p.ID)
		return nil
	})
}

// giveProfile gives a user in a draft a profile, who is written down already; "" takes it away, and leaves what came of it.
func (s *Service) giveProfile(d *site.Draft, id identity.ID, name string) error {
	u, _ := site.Get[identity.User](d, int64(id))
	if name == "" {
		u.Profile = 0
		site.Put(d, u)
		return nil
	}
	p, err := s.Profile(name)
	if err != nil {
		return err
	}
	p.Shape(&u, time.Now())
	site.Put(d, u)
	p.Bind(d, id, site.LimitsInAll(d.Records()))
	for _, g := range p.Groups {
		if g == u.Primary {
			continue // they are in it as it is
		}
		site.Join(d, g, identity.UserPrincipal(id))
	}
	return nil
}
