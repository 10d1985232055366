package access

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
)

// dome is a site with an export of each kind of folder, by one rule that a test changes.
func dome(t *testing.T, change func(e *site.Export, rule *site.ClientRule, users []identity.User)) *site.Policy {
	users := []identity.User{{ID: 1, Name: "svc-dome", UID: 2101, Primary: 1, NFS: true}, {ID: 2, Name: "piran", UID: 2003, NFS: true}, {ID: 3, Name: "guest", UID: 3999, NFS: true}}
	rule := site.ClientRule{ID: 1, From: "192.0.2.0/24", Write: true, Squash: site.SquashRoot, AnonUID: site.Anonymous, AnonGID: site.Anonymous,
		Security: []site.Flavor{site.FlavorSys}, Unknown: site.UnknownRefused}
	exports := []site.Export{{ID: 1, Path: "/plates", FolderID: 1}, {ID: 2, Path: "/scratch", FolderID: 2}}
	if change != nil {
		change(&exports[0], &rule, users)
	}
	exports[1].ClientGroups = exports[0].ClientGroups
	for i := range exports {
		exports[i].Rules = []site.ClientRule{rule}
	}
	p, err := site.Compile(site.Records{Users: users,
		Groups:  []identity.Group{{ID: 1, Name: "archive", GID: 3003}, {ID: 2, Name: "staff", GID: 3000, Members: []identity.Principal{identity.GroupPrincipal(1)}}},
		Volumes: []site.Volume{{ID: 1}},
		Folders: []site.Folder{{ID: 1, Name: "plates", VolumeID: 1, Path: "p", Rules: []acl.Rule{{Entries: []acl.Entry{
			{ID: 1, Who: identity.GroupPrincipal(2), Level: acl.Change, Applies: acl.Everywhere}, {ID: 2, Who: identity.Everyone, Level: acl.Read, Applies: acl.Everywhere}}}}},
			{ID: 2, Name: "scratch", VolumeID: 1, Path: "s", Permissions: site.ByMode}},
		Exports: exports, Services: site.Services{NFS: true}})
	require.NoError(t, err)
	return p
}

type oneMode posix.Attributes

func (oneMode) OwnerOf(string) (acl.Ownership, bool)       { return acl.Ownership{}, false }
func (m *oneMode) UnixOf(string) (*posix.Attributes, bool) { return (*posix.Attributes)(m), true }
func from(address string, port uint16, f site.Flavor) site.Origin {
	return site.Origin{Address: netip.MustParseAddr(address), Port: port, Flavor: f}
}

