// Package signin decides who somebody is: by a password and a one-time code, a token, or proof of a password over SMB, at one desk for all ways in.
package signin

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"fmt"
	"sync"
	"time"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/ntlm"
	"amber.example/gatekeeper/internal/refusal"
	"amber.example/gatekeeper/internal/secret"
	"amber.example/gatekeeper/internal/store"
)

// Gateway is what the desk asks of the service.
type Gateway interface {
	Policy() *site.Policy
	// AddFirstAdministrator adds a user, if there is no administrator yet.
	AddFirstAdministrator(ctx context.Context, name, password string) error
	// SetOwnPassword sets a user's password on their own behalf. With withoutCodes their one-time codes go.
	SetOwnPassword(ctx context.Context, id identity.ID, password string, withoutCodes bool) error
	// SetCodes gives a user what one-time codes are checked with, on their own behalf; nil takes it away.
	SetCodes(ctx context.Context, id identity.ID, kept *site.Secret) error
	// SawSignIn is told of every sign-in that came to an end. It must not wait for anything.
	SawSignIn(Seen)
	// Unwritable says in words that something could not be written down.
	Unwritable(err error) error
}

// Seen is a sign-in as it ended.
type Seen struct {
	User    identity.ID // 0: the name that was given is nobody's
	Via     string      // one of the ways
	From    string      // an address
	Refused string      // why; "" for one that came in
}

// The ways in that are told apart.
const (
	ViaConsole = "console"
	ViaToken   = "token"
	ViaSMB     = "SMB"
)

// Desk is where everybody signs in.
type Desk struct {
	gateway  Gateway
	store    *store.Store
	keys     secret.Sealer
	throttle *Throttle
	now      func() time.Time

	mu        sync.Mutex
	firstCode []byte                        // SHA-256
	resets    map[identity.ID]reset         // codes that were printed for who has forgotten their password
	loose     map[[sha256.Size]byte]Session // that could not be written down
	used      map[int64]time.Time           // when sign-ins were last used, as far as that is not written down
	tokens    map[int64]tokenUse            // the same of tokens
	enrolling map[identity.ID]enrolling     // who sets up one-time codes
	taken     map[codeUse]bool              // codes that have been used, as far as that is not written down
}

// NewDesk is for the sign-ins of a gateway, which are kept in a store.
func NewDesk(g Gateway, st *store.Store, keys secret.Sealer) *Desk {
	d := &Desk{gateway: g, store: st, keys: keys, now: time.Now, resets: make(map[identity.ID]reset), loose: make(map[[sha256.Size]byte]Session),
		used: make(map[int64]time.Time), tokens: make(map[int64]tokenUse), enrolling: make(map[identity.ID]enrolling), taken: make(map[codeUse]bool)}
	d.throttle = NewThrottle(func() time.Time { return d.now() })
	return d
}

// SetClock has the desk read the time elsewhere, for tests.
func (d *Desk) SetClock(now func() time.Time) { d.now = now }

var errSignIn = &refusal.Error{Kind: refusal.Unauthenticated, Message: "user name or password is wrong"}

func tooMany(what string, wait time.Duration) error {
	return &refusal.Error{Kind: refusal.RateLimited, RetryAfter: wait, Message: "too many wrong " + what + "; try again in " + max(wait.Round(time.Second), time.Second).String()}
}

// What is needed to go on, as refusal.Error has it.
const (
	NeedCode     = "code"     // a one-time code
	NeedPassword = "password" // another password
	NeedCodes    = "codes"    // one-time codes have to be set up
)

// Try is somebody who says who they are. Code is a one-time code, or a recovery code; "" for none.
type Try struct {
	Name, Password, Code string
	Address              string // the caller's, for the throttle
	Client               string // as the caller calls itself
}

// SignIn checks a password, and a one-time code where the account has them, for the console or the API.
func (d *Desk) SignIn(ctx context.Context, try Try) (Session, error) {
	user, err := d.prove(ctx, try)
	if err != nil {
		return Session{}, err
	}
	rules := d.gateway.Policy().SigningIn
	switch {
	case !user.MayUseConsole():
		err = &refusal.Error{Kind: refusal.Forbidden, Message: user.Name + " may not use the console: this account is for storage only"}
	case rules.MustChange(user, d.now()):
		err = &refusal.Error{Kind: refusal.Forbidden, Need: NeedPassword, Next: "amber password " + user.Name, Message: mustChange(user)}
	case user.Codes == 0 && rules.NeedsCodes(user):
		err = &refusal.Error{Kind: refusal.Forbidden, Need: NeedCodes, Next: "amber codes set-up " + user.Name, Message: user.Name + " needs one-time codes to sign in, and has not set them up yet"}
	default:
		session, err := d.newSession(ctx, user, try)
		if err == nil {
			d.saw(user, ViaConsole, try.Address, "")
		}
		return session, err
	}
	d.saw(user, ViaConsole, try.Address, err.Error())
	return Session{}, err
}

func mustChange(u *identity.User) string {
	if u.MustChange {
		return "the password of " + u.Name + " was set by somebody else: it has to be changed first"
	}
	return "the password of " + u.Name + " is older than passwords may be: it has to be changed first"
}

