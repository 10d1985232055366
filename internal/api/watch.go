package api

import (
	"context"
	"net/http"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/danielgtaylor/huma/v2/sse"

	"amber.example/gatekeeper/internal/core/identity"
)

// Moved says that other records came into force.
type Moved struct {
	Times int64 `json:"times" doc:"How often, since one began to watch."`
}

// Stirred says that something was asked at the wire, or somebody came or went.
type Stirred struct {
	Times int64 `json:"times" doc:"How often that was so, since one began to watch."`
}

// Still says that nothing did, and that there is still somebody who would tell.
type Still struct{}

const (
	// stillEvery is how often whoever watches is told that nothing has changed, and whether they may still watch is looked at.
	stillEvery = 15 * time.Second
	// stirredEvery is how often at most it is told that something stirred.
	stirredEvery = 2 * time.Second
	// mostWatching is how many watch at once, and mostOfOne how many of them are one person; the others are sent away, and come again.
	mostWatching = 256
	mostOfOne    = 32
)

// watching is who does.
type watching struct {
	mu  sync.Mutex
	all int
	of  map[identity.ID]int
}

// enter takes a place, if there is one.
func (w *watching) enter(who identity.ID) bool {
	w.mu.Lock()
	defer w.mu.Unlock()
	if w.all >= mostWatching || w.of[who] >= mostOfOne {
		return false
	}
	if w.of == nil {
		w.of = make(map[identity.ID]int)
	}
	w.all++
	w.of[who]++
	return true
}

func (w *watching) leave(who identity.ID) {
	w.mu.Lock()
	defer w.mu.Unlock()
	w.all--
	if w.of[who]--; w.of[who] == 0 {
		delete(w.of, who)
	}
}

type stillKey struct{}

// lasting lets a request last, and keeps how to ask whether whoever made it is still signed in.
func (s *Server) lasting(ctx huma.Context, next func(huma.Context)) {
	_, w := humachi.Unwrap(ctx)
	_ = http.NewResponseController(w).SetReadDeadline(time.Time{})
	by, address := token(ctx.Header("Authorization"), ctx.Header("Cookie")), reachedBy(ctx.Context()).address
	next(huma.WithValue(ctx, stillKey{}, func() bool {
		_, err := s.svc.Authenticate(ctx.Context(), by, address)
		return err == nil
	}))
}

func (s *Server) registerWatch() {
	op := operation("watch", http.MethodGet, "/watch", "Be told when other records come into force", "journal")
	op.Middlewares = huma.Middlewares{s.lasting}
	sse.Register(s.api, op, map[string]any{"moved": Moved{}, "still": Still{}, "stirred": Stirred{}}, func(ctx context.Context, in *struct {
		Live bool `query:"live" doc:"Be told of what stirs at the wire as well, every two seconds at most."`
	}, send sse.Sender) {
		who := caller(ctx).ID
		if !s.watchers.enter(who) {
			return
		}
		defer s.watchers.leave(who)
		signedIn, _ := ctx.Value(stillKey{}).(func() bool)
		tick := time.NewTicker(stillEvery)
		defer tick.Stop()
		next, times := s.svc.Changed(), int64(0)
		var stirs <-chan time.Time
		stirred, wasAt := int64(0), s.live.Stirs()
		if in.Live && caller(ctx).Role != identity.NoRole { // others learn nothing of who comes and goes
			every := time.NewTicker(stirredEvery)
			defer every.Stop()
			stirs = every.C
		}
		err := send.Data(Still{}) // so that it is known at once that one is heard
		for err == nil {
			select {
			case <-ctx.Done():
				return
			case <-next:
				if s.svc.WindingDown() {
					return
				}
				next = s.svc.Changed()
				times++
				err = send.Data(Moved{times})
			case <-stirs:
				if at := s.live.Stirs(); at != wasAt {
					wasAt = at
					stirred++
					err = send.Data(Stirred{stirred})
				}
			case <-tick.C:
				if signedIn == nil || !signedIn() {
					return
				}
				err = send.Data(Still{})
			}
		}
	})
}
