package audit

import (
	"cmp"
	"maps"
	"reflect"
	"slices"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
)

// Change is what becomes other for some people on a path. Paths below on which they had, and
// get, the same as here are not told of.
type Change struct {
	Folder  string // its name, after; before, where it is gone
	Path    string // below the folder
	Was, Is Pair
	People  []identity.ID // in the order of their numbers
}

// Gains and Loses say whether anything is had more, or less, than before; both can be.
func (c *Change) Gains() bool { return c.Is.SMB&^c.Was.SMB != 0 || c.Is.NFS&^c.Was.NFS != 0 }

// Loses is the other side of Gains.
func (c *Change) Loses() bool { return c.Was.SMB&^c.Is.SMB != 0 || c.Was.NFS&^c.Is.NFS != 0 }

// Difference tells whose levels the two differ in, and where: on the paths that have rules in
// either, and only where it is not as on the path above. The folder's name and the path say the order.
func (c *Comparison) Difference() []Change {
	var out []Change
	for _, pair := range c.folders() {
		if !c.untouched[pair] {
			out = append(out, c.folder(pair[0], pair[1])...)
		}
	}
	slices.SortStableFunc(out, func(a, b Change) int {
		return cmp.Or(cmp.Compare(a.Folder, b.Folder), cmp.Compare(a.Path, b.Path), cmp.Compare(b.Is.Either(), a.Is.Either()), cmp.Compare(b.Was.Either(), a.Was.Either()))
	})
	return out
}

// Comparison is two audits beside each other. It numbers the people of both in one way: those of after
// first, then those gone.
type Comparison struct {
	before, after *Audit
	same          bool // both have the same people in the same order
	sameSite      bool // nothing but folders, shares and exports differs
	ids           []identity.ID
	was, is       []int32 // by number: the dense index on each side, or None
	straight      [2]bool // of before and after: the numbers begin as the indexes there do, and those that follow have none
	untouched     map[[2]*site.PublishedFolder]bool
}

// Compare puts a site before a change, or at an earlier moment, beside the same after it.
func Compare(before, after *Audit) *Comparison {
	c := &Comparison{before: before, after: after, same: true, untouched: make(map[[2]*site.PublishedFolder]bool)}
	b, a := before.Policy.Directory, after.Policy.Directory
	for i, u := range a.Users() {
		c.ids = append(c.ids, u.ID)
		c.is, c.was = append(c.is, int32(i)), append(c.was, b.UserIndex(u.ID))
		c.same = c.same && c.was[i] == int32(i)
	}
	for i, u := range b.Users() {
		if a.UserIndex(u.ID) == identity.None {
			c.ids = append(c.ids, u.ID)
			c.is, c.was = append(c.is, identity.None), append(c.was, int32(i))
			c.same = false
		}
	}
	c.straight = [2]bool{straight(c.was), straight(c.is)}
	c.sameSite = c.same && before.Now.Equal(after.Now) && before.Policy.Services == after.Policy.Services &&
		reflect.DeepEqual(a.Users(), b.Users()) && reflect.DeepEqual(a.Groups(), b.Groups()) &&
		slices.EqualFunc(before.Policy.NumberMaps, after.Policy.NumberMaps, func(x, y *site.HostNumbers) bool { return reflect.DeepEqual(x.NumberMap, y.NumberMap) })
	for _, pair := range c.folders() {
		c.untouched[pair] = c.alike(pair[0], pair[1])
	}
	return c
}

// straight says whether indexes are their own numbers, up to where there are none any more: as those of a site are to which people only came.
func straight(index []int32) bool {
	ended := false
	for n, i := range index {
		if i == identity.None {
			ended = true
		} else if ended || int(i) != n {
			return false
		}
	}
	return true
}

// folders pairs those of both sides by their numbers; nil where there is none.
func (c *Comparison) folders() [][2]*site.PublishedFolder {
	var out [][2]*site.PublishedFolder
	for _, b := range c.before.Policy.Folders {
		out = append(out, [2]*site.PublishedFolder{b, c.after.Policy.Folder(b.ID)})
	}
	for _, a := range c.after.Policy.Folders {
		if c.before.Policy.Folder(a.ID) == nil {
			out = append(out, [2]*site.PublishedFolder{nil, a})
		}
	}
	return out
}

// alike says whether nothing about a folder differs.
func (c *Comparison) alike(b, a *site.PublishedFolder) bool {
	if !c.sameSite || b == nil || a == nil || !reflect.DeepEqual(b.Folder, a.Folder) || len(b.Shares) != len(a.Shares) || len(b.Exports) != len(a.Exports) {
		return false
	}
	for i := range b.Shares {
		if !reflect.DeepEqual(b.Shares[i].Share, a.Shares[i].Share) {
			return false
		}
	}
	for i := range b.Exports {
		if !reflect.DeepEqual(b.Exports[i].InForce, a.Exports[i].InForce) || b.Exports[i].Below != a.Exports[i].Below || b.Exports[i].ClientGroups != a.Exports[i].ClientGroups {
			return false
		}
	}
	// What lies on disk may be given as another's.
	if c.before.folder(b).owned || c.after.folder(a).owned {
		return false
	}
	return !a.Unix() || reflect.DeepEqual(c.before.folder(b).attributes(""), c.after.folder(a).attributes(""))
}

