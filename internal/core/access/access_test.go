package access

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
)

var now = time.Date(2026, 3, 4, 5, 6, 7, 0, time.UTC)

type owners map[string]acl.Ownership

func (o owners) OwnerOf(path string) (acl.Ownership, bool) { own, ok := o[path]; return own, ok }
func (o owners) UnixOf(string) (*posix.Attributes, bool)   { return nil, false }

// drawSite makes a small site, every part of which can decide something.
func drawSite(t *rapid.T) (site.Records, owners) {
	var r site.Records
	nUsers, nGroups := rapid.IntRange(1, 4).Draw(t, "users"), rapid.IntRange(1, 5).Draw(t, "groups")
	for i := range nUsers {
		u := identity.User{ID: identity.ID(i + 1), Name: fmt.Sprintf("user%d", i), UID: uint32(i), NFS: true,
			SMB: rapid.IntRange(0, 9).Draw(t, "smb") > 0, Disabled: rapid.IntRange(0, 9).Draw(t, "disabled") == 0}
		if rapid.IntRange(0, 5).Draw(t, "expires") == 0 {
			u.Expires = now.Add(time.Duration(rapid.IntRange(-1, 1).Draw(t, "when")) * time.Hour)
		}
		if rapid.IntRange(0, 5).Draw(t, "starts") == 0 {
			u.Starts = now.Add(time.Duration(rapid.IntRange(-1, 1).Draw(t, "from")) * time.Hour)
		}
		r.Users = append(r.Users, u)
	}
	for i := range nGroups {
		g := identity.Group{ID: identity.ID(i + 1), Name: fmt.Sprintf("group%d", i), GID: uint32(i)}
		for j := range i {
			if rapid.Bool().Draw(t, "nested") {
				g.Members = append(g.Members, identity.GroupPrincipal(identity.ID(j+1)))
			}
		}
		for j := range nUsers {
			if rapid.Bool().Draw(t, "member") {
				g.Members = append(g.Members, identity.UserPrincipal(identity.ID(j+1)))
			}
		}
		r.Groups = append(r.Groups, g)
	}
	var id int64
	drawEntries := func(most int) (entries []acl.Entry) {
		for range rapid.IntRange(0, most).Draw(t, "entries") {
			id++
			who := []identity.Principal{
				identity.UserPrincipal(identity.ID(rapid.IntRange(1, nUsers).Draw(t, "user"))),
				identity.GroupPrincipal(identity.ID(rapid.IntRange(1, nGroups).Draw(t, "group"))),
				identity.Owner, identity.OwningGroup, identity.Everyone,
			}[rapid.IntRange(0, 4).Draw(t, "kind")]
			e := acl.Entry{ID: id, Deny: rapid.IntRange(0, 3).Draw(t, "deny") == 0, Who: who,
				Level:   acl.Levels[rapid.IntRange(0, 4).Draw(t, "level")],
				Applies: acl.Applies(rapid.IntRange(1, 15).Draw(t, "applies"))}
			if rapid.IntRange(0, 4).Draw(t, "exact") == 0 {
				e.Level, e.Mask = acl.NoLevel, acl.Mask(rapid.Uint32().Draw(t, "bits"))&acl.All|acl.Synchronize
			}
			if rapid.IntRange(0, 4).Draw(t, "temporary") == 0 {
				e.Expires = now.Add(time.Duration(rapid.IntRange(-1, 1).Draw(t, "until")) * time.Hour)
			}
			entries = append(entries, e)
		}
		return entries
	}
	folder := site.Folder{ID: 1, Name: "nightlog", VolumeID: 1, Owner: 1, Group: 1}
	for _, path := range []string{"", "a", "a/b", "a/b/c", "a/x", "z/y"} {
		if rapid.Bool().Draw(t, "rule") {
			folder.Rules = append(folder.Rules, acl.Rule{Path: path, Cut: rapid.IntRange(0, 4).Draw(t, "cut") == 0, Entries: drawEntries(4)})
		}
	}
	r.Volumes = []site.Volume{{ID: 1, Name: "dome", Path: "/srv"}}
	r.Folders = []site.Folder{folder}
	r.Shares = []site.Share{{ID: 1, Name: "nightlog", FolderID: 1, ReadOnly: rapid.IntRange(0, 4).Draw(t, "readonly") == 0, Guests: rapid.Bool().Draw(t, "takes guests"), Entries: drawEntries(2)}}
	r.HostSets = []site.HostSet{{ID: 1, Name: "dome", Rules: []site.ClientRule{{ID: 1, From: "192.0.2.1", Write: true}, {ID: 2, From: "192.0.2.2"}}}, {ID: 2, Name: "none"}}
	if rapid.IntRange(0, 2).Draw(t, "kept to hosts") == 0 {
		for range rapid.IntRange(1, 3).Draw(t, "hosts") {
			from := rapid.SampledFrom([]string{"192.0.2.1", "192.0.2.0/30", "192.0.2.2", "@dome", "@none", "dome1.example", "*"}).Draw(t, "from")
			r.Shares[0].Hosts = append(r.Shares[0].Hosts, site.HostTerm{From: from, ReadOnly: from[0] != '@' && rapid.Bool().Draw(t, "reads")})
		}
	}
	r.Services = site.Services{SMB: rapid.IntRange(0, 9).Draw(t, "service") > 0, SMBGuest: identity.ID(rapid.IntRange(0, 3).Draw(t, "guest"))}
	own := owners{}
	for _, path := range []string{"", "a", "a/b", "a/b/c", "a/b/c/d"} {
		if rapid.Bool().Draw(t, "owned") {
			own[path] = acl.Ownership{User: int32(rapid.IntRange(-1, nUsers-1).Draw(t, "owner")), Group: int32(rapid.IntRange(-1, nGroups-1).Draw(t, "owning group"))}
		}
	}
	return r, own
}

