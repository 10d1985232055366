package usage

import "sync"

// Objects are altered under a lock of their own, so that what is measured before and after belongs to
// one alteration, and a count sees each as it is before or after and not between. Several objects share a lock; those who
// need more than one take them in order.

const stripes = 1024

// locks are those of all objects.
type locks [stripes]sync.RWMutex

func (id ID) stripe() uint16 {
	h := (id.Inode ^ id.Device<<32) * 0x9E3779B97F4A7C15
	return uint16(h >> 54 % stripes)
}

// Held is what Hold took.
type Held struct {
	l      *Ledger
	at     [4]uint16
	n      int
	shared bool
}

// Hold keeps everybody else from altering up to four objects until Release. The zero ID is none. Whoever has entered a
// Folder has done so before.
func (l *Ledger) Hold(ids ...ID) Held {
	h := Held{l: l}
	for _, id := range ids {
		if id == (ID{}) {
			continue
		}
		at, i := id.stripe(), 0
		for i < h.n && h.at[i] < at {
			i++
		}
		if i < h.n && h.at[i] == at {
			continue
		}
		copy(h.at[i+1:h.n+1], h.at[i:h.n])
		h.at[i] = at
		h.n++
	}
	for _, at := range h.at[:h.n] {
		l.locks[at].Lock()
	}
	return h
}

// HoldShared keeps an object from being altered by those who Hold it, beside others who do the same.
func (l *Ledger) HoldShared(id ID) Held {
	h := Held{l: l, n: 1, shared: true}
	h.at[0] = id.stripe()
	l.locks[h.at[0]].RLock()
	return h
}

// Release lets go of them.
func (h Held) Release() {
	for i := h.n - 1; i >= 0; i-- {
		if h.shared {
			h.l.locks[h.at[i]].RUnlock()
		} else {
			h.l.locks[h.at[i]].Unlock()
		}
	}
}
