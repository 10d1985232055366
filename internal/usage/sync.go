package usage

import (
	"maps"
	"slices"

	"amber.example/gatekeeper/internal/core/limit"
)

// Setup is how a folder is counted. Owner and group are whom what has none of its own counts for.
type Setup struct {
	ID, Volume int64
	Allocated  bool
	Owner      Owner
	Trees      []*limit.Limit // limits on paths
}

// Need is a count that is due: of all of a folder, or below a directory.
type Need struct {
	Folder int64
	Below  string
}

// Set has a folder counted, or counted otherwise; now is asked when nothing is altered in it, and gives nil where it is not to be
// counted any more. It gives the counts that are due. Nothing that alters the folder may wait for whoever calls.
func (l *Ledger) Set(id int64, now func() *Setup) []Need {
	f := l.Folder(id)
	if f == nil {
		to := now()
		if to == nil {
			return nil
		}
		l.put(id, l.newFolder(*to, true))
		return []Need{{Folder: id}}
	}
	f.gate.Lock()
	defer f.gate.Unlock()
	to := now()
	if to == nil {
		f.drop()
		return nil
	}
	var due []Need
	if to.Allocated != f.allocated {
		f.allocated = to.Allocated
		f.scan = nil // it counted otherwise
		due = append(due, Need{Folder: id})
	}
	if to.Owner != f.owner {
		f.hand(to.Owner)
	}
	for _, t := range to.Trees {
		i := slices.IndexFunc(f.trees, func(have tree) bool { return have.limit == t.ID })
		switch {
		case i < 0:
			f.trees = append(f.trees, f.newTree(t, true))
			due = append(due, Need{id, t.Path})
		case f.trees[i].path != t.Path: // an administrator has put it elsewhere
			f.trees[i].path = t.Path
			if f.scan != nil {
				delete(f.scan.covers, f.trees[i].cell)
			}
			f.trees[i].cell.unknown.Store(true)
			due = append(due, Need{id, t.Path})
		}
	}
	f.trees = slices.DeleteFunc(f.trees, func(have tree) bool {
		gone := !slices.ContainsFunc(to.Trees, func(t *limit.Limit) bool { return t.ID == have.limit })
		if gone {
			l.cells.Delete(have.cell.counter)
		}
		return gone
	})
	f.wooded.Store(len(f.trees) > 0)
	return due
}

// newFolder makes the book of a folder; unknown says that what is in its trees has not been counted.
func (l *Ledger) newFolder(s Setup, unknown bool) *Folder {
	f := &Folder{ledger: l, id: s.ID, volume: s.Volume, allocated: s.Allocated, owner: s.Owner,
		all:     l.cell(limit.Counter{Volume: s.Volume, Folder: s.ID}),
		noOwner: l.cell(limit.Counter{Volume: s.Volume, Folder: s.ID, Of: unowned})}
	for _, t := range s.Trees {
		f.trees = append(f.trees, f.newTree(t, unknown))
	}
	f.wooded.Store(len(f.trees) > 0)
	return f
}

func (f *Folder) newTree(t *limit.Limit, unknown bool) tree {
	c := f.ledger.cell(limit.Counter{Volume: f.volume, Folder: f.id, Tree: t.ID})
	c.unknown.Store(unknown)
	return tree{limit: t.ID, path: t.Path, cell: c}
}

func (l *Ledger) put(id int64, f *Folder) {
	l.mu.Lock()
	defer l.mu.Unlock()
	folders := maps.Clone(*l.folders.Load())
	if f == nil {
		delete(folders, id)
	} else {
		folders[id] = f
	}
	l.folders.Store(&folders)
}

// Folders are the numbers of all that are counted.
func (l *Ledger) Folders() []int64 { return slices.Sorted(maps.Keys(*l.folders.Load())) }

// hand has what has no owner of its own count for somebody else.
func (f *Folder) hand(to Owner) {
	is := f.noOwner.amount()
	was := f.party(Owner{}).cells
	f.owner = to
	f.parties.Clear()
	f.version.Add(1)
	becomes := f.party(Owner{}).cells
	f.ledger.addAll(without(was, becomes), limit.Amount{}.Minus(is))
	f.ledger.addAll(without(becomes, was), is)
}

// drop takes the folder out of all that is counted together.
func (f *Folder) drop() {
	f.off, f.scan = true, nil
	f.become(nil)
	f.ledger.put(f.id, nil)
	f.ledger.cells.Range(func(key, _ any) bool {
		if key.(limit.Counter).Folder == f.id {
			f.ledger.cells.Delete(key)
		}
		return true
	})
}

// Repath has the trees at a path and below it be at another: their directory has been renamed. The folder must have been
// entered alone.
func (f *Folder) Repath(from, to string) {
	if f == nil {
		return
	}
	dir := limit.Limit{Path: from}
	for i := range f.trees {
		if dir.Under(f.trees[i].path) {
			f.trees[i].path = to + f.trees[i].path[len(from):]
		}
	}
}