func drawRequest(t *rapid.T, r site.Records) Request {
	q := Request{
		User: identity.ID(rapid.IntRange(1, len(r.Users)+1).Draw(t, "asker")), Via: site.SMB,
		Path: rapid.SampledFrom([]string{"", "a", "a/b", "a/b/c", "a/b/c/d", "a/x", "a/x/y/z", "q", "z", "z/y/w"}).Draw(t, "path"),
		Now:  now,
	}
	if rapid.IntRange(0, 3).Draw(t, "where known") > 0 {
		q.Origin = &site.Origin{Address: netip.MustParseAddr(fmt.Sprintf("192.0.2.%d", rapid.IntRange(1, 4).Draw(t, "address"))), Unsure: rapid.IntRange(0, 3).Draw(t, "unsure") == 0}
		if !q.Origin.Unsure && rapid.Bool().Draw(t, "named") {
			q.Origin.Names = []string{"dome1.example"}
		}
	}
	q.File = q.Path != "" && rapid.Bool().Draw(t, "file")
	kind := acl.KindOf(q.Path, q.File)
	q.Want = acl.Levels[rapid.IntRange(0, 4).Draw(t, "want")].Wants(kind)
	return q
}

func decide(t require.TestingT, r site.Records, own owners, q Request) Verdict {
	p, err := site.Compile(r)
	require.NoError(t, err)
	q.Folder, q.Share, q.Facts = p.FolderNamed("nightlog"), p.ShareNamed("nightlog"), own
	return Decide(p, q)
}

