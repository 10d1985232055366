package site_test

import (
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/site"
)

var somePaths = []string{"", "a", "b", "a/b", "a/c", "a/b/c", "ab", "d/e/f"}

// alter does something at random to a draft: what it does makes sense, or not.
func alter(t *rapid.T, d *site.Draft) {
	pick := func(n int) int64 { return int64(rapid.IntRange(1, n).Draw(t, "number")) }
	name := rapid.SampledFrom([]string{"wren", "isolde", "piran", "orla"})
	some := func(kind string) int64 { // one that is there, mostly
		var all []int64
		d.Records().Each(func(key site.Key, _ any) {
			if key.Kind == kind {
				all = append(all, key.ID)
			}
		})
		if len(all) == 0 || rapid.IntRange(0, 9).Draw(t, "any") == 0 {
			return pick(6)
		}
		return rapid.SampledFrom(all).Draw(t, kind)
	}
	who := func() identity.Principal {
		return rapid.SampledFrom([]identity.Principal{identity.UserPrincipal(identity.ID(some("user"))), identity.GroupPrincipal(identity.ID(some("group"))), identity.Everyone}).Draw(t, "who")
	}
	entries := func() (out []acl.Entry) {
		for range rapid.IntRange(0, 2).Draw(t, "entries") {
			out = append(out, acl.Entry{Who: who(), Level: acl.Read, Applies: acl.Everywhere})
		}
		return out
	}
	switch rapid.IntRange(0, 14).Draw(t, "what") {
	case 0:
		site.Put(d, identity.User{Name: name.Draw(t, "name"), UID: uint32(pick(5)), Primary: identity.ID(rapid.Int64Range(0, 2).Draw(t, "primary"))})
	case 1:
		if u, ok := site.Get[identity.User](d, some("user")); ok {
			u.FullName = name.Draw(t, "full name")
			u.Labels, _ = u.Labels.With(map[string]string{name.Draw(t, "label"): rapid.SampledFrom([]string{"", "spring", "autumn"}).Draw(t, "value")})
			site.Put(d, u)
		}
	case 2:
		site.Delete[identity.User](d, some("user"))
	case 3:
		site.Put(d, identity.Group{Name: name.Draw(t, "name"), GID: uint32(pick(5))})
	case 4:
		site.Join(d, identity.ID(some("group")), who()) // twice is once
	case 5:
		site.Delete[identity.Group](d, some("group"))
	case 6:
		site.Put(d, site.Volume{Name: name.Draw(t, "name"), Path: "/srv/" + fmt.Sprint(pick(3))})
	case 7:
		site.Put(d, site.Folder{Name: name.Draw(t, "name"), VolumeID: some("volume"), Path: fmt.Sprint(pick(4)), Permissions: site.ByEntries, Ownership: site.Mapped})
	case 8:
		site.Delete[site.Folder](d, some("folder"))
	case 9, 10:
		d.PutRule(some("folder"), acl.Rule{Path: rapid.SampledFrom(somePaths).Draw(t, "path"), Cut: rapid.Bool().Draw(t, "cut"), Entries: entries()})
	case 11:
		from, to := rapid.SampledFrom(somePaths[1:]).Draw(t, "from"), rapid.SampledFrom([]string{"x", "a/x", "b", "a/c"}).Draw(t, "to")
		if !site.Within(from, to) && !site.Within(to, from) {
			d.MoveRules(some("folder"), from, to)
		}
	case 12:
		site.Put(d, site.Share{Name: name.Draw(t, "name"), FolderID: some("folder"), Entries: entries()})
	case 13:
		site.Put(d, limit.Limit{Kind: limit.OfFolder, Folder: some("folder"), Path: rapid.SampledFrom(somePaths).Draw(t, "path")})
	case 14:
		site.Put(d, site.Services{SMB: rapid.Bool().Draw(t, "smb")})
	}
}

func written(t require.TestingT, r site.Records) map[site.Key]json.RawMessage {
	all := make(map[site.Key]json.RawMessage)
	r.Each(func(key site.Key, record any) {
		raw, err := json.Marshal(record)
		require.NoError(t, err)
		all[key] = raw
	})
	return all
}

