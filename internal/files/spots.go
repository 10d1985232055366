package files

import (
	"encoding/binary"
	"errors"
	"hash/fnv"
	"strings"
	"sync"
	"time"

	"golang.org/x/sys/unix"
)

// Key names an object for as long as it exists, wherever it is moved: what an NFS file
// handle carries. The host reuses inode numbers, and so the moment at which the object was made
// belongs to it.
type Key struct {
	Inode uint64
	Mount uint32 // 0 on the folder's own file system, else a tag of another mounted below it
	Born  int64  // Unix nanoseconds; 0 where the file system does not tell
}

// ErrBusy says that the object is being looked for, and to try again soon.
var ErrBusy = errors.New("it is being looked for")

// spots remembers where in a folder the objects are that NFS clients hold handles to. What it
// says is verified at each use, and what it does not know is looked for on disk, so that it may
// forget anything at any time.
type spots struct {
	mu    sync.Mutex
	dirs  map[fileID]spot
	files map[fileID]spot
	// missing are those that a search of everything did not find.
	missing map[Key]time.Time
	devices map[uint32]uint64
	links   map[fileID]*linked // files with several names
	walked  time.Time          // when the last search began that noted every name of the folder

	searching sync.Mutex
	searched  time.Time     // when the last search ended
	took      time.Duration // and how long it took
}

// spot is a place: a name in a directory.
type spot struct {
	dir  fileID
	name string
}

const (
	mostFileSpots = 1 << 18
	mostDirSpots  = 1 << 20
	mostMissing   = 1 << 16
	missingFor    = 10 * time.Minute
	mostSeen      = 1 << 20 // files that one search tells the names of apart
	deepest       = 1024    // directories
)

func dirSpot(parent int, name string) spot {
	var st unix.Stat_t
	if unix.Fstat(parent, &st) != nil {
		return spot{}
	}
	return spot{fileID{st.Dev, st.Ino}, name}
}

func (s *spots) put(id fileID, file bool, at spot) {
	if at.name == "" {
		return
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	s.putLocked(id, file, at)
}

func (s *spots) putLocked(id fileID, file bool, at spot) {
	which, most := &s.dirs, mostDirSpots
	if file {
		which, most = &s.files, mostFileSpots
	}
	if *which == nil {
		*which = make(map[fileID]spot)
	}
	if (*which)[id] == at {
		return
	}
	for old := range *which { // any will do: what is forgotten is found again
		if len(*which) < most {
			break
		}
		delete(*which, old)
	}
	(*which)[id] = at
}

// isDir says whether an object was a directory when it was last seen.
func (s *spots) isDir(id fileID) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	_, dir := s.dirs[id]
	return dir
}

func (s *spots) drop(id fileID) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.files, id)
	delete(s.dirs, id)
}

// path gives where an object was last seen, below the folder's root.
func (s *spots) path(id, root fileID) (string, bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	var names []string
	for range deepest {
		if id == root {
			var b strings.Builder
			for i := len(names) - 1; i >= 0; i-- {
				b.WriteString(names[i])
				if i > 0 {
					b.WriteByte('/')
				}
			}
			return b.String(), true
		}
		at, ok := s.dirs[id]
		if !ok && len(names) == 0 {
			at, ok = s.files[id]
		}
		if !ok {
			return "", false
		}
		names = append(names, at.name)
		id = at.dir
	}
	return "", false
}

func (s *spots) isMissing(key Key) bool {
	s.mu.Lock()
	defer s.mu.Unlock()
	at, ok := s.missing[key]
	if ok && time.Since(at) > missingFor {
		delete(s.missing, key)
		return false
	}
	return ok
}

// mountTag is how a Key tells file systems apart.
func (s *spots) mountTag(dev, rootDev uint64) uint32 {
	if dev == rootDev {
		return 0
	}
	h := fnv.New32a()
	h.Write(binary.BigEndian.AppendUint64(nil, dev))
	tag := h.Sum32() | 1
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.devices == nil {
		s.devices = make(map[uint32]uint64)
	}
	s.devices[tag] = dev
	return tag
}

func (s *spots) device(tag uint32, rootDev uint64) (uint64, bool) {
	if tag == 0 {
		return rootDev, true
	}
	s.mu.Lock()
	defer s.mu.Unlock()
	dev, ok := s.devices[tag]
	return dev, ok
}

// search looks through the whole folder for an object and remembers what it passes. One
// search at a time; and not more often than every so much longer than one takes, so that handles of
// what is gone do not keep the disk busy.
func (s *spots) search(root int, key Key) error {
	asked := time.Now()
	s.searching.Lock()
	defer s.searching.Unlock()
	if s.searched.After(asked) {
		return nil // someone else's was on the way: look at what it found
	}
	if time.Since(s.searched) < 4*s.took {
		return ErrBusy
	}
	begun := time.Now()
	found, err := s.walk(root, key)
	s.searched = time.Now()
	s.took = s.searched.Sub(begun)
	if err == nil && !found {
		s.lost(key)
	}
	return err
}

