package files

import (
	"errors"
	"slices"
	"time"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
)

// Visit is a guest in a folder for the time of one request: names stay where they are
// meanwhile, and what is opened on the way is closed at its end. It is for one goroutine.
type Visit struct {
	n      *Namespace
	v      view
	state  *folderState
	manner Manner
	root   int
	rooted rootInUse // root is of it
	held   *heldRoot // the same, for who decides by it
	rootID fileID
	below  string // where the export begins
	opened []int
	wanted []Key // files whose other names are to be searched for once the visit is over
}

// Visit begins one.
func (n *Namespace) Visit(g *Guest, manner Manner) (*Visit, error) {
	v, err := n.view(g.Subject(), "")
	if err != nil {
		return nil, err
	}
	w := &Visit{n: n, state: n.folder(v.folder.ID), manner: manner}
	if manner == Alone {
		w.state.paths.Lock()
	} else {
		w.state.paths.RLock()
	}
	// Looked at again now that names stay, where anything is other than before: see Open.
	if w.v = v; n.policy() != v.policy || n.heldUp != nil && n.heldUp(v.folder.ID) {
		if w.v, err = n.view(g.Subject(), ""); err == nil && n.folder(w.v.folder.ID) != w.state {
			err = ErrGone
		}
	}
	if err == nil {
		w.rooted, err = n.roots.take(w.v.folder.At, manner == Looking)
	}
	if err != nil {
		w.unlock()
		return nil, err
	}
	w.root = w.rooted.fd
	w.held = newHeldRoot(w.rooted, w.state, w.v.now)
	w.v.facts.root = w.held
	w.below = plain.Unspell(w.v.nfs.Export.Below)
	if k := w.rooted.kept; k != nil {
		w.rootID = fileID{k.folder.dev, k.folder.ino}
		return w, nil
	}
	var st unix.Stat_t
	if err := unix.Fstat(w.root, &st); err != nil {
		w.End()
		return nil, translate(err)
	}
	w.rootID = fileID{st.Dev, st.Ino}
	return w, nil
}

// End ends the visit; its objects are of no use after.
func (w *Visit) End() {
	if w.held != nil {
		w.held.close()
	}
	for _, fd := range w.opened {
		unix.Close(fd)
	}
	w.opened = nil
	w.n.roots.give(w.rooted)
	w.unlock()
	for _, key := range w.wanted { // the client was told to ask again
		_ = searchFor(w.state, w.v.folder.At, key)
	}
	w.wanted = nil
}

func (w *Visit) unlock() {
	if w.manner == Alone {
		w.state.paths.Unlock()
	} else {
		w.state.paths.RUnlock()
	}
}

// Reachable says whether the service and the client rules let the guest's host in, whoever is
// asking there: an error wraps ErrDenied and names the gate.
func (w *Visit) Reachable() error {
	switch {
	case !w.v.policy.Services.NFS:
		return &Denied{Gate: access.Service, Path: w.v.display(w.below)}
	case !access.MayMount(w.v.policy, w.v.nfs.Export, &w.v.nfs.Origin):
		return &Denied{Gate: access.Origin, Path: w.v.display(w.below)}
	}
	return nil
}

// ReadOnly says whether the client rule lets nothing be written.
func (w *Visit) ReadOnly() bool { return w.v.nfs.Rule == nil || !w.v.nfs.Rule.Write }

// Space reads the room on the folder's volume, as far as the guest may use it where the export begins.
func (w *Visit) Space() (Space, error) {
	s, err := space(w.v.folder.At)
	if err != nil {
		return Space{}, err
	}
	return w.v.within(s, w.below), nil
}

// Sync says whether the export wants every write on disk before it is answered.
func (w *Visit) Sync() bool { return w.v.nfs.Export.Sync }

// Unix says whether modes decide in the folder.
func (w *Visit) Unix() bool { return w.v.folder.Unix() }