// naive is RFC 8881 section 6.2.1 and the gates, a bit at a time, straight from the
// records: no compiled form, no index, no memory.
func naive(r site.Records, own owners, q Request) acl.Mask {
	var user *identity.User
	for i := range r.Users {
		if r.Users[i].ID == q.User {
			user = &r.Users[i]
		}
	}
	if user == nil || user.Disabled || q.Now.Before(user.Starts) || !user.Expires.IsZero() && !q.Now.Before(user.Expires) || !r.Services.SMB || !user.SMB {
		return 0
	}
	var inGroup func(g identity.ID) bool
	inGroup = func(g identity.ID) bool {
		for _, grp := range r.Groups {
			if grp.ID != g {
				continue
			}
			for _, m := range grp.Members {
				if m == identity.UserPrincipal(q.User) || m.Kind == identity.KindGroup && inGroup(m.ID) {
					return true
				}
			}
		}
		return false
	}
	folder, share := r.Folders[0], r.Shares[0]
	matches := func(e acl.Entry, at string, shareLevel bool) bool {
		o, ok := own[at]
		if !ok || shareLevel {
			o = acl.Ownership{User: int32(folder.Owner) - 1, Group: int32(folder.Group) - 1}
		}
		switch e.Who.Kind {
		case identity.KindUser:
			return e.Who.ID == q.User
		case identity.KindGroup:
			return inGroup(e.Who.ID)
		case identity.KindOwner:
			return o.User == int32(q.User)-1
		case identity.KindOwningGroup:
			return o.Group >= 0 && inGroup(identity.ID(o.Group+1))
		}
		return true
	}
	bitOf := func(entries []acl.Entry, at string, file bool, bit acl.Mask, shareLevel bool) bool {
		for _, e := range entries {
			mask := e.Level.Mask(!file)
			if e.Deny {
				mask = e.Level.DenyMask(!file)
			}
			if e.Level == acl.NoLevel {
				mask = e.Mask
			}
			if !e.Expires.IsZero() && !q.Now.Before(e.Expires) {
				continue
			}
			if mask&bit != 0 && matches(e, at, shareLevel) {
				return !e.Deny
			}
		}
		return false
	}
	listFor := func(at string, file bool) (list []acl.Entry) {
		for from, dist := at, 0; ; dist++ {
			for _, rule := range folder.Rules {
				if rule.Path != from {
					continue
				}
				for _, deny := range []bool{true, false} {
					for _, e := range rule.Entries {
						reach := acl.Here
						if dist > 0 && file {
							reach = acl.Files
						} else if dist > 0 {
							reach = acl.Subfolders
						}
						if e.Deny == deny && e.Applies&reach != 0 && (dist < 2 || e.Applies&acl.DirectOnly == 0) {
							list = append(list, e)
						}
					}
				}
				if rule.Cut {
					return list
				}
			}
			if from == "" {
				return list
			}
			from = from[:max(strings.LastIndexByte(from, '/'), 0)]
		}
	}
	var granted acl.Mask
	up := q.Path[:max(strings.LastIndexByte(q.Path, '/'), 0)]
	upHas := func(bit acl.Mask) bool { return q.Path != "" && bitOf(listFor(up, false), up, false, bit, false) }
	byEntries := func(bit acl.Mask) bool { return bitOf(listFor(q.Path, q.File), q.Path, q.File, bit, false) }
	byShare := func(bit acl.Mask) bool {
		if len(share.Entries) == 0 {
			return true
		}
		{
			entries := slices.Clone(share.Entries)
			slices.SortStableFunc(entries, func(a, b acl.Entry) int {
				switch {
				case a.Deny == b.Deny:
					return 0
				case a.Deny:
					return -1
				}
				return 1
			})
			entries = slices.DeleteFunc(entries, func(e acl.Entry) bool { return e.Applies&acl.Here == 0 })
			return bitOf(entries, "", q.File, bit, true)
		}
	}
	// comesTo is what a bit comes to where others are not had, or are.
	comesTo := func(bit acl.Mask, has func(acl.Mask) bool) bool {
		switch {
		case q.File && (bit == acl.ReadData || bit == acl.ReadNamedAttrs):
			return has(bit) || has(acl.Execute) // to run it is to read it
		case !q.File && (bit == acl.AddFile || bit == acl.AddSubdirectory || bit == acl.DeleteChild):
			return has(bit) && has(acl.Execute) // whoever may not pass cannot get at the name
		}
		return has(bit)
	}
	if q.User == r.Services.SMBGuest && q.User != 0 && !share.Guests {
		return 0
	}
	for bit := acl.Mask(1); bit <= acl.All; bit <<= 1 {
		if acl.All&bit == 0 {
			continue
		}
		ok := comesTo(bit, byEntries)
		switch bit {
		case acl.Delete:
			ok = q.Path != "" && (ok || upHas(acl.DeleteChild))
		case acl.ReadAttributes, acl.Synchronize:
			ok = ok || upHas(acl.ListDirectory)
		}
		for dir := q.Path; dir != ""; {
			dir = dir[:max(strings.LastIndexByte(dir, '/'), 0)]
			ok = ok && bitOf(listFor(dir, false), dir, false, acl.Execute, false)
		}
		if ok && comesTo(bit, byShare) && (!share.ReadOnly || acl.ReadOnly&bit != 0) && acl.Mask(bit)&^byHosts(share, q.Origin) == 0 {
			granted |= bit
		}
	}
	return granted
}

