package audit

import (
	"fmt"
	"slices"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
)

// rules looks at every entry of a folder where it is written: does it reach anybody, does it say
// anything that others do not?
func (x *finder) rules(f *folder) {
	if disk, ok := f.facts.(onDisk); ok {
		if exists, _ := disk.Kind(""); !exists {
			x.add(PathGone, Medium, f.Name, "folder "+f.Name, fmt.Sprintf("its directory, %s, is not there", f.Root), access.Fix{Kind: access.FixFolderRemove, Path: f.Name})
			return
		}
	}
	s := &structure{x: x, f: f, doubt: f.owned, all: x.Policy.Directory.Everybody().Clone()}
	s.all.Add(int32(len(x.Policy.Directory.Users())))
	for i := range f.Rules {
		for j := range f.Rules[i].Entries {
			s.doubt = s.doubt || !f.Rules[i].Entries[j].Expires.IsZero()
		}
	}
	s.down(f.root, nil, nil, nil)
}

// structure walks the rules of one folder. The vectors hold the least that is granted for good: allows
// with an end date are left out, entries that depend on who owns an object grant nobody anything
// and withhold from all. Groups count as the records have them: hosts whose own lists of groups an
// export honours can make a member of anyone.
type structure struct {
	x     *finder
	f     *folder
	all   identity.People // everybody, and the one beyond who is no user and whom everyone@ means as well
	doubt bool            // the least is not all there is, so nobody can say that a deny withholds nothing
	w     workspace
}

// kind is one kind of object that the entries of a rule reach, with what the parents' grant there.
type kind struct {
	dist int
	file bool
	from vector
}

func (s *structure) down(n *node, hands *[3][2]vector, now *frame, above []*node) {
	fr := s.f.step(&s.w, now, n, n.path) // as it is at this moment, temporary entries included
	defer s.w.done(fr)
	var mine [3][2]vector
	var made []vector
	var kinds []kind
	for file := range 2 {
		for dist := range 3 {
			var from vector
			if hands != nil {
				from = hands[min(dist+1, 2)][file]
			}
			if n.rule != nil && n.rule.Cut {
				from = nil
			}
			if dist > 0 && n.plain && sameOrNone(from, base(kinds, file == 1)) {
				mine[dist][file] = mine[0][file]
				continue
			}
			kinds = append(kinds, kind{dist, file == 1, from})
			if n.rule == nil && from != nil {
				mine[dist][file] = from
				continue
			}
			v := s.f.vector(&s.w)
			made = append(made, v)
			v.copy(from)
			if n.rule != nil {
				s.lasting(v, n.rule, dist, file == 1)
			}
			mine[dist][file] = v
		}
	}
	if n.rule != nil {
		s.look(n, kinds, fr, above)
	}
	above = append(above, n)
	for _, c := range n.children {
		s.down(c, &mine, fr, above)
	}
	s.w.free = append(s.w.free, made...)
}

// base is the vector that the kinds of directories, or files, began with.
func base(kinds []kind, file bool) vector {
	for _, k := range kinds {
		if k.file == file {
			return k.from
		}
	}
	return nil
}

func sameOrNone(a, b vector) bool { return len(a) == 0 && len(b) == 0 || sameVector(a, b) }

// lasting applies the allows that have no end date, and every deny that has not ended.
func (s *structure) lasting(v vector, r *acl.Rule, dist int, file bool) {
	for _, deny := range []bool{false, true} {
		for i := range r.Entries {
			e := &r.Entries[i]
			if e.Deny != deny || !e.Reaches(dist, file) || !deny && !e.Expires.IsZero() || e.Ended(s.x.Now) {
				continue
			}
			who := s.named(e)
			if who.group == nil && who.user == identity.None && deny {
				who.group = s.all // an owner, whoever that is
			}
			v.put(s.f.parts, e.Bits(!file), deny, who.group, who.user)
		}
	}
}

