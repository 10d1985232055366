package audit

import (
	"fmt"
	"slices"
	"strings"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
)

// likeness is what some people may do to an object, all of them alike.
type likeness struct {
	Pair
	who identity.People
	one int32 // the first of them
}

// cases parts people by what they may do. It costs with how many different answers there are, not with people.
func (s *Standing) cases(of identity.People) []likeness {
	parts := []identity.People{of}
	split := func(by identity.People) {
		for i := range parts {
			in, out := parts[i].Clone(), parts[i].Clone()
			in.And(by)
			out.AndNot(by)
			switch {
			case in.Empty() || out.Empty():
			default:
				parts[i] = in
				parts = append(parts, out)
			}
		}
	}
	for _, sets := range []*Sets{&s.SMB, &s.NFS} {
		for _, has := range sets.has {
			split(has)
		}
		for _, l := range acl.Levels {
			split(sets.levels[l])
		}
	}
	var out []likeness
	for _, who := range parts {
		for one := range who.Each() {
			out = append(out, likeness{s.Of(one), who, one})
			break
		}
	}
	slices.SortFunc(out, func(a, b likeness) int { return int(a.one) - int(b.one) })
	return out
}

// takesControl are the rights by which somebody can give themselves all others: to change permissions, and to become the owner.
const takesControl = acl.WriteACL | acl.WriteOwner

// exact judges the entries of a path that say exact rights: whether somebody can take control by them who was not given it, and whether they leave
// anybody rights that no level describes.
func (s *structure) exact(n *node, at string, fr *frame, file bool) {
	x := s.x
	known := make(map[object]*Standing)
	standing := func(o object) *Standing {
		st := known[o]
		if st == nil {
			here := side{f: s.f, w: &s.w, fr: fr}
			st = here.standing(n.path, acl.KindOf(n.path, file), o)
			known[o] = st
		}
		return st
	}
	for i := range n.rule.Entries {
		e := &n.rule.Entries[i]
		if e.Level != acl.NoLevel || e.ID < 0 || e.Ended(x.Now) || x.gone(e) != "" {
			continue
		}
		fix := access.Fix{Kind: access.FixRemove, Path: at, EntryID: e.ID}
		takes, odd := s.judgeExact(e, file, standing)
		switch {
		case takes != nil:
			x.add(CanTakeControl, High, entryKey(e), entryName(e, at), s.takes(e, at, takes), fix)
		case odd != nil:
			where := "there"
			if odd.Kind.File() && !file {
				where = "to files in it"
			}
			x.add(OddRights, Low, entryKey(e), entryName(e, at), fmt.Sprintf("it %s %s %s: what %s may do %s is %s", verb(e), x.Policy.Directory.Name(e.Who), spaced(e.Grant()), some(x.Policy.Directory, odd.who), where, odd.Pair), fix)
		}
	}
}

// judgeExact finds people who can take control by an entry and were not given it, and people whose rights no level describes; nil for nobody.
func (s *structure) judgeExact(e *acl.Entry, file bool, standing func(object) *Standing) (takes, odd *likeness) {
	who, own := s.people(e).Clone(), mine(0)
	switch e.Who.Kind {
	case identity.KindOwner:
		who, own = s.x.active.Clone(), mineUser
	case identity.KindOwningGroup:
		who, own = s.x.grouped().Clone(), mineGroup
	}
	who.And(s.x.active)
	for _, o := range s.reached(e, own, file) {
		st := standing(o)
		for _, c := range st.cases(who) {
			had := c.Either()
			if !e.Deny && e.Mask&takesControl&had.Rights != 0 && !had.Levels.Has(acl.Control) {
				return &c, nil
			}
			if odd == nil && had.Any() && (c.SMB.Any() && !c.SMB.Exact(st.kind) || c.NFS.Any() && !c.NFS.Exact(st.kind)) {
				odd = &c
			}
		}
	}
	return nil, odd
}

func spaced(grant string) string { return strings.ReplaceAll(grant, ",", ", ") }

// takes spells what comes of an entry by which somebody can take control.
func (s *structure) takes(e *acl.Entry, at string, c *likeness) string {
	d := s.x.Policy.Directory
	how := "change the permissions of"
	if c.Either().Rights&acl.WriteACL == 0 {
		how = "become the owner of"
	}
	where := at
	if e.Applies&acl.Here == 0 {
		where = "what is in " + at
	}
	who := some(d, c.who)
	if e.Who.Kind == identity.KindOwner {
		who = "whoever owns something there"
	}
	return fmt.Sprintf("it allows %s %s: %s can %s %s and so take control, which nothing there gives", d.Name(e.Who), spaced(e.Grant()), who, how, where)
}

// reached lists the objects that an entry reaches, as a comparison looks at them.
func (s *structure) reached(e *acl.Entry, own mine, file bool) (out []object) {
	if e.Applies&acl.Here != 0 && own == 0 {
		out = append(out, object{})
	}
	if file {
		return out
	}
	for dist := 1; dist <= 2; dist++ {
		for _, isFile := range []bool{false, true} {
			if e.Reaches(dist, isFile) {
				out = append(out, object{dist: dist, file: isFile, own: own})
			}
		}
	}
	return out
}
