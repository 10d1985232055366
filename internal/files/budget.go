package files

import (
	"errors"
	"fmt"
	"sync"

	"golang.org/x/sys/unix"
)

// ErrTooMany says that no more can be open at a time: in all, or for one client.
var ErrTooMany = errors.New("too much is open")

// What is kept of the process's descriptors for everything but clients' open objects: connections, the console, the records, and
// what a request needs for a moment.
const (
	keptDescriptors  = 6000
	leastDescriptors = 32
)

// budget is how much clients have open, over all protocols, and how much they may: all together, and those of one address.
type budget struct {
	most, ofOne int

	mu  sync.Mutex
	all int
	of  map[string]int
}

// newBudget shares out what the process may open: for clients what is left beside what is kept, or half where that is little. One address never takes
// more than half of it.
func newBudget() *budget {
	var limit unix.Rlimit
	if err := unix.Getrlimit(unix.RLIMIT_NOFILE, &limit); err != nil || limit.Cur < 2*leastDescriptors {
		limit.Cur = 2 * leastDescriptors
	}
	may := int(min(limit.Cur, 1<<20))
	most := max(may-keptDescriptors, may/2)
	return &budget{most: most, ofOne: most / 2, of: make(map[string]int)}
}

// take takes a place for somebody at an address; ErrTooMany where there is none.
func (b *budget) take(from string) error {
	b.mu.Lock()
	defer b.mu.Unlock()
	switch {
	case b.all >= b.most:
		return fmt.Errorf("%w: %d objects, of all clients", ErrTooMany, b.all)
	case b.of[from] >= b.ofOne:
		return fmt.Errorf("%w: %d objects, of %s", ErrTooMany, b.of[from], from)
	}
	b.all++
	b.of[from]++
	return nil
}

// give gives it back.
func (b *budget) give(from string) {
	b.mu.Lock()
	defer b.mu.Unlock()
	b.all--
	if b.of[from]--; b.of[from] <= 0 {
		delete(b.of, from)
	}
}
