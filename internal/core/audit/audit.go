package audit

import (
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
)

// Audit answers about one policy at one moment. It is for one goroutine.
type Audit struct {
	Policy *site.Policy
	Now    time.Time
	Stored func() Stored // nil where that is not known

	facts   func(*site.PublishedFolder) access.Facts
	folders map[int64]*folder
	active  identity.People // accounts in force
	smb     identity.People // and who may use SMB, which is on
	nfs     identity.People
	guest   int32                           // as whom those come who have no account; below 0 for nobody
	chains  map[identity.ID]map[int32]int32 // see chainTo
}

// New begins an audit. facts tells what is on disk and may be nil, as may what it gives.
func New(p *site.Policy, now time.Time, facts func(*site.PublishedFolder) access.Facts) *Audit {
	d := p.Directory
	a := &Audit{Policy: p, Now: now, facts: facts, folders: make(map[int64]*folder),
		active: d.NoPeople(), smb: d.NoPeople(), nfs: d.NoPeople(), guest: d.UserIndex(p.Services.SMBGuest)}
	for i, u := range d.Users() {
		if !u.InForce(now) {
			continue
		}
		a.active.Add(int32(i))
		if u.SMB && p.Services.SMB {
			a.smb.Add(int32(i))
		}
		if u.NFS && p.Services.NFS {
			a.nfs.Add(int32(i))
		}
	}
	return a
}

// Levels is who has each level, by level. Nobody is kept for NoLevel.
type Levels [acl.Control + 1]identity.People

func noLevels(d *identity.Directory) Levels {
	var l Levels
	for _, level := range acl.Levels {
		l[level] = d.NoPeople()
	}
	return l
}

// Of gives the levels of one user, by dense index.
func (l *Levels) Of(user int32) acl.LevelSet {
	var set acl.LevelSet
	for _, level := range acl.Levels {
		if l[level].Has(user) {
			set |= 1 << level
		}
	}
	return set
}

func (l *Levels) and(other *Levels) {
	for _, level := range acl.Levels {
		l[level].And(other[level])
	}
}

func (l *Levels) or(other *Levels) {
	for _, level := range acl.Levels {
		l[level].Or(other[level])
	}
}

// Standing is what everybody may do to one object, by whichever share and from whichever host
// leaves most.
type Standing struct{ SMB, NFS Levels }

// folder is a published folder as the audit sees it: its rules as a tree again.
type folder struct {
	*site.PublishedFolder
	audit *Audit
	parts atoms
	root  *node
	owned bool // some entry depends on who owns the object
	facts access.Facts
	rules []*site.ExportRule // of its exports, with their export beside
	of    []*site.PublishedExport
	odd   [][]int32 // by rule: users whom the rule takes for somebody else, or with other groups
}

type node struct {
	path     string
	name     string
	rule     *acl.Rule
	children []*node
	byName   map[string]*node
	plain    bool // every entry reaches everything
}

func (n *node) child(name string) *node {
	if n == nil {
		return nil
	}
	return n.byName[name]
}

func (n *node) grow(path string) *node {
	if path == "" {
		return n
	}
	for name := range strings.SplitSeq(path, "/") {
		c := n.byName[name]
		if c == nil {
			c = &node{path: below(n.path, name), name: name, plain: true}
			if n.byName == nil {
				n.byName = make(map[string]*node)
			}
			n.byName[name] = c
			n.children = append(n.children, c)
		}
		n = c
	}
	return n
}

func below(dir, name string) string {
	if dir == "" {
		return name
	}
	return dir + "/" + name
}

func (a *Audit) folder(pf *site.PublishedFolder) *folder {
	if f := a.folders[pf.ID]; f != nil {
		return f
	}
	f := &folder{PublishedFolder: pf, audit: a, root: &node{plain: true}}
	rules := [][]acl.Rule{pf.Rules}
	for _, s := range pf.Shares {
		rules = append(rules, []acl.Rule{{Entries: s.Share.Entries}})
	}
	f.parts = atomsOf(rules...)
	for i := range pf.Rules {
		n := f.root.grow(pf.Rules[i].Path)
		n.rule = &pf.Rules[i]
		for j := range n.rule.Entries {
			e := &n.rule.Entries[j]
			n.plain = n.plain && e.Applies == acl.Everywhere
			f.owned = f.owned || e.Who.Kind == identity.KindOwner || e.Who.Kind == identity.KindOwningGroup
		}
	}
	if a.facts != nil {
		f.facts = a.facts(pf)
	}
	for _, e := range pf.Exports {
		for i := range e.InForce {
			if e.InForce[i].ShadowedBy == 0 && !reachesNobody(&e.InForce[i]) {
				f.rules, f.of = append(f.rules, &e.InForce[i]), append(f.of, e)
				f.odd = append(f.odd, a.oddities(e, &e.InForce[i]))
			}
		}
	}
	a.folders[pf.ID] = f
	return f
}

