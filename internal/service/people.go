package service

import (
	"context"
	"fmt"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/refusal"
)

func checkAccountName(field, name string) error { return refusal.AccountName(field, name) }

// UserInput is what a new user is made from. A nil UID takes the next free one
// from 1000 up.
type UserInput struct {
	Name, FullName string
	UID            *uint32
	Primary        string // a group's name; "" for none
	Groups         []string
	Role           identity.Role
	Service        bool
	Starts         time.Time // zero for at once
	Expires        time.Time
	NoSMB, NoNFS   bool
	Console        *bool // nil: people may use it, and programs may not
	Description    string
	Password       string            // "" for none: the account cannot sign in until it has one
	MustChange     bool              // the password opens nothing but the way to another
	Mail           string            // an address; "" for none
	Profile        string            // whose groups, services, role, limit and end they are given; "" for none
	Reuse          bool              // give the number even though it was somebody else's lately
	FirstOnly      bool              // fail if there is an administrator already
	Labels         map[string]string // by key; "" takes one away
}

// User finds a user by name, whatever its case.
func (s *Service) User(name string) (*identity.User, error) {
	if u := s.known().Directory.UserNamed(name); u != nil {
		return u, nil
	}
	return nil, notFound("user", "amber user list", "there is no user %q", name)
}

// Group finds a group by name, whatever its case.
func (s *Service) Group(name string) (*identity.Group, error) {
	if g := s.known().Directory.GroupNamed(name); g != nil {
		return g, nil
	}
	return nil, notFound("group", "amber group list", "there is no group %q", name)
}

// groupOrNone is a group's number; 0 for an empty name.
func (s *Service) groupOrNone(name string) (identity.ID, error) {
	if name == "" {
		return 0, nil
	}
	g, err := s.Group(name)
	if err != nil {
		return 0, err
	}
	return g.ID, nil
}

// userOrNone is the same for a user.
func (s *Service) userOrNone(name string) (identity.ID, error) {
	if name == "" {
		return 0, nil
	}
	u, err := s.User(name)
	if err != nil {
		return 0, err
	}
	return u.ID, nil
}

// CreateUser makes a user and gives the new record.
func (s *Service) CreateUser(ctx context.Context, by Actor, in UserInput) (*identity.User, error) {
	if err := checkAccountName("name", in.Name); err != nil {
		return nil, err
	}
	if in.Mail != "" {
		if err := checkMail("mail", in.Mail); err != nil {
			return nil, err
		}
	}
	err := s.change(ctx, by, "add user", in.Name, func(d *site.Draft) error {
		if in.FirstOnly && s.hasAdministrator() {
			return conflict("", "amber sign-in USER", "there is an administrator already")
		}
		people := s.Policy().Directory
		if people.UserNamed(in.Name) != nil {
			return conflict("name", "amber user show "+quote(in.Name), "there is a user %s already", in.Name)
		}
		r, uid := d.Records(), people.NextUID()
		rests := func() bool { _, rests := r.Retired(uid, s.Now()); return rests }
		for rests() {
			uid++
		}
		if in.UID != nil {
			uid = *in.UID
			if err := s.uidGiven(d, uid, 0, in.Reuse); err != nil {
				return err
			}
		}
		primary, err := s.groupOrNone(in.Primary)
		if err != nil {
			return err
		}
		u := identity.User{Name: in.Name, FullName: in.FullName, UID: uid, Primary: primary, Role: in.Role, Service: in.Service, Starts: instant(in.Starts), Expires: instant(in.Expires),
			SMB: !in.NoSMB, NFS: !in.NoNFS, Console: !in.Service, Description: in.Description, Mail: in.Mail}
		set(&u.Console, in.Console)
		if err := checkDates(&u); err != nil {
			return err
		}
		if err := relabel(&u.Labelled, in.Labels); err != nil {
			return err
		}
		u.ID = identity.ID(site.Put(d, u))
		if in.Profile != "" {
			if err := s.giveProfile(d, u.ID, in.Profile); err != nil {
				return err
			}
			shaped, _ := site.Get[identity.User](d, int64(u.ID))
			u = in.after(shaped)
			site.Put(d, u)
		}
		for _, name := range in.Groups {
			g, err := s.Group(name)
			if err != nil {
				return err
			}
			site.Join(d, g.ID, identity.UserPrincipal(u.ID))
		}
		if in.Password == "" {
			return nil
		}
		return s.writePassword(d, u, in.Password, in.MustChange)
	})
	if err != nil {
		return nil, err
	}
	return s.User(in.Name)
}

