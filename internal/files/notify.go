package files

import "sync"

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
}

// notifier tells watchers of changes.
type notifier struct {
	mu       sync.Mutex
	watchers map[*watcher]struct{}
}

type watcher struct {
	folder int64
	dir    string
	deep   bool
	events chan Event
}

const watchBuffer = 64

func newNotifier() *notifier { return &notifier{watchers: make(map[*watcher]struct{})} }

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
	n.mu.Lock()
	defer n.mu.Unlock()
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
}
