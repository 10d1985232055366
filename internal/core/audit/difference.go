package audit

import (
	"cmp"
	"fmt"
	"maps"
	"reflect"
	"slices"
	"strings"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
)

// Change is what becomes other for some people on a path, or on what is below it. What they gain or lose alike on the path above is not
// told again.
type Change struct {
	Folder  string // its name, after; before, where it is gone
	Path    string // below the folder
	Objects string // which objects below the path are meant, "files in it"; "" for the path itself
	Was, Is Pair
	People  []identity.ID // in the order of their numbers
}

// gained is what h has that was did not.
func gained(h, was acl.Had) acl.Had {
	return acl.Had{Rights: h.Rights &^ was.Rights, Levels: h.Levels &^ was.Levels}
}

// Gains and Loses say whether any right is had more, or less, than before; both can be.
func (c *Change) Gains() bool {
	return gained(c.Is.SMB, c.Was.SMB) != acl.Had{} || gained(c.Is.NFS, c.Was.NFS) != acl.Had{}
}

// Loses is the other side of Gains.
func (c *Change) Loses() bool {
	return gained(c.Was.SMB, c.Is.SMB) != acl.Had{} || gained(c.Was.NFS, c.Is.NFS) != acl.Had{}
}

// Texts spells what was had and what will be. Where both would read alike, though some right differs, the second names it.
func (c *Change) Texts() (was, is Spelled) {
	was, is = c.Was.Spell(), c.Is.Spell()
	if was.Text != is.Text {
		return was, is
	}
	var differs []string
	dir := !c.Is.Kind.File()
	for _, p := range []struct {
		via     string
		is, was acl.Mask
	}{{"SMB", c.Is.SMB.Rights, c.Was.SMB.Rights}, {"NFS", c.Is.NFS.Rights, c.Was.NFS.Rights}} {
		if more := p.is &^ p.was; more != 0 {
			differs = append(differs, fmt.Sprintf("now with %s over %s", strings.Join(more.Names(dir), ", "), p.via))
		}
		if less := p.was &^ p.is; less != 0 {
			differs = append(differs, fmt.Sprintf("without %s over %s", strings.Join(less.Names(dir), ", "), p.via))
		}
	}
	is.Text += " (" + strings.Join(differs, "; ") + ")"
	return was, is
}

