package service

import (
	"context"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/secret"
	"amber.example/gatekeeper/internal/signin"
)

// rememberedPasswords is how many of somebody's last passwords, the one they have included, are not taken again.
const rememberedPasswords = 5

// SetPassword sets a user's password for every way in, and ends their sessions. With mustChange it opens nothing but the way to another.
func (s *Service) SetPassword(ctx context.Context, by Actor, name, password string, mustChange bool) error {
	return s.setPassword(ctx, by, name, password, mustChange, false)
}

func (s *Service) setPassword(ctx context.Context, by Actor, name, password string, mustChange, withoutCodes bool) error {
	user, err := s.User(name)
	if err != nil {
		return err
	}
	if err := s.mayAlter(by, user); err != nil { // before anything is said of the password
		return err
	}
	if err := s.notAgain(ctx, user, password); err != nil {
		return err
	}
	return s.change(ctx, by, "set password", user.Name, func(d *site.Draft) error {
		u, ok := site.Get[identity.User](d, int64(user.ID))
		if !ok {
			return notFound("user", "amber user list", "there is no user %q", name)
		}
		if withoutCodes {
			u.Codes = 0
		}
		return s.writePassword(d, u, password, mustChange)
	})
}

// notAgain refuses the password that somebody has, and the last few before it. It takes a while, and so is done before anything is locked.
func (s *Service) notAgain(ctx context.Context, u *identity.User, password string) error {
	if s.tried() {
		return nil
	}
	for _, n := range append([]int64{u.Password}, u.PastPasswords...) {
		kept, err := s.store.Secret(ctx, n)
		if err != nil {
			return err
		}
		if kept.Hash != "" && secret.Check(kept.Hash, password) {
			return invalid("password", "that is one of the last %d passwords of %s: take one that was not used before", rememberedPasswords, u.Name)
		}
	}
	return nil
}

// NewPassword gives a user a password that is made up, to be told them once and changed by them first. It gives the password.
func (s *Service) NewPassword(ctx context.Context, by Actor, name string) (string, error) {
	password := secret.ShortCode()
	return password, s.SetPassword(ctx, by, name, password, true)
}

// SetOwnPassword sets the password of a user who has shown that they know the one they have: whatever their role, it is theirs to change.
func (s *Service) SetOwnPassword(ctx context.Context, id identity.ID, password string, withoutCodes bool) error {
	user, by, err := s.themselves(id)
	if err != nil {
		return err
	}
	return s.setPassword(ctx, by, user.Name, password, false, withoutCodes)
}

// themselves is a user as who does what is theirs to do, whatever their role.
func (s *Service) themselves(id identity.ID) (*identity.User, Actor, error) {
	user := s.Policy().Directory.User(id)
	if user == nil {
		return nil, Actor{}, notFound("user", "", "there is no such user")
	}
	return user, Actor{ID: user.ID, Name: user.Name, Role: entitled}, nil
}

// writePassword writes a user down with a password.
func (s *Service) writePassword(d *site.Draft, u identity.User, password string, mustChange bool) error {
	if u.OnlyOwns() {
		return conflict("password", "amber user set "+quote(u.Name)+" --smb on", "%s only owns: nobody signs in as it, and a password would say nothing", u.Name)
	}
	if why := secret.Weak(password, u.Name, u.FullName); why != "" {
		return invalid("password", "%s", why)
	}
	var kept site.Secret
	if !s.tried() { // it is never checked, and takes long to make
		kept = site.Secret{Hash: secret.Hash(password), Sealed: s.keys.Seal(u.ID, secret.NTHash(password))}
	}
	if u.Password != 0 {
		u.PastPasswords = append([]int64{u.Password}, u.PastPasswords...)
		u.PastPasswords = u.PastPasswords[:min(len(u.PastPasswords), rememberedPasswords-1)]
	}
	u.Password, u.MustChange, u.PasswordSet = d.Keep(kept), mustChange, instant(time.Now())
	site.Put(d, u)
	s.later(func() { s.EndLoose(u.ID) })
	return nil
}

// SetCodes gives a user what one-time codes are checked with, on their own behalf; nil takes it away.
func (s *Service) SetCodes(ctx context.Context, id identity.ID, kept *site.Secret) error {
	user, by, err := s.themselves(id)
	if err != nil {
		return err
	}
	action := "set up one-time codes"
	if kept == nil {
		action = "remove one-time codes"
	}
	return s.setCodes(ctx, by, action, user, kept)
}

// RemoveCodes takes a user's one-time codes away, for whoever lost what they are made with.
func (s *Service) RemoveCodes(ctx context.Context, by Actor, name string) error {
	user, err := s.User(name)
	if err != nil {
		return err
	}
	if user.Codes == 0 {
		return notFound("name", "amber user show "+quote(user.Name), "%s has no one-time codes", user.Name)
	}
	return s.setCodes(ctx, by, "remove one-time codes", user, nil)
}

