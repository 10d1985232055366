package usage

import (
	"sync"
	"sync/atomic"

	"amber.example/gatekeeper/internal/core/limit"
)

// Folder is what is counted in one folder. Alterations of it are made between Enter and Leave, which hold off what
// concerns several counters at once, and nothing else.
type Folder struct {
	ledger *Ledger
	id     int64
	gate   sync.RWMutex

	// What follows is changed with the gate held alone.
	volume    int64
	off       bool // it is not counted any more
	allocated bool
	counted   bool
	owner     Owner // whom what has no owner of its own counts for
	trees     []tree
	wooded    atomic.Bool // there are any
	dirs      [knownDirs]atomic.Pointer[knownDir]
	parties   sync.Map     // Owner to *party
	ghosts    map[ID]ghost // guarded by Ledger.mu
	haunted   atomic.Int64 // how many there are
	scan      *Scan

	all     *cell
	noOwner *cell // in the folder, of what has no owner of its own
	version atomic.Int64
}

// ID tells objects of a folder apart: device and inode.
type ID struct{ Device, Inode uint64 }

// tree is a limit on a path.
type tree struct {
	limit int64
	path  string
	cell  *cell
}

// party is all that counts what one owner has in the folder, but for trees.
type party struct{ cells []*cell }

// ghost is what has no name any more and is open still.
type ghost struct {
	owner  Owner
	trees  []*cell
	amount limit.Amount
}

// Counter numbers beyond those of uids and gids, as a Counted.
const unowned limit.Counted = 100

// Folder gives the book of a folder; nil where nothing is counted there.
func (l *Ledger) Folder(id int64) *Folder {
	if l == nil {
		return nil
	}
	return (*l.folders.Load())[id]
}

// Version changes when whom something counts for may have changed.
func (f *Folder) Version() int64 { return f.version.Load() }

// Counts says whether a count is going on.
func (f *Folder) Counts() bool { return f.scan != nil }

// Enter begins an alteration of the folder. A nil Folder counts nothing.
func (f *Folder) Enter() {
	if f != nil {
		f.gate.RLock()
	}
}

// Leave ends what Enter began.
func (f *Folder) Leave() {
	if f != nil {
		f.gate.RUnlock()
	}
}

// EnterAlone begins an alteration that moves things between trees; LeaveAlone ends it.
func (f *Folder) EnterAlone() {
	if f != nil {
		f.gate.Lock()
	}
}

// LeaveAlone ends what EnterAlone began.
func (f *Folder) LeaveAlone() {
	if f != nil {
		f.gate.Unlock()
	}
}

// Allocated says whether bytes are those allocated on disk, and not the sizes that people see.
func (f *Folder) Allocated() bool { return f.allocated }

// HasTrees says whether there are limits on paths of the folder.
func (f *Folder) HasTrees() bool { return f.wooded.Load() }

// TreeBelow says whether a tree begins at a path or below it.
func (f *Folder) TreeBelow(path string) bool {
	dir := limit.Limit{Path: path}
	for i := range f.trees {
		if path == "" || dir.Under(f.trees[i].path) {
			return true
		}
	}
	return false
}

// Limited is TreeBelow for whoever has not entered.
func (f *Folder) Limited(path string) bool {
	f.gate.RLock()
	defer f.gate.RUnlock()
	return f.TreeBelow(path)
}

func (t *tree) holds(path string) bool {
	l := limit.Limit{Path: t.path}
	return l.Under(path)
}

// treesOf gives the trees in which something lies that has these names.
func (f *Folder) treesOf(names []string) []*cell { return f.treesBut(names, "") }

// treesBut leaves out those at and below a path; "" for none.
func (f *Folder) treesBut(names []string, but string) []*cell {
	var out []*cell
	dir := limit.Limit{Path: but}
	for i := range f.trees {
		if but != "" && dir.Under(f.trees[i].path) {
			continue
		}
		for _, name := range names {
			if f.trees[i].holds(name) {
				out = append(out, f.trees[i].cell)
				break
			}
		}
	}
	return out
}

