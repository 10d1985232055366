package identity

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"sync"

	"amber.example/gatekeeper/internal/core/layered"
)

// Compile checks the records and builds the directory. It fails with ErrCycle
// (naming the groups in order), with ErrDuplicate for a name, a uid or a gid
// used twice, or with ErrAbsent for a member that is not there.
func Compile(users []User, groups []Group) (*Directory, error) {
	groupByID := indexed(groups, func(g *Group) ID { return g.ID })
	groupByName, groupByGID := make(map[string]int32, len(groups)), make(map[uint32]int32, len(groups))
	for i, g := range groups {
		if _, ok := groupByName[Fold(g.Name)]; ok {
			return nil, fmt.Errorf("group name %q: %w", g.Name, ErrDuplicate)
		}
		if other, ok := groupByGID[g.GID]; ok {
			return nil, fmt.Errorf("gid %d of group %s belongs to %s already: %w", g.GID, g.Name, groups[other].Name, ErrDuplicate)
		}
		groupByGID[g.GID], groupByName[Fold(g.Name)] = int32(i), int32(i)
	}
	var (
		userByName map[string]int32
		userByUID  map[uint32]int32
		refused    error
		indexing   sync.WaitGroup
	)
	indexing.Go(func() { userByName, userByUID, refused = indexUsers(users) }) // beside the rest: it is a third of it all
	d, err := compileMembers(users, groups, groupByID)
	indexing.Wait()
	if err := cmp.Or(refused, err); err != nil {
		return nil, err
	}
	d.userByName, d.userByUID = layered.NewIndex(userByName), layered.NewIndex(userByUID)
	d.groupByName, d.groupByGID = layered.NewIndex(groupByName), layered.NewIndex(groupByGID)
	return d, nil
}

// compileMembers builds all of a directory but what finds records by name and by uid or gid.
func compileMembers(users []User, groups []Group, groupByID byID) (*Directory, error) {
	userByID := indexed(users, func(u *User) ID { return u.ID })
	// Who is in what is noted first and then laid out side by side: a slice for each user would cost more than all the rest.
	primary, primaryOf := make([]int32, len(users)), make([][]int32, len(groups))
	many := make([]int32, len(users)) // how many groups list each user, at most
	for i := range users {
		primary[i] = None
		if of := users[i].Primary; of != 0 {
			g, ok := groupByID.Find(of)
			if !ok {
				return nil, fmt.Errorf("primary group of %s: %w", users[i].Name, ErrAbsent)
			}
			primary[i], primaryOf[g] = g, append(primaryOf[g], int32(i))
			many[i]++
		}
	}
	var listed []int32                      // each user who is listed, in the order of the groups
	parents := make([][]int32, len(groups)) // groups that list it as a member
	for gi := range groups {
		for _, m := range groups[gi].Members {
			switch m.Kind {
			case KindUser:
				ui, ok := userByID.Find(m.ID)
				if !ok {
					return nil, fmt.Errorf("a user in group %s: %w", groups[gi].Name, ErrAbsent)
				}
				listed = append(listed, ui)
				many[ui]++
			case KindGroup:
				child, ok := groupByID.Find(m.ID)
				if !ok {
					return nil, fmt.Errorf("a group in group %s: %w", groups[gi].Name, ErrAbsent)
				}
				parents[child] = append(parents[child], int32(gi))
			default:
				return nil, fmt.Errorf("group %s: only users and groups can be members", groups[gi].Name)
			}
		}
	}
	direct := sideBySide(groups, primary, many, listed)
	above, err := closeGroups(groups, parents)
	if err != nil {
		return nil, err
	}
	d := &Directory{users: users, groups: groups, everybody: &lazyPeople{}, userByID: userByID, groupByID: groupByID,
		direct:    layered.NewList(len(users), func(u int32) []int32 { return direct[u] }),
		primaryOf: layered.NewList(len(groups), func(g int32) []int32 { return primaryOf[g] }),
		listed:    layered.NewList(len(groups), func(g int32) []Principal { return groups[g].Members }),
		members:   layered.NewList(len(groups), func(int32) *lazyPeople { return &lazyPeople{} }),
	}
	d.above = layered.NewList(len(groups), func(g int32) *groupSet { return above[g] })
	d.primary = layered.NewList(len(users), func(u int32) int32 { return primary[u] })
	var sets setRoom
	d.memberOf = layered.NewList(len(users), func(u int32) *groupSet { return sets.over(above, direct[u]) })
	return d, nil
}

// indexUsers gives the users by name and by uid; each is used once.
func indexUsers(users []User) (byName map[string]int32, byUID map[uint32]int32, err error) {
	byName, byUID = make(map[string]int32, len(users)), make(map[uint32]int32, len(users))
	for i := range users {
		u := &users[i]
		if byName[Fold(u.Name)] = int32(i); len(byName) == i {
			return nil, nil, fmt.Errorf("user name %q: %w", u.Name, ErrDuplicate)
		}
		if byUID[u.UID] = int32(i); len(byUID) == i {
			other := slices.IndexFunc(users, func(o User) bool { return o.UID == u.UID })
			return nil, nil, fmt.Errorf("uid %d of user %s belongs to %s already: %w", u.UID, u.Name, users[other].Name, ErrDuplicate)
		}
	}
	return byName, byUID, nil
}