func (s *Service) setCodes(ctx context.Context, by Actor, action string, user *identity.User, kept *site.Secret) error {
	return s.change(ctx, by, action, user.Name, func(d *site.Draft) error {
		u, ok := site.Get[identity.User](d, int64(user.ID))
		if !ok {
			return notFound("user", "amber user list", "there is no user %q", user.Name)
		}
		if u.Codes = 0; kept != nil {
			u.Codes = d.Keep(*kept)
		}
		site.Put(d, u)
		return nil
	})
}

func (s *Service) hasAdministrator() bool {
	for _, u := range s.Policy().Directory.Users() {
		if u.Role == identity.Administrator {
			return true
		}
	}
	return false
}

// AddFirstAdministrator makes a user who is an administrator, if there is none yet.
func (s *Service) AddFirstAdministrator(ctx context.Context, name, password string) error {
	_, err := s.CreateUser(ctx, Itself, UserInput{Name: name, Password: password, Role: identity.Administrator, FirstOnly: true})
	return err
}

// SawSignIn notes a sign-in that ended among what was seen at the wire.
func (s *Service) SawSignIn(seen signin.Seen) {
	if s.Log != nil {
		s.Log.SawSignIn(seen.User, seen.Via, seen.From, seen.Refused)
	}
}

// runUse writes down from time to time when sign-ins were last used.
func (s *Service) runUse() {
	const every = 30 * time.Second
	for {
		select {
		case <-s.background.ctx.Done():
			_ = s.WriteUse(context.WithoutCancel(s.background.ctx)) // they were used up to a minute ago, as far as is known
			return
		case <-time.After(every):
			_ = s.WriteUse(s.background.ctx) // tried again the next time
		}
	}
}

// SigningInChange is what is to change of what signing in takes; nil leaves a field as it is.
type SigningInChange struct {
	Idle, Longest *time.Duration // zero for the default
	PasswordDays  *int           // 0 for never
	CodesFor      *[]identity.Role
}

// The bounds of what signing in takes.
const (
	shortestIdle    = 5 * time.Minute
	longestSignIn   = 90 * 24 * time.Hour
	mostPasswordAge = 3650
)

// SetSigningIn changes what signing in to the console and the API takes. Whoever asks is not locked out by it: an administrator who is to need one-time codes
// has to have them.
func (s *Service) SetSigningIn(ctx context.Context, by Actor, in SigningInChange) (site.SigningIn, error) {
	err := s.change(ctx, by, "change signing in", "", func(d *site.Draft) error {
		is := d.Records().SigningIn
		for _, one := range []struct {
			field string
			to    *time.Duration
			unit  time.Duration
			at    *int
		}{{"idle", in.Idle, time.Minute, &is.IdleMinutes}, {"longest", in.Longest, time.Hour, &is.LongestHours}} {
			switch {
			case one.to == nil:
			case *one.to != 0 && (*one.to < max(shortestIdle, one.unit) || *one.to > longestSignIn):
				return invalid(one.field, "%s is not from %s to 90 days", *one.to, max(shortestIdle, one.unit))
			default:
				*one.at = int(*one.to / one.unit)
			}
		}
		if in.PasswordDays != nil {
			if is.PasswordDays = *in.PasswordDays; is.PasswordDays < 0 || is.PasswordDays > mostPasswordAge {
				return invalid("passwordDays", "%d is not a number of days up to %d, or 0 for never", is.PasswordDays, mostPasswordAge)
			}
		}
		if in.CodesFor != nil {
			is.CodesFor = *in.CodesFor
		}
		if len(is.CodesFor) == 0 {
			is.CodesFor = nil
		}
		if u := s.Policy().Directory.User(by.ID); u != nil && u.Codes == 0 && is.NeedsCodes(u) {
			return conflict("codesFor", "amber codes set-up "+quote(u.Name), "%s would not get in any more: set up one-time codes first", u.Name)
		}
		site.Put(d, is)
		return nil
	})
	return s.Policy().SigningIn, err
}

// ParseRoles reads the names of roles; user is that of who has none.
func ParseRoles(field string, names []string) ([]identity.Role, error) {
	out := []identity.Role{}
	for _, name := range names {
		role, err := ParseRole(field, name)
		if err != nil {
			return nil, err
		}
		out = append(out, role)
	}
	return out, nil
}

// ParseRole reads the name of a role; user is that of who has none.
func ParseRole(field, name string) (identity.Role, error) {
	if name == "user" {
		return identity.NoRole, nil
	}
	for _, role := range identity.Roles() {
		if name == string(role) {
			return role, nil
		}
	}
	return "", invalid(field, "%q is not one of administrator, operator, auditor, user", name)
}
