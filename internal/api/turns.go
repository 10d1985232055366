package api

import (
	"context"
	"sync"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/service"
)

// Of what takes long and changes nothing, one at a time is done for each caller and so many in all, each for so long.
const (
	mostPreviews = 4
	mostWaiting  = 8 // of one caller
	patience     = 20 * time.Second
	// Whoever asks for one after the other is worked for a third of the time, so that sign-ins and opens have the rest.
	restFor  = 2 // times as long as it took
	mostRest = 2 * time.Second
)

// turns has callers wait for themselves, and not for one another.
type turns struct {
	all chan struct{}
	mu  sync.Mutex
	of  map[identity.ID]*turn
}

type turn struct {
	one     chan struct{}
	waiting int
}

func newTurns() *turns {
	return &turns{all: make(chan struct{}, mostPreviews), of: make(map[identity.ID]*turn)}
}

// take waits for the caller's turn. It gives the context under which to go on, which ends after a while, and what gives the turn
// back.
func (t *turns) take(ctx context.Context, by service.Actor) (context.Context, func(), error) {
	ctx, cancel := context.WithTimeout(ctx, patience)
	t.mu.Lock()
	mine := t.of[by.ID]
	if mine == nil {
		mine = &turn{one: make(chan struct{}, 1)}
		t.of[by.ID] = mine
	}
	full := mine.waiting >= mostWaiting
	if !full {
		mine.waiting++
	}
	t.mu.Unlock()
	if full {
		cancel()
		return nil, nil, &service.Error{Kind: service.RateLimited, RetryAfter: time.Second, Message: "too many of your own previews wait for one another already"}
	}
	leave := func() {
		cancel()
		t.mu.Lock()
		defer t.mu.Unlock()
		if mine.waiting--; mine.waiting == 0 {
			delete(t.of, by.ID)
		}
	}
	for i, place := range []chan struct{}{mine.one, t.all} {
		select {
		case place <- struct{}{}:
		case <-ctx.Done():
			if i > 0 {
				<-mine.one
			}
			leave()
			return nil, nil, tookTooLong(ctx)
		}
	}
	begun := time.Now()
	return ctx, func() {
		cancel()
		<-t.all
		time.AfterFunc(min(restFor*time.Since(begun), mostRest), func() {
			<-mine.one
			leave()
		})
	}, nil
}

// tookTooLong says so to whoever still waits for it.
func tookTooLong(ctx context.Context) error {
	if ctx.Err() == context.DeadlineExceeded {
		return &service.Error{Kind: service.Unavailable, RetryAfter: time.Second, Message: "that takes longer than " + patience.String() + ", and was given up: try fewer changes at once"}
	}
	return &service.Error{Kind: service.Unavailable, Message: "it was broken off"}
}
