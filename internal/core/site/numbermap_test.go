package site_test

import (
	"fmt"
	"math/rand/v2"
	"net/netip"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
)

func mapped(t testing.TB, users []identity.User, groups []identity.Group, maps ...site.NumberMap) *site.Policy {
	p, err := site.Compile(site.Records{Users: users, Groups: groups, NumberMaps: maps})
	require.NoError(t, err)
	return p
}

// Whatever a map says, there and back is the same number, no two numbers of a host are one person's, and nobody is met by a number that the host shows
// for somebody else.
func TestThereAndBack(t *testing.T) {
	for seed := range uint64(400) {
		r := rand.New(rand.NewPCG(seed, 5))
		var users []identity.User
		var groups []identity.Group
		for i := range r.IntN(7) {
			users = append(users, identity.User{ID: identity.ID(i + 1), Name: fmt.Sprint("u", i), UID: uint32(10 + i)})
			groups = append(groups, identity.Group{ID: identity.ID(i + 1), Name: fmt.Sprint("g", i), GID: uint32(10 + i)})
		}
		m := site.NumberMap{ID: 1, Name: "m", From: []string{"192.0.2.1"}, Others: site.OthersSame}
		if seed%2 == 1 {
			m.Others = site.OthersUnknown
		}
		who := r.Perm(len(users))
		for i, there := range r.Perm(9)[:r.IntN(7)] { // of numbers that are partly those of the records, in another order
			n := site.NumberFor{There: uint32(10 + there)}
			if i < len(who) && r.IntN(4) > 0 {
				n.Who = users[who[i]].ID
			}
			m.Users, m.Groups = append(m.Users, n), append(m.Groups, n)
		}
		slices.SortFunc(m.Users, func(a, b site.NumberFor) int { return int(a.There) - int(b.There) })
		m.Groups = slices.Clone(m.Users)
		p := mapped(t, users, groups, m)
		h, sure := p.NumbersAt(&site.Origin{Address: netip.MustParseAddr("192.0.2.1")})
		require.True(t, sure)
		require.NotNil(t, h)
		type way = func(uint32) (uint32, bool)
		for name, side := range map[string][2]way{"users": {h.UserHere, h.UserThere}, "groups": {h.GroupHere, h.GroupThere}} {
			came := make(map[uint32]uint32)
			for there := uint32(1); there < 25; there++ {
				here, known := side[0](there)
				if !known {
					continue
				}
				other, twice := came[here]
				require.False(t, twice, "seed %d, %s: %d and %d are both %d here", seed, name, there, other, here)
				came[here] = there
				back, known := side[1](here)
				require.True(t, known, "seed %d, %s: %d is %d here, which has no way back", seed, name, there, here)
				require.Equal(t, there, back, "seed %d, %s: %d is %d here, and %d on the way back", seed, name, there, here, back)
			}
			for here := uint32(1); here < 25; here++ {
				if there, known := side[1](here); known {
					again, known := side[0](there)
					require.True(t, known && again == here, "seed %d, %s: %d is shown as %d, which is %d here", seed, name, here, there, again)
				}
			}
		}
		for _, n := range m.Users {
			here, known := h.UserHere(n.There)
			require.Equal(t, n.Who != 0, known)
			if known {
				require.Equal(t, p.Directory.User(n.Who).UID, here)
			}
		}
	}
}

// Of several maps that mean a host, the narrowest counts; where names cannot be looked up, only an address is sure.
func TestWhichNumberMap(t *testing.T) {
	maps := []site.NumberMap{
		{ID: 1, Name: "all of the network", From: []string{"192.0.2.0/24"}},
		{ID: 2, Name: "by pattern", From: []string{"*.larkfell.example"}},
		{ID: 3, Name: "by name", From: []string{"dome1.larkfell.example"}},
		{ID: 4, Name: "one address", From: []string{"198.51.100.4", "192.0.2.9"}},
		{ID: 5, Name: "narrower", From: []string{"192.0.2.8/29"}},
	}
	p := mapped(t, nil, nil, maps...)
	names, any := p.HostNames()
	require.True(t, any)
	require.Equal(t, []string{"dome1.larkfell.example"}, names)
	for _, c := range []struct {
		address string
		names   []string
		unsure  bool
		is      string
		sure    bool
	}{
		{"192.0.2.1", nil, false, "all of the network", true},
		{"::ffff:192.0.2.1", nil, false, "all of the network", true},
		{"192.0.2.10", nil, false, "narrower", true},
		{"192.0.2.9", []string{"dome1.larkfell.example"}, false, "one address", true},
		{"192.0.2.9", nil, true, "one address", true},
		{"192.0.2.10", nil, true, "narrower", false},
		{"192.0.2.10", []string{"dome1.larkfell.example"}, false, "by name", true},
		{"203.0.113.7", []string{"dome2.larkfell.example"}, false, "by pattern", true},
		{"203.0.113.7", []string{"dome2.elsewhere.example"}, false, "", true},
		{"203.0.113.7", nil, true, "", false},
	} {
		h, sure := p.NumbersAt(&site.Origin{Address: netip.MustParseAddr(c.address), Names: c.names, Unsure: c.unsure})
		require.Equal(t, c.sure, sure, "%+v", c)
		if c.is == "" {
			require.Nil(t, h, "%+v", c)
			continue
		}
		require.Equal(t, c.is, h.Name, "%+v", c)
	}
	require.Equal(t, "by name", p.NumbersOf("DOME1.larkfell.example.").Name)
	require.Nil(t, p.NumbersOf("dome1"))
	require.Equal(t, "one address", p.NumbersOf("192.0.2.9").Name)
}

// What a host's list says otherwise is no mismatch where the map says so.
func TestMapsEndMismatches(t *testing.T) {
	users := []identity.User{{ID: 1, Name: "isolde", UID: 2002}, {ID: 2, Name: "piran", UID: 2003}}
	there := []identity.Numbered{{Name: "piran", Number: 2002}, {Name: "isolde", Number: 500}}
	m := site.NumberMap{ID: 1, Name: "dome1", From: []string{"dome1"}, Others: site.OthersSame, Users: []site.NumberFor{{There: 500, Who: 1}}}
	require.Len(t, mapped(t, users, nil).CompareNumbers("dome1", there), 2)
	require.Len(t, mapped(t, users, nil, m).CompareNumbers("dome2", there), 2)
	// 2002 is nobody's there now, since isolde has 500: piran is refused, and taken for nobody else.
	require.Empty(t, mapped(t, users, nil, m).CompareNumbers("dome1", there))
	m.Users = append(m.Users, site.NumberFor{There: 2002, Who: 2})
	require.Empty(t, mapped(t, users, nil, m).CompareNumbers("dome1", there))
	m.Users[1].Who = 0
	require.Empty(t, mapped(t, users, nil, m).CompareNumbers("dome1", there))
}