// reachesNobody says whether no origin passes a rule: it takes no flavour that is spoken.
func reachesNobody(l *site.ExportRule) bool {
	for _, s := range l.Security {
		if s == site.FlavorSys {
			return false
		}
	}
	return true
}

// oddities are the users for whom a rule stands for something else than the records say.
func (a *Audit) oddities(e *site.PublishedExport, l *site.ExportRule) []int32 {
	d := a.Policy.Directory
	var out []int32
	numbers := a.Policy.NumbersFor(l)
	root, nobodys := d.GroupIndexByGID(0), d.GroupIndexByGID(site.Anonymous)
	for i, u := range d.Users() {
		squashed := l.Squash == site.SquashRoot && (u.UID == 0 || e.ClientGroups && d.Member(int32(i), root))
		_, known := numbers.UserThere(u.UID)
		// Who has no primary group says the anonymous one, which may be somebody's.
		if squashed || !known || e.ClientGroups && (numbers != nil || u.Primary == 0 && nobodys != identity.None) {
			out = append(out, int32(i))
		}
	}
	return out
}

// arrive is how a user comes in by a rule, from a host that it is about.
func (a *Audit) arrive(e *site.PublishedExport, l *site.ExportRule, user int32) *access.Arrival {
	u := &a.Policy.Directory.Users()[user]
	return access.ArriveBy(a.Policy, e, l, access.UnixCredential(a.Policy.Directory, u.ID))
}

// ownerOf is who owns the object at a path.
func (f *folder) ownerOf(path string) acl.Ownership {
	if f.facts != nil {
		if own, ok := f.facts.OwnerOf(path); ok {
			return own
		}
	}
	return f.OwnedBy
}

// frame is where a walk stands: at an object, with what its entries grant, what it hands down, and
// who could come so far.
type frame struct {
	path   string
	up     *frame       // the directory it is in; nil at the folder's root
	node   *node        // nil where neither here nor below is any rule
	hands  [3][2]vector // by distance and kind (0 directory, 1 file); [0] is of the object itself
	passed identity.People
	rules  []ruleAt // from the last cut down, only where ownership counts
	depth  int
	made   []vector // what is this frame's own, to be used again
}

type ruleAt struct {
	rule  *acl.Rule
	depth int
}

// start is the folder's root.
func (f *folder) start(w *workspace) *frame {
	return f.step(w, nil, f.root, "")
}

// workspace keeps vectors that are free.
type workspace struct{ free []vector }

func (f *folder) vector(w *workspace) vector {
	if n := len(w.free); n > 0 {
		v := w.free[n-1]
		w.free = w.free[:n-1]
		return v
	}
	return newVector(f.audit.Policy.Directory, len(f.parts))
}

func (w *workspace) done(fr *frame) {
	w.free = append(w.free, fr.made...)
	fr.made = nil
}

// step goes down to one object of a directory.
func (f *folder) step(w *workspace, up *frame, n *node, path string) *frame {
	fr := &frame{path: path, node: n, up: up}
	d, now := f.audit.Policy.Directory, f.audit.Now
	var rule *acl.Rule
	if n != nil {
		rule = n.rule
	}
	if up == nil {
		fr.passed = d.Everybody()
	} else {
		fr.depth = up.depth + 1
		fr.passed = up.passed.Clone()
		f.grants(w, up, false, func(v vector) { v.all(f.parts, acl.Execute, fr.passed) })
		if rule == nil || !rule.Cut {
			fr.rules = up.rules
		}
	}
	if rule != nil && f.owned {
		fr.rules = append(fr.rules[:len(fr.rules):len(fr.rules)], ruleAt{rule, fr.depth})
	}
	if f.owned {
		return fr
	}
	for file := range 2 {
		var same vector
		for dist := range 3 {
			var from vector
			if up != nil {
				from = up.hands[min(dist+1, 2)][file]
			}
			switch {
			case dist > 0 && same != nil && (up == nil || up.hands[1][file] == nil || sameVector(up.hands[1][file], up.hands[2][file])) && (n == nil || n.plain):
				fr.hands[dist][file] = same
				continue
			case rule == nil && from != nil:
				fr.hands[dist][file] = from
			default:
				v := f.vector(w)
				fr.made = append(fr.made, v)
				if rule != nil && rule.Cut {
					from = nil
				}
				v.copy(from)
				if rule != nil {
					v.rule(d, f.parts, rule, dist, file == 1, acl.Ownership{User: identity.None, Group: identity.None}, now)
				}
				fr.hands[dist][file] = v
			}
			if dist == 0 {
				same = fr.hands[0][file]
			}
		}
	}
	return fr
}

