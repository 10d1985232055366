package service

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/roster"
	"amber.example/gatekeeper/internal/core/site"
)

// A profile gives what it says, at the making of an account and in a list, and all who have it what it says later; what is said besides counts more.
func TestProfiles(t *testing.T) {
	s, ctx := observatory(t), context.Background()
	_, err := s.CreateGroup(ctx, keeper, GroupInput{Name: "visitors"})
	require.NoError(t, err)
	_, err = s.CreateProfile(ctx, keeper, ProfileInput{Name: new("visitor"), Groups: &[]string{"visitors"}, NFS: new(false), Hard: new("2GB"), EndsAfter: new(90)})
	require.NoError(t, err)
	hard := func(name string) (out int64) {
		if l, ok := site.LimitsInAll(s.force.Load().records)[s.Policy().Directory.UserNamed(name).ID]; ok && l.HardBytes != nil {
			out = *l.HardBytes
		}
		return out
	}
	in := func(name string) (out []string) {
		for _, g := range s.Policy().Directory.MemberOf(s.Policy().Directory.UserNamed(name).ID) {
			out = append(out, g.Name)
		}
		return out
	}
	_, err = s.CreateUser(ctx, keeper, UserInput{Name: "orla", Profile: "visitor"})
	require.NoError(t, err)
	orla := s.Policy().Directory.UserNamed("orla")
	require.False(t, orla.NFS)
	require.True(t, orla.SMB)
	require.Equal(t, []string{"visitors"}, in("orla"))
	require.EqualValues(t, 2_000_000_000, hard("orla"))
	require.WithinDuration(t, time.Now().AddDate(0, 0, 90), orla.Expires, time.Minute)
	ends := time.Now().Add(time.Hour)
	u, err := s.CreateUser(ctx, keeper, UserInput{Name: "una", Profile: "visitor", Expires: ends, NoSMB: true})
	require.NoError(t, err)
	require.False(t, u.SMB)
	require.WithinDuration(t, ends, u.Expires, time.Second)

	list := "name,groups,profile,starts\nharrow,,visitor,2041-05-01\ntomasz,engineers,visitor,\n"
	out, err := s.ImportUsers(ctx, keeper, RosterInput{File: []byte(list)})
	require.NoError(t, err)
	require.Equal(t, []roster.Act{roster.Made, roster.Changed}, []roster.Act{out[0].Act, out[1].Act})
	harrow := s.Policy().Directory.UserNamed("harrow")
	require.Equal(t, 2041, harrow.Starts.Year())
	require.Equal(t, harrow.Starts.AddDate(0, 0, 90), harrow.Expires, "ninety days from the first")
	require.ElementsMatch(t, []string{"engineers", "staff", "visitors"}, in("tomasz"), "besides those that they were in")
	require.EqualValues(t, 2_000_000_000, hard("harrow"))
	again, err := s.ImportUsers(ctx, keeper, RosterInput{File: []byte(list)})
	require.NoError(t, err)
	for _, o := range again {
		require.Equal(t, roster.Same, o.Act, o)
	}

	_, err = s.UpdateProfile(ctx, keeper, "visitor", ProfileInput{Groups: &[]string{"staff"}, NFS: new(true), Hard: new("4GB")})
	require.NoError(t, err)
	for _, name := range []string{"orla", "una", "harrow"} {
		require.Equal(t, []string{"staff"}, in(name), name)
		require.EqualValues(t, 4_000_000_000, hard(name))
		require.True(t, s.Policy().Directory.UserNamed(name).NFS)
	}
	require.Equal(t, harrow.Expires, s.Policy().Directory.UserNamed("harrow").Expires, "an end that was given stays")
	_, err = s.UpdateProfile(ctx, keeper, "visitor", ProfileInput{Hard: new("none"), SMB: new(false), OnlyNew: true})
	require.NoError(t, err)
	require.True(t, s.Policy().Directory.UserNamed("orla").SMB)
	require.NoError(t, s.ApplyProfile(ctx, keeper, "visitor"))
	require.False(t, s.Policy().Directory.UserNamed("orla").SMB)
	require.ErrorContains(t, s.RemoveProfile(ctx, keeper, "visitor"), "has that profile")
	_, err = s.UpdateUser(ctx, keeper, "orla", UserChange{Profile: new("")})
	require.NoError(t, err)
	require.Equal(t, []string{"staff"}, in("orla"), "what came of it stays")

	// A profile with a role makes nobody an administrator by an operator, and takes the last one's away from nobody.
	vale := Actor{Name: "vale", Role: identity.Operator}
	_, err = s.CreateProfile(ctx, vale, ProfileInput{Name: new("more"), Role: new(identity.Administrator)})
	require.ErrorContains(t, err, "administrator")
	_, err = s.CreateProfile(ctx, keeper, ProfileInput{Name: new("more"), Role: new(identity.Administrator)})
	require.NoError(t, err)
	_, err = s.CreateUser(ctx, vale, UserInput{Name: "vale", Profile: "more"})
	require.ErrorContains(t, err, "roles")
	_, err = s.ImportUsers(ctx, vale, RosterInput{File: []byte("name,profile\nharrow,more\n")})
	require.ErrorContains(t, err, "roles")
	_, err = s.UpdateProfile(ctx, vale, "more", ProfileInput{Description: new("x")})
	require.Error(t, err)
	_, err = s.UpdateUser(ctx, keeper, "keeper", UserChange{Profile: new("visitor")})
	require.ErrorContains(t, err, "no administrator")
}

