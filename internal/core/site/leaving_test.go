package site_test

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
)

// names says whether anything in the records names a user, besides the record itself.
func names(r site.Records, id identity.ID, uid uint32, name string) (out []string) {
	who := identity.UserPrincipal(id)
	in := func(entries []acl.Entry, where string) {
		for _, e := range entries {
			if e.Who == who {
				out = append(out, where)
			}
		}
	}
	for _, f := range r.Folders {
		if f.Owner == id {
			out = append(out, "owner of "+f.Name)
		}
		for _, rule := range f.Rules {
			in(rule.Entries, f.Name+"/"+rule.Path)
		}
	}
	for _, s := range r.Shares {
		in(s.Entries, "share "+s.Name)
	}
	for _, g := range r.Groups {
		if slices.Contains(g.Members, who) || slices.Contains(g.Owners, who) {
			out = append(out, "group "+g.Name)
		}
	}
	for _, e := range r.Exports {
		for _, rule := range e.Rules {
			if rule.AnonUID == uid && rule.Squash != "" {
				out = append(out, "export "+e.Path)
			}
		}
	}
	for _, t := range r.Tokens {
		if t.User == id {
			out = append(out, "token "+t.Name)
		}
	}
	if r.Services.SMBGuest == id {
		out = append(out, "guests")
	}
	for _, v := range r.Reviews {
		if v.Closed.IsZero() && slices.Contains(v.Reviewers, name) {
			out = append(out, "review "+v.Name)
		}
	}
	return out
}