func sameVector(a, b vector) bool { return len(a) > 0 && len(b) > 0 && &a[0] == &b[0] }

// grants calls use with what the entries grant on the frame's object. The vector is only valid
// during the call.
func (f *folder) grants(w *workspace, fr *frame, file bool, use func(vector)) {
	if !f.owned {
		kind := 0
		if file {
			kind = 1
		}
		use(fr.hands[0][kind])
		return
	}
	own := f.ownerOf(fr.path)
	v := f.vector(w)
	v.copy(nil)
	for _, r := range fr.rules {
		v.rule(f.audit.Policy.Directory, f.parts, r.rule, fr.depth-r.depth, file, own, f.audit.Now)
	}
	use(v)
	w.free = append(w.free, v)
}

// At gives what everybody may do to the object at a path.
func (a *Audit) At(pf *site.PublishedFolder, path string, file bool) *Standing {
	f := a.folder(pf)
	if pf.Unix() {
		return f.unixAt(path)
	}
	w := &workspace{}
	others, known := f.others(path, file)
	if !known {
		d := a.Policy.Directory
		return &Standing{SMB: noLevels(d), NFS: noLevels(d)}
	}
	s := f.at(w, path, path, acl.KindOf(path, file))
	for _, other := range others { // none grants what another withholds
		t := f.at(w, other, path, acl.AlsoNamed)
		s.SMB.and(&t.SMB)
		s.NFS.and(&t.NFS)
	}
	return s
}

// manyNamed is what a folder's facts can say of files with several names.
type manyNamed interface {
	// Others gives the other names below the folder of the file at a path; known is false where it has more than
	// are looked at.
	Others(path string) (names []string, known bool)
}

func (f *folder) others(path string, file bool) (names []string, known bool) {
	if many, ok := f.facts.(manyNamed); ok && file {
		return many.Others(path)
	}
	return nil, true
}

// at goes down to a path where entries decide: one by which what is at asked is named.
func (f *folder) at(w *workspace, path, asked string, kind acl.Kind) *Standing {
	fr := f.start(w)
	if path != "" {
		for name := range strings.SplitSeq(path, "/") {
			fr = f.step(w, fr, fr.node.child(name), below(fr.path, name))
		}
	}
	return f.standing(w, fr, asked, kind)
}

// standing puts together what entries, shares and client rules leave. The exports that count are those in
// which the path lies that is asked about.
func (f *folder) standing(w *workspace, fr *frame, asked string, kind acl.Kind) *Standing {
	d := f.audit.Policy.Directory
	s := &Standing{SMB: noLevels(d), NFS: noLevels(d)}
	if len(f.Shares) > 0 {
		own := f.levels(w, fr, kind, site.SMB)
		for _, share := range f.Shares {
			got := f.throughShare(share, &own, kind)
			s.SMB.or(&got)
		}
	}
	if len(f.rules) > 0 {
		own := f.levels(w, fr, kind, site.NFS)
		for i, rule := range f.rules {
			if inExport(f.of[i], asked) {
				got := f.throughRule(i, rule, &own, kind, func(user int32) acl.LevelSet {
					return f.decideBy(i, rule, user, f.facts, fr.path, kind)
				})
				s.NFS.or(&got)
			}
		}
	}
	return s
}

// levels is who is left each level of an object by the path and entry gates.
func (f *folder) levels(w *workspace, fr *frame, kind acl.Kind, via site.Protocol) Levels {
	d, file := f.audit.Policy.Directory, kind.File()
	v := f.vector(w)
	f.grants(w, fr, file, v.copy)
	if fr.up == nil {
		v.leaves(d, f.parts, via, file, nil)
	} else {
		f.grants(w, fr.up, false, func(dir vector) { v.leaves(d, f.parts, via, file, dir) })
	}
	own := noLevels(d)
	for _, l := range acl.LevelsOf(kind) {
		copy(own[l], fr.passed)
		v.all(f.parts, l.Wants(kind), own[l])
	}
	w.free = append(w.free, v)
	return own
}

