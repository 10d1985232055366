package audit

import (
	"time"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
)

// atoms parts all bits into groups that no list and no level tells apart, so that a set of
// people is kept for each group and not for each bit.
type atoms []acl.Mask

func (a atoms) split(m acl.Mask) atoms {
	out := make(atoms, 0, len(a)+1)
	for _, atom := range a {
		if in := atom & m; in != 0 {
			out = append(out, in)
		}
		if not := atom &^ m; not != 0 {
			out = append(out, not)
		}
	}
	return out
}

// atomsOf are the atoms of every level and of the given rules.
func atomsOf(rules ...[]acl.Rule) atoms {
	a := atoms{acl.All}.split(acl.ReadOnly).split(acl.Execute).split(acl.WriteACL).
		split(acl.Delete).split(acl.DeleteChild).split(acl.ReadData).split(access.ByRunning).split(access.ToBeSeen).split(access.AltersNames)
	for _, dir := range []bool{true, false} {
		_, classes := access.UnixClasses(dir)
		for _, class := range classes {
			a = a.split(class)
		}
	}
	seen := make(map[acl.Mask]bool)
	split := func(m acl.Mask) {
		if !seen[m] {
			seen[m] = true
			a = a.split(m)
		}
	}
	for _, l := range acl.Levels {
		for _, dir := range []bool{true, false} {
			split(l.Mask(dir))
			split(l.DenyMask(dir))
		}
		for _, kind := range []acl.Kind{acl.File, acl.Directory, acl.Root} {
			split(l.Wants(kind))
		}
	}
	for _, list := range rules {
		for i := range list {
			for j := range list[i].Entries {
				if e := &list[i].Entries[j]; e.Level == acl.NoLevel {
					split(e.Mask)
				}
			}
		}
	}
	return a
}

// vector is who is granted each atom.
type vector []identity.People

func newVector(d *identity.Directory, n int) vector {
	words := len(d.NoPeople())
	flat := make([]uint64, n*words)
	v := make(vector, n)
	for i := range v {
		v[i] = flat[i*words : (i+1)*words : (i+1)*words]
	}
	return v
}

func (v vector) copy(from vector) {
	for i := range v {
		if from == nil {
			clear(v[i])
		} else {
			copy(v[i], from[i])
		}
	}
}

// whom gives the people an entry names, for an object of an owner. A single user is the second
// result, else None.
func whom(d *identity.Directory, who identity.Principal, own acl.Ownership) (identity.People, int32) {
	switch who.Kind {
	case identity.KindUser:
		return nil, d.UserIndex(who.ID)
	case identity.KindGroup:
		if g := d.GroupIndex(who.ID); g >= 0 {
			return d.Members(g), identity.None
		}
	case identity.KindOwner:
		return nil, own.User
	case identity.KindOwningGroup:
		if own.Group >= 0 {
			return d.Members(own.Group), identity.None
		}
	case identity.KindEveryone:
		return d.Everybody(), identity.None
	}
	return nil, identity.None
}

// put applies one entry: as the list is applied backwards, it overrides all that was there.
func (v vector) put(parts atoms, mask acl.Mask, deny bool, group identity.People, user int32) {
	for i, atom := range parts {
		if atom&mask == 0 {
			continue
		}
		switch {
		case group != nil && deny:
			v[i].AndNot(group)
		case group != nil:
			v[i].Or(group)
		case user >= 0 && deny:
			v[i].Remove(user)
		case user >= 0:
			v[i].Add(user)
		}
	}
}

// rule applies the entries of one rule that reach so far, its allows before its denies, as denies
// are what is evaluated first.
func (v vector) rule(d *identity.Directory, parts atoms, r *acl.Rule, dist int, file bool, own acl.Ownership, now time.Time) {
	v.ruleOf(func(who identity.Principal) (identity.People, int32) { return whom(d, who, own) }, parts, r, dist, file, now)
}

// ruleOf is rule, with a function that says whom an entry names.
func (v vector) ruleOf(of func(identity.Principal) (identity.People, int32), parts atoms, r *acl.Rule, dist int, file bool, now time.Time) {
	for _, deny := range []bool{false, true} {
		for i := range r.Entries {
			e := &r.Entries[i]
			if e.Deny == deny && e.Reaches(dist, file) && !e.Ended(now) {
				group, user := of(e.Who)
				v.put(parts, e.Bits(!file), deny, group, user)
			}
		}
	}
}

// all narrows into to those who are granted every bit of a mask.
func (v vector) all(parts atoms, mask acl.Mask, into identity.People) {
	for i, atom := range parts {
		if atom&mask != 0 {
			into.And(v[i])
		}
	}
}

// of is who has a bit that no atom parts from others.
func (v vector) of(parts atoms, bit acl.Mask) identity.People {
	for i, atom := range parts {
		if atom&bit != 0 {
			return v[i]
		}
	}
	return nil
}

// amounts is access.Amounts for everybody.
func (v vector) amounts(parts atoms, file bool) {
	run := v.of(parts, acl.Execute)
	for i, atom := range parts {
		switch {
		case file && atom&access.ByRunning != 0:
			v[i].Or(run)
		case !file && atom&access.AltersNames != 0:
			v[i].And(run)
		}
	}
}

// leaves is access.EntryLeaves for everybody: v is what the entries of an object grant, dir what those of
// its directory do, nil for the folder's root.
func (v vector) leaves(d *identity.Directory, parts atoms, via site.Protocol, file bool, dir vector) {
	for i, atom := range parts {
		switch {
		case atom&acl.Delete != 0 && dir == nil:
			clear(v[i])
		case atom&acl.Delete != 0:
			v[i].Or(dir.of(parts, acl.DeleteChild))
		case atom&access.ToBeSeen != 0 && via == site.NFS:
			v[i].Or(d.Everybody())
		case atom&access.ToBeSeen != 0 && dir != nil:
			v[i].Or(dir.of(parts, acl.ListDirectory))
		}
	}
	v.amounts(parts, file)
}