// Who a number is, by rule and by kind of folder, and what that leaves them.
func TestArrivals(t *testing.T) {
	here := from("192.0.2.7", 800, site.FlavorSys)
	type change = func(e *site.Export, rule *site.ClientRule, users []identity.User)
	for name, c := range map[string]struct {
		change   change
		said     posix.Credential
		origin   site.Origin
		acl      acl.Level // in plates
		aclGate  Gate      // that withholds control
		unix     posix.Credential
		unixGate Gate // that withholds reading where only group staff may
	}{
		"a user, with the groups of the records": {nil, posix.Credential{UID: 2101, GID: 9}, here, acl.Change, Entry, posix.Credential{UID: 2101, GID: 3003, Groups: []uint32{3000}}, Passed},
		"and not those the client claims":        {nil, posix.Credential{UID: 2003, GID: 3000, Groups: []uint32{3003}}, here, acl.Read, Entry, posix.Credential{UID: 2003, GID: site.Anonymous}, Entry},
		"unless the export honours them": {func(e *site.Export, _ *site.ClientRule, _ []identity.User) { e.ClientGroups = true },
			posix.Credential{UID: 2003, GID: 9, Groups: []uint32{3003}}, here, acl.Change, Entry, posix.Credential{UID: 2003, GID: 9, Groups: []uint32{3003}}, Entry},
		"but never root's group": {func(e *site.Export, _ *site.ClientRule, _ []identity.User) { e.ClientGroups = true },
			posix.Credential{UID: 2003, GID: 0, Groups: []uint32{0, 3000}}, here, acl.Change, Entry, posix.Credential{UID: 2003, GID: site.Anonymous, Groups: []uint32{site.Anonymous, 3000}}, Passed},
		"root is squashed": {nil, posix.Credential{Groups: []uint32{3000}}, here, acl.Read, Entry, posix.Credential{UID: site.Anonymous, GID: site.Anonymous}, Entry},
		"root, not squashed, is nobody where entries decide": {func(_ *site.Export, r *site.ClientRule, _ []identity.User) { r.Squash = site.SquashNone },
			posix.Credential{}, here, acl.NoLevel, Account, posix.Credential{}, Passed},
		"all squashed to a user": {func(_ *site.Export, r *site.ClientRule, _ []identity.User) {
			r.Squash, r.AnonUID = site.SquashAll, 2101
		},
			posix.Credential{UID: 4242}, here, acl.Change, Entry, posix.Credential{UID: 2101, GID: 3003, Groups: []uint32{3000}}, Passed},
		"an unknown number is refused": {nil, posix.Credential{UID: 4242, GID: 3000}, here, acl.NoLevel, Account, posix.Credential{UID: 4242, GID: 3000}, Account},
		"or anonymous": {func(_ *site.Export, r *site.ClientRule, _ []identity.User) {
			r.Unknown, r.AnonUID = site.UnknownAnonymous, 3999
		},
			posix.Credential{UID: 4242, GID: 3000}, here, acl.Read, Entry, posix.Credential{UID: 3999, GID: site.Anonymous}, Entry},
		"or its bare number, where modes decide": {func(_ *site.Export, r *site.ClientRule, _ []identity.User) { r.Unknown = site.UnknownNumber },
			posix.Credential{UID: 4242, GID: 3000, Groups: []uint32{3003}}, here, acl.NoLevel, Account, posix.Credential{UID: 4242, GID: 3000}, Passed},
		"a disabled user": {func(_ *site.Export, _ *site.ClientRule, u []identity.User) { u[0].Disabled = true },
			posix.Credential{UID: 2101}, here, acl.NoLevel, Account, posix.Credential{UID: 2101, GID: 3003, Groups: []uint32{3000}}, Account},
		"one who may not use NFS": {func(_ *site.Export, _ *site.ClientRule, u []identity.User) { u[0].NFS = false },
			posix.Credential{UID: 2101}, here, acl.NoLevel, Service, posix.Credential{UID: 2101, GID: 3003, Groups: []uint32{3000}}, Service},
		"read-only": {func(_ *site.Export, r *site.ClientRule, _ []identity.User) { r.Write = false },
			posix.Credential{UID: 2101}, here, acl.Read, ShareLevel, posix.Credential{UID: 2101, GID: 3003, Groups: []uint32{3000}}, Passed},
		"an ordinary port where a privileged one is wanted": {func(_ *site.Export, r *site.ClientRule, _ []identity.User) { r.PrivilegedPort = true },
			posix.Credential{UID: 2101}, from("192.0.2.7", 1024, site.FlavorSys), acl.NoLevel, Origin, posix.Credential{UID: 2101, GID: 3003, Groups: []uint32{3000}}, Origin},
		"no flavour":     {nil, posix.Credential{UID: 2101}, from("192.0.2.7", 800, ""), acl.NoLevel, Origin, posix.Credential{UID: 2101, GID: 3003, Groups: []uint32{3000}}, Origin},
		"a host outside": {nil, posix.Credential{UID: 2101}, from("198.51.100.1", 800, site.FlavorSys), acl.NoLevel, Origin, posix.Credential{UID: 2101, GID: 3003, Groups: []uint32{3000}}, Origin},
		"root outside":   {nil, posix.Credential{}, from("198.51.100.1", 800, site.FlavorSys), acl.NoLevel, Account, posix.Credential{UID: posix.Nobody, GID: posix.Nobody}, Account},
	} {
		t.Run(name, func(t *testing.T) {
			p := dome(t, c.change)
			a := Arrive(p, p.ExportAt("/plates"), c.origin, c.said)
			q := Request{Via: site.NFS, NFS: a, Folder: p.Folders[0], Want: acl.All, Now: now}
			v := Decide(p, q)
			require.Equal(t, c.aclGate, v.Gate)
			level := acl.NoLevel
			if in := acl.LevelsIn(v.Granted, acl.Root); len(in) > 0 {
				level = in[len(in)-1]
			}
			require.Equal(t, c.acl, level)
			explained, reports := Explain(p, q)
			require.Equal(t, v, explained)
			left := acl.All
			for _, r := range reports {
				left &= r.Leaves
				require.NotEmpty(t, r.Reason)
			}
			require.Equal(t, v.Granted, left)

			a = Arrive(p, p.ExportAt("/scratch"), c.origin, c.said)
			require.Equal(t, c.unix, a.Unix)
			mode := oneMode{GID: 3000, UID: 1, Mode: 0o750, Dir: true}
			q = Request{Via: site.NFS, NFS: a, Folder: p.Folders[1], Facts: &mode, Want: acl.ListDirectory, Now: now}
			v = Decide(p, q)
			require.Equal(t, c.unixGate, v.Gate)
			explained, _ = Explain(p, q)
			require.Equal(t, v, explained)
		})
	}
}

