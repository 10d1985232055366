package usage

import (
	"sync"

	"amber.example/gatekeeper/internal/core/limit"
)

// stir are the cells under limits that have changed since somebody last asked.
type stir struct {
	mu    sync.Mutex
	cells []*cell
}

// add notes cells. Of many changes of one only the first after it was asked waits for anything.
func (s *stir) add(cells ...*cell) {
	if len(cells) == 1 && cells[0].stirred.Load() {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, c := range cells {
		if !c.stirred.Swap(true) {
			s.cells = append(s.cells, c)
		}
	}
}

// Stirred is how something counted stands with a limit, and whether growth has been refused by it since it was last asked.
type Stirred struct {
	limit.Counter
	limit.Standing
	Refused [limit.Dimensions]bool
}

// Stirred gives how all that has changed since it was last asked stands with each limit on it. It is for one caller.
func (l *Ledger) Stirred() (out []Stirred) {
	l.stir.mu.Lock()
	cells := l.stir.cells
	l.stir.cells = nil
	l.stir.mu.Unlock()
	for _, c := range cells {
		c.stirred.Store(false) // what changes from here on is told of the next time
		by := l.limits(c)
		for i, s := range l.against(c) {
			if i >= len(by) || by[i].Limit != s.Limit {
				l.stir.add(c) // the limits have just been changed
				break
			}
			one := Stirred{Counter: c.counter, Standing: s}
			for d := range limit.Dimensions {
				one.Refused[d] = by[i].refused[d].Swap(false)
			}
			out = append(out, one)
		}
	}
	return out
}

// Unstirred says that what Stirred gave could not be heeded: it is given again.
func (l *Ledger) Unstirred(list []Stirred) {
	for _, s := range list {
		c := l.cell(s.Counter)
		for _, h := range l.limits(c) {
			for d := range limit.Dimensions {
				if h.ID == s.Limit.ID && s.Refused[d] {
					h.refused[d].Store(true)
				}
			}
		}
		l.stir.add(c)
	}
}

// StirAll has all that limits bear on be among what Stirred gives next: the limits have changed, or what is told of them.
func (l *Ledger) StirAll() {
	var all []*cell
	l.cells.Range(func(_, value any) bool {
		if c := value.(*cell); c.counter.Of != unowned && len(l.limits(c)) > 0 {
			all = append(all, c)
		}
		return true
	})
	l.stir.add(all...)
}

// StirGraces has all be among them that is above a soft bound: time passes there by itself.
func (l *Ledger) StirGraces() {
	for _, g := range l.Graces() {
		l.stir.add(l.cell(g.Counter))
	}
}
