package files

import (
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/posix"
)

// memory remembers what the extended attributes of objects say, so that they need not be read for every request: two or
// three calls of the kernel each. An object's change time says whether it still holds: whatever changes an attribute moves it. File systems keep
// that in steps, and may keep it by another clock than ours; so it is believed only once it has stood still for longer than any step while
// somebody looked, and what is remembered was read after.
type memory[K comparable, V any] struct {
	mu   sync.Mutex
	seen map[K]*recalled[V]
}

type recalled[V any] struct {
	changed unix.StatxTimestamp
	since   time.Duration // of ours, without jumps: when it was first seen to have been changed then
	known   bool
	is      V
}

// marks are those of owner, mode and ACL.
type marks = memory[markKey, marked]

// markKey is an object, and how it is read.
type markKey struct {
	id           fileID
	native, unix bool
}

type marked struct {
	own bool // the object has an owner of its own
	is  posix.Attributes
}

const (
	mostMarks = 1 << 15
	// still is longer than the step in which any file system keeps time.
	still = 2500 * time.Millisecond
)

func newMemory[K comparable, V any]() *memory[K, V] {
	return &memory[K, V]{seen: make(map[K]*recalled[V])}
}

var began = time.Now()

// get gives what is remembered of an object; false where it is to be read.
func (m *memory[K, V]) get(k K, changed unix.StatxTimestamp) (is V, ok bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	e := m.seen[k]
	if e == nil || !e.known || e.changed != changed {
		return is, false
	}
	return e.is, true
}

// put notes what was just read of an object that was looked at before: it is remembered if that had not changed for long enough.
func (m *memory[K, V]) put(k K, changed unix.StatxTimestamp, looked time.Duration, is V) {
	m.mu.Lock()
	defer m.mu.Unlock()
	e := m.seen[k]
	if e == nil || e.changed != changed {
		for old := range m.seen { // any will do: it is read again
			if len(m.seen) < mostMarks {
				break
			}
			delete(m.seen, old)
		}
		m.seen[k] = &recalled[V]{changed: changed, since: looked}
		return
	}
	if looked-e.since >= still {
		e.known, e.is = true, is
	}
}
