package identity

import (
	"cmp"
	"errors"
	"fmt"
	"slices"

	"amber.example/gatekeeper/internal/core/layered"
)

// Next is Compile for records of which only some are others than those the directory was made from: what is asked of the rest is shared with it, and costs
// nothing. Touched names all that are, in any order. Where the dense indexes of the others stay the same, kept is true.
//
// What is not had so cheaply is compiled as a whole: where a record was removed, or a group put into another or taken out.
func (d *Directory) Next(users []User, groups []Group, touched []Principal) (next *Directory, kept bool, err error) {
	s := step{Directory: *d, was: d, users: make(map[int32][]int32), moved: make(map[int32]bool)}
	s.Directory.users, s.Directory.groups = users, groups
	err = s.take(touched)
	if errors.Is(err, errWhole) || errors.Is(err, ErrAbsent) || errors.Is(err, ErrDuplicate) { // whose words are the better ones
		next, err = Compile(users, groups)
		return next, false, err
	}
	if err != nil {
		return nil, false, err
	}
	return &s.Directory, true, nil
}

// errWhole is that only compiling everything will do.
var errWhole = errors.New("more than some members have become others")

// step is a directory on its way to the next.
type step struct {
	Directory
	was   *Directory
	users map[int32][]int32 // whose groups may have become others, with those that list them and may not have before
	moved map[int32]bool    // groups in which other users are than were
}

func (s *step) take(touched []Principal) error {
	slices.SortFunc(touched, func(a, b Principal) int { return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.ID, b.ID)) })
	newUsers, newGroups := int32(s.was.direct.Len()), int32(s.was.listed.Len())
	var userAt, groupAt []int32
	for _, p := range touched {
		var i int32
		var ok bool
		if p.Kind == KindUser {
			i, ok = placeOf(s.userByID, p.ID, newUsers, s.Directory.users, func(u *User) ID { return u.ID })
			userAt = append(userAt, i)
			newUsers = max(newUsers, i+1)
		} else {
			i, ok = placeOf(s.groupByID, p.ID, newGroups, s.Directory.groups, func(g *Group) ID { return g.ID })
			groupAt = append(groupAt, i)
			newGroups = max(newGroups, i+1)
		}
		if !ok {
			return errWhole
		}
	}
	if int(newUsers) != len(s.Directory.users) || int(newGroups) != len(s.Directory.groups) {
		return errWhole // something was removed
	}
	if err := s.takeKeys(userAt, groupAt); err != nil {
		return err
	}
	s.grow()
	if err := s.takeMembers(groupAt); err != nil {
		return err
	}
	if err := s.takePrimaries(userAt); err != nil {
		return err
	}
	s.settle()
	return nil
}

// placeOf finds the dense index of a record: the one that it has, or the next for one that is new.
func placeOf[T any](x byID, id ID, next int32, in []T, is func(*T) ID) (int32, bool) {
	i, ok := x.Find(id)
	if !ok {
		i = next
	}
	return i, int(i) < len(in) && is(&in[i]) == id
}

// takeKeys notes the names and numbers of records.
func (s *step) takeKeys(userAt, groupAt []int32) error {
	u, g := s.Directory.users, s.Directory.groups
	s.userByID, s.groupByID = s.userByID.with(idsFrom(u, s.was.direct.Len(), func(u *User) ID { return u.ID })), s.groupByID.with(idsFrom(g, s.was.listed.Len(), func(g *Group) ID { return g.ID }))
	return errors.Join(
		note(&s.userByName, userAt, u, "user name", func(u *User) string { return Fold(u.Name) }), note(&s.groupByName, groupAt, g, "group name", func(g *Group) string { return Fold(g.Name) }),
		note(&s.userByUID, userAt, u, "uid", func(u *User) uint32 { return u.UID }), note(&s.groupByGID, groupAt, g, "gid", func(g *Group) uint32 { return g.GID }))
}

// idsFrom are the numbers of the records from one on.
func idsFrom[T any](records []T, from int, id func(*T) ID) (out []ID) {
	for i := from; i < len(records); i++ {
		out = append(out, id(&records[i]))
	}
	return out
}

func note[K comparable, T any](x *layered.Index[K], at []int32, in []T, what string, key func(*T) K) error {
	more := make(map[K]int32)
	for _, i := range at {
		k := key(&in[i])
		other, ok := more[k]
		if !ok {
			if other = found(*x, k, in, key); other == None {
				other = i
			}
		}
		if other != i {
			return fmt.Errorf("%s %v: %w", what, k, ErrDuplicate)
		}
		if have, ok := x.Find(k); !ok || have != i {
			more[k] = i
		}
	}
	*x = x.With(more)
	return nil
}

