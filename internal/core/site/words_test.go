package site_test

import (
	"encoding/json"
	"maps"
	"reflect"
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

// leaves visits every value of a document, by the names on the way to it, and sets what it is given back.
func leaves(at string, v any, visit func(at string, v any) any) any {
	switch v := v.(type) {
	case map[string]any:
		for _, name := range slices.Sorted(maps.Keys(v)) {
			v[name] = leaves(strings.TrimPrefix(at+"."+name, "."), v[name], visit)
		}
		return v
	case []any:
		for i := range v {
			v[i] = leaves(at, v[i], visit)
		}
		return v
	}
	return visit(at, v)
}

// other is another value of its kind.
func other(v any) any {
	switch v := v.(type) {
	case bool:
		return !v
	case float64:
		return v + 1
	}
	text := v.(string)
	if at, err := time.Parse(time.RFC3339, text); err == nil {
		return at.Add(time.Hour)
	}
	return text + "x"
}

// unsaid are what records hold and do not say: their own numbers, and what a line of a review says in words.
var unsaid = []string{"review lines.path", "review lines.entry", "review lines.group", "review lines.member", "review lines.people",
	"limit kind", "limit user", "limit group", "limit volumeId", "limit folderId", "limit path"} // whose a limit is has a test of its own

// No change goes untold: whatever is altered in whichever record shows.
func TestEveryChangeIsTold(t *testing.T) {
	var none site.Names
	rapid.Check(t, func(t *rapid.T) {
		var r site.Records
		id := int64(0)
		fill(t, reflect.ValueOf(&r).Elem(), &id)
		fill(t, reflect.ValueOf(&r.Folders[0].Rules).Elem(), &id)
		var lists [][]acl.Entry
		for i := range r.Shares {
			lists = append(lists, r.Shares[i].Entries)
		}
		for i := range r.Folders[0].Rules {
			lists = append(lists, r.Folders[0].Rules[i].Entries)
		}
		for _, entries := range lists {
			for i := range entries {
				entries[i].Level, entries[i].Who.Kind = acl.NoLevel, identity.KindUser // so that what goes with others counts
			}
		}
		for i := range r.Groups {
			for j := range r.Groups[i].Members {
				r.Groups[i].Members[j].Kind = identity.KindUser
			}
			for j := range r.Groups[i].Owners {
				r.Groups[i].Owners[j].Kind = identity.KindUser
			}
		}
		said := make(map[string]bool)
		r.Each(func(key site.Key, record any) {
			raw, err := json.Marshal(record)
			require.NoError(t, err)
			same, err := site.Tell(key, raw, raw, &none, &none)
			require.NoError(t, err)
			require.Empty(t, same.Changed)
			count := 0
			decode := func() (doc any) {
				require.NoError(t, json.Unmarshal(raw, &doc))
				return doc
			}
			leaves("", decode(), func(string, any) any { count++; return nil })
			for i := range count {
				n, what := 0, ""
				doc := leaves("", decode(), func(at string, v any) any {
					if n++; n-1 != i {
						return v
					}
					what = at
					return other(v)
				})
				if what == "id" || slices.Contains(unsaid, key.Kind+" "+what) {
					continue
				}
				after, err := json.Marshal(doc)
				require.NoError(t, err)
				told, err := site.Tell(key, raw, after, &none, &none)
				require.NoError(t, err, "%s: %s", key.Kind, what)
				require.Equal(t, site.ActChanged, told.Act)
				require.NotEmpty(t, told.Changed, "%s: %s is altered, and nothing is told\n%s\n%s", key.Kind, what, raw, after)
				said[key.Kind] = true
			}
			for _, act := range []site.Act{site.ActAdded, site.ActRemoved} {
				before, after := json.RawMessage(nil), json.RawMessage(raw)
				if act == site.ActRemoved {
					before, after = after, before
				}
				told, err := site.Tell(key, before, after, &none, &none)
				require.NoError(t, err)
				require.Equal(t, act, told.Act)
				require.NotEmpty(t, told.Changed)
			}
		})
		require.Len(t, said, len(site.Kinds), "of each kind something is said")
	})
}

// TestWhatIsTold goes by what people read.
func TestWhatIsTold(t *testing.T) {
	was := site.Records{
		Users:   []identity.User{{ID: 1, Name: "piran"}, {ID: 2, Name: "isolde vane"}},
		Groups:  []identity.Group{{ID: 7, Name: "lab"}},
		Volumes: []site.Volume{{ID: 1, Name: "summit"}},
		Folders: []site.Folder{{ID: 3, Name: "nightlog"}, {ID: 4, Name: "plates"}},
	}
	is := was
	is.Users = []identity.User{{ID: 1, Name: "piran-2"}, {ID: 2, Name: "isolde vane"}}
	hard, files := int64(2_500_000), int64(300)
	end := time.Date(2027, 1, 1, 0, 0, 0, 0, time.UTC)
	entry := acl.Entry{ID: 12, Who: identity.UserPrincipal(2), Level: acl.Read, Applies: acl.Everywhere}
	later := entry
	later.Deny, later.Applies, later.Expires, later.Note, later.Level, later.Mask = true, acl.Files|acl.DirectOnly, end, "it's over", acl.NoLevel, acl.Read.Mask(true)
	rule := site.ClientRule{ID: 5, From: "192.0.2.0/24", Squash: site.SquashRoot, AnonUID: 1, AnonGID: 2, Security: []site.Flavor{site.FlavorSys}, Unknown: site.UnknownRefused}
	set := site.ClientRule{ID: 6, From: "@dome hosts"}
	for _, c := range []struct {
		name          string
		kind          string
		before, after any
		called        string
		want          []site.Changed
	}{
		{"a name is that of its side", "folder", site.Folder{ID: 3, Name: "nightlog", Owner: 1}, site.Folder{ID: 3, Name: "nightlog", Owner: 1, LogAccess: true}, "nightlog",
			[]site.Changed{{"owner", "piran", "piran-2"}, {"log-access", "no", "yes"}}},
		{"an entry", "rule", site.RuleRecord{FolderID: 3, Rule: acl.Rule{Path: "2026", Entries: []acl.Entry{entry}}},
			site.RuleRecord{FolderID: 3, Rule: acl.Rule{Path: "2026", Cut: true, Entries: []acl.Entry{later}}}, "nightlog/2026",
			[]site.Changed{{"inheritance", "inherits what is above", "inherits nothing"},
				{"entry 12", "allow 'isolde vane' read", "deny 'isolde vane' " + later.Grant() + " --applies files,direct --ends 2027-01-01T00:00:00Z --note 'it'\\''s over'"}}},
		{"one member for another", "group", identity.Group{ID: 7, Name: "lab", Members: []identity.Principal{identity.UserPrincipal(2)}},
			identity.Group{ID: 7, Name: "lab", Members: []identity.Principal{identity.GroupPrincipal(9)}}, "lab", []site.Changed{{"member", "isolde vane", "group #9"}}},
		{"a member more", "group", identity.Group{ID: 7, Name: "lab", Members: []identity.Principal{identity.UserPrincipal(2)}},
			identity.Group{ID: 7, Name: "lab", Members: []identity.Principal{identity.UserPrincipal(1), identity.UserPrincipal(2)}}, "lab", []site.Changed{{"member", "", "piran-2"}}},
		{"all members", "group", identity.Group{ID: 7, Name: "lab", Members: []identity.Principal{identity.UserPrincipal(1), identity.UserPrincipal(2)}},
			identity.Group{ID: 7, Name: "lab"}, "lab", []site.Changed{{"member", "piran", ""}, {"member", "isolde vane", ""}}},
		{"the order of rules", "export", site.Export{Path: "/n", FolderID: 3, Below: "2026", Rules: []site.ClientRule{rule, set}},
			site.Export{Path: "/n", FolderID: 3, Below: "2026", Rules: []site.ClientRule{set, rule}}, "/n", []site.Changed{{"order of the rules", "5, 6", "6, 5"}}},
		{"a rule", "host set", site.HostSet{Name: "dome"}, site.HostSet{Name: "dome", Rules: []site.ClientRule{rule}}, "dome",
			[]site.Changed{{"rule 5", "", "192.0.2.0/24 --ro --squash root --anon-uid 1 --anon-gid 2 --sec sys --unknown refused"}}},
		{"a host set in an export", "export", nil, site.Export{Path: "/n", FolderID: 4, Rules: []site.ClientRule{set}}, "/n",
			[]site.Changed{{"at", "", "/n"}, {"folder", "", "plates"}, {"sync", "", "no"}, {"client-groups", "", "no"}, {"rule 6", "", "'@dome hosts'"}}},
		{"a limit of a user", "limit", limit.Limit{Kind: limit.OfUser, User: 2, Volume: 1}, limit.Limit{Kind: limit.OfUser, User: 2, Volume: 1, Bounds: limit.Bounds{HardBytes: &hard, SoftFiles: &files, GraceSeconds: 5400}},
			"user isolde vane --volume summit", []site.Changed{{"hard", "none", "2500kB"}, {"soft-files", "none", "300"}, {"grace", "0", "90m"}}},
		{"a default", "limit", limit.Limit{Kind: limit.Default, Folder: 4}, limit.Limit{Kind: limit.Default, Group: 7, Folder: 3}, "default lab --folder nightlog",
			[]site.Changed{{"whose", "default --folder plates", "default lab --folder nightlog"}}},
		{"a limit of a tree", "limit", limit.Limit{Kind: limit.OfFolder, Folder: 4}, limit.Limit{Kind: limit.OfFolder, Folder: 4, Path: "a b"}, "folder plates/a b",
			[]site.Changed{{"whose", "folder plates", "folder plates/a b"}}},
		{"a limit of a group", "limit", limit.Limit{Kind: limit.OfGroup, Group: 7}, nil, "group lab", []site.Changed{{"whose", "group lab", ""}, {"soft", "none", ""}, {"hard", "none", ""},
			{"soft-files", "none", ""}, {"hard-files", "none", ""}, {"grace", "0", ""}}},
		{"what a later version knows", "thing to come", map[string]int{"a": 1}, map[string]int{"a": 2}, "", []site.Changed{{"record", `{"a":1}`, `{"a":2}`}}},
		{"everyone", "share", site.Share{Name: "p", FolderID: 4, Entries: []acl.Entry{{ID: 1, Who: identity.Principal{Kind: identity.KindEveryone}, Level: acl.Read, Applies: acl.Everywhere}}},
			site.Share{Name: "p", FolderID: 4}, "p", []site.Changed{{"entry 1", "allow everyone@ read", ""}}},
	} {
		t.Run(c.name, func(t *testing.T) {
			var raw [2]json.RawMessage
			for i, v := range []any{c.before, c.after} {
				if v != nil {
					var err error
					raw[i], err = json.Marshal(v)
					require.NoError(t, err)
				}
			}
			told, err := site.Tell(site.Key{Kind: c.kind, ID: 1}, raw[0], raw[1], was.Names(), is.Names())
			require.NoError(t, err)
			require.Equal(t, c.called, told.Name)
			require.Equal(t, c.want, told.Changed)
		})
	}
	_, err := site.Tell(site.Key{Kind: "folder", ID: 3}, nil, json.RawMessage(`[`), was.Names(), is.Names())
	require.ErrorContains(t, err, "folder 3")
}
