// Package lanes lets so many calls be in work at once, and keeps those that a disk does not let go of from standing in the
// way of the rest.
package lanes

import (
	"context"
	"sync"
	"time"
)

const (
	// Patience is for how long a call has its place. One that has been in work for longer gives it up when another
	// waits for it, and goes on beside.
	Patience = time.Second
	// MostAside is how many calls of the process may go on so. Beyond, calls wait.
	MostAside = 256
	// Of one client, so many times as many as it has places.
	besides = 2
)

// Aside counts the calls that have given up their places: one for everything whose memory adds up.
type Aside struct {
	mu   sync.Mutex
	n    int
	most int
}

// NewAside lets so many calls go on beside.
func NewAside(most int) *Aside { return &Aside{most: most} }

func (a *Aside) take() bool {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.n >= a.most {
		return false
	}
	a.n++
	return true
}

func (a *Aside) give() {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.n--
}

// Lanes are the places of one client, or of one resource.
type Lanes struct {
	aside *Aside
	free  chan struct{}
	mu    sync.Mutex
	first *Call // of those that have a place
	held  int   // how many they are
	gone  int   // that have given theirs up
}

// New makes a number of places.
func New(places int, aside *Aside) *Lanes {
	return &Lanes{aside: aside, free: make(chan struct{}, places)}
}

// Call has a place until Done.
type Call struct {
	l     *Lanes
	since time.Time
	aside func() // told once, when the call has given its place up; may be nil
	gone  bool   // it has; guarded by Lanes.mu, as is all that follows
	kept  bool

	before, next *Call // in the list of its Lanes
}

func (l *Lanes) addLocked(c *Call) {
	if c.next = l.first; c.next != nil {
		c.next.before = c
	}
	l.first = c
	l.held++
}

// removeLocked leaves the next of what it removes as it is, for who goes through the list.
func (l *Lanes) removeLocked(c *Call) {
	if c.before != nil {
		c.before.next = c.next
	} else {
		l.first = c.next
	}
	if c.next != nil {
		c.next.before = c.before
	}
	l.held--
}

// Take waits for a place; nil where ctx ends first.
func (l *Lanes) Take(ctx context.Context, aside func()) *Call {
	select {
	case l.free <- struct{}{}:
		return l.call(aside)
	default:
	}
	tick := time.NewTicker(Patience / 4)
	defer tick.Stop()
	for {
		l.SetAside()
		select {
		case l.free <- struct{}{}:
			return l.call(aside)
		case <-ctx.Done():
			return nil
		case <-tick.C:
		}
	}
}

func (l *Lanes) call(aside func()) *Call {
	c := &Call{l: l, since: time.Now(), aside: aside}
	l.mu.Lock()
	defer l.mu.Unlock()
	l.addLocked(c)
	return c
}

// Held is how many calls have a place.
func (l *Lanes) Held() int {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.held
}

// SetAside has the calls that have been in work for long give up their places, as far as there may be more of those.
func (l *Lanes) SetAside() {
	var told []func()
	l.mu.Lock()
	for c := l.first; c != nil; c = c.next {
		if c.kept || l.gone == besides*cap(l.free) || time.Since(c.since) < Patience || !l.aside.take() {
			continue
		}
		c.gone = true
		l.gone++
		l.removeLocked(c)
		<-l.free
		if c.aside != nil {
			told = append(told, c.aside)
		}
	}
	l.mu.Unlock()
	for _, tell := range told {
		tell()
	}
}

// Keep has a call keep its place from now on, if it has not given it up: it waits for its client and not for a disk.
func (c *Call) Keep() {
	c.l.mu.Lock()
	defer c.l.mu.Unlock()
	c.kept = true
}

// Done ends a call.
func (c *Call) Done() {
	c.l.mu.Lock()
	gone := c.gone
	if gone {
		c.l.gone--
	} else {
		c.l.removeLocked(c)
	}
	c.l.mu.Unlock()
	if gone {
		c.l.aside.give()
	} else {
		<-c.l.free
	}
}
