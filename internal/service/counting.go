package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"amber.example/gatekeeper/internal/contain"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
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

// counts are those that are due and the one that is going on.
type counts struct {
	by      Counter
	every   time.Duration // a folder is counted again so long after it last was; 0 for never
	changed chan struct{} // the records have changed

	mu     sync.Mutex
	due    []usage.Need
	now    *usage.Need
	begun  time.Time
	done   int64
	last   map[int64]LastCount // by folder
	paused map[int64]bool      // volumes
	rates  map[int64]int64     // by volume
	calm   map[int64]bool      // counts that are due because it is time, by folder
	kept   time.Time           // when what is counted was last written down
	aside  string              // where a damaged database was put; "" for nowhere
	failed map[int64]string    // why a folder could not be counted
	later  map[int64]time.Time // not before then, as its disk does not answer
	wake   chan struct{}

	week  sync.Mutex // guards what follows: what was in use a week ago, as looked up at a moment
	ago   map[string]store.Sample
	agoAt time.Time
}

// LastCount is how a count of a folder ended.
type LastCount struct {
	Ended   time.Time
	Took    time.Duration
	Objects int64
	Differs bool         // what was held to be there was not
	By      limit.Amount // by how much: what is there without what was held to be
	Owners  int          // of how many users and groups
}

