package audit

import (
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
)

// without is a site less some entries.
func without(r site.Records, gone map[int64]bool) site.Records {
	r.Folders = slices.Clone(r.Folders)
	for i := range r.Folders {
		r.Folders[i].Rules = slices.Clone(r.Folders[i].Rules)
		for j := range r.Folders[i].Rules {
			rule := &r.Folders[i].Rules[j]
			rule.Entries = slices.DeleteFunc(slices.Clone(rule.Entries), func(e acl.Entry) bool { return gone[e.ID] })
		}
	}
	return r
}

// What is called shadowed, redundant or idle may go, all of it at once, and nobody notices: not
// now, and not when what is temporary has ended.
func TestWhatIsNeedlessMayGo(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r, d := drawSite(t)
		for i := range r.Exports {
			r.Exports[i].ClientGroups = false // there, hosts make members of anyone
		}
		before := auditOf(t, r, d)
		gone := make(map[int64]bool)
		for _, f := range before.Findings() {
			if f.Kind == Redundant || f.Kind == Shadowed || f.Kind == IdleDeny {
				gone[f.Fixes[0].EntryID] = true
			}
		}
		after := auditOf(t, without(r, gone), d)
		for _, later := range []time.Duration{0, 2 * time.Hour} {
			b, a := New(before.Policy, night.Add(later), before.facts), New(after.Policy, night.Add(later), after.facts)
			for _, path := range append([]string{"z", "a/b/c/d/e"}, ways...) {
				for _, file := range []bool{false, true} {
					if _, isFile := d.Kind(path); isFile != file {
						continue
					}
					was, is := b.At(b.Policy.Folders[0], path, file), a.At(a.Policy.Folders[0], path, file)
					for user := range b.Policy.Directory.Users() {
						require.Equal(t, was.Of(int32(user)), is.Of(int32(user)), "%s, file %v, user %d, without %v of %+v", path, file, user, gone, r.Folders[0].Rules)
					}
				}
			}
		}
	})
}

// Who is said to be blocked gets what the entry gives once the fixes are made, if the deny entries on
// the way and shares let them.
func TestBlockedIsFixed(t *testing.T) {
	r := observatory()
	r.Folders[0].Rules = []acl.Rule{
		{ID: 1, Entries: []acl.Entry{allow(1, group(1), acl.Read)}},
		{ID: 2, Path: "firmware", Cut: true, Entries: []acl.Entry{allow(2, group(2), acl.Change)}},
		{ID: 3, Path: "firmware/bench", Entries: []acl.Entry{allow(3, user(1), acl.Read)}},
	}
	found := kinds(t, r)
	require.Equal(t, []string{Blocked}, keys(found))
	f := found[Blocked][0]
	require.Equal(t, "entry 3 on instruments/firmware/bench", f.Subject)
	require.Len(t, f.Fixes, 1)
	require.Equal(t, access.Fix{Kind: access.FixAllow, Path: "instruments/firmware", User: "isolde", Level: acl.Pass, HereOnly: true}, f.Fixes[0])
	r.Folders[0].Rules[1].Entries = append(r.Folders[0].Rules[1].Entries, acl.Entry{ID: 9, Who: user(1), Level: acl.Pass, Applies: acl.Here})
	require.Empty(t, kinds(t, r))
}

func allow(id int64, who identity.Principal, l acl.Level) acl.Entry {
	return acl.Entry{ID: id, Who: who, Level: l, Applies: acl.Everywhere}
}

func user(id identity.ID) identity.Principal  { return identity.UserPrincipal(id) }
func group(id identity.ID) identity.Principal { return identity.GroupPrincipal(id) }

