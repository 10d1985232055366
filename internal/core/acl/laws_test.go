package acl

import (
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/core/identity"
)

// Made-up trees over few names, so that what is drawn meets.

var noon = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

func crew(t require.TestingT) *identity.Directory {
	dir, err := identity.Compile(
		[]identity.User{{ID: 1, Name: "wren", UID: 1}, {ID: 2, Name: "piran", UID: 2}, {ID: 3, Name: "orla", UID: 3}},
		[]identity.Group{{ID: 1, Name: "staff", GID: 11, Members: []identity.Principal{identity.UserPrincipal(1), identity.UserPrincipal(2)}},
			{ID: 2, Name: "observers", GID: 12, Members: []identity.Principal{identity.UserPrincipal(2), identity.UserPrincipal(3)}}})
	require.NoError(t, err)
	return dir
}

var principals = []identity.Principal{identity.UserPrincipal(1), identity.UserPrincipal(2), identity.UserPrincipal(9), identity.GroupPrincipal(1), identity.GroupPrincipal(2),
	{Kind: identity.KindEveryone}, {Kind: identity.KindOwner}, {Kind: identity.KindOwningGroup}}

func drawPath(t *rapid.T, most int, label string) string {
	return strings.Join(rapid.SliceOfN(rapid.SampledFrom([]string{"a", "b", "ab"}), 0, most).Draw(t, label), "/")
}

func drawEntry(t *rapid.T) Entry {
	e := Entry{Deny: rapid.IntRange(0, 2).Draw(t, "deny") == 0, Who: rapid.SampledFrom(principals).Draw(t, "who"), Applies: Applies(rapid.IntRange(1, 15).Draw(t, "applies"))}
	if rapid.Bool().Draw(t, "by level") {
		e.Level = rapid.SampledFrom(Levels).Draw(t, "level")
	} else {
		e.Mask = Mask(rapid.Uint32().Draw(t, "mask")) & All
	}
	if rapid.IntRange(0, 3).Draw(t, "ends") == 0 {
		e.Expires = noon.Add(time.Duration(rapid.IntRange(-2, 2).Draw(t, "when")) * time.Hour)
	}
	return e
}

func drawRules(t *rapid.T) (rules []Rule) {
	for _, path := range rapid.SliceOfNDistinct(rapid.Custom(func(t *rapid.T) string { return drawPath(t, 3, "path") }), 0, 5, rapid.ID[string]).Draw(t, "paths") {
		rules = append(rules, Rule{Path: path, Cut: path != "" && rapid.IntRange(0, 3).Draw(t, "cut") == 0,
			Entries: rapid.SliceOfN(rapid.Custom(drawEntry), 0, 4).Draw(t, "entries")})
	}
	return rules
}

// asked is who asks about what, and when.
type asked struct {
	who  identity.Person
	own  Ownership
	now  time.Time
	user identity.ID
	ours [2]bool // it is theirs, or their group's
}

func drawAsked(t *rapid.T, dir *identity.Directory) asked {
	user := rapid.IntRange(1, 3).Draw(t, "user")
	owner, group := rapid.IntRange(1, 3).Draw(t, "owner"), rapid.IntRange(1, 2).Draw(t, "group")
	x := dir.Indexes()
	return asked{who: dir.Person(x.User(identity.ID(user))), own: Ownership{x.User(identity.ID(owner)), x.Group(identity.ID(group))},
		now: noon.Add(time.Duration(rapid.IntRange(-3, 3).Draw(t, "now")) * 30 * time.Minute), user: identity.ID(user),
		ours: [2]bool{owner == user, group == 1 && user <= 2 || group == 2 && user >= 2}}
}

func (a asked) isMeantBy(p identity.Principal) bool {
	switch p.Kind {
	case identity.KindUser:
		return p.ID == a.user
	case identity.KindGroup:
		return p.ID == 1 && a.user <= 2 || p.ID == 2 && a.user >= 2
	case identity.KindOwner:
		return a.ours[0]
	case identity.KindOwningGroup:
		return a.ours[1]
	}
	return p.Kind == identity.KindEveryone
}

// bySpec decides as it is written down: from the object up, on each path first what denies and then what allows, until a path that is cut; each
// right by the first entry that is about it (RFC 8881 section 6.2.1).
func bySpec(rules []Rule, path string, file bool, a asked, right Mask) bool {
	steps := strings.Split(path, "/")
	if path == "" {
		steps = nil
	}
	for up := 0; up <= len(steps); up++ {
		at := strings.Join(steps[:len(steps)-up], "/")
		i := slices.IndexFunc(rules, func(r Rule) bool { return r.Path == at })
		if i < 0 {
			continue
		}
		for _, deny := range []bool{true, false} {
			for _, e := range rules[i].Entries {
				reaches := up == 0 && e.Applies&Here != 0 || up > 0 && (file && e.Applies&Files != 0 || !file && e.Applies&Subfolders != 0) && (up == 1 || e.Applies&DirectOnly == 0)
				if e.Deny == deny && reaches && a.isMeantBy(e.Who) && (e.Expires.IsZero() || a.now.Before(e.Expires)) && e.Bits(!file)&right != 0 {
					return !deny
				}
			}
		}
		if rules[i].Cut {
			return false
		}
	}
	return false
}

