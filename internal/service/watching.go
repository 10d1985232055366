package service

import "sync"

// bell tells whoever waits for it that something has changed.
type bell struct {
	mu   sync.Mutex
	next chan struct{}
}

// wait gives a channel that is closed when it is rung next.
func (b *bell) wait() <-chan struct{} {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.next == nil {
		b.next = make(chan struct{})
	}
	return b.next
}

func (b *bell) ring() {
	b.mu.Lock()
	defer b.mu.Unlock()
	if b.next != nil {
		close(b.next)
		b.next = nil
	}
}

// Changed gives a channel that is closed when other records come into force.
func (s *Service) Changed() <-chan struct{} { return s.changed.wait() }
