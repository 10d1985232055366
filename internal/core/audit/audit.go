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

	inGroups identity.People // see grouped
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

// Sets is who may do what over one protocol: who has each access right alone, and who has all rights of a level together. See acl.Had.
type Sets struct {
	levels [acl.Control + 1]identity.People // nothing is kept for NoLevel
	parts  atoms
	has    vector // by atom
}

func noSets(d *identity.Directory, parts atoms) Sets {
	s := Sets{parts: parts, has: newVector(d, len(parts))}
	for _, level := range acl.Levels {
		s.levels[level] = d.NoPeople()
	}
	return s
}

// Level is who has all rights of a level together. It is only to be read.
func (s *Sets) Level(l acl.Level) identity.People { return s.levels[l] }

// Right is who has a single access right. It is only to be read.
func (s *Sets) Right(bit acl.Mask) identity.People { return s.has.of(s.parts, bit) }

// Of gives what one user may do, by dense index.
func (s *Sets) Of(user int32) acl.Had {
	var h acl.Had
	for _, level := range acl.Levels {
		if s.levels[level].Has(user) {
			h.Levels |= 1 << level
		}
	}
	for i, atom := range s.parts {
		if s.has[i].Has(user) {
			h.Rights |= atom
		}
	}
	return h
}

// set replaces what is said of one user.
func (s *Sets) set(user int32, h acl.Had) {
	for _, level := range acl.Levels {
		s.levels[level].Remove(user)
		if h.Levels != 0 && h.Levels.Has(level) {
			s.levels[level].Add(user)
		}
	}
	for i, atom := range s.parts {
		s.has[i].Remove(user)
		if h.Rights&atom != 0 {
			s.has[i].Add(user)
		}
	}
}

// and leaves what both give. What a verdict says of one name of a file alone, deleting it, is left as it is.
func (s *Sets) and(other *Sets) {
	for _, level := range acl.Levels {
		s.levels[level].And(other.levels[level])
	}
	for i, atom := range s.parts {
		if atom&acl.Delete == 0 {
			s.has[i].And(other.has[i])
		}
	}
}

func (s *Sets) or(other *Sets) {
	for _, level := range acl.Levels {
		s.levels[level].Or(other.levels[level])
	}
	for i := range s.parts {
		s.has[i].Or(other.has[i])
	}
}

// onlyDelete leaves the right to delete, and nothing else.
func (s *Sets) onlyDelete() {
	for _, level := range acl.Levels {
		clear(s.levels[level])
	}
	for i, atom := range s.parts {
		if atom&acl.Delete == 0 {
			clear(s.has[i])
		}
	}
}

// Standing is what everybody may do to one object, by whichever share and from whichever host
// leaves most.
type Standing struct {
	SMB, NFS Sets
	kind     acl.Kind
	byMode   bool
}

func (f *folder) noStanding(kind acl.Kind) *Standing {
	d := f.audit.Policy.Directory
	return &Standing{SMB: noSets(d, f.parts), NFS: noSets(d, f.parts), kind: kind, byMode: f.Unix()}
}

