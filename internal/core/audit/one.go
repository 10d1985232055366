package audit

import (
	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
)

// one walks a folder's rules for one user, with masks where the other walk has sets.
type one struct {
	f      *folder
	user   int32
	person identity.Person
	smb    []acl.Mask // what each share leaves of a directory
	nfs    []acl.Mask // what each rule leaves; those that make somebody else of the user are asked
	asked  []bool
	visit  func(path string, p, above Pair)
}

// eachFor visits every path with a rule and those on the way, parents first, with what a user may
// do there, as a directory, and at the path above.
func (f *folder) eachFor(user int32, visit func(path string, p, above Pair)) {
	a := f.audit
	o := &one{f: f, user: user, person: a.Policy.Directory.Person(user), visit: visit}
	for _, share := range f.Shares {
		leaves := acl.All
		if !a.smb.Has(user) {
			leaves = 0
		}
		if share.Entries != nil {
			leaves &= share.Entries.List("", false).Evaluate(o.person, f.OwnedBy, a.Now, acl.All, nil)
		}
		leaves &= share.Most()
		if user == a.guest && !share.Guests {
			leaves = 0
		}
		o.smb = append(o.smb, leaves)
	}
	for i, rule := range f.rules {
		leaves, asked := acl.All, rule.Squash == site.SquashAll
		for _, odd := range f.odd[i] {
			asked = asked || odd == user
		}
		if !a.nfs.Has(user) {
			leaves = 0
		}
		if !rule.Write {
			leaves &= acl.ReadOnly
		}
		o.nfs, o.asked = append(o.nfs, leaves), append(o.asked, asked)
	}
	o.down(f.root, [3]acl.Mask{}, 0, true, Pair{Kind: acl.Root})
}

// down takes what a directory hands on, by distance, to one of its children. dir is what the entries of
// that directory grant on itself.
func (o *one) down(n *node, from [3]acl.Mask, dir acl.Mask, passed bool, above Pair) {
	var hands [3]acl.Mask
	for dist := range hands {
		var m acl.Mask
		if n != o.f.root {
			m = from[min(dist+1, 2)]
		}
		if n.rule != nil && n.rule.Cut {
			m = 0
		}
		if n.rule != nil {
			m = o.apply(m, n.rule, dist)
		}
		hands[dist] = m
	}
	if o.f.owned {
		hands[0] = o.f.Tree.List(n.path, false).Evaluate(o.person, o.f.ownerOf(n.path), o.f.audit.Now, acl.All, nil)
	}
	kind := acl.KindOf(n.path, false)
	var smb, nfs acl.Mask
	if passed {
		smb = access.EntryLeaves(site.SMB, n.path, false, hands[0], dir)
		nfs = access.EntryLeaves(site.NFS, n.path, false, hands[0], dir)
	}
	p := Pair{Kind: kind}
	for _, leaves := range o.smb {
		p.SMB = p.SMB.Or(acl.HadOf(smb&access.Amounts(leaves, false), kind))
	}
	for i, leaves := range o.nfs {
		switch {
		case !inExport(o.f.of[i], n.path):
		case o.asked[i]:
			p.NFS = p.NFS.Or(o.f.decideBy(i, o.f.rules[i], o.user, o.f.facts, n.path, kind))
		default:
			p.NFS = p.NFS.Or(acl.HadOf(nfs&leaves, kind))
		}
	}
	o.visit(n.path, p, above)
	for _, c := range n.children {
		o.down(c, hands, hands[0], passed && hands[0]&acl.Execute != 0, p)
	}
}

func (o *one) apply(m acl.Mask, r *acl.Rule, dist int) acl.Mask {
	d := o.f.audit.Policy.Directory
	for _, deny := range []bool{false, true} {
		for i := range r.Entries {
			e := &r.Entries[i]
			if e.Deny != deny || !e.Reaches(dist, false) || e.Ended(o.f.audit.Now) {
				continue
			}
			group, user := whom(d, e.Who, acl.Ownership{User: identity.None, Group: identity.None})
			if group != nil && !group.Has(o.user) || group == nil && user != o.user {
				continue
			}
			if deny {
				m &^= e.Bits(true)
			} else {
				m |= e.Bits(true)
			}
		}
	}
	return m
}
