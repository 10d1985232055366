package files

import (
	"maps"
	"slices"
	"sync"
	"sync/atomic"
)

// EventKind says what happened to a path.
type EventKind uint8

// The kinds of Event.
const (
	EventAdded EventKind = iota + 1
	EventRemoved
	EventModified
	EventRenamed // from Path to NewPath
)

// Event is one change that went through this service. Paths are below the folder.
type Event struct {
	Path    string
	NewPath string
	Kind    EventKind
	Dir     bool
	by      any // the key of the lease that whoever makes the change has on the directory: they know of it
}

// notifier tells watchers of changes, and clients that cache what is in a directory.
type notifier struct {
	mu       sync.Mutex
	watchers map[*watcher]struct{}
	cached   map[place]map[*Lease]struct{} // directories of which a client caches what is in them
	caches   atomic.Int32                  // how many those are
}

// place is a directory, by its path below a folder.
type place struct {
	folder int64
	dir    string
}

type watcher struct {
	folder int64
	dir    string
	deep   bool
	events chan Event
}

const watchBuffer = 64

func newNotifier() *notifier {
	return &notifier{watchers: make(map[*watcher]struct{}), cached: make(map[place]map[*Lease]struct{})}
}

func (n *notifier) watch(folder int64, dir string, deep bool) (<-chan Event, func()) {
	w := &watcher{folder, dir, deep, make(chan Event, watchBuffer)}
	n.mu.Lock()
	defer n.mu.Unlock()
	n.watchers[w] = struct{}{}
	return w.events, func() {
		n.mu.Lock()
		defer n.mu.Unlock()
		delete(n.watchers, w)
	}
}

func (w *watcher) sees(path string) bool {
	dir, _ := split(path)
	return path != "" && (dir == w.dir || w.deep && under(dir, w.dir))
}

func (n *notifier) tell(folder int64, e Event) {
	for _, l := range n.told(folder, e) {
		l.outdated(e.by)
	}
}

// told tells watchers of a change, and gives the leases whose clients have to forget what they know of a directory.
func (n *notifier) told(folder int64, e Event) (outdated []*Lease) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if len(n.cached) > 0 {
		outdated = n.cachedBy(folder, e)
	}
	for w := range n.watchers {
		if w.folder != folder || !w.sees(e.Path) && (e.Kind != EventRenamed || !w.sees(e.NewPath)) {
			continue
		}
		select {
		case w.events <- e:
		default: // it fell behind: it must look for itself
			close(w.events)
			delete(n.watchers, w)
		}
	}
	return outdated
}

// cachedBy gives the leases on the directories that a change is in, or is about. mu is held.
func (n *notifier) cachedBy(folder int64, e Event) (out []*Lease) {
	at := func(dir string) { out = slices.AppendSeq(out, maps.Keys(n.cached[place{folder, dir}])) }
	dir, _ := split(e.Path)
	at(dir)
	if e.Kind == EventRenamed {
		if to, _ := split(e.NewPath); to != dir {
			at(to)
		}
	}
	switch {
	case !e.Dir:
	case e.Kind == EventModified:
		at(e.Path)
	case e.Kind == EventRenamed || e.Kind == EventRemoved: // what is below is somewhere else now, or nowhere
		for p := range n.cached {
			if p.folder == folder && (p.dir == e.Path || under(p.dir, e.Path)) {
				at(p.dir)
			}
		}
	}
	return out
}

// cache enters that what is in the directory is cached; it is so until uncache.
func (n *notifier) cache(l *Lease, at place) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.cached[at] == nil {
		n.cached[at] = make(map[*Lease]struct{})
	}
	n.cached[at][l] = struct{}{}
	n.caches.Store(int32(len(n.cached)))
}

func (n *notifier) uncache(l *Lease, at place) {
	n.mu.Lock()
	defer n.mu.Unlock()
	if delete(n.cached[at], l); len(n.cached[at]) == 0 {
		delete(n.cached, at)
	}
	n.caches.Store(int32(len(n.cached)))
}

// grown is for a file that goes on being written: watchers are told once, but whoever caches the directory has its size from before.
func (n *notifier) grown(folder int64, path func() string) {
	if n.caches.Load() == 0 {
		return
	}
	dir, _ := split(path())
	n.mu.Lock()
	outdated := slices.Collect(maps.Keys(n.cached[place{folder, dir}]))
	n.mu.Unlock()
	for _, l := range outdated {
		l.outdated(nil)
	}
}

// everyCached gives all leases on directories.
func (n *notifier) everyCached() (out []*Lease) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for _, leases := range n.cached {
		out = slices.AppendSeq(out, maps.Keys(leases))
	}
	return out
}
