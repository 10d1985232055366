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

// Held is a lock that someone has. By is the handle, for locks of SMB, or whoever took it by
// LockRange.
type Held struct {
	Range
	By any
	// advisory locks, those of NFS, bind only who asks for locks and clients of SMB: what an
	// NFS client does itself under its own lock does not say whose it is (RFC 1813 section 4.4,
	// RFC 8881 section 9.1.2).
	advisory bool
}

// rangeLocks are the byte-range locks on one object. They bind every handle on it,
// whatever the protocol.
type rangeLocks struct {
	count atomic.Int32 // so that files without locks cost nothing

	mu    sync.Mutex
	held  []Held
	freed chan struct{} // closed and replaced when some lock goes
}

// conflict gives a lock that stands in the way of another owner's; nil when there is none.
func (l *rangeLocks) conflict(by any, r Range) *Held {
	for i := range l.held {
		have := &l.held[i]
		// An SMB handle's own locks stand in its way as well (MS-FSA section 2.1.5.8), an NFS
		// owner's do not.
		if have.advisory && have.By == by {
			continue
		}
		if (have.Exclusive || r.Exclusive) && have.overlaps(r.Offset, r.Length) {
			return have
		}
	}
	return nil
}

func (l *rangeLocks) waiting() <-chan struct{} {
	if l.freed == nil {
		l.freed = make(chan struct{})
	}
	return l.freed
}

// gone tells those who wait.
func (l *rangeLocks) gone() {
	l.count.Store(int32(len(l.held)))
	if l.freed != nil {
		close(l.freed)
		l.freed = nil
	}
}

// LockRange locks a range for an owner who is not the handle, as POSIX does: what the owner has of
// it already is replaced. Where another stands in the way it gives that lock and a channel
// that is closed when some lock on the file has gone. Owners are compared with ==.
func (h *Handle) LockRange(owner any, r Range) (*Held, <-chan struct{}, error) {
	if err := h.check(0); err != nil {
		return nil, nil, err
	}
	if h.noContents() || r.Length == 0 || r.Offset+r.Length < r.Offset {
		return nil, nil, ErrInvalid
	}
	l := &h.of.locks
	l.mu.Lock()
	defer l.mu.Unlock()
	if have := l.conflict(owner, r); have != nil {
		found := *have
		return &found, l.waiting(), ErrLocked
	}
	if len(l.held) >= mostLocks {
		return nil, nil, ErrNoSpace
	}
	before := len(l.held)
	l.take(owner, r)
	// Neighbours of the same kind become one, so that a thousand writes in a row are one lock.
	l.held = slices.DeleteFunc(l.held, func(have Held) bool {
		if have.By != owner || have.Exclusive != r.Exclusive {
			return false
		}
		switch {
		case have.Offset+have.Length == r.Offset:
			r.Offset, r.Length = have.Offset, have.Length+r.Length
		case r.Offset+r.Length == have.Offset:
			r.Length += have.Length
		default:
			return false
		}
		return true
	})
	l.held = append(l.held, Held{r, owner, true})
	l.count.Store(int32(len(l.held)))
	if before > 0 { // a lock made weaker lets others in
		l.gone()
	}
	return nil, nil, nil
}

// take takes a range away from an owner, which may leave a part before and one after it.
func (l *rangeLocks) take(owner any, r Range) {
	var out []Held
	for _, have := range l.held {
		end, takenEnd := have.Offset+have.Length, r.Offset+r.Length
		if have.By != owner || have.Offset >= takenEnd || r.Offset >= end {
			out = append(out, have)
			continue
		}
		if have.Offset < r.Offset {
			left := have
			left.Length = r.Offset - have.Offset
			out = append(out, left)
		}
		if takenEnd < end {
			right := have
			right.Offset, right.Length = takenEnd, end-takenEnd
			out = append(out, right)
		}
	}
	l.held = out
}

// UnlockRange takes a range away from an owner. That it was not locked is no error.
func (h *Handle) UnlockRange(owner any, offset, length uint64) error {
	if length == 0 || offset+length < offset {
		return ErrInvalid
	}
	l := &h.of.locks
	l.mu.Lock()
	defer l.mu.Unlock()
	l.take(owner, Range{Offset: offset, Length: length})
	l.gone()
	return nil
}

// HasLocks says whether an owner has any lock on the file.
func (h *Handle) HasLocks(owner any) bool {
	l := &h.of.locks
	l.mu.Lock()
	defer l.mu.Unlock()
	return slices.ContainsFunc(l.held, func(have Held) bool { return have.By == owner })
}

// Lock locks a range, or gives ErrLocked and a channel that is closed when some lock
// on the file has gone and it is worth trying again.
func (h *Handle) Lock(r Range) (freed <-chan struct{}, err error) {
	h.alters() // who has read what is locked has to ask again
	if err := h.check(0); err != nil {
		return nil, err
	}
	if h.noContents() || r.Offset+r.Length < r.Offset {
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
	if l.conflict(h, r) != nil {
		return l.waiting(), ErrLocked
	}
	l.held = append(l.held, Held{Range: r, By: h})
	l.count.Store(int32(len(l.held)))
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
	l.held = slices.DeleteFunc(l.held, func(have Held) bool {
		if have.By != h || !pick(have.Range) || one && gone > 0 {
			return false
		}
		gone++
		return true
	})
	if gone > 0 {
		l.gone()
	}
	return gone > 0
}

// mayTouch says whether locks let this handle read, or write, a range.
func (h *Handle) mayTouch(offset, length int64, writing bool) error {
	return h.of.locks.mayTouch(h, offset, length, writing)
}

// mayTouch says whether locks let a handle, or an NFS client for nil, read or write a range
// (MS-FSA sections 2.1.5.3 and 2.1.5.4): others' exclusive locks bar reading; any lock but its
// own exclusive ones bars writing.
func (l *rangeLocks) mayTouch(h *Handle, offset, length int64, writing bool) error {
	if l.count.Load() == 0 || length == 0 {
		return nil
	}
	nfs := h == nil || h.sub.Guest != nil
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, have := range l.held {
		if have.Exclusive && h != nil && have.By == h || !have.Exclusive && !writing || have.advisory && nfs {
			continue
		}
		if have.overlaps(uint64(offset), uint64(length)) {
			return ErrLocked
		}
	}
	return nil
}