// What a draft was made from stays as it is, however it is altered; its difference, written down and read back onto that, is what it is; the other way
// round it is taken back; and no number is given twice.
func TestADraftIsItsDifference(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var r site.Records
		last, given := site.Numbers{}, make(map[site.Key]bool)
		for range rapid.IntRange(1, 4).Draw(t, "drafts") {
			before := written(t, r)
			d := site.NewDraft(r, last)
			for range rapid.IntRange(0, 12).Draw(t, "alterations") {
				alter(t, d)
			}
			require.Equal(t, before, written(t, r), "what it was made from")
			changes, err := d.Changes()
			require.NoError(t, err)
			is, back := maps.Clone(before), written(t, d.Records())
			for _, c := range changes {
				key := site.Key{Kind: c.Kind, ID: c.ID}
				require.NotEqual(t, string(c.Before), string(c.After))
				require.Equal(t, before[key], c.Before)
				if c.Before == nil {
					require.False(t, given[key] && key.ID != 1, "%v is another's", key)
					given[key] = true
				}
				if c.After == nil {
					delete(is, key)
				} else {
					is[key] = c.After
				}
				if c.Before == nil {
					delete(back, key)
				} else {
					back[key] = c.Before
				}
			}
			read, err := site.Assemble(is)
			require.NoError(t, err)
			require.Equal(t, d.Records(), read)
			require.Equal(t, before, back)
			r, last = d.Records(), d.Numbers()
		}
	})
}

// sound says what Check should: by looking through everything.
func sound(r site.Records) bool {
	there := make(map[site.Key]bool)
	r.Each(func(key site.Key, _ any) { there[key] = true })
	taken := make(map[string]bool)
	ok := true
	alone := func(parts ...any) {
		key := strings.ToLower(fmt.Sprintln(parts...))
		ok, taken[key] = ok && !taken[key], true
	}
	has := func(kind string, id int64) { ok = ok && there[site.Key{Kind: kind, ID: id}] }
	named := func(p identity.Principal) {
		switch p.Kind {
		case identity.KindUser:
			has("user", int64(p.ID))
		case identity.KindGroup:
			has("group", int64(p.ID))
		}
	}
	for _, u := range r.Users {
		alone("user", u.Name)
		alone("uid", u.UID)
		if u.Primary != 0 {
			has("group", int64(u.Primary))
		}
	}
	for _, g := range r.Groups {
		alone("group", g.Name)
		alone("gid", g.GID)
		for _, m := range g.Members {
			named(m)
		}
	}
	for _, v := range r.Volumes {
		alone("volume", v.Name)
		alone("volume at", v.Path)
	}
	for _, f := range r.Folders {
		alone("folder", f.Name)
		alone("folder at", f.VolumeID, f.Path)
		has("volume", f.VolumeID)
		for _, rule := range f.Rules {
			for _, e := range rule.Entries {
				named(e.Who)
			}
		}
	}
	for _, s := range r.Shares {
		alone("share", s.Name)
		has("folder", s.FolderID)
		for _, e := range s.Entries {
			named(e.Who)
		}
	}
	for _, l := range r.Limits {
		alone("limit", l.Folder, l.Path)
		has("folder", l.Folder)
	}
	return ok
}

// From records that are sound, the check of what was touched says what a look through all of them would; and what it finds has a record, a field and words.
func TestTheCheckOfADraft(t *testing.T) {
	refused, taken := 0, 0
	rapid.Check(t, func(t *rapid.T) {
		var r site.Records
		last := site.Numbers{}
		for range rapid.IntRange(1, 25).Draw(t, "drafts") {
			d := site.NewDraft(r, last)
			for range rapid.IntRange(1, 3).Draw(t, "alterations") {
				alter(t, d)
			}
			fault := d.Check()
			require.Equal(t, sound(d.Records()), fault == nil, "%v", fault)
			if fault == nil {
				r, last, taken = d.Records(), d.Numbers(), taken+1
				continue
			}
			refused++
			require.NotEmpty(t, fault.Field)
			require.NotEmpty(t, fault.Name)
			require.NotEmpty(t, fault.Says)
			require.NotZero(t, fault.Key)
		}
	})
	require.Greater(t, refused, 50)
	require.Greater(t, taken, 50)
}