// ChangePassword gives a user another password, for whoever knows the one they have: anybody whose account is in force, whatever their role. Wrong ones are
// slowed down as at signing in.
func (d *Desk) ChangePassword(ctx context.Context, try Try, password string) error {
	user, err := d.prove(ctx, try)
	if err != nil {
		return err
	}
	if password == try.Password {
		return &refusal.Error{Kind: refusal.Invalid, Field: "password", Message: "that is the password as it was"}
	}
	return d.gateway.SetOwnPassword(ctx, user.ID, password, false)
}

// prove finds the user with a name and a password, whose account is in force, and who has given a one-time code if they have them.
func (d *Desk) prove(ctx context.Context, try Try) (*identity.User, error) {
	user := d.gateway.Policy().Directory.UserNamed(try.Name)
	var kept, codes site.Secret
	if user != nil {
		var err error
		if kept, err = d.store.Secret(ctx, user.Password); err != nil {
			return nil, err
		}
		if codes, err = d.store.Secret(ctx, user.Codes); err != nil {
			return nil, err
		}
	}
	var needsCode, wrongCode bool
	ok, wait := d.throttle.Compare(ctx, try.Name, try.Address, 0, func() bool {
		if !secret.Check(kept.Hash, try.Password) {
			return false
		}
		if user.Codes == 0 || !user.InForce(d.now()) {
			return true
		}
		if needsCode = try.Code == ""; needsCode {
			return true
		}
		wrongCode = !d.takeCode(ctx, user, codes, try.Code)
		return !wrongCode
	})
	var err error
	switch {
	case wait > 0:
		return nil, tooMany("passwords", wait)
	case wrongCode:
		err = &refusal.Error{Kind: refusal.Unauthenticated, Field: "code", Need: NeedCode, Message: "the one-time code is wrong, or has been used: wait for the next"}
	case !ok, !user.InForce(d.now()):
		err = errSignIn
	case needsCode:
		return nil, &refusal.Error{Kind: refusal.Unauthenticated, Field: "code", Need: NeedCode, Message: user.Name + " signs in with a one-time code besides the password"}
	default:
		return user, nil
	}
	d.saw(user, ViaConsole, try.Address, err.Error())
	return nil, err
}

// saw tells of a sign-in that ended. Of a name that is nobody's nothing is told but that it was: people type passwords there.
func (d *Desk) saw(user *identity.User, via, from, refused string) {
	seen := Seen{Via: via, From: from, Refused: refused}
	if user != nil {
		seen.User = user.ID
	}
	d.gateway.SawSignIn(seen)
}

// ntPatience is how long a sign-in over SMB waits by itself, as its clients do not try again.
const ntPatience = 3 * time.Second

// ProveNT is what smb.Accounts asks for.
func (d *Desk) ProveNT(ctx context.Context, name, address string, compare func(hash []byte) bool) (identity.ID, error) {
	user, hash := d.secretOf(ctx, name)
	ok, wait := d.throttle.Compare(ctx, name, address, ntPatience, func() bool { return compare(hash) })
	switch {
	case wait > 0:
		return 0, fmt.Errorf("%w: try again in %s", ntlm.ErrPutOff, wait)
	case !ok:
		d.saw(user, ViaSMB, address, errSignIn.Message)
		return 0, ntlm.ErrWrong
	}
	switch rules := d.gateway.Policy().SigningIn; {
	case user.MustChange:
		d.saw(user, ViaSMB, address, mustChange(user))
		return 0, ntlm.ErrMustChange
	case rules.PasswordOver(user, d.now()):
		d.saw(user, ViaSMB, address, mustChange(user))
		return 0, ntlm.ErrPasswordOver
	case access.Admit(d.gateway.Policy(), user.ID, site.SMB, d.now()) != access.Passed:
		d.saw(user, ViaSMB, address, "the account does not work, or may not use SMB") // the session says so to the client
	default:
		d.saw(user, ViaSMB, address, "")
	}
	return user.ID, nil
}

// secretOf gives the secret that NTLMv2 is checked with; nil for users who do not exist or have no password.
func (d *Desk) secretOf(ctx context.Context, name string) (*identity.User, []byte) {
	user := d.gateway.Policy().Directory.UserNamed(name)
	if user == nil {
		return nil, nil
	}
	kept, err := d.store.Secret(ctx, user.Password)
	if err != nil || kept.Sealed == nil {
		return user, nil
	}
	hash, err := d.keys.Open(user.ID, kept.Sealed)
	if err != nil {
		return user, nil
	}
	return user, hash
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
func (d *Desk) MakeFirst(ctx context.Context, code string, who Try) (Session, error) {
	if !d.NeedsFirst() {
		return Session{}, refusal.Clash("", "amber sign-in USER", "there is an administrator already")
	}
	ok, wait := d.throttle.Compare(ctx, "first administrator", who.Address, 0, func() bool {
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
	if err := d.gateway.AddFirstAdministrator(ctx, who.Name, who.Password); err != nil {
		return Session{}, err
	}
	return d.newSession(ctx, d.gateway.Policy().Directory.UserNamed(who.Name), who)
}
