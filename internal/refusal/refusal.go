// Package refusal is what a use case returns for a request that it turns down, and who asked.
package refusal

import (
	"fmt"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
)

// Kind sorts errors by what the caller can do about them.
type Kind string

// The kinds of Error.
const (
	Invalid         Kind = "invalid"         // the request makes no sense; Field says where
	NotFound        Kind = "not found"       // what it names is not there
	Conflict        Kind = "conflict"        // it contradicts what is there
	Forbidden       Kind = "forbidden"       // the caller may not
	Unauthenticated Kind = "unauthenticated" // the caller is not signed in, or the password is wrong
	// Unavailable is what cannot be now, for no fault of the caller's.
	Unavailable Kind = "unavailable"
	RateLimited Kind = "rate limited" // too many wrong passwords; wait for RetryAfter
)

// Error is what every use case returns for a request that it turns down.
type Error struct {
	Kind       Kind
	Field      string // of the input; "" where none is at fault
	Message    string
	Next       string // the command to type next; "" where there is none
	RetryAfter time.Duration
	Confirm    bool   // it is done if the caller says that they know
	Need       string // what the caller has to give or do first, where that is something known: see the signin package
}

func (e *Error) Error() string { return e.Message }

// Bad is of a request that makes no sense; field says where.
func Bad(field, format string, args ...any) error {
	return &Error{Kind: Invalid, Field: field, Message: fmt.Sprintf(format, args...)}
}

// Clash is of one that contradicts what is there; next is the command to type then.
func Clash(field, next, format string, args ...any) error {
	return &Error{Kind: Conflict, Field: field, Next: next, Message: fmt.Sprintf(format, args...)}
}

// Missing is of one that names what is not there.
func Missing(field, next, format string, args ...any) error {
	return &Error{Kind: NotFound, Field: field, Next: next, Message: fmt.Sprintf(format, args...)}
}

// Actor is who asks.
type Actor struct {
	ID      identity.ID
	Name    string
	Role    identity.Role
	Session int64  // the number of their sign-in; 0 for none
	Token   string // the name of the token that acts on their behalf; "" for none
}

// Entitled is the role of somebody who may do this one thing, whatever they may do else: mark a
// review they were asked for, set entries over the wire where they hold WRITE_ACL.
const Entitled identity.Role = "entitled"

// Itself is the service acting on its own account.
var Itself = Actor{Name: "service", Role: identity.Administrator}