// folder is a published folder as the audit sees it: its rules as a tree again.
type folder struct {
	*site.PublishedFolder
	audit  *Audit
	parts  atoms
	root   *node
	atTop  *Standing // see atRoot
	owned  bool      // some entry depends on who owns the object
	owners mine      // on which of its owner and its group
	facts  access.Facts
	rules  []*site.ExportRule // of its exports, with their export beside
	of     []*site.PublishedExport
	odd    [][]int32 // by rule: users whom the rule takes for somebody else, or with other groups
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
			switch e.Who.Kind {
			case identity.KindOwner:
				f.owned, f.owners = true, f.owners|mineUser
			case identity.KindOwningGroup:
				f.owned, f.owners = true, f.owners|mineGroup
			}
		}
	}
	if a.facts != nil {
		f.facts = a.facts(pf)
	}
	if !pf.Unix() { // rights can differ there from those above without any rule
		for _, path := range altered(f.facts) {
			f.root.grow(path)
		}
		for _, e := range pf.Exports {
			f.root.grow(e.Below)
		}
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
	// own, of something that has no name, says how far everybody is asked about as its owner.
	own     mine
	unnamed bool
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

// stepTo goes down to something in a directory that has neither a name nor rules, and is the asking user's own as far as own says.
func (f *folder) stepTo(w *workspace, up *frame, path string, own mine) *frame {
	fr := f.step(w, up, nil, path)
	fr.own, fr.unnamed = own, true
	return fr
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
	d := f.audit.Policy.Directory
	v := f.vector(w)
	v.copy(nil)
	var of func(identity.Principal) (identity.People, int32)
	if fr.unnamed {
		of = func(who identity.Principal) (identity.People, int32) {
			if who.Kind == identity.KindOwner && fr.own&mineUser != 0 {
				return d.Everybody(), identity.None
			}
			if who.Kind == identity.KindOwningGroup && fr.own&mineGroup != 0 {
				return f.audit.grouped(), identity.None
			}
			return whom(d, who, acl.Ownership{User: identity.None, Group: identity.None})
		}
	} else {
		own := f.ownerOf(fr.path)
		of = func(who identity.Principal) (identity.People, int32) { return whom(d, who, own) }
	}
	for _, r := range fr.rules {
		v.ruleOf(of, f.parts, r.rule, fr.depth-r.depth, file, f.audit.Now)
	}
	use(v)
	w.free = append(w.free, v)
}

// grouped is everybody who is in some group.
func (a *Audit) grouped() identity.People {
	if a.inGroups == nil {
		d := a.Policy.Directory
		a.inGroups = d.NoPeople()
		for g := range d.Groups() {
			a.inGroups.Or(d.Members(int32(g)))
		}
	}
	return a.inGroups
}

// At gives what everybody may do to the object at a path.
func (a *Audit) At(pf *site.PublishedFolder, path string, file bool) *Standing {
	f := a.folder(pf)
	if pf.Unix() {
		return f.unixAt(path)
	}
	w := &workspace{}
	others, known := f.others(path, file)
	s := f.at(w, path, path, acl.KindOf(path, file))
	if !known { // see access.Request.Unjudged
		s.SMB.onlyDelete()
		s.NFS.onlyDelete()
		return s
	}
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
	s := f.noStanding(kind)
	if len(f.Shares) > 0 {
		own := f.left(w, fr, kind, site.SMB)
		for _, share := range f.Shares {
			got := f.throughShare(share, &own, kind)
			s.SMB.or(&got)
		}
	}
	if len(f.rules) > 0 {
		own := f.left(w, fr, kind, site.NFS)
		for i, rule := range f.rules {
			if inExport(f.of[i], asked) {
				got := f.throughRule(i, rule, &own, kind, func(user int32) acl.Had {
					facts := f.facts
					if fr.unnamed {
						facts = f.unnamedFacts(fr, user)
					}
					return f.decideBy(i, rule, user, facts, fr.path, kind)
				}, f.alike(fr))
				s.NFS.or(&got)
			}
		}
	}
	return s
}

// left is what the path and entry gates leave everybody of an object.
func (f *folder) left(w *workspace, fr *frame, kind acl.Kind, via site.Protocol) Sets {
	d, file := f.audit.Policy.Directory, kind.File()
	own := noSets(d, f.parts)
	f.grants(w, fr, file, own.has.copy)
	if fr.up == nil {
		own.has.leaves(d, f.parts, via, file, nil)
	} else {
		f.grants(w, fr.up, false, func(dir vector) { own.has.leaves(d, f.parts, via, file, dir) })
	}
	for i := range own.has {
		own.has[i].And(fr.passed)
	}
	own.count(d, kind)
	return own
}

// count works out who has each level from who has each right.
func (s *Sets) count(d *identity.Directory, kind acl.Kind) {
	for _, l := range acl.LevelsOf(kind) {
		copy(s.levels[l], d.Everybody())
		s.has.all(s.parts, l.Wants(kind), s.levels[l])
	}
}

// narrow leaves a level to those who still have each of its rights.
func (s *Sets) narrow(own *Sets, kind acl.Kind) {
	for _, l := range acl.LevelsOf(kind) {
		copy(s.levels[l], own.levels[l])
		s.has.all(s.parts, l.Wants(kind), s.levels[l])
	}
}

func inExport(e *site.PublishedExport, path string) bool {
	return e.Below == "" || path == e.Below || strings.HasPrefix(path, e.Below+"/")
}

func (f *folder) throughShare(share *site.PublishedShare, own *Sets, kind acl.Kind) Sets {
	d := f.audit.Policy.Directory
	out := noSets(d, f.parts)
	var v vector
	if len(share.Share.Entries) > 0 {
		v = newVector(d, len(f.parts))
		rule := acl.Rule{Entries: share.Share.Entries}
		v.rule(d, f.parts, &rule, 0, kind.File(), f.OwnedBy, f.audit.Now)
	}
	most := share.Most()
	for i, atom := range f.parts {
		if v != nil { // the options of the share narrow what amounts is worked out from
			if atom&most == 0 {
				clear(v[i])
			}
		}
	}
	if v != nil {
		v.amounts(f.parts, kind.File())
	}
	leaves := access.Amounts(most, kind.File())
	for i, atom := range f.parts {
		if atom&leaves == 0 {
			continue
		}
		has := out.has[i]
		copy(has, own.has[i])
		has.And(f.audit.smb)
		if f.audit.guest >= 0 && !share.Guests {
			has.Remove(f.audit.guest)
		}
		if v != nil {
			has.And(v[i])
		}
	}
	out.narrow(own, kind)
	return out
}

// throughRule is what a client rule leaves; ask is for whom it makes somebody else of. Where that depends on who asks even though all arrive as one,
// alike gives a number that is the same for users who are answered alike; it is nil where it does not.
func (f *folder) throughRule(i int, rule *site.ExportRule, own *Sets, kind acl.Kind, ask func(user int32) acl.Had, alike func(user int32) int32) Sets {
	d := f.audit.Policy.Directory
	out := noSets(d, f.parts)
	if rule.Squash == site.SquashAll { // everybody is the same one
		if alike != nil { // but what is asked about is each one's own
			known := make(map[int32]acl.Had)
			for user := range d.Everybody().Each() {
				class := alike(user)
				had, ok := known[class]
				if !ok {
					had = ask(user)
					known[class] = had
				}
				out.set(user, had)
			}
			return out
		}
		if len(d.Users()) > 0 {
			had := ask(0)
			for _, l := range acl.Levels {
				if had.Levels.Has(l) {
					copy(out.levels[l], d.Everybody())
				}
			}
			for i, atom := range f.parts {
				if had.Rights&atom != 0 {
					copy(out.has[i], d.Everybody())
				}
			}
		}
		return out
	}
	for i, atom := range f.parts {
		if rule.Write || atom&acl.ReadOnly != 0 {
			copy(out.has[i], own.has[i])
			out.has[i].And(f.audit.nfs)
		}
	}
	out.narrow(own, kind)
	for _, user := range f.odd[i] {
		out.set(user, ask(user))
	}
	return out
}

// decideBy asks the gates themselves, for whom a rule makes somebody else of.
func (f *folder) decideBy(i int, rule *site.ExportRule, user int32, facts access.Facts, path string, kind acl.Kind) acl.Had {
	a := f.audit
	u := &a.Policy.Directory.Users()[user]
	var others []string
	known := true
	if many, ok := facts.(manyNamed); ok && kind.File() {
		others, known = many.Others(path)
	}
	return decided(a.Policy, access.Request{User: u.ID, Via: site.NFS, NFS: a.arrive(f.of[i], rule, user), Folder: f.PublishedFolder, Path: path,
		Others: others, Unjudged: !known, File: kind.File(), Facts: facts, Now: a.Now}, kind)
}

// ownedBy are facts in which some objects have no name, and are owned as said.
type ownedBy struct {
	access.Facts
	own map[string]acl.Ownership
}

func (o ownedBy) OwnerOf(path string) (acl.Ownership, bool) {
	if own, ok := o.own[path]; ok {
		return own, true
	}
	if o.Facts == nil {
		return acl.Ownership{}, false
	}
	return o.Facts.OwnerOf(path)
}

// UnixOf is there for facts that have none.
func (o ownedBy) UnixOf(path string) (*posix.Attributes, bool) {
	if o.Facts == nil {
		return nil, false
	}
	return o.Facts.UnixOf(path)
}

// alike parts users by what of an unnamed object, or of a directory on the way to it, is theirs; nil where nothing is.
func (f *folder) alike(fr *frame) func(user int32) int32 {
	var own mine
	for ; fr != nil && fr.unnamed; fr = fr.up {
		own |= fr.own
	}
	if own == 0 {
		return nil
	}
	return func(user int32) int32 { return user }
}

// unnamedFacts has a user own what a frame says is their own.
func (f *folder) unnamedFacts(fr *frame, user int32) access.Facts {
	d := f.audit.Policy.Directory
	out := ownedBy{f.facts, make(map[string]acl.Ownership)}
	for ; fr != nil && fr.unnamed; fr = fr.up {
		own := acl.Ownership{User: identity.None, Group: identity.None}
		if fr.own&mineUser != 0 {
			own.User = user
		}
		if fr.own&mineGroup != 0 {
			for g := range d.Groups() {
				if d.Members(int32(g)).Has(user) {
					own.Group = int32(g)
					break
				}
			}
		}
		out.own[fr.path] = own
	}
	return out
}

// decided is what the gates leave. Where modes decide, each level is asked for as a whole, since it matters there what is wanted together.
func decided(p *site.Policy, r access.Request, kind acl.Kind) acl.Had {
	r.Want = 0
	had := acl.HadOf(access.Decide(p, r).Granted, kind)
	if !r.Folder.Unix() {
		return had
	}
	for _, l := range acl.LevelsOf(kind) {
		if r.Want = l.Wants(kind); had.Levels.Has(l) && !access.Decide(p, r).Allowed() {
			had.Levels &^= 1 << l
		}
	}
	return had
}

// By gives what one user may do to an object as the gates decide it, over both protocols: the
// slow way, and the measure of the other.
func (a *Audit) By(pf *site.PublishedFolder, user int32, path string, file bool) Pair {
	f := a.folder(pf)
	u := &a.Policy.Directory.Users()[user]
	others, known := f.others(path, file)
	r := access.Request{User: u.ID, Via: site.SMB, Folder: pf, Path: path, Others: others, Unjudged: !known, File: file, Facts: f.facts, Now: a.Now}
	out := Pair{Kind: acl.KindOf(path, file), ByMode: pf.Unix()}
	for _, share := range pf.Shares {
		r.Share = share
		out.SMB = out.SMB.Or(decided(a.Policy, r, out.Kind))
	}
	r.Share, r.Via = nil, site.NFS
	for i, rule := range f.rules {
		if inExport(f.of[i], path) {
			r.NFS = a.arrive(f.of[i], rule, user)
			out.NFS = out.NFS.Or(decided(a.Policy, r, out.Kind))
		}
	}
	return out
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
