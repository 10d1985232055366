package audit

import (
	"fmt"
	"net/netip"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
)

var night = time.Date(2026, 3, 1, 22, 0, 0, 0, time.UTC)

// disk is what lies in a made-up folder.
type disk struct {
	own    map[string]acl.Ownership
	unix   map[string]*posix.Attributes
	others map[string][]string // files with several names
	many   bool                // and more than are looked at
}

func (d *disk) OwnerOf(path string) (acl.Ownership, bool)    { own, ok := d.own[path]; return own, ok }
func (d *disk) UnixOf(path string) (*posix.Attributes, bool) { a, ok := d.unix[path]; return a, ok }

func (d *disk) Others(path string) ([]string, bool) { return d.others[path], !d.many }

var ways = []string{"", "a", "a/b", "a/b/c", "a/x", "z/y"}

func pick[T any](t *rapid.T, name string, from ...T) T {
	return from[rapid.IntRange(0, len(from)-1).Draw(t, name)]
}

// drawSite makes a site up: people in nested groups, two folders, one by entries and one by mode, each
// with shares and exports.
func drawSite(t *rapid.T) (site.Records, *disk) {
	var r site.Records
	nUsers, nGroups := rapid.IntRange(1, 6).Draw(t, "users"), rapid.IntRange(1, 4).Draw(t, "groups")
	oneIn := func(n int, what string) bool { return rapid.IntRange(1, n).Draw(t, what) == 1 }
	for i := 1; i <= nUsers; i++ {
		u := identity.User{ID: identity.ID(i), Name: fmt.Sprintf("u%d", i), UID: uint32(2000 + i), Disabled: oneIn(8, "disabled"), SMB: !oneIn(6, "smb"), NFS: !oneIn(6, "nfs")}
		if oneIn(8, "root") && i == 1 {
			u.UID = 0
		}
		if oneIn(5, "ends") {
			u.Expires = night.Add(time.Duration(rapid.IntRange(-1, 1).Draw(t, "when")) * time.Hour)
		}
		if !oneIn(3, "no primary") {
			u.Primary = identity.ID(rapid.IntRange(1, nGroups).Draw(t, "primary"))
		}
		r.Users = append(r.Users, u)
	}
	for i := 1; i <= nGroups; i++ {
		g := identity.Group{ID: identity.ID(i), Name: fmt.Sprintf("g%d", i), GID: uint32(3000 + i)}
		if i == nGroups && oneIn(4, "odd gid") {
			g.GID = pick(t, "gid", uint32(0), site.Anonymous)
		}
		for u := 1; u <= nUsers; u++ {
			if oneIn(3, "member") {
				g.Members = append(g.Members, identity.UserPrincipal(identity.ID(u)))
			}
		}
		for below := 1; below < i; below++ {
			if oneIn(4, "nested") {
				g.Members = append(g.Members, identity.GroupPrincipal(identity.ID(below)))
			}
		}
		r.Groups = append(r.Groups, g)
	}
	if oneIn(8, "crowd") { // sets of people are words of 64
		crowd := pick(t, "people", 63, 64, 65, 127, 128, 129)
		all := &r.Groups[rapid.IntRange(0, nGroups-1).Draw(t, "group of all")]
		for i := len(r.Users) + 1; i <= crowd; i++ {
			r.Users = append(r.Users, identity.User{ID: identity.ID(i), Name: fmt.Sprintf("u%d", i), UID: uint32(5000 + i), SMB: true, NFS: true})
			all.Members = append(all.Members, identity.UserPrincipal(identity.ID(i)))
		}
		if oneIn(2, "all of them") {
			for i := range nUsers {
				if who := identity.UserPrincipal(identity.ID(i + 1)); !slices.Contains(all.Members, who) {
					all.Members = append(all.Members, who)
				}
			}
		}
	}
	id := int64(0)
	entries := func(most int) (out []acl.Entry) {
		for range rapid.IntRange(0, most).Draw(t, "entries") {
			id++
			e := acl.Entry{ID: id, Deny: oneIn(4, "deny"), Level: pick(t, "level", acl.Levels...), Applies: acl.Everywhere,
				Who: pick(t, "who", identity.UserPrincipal(identity.ID(rapid.IntRange(1, nUsers).Draw(t, "user"))),
					identity.GroupPrincipal(identity.ID(rapid.IntRange(1, nGroups).Draw(t, "group"))), identity.Owner, identity.OwningGroup, identity.Everyone)}
			if oneIn(2, "narrow") {
				e.Applies = acl.Applies(rapid.IntRange(1, 15).Draw(t, "applies"))
			}
			if oneIn(4, "exact") {
				e.Level, e.Mask = acl.NoLevel, acl.Mask(rapid.Uint32Range(1, uint32(acl.All)).Draw(t, "bits"))&acl.All|acl.Synchronize
			}
			if oneIn(5, "temporary") {
				e.Expires = night.Add(time.Duration(rapid.IntRange(-1, 1).Draw(t, "until")) * time.Hour)
			}
			out = append(out, e)
		}
		return out
	}
	r.HostSets = []site.HostSet{{ID: 9, Name: "nowhere"}}
	r.Volumes = []site.Volume{{ID: 1, Name: "summit", Path: "/srv"}}
	byEntry := site.Folder{ID: 1, Name: "nightlog", VolumeID: 1, Path: "n", Owner: 1, Group: 1}
	for i, path := range ways {
		if rapid.Bool().Draw(t, "rule") {
			byEntry.Rules = append(byEntry.Rules, acl.Rule{ID: int64(i + 1), Path: path, Cut: path != "" && oneIn(4, "cut"), Entries: entries(4)})
		}
	}
	r.Folders = []site.Folder{byEntry, {ID: 2, Name: "scratch", VolumeID: 1, Path: "s", Permissions: site.ByMode}}
	r.Services = site.Services{SMB: !oneIn(9, "smb off"), SMBGuest: identity.ID(rapid.IntRange(0, 3).Draw(t, "guest")), NFS: !oneIn(9, "nfs off")}
	for f := int64(1); f <= 2; f++ {
		for s := range rapid.IntRange(0, 2).Draw(t, "shares") {
			var hosts []site.HostTerm
			for range rapid.IntRange(0, 2).Draw(t, "hosts") {
				hosts = append(hosts, site.HostTerm{From: pick(t, "from", "192.0.2.1", "192.0.2.2", "@nowhere"), ReadOnly: rapid.Bool().Draw(t, "reads")})
			}
			r.Shares = append(r.Shares, site.Share{Hosts: hosts, ID: f*10 + int64(s), Name: fmt.Sprintf("s%d-%d", f, s), FolderID: f, ReadOnly: oneIn(4, "read-only"), Guests: rapid.Bool().Draw(t, "takes guests"), Entries: entries(2)})
		}
		for e := range rapid.IntRange(0, 2).Draw(t, "exports") {
			x := site.Export{ID: f*10 + int64(e), Path: fmt.Sprintf("/e%d-%d", f, e), FolderID: f, Below: pick(t, "below", "", "", "a"), ClientGroups: oneIn(3, "client groups")}
			for l := range rapid.IntRange(0, 3).Draw(t, "lines") {
				x.Rules = append(x.Rules, site.ClientRule{ID: id*10 + int64(l), From: fmt.Sprintf("192.0.2.%d", l+1), Write: rapid.Bool().Draw(t, "rw"), Security: []site.Flavor{site.FlavorSys},
					Squash: pick(t, "squash", site.SquashRoot, site.SquashRoot, site.SquashNone, site.SquashAll), AnonUID: pick(t, "anon", site.Anonymous, uint32(2001)), AnonGID: pick(t, "anon group", site.Anonymous, uint32(3001)),
					Unknown: pick(t, "unknown", site.UnknownRefused, site.UnknownAnonymous, site.UnknownNumber), PrivilegedPort: oneIn(2, "port")})
			}
			r.Exports = append(r.Exports, x)
		}
	}
	for m := range rapid.IntRange(0, 2).Draw(t, "number maps") {
		numbers := site.NumberMap{ID: int64(m + 1), Name: fmt.Sprint("m", m), From: []string{pick(t, "mapped", "192.0.2.1", "192.0.2.0/30", "192.0.2.2", "192.0.2.0/24")}, Others: pick(t, "others", site.OthersSame, site.OthersUnknown)}
		side := func(first, n int) (out []site.NumberFor) {
			who := rapid.Permutation([]identity.ID{1, 2, 3, 4, 5, 6}).Draw(t, "who")
			for i := range 6 { // some of the records' own numbers, in another order
				if id := who[i]; int(id) <= n && oneIn(2, "has") {
					out = append(out, site.NumberFor{There: uint32(first + i), Who: id})
				}
			}
			return out
		}
		numbers.Users, numbers.Groups = side(2001, nUsers), side(3001, nGroups)
		r.NumberMaps = append(r.NumberMaps, numbers)
	}
	d := &disk{own: map[string]acl.Ownership{}, unix: map[string]*posix.Attributes{}}
	uid := func() uint32 { return pick(t, "uid", 0, 2001, uint32(2000+nUsers), 2999) }
	gid := func() uint32 { return pick(t, "gid", 0, 3001, uint32(3000+nGroups), site.Anonymous) }
	for _, path := range append([]string{"z"}, ways...) {
		if rapid.Bool().Draw(t, "owned") {
			d.own[path] = acl.Ownership{User: int32(rapid.IntRange(-1, nUsers-1).Draw(t, "owner")), Group: int32(rapid.IntRange(-1, nGroups-1).Draw(t, "owning group"))}
		}
		a := posix.Attributes{UID: uid(), GID: gid(), Mode: rapid.Uint32Range(0, 0o1777).Draw(t, "mode"), Dir: path != "a/x"}
		if oneIn(3, "acl") {
			list := posix.ACL{{Tag: posix.UserObj, Perm: 7, ID: posix.Nobody}, {Tag: posix.User, Perm: rapid.Uint32Range(0, 7).Draw(t, "p1"), ID: 2001}, {Tag: posix.GroupObj, Perm: rapid.Uint32Range(0, 7).Draw(t, "p2"), ID: posix.Nobody},
				{Tag: posix.Group, Perm: rapid.Uint32Range(0, 7).Draw(t, "p3"), ID: 3001}, {Tag: posix.Mask, Perm: rapid.Uint32Range(0, 7).Draw(t, "p4"), ID: posix.Nobody}, {Tag: posix.Other, Perm: rapid.Uint32Range(0, 7).Draw(t, "p5"), ID: posix.Nobody}}
			a = posix.WithACL(&posix.Credential{}, a, list)
		}
		d.unix[path] = &a
	}
	d.many = oneIn(20, "too many names")
	if oneIn(3, "two names") { // of the one file there is where modes decide
		d.others = map[string][]string{"a/x": {"z/x"}, "z/x": {"a/x"}}
		if oneIn(2, "three names") {
			d.others = map[string][]string{"a/x": {"z/x", "a/b/x"}, "z/x": {"a/x", "a/b/x"}, "a/b/x": {"z/x", "a/x"}}
			d.unix["a/b/x"] = d.unix["a/x"]
		}
		d.unix["z/x"] = d.unix["a/x"]
	}
	return r, d
}