// Object is a file, directory or other object found by a visit.
type Object struct {
	w    *Visit
	path string
	fd   int  // maybe for its path only; -1 where that was not needed: see descriptor
	real bool // fd is for more than its path
	st   unix.Statx_t
	key  Key
	own  posix.Attributes // read when first needed: see owner
	owns bool             // it has been
}

func (o *Object) id() fileID { return fileOf(&o.st) }

// Key names the object from now on.
func (o *Object) Key() Key { return o.key }

// Path is where it is, below the folder.
func (o *Object) Path() string { return o.path }

// Dir says whether it is a directory.
func (o *Object) Dir() bool { return o.st.Mode&unix.S_IFMT == unix.S_IFDIR }

// Regular says whether it is a file of bytes.
func (o *Object) Regular() bool { return o.st.Mode&unix.S_IFMT == unix.S_IFREG }

// Symlink says whether it is a symbolic link.
func (o *Object) Symlink() bool { return o.st.Mode&unix.S_IFMT == unix.S_IFLNK }

// OneName says whether it has no other names.
func (o *Object) OneName() bool { return o.Dir() || o.st.Nlink <= 1 }

// IsRoot says whether it is where the export begins.
func (o *Object) IsRoot() bool { return o.path == o.w.below }

// open looks at what is at a path.
func (w *Visit) open(path string) (*Object, error) { return w.openAs(path, false) }

func (w *Visit) openAs(path string, likelyDir bool) (*Object, error) {
	if o := (&Object{w: w, path: path, fd: -1}); o.glance() {
		return o, nil
	}
	return w.openFully(path, likelyDir)
}

// openFully opens what is at a path: for more than its path where it is likely to be a directory, since that makes the descriptor good for all that
// follows, and its marks half as dear to read.
func (w *Visit) openFully(path string, likelyDir bool) (*Object, error) {
	if path == "" && w.held.dir >= 0 {
		return w.on(path, w.held.dir, true)
	}
	if likelyDir || path == "" {
		if fd, err := openBeneath(w.root, path, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW, 0); err == nil {
			return w.at(path, fd, true)
		}
	}
	fd, err := openBeneath(w.root, path, unix.O_PATH|unix.O_NOFOLLOW, 0)
	if err != nil {
		return nil, err
	}
	return w.at(path, fd, false)
}

// at is what a descriptor is open on, which the visit closes; real says that it is for more than its path.
func (w *Visit) at(path string, fd int, real bool) (*Object, error) {
	w.opened = append(w.opened, fd)
	return w.on(path, fd, real)
}

// on is at for a descriptor that the visit does not close.
func (w *Visit) on(path string, fd int, real bool) (*Object, error) {
	o := &Object{w: w, path: path, fd: fd, real: real}
	if err := o.look(); err != nil {
		return nil, err
	}
	return o, nil
}

// look reads the object anew.
func (o *Object) look() error {
	if o.fd < 0 {
		was := o.key
		if o.glance() {
			if o.key != was {
				return ErrStale
			}
			return nil
		}
		if _, err := o.descriptor(); err != nil {
			return err
		}
	}
	if err := statx(o.fd, &o.st); err != nil {
		return err
	}
	o.looked()
	return nil
}

// looked is what follows from what was read of the object.
func (o *Object) looked() {
	o.owns = false
	o.key = Key{Inode: o.st.Ino, Mount: o.w.state.spots.mountTag(o.id().dev, o.w.rootID.dev), Born: bornAt(&o.st)}
}

func bornAt(st *unix.Statx_t) int64 {
	if st.Mask&unix.STATX_BTIME == 0 {
		return 0
	}
	return st.Btime.Sec*int64(time.Second) + int64(st.Btime.Nsec)
}

// Root gives the directory, or file, where the export begins.
func (w *Visit) Root() (*Object, error) {
	o, err := w.open(w.below)
	if errors.Is(err, ErrNotFound) || errors.Is(err, ErrNotDirectory) {
		err = ErrStale
	}
	return o, err
}