// after is a user who was given a profile, with what was said of them besides: that counts more.
func (in UserInput) after(u identity.User) identity.User {
	u.SMB, u.NFS = u.SMB && !in.NoSMB, u.NFS && !in.NoNFS
	set(&u.Console, in.Console)
	if in.Role != identity.NoRole {
		u.Role = in.Role
	}
	if !in.Expires.IsZero() {
		u.Expires = instant(in.Expires)
	}
	return u
}

// checkDates refuses an account that would never work.
func checkDates(u *identity.User) error {
	if !u.Expires.IsZero() && !u.Starts.Before(u.Expires) {
		return invalid("starts", "the account would begin at %s and have ended at %s: it would never work", site.Moment(u.Starts), site.Moment(u.Expires))
	}
	return nil
}

// instant is a moment as records hold it: to the second.
func instant(t time.Time) time.Time {
	if t.IsZero() {
		return t
	}
	return t.UTC().Truncate(time.Second)
}

// set gives a field another value; nil leaves it.
func set[T any](field *T, to *T) {
	if to != nil {
		*field = *to
	}
}

// UserChange is what is to change of a user; nil leaves a field as it is.
type UserChange struct {
	Name        *string
	FullName    *string
	Description *string
	UID         *uint32
	Primary     *string // "" for none
	Role        *identity.Role
	Service     *bool
	Disabled    *bool
	Starts      *time.Time // zero for at once
	Expires     *time.Time // zero for never
	SMB, NFS    *bool
	Console     *bool
	Profile     *string           // what it says is given; "" takes the profile away and leaves that
	Reuse       bool              // give the number even though it was somebody else's lately
	Mail        *string           // "" for none
	Labels      map[string]string // by key; "" takes one away
}

// UpdateUser changes a user and gives the new record.
func (s *Service) UpdateUser(ctx context.Context, by Actor, name string, in UserChange) (*identity.User, error) {
	user, err := s.User(name)
	if err != nil {
		return nil, err
	}
	if in.Mail != nil && *in.Mail != "" {
		if err := checkMail("mail", *in.Mail); err != nil {
			return nil, err
		}
	}
	err = s.change(ctx, by, "change user", user.Name, func(d *site.Draft) error {
		u, ok := site.Get[identity.User](d, int64(user.ID))
		if !ok {
			return notFound("user", "amber user list", "there is no user %q", name)
		}
		if in.UID != nil {
			if err := s.uidGiven(d, *in.UID, user.ID, in.Reuse); err != nil {
				return err
			}
		}
		if in.Profile != nil {
			if err := s.giveProfile(d, user.ID, *in.Profile); err != nil {
				return err
			}
			u, _ = site.Get[identity.User](d, int64(user.ID))
		}
		if in.Primary != nil {
			if u.Primary, err = s.groupOrNone(*in.Primary); err != nil {
				return err
			}
		}
		if in.Expires != nil {
			u.Expires = instant(*in.Expires)
		}
		if in.Starts != nil {
			if u.Starts = instant(*in.Starts); u.Begun(time.Now()) {
				u.Starts = time.Time{} // it has come
			}
		}
		if err := checkDates(&u); err != nil {
			return err
		}
		if err := rename(s.userNames(), int64(user.ID), &u.Name, in.Name); err != nil {
			return err
		}
		set(&u.UID, in.UID)
		set(&u.FullName, in.FullName)
		set(&u.Mail, in.Mail)
		set(&u.Role, in.Role)
		set(&u.Description, in.Description)
		set(&u.Service, in.Service)
		set(&u.Console, in.Console)
		set(&u.Disabled, in.Disabled)
		set(&u.SMB, in.SMB)
		set(&u.NFS, in.NFS)
		if err := relabel(&u.Labelled, in.Labels); err != nil {
			return err
		}
		site.Put(d, u)
		s.renamePrincipal(d, identity.UserPrincipal(user.ID), user.Name, in.Name)
		s.moveOwn(d, user.ID, user.Name, true)
		return s.keepAdministrator(d)
	})
	if err != nil {
		return nil, err
	}
	return s.User(nameAfter(user.Name, in.Name))
}

// keepAdministrator refuses a change after which nobody could make another, today or once a day has come.
func (s *Service) keepAdministrator(d *site.Draft) error {
	now := time.Now()
	administers := func(u *identity.User) bool { return u.Role == identity.Administrator && u.InForce(now) }
	stays := func(u *identity.User) bool { return administers(u) && u.Expires.IsZero() }
	is := d.Records().Users
	any := func(all []identity.User, of func(*identity.User) bool) bool {
		for i := range all {
			if of(&all[i]) {
				return true
			}
		}
		return false
	}
	was := s.Policy().Directory.Users()
	switch {
	case any(was, stays) && !any(is, stays) && any(is, administers):
		return conflict("", "amber user add NAME --role administrator", "that would leave no administrator once the last one's day has come")
	case s.hasAdministrator() && !any(is, administers):
		return conflict("", "amber user add NAME --role administrator", "that would leave no administrator")
	}
	return nil
}

