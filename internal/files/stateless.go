package files

import (
	"errors"
	"time"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
)

// File is a regular file that a guest reads or writes without having opened it, as NFS version 3
// does. It is decided about once, and then good for one request; Release gives it back.
type File struct {
	n     *Namespace
	w     view
	state *folderState
	c     *cached
	path  string
	epoch int64 // of the folder, when it was decided about
}

// madeKey is a file that a guest has made. The time of birth tells it from the next file that gets its inode.
type madeKey struct {
	fileID
	born int64 // nanoseconds; 0 where the file system does not tell
}

func madeKeyOf(st *unix.Statx_t) madeKey { return madeKey{fileOf(st), bornAt(st)} }

// fileMaker is who made a file, and may fill it until then.
type fileMaker struct {
	uid   uint32
	user  identity.ID
	until time.Time
}

const (
	maxMakers = 1 << 16
	// maxMakersSwept bounds what one create does for room: it looks at so many, and if none of them has ended the last makes way.
	maxMakersSwept = 32
)

// noteMaker remembers that a guest made a file, and may fill it: see creatorFor.
func (n *Namespace) noteMaker(key madeKey, a *access.Arrival) {
	n.makersMu.Lock()
	defer n.makersMu.Unlock()
	now := time.Now()
	if len(n.makers) >= maxMakers {
		swept := 0
		for k, m := range n.makers { // in no order
			if swept++; now.After(m.until) || swept == maxMakersSwept && len(n.makers) >= maxMakers {
				delete(n.makers, k)
			}
			if swept == maxMakersSwept {
				break
			}
		}
	}
	n.makers[key] = fileMaker{a.Unix.UID, a.User, now.Add(creatorFor)}
}

// isMaker says whether a guest made a file and is still filling it; asking keeps it so.
func (n *Namespace) isMaker(key madeKey, a *access.Arrival) bool {
	n.makersMu.Lock()
	defer n.makersMu.Unlock()
	m, ok := n.makers[key]
	if !ok || m.uid != a.Unix.UID || m.user != a.User {
		return false
	}
	now := time.Now()
	if now.After(m.until) {
		delete(n.makers, key)
		return false
	}
	m.until = now.Add(creatorFor)
	n.makers[key] = m
	return true
}

// forgetMaker ends what the maker of a file may do, since the file is removed.
func (n *Namespace) forgetMaker(key madeKey) {
	n.makersMu.Lock()
	defer n.makersMu.Unlock()
	delete(n.makers, key)
}

// File gives a regular file to read, or to write, which the client has seen to opening.
func (n *Namespace) File(g *Guest, key Key, write bool) (*File, error) {
	v, err := n.view(g.Subject(), "")
	if err != nil {
		return nil, err
	}
	state := n.folder(v.folder.ID)
	want := acl.ReadData
	if write {
		want = acl.WriteData
	}
	// A file that is open already, and was decided about a moment ago.
	rootDev, ok := state.device(v)
	if dev, known := state.spots.device(key.Mount, rootDev); ok && known {
		if c := n.cache.get(cacheKey{fileID{dev, key.Inode}, v.folder.ID, write}); c != nil {
			if m := c.verdict.Load(); c.born == key.Born && m != nil && m.arrival == v.nfs && m.epoch == state.version() &&
				v.now.Before(m.until) && want&^m.granted == 0 {
				return &File{n: n, w: v, state: state, c: c, epoch: m.epoch}, nil
			}
			n.cache.release(c)
		}
	}
	w, o, err := n.VisitObject(g, key, Working)
	if err != nil {
		return nil, err
	}
	defer w.End()
	switch {
	case o.Dir():
		return nil, ErrIsDirectory
	case !o.Regular():
		return nil, ErrInvalid
	}
	f := &File{n: n, w: w.v, state: state, path: o.path}
	epoch := state.version()
	f.epoch = epoch
	granted, err := f.decide(o, want)
	if err != nil {
		return nil, err
	}
	if f.c = n.cache.get(cacheKey{o.id(), w.v.folder.ID, write}); f.c == nil || f.c.born != key.Born {
		if f.c != nil {
			n.cache.release(f.c)
		}
		flags := unix.O_RDONLY
		if write {
			flags = unix.O_RDWR
		}
		fd, err := openBeneath(w.root, o.path, flags|unix.O_NONBLOCK|unix.O_NOCTTY, 0)
		if err != nil {
			return nil, err
		}
		var st unix.Statx_t
		if err := statx(fd, &st); err != nil || fileOf(&st) != o.id() {
			unix.Close(fd)
			return nil, errors.Join(ErrStale, err)
		}
		f.c = n.cache.add(cacheKey{o.id(), w.v.folder.ID, write}, fd, key.Born)
	}
	if write {
		w.v.tell(Wrote, o.path, access.Passed)
	} else {
		w.v.tell(Read, o.path, access.Passed)
	}
	until := v.now.Add(verdictFor)
	f.c.verdict.Store(&remembered{w.v.nfs, granted, epoch, until})
	return f, nil
}