// eachRight visits the rights one by one.
func eachRight(visit func(Mask)) {
	for bit := Mask(1); bit != 0 && bit <= All; bit <<= 1 {
		if All&bit != 0 {
			visit(bit)
		}
	}
}

func TestTheTreeDecidesAsIsWrittenDown(t *testing.T) {
	dir := crew(t)
	rapid.Check(t, func(t *rapid.T) {
		rules := drawRules(t)
		tree, err := NewTree(dir.Indexes(), rules)
		require.NoError(t, err)
		path, file := drawPath(t, 5, "at"), false
		if path != "" {
			file = rapid.Bool().Draw(t, "file")
		}
		a := drawAsked(t, dir)
		list := tree.List(path, file)
		all := list.Evaluate(a.who, a.own, a.now, All, nil)
		var decided Mask
		list.Evaluate(a.who, a.own, a.now, All, func(by *Ace, bits Mask) {
			require.Zero(t, decided&bits, "a right is decided once")
			require.Equal(t, by.Entry.Deny, all&bits == 0)
			require.True(t, a.isMeantBy(by.Entry.Who) && !by.Entry.Ended(a.now))
			decided |= bits
		})
		require.Zero(t, all&^decided, "what nobody decided is refused")
		eachRight(func(right Mask) {
			require.Equal(t, bySpec(rules, path, file, a, right), all&right != 0, "%v on %q", right.Names(!file), path)
			require.Equal(t, all&right, list.Evaluate(a.who, a.own, a.now, right, nil), "asked for alone")
		})
		if !list.NeedsOwnership() {
			require.Equal(t, all, list.Evaluate(a.who, Ownership{identity.None, identity.None}, a.now, All, nil))
		}
		if until := list.HoldsUntil(a.now); !until.IsZero() {
			require.Equal(t, all, list.Evaluate(a.who, a.own, until.Add(-1), All, nil), "it holds until then")
		} else {
			require.Equal(t, all, list.Evaluate(a.who, a.own, a.now.AddDate(50, 0, 0), All, nil), "it holds for ever")
		}
		// On the way there each directory has the list that it has when it is asked about itself.
		w := tree.Start(path, file)
		for w.Next() {
			require.Equal(t, tree.List(w.At, w.Last && file), w.List)
			require.Equal(t, w.At == path, w.Last)
		}
	})
}

// Two directories of which it is said that the same bears on what is in them: it does, on whatever has no rules of its own.
func TestTheSameWithin(t *testing.T) {
	dir := crew(t)
	rapid.Check(t, func(t *rapid.T) {
		rules := drawRules(t)
		tree, err := NewTree(dir.Indexes(), rules)
		require.NoError(t, err)
		one, other := drawPath(t, 4, "one"), drawPath(t, 4, "other")
		if !tree.SameWithin(one, other) {
			require.NotEqual(t, one, other)
			return
		}
		below := strings.Repeat("/new", rapid.IntRange(1, 3).Draw(t, "below"))
		file := rapid.Bool().Draw(t, "file")
		at := func(in string) string { return strings.TrimPrefix(in+below, "/") }
		require.Equal(t, tree.List(at(one), file), tree.List(at(other), file))
	})
}

// What is cut off with a copy of what it inherits: nobody gets more by it, here or below; and nobody gets less either, but where an entry that
// denies came only after one that allows. Written beside each other, what denies counts first.
func TestACutWithACopyGivesNobodyMore(t *testing.T) {
	dir := crew(t)
	rapid.Check(t, func(t *rapid.T) {
		rules := drawRules(t)
		tree, err := NewTree(dir.Indexes(), rules)
		require.NoError(t, err)
		at := drawPath(t, 3, "cut at")
		if at == "" || tree.Rule(at) != nil && tree.Rule(at).Cut {
			return
		}
		copied := slices.Clone(rules)
		i := slices.IndexFunc(copied, func(r Rule) bool { return r.Path == at })
		if i < 0 {
			i, copied = len(copied), append(copied, Rule{Path: at})
		}
		copied[i].Cut = true
		copied[i].Entries = append(slices.Clone(copied[i].Entries), tree.InheritedEntries(at, false)...)
		after, err := NewTree(dir.Indexes(), copied)
		require.NoError(t, err)
		a := drawAsked(t, dir)
		path := at
		if below := drawPath(t, 3, "below"); below != "" {
			path += "/" + below
		}
		file := path != at && rapid.Bool().Draw(t, "file")
		list := tree.List(path, file)
		was, is := list.Evaluate(a.who, a.own, a.now, All, nil), after.List(path, file).Evaluate(a.who, a.own, a.now, All, nil)
		require.Zero(t, is&^was, "more: %v", (is &^ was).Names(!file))
		late := slices.ContainsFunc(list.Aces, func(deny Ace) bool {
			return deny.deny && slices.ContainsFunc(list.Aces, func(allow Ace) bool { return !allow.deny && len(allow.From) > len(deny.From) })
		})
		if !late {
			require.Equal(t, was, is)
		}
	})
}