func auditOf(t require.TestingT, r site.Records, d *disk) *Audit {
	p, err := site.Compile(r)
	require.NoError(t, err)
	return New(p, night, func(*site.PublishedFolder) access.Facts { return d })
}

// What the audit says of everybody at once is what the gates decide for each.
func TestAuditEqualsDecision(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r, d := drawSite(t)
		a := auditOf(t, r, d)
		for _, pf := range a.Policy.Folders {
			for _, path := range append([]string{"z", "a/b/c/d/e", "z/x"}, ways...) {
				for _, file := range []bool{false, true} {
					if pf.Unix() && d.unix[path] != nil && d.unix[path].Dir == file || pf.Unix() && file && d.unix[path] == nil {
						continue // it is what it is
					}
					all := a.At(pf, path, file)
					for user := range a.Policy.Directory.Users() {
						want := naive(a, pf, int32(user), path, file)
						require.Equal(t, want, a.By(pf, int32(user), path, file), "%s at %s, file %v, user %d", pf.Name, path, file, user)
						require.Equal(t, want, all.Of(int32(user)), "%s at %s, file %v, user %d", pf.Name, path, file, user)
					}
				}
			}
		}
	})
}

// naive asks the gates once for each right and each level, through each share and each client rule.
func naive(a *Audit, pf *site.PublishedFolder, user int32, path string, file bool) Pair {
	f := a.folder(pf)
	out := Pair{Kind: acl.KindOf(path, file), ByMode: pf.Unix()}
	r := access.Request{User: a.Policy.Directory.Users()[user].ID, Folder: pf, Path: path, File: file, Facts: f.facts, Now: a.Now}
	others, known := f.others(path, file)
	r.Others, r.Unjudged = others, !known
	ask := func(r access.Request, had *acl.Had) {
		for _, bit := range acl.Bits() {
			if r.Want = bit; access.Decide(a.Policy, r).Allowed() {
				had.Rights |= bit
			}
		}
		for _, l := range acl.LevelsOf(out.Kind) {
			if r.Want = l.Wants(out.Kind); access.Decide(a.Policy, r).Allowed() {
				had.Levels |= 1 << l
			}
		}
	}
	for _, share := range pf.Shares {
		r.Via, r.Share = site.SMB, share
		ask(r, &out.SMB)
	}
	r.Share = nil
	for _, e := range pf.Exports {
		for i := range e.InForce {
			if rule := &e.InForce[i]; rule.ShadowedBy == 0 && inExport(e, path) {
				r.Via, r.NFS = site.NFS, a.arrive(e, rule, user)
				ask(r, &out.NFS)
			}
		}
	}
	return out
}

