package identity

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestCompileRefuses(t *testing.T) {
	observers := Group{ID: 1, Name: "observers", GID: 301, Members: []Principal{GroupPrincipal(3)}}
	engineers := Group{ID: 2, Name: "engineers", GID: 302, Members: []Principal{GroupPrincipal(1)}}
	staff := Group{ID: 3, Name: "staff", GID: 303, Members: []Principal{GroupPrincipal(2)}}
	wren := User{ID: 1, Name: "wren", UID: 1001}
	for _, c := range []struct {
		name   string
		users  []User
		groups []Group
		is     error
		says   string
	}{
		{"circle", nil, []Group{observers, engineers, staff}, ErrCycle, "contains"},
		{"itself", nil, []Group{{ID: 1, Name: "staff", Members: []Principal{GroupPrincipal(1)}}}, ErrCycle, "staff contains staff"},
		{"name", []User{wren, {ID: 2, Name: "Wren", UID: 1002}}, nil, ErrDuplicate, `"Wren"`},
		{"uid", []User{wren, {ID: 2, Name: "piran", UID: 1001}}, nil, ErrDuplicate, "uid 1001 of user piran belongs to wren"},
		{"gid", nil, []Group{{ID: 1, Name: "a", GID: 9}, {ID: 2, Name: "b", GID: 9}}, ErrDuplicate, "gid 9"},
		{"member", nil, []Group{{ID: 1, Name: "a", Members: []Principal{UserPrincipal(7)}}}, ErrAbsent, "group a"},
		{"primary", []User{{ID: 1, Name: "wren", Primary: 4}}, nil, ErrAbsent, "wren"},
	} {
		t.Run(c.name, func(t *testing.T) {
			_, err := Compile(c.users, c.groups)
			require.ErrorIs(t, err, c.is)
			require.ErrorContains(t, err, c.says)
		})
	}
}

// Membership equals reachability, and a chain is a real path, in any graph without circles.
func TestMembershipIsReachability(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.IntRange(1, 140).Draw(t, "groups") // beyond one word, where groups share bits
		groups := make([]Group, n)
		for i := range groups {
			groups[i] = Group{ID: ID(i + 1), Name: string(rune('a'+i%26)) + string(rune('a'+i/26)), GID: uint32(i)}
			for j := range i { // members have lower numbers: no circles
				if rapid.IntRange(0, n/2).Draw(t, "edge") == 0 {
					groups[i].Members = append(groups[i].Members, GroupPrincipal(ID(j+1)))
				}
			}
		}
		start := rapid.IntRange(0, n-1).Draw(t, "start")
		groups[start].Members = append(groups[start].Members, UserPrincipal(1))
		d, err := Compile([]User{{ID: 1, Name: "wren", UID: 1001}}, groups)
		require.NoError(t, err)

		reach := map[int]bool{start: true}
		for i := start; i < n; i++ {
			for _, m := range groups[i].Members {
				if m.Kind == KindGroup && reach[int(m.ID-1)] {
					reach[i] = true
				}
			}
		}
		for i := range groups {
			require.Equal(t, reach[i], d.Member(0, int32(i)), groups[i].Name)
			chain := d.Chain(1, ID(i+1))
			require.Equal(t, reach[i], len(chain) > 0)
			if reach[i] {
				require.Equal(t, groups[start].Name, chain[0])
				require.Equal(t, groups[i].Name, chain[len(chain)-1])
			}
		}
	})
}

func TestCompareNumbers(t *testing.T) {
	d, err := Compile([]User{{ID: 1, Name: "piran", UID: 2003}, {ID: 2, Name: "isolde", UID: 2002}, {ID: 3, Name: "svc-dome", UID: 2101}},
		[]Group{{ID: 1, Name: "observers", GID: 3001}})
	require.NoError(t, err)
	got := d.CompareNumbers([]Numbered{
		{false, "root", 0}, {false, "Isolde", 2002}, // the same, and nobody's
		{false, "piran", 1000},                                                 // another number for the same name
		{false, "dome", 2101},                                                  // another name for the same number
		{false, "svc-dome", 2003},                                              // both at once
		{true, "observers", 3002}, {true, "users", 100}, {true, "piran", 2003}, // a group may have a user's number
	})
	require.Equal(t, []Mismatch{
		{Name: "dome", There: 2101, Taken: "svc-dome", Free: 1002},
		{Name: "piran", There: 1000, Here: 2003, Known: true, Free: 1001},
		{Name: "svc-dome", There: 2003, Here: 2101, Known: true, Taken: "piran", Free: 1003},
		{Group: true, Name: "observers", There: 3002, Here: 3001, Known: true, Free: 1000},
	}, got)
}