// named is whom an entry names whatever the object: a set, or one user, or where group is nil and
// user is None, nobody that is known.
type named struct {
	group identity.People
	user  int32
}

func (n named) word(i int) uint64 {
	switch {
	case n.group != nil:
		return n.group[i]
	case n.user >= 0 && int(n.user/64) == i:
		return 1 << (n.user % 64)
	}
	return 0
}

// words is where the set can have anybody.
func (n named) words(length int) (from, to int) {
	switch {
	case n.group != nil:
		return 0, length
	case n.user >= 0:
		return int(n.user / 64), int(n.user/64) + 1
	}
	return 0, 0
}

func (s *structure) named(e *acl.Entry) named {
	if e.Who == identity.Everyone {
		return named{s.all, identity.None}
	}
	group, user := whom(s.x.Policy.Directory, e.Who, acl.Ownership{User: identity.None, Group: identity.None})
	return named{group, user}
}

func (s *structure) people(e *acl.Entry) identity.People {
	n := s.named(e)
	if n.group != nil {
		return n.group
	}
	one := s.x.Policy.Directory.NoPeople()
	if n.user >= 0 {
		one.Add(n.user)
	}
	return one
}

// look judges the entries written on one path.
func (s *structure) look(n *node, kinds []kind, fr *frame, above []*node) {
	x, d := s.x, s.x.Policy.Directory
	at := s.f.Display(n.path)
	file := false
	if disk, ok := s.f.facts.(onDisk); ok {
		exists := false
		exists, file = disk.Kind(n.path)
		if !exists && !n.rule.Cut && len(site.Written(n.rule.Entries)) == 0 {
			return // it is made when it is first used
		}
		if !exists {
			x.add(PathGone, Medium, at, at, fmt.Sprintf("rules are written on it, and it is not on disk (%d entries)", len(n.rule.Entries)), access.Fix{Kind: access.FixClear, Path: at})
			return
		}
		if file { // nothing is below a file
			var from vector
			for _, k := range kinds {
				if k.file && k.dist == 0 {
					from = k.from
				}
			}
			kinds = []kind{{0, true, from}}
		} else {
			kinds = slices.DeleteFunc(slices.Clone(kinds), func(k kind) bool { return k.file && k.dist == 0 && !n.plain })
		}
	}
	s.exact(n, at, fr, file)
	kept := make([]*acl.Entry, 0, len(n.rule.Entries))
	for i := range n.rule.Entries {
		if e := &n.rule.Entries[i]; e.Expires.IsZero() && e.ID >= 0 {
			kept = append(kept, e)
		}
	}
	narrowFirst := slices.Clone(kept)
	sizes := make(map[*acl.Entry]int, len(kept))
	for _, e := range kept {
		sizes[e] = s.size(e)
	}
	slices.SortStableFunc(narrowFirst, func(a, b *acl.Entry) int { return sizes[a] - sizes[b] })
	flagged := make(map[int64]bool)
	for _, e := range narrowFirst {
		if why := x.gone(e); why != "" {
			x.add(GrantToGone, Medium, entryKey(e), entryName(e, at), fmt.Sprintf("it %s %s %s, %s", verb(e), d.Name(e.Who), e.Grant(), why), access.Fix{Kind: access.FixRemove, Path: at, EntryID: e.ID})
			flagged[e.ID] = true
			continue
		}
		if e.Who.Kind == identity.KindOwner || e.Who.Kind == identity.KindOwningGroup || sizes[e] == 0 {
			continue
		}
		kind, says := s.judge(e, kept, kinds)
		if kind == "" {
			continue
		}
		x.add(kind, Low, entryKey(e), entryName(e, at), fmt.Sprintf("it %s %s %s, %s", verb(e), d.Name(e.Who), e.Grant(), says), access.Fix{Kind: access.FixRemove, Path: at, EntryID: e.ID})
		flagged[e.ID] = true
		kept = slices.DeleteFunc(kept, func(k *acl.Entry) bool { return k == e })
	}
	for i := range n.rule.Entries {
		e := &n.rule.Entries[i]
		if flagged[e.ID] || e.Deny || e.Ended(x.Now) || e.ID < 0 {
			continue
		}
		if e.Who == identity.Everyone && e.Bits(true)&(acl.ReadData|acl.WriteData|acl.AppendData|acl.WriteACL) != 0 {
			severity := Medium
			if e.Bits(true)&(acl.WriteData|acl.AppendData|acl.WriteACL) != 0 {
				severity = High
			}
			x.add(OpenToEveryone, severity, entryKey(e), entryName(e, at), fmt.Sprintf("it allows everyone@ %s, whoever is added to the records", e.Grant()), access.Fix{Kind: access.FixRemove, Path: at, EntryID: e.ID})
		}
		s.blocked(e, at, fr, above)
	}
	s.usersForGroup(n, at, flagged)
}

