// Package turns has a connection's requests answered by the goroutine that read them, as long as each is answered at once, and has another
// goroutine read on beside it as soon as one is not. Most requests then cost no change of goroutine, and none keeps those behind it waiting for
// much longer than Patience.
package turns

import (
	"sync"
	"sync/atomic"
	"time"
)

// Patience is for how long a request may be in work before the next is read beside it.
const Patience = time.Millisecond

// Kind says how a request is to be answered.
type Kind int

// The kinds of requests.
const (
	Over   Kind = iota // there is none: nothing more is read
	Inline             // it was answered as it was read
	Alone              // by the goroutine that read it, as long as it is quick
	Beside             // at once beside the next: it is long, or the next has come already
)

// Turns is the reading of one connection. One goroutine at a time has the turn, and reads.
type Turns struct {
	next  func() (work func(), kind Kind)
	over  func()
	state atomic.Int32
	since atomic.Int64 // when the work of the one whose turn it is began
}

const (
	reading int32 = iota
	working
	passed // another reads now
)

// Run reads by next until that says Over, and has what it gives be done. over is told once, by the goroutine that had the turn at the end; work
// may still be done elsewhere then. Run may come back before.
func Run(next func() (work func(), kind Kind), over func()) {
	t := &Turns{next: next, over: over}
	all.add(t)
	t.run()
}

func (t *Turns) run() {
	for {
		work, kind := t.next()
		switch kind {
		case Inline:
		case Alone:
			t.begin()
			work()
			if !t.state.CompareAndSwap(working, reading) {
				return
			}
		case Beside:
			go t.run()
			work()
			return
		default:
			all.remove(t)
			t.over()
			return
		}
	}
}

var start = time.Now()

func (t *Turns) begin() {
	t.since.Store(int64(time.Since(start)))
	t.state.Store(working)
	all.rouse()
}

// pass has another read on where the one whose turn it is has been at work for too long. It says whether that is at work.
func (t *Turns) pass(now time.Duration) bool {
	if t.state.Load() != working {
		return false
	}
	if now-time.Duration(t.since.Load()) >= Patience && t.state.CompareAndSwap(working, passed) {
		// Whoever reads from now on begins with its own state: the one at work only finds that it is not its turn any more.
		next := &Turns{next: t.next, over: t.over}
		all.replace(t, next)
		go next.run()
	}
	return true
}

// watch looks after all of them. It sleeps while none is at work, and ends when there is none.
type watch struct {
	mu      sync.Mutex
	turns   map[*Turns]struct{}
	running bool
	asleep  atomic.Bool
	wake    chan struct{}
}

var all = &watch{turns: make(map[*Turns]struct{}), wake: make(chan struct{}, 1)}

func (w *watch) add(t *Turns) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.turns[t] = struct{}{}
	if !w.running {
		w.running = true
		go w.run()
	}
}

func (w *watch) remove(t *Turns) {
	w.mu.Lock()
	defer w.mu.Unlock()
	if delete(w.turns, t); len(w.turns) == 0 {
		w.rouse()
	}
}

// replace is told with the lock held.
func (w *watch) replace(was, is *Turns) {
	delete(w.turns, was)
	w.turns[is] = struct{}{}
}

func (w *watch) rouse() {
	if w.asleep.Load() {
		select {
		case w.wake <- struct{}{}:
		default:
		}
	}
}

// look passes on the turns that want it, and says whether any was at work, and whether there are any.
func (w *watch) look() (any, some bool) {
	now := time.Since(start)
	w.mu.Lock()
	defer w.mu.Unlock()
	for t := range w.turns {
		any = t.pass(now) || any
	}
	w.running = len(w.turns) > 0
	return any, w.running
}

func (w *watch) run() {
	const quiet = 50 // looks that find nobody at work, before it sleeps
	for {
		for idle := 0; idle < quiet; idle++ {
			time.Sleep(Patience / 2)
			any, some := w.look()
			if !some {
				return
			}
			if any {
				idle = 0
			}
		}
		w.asleep.Store(true)
		any, some := w.look() // who began before that was seen is found; who begins after it wakes
		if some && !any {
			<-w.wake
		}
		w.asleep.Store(false)
		if !some {
			return
		}
	}
}
