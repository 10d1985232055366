package store

import (
	"context"
	"errors"
	"sync"
	"time"

	"modernc.org/sqlite"
	lib "modernc.org/sqlite/lib"
)

// ErrUnwritable says that nothing could be written down, and not because of what it was: the disk is full, or fails.
var ErrUnwritable = errors.New("nothing can be written down")

// ErrBusy says that something else held the database for too long.
var ErrBusy = errors.New("the records are busy")

// Trouble is why nothing can be written down, since when; "" where it can.
type Trouble struct {
	Why   string
	Since time.Time
}

// trouble is the Trouble of one database, as its writes have found it.
type trouble struct {
	mu sync.Mutex
	is Trouble
}

func (t *trouble) set(why string) {
	t.mu.Lock()
	defer t.mu.Unlock()
	switch {
	case why == "":
		t.is = Trouble{}
	case t.is.Why == "":
		t.is = Trouble{why, time.Now()}
	default:
		t.is.Why = why
	}
}

// Trouble is why nothing can be written down now.
func (s *Store) Trouble() Trouble {
	s.trouble.mu.Lock()
	defer s.trouble.mu.Unlock()
	return s.trouble.is
}

const damaged = "it is damaged"

// wrong says in words what of the storage made something fail; "" where it was not the storage.
func wrong(err error) (why string, busy bool) {
	var e *sqlite.Error
	if !errors.As(err, &e) {
		return "", false
	}
	switch e.Code() & 0xff { // the primary code
	case lib.SQLITE_FULL:
		return "its disk is full", false
	case lib.SQLITE_IOERR, lib.SQLITE_CANTOPEN:
		return "its disk fails, or is full", false
	case lib.SQLITE_READONLY:
		return "it may only be read", false
	case lib.SQLITE_CORRUPT, lib.SQLITE_NOTADB:
		return damaged, false
	case lib.SQLITE_BUSY, lib.SQLITE_LOCKED:
		return "", true
	}
	return "", false
}

// storage is an error of the storage: it is ErrUnwritable or ErrBusy, and says what was wrong.
type storage struct {
	kind, err error
	why       string
}

func (s *storage) Error() string {
	if s.why == "" {
		return s.kind.Error() + ": " + s.err.Error()
	}
	return s.kind.Error() + ": " + s.why + ": " + s.err.Error()
}
func (s *storage) Unwrap() []error { return []error{s.kind, s.err} }

// Why is what of the storage made something fail, in words; "" where it was something else.
func Why(err error) string {
	var s *storage
	if errors.As(err, &s) {
		return s.why
	}
	return ""
}

// judge notes what a write has found out about the storage.
func (s *Store) judge(err error) error {
	why, busy := wrong(err)
	switch {
	case busy:
		return &storage{ErrBusy, err, ""}
	case why != "":
		s.trouble.set(why)
		return &storage{ErrUnwritable, err, why}
	}
	return err
}

// Probe tries to write down more than a change takes, and takes it back. That it can ends a Trouble; one small write that fits would
// say nothing of the next.
func (s *Store) Probe(ctx context.Context) error {
	const room = 64 << 10
	err := s.Write(ctx, func(tx *Tx) error {
		return tx.Run(ctx, `INSERT OR REPLACE INTO probe (id, at, room) VALUES (1, ?, zeroblob(?))`, time.Now().Unix(), room)
	})
	if err == nil {
		err = s.Write(ctx, func(tx *Tx) error { return tx.Run(ctx, `DELETE FROM probe`) })
	}
	if err == nil {
		s.trouble.set("")
	}
	return err
}
