// Package accesslog is the record of what people did at the wire, or were refused: it is counted, written down from time to time, and asked.
package accesslog

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/store"
)

// eventWindow is how long the same thing of the same user on the same path is only counted after it
// has been written down once. Of refusals, which anybody can bring about, so many different ones are
// told apart in that time, and of reads and writes in folders that ask for it so many.
const (
	eventWindow  = time.Minute
	MostRefusals = 300
	mostAccesses = 20_000
)

// seen collects what happens at the wire, to be written down from time to time. Nothing is dropped:
// what there is no room to tell apart is counted together.
type seen struct {
	mu    sync.Mutex
	by    map[eventKey]*eventCount
	kinds map[files.AccessKind]int // how many of by are of each kind
	other map[files.AccessKind]*store.Event
	first chan struct{} // something new is there
}

// eventKey tells events apart. Of somebody whom the records do not know it is the address that counts, as the number is whatever
// they say.
type eventKey struct {
	kind files.AccessKind
	via  string // of sign-ins, which are told apart by it
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

// Log is the record of access.
type Log struct {
	seen   *seen
	last   *last
	events *store.Events
	person func(identity.ID) string

	writing sync.Mutex
}

// Open opens what was written down in a state directory, which is kept for so long; person gives the name of a user.
func Open(ctx context.Context, state string, keep time.Duration, person func(identity.ID) string) (*Log, error) {
	events, aside, err := store.OpenEvents(ctx, state)
	if err != nil {
		return nil, err
	}
	if aside != "" {
		slog.Error("what was seen at the wire could not be read, and was put aside", "aside", aside)
	}
	if events.Lost != nil {
		slog.Error("what is seen at the wire cannot be written down in the state directory, and is kept until the service ends", "error", events.Lost)
	}
	events.Keep = keep
	return &Log{seen: newSeen(), last: newLast(), events: events, person: person}, nil
}

// Store is where it is written down.
func (l *Log) Store() *store.Events { return l.events }

// Saw is files.EventSink.
func (l *Log) Saw(d files.AccessEvent) {
	key := eventKey{kind: d.Kind, user: d.User, path: d.Path}
	if d.User == 0 {
		key.from = d.From
	}
	if d.Kind == files.Refused {
		key.gate = d.Gate.String()
	}
	l.count(key, store.Event{Path: d.Path, Target: d.Target, Via: d.Via.String(), Gate: key.gate, From: d.From}, d.UID)
}

func mostOf(kind files.AccessKind) int {
	if kind == files.Refused || kind == SignInRefused {
		return MostRefusals
	}
	return mostAccesses
}

// The kinds of event that are of nobody's doing on a path: sign-ins over whatever way.
const (
	SignedIn      files.AccessKind = "signed in"
	SignInRefused files.AccessKind = "sign-in refused"
)

// SawSignIn notes a sign-in by a user, 0 for a name that is nobody's, over a way in, from an address; refused says why it was none, "" where it was one.
func (l *Log) SawSignIn(user identity.ID, via, from, refused string) {
	kind := SignedIn
	if refused != "" {
		kind = SignInRefused
	} else if user != 0 {
		l.last.arrived(user, via, from)
	}
	l.count(eventKey{kind: kind, user: user, via: via, from: from, path: refused}, store.Event{Path: refused, Via: via, From: from, Gate: gateOf(refused)}, 0)
}

func gateOf(refused string) string {
	if refused == "" {
		return ""
	}
	return access.Account.String()
}

// Arrived is files.EventSink: a user has come by NFS, where nobody signs in. It is told of once in a while for each address.
func (l *Log) Arrived(user identity.ID, from string) {
	if l.last.arrived(user, site.NFS.String(), from) {
		l.count(eventKey{kind: SignedIn, user: user, via: site.NFS.String(), from: from}, store.Event{Via: site.NFS.String(), From: from}, 0)
	}
}

// count counts an event that is the same as another where its key is.
func (l *Log) count(key eventKey, event store.Event, uid uint32) {
	l.seen.mu.Lock()
	defer l.seen.mu.Unlock()
	c := l.seen.by[key]
	switch {
	case c != nil && c.Count > 0:
		c.Count++
		c.several = c.several || c.uid != uid
		return
	case c == nil && l.seen.kinds[key.kind] >= mostOf(key.kind):
		other := l.seen.other[key.kind]
		if other == nil {
			other = &store.Event{Kind: string(key.kind), Who: "many", Path: "more than are told apart", Via: event.Via, Since: time.Now()}
			l.seen.other[key.kind] = other
		}
		other.Count++
		return
	case c == nil:
		c = &eventCount{}
		l.seen.by[key] = c
		l.seen.kinds[key.kind]++
	}
	event.Kind, event.Count, event.Since = string(key.kind), 1, time.Now()
	c.Event, c.uid, c.several = event, uid, false
	select {
	case l.seen.first <- struct{}{}:
	default:
	}
}

// RecordEvents writes down what was seen until the context ends, and what is left then. What cannot be written is kept, counted
// together, and tried again.
func (l *Log) RecordEvents(ctx context.Context) {
	tick := time.NewTicker(eventWindow / 4)
	defer tick.Stop()
	for {
		select {
		case <-ctx.Done():
			if err := l.writeSeen(context.WithoutCancel(ctx), true); err != nil {
				slog.Error("what was seen at the wire at the end could not be written down", "error", err)
			}
			return
		case <-l.seen.first:
			// A moment more, so that a burst is one transaction.
			select {
			case <-ctx.Done():
			case <-time.After(200 * time.Millisecond):
			}
		case <-tick.C:
		}
		_ = l.writeSeen(ctx, false) // the store notes that it could not, and it is told of
	}
}

// WriteDown writes down all that was seen, as when the service ends.
func (l *Log) WriteDown(ctx context.Context) error { return l.writeSeen(ctx, true) }

// dueEvent is what is to be written down, and where it is counted until then.
type dueEvent struct {
	event  store.Event
	record *store.Event
	count  *eventCount // nil for those that are not told apart
}

// writeSeen writes down what is due: what was not told of within the window, or, at the end, all.
func (l *Log) writeSeen(ctx context.Context, all bool) error {
	l.writing.Lock() // what is due is written once
	defer l.writing.Unlock()
	if err := l.last.write(ctx, l.events); err != nil {
		return err
	}
	due := l.dueEvents(all)
	if len(due) == 0 {
		return nil
	}
	var list []store.Event
	for _, d := range due {
		list = append(list, d.event)
	}
	if err := l.events.Add(ctx, list); err != nil {
		return err
	}
	l.seen.mu.Lock()
	defer l.seen.mu.Unlock()
	for _, d := range due {
		d.record.Count -= d.event.Count
		if d.record.Since = time.Now(); d.count != nil {
			d.count.written = d.event.At
		}
	}
	return nil
}

func (l *Log) dueEvents(all bool) (due []dueEvent) {
	l.seen.mu.Lock()
	defer l.seen.mu.Unlock()
	now := time.Now() // once nothing more comes in: nothing is told of before it began
	for key, c := range l.seen.by {
		over := all || now.Sub(c.written) >= eventWindow
		switch {
		case c.Count > 0 && over:
			event := c.Event
			event.At = now
			switch {
			case key.user != 0:
				event.Who = l.person(key.user)
			case key.via != "":
				event.Who = "no such user"
			case c.several:
				event.Who = "several uids"
			default:
				event.Who = fmt.Sprintf("uid %d", c.uid)
			}
			due = append(due, dueEvent{event, &c.Event, c})
		case c.Count == 0 && over:
			delete(l.seen.by, key)
			l.seen.kinds[key.kind]--
		}
	}
	for _, r := range l.seen.other {
		if r.Count > 0 && (all || now.Sub(r.Since) >= eventWindow/4) {
			event := *r
			event.At = now
			due = append(due, dueEvent{event, r, nil})
		}
	}
	slices.SortFunc(due, func(a, b dueEvent) int { return a.event.Since.Compare(b.event.Since) })
	return due
}

// Events gives what was done or refused at the wire, as it matches, up to now.
func (l *Log) Events(ctx context.Context, m store.Match) ([]store.Event, error) {
	_ = l.writeSeen(ctx, false) // where that cannot be, what could be is given
	return l.events.Listed(ctx, m)
}

// EachEvent visits it one by one.
func (l *Log) EachEvent(ctx context.Context, m store.Match, visit func(store.Event) error) error {
	return l.events.Each(ctx, m, visit)
}

// VerifyEvents follows the chain of the events; see store.Events.
func (l *Log) VerifyEvents(ctx context.Context) (int64, error) { return l.events.Verify(ctx) }

// Waiting is how many kinds of events are to be written down still.
func (l *Log) Waiting() int {
	l.seen.mu.Lock()
	defer l.seen.mu.Unlock()
	return len(l.seen.by) + len(l.seen.other)
}