// sideBySide gives for each user the groups that list it, the primary one first, in slices of one array. many is the most that there can be for each, listed
// whom the groups list, one after the other.
func sideBySide(groups []Group, primary, many, listed []int32) [][]int32 {
	room := 0
	for _, n := range many {
		room += int(n)
	}
	all, direct := make([]int32, room), make([][]int32, len(primary))
	for u, n := range many {
		direct[u], all = all[:0:n], all[n:]
		if primary[u] != None {
			direct[u] = append(direct[u], primary[u])
		}
	}
	for gi := range groups {
		for _, m := range groups[gi].Members {
			if m.Kind != KindUser {
				continue
			}
			ui := listed[0]
			listed = listed[1:]
			if !slices.Contains(direct[ui], int32(gi)) {
				direct[ui] = append(direct[ui], int32(gi))
			}
		}
	}
	for u := range direct {
		direct[u] = slices.Clip(direct[u])
	}
	return direct
}

// setRoom makes many sets of groups side by side.
type setRoom struct {
	sets    []groupSet
	of      []int32
	scratch []int32
}

// over is some groups with all that contain them, as above has them by group.
func (r *setRoom) over(above []*groupSet, groups []int32) *groupSet {
	switch len(groups) {
	case 0:
		return &groupSet{}
	case 1:
		return above[groups[0]]
	}
	r.scratch = r.scratch[:0]
	for _, g := range groups {
		r.scratch = append(r.scratch, above[g].of...)
	}
	slices.Sort(r.scratch)
	r.scratch = slices.Compact(r.scratch)
	n := len(r.scratch)
	if len(r.sets) == 0 {
		r.sets = make([]groupSet, 512)
	}
	if len(r.of) < n {
		r.of = make([]int32, max(n, 4096))
	}
	out := &r.sets[0]
	copy(r.of, r.scratch)
	*out = *setOf(r.of[:n:n])
	r.sets, r.of = r.sets[1:], r.of[n:]
	return out
}

// groupsOver is some groups with all that contain them.
func (d *Directory) groupsOver(groups []int32) *groupSet {
	sets := make([]*groupSet, len(groups))
	for i, g := range groups {
		sets[i] = d.above.At(g)
	}
	return union(sets...)
}

// closeGroups returns, for each group, the set of it and every group above it.
func closeGroups(groups []Group, parents [][]int32) ([]*groupSet, error) {
	const (
		fresh = iota
		open
		done
	)
	state := make([]uint8, len(groups))
	closures := make([]*groupSet, len(groups))
	var trail []int32
	var visit func(g int32) error
	visit = func(g int32) error {
		switch state[g] {
		case done:
			return nil
		case open:
			at := slices.Index(trail, g)
			var names []string
			// The trail climbs from member to container; read it the other way.
			for _, i := range trail[at:] {
				names = append(names, groups[i].Name)
			}
			names = append(names, groups[g].Name)
			slices.Reverse(names)
			return fmt.Errorf("%w: %s", ErrCycle, strings.Join(names, " contains "))
		}
		state[g] = open
		trail = append(trail, g)
		sets := []*groupSet{setOf([]int32{g})}
		for _, p := range parents[g] {
			if err := visit(p); err != nil {
				return err
			}
			sets = append(sets, closures[p])
		}
		trail = trail[:len(trail)-1]
		state[g], closures[g] = done, union(sets...)
		return nil
	}
	for g := range groups {
		if err := visit(int32(g)); err != nil {
			return nil, err
		}
	}
	return closures, nil
}

// groupSet is some groups by dense index, in order, with a bit for each in a word that they share: most that are not in it are told at once, and where there
// are no more than 64 groups all are.
type groupSet struct {
	of   []int32
	mask uint64
}

func setOf(of []int32) *groupSet {
	s := &groupSet{of: of}
	for _, g := range of {
		s.mask |= 1 << (g % 64)
	}
	return s
}

func (s *groupSet) has(g int32) bool {
	if s == nil || s.mask&(1<<(g%64)) == 0 {
		return false
	}
	switch last := s.of[len(s.of)-1]; {
	case g > last:
		return false
	case last < 64: // no two share a bit
		return true
	}
	_, ok := slices.BinarySearch(s.of, g)
	return ok
}

// union is what is in any of the sets; one that is all of it is given itself.
func union(sets ...*groupSet) *groupSet {
	switch len(sets) {
	case 0:
		return &groupSet{}
	case 1:
		return sets[0]
	}
	var most int
	for _, s := range sets {
		most += len(s.of)
	}
	out := make([]int32, 0, most)
	for _, s := range sets {
		out = append(out, s.of...)
	}
	slices.Sort(out)
	return setOf(slices.Clip(slices.Compact(out)))
}
