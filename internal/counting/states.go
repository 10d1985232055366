package counting

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/usage"
)

// Last is how a count of a folder ended.
type Last struct {
	Ended   time.Time
	Took    time.Duration
	Objects int64
	Differs bool         // what was held to be there was not
	By      limit.Amount // by how much: what is there without what was held to be
	Owners  int          // of how many users and groups
}

// String says by how much it differed.
func (d Last) String() string {
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

// State is how far the counting of a folder is.
type State struct {
	Folder  string
	Volume  string
	How     site.Counting
	State   string // counted, waiting, counting, paused, failed, or off
	Below   string // where in the folder, where it is not all of it
	Done    int64  // objects counted so far
	Files   int64  // held to be there
	Rate    int64  // objects in a second, at most; 0 for no bound
	Last    *Last
	Problem string
}

// States gives how far the counting of each folder of a policy is, in order of the names.
func (c *Counting) States(p *site.Policy) []State {
	var out []State
	for _, f := range p.Folders {
		v, _ := p.Volume(f.VolumeID)
		st := State{Folder: f.Name, Volume: v.Name, How: v.Counting, State: "off"}
		if !v.Counting.On() {
			st.How = site.CountNothing
			out = append(out, st)
			continue
		}
		st.Files = c.ledger.Use(limit.Counter{Volume: v.ID, Folder: f.ID}).Files
		st.State = "counted"
		book := c.ledger.Folder(f.ID)
		c.mu.Lock()
		st.Problem = c.failed[f.ID]
		st.Rate = c.rates[v.ID]
		if last, ok := c.last[f.ID]; ok {
			st.Last = &last
		}
		waiting := slices.IndexFunc(c.due, func(n usage.Need) bool { return n.Folder == f.ID })
		switch now := c.now; {
		case now != nil && now.Folder == f.ID:
			st.State, st.Below, st.Done = "counting", plain.Spell(now.Below), c.done
		case waiting >= 0:
			st.State, st.Below = "waiting", plain.Spell(c.due[waiting].Below)
		case st.Problem != "":
			st.State = "failed"
		case book == nil || !book.Counted():
			st.State = "waiting"
		}
		if c.paused[v.ID] && (st.State == "counting" || st.State == "waiting") {
			st.State = "paused"
		}
		c.mu.Unlock()
		out = append(out, st)
	}
	slices.SortFunc(out, func(a, b State) int { return cmp.Compare(a.Folder, b.Folder) })
	return out
}

// Differing is how counts of folders ended that were not as was held, by folder.
func (c *Counting) Differing() map[int64]Last {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := make(map[int64]Last)
	for id, last := range c.last {
		if last.Differs {
			out[id] = last
		}
	}
	return out
}
