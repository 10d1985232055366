// Package meter counts what is asked at the wire: how much, how long it took, and what became of it; by folder, by way in, by protocol, by person and by
// host. Counting takes no lock and allocates nothing once what it is about is known.
package meter

import (
	"maps"
	"math/bits"
	"slices"
	"sync"
	"sync/atomic"
	"time"
)

// Kind is what was asked for, the same over every protocol.
type Kind uint8

// The kinds.
const (
	Read   Kind = iota // bytes of files
	Write              // bytes of files, and their way to the disk
	Open               // opening and closing
	List               // names in directories
	Look               // names, attributes and rights looked at
	Change             // names, attributes and rights made, changed and removed
	Lock               // ranges of bytes
	Other              // what serves the protocol itself
	Kinds
)

var kindNames = [Kinds]string{"read", "write", "open", "list", "look", "change", "lock", "other"}

func (k Kind) String() string { return kindNames[k] }

// Outcome is what became of a request.
type Outcome uint8

// The outcomes.
const (
	Done    Outcome = iota
	Refused         // by a gate, or by what somebody else holds
	Failed          // for any other reason, a name that is not there among them
	Outcomes
)

var outcomeNames = [Outcomes]string{"done", "refused", "failed"}

func (o Outcome) String() string { return outcomeNames[o] }

// Buckets is how many there are for times: the first holds all below 64 µs, each that follows is twice as long, and the last holds what took longer than all.
const Buckets = 18

// Bound is the upper bound of a bucket; the last has none, and gives false.
func Bound(i int) (time.Duration, bool) {
	return 64 * time.Microsecond << i, i < Buckets-1
}

func bucketOf(took time.Duration) int {
	return min(bits.Len64(uint64(max(took, 0)/(64*time.Microsecond))), Buckets-1)
}

// Times is how long requests took.
type Times struct {
	Buckets [Buckets]uint64
	Sum     time.Duration
}

// Quantile is the time within which a part of the requests was done, 0 to 1, interpolated in its bucket; 0 where there were none.
func (t *Times) Quantile(part float64) time.Duration {
	var all uint64
	for _, n := range t.Buckets {
		all += n
	}
	rank, below := part*float64(all), uint64(0)
	for i, n := range t.Buckets {
		if n == 0 || float64(below+n) < rank {
			below += n
			continue
		}
		high, _ := Bound(i)
		low := time.Duration(0)
		if i > 0 {
			low, _ = Bound(i - 1)
		}
		return low + time.Duration(float64(high-low)*(rank-float64(below))/float64(n))
	}
	return 0
}

// And adds times up.
func (t Times) And(other Times) Times {
	for i := range t.Buckets {
		t.Buckets[i] += other.Buckets[i]
	}
	t.Sum += other.Sum
	return t
}

// Less is what of some times came since earlier.
func (t Times) Less(earlier Times) Times {
	for i := range t.Buckets {
		t.Buckets[i] -= earlier.Buckets[i]
	}
	t.Sum -= earlier.Sum
	return t
}

// Tally counts what is about one thing. It is safe for use by several goroutines.
type Tally struct {
	operations    [Kinds][Outcomes]atomic.Uint64
	read, written atomic.Uint64
	took          [Buckets]atomic.Uint64
	sum           atomic.Int64
	last          atomic.Int64 // Unix seconds
}

// Count is what a Tally came to.
type Count struct {
	Operations    [Kinds][Outcomes]uint64
	Read, Written uint64 // bytes of files
	Times
	Last time.Time // of the last request; zero before the first
}

// All is how many requests there were.
func (c *Count) All() (n uint64) {
	for k := range c.Operations {
		for _, m := range c.Operations[k] {
			n += m
		}
	}
	return n
}

// Count gives what was counted so far.
func (t *Tally) Count() (c Count) {
	for k := range t.operations {
		for o := range t.operations[k] {
			c.Operations[k][o] = t.operations[k][o].Load()
		}
	}
	c.Read, c.Written = t.read.Load(), t.written.Load()
	for i := range t.took {
		c.Buckets[i] = t.took[i].Load()
	}
	c.Sum = time.Duration(t.sum.Load())
	if last := t.last.Load(); last != 0 {
		c.Last = time.Unix(last, 0)
	}
	return c
}

// Did is one request that was answered.
type Did struct {
	Kind          Kind
	Outcome       Outcome
	Read, Written int
	Began         time.Time
	Took          time.Duration
}

func (t *Tally) add(d Did) {
	t.operations[d.Kind][d.Outcome].Add(1)
	if d.Read > 0 {
		t.read.Add(uint64(d.Read))
	}
	if d.Written > 0 {
		t.written.Add(uint64(d.Written))
	}
	t.took[bucketOf(d.Took)].Add(1)
	t.sum.Add(int64(d.Took))
	t.last.Store(d.Began.Unix())
}

