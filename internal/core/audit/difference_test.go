package audit

import (
	"maps"
	"path"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
)

// alter makes some change to a site, as an administrator would.
func alter(t *rapid.T, r *site.Records, other site.Records) {
	user := rapid.IntRange(0, min(len(r.Users), 6)-1).Draw(t, "whose")
	switch rapid.IntRange(0, 13).Draw(t, "change") {
	case 0:
		r.Folders[0].Rules = other.Folders[0].Rules
		for i := range r.Folders[0].Rules {
			for j := range r.Folders[0].Rules[i].Entries {
				r.Folders[0].Rules[i].Entries[j].Who = identity.Everyone
			}
		}
	case 1:
		if len(r.Folders[0].Rules) > 0 {
			r.Folders[0].Rules = r.Folders[0].Rules[1:]
		}
	case 2:
		r.Users[user].Disabled = !r.Users[user].Disabled
	case 3:
		g := &r.Groups[len(r.Groups)-1]
		if len(g.Members) > 0 {
			g.Members = g.Members[1:]
		}
	case 4:
		r.Services.NFS = !r.Services.NFS
	case 5:
		if len(r.Shares) > 0 {
			r.Shares = r.Shares[1:]
		}
	case 6: // somebody new, who comes first in the index
		r.Users = append([]identity.User{{ID: 999, Name: "new", UID: 2999, SMB: true, NFS: true, Primary: 1}}, r.Users...)
	case 7, 8, 9: // one entry more, of exact rights
		e := acl.Entry{ID: 9999, Who: pick(t, "who", identity.UserPrincipal(r.Users[user].ID), identity.GroupPrincipal(1), identity.Owner, identity.OwningGroup, identity.Everyone),
			Mask: pick(t, "right", acl.Bits()...), Deny: rapid.IntRange(0, 3).Draw(t, "deny") == 0, Applies: acl.Applies(rapid.IntRange(1, 15).Draw(t, "applies"))}
		at := pick(t, "at", ways...)
		for i := range r.Folders[0].Rules {
			if r.Folders[0].Rules[i].Path == at {
				r.Folders[0].Rules[i].Entries = append([]acl.Entry{e}, r.Folders[0].Rules[i].Entries...)
				return
			}
		}
		r.Folders[0].Rules = append(r.Folders[0].Rules, acl.Rule{ID: 999, Path: at, Entries: []acl.Entry{e}})
	case 10:
		if r.Users[user].UID = 2050; user == 0 && rapid.Bool().Draw(t, "becomes root") {
			r.Users[user].UID = 0
		}
	case 11:
		if len(r.Exports) > 0 && len(r.Exports[0].Rules) > 0 {
			rule := &r.Exports[0].Rules[0]
			rule.Write = !rule.Write
		}
	case 12:
		if len(r.Shares) > 0 {
			r.Shares[0].ReadOnly = !r.Shares[0].ReadOnly
		}
	case 13:
		if len(r.NumberMaps) > 0 {
			r.NumberMaps = r.NumberMaps[1:]
		}
	}
}

func clone(r site.Records) site.Records {
	r.Users, r.Groups, r.Shares = append([]identity.User{}, r.Users...), append([]identity.Group{}, r.Groups...), append([]site.Share{}, r.Shares...)
	r.Folders = append([]site.Folder{}, r.Folders...)
	for i := range r.Folders {
		r.Folders[i].Rules = append([]acl.Rule{}, r.Folders[i].Rules...)
	}
	r.Exports = append([]site.Export{}, r.Exports...)
	for i := range r.Exports {
		r.Exports[i].Rules = append([]site.ClientRule{}, r.Exports[i].Rules...)
	}
	return r
}

// both asks about one object on both sides.
type both struct {
	before, after *Audit
	disk          *disk
}

// differs says whether the gates answer a user otherwise after than before about any object there could be in a folder: what is at the paths
// with rules, and what is made below them by anybody. Where modes decide, everyones takes in what belongs to any number there is, and not just to those of
// the user.
func (b *both) differs(folder string, id identity.ID, everyones bool) bool {
	one := func(a *Audit, pf *site.PublishedFolder, at string, file bool) Pair {
		u := a.Policy.Directory.UserIndex(id)
		if u == identity.None {
			return Pair{Kind: acl.KindOf(at, file), ByMode: pf.Unix()}
		}
		return naive(a, pf, u, at, file)
	}
	was, is := b.before.Policy.FolderNamed(folder), b.after.Policy.FolderNamed(folder)
	differs := func(at string, file bool) bool { return one(b.before, was, at, file) != one(b.after, is, at, file) }
	if was.Unix() {
		return differs("", false) || b.differsByMode(id, everyones, differs)
	}
	for _, at := range []string{"", "a", "a/b", "a/b/c", "z", "z/y", "a/x"} {
		if differs(at, at == "a/x") {
			return true
		}
		if at == "a/x" {
			continue
		}
		owners := b.owners(id)
		for i, through := range owners {
			dir := path.Join(at, "d"+string(rune('a'+i)))
			b.disk.own[dir] = through
			if differs(dir, false) {
				return true
			}
			for j, own := range owners {
				for _, in := range []string{at, dir} {
					object := path.Join(in, "o"+string(rune('a'+j)))
					b.disk.own[object] = own
					if differs(object, true) || differs(object, false) {
						return true
					}
				}
			}
		}
	}
	return false
}

