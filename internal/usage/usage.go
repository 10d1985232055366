// Package usage counts what is stored and holds growth to the limits in force, in memory and at once. It does no I/O:
// the files package tells it what is about to happen and what has happened, and the service package keeps what
// has been counted over a restart.
//
// What is counted together is a cell of two atomic numbers. Growth is reserved in all cells that it bears on, one
// after the other, before it happens, and what was not needed is given back after; nobody waits for anybody
// else's. What takes several cells at once (a tree that moves, a count that ends) excludes growth in its one
// folder for that moment.
package usage

import (
	"fmt"
	"math"
	"sync"
	"sync/atomic"
	"time"

	"amber.example/gatekeeper/internal/core/limit"
)

// Owner is whom something counts for. Own is false for what has no owner of its own on disk: it counts for the folder's
// owner and group, whoever they are.
type Owner struct {
	UID, GID uint32
	Own      bool
}

// Over is the error for growth that a limit does not allow.
type Over struct {
	limit.Standing
	Counter   limit.Counter
	Dimension limit.Dimension
}

func (o *Over) Error() string {
	bound, _ := o.Limit.Hard(o.Dimension)
	return fmt.Sprintf("limit %d on %s: %d in use of %d", o.Limit.ID, o.Dimension, o.Use.Of(o.Dimension), bound)
}

// ErrTooMuch says that no number can hold what would be in use then.
var ErrTooMuch = fmt.Errorf("more than can be counted")

// cell is what is counted together.
type cell struct {
	counter limit.Counter
	bytes   atomic.Int64
	files   atomic.Int64
	bound   atomic.Pointer[bound]
	dirty   atomic.Bool // since it was last written down
	unknown atomic.Bool // what there is has not been counted yet
	stirred atomic.Bool // it is among those that Stirred gives
}

func (c *cell) amount() limit.Amount {
	return limit.Amount{Bytes: c.bytes.Load(), Files: c.files.Load()}
}

// bound is what limits a cell, as of one table.
type bound struct {
	table *limit.Table
	by    []held
}

// held is one limit on a cell.
type held struct {
	*limit.Limit
	*noted
}

// noted is what is remembered of it.
type noted struct {
	since   [limit.Dimensions]atomic.Int64 // when the soft bound was passed, in Unix nanoseconds; 0 for not
	refused [limit.Dimensions]atomic.Bool  // growth was refused since Stirred was last asked
}

type graceKey struct {
	counter limit.Counter
	limit   int64
}

// Ledger is all that is counted. It is safe for use by several goroutines.
type Ledger struct {
	table  atomic.Pointer[limit.Table]
	now    func() time.Time
	cells  sync.Map // limit.Counter to *cell
	graces sync.Map // graceKey to *noted

	mu      sync.Mutex // guards changes of folders, and ghosts
	folders atomic.Pointer[map[int64]*Folder]

	locks devices
	stir  stir
}

// SetTable puts limits in force, at once.
func (l *Ledger) SetTable(t *limit.Table) { l.table.Store(t) }

// New makes a ledger in which nothing is counted. It tells the time by now.
func New(now func() time.Time) *Ledger {
	l := &Ledger{now: now}
	l.table.Store(&limit.Table{})
	l.folders.Store(&map[int64]*Folder{})
	return l
}

func (l *Ledger) cell(c limit.Counter) *cell {
	if have, ok := l.cells.Load(c); ok {
		return have.(*cell)
	}
	have, _ := l.cells.LoadOrStore(c, &cell{counter: c})
	return have.(*cell)
}

// limits are those in force on a cell.
func (l *Ledger) limits(c *cell) []held {
	table := l.table.Load()
	if b := c.bound.Load(); b != nil && b.table == table {
		return b.by
	}
	b := &bound{table: table}
	for _, one := range table.Of(c.counter) {
		since, _ := l.graces.LoadOrStore(graceKey{c.counter, one.ID}, new(noted))
		b.by = append(b.by, held{one, since.(*noted)})
	}
	c.bound.Store(b)
	l.grace(c, b.by) // a limit may be set below the use
	return b.by
}

