package files

import (
	"slices"

	"amber.example/gatekeeper/internal/live"
)

// Number is the handle's own, of all that have been.
func (h *Handle) Number() uint64 { return h.number }

// Live is what the handle is to who looks after things, without who has it. Its locks are its own and those of the owners that lock by it.
func (h *Handle) Live(owners ...any) live.Open {
	o := live.Open{Since: h.since, Folder: h.folderID, Path: h.Path(), Directory: h.Dir(), Access: h.asked, Deletes: h.DeletePending()}
	h.ns.mu.Lock()
	sharing := h.sharing
	h.ns.mu.Unlock()
	o.Keeps = live.Keeps{Read: sharing&ShareRead == 0, Write: sharing&ShareWrite == 0, Delete: sharing&ShareDelete == 0}
	if h.of == nil {
		return o
	}
	l := &h.of.locks
	if l.count.Load() == 0 {
		return o
	}
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, have := range l.held {
		if have.By == h || slices.Contains(owners, have.By) {
			o.Locks = append(o.Locks, live.Lock{Offset: have.Offset, Length: have.Length, Exclusive: have.Exclusive})
		}
	}
	return o
}