// Object gives what a key names; ErrStale where it is gone, or not within the export.
func (w *Visit) Object(key Key) (*Object, error) {
	dev, ok := w.state.spots.device(key.Mount, w.rootID.dev)
	if ok {
		if path, ok := w.state.spots.path(fileID{dev, key.Inode}, w.rootID); ok {
			o, err := w.openAs(path, w.state.spots.isDir(fileID{dev, key.Inode}))
			if err == nil && o.key == key {
				o = w.reached(o)
				if !under(o.path, w.below) {
					return nil, ErrStale
				}
				return o, nil
			}
			if err == nil && o.id() == (fileID{dev, key.Inode}) { // another has its number by now
				return nil, ErrStale
			}
			w.state.spots.drop(fileID{dev, key.Inode})
		}
	}
	return nil, errLost
}

// reached gives a file of several names by one of them by which the guest gets to it, so that it does
// not matter who looked it up last, and by which.
func (w *Visit) reached(o *Object) *Object {
	if o.st.Nlink <= 1 || o.Dir() {
		return o
	}
	good := func(path string) bool {
		return under(path, w.below) && (!w.v.folder.Unix() || w.v.decide(path, true, acl.ReadAttributes).Allowed())
	}
	paths, _ := w.state.spots.namesOf(w.root, w.rootID, &o.st)
	slices.Sort(paths)
	for _, path := range paths {
		if !good(path) {
			continue
		}
		if path == o.path {
			return o
		}
		if other, err := w.open(path); err == nil && other.key == o.key {
			return other
		}
	}
	return o
}

// errLost says that the object has to be looked for, which takes being outside of a visit.
var errLost = errors.New("not where it was")

// VisitObject begins a visit at the object that a key names, looking for it if it is not where
// it was: ErrStale where it is nowhere, ErrBusy where that could not be settled now.
func (n *Namespace) VisitObject(g *Guest, key Key, manner Manner) (*Visit, *Object, error) {
	w, found, err := n.VisitObjects(g, manner, key)
	if err != nil {
		return nil, nil, err
	}
	return w, found[0], nil
}

// VisitObjects is VisitObject for several objects of one export.
func (n *Namespace) VisitObjects(g *Guest, manner Manner, keys ...Key) (*Visit, []*Object, error) {
	for try := 0; ; try++ {
		w, err := n.Visit(g, manner)
		if err != nil {
			return nil, nil, err
		}
		var found []*Object
		var lost Key
		for _, key := range keys {
			o, err2 := w.Object(key)
			if err2 == nil {
				err2 = o.known()
			}
			if err = err2; err != nil {
				lost = key
				break
			}
			found = append(found, o)
		}
		if err == nil {
			return w, found, nil
		}
		state, folder := w.state, w.v.folder.At
		w.End()
		switch {
		case !errors.Is(err, errLost):
			return nil, nil, err
		case state.spots.isMissing(lost):
			return nil, nil, ErrStale
		case try == 2+len(keys):
			return nil, nil, ErrBusy
		}
		if err := searchFor(state, folder, lost); err != nil {
			return nil, nil, err
		}
	}
}

func searchFor(state *folderState, folder site.Location, key Key) error {
	root, err := openFolder(folder)
	if err != nil {
		return err
	}
	defer unix.Close(root)
	return state.spots.search(root, key)
}

// Owner gives whose the object is and, where modes decide, its mode and ACL.
func (o *Object) owner() *posix.Attributes {
	if !o.owns {
		o.owned(o.w.v.unixFacts().toldOf(o.path, o.fd, &o.st).is)
	}
	return &o.own
}

// ACL gives the POSIX ACL by which the object is decided about, where modes decide; without one,
// what its mode says. The second is what is made in it starts with; nil for none.
func (o *Object) ACL() (access, inherited posix.ACL) {
	a := o.owner()
	if a.ACL == nil {
		return posix.Of(a.Mode), a.Default
	}
	return a.ACL, a.Default
}