func (f *Folder) party(o Owner) *party {
	if !o.Own {
		o = Owner{}
	}
	if have, ok := f.parties.Load(o); ok {
		return have.(*party)
	}
	number := o
	if !o.Own {
		number = f.owner
	}
	p := &party{}
	for _, at := range []limit.Counter{{Volume: f.volume, Folder: f.id}, {Volume: f.volume}, {}} {
		of := at
		of.Of, of.Number = limit.Owned, number.UID
		p.cells = append(p.cells, f.ledger.cell(of))
		of.Of, of.Number = limit.Grouped, number.GID
		p.cells = append(p.cells, f.ledger.cell(of))
	}
	p.cells = append(p.cells, f.all, f.ledger.cell(limit.Counter{Volume: f.volume}))
	if !o.Own {
		p.cells = append(p.cells, f.noOwner)
	}
	have, _ := f.parties.LoadOrStore(o, p)
	return have.(*party)
}

// Roomy says whether so much would easily fit, however many should ask for as much at the same time. The folder must have
// been entered.
func (f *Folder) Roomy(o Owner, names []string, grow int64) bool {
	if f == nil || f.off {
		return true
	}
	most := grow << 16
	roomy := func(cells []*cell) bool {
		for _, c := range cells {
			by := f.ledger.limits(c)
			for i := range by {
				if !by[i].easily(limit.Bytes, max(c.bytes.Load(), 0), most) {
					return false
				}
			}
		}
		return true
	}
	return roomy(f.party(o).cells) && (len(f.trees) == 0 || roomy(f.treesOf(names)))
}

// DirectoryOwner is whom a directory counts for, if that is remembered; NoteDirectory remembers it. The directory must be held.
func (f *Folder) DirectoryOwner(id ID) (Owner, bool) {
	if m := f.dirs[id.lock().stripe%knownDirs].Load(); m != nil && m.id == id && m.version == f.version.Load() {
		return m.owner, true
	}
	return Owner{}, false
}

// NoteDirectory remembers whom a directory counts for.
func (f *Folder) NoteDirectory(id ID, o Owner) {
	f.dirs[id.lock().stripe%knownDirs].Store(&knownDir{id, f.version.Load(), o})
}

// knownDirs is of how many directories it is remembered whom they count for.
const knownDirs = 256

type knownDir struct {
	id      ID
	version int64
	owner   Owner
}

// Claim is growth that has been reserved, to be settled. Of the zero Claim nothing is counted.
type Claim struct {
	f     *Folder
	party *party
	trees []*cell
	owner Owner
	grow  limit.Amount
}

// Reserve reserves room for something that is about to grow, of an owner and with these names; an *Over
// where a limit is in the way. What shrinks is never refused, and taken off when it has been done. The folder must have been entered.
func (f *Folder) Reserve(o Owner, names []string, grow limit.Amount) (Claim, error) {
	if f == nil || f.off {
		return Claim{}, nil
	}
	c := Claim{f: f, party: f.party(o), trees: f.treesOf(names), owner: o, grow: grow.Growth()}
	if !grow.Grows() {
		return c, nil
	}
	if err := f.ledger.reserveAll(c.party.cells, c.grow, !f.counted); err != nil {
		return Claim{}, err
	}
	if err := f.ledger.reserveAll(c.trees, c.grow, !f.counted); err != nil {
		f.ledger.addAll(c.party.cells, limit.Amount{}.Minus(c.grow))
		return Claim{}, err
	}
	return c, nil
}

// Settle says by how much it did grow or shrink, and what it is.
func (c Claim) Settle(id ID, did limit.Amount) {
	if c.f == nil {
		return
	}
	c.become(did)
	if s := c.f.scan; s != nil {
		s.changed(id, c.owner, c.trees, did)
	}
}

// Forget gives back what was reserved: nothing was done.
func (c Claim) Forget() {
	if c.f != nil {
		c.become(limit.Amount{})
	}
}

// become makes what was reserved so much.
func (c Claim) become(is limit.Amount) {
	rest := is.Minus(c.grow)
	c.f.ledger.addAll(c.party.cells, rest)
	c.f.ledger.addAll(c.trees, rest)
}

// Made says that the claim was for something new, of which this much is there.
func (c Claim) Made(id ID, is limit.Amount) {
	if c.f == nil {
		return
	}
	c.become(is)
	if s := c.f.scan; s != nil {
		s.add(id, c.owner, c.trees, is)
	}
}

// Trees are those that something lies in.
type Trees []*cell

// Trees gives those in which something lies that has these names now.
func (f *Folder) Trees(names []string) Trees {
	if f == nil {
		return nil
	}
	return f.treesOf(names)
}

