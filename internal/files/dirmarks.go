package files

import (
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/site"
)

// heldRoot is the directory of a folder that a request has open meanwhile, with what it has read of the marks of directories: a request that asks three
// times about one directory reads them once. It is for one goroutine.
type heldRoot struct {
	fd    int // -1 once it is closed
	dir   int // the same, open for more than its path; -1 where it is not
	state *folderState
	now   time.Time
	not   string // where nothing is; "" for none
	at    int64  // the folder's version, by which told holds: the service has set no marks since
	told  []toldDir
}

// toldDir is what was read of one directory.
type toldDir struct {
	path string
	id   dirIdentity
	marked
}

// mostTold are those that one request remembers.
const mostTold = 16

func newHeldRoot(root rootInUse, state *folderState, now time.Time) *heldRoot {
	return &heldRoot{fd: root.fd, dir: root.directory(), state: state, now: now}
}

// open gives the directory of a folder, by itself if nobody has it open, and what gives it back.
func (h *heldRoot) open(at site.Location) (fd int, give func(), err error) {
	if h != nil && h.fd >= 0 {
		return h.fd, func() {}, nil
	}
	fd, err = openFolder(at)
	return fd, func() { unix.Close(fd) }, err
}

// close has it be of no use any more.
func (h *heldRoot) close() { h.fd, h.dir = -1, -1 }

func (h *heldRoot) recall(path string) (t toldDir, ok bool) {
	if h == nil || h.fd < 0 || h.state.version() != h.at {
		return t, false
	}
	for _, t := range h.told {
		if t.path == path {
			return t, true
		}
	}
	return t, false
}

// note remembers what was read of a directory since the folder had a version.
func (h *heldRoot) note(version int64, t toldDir) {
	if h == nil || h.fd < 0 {
		return
	}
	if version != h.at || len(h.told) >= mostTold {
		h.told, h.at = h.told[:0], version
	}
	for i := range h.told {
		if h.told[i].path == t.path { // the host has put another there
			h.told[i] = t
			return
		}
	}
	h.told = append(h.told, t)
}

// dirMarks are what was read a moment ago of the marks of directories, where those are the service's own: that a name came or went, which moves the
// time by which a memory goes, is no reason to read them again. What the host itself sets is noticed verdictFor later.
type dirMarks struct {
	mu      sync.Mutex
	version int64 // of the folder
	of      map[dirMarkKey]markedUntil
}

type dirMarkKey struct {
	dirIdentity
	unix bool
}

type markedUntil struct {
	marked
	mode  uint16 // the host's, which decides where no mark does
	until time.Time
}

const mostDirMarks = 1 << 12

func (d *dirMarks) get(k dirMarkKey, mode uint16, version int64, now time.Time) (marked, bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	m, ok := d.of[k]
	if !ok || m.mode != mode || d.version != version || !now.Before(m.until) {
		return marked{}, false
	}
	return m.marked, true
}

func (d *dirMarks) put(k dirMarkKey, mode uint16, version int64, now time.Time, m marked) {
	d.mu.Lock()
	defer d.mu.Unlock()
	if d.version != version || len(d.of) >= mostDirMarks {
		clear(d.of)
	}
	if d.of == nil {
		d.of = make(map[dirMarkKey]markedUntil)
	}
	d.version, d.of[k] = version, markedUntil{m, mode, now.Add(verdictFor)}
}

// toldOf is told of what is open, and at a path. Of a directory it is read once in a request, if its marks are the service's own: then nobody else sets them.
func (f Facts) toldOf(path string, fd int, st *unix.Statx_t) marked {
	h := f.root
	if h == nil || h.fd < 0 || st.Mode&unix.S_IFMT != unix.S_IFDIR {
		is, own := f.told(fd, st)
		return marked{own, is}
	}
	k, version := dirMarkKey{identityOf(st), f.unix}, h.state.version()
	if !f.native && k.born != 0 {
		if t, ok := h.recall(path); ok && t.id == k.dirIdentity {
			return t.marked
		}
		if m, ok := h.state.dirMarks.get(k, st.Mode, version, h.now); ok {
			if !m.own {
				f.ownedByFolder(&m.is)
			}
			h.note(version, toldDir{path, k.dirIdentity, m})
			return m
		}
	}
	var m marked
	m.is, m.own = f.told(fd, st)
	h.note(version, toldDir{path, k.dirIdentity, m})
	if !f.native && k.born != 0 {
		h.state.dirMarks.put(k, st.Mode, version, h.now, m)
	}
	return m
}