// byHosts is what the hosts of a share leave, told straight from the terms of drawSite.
func byHosts(share site.Share, o *site.Origin) acl.Mask {
	type term struct {
		from  string
		reads bool
	}
	var terms []term
	for _, h := range share.Hosts {
		switch h.From {
		case "@dome":
			terms = append(terms, term{"192.0.2.1", false}, term{"192.0.2.2", true})
		case "@none":
		default:
			terms = append(terms, term{h.From, h.ReadOnly})
		}
	}
	if len(share.Hosts) == 0 {
		return acl.All
	}
	most := acl.Mask(0)
	for _, at := range terms {
		leaves := acl.All
		if at.reads {
			leaves = acl.ReadOnly
		}
		if o == nil {
			most |= leaves
			continue
		}
		fits := at.from == "*" || at.from == o.Address.String() || at.from == "192.0.2.0/30" && o.Address.As4()[3] < 4 || at.from == "dome1.example" && len(o.Names) > 0
		if fits {
			return leaves
		}
		if at.from == "dome1.example" && o.Unsure {
			return 0
		}
	}
	return most
}

func TestDecideEqualsNaive(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r, own := drawSite(t)
		q := drawRequest(t, r)
		v := decide(t, r, own, q)
		require.Equal(t, naive(r, own, q), v.Granted)
		require.Equal(t, q.Want&^v.Granted == 0, v.Allowed())
	})
}

func TestDecideAgainIsTheSame(t *testing.T) { // the first evaluation fills the memory, the second reads it
	rapid.Check(t, func(t *rapid.T) {
		r, own := drawSite(t)
		p, err := site.Compile(r)
		require.NoError(t, err)
		for range 5 {
			q := drawRequest(t, r)
			q.Folder, q.Share, q.Facts = p.FolderNamed("nightlog"), p.ShareNamed("nightlog"), own
			require.Equal(t, Decide(p, q), Decide(p, q))
			require.Equal(t, naive(r, own, q), Decide(p, q).Granted)
		}
	})
}

func TestDenyNeverWidens(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r, own := drawSite(t)
		q := drawRequest(t, r)
		before := decide(t, r, own, q).Granted
		rules := r.Folders[0].Rules
		if len(rules) == 0 {
			return
		}
		rule := &rules[rapid.IntRange(0, len(rules)-1).Draw(t, "rule")]
		rule.Entries = append(rule.Entries, acl.Entry{ID: 1000, Deny: true, Who: identity.UserPrincipal(q.User),
			Level: acl.Levels[rapid.IntRange(0, 4).Draw(t, "denied")], Applies: acl.Applies(rapid.IntRange(1, 15).Draw(t, "reach"))})
		after := decide(t, r, own, q).Granted
		require.Zero(t, after&^before, "gained %v", (after &^ before).Names(!q.File))
	})
}

