package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/contain"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/store"
)

// How often it is looked whether what could not be written down can be again, and how long it is waited for a database that something
// else holds.
const probeEvery = 2 * time.Second

// reserveFile is room that is kept on the disk of the state directory, and given up where a start would fail for want of it.
const (
	reserveFile = "reserve"
	reserveSize = 4 << 20
)

// unwritten is what could not be written down, while that lasts.
type unwritten struct {
	mu      sync.Mutex
	is      store.Trouble
	changes int64           // of administrators, that were refused
	clients map[string]kept // NFS clients that hold state, to be remembered later
	shut    *shutPolicy
}

type kept struct {
	kind  string
	owner []byte
}

// shutPolicy is a policy by which nobody is served, and the one it stands for.
type shutPolicy struct{ of, shut *site.Policy }

// Of what waits to be written down, so much is kept.
const (
	mostLooseClients = 10_000
)

func newUnwritten() *unwritten {
	return &unwritten{clients: make(map[string]kept)}
}

// Trouble is why what is to be recorded cannot be written down; it says nothing of what is only counted.
func (s *Service) Trouble() store.Trouble {
	t := s.store.Trouble()
	if t.Why == "" && s.Log.Store() != nil {
		t = s.Log.Store().Trouble()
	}
	return t
}

// TroubleSays spells it for people; "" where there is none.
func (s *Service) TroubleSays() string {
	t := s.Trouble()
	if t.Why == "" {
		return ""
	}
	says := "since " + t.Since.UTC().Format("2006-01-02 15:04 MST") + " nothing can be written down in the state directory " + s.state + ": " + t.Why
	if s.refuseUnrecorded {
		return says + ". Nobody is served until it can"
	}
	return says + ". What was decided before is in force, and changes are refused"
}

// ServedPolicy is the policy by which clients are served: the one in force, or none at all where nothing can be recorded
// and the service is to refuse then.
func (s *Service) ServedPolicy() *site.Policy {
	p := s.Policy()
	if !s.refuseUnrecorded || s.Trouble().Why == "" {
		return p
	}
	s.unwritten.mu.Lock()
	defer s.unwritten.mu.Unlock()
	if c := s.unwritten.shut; c != nil && c.of == p {
		return c.shut
	}
	shut := *p
	shut.Services = site.Services{}
	s.unwritten.shut = &shutPolicy{p, &shut}
	return &shut
}

// Unwritable gives an error of the storage in words for whoever wanted to change something.
func (s *Service) Unwritable(err error) error {
	switch {
	case errors.Is(err, store.ErrUnwritable):
		s.unwritten.mu.Lock()
		s.unwritten.changes++
		s.unwritten.mu.Unlock()
		slog.Error("a change could not be written down", "error", err)
		return &Error{Kind: Unavailable, Message: "nothing was changed: it cannot be written down in the state directory " + s.state + ": " + store.Why(err), Next: "df -h " + quote(s.state)}
	case errors.Is(err, store.ErrBusy):
		return &Error{Kind: Unavailable, Message: "nothing was changed: something else holds the records; try again", RetryAfter: time.Second}
	}
	return err
}

// runProbes looks whether what could not be written down can be again, and says so then.
func (s *Service) runProbes() {
	ctx := s.background.ctx
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(probeEvery):
		}
		contain.Run("probing", func() { s.probe(ctx) })
	}
}

func (s *Service) probe(ctx context.Context) {
	t := s.Trouble()
	if t.Why == "" && !s.hasRoom() {
		_ = s.store.Probe(ctx) // what it finds is noted
		t = s.Trouble()
	}
	s.unwritten.mu.Lock()
	before := s.unwritten.is
	s.unwritten.is = t
	s.unwritten.mu.Unlock()
	if t.Why != "" {
		if before.Why == "" {
			slog.Error("nothing can be written down in the state directory; serving goes on by what was decided before", "why", t.Why)
		}
		_, _ = s.store.Probe(ctx), s.Log.Store().Probe(ctx)
		if t = s.Trouble(); t.Why != "" {
			return
		}
		s.unwritten.mu.Lock()
		before, s.unwritten.is = s.unwritten.is, store.Trouble{}
		s.unwritten.mu.Unlock()
	}
	if before.Why != "" {
		s.caughtUp(ctx, before)
	}
}