// Renaming a directory moves what is written on it and below as renaming paths in a list does; what was written where it goes is gone.
func TestRulesMoveLikePaths(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		d := site.NewDraft(site.Records{}, nil)
		folder := site.Put(d, site.Folder{Name: "nightlog"})
		rules, limits := make(map[string]int64), make(map[string]int64)
		for _, path := range rapid.SliceOfNDistinct(rapid.SampledFrom(somePaths[1:]), 1, 5, rapid.ID).Draw(t, "rules") {
			rules[path] = d.PutRule(folder, acl.Rule{Path: path, Cut: true}).ID
			if rapid.Bool().Draw(t, "limited") {
				limits[path] = site.Put(d, limit.Limit{Kind: limit.OfFolder, Folder: folder, Path: path})
			}
		}
		for range rapid.IntRange(1, 3).Draw(t, "moves") {
			from, to := rapid.SampledFrom(somePaths[1:]).Draw(t, "from"), rapid.SampledFrom([]string{"x", "a/x", "d/x", "b", "a/c"}).Draw(t, "to")
			if site.Within(from, to) || site.Within(to, from) {
				continue
			}
			for _, model := range []map[string]int64{rules, limits} {
				next := make(map[string]int64)
				for path, id := range model {
					if !site.Within(path, to) && !site.Within(path, from) {
						next[path] = id
					}
				}
				for path, id := range model {
					if site.Within(path, from) {
						next[to+path[len(from):]] = id
					}
				}
				clear(model)
				maps.Copy(model, next)
			}
			d.MoveRules(folder, from, to)
		}
		gotRules, gotLimits := make(map[string]int64), make(map[string]int64)
		for _, r := range d.Records().Folders[0].Rules {
			gotRules[r.Path] = r.ID
		}
		for _, l := range d.Records().Limits {
			gotLimits[l.Path] = l.ID
		}
		require.Equal(t, rules, gotRules)
		require.Equal(t, limits, gotLimits)
		require.True(t, slices.IsSortedFunc(d.Records().Folders[0].Rules, func(a, b acl.Rule) int { return strings.Compare(a.Path, b.Path) }))
	})
}

// verdicts is what a policy says of everybody on some paths, and how things are found in it.
func verdicts(p *site.Policy) (out []any) {
	d := p.Directory
	for _, name := range []string{"wren", "ISOLDE", "piran", "orla"} {
		f, s := p.FolderNamed(name), p.ShareNamed(name)
		out = append(out, f != nil, s != nil, d.UserNamed(name), d.GroupNamed(name))
	}
	for _, f := range p.Folders {
		out = append(out, f.Folder, f.Root, f.At, f.OwnedBy, len(f.Shares), len(f.Exports), p.Folder(f.ID) == f, p.FolderNamed(f.Name) == f, f.Tree.Rule("a/b"))
		for _, s := range f.Shares {
			out = append(out, s.Share, s.Folder == f)
		}
		for _, path := range somePaths {
			for u := range d.Users() {
				who := d.Person(int32(u))
				out = append(out, f.Tree.List(path, false).Evaluate(who, f.OwnedBy, time.Time{}, acl.All, nil))
				for _, s := range f.Shares {
					if s.Entries != nil {
						out = append(out, s.Entries.List("", false).Evaluate(who, f.OwnedBy, time.Time{}, acl.All, nil))
					}
				}
			}
		}
		out = append(out, p.Limits.Trees(f.ID), p.Limits.Of(limit.Counter{Folder: f.ID}))
	}
	return append(out, p.Services, p.Volumes, p.Limits.Limits)
}