// decide gives what the guest has of what is wanted of a file, or why not.
func (f *File) decide(o *Object, want acl.Mask) (acl.Mask, error) {
	verdict, err := o.verdict(access.InUse, want)
	if err != nil {
		return 0, err
	}
	granted := verdict.Granted
	if !verdict.Allowed() && verdict.Gate == access.Entry && f.n.isMaker(madeKeyOf(&o.st), o.w.v.nfs) && o.w.v.mayStillAdd(o.path, true) {
		granted |= want & o.w.v.shareLeaves()
		if want&^granted == 0 {
			verdict.Gate = access.Passed
		}
	}
	if !verdict.Allowed() {
		return 0, o.w.v.refuse(verdict.Gate, o.path)
	}
	if want == acl.WriteData {
		if readDOS(o.fd).attributes&AttrReadOnly != 0 {
			return 0, ErrReadOnlyFile
		}
		if err := o.w.v.altering(o.fd, &o.st); err != nil {
			return 0, err
		}
	}
	return granted, nil
}

// data is the file for writing to.
func (f *File) data() *open {
	return &open{fd: f.c.fd, id: f.c.key.id.usage(), names: f.namesNow, path: f.pathNow, counted: &f.c.counted}
}

func (f *File) namesNow() ([]string, error) {
	return f.n.namesOf(f.w.folder, f.state, f.c.fd, f.n.whereNow(f.w.folder, f.state, f.c.key.id, f.path)), nil
}

// altering takes the bits that run a file as someone else, where it is about to be written to without
// privilege. Where entries decide those of the host go whoever writes: they are nothing that
// anybody over the wire has set.
func (v view) altering(fd int, st *unix.Statx_t) error {
	if !v.folder.Unix() {
		mode := uint32(st.Mode) & 0o7777
		plain := posix.Written(posix.Attributes{Mode: mode}, mode&0o010 != 0).Mode
		if mode == plain {
			return nil
		}
		return setPermissions(fd, plain)
	}
	f, who := v.unixFacts(), v.credential()
	was := f.read(fd, st)
	if was.Mode&(posix.SetUID|posix.SetGID) == 0 {
		return nil
	}
	is := posix.WrittenBy(&who, was)
	if is.Mode == was.Mode {
		return nil
	}
	return f.write(fd, st, was, is)
}

// mayStillAdd says whether the directory of an object may still be added to.
func (v view) mayStillAdd(path string, file bool) bool {
	dir, _ := split(path)
	return v.decide(dir, false, toAdd(file)).Allowed()
}

// shareLeaves is what a client rule leaves of what the creator has besides entries.
func (v view) shareLeaves() acl.Mask {
	if v.nfs != nil && (v.nfs.Rule == nil || !v.nfs.Rule.Write) {
		return acl.ReadOnly
	}
	return acl.All
}

// Release gives the file back.
func (f *File) Release() { f.n.cache.release(f.c) }

// barred says why others who have the file open or locked bar reading or writing it.
func (n *Namespace) barred(id fileID, offset, length int64, writing bool) error {
	n.mu.Lock()
	of := n.open[id.data()]
	if of == nil {
		n.mu.Unlock()
		return nil
	}
	need, takes := ShareRead, CacheWrite
	if writing {
		need, takes = ShareWrite, cacheAll
	}
	if of.lowerOthers(nil, takes) != nil {
		n.mu.Unlock()
		return ErrBusy // until what clients of SMB cache of it is given back
	}
	for h := range of.handles {
		if h.claims != 0 && need&^h.sharing != 0 {
			n.mu.Unlock()
			return ErrSharing
		}
	}
	n.mu.Unlock()
	return of.locks.mayTouch(nil, offset, length, writing)
}

// ReadAt reads into p from an offset in bytes; less than all of it at the end of the file.
func (f *File) ReadAt(p []byte, off int64) (int, error) {
	if err := f.n.barred(f.c.key.id, off, int64(len(p)), false); err != nil {
		return 0, err
	}
	return whole(readFrom, f.c.fd, p, off)
}

