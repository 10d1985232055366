package descriptor

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
)

// names are two users and three groups: wren is in observers, and observers in staff.
type names struct{}

const domain SID = "S-1-5-21-1-2-3"

func (names) SID(who identity.Principal) SID {
	switch who.Kind {
	case identity.KindOwner:
		return OwnerRights
	case identity.KindOwningGroup:
		return CreatorGroup
	case identity.KindEveryone:
		return Everyone
	case identity.KindGroup:
		return domain.In(2000 + uint32(who.ID))
	}
	return domain.In(1000 + uint32(who.ID))
}

func (names) Who(sid SID) (identity.Principal, bool) {
	rid, ok := sid.Within(domain)
	switch {
	case ok && rid > 2000 && rid <= 2003:
		return identity.GroupPrincipal(identity.ID(rid - 2000)), true
	case ok && rid > 1000 && rid <= 1002:
		return identity.UserPrincipal(identity.ID(rid - 1000)), true
	}
	return identity.Principal{}, false
}

var now = time.Date(2026, 11, 28, 0, 0, 0, 0, time.UTC)

func people(t require.TestingT) *identity.Directory {
	d, err := identity.Compile([]identity.User{{ID: 1, Name: "wren", UID: 1}, {ID: 2, Name: "piran", UID: 2}},
		[]identity.Group{{ID: 1, Name: "observers", GID: 1, Members: []identity.Principal{identity.UserPrincipal(1)}},
			{ID: 2, Name: "staff", GID: 2, Members: []identity.Principal{identity.GroupPrincipal(1)}}, {ID: 3, Name: "guests", GID: 3}})
	require.NoError(t, err)
	return d
}

var principals = []identity.Principal{identity.Owner, identity.OwningGroup, identity.Everyone, identity.UserPrincipal(1), identity.UserPrincipal(2),
	identity.GroupPrincipal(1), identity.GroupPrincipal(2), identity.GroupPrincipal(3)}

func drawEntries(r *rapid.T, label string) (out []acl.Entry) {
	for range rapid.IntRange(0, 5).Draw(r, label) {
		e := acl.Entry{Deny: rapid.Bool().Draw(r, "deny"), Who: rapid.SampledFrom(principals).Draw(r, "who"),
			Applies: acl.Applies(rapid.IntRange(1, 7).Draw(r, "applies")), Note: rapid.SampledFrom([]string{"", "until the mirror is back"}).Draw(r, "note")}
		if e.Applies&(acl.Files|acl.Subfolders) != 0 && rapid.Bool().Draw(r, "direct") {
			e.Applies |= acl.DirectOnly
		}
		if rapid.Bool().Draw(r, "by level") {
			e.Level = rapid.SampledFrom(acl.Levels).Draw(r, "level")
		} else {
			e.Mask = acl.Mask(rapid.Uint32Range(1, 1<<21).Draw(r, "mask"))&acl.All | acl.ReadData
		}
		e.Expires = rapid.SampledFrom([]time.Time{{}, {}, now.Add(time.Hour), now.Add(-time.Hour)}).Draw(r, "ends")
		out = append(out, e)
	}
	return out
}

type drawn struct {
	tree  *acl.Tree
	path  string
	file  bool
	rule  acl.Rule
	borne []acl.Borne
}

func drawTree(r *rapid.T, d *identity.Directory) drawn {
	at := rapid.SampledFrom([]string{"", "a", "a/b", "a/b/c"}).Draw(r, "at")
	var rules []acl.Rule
	for _, path := range []string{"", "a", "a/b"} {
		if rapid.Bool().Draw(r, "a rule on "+path) {
			rules = append(rules, acl.Rule{Path: path, Cut: path != "" && rapid.Bool().Draw(r, "cut"), Entries: drawEntries(r, "entries on "+path)})
		}
	}
	out := drawn{path: at, file: at != "" && rapid.Bool().Draw(r, "a file")}
	var err error
	out.tree, err = acl.NewTree(d.Indexes(), rules)
	require.NoError(r, err)
	if rule := out.tree.Rule(at); rule != nil {
		out.rule = *rule
	}
	out.borne = out.tree.Bearing(at, out.file)
	return out
}

