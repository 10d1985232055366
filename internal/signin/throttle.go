package signin

import (
	"context"
	"sync"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
)

// Throttle slows repeated wrong passwords, per account and per address, whatever
// way they come in. The first few cost nothing; then each doubles the wait. Only so many are
// looked at side by side, so that guessing many at once is no way around; those that are
// right pass quickly, however many come together.
type Throttle struct {
	now   func() time.Time
	mu    sync.Mutex
	tries map[string]*tries
}

type tries struct {
	failed  int
	pending int
	last    time.Time
}

const (
	freeTries   = 4
	mostPending = 16 // passwords of one account, or from one address, looked at side by side
	longestWait = 30 * time.Second
	forgetAfter = 15 * time.Minute
	mostTries   = 20_000 // remembered; beyond, the oldest are forgotten
	turn        = 20 * time.Millisecond
	longestTurn = 3 * time.Second // that a try waits for others before it
)

// NewThrottle makes an empty one that reads the time from now.
func NewThrottle(now func() time.Time) *Throttle {
	return &Throttle{now: now, tries: make(map[string]*tries)}
}

// Compare looks at one password: the only place, for every way in, where one is. compare says whether it is
// right; it is not called, and wait says how long not to ask again, where too many have been wrong.
// Up to patience it waits for that itself.
func (t *Throttle) Compare(ctx context.Context, account, address string, patience time.Duration, compare func() bool) (ok bool, wait time.Duration) {
	done, wait := t.Begin(ctx, account, address, patience)
	if done == nil {
		return false, max(wait, 1)
	}
	defer func() { done(ok) }() // whatever becomes of it
	return compare(), 0
}

// Begin asks to look at a password. Either it may be looked at, and done is to be called
// with what came of it; or wait says how long not to ask again. It waits itself up to
// patience for that to pass.
func (t *Throttle) Begin(ctx context.Context, account, address string, patience time.Duration) (done func(ok bool), wait time.Duration) {
	asked := time.Now()
	for {
		done, wait, busy := t.begin(account, address)
		if done != nil {
			return done, 0
		}
		limit := patience
		if busy {
			limit = longestTurn
		}
		if time.Since(asked)+wait > limit {
			return nil, wait
		}
		select {
		case <-time.After(wait):
		case <-ctx.Done():
			return nil, wait
		}
	}
}

func (t *Throttle) begin(account, address string) (done func(ok bool), wait time.Duration, busy bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	now := t.now()
	keys := [2]string{"account " + identity.Fold(account), "address " + address}
	for _, key := range keys {
		tr := t.tries[key]
		if tr == nil {
			continue
		}
		if now.Sub(tr.last) > forgetAfter {
			tr.failed = 0
		}
		if tr.failed > freeTries {
			wait = max(wait, tr.last.Add(min(time.Second<<min(tr.failed-freeTries-1, 10), longestWait)).Sub(now))
		}
		busy = busy || tr.pending >= mostPending
	}
	switch {
	case wait > 0:
		return nil, wait, false
	case busy:
		return nil, turn, true
	}
	if len(t.tries) >= mostTries {
		t.forget(now)
	}
	for _, key := range keys {
		if t.tries[key] == nil {
			t.tries[key] = &tries{}
		}
		t.tries[key].pending++
	}
	return func(ok bool) { t.end(keys, ok) }, 0, false
}

func (t *Throttle) end(keys [2]string, ok bool) {
	t.mu.Lock()
	defer t.mu.Unlock()
	for i, key := range keys {
		tr := t.tries[key]
		tr.pending--
		switch {
		case !ok:
			tr.failed++
			tr.last = t.now()
		case i == 0: // an address keeps its past, or one good account would pay for guessing at others
			tr.failed = 0
		}
		if tr.failed == 0 && tr.pending == 0 {
			delete(t.tries, key)
		}
	}
}

func (t *Throttle) forget(now time.Time) {
	for key, tr := range t.tries {
		if tr.pending == 0 && (now.Sub(tr.last) > forgetAfter || len(t.tries) > mostTries/2) {
			delete(t.tries, key)
		}
	}
}