func newCounts() *counts {
	return &counts{changed: make(chan struct{}, 1), wake: make(chan struct{}, 1), last: make(map[int64]LastCount),
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

// Names of texts that are kept beside the uses.
const (
	textSeen   = "seen"   // when the service was last seen running
	textCounts = "counts" // how counts ended, JSON
	textPaused = "paused" // which are paused, JSON
	textRates  = "rates"  // how fast they go, JSON
)

// openLedger takes up what was counted when the service last ran.
func (s *Service) openLedger(ctx context.Context) error {
	uses, aside, err := store.OpenUses(ctx, s.state)
	if err != nil {
		return err
	}
	s.uses, s.counts.aside = uses, aside
	if aside != "" {
		slog.Error("what was counted could not be read: it is put aside, and counted again", "aside", aside)
	}
	seen, err := uses.Text(ctx, textSeen)
	if err != nil {
		return err
	}
	last, _ := time.Parse(time.RFC3339, seen)
	s.ledger = usage.New(steady(last))
	kept, err := uses.Load(ctx)
	if kept.Clean, err = s.settleClean(kept.Clean, err); err != nil {
		return err
	}
	for _, g := range kept.Graces {
		s.ledger.RestoreGrace(g)
	}
	for _, f := range kept.Folders {
		s.ledger.Restore(f, kept.Uses[f.ID])
	}
	s.counts.due = kept.Counts
	if !kept.Clean {
		for _, f := range kept.Folders {
			s.counts.add(usage.Need{Folder: f.ID})
		}
	}
	for name, to := range map[string]any{textCounts: &s.counts.last, textPaused: &s.counts.paused, textRates: &s.counts.rates} {
		raw, err := uses.Text(ctx, name)
		if err == nil && raw != "" {
			err = json.Unmarshal([]byte(raw), to)
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// uncleanFile says that what was counted is not right though the database says so: that it would not be could not be written there.
const uncleanFile = "use.unclean"

// settleClean says whether what was counted can be trusted, and sees to it that it is not the next time, unless the service
// is stopped in order. Err is of writing that down.
func (s *Service) settleClean(clean bool, err error) (bool, error) {
	mark := filepath.Join(s.state, uncleanFile)
	_, missing := os.Stat(mark)
	switch {
	case errors.Is(err, store.ErrUnwritable): // an empty file takes no room
		f, err := os.OpenFile(mark, os.O_CREATE|os.O_WRONLY, 0o600)
		if err != nil {
			return false, err
		}
		return clean && missing != nil, f.Close()
	case err == nil && missing == nil:
		return false, os.Remove(mark)
	}
	return clean, err
}

// add notes a count that is due; one of all of a folder is one of each part of it.
func (c *counts) add(n usage.Need) {
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
func (s *Service) Ledger() *usage.Ledger { return s.ledger }

// Account begins to count what is stored by a counter, each folder again so long after it was last counted; never for 0.
func (s *Service) Account(by Counter, every time.Duration) {
	s.counts.by, s.counts.every = by, every
	s.follow()
	s.background.wait.Go(func() {
		tick := time.NewTicker(keepEvery)
		defer tick.Stop()
		ctx := s.background.ctx
		for {
			select {
			case <-ctx.Done():
				return
			case <-s.counts.changed:
				s.follow()
				s.ledger.StirAll()
			case <-tick.C:
				contain.Run("keeping what is counted", func() {
					s.again()
					if err := s.keep(ctx, false); err != nil && ctx.Err() == nil {
						slog.Error("what is counted cannot be written down", "error", err)
					}
				})
			}
		}
	})
	s.background.wait.Go(s.runCounts)
	s.background.wait.Go(s.sampling)
	s.background.wait.Go(s.runTelling)
	s.background.wait.Go(s.runOutbox)
}

// follow brings what is counted into line with the policy in force.
func (s *Service) follow() {
	ids := s.ledger.Folders()
	for _, f := range s.Policy().Folders {
		ids = append(ids, f.ID)
	}
	slices.Sort(ids)
	for _, id := range slices.Compact(ids) {
		for _, need := range s.counts.by.Follow(id, func() *usage.Setup { return s.setup(id) }) {
			s.counts.add(need)
		}
	}
}

// setup says how a folder is to be counted; nil for not at all.
func (s *Service) setup(id int64) *usage.Setup {
	p := s.Policy()
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
func (s *Service) again() {
	if s.counts.every == 0 {
		return
	}
	for _, id := range s.ledger.Folders() {
		s.counts.mu.Lock()
		last, ok := s.counts.last[id]
		going := s.counts.now != nil && s.counts.now.Folder == id
		s.counts.mu.Unlock()
		if ok && !going && time.Since(last.Ended) > s.counts.every {
			s.counts.mu.Lock()
			s.counts.calm[id] = true
			s.counts.mu.Unlock()
			s.counts.add(usage.Need{Folder: id})
		}
	}
}

// next gives the first count that is due and not paused.
func (s *Service) next() (usage.Need, bool) {
	p := s.Policy()
	s.counts.mu.Lock()
	defer s.counts.mu.Unlock()
	for i, n := range s.counts.due {
		f := p.Folder(n.Folder)
		if f == nil {
			s.counts.due = slices.Delete(s.counts.due, i, i+1)
			return usage.Need{}, false
		}
		if !s.counts.paused[f.VolumeID] && time.Now().After(s.counts.later[n.Folder]) {
			s.counts.due = slices.Delete(s.counts.due, i, i+1)
			s.counts.now, s.counts.begun, s.counts.done = &n, time.Now(), 0
			return n, true
		}
	}
	return usage.Need{}, false
}

func (s *Service) runCounts() {
	ctx := s.background.ctx
	for ctx.Err() == nil {
		n, ok := s.next()
		if !ok {
			select {
			case <-ctx.Done():
			case <-s.counts.wake:
			case <-time.After(time.Second):
			}
			continue
		}
		contain.Run("counting "+fmt.Sprint(n.Folder), func() { s.count(ctx, n) })
	}
}

// errStopped says that a count is begun again from the start later.
var errStopped = errors.New("the count was stopped")

func (s *Service) count(ctx context.Context, n usage.Need) {
	ctx, cancel := context.WithCancel(ctx)
	defer cancel()
	c := s.counts
	c.mu.Lock()
	calm := c.calm[n.Folder]
	delete(c.calm, n.Folder)
	c.mu.Unlock()
	f := s.Policy().Folder(n.Folder)
	if f == nil {
		c.end()
		return
	}
	waited := time.Duration(0)
	pace := func(done int64) error {
		for {
			c.mu.Lock()
			c.done = done
			rate, paused, begun := c.rates[f.VolumeID], c.paused[f.VolumeID], c.begun
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
	begun := time.Now()
	differed, counted, err := c.by.Count(ctx, n.Folder, n.Below, pace)
	took := time.Since(begun)
	c.mu.Lock()
	objects := c.done
	c.mu.Unlock()
	defer c.end() // once it has been told of
	switch {
	case s.background.ctx.Err() != nil || errors.Is(err, errStopped):
		c.add(n) // taken up again, from the beginning
	case errors.Is(err, files.ErrIO): // what was counted goes on to hold
		c.mu.Lock()
		c.failed[n.Folder], c.later[n.Folder] = err.Error(), time.Now().Add(volumesEvery)
		c.mu.Unlock()
		c.add(n)
	case err != nil:
		slog.Error("what is stored could not be counted", "folder", f.Name, "error", err)
		c.mu.Lock()
		c.failed[n.Folder] = err.Error()
		c.last[n.Folder] = LastCount{Ended: time.Now()} // tried again when it is due
		c.mu.Unlock()
	case !counted:
		c.add(n)
		time.Sleep(100 * time.Millisecond)
	case n.Below == "":
		last := LastCount{Ended: time.Now(), Took: took, Objects: objects}
		if differed.Any() {
			last.Differs, last.By, last.Owners = true, differed.Counted.Minus(differed.Before), differed.Owners
			s.noteDifference(f, last)
		}
		s.ledger.StirAll() // what is counted for the first time binds from now on
		c.mu.Lock()
		c.last[n.Folder] = last
		delete(c.failed, n.Folder)
		delete(c.later, n.Folder)
		c.mu.Unlock()
		if err := s.keep(context.WithoutCancel(ctx), false); err != nil {
			slog.Error("what is counted cannot be written down", "error", err)
		}
	}
}

func (c *counts) end() {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.now = nil
}

// AwaitCounts waits until no count is due, for at most half a minute.
func (s *Service) AwaitCounts(ctx context.Context) {
	for range 600 {
		s.counts.mu.Lock()
		idle := s.counts.now == nil && !slices.ContainsFunc(s.counts.due, func(n usage.Need) bool { return s.counts.failed[n.Folder] == "" })
		s.counts.mu.Unlock()
		if idle || ctx.Err() != nil {
			return
		}
		time.Sleep(50 * time.Millisecond)
	}
}

// noteDifference journals that what was held to be stored was not.
func (s *Service) noteDifference(f *site.PublishedFolder, d LastCount) {
	ctx := context.WithoutCancel(s.background.ctx)
	err := s.store.Write(ctx, func(tx *store.Tx) error {
		return tx.Append(ctx, &store.JournalRow{At: time.Now(), Actor: Itself.Name, Action: "count again", Subject: fmt.Sprintf("%s: %s", f.Name, d)})
	})
	if err != nil {
		slog.Error("a difference found by counting again cannot be journalled", "folder", f.Name, "error", err)
	}
}

// String says by how much it differed.
func (d LastCount) String() string {
	more := func(n int64, one, many string) string {
		word := many
		if n == 1 || n == -1 {
			word = one
		}
		if n < 0 {
			return fmt.Sprintf("%d %s less", -n, word)
		}
		return fmt.Sprintf("%d %s more", n, word)
	}
	return fmt.Sprintf("%s and %s than was held to be there, of %d users and groups", more(d.By.Bytes, "byte", "bytes"), more(d.By.Files, "file", "files"), d.Owners)
}

// keep writes down what has changed; at the end, all there is.
func (s *Service) keep(ctx context.Context, last bool) error {
	rows := s.ledger.Keep(last)
	s.counts.mu.Lock()
	if len(rows) == 0 && !last && time.Since(s.counts.kept) < keepIdle {
		s.counts.mu.Unlock()
		return nil
	}
	s.counts.kept = time.Now()
	due := slices.Clone(s.counts.due)
	if n := s.counts.now; n != nil {
		due = append(due, *n)
	}
	texts := make(map[string]string)
	for name, of := range map[string]any{textCounts: s.counts.last, textPaused: s.counts.paused, textRates: s.counts.rates} {
		raw, err := json.Marshal(of)
		if err != nil {
			s.counts.mu.Unlock()
			return err
		}
		texts[name] = string(raw)
	}
	s.counts.mu.Unlock()
	texts[textSeen] = s.ledger.Now().UTC().Format(time.RFC3339)
	err := s.uses.Keep(ctx, rows, last, s.ledger.Kept(), s.ledger.Graces(), due, last, texts)
	if err != nil {
		s.ledger.Unkept(rows)
	}
	return err
}

// closeLedger writes down all that is counted, now that nothing changes any more.
func (s *Service) closeLedger() error {
	if s.uses == nil {
		return nil
	}
	var err error
	if s.counts.by != nil {
		err = s.keep(context.Background(), true)
	}
	return errors.Join(err, s.uses.Close())
}

// CountState is how far the counting of a folder is.
type CountState struct {
	Folder  string
	Volume  string
	How     site.Counting
	State   string // counted, waiting, counting, paused, failed, or off
	Below   string // where in the folder, where it is not all of it
	Done    int64  // objects counted so far
	Files   int64  // held to be there
	Rate    int64  // objects in a second, at most; 0 for no bound
	Last    *LastCount
	Problem string
}

// Counts gives how far the counting of each folder is, in order of the names.
func (s *Service) Counts() []CountState {
	p := s.Policy()
	var out []CountState
	for _, f := range p.Folders {
		v, _ := p.Volume(f.VolumeID)
		st := CountState{Folder: f.Name, Volume: v.Name, How: v.Counting, State: "off"}
		if !v.Counting.On() {
			st.How = site.CountNothing
			out = append(out, st)
			continue
		}
		st.Files = s.ledger.Use(limit.Counter{Volume: v.ID, Folder: f.ID}).Files
		st.State = "counted"
		book := s.ledger.Folder(f.ID)
		s.counts.mu.Lock()
		st.Problem = s.counts.failed[f.ID]
		st.Rate = s.counts.rates[v.ID]
		if last, ok := s.counts.last[f.ID]; ok {
			st.Last = &last
		}
		waiting := slices.IndexFunc(s.counts.due, func(n usage.Need) bool { return n.Folder == f.ID })
		switch now := s.counts.now; {
		case now != nil && now.Folder == f.ID:
			st.State, st.Below, st.Done = "counting", plain.Spell(now.Below), s.counts.done
		case waiting >= 0:
			st.State, st.Below = "waiting", plain.Spell(s.counts.due[waiting].Below)
		case st.Problem != "":
			st.State = "failed"
		case book == nil || !book.Counted():
			st.State = "waiting"
		}
		if s.counts.paused[v.ID] && (st.State == "counting" || st.State == "waiting") {
			st.State = "paused"
		}
		s.counts.mu.Unlock()
		out = append(out, st)
	}
	slices.SortFunc(out, func(a, b CountState) int { return cmp.Compare(a.Folder, b.Folder) })
	return out
}

// Recount has all folders of a volume counted again.
func (s *Service) Recount(ctx context.Context, by Actor, volume string, rate *int64) error {
	v, err := s.volume(volume)
	if err != nil {
		return err
	}
	return s.steer(ctx, by, "count again", v, func() error {
		if !v.Counting.On() {
			return conflict("volume", "amber volume set "+quote(v.Name)+" --counting size", "nothing is counted on volume %s", v.Name)
		}
		if rate != nil {
			if *rate < 1 || *rate > 10_000_000 {
				return invalid("rate", "%d is not between 1 and 10000000 objects in a second", *rate)
			}
			s.counts.mu.Lock()
			s.counts.rates[v.ID], s.counts.kept = *rate, time.Time{}
			s.counts.mu.Unlock()
		}
		for _, f := range s.Policy().Folders {
			if f.VolumeID == v.ID {
				s.counts.add(usage.Need{Folder: f.ID})
			}
		}
		return nil
	})
}

// PauseCounts holds the counting of a volume up, or has it go on.
func (s *Service) PauseCounts(ctx context.Context, by Actor, volume string, paused bool) error {
	v, err := s.volume(volume)
	if err != nil {
		return err
	}
	action := "go on counting"
	if paused {
		action = "pause counting"
	}
	return s.steer(ctx, by, action, v, func() error {
		s.counts.mu.Lock()
		s.counts.paused[v.ID], s.counts.kept = paused, time.Time{}
		s.counts.mu.Unlock()
		poke(s.counts.wake)
		return nil
	})
}

// steer journals something that concerns counting alone, and does it.
func (s *Service) steer(ctx context.Context, by Actor, action string, v site.Volume, do func() error) error {
	return s.change(ctx, by, action, v.Name, func(*site.Draft) error {
		if s.drafting == nil {
			return do()
		}
		s.later(func() {
			if err := do(); err != nil {
				slog.Error("counting goes on as it did", "volume", v.Name, "error", err)
			}
		})
		return nil
	})
}