func (s *structure) size(e *acl.Entry) int {
	if group := s.named(e).group; group != nil {
		return group.Count()
	}
	return 1
}

// judge says whether an entry could go without anybody noticing, and why.
func (s *structure) judge(e *acl.Entry, kept []*acl.Entry, kinds []kind) (verdict, says string) {
	who := s.named(e)
	var denied, allowed []named
	reached, shadowed, redundant := false, true, true
	for _, k := range kinds {
		if !e.Reaches(k.dist, k.file) {
			continue
		}
		reached = true
		for i, atom := range s.f.parts {
			if atom&e.Bits(!k.file) == 0 {
				continue
			}
			denied, allowed = denied[:0], allowed[:0]
			if k.from != nil {
				allowed = append(allowed, named{group: k.from[i]})
			}
			for _, other := range kept {
				if other == e || !other.Reaches(k.dist, k.file) || other.Bits(!k.file)&atom == 0 {
					continue
				}
				if other.Deny {
					denied = append(denied, s.named(other))
				} else {
					allowed = append(allowed, s.named(other))
				}
			}
			if e.Deny {
				redundant = redundant && !meets(who, allowed, denied)
			} else {
				shadowed = shadowed && covered(who, denied, nil)
				redundant = redundant && covered(who, denied, allowed)
			}
			if !redundant {
				return "", ""
			}
		}
	}
	switch {
	case !reached:
		return "", ""
	case e.Deny && s.doubt:
		return "", ""
	case e.Deny:
		return IdleDeny, "who would not have that anyway"
	case shadowed:
		return Shadowed, "and a deny beside it comes first"
	}
	return Redundant, "who has that already"
}

// covered says whether everybody in who is in one of the others.
func covered(who named, some, more []named) bool {
	from, to := who.words(len(who.group))
	for i := from; i < to; i++ {
		w := who.word(i)
		for _, o := range some {
			w &^= o.word(i)
		}
		for _, o := range more {
			if w == 0 {
				break
			}
			w &^= o.word(i)
		}
		if w != 0 {
			return false
		}
	}
	return true
}

// meets says whether anybody in who is allowed and not denied by others.
func meets(who named, allowed, denied []named) bool {
	from, to := who.words(len(who.group))
	for i := from; i < to; i++ {
		var a uint64
		for _, o := range allowed {
			a |= o.word(i)
		}
		for _, o := range denied {
			a &^= o.word(i)
		}
		if who.word(i)&a != 0 {
			return true
		}
	}
	return false
}

