package files

import (
	"errors"
	"slices"
	"sync"
	"sync/atomic"

	"amber.example/gatekeeper/internal/core/acl"
)

// Errors of byte-range locks.
var (
	ErrLocked    = errors.New("the range is locked")
	ErrNotLocked = errors.New("the range was not locked like that")
)

// Range is a byte range of a file, from Offset on, Length bytes long.
type Range struct {
	Offset, Length uint64
	Exclusive      bool
}

// overlaps is MS-FSA section 2.1.4.10's test; a range of no length lies in whatever
// surrounds it.
func (r Range) overlaps(offset, length uint64) bool {
	end, otherEnd := r.Offset+r.Length, offset+length // sums are checked to fit
	switch {
	case r.Length == 0 && length == 0:
		return false
	case r.Length == 0:
		return offset < r.Offset && r.Offset < otherEnd
	case length == 0:
		return r.Offset < offset && offset < end
	}
	return r.Offset < otherEnd && offset < end
}

type heldRange struct {
	Range
	by *Handle
}

// rangeLocks are the byte-range locks on one object. They bind every handle on it,
// whatever the protocol.
type rangeLocks struct {
	count atomic.Int32 // so that files without locks cost nothing

	mu    sync.Mutex
	held  []heldRange
	freed chan struct{} // closed and replaced when some lock goes
}

// Lock locks a range, or gives ErrLocked and a channel that is closed when some lock
// on the file has gone and it is worth trying again.
func (h *Handle) Lock(r Range) (freed <-chan struct{}, err error) {
	if err := h.check(0); err != nil {
		return nil, err
	}
	if !h.file || r.Offset+r.Length < r.Offset {
		return nil, ErrInvalid
	}
	if h.asked&(acl.ReadData|acl.WriteData|acl.AppendData) == 0 {
		return nil, ErrDenied
	}
	l := &h.of.locks
	l.mu.Lock()
	defer l.mu.Unlock()
	if len(l.held) >= mostLocks {
		return nil, ErrNoSpace
	}
	for _, have := range l.held {
		if (have.Exclusive || r.Exclusive) && have.overlaps(r.Offset, r.Length) {
			if l.freed == nil {
				l.freed = make(chan struct{})
			}
			return l.freed, ErrLocked
		}
	}
	l.held = append(l.held, heldRange{r, h})
	l.count.Add(1)
	return nil, nil
}

const mostLocks = 4096 // on one file

// Unlock releases a range that this handle locked, just as it was locked.
func (h *Handle) Unlock(offset, length uint64) error {
	if !h.release(func(r Range) bool { return r.Offset == offset && r.Length == length }, true) {
		return ErrNotLocked
	}
	return nil
}

// release gives up this handle's locks that are picked; only the first if one is set.
func (h *Handle) release(pick func(Range) bool, one bool) bool {
	l := &h.of.locks
	if l.count.Load() == 0 {
		return false
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	gone := 0
	l.held = slices.DeleteFunc(l.held, func(have heldRange) bool {
		if have.by != h || !pick(have.Range) || one && gone > 0 {
			return false
		}
		gone++
		return true
	})
	l.count.Add(int32(-gone))
	if gone > 0 && l.freed != nil {
		close(l.freed)
		l.freed = nil
	}
	return gone > 0
}

// mayTouch says whether locks let this handle read, or write, a range (MS-FSA sections
// 2.1.5.3 and 2.1.5.4): others' exclusive locks bar reading; any lock but its own
// exclusive ones bars writing.
func (h *Handle) mayTouch(offset, length int64, writing bool) error {
	l := &h.of.locks
	if l.count.Load() == 0 || length == 0 {
		return nil
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, have := range l.held {
		if have.Exclusive && have.by == h || !have.Exclusive && !writing {
			continue
		}
		if have.overlaps(uint64(offset), uint64(length)) {
			return ErrLocked
		}
	}
	return nil
}