func TestOrderOfEntriesDoesNotMatter(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r, own := drawSite(t)
		q := drawRequest(t, r)
		before := decide(t, r, own, q).Granted
		for i := range r.Folders[0].Rules {
			rule := &r.Folders[0].Rules[i]
			rule.Entries = rapid.Permutation(rule.Entries).Draw(t, "order")
		}
		require.Equal(t, before, decide(t, r, own, q).Granted)
	})
}

// Explaining is deciding, and what it says would fix the verdict does.
func TestExplainAgreesAndFixes(t *testing.T) {
	fixed, narrow := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		r, _ := drawSite(t)
		q := drawRequest(t, r)
		if int(q.User) > len(r.Users) {
			return
		}
		p, err := site.Compile(r)
		require.NoError(t, err)
		q.Folder, q.Share = p.FolderNamed("nightlog"), p.ShareNamed("nightlog")
		v, reports := Explain(p, q)
		require.Equal(t, Decide(p, q), v)
		left, first := acl.All, Passed
		for _, g := range reports {
			require.NotEmpty(t, g.Reason)
			if left &= g.Leaves; first == Passed && q.Want&^left != 0 {
				first = g.Gate
			}
		}
		require.Equal(t, v.Granted, left)
		require.Equal(t, v.Gate, first)
		if v.Allowed() {
			if take := TakeAway(p, q); q.Want != 0 {
				require.Len(t, take, 1)
				applyFix(&r, take[0])
				require.False(t, decide(t, r, nil, q).Allowed(), "still allowed after %+v", take[0])
			}
			return
		}
		require.Nil(t, TakeAway(p, q))
		for _, g := range reports {
			for _, m := range g.Fixes {
				applyFix(&r, m)
			}
		}
		after := decide(t, r, nil, q)
		require.True(t, after.Allowed(), "still withheld at %s after %+v", after.Gate, reports)
		fixed++
		narrow += requireNarrow(t, p, r, q, reports)
	})
	require.Positive(t, fixed)
	require.Positive(t, narrow)
}

// requireNarrow holds fixes, as they were applied to some records, to touching nobody but whom they say: of others no verdict changes
// anywhere, and no entry reaches who asked but on what is asked about and below it, or lets them more than pass the directories on the way.
func requireNarrow(t *rapid.T, before *site.Policy, r site.Records, q Request, reports []GateReport) int {
	own := true // nothing but entries
	for _, g := range reports {
		for _, m := range g.Fixes {
			if m.Touches != "" {
				return 0
			}
			own = own && (m.Kind == FixAllow || m.Kind == FixRemove)
		}
	}
	after, err := site.Compile(r)
	require.NoError(t, err)
	for _, u := range r.Users {
		for _, path := range []string{"", "a", "a/b", "a/x", "a/b/c", "a/b/c/d", "z", "z/y"} {
			for _, file := range []bool{false, true} {
				if file && (path == "" || strings.HasPrefix(q.Path, path+"/")) || u.ID == q.User && !own {
					continue
				}
				ask := Request{User: u.ID, Via: q.Via, Path: path, File: file, Now: q.Now, Want: acl.All}
				granted := func(p *site.Policy) acl.Mask {
					ask.Folder, ask.Share = p.FolderNamed("nightlog"), p.ShareNamed("nightlog")
					if u.ID == q.User { // by entries there: passing the way may open what they have been granted for long
						return ask.Folder.Tree.List(path, file).Evaluate(p.Directory.Person(p.Directory.UserIndex(u.ID)), ask.ownerOf(path), ask.Now, acl.All, nil)
					}
					return Decide(p, ask).Granted
				}
				more := granted(after) &^ granted(before)
				switch {
				case u.ID == q.User && (q.Path == "" || path == q.Path || strings.HasPrefix(path, q.Path+"/")):
				case u.ID == q.User && (path == "" || strings.HasPrefix(q.Path, path+"/")):
					require.Zero(t, more&^acl.Pass.Mask(true), "%v more on %q, asked about %q: %+v", more.Names(true), path, q.Path, reports)
				default:
					require.Zero(t, more, "%s has %v more on %q, asked about %q of %d: %+v", u.Name, more.Names(!file), path, q.Path, q.User, reports)
				}
			}
		}
	}
	return 1
}

