package files

import (
	"context"
	"errors"
	"slices"
	"time"
)

// Caching is what a client may do with what it has read, has open and has not written yet, without asking: the lease states of MS-SMB2 section
// 2.2.13.2.8. Only nothing, CacheRead, and that with either or both of the others, is ever granted.
type Caching uint8

// The parts of Caching.
const (
	CacheRead   Caching = 1 << iota // read again what it read before
	CacheHandle                     // keep open what was closed
	CacheWrite                      // write later
)

const cacheAll = CacheRead | CacheHandle | CacheWrite

// patience is how long a client is waited for that is to give caching back.
const patience = 35 * time.Second

// Break tells a client that it may cache less from now on.
type Break struct {
	From, To Caching
	Answer   bool // it has to say when it does
	Late     bool // instead: it has not said so in time, and caches nothing any more
	Epoch    uint16
}

// Lease is what a client may cache of one file, or of what is in one directory: one for all handles that it opened with the same key.
type Lease struct {
	n    *Namespace
	of   *openFile
	key  any
	tell func(Break) bool

	// Guarded by Namespace.mu.
	state   Caching
	to      Caching       // what it is being broken to
	more    Caching       // what has to be given back besides, after that
	broken  chan struct{} // closed once it has come to that; nil while it is not being broken
	overdue *time.Timer
	epoch   uint16
	handles int
	at      *place    // where it is entered, of a directory
	seen    time.Time // when that, or what is delegated, had last changed, as far as the service knows

	delegates int64 // the folder of the file, of a delegation; 0 of others
}

// ErrNotBreaking is for an answer of a client that was not asked, ErrCaching for one that keeps more than it was told.
var (
	ErrNotBreaking = errors.New("no caching is to be given back")
	ErrCaching     = errors.New("more caching than is left")
)

// breaking says that an open waits for caching to be given back by others.
type breaking struct{ until <-chan struct{} }

func (*breaking) Error() string { return ErrBusy.Error() }
func (*breaking) Unwrap() error { return ErrBusy }