// Took counts how long something took, and nothing else of it.
func (t *Tally) Took(d time.Duration) {
	t.took[bucketOf(d)].Add(1)
	t.sum.Add(int64(d))
}

// Refuse counts a refusal alone.
func (t *Tally) Refuse() { t.operations[Other][Refused].Add(1) }

// Of is what a request is about. A nil tally is one that it is not about.
type Of struct{ Protocol, Through, Folder, Person, Host *Tally }

// Count counts a request in all that it is about.
func (o *Of) Count(d Did) {
	for _, t := range [...]*Tally{o.Protocol, o.Through, o.Folder, o.Person, o.Host} {
		if t != nil {
			t.add(d)
		}
	}
}

// By is by what things are told apart.
type By uint8

// What requests are counted by. The names are those of the thing: a protocol with its version, a share, an export's path, a user, an address; of a folder the
// number of its record, since that stays when it is renamed.
const (
	ByProtocol By = iota
	ByShare
	ByExport
	ByFolder
	ByPerson
	ByHost
	ByGate // of the refusals of files alone
	bys
)

var byNames = [bys]string{"protocol", "share", "export", "folder", "person", "host", "gate"}

func (b By) String() string { return byNames[b] }

// mostOf is how many of a kind are told apart: those beyond, by when they last did something, give their place up.
var mostOf = [bys]int{ByProtocol: 16, ByShare: 20_000, ByExport: 20_000, ByFolder: 10_000, ByPerson: 20_000, ByHost: 4096, ByGate: 16}

// Meter holds the tallies. It is safe for use by several goroutines.
type Meter struct {
	by [bys]table

	status   sync.RWMutex
	statuses map[Status]*atomic.Uint64
}

// Status is an error as a protocol numbers it.
type Status struct {
	Protocol string // "SMB", "NFS"
	Number   uint32
}

// Ended counts a request that was answered with an error.
func (m *Meter) Ended(s Status) {
	m.status.RLock()
	n := m.statuses[s]
	m.status.RUnlock()
	if n == nil {
		m.status.Lock()
		if n = m.statuses[s]; n == nil {
			if m.statuses == nil {
				m.statuses = make(map[Status]*atomic.Uint64)
			}
			n = new(atomic.Uint64)
			m.statuses[s] = n
		}
		m.status.Unlock()
	}
	n.Add(1)
}

// EachStatus visits how often requests were answered with each error.
func (m *Meter) EachStatus(visit func(Status, uint64)) {
	m.status.RLock()
	defer m.status.RUnlock()
	for s, n := range m.statuses {
		visit(s, n.Load())
	}
}

type table struct {
	mu  sync.RWMutex
	all map[string]*Tally
}

// Tally gives the one of a thing, which begins at nothing.
func (m *Meter) Tally(by By, name string) *Tally {
	t := &m.by[by]
	t.mu.RLock()
	is := t.all[name]
	t.mu.RUnlock()
	if is != nil {
		return is
	}
	t.mu.Lock()
	defer t.mu.Unlock()
	if is := t.all[name]; is != nil {
		return is
	}
	if t.all == nil {
		t.all = make(map[string]*Tally)
	}
	if len(t.all) >= mostOf[by] {
		t.tidy()
	}
	is = &Tally{}
	is.last.Store(time.Now().Unix())
	t.all[name] = is
	return is
}

// tidy gives up the half that did nothing for longest. Who still has one of them counts where nobody looks, until they ask for theirs again.
func (t *table) tidy() {
	var times []int64
	for _, is := range t.all {
		times = append(times, is.last.Load())
	}
	slices.Sort(times)
	middle := times[len(times)/2]
	for name, is := range t.all {
		if is.last.Load() <= middle {
			delete(t.all, name)
		}
	}
}

// Each visits what there is of a kind, in the order of their names.
func (m *Meter) Each(by By, visit func(name string, c Count)) {
	t := &m.by[by]
	t.mu.RLock()
	names := slices.Sorted(maps.Keys(t.all))
	all := make([]*Tally, len(names))
	for i, name := range names {
		all[i] = t.all[name]
	}
	t.mu.RUnlock()
	for i, name := range names {
		visit(name, all[i].Count())
	}
}

// Add adds what was counted elsewhere.
func (c *Count) Add(other Count) {
	for k := range c.Operations {
		for o := range c.Operations[k] {
			c.Operations[k][o] += other.Operations[k][o]
		}
	}
	c.Read += other.Read
	c.Written += other.Written
	c.Times = c.Times.And(other.Times)
	if other.Last.After(c.Last) {
		c.Last = other.Last
	}
}
