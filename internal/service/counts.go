package service

import (
	"context"
	"log/slog"
	"time"

	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/counting"
	"amber.example/gatekeeper/internal/usage"
)

// openCounting takes up what was counted.
func (s *Service) openCounting(ctx context.Context) (err error) {
	if s.counts, err = counting.Open(ctx, s, s.store, s.state); err != nil {
		return err
	}
	s.ledger, s.uses = s.counts.Ledger(), s.counts.Uses()
	return nil
}

// Account begins to count what is stored by a counter, each folder again so long after it was last counted, never for 0; and to tell people how they stand.
func (s *Service) Account(by counting.Counter, every time.Duration) {
	ctx, wait := s.background.ctx, &s.background.wait
	if homes, ok := by.(ownMaker); ok {
		s.homes.Store(&homes)
	}
	s.counts.Begin(ctx, wait, by, every)
	wait.Go(s.sampling)
	wait.Go(func() { s.Tell(ctx) })
	wait.Go(func() { s.Bring(ctx) })
}

// Ledger is what counts what is stored, and holds it to the limits in force.
func (s *Service) Ledger() *usage.Ledger { return s.ledger }

// AwaitCounts waits until no count is due, for at most half a minute.
func (s *Service) AwaitCounts(ctx context.Context) { s.counts.Await(ctx) }

// Counts gives how far the counting of each folder is, in order of the names.
func (s *Service) Counts() []counting.State { return s.counts.States(s.Policy()) }

// Recount has all folders of a volume counted again.
func (s *Service) Recount(ctx context.Context, by Actor, volume string, rate *int64) error {
	v, err := s.volume(volume)
	if err != nil {
		return err
	}
	return s.steer(ctx, by, "count again", v, func() error {
		if !v.Counting.On() {
			return conflict("volume", "amber volume set "+quote(v.Name)+" --counting size", "nothing is counted on volume %s", v.Name)
		}
		if rate != nil {
			if *rate < 1 || *rate > 10_000_000 {
				return invalid("rate", "%d is not between 1 and 10000000 objects in a second", *rate)
			}
			s.counts.SetRate(v.ID, *rate)
		}
		for _, f := range s.Policy().Folders {
			if f.VolumeID == v.ID {
				s.counts.Again(f.ID)
			}
		}
		return nil
	})
}

// PauseCounts holds the counting of a volume up, or has it go on.
func (s *Service) PauseCounts(ctx context.Context, by Actor, volume string, paused bool) error {
	v, err := s.volume(volume)
	if err != nil {
		return err
	}
	action := "go on counting"
	if paused {
		action = "pause counting"
	}
	return s.steer(ctx, by, action, v, func() error {
		s.counts.Pause(v.ID, paused)
		return nil
	})
}

// steer journals something that concerns counting alone, and does it.
func (s *Service) steer(ctx context.Context, by Actor, action string, v site.Volume, do func() error) error {
	if err := s.mustAdminister(by, action); err != nil && !s.tried() {
		return err
	}
	return s.change(ctx, by, action, v.Name, func(*site.Draft) error {
		if s.drafting == nil {
			return do()
		}
		s.later(func() {
			if err := do(); err != nil {
				slog.Error("counting goes on as it did", "volume", v.Name, "error", err)
			}
		})
		return nil
	})
}