// Entries gives the complete list of entries that bears on the object, where entries decide.
func (o *Object) Entries() *acl.ACL { return o.w.v.folder.Tree.List(plain.Spell(o.path), !o.Dir()) }

// Attributes are what NFS tells of an object (RFC 1813 section 2.5, RFC 8881 section 5.8).
type Attributes struct {
	Type    uint32 // as the type bits of st_mode
	Mode    uint32 // the low twelve bits
	Links   uint32
	UID     uint32
	GID     uint32
	Size    uint64 // bytes
	Used    uint64 // bytes on disk
	Major   uint32 // of a device
	Minor   uint32
	FileID  uint64
	Access  unix.StatxTimestamp
	Modify  unix.StatxTimestamp
	Change  unix.StatxTimestamp
	Created unix.StatxTimestamp
}

// Attributes gives them as they were when the object was last looked at.
func (o *Object) Attributes() Attributes {
	a := o.owner()
	out := o.w.v.attributesOf(&o.st, a)
	out.FileID = o.key.fileID()
	if !o.w.v.folder.Unix() {
		own := acl.Ownership{User: o.w.v.policy.Directory.UserIndexByUID(a.UID), Group: o.w.v.policy.Directory.GroupIndexByGID(a.GID)}
		if o.Symlink() {
			out.Mode = 0o777
		} else {
			out.Mode = access.DerivedMode(o.w.v.policy, o.w.v.folder, plain.Spell(o.path), o.Dir(), own, o.st.Mode&0o100 != 0, time.Now())
		}
	}
	return out
}

// numbers are those of the asker's host; nil where they are the records'.
func (v view) numbers() *site.HostNumbers {
	if v.nfs == nil {
		return nil
	}
	return v.nfs.Numbers
}

// Numbers are those of the asker's host; nil where they are the records'.
func (o *Object) Numbers() *site.HostNumbers { return o.w.v.numbers() }

func (v view) attributesOf(st *unix.Statx_t, a *posix.Attributes) Attributes {
	uid, gid := v.numbers().Shown(a.UID, a.GID)
	return Attributes{Type: uint32(st.Mode) & unix.S_IFMT, Mode: a.Mode, Links: st.Nlink, UID: uid, GID: gid, Size: st.Size, Used: st.Blocks * 512,
		Major: st.Rdev_major, Minor: st.Rdev_minor, Access: st.Atime, Modify: st.Mtime, Change: st.Ctime, Created: st.Btime}
}

// fileID is the number by which clients tell the files of an export apart.
func (k Key) fileID() uint64 {
	if k.Mount == 0 {
		return k.Inode
	}
	return k.Inode ^ uint64(k.Mount)<<32
}

// Look reads the object anew and gives its attributes.
func (o *Object) Look() (Attributes, error) {
	if err := o.look(); err != nil {
		return Attributes{}, err
	}
	return o.Attributes(), nil
}

// MayLook says whether the guest may see the object's attributes: whoever gets as far as its
// directory may, and anyone may look at where the export begins, since mounting does.
func (o *Object) MayLook() error {
	if o.IsRoot() {
		return o.w.Reachable()
	}
	verdict, err := o.verdict(access.InUse, acl.ReadAttributes)
	if err == nil && !verdict.Allowed() {
		err = &Denied{Gate: verdict.Gate, Path: o.w.v.display(o.path)}
	}
	return err
}

// MayReadACL says whether the guest may see who may do what with the object.
func (o *Object) MayReadACL() error { return o.require(acl.ReadACL) }

// Granted is what the guest may do with the object.
func (o *Object) Granted() acl.Mask {
	verdict, _ := o.verdict(access.InUse, 0)
	return verdict.Granted
}

