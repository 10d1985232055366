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
	mu   sync.Mutex
	dirs map[fileID]*list.Element // of *foldedDir
	used *list.List               // most recently used first
}

// fileID tells files apart on this host.
type fileID struct{ dev, ino uint64 }

type foldedDir struct {
	id    fileID
	mtime unix.Timespec
	names map[string]string // folded to real
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
	id := fileID{st.Dev, st.Ino}
	x.mu.Lock()
	defer x.mu.Unlock()
	if e := x.dirs[id]; e != nil {
		if d := e.Value.(*foldedDir); d.mtime == st.Mtim {
			x.used.MoveToFront(e)
			real, ok := d.names[folded]
			return real, ok, nil
		}
		x.used.Remove(e)
		delete(x.dirs, id)
	}
	names, err := foldNames(dir)
	if err != nil {
		return "", false, err
	}
	if time.Since(time.Unix(st.Mtim.Unix())) > settling {
		x.dirs[id] = x.used.PushFront(&foldedDir{id, st.Mtim, names})
		if x.used.Len() > mostFoldedDirs {
			oldest := x.used.Back()
			delete(x.dirs, oldest.Value.(*foldedDir).id)
			x.used.Remove(oldest)
		}
	}
	real, ok := names[folded]
	return real, ok, nil
}

// changing wraps a change of ours to a directory: if the index held for it before,
// edit brings it up to date, so that a thousand new files do not mean a thousand
// readings.
func (x *foldIndex) changing(dir int, change func() error, edit func(names map[string]string)) error {
	x.mu.Lock()
	defer x.mu.Unlock()
	var st unix.Stat_t
	if err := unix.Fstat(dir, &st); err != nil {
		return translate(err)
	}
	e := x.dirs[fileID{st.Dev, st.Ino}]
	held := e != nil && e.Value.(*foldedDir).mtime == st.Mtim
	if err := change(); err != nil {
		return err
	}
	if !held {
		return nil
	}
	if err := unix.Fstat(dir, &st); err != nil {
		return nil // the index will be found stale
	}
	d := e.Value.(*foldedDir)
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
