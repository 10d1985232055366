// Package signin decides who somebody is: by a password, a token, or proof of a password over SMB, at one desk for all ways in.
package signin

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"database/sql"
	"encoding/base64"
	"errors"
	"fmt"
	"maps"
	"sync"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/ntlm"
	"amber.example/gatekeeper/internal/refusal"
	"amber.example/gatekeeper/internal/secret"
	"amber.example/gatekeeper/internal/store"
)

// SessionLength is how long a sign-in lasts.
const SessionLength = 12 * time.Hour

// Session is a sign-in. Token is shown once; only its hash is kept.
type Session struct {
	Token   string
	Actor   refusal.Actor
	Expires time.Time
}

// Gateway is what the desk asks of the service.
type Gateway interface {
	Policy() *site.Policy
	// AddFirstAdministrator adds a user, if there is no administrator yet.
	AddFirstAdministrator(ctx context.Context, name, password string) error
	// SetOwnPassword sets a user's password on their own behalf.
	SetOwnPassword(ctx context.Context, id identity.ID, password string) error
	// Unwritable says in words that something could not be written down.
	Unwritable(err error) error
}

// Desk is where everybody signs in.
type Desk struct {
	gateway  Gateway
	store    *store.Store
	keys     secret.Sealer
	throttle *Throttle

	mu        sync.Mutex
	firstCode []byte                        // SHA-256
	loose     map[[sha256.Size]byte]Session // that could not be written down
}

// mostLooseSessions is how many sign-ins are kept that cannot be written down.
const mostLooseSessions = 1000

// NewDesk is for the sign-ins of a gateway, which are kept in a store.
func NewDesk(g Gateway, st *store.Store, keys secret.Sealer) *Desk {
	return &Desk{gateway: g, store: st, keys: keys, throttle: NewThrottle(time.Now), loose: make(map[[sha256.Size]byte]Session)}
}

var errSignIn = &refusal.Error{Kind: refusal.Unauthenticated, Message: "user name or password is wrong"}

func tooMany(what string, wait time.Duration) error {
	return &refusal.Error{Kind: refusal.RateLimited, RetryAfter: wait, Message: "too many wrong " + what + "; try again in " + max(wait.Round(time.Second), time.Second).String()}
}

// SignIn checks a password for the console or the API. Only accounts with a role
// get in; address is the caller's, for the throttle.
func (d *Desk) SignIn(ctx context.Context, name, password, address string) (Session, error) {
	user, err := d.prove(ctx, name, password, address)
	if err != nil {
		return Session{}, err
	}
	if user.Role == identity.NoRole {
		return Session{}, &refusal.Error{Kind: refusal.Forbidden, Message: user.Name + " has no console role: this account is for storage only"}
	}
	return d.newSession(ctx, user)
}

// ChangePassword gives a user another password, for whoever knows the one they have: anybody whose account is in force, whatever their role. Wrong ones are
// slowed down as at signing in.
func (d *Desk) ChangePassword(ctx context.Context, name, old, password, address string) error {
	user, err := d.prove(ctx, name, old, address)
	if err != nil {
		return err
	}
	if password == old {
		return &refusal.Error{Kind: refusal.Invalid, Field: "password", Message: "that is the password as it was"}
	}
	return d.gateway.SetOwnPassword(ctx, user.ID, password)
}

// prove finds the user with a name and a password, whose account is in force.
func (d *Desk) prove(ctx context.Context, name, password, address string) (*identity.User, error) {
	user := d.gateway.Policy().Directory.UserNamed(name)
	var kept site.Secret
	if user != nil {
		var err error
		if kept, err = d.store.Secret(ctx, user.Password); err != nil {
			return nil, err
		}
	}
	ok, wait := d.throttle.Compare(ctx, name, address, 0, func() bool { return secret.Check(kept.Hash, password) })
	switch {
	case wait > 0:
		return nil, tooMany("passwords", wait)
	case !ok, !user.InForce(time.Now()):
		return nil, errSignIn
	}
	return user, nil
}

func (d *Desk) newSession(ctx context.Context, user *identity.User) (Session, error) {
	raw := make([]byte, 32)
	rand.Read(raw)
	out := Session{Token: base64.RawURLEncoding.EncodeToString(raw), Actor: refusal.Actor{ID: user.ID, Name: user.Name, Role: user.Role}, Expires: time.Now().Add(SessionLength).Truncate(time.Second)}
	hash := sha256.Sum256([]byte(out.Token))
	err := d.store.Write(ctx, func(tx *store.Tx) error {
		now := time.Now().UTC().Format(time.RFC3339)
		if err := tx.Run(ctx, `DELETE FROM sessions WHERE expires <= ?`, now); err != nil {
			return err
		}
		return tx.Run(ctx, `INSERT INTO sessions VALUES (?, ?, ?, ?)`, hash[:], user.ID, now, out.Expires.UTC().Format(time.RFC3339))
	})
	if (errors.Is(err, store.ErrUnwritable) || errors.Is(err, store.ErrBusy)) && d.keepLoose(hash, out) {
		return out, nil // whoever is to fix it gets in
	}
	return out, d.gateway.Unwritable(err)
}