// What a desktop computes from the list it is shown is what is decided here, for everybody, whoever owns the object.
func TestDesktopsComeToTheSame(t *testing.T) {
	d := people(t)
	tokens := map[int32][]SID{0: {domain.In(1001), domain.In(2001), domain.In(2002), Everyone}, 1: {domain.In(1002), Everyone}}
	rapid.Check(t, func(r *rapid.T) {
		x := drawTree(r, d)
		own := acl.Ownership{User: rapid.SampledFrom([]int32{0, 1, identity.None}).Draw(r, "owner"), Group: rapid.SampledFrom([]int32{0, 1, 2}).Draw(r, "group")}
		owner, group := UnixUser(4711), domain.In(2001+uint32(own.Group))
		if own.User != identity.None {
			owner = domain.In(1001 + uint32(own.User))
		}
		shown := Descriptor{Control: DACLPresent, Owner: owner, Group: group, DACL: OfEntries(x.borne, !x.file, group, now, names{})}
		packed, err := shown.Append(nil)
		require.NoError(r, err)
		var d2 Descriptor
		require.NoError(r, d2.Parse(packed))
		for user, token := range tokens {
			want := x.tree.List(x.path, x.file).Evaluate(d.Person(user), own, now, acl.All, nil)
			require.Equal(r, want, d2.Check(token, acl.All), "user %d\n%+v\n%+v", user, x.borne, d2.DACL)
		}
	})
}

// What a desktop was shown and writes back as it is changes nothing: not an end, not a note, not what has ended.
func TestWrittenBackAsItWas(t *testing.T) {
	d := people(t)
	rapid.Check(t, func(r *rapid.T) {
		x := drawTree(r, d)
		group := domain.In(2001)
		shown := Descriptor{Control: DACLPresent, Owner: domain.In(1001), Group: group, DACL: OfEntries(x.borne, !x.file, group, now, names{})}
		if x.rule.Cut {
			shown.Control |= DACLProtected
		}
		packed, err := shown.Append(nil)
		require.NoError(r, err)
		var back Descriptor
		require.NoError(r, back.Parse(packed))
		cut, entries, err := back.Entries(x.rule.Entries, !x.file, group, now, names{})
		require.NoError(r, err)
		require.Equal(r, x.rule.Cut, cut)
		// The same entries, what is not shown first, what denies before what allows.
		require.ElementsMatch(r, x.rule.Entries, entries)
	})
}

func TestWhatADesktopWrites(t *testing.T) {
	me, group := domain.In(1001), domain.In(2001)
	list := func(control uint16, aces ...Ace) *Descriptor {
		return &Descriptor{Control: DACLPresent | control, DACL: append([]Ace{}, aces...)}
	}
	full := uint32(acl.All)
	for name, c := range map[string]struct {
		d    *Descriptor
		was  []acl.Entry
		cut  bool
		want []acl.Entry
		dir  bool
	}{
		"a level is known by its rights": {list(0, Ace{Allow, ObjectInherit | ContainerInherit, uint32(acl.Change.Mask(true)), me}), nil, false,
			[]acl.Entry{{Who: identity.UserPrincipal(1), Level: acl.Change, Applies: acl.Everywhere}}, true},
		"generic rights":        {list(0, Ace{Allow, 0, 0x10000000, me}), nil, false, []acl.Entry{{Who: identity.UserPrincipal(1), Level: acl.Control, Applies: acl.Here}}, false},
		"inheritance is cut":    {list(DACLProtected, Ace{Allow, Inherited, full, me}), nil, true, []acl.Entry{{Who: identity.UserPrincipal(1), Level: acl.Control, Applies: acl.Here}}, true},
		"inherited stays above": {list(0, Ace{Allow, Inherited, full, me}), nil, false, nil, true},
		"nothing left":          {list(0), []acl.Entry{{Who: identity.Everyone, Level: acl.Read, Applies: acl.Here}}, false, nil, true},
		"whoever makes it":      {list(0, Ace{Allow, ObjectInherit | InheritOnly, full, CreatorOwner}), nil, false, []acl.Entry{{Who: identity.Owner, Level: acl.Control, Applies: acl.Files}}, true},
		"nothing in nothing":    {list(0, Ace{Allow, 0, full, CreatorOwner}, Ace{Allow, 0, 0, me}), nil, false, nil, true},
		"an end stays": {list(0, Ace{Deny, 0, uint32(acl.Read.DenyMask(true)), me}), []acl.Entry{{Deny: true, Who: identity.UserPrincipal(1), Level: acl.Read, Applies: acl.Here, Expires: now.Add(time.Hour), Note: "n"}}, false,
			[]acl.Entry{{Deny: true, Who: identity.UserPrincipal(1), Level: acl.Read, Applies: acl.Here, Expires: now.Add(time.Hour), Note: "n"}}, true},
	} {
		cut, got, err := c.d.Entries(c.was, c.dir, group, now, names{})
		require.NoError(t, err, name)
		require.Equal(t, c.cut, cut, name)
		require.Equal(t, c.want, got, name)
	}
	for name, d := range map[string]*Descriptor{
		"no list":              {Control: DACLPresent},
		"not sent":             {},
		"auditing rights":      list(0, Ace{Allow, 0, 0x01000000, me}),
		"flags of auditing":    list(0, Ace{Allow, 0x40, full, me}),
		"a stranger":           list(0, Ace{Allow, 0, full, "S-1-5-32-544"}),
		"allows, then denies":  list(0, Ace{Allow, 0, full, Everyone}, Ace{Deny, 0, full, me}),
		"somebody of theirs":   list(0, Ace{Allow, 0, full, "S-1-5-21-9-9-9-1001"}),
		"a number that is not": list(0, Ace{Allow, 0, full, domain.In(1999)}),
	} {
		_, _, err := d.Entries(nil, true, group, now, names{})
		var refused Refusal
		require.ErrorAs(t, err, &refused, name)
	}
	_, _, err := list(0, Ace{Allow, ObjectInherit, full, me}).Entries(nil, false, group, now, names{})
	require.ErrorContains(t, err, "nothing inherits from a file")
	// Two users are apart: the order of what is about them does not count.
	_, _, err = list(0, Ace{Allow, 0, full, me}, Ace{Deny, 0, full, domain.In(1002)}).Entries(nil, true, group, now, names{})
	require.NoError(t, err)
}

