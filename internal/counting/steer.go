package counting

import (
	"slices"
	"time"

	"amber.example/gatekeeper/internal/usage"
)

// Changed has it look at what the policy says now.
func (c *Counting) Changed() { poke(c.changed) }

// Retry has folders counted at once that could not be, as their disk did not answer.
func (c *Counting) Retry(folders ...int64) {
	c.mu.Lock()
	for _, id := range folders {
		delete(c.later, id)
		delete(c.failed, id)
	}
	c.mu.Unlock()
	poke(c.wake)
}

// Again has folders counted again.
func (c *Counting) Again(folders ...int64) {
	for _, id := range folders {
		c.add(usage.Need{Folder: id})
	}
}

// SetRate bounds how many objects of a volume are looked at in a second.
func (c *Counting) SetRate(volume, rate int64) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.rates[volume], c.kept = rate, time.Time{}
}

// Pause holds the counting of a volume up, or has it go on.
func (c *Counting) Pause(volume int64, paused bool) {
	c.mu.Lock()
	c.paused[volume], c.kept = paused, time.Time{}
	c.mu.Unlock()
	poke(c.wake)
}

// Idle says whether no count is due but such as could not be.
func (c *Counting) Idle() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.now == nil && !slices.ContainsFunc(c.due, func(n usage.Need) bool { return c.failed[n.Folder] == "" })
}