// A policy that is compiled from the one before and what was touched says what one does that is compiled as a whole: after one change, and within a
// draft of several.
func TestTheNextPolicy(t *testing.T) {
	compiled := 0
	rapid.Check(t, func(t *rapid.T) {
		r, last := site.Records{}, site.Numbers{}
		p, err := site.Compile(r)
		require.NoError(t, err)
		for range rapid.IntRange(1, 25).Draw(t, "drafts") {
			d := site.NewDraft(r, last)
			next := p
			for range rapid.IntRange(1, 3).Draw(t, "alterations") {
				alter(t, d)
				if d.Check() != nil {
					next = nil
					break
				}
				if rapid.Bool().Draw(t, "compile in between") {
					if next, err = next.Next(d); err != nil { // a group in itself
						next = nil
						break
					}
				}
			}
			if next == nil {
				continue
			}
			before := verdicts(p)
			next, err = next.Next(d)
			want, wantErr := site.Compile(d.Records())
			require.Equal(t, wantErr, err)
			require.Equal(t, before, verdicts(p), "the one before")
			if err != nil {
				continue
			}
			require.Equal(t, verdicts(want), verdicts(next))
			r, last, p = d.Records(), d.Numbers(), next
			compiled++
		}
	})
	require.Greater(t, compiled, 100)
}

// Whatever was done is taken back by putting records back to what they were: from there, and written down and read again in between.
func TestRestoring(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		r, last := site.Records{}, site.Numbers{}
		for range rapid.IntRange(1, 5).Draw(t, "drafts") {
			before := r
			d := site.NewDraft(r, last)
			for range rapid.IntRange(0, 12).Draw(t, "alterations") {
				alter(t, d)
			}
			changes, err := d.Changes()
			require.NoError(t, err)
			back := site.NewDraft(d.Records(), d.Numbers())
			require.NoError(t, back.Restore(changes))
			require.Equal(t, before, back.Records())
			undone, err := back.Changes()
			require.NoError(t, err)
			require.Len(t, undone, len(changes))
			again := site.NewDraft(back.Records(), back.Numbers())
			require.NoError(t, again.Restore(undone))
			require.Equal(t, d.Records(), again.Records())
			r, last = d.Records(), d.Numbers()
		}
	})
}

// Of two changes either can be taken back first, where neither is in the way of the other: what is left is the other, and then nothing. And what was last is
// never in anything's way.
func TestRevertingInAnyOrder(t *testing.T) {
	apart := 0
	sorted := func(r site.Records) map[site.Key]string { // lists whose order says nothing
		out := make(map[site.Key]string)
		for key, raw := range written(t, r) {
			letters := []byte(raw)
			slices.Sort(letters)
			out[key] = string(letters)
		}
		return out
	}
	rapid.Check(t, func(t *rapid.T) {
		r, last := site.Records{}, site.Numbers{}
		draft := func(n int) []site.Change {
			for {
				d := site.NewDraft(r, last)
				for range rapid.IntRange(1, n).Draw(t, "alterations") {
					alter(t, d)
				}
				if d.Check() != nil {
					continue
				}
				changes, err := d.Changes()
				require.NoError(t, err)
				r, last = d.Records(), d.Numbers()
				return changes
			}
		}
		revert := func(from site.Records, changes []site.Change) (site.Records, bool) {
			d := site.NewDraft(from, last)
			obstacles, err := d.Revert(changes)
			require.NoError(t, err)
			return d.Records(), len(obstacles) == 0 && d.Check() == nil
		}
		for range 6 {
			draft(2)
		}
		base := sorted(r)
		a := draft(2)
		only := sorted(r)
		b := draft(2)
		second, ok := revert(r, b)
		require.True(t, ok, "the last change is in nobody's way")
		require.Equal(t, only, sorted(second))
		if without, ok := revert(r, a); ok {
			if neither, ok := revert(without, b); ok {
				require.Equal(t, base, sorted(neither))
				apart++
			}
		}
	})
	require.Greater(t, apart, 20)
}

// A draft of records of which nobody knows what numbers were given, as of a past moment, takes nobody's.
func TestNumbersOfRecordsOfThePast(t *testing.T) {
	d := site.NewDraft(site.Records{Users: []identity.User{{ID: 3, Name: "wren", UID: 1}, {ID: 7, Name: "orla", UID: 2}}}, nil)
	require.EqualValues(t, 8, site.Put(d, identity.User{Name: "piran", UID: 3}))
	require.Len(t, d.Records().Users, 3)
}
