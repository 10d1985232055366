package files

import (
	"container/list"
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
}

// fileID tells files apart on this host.
type fileID struct{ dev, ino uint64 }

type foldedDir struct {
	id fileID

	mu    sync.Mutex        // held while the directory is read, or changed
	mtime unix.Timespec     // when names were what they are
	names map[string]string // folded to real; nil when they are not known
}

const (
	mostFoldedDirs = 256
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
	if x.used.Len() > mostFoldedDirs {
		oldest := x.used.Back()
		delete(x.dirs, oldest.Value.(*foldedDir).id)
		x.used.Remove(oldest)
	}
	return d
}

func (x *foldIndex) find(dir int, name string) (string, bool, error) {
	folded := FoldName(name)
	if x == nil {
		names, err := foldNames(dir)
		return names[folded], names[folded] != "", err
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
		real, ok := d.names[folded]
		return real, ok, nil
	}
	d.names = nil
	names, err := foldNames(dir)
	if err != nil {
		return "", false, err
	}
	if time.Since(time.Unix(st.Mtim.Unix())) > settling {
		d.names, d.mtime = names, st.Mtim
	}
	real, ok := names[folded]
	return real, ok, nil
}

// changing wraps a change of ours to a directory: if the index held for it before,
// edit brings it up to date, so that a thousand new files do not mean a thousand
// readings.
func (x *foldIndex) changing(dir int, change func() error, edit func(names map[string]string)) error {
	var st unix.Stat_t
	if err := unix.Fstat(dir, &st); err != nil {
		return translate(err)
	}
	d := x.dir(fileID{st.Dev, st.Ino}, false)
	if d == nil {
		return change()
	}
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
	return nil
}

func foldNames(dir int) (map[string]string, error) {
	names, err := readNames(dir)
	out := make(map[string]string, len(names))
	for _, n := range names {
		key := FoldName(n)
		// Of several that differ only in case, always the same one.
		if have, ok := out[key]; !ok || n < have {
			out[key] = n
		}
	}
	return out, err
}