// observatory is a site that nothing is wrong with: isolde and piran observe, tomasz is an engineer and
// decides.
func observatory() site.Records {
	return site.Records{
		Users: []identity.User{{ID: 1, Name: "isolde", UID: 2002, SMB: true, NFS: true}, {ID: 2, Name: "piran", UID: 2003, SMB: true, NFS: true},
			{ID: 3, Name: "tomasz", UID: 2004, SMB: true, NFS: true}, {ID: 4, Name: "corin", UID: 2007, Disabled: true, SMB: true, NFS: true}},
		Groups: []identity.Group{{ID: 1, Name: "observers", GID: 3001, Members: []identity.Principal{user(1), user(2)}},
			{ID: 2, Name: "engineers", GID: 3002, Members: []identity.Principal{user(3)}}},
		Volumes:  []site.Volume{{ID: 1, Name: "summit", Path: "/srv"}},
		Services: site.Services{SMB: true, NFS: true},
		Shares:   []site.Share{{ID: 1, Name: "instruments", FolderID: 1}},
		Folders: []site.Folder{{ID: 1, Name: "instruments", VolumeID: 1, Owner: 3, Rules: []acl.Rule{
			{ID: 1, Entries: []acl.Entry{allow(1, group(1), acl.Read), allow(2, group(2), acl.Control)}}}}},
	}
}

func kinds(t *testing.T, r site.Records) map[string][]Finding {
	// One entry decides about permissions, so that it is not what a case is about.
	for i := range r.Folders[0].Rules {
		if r.Folders[0].Rules[i].Path == "" && !slices.ContainsFunc(r.Folders[0].Rules[i].Entries, func(e acl.Entry) bool { return e.Level == acl.Control }) {
			r.Folders[0].Rules[i].Entries = append(r.Folders[0].Rules[i].Entries, allow(100, group(2), acl.Control))
		}
	}
	out := make(map[string][]Finding)
	for _, f := range auditOf(t, r, &disk{}).Findings() {
		out[f.Kind] = append(out[f.Kind], f)
		require.NotEmpty(t, f.Says)
		if f.Kind != NoControl && f.Kind != ProtocolsDiffer { // what is meant may be for nobody but an administrator to say
			require.NotEmpty(t, f.Fixes, "%s: %s", f.Kind, f.Says)
		}
	}
	return out
}

func keys(m map[string][]Finding) []string {
	var out []string
	for k := range m {
		out = append(out, k)
	}
	slices.Sort(out)
	return out
}

