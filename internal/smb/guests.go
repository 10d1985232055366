package smb

import (
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/ntlm"
	"amber.example/gatekeeper/internal/secret"
)

// Guests are those who come without an account: by no name at all, or as "guest", or by the name of the user as whom guests come in, with no
// password. The first have no key: nothing of what they do is signed or sealed. They are that user then, on shares that take guests, and lose all
// at their next request when nobody comes as that user any more.

// noPassword is the NT hash of the password that is empty, MS-NLMP section 3.3.1.
var noPassword = secret.NTHash("")

// guestNamed is the user as whom somebody comes in who calls themselves so and has no password; 0 for nobody.
func (c *conn) guestNamed(name string) identity.ID {
	p := c.srv.Policy()
	u := p.Directory.User(p.Services.SMBGuest)
	if u == nil {
		return 0
	}
	if said := identity.Fold(name); said == identity.Fold(u.Name) || said == "guest" && p.Directory.UserNamed("guest") == nil {
		return u.ID
	}
	return 0
}

// letNobodyIn is for who gives no name.
func (c *conn) letNobodyIn(s *session) error {
	if c.trial != nil || c.srv.Policy().Services.SMBGuest == 0 || s.established.Load() && s.signer != nil {
		return ntlm.ErrWrong
	}
	return nil
}