// blocked looks for people whom an entry names and who do not get to it.
func (s *structure) blocked(e *acl.Entry, at string, fr *frame, above []*node) {
	x, d := s.x, s.x.Policy.Directory
	if e.Who.Kind == identity.KindOwner || e.Who.Kind == identity.KindOwningGroup || len(above) == 0 {
		return
	}
	if n := s.named(e); n.group == nil && (n.user == identity.None || fr.passed.Has(n.user)) {
		return
	}
	who := s.people(e).Clone()
	who.And(x.active)
	total := who.Count()
	who.AndNot(fr.passed)
	if who.Empty() || e.Who == identity.Everyone && who.Count() < total {
		return
	}
	var fixes []access.Fix
	where := ""
	w := &workspace{}
	up := (*frame)(nil)
	for _, n := range above {
		up = s.f.step(w, up, n, n.path)
		stuck := who.Clone()
		s.f.grants(w, up, false, func(v vector) {
			pass := d.Everybody().Clone()
			v.all(s.f.parts, acl.Execute, pass)
			stuck.AndNot(pass)
		})
		if !stuck.Empty() {
			if where == "" {
				where = s.f.Display(n.path)
			}
			fixes = append(fixes, s.letPass(n, e, stuck)...)
		}
	}
	says := fmt.Sprintf("it allows %s %s, who may not pass %s", d.Name(e.Who), e.Grant(), where)
	if e.Who.Kind == identity.KindGroup {
		says = fmt.Sprintf("it allows %s %s; %d of its %d people may not pass %s: %s", d.Name(e.Who), e.Grant(), who.Count(), total, where, some(d, who))
	}
	x.add(Blocked, Medium, entryKey(e), entryName(e, at), says, fixes...)
}

// letPass gives what lets the people of an entry through a directory that stops some of them.
func (s *structure) letPass(n *node, e *acl.Entry, stuck identity.People) []access.Fix {
	at := s.f.Display(n.path)
	var fixes []access.Fix
	if n.rule != nil {
		for i := range n.rule.Entries {
			if r := &n.rule.Entries[i]; r.Deny && r.Bits(true)&acl.Execute != 0 && meets(named{group: stuck}, []named{s.named(r)}, nil) {
				fixes = append(fixes, access.Fix{Kind: access.FixRemove, Path: at, EntryID: r.ID})
			}
		}
	}
	return append(fixes, access.Fix{Kind: access.FixAllow, Path: at, User: Name(s.x.Policy.Directory, e.Who), Level: acl.Pass, HereOnly: true})
}

// usersForGroup looks for users who are allowed the same one by one and are just the members of a
// group.
func (s *structure) usersForGroup(n *node, at string, flagged map[int64]bool) {
	d := s.x.Policy.Directory
	var done []acl.Entry
	for i := range n.rule.Entries {
		e := n.rule.Entries[i]
		if e.Who.Kind != identity.KindUser || e.ID < 0 || flagged[e.ID] || !e.Expires.IsZero() || slices.ContainsFunc(done, func(o acl.Entry) bool { return sayAlike(o, e) }) {
			continue
		}
		done = append(done, e)
		people := d.NoPeople()
		var fixes []access.Fix
		for _, o := range n.rule.Entries {
			if o.Who.Kind == identity.KindUser && sayAlike(o, e) && d.UserIndex(o.Who.ID) >= 0 {
				people.Add(d.UserIndex(o.Who.ID))
				fixes = append(fixes, access.Fix{Kind: access.FixRemove, Path: at, EntryID: o.ID})
			}
		}
		if len(fixes) < 2 {
			continue
		}
		size := people.Count()
		for g, group := range d.Groups() {
			if s.x.groupSize(int32(g)) == size && slices.Equal(d.Members(int32(g)), people) {
				add := access.Fix{Kind: access.FixAllow, Path: at, User: Name(d, identity.GroupPrincipal(group.ID)), Level: e.Level, Mask: e.Mask, Applies: e.Applies, Deny: e.Deny}
				s.x.add(UsersForGroup, Low, fmt.Sprintf("%s %s %s", at, group.Name, e.Grant()), at, fmt.Sprintf("%d users are named one by one for %s, and are just the members of %s", len(fixes), e.Grant(), group.Name), append([]access.Fix{add}, fixes...)...)
				break
			}
		}
	}
}

func sayAlike(a, b acl.Entry) bool {
	b.Who = a.Who
	return a.Same(b)
}
