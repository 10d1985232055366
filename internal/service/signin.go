package service

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"database/sql"
	"encoding/base64"
	"errors"
	"fmt"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/ntlm"
	"amber.example/gatekeeper/internal/store"
)

// SessionLength is how long a sign-in lasts.
const SessionLength = 12 * time.Hour

const shortestPassword = 8

// Session is a sign-in. Token is shown once; only its hash is kept.
type Session struct {
	Token   string
	Actor   Actor
	Expires time.Time
}

var errSignIn = &Error{Kind: Unauthenticated, Message: "user name or password is wrong"}

func tooMany(what string, wait time.Duration) error {
	return &Error{Kind: RateLimited, RetryAfter: wait, Message: "too many wrong " + what + "; try again in " + max(wait.Round(time.Second), time.Second).String()}
}

// SignIn checks a password for the console or the API. Only accounts with a role
// get in; address is the caller's, for the throttle.
func (s *Service) SignIn(ctx context.Context, name, password, address string) (Session, error) {
	user := s.Policy().Directory.UserNamed(name)
	var kept site.Secret
	if user != nil {
		var err error
		if kept, err = s.store.Secret(ctx, user.Password); err != nil {
			return Session{}, err
		}
	}
	ok, wait := s.throttle.Compare(ctx, name, address, 0, func() bool { return checkPassword(kept.Hash, password) })
	if wait > 0 {
		return Session{}, tooMany("passwords", wait)
	}
	if !ok {
		return Session{}, errSignIn
	}
	if !user.InForce(time.Now()) {
		return Session{}, errSignIn
	}
	if user.Role == identity.NoRole {
		return Session{}, &Error{Kind: Forbidden, Message: user.Name + " has no console role: this account is for storage only"}
	}
	return s.newSession(ctx, user)
}

func (s *Service) newSession(ctx context.Context, user *identity.User) (Session, error) {
	raw := make([]byte, 32)
	rand.Read(raw)
	out := Session{Token: base64.RawURLEncoding.EncodeToString(raw), Actor: Actor{user.ID, user.Name, user.Role}, Expires: time.Now().Add(SessionLength).Truncate(time.Second)}
	hash := sha256.Sum256([]byte(out.Token))
	err := s.store.Write(ctx, func(tx *store.Tx) error {
		now := time.Now().UTC().Format(time.RFC3339)
		if err := tx.Run(ctx, `DELETE FROM sessions WHERE expires <= ?`, now); err != nil {
			return err
		}
		return tx.Run(ctx, `INSERT INTO sessions VALUES (?, ?, ?, ?)`, hash[:], user.ID, now, out.Expires.UTC().Format(time.RFC3339))
	})
	if (errors.Is(err, store.ErrUnwritable) || errors.Is(err, store.ErrBusy)) && s.keepLoose(hash, out) {
		return out, nil // whoever is to fix it gets in
	}
	return out, s.asUnwritable(err)
}

// Authenticate finds whom a token belongs to. The account is looked at anew each
// time: who is disabled or loses the role is out at once.
func (s *Service) Authenticate(ctx context.Context, token string) (Actor, error) {
	hash := sha256.Sum256([]byte(token))
	var id identity.ID
	err := s.store.DB().QueryRowContext(ctx, `SELECT user_id FROM sessions WHERE token_hash = ? AND expires > ?`,
		hash[:], time.Now().UTC().Format(time.RFC3339)).Scan(&id)
	if session, ok := s.loose(hash); ok {
		id, err = session.Actor.ID, nil
	}
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return Actor{}, err
	}
	user := s.Policy().Directory.User(id)
	if err != nil || user == nil || !user.InForce(time.Now()) || user.Role == identity.NoRole {
		return Actor{}, &Error{Kind: Unauthenticated, Message: "not signed in, or the sign-in has ended", Next: "amber sign-in USER"}
	}
	return Actor{user.ID, user.Name, user.Role}, nil
}