// owners are whose an object may be, as far as it matters to a user. The indexes of both directories are taken to be the same.
func (b *both) owners(id identity.ID) []acl.Ownership {
	d := b.before.Policy.Directory
	group := identity.None
	u := d.UserIndex(id)
	if u != identity.None {
		for g := range d.Groups() {
			if d.Members(int32(g)).Has(u) {
				group = int32(g)
				break
			}
		}
	}
	return []acl.Ownership{{User: identity.None, Group: identity.None}, {User: u, Group: identity.None}, {User: identity.None, Group: group}, {User: u, Group: group}}
}

func (b *both) differsByMode(id identity.ID, everyones bool, differs func(string, bool) bool) bool {
	uids, gids := make(map[uint32]bool), make(map[uint32]bool)
	for _, a := range []*Audit{b.before, b.after} {
		d := a.Policy.Directory
		if u := d.User(id); u != nil {
			uids[u.UID] = true
			for _, gid := range d.GIDs(d.UserIndex(id)) {
				gids[gid] = true
			}
		}
		if !everyones {
			continue
		}
		for _, u := range d.Users() {
			uids[u.UID] = true
		}
		for _, g := range d.Groups() {
			gids[g.GID] = true
		}
		for _, e := range a.Policy.Exports {
			for _, rule := range e.InForce {
				uids[rule.AnonUID], gids[rule.AnonGID] = true, true
			}
		}
		for _, m := range a.Policy.NumberMaps {
			for _, n := range m.Users {
				uids[n.There] = true
			}
			for _, n := range m.Groups {
				gids[n.There] = true
			}
		}
	}
	objects := []posix.Attributes{{UID: posix.Nobody, GID: posix.Nobody, Mode: 0o777}}
	for uid := range maps.Keys(uids) {
		objects = append(objects, posix.Attributes{UID: uid, GID: posix.Nobody, Mode: 0o700})
	}
	for gid := range maps.Keys(gids) {
		objects = append(objects, posix.Attributes{UID: posix.Nobody, GID: gid, Mode: 0o070})
	}
	defer delete(b.disk.unix, "object")
	for _, at := range objects {
		for _, file := range []bool{false, true} {
			at.Dir = !file
			b.disk.unix["object"] = &at
			if differs("object", file) {
				return true
			}
		}
	}
	return false
}

// Nobody is said to gain or lose anything if and only if no right of anybody on anything over any protocol becomes other.
func TestDifferenceIsWhatBecomesOther(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r, d := drawSite(t)
		d.others, d.many = nil, false // a rule is about a name
		if len(r.Users) > 6 {
			r.Users = r.Users[:6]
			for i := range r.Groups {
				var members []identity.Principal
				for _, m := range r.Groups[i].Members {
					if m.Kind == identity.KindGroup || int(m.ID) <= len(r.Users) {
						members = append(members, m)
					}
				}
				r.Groups[i].Members = members
			}
		}
		other, _ := drawSite(t)
		before := auditOf(t, r, d)
		r2 := clone(r)
		alter(t, &r2, other)
		if r2.Users[0].ID == 999 { // the owners on the made-up disk are said by index
			clear(d.own)
		}
		after := auditOf(t, r2, d)

		said := map[string]map[identity.ID]bool{"nightlog": {}, "scratch": {}}
		for _, c := range Compare(before, after).Difference() {
			require.True(t, c.Gains() || c.Loses())
			was, is := c.Texts()
			require.NotEqual(t, was.Text, is.Text)
			for _, id := range c.People {
				said[c.Folder][id] = true
			}
		}
		b := &both{before, after, d}
		for folder, people := range said {
			for _, u := range append([]identity.User{{ID: 999}}, r.Users...) {
				if r2.Users[0].ID == 999 && folder == "nightlog" { // and so are those that are made up below
					continue
				}
				if people[u.ID] {
					require.True(t, b.differs(folder, u.ID, true), "%s for user %d, who is said to gain or lose", folder, u.ID)
				} else {
					require.False(t, b.differs(folder, u.ID, false), "%s for user %d, of whom nothing is said", folder, u.ID)
				}
			}
		}
	})
}

// What is told of a path is what the gates answer there.
func TestDifferenceTellsBothSides(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r, d := drawSite(t)
		other, _ := drawSite(t)
		before := auditOf(t, r, d)
		r2 := clone(r)
		alter(t, &r2, other)
		after := auditOf(t, r2, d)
		for _, c := range Compare(before, after).Difference() {
			if c.Objects != "" {
				continue
			}
			file := c.Is.Kind.File()
			for _, id := range c.People {
				for a, said := range map[*Audit]Pair{before: c.Was, after: c.Is} {
					if u := a.Policy.Directory.UserIndex(id); u != identity.None {
						require.Equal(t, naive(a, a.Policy.FolderNamed(c.Folder), u, c.Path, file), said, "%s/%s for user %d", c.Folder, c.Path, id)
					} else {
						require.Equal(t, Pair{Kind: said.Kind, ByMode: said.ByMode}, said)
					}
				}
			}
		}
	})
}

// What is put together of several paths of a folder is still told as of a directory, and by mode where modes decide.
func TestPairsTogetherKeepTheirKind(t *testing.T) {
	read := Pair{SMB: acl.HadOf(acl.Read.Mask(true), acl.Root), Kind: acl.Root}
	both := read.Or(Pair{SMB: acl.HadOf(acl.Add.Mask(true), acl.Directory)})
	require.Equal(t, "read and add over SMB", both.String())
	mode := Pair{NFS: acl.Had{Rights: acl.Visible | acl.ReadACL}, Kind: acl.Root, ByMode: true}.Or(Pair{})
	require.False(t, mode.Any())
	require.False(t, mode.AnyOverNFS())
	require.Equal(t, "nothing", mode.String())
}