// grow makes room for records that are new.
func (s *step) grow() {
	users, groups := len(s.Directory.users), len(s.Directory.groups)
	if n := s.direct.Len(); n < users {
		direct, member, primary := make(map[int32][]int32), make(map[int32]*groupSet), make(map[int32]int32)
		for i := int32(n); int(i) < users; i++ {
			direct[i], member[i], primary[i] = nil, &groupSet{}, None
		}
		s.direct, s.memberOf, s.primary, s.everybody = s.direct.With(direct), s.memberOf.With(member), s.primary.With(primary), &lazyPeople{}
		if s.words() != n/64+1 { // all sets are longer now
			for g := range int32(s.listed.Len()) {
				s.moved[g] = true
			}
		}
	}
	if n := s.listed.Len(); n < groups {
		listed, primaries, members := make(map[int32][]Principal), make(map[int32][]int32), make(map[int32]*lazyPeople)
		above := make(map[int32]*groupSet)
		for g := int32(n); int(g) < groups; g++ {
			listed[g], primaries[g], members[g] = nil, nil, nil
			above[g] = setOf([]int32{g})
			s.moved[g] = true
		}
		s.above = s.above.With(above)
		s.listed, s.primaryOf, s.members = s.listed.With(listed), s.primaryOf.With(primaries), s.members.With(members)
	}
}

// takeMembers notes who has come into groups and who has left.
func (s *step) takeMembers(groupAt []int32) error {
	listed := make(map[int32][]Principal)
	for _, g := range groupAt {
		was, is := s.listed.At(g), s.Directory.groups[g].Members
		listed[g] = is
		for len(was) > 0 && len(is) > 0 && was[0] == is[0] {
			was, is = was[1:], is[1:]
		}
		for len(was) > 0 && len(is) > 0 && was[len(was)-1] == is[len(is)-1] {
			was, is = was[:len(was)-1], is[:len(is)-1]
		}
		for _, m := range slices.Concat(was, is) {
			i := s.UserIndex(m.ID)
			if m.Kind != KindUser || i == None {
				return errWhole
			}
			s.users[i] = append(s.users[i], g)
		}
	}
	s.listed = s.listed.With(listed)
	return nil
}

// takePrimaries notes whose primary group has become another.
func (s *step) takePrimaries(userAt []int32) error {
	primary, of := make(map[int32]int32), make(map[int32][]int32)
	users := func(g int32) []int32 {
		if _, ok := of[g]; !ok {
			of[g] = slices.Clone(s.primaryOf.At(g))
		}
		return of[g]
	}
	left := make(map[int32]map[int32]bool) // by group, whose it is no more
	for _, i := range userAt {
		was, is := s.primary.At(i), s.GroupIndex(s.Directory.users[i].Primary)
		if is == None && s.Directory.users[i].Primary != 0 {
			return ErrAbsent
		}
		if was == is {
			continue
		}
		primary[i], s.users[i] = is, append(s.users[i], s.direct.At(i)...)
		if was != None {
			if left[was] == nil {
				left[was] = make(map[int32]bool)
			}
			left[was][i] = true
		}
		if is != None {
			of[is] = append(users(is), i)
		}
	}
	for g, gone := range left {
		of[g] = slices.DeleteFunc(users(g), func(i int32) bool { return gone[i] })
	}
	s.primary, s.primaryOf = s.primary.With(primary), s.primaryOf.With(of)
	return nil
}

// lister says whether a group lists somebody. For many users, what a group lists is put where it is found at once.
func (s *step) lister() func(g int32, who Principal) bool {
	if len(s.users) < 64 {
		return func(g int32, who Principal) bool { return slices.Contains(s.listed.At(g), who) }
	}
	of := make(map[int32]map[Principal]bool)
	return func(g int32, who Principal) bool {
		if of[g] == nil {
			of[g] = make(map[Principal]bool)
			for _, m := range s.listed.At(g) {
				of[g][m] = true
			}
		}
		return of[g][who]
	}
}

// settle works out anew in which groups those users are.
func (s *step) settle() {
	direct, member := make(map[int32][]int32), make(map[int32]*groupSet)
	lists := s.lister()
	for i, others := range s.users {
		id := s.Directory.users[i].ID
		var in []int32
		if p := s.primary.At(i); p != None {
			in = append(in, p)
		}
		maybe := slices.Concat(s.direct.At(i), others)
		slices.Sort(maybe)
		for _, g := range slices.Compact(maybe) {
			if !slices.Contains(in, g) && lists(g, UserPrincipal(id)) {
				in = append(in, g)
			}
		}
		direct[i], member[i] = in, s.groupsOver(in)
		was := s.memberOf.At(i)
		for _, g := range slices.Concat(was.of, member[i].of) {
			if was.has(g) != member[i].has(g) {
				s.moved[g] = true
			}
		}
	}
	s.direct, s.memberOf = s.direct.With(direct), s.memberOf.With(member)
	members := make(map[int32]*lazyPeople)
	for g := range s.moved {
		members[g] = &lazyPeople{}
	}
	s.members = s.members.With(members)
}