// Whoever is in a list no more leaves with all that names them, if the list is said to be complete.
func TestWhoIsInTheListNoMoreLeaves(t *testing.T) {
	s, ctx := observatory(t), context.Background()
	_, err := s.AddEntry(ctx, keeper, "instruments", EntryInput{Who: "tomasz", Level: "change"})
	require.NoError(t, err)
	list := []byte("name,group\nines,engineers\n")
	_, err = s.ImportUsers(ctx, keeper, RosterInput{File: list, Gone: "leave"})
	require.ErrorContains(t, err, "say within which group")
	_, err = s.ImportUsers(ctx, keeper, RosterInput{File: list, Gone: "leave", WithinGroup: "engineers"})
	require.NoError(t, err)
	require.False(t, s.Policy().Directory.UserNamed("tomasz").Left.IsZero())
	require.Len(t, s.Policy().FolderNamed("instruments").Rules[0].Entries, 1)
	require.NotNil(t, s.Policy().Directory.UserNamed("ines"))
	_, err = s.Undo(ctx, keeper, nil)
	require.NoError(t, err)
	require.True(t, s.Policy().Directory.UserNamed("tomasz").InForce(time.Now()))
}

// A file of groups makes those that are not there, puts in who is known, takes nobody out, and says what is wrong with a line.
func TestGroupFiles(t *testing.T) {
	s, ctx := observatory(t), context.Background()
	text := "# of dome1\nroot:x:0:\nwheel:x:10:tomasz\nnight:x:3100:tomasz\nengineers:x:1000:\ncopy:x:1000:\nlost:x:3101:nobody-here\nshort:x:3102\n"
	out, err := s.ReadRoster(RosterInput{File: []byte(text)})
	require.NoError(t, err)
	says := make(map[string]roster.Act)
	for _, o := range out {
		says[o.Name] = o.Act
	}
	require.Equal(t, map[string]roster.Act{"night": roster.Made, "engineers": roster.Same, "copy": roster.Refused, "lost": roster.Refused, "short": roster.Refused}, says)
	_, err = s.ImportUsers(ctx, keeper, RosterInput{File: []byte(text)})
	require.ErrorContains(t, err, "line 6")
	_, err = s.ImportUsers(ctx, keeper, RosterInput{File: []byte(text), SkipWrong: true})
	require.NoError(t, err)
	night := s.Policy().Directory.GroupNamed("night")
	require.EqualValues(t, 3100, night.GID)
	require.Len(t, night.Members, 1)
	require.Len(t, s.Policy().Directory.GroupNamed("engineers").Members, 1, "nobody is taken out")
	back := roster.WriteGroups(s.Policy().Directory)
	out, err = s.ReadRoster(RosterInput{File: back})
	require.NoError(t, err)
	for _, o := range out {
		if o.Name != "staff" { // whose members are in it through others
			require.Equal(t, roster.Same, o.Act, o)
		}
	}
}
