// Package counting has what is stored counted, beside everything else that goes on, and keeps what was counted.
package counting

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"sync"
	"time"

	"amber.example/gatekeeper/internal/contain"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/refusal"
	"amber.example/gatekeeper/internal/store"
	"amber.example/gatekeeper/internal/usage"
)

// Counter is what counts what is stored: files.Namespace.
type Counter interface {
	Follow(folder int64, setup func() *usage.Setup) []usage.Need
	Count(ctx context.Context, folder int64, below string, pace files.Pace) (usage.Differed, bool, error)
}

// How often what is counted is written down, where anything is, and where nothing is; and how many objects a
// count looks at in a second that nobody asked for, where nothing else is said. The first one, and those that are asked
// for, go as fast as they can.
const (
	keepEvery   = 5 * time.Second
	keepIdle    = time.Minute
	DefaultRate = 20_000
)

// Gateway is what has folders to be counted.
type Gateway interface{ Policy() *site.Policy }

// Counting is the counts that are due and the one that is going on.
type Counting struct {
	gateway Gateway
	store   *store.Store
	uses    *store.Uses
	ledger  *usage.Ledger
	ctx     context.Context // under which it goes on

	by      Counter
	every   time.Duration // a folder is counted again so long after it last was; 0 for never
	changed chan struct{} // the records have changed

	mu     sync.Mutex
	due    []usage.Need
	now    *usage.Need
	begun  time.Time
	done   int64
	last   map[int64]Last      // by folder
	paused map[int64]bool      // volumes
	rates  map[int64]int64     // by volume
	calm   map[int64]bool      // counts that are due because it is time, by folder
	kept   time.Time           // when what is counted was last written down
	aside  string              // where a damaged database was put; "" for nowhere
	failed map[int64]string    // why a folder could not be counted
	later  map[int64]time.Time // not before then, as its disk does not answer
	wake   chan struct{}
}

// New counts for a gateway, as of what a ledger holds; Open takes up what was.
func newCounting() *Counting {
	return &Counting{changed: make(chan struct{}, 1), wake: make(chan struct{}, 1), last: make(map[int64]Last),
		paused: make(map[int64]bool), rates: make(map[int64]int64), calm: make(map[int64]bool), failed: make(map[int64]string), later: make(map[int64]time.Time)}
}

// poke tells whoever listens on a channel, who may be busy.
func poke(c chan struct{}) {
	select {
	case c <- struct{}{}:
	default:
	}
}

// steady is a clock that goes on as time does, whatever becomes of the host's.
func steady(notBefore time.Time) func() time.Time {
	begun := time.Now()
	base := begun
	if notBefore.After(base) {
		base = notBefore
	}
	return func() time.Time { return base.Add(time.Since(begun)) }
}

// add notes a count that is due; one of all of a folder is one of each part of it.
func (c *Counting) add(n usage.Need) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if slices.Contains(c.due, n) || slices.Contains(c.due, usage.Need{Folder: n.Folder}) {
		return
	}
	if n.Below == "" {
		c.due = slices.DeleteFunc(c.due, func(old usage.Need) bool { return old.Folder == n.Folder })
	}
	c.due = append(c.due, n)
	poke(c.wake)
}

// Ledger is what counts what is stored, and holds it to the limits in force.
func (c *Counting) Ledger() *usage.Ledger { return c.ledger }

// Uses is where what was counted is kept.
func (c *Counting) Uses() *store.Uses { return c.uses }

// Aside is where a damaged database of what was counted was put; "" for nowhere.
func (c *Counting) Aside() string { return c.aside }

// Begin begins to count what is stored by a counter, each folder again so long after it was last counted, never for 0; it goes on until the context ends, and
// the group waits for it.
func (c *Counting) Begin(ctx context.Context, wait *sync.WaitGroup, by Counter, every time.Duration) {
	c.ctx = ctx
	c.by, c.every = by, every
	c.follow()
	wait.Go(func() {
		tick := time.NewTicker(keepEvery)
		defer tick.Stop()
		for {
			select {
			case <-ctx.Done():
				return
			case <-c.changed:
				c.follow()
				c.ledger.StirAll()
			case <-tick.C:
				contain.Run("keeping what is counted", func() {
					c.again()
					if err := c.keep(ctx, false); err != nil && ctx.Err() == nil {
						slog.Error("what is counted cannot be written down", "error", err)
					}
				})
			}
		}
	})
	wait.Go(c.runCounts)
}

// follow brings what is counted into line with the policy in force.
func (c *Counting) follow() {
	ids := c.ledger.Folders()
	for _, f := range c.gateway.Policy().Folders {
		ids = append(ids, f.ID)
	}
	slices.Sort(ids)
	for _, id := range slices.Compact(ids) {
		for _, need := range c.by.Follow(id, func() *usage.Setup { return c.setup(id) }) {
			c.add(need)
		}
	}
}

// setup says how a folder is to be counted; nil for not at all.
func (c *Counting) setup(id int64) *usage.Setup {
	p := c.gateway.Policy()
	f := p.Folder(id)
	if f == nil {
		return nil
	}
	v, _ := p.Volume(f.VolumeID)
	if !v.Counting.On() {
		return nil
	}
	return &usage.Setup{ID: id, Volume: v.ID, Allocated: v.Counting == site.CountAllocated, Owner: files.CountFor(p, f), Trees: treesOnDisk(p, id)}
}

// treesOnDisk are the limits on paths of a folder, the paths as they are on disk.
func treesOnDisk(p *site.Policy, folder int64) (out []*limit.Limit) {
	for _, l := range p.Limits.Trees(folder) {
		if path := plain.Unspell(l.Path); path != l.Path {
			at := *l
			at.Path, l = path, &at
		}
		out = append(out, l)
	}
	return out
}

