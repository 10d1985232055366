package identity

import "slices"

// widest lists the roles, each wider than those after it.
var widest = []Role{Administrator, Operator, Auditor, NoRole}

// Roles lists the roles that accounts are given, the widest first.
func Roles() []Role { return slices.Clone(widest[:len(widest)-1]) }

// Name is how the role is called; who has none is a user.
func (r Role) Name() string {
	if r == NoRole {
		return "user"
	}
	return string(r)
}

// Within says whether a role lets do nothing that another does not.
func (r Role) Within(other Role) bool {
	return slices.Index(widest, r) >= slices.Index(widest, other) && slices.Contains(widest, other)
}

// Narrower is the narrower of two roles.
func (r Role) Narrower(other Role) Role {
	if r.Within(other) {
		return r
	}
	return other
}