// Offsets that lie, lists longer than there is, and identifiers that end early are refused and nothing is read beyond the end.
func TestLyingDescriptors(t *testing.T) {
	d := Descriptor{Control: DACLPresent, Owner: domain.In(1001), Group: domain.In(2001), DACL: []Ace{{Allow, 0, 1, Everyone}, {Deny, ContainerInherit, 2, domain.In(1002)}}}
	good, err := d.Append(nil)
	require.NoError(t, err)
	var back Descriptor
	require.NoError(t, back.Parse(good))
	d.Control |= SelfRelative
	require.Equal(t, d, back)
	for n := range good {
		short := good[:n:n]
		_ = back.Parse(short)
		if n < headSize {
			require.ErrorIs(t, back.Parse(short), ErrMalformed, "%d", n)
		}
	}
	for _, at := range []int{4, 8, 16} {
		for _, lie := range []uint32{1, 19, uint32(len(good)), uint32(len(good)) - 1, 1 << 31, ^uint32(0)} {
			bad := bytes.Clone(good)
			le.PutUint32(bad[at:], lie)
			require.Error(t, back.Parse(bad), "%d at %d", lie, at)
		}
	}
	list := int(le.Uint32(good[16:]))
	for _, at := range []int{list + 2, list + 4, list + 8 + 2} {
		bad := bytes.Clone(good)
		le.PutUint16(bad[at:], 0xfff0)
		require.Error(t, back.Parse(bad), "at %d", at-list)
	}
	bad := bytes.Clone(good)
	bad[list+8] = 5 // about a kind of objects
	require.ErrorContains(t, back.Parse(bad), "type 5")
	many := Descriptor{Control: DACLPresent, DACL: make([]Ace, 3000)}
	for i := range many.DACL {
		many.DACL[i] = Ace{Who: domain.In(uint32(i))}
	}
	_, err = many.Append(nil)
	require.ErrorContains(t, err, "3000 entries")
}

func TestSIDs(t *testing.T) {
	for _, text := range []SID{"S-1-0", "S-1-5-21-4294967295-0-1", "S-1-281474976710655-1", Everyone} {
		b, err := text.Append(nil)
		require.NoError(t, err)
		got, n, err := ParseSID(append(b, 1, 2, 3))
		require.NoError(t, err)
		require.Equal(t, len(b), n)
		require.Equal(t, text, got)
	}
	for _, text := range []SID{"", "S-1", "S-2-5-1", "S-1-5-4294967296", "S-1-x", "S-1-5--1", "S-1-5-1-2-3-4-5-6-7-8-9-10-11-12-13-14-15-16"} {
		_, err := text.Append(nil)
		require.Error(t, err, text)
	}
	n, group, ok := UnixGroup(70000).Unix()
	require.True(t, ok && group && n == 70000)
	_, _, ok = domain.Unix()
	require.False(t, ok)
}

func FuzzDescriptor(f *testing.F) {
	d := Descriptor{Control: DACLPresent, Owner: domain.In(1001), Group: domain.In(2001), DACL: []Ace{{Allow, 0, 1, Everyone}, {Deny, ContainerInherit, 2, domain.In(1002)}}}
	good, _ := d.Append(nil)
	f.Add(good)
	f.Fuzz(func(t *testing.T, b []byte) {
		var d, again Descriptor
		if d.Parse(b) != nil {
			return
		}
		_, _, _ = d.Entries(nil, true, "", now, names{})
		made, err := d.Append(nil)
		if err != nil {
			return
		}
		require.NoError(t, again.Parse(made))
		require.Equal(t, d, again)
	})
}