// SignOut ends a session. An unknown token is not an error.
func (s *Service) SignOut(ctx context.Context, token string) error {
	hash := sha256.Sum256([]byte(token))
	s.unwritten.mu.Lock()
	delete(s.unwritten.sessions, hash)
	s.unwritten.mu.Unlock()
	return s.asUnwritable(s.store.Write(ctx, func(tx *store.Tx) error {
		return tx.Run(ctx, `DELETE FROM sessions WHERE token_hash = ?`, hash[:])
	}))
}

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

// writePassword writes a user down with a password.
func (s *Service) writePassword(d *site.Draft, u identity.User, password string) error {
	if len([]rune(password)) < shortestPassword {
		return invalid("password", "the password needs at least %d characters", shortestPassword)
	}
	if len(password) > 256 {
		return invalid("password", "the password is longer than 256 bytes")
	}
	var kept site.Secret
	if !s.tried() { // it is never checked, and takes long to make
		kept = site.Secret{Hash: hashPassword(password), Sealed: s.keys.seal(u.ID, ntHash(password))}
	}
	u.Password = d.Keep(kept)
	site.Put(d, u)
	s.later(func() { s.endLoose(u.ID) })
	return nil
}

// ntPatience is how long a sign-in over SMB waits by itself, as its clients do not try again.
const ntPatience = 3 * time.Second

// ProveNT is what smb.Accounts asks for.
func (s *Service) ProveNT(ctx context.Context, name, address string, compare func(hash []byte) bool) (identity.ID, error) {
	id, hash, _ := s.secretOf(ctx, name)
	ok, wait := s.throttle.Compare(ctx, name, address, ntPatience, func() bool { return compare(hash) })
	switch {
	case wait > 0:
		return 0, fmt.Errorf("%w: try again in %s", ntlm.ErrPutOff, wait)
	case !ok:
		return 0, ntlm.ErrWrong
	}
	return id, nil
}

// secretOf gives the secret that NTLMv2 is checked with. It is false for users who
// do not exist or have no password.
func (s *Service) secretOf(ctx context.Context, name string) (identity.ID, []byte, bool) {
	user := s.Policy().Directory.UserNamed(name)
	if user == nil {
		return 0, nil, false
	}
	kept, err := s.store.Secret(ctx, user.Password)
	if err != nil || kept.Sealed == nil {
		return 0, nil, false
	}
	hash, err := s.keys.open(user.ID, kept.Sealed)
	return user.ID, hash, err == nil
}

// FirstCode gives the one-time code with which the first administrator is made,
// a new one at each start; "" once there is an administrator.
func (s *Service) FirstCode() string {
	if s.hasAdministrator() {
		return ""
	}
	code := shortCode()
	hash := sha256.Sum256([]byte(code))
	s.writing.Lock()
	defer s.writing.Unlock()
	s.firstCode = hash[:]
	return code
}

func (s *Service) hasAdministrator() bool {
	for _, u := range s.Policy().Directory.Users() {
		if u.Role == identity.Administrator {
			return true
		}
	}
	return false
}

// NeedsFirst says whether there is no administrator yet.
func (s *Service) NeedsFirst() bool { return !s.hasAdministrator() }

// MakeFirst makes the first administrator, for whoever holds the code that the
// service printed, and signs them in.
func (s *Service) MakeFirst(ctx context.Context, code, name, password, address string) (Session, error) {
	if !s.NeedsFirst() {
		return Session{}, conflict("", "amber sign-in USER", "there is an administrator already")
	}
	ok, wait := s.throttle.Compare(ctx, "first administrator", address, 0, func() bool {
		hash := sha256.Sum256([]byte(code))
		s.writing.Lock()
		defer s.writing.Unlock()
		return s.firstCode != nil && subtle.ConstantTimeCompare(hash[:], s.firstCode) == 1
	})
	if wait > 0 {
		return Session{}, tooMany("codes", wait)
	}
	if !ok {
		return Session{}, &Error{Kind: Unauthenticated, Field: "code", Message: "the code is wrong: it stands in what the service printed when it started"}
	}
	_, err := s.CreateUser(ctx, Itself, UserInput{Name: name, Password: password, Role: identity.Administrator, FirstOnly: true})
	if err != nil {
		return Session{}, err
	}
	return s.newSession(ctx, s.Policy().Directory.UserNamed(name))
}