func TestFindings(t *testing.T) {
	require.Empty(t, kinds(t, observatory()))
	root := func(entries ...acl.Entry) func(*site.Records) {
		return func(r *site.Records) {
			r.Folders[0].Rules[0].Entries = append(r.Folders[0].Rules[0].Entries, entries...)
		}
	}
	exported := func(rules ...site.ClientRule) func(*site.Records) {
		return func(r *site.Records) {
			for i := range rules {
				rules[i].Security, rules[i].ID = []site.Flavor{site.FlavorSys}, int64(i+1)
			}
			r.Exports = []site.Export{{ID: 1, Path: "/instruments", FolderID: 1, Rules: rules}}
		}
	}
	guests := func(who identity.ID, level acl.Level, taken bool) func(*site.Records) {
		return func(r *site.Records) {
			r.Users = append(r.Users, identity.User{ID: 9, Name: "visitor", UID: 2099, SMB: true})
			r.Folders[0].Rules[0].Entries = append(r.Folders[0].Rules[0].Entries, allow(9, user(9), level))
			r.Services.SMBGuest, r.Shares[0].Guests = 9*who, taken
		}
	}
	rw := site.ClientRule{From: "192.0.2.0/28", Write: true, Squash: site.SquashRoot, Unknown: site.UnknownRefused}
	with := func(c site.ClientRule, f func(*site.ClientRule)) site.ClientRule { f(&c); return c }
	deny := func(e acl.Entry) acl.Entry { e.Deny = true; return e }
	ends := func(e acl.Entry, at time.Time) acl.Entry { e.Expires = at; return e }
	for name, c := range map[string]struct {
		alter func(*site.Records)
		want  []string
	}{
		"everyone may read":        {root(allow(9, identity.Everyone, acl.Read)), []string{OpenToEveryone, Redundant}},
		"everyone may pass":        {root(allow(9, identity.Everyone, acl.Pass)), nil},
		"a grant to who left":      {root(allow(9, user(4), acl.Read)), []string{GrantToGone}},
		"the same twice":           {root(allow(9, group(1), acl.Read)), []string{Redundant}},
		"one of the group, less":   {root(allow(9, user(1), acl.Pass)), []string{Redundant}},
		"one of the group, more":   {root(allow(9, user(1), acl.Change)), nil},
		"for a while":              {root(ends(allow(9, user(1), acl.Read), night.Add(time.Hour))), nil},
		"ended":                    {root(ends(allow(9, identity.Everyone, acl.Change), night)), nil},
		"denied beside":            {root(deny(allow(8, user(3), acl.Pass)), allow(9, user(3), acl.Read)), []string{NoControl, Shadowed}},
		"a deny of nothing":        {root(deny(allow(9, group(1), acl.Change))), []string{IdleDeny}},
		"a deny of something":      {root(deny(allow(9, user(1), acl.Read))), nil},
		"a whole group one by one": {root(allow(8, user(1), acl.Change), allow(9, user(2), acl.Change)), []string{Redundant, UsersForGroup}},
		"no service":               {func(r *site.Records) { r.Services.SMB = false }, []string{ServiceOff}},
		"an empty group":           {func(r *site.Records) { r.Groups = append(r.Groups, identity.Group{ID: 3, Name: "night", GID: 3003}) }, []string{EmptyGroup}},
		"a group for nothing": {func(r *site.Records) {
			r.Groups = append(r.Groups, identity.Group{ID: 3, Name: "night", GID: 3003, Members: []identity.Principal{user(1)}})
		}, []string{UnusedGroup}},
		"nobody decides":                {func(r *site.Records) { r.Users[2].Disabled = true }, []string{NoControl}},
		"guests who read":               {guests(1, acl.Read, true), []string{OpenToGuests}},
		"guests who change":             {guests(1, acl.Change, true), []string{OpenToGuests}},
		"guests who only pass":          {guests(1, acl.Pass, true), nil},
		"a guest, and no share":         {guests(1, acl.Change, false), nil},
		"a share, and no guest":         {guests(0, acl.Change, true), nil},
		"an export":                     {exported(rw), nil},
		"any host":                      {exported(with(rw, func(c *site.ClientRule) { c.From = "*" })), []string{OpenExport}},
		"no squash":                     {exported(with(rw, func(c *site.ClientRule) { c.Squash = site.SquashNone })), []string{RootNotSquashed}},
		"read-only":                     {exported(with(rw, func(c *site.ClientRule) { c.Write = false })), []string{ProtocolsDiffer}},
		"unknown, where nobody may add": {exported(with(rw, func(c *site.ClientRule) { c.Unknown = site.UnknownAnonymous })), nil},
		"a rule never reached":          {exported(rw, with(rw, func(c *site.ClientRule) { c.Squash = site.SquashNone })), nil},
		"unknown, where everybody adds": {func(r *site.Records) {
			root(allow(9, identity.Everyone, acl.Add))(r)
			exported(with(rw, func(c *site.ClientRule) { c.Unknown = site.UnknownAnonymous }))(r)
		}, []string{OpenToEveryone, UnknownWrites}},
		"another's number": {func(r *site.Records) {
			r.IDLists = []site.IDList{{ID: 1, Host: "dome1", Numbers: []identity.Numbered{{Name: "piran", Number: 2002}}}}
		}, []string{IDConflict}},
		"share-level grant to who left": {func(r *site.Records) {
			r.Shares[0].Entries = []acl.Entry{allow(8, identity.Everyone, acl.Control), allow(9, user(4), acl.Read)}
		}, []string{GrantToGone}},
		"a parent that some do not pass": {func(r *site.Records) {
			r.Folders[0].Rules = append(r.Folders[0].Rules, acl.Rule{ID: 2, Path: "a", Cut: true, Entries: []acl.Entry{allow(8, user(1), acl.Read)}}, acl.Rule{ID: 3, Path: "a/b", Entries: []acl.Entry{allow(9, group(1), acl.Change)}})
		}, []string{Blocked}},
	} {
		r := observatory()
		c.alter(&r)
		require.Equal(t, c.want, keys(kinds(t, r)), name)
	}
}