// A line stands for the hosts it matches: coming in by it is arriving from one of them.
func TestComingInByALine(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r, _ := drawSite(t)
		p, err := site.Compile(r)
		require.NoError(t, err)
		for _, e := range p.Exports {
			for i := range e.InForce {
				for _, u := range p.Directory.Users() {
					said := access.UnixCredential(p.Directory, u.ID)
					from := access.ArriveAs(p, e, site.Origin{Address: netip.MustParseAddr(e.InForce[i].From), Port: 700, Flavor: site.FlavorSys}, u.ID)
					by := access.ArriveBy(p, e, &e.InForce[i], said)
					require.Equal(t, from.Rule, by.Rule)
					require.Equal(t, from.Unix, by.Unix)
					require.Equal(t, from.User, by.User)
					require.Equal(t, from.Mapping, by.Mapping)
					require.Equal(t, from.Numbers, by.Numbers)
					if from.Mapping == access.ByNumber { // there and back they are who they are
						require.Equal(t, u.ID, from.User)
					}
				}
			}
		}
	})
}

// What one may reach is what each path says of everybody.
func TestReachEqualsAudit(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r, d := drawSite(t)
		a := auditOf(t, r, d)
		for user := range a.Policy.Directory.Users() {
			at := make(map[string]Pair)
			for _, s := range a.Reach(int32(user)) {
				at[s.Folder.Display(s.Path)] = s.Pair
			}
			for _, pf := range a.Policy.Folders {
				for _, path := range append([]string{"z"}, ways...) {
					if pf.Unix() && path != "" || !pf.Unix() && !pf.Tree.HasRulesAt(path) {
						continue
					}
					nearest := path
					for !at[pf.Display(nearest)].Any() && nearest != "" {
						if _, listed := at[pf.Display(nearest)]; listed {
							break
						}
						nearest, _, _ = cutLast(nearest)
					}
					require.Equal(t, a.At(pf, path, false).Of(int32(user)).String(), at[pf.Display(nearest)].String(), "%s/%s for user %d", pf.Name, path, user)
				}
			}
		}
	})
}

