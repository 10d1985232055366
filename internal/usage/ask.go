package usage

import (
	"time"

	"amber.example/gatekeeper/internal/core/limit"
)

// Use is what is counted.
func (l *Ledger) Use(c limit.Counter) limit.Amount {
	if have, ok := l.cells.Load(c); ok {
		return have.(*cell).amount()
	}
	return limit.Amount{}
}

// Each visits all that is counted, in no order.
func (l *Ledger) Each(visit func(limit.Counter, limit.Amount)) {
	l.cells.Range(func(key, value any) bool {
		if c := key.(limit.Counter); c.Of != unowned {
			visit(c, value.(*cell).amount())
		}
		return true
	})
}

// Against gives how what is counted stands against each limit on it.
func (l *Ledger) Against(c limit.Counter) []limit.Standing {
	at := c
	if c.Folder != 0 && c.Volume == 0 {
		if f := l.Folder(c.Folder); f != nil {
			at.Volume = f.volume
		}
	}
	return l.against(l.cell(at))
}

func (l *Ledger) against(c *cell) (out []limit.Standing) {
	by := l.limits(c)
	counting := c.unknown.Load()
	if f := l.Folder(c.counter.Folder); f != nil {
		counting = counting || !f.Counted()
	}
	for i := range by {
		out = append(out, by[i].standing(c.amount(), counting))
	}
	return out
}

// Counted says whether all there was in the folder has been counted once.
func (f *Folder) Counted() bool {
	f.gate.RLock()
	defer f.gate.RUnlock()
	return f.counted
}

// Counting is the count that goes on in the folder; nil for none.
func (f *Folder) Counting() *Scan {
	f.gate.RLock()
	defer f.gate.RUnlock()
	return f.scan
}

// Below says of what directory it is a count; "" for all of the folder.
func (s *Scan) Below() string { return s.below }

// Bearing gives how it stands with each limit on what an owner has at a path of the folder.
func (f *Folder) Bearing(o Owner, path string) (out []limit.Standing) {
	if f == nil {
		return nil
	}
	f.gate.RLock()
	cells := append(append([]*cell(nil), f.party(o).cells...), f.treesOf([]string{path})...)
	f.gate.RUnlock()
	for _, c := range cells {
		out = append(out, f.ledger.against(c)...)
	}
	return out
}

// Counters are all by which something of an owner's at a path is counted.
func (f *Folder) Counters(o Owner, path string) (out []limit.Counter) {
	f.gate.RLock()
	defer f.gate.RUnlock()
	for _, c := range append(append([]*cell(nil), f.party(o).cells...), f.treesOf([]string{path})...) {
		out = append(out, c.counter)
	}
	return out
}

// Room is what may still be added by an owner at a path, and what may be stored at most by the limit that leaves
// that much; nil where nothing bounds it.
type Room struct{ Left, Most *int64 }

// Room gives it for a dimension.
func (f *Folder) Room(o Owner, path string, d limit.Dimension) (r Room) {
	if f == nil {
		return r
	}
	now := f.ledger.now()
	for _, s := range f.Bearing(o, path) {
		left, ok := s.Left(d, now)
		if !ok || r.Left != nil && *r.Left <= left {
			continue
		}
		most := s.Use.Of(d) + left
		r = Room{&left, &most}
	}
	return r
}

// Now is the moment by which the ledger goes.
func (l *Ledger) Now() time.Time { return l.now() }

// Paths gives the limits on paths, and where their directories are now.
func (f *Folder) Paths() (out []limit.Limit) {
	f.gate.RLock()
	defer f.gate.RUnlock()
	for _, t := range f.trees {
		out = append(out, limit.Limit{ID: t.limit, Path: t.path})
	}
	return out
}