// Gone says that something, which lay in some trees, lost its last name. Where it is open still it counts until Closed is called.
func (f *Folder) Gone(id ID, o Owner, trees Trees, was limit.Amount, open bool) {
	if f == nil || f.off {
		return
	}
	if s := f.scan; s != nil {
		s.remove(id, o, trees, was)
	}
	if open {
		f.ledger.mu.Lock()
		if f.ghosts == nil {
			f.ghosts = make(map[ID]ghost)
		}
		f.ghosts[id] = ghost{o, trees, was}
		f.haunted.Store(int64(len(f.ghosts)))
		f.ledger.mu.Unlock()
		return
	}
	f.release(o, trees, was)
}

func (f *Folder) release(o Owner, trees []*cell, was limit.Amount) {
	f.ledger.addAll(f.party(o).cells, limit.Amount{}.Minus(was))
	f.ledger.addAll(trees, limit.Amount{}.Minus(was))
}

// Closed says that what had no name any more is not open any more.
func (f *Folder) Closed(id ID) {
	if f == nil || f.haunted.Load() == 0 {
		return
	}
	f.gate.RLock()
	defer f.gate.RUnlock()
	f.ledger.mu.Lock()
	g, ok := f.ghosts[id]
	delete(f.ghosts, id)
	f.haunted.Store(int64(len(f.ghosts)))
	f.ledger.mu.Unlock()
	if ok && !f.off {
		f.release(g.owner, g.trees, g.amount)
	}
}

// trade gives the trees that something with other names than before leaves, and those that it comes into; trees at
// and below carried move along with it.
func (f *Folder) trade(from, to []string, carried string) trade {
	was, is := f.treesBut(from, carried), f.treesBut(to, carried)
	return trade{was: f.treesOf(from), left: without(was, is), entered: without(is, was)}
}

// Part is one object of those that move together.
type Part struct {
	ID     ID
	Owner  Owner
	Amount limit.Amount
	From   []string // its names before
	To     []string // and after
}

// Move is what comes into trees and leaves others.
type Move struct {
	f     *Folder
	parts []Part
	grew  map[*cell]limit.Amount
	trees []trade // of each part
}

// trade is what a part leaves and comes into.
type trade struct{ was, left, entered []*cell }

// Move reserves room in the trees that parts come into by being renamed or linked; an *Over where a limit is in the way. Trees
// at and below carried, a directory that is renamed, move along.
func (f *Folder) Move(parts []Part, carried string) (Move, error) {
	m := Move{f: f, parts: parts}
	if f == nil || f.off || len(f.trees) == 0 && f.scan == nil {
		return Move{}, nil
	}
	m.grew = make(map[*cell]limit.Amount)
	for _, p := range parts {
		to := f.trade(p.From, p.To, carried)
		m.trees = append(m.trees, to)
		for _, c := range to.entered {
			m.grew[c] = m.grew[c].Plus(p.Amount)
		}
	}
	var done []*cell
	for c, grow := range m.grew {
		if err := f.ledger.reserve(c, grow, !f.counted); err != nil {
			for _, c := range done {
				f.ledger.add(c, limit.Amount{}.Minus(m.grew[c]))
			}
			return Move{}, err
		}
		done = append(done, c)
	}
	return m, nil
}

// Forget gives back what was reserved: nothing was moved.
func (m Move) Forget() {
	for c, grow := range m.grew {
		m.f.ledger.add(c, limit.Amount{}.Minus(grow))
	}
}

// Done says that it has been moved.
func (m Move) Done() {
	if m.f == nil {
		return
	}
	for i, p := range m.parts {
		for _, c := range m.trees[i].left {
			m.f.ledger.add(c, limit.Amount{}.Minus(p.Amount))
		}
		if s := m.f.scan; s != nil {
			s.moved(p, m.trees[i])
		}
	}
}

// Crosses says whether what is renamed, or something below it, comes into a tree or leaves one; and whether it
// cannot be, because trees that move along would meet others.
func (f *Folder) Crosses(from, to string) (crosses, meets bool) {
	was, is := limit.Limit{Path: from}, limit.Limit{Path: to}
	carries := f.TreeBelow(from)
	for i := range f.trees {
		t := &f.trees[i]
		switch {
		case was.Under(t.path):
		case is.Under(t.path):
			crosses, meets = true, carries
		case t.holds(from) != t.holds(to):
			crosses = true
		}
	}
	return crosses, meets
}

// Again has the count that is going on, if one is, look at a directory again that has another path now.
func (f *Folder) Again(dir string) {
	if f != nil && f.scan != nil {
		f.scan.Into(dir)
	}
}