func cutLast(path string) (dir, name string, ok bool) {
	for i := len(path) - 1; i >= 0; i-- {
		if path[i] == '/' {
			return path[:i], path[i+1:], true
		}
	}
	return "", path, false
}

// Kind says what lies at a path of the folder in which entries decide.
func (d *disk) Kind(path string) (exists, file bool) { return true, path == "a/x" }

// A survey of a whole tree says of each object what asking about it says.
func TestSurveyEqualsAudit(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r, d := drawSite(t)
		d.others = nil // a survey looks at each name by itself
		a := auditOf(t, r, d)
		pf := a.Policy.FolderNamed("scratch")
		s := NewSurvey()
		var paths []string
		for _, path := range []string{"", "a", "z", "a/b", "a/x", "a/b/c", "z/y"} {
			s.Add(path, d.unix[path])
			paths = append(paths, path)
		}
		got := a.Survey(pf, s)
		want := make([]Tally, len(r.Users))
		for _, path := range paths {
			st := a.At(pf, path, !d.unix[path].Dir)
			for u := range want {
				for _, l := range acl.Levels {
					if st.Of(int32(u)).Either().Levels.Has(l) {
						if d.unix[path].Dir {
							want[u].Directories[l]++
						} else {
							want[u].Files[l]++
						}
					}
				}
			}
		}
		require.Equal(t, want, got.Totals())
		for u := range want {
			for _, spot := range got.Reach(int32(u)) {
				path := spot.Path
				if spot.Files > 0 {
					path = "a/x" // the only file
				}
				require.Equal(t, a.At(pf, path, spot.Files > 0).Of(int32(u)), spot.Pair, path)
			}
		}
	})
}