// Stability says how far a write has got when it is answered (RFC 1813 section 3.3.7).
type Stability uint32

// The kinds of Stability.
const (
	Unstable Stability = iota
	DataSync
	FileSync
)

// WriteAt writes all of p at an offset in bytes, and gives how stable it is.
func (f *File) WriteAt(p []byte, off int64, stable Stability) (int, Stability, error) {
	if err := f.n.barred(f.c.key.id, off, int64(len(p)), true); err != nil {
		return 0, 0, err
	}
	n, err := f.w.alter().write(f.data(), off, len(p), func() (int, error) { return whole(writeTo, f.c.fd, p, off) })
	if err != nil {
		return n, 0, err
	}
	if f.state.version() != f.epoch { // somebody may have set a mode meanwhile
		var st unix.Statx_t
		if err = statx(f.c.fd, &st); err == nil {
			err = f.w.altering(f.c.fd, &st)
		}
		if err != nil {
			return n, 0, err
		}
	}
	if f.w.nfs.Export.Sync {
		stable = FileSync
	}
	if f.path != "" { // told once, when it begins
		f.n.notify.tell(f.w.folder.ID, Event{Path: f.path, Kind: EventModified})
	} else {
		f.n.notify.grown(f.w.folder.ID, f.pathNow)
	}
	return n, stable, syncTo(f.c.fd, stable)
}

func syncTo(fd int, stable Stability) error {
	switch stable {
	case DataSync:
		return flushData(fd)
	case FileSync:
		return flush(fd)
	}
	return nil
}

// Commit puts what was written on disk.
func (f *File) Commit() error { return flush(f.c.fd) }

// Size is the length in bytes.
func (f *File) Size() (uint64, error) {
	var st unix.Statx_t
	err := statx(f.c.fd, &st)
	return st.Size, err
}

// Attributes looks at the file: ErrStale where its last name is gone.
func (f *File) Attributes() (Attributes, error) {
	var st unix.Statx_t
	if err := statx(f.c.fd, &st); err != nil {
		return Attributes{}, err
	}
	if st.Nlink == 0 {
		f.n.cache.drop(f.c.key.id)
		return Attributes{}, ErrStale
	}
	return f.w.attributes(f.c.fd, &st, f.state, f.pathNow)
}

func (f *File) pathNow() string {
	if f.path != "" {
		return f.path
	}
	dev, ok := f.state.device(f.w)
	if !ok {
		return ""
	}
	st, err := f.w.folderRoot()
	if err != nil || st.Dev != dev {
		return ""
	}
	path, _ := f.state.spots.path(f.c.key.id, fileID{st.Dev, st.Ino})
	return path
}

// attributes are those of an open regular file of a folder.
func (v view) attributes(fd int, st *unix.Statx_t, state *folderState, path func() string) (Attributes, error) {
	a := v.unixFacts().read(fd, st)
	out := v.attributesOf(st, &a)
	id := fileOf(st)
	rootDev, _ := state.device(v)
	out.FileID = Key{Inode: st.Ino, Mount: state.spots.mountTag(id.dev, rootDev)}.fileID()
	if !v.folder.Unix() {
		own := acl.Ownership{User: v.policy.Directory.UserIndexByUID(a.UID), Group: v.policy.Directory.GroupIndexByGID(a.GID)}
		out.Mode = access.DerivedMode(v.policy, v.folder, plain.Spell(path()), false, own, st.Mode&0o100 != 0, time.Now())
	}
	return out, nil
}

// folderRoot looks at the directory of the view's folder.
func (v view) folderRoot() (st unix.Stat_t, err error) {
	fd, err := openFolder(v.folder.At)
	if err != nil {
		return st, err
	}
	defer unix.Close(fd)
	return st, translate(unix.Fstat(fd, &st))
}

// device is the file system of the root of the view's folder, remembered for as long as its volume stays where it is.
func (s *folderState) device(v view) (uint64, bool) {
	seen, _ := seenVolumes.Load(v.folder.At.Volume)
	if d := s.rootDev.Load(); d != nil && d.at == v.folder.At && d.seen == seen {
		return d.dev, true
	}
	st, err := v.folderRoot()
	if err != nil {
		return 0, false
	}
	seen, _ = seenVolumes.Load(v.folder.At.Volume)
	s.rootDev.Store(&rootDevice{v.folder.At, seen, st.Dev})
	return st.Dev, true
}

type rootDevice struct {
	at   site.Location
	seen any // its volume, as it was then
	dev  uint64
}
