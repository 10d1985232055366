package usage

import (
	"maps"
	"sync"
	"sync/atomic"
)

// Objects are altered under a lock of their own, so that what is measured before and after belongs to
// one alteration, and a count sees each as it is before or after and not between. Several objects share a lock; those who
// need more than one take them in order.

const stripes = 1024

// locks are those of the objects of one device: a disk that does not answer holds up none but its own.
type locks [stripes]sync.RWMutex

// devices are the locks of all devices by number. Few are ever seen.
type devices struct {
	all atomic.Pointer[map[uint64]*locks]
	mu  sync.Mutex // to add one
}

func (d *devices) of(device uint64) *locks {
	if all := d.all.Load(); all != nil {
		if l := (*all)[device]; l != nil {
			return l
		}
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	all := make(map[uint64]*locks)
	if old := d.all.Load(); old != nil {
		maps.Copy(all, *old)
	}
	l := all[device]
	if l == nil {
		l = new(locks)
		all[device] = l
		d.all.Store(&all)
	}
	return l
}

// lockAt names one lock. Those who take several take them in the order of device and stripe.
type lockAt struct {
	device uint64
	stripe uint16
}

func (a lockAt) before(b lockAt) bool {
	return a.device < b.device || a.device == b.device && a.stripe < b.stripe
}

func (l *Ledger) lock(a lockAt) *sync.RWMutex { return &l.locks.of(a.device)[a.stripe] }

func (id ID) lock() lockAt {
	h := id.Inode * 0x9E3779B97F4A7C15
	return lockAt{id.Device, uint16(h >> 54 % stripes)}
}

// Held is what Hold took.
type Held struct {
	at     [4]*sync.RWMutex
	n      int
	shared bool
}

// Hold keeps everybody else from altering up to four objects until Release. The zero ID is none. Whoever has entered a
// Folder has done so before.
func (l *Ledger) Hold(ids ...ID) Held {
	var at [4]lockAt
	n := 0
	for _, id := range ids {
		if id == (ID{}) {
			continue
		}
		a, i := id.lock(), 0
		for i < n && at[i].before(a) {
			i++
		}
		if i < n && at[i] == a {
			continue
		}
		copy(at[i+1:n+1], at[i:n])
		at[i] = a
		n++
	}
	h := Held{n: n}
	for i, a := range at[:n] {
		h.at[i] = l.lock(a)
		h.at[i].Lock()
	}
	return h
}

// HoldShared keeps an object from being altered by those who Hold it, beside others who do the same.
func (l *Ledger) HoldShared(id ID) Held {
	h := Held{n: 1, shared: true}
	h.at[0] = l.lock(id.lock())
	h.at[0].RLock()
	return h
}

// Release lets go of them.
func (h Held) Release() {
	for i := h.n - 1; i >= 0; i-- {
		if h.shared {
			h.at[i].RUnlock()
		} else {
			h.at[i].Unlock()
		}
	}
}
