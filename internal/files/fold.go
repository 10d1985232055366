package files

import (
	"container/list"
	"slices"
	"sync"
	"time"

	"golang.org/x/sys/unix"
)

// foldIndex finds names whatever their case without reading the directory each
// time. A directory's names are kept as long as its modification time says that they
// still hold. A nil index reads the directory.
type foldIndex struct {
	mu   sync.Mutex               // never held while a disk is asked
	dirs map[fileID]*list.Element // of *foldedDir
	used *list.List               // most recently used first
	kept int                      // names, of all of them
}

// fileID tells files apart on this host.
type fileID struct{ dev, ino uint64 }

func fileOf(st *unix.Statx_t) fileID { return fileID{unix.Mkdev(st.Dev_major, st.Dev_minor), st.Ino} }

// openKey is what a handle can be open on: an object, or one of its named streams.
type openKey struct {
	fileID
	stream string // folded; "" for the object itself
}

// data is the object itself.
func (id fileID) data() openKey { return openKey{fileID: id} }

type foldedDir struct {
	id fileID

	mu    sync.Mutex    // held while the directory is read, or changed
	mtime unix.Timespec // when names were what they are
	names *folded       // nil when they are not known
	kept  int           // how many are counted for it; guarded by foldIndex.mu
}

// folded are the names of a directory, whatever their case.
type folded struct {
	one map[string]string   // by what they are folded: the first of them
	all map[string][]string // in order, where several differ only in case
}

// real gives the name that is meant by one of any case; of several, always the same.
func (f *folded) real(name string) (string, bool) {
	real, ok := f.one[FoldName(name)]
	return real, ok
}

// put adds a name, if it is not there.
func (f *folded) put(name string) {
	key := FoldName(name)
	have, ok := f.one[key]
	if !ok || have == name {
		f.one[key] = name
		return
	}
	all := f.all[key]
	if all == nil {
		all = []string{have}
	}
	if at, there := slices.BinarySearch(all, name); !there {
		all = slices.Insert(all, at, name)
	}
	f.all[key], f.one[key] = all, all[0]
}

// drop takes a name away.
func (f *folded) drop(name string) {
	key := FoldName(name)
	all := f.all[key]
	if all == nil {
		if f.one[key] == name {
			delete(f.one, key)
		}
		return
	}
	if at, there := slices.BinarySearch(all, name); there {
		all = slices.Delete(all, at, at+1)
	}
	if f.all[key], f.one[key] = all, all[0]; len(all) == 1 {
		delete(f.all, key)
	}
}

const (
	mostFoldedDirs = 256
	// mostFoldedNames are kept of all directories together, a hundred bytes or two each. What is in a directory that has more is not kept.
	mostFoldedNames = 2_000_000
	// A directory changed this recently may change again without its time
	// showing it, since file systems keep time in steps.
	settling = 50 * time.Millisecond
)

func newFoldIndex() *foldIndex {
	return &foldIndex{dirs: make(map[fileID]*list.Element), used: list.New()}
}

// dir gives what is kept of a directory; with none and without add it is nil.
func (x *foldIndex) dir(id fileID, add bool) *foldedDir {
	x.mu.Lock()
	defer x.mu.Unlock()
	if e := x.dirs[id]; e != nil {
		x.used.MoveToFront(e)
		return e.Value.(*foldedDir)
	}
	if !add {
		return nil
	}
	d := &foldedDir{id: id}
	x.dirs[id] = x.used.PushFront(d)
	x.trim()
	return d
}

// trim forgets those that were not used for longest, until there are as few as may be.
func (x *foldIndex) trim() {
	for x.used.Len() > mostFoldedDirs || x.kept > mostFoldedNames && x.used.Len() > 0 {
		oldest := x.used.Back()
		d := oldest.Value.(*foldedDir)
		x.kept -= d.kept
		d.kept = 0
		delete(x.dirs, d.id)
		x.used.Remove(oldest)
	}
}

// count notes how many names are kept of a directory; false where it is kept no more.
func (x *foldIndex) count(d *foldedDir, names int) bool {
	x.mu.Lock()
	defer x.mu.Unlock()
	if e := x.dirs[d.id]; e == nil || e.Value != any(d) {
		return false
	}
	x.kept += names - d.kept
	d.kept = names
	x.trim()
	return d.kept == names
}

func (x *foldIndex) find(dir int, name string) (string, bool, error) {
	if x == nil {
		names, err := foldNames(dir)
		if err != nil {
			return "", false, err
		}
		real, ok := names.real(name)
		return real, ok, nil
	}
	var st unix.Stat_t
	if err := unix.Fstat(dir, &st); err != nil {
		return "", false, translate(err)
	}
	d := x.dir(fileID{st.Dev, st.Ino}, true)
	d.mu.Lock()
	defer d.mu.Unlock()
	if err := unix.Fstat(dir, &st); err != nil { // as it is now that nobody else changes it
		return "", false, translate(err)
	}
	if d.names != nil && d.mtime == st.Mtim {
		real, ok := d.names.real(name)
		return real, ok, nil
	}
	d.names = nil
	names, err := foldNames(dir)
	if err != nil {
		return "", false, err
	}
	if time.Since(time.Unix(st.Mtim.Unix())) > settling && x.count(d, len(names.one)) {
		d.names, d.mtime = names, st.Mtim
	}
	real, ok := names.real(name)
	return real, ok, nil
}

// changing wraps a change of ours to a directory: if the index held for it before,
// edit brings it up to date, so that a thousand new files do not mean a thousand
// readings.
func (x *foldIndex) changing(dir int, change func() error, edit func(names *folded)) error {
	var st unix.Stat_t
	if err := unix.Fstat(dir, &st); err != nil {
		return translate(err)
	}
	return x.changingIn(fileID{st.Dev, st.Ino}, dir, change, edit)
}

// changingIn is changing for a directory that is known already.
func (x *foldIndex) changingIn(id fileID, dir int, change func() error, edit func(names *folded)) error {
	d := x.dir(id, false)
	if d == nil {
		return change()
	}
	var st unix.Stat_t
	d.mu.Lock()
	defer d.mu.Unlock()
	if err := unix.Fstat(dir, &st); err != nil {
		return translate(err)
	}
	held := d.names != nil && d.mtime == st.Mtim
	if err := change(); err != nil {
		return err
	}
	if !held {
		return nil
	}
	if err := unix.Fstat(dir, &st); err != nil {
		return nil // the index will be found stale
	}
	edit(d.names)
	d.mtime = st.Mtim
	if !x.count(d, len(d.names.one)) {
		d.names = nil
	}
	return nil
}

func foldNames(dir int) (*folded, error) {
	names, err := readNames(dir)
	out := &folded{one: make(map[string]string, len(names)), all: make(map[string][]string)}
	for _, n := range names {
		out.put(n)
	}
	return out, err
}
