package files

import (
	"errors"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/posix"
)

// Manner is how a visit goes about.
type Manner int

// The kinds of Manner.
const (
	Working Manner = iota // beside others
	Alone                 // the only one in the folder: for renaming
	// Looking is beside others, and alters nothing. Directories on the way are kept open for a moment: what the host itself has made of their
	// names is noticed wayFor later at most, as with verdicts.
	Looking
)

// ways are directories below the directory of a folder that are kept open for a moment, so that to look at a name in one costs one call of the kernel and
// not three. They are used for nothing but looking.
type ways struct {
	mu     sync.Mutex
	of     map[string]*way // by path
	closed bool
}

// way is one of them. fd and until do not change.
type way struct {
	fd      int
	epoch   int64 // of the folder, before it was opened: the service has moved no directory since
	until   time.Time
	users   int // guarded by ways.mu, as is what follows
	dropped bool
}

const (
	mostWays = 64 // of one folder
	wayFor   = verdictFor
)

// waysKept counts those of all folders, of which there are no more than a small part of the descriptors that there may be.
var waysKept atomic.Int64

var mostWaysKept = sync.OnceValue(func() int64 {
	var limit unix.Rlimit
	if unix.Getrlimit(unix.RLIMIT_NOFILE, &limit) != nil {
		return 0
	}
	return int64(min(limit.Cur/16, 1024))
})

// take gives the directory at a path for use until give; nil where none is kept that still counts.
func (s *ways) take(path string, epoch int64, now time.Time) *way {
	s.mu.Lock()
	defer s.mu.Unlock()
	d := s.of[path]
	if d == nil {
		return nil
	}
	if d.epoch != epoch || !now.Before(d.until) {
		s.dropLocked(path, d)
		return nil
	}
	d.users++
	return d
}

// add takes over a descriptor of the directory at a path, and gives it for use until give.
func (s *ways) add(path string, fd int, epoch int64, now time.Time) *way {
	d := &way{fd: fd, epoch: epoch, until: now.Add(wayFor), users: 1}
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed || waysKept.Load() >= mostWaysKept() { // good for now
		d.dropped = true
		return d
	}
	if s.of == nil {
		s.of = make(map[string]*way)
	}
	if old := s.of[path]; old != nil {
		s.dropLocked(path, old)
	}
	for path, old := range s.of { // any will do: it is opened again
		if len(s.of) < mostWays {
			break
		}
		s.dropLocked(path, old)
	}
	s.of[path] = d
	waysKept.Add(1)
	return d
}

func (s *ways) dropLocked(path string, d *way) {
	delete(s.of, path)
	waysKept.Add(-1)
	d.dropped = true
	if d.users == 0 {
		unix.Close(d.fd)
	}
}

// give gives one back.
func (s *ways) give(d *way) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if d.users--; d.users == 0 && d.dropped {
		unix.Close(d.fd)
	}
}

// close has none be kept any more.
func (s *ways) close() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for path, d := range s.of {
		s.dropLocked(path, d)
	}
	s.closed = true
}

// glance looks at what is at the object's path without opening it, and what its marks say; false where it has to be opened. Only the directory that it is
// in is followed to, as openBeneath follows.
func (o *Object) glance() bool {
	w := o.w
	var st unix.Statx_t
	if w.manner != Looking || w.rooted.glance(o.path, w.state.version(), w.v.now, &st) != nil {
		return false
	}
	facts := w.v.unixFacts()
	is, _, known := facts.recalled(facts.markOf(&st), &st)
	if !known {
		return false
	}
	o.st = st
	o.looked()
	o.owned(is)
	return true
}

var errNotKept = errors.New("the folder is not kept open")

// glance looks at what is at a path below the directory of a folder, by directories on the way that are kept open for a moment; epoch is the folder's
// version.
func (u rootInUse) glance(path string, epoch int64, now time.Time, st *unix.Statx_t) error {
	if u.kept == nil {
		return errNotKept
	}
	if path == "" {
		return statx(u.fd, st)
	}
	dir, name := split(path)
	if dir == "" {
		return statxAt(u.fd, name, st)
	}
	ways := &u.kept.ways
	d := ways.take(dir, epoch, now)
	if d == nil {
		fd, err := openBeneath(u.fd, dir, unix.O_PATH|unix.O_DIRECTORY|unix.O_NOFOLLOW, 0)
		if err != nil {
			return err
		}
		d = ways.add(dir, fd, epoch, now)
	}
	defer ways.give(d)
	return statxAt(d.fd, name, st)
}

// owned notes what the marks of the object say.
func (o *Object) owned(a posix.Attributes) {
	a.ACL, a.Default = slices.Clone(a.ACL), slices.Clone(a.Default) // who changes it changes their own
	o.own, o.owns = a, true
}

// descriptor gives one that is open on the object, for its path only: ErrStale where something else is there by now.
func (o *Object) descriptor() (int, error) {
	if o.fd >= 0 {
		return o.fd, nil
	}
	other, err := o.w.openFully(o.path, o.Dir())
	if err != nil {
		return -1, err
	}
	if other.key != o.key {
		return -1, ErrStale
	}
	o.fd, o.real = other.fd, other.real
	return o.fd, nil
}
