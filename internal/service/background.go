package service

import (
	"context"
	"sync"
)

// background is what goes on as long as the service does, beside requests and jobs.
type background struct {
	ctx    context.Context // ends when the service begins to end
	cancel context.CancelFunc
	wait   sync.WaitGroup
}

func newBackground() *background {
	ctx, cancel := context.WithCancel(context.Background())
	return &background{ctx: ctx, cancel: cancel}
}

// close ends it and waits for it.
func (b *background) close() {
	b.cancel()
	b.wait.Wait()
}

// WindDown has what goes on by itself come to an end, and what cannot be finished not tried for ever. It comes
// before the protocols are closed, which wait for their requests.
func (s *Service) WindDown() {
	s.background.cancel()
	s.jobs.WindDown()
	s.changed.ring()
}

// WindingDown says whether the service is about to end.
func (s *Service) WindingDown() bool { return s.closing() }

// closing says whether the service is ending.
func (s *Service) closing() bool { return s.background.ctx.Err() != nil }
