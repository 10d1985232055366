package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/store"
)

// deedWindow is how long the same deed of the same user on the same path is only counted after it
// has been journalled once. Of refusals, which anybody can bring about, so many different ones are
// told apart in that time, and of reads and writes in folders that ask for it so many.
const (
	deedWindow   = time.Minute
	mostRefusals = 300
	mostAccesses = 20_000
	mostFailures = 20 // of writing them, one after the other, before the service gives up
)

// DeedRecord is a deed as the journal holds it: how often it happened since the row before that
// tells of it.
type DeedRecord struct {
	Via   string    `json:"via"`
	Gate  string    `json:"gate,omitempty"`
	From  string    `json:"from,omitempty"`
	Count int64     `json:"count"`
	Since time.Time `json:"since"`
}

// deeds collects what happens at the wire, to be journalled from time to time. Nothing is dropped:
// what there is no room to tell apart is counted together.
type deeds struct {
	mu    sync.Mutex
	by    map[deedKey]*deedCount
	kinds map[files.DeedKind]int // how many of by are of each kind
	other map[files.DeedKind]*DeedRecord
	first chan struct{} // something new is there
}

type deedKey struct {
	kind files.DeedKind
	user identity.ID
	uid  uint32
	path string
	gate string
}

type deedCount struct {
	DeedRecord
	written time.Time // when it was last journalled; zero for never
}

func newDeeds() *deeds {
	return &deeds{by: make(map[deedKey]*deedCount), kinds: make(map[files.DeedKind]int), other: make(map[files.DeedKind]*DeedRecord), first: make(chan struct{}, 1)}
}

// Saw is files.Witness.
func (s *Service) Saw(d files.Deed) {
	key := deedKey{d.Kind, d.User, d.UID, d.Path, ""}
	if d.User != 0 {
		key.uid = 0
	}
	if d.Kind == files.Refused {
		key.gate = d.Gate.String()
	}
	s.deeds.mu.Lock()
	defer s.deeds.mu.Unlock()
	c := s.deeds.by[key]
	switch {
	case c != nil && c.Count > 0:
		c.Count++
		return
	case c == nil && s.deeds.kinds[d.Kind] >= mostOf(d.Kind):
		other := s.deeds.other[d.Kind]
		if other == nil {
			other = &DeedRecord{Via: d.Via.String(), Since: time.Now()}
			s.deeds.other[d.Kind] = other
		}
		other.Count++
		return
	case c == nil:
		c = &deedCount{}
		s.deeds.by[key] = c
		s.deeds.kinds[d.Kind]++
	}
	c.DeedRecord = DeedRecord{Via: d.Via.String(), Gate: key.gate, From: d.From, Count: 1, Since: time.Now()}
	select {
	case s.deeds.first <- struct{}{}:
	default:
	}
}

func mostOf(kind files.DeedKind) int {
	if kind == files.Refused {
		return mostRefusals
	}
	return mostAccesses
}

// JournalDeeds writes what was seen into the journal until the context ends, and what is left then.
// What cannot be written is kept and tried again.
func (s *Service) JournalDeeds(ctx context.Context) error {
	tick := time.NewTicker(deedWindow / 4)
	defer tick.Stop()
	failures := 0
	for {
		select {
		case <-ctx.Done():
			return s.writeDeeds(context.WithoutCancel(ctx), true)
		case <-s.deeds.first:
			// A moment more, so that a burst is one transaction.
			select {
			case <-ctx.Done():
			case <-time.After(200 * time.Millisecond):
			}
		case <-tick.C:
		}
		switch err := s.writeDeeds(ctx, false); {
		case err == nil || ctx.Err() != nil:
			failures = 0
		case failures == mostFailures:
			return fmt.Errorf("journal what was done and refused: %w", err)
		default:
			failures++
		}
	}
}

// dueDeed is what a row of the journal tells, and where it is counted until the row is written.
type dueDeed struct {
	row    *store.JournalRow
	record *DeedRecord
	count  *deedCount // nil for those that are not told apart
	told   int64
}

// writeDeeds journals what is due: what was not told of within the window, or, at the end, all.
func (s *Service) writeDeeds(ctx context.Context, all bool) error {
	due, err := s.dueDeeds(all)
	if err != nil || len(due) == 0 {
		return err
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		for _, d := range due {
			if err := tx.Append(ctx, d.row); err != nil {
				return err
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	s.deeds.mu.Lock()
	defer s.deeds.mu.Unlock()
	for _, d := range due {
		d.record.Count -= d.told
		if d.record.Since = time.Now(); d.count != nil {
			d.count.written = d.row.At
		}
	}
	return nil
}

func (s *Service) dueDeeds(all bool) (due []dueDeed, err error) {
	now := time.Now()
	add := func(kind files.DeedKind, actor, path string, r *DeedRecord, c *deedCount) {
		raw, failed := json.Marshal(r)
		err = errors.Join(err, failed)
		row := &store.JournalRow{At: now, Actor: actor, Action: string(kind), Subject: path, Changes: []store.Change{{Kind: store.DeedKind, After: raw}}}
		due = append(due, dueDeed{row, r, c, r.Count})
	}
	s.deeds.mu.Lock()
	defer s.deeds.mu.Unlock()
	for key, c := range s.deeds.by {
		over := all || now.Sub(c.written) >= deedWindow
		switch {
		case c.Count > 0 && over:
			who := "uid " + fmt.Sprint(key.uid)
			if key.user != 0 {
				who = s.Policy().Directory.Name(identity.UserPrincipal(key.user))
			}
			add(key.kind, who, key.path, &c.DeedRecord, c)
		case c.Count == 0 && over:
			delete(s.deeds.by, key)
			s.deeds.kinds[key.kind]--
		}
	}
	for kind, r := range s.deeds.other {
		if r.Count > 0 && (all || now.Sub(r.Since) >= deedWindow/4) {
			add(kind, "many", "more than are told apart", r, nil)
		}
	}
	return due, err
}