func (s *spots) walk(root int, key Key) (found bool, err error) {
	var st unix.Stat_t
	if err := unix.Fstat(root, &st); err != nil {
		return false, translate(err)
	}
	rootDev, rootID := st.Dev, fileID{st.Dev, st.Ino}
	type step struct {
		path string
		at   spot
	}
	begun := time.Now()
	seen, all := make(map[fileID]spot), true // all but directories, by their first name
	var names []spot                         // of the one searched for
	var inode fileID
	queue := []step{{}}
	buf := make([]byte, direntBuffer)
	for len(queue) > 0 {
		path, at := queue[len(queue)-1].path, queue[len(queue)-1].at
		queue = queue[:len(queue)-1]
		fd, err := openBeneath(root, path, unix.O_RDONLY|unix.O_DIRECTORY, 0)
		if err != nil {
			all = false
			continue // gone since, or not ours to read
		}
		if err := unix.Fstat(fd, &st); err != nil {
			unix.Close(fd)
			all = false
			continue
		}
		here := fileID{st.Dev, st.Ino}
		s.mountTag(st.Dev, rootDev)
		if at.name != "" && here.dev != at.dir.dev { // what is mounted there
			s.put(here, false, at)
		}
		_ = readDirents(fd, buf, func(e dirent) bool {
			if e.name == "." || e.name == ".." {
				return true
			}
			// For a mount point a directory names the inode beneath it.
			id := fileID{st.Dev, e.ino}
			sought := e.ino == key.Inode && s.names(fd, e.name, rootDev, key)
			if sought {
				found, inode = true, id
				if e.kind != unix.DT_DIR {
					names = append(names, spot{here, e.name})
				}
			}
			s.mu.Lock()
			if e.kind == unix.DT_DIR {
				queue = append(queue, step{join(path, e.name), spot{here, e.name}})
				s.putLocked(id, false, spot{here, e.name})
			} else if sought || len(s.files) < mostFileSpots {
				s.putLocked(id, true, spot{here, e.name})
			}
			if e.kind != unix.DT_DIR {
				if first, ok := seen[id]; ok {
					s.namedLocked(id, first)
					s.namedLocked(id, spot{here, e.name})
				} else if len(seen) < mostSeen {
					seen[id] = spot{here, e.name}
				} else {
					all = false
				}
			}
			s.mu.Unlock()
			return true
		})
		unix.Close(fd)
	}
	if len(names) > 0 {
		if links := s.linksOf(root, rootID, names[0]); links > 1 {
			s.counted(inode, names, links)
		}
	}
	if all {
		s.mu.Lock()
		s.walked = begun.Add(-time.Second) // times on disk are not exact
		s.mu.Unlock()
	}
	return found, nil
}

// names says whether what a name in a directory stands for is what a key names, and not another that has got its number since.
func (s *spots) names(dir int, name string, rootDev uint64, key Key) bool {
	var st unix.Statx_t
	if statxAt(dir, name, &st) != nil {
		return false
	}
	return st.Ino == key.Inode && bornAt(&st) == key.Born && s.mountTag(unix.Mkdev(st.Dev_major, st.Dev_minor), rootDev) == key.Mount
}

// linksOf is how many names what is at a spot has.
func (s *spots) linksOf(root int, rootID fileID, at spot) uint32 {
	dir, ok := s.path(at.dir, rootID)
	if !ok {
		return 0
	}
	fd, err := openBeneath(root, join(dir, at.name), unix.O_PATH|unix.O_NOFOLLOW, 0)
	if err != nil {
		return 0
	}
	defer unix.Close(fd)
	var st unix.Stat_t
	if unix.Fstat(fd, &st) != nil {
		return 0
	}
	return uint32(st.Nlink)
}

// dirent is one name as the kernel lists it.
type dirent struct {
	ino  uint64
	next int64 // where the listing goes on after it
	kind uint8
	name string
}

const direntBuffer = 64 << 10

// readDirents lists a directory from where its descriptor stands until visit says no more. Names
// come in the host's order, "." and ".." among them.
func readDirents(fd int, buf []byte, visit func(dirent) bool) error {
	if err := before(callList, fd); err != nil {
		return translate(err)
	}
	for {
		n, err := unix.Getdents(fd, buf)
		if err == unix.EINTR {
			continue
		}
		if err == unix.ENOENT { // it has been removed since it was opened: nothing is in it
			return nil
		}
		if err != nil || n == 0 {
			return translate(err)
		}
		// struct linux_dirent64: ino, off, reclen, type, name.
		for rest := buf[:n]; len(rest) >= 19; {
			length := int(binary.NativeEndian.Uint16(rest[16:]))
			if length < 19 || length > len(rest) {
				return nil
			}
			name := rest[19:length]
			for i, c := range name {
				if c == 0 {
					name = name[:i]
					break
				}
			}
			e := dirent{ino: binary.NativeEndian.Uint64(rest), next: int64(binary.NativeEndian.Uint64(rest[8:])), kind: rest[18], name: string(name)}
			if !visit(e) {
				return nil
			}
			rest = rest[length:]
		}
	}
}