// Cache asks for caching of the file that a handle is open on, on behalf of a client that calls what it may cache by a key. What is granted is less
// where others have it open. tell is called, by a goroutine of its own, when it has to be given back; it is false where the client cannot be
// told. A handle that asks with a key that the client has on the file shares it.
func (h *Handle) Cache(key any, want Caching, tell func(Break) bool) *Lease {
	n := h.ns
	var seen time.Time
	if h.Dir() {
		seen = h.changed()
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	if h.of.handles == nil {
		want = 0
	}
	if h.Dir() {
		want &^= CacheWrite
	}
	if want&CacheRead == 0 {
		want = 0
	}
	l := h.of.leaseOf(key)
	if l == nil {
		l = h.of.enlist(&Lease{n: n, of: h.of, key: key})
	}
	l.tell = tell
	h.lease = l
	h.leased.Store(true)
	l.handles++
	if l.broken != nil { // not while less is being asked for
		return l
	}
	if h.Dir() && want != 0 {
		if l.state == 0 {
			l.seen = seen
		}
		l.enter(h)
	}
	for other := range h.of.handles {
		if other.lease != l && other.claims != 0 {
			want &^= CacheWrite
		}
	}
	if state := l.state | want; state != l.state {
		l.state = state
		l.epoch++
	}
	return l
}

// enter has the client be told of what changes in a directory. The path is looked at again, since a rename that did not find it there has
// set another before it looked. Namespace.mu is held.
func (l *Lease) enter(h *Handle) {
	for {
		path := h.Path()
		l.depart()
		l.at = &place{h.folderID, path}
		l.n.notify.cache(l, *l.at)
		if h.Path() == path {
			return
		}
	}
}

// depart undoes enter. Namespace.mu is held.
func (l *Lease) depart() {
	if l.at != nil {
		l.n.notify.uncache(l, *l.at)
		l.at = nil
	}
}

// outdated has a client forget what it knows of a directory; by is the key of who changed it.
func (l *Lease) outdated(by any) {
	if by != nil && by == l.key {
		l.look(true)
		return
	}
	l.n.mu.Lock()
	defer l.n.mu.Unlock()
	l.lower(cacheAll)
}

// look looks when the directory last changed. Where that is not known of, it was on the host, beside the service, and the client forgets it.
func (l *Lease) look(known bool) {
	l.n.mu.Lock()
	var by *Handle
	for h := range l.of.handles {
		if h.lease == l {
			by = h
			break
		}
	}
	l.n.mu.Unlock()
	if by == nil {
		return
	}
	is := by.changed() // no lock is held while a disk is asked
	l.n.mu.Lock()
	defer l.n.mu.Unlock()
	if !known && !is.Equal(l.seen) {
		l.lower(cacheAll)
	}
	l.seen = is
}

// changed is when what is open last changed; zero where that cannot be told.
func (h *Handle) changed() (at time.Time) {
	if info, err := h.Stat(); err == nil {
		at = info.Changed
	}
	return at
}

// lookOnHost looks for directories, and files that are delegated, that have changed on the host, folder by folder: where one hangs, the others are looked
// at nevertheless, and that one not again meanwhile.
func (n *Namespace) lookOnHost() {
	of := make(map[int64][]*Lease)
	n.mu.Lock()
	for _, l := range n.notify.everyCached() {
		if l.at != nil && l.state != 0 && l.broken == nil {
			of[l.at.folder] = append(of[l.at.folder], l)
		}
	}
	for l := range n.delegations {
		if l.state != 0 && l.broken == nil {
			of[l.delegates] = append(of[l.delegates], l)
		}
	}
	n.mu.Unlock()
	for folder, leases := range of {
		if _, still := n.looking.LoadOrStore(folder, true); still {
			continue
		}
		go func() {
			defer n.looking.Delete(folder)
			for _, l := range leases {
				l.look(false)
			}
		}()
	}
}

// RulesMoved is for when other records have come into force: whoever may see less, or sees another directory than before, forgets what they have
// cached of it.
func (n *Namespace) RulesMoved() {
	for _, l := range n.notify.everyCached() {
		l.outdated(nil)
	}
	n.recallAll()
	n.takeBack(func(*Handle) bool { return true })
}

// timesPassed is RulesMoved for rules that end by themselves.
func (n *Namespace) timesPassed() {
	n.takeBack(func(h *Handle) bool {
		m := h.verdict.Load()
		return m == nil || !m.validUntil.IsZero() && !n.now().Before(m.validUntil)
	})
}

// takeBack has clients forget what they cache by those of their handles with which that may not be any more.
func (n *Namespace) takeBack(of func(*Handle) bool) {
	n.mu.Lock()
	var leased []*Handle
	for _, file := range n.open {
		for h := range file.handles {
			if h.lease != nil && h.lease.state != 0 && of(h) {
				leased = append(leased, h)
			}
		}
	}
	n.mu.Unlock()
	for _, h := range leased {
		if h.check(h.asked) == nil {
			continue
		}
		n.mu.Lock()
		if h.lease != nil {
			h.lease.lower(cacheAll)
		}
		n.mu.Unlock()
	}
}

// lookEvery is how often it is looked whether rules have ended, and what has changed on the host.
const lookEvery = 5 * time.Second

// FollowRules does RulesMoved whenever a channel that changed gives is closed, and looks from time to time which rules have ended and what has changed
// on the host, until the context ends.
func (n *Namespace) FollowRules(ctx context.Context, changed func() <-chan struct{}) {
	tick := time.NewTicker(lookEvery)
	defer tick.Stop()
	for next := changed(); ; {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
			n.timesPassed()
			n.lookOnHost()
		case <-next:
			next = changed()
			n.RulesMoved()
		}
	}
}

// enlist enters a lease on the file. Namespace.mu is held.
func (of *openFile) enlist(l *Lease) *Lease {
	of.leases = append(of.leases, l)
	of.leased.Add(1)
	return l
}

func (of *openFile) leaseOf(key any) *Lease {
	for _, l := range of.leases {
		if l.key == key {
			return l
		}
	}
	return nil
}

// Now is what may be cached, whether it is being given back, and how often it has changed.
func (l *Lease) Now() (state Caching, broken bool, epoch uint16) {
	l.n.mu.Lock()
	defer l.n.mu.Unlock()
	return l.state, l.broken != nil, l.epoch
}

// Waive gives back what the client has just been granted and has no word for.
func (l *Lease) Waive(c Caching) {
	l.n.mu.Lock()
	defer l.n.mu.Unlock()
	l.state &^= c
}

// Same says whether a handle is open on the file that the lease is about.
func (l *Lease) Same(h *Handle) bool { return l.of == h.of }

// Answer takes it that the client caches so much from now on.
func (l *Lease) Answer(to Caching) error {
	l.n.mu.Lock()
	defer l.n.mu.Unlock()
	switch {
	case l.broken == nil:
		return ErrNotBreaking
	case to&^l.to != 0:
		return ErrCaching
	}
	more := l.more
	l.settle(to)
	l.lower(more)
	return nil
}

