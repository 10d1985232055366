package service

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/store"
)

// eventWindow is how long the same deed of the same user on the same path is only counted after it
// has been written down once. Of refusals, which anybody can bring about, so many different ones are
// told apart in that time, and of reads and writes in folders that ask for it so many.
const (
	eventWindow  = time.Minute
	mostRefusals = 300
	mostAccesses = 20_000
)

// deeds collects what happens at the wire, to be written down from time to time. Nothing is dropped:
// what there is no room to tell apart is counted together.
type seen struct {
	mu    sync.Mutex
	by    map[eventKey]*eventCount
	kinds map[files.AccessKind]int // how many of by are of each kind
	other map[files.AccessKind]*store.Event
	first chan struct{} // something new is there
}

// eventKey tells deeds apart. Of somebody whom the records do not know it is the address that counts, as the number is whatever
// they say.
type eventKey struct {
	kind files.AccessKind
	user identity.ID
	from string
	path string
	gate string
}

// eventCount is how often something was done since it was last written down.
type eventCount struct {
	store.Event
	uid     uint32
	several bool      // under several numbers
	written time.Time // when it last was; zero for never
}

func newSeen() *seen {
	return &seen{by: make(map[eventKey]*eventCount), kinds: make(map[files.AccessKind]int), other: make(map[files.AccessKind]*store.Event), first: make(chan struct{}, 1)}
}

// openEvents opens what was written down of what was seen at the wire.
func (s *Service) openEvents(ctx context.Context) error {
	events, aside, err := store.OpenEvents(ctx, s.state)
	if err != nil {
		return err
	}
	if aside != "" {
		slog.Error("what was seen at the wire could not be read, and was put aside", "aside", aside)
	}
	if events.Lost != nil {
		slog.Error("what is seen at the wire cannot be written down in the state directory, and is kept until the service ends", "error", events.Lost)
	}
	events.Keep = s.keepSeen
	s.events = events
	return nil
}

// Saw is files.EventSink.
func (s *Service) Saw(d files.AccessEvent) {
	key := eventKey{kind: d.Kind, user: d.User, path: d.Path}
	if d.User == 0 {
		key.from = d.From
	}
	if d.Kind == files.Refused {
		key.gate = d.Gate.String()
	}
	s.seen.mu.Lock()
	defer s.seen.mu.Unlock()
	c := s.seen.by[key]
	switch {
	case c != nil && c.Count > 0:
		c.Count++
		c.several = c.several || c.uid != d.UID
		return
	case c == nil && s.seen.kinds[d.Kind] >= mostOf(d.Kind):
		other := s.seen.other[d.Kind]
		if other == nil {
			other = &store.Event{Kind: string(d.Kind), Who: "many", Path: "more than are told apart", Via: d.Via.String(), Since: time.Now()}
			s.seen.other[d.Kind] = other
		}
		other.Count++
		return
	case c == nil:
		c = &eventCount{}
		s.seen.by[key] = c
		s.seen.kinds[d.Kind]++
	}
	c.Event = store.Event{Kind: string(d.Kind), Path: d.Path, Target: d.Target, Via: d.Via.String(), Gate: key.gate, From: d.From, Count: 1, Since: time.Now()}
	c.uid, c.several = d.UID, false
	poke(s.seen.first)
}

func mostOf(kind files.AccessKind) int {
	if kind == files.Refused {
		return mostRefusals
	}
	return mostAccesses
}

// RecordEvents writes down what was seen until the context ends, and what is left then. What cannot be written is kept, counted
// together, and tried again.
func (s *Service) RecordEvents(ctx context.Context) {
	tick := time.NewTicker(eventWindow / 4)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			if err := s.writeSeen(context.WithoutCancel(ctx), true); err != nil {
				slog.Error("what was seen at the wire at the end could not be written down", "error", err)
			}
			return
		case <-s.seen.first:
			// A moment more, so that a burst is one transaction.
			select {
			case <-ctx.Done():
			case <-time.After(200 * time.Millisecond):
			}
		case <-tick.C:
		}
		_ = s.writeSeen(ctx, false) // the store notes that it could not, and it is told of
	}
}

// dueDeed is what is to be written down, and where it is counted until then.
type dueDeed struct {
	event  store.Event
	record *store.Event
	count  *eventCount // nil for those that are not told apart
}

// writeSeen writes down what is due: what was not told of within the window, or, at the end, all.
func (s *Service) writeSeen(ctx context.Context, all bool) error {
	due := s.dueDeeds(all)
	if len(due) == 0 {
		return nil
	}
	var list []store.Event
	for _, d := range due {
		list = append(list, d.event)
	}
	if err := s.events.Add(ctx, list); err != nil {
		return err
	}
	s.seen.mu.Lock()
	defer s.seen.mu.Unlock()
	for _, d := range due {
		d.record.Count -= d.event.Count
		if d.record.Since = time.Now(); d.count != nil {
			d.count.written = d.event.At
		}
	}
	return nil
}

func (s *Service) dueDeeds(all bool) (due []dueDeed) {
	now := time.Now()
	s.seen.mu.Lock()
	defer s.seen.mu.Unlock()
	for key, c := range s.seen.by {
		over := all || now.Sub(c.written) >= eventWindow
		switch {
		case c.Count > 0 && over:
			event := c.Event
			event.At = now
			switch {
			case key.user != 0:
				event.Who = s.Policy().Directory.Name(identity.UserPrincipal(key.user))
			case c.several:
				event.Who = "several uids"
			default:
				event.Who = fmt.Sprintf("uid %d", c.uid)
			}
			due = append(due, dueDeed{event, &c.Event, c})
		case c.Count == 0 && over:
			delete(s.seen.by, key)
			s.seen.kinds[key.kind]--
		}
	}
	for _, r := range s.seen.other {
		if r.Count > 0 && (all || now.Sub(r.Since) >= eventWindow/4) {
			event := *r
			event.At = now
			due = append(due, dueDeed{event, r, nil})
		}
	}
	slices.SortFunc(due, func(a, b dueDeed) int { return a.event.Since.Compare(b.event.Since) })
	return due
}
