package usage

import (
	"time"

	"amber.example/gatekeeper/internal/core/limit"
)

// Kept is one number of a folder as it is kept over a restart.
type Kept struct {
	Folder int64
	Of     limit.Counted // of everything in the folder, of an owner's, of a group's, or of what has no owner of its own
	Number uint32        // a uid or a gid
	Tree   int64         // a limit's number, where it is what is in a tree
	Amount limit.Amount
}

// KeptFolder is what goes with the numbers of a folder.
type KeptFolder struct {
	Setup        // its trees are those whose numbers are known
	Counted bool // all there was has been counted once
}

// KeptGrace is a soft bound that has been passed.
type KeptGrace struct {
	Counter limit.Counter
	Limit   int64
	Since   limit.Since
}

// Keep gives what has changed since it was last asked, or all there is.
func (l *Ledger) Keep(all bool) (rows []Kept) {
	l.cells.Range(func(key, value any) bool {
		counter, c := key.(limit.Counter), value.(*cell)
		if counter.Folder == 0 {
			return true // a sum of others
		}
		if c.dirty.Swap(false) || all {
			rows = append(rows, Kept{Folder: counter.Folder, Of: counter.Of, Number: counter.Number, Tree: counter.Tree, Amount: c.amount()})
		}
		return true
	})
	return rows
}

// Unkept says that rows could not be written down after all.
func (l *Ledger) Unkept(rows []Kept) {
	for _, r := range rows {
		if f := l.Folder(r.Folder); f != nil {
			l.cell(limit.Counter{Of: r.Of, Number: r.Number, Volume: f.volume, Folder: r.Folder, Tree: r.Tree}).dirty.Store(true)
		}
	}
}

// Kept gives what is kept of each folder besides.
func (l *Ledger) Kept() (out []KeptFolder) {
	for _, f := range *l.folders.Load() {
		f.gate.RLock()
		k := KeptFolder{Setup: Setup{ID: f.id, Volume: f.volume, Allocated: f.allocated, Owner: f.owner}, Counted: f.counted}
		for _, t := range f.trees {
			if !t.cell.unknown.Load() {
				k.Trees = append(k.Trees, &limit.Limit{ID: t.limit, Path: t.path})
			}
		}
		f.gate.RUnlock()
		out = append(out, k)
	}
	return out
}

// Restore takes up what was kept of a folder. It comes before Set.
func (l *Ledger) Restore(k KeptFolder, rows []Kept) {
	f := l.newFolder(k.Setup, false)
	f.counted = k.Counted
	for _, r := range rows {
		at := limit.Counter{Of: r.Of, Number: r.Number, Volume: k.Volume, Folder: k.ID, Tree: r.Tree}
		l.restore(at, r.Amount)
		if r.Tree != 0 || r.Of == unowned {
			continue
		}
		at.Folder = 0
		l.restore(at, r.Amount)
		if r.Of != limit.Everything {
			at.Volume = 0
			l.restore(at, r.Amount)
		}
	}
	l.put(k.ID, f)
}

func (l *Ledger) restore(at limit.Counter, by limit.Amount) {
	c := l.cell(at)
	addTo(&c.bytes, by.Bytes)
	addTo(&c.files, by.Files)
}

// Graces gives all soft bounds that are passed now.
func (l *Ledger) Graces() (out []KeptGrace) {
	l.graces.Range(func(key, value any) bool {
		k := KeptGrace{Counter: key.(graceKey).counter, Limit: key.(graceKey).limit}
		for d := range limit.Dimensions {
			if at := value.(*noted).since[d].Load(); at != 0 {
				k.Since[d] = time.Unix(0, at)
			}
		}
		if k.Since != (limit.Since{}) {
			out = append(out, k)
		}
		return true
	})
	return out
}

// RestoreGrace takes up a soft bound that had been passed. It comes before anything is asked of the limit.
func (l *Ledger) RestoreGrace(k KeptGrace) {
	n := new(noted)
	for d := range limit.Dimensions {
		if !k.Since[d].IsZero() {
			n.since[d].Store(k.Since[d].UnixNano())
		}
	}
	l.graces.Store(graceKey{k.Counter, k.Limit}, n)
}