// Where people arrive as somebody else over NFS, nothing that is granted to them would help, and nothing is proposed: it says which rule makes
// them so. Where a few changes align the protocols they do, for everybody concerned; and where it would take many, none is proposed.
func TestProtocolsAreAligned(t *testing.T) {
	differ := func(alter func(*site.Records)) (site.Records, Finding) {
		r := observatory()
		r.Exports = []site.Export{{ID: 1, Path: "/instruments", FolderID: 1, Rules: []site.ClientRule{{ID: 1, From: "192.0.2.0/28", Write: true,
			Squash: site.SquashRoot, Unknown: site.UnknownRefused, Security: []site.Flavor{site.FlavorSys}}}}}
		alter(&r)
		list := kinds(t, r)[ProtocolsDiffer]
		require.Len(t, list, 1)
		return r, list[0]
	}
	_, f := differ(func(r *site.Records) { r.Exports[0].Rules[0].Squash = site.SquashAll })
	require.Empty(t, f.Fixes)
	require.Contains(t, f.Says, "client rule 1 of /instruments")

	r, f := differ(func(r *site.Records) {
		r.Shares[0].Entries = []acl.Entry{allow(8, group(2), acl.Control), allow(9, user(2), acl.Read)}
	})
	require.NotEmpty(t, f.Fixes)
	for _, m := range f.Fixes {
		require.Equal(t, access.FixShareAllow, m.Kind)
		i := slices.IndexFunc(r.Users, func(u identity.User) bool { return u.Name == m.User })
		r.Shares[0].Entries = append(r.Shares[0].Entries, allow(int64(100+i), user(r.Users[i].ID), m.Level))
	}
	require.Empty(t, kinds(t, r)[ProtocolsDiffer], "all of it is fixed")

	_, f = differ(func(r *site.Records) {
		for i := range 30 {
			r.Users = append(r.Users, identity.User{ID: identity.ID(100 + i), Name: fmt.Sprint("more", i), UID: uint32(5000 + i), SMB: true, NFS: true})
			r.Groups[0].Members = append(r.Groups[0].Members, user(identity.ID(100+i)))
		}
		r.Shares[0].Entries = []acl.Entry{allow(8, group(2), acl.Control)}
	})
	require.Empty(t, f.Fixes)
}

// What somebody lives with is said to be accepted until that runs out, and comes back then.
func TestAccepted(t *testing.T) {
	r := observatory()
	r.Services.SMB = false
	f := auditOf(t, r, &disk{}).Findings()[0]
	require.Nil(t, f.Accepted)
	r.Acceptances = []site.Acceptance{{ID: 1, Finding: f.Key, Reason: "SMB comes in April", Until: night.Add(time.Hour), By: "keeper"}}
	a := auditOf(t, r, &disk{})
	require.Equal(t, "SMB comes in April", a.Findings()[0].Accepted.Reason)
	require.Nil(t, New(a.Policy, night.Add(time.Hour), nil).Findings()[0].Accepted)
}

// A fix is one that fixes: where nobody is there who owns a folder, none is proposed.
func TestNobodyDecidesIsFixedByWhoOwns(t *testing.T) {
	for name, c := range map[string]struct {
		owner, group identity.ID
		disabled     []int
		fix          string
	}{
		"the owner":                     {1, 1, nil, "isolde"},
		"the group of a gone owner":     {0, 1, nil, "observers"},
		"nobody":                        {0, 0, nil, ""},
		"an owner who left, no group":   {1, 0, []int{0}, ""},
		"a group whose people all left": {0, 1, []int{0, 1, 2}, ""},
	} {
		t.Run(name, func(t *testing.T) {
			r := observatory()
			r.Folders[0].Owner, r.Folders[0].Group = c.owner, c.group
			r.Folders[0].Rules = []acl.Rule{{ID: 1, Entries: []acl.Entry{allow(1, user(1), acl.Read)}}}
			for _, i := range c.disabled {
				r.Users[i].Disabled = true
			}
			found := func() *Finding {
				list := auditOf(t, r, &disk{}).Findings()
				if i := slices.IndexFunc(list, func(f Finding) bool { return f.Kind == NoControl }); i >= 0 {
					return &list[i]
				}
				return nil
			}
			f := found()
			require.NotNil(t, f)
			if c.fix == "" {
				require.Empty(t, f.Fixes)
				return
			}
			require.Len(t, f.Fixes, 1)
			require.Equal(t, c.fix, f.Fixes[0].User)
			who := identity.UserPrincipal(c.owner)
			if c.owner == 0 {
				who = identity.GroupPrincipal(c.group)
			}
			r.Folders[0].Rules[0].Entries = append(r.Folders[0].Rules[0].Entries, allow(9, who, acl.Control))
			require.Nil(t, found(), "it does fix it")
		})
	}
}
