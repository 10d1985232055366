package files

import (
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/site"
)

// roots keeps the directories of folders open between requests, so that one costs one call of the kernel and not six. Before each use it is
// looked whether what is at the path of the folder is what is open, the very same directory; and what has not been used for a moment is
// closed, so that a volume can be unmounted.
type roots struct {
	mu sync.Mutex
	of map[site.Location]*keptRoot
}

// keptRoot is one of them.
type keptRoot struct {
	fd      int
	dir     int // the same, open for more than its path; -1 where that may not be
	folder  dirIdentity
	path    string
	users   int // guarded by roots.mu, as is what follows
	dropped bool
	last    time.Time // when the last use began
	checked time.Time // when it was last found at its path
	ways    ways
}

// dirIdentity tells a directory from all that have been, and will be.
type dirIdentity struct {
	dev, ino uint64
	born     int64 // 0 where the file system does not tell: then nothing is kept
}

const (
	mostRoots   = 256
	rootIdleFor = time.Second
	// rootLookFor is how long after a look at what is at the path of a folder those who only look themselves go by it.
	rootLookFor = 100 * time.Millisecond
)

func newRoots() *roots { return &roots{of: make(map[site.Location]*keptRoot)} }

func identityOf(st *unix.Statx_t) dirIdentity {
	return dirIdentity{unix.Mkdev(st.Dev_major, st.Dev_minor), st.Ino, bornAt(st)}
}

// at is what is at a path of the host, links followed.
func (i dirIdentity) at(path string) bool {
	var st unix.Statx_t
	err := unix.Statx(unix.AT_FDCWD, path, unix.AT_STATX_SYNC_AS_STAT, unix.STATX_INO|unix.STATX_BTIME, &st)
	return err == nil && identityOf(&st) == i
}

// carriesMark says whether a volume carried its mark when it was last looked at, and has been there ever since.
func carriesMark(at site.Location) bool {
	if at.Mark == "" {
		return true
	}
	seen, ok := seenVolumes.Load(at.Volume)
	return ok && seen.(seenVolume).mark == at.Mark
}

// rootInUse is the directory of a folder for the time of one request.
type rootInUse struct {
	fd    int
	kept  *keptRoot // nil where it is closed after
	since time.Time
}

// directory is the same, open for more than its path; -1 where it is not.
func (u rootInUse) directory() int {
	if u.kept == nil {
		return -1
	}
	return u.kept.dir
}

// take gives the directory of a folder, if its volume is there, as openFolder does. Who only looks may go by what was so a moment ago.
func (r *roots) take(at site.Location, looking bool) (rootInUse, error) {
	now := time.Now()
	var lately bool
	r.mu.Lock()
	k := r.of[at]
	if k != nil {
		k.users++
		lately = looking && now.Sub(k.checked) < rootLookFor
	}
	r.mu.Unlock()
	if k != nil {
		if before(callLook, k.fd) == nil && carriesMark(at) {
			if lately {
				return rootInUse{k.fd, k, now}, nil
			}
			if k.folder.at(k.path) {
				r.mu.Lock()
				k.checked = now
				r.mu.Unlock()
				return rootInUse{k.fd, k, now}, nil
			}
		}
		r.drop(at, k)
		r.give(rootInUse{k.fd, k, now})
	}
	fd, err := openFolder(at)
	if err != nil {
		return rootInUse{fd: -1}, err
	}
	return r.keep(at, fd, now), nil
}

// keep has a directory that was just opened stay open, where it can be told from others.
func (r *roots) keep(at site.Location, fd int, now time.Time) rootInUse {
	k := &keptRoot{fd: fd, dir: -1, users: 1, path: at.String()}
	var st unix.Statx_t
	if unix.Statx(fd, "", unix.AT_EMPTY_PATH|unix.AT_STATX_SYNC_AS_STAT, unix.STATX_INO|unix.STATX_BTIME, &st) == nil {
		k.folder = identityOf(&st)
	}
	if dir, err := openBeneath(fd, "", unix.O_RDONLY|unix.O_DIRECTORY, 0); err == nil {
		k.dir = dir
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if k.folder.born == 0 || r.of[at] != nil || len(r.of) >= mostRoots {
		if k.dir >= 0 {
			unix.Close(k.dir)
		}
		return rootInUse{fd: fd}
	}
	r.of[at] = k
	k.last, k.checked = now, now
	r.closeLater(at, k, rootIdleFor)
	return rootInUse{fd, k, now}
}

// give gives it back.
func (r *roots) give(u rootInUse) {
	if u.kept == nil {
		unix.Close(u.fd)
		return
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	u.kept.last = u.since
	if u.kept.users--; u.kept.users == 0 && u.kept.dropped {
		u.kept.close()
	}
}

// drop has one be used no more.
func (r *roots) drop(at site.Location, k *keptRoot) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.dropLocked(at, k)
}

func (r *roots) dropLocked(at site.Location, k *keptRoot) {
	if k.dropped {
		return
	}
	k.dropped = true
	delete(r.of, at)
	if k.users == 0 {
		k.close()
	}
}

func (k *keptRoot) close() {
	k.ways.close()
	unix.Close(k.fd)
	if k.dir >= 0 {
		unix.Close(k.dir)
	}
}

// closeLater closes one that nobody has used for a while.
func (r *roots) closeLater(at site.Location, k *keptRoot, wait time.Duration) {
	time.AfterFunc(wait, func() {
		r.mu.Lock()
		defer r.mu.Unlock()
		idle := time.Since(k.last)
		switch {
		case k.dropped:
		case k.users == 0 && idle >= rootIdleFor:
			r.dropLocked(at, k)
		case k.users > 0:
			r.closeLater(at, k, rootIdleFor)
		default:
			r.closeLater(at, k, rootIdleFor-idle)
		}
	})
}
