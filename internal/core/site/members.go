package site

import (
	"slices"

	"amber.example/gatekeeper/internal/core/identity"
)

// Join puts somebody into a group. That they are in already is nothing.
func Join(d *Draft, group identity.ID, who identity.Principal) {
	if g, ok := Get[identity.Group](d, int64(group)); ok && !slices.Contains(g.Members, who) {
		g.Members = append(slices.Clip(g.Members), who)
		Put(d, g)
	}
}

// Leave takes somebody out of a group.
func Leave(d *Draft, group identity.ID, who identity.Principal) {
	if g, ok := Get[identity.Group](d, int64(group)); ok {
		g.Members = Without(g.Members, func(m identity.Principal) bool { return m == who })
		Put(d, g)
	}
}
