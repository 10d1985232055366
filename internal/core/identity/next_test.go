package identity

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// tell is everything that a directory says.
func tell(d *Directory, names int) (out []any) {
	for i := range names {
		name := fmt.Sprint("n", i)
		out = append(out, d.UserNamed(name), d.GroupNamed(name), d.UserIndexByUID(uint32(i)), d.GroupIndexByGID(uint32(i)), d.User(ID(i)), d.Group(ID(i)), d.UserIndex(ID(i)), d.GroupIndex(ID(i)))
	}
	out = append(out, slices.Collect(d.Everybody().Each()), len(d.NoPeople()))
	for g := range d.groups {
		out = append(out, slices.Collect(d.Members(int32(g)).Each()), len(d.Members(int32(g))), d.GIDsAbove(int32(g)), d.GroupPerson(int32(g)))
	}
	for u := range d.users {
		groups := d.MemberOf(d.users[u].ID)
		out = append(out, d.GIDs(int32(u)), groups, d.Person(int32(u)).user)
		for g := range d.groups {
			out = append(out, d.Member(int32(u), int32(g)), d.Person(int32(u)).In(int32(g)), len(d.Chain(d.users[u].ID, d.groups[g].ID)))
		}
	}
	return out
}

// Whatever is altered step by step, the next directory says what one compiled as a whole does, or refuses what that refuses; and the one before
// it says what it did.
func TestTheNextDirectory(t *testing.T) {
	cheap, refused := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		const names = 12
		var users []User
		var groups []Group
		lastUser, lastGroup := ID(0), ID(0)
		if rapid.Bool().Draw(t, "many") { // around the border of a word of the sets
			for range rapid.IntRange(61, 66).Draw(t, "users") {
				lastUser++
				users = append(users, User{ID: lastUser, Name: fmt.Sprint("many", lastUser), UID: uint32(1000 + lastUser)})
			}
		}
		d, err := Compile(users, groups)
		require.NoError(t, err)
		for range rapid.IntRange(1, 14).Draw(t, "steps") {
			u, g := slices.Clone(users), slices.Clone(groups)
			lu, lg := lastUser, lastGroup
			var touched []Principal
			name := func() string { return fmt.Sprint("n", rapid.IntRange(0, names-1).Draw(t, "name")) }
			number := func() uint32 { return uint32(rapid.IntRange(0, names-1).Draw(t, "number")) }
			anyGroup := func() ID { return ID(rapid.IntRange(0, int(lg)).Draw(t, "group")) }
			for range rapid.IntRange(1, 3).Draw(t, "altered") {
				switch rapid.IntRange(0, 9).Draw(t, "what") {
				case 0:
					lu++
					u = append(u, User{ID: lu, Name: name(), UID: number(), Primary: anyGroup()})
					touched = append(touched, UserPrincipal(lu))
				case 1:
					lg++
					g = append(g, Group{ID: lg, Name: name(), GID: number()})
					touched = append(touched, GroupPrincipal(lg))
				case 2, 3:
					if len(u) > 0 {
						i := rapid.IntRange(0, len(u)-1).Draw(t, "user")
						if rapid.Bool().Draw(t, "rename") {
							u[i].Name, u[i].UID = name(), number()
						}
						u[i].Primary = anyGroup()
						touched = append(touched, UserPrincipal(u[i].ID))
					}
				case 4, 5, 6:
					if len(g) == 0 {
						continue
					}
					i := rapid.IntRange(0, len(g)-1).Draw(t, "which")
					m := UserPrincipal(ID(rapid.IntRange(1, int(lu)+1).Draw(t, "member")))
					if rapid.IntRange(0, 5).Draw(t, "nested") == 0 {
						m = GroupPrincipal(anyGroup())
					}
					if at := slices.Index(g[i].Members, m); at >= 0 {
						g[i].Members = slices.Delete(slices.Clone(g[i].Members), at, at+1)
					} else {
						g[i].Members = append(slices.Clip(g[i].Members), m)
					}
					touched = append(touched, GroupPrincipal(g[i].ID))
				case 8: // all at once, as by an import
					of := anyGroup()
					for i := range u {
						u[i].Primary = of
						touched = append(touched, UserPrincipal(u[i].ID))
					}
				case 9:
					if len(g) > 0 {
						i := rapid.IntRange(0, len(g)-1).Draw(t, "which")
						g[i].Members = nil
						if rapid.Bool().Draw(t, "all") {
							for _, one := range u {
								g[i].Members = append(g[i].Members, UserPrincipal(one.ID))
							}
						}
						touched = append(touched, GroupPrincipal(g[i].ID))
					}
				case 7:
					if len(u) > 0 && rapid.IntRange(0, 3).Draw(t, "remove") == 0 {
						i := rapid.IntRange(0, len(u)-1).Draw(t, "gone")
						touched = append(touched, UserPrincipal(u[i].ID))
						u = slices.Delete(u, i, i+1)
					}
				}
			}
			slices.SortFunc(touched, func(a, b Principal) int { return int(a.Kind)*1000 + int(a.ID) - int(b.Kind)*1000 - int(b.ID) })
			touched = slices.Compact(touched)
			before := tell(d, names)
			want, wantErr := Compile(u, g)
			got, kept, err := d.Next(u, g, touched)
			require.Equal(t, before, tell(d, names), "the one before")
			if wantErr != nil {
				require.EqualError(t, err, wantErr.Error())
				refused++
				continue
			}
			require.NoError(t, err)
			require.Equal(t, tell(want, names), tell(got, names))
			if kept {
				cheap++
				for i := range users {
					require.Equal(t, int32(i), got.UserIndex(users[i].ID))
				}
			}
			d, users, groups, lastUser, lastGroup = got, u, g, lu, lg
		}
	})
	require.Greater(t, cheap, 100)
	require.Greater(t, refused, 20)
}