// Authenticate finds whom a token belongs to. The account is looked at anew each
// time: who is disabled or loses the role is out at once.
func (d *Desk) Authenticate(ctx context.Context, token string) (refusal.Actor, error) {
	hash := sha256.Sum256([]byte(token))
	var id identity.ID
	err := d.store.DB().QueryRowContext(ctx, `SELECT user_id FROM sessions WHERE token_hash = ? AND expires > ?`,
		hash[:], time.Now().UTC().Format(time.RFC3339)).Scan(&id)
	if session, ok := d.looseOf(hash); ok {
		id, err = session.Actor.ID, nil
	}
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return refusal.Actor{}, err
	}
	user := d.gateway.Policy().Directory.User(id)
	if err != nil || user == nil || !user.InForce(time.Now()) || user.Role == identity.NoRole {
		return refusal.Actor{}, &refusal.Error{Kind: refusal.Unauthenticated, Message: "not signed in, or the sign-in has ended", Next: "amber sign-in USER"}
	}
	return refusal.Actor{ID: user.ID, Name: user.Name, Role: user.Role}, nil
}

// SignOut ends a session. An unknown token is not an error.
func (d *Desk) SignOut(ctx context.Context, token string) error {
	hash := sha256.Sum256([]byte(token))
	d.mu.Lock()
	delete(d.loose, hash)
	d.mu.Unlock()
	return d.gateway.Unwritable(d.store.Write(ctx, func(tx *store.Tx) error {
		return tx.Run(ctx, `DELETE FROM sessions WHERE token_hash = ?`, hash[:])
	}))
}

// ntPatience is how long a sign-in over SMB waits by itself, as its clients do not try again.
const ntPatience = 3 * time.Second

// ProveNT is what smb.Accounts asks for.
func (d *Desk) ProveNT(ctx context.Context, name, address string, compare func(hash []byte) bool) (identity.ID, error) {
	id, hash, _ := d.secretOf(ctx, name)
	ok, wait := d.throttle.Compare(ctx, name, address, ntPatience, func() bool { return compare(hash) })
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
func (d *Desk) secretOf(ctx context.Context, name string) (identity.ID, []byte, bool) {
	user := d.gateway.Policy().Directory.UserNamed(name)
	if user == nil {
		return 0, nil, false
	}
	kept, err := d.store.Secret(ctx, user.Password)
	if err != nil || kept.Sealed == nil {
		return 0, nil, false
	}
	hash, err := d.keys.Open(user.ID, kept.Sealed)
	return user.ID, hash, err == nil
}

// FirstCode gives the one-time code with which the first administrator is made,
// a new one at each start; "" once there is an administrator.
func (d *Desk) FirstCode() string {
	if !d.NeedsFirst() {
		return ""
	}
	code := secret.ShortCode()
	hash := sha256.Sum256([]byte(code))
	d.mu.Lock()
	defer d.mu.Unlock()
	d.firstCode = hash[:]
	return code
}

// NeedsFirst says whether there is no administrator yet.
func (d *Desk) NeedsFirst() bool {
	for _, u := range d.gateway.Policy().Directory.Users() {
		if u.Role == identity.Administrator {
			return false
		}
	}
	return true
}

// MakeFirst makes the first administrator, for whoever holds the code that the
// service printed, and signs them in.
func (d *Desk) MakeFirst(ctx context.Context, code, name, password, address string) (Session, error) {
	if !d.NeedsFirst() {
		return Session{}, refusal.Clash("", "amber sign-in USER", "there is an administrator already")
	}
	ok, wait := d.throttle.Compare(ctx, "first administrator", address, 0, func() bool {
		hash := sha256.Sum256([]byte(code))
		d.mu.Lock()
		defer d.mu.Unlock()
		return d.firstCode != nil && subtle.ConstantTimeCompare(hash[:], d.firstCode) == 1
	})
	if wait > 0 {
		return Session{}, tooMany("codes", wait)
	}
	if !ok {
		return Session{}, &refusal.Error{Kind: refusal.Unauthenticated, Field: "code", Message: "the code is wrong: it stands in what the service printed when it started"}
	}
	if err := d.gateway.AddFirstAdministrator(ctx, name, password); err != nil {
		return Session{}, err
	}
	return d.newSession(ctx, d.gateway.Policy().Directory.UserNamed(name))
}

// keepLoose keeps a sign-in that cannot be written down until the process ends.
func (d *Desk) keepLoose(hash [sha256.Size]byte, session Session) bool {
	d.mu.Lock()
	defer d.mu.Unlock()
	now := time.Now()
	for h, old := range d.loose {
		if !now.Before(old.Expires) {
			delete(d.loose, h)
		}
	}
	if len(d.loose) >= mostLooseSessions {
		return false
	}
	d.loose[hash] = session
	return true
}

// EndLoose ends the sign-ins of a user that could not be written down.
func (d *Desk) EndLoose(id identity.ID) {
	d.mu.Lock()
	defer d.mu.Unlock()
	maps.DeleteFunc(d.loose, func(_ [sha256.Size]byte, session Session) bool { return session.Actor.ID == id })
}

// looseOf finds a sign-in that could not be written down.
func (d *Desk) looseOf(hash [sha256.Size]byte) (Session, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	session, ok := d.loose[hash]
	return session, ok && time.Now().Before(session.Expires)
}
