package files

// A delegation is what a client of NFS version 4.1 has of a file that it opened for reading: as long as nobody alters the file, or may, the client opens,
// reads and closes it without asking (RFC 8881 section 10.4). It is a lease of another kind: all of it is given back at once, and to everything that alters the
// file in whatever way.

// Delegate asks for one for the client that calls it by a key, on the file that a handle is open on for nothing else: nil where somebody has the file open for
// writing, or it is about to be given back. tell is called, by a goroutine of its own, when it has to be; it is false where the client cannot be told.
func (h *Handle) Delegate(key any, tell func(Break) bool) *Lease {
	n := h.ns
	if h.Dir() || h.streamed || h.linked {
		return nil
	}
	if m := h.verdict.Load(); m == nil || !m.validUntil.IsZero() { // who may read it for a time only asks each time
		return nil
	}
	seen := h.changed()
	if seen.IsZero() {
		return nil
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	of := h.of
	if of.handles == nil || of.deletePending || of.leaseOf(key) != nil {
		return nil
	}
	for other := range of.handles {
		if other.claims&ShareWrite != 0 {
			return nil
		}
	}
	for _, l := range of.leases {
		if l.broken != nil || l.state&CacheWrite != 0 {
			return nil
		}
	}
	l := of.enlist(&Lease{n: n, of: of, key: key, tell: tell, state: CacheRead | CacheHandle, handles: 1, seen: seen, delegates: h.folderID})
	h.lease = l
	h.leased.Store(true)
	if n.delegations == nil {
		n.delegations = make(map[*Lease]struct{})
	}
	n.delegations[l] = struct{}{}
	return l
}

// recall has clients of NFS give back delegations of a file that somebody changes in a way that matters to nobody else: ErrBusy until they have.
func (n *Namespace) recall(id fileID) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	if of := n.open[id.data()]; of != nil && of.recall() != nil {
		return ErrBusy
	}
	return nil
}

// recall gives what is closed when the first delegation has been given back; nil where there is none. Namespace.mu is held.
func (of *openFile) recall() (until <-chan struct{}) {
	return of.lowerThose(func(l *Lease) bool { return l.delegates != 0 }, cacheAll)
}

// recallAll has all delegations be given back: who may open what is not what it was.
func (n *Namespace) recallAll() {
	n.mu.Lock()
	defer n.mu.Unlock()
	for l := range n.delegations {
		l.lower(cacheAll)
	}
}

// Recall has the client that has a delegation give it back.
func (l *Lease) Recall() {
	l.n.mu.Lock()
	defer l.n.mu.Unlock()
	l.lower(cacheAll)
}