// Two ACL entries for groups do not add up, and the verdict says so.
func TestModesNotHadAtOnce(t *testing.T) {
	p := dome(t, func(_ *site.Export, r *site.ClientRule, _ []identity.User) { r.Unknown = site.UnknownNumber })
	mode := oneMode{UID: 1, GID: 1, Mode: 0o070, ACL: posix.ACL{{Tag: posix.UserObj}, {Tag: posix.GroupObj}, {Tag: posix.Group, Perm: posix.Read, ID: 3000},
		{Tag: posix.Group, Perm: posix.Write, ID: 3003}, {Tag: posix.Mask, Perm: 7}, {Tag: posix.Other}}}
	a := Arrive(p, p.ExportAt("/scratch"), from("192.0.2.7", 800, site.FlavorSys), posix.Credential{UID: 2101})
	q := Request{Via: site.NFS, NFS: a, Folder: p.Folders[1], Facts: &mode, File: true, Now: now}
	for want, gate := range map[acl.Mask]Gate{acl.ReadData: Passed, acl.WriteData: Passed, acl.ReadData | acl.WriteData: Entry} {
		q.Want = want
		require.Equal(t, gate, Decide(p, q).Gate, "%v", want.Names(false))
	}
}

// A host's own numbers are those of the records before anything else is asked about them.
func TestArrivalsByNumberMap(t *testing.T) {
	is := func(maps ...site.NumberMap) *site.Policy {
		rule := site.ClientRule{ID: 1, From: "192.0.2.0/24", Write: true, Squash: site.SquashRoot, AnonUID: site.Anonymous, AnonGID: site.Anonymous, Security: []site.Flavor{site.FlavorSys}, Unknown: site.UnknownNumber}
		p, err := site.Compile(site.Records{
			Users:   []identity.User{{ID: 1, Name: "isolde", UID: 2002, NFS: true}, {ID: 2, Name: "piran", UID: 2003, NFS: true}, {ID: 3, Name: "toor", UID: 0, NFS: true}},
			Groups:  []identity.Group{{ID: 1, Name: "observers", GID: 3001}, {ID: 2, Name: "wheel", GID: 0}},
			Volumes: []site.Volume{{ID: 1}}, Folders: []site.Folder{{ID: 1, Name: "scratch", VolumeID: 1, Path: "s", Permissions: site.ByMode}},
			Exports: []site.Export{{ID: 1, Path: "/scratch", FolderID: 1, Rules: []site.ClientRule{rule}, ClientGroups: true}}, NumberMaps: maps, Services: site.Services{NFS: true}})
		require.NoError(t, err)
		return p
	}
	m := site.NumberMap{ID: 1, Name: "reducer", From: []string{"192.0.2.45"}, Others: site.OthersSame,
		Users:  []site.NumberFor{{There: 500, Who: 2}, {There: 600, Who: 3}, {There: 2002}},
		Groups: []site.NumberFor{{There: 20, Who: 1}, {There: 30, Who: 2}}}
	strict := m
	strict.Others = site.OthersUnknown
	there, elsewhere := from("192.0.2.45", 800, site.FlavorSys), from("192.0.2.46", 800, site.FlavorSys)
	for name, c := range map[string]struct {
		p      *site.Policy
		origin site.Origin
		said   posix.Credential
		user   identity.ID
		unix   posix.Credential
		as     Mapping
		says   string
	}{
		"the number of the map":            {is(m), there, posix.Credential{UID: 500, GID: 20, Groups: []uint32{20, 77}}, 2, posix.Credential{UID: 2003, GID: 3001, Groups: []uint32{3001, 77}}, ByNumber, "uid 500 there is piran, by number map reducer"},
		"elsewhere it is nobody's":         {is(m), elsewhere, posix.Credential{UID: 500, GID: 20}, 0, posix.Credential{UID: 500, GID: 20}, AsNumber, "no user has uid 500: it acts by its bare number"},
		"piran has no other number there":  {is(m), there, posix.Credential{UID: 2003, GID: 1}, 0, posix.Credential{UID: posix.Nobody, GID: 1}, RefusedNumber, "uid 2003 is nobody's there, by number map reducer"},
		"what the map calls nobody's":      {is(m), there, posix.Credential{UID: 2002, GID: 1}, 0, posix.Credential{UID: posix.Nobody, GID: 1}, RefusedNumber, "uid 2002 is nobody's there, by number map reducer"},
		"others by their bare number":      {is(m), there, posix.Credential{UID: 700, GID: 3001}, 0, posix.Credential{UID: 700, GID: site.Anonymous}, AsNumber, "no user has uid 700: it acts by its bare number"},
		"or are nobody's":                  {is(strict), there, posix.Credential{UID: 700, GID: 9}, 0, posix.Credential{UID: posix.Nobody, GID: site.Anonymous}, RefusedNumber, "uid 700 is nobody's there, by number map reducer"},
		"root stays root, and is squashed": {is(strict), there, posix.Credential{}, 0, posix.Credential{UID: site.Anonymous, GID: site.Anonymous}, Squashed, "client rule 1 takes uid 0 for uid 65534, nobody in the records"},
		"a map makes nobody root":          {is(m), there, posix.Credential{UID: 600, GID: 20}, 0, posix.Credential{UID: site.Anonymous, GID: site.Anonymous}, Squashed, "client rule 1 takes uid 600 for uid 65534, nobody in the records"},
		"nor puts anybody in root's group": {is(m), there, posix.Credential{UID: 500, GID: 30, Groups: []uint32{30}}, 2, posix.Credential{UID: 2003, GID: site.Anonymous, Groups: []uint32{site.Anonymous}}, ByNumber, "uid 500 there is piran, by number map reducer"},
		"names that cannot be looked up: nobody": {is(site.NumberMap{ID: 1, Name: "by name", From: []string{"reducer.larkfell.example"}}), site.Origin{Address: there.Address, Port: 800, Flavor: site.FlavorSys, Unsure: true},
			posix.Credential{UID: 2003}, 2, posix.Credential{UID: 2003, GID: site.Anonymous}, UnsureNumber, "whose uid 2003 is there depends on the host's name, which cannot be looked up just now"},
	} {
		t.Run(name, func(t *testing.T) {
			a := Arrive(c.p, c.p.Export(1), c.origin, c.said)
			require.Equal(t, c.user, a.User)
			require.Equal(t, c.as, a.Mapping)
			require.Equal(t, c.says, a.Says(c.p.Directory, true))
			if len(a.Unix.Groups) == 0 {
				a.Unix.Groups = nil
			}
			require.Equal(t, c.unix, a.Unix)
			v := Decide(c.p, Request{Via: site.NFS, NFS: a, Folder: c.p.Folder(1), Want: acl.ReadData, Now: now, Facts: &oneMode{Mode: 0o777, Dir: true}})
			refused := c.as == RefusedNumber || c.as == UnsureNumber
			require.Equal(t, refused, v.Gate == Account, "%v", v)
		})
	}

	// Who asks by name comes by the number of the host; without one there, they do not come at all, and why says so.
	for _, p := range []*site.Policy{is(m), is(strict)} {
		a := ArriveAs(p, p.Export(1), there, 2)
		require.EqualValues(t, 500, a.Said.UID)
		require.EqualValues(t, 2, a.User)
		a = ArriveAs(p, p.Export(1), there, 1)
		require.Equal(t, NoNumber, a.Mapping)
		_, gates := Explain(p, Request{Via: site.NFS, NFS: a, Folder: p.Folder(1), Want: acl.ReadData, Now: now, Facts: &oneMode{Mode: 0o777, Dir: true}})
		require.Zero(t, gates[0].Leaves)
		require.Contains(t, gates[0].Reason, "isolde has no number there, by number map reducer")
	}
}