func inExport(e *site.PublishedExport, path string) bool {
	return e.Below == "" || path == e.Below || strings.HasPrefix(path, e.Below+"/")
}

func (f *folder) throughShare(share *site.PublishedShare, own *Levels, kind acl.Kind) Levels {
	d := f.audit.Policy.Directory
	out := noLevels(d)
	var v vector
	if len(share.Share.Entries) > 0 {
		v = newVector(d, len(f.parts))
		rule := acl.Rule{Entries: share.Share.Entries}
		v.rule(d, f.parts, &rule, 0, kind.File(), f.OwnedBy, f.audit.Now)
		v.amounts(f.parts, kind.File())
	}
	for _, l := range acl.LevelsOf(kind) {
		if l.Wants(kind)&^share.Most() != 0 {
			continue
		}
		copy(out[l], own[l])
		out[l].And(f.audit.smb)
		if f.audit.guest >= 0 && !share.Guests {
			out[l].Remove(f.audit.guest)
		}
		if v != nil {
			v.all(f.parts, l.Wants(kind), out[l])
		}
	}
	return out
}

// throughRule is what a client rule leaves; ask is for whom it makes somebody else of.
func (f *folder) throughRule(i int, rule *site.ExportRule, own *Levels, kind acl.Kind, ask func(user int32) acl.LevelSet) Levels {
	d := f.audit.Policy.Directory
	out := noLevels(d)
	if rule.Squash == site.SquashAll { // everybody is the same one
		if len(d.Users()) > 0 {
			set := ask(0)
			for _, l := range acl.Levels {
				if set.Has(l) {
					copy(out[l], d.Everybody())
				}
			}
		}
		return out
	}
	for _, l := range acl.LevelsOf(kind) {
		if !rule.Write && l.Wants(kind)&^acl.ReadOnly != 0 {
			continue
		}
		copy(out[l], own[l])
		out[l].And(f.audit.nfs)
	}
	for _, user := range f.odd[i] {
		set := ask(user)
		for _, l := range acl.Levels {
			out[l].Remove(user)
			if set.Has(l) {
				out[l].Add(user)
			}
		}
	}
	return out
}

// decideBy asks the gates themselves, for whom a rule makes somebody else of.
func (f *folder) decideBy(i int, rule *site.ExportRule, user int32, facts access.Facts, path string, kind acl.Kind) acl.LevelSet {
	a := f.audit
	u := &a.Policy.Directory.Users()[user]
	others, known := f.others(path, kind.File())
	return decided(a.Policy, access.Request{User: u.ID, Via: site.NFS, NFS: a.arrive(f.of[i], rule, user), Folder: f.PublishedFolder, Path: path,
		Others: others, Unjudged: !known, File: kind.File(), Facts: facts, Now: a.Now}, kind)
}

// decided asks for each level by itself, since where modes decide it matters what is wanted together.
func decided(p *site.Policy, r access.Request, kind acl.Kind) acl.LevelSet {
	var set acl.LevelSet
	for _, l := range acl.LevelsOf(kind) {
		if r.Want = l.Wants(kind); access.Decide(p, r).Allowed() {
			set |= 1 << l
		}
	}
	return set
}

// By gives what one user may do to an object as the gates decide it, over both protocols: the
// slow way, and the measure of the other.
func (a *Audit) By(pf *site.PublishedFolder, user int32, path string, file bool) (smb, nfs acl.LevelSet) {
	f := a.folder(pf)
	u := &a.Policy.Directory.Users()[user]
	others, known := f.others(path, file)
	r := access.Request{User: u.ID, Via: site.SMB, Folder: pf, Path: path, Others: others, Unjudged: !known, File: file, Facts: f.facts, Now: a.Now}
	kind := acl.KindOf(path, file)
	for _, share := range pf.Shares {
		r.Share = share
		smb |= decided(a.Policy, r, kind)
	}
	r.Share, r.Via = nil, site.NFS
	for i, rule := range f.rules {
		if inExport(f.of[i], path) {
			r.NFS = a.arrive(f.of[i], rule, user)
			nfs |= decided(a.Policy, r, kind)
		}
	}
	return smb, nfs
}

// attributes reads what decides about an object where modes do.
func (f *folder) attributes(path string) *posix.Attributes {
	if f.facts != nil {
		if a, ok := f.facts.UnixOf(path); ok {
			return a
		}
	}
	return nil
}