// Difference tells whose rights the two differ in, and where: on the paths that have rules in either, and on what lies below them without
// rules of its own. The folder's name and the path say the order.
func (c *Comparison) Difference() []Change {
	var out []Change
	for _, pair := range c.folders() {
		if !c.untouched[pair] {
			out = append(out, c.folder(pair[0], pair[1])...)
		}
	}
	slices.SortStableFunc(out, func(a, b Change) int {
		return cmp.Or(cmp.Compare(a.Folder, b.Folder), cmp.Compare(a.Path, b.Path), cmp.Compare(len(a.Objects), len(b.Objects)), cmp.Compare(a.Objects, b.Objects),
			cmp.Compare(b.Is.Either().Levels, a.Is.Either().Levels), cmp.Compare(b.Was.Either().Levels, a.Was.Either().Levels))
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
	ownUIDs       []uint32 // that were one user's and are another's, both in the records before and after
	ownGIDs       []uint32 // of groups that users who are in the records before and after come into, or leave
	texts         map[[2]Pair]textPair
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

// numbersChanged finds the numbers by which modes would mean somebody else than before. They are found when first needed.
func (c *Comparison) numbersChanged() {
	if c.sameSite || c.ownUIDs != nil {
		return
	}
	b, a := c.before.Policy.Directory, c.after.Policy.Directory
	uids := make(map[uint32]bool)
	gids := make(map[uint32]bool)
	for n, id := range c.ids {
		was, is := c.was[n], c.is[n]
		if was == identity.None || is == identity.None {
			continue
		}
		if x, y := b.User(id).UID, a.User(id).UID; x != y {
			uids[x], uids[y] = true, true
		}
		had := make(map[uint32]bool)
		for _, gid := range b.GIDs(was) {
			had[gid] = true
		}
		for _, gid := range a.GIDs(is) {
			if !had[gid] {
				gids[gid] = true
			}
			delete(had, gid)
		}
		for gid := range had {
			gids[gid] = true
		}
	}
	// A changed ID map gives people other numbers.
	for _, maps := range [][2][]*site.HostNumbers{{c.before.Policy.NumberMaps, c.after.Policy.NumberMaps}, {c.after.Policy.NumberMaps, c.before.Policy.NumberMaps}} {
		for _, one := range maps[0] {
			if slices.ContainsFunc(maps[1], func(other *site.HostNumbers) bool { return reflect.DeepEqual(one.NumberMap, other.NumberMap) }) {
				continue
			}
			for _, n := range one.Users {
				if u := a.User(n.Who); u != nil {
					uids[u.UID], uids[n.There] = true, true
				}
			}
			for _, n := range one.Groups {
				if g := a.Group(n.Who); g != nil {
					gids[g.GID], gids[n.There] = true, true
				}
			}
		}
	}
	c.ownUIDs = append([]uint32{}, slices.Sorted(maps.Keys(uids))...) // not nil: they are known now
	c.ownGIDs = slices.Sorted(maps.Keys(gids))
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
	if len(altered(c.before.folder(b).facts)) > 0 || len(altered(c.after.folder(a).facts)) > 0 {
		return false
	}
	return !a.Unix() || reflect.DeepEqual(c.before.folder(b).attributes(""), c.after.folder(a).attributes(""))
}

// altered lists the paths of a folder whose owner, mode or ACL a draft changes.
func altered(facts any) []string {
	if f, ok := facts.(interface{ Altered() []string }); ok {
		return f.Altered()
	}
	return nil
}

// numbered is a standing with the people of both sides numbered in one way.
type numbered struct {
	Standing
	known bool // there is such a folder on this side
}

func (c *Comparison) numbered(s *Standing, side int) numbered {
	if s == nil || c.same {
		if s == nil {
			return numbered{}
		}
		return numbered{*s, true}
	}
	index := [2][]int32{c.was, c.is}[side]
	renumber := func(p identity.People) identity.People {
		out := make(identity.People, len(c.ids)/64+1)
		if c.straight[side] { // ten thousand people who come are so many words, and not so many steps for each right and path
			copy(out, p)
			return out
		}
		for n, i := range index {
			if i != identity.None && p.Has(i) {
				out.Add(int32(n))
			}
		}
		return out
	}
	out := numbered{Standing{kind: s.kind, byMode: s.byMode}, true}
	for k, from := range []*Sets{&s.SMB, &s.NFS} {
		to := []*Sets{&out.SMB, &out.NFS}[k]
		to.parts = from.parts
		for _, level := range acl.Levels {
			to.levels[level] = renumber(from.levels[level])
		}
		for i := range from.parts {
			to.has = append(to.has, renumber(from.has[i]))
		}
	}
	return out
}

func (n *numbered) of(user int32, kind acl.Kind) Pair {
	if !n.known {
		return Pair{Kind: kind}
	}
	return n.Of(user)
}

// side is one of the two sites in a walk through a folder.
type side struct {
	f  *folder
	w  *workspace
	fr *frame // where the walk stands, where entries decide
}

func (s *side) unix() bool { return s.f != nil && s.f.Unix() }

// below goes on to a path in the directory where the side stands.
func (s *side) below(path, name string) side {
	next := side{f: s.f, w: s.w}
	if s.f != nil && !s.unix() {
		n := s.f.root
		if path != "" {
			n = s.fr.node.child(name)
		}
		next.fr = s.f.step(s.w, s.fr, n, path)
	}
	return next
}

// object is what a comparison looks at on a path: what lies there, or something below it that has no rules of its own.
type object struct {
	dist    int  // 0 for what is at the path; 1 for what is directly in it; 2 for what is further down
	file    bool // not of dist 0
	own     mine // how far it is the asking user's own
	through mine // and the directory it is in, where that is not at the path
	uid     uint32
	gid     uint32
}

// mine says whose an object of a comparison is.
type mine uint8

const (
	mineUser  mine = 1 << iota // of whoever asks
	mineGroup                  // of a group of whoever asks
	openToAll                  // somebody else's, with mode 0777; where modes decide
	byUID                      // of one uid, where modes decide
	byGID                      // of one gid, where modes decide
)

// standing is what everybody may do to an object; nil where there is no such folder.
func (s *side) standing(path string, kind acl.Kind, o object) *Standing {
	switch {
	case s.f == nil:
		return nil
	case s.unix():
		return s.f.unixObject(path, o)
	case kind.File() && o.dist == 0: // it may have other names
		return s.f.audit.At(s.f.PublishedFolder, path, true)
	case o.dist == 0:
		return s.f.standing(s.w, s.fr, path, kind)
	}
	fr := s.fr
	at := path
	if o.dist == 2 {
		at = below(at, unnamed)
		fr = s.f.stepTo(s.w, fr, at, o.through)
	}
	at = below(at, unnamed)
	fr = s.f.stepTo(s.w, fr, at, o.own)
	return s.f.standing(s.w, fr, at, acl.KindOf(at, o.file))
}

// unnamed is a name that no object has.
const unnamed = "\x00"

// objects lists what is to be looked at on a path beside what lies there.
func (c *Comparison) objects(was, is *side) (out []object) {
	if was.unix() || is.unix() {
		if was.f != nil && is.f != nil && was.unix() != is.unix() {
			return nil // what is below cannot be compared by what it may be
		}
		for _, own := range []mine{mineUser, openToAll} {
			out = append(out, object{dist: 1, file: true, own: own}, object{dist: 1, own: own})
		}
		c.numbersChanged()
		uids, gids := c.squashedTo(was, is)
		for _, uid := range slices.Compact(slices.Sorted(slices.Values(append(uids, c.ownUIDs...)))) {
			out = append(out, object{dist: 1, file: true, own: byUID, uid: uid}, object{dist: 1, own: byUID, uid: uid})
		}
		for _, gid := range slices.Compact(slices.Sorted(slices.Values(append(gids, c.ownGIDs...)))) {
			out = append(out, object{dist: 1, file: true, own: byGID, gid: gid}, object{dist: 1, own: byGID, gid: gid})
		}
		return out
	}
	var bits mine
	for _, s := range []*side{was, is} {
		if s.f != nil {
			bits |= s.f.owners
		}
	}
	for through := range bits + 1 {
		for own := range bits + 1 {
			if own&^bits != 0 || through&^bits != 0 {
				continue
			}
			for _, dist := range []int{1, 2} {
				if dist == 2 || through == 0 {
					out = append(out, object{dist: dist, own: own, through: through}, object{dist: dist, file: true, own: own, through: through})
				}
			}
		}
	}
	return out
}

// squashedTo lists the anonymous numbers of client rules that are on one side only.
func (c *Comparison) squashedTo(was, is *side) (uids, gids []uint32) {
	type pair struct{ uid, gid uint32 }
	var said [2]map[pair]bool
	for i, s := range []*side{was, is} {
		said[i] = make(map[pair]bool)
		if s.f != nil {
			for _, rule := range s.f.rules {
				said[i][pair{rule.AnonUID, rule.AnonGID}] = true
			}
		}
	}
	for i := range said {
		for p := range said[i] {
			if !said[1-i][p] {
				uids, gids = append(uids, p.uid), append(gids, p.gid)
			}
		}
	}
	return uids, gids
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
	w := &walkBoth{Comparison: c, folder: name, objects: c.objects(&was, &is), out: &out, byMode: was.unix() || is.unix(), ways: make(map[int32]uint8)}
	w.down(&was, &is, "", "", nil)
	if was.unix() && is.unix() {
		paths := append(altered(was.f.facts), altered(is.f.facts)...)
		slices.Sort(paths)
		for _, path := range slices.Compact(paths) {
			if path != "" {
				w.here(&was, &is, path, nil)
			}
		}
	}
	return out
}

// walkBoth compares one folder.
type walkBoth struct {
	*Comparison
	folder  string
	objects []object
	out     *[]Change
	// ways says, by person, whether gaining (1) and losing (2) was told in a folder where modes decide: what modes may give below it is endless,
	// and told only where nothing alike was.
	byMode bool
	ways   map[int32]uint8
}

// told is what was found to become other on a path, by person: what was told is not told again below.
type told map[int32][]textPair

// textPair is how a change reads. Where both texts are alike, rights tells changes apart.
type textPair struct {
	was, is string
	rights  [2][2]acl.Mask
}

func (c *Comparison) reads(was, is Pair) textPair {
	key := [2]Pair{was, is}
	t, ok := c.texts[key]
	if !ok {
		t = textPair{was: was.String(), is: is.String()}
		if t.was == t.is {
			t.rights = [2][2]acl.Mask{{was.SMB.Rights, is.SMB.Rights}, {was.NFS.Rights, is.NFS.Rights}}
		}
		if c.texts == nil {
			c.texts = make(map[[2]Pair]textPair)
		}
		c.texts[key] = t
	}
	return t
}

// down compares one path and those below it on which either side has rules.
func (w *walkBoth) down(wasUp, isUp *side, path, name string, above told) {
	was, is := wasUp.below(path, name), isUp.below(path, name)
	here := w.here(&was, &is, path, above)
	names := make(map[string]bool)
	if !was.unix() && !is.unix() {
		for _, s := range []*side{&was, &is} {
			if s.fr != nil && s.fr.node != nil {
				for _, n := range s.fr.node.children {
					names[n.name] = true
				}
			}
		}
	}
	for _, next := range slices.Sorted(maps.Keys(names)) {
		w.down(&was, &is, below(path, next), next, here)
	}
	for _, s := range []*side{&was, &is} {
		if s.fr != nil {
			s.w.done(s.fr)
		}
	}
}

// here compares what is at a path, and what is below it without rules of its own.
func (w *walkBoth) here(was, is *side, path string, above told) told {
	file := false
	for _, s := range []*side{was, is} {
		if disk, ok := s.factsOf().(onDisk); ok && path != "" {
			exists, isFile := disk.Kind(path)
			file = exists && isFile
		}
	}
	found := make(told)
	groups := w.compare(was, is, path, file, object{}, found, above)
	*w.out = append(*w.out, groups...)
	if file {
		return found
	}
	// Changes with the same text for the same people become one change that names all their objects.
	merged := make(map[string]int)
	for i := 0; i < len(w.objects); {
		j := i
		first := len(*w.out)
		clear(merged)
		same := make(map[int32][]textPair) // found among objects of the same owner
		for ; j < len(w.objects) && sameOwner(w.objects[i], w.objects[j]); j++ {
			o := w.objects[j]
			for _, change := range w.compare(was, is, path, false, o, same, found, above) {
				key := fmt.Sprintf("%v %v", w.reads(change.Was, change.Is), change.People)
				at, ok := merged[key]
				if !ok {
					merged[key] = len(*w.out)
					*w.out = append(*w.out, change)
					continue
				}
				(*w.out)[at].Objects += "\x00" + change.Objects
			}
		}
		for k := first; k < len(*w.out); k++ {
			(*w.out)[k].Objects = w.spell(strings.Split((*w.out)[k].Objects, "\x00"), w.objects[i])
		}
		for user, pairs := range same {
			found[user] = append(found[user], pairs...)
		}
		i = j
	}
	return found
}

func sameOwner(a, b object) bool {
	return a.own == b.own && a.through == b.through && a.uid == b.uid && a.gid == b.gid
}

func (s *side) factsOf() any {
	if s.f == nil {
		return nil
	}
	return s.f.facts
}

// compare tells, for one object, who may do something else after than before, and not just what was told already.
func (w *walkBoth) compare(was, is *side, path string, file bool, o object, found told, before ...told) []Change {
	kind := acl.KindOf(path, file)
	if o.dist > 0 {
		kind = acl.KindOf(unnamed, o.file)
	}
	x, y := w.numbered(was.standing(path, kind, o), 0), w.numbered(is.standing(path, kind, o), 1)
	changed := w.changed(&x, &y)
	type key struct{ was, is Pair }
	at := make(map[key]int)
	var out []Change
	for n := range changed.Each() {
		k := key{x.of(n, kind), y.of(n, kind)}
		reads := w.reads(k.was, k.is)
		known := false
		for _, t := range before {
			known = known || slices.Contains(t[n], reads)
		}
		if w.byMode {
			one := Change{Was: k.was, Is: k.is}
			way := uint8(0)
			if one.Gains() {
				way |= 1
			}
			if one.Loses() {
				way |= 2
			}
			known = known || o.dist > 0 && way&^w.ways[n] == 0
			w.ways[n] |= way
		}
		found[n] = append(found[n], reads)
		if wasFile, exact := onFiles(k.was); exact && !kind.File() {
			if isFile, exact := onFiles(k.is); exact {
				found[n] = append(found[n], w.reads(wasFile, isFile))
			}
		}
		if known {
			continue
		}
		i, ok := at[k]
		if !ok {
			i = len(out)
			at[k] = i
			out = append(out, Change{Folder: w.folder, Path: path, Objects: o.where(), Was: k.was, Is: k.is})
		}
		out[i].People = append(out[i].People, w.ids[n])
	}
	return out
}

// onFiles is what somebody may do to files who has just levels of the directory that they are in, as far as those reach files: it need not be told
// again. It is not exact where more than levels is had.
func onFiles(p Pair) (Pair, bool) {
	levels := func(h acl.Had) acl.Had {
		var out acl.Had
		for _, l := range acl.LevelsOf(acl.File) {
			if h.Levels&(1<<l) != 0 {
				out.Levels |= 1 << l
				out.Rights |= l.Mask(false)
			}
		}
		return out
	}
	exact := (!p.any(p.SMB) || p.SMB.Exact(p.Kind)) && (!p.any(p.NFS) || p.NFS.Exact(p.Kind))
	return Pair{levels(p.SMB), levels(p.NFS), acl.File, p.ByMode}, exact
}

// where names the kind of objects.
func (o object) where() string {
	switch {
	case o.dist == 0:
		return ""
	case o.dist == 1 && o.file:
		return "files in it"
	case o.dist == 1:
		return "directories in it"
	case o.file:
		return "files further down"
	}
	return "directories further down"
}

// spell puts the names of several kinds of objects together.
func (w *walkBoth) spell(where []string, o object) string {
	s := strings.Join(where, ", ")
	has := func(all ...string) bool {
		return len(where) == len(all) && !slices.ContainsFunc(all, func(one string) bool { return !slices.Contains(where, one) })
	}
	switch {
	case has("files in it", "directories in it", "files further down", "directories further down"):
		s = "everything below"
	case has("files in it", "files further down"):
		s = "files below"
	case has("directories in it", "directories further down"):
		s = "directories below"
	case has("files in it", "directories in it"):
		s = "everything in it"
		if w.byMode {
			s = "everything below"
		}
	case has("files further down", "directories further down"):
		s = "everything further down"
	case w.byMode:
		s = strings.ReplaceAll(s, "in it", "below")
	}
	whose := ""
	switch {
	case o.own&openToAll != 0:
		whose = " that its mode opens to everybody"
	case o.own&byUID != 0:
		whose = fmt.Sprintf(" that uid %d owns", o.uid)
	case o.own&byGID != 0:
		whose = fmt.Sprintf(" of gid %d", o.gid)
		if g := w.after.Policy.Directory.GroupIndexByGID(o.gid); g != identity.None {
			whose = " of group " + w.after.Policy.Directory.Groups()[g].Name
		}
	case o.own == mineUser|mineGroup:
		whose = " that they and their group own"
	case o.own == mineUser:
		whose = " that they own"
	case o.own == mineGroup:
		whose = " that their group owns"
	}
	switch {
	case o.through&mineUser != 0:
		whose += ", in directories that they own"
	case o.through&mineGroup != 0:
		whose += ", in directories that their group owns"
	}
	return s + whose
}

// changed is who has another right, or level, after than before.
func (c *Comparison) changed(x, y *numbered) identity.People {
	out := make(identity.People, (len(c.ids)+63)/64)
	xor := func(a, b identity.People) {
		for i := range out {
			var p, q uint64
			if a != nil {
				p = a[i]
			}
			if b != nil {
				q = b[i]
			}
			out[i] |= p ^ q
		}
	}
	for _, pair := range [][2]*Sets{{&x.SMB, &y.SMB}, {&x.NFS, &y.NFS}} {
		if slices.Equal(pair[0].parts, pair[1].parts) {
			for i := range pair[0].parts {
				xor(pair[0].has[i], pair[1].has[i])
			}
		} else {
			for _, bit := range acl.Bits() {
				xor(pair[0].Right(bit), pair[1].Right(bit))
			}
		}
		for _, l := range acl.Levels {
			xor(pair[0].levels[l], pair[1].levels[l])
		}
	}
	return out
}