// again has folders counted again that were counted long ago.
func (c *Counting) again() {
	if c.every == 0 {
		return
	}
	for _, id := range c.ledger.Folders() {
		c.mu.Lock()
		last, ok := c.last[id]
		going := c.now != nil && c.now.Folder == id
		c.mu.Unlock()
		if ok && !going && time.Since(last.Ended) > c.every {
			c.mu.Lock()
			c.calm[id] = true
			c.mu.Unlock()
			c.add(usage.Need{Folder: id})
		}
	}
}

// next gives the first count that is due and not paused.
func (c *Counting) next() (usage.Need, bool) {
	p := c.gateway.Policy()
	c.mu.Lock()
	defer c.mu.Unlock()
	for i, n := range c.due {
		f := p.Folder(n.Folder)
		if f == nil {
			c.due = slices.Delete(c.due, i, i+1)
			return usage.Need{}, false
		}
		if !c.paused[f.VolumeID] && time.Now().After(c.later[n.Folder]) {
			c.due = slices.Delete(c.due, i, i+1)
			c.now, c.begun, c.done = &n, time.Now(), 0
			return n, true
		}
	}
	return usage.Need{}, false
}

func (c *Counting) runCounts() {
	ctx := c.ctx
	for ctx.Err() == nil {
		n, ok := c.next()
		if !ok {
			select {
			case <-ctx.Done():
			case <-c.wake:
			case <-time.After(time.Second):
			}
			continue
		}
		contain.Run("counting "+fmt.Sprint(n.Folder), func() { c.count(ctx, n) })
	}
}

// askAgain is after how long a count is tried again whose disk did not answer.
const askAgain = 2 * time.Second

// errStopped says that a count is begun again from the start later.
var errStopped = errors.New("the count was stopped")

func (c *Counting) count(ctx context.Context, n usage.Need) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	c.mu.Lock()
	calm := c.calm[n.Folder]
	delete(c.calm, n.Folder)
	c.mu.Unlock()
	f := c.gateway.Policy().Folder(n.Folder)
	if f == nil {
		c.end()
		return
	}
	pace := c.pacing(ctx, f.VolumeID, calm)
	begun := time.Now()
	differed, counted, err := c.by.Count(ctx, n.Folder, n.Below, pace)
	took := time.Since(begun)
	c.mu.Lock()
	objects := c.done
	c.mu.Unlock()
	defer c.end() // once it has been told of
	switch {
	case c.ctx.Err() != nil || errors.Is(err, errStopped):
		c.add(n) // taken up again, from the beginning
	case errors.Is(err, files.ErrIO): // what was counted goes on to hold
		c.mu.Lock()
		c.failed[n.Folder], c.later[n.Folder] = err.Error(), time.Now().Add(askAgain)
		c.mu.Unlock()
		c.add(n)
	case err != nil:
		slog.Error("what is stored could not be counted", "folder", f.Name, "error", err)
		c.mu.Lock()
		c.failed[n.Folder] = err.Error()
		c.last[n.Folder] = Last{Ended: time.Now()} // tried again when it is due
		c.mu.Unlock()
	case !counted:
		c.add(n)
		time.Sleep(100 * time.Millisecond)
	case n.Below == "":
		last := Last{Ended: time.Now(), Took: took, Objects: objects}
		if differed.Any() {
			last.Differs, last.By, last.Owners = true, differed.Counted.Minus(differed.Before), differed.Owners
			c.noteDifference(f, last)
		}
		c.ledger.StirAll() // what is counted for the first time binds from now on
		c.mu.Lock()
		c.last[n.Folder] = last
		delete(c.failed, n.Folder)
		delete(c.later, n.Folder)
		c.mu.Unlock()
		if err := c.keep(context.WithoutCancel(ctx), false); err != nil {
			slog.Error("what is counted cannot be written down", "error", err)
		}
	}
}

// pacing holds a count up where it is paused, or ahead of how fast it is to go; calm is one that nobody asked for.
func (c *Counting) pacing(ctx context.Context, volume int64, calm bool) files.Pace {
	waited := time.Duration(0)
	return func(done int64) error {
		for {
			c.mu.Lock()
			c.done = done
			rate, paused, begun := c.rates[volume], c.paused[volume], c.begun
			c.mu.Unlock()
			if rate == 0 && calm {
				rate = DefaultRate
			}
			var ahead time.Duration
			if rate > 0 {
				ahead = time.Duration(float64(done)/float64(rate)*float64(time.Second)) - (time.Since(begun) - waited)
			}
			if ahead <= 0 && !paused {
				return ctx.Err()
			}
			pause := min(max(ahead, time.Millisecond), 100*time.Millisecond)
			if paused {
				pause = 100 * time.Millisecond
				waited += pause
			}
			select {
			case <-ctx.Done():
				return errStopped
			case <-time.After(pause):
			}
		}
	}
}

func (c *Counting) end() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.now = nil
}

// Await waits until no count is due, for at most half a minute.
func (c *Counting) Await(ctx context.Context) {
	for range 600 {
		if c.Idle() || ctx.Err() != nil {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// noteDifference journals that what was held to be stored was not.
func (c *Counting) noteDifference(f *site.PublishedFolder, d Last) {
	ctx := context.WithoutCancel(c.ctx)
	err := c.store.Write(ctx, func(tx *store.Tx) error {
		return tx.Append(ctx, &store.JournalRow{At: time.Now(), Actor: refusal.Itself.Name, Action: "count again", Subject: fmt.Sprintf("%s: %s", f.Name, d)})
	})
	if err != nil {
		slog.Error("a difference found by counting again cannot be journalled", "folder", f.Name, "error", err)
	}
}
