// Package live says who is connected and what they hold open, the same for every protocol, and ends it.
package live

import (
	"cmp"
	"slices"
	"sync/atomic"
	"time"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
)

// Traffic counts what a client does. It is safe for use by several goroutines.
type Traffic struct {
	read, written, operations atomic.Uint64
	last                      atomic.Int64 // Unix nanoseconds
}

// Did counts an operation, now.
func (t *Traffic) Did() {
	t.operations.Add(1)
	t.last.Store(time.Now().UnixNano())
}

// Read counts bytes that were read.
func (t *Traffic) Read(n int) { t.read.Add(uint64(max(n, 0))) }

// Wrote counts bytes that were written.
func (t *Traffic) Wrote(n int) { t.written.Add(uint64(max(n, 0))) }

// Count is what Traffic came to.
type Count struct {
	Read, Written uint64 // bytes of files
	Operations    uint64
	Last          time.Time // of the last operation; zero before the first
}

// Count gives what was counted so far.
func (t *Traffic) Count() Count {
	c := Count{Read: t.read.Load(), Written: t.written.Load(), Operations: t.operations.Load()}
	if last := t.last.Load(); last != 0 {
		c.Last = time.Unix(0, last)
	}
	return c
}

// Person is on whose behalf a client acts.
type Person struct {
	User identity.ID // 0 for nobody in the records
	UID  *uint32     // that came, over NFS
}

// Session is a client that is there: a sign-in over SMB, a client of NFS version 4 with its state, a connection of version 3, which knows
// no state.
type Session struct {
	ID      string
	Via     site.Protocol
	Version string   // of the protocol, such as 3.1.1
	Who     []Person // one over SMB
	Address string
	Guest   bool   // came without an account
	Signing string // the algorithm; "" where nothing is signed
	Sealing string // the cipher, once something was encrypted by it; "" before
	Since   time.Time
	Count
	Opens   int
	Locks   int
	Through []string // names of shares, paths of exports
}

// Open is a file, directory or pipe that a client holds open.
type Open struct {
	ID, Session string
	Via         site.Protocol
	Who         Person
	Address     string
	Folder      int64  // its record; 0 for a pipe
	Path        string // below the folder
	Pipe        string // its name; "" for a file or directory
	Directory   bool
	Access      acl.Mask // what it was opened for
	Keeps       Keeps    // what others may not meanwhile
	Locks       []Lock
	Since       time.Time
	Deletes     bool // it goes when it is closed
	Delegated   bool // the client opens, reads and closes it without asking, until it is asked to give that back
}

// Keeps is what a handle keeps others from: MS-SMB2 section 2.2.13 and RFC 8881 section 18.16 say it the other way and this way round.
type Keeps struct{ Read, Write, Delete bool }

// Lock is a byte range that is locked. Length is to the end where it is the most there is.
type Lock struct {
	Offset, Length uint64
	Exclusive      bool
}

// Door is a way in that knows who came by it. Its methods are safe for use by several goroutines.
type Door interface {
	// Sessions gives them in no order.
	Sessions() []Session
	// Opens gives them in no order.
	Opens() []Open
	// EndSession ends a session with all it has open and locked, and says whether there was one.
	EndSession(id string) bool
	// CloseOpen closes one open, and says whether there was one.
	CloseOpen(id string) bool
	// Stirs counts what was asked there: where it is as it was, nobody did anything.
	Stirs() uint64
	// Via is its protocol: "SMB", "NFS".
	Via() string
	// Load is what it has to do now.
	Load() Load
}

// Load is what a way in has to do now.
type Load struct {
	Connections int
	Working     int // requests that are being answered, or wait for it
	Caches      []Cache
}

// Cache is how often something was found where it was kept, and how often it was not.
type Cache struct {
	Name         string
	Hits, Misses uint64
}

// Looks counts how often something was found where it was kept. It is safe for use by several goroutines.
type Looks struct{ hits, misses atomic.Uint64 }

// Looked counts one more.
func (l *Looks) Looked(found bool) {
	if found {
		l.hits.Add(1)
	} else {
		l.misses.Add(1)
	}
}

// Cache is what was counted so far.
func (l *Looks) Cache(name string) Cache { return Cache{name, l.hits.Load(), l.misses.Load()} }

// Doors are all ways in, as one.
type Doors []Door

// Loads are what each has to do now, by the protocol.
func (d Doors) Loads() map[string]Load {
	out := make(map[string]Load)
	for _, door := range d {
		out[door.Via()] = door.Load()
	}
	return out
}

// Sessions gives those of all doors, the latest last.
func (d Doors) Sessions() []Session {
	return gathered(d, Door.Sessions, func(s Session) (time.Time, string) { return s.Since, s.ID })
}

// Opens gives those of all doors, the latest last.
func (d Doors) Opens() []Open {
	return gathered(d, Door.Opens, func(o Open) (time.Time, string) { return o.Since, o.ID })
}

// EndSession ends a session, and says whether there was one.
func (d Doors) EndSession(id string) bool {
	return slices.ContainsFunc(d, func(door Door) bool { return door.EndSession(id) })
}

// CloseOpen closes an open, and says whether there was one.
func (d Doors) CloseOpen(id string) bool {
	return slices.ContainsFunc(d, func(door Door) bool { return door.CloseOpen(id) })
}

// Stirs counts what was asked at all doors.
func (d Doors) Stirs() (n uint64) {
	for _, door := range d {
		n += door.Stirs()
	}
	return n
}

func gathered[T any](doors Doors, ask func(Door) []T, by func(T) (time.Time, string)) []T {
	var all []T
	for _, d := range doors {
		all = append(all, ask(d)...)
	}
	slices.SortFunc(all, func(a, b T) int {
		at, aid := by(a)
		bt, bid := by(b)
		if c := at.Compare(bt); c != 0 {
			return c
		}
		return cmp.Compare(aid, bid)
	})
	return all
}