// Says is what ACCESS tells a client that the guest may do with the object, before it is opened (RFC 1813
// section 3.3.4): where modes decide, what they say. lasting says that it does not end by itself.
func (o *Object) Says() (may acl.Mask, lasting bool) {
	verdict, _ := o.verdict(access.ToAsk, 0)
	return verdict.Granted, verdict.ValidUntil.IsZero()
}

func (o *Object) require(want acl.Mask) error {
	verdict, err := o.verdict(access.InUse, want)
	if err == nil && !verdict.Allowed() {
		err = o.w.v.refuse(verdict.Gate, o.path)
	}
	return err
}

// denied is the error for what the verdict on the object does not allow.
func (o *Object) denied(want acl.Mask) error {
	err := o.require(want)
	if err == nil {
		err = o.w.v.refuse(access.Entry, o.path)
	}
	return err
}

// Lookup finds a name in a directory. "." is itself, and ".." its parent: at the export's
// root, itself.
func (o *Object) Lookup(name string) (*Object, error) {
	if !o.Dir() {
		return nil, ErrNotDirectory
	}
	if err := o.require(acl.Execute); err != nil {
		return nil, err
	}
	switch name {
	case ".":
		return o, nil
	case "..":
		if o.IsRoot() {
			return o, nil
		}
		dir, _ := split(o.path)
		return o.w.open(dir)
	}
	return o.child(name)
}

func (o *Object) child(name string) (*Object, error) {
	if err := checkName(name); err != nil {
		return nil, err
	}
	path := join(o.path, name)
	if len(path) > longestPath {
		return nil, ErrNameTooLong
	}
	c, err := o.w.open(path)
	if err != nil {
		return nil, err
	}
	o.w.state.spots.put(c.id(), !c.Dir(), spot{o.id(), name})
	if !c.Dir() && c.st.Nlink > 1 {
		o.w.state.spots.named(c.id(), spot{o.id(), name})
	}
	return c, nil
}

// Target reads a symbolic link.
func (o *Object) Target() (string, error) {
	if !o.Symlink() {
		return "", ErrInvalid
	}
	if err := o.MayLook(); err != nil {
		return "", err
	}
	fd, err := o.descriptor()
	if err != nil {
		return "", err
	}
	buf := make([]byte, longestPath)
	n, err := unix.Readlinkat(fd, "", buf)
	return string(buf[:max(n, 0)]), translate(err)
}

// Listed is one name of a directory. Cookie is where the listing goes on after it.
type Listed struct {
	Name   string
	Cookie uint64
	FileID uint64
}

// List lists a directory from a cookie on, 0 for its beginning, until visit says no more. Names
// come in the host's order, "." and ".." among them.
func (o *Object) List(cookie uint64, visit func(Listed) bool) error {
	if !o.Dir() {
		return ErrNotDirectory
	}
	if err := o.require(acl.ListDirectory); err != nil {
		return err
	}
	fd, err := openBeneath(o.w.root, o.path, unix.O_RDONLY|unix.O_DIRECTORY, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	if cookie != 0 {
		if _, err := unix.Seek(fd, int64(cookie), 0); err != nil {
			return ErrInvalid
		}
	}
	return readDirents(fd, make([]byte, direntBuffer), func(e dirent) bool {
		l := Listed{Name: e.name, Cookie: uint64(e.next), FileID: Key{Inode: e.ino, Mount: o.key.Mount}.fileID()}
		switch {
		case e.name == ".." && o.IsRoot():
			l.FileID = o.key.fileID()
		case e.name != "." && e.name != ".." && checkName(e.name) != nil:
			return true
		}
		return visit(l)
	})
}

// Child gives a name of a directory that has just been listed.
func (o *Object) Child(name string) (*Object, error) { return o.child(name) }

// Release closes an object before its visit ends, for listings of many.
func (o *Object) Release() {
	if i := len(o.w.opened) - 1; i >= 0 && o.w.opened[i] == o.fd {
		unix.Close(o.fd)
		o.w.opened = o.w.opened[:i]
	}
}
