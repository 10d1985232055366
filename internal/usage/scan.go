package usage

import (
	"sync"
	"sync/atomic"

	"github.com/RoaringBitmap/roaring/v2/roaring64"

	"amber.example/gatekeeper/internal/core/limit"
)

// Scan is a count of a folder, or of a directory in it, that goes on while people write. Whoever walks shows it each object
// once with Look; whatever is altered meanwhile is taken account of if it was looked at already, and else found as it
// is when its turn comes. What is moved from where nobody has looked to where somebody has is looked at when it moves.
type Scan struct {
	f      *Folder
	below  string
	covers map[*cell]bool // the trees that it counts from the beginning; guarded by the folder's gate

	mu     sync.Mutex
	seen   map[uint64]*roaring64.Bitmap // by device
	owners map[Owner]limit.Amount
	trees  map[*cell]limit.Amount
	queue  []string // directories to be looked through
	done   atomic.Int64
}

// Count begins a count of all of the folder, or of what is below a directory. One goes on at a time: nil where one does.
func (f *Folder) Count(below string) *Scan {
	f.gate.Lock()
	defer f.gate.Unlock()
	if f.scan != nil || f.off {
		return nil
	}
	f.scan = &Scan{f: f, below: below, seen: make(map[uint64]*roaring64.Bitmap), owners: make(map[Owner]limit.Amount),
		trees: make(map[*cell]limit.Amount), queue: []string{below}, covers: make(map[*cell]bool)}
	for i := range f.trees {
		f.scan.covers[f.trees[i].cell] = below == "" || (&limit.Limit{Path: below}).Under(f.trees[i].path)
	}
	return f.scan
}

// Done is how many objects have been counted.
func (s *Scan) Done() int64 { return s.done.Load() }

// Next gives the next directory to look through; false where there is none left.
func (s *Scan) Next() (string, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if len(s.queue) == 0 {
		return "", false
	}
	dir := s.queue[len(s.queue)-1]
	s.queue = s.queue[:len(s.queue)-1]
	return dir, true
}

// Into adds a directory to be looked through.
func (s *Scan) Into(dir string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.queue = append(s.queue, dir)
}

// Look counts an object, once whatever its names. Nothing may alter it meanwhile.
func (s *Scan) Look(id ID, o Owner, names []string, is limit.Amount) {
	s.add(id, o, s.f.treesOf(names), is)
}

func (s *Scan) has(id ID) bool {
	b := s.seen[id.Device]
	return b != nil && b.Contains(id.Inode)
}

func (s *Scan) add(id ID, o Owner, trees []*cell, is limit.Amount) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.addLocked(id, o, trees, is)
}

func (s *Scan) addLocked(id ID, o Owner, trees []*cell, is limit.Amount) {
	if s.has(id) {
		return
	}
	b := s.seen[id.Device]
	if b == nil {
		b = roaring64.New()
		s.seen[id.Device] = b
	}
	b.Add(id.Inode)
	s.count(o, trees, is)
	s.done.Add(1)
}

func (s *Scan) count(o Owner, trees []*cell, by limit.Amount) {
	if !o.Own {
		o = Owner{}
	}
	s.owners[o] = s.owners[o].Plus(by)
	for _, c := range trees {
		s.trees[c] = s.trees[c].Plus(by)
	}
}

func (s *Scan) changed(id ID, o Owner, trees []*cell, by limit.Amount) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.has(id) {
		s.count(o, trees, by)
	}
}

func (s *Scan) remove(id ID, o Owner, trees []*cell, was limit.Amount) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.has(id) {
		s.seen[id.Device].Remove(id.Inode)
		s.count(o, trees, limit.Amount{}.Minus(was))
	}
}

func (s *Scan) given(g Gift, is limit.Amount) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.has(g.id) {
		s.count(g.from, g.trees, limit.Amount{}.Minus(g.amount))
		s.count(g.to, g.trees, is)
	}
}

// moved takes account of something that has other names: of what was not looked at yet by adding it as it was, so that it
// does not matter whether the place it moves to was looked through already.
func (s *Scan) moved(p Part, to trade) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.addLocked(p.ID, p.Owner, to.was, p.Amount)
	for _, c := range to.left {
		s.trees[c] = s.trees[c].Minus(p.Amount)
	}
	for _, c := range to.entered {
		s.trees[c] = s.trees[c].Plus(p.Amount)
	}
}

// Differed is by how much what was counted was not what was there.
type Differed struct {
	Counted limit.Amount // what is there
	Before  limit.Amount // what was held to be there
	Owners  int          // how many users' and groups' use was otherwise
	First   bool         // nothing was known before
}

// Any says whether there was a difference.
func (d Differed) Any() bool { return !d.First && (d.Owners > 0 || d.Counted != d.Before) }

// Cancel ends a count before its end; what was known before stays.
func (s *Scan) Cancel() {
	s.f.gate.Lock()
	defer s.f.gate.Unlock()
	if s.f.scan == s {
		s.f.scan = nil
	}
}

// Finish puts what was counted in force; false where directories are left to be looked through.
func (s *Scan) Finish() (Differed, bool) {
	f := s.f
	f.gate.Lock()
	defer f.gate.Unlock()
	if f.scan != s {
		return Differed{}, true
	}
	if len(s.queue) > 0 {
		return Differed{}, false
	}
	f.scan = nil
	f.ledger.mu.Lock()
	for _, g := range f.ghosts { // open still, and counted until it is not
		s.count(g.owner, g.trees, g.amount)
	}
	f.ledger.mu.Unlock()
	for i := range f.trees {
		t := &f.trees[i]
		if !s.covers[t.cell] {
			continue
		}
		f.ledger.add(t.cell, s.trees[t.cell].Minus(t.cell.amount()))
		t.cell.unknown.Store(false)
	}
	if s.below != "" {
		return Differed{First: true}, true
	}
	d := Differed{Before: f.all.amount(), First: !f.counted}
	for _, by := range s.owners {
		d.Counted = d.Counted.Plus(by)
	}
	d.Owners = f.become(s.owners)
	f.counted = true
	return d, true
}

// become makes what is counted in the folder what it should be, and gives for how many owners it was otherwise.
func (f *Folder) become(owners map[Owner]limit.Amount) (differing int) {
	l := f.ledger
	should := make(map[limit.Counter]limit.Amount)
	add := func(c limit.Counter, by limit.Amount) { should[c] = should[c].Plus(by) }
	here := limit.Counter{Volume: f.volume, Folder: f.id}
	with := func(of limit.Counted, number uint32) limit.Counter {
		c := here
		c.Of, c.Number = of, number
		return c
	}
	for o, by := range owners {
		if !o.Own {
			o.UID, o.GID = f.owner.UID, f.owner.GID
			add(with(unowned, 0), by)
		}
		add(with(limit.Owned, o.UID), by)
		add(with(limit.Grouped, o.GID), by)
		add(here, by)
	}
	l.cells.Range(func(key, _ any) bool {
		if c := key.(limit.Counter); c.Folder == f.id && c.Tree == 0 {
			add(c, limit.Amount{})
		}
		return true
	})
	for c, is := range should {
		more := is.Minus(l.cell(c).amount())
		if more == (limit.Amount{}) {
			continue
		}
		if c.Of == limit.Owned || c.Of == limit.Grouped {
			differing++
		}
		l.add(l.cell(c), more)
		if c.Of == unowned {
			continue
		}
		c.Folder = 0
		l.add(l.cell(c), more)
		if c.Of == limit.Owned || c.Of == limit.Grouped {
			c.Volume = 0
			l.add(l.cell(c), more)
		}
	}
	return differing
}
