package files

import (
	"container/list"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
)

// fdCache keeps files open between the requests of NFS version 3, which has no open of its own.
type fdCache struct {
	mu   sync.Mutex
	by   map[cacheKey]*list.Element // of *cached
	used *list.List                 // most recently used first
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

func newFDCache() *fdCache {
	return &fdCache{by: make(map[cacheKey]*list.Element), used: list.New()}
}

// get gives an open file for use until release; nil where there is none.
func (c *fdCache) get(key cacheKey) *cached {
	c.mu.Lock()
	defer c.mu.Unlock()
	e := c.by[key]
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
	c.mu.Lock()
	defer c.mu.Unlock()
	if e := c.by[key]; e != nil { // two at once
		c.forget(e)
	}
	f := &cached{key: key, fd: fd, born: born, refs: 1}
	c.by[key] = c.used.PushFront(f)
	for c.used.Len() > mostCached {
		c.forget(c.used.Back())
	}
	return f
}

func (c *fdCache) forget(e *list.Element) {
	f := e.Value.(*cached)
	c.used.Remove(e)
	delete(c.by, f.key)
	f.dropped = true
	if f.refs == 0 {
		unix.Close(f.fd)
	}
}

func (c *fdCache) release(f *cached) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if f.refs--; f.refs == 0 && f.dropped {
		unix.Close(f.fd)
	}
}

// drop forgets an object in every folder and way.
func (c *fdCache) drop(id fileID) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for e := c.used.Front(); e != nil; {
		next := e.Next()
		if e.Value.(*cached).key.id == id {
			c.forget(e)
		}
		e = next
	}
}
