package service

import (
	"context"
	"log/slog"
	"strconv"
	"time"

	"amber.example/gatekeeper/internal/contain"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/meter"
	"amber.example/gatekeeper/internal/store"
)

// Meter is where what is asked at the wire is counted.
func (s *Service) Meter() *meter.Meter { return s.meter }

// openSeries opens what is kept of it over time.
func (s *Service) openSeries(ctx context.Context) (err error) {
	series, aside, err := store.OpenSeries(ctx, s.state)
	if err != nil {
		return err
	}
	if aside != "" {
		slog.Error("the history of what was asked at the wire could not be read: it was put aside, and is begun anew", "aside", aside)
	}
	if series.Lost != nil {
		slog.Error("the history of what is asked at the wire cannot be kept in the state directory, and is kept until the service ends", "error", series.Lost)
	}
	s.series = series
	return nil
}

// keepHistory keeps what was counted, every ten seconds.
func (s *Service) keepHistory() {
	ctx, before := s.background.ctx, s.counted()
	tick := time.NewTicker(store.Steps[0].Each)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			s.keepCounted(context.WithoutCancel(ctx), before, time.Now())
			return
		case now := <-tick.C:
			contain.Run("keeping what was counted", func() { before = s.keepCounted(ctx, before, now) })
		}
	}
}

// counted is what was counted until now of each folder, by the number of its record, and of all.
func (s *Service) counted() map[string]meter.Count {
	var all meter.Count
	s.meter.Each(meter.ByProtocol, func(_ string, c meter.Count) { all.Add(c) })
	counts := map[string]meter.Count{"": all}
	s.meter.Each(meter.ByFolder, func(number string, c meter.Count) { counts[number] = c })
	return counts
}

// keepCounted keeps what was counted since before, and gives what is counted now.
func (s *Service) keepCounted(ctx context.Context, before map[string]meter.Count, now time.Time) map[string]meter.Count {
	counts := s.counted()
	var samples []store.Span
	for name, is := range counts {
		was := before[name]
		if is.All() < was.All() { // it was forgotten, and begins anew
			was = meter.Count{}
		}
		if n := is.All() - was.All(); n > 0 {
			samples = append(samples, store.Span{Name: name, Operations: n, Read: is.Read - was.Read, Written: is.Written - was.Written, Times: is.Times.Less(was.Times)})
		}
	}
	if len(samples) > 0 {
		if err := s.series.Add(ctx, now, samples); err != nil {
			slog.Warn("what was asked at the wire in the last ten seconds is not in its history", "error", err)
		}
	}
	return counts
}

// Throughput gives what was asked of a folder, or of all where it is "", over time: a step, and the spans of that length in which something was.
func (s *Service) Throughput(ctx context.Context, folder string, from, until time.Time) (time.Duration, []store.Point, error) {
	if folder != "" {
		f, err := s.Folder(folder)
		if err != nil {
			return 0, nil, err
		}
		folder = strconv.FormatInt(f.ID, 10)
	}
	now := time.Now()
	switch {
	case !until.After(from):
		return 0, nil, invalid("until", "that is not after what it begins with")
	case until.After(now.Add(time.Minute)):
		until = now
	}
	return s.series.Between(ctx, folder, from, until, now)
}

// FolderName is the name of a folder by the number of its record; "" for one that is gone.
func (s *Service) FolderName(number string) string {
	id, _ := strconv.ParseInt(number, 10, 64)
	if f := s.Policy().Folder(id); f != nil {
		return f.Name
	}
	return ""
}

// JobsRunning is how many jobs go on.
func (s *Service) JobsRunning() (n int) {
	for _, j := range s.Jobs() {
		if !j.IsOver() {
			n++
		}
	}
	return n
}

// Saw is files.EventSink: refusals are counted by their gates as well.
func (s *Service) Saw(d files.AccessEvent) {
	if d.Kind == files.Refused {
		s.meter.Tally(meter.ByGate, d.Gate.String()).Refuse()
	}
	s.Log.Saw(d)
}

// Databases says how long writing into each database took; that of the records holds the journal.
func (s *Service) Databases() map[string]meter.Times {
	return map[string]meter.Times{"records": s.store.Took(), "events": s.Log.Store().Took(), "use": s.uses.Took()}
}

// Queues says how much waits: what was seen at the wire to be written down, messages to be sent.
func (s *Service) Queues() map[string]int {
	out := map[string]int{"events": s.Log.Waiting()}
	if n, err := s.uses.Waiting(s.background.ctx); err == nil {
		out["messages"] = n
	}
	return out
}