// Of a file with several names none grants what another withholds, but for taking itself away; and
// the account given of it says as much.
func TestNoNameGrantsWhatAnotherWithholds(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r, own := drawSite(t)
		q := drawRequest(t, r)
		q.Path, q.File, q.Want = "a/b/f", true, acl.Levels[rapid.IntRange(0, 4).Draw(t, "level")].Wants(acl.File)
		q.Others = rapid.SampledFrom([][]string{{"a/x/f"}, {"z/y/f"}, {"a/b/c/f", "q"}, {"z/f", "a/x", "a/b/c/d/e/f"}}).Draw(t, "others")
		want := naive(r, own, q)
		for _, name := range q.Others {
			other := q
			other.Path = name
			want &= naive(r, own, other) | acl.Delete
		}
		v := decide(t, r, own, q)
		require.Equal(t, want.Names(false), v.Granted.Names(false))
		require.Equal(t, q.Want&^want == 0, v.Allowed())
		p, err := site.Compile(r)
		require.NoError(t, err)
		q.Folder, q.Share, q.Facts = p.FolderNamed("nightlog"), p.ShareNamed("nightlog"), own
		explained, reports := Explain(p, q)
		require.Equal(t, v, explained)
		left, first := acl.All, Passed
		for _, g := range reports {
			require.NotEmpty(t, g.Reason)
			if left &= g.Leaves; first == Passed && q.Want&^left != 0 {
				first = g.Gate
			}
		}
		require.Equal(t, v.Granted.Names(false), left.Names(false))
		require.Equal(t, v.Gate == Passed, first == Passed)
	})
}

func applyFix(r *site.Records, m Fix) {
	var user *identity.User
	for i := range r.Users {
		if r.Users[i].Name == m.User {
			user = &r.Users[i]
		}
	}
	switch m.Kind {
	case FixEnable:
		user.Disabled = false
	case FixExtend:
		user.Expires = time.Time{}
	case FixBegin:
		user.Starts = time.Time{}
	case FixProtocol:
		user.SMB = true
	case FixService:
		r.Services.SMB = true
	case FixShareHost:
		r.Shares[0].Hosts = nil
		for _, h := range strings.Split(m.From, ",") {
			r.Shares[0].Hosts = append(r.Shares[0].Hosts, site.ParseHostTerm(h))
		}
	case FixRuleWrite:
		for i := range r.HostSets {
			for j := range r.HostSets[i].Rules {
				if l := &r.HostSets[i].Rules[j]; l.ID == m.Rule {
					l.Write = true
				}
			}
		}
	case FixGuests:
		r.Shares[0].Guests = true
	case FixReadWrite:
		r.Shares[0].ReadOnly = false
	case FixShareAllow:
		r.Shares[0].Entries = append(r.Shares[0].Entries, acl.Entry{ID: 2000, Who: identity.UserPrincipal(user.ID), Level: m.Level, Applies: acl.Everywhere})
	case FixShareRemove:
		r.Shares[0].Entries = slices.DeleteFunc(r.Shares[0].Entries, func(e acl.Entry) bool { return e.ID == m.EntryID })
	case FixAllow, FixRemove:
		f := &r.Folders[0]
		_, path, _ := site.SplitPath(m.Path)
		at := slices.IndexFunc(f.Rules, func(rule acl.Rule) bool { return rule.Path == path })
		if m.Kind == FixRemove {
			f.Rules[at].Entries = slices.DeleteFunc(f.Rules[at].Entries, func(e acl.Entry) bool { return e.ID == m.EntryID })
			return
		}
		if at < 0 {
			f.Rules = append(f.Rules, acl.Rule{Path: path})
			at = len(f.Rules) - 1
		}
		e := acl.Entry{ID: 3000, Deny: m.Deny, Who: identity.UserPrincipal(user.ID), Level: m.Level, Applies: acl.Everywhere}
		if m.HereOnly {
			e.Applies = acl.Here
		}
		f.Rules[at].Entries = append(f.Rules[at].Entries, e)
	}
}

