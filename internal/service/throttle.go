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

// Wait says how long the account and the address must still wait before a
// password is looked at; zero when it may be now.
func (t *Throttle) Wait(account, address string) time.Duration {
	t.mu.Lock()
	defer t.mu.Unlock()
	var longest time.Duration
	for _, key := range throttleKeys(account, address) {
		if tr := t.tries[key]; tr != nil && tr.failed > freeTries {
			wait := min(time.Second<<min(tr.failed-freeTries-1, 10), longestWait)
			longest = max(longest, tr.last.Add(wait).Sub(t.now()))
		}
	}
	return max(longest, 0)
}

// Failed notes a wrong password.
func (t *Throttle) Failed(account, address string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	now := t.now()
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
}

func (t *Throttle) forget(now time.Time) {
	for key, tr := range t.tries {
		if now.Sub(tr.last) > forgetAfter || len(t.tries) > mostTries/2 {
			delete(t.tries, key)
		}
	}
}

// Succeeded clears what is held against the account; the address keeps its past,
// or one good account would pay for guessing at others.
func (t *Throttle) Succeeded(account string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	delete(t.tries, throttleKeys(account, "")[0])
}