// settle ends a break. Namespace.mu is held.
func (l *Lease) settle(to Caching) {
	l.state, l.more = to, 0
	if l.broken != nil {
		close(l.broken)
		l.broken = nil
		l.overdue.Stop()
	}
}

// lower has a client give caching back, and gives what is closed when it has; nil where nothing is waited for. Namespace.mu is held.
func (l *Lease) lower(takes Caching) <-chan struct{} {
	if l.broken != nil {
		if l.state&takes == 0 {
			return nil
		}
		l.more |= takes & l.to
		return l.broken
	}
	if l.state&takes == 0 {
		return nil
	}
	if l.delegates != 0 {
		takes = cacheAll
	}
	b := Break{From: l.state, To: l.state &^ takes, Answer: l.state&(CacheWrite|CacheHandle) != 0}
	if b.To&CacheRead == 0 {
		b.To = 0
	}
	l.epoch++
	b.Epoch = l.epoch
	if !b.Answer {
		l.state = b.To
		go l.tell(b)
		return nil
	}
	l.to, l.broken = b.To, make(chan struct{})
	done := l.broken
	tell := l.tell
	l.overdue = time.AfterFunc(patience, func() {
		if l.giveUp(done) {
			tell(Break{Late: true})
		}
	})
	go func() {
		if !tell(b) {
			l.giveUp(done)
		}
	}()
	return done
}

// giveUp ends a break that a client never answered: it may cache nothing any more.
func (l *Lease) giveUp(done chan struct{}) (still bool) {
	l.n.mu.Lock()
	defer l.n.mu.Unlock()
	if still = l.broken == done; still {
		l.settle(0)
	}
	return still
}

// leave is for a handle that is closed. Namespace.mu is held.
func (h *Handle) leave() {
	l := h.lease
	if l == nil {
		return
	}
	h.lease = nil
	if l.handles--; l.handles > 0 {
		return
	}
	l.settle(0)
	l.depart()
	delete(l.n.delegations, l)
	h.of.leases = slices.DeleteFunc(h.of.leases, func(x *Lease) bool { return x == l })
	h.of.leased.Add(-1)
}

// lowerOthers has all but one client give caching of a file back, and gives what is closed when the first of those has that is waited for. Namespace.mu
// is held.
func (of *openFile) lowerOthers(but any, takes Caching) (until <-chan struct{}) {
	return of.lowerThose(func(l *Lease) bool { return but == nil || l.key != but }, takes)
}

// lowerThose is lowerOthers for some of the leases.
func (of *openFile) lowerThose(which func(*Lease) bool, takes Caching) (until <-chan struct{}) {
	for _, l := range of.leases {
		if !which(l) {
			continue
		}
		if done := l.lower(takes); done != nil && until == nil {
			until = done
		}
	}
	return until
}

// key is by which a handle's client calls what it may cache; nil for none.
func (h *Handle) key() any {
	if h.lease == nil {
		return nil
	}
	return h.lease.key
}

// alters has others forget what they have read of a file that is about to be altered through this handle.
func (h *Handle) alters() {
	if n := h.of.leased.Load(); n == 0 || n == 1 && h.leased.Load() {
		return
	}
	h.ns.mu.Lock()
	defer h.ns.mu.Unlock()
	h.of.lowerOthers(h.key(), cacheAll)
}

// GiveBack has other clients give back caching of what the handle is open on, and waits until they have: false where done is closed first.
func (h *Handle) GiveBack(takes Caching, done <-chan struct{}) bool {
	for h.of.leased.Load() > 0 {
		h.ns.mu.Lock()
		until := h.of.lowerOthers(h.key(), takes)
		h.ns.mu.Unlock()
		if until == nil {
			return true
		}
		select {
		case <-until:
		case <-done:
			return false
		}
	}
	return true
}

// WriteBack has the handle's own client write what it has not written yet, before the handle is taken from it: it is not waited for longer than given.
func (h *Handle) WriteBack(most time.Duration) {
	h.ns.mu.Lock()
	var until <-chan struct{}
	if h.lease != nil && h.lease.state&CacheWrite != 0 {
		until = h.lease.lower(CacheWrite | CacheHandle)
	}
	h.ns.mu.Unlock()
	if until == nil {
		return
	}
	select {
	case <-until:
	case <-time.After(most):
	}
}

// elsewhere has clients of SMB give back caching of a file that somebody else is to change or take away: ErrBusy until those have that are
// waited for.
func (n *Namespace) elsewhere(id fileID, takes Caching) error {
	n.mu.Lock()
	defer n.mu.Unlock()
	if of := n.open[id.data()]; of != nil && of.lowerOthers(nil, takes) != nil {
		return ErrBusy
	}
	return nil
}
