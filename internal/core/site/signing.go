package site

import (
	"net/netip"
	"slices"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
)

// SigningIn is what signing in to the console and the API takes. The zero SigningIn is the default.
type SigningIn struct {
	IdleMinutes  int             `json:"idleMinutes,omitzero"`  // after which a sign-in that nobody uses ends; 0 for DefaultIdle
	LongestHours int             `json:"longestHours,omitzero"` // after which any ends; 0 for DefaultLongest
	PasswordDays int             `json:"passwordDays,omitzero"` // after which a password has to be changed; 0 for never
	CodesFor     []identity.Role `json:"codesFor,omitzero"`     // who does not get in without one-time codes
}

// What holds where nothing is said.
const (
	DefaultIdle    = 2 * time.Hour
	DefaultLongest = 12 * time.Hour
)

// Idle is how long a sign-in lasts that nobody uses.
func (s SigningIn) Idle() time.Duration {
	if s.IdleMinutes == 0 {
		return DefaultIdle
	}
	return time.Duration(s.IdleMinutes) * time.Minute
}

// Longest is how long any sign-in lasts.
func (s SigningIn) Longest() time.Duration {
	if s.LongestHours == 0 {
		return DefaultLongest
	}
	return time.Duration(s.LongestHours) * time.Hour
}

// PasswordOver says whether a user's password is older than passwords may be. That of a program does not age: nobody would be there to change it. Nor does
// one of which it is not known when it was set, until it is set again.
func (s SigningIn) PasswordOver(u *identity.User, now time.Time) bool {
	return s.PasswordDays > 0 && !u.Service && !u.PasswordSet.IsZero() && now.Sub(u.PasswordSet) > time.Duration(s.PasswordDays)*24*time.Hour
}

// MustChange says whether a user's password opens nothing but the way to another.
func (s SigningIn) MustChange(u *identity.User, now time.Time) bool {
	return u.MustChange || s.PasswordOver(u, now)
}

// NeedsCodes says whether somebody does not get in without one-time codes.
func (s SigningIn) NeedsCodes(u *identity.User) bool { return slices.Contains(s.CodesFor, u.Role) }

// Token lets a program use the API on behalf of a user, with their role or a narrower one.
type Token struct {
	ID   int64         `json:"id,omitzero"`
	Name string        `json:"name,omitzero"`
	User identity.ID   `json:"user,omitzero"`
	Role identity.Role `json:"role,omitzero"` // never wider than the user's own at the moment of use
	Made time.Time     `json:"made,omitzero"`
	Ends time.Time     `json:"ends,omitzero"` // the first moment at which it no longer works; zero for never
	From []string      `json:"from,omitzero"` // where it may be used, as addresses or networks; none for anywhere
	// Secret is the number of what it is checked with, which is in no record.
	Secret int64 `json:"secret,omitzero"`
}

// Ended says whether its end has passed.
func (t *Token) Ended(now time.Time) bool { return !t.Ends.IsZero() && !now.Before(t.Ends) }

// UsedFrom says whether it may be used from an address.
func (t *Token) UsedFrom(addr netip.Addr) bool {
	return len(t.From) == 0 || slices.ContainsFunc(t.From, func(text string) bool {
		p, err := ParseNetwork(text)
		return err == nil && p.Contains(addr.Unmap())
	})
}

// ParseNetwork reads an address, or a network as 192.0.2.0/24.
func ParseNetwork(text string) (netip.Prefix, error) {
	if addr, err := netip.ParseAddr(text); err == nil {
		return netip.PrefixFrom(addr.Unmap(), addr.Unmap().BitLen()), nil
	}
	p, err := netip.ParsePrefix(text)
	return p.Masked(), err
}
