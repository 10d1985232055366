package smb

import (
	"context"
	"sync"
	"time"

	"amber.example/gatekeeper/internal/lanes"
)

// What is kept in memory for clients that may never come for it: large frames that are on their way in or out, names of directories that are
// being listed, answers on pipes. All of them together, and those of one address, get so much.
const (
	mostHoard      = 512 << 20
	mostHoardOfOne = 128 << 20
)

// hoard counts it, in bytes.
type hoard struct {
	most, ofOne int

	mu  sync.Mutex
	all int
	of  map[string]int
}

func newHoard() *hoard {
	return &hoard{most: mostHoard, ofOne: mostHoardOfOne, of: make(map[string]int)}
}

// take takes room for an address; false where there is none.
func (h *hoard) take(address string, n int) bool {
	h.mu.Lock()
	defer h.mu.Unlock()
	if h.all+n > h.most || h.of[address]+n > h.ofOne {
		return false
	}
	h.all += n
	h.of[address] += n
	return true
}

// wait does the same, and waits until there is room: false where what it is for ends first. Each time that it has waited for long it
// is impatient.
func (h *hoard) wait(ctx context.Context, address string, n int, impatient func()) bool {
	begun := time.Now()
	for pause := time.Millisecond; !h.take(address, n); pause = min(2*pause, 50*time.Millisecond) {
		if time.Since(begun) > lanes.Patience {
			begun = time.Now()
			impatient()
		}
		select {
		case <-ctx.Done():
			return false
		case <-time.After(pause):
		}
	}
	return true
}

// give gives it back.
func (h *hoard) give(address string, n int) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.all -= n
	if h.of[address] -= n; h.of[address] <= 0 {
		delete(h.of, address)
	}
}

// room is what one thing has of it.
type room struct {
	of      *hoard
	address string
	n       int
}

// take has it be so much; false, and nothing is changed, where there is no room.
func (r *room) take(c *conn, n int) bool {
	if !c.srv.hoard.take(c.address, n-r.n) {
		return false
	}
	r.of, r.address, r.n = c.srv.hoard, c.address, n
	return true
}

func (r *room) give() {
	if r.of != nil && r.n != 0 {
		r.of.give(r.address, r.n)
		r.n = 0
	}
}