func (h *held) standing(use limit.Amount, counting bool) limit.Standing {
	s := limit.Standing{Limit: h.Limit, Use: use, Counting: counting}
	for d := range limit.Dimensions {
		if at := h.since[d].Load(); at != 0 {
			s.Since[d] = time.Unix(0, at)
		}
	}
	return s
}

// easily says that a limit allows something without a look at the clock: no soft bound of no grace, or one that has been passed, is
// to be heeded.
func (h *held) easily(d limit.Dimension, use, more int64) bool {
	if _, soft := h.Soft(d); soft && (h.GraceSeconds == 0 || h.since[d].Load() != 0) {
		return false
	}
	hard, ok := h.Hard(d)
	return !ok || use <= hard && more <= hard-use
}

// watch is what follows a change of a cell.
func (l *Ledger) watch(c *cell, by []held) {
	if len(by) > 0 {
		l.stir.add(c)
		l.grace(c, by)
	}
}

// grace notes where a cell has passed a soft bound, or is back below it.
func (l *Ledger) grace(c *cell, by []held) {
	if len(by) == 0 {
		return
	}
	use := c.amount()
	for i := range by {
		for d := range limit.Dimensions {
			soft, ok := by[i].Soft(d)
			since := &by[i].since[d]
			switch over := ok && use.Of(d) > soft; {
			case over && since.Load() == 0:
				since.CompareAndSwap(0, l.now().UnixNano())
			case !over && since.Load() != 0:
				since.Store(0)
			}
		}
	}
}

// reserve adds to a cell what it has room for, or nothing.
func (l *Ledger) reserve(c *cell, grow limit.Amount, counting bool) error {
	by := l.limits(c)
	counting = counting || c.unknown.Load()
	one := func(d limit.Dimension, n *atomic.Int64) error {
		more := grow.Of(d)
		if more <= 0 {
			n.Add(more)
			return nil
		}
		for {
			use := n.Load()
			if use > 0 && use > math.MaxInt64-more {
				return ErrTooMuch
			}
			if !counting {
				for i := range by {
					if by[i].easily(d, use, more) {
						continue
					}
					var is limit.Amount
					if d == limit.Files {
						is.Files = use
					} else {
						is.Bytes = use
					}
					s := by[i].standing(is, false)
					if left, ok := s.Left(d, l.now()); ok && more > left {
						s.Use = c.amount()
						by[i].refused[d].Store(true)
						l.stir.add(c)
						return &Over{Standing: s, Counter: c.counter, Dimension: d}
					}
				}
			}
			if n.CompareAndSwap(use, use+more) {
				return nil
			}
		}
	}
	if err := one(limit.Bytes, &c.bytes); err != nil {
		return err
	}
	if err := one(limit.Files, &c.files); err != nil {
		c.bytes.Add(-grow.Bytes)
		return err
	}
	c.dirty.Store(true)
	l.watch(c, by)
	return nil
}

// add changes a cell whatever the limits say: by what has happened.
func (l *Ledger) add(c *cell, by limit.Amount) {
	if by == (limit.Amount{}) {
		return
	}
	addTo(&c.bytes, by.Bytes)
	addTo(&c.files, by.Files)
	c.dirty.Store(true)
	l.watch(c, l.limits(c))
}

// addTo adds, up to the largest and down to the smallest number there is.
func addTo(n *atomic.Int64, by int64) {
	for by != 0 {
		is := n.Load()
		if n.CompareAndSwap(is, limit.Amount{Bytes: is}.Plus(limit.Amount{Bytes: by}).Bytes) {
			return
		}
	}
}

// reserveAll reserves in all cells, or in none.
func (l *Ledger) reserveAll(cells []*cell, grow limit.Amount, counting bool) error {
	for i, c := range cells {
		if err := l.reserve(c, grow, counting && c.counter.Folder != 0); err != nil {
			for _, done := range cells[:i] {
				l.add(done, limit.Amount{}.Minus(grow))
			}
			return err
		}
	}
	return nil
}

func (l *Ledger) addAll(cells []*cell, by limit.Amount) {
	if by == (limit.Amount{}) {
		return
	}
	for _, c := range cells {
		l.add(c, by)
	}
}