// What is borne is what is written there and what is inherited, each once, and what is inherited says the same as what it comes from.
func TestWhatIsBorne(t *testing.T) {
	dir := crew(t)
	rapid.Check(t, func(t *rapid.T) {
		rules := drawRules(t)
		tree, err := NewTree(dir.Indexes(), rules)
		require.NoError(t, err)
		path := drawPath(t, 4, "at")
		file := path != "" && rapid.Bool().Draw(t, "file")
		var own, inherited []Entry
		for _, b := range tree.Bearing(path, file) {
			if b.Inherited {
				inherited = append(inherited, b.Entry)
			} else {
				require.Empty(t, inherited, "what is written there comes first")
				own = append(own, b.Entry)
			}
		}
		if r := tree.Rule(path); r != nil {
			require.ElementsMatch(t, r.Entries, own)
		} else {
			require.Empty(t, own)
		}
		require.ElementsMatch(t, tree.InheritedEntries(path, file), inherited)
		// Those of them that reach the object itself are its list, in its order.
		var here []Entry
		for _, b := range tree.Bearing(path, file) {
			if b.Applies&Here != 0 {
				b.Applies = 0
				here = append(here, b.Entry)
			}
		}
		var list []Entry
		for _, ace := range tree.List(path, file).Aces {
			e := *ace.Entry
			e.Applies = 0
			list = append(list, e)
		}
		require.Equal(t, list, here)
	})
}

// Where the nearest rules are is found whether or not anything is there.
func TestTheNearestRules(t *testing.T) {
	dir := crew(t)
	rapid.Check(t, func(t *rapid.T) {
		rules := drawRules(t)
		tree, err := NewTree(dir.Indexes(), rules)
		require.NoError(t, err)
		path := drawPath(t, 5, "at")
		deepest, below := "", false
		for _, r := range rules {
			if r.Path == path || r.Path != "" && strings.HasPrefix(path+"/", r.Path+"/") {
				deepest = max(deepest, r.Path)
			}
			below = below || r.Path == path || path == "" || strings.HasPrefix(r.Path, path+"/")
		}
		if path == "" {
			deepest = ""
		}
		require.Equal(t, deepest, tree.DeepestRule(path))
		require.Equal(t, below, tree.HasRulesAt(path))
	})
}

// A list without some of its entries is what it would be had they never been written.
func TestWithoutIsAsIfNeverWritten(t *testing.T) {
	dir := crew(t)
	rapid.Check(t, func(t *rapid.T) {
		rules := drawRules(t)
		tree, err := NewTree(dir.Indexes(), rules)
		require.NoError(t, err)
		path, a := drawPath(t, 4, "at"), drawAsked(t, dir)
		list := tree.List(path, false)
		denies := list.Denies(a.who, a.own, a.now, All)
		rest := list.Without(denies)
		require.Empty(t, rest.Denies(a.who, a.own, a.now, All))
		was, is := list.Evaluate(a.who, a.own, a.now, All, nil), rest.Evaluate(a.who, a.own, a.now, All, nil)
		require.Zero(t, was&^is, "nobody has less where nothing denies")
		eachRight(func(right Mask) {
			for _, ace := range rest.Aces {
				if ace.Mask&right != 0 && !ace.deny && a.isMeantBy(ace.Entry.Who) && !ace.Entry.Ended(a.now) {
					require.NotZero(t, is&right)
				}
			}
		})
	})
}

// An entry's grant is read back from its text, whatever it grants; what is no right is named.
func TestGrantsRoundTrip(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		e := drawEntry(t)
		if e.Level == NoLevel && e.Mask == 0 {
			return
		}
		level, mask, err := ParseGrant(e.Grant())
		require.NoError(t, err)
		require.Equal(t, e.Level, level)
		require.Equal(t, e.Mask, mask)
	})
	for _, bad := range []string{"", ",", "read_data,", "read,change", "read_data,wirte_data", "full"} {
		_, _, err := ParseGrant(bad)
		require.ErrorContains(t, err, "neither one of the levels", "%q", bad)
	}
}
