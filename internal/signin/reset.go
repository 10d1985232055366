package signin

import (
	"context"
	"crypto/sha256"
	"crypto/subtle"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/refusal"
	"amber.example/gatekeeper/internal/secret"
)

// Who has forgotten the only administrator's password mends that on the machine itself: whoever may read the state directory has the service print a code
// there, and sets another password with it. Nothing over the network makes such a code.

// resetWithin is how long a code is good for.
const resetWithin = 15 * time.Minute

type reset struct {
	hash  [sha256.Size]byte
	until time.Time
}

// ResetCode makes a code with which an administrator's password is set anew, once.
func (d *Desk) ResetCode(name string) (code string, err error) {
	user := d.gateway.Policy().Directory.UserNamed(name)
	if user == nil {
		return "", refusal.Missing("user", "amber user list", "there is no user %q", name)
	}
	if user.Role != identity.Administrator {
		return "", refusal.Clash("user", "amber user password "+user.Name, "%s is no administrator: an administrator gives them another password", user.Name)
	}
	code = secret.ShortCode()
	d.mu.Lock()
	defer d.mu.Unlock()
	d.resets[user.ID] = reset{sha256.Sum256([]byte(code)), d.now().Add(resetWithin)}
	return code, nil
}

// ResetPassword sets the password of whoever a code was printed for. One-time codes that they had go with the old one.
func (d *Desk) ResetPassword(ctx context.Context, name, code, password, address string) error {
	user := d.gateway.Policy().Directory.UserNamed(name)
	ok, wait := d.throttle.Compare(ctx, name, address, 0, func() bool {
		if user == nil {
			return false
		}
		hash := sha256.Sum256([]byte(code))
		d.mu.Lock()
		defer d.mu.Unlock()
		is, there := d.resets[user.ID]
		return there && d.now().Before(is.until) && subtle.ConstantTimeCompare(hash[:], is.hash[:]) == 1
	})
	switch {
	case wait > 0:
		return tooMany("codes", wait)
	case !ok:
		d.saw(user, ViaConsole, address, "the code to set a password with is wrong")
		return &refusal.Error{Kind: refusal.Unauthenticated, Field: "reset", Message: "the code is wrong, or older than " + resetWithin.String() + ": have the service print another, on its own machine"}
	}
	if err := d.gateway.SetOwnPassword(ctx, user.ID, password, true); err != nil {
		return err
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	delete(d.resets, user.ID)
	return nil
}
