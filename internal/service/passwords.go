package service

import (
	"context"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/secret"
)

// SetPassword sets a user's password for every way in, and ends their sessions.
func (s *Service) SetPassword(ctx context.Context, by Actor, name, password string) error {
	user, err := s.User(name)
	if err != nil {
		return err
	}
	return s.change(ctx, by, "set password", user.Name, func(d *site.Draft) error {
		u, ok := site.Get[identity.User](d, int64(user.ID))
		if !ok {
			return notFound("user", "amber user list", "there is no user %q", name)
		}
		return s.writePassword(d, u, password)
	})
}

// SetOwnPassword sets the password of a user who has shown that they know the one they have: whatever their role, it is theirs to change.
func (s *Service) SetOwnPassword(ctx context.Context, id identity.ID, password string) error {
	user := s.Policy().Directory.User(id)
	if user == nil {
		return notFound("user", "", "there is no such user")
	}
	return s.SetPassword(ctx, Actor{ID: user.ID, Name: user.Name, Role: entitled}, user.Name, password)
}

// writePassword writes a user down with a password.
func (s *Service) writePassword(d *site.Draft, u identity.User, password string) error {
	if why := secret.Weak(password, u.Name, u.FullName); why != "" {
		return invalid("password", "%s", why)
	}
	var kept site.Secret
	if !s.tried() { // it is never checked, and takes long to make
		kept = site.Secret{Hash: secret.Hash(password), Sealed: s.keys.Seal(u.ID, secret.NTHash(password))}
	}
	u.Password = d.Keep(kept)
	site.Put(d, u)
	s.later(func() { s.EndLoose(u.ID) })
	return nil
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