// hasRoom says whether the disk of the state directory has some left.
func (s *Service) hasRoom() bool {
	const least = 512 << 10
	var st unix.Statfs_t
	if err := unix.Statfs(s.state, &st); err != nil {
		return true // the next write will say
	}
	free := st.Bavail
	if os.Geteuid() == 0 {
		free = st.Bfree
	}
	return free*uint64(st.Bsize) >= least
}

// caughtUp writes down what could not be, and that it could not.
func (s *Service) caughtUp(ctx context.Context, was store.Trouble) {
	s.unwritten.mu.Lock()
	changes, clients := s.unwritten.changes, s.unwritten.clients
	s.unwritten.changes, s.unwritten.clients = 0, make(map[string]kept)
	s.unwritten.mu.Unlock()
	says := fmt.Sprintf("from %s on nothing could be written down (%s): %d changes were refused", was.Since.UTC().Format("2006-01-02 15:04:05 MST"), was.Why, changes)
	slog.Info("what is to be recorded can be written down again", "was", was.Why, "refused", changes)
	err := s.store.Write(ctx, func(tx *store.Tx) error {
		return tx.Append(ctx, &store.JournalRow{At: time.Now(), Actor: Itself.Name, Action: "write again", Subject: says})
	})
	for _, c := range clients {
		err = errors.Join(err, s.store.Remember(ctx, c.kind, c.owner))
	}
	if err != nil {
		slog.Error("what could not be written down cannot be even now", "error", err)
		s.unwritten.mu.Lock()
		s.unwritten.changes += changes
		for key, c := range clients {
			s.unwritten.clients[key] = c
		}
		s.unwritten.mu.Unlock()
	}
	s.keepReserve()
}

// keepReserve makes the reserve where it is missing and there is room for far more.
func (s *Service) keepReserve() {
	path := filepath.Join(s.state, reserveFile)
	if _, err := os.Stat(path); err == nil {
		return
	}
	var st unix.Statfs_t
	if err := unix.Statfs(s.state, &st); err != nil || st.Bavail*uint64(st.Bsize) < 8*reserveSize {
		return
	}
	f, err := os.OpenFile(path, os.O_CREATE|os.O_WRONLY, 0o600)
	if err != nil {
		return
	}
	defer f.Close()
	if err := unix.Fallocate(int(f.Fd()), 0, 0, reserveSize); err != nil {
		_ = os.Remove(path)
	}
}

// openStore opens the records. Where there is no room to, the reserve is given up for it.
func openStore(ctx context.Context, state string) (*store.Store, error) {
	st, err := store.Open(ctx, state)
	if err == nil {
		return st, nil
	}
	if gone := os.Remove(filepath.Join(state, reserveFile)); gone != nil {
		return nil, unopened(state, err)
	}
	slog.Error("the records could not be opened; the room that was kept for that is given up", "error", err)
	if st, err = store.Open(ctx, state); err != nil {
		return nil, unopened(state, err)
	}
	return st, nil
}

// unopened says in words why the records cannot be opened.
func unopened(state string, err error) error {
	return fmt.Errorf("the records in %s cannot be opened; df -h %s says whether its disk is full: %w", state, quote(state), err)
}

// Remember is described at Remembered. What cannot be written down is later; until then such a client could not reclaim after a
// restart, and is served.
func (s *Service) Remember(ctx context.Context, kind string, owner []byte) error {
	err := s.store.Remember(ctx, kind, owner)
	if !errors.Is(err, store.ErrUnwritable) && !errors.Is(err, store.ErrBusy) || s.refuseUnrecorded {
		return err
	}
	s.unwritten.mu.Lock()
	defer s.unwritten.mu.Unlock()
	if len(s.unwritten.clients) < mostLooseClients {
		s.unwritten.clients[kind+" "+string(owner)] = kept{kind, owner}
	}
	return nil
}

// Forget is described at Remembered.
func (s *Service) Forget(ctx context.Context, kind string, owner []byte) error {
	s.unwritten.mu.Lock()
	delete(s.unwritten.clients, kind+" "+string(owner))
	s.unwritten.mu.Unlock()
	return s.store.Forget(ctx, kind, owner)
}
