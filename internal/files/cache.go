package files

import (
	"container/list"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/live"
)

// fdCache keeps files open between the requests of NFS version 3, which has no open of its own.
type fdCache struct {
	looks live.Looks
	mu    sync.Mutex
	by    map[cacheKey]*list.Element // of *cached
	used  *list.List                 // most recently used first
}

type cacheKey struct {
	id     fileID
	folder int64
	write  bool
}

// cached is an open file, with the last verdict on it.
type cached struct {
	key     cacheKey
	fd      int
	born    int64
	refs    int // guarded by fdCache.mu, as is dropped
	dropped bool
	verdict atomic.Pointer[remembered]
	counted counted
}

// remembered is what a guest was last granted on a cached file.
type remembered struct {
	arrival *access.Arrival
	granted acl.Mask
	epoch   int64
	until   time.Time
}

const (
	mostCached = 512
	// A mode that the host itself changes is noticed this much later, by reads and
	// writes that are under way.
	verdictFor = time.Second
	// For so long after its last write, who made a file over NFS version 3 may go on filling it.
	creatorFor = 2 * time.Minute
)

// Kept says how often a file was found open that a client had asked for before.
func (n *Namespace) Kept() live.Cache { return n.cache.looks.Cache("files kept open") }

func newFDCache() *fdCache {
	return &fdCache{by: make(map[cacheKey]*list.Element), used: list.New()}
}

// get gives an open file for use until release; nil where there is none.
func (c *fdCache) get(key cacheKey) *cached {
	c.mu.Lock()
	defer c.mu.Unlock()
	e := c.by[key]
	c.looks.Looked(e != nil)
	if e == nil {
		return nil
	}
	c.used.MoveToFront(e)
	f := e.Value.(*cached)
	f.refs++
	return f
}

// add takes over a descriptor and gives it for use until release.
func (c *fdCache) add(key cacheKey, fd int, born int64) *cached {
	f := &cached{key: key, fd: fd, born: born, refs: 1}
	closeAll(func() (closing []int) {
		c.mu.Lock()
		defer c.mu.Unlock()
		if e := c.by[key]; e != nil { // two at once
			closing = c.forget(closing, e)
		}
		c.by[key] = c.used.PushFront(f)
		for c.used.Len() > mostCached {
			closing = c.forget(closing, c.used.Back())
		}
		return closing
	}())
	return f
}

// forget adds to closing the descriptor of what nobody uses: closing may take as long as the disk does, and is not done
// under the lock.
func (c *fdCache) forget(closing []int, e *list.Element) []int {
	f := e.Value.(*cached)
	c.used.Remove(e)
	delete(c.by, f.key)
	f.dropped = true
	if f.refs == 0 {
		closing = append(closing, f.fd)
	}
	return closing
}

func closeAll(fds []int) {
	for _, fd := range fds {
		unix.Close(fd)
	}
}

func (c *fdCache) release(f *cached) {
	c.mu.Lock()
	f.refs--
	last := f.refs == 0 && f.dropped
	c.mu.Unlock()
	if last {
		unix.Close(f.fd)
	}
}

// drop forgets an object in every folder and way.
func (c *fdCache) drop(id fileID) {
	closeAll(func() (closing []int) {
		c.mu.Lock()
		defer c.mu.Unlock()
		for e := c.used.Front(); e != nil; {
			next := e.Next()
			if e.Value.(*cached).key.id == id {
				closing = c.forget(closing, e)
			}
			e = next
		}
		return closing
	}())
}