// numbered is a standing in the numbering of both sides.
func (c *Comparison) numbered(s *Standing, side int) [2]Levels {
	if s == nil {
		return [2]Levels{}
	}
	if c.same {
		return [2]Levels{s.SMB, s.NFS}
	}
	index := [2][]int32{c.was, c.is}[side]
	var out [2]Levels
	for k, l := range []*Levels{&s.SMB, &s.NFS} {
		for _, level := range acl.Levels {
			out[k][level] = make(identity.People, len(c.ids)/64+1)
			if c.straight[side] { // ten thousand people who come are so many words, and not so many steps for each level and path
				copy(out[k][level], l[level])
				continue
			}
			for n, i := range index {
				if i != identity.None && l[level].Has(i) {
					out[k][level].Add(int32(n))
				}
			}
		}
	}
	return out
}

// side is one of the two sites in a walk through a folder.
type side struct {
	f  *folder
	w  *workspace
	up *frame
}

func (s *side) unix() bool { return s.f != nil && s.f.Unix() }

// step goes on to a path; the side has no folder where it is nil.
func (s *side) step(path, name string) (*frame, *Standing) {
	switch {
	case s.f == nil:
		return nil, nil
	case s.unix():
		return nil, s.f.unixAt(path)
	}
	n := s.f.root
	if path != "" {
		n = s.up.node.child(name)
	}
	fr := s.f.step(s.w, s.up, n, path)
	return fr, s.f.standing(s.w, fr, path, acl.KindOf(path, false))
}

func (c *Comparison) folder(b, a *site.PublishedFolder) []Change {
	was, is := side{w: &workspace{}}, side{w: &workspace{}}
	name := ""
	if b != nil {
		was.f, name = c.before.folder(b), b.Name
	}
	if a != nil {
		is.f, name = c.after.folder(a), a.Name
	}
	var out []Change
	c.down(name, &was, &is, "", "", nil, &out)
	return out
}

// down compares one path and those below it on which either side has rules. above is both
// sides' standing on the path above.
func (c *Comparison) down(folder string, was, is *side, path, name string, above *[2][2]Levels, out *[]Change) {
	frB, stB := was.step(path, name)
	frA, stA := is.step(path, name)
	here := [2][2]Levels{c.numbered(stB, 0), c.numbered(stA, 1)}
	*out = append(*out, c.changes(folder, path, &here, above)...)

	names := make(map[string]bool)
	for _, fr := range []*frame{frB, frA} {
		if fr != nil && fr.node != nil {
			for _, n := range fr.node.children {
				names[n.name] = true
			}
		}
	}
	if was.unix() || is.unix() {
		clear(names) // where modes decide, the folder itself stands for all in it
	}
	for _, next := range slices.Sorted(maps.Keys(names)) {
		b, a := *was, *is
		b.up, a.up = frB, frA
		c.down(folder, &b, &a, below(path, next), next, &here, out)
	}
	if frB != nil {
		was.w.done(frB)
	}
	if frA != nil {
		is.w.done(frA)
	}
}

// changes lists those who have other levels after than before, and not just what they have above.
func (c *Comparison) changes(folder, path string, here, above *[2][2]Levels) []Change {
	words := (len(c.ids) + 63) / 64
	changed, own := make(identity.People, words), make(identity.People, words)
	xor := func(into, a, b identity.People) {
		for i := range into {
			var x, y uint64
			if a != nil {
				x = a[i]
			}
			if b != nil {
				y = b[i]
			}
			into[i] |= x ^ y
		}
	}
	for k := range 2 {
		for _, l := range acl.Levels {
			xor(changed, here[0][k][l], here[1][k][l])
			if above != nil {
				xor(own, here[0][k][l], above[0][k][l])
				xor(own, here[1][k][l], above[1][k][l])
			}
		}
	}
	if above != nil {
		changed.And(own)
	}
	type key struct{ was, is Pair }
	at := make(map[key]int)
	var out []Change
	pair := func(side *[2]Levels, n int32) (p Pair) {
		if side[0][acl.Pass] != nil {
			p = Pair{side[0].Of(n), side[1].Of(n)}
		}
		return p
	}
	for n := range changed.Each() {
		k := key{pair(&here[0], n), pair(&here[1], n)}
		i, ok := at[k]
		if !ok {
			i = len(out)
			at[k] = i
			out = append(out, Change{Folder: folder, Path: path, Was: k.was, Is: k.is})
		}
		out[i].People = append(out[i].People, c.ids[n])
	}
	return out
}
