package service

import (
	"strconv"

	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/refusal"
)

// What use cases return for requests that they turn down, and who asks.
type (
	Error = refusal.Error
	Kind  = refusal.Kind
	Actor = refusal.Actor
)

// The kinds of Error.
const (
	Invalid         = refusal.Invalid
	NotFound        = refusal.NotFound
	Conflict        = refusal.Conflict
	Forbidden       = refusal.Forbidden
	Unauthenticated = refusal.Unauthenticated
	Unavailable     = refusal.Unavailable
	RateLimited     = refusal.RateLimited
)

const entitled = refusal.Entitled

// Itself is the service acting on its own account.
var Itself = refusal.Itself

func invalid(field, format string, args ...any) error { return refusal.Bad(field, format, args...) }

func conflict(field, next, format string, args ...any) error {
	return refusal.Clash(field, next, format, args...)
}

func notFound(field, next, format string, args ...any) error {
	return refusal.Missing(field, next, format, args...)
}

func quote(s string) string { return plain.Word(s) }

func itoa(n int64) string { return strconv.FormatInt(n, 10) }
