package service

import (
	"sync"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
)

// Throttle slows repeated wrong passwords, per account and per address, whatever
// way they come in. The first few cost nothing; then each doubles the wait.
type Throttle struct {
	now   func() time.Time
	mu    sync.Mutex
	tries map[string]*tries
}

type tries struct {
	failed int
	last   time.Time
}

const (
	freeTries   = 4
	longestWait = 30 * time.Second
	forgetAfter = 15 * time.Minute
	mostTries   = 20_000 // remembered; beyond, the oldest are forgotten
)

// NewThrottle makes an empty one that reads the time from now.
func NewThrottle(now func() time.Time) *Throttle {
	return &Throttle{now: now, tries: make(map[string]*tries)}
}

func throttleKeys(account, address string) [2]string {
	return [2]string{"account " + identity.Fold(account), "address " + address}
}

// Try asks to look at a password. Zero means it may be looked at, and counts as a wrong
// one until Succeeded says otherwise, so that many at once are no way around; more is
// how long to wait first.
func (t *Throttle) Try(account, address string) time.Duration {
	t.mu.Lock()
	defer t.mu.Unlock()
	now := t.now()
	var longest time.Duration
	for _, key := range throttleKeys(account, address) {
		if tr := t.tries[key]; tr != nil && tr.failed > freeTries {
			wait := min(time.Second<<min(tr.failed-freeTries-1, 10), longestWait)
			longest = max(longest, tr.last.Add(wait).Sub(now))
		}
	}
	if longest > 0 {
		return longest
	}
	if len(t.tries) >= mostTries {
		t.forget(now)
	}
	for _, key := range throttleKeys(account, address) {
		tr := t.tries[key]
		if tr == nil || now.Sub(tr.last) > forgetAfter {
			tr = &tries{}
			t.tries[key] = tr
		}
		tr.failed++
		tr.last = now
	}
	return 0
}

func (t *Throttle) forget(now time.Time) {
	for key, tr := range t.tries {
		if now.Sub(tr.last) > forgetAfter || len(t.tries) > mostTries/2 {
			delete(t.tries, key)
		}
	}
}

// Succeeded clears what is held against the account, and against the address this one
// try: not its past, or one good account would pay for guessing at others.
func (t *Throttle) Succeeded(account, address string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	keys := throttleKeys(account, address)
	delete(t.tries, keys[0])
	if tr := t.tries[keys[1]]; tr != nil {
		if tr.failed--; tr.failed <= 0 {
			delete(t.tries, keys[1])
		}
	}
}