// deepSite is the one that make bench measures: six levels deep, twenty entries
// on the way, a user in thirty groups.
func deepSite(t testing.TB) (*site.Policy, Request) {
	r := site.Records{Services: site.Services{SMB: true}, Users: []identity.User{{ID: 1, Name: "wren", UID: 1, SMB: true}},
		Volumes: []site.Volume{{ID: 1, Name: "dome", Path: "/srv"}}, Shares: []site.Share{{ID: 1, Name: "plates", FolderID: 1}}}
	for i := range 30 {
		r.Groups = append(r.Groups, identity.Group{ID: identity.ID(i + 1), Name: fmt.Sprintf("group%d", i), GID: uint32(i), Members: []identity.Principal{identity.UserPrincipal(1)}})
	}
	for i := range 13 {
		r.Groups = append(r.Groups, identity.Group{ID: identity.ID(i + 31), Name: fmt.Sprintf("other%d", i), GID: uint32(i + 30)})
	}
	f := site.Folder{ID: 1, Name: "plates", VolumeID: 1}
	paths := []string{"", "2026", "2026/03", "2026/03/04"}
	for i, path := range paths {
		rule := acl.Rule{Path: path}
		for j := range 5 {
			n := i*5 + j
			who := identity.GroupPrincipal(identity.ID(31 + n%13)) // not hers
			if i == 0 {
				who = identity.GroupPrincipal(identity.ID(1 + n))
			}
			rule.Entries = append(rule.Entries, acl.Entry{ID: int64(n + 1), Who: who, Level: acl.Change, Applies: acl.Everywhere})
		}
		f.Rules = append(f.Rules, rule)
	}
	r.Folders = []site.Folder{f}
	p, err := site.Compile(r)
	require.NoError(t, err)
	return p, Request{User: 1, Via: site.SMB, Share: p.Shares[0], Folder: p.Folders[0], Path: "2026/03/04/raw/plate-0117.fits", File: true, Want: acl.ReadData, Now: now}
}

func TestDecideAllocatesNothing(t *testing.T) {
	p, q := deepSite(t)
	require.True(t, Decide(p, q).Allowed())
	require.Zero(t, testing.AllocsPerRun(100, func() { Decide(p, q) }))
}

// Cached: the lists of the path have been built before.
func BenchmarkDecideCached(b *testing.B) {
	p, q := deepSite(b)
	b.ReportAllocs()
	for b.Loop() {
		Decide(p, q)
	}
}

// Uncached: the first decision on the path after a policy has been swapped in.
func BenchmarkDecideUncached(b *testing.B) {
	p, q := deepSite(b)
	b.ReportAllocs()
	for b.Loop() {
		b.StopTimer()
		tree, err := acl.NewTree(p.Directory.Indexes(), p.Folders[0].Rules)
		require.NoError(b, err)
		f := *p.Folders[0]
		f.Tree = tree
		q.Folder = &f
		b.StartTimer()
		Decide(p, q)
	}
}

// The naive evaluation of the same question, for the ratio.
func BenchmarkDecideNaive(b *testing.B) {
	p, q := deepSite(b)
	r := site.Records{Users: p.Directory.Users(), Groups: p.Directory.Groups(), Folders: []site.Folder{p.Folders[0].Folder},
		Shares: []site.Share{p.Shares[0].Share}, Services: p.Services}
	b.ReportAllocs()
	for b.Loop() {
		naive(r, nil, q)
	}
}
