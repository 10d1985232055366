package service

import (
	"context"
	"encoding/json"
	"fmt"
	"sync"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/store"
)

// deedWindow is how long the same deed of the same user on the same path is only counted after it
// has been journalled once; mostDeeds is how many different ones are told apart at a time.
const (
	deedWindow = time.Minute
	mostDeeds  = 10_000
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
	other DeedRecord
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
	return &deeds{by: make(map[deedKey]*deedCount), first: make(chan struct{}, 1)}
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
	case c == nil && len(s.deeds.by) >= mostDeeds:
		if s.deeds.other.Count == 0 {
			s.deeds.other.Since = time.Now()
		}
		s.deeds.other.Count++
		return
	case c == nil:
		c = &deedCount{}
		s.deeds.by[key] = c
	}
	c.DeedRecord = DeedRecord{Via: d.Via.String(), Gate: key.gate, From: d.From, Count: 1, Since: time.Now()}
	select {
	case s.deeds.first <- struct{}{}:
	default:
	}
}

// JournalDeeds writes what was seen into the journal until the context ends, and what is left then.
func (s *Service) JournalDeeds(ctx context.Context) error {
	tick := time.NewTicker(deedWindow / 4)
	defer tick.Stop()
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
		if err := s.writeDeeds(ctx, false); err != nil && ctx.Err() == nil {
			return fmt.Errorf("journal what was refused: %w", err)
		}
	}
}

// writeDeeds journals what is due: what was not told of within the window, or, at the end, all.
func (s *Service) writeDeeds(ctx context.Context, all bool) error {
	now := time.Now()
	var rows []*store.JournalRow
	row := func(action, actor, path string, d DeedRecord) error {
		raw, err := json.Marshal(d)
		rows = append(rows, &store.JournalRow{At: now, Actor: actor, Action: action, Subject: path, Changes: []store.Change{{Kind: store.DeedKind, After: raw}}})
		return err
	}
	s.deeds.mu.Lock()
	for key, c := range s.deeds.by {
		due := all || now.Sub(c.written) >= deedWindow
		switch {
		case c.Count > 0 && due:
			who := "uid " + fmt.Sprint(key.uid)
			if key.user != 0 {
				who = s.Policy().Directory.Name(identity.UserPrincipal(key.user))
			}
			if err := row(string(key.kind), who, key.path, c.DeedRecord); err != nil {
				s.deeds.mu.Unlock()
				return err
			}
			c.Count, c.written = 0, now
		case c.Count == 0 && due:
			delete(s.deeds.by, key)
		}
	}
	if s.deeds.other.Count > 0 {
		if err := row("refused", "many", "too many different paths to tell apart", s.deeds.other); err != nil {
			s.deeds.mu.Unlock()
			return err
		}
		s.deeds.other = DeedRecord{}
	}
	s.deeds.mu.Unlock()
	if len(rows) == 0 {
		return nil
	}
	return s.store.Write(ctx, func(tx *store.Tx) error {
		for _, r := range rows {
			if err := tx.Append(ctx, r); err != nil {
				return err
			}
		}
		return nil
	})
}