// Whatever names somebody who leaves, nothing does after; what was theirs is their successor's, once; nobody else's entries are altered; and what is said
// of it is as much as there was.
func TestWhoLeavesIsNamedNoMore(t *testing.T) {
	at := time.Date(2031, 5, 1, 0, 0, 0, 0, time.UTC)
	rapid.Check(t, func(t *rapid.T) {
		d := site.NewDraft(site.Records{}, nil)
		var ids []identity.ID
		for i, name := range []string{"orla", "piran", "wren"} {
			role := rapid.SampledFrom([]identity.Role{identity.NoRole, identity.Auditor}).Draw(t, "role")
			ids = append(ids, identity.ID(site.Put(d, identity.User{Name: name, UID: uint32(2000 + i), Role: role, SMB: true})))
		}
		orla, piran, wren := ids[0], ids[1], ids[2]
		who := rapid.SampledFrom([]identity.ID{orla, piran, wren})
		someone := func() identity.ID { return who.Draw(t, "who") }
		volume := site.Put(d, site.Volume{Name: "summit", Path: "/srv/summit"})
		level := rapid.SampledFrom([]acl.Level{acl.Read, acl.Change})
		entries := func() (out []acl.Entry) {
			for range rapid.IntRange(0, 4).Draw(t, "entries") {
				out = append(out, acl.Entry{Who: identity.UserPrincipal(someone()), Level: level.Draw(t, "level"), Deny: rapid.Bool().Draw(t, "deny"), Applies: acl.Everywhere})
			}
			return out
		}
		others := func(r site.Records) (out []acl.Entry) {
			for _, f := range r.Folders {
				for _, rule := range f.Rules {
					for _, e := range rule.Entries {
						if e.Who == identity.UserPrincipal(wren) {
							out = append(out, e)
						}
					}
				}
			}
			return out
		}
		for _, name := range []string{"nightlog", "plates"} {
			f := site.Put(d, site.Folder{Name: name, VolumeID: volume, Path: name, Owner: someone()})
			for _, path := range []string{"", "2031"} {
				if list := entries(); len(list) > 0 {
					d.PutRule(f, acl.Rule{Path: path, Entries: list})
				}
			}
			site.Put(d, site.Share{Name: name, FolderID: f, Entries: entries()})
			site.Put(d, site.Export{Path: "/" + name, FolderID: f, Rules: []site.ClientRule{{From: "192.0.2.1", Squash: site.SquashAll, AnonUID: uint32(2000 + rapid.IntRange(0, 2).Draw(t, "anon"))}}})
			site.Put(d, identity.Group{Name: "group of " + name, GID: uint32(3000 + f), Members: []identity.Principal{identity.UserPrincipal(someone())}, Owners: []identity.Principal{identity.UserPrincipal(someone())}})
			site.Put(d, site.Review{Name: "review of " + name, Reviewers: []string{rapid.SampledFrom([]string{"orla", "piran"}).Draw(t, "reviewer")}})
			site.Put(d, site.Token{Name: "token of " + name, User: someone()})
		}
		if u, ok := site.Get[identity.User](d, int64(orla)); ok && u.Role == identity.NoRole && rapid.Bool().Draw(t, "is the guest") {
			site.Put(d, site.Services{SMB: true, SMBGuest: orla})
		}
		before := d.Records()
		dir, err := identity.Compile(before.Users, before.Groups)
		require.NoError(t, err)
		was := names(before, orla, 2000, "orla")
		to := identity.ID(0)
		if rapid.Bool().Draw(t, "succeeded") {
			to = piran
		}
		after := site.NewDraft(before, d.Numbers())
		said := site.Depart(after, dir, orla, to, at)
		require.Nil(t, after.Check())
		require.Empty(t, names(after.Records(), orla, 2000, "orla"))
		require.Len(t, said, len(was)+1+bothIn(before, orla), "each is told of, and the account")
		require.Equal(t, others(before), others(after.Records()))
		u, there := site.Get[identity.User](after, int64(orla))
		require.True(t, there, "the record stays, and the number with it")
		require.False(t, u.InForce(at.Add(time.Hour)))
		require.Equal(t, at, u.Left)
		for _, f := range after.Records().Folders {
			for _, rule := range f.Rules {
				for i, e := range rule.Entries {
					for _, o := range rule.Entries[:i] {
						if e.Who == o.Who && e.Who == identity.UserPrincipal(piran) && to == piran && !e.Deny {
							twice := 0
							for _, b := range ruleAt(before, f.ID, rule.Path).Entries {
								if b.Who == e.Who && b.Level == e.Level && b.Deny == e.Deny {
									twice++
								}
							}
							require.False(t, e.Level == o.Level && e.Deny == o.Deny && twice < 2, "what the successor had is not written twice")
						}
					}
				}
			}
		}
		// And it is taken back as one.
		changes, err := after.Changes()
		require.NoError(t, err)
		back := site.NewDraft(after.Records(), after.Numbers())
		obstacles, err := back.Revert(changes)
		require.NoError(t, err)
		require.Empty(t, obstacles)
		require.Equal(t, names(before, orla, 2000, "orla"), names(back.Records(), orla, 2000, "orla"))
	})
}

// bothIn counts the groups that somebody is in and owns: of those two things are told.
func bothIn(r site.Records, id identity.ID) (n int) {
	who := identity.UserPrincipal(id)
	for _, g := range r.Groups {
		if slices.Contains(g.Members, who) && slices.Contains(g.Owners, who) {
			n++
		}
	}
	return n
}

func ruleAt(r site.Records, folder int64, path string) acl.Rule {
	for _, f := range r.Folders {
		for _, rule := range f.Rules {
			if f.ID == folder && rule.Path == path {
				return rule
			}
		}
	}
	return acl.Rule{}
}

func TestRetiredNumbers(t *testing.T) {
	since := time.Date(2031, 5, 1, 0, 0, 0, 0, time.UTC)
	r := site.Records{RetiredNumbers: []site.RetiredNumber{{ID: 1, UID: 2006, Name: "orla", Since: since}}}
	for _, c := range []struct {
		uid   uint32
		after time.Duration
		is    bool
	}{{2006, 0, true}, {2006, site.RetiredFor - time.Second, true}, {2006, site.RetiredFor, false}, {2007, 0, false}} {
		_, is := r.Retired(c.uid, since.Add(c.after))
		require.Equal(t, c.is, is, c)
	}
}