// naming is where something names a principal, and the command after which it does not.
type naming struct{ where, command string }

// usedBy lists what names a principal.
func (s *Service) usedBy(p identity.Principal) (out []naming) {
	policy := s.Policy()
	for _, f := range policy.Folders {
		if f.Personal != nil && p == identity.GroupPrincipal(f.Personal.Group) {
			out = append(out, naming{"the directories of " + f.Name + ", which is personal", "amber folder set " + quote(f.Name) + " --personal none"})
		}
		for _, r := range site.WrittenRules(f.Rules) {
			for _, e := range r.Entries {
				if e.Who == p {
					out = append(out, naming{fmt.Sprintf("entry %d on %s", e.ID, f.Display(r.Path)), fmt.Sprintf("amber entry remove %s %d", quote(f.Display(r.Path)), e.ID)})
				}
			}
		}
		switch {
		case p.Kind == identity.KindUser && f.Owner == p.ID:
			out = append(out, naming{"ownership of " + f.Name, "amber folder set " + quote(f.Name) + " --owner ''"})
		case p.Kind == identity.KindGroup && f.Group == p.ID:
			out = append(out, naming{"ownership of " + f.Name, "amber folder set " + quote(f.Name) + " --group ''"})
		}
	}
	for _, u := range policy.Directory.Users() {
		if u.Leaving != nil && p == identity.UserPrincipal(u.Leaving.To) {
			out = append(out, naming{"what is planned for when " + u.Name + " leaves", "amber user leave " + quote(u.Name) + " --stay"})
		}
	}
	for _, sh := range policy.Shares {
		for _, e := range sh.Share.Entries {
			if e.Who == p {
				out = append(out, naming{fmt.Sprintf("entry %d of share %s", e.ID, sh.Name), fmt.Sprintf("amber share entry remove %s %d", quote(sh.Name), e.ID)})
			}
		}
	}
	return append(out, mapUses(policy, p)...)
}

// refuseIfUsed refuses to remove what is still named, with the commands after which it can be, and what may be done instead.
func (s *Service) refuseIfUsed(p identity.Principal, name, instead string) error {
	uses := s.usedBy(p)
	if len(uses) == 0 {
		return nil
	}
	var where, commands []string
	for _, u := range uses[:min(3, len(uses))] {
		where, commands = append(where, u.where), append(commands, u.command)
	}
	list := strings.Join(where, ", ")
	if more := len(uses) - 3; more > 0 {
		list += fmt.Sprintf(" and %d more", more)
	}
	return conflict("", strings.Join(commands, " && "), "%s is still named by %s%s", name, list, instead)
}

// RemoveUser removes a user that no entry names any more.
func (s *Service) RemoveUser(ctx context.Context, by Actor, name string) error {
	user, err := s.User(name)
	if err != nil {
		return err
	}
	return s.change(ctx, by, "remove user", user.Name, func(d *site.Draft) error {
		if err := s.refuseIfUsed(identity.UserPrincipal(user.ID), user.Name, ". Nobody signs in as "+user.Name+" after amber user set "+quote(user.Name)+" --disable"); err != nil {
			return err
		}
		site.Delete[identity.User](d, int64(user.ID))
		rests := site.RetiredNumber{UID: user.UID, Name: user.Name, Since: instant(time.Now())}
		for _, n := range d.Records().RetiredNumbers { // somebody had it before, and it was given again
			if n.UID == user.UID {
				rests.ID = n.ID
			}
		}
		site.Put(d, rests)
		return s.keepAdministrator(d)
	})
}

// Principal reads a name as people write it: owner@, group@, everyone@, user:NAME,
// group:NAME, or a bare name that only one of the two has.
func (s *Service) Principal(field, name string) (identity.Principal, error) {
	d := s.known().Directory
	switch strings.ToLower(name) {
	case "owner@":
		return identity.Owner, nil
	case "group@":
		return identity.OwningGroup, nil
	case "everyone@":
		return identity.Everyone, nil
	}
	bare, kind := name, ""
	if k, rest, ok := strings.Cut(name, ":"); ok && (k == "user" || k == "group") {
		kind, bare = k, rest
	}
	u, g := d.UserNamed(bare), d.GroupNamed(bare)
	switch {
	case u != nil && g != nil && kind == "":
		return identity.Principal{}, invalid(field, "%s is a user and a group: write user:%s or group:%s", bare, bare, bare)
	case u != nil && kind != "group":
		return identity.UserPrincipal(u.ID), nil
	case g != nil && kind != "user":
		return identity.GroupPrincipal(g.ID), nil
	}
	return identity.Principal{}, notFound(field, "amber user list", "there is no user or group %q", name)
}
