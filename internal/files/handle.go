package files

import (
	"context"
	"errors"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/site"
)

// Handle is an open file or directory. It is safe for use by several goroutines.
type Handle struct {
	ns           *Namespace
	sub          Subject
	share        string
	folder       *folderState
	folderID     int64
	file         bool
	asked        acl.Mask // what it was opened for
	sharing      Sharing
	writeThrough bool
	created      bool
	info         Info // as opened
	of           *openFile

	mu            sync.RWMutex // guards what follows; fd is not closed while it is held for reading
	fd            int
	closed        bool
	path          string
	granted       acl.Mask
	policy        *site.Policy // by which granted was decided
	validUntil    time.Time
	wrote         bool
	deleteOnClose bool
}

// openFD opens the descriptor and looks at what it is.
func (h *Handle) openFD(root int, writing bool, create int) error {
	flags := unix.O_RDONLY | unix.O_NONBLOCK | unix.O_NOCTTY
	if h.file && writing {
		flags = unix.O_RDWR | unix.O_NONBLOCK | unix.O_NOCTTY
	}
	if !h.file {
		flags |= unix.O_DIRECTORY
	}
	mode := uint32(0)
	if create != 0 {
		mode = 0o660
	}
	fd, err := openBeneath(root, h.path, flags|create, mode)
	if err != nil {
		return err
	}
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		unix.Close(fd)
		return translate(err)
	}
	if t := st.Mode & unix.S_IFMT; t != unix.S_IFREG && t != unix.S_IFDIR || (t == unix.S_IFDIR) == h.file {
		unix.Close(fd) // a device, a pipe, or not what it was a moment ago
		return ErrDenied
	}
	if h.info, err = stat(fd); err != nil {
		unix.Close(fd)
		return err
	}
	h.fd = fd
	return nil
}

func (h *Handle) closeFD() { unix.Close(h.fd) }

// mark gives a new object its owner and attributes. Neither is worth failing for.
func (h *Handle) mark(v view, req OpenRequest) {
	if u := v.policy.Directory.User(v.sub.User); u != nil {
		gid := uint32(0)
		if g := v.policy.Directory.Group(u.Primary); g != nil {
			gid = g.GID
		}
		_ = setOwner(h.fd, u, gid)
	}
	if attrs := req.Attributes & keptAttributes; attrs != 0 {
		_ = setDOS(h.fd, attrs, time.Time{})
		h.info.Attributes = attrs
	}
}

func (h *Handle) settle(v view, verdict access.Verdict) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.granted, h.policy, h.validUntil = verdict.Granted&h.asked, v.policy, verdict.ValidUntil
}

// check refuses what the policy in force now does not grant this handle; with nothing
// needed, a handle to which nothing is left. A policy other than the one last looked at is
// looked at first.
func (h *Handle) check(need acl.Mask) error {
	p, now := h.ns.policy(), h.ns.now()
	h.mu.RLock()
	fresh := h.policy == p && (h.validUntil.IsZero() || now.Before(h.validUntil))
	granted, closed, path := h.granted, h.closed, h.path
	h.mu.RUnlock()
	if closed {
		return ErrClosed
	}
	if !fresh {
		v, err := h.ns.view(h.sub, h.share)
		if err != nil || v.share.Folder.ID != h.folderID {
			return ErrGone
		}
		verdict := v.effective(path, h.file)
		if h.created { // as long as they may still add there
			dir, _ := split(path)
			add := acl.AddFile
			if !h.file {
				add = acl.AddSubdirectory
			}
			if v.decide(dir, false, add).Allowed() {
				verdict.Granted |= creatorMask
			}
		}
		h.settle(v, verdict)
		granted = verdict.Granted & h.asked
	}
	if need == 0 && granted == 0 && h.asked != 0 {
		return ErrDenied
	}
	if need&^granted != 0 {
		if need&^h.asked != 0 {
			return ErrDenied // it was not opened for that
		}
		v, err := h.ns.view(h.sub, h.share)
		if err != nil {
			return err
		}
		return v.denied(path, h.file, need)
	}
	return nil
}

// Path is where the object is now, below its folder.
func (h *Handle) Path() string {
	h.mu.RLock()
	defer h.mu.RUnlock()
	return h.path
}

// Dir says whether it is a directory.
func (h *Handle) Dir() bool { return !h.file }

// Granted is what the handle was opened for.
func (h *Handle) Granted() acl.Mask { return h.asked }

// Maximum is the most that the subject may now do with the object.
func (h *Handle) Maximum() acl.Mask {
	v, err := h.ns.view(h.sub, h.share)
	if err != nil {
		return 0
	}
	return v.effective(h.Path(), h.file).Granted
}

// use runs fn with the descriptor, which is not closed meanwhile.
func (h *Handle) use(fn func(fd int) error) error {
	h.mu.RLock()
	defer h.mu.RUnlock()
	if h.closed {
		return ErrClosed
	}
	return fn(h.fd)
}

// Stat looks at the object.
func (h *Handle) Stat() (Info, error) {
	var info Info
	err := h.use(func(fd int) (err error) { info, err = stat(fd); return err })
	return info, err
}

// StatChecked looks at the object if the handle may do what is needed; 0 for whatever is
// open to it at all.
func (h *Handle) StatChecked(need acl.Mask) (Info, error) {
	if err := h.check(need); err != nil {
		return Info{}, err
	}
	return h.Stat()
}

// ReadAt reads into p from an offset in bytes; 0 bytes is the end of the file.
func (h *Handle) ReadAt(p []byte, off int64) (int, error) {
	need := acl.ReadData
	if h.asked&acl.ReadData == 0 && h.asked&acl.Execute != 0 {
		need = acl.Execute // MS-SMB2 section 3.3.5.12: execute reads too
	}
	if err := h.check(need); err != nil {
		return 0, err
	}
	if !h.file {
		return 0, ErrInvalid
	}
	if err := h.mayTouch(off, int64(len(p)), false); err != nil {
		return 0, err
	}
	n := 0
	err := h.use(func(fd int) error {
		for n < len(p) {
			m, err := unix.Pread(fd, p[n:], off+int64(n))
			if err == unix.EINTR {
				continue
			}
			if err != nil {
				return translate(err)
			}
			if m == 0 {
				break
			}
			n += m
		}
		return nil
	})
	return n, err
}

// WriteAt writes all of p at an offset in bytes. A handle that may only append
// may write from the end of the file on. through asks for it to be on disk.
func (h *Handle) WriteAt(p []byte, off int64, through bool) (int, error) {
	need := acl.WriteData
	if h.asked&acl.WriteData == 0 {
		need = acl.AppendData
	}
	if err := h.check(need); err != nil {
		return 0, err
	}
	if !h.file {
		return 0, ErrInvalid
	}
	if err := h.mayTouch(off, int64(len(p)), true); err != nil {
		return 0, err
	}
	n := 0
	err := h.use(func(fd int) error {
		if need == acl.AppendData {
			if info, err := stat(fd); err != nil || off < info.Size {
				return errors.Join(ErrDenied, err)
			}
		}
		for n < len(p) {
			m, err := unix.Pwrite(fd, p[n:], off+int64(n))
			if err == unix.EINTR {
				continue
			}
			if err != nil {
				return translate(err)
			}
			n += m
		}
		if through || h.writeThrough {
			return translate(unix.Fdatasync(fd))
		}
		return nil
	})
	h.touched()
	return n, err
}

func (h *Handle) touched() {
	h.mu.RLock()
	wrote := h.wrote
	h.mu.RUnlock()
	if !wrote {
		h.mu.Lock()
		h.wrote = true
		h.mu.Unlock()
	}
}

// Flush puts what was written on disk.
func (h *Handle) Flush() error {
	if err := h.check(0); err != nil {
		return err
	}
	return h.use(func(fd int) error { return translate(unix.Fsync(fd)) })
}

// Truncate sets the size in bytes.
func (h *Handle) Truncate(size int64) error {
	if err := h.check(acl.WriteData); err != nil {
		return err
	}
	if !h.file || size < 0 {
		return ErrInvalid
	}
	h.touched()
	return h.use(func(fd int) error { return translate(unix.Ftruncate(fd, size)) })
}

// overwrite empties a file that is replaced.
func (h *Handle) overwrite(attributes uint32) error {
	h.touched()
	return h.use(func(fd int) error {
		if err := unix.Ftruncate(fd, 0); err != nil {
			return translate(err)
		}
		return setDOS(fd, attributes|AttrArchive, time.Time{})
	})
}

// Times are what SetBasic sets; a zero time or a nil attribute set stays as it is.
type Times struct {
	Created, Accessed, Modified time.Time
	Attributes                  *uint32
}

// SetBasic sets times and attributes, MS-FSCC section 2.4.7.
func (h *Handle) SetBasic(t Times) error {
	if err := h.check(acl.WriteAttributes); err != nil {
		return err
	}
	return h.use(func(fd int) error {
		if t.Attributes != nil || !t.Created.IsZero() {
			info, err := stat(fd)
			if err != nil {
				return err
			}
			attrs, created := info.Attributes, info.Created
			if t.Attributes != nil {
				attrs = *t.Attributes
			}
			if !t.Created.IsZero() {
				created = t.Created
			}
			if err := setDOS(fd, attrs, created); err != nil {
				return err
			}
		}
		if t.Accessed.IsZero() && t.Modified.IsZero() {
			return nil
		}
		spec := func(t time.Time) unix.Timespec {
			if t.IsZero() {
				return unix.Timespec{Nsec: unix.UTIME_OMIT}
			}
			return unix.NsecToTimespec(t.UnixNano())
		}
		return translate(unix.UtimesNanoAt(fd, "", []unix.Timespec{spec(t.Accessed), spec(t.Modified)}, unix.AT_EMPTY_PATH))
	})
}

// mayDelete is for a handle that nobody else has yet, or that is locked.
func (h *Handle) mayDelete() error {
	if h.asked&acl.Delete == 0 {
		return ErrDenied
	}
	if h.path == "" {
		return ErrDenied
	}
	if h.info.Attributes&AttrReadOnly != 0 {
		return ErrReadOnlyFile
	}
	if h.file {
		return nil
	}
	names, err := readNames(h.fd)
	if err == nil && len(names) > 0 {
		return ErrNotEmpty
	}
	return err
}

// SetDelete marks the object to be deleted when its last handle is closed, or
// takes that back (MS-FSCC section 2.4.11).
func (h *Handle) SetDelete(pending bool) error {
	if err := h.check(acl.Delete); err != nil {
		return err
	}
	info, err := h.Stat()
	if err != nil {
		return err
	}
	h.mu.Lock()
	h.info.Attributes = info.Attributes
	if pending {
		err = h.mayDelete()
	}
	h.mu.Unlock()
	if err != nil {
		return err
	}
	h.ns.mu.Lock()
	defer h.ns.mu.Unlock()
	h.of.deletePending = pending
	return nil
}

// DeletePending says whether the object will be deleted.
func (h *Handle) DeletePending() bool {
	h.ns.mu.Lock()
	defer h.ns.mu.Unlock()
	return h.of.deletePending
}

// Close closes the handle, and deletes the object if that was asked for and it is
// the last.
func (h *Handle) Close() error {
	h.folder.paths.RLock()
	defer h.folder.paths.RUnlock()
	h.mu.Lock()
	if h.closed {
		h.mu.Unlock()
		return ErrClosed
	}
	h.closed = true
	path, wrote, fd := h.path, h.wrote, h.fd
	h.mu.Unlock()
	h.release(func(Range) bool { return true }, false)

	n := h.ns
	n.mu.Lock()
	delete(h.of.handles, h)
	delete(h.folder.handles, h)
	if h.deleteOnClose {
		h.of.deletePending = true
	}
	last := len(h.of.handles) == 0
	remove := last && h.of.deletePending
	if last && !remove {
		delete(n.open, h.of.id)
	}
	n.mu.Unlock()

	var err error
	if remove {
		// It stays pending, so that nobody opens it meanwhile.
		err = n.remove(h, path)
		n.mu.Lock()
		delete(n.open, h.of.id)
		n.mu.Unlock()
	} else if wrote {
		n.notify.tell(h.folderID, Event{Path: path, Kind: EventModified})
	}
	unix.Close(fd)
	return err
}

// remove unlinks what a handle was open on, if it is still what is there.
func (n *Namespace) remove(h *Handle, path string) error {
	v, err := n.view(h.sub, h.share)
	if err != nil {
		return err
	}
	root, err := openRoot(v.share.Folder.Root)
	if err != nil {
		return err
	}
	defer unix.Close(root)
	dir, name := split(path)
	parent, err := openBeneath(root, dir, unix.O_RDONLY|unix.O_DIRECTORY, 0)
	if err != nil {
		return err
	}
	defer unix.Close(parent)
	err = n.index.changing(parent, func() error {
		var st unix.Stat_t
		if err := unix.Fstatat(parent, name, &st, unix.AT_SYMLINK_NOFOLLOW); err != nil {
			return translate(err)
		}
		if (fileID{st.Dev, st.Ino}) != h.info.id() {
			return ErrNotFound
		}
		flags := 0
		if !h.file {
			flags = unix.AT_REMOVEDIR
		}
		return translate(unix.Unlinkat(parent, name, flags))
	}, func(names map[string]string) { delete(names, FoldName(name)) })
	if err == nil {
		n.notify.tell(h.folderID, Event{Path: path, Kind: EventRemoved, Dir: !h.file})
	}
	return err
}

// Rename moves the object to another path of the same share (MS-FSCC section
// 2.4.43). With replace, a file already there makes way.
func (h *Handle) Rename(ctx context.Context, to string, replace bool) error {
	if err := h.check(acl.Delete); err != nil {
		return err
	}
	if err := checkPath(to); err != nil {
		return err
	}
	if h.Path() == "" || to == "" {
		return ErrDenied
	}
	h.folder.paths.Lock()
	defer h.folder.paths.Unlock()
	n := h.ns
	v, err := n.view(h.sub, h.share)
	if err != nil {
		return err
	}
	root, err := openRoot(v.share.Folder.Root)
	if err != nil {
		return err
	}
	defer unix.Close(root)
	from := h.Path()
	place, err := n.target(v, root, h, from, to)
	if err != nil {
		return err
	}
	if place.Exists && place.Path != from {
		same, err := sameObject(root, place.Path, h.info.id())
		if err != nil {
			return err
		}
		if !same {
			if !replace {
				return ErrExists
			}
			if err := n.mayReplace(v, root, h, place); err != nil {
				return err
			}
		}
	}
	// The last name as the client spells it: a rename may change only the case.
	dir, _ := split(place.Path)
	_, name := split(to)
	if !place.Exists {
		_, name = split(place.Path)
	}
	final := join(dir, name)
	if final == from {
		return nil
	}
	move := func() error { return n.renameOnDisk(root, from, place, final) }
	if v.share.Folder.Tree.HasRulesAt(from) {
		err = n.rules.MoveRules(ctx, h.folderID, from, final, move)
	} else {
		err = move()
	}
	if err != nil {
		return err
	}
	n.moved(h.folderID, h.folder, from, final)
	n.notify.tell(h.folderID, Event{Path: from, NewPath: final, Kind: EventRenamed, Dir: !h.file})
	return nil
}

// target resolves where a rename leads and checks what it takes: to add there, and
// not to lift a file out of the rules that govern it without being able to read it.
func (n *Namespace) target(v view, root int, h *Handle, from, to string) (Place, error) {
	place, err := find(root, to, n.index)
	if err != nil {
		return Place{}, err
	}
	dir, _ := split(place.Path)
	if !place.Exists && !place.ParentExists {
		return Place{}, ErrPathNotFound
	}
	if !h.file && under(place.Path, from) && place.Path != from {
		return Place{}, ErrInvalid
	}
	was, _ := split(from)
	need := acl.AddFile
	if !h.file {
		need = acl.AddSubdirectory
	}
	if dir != was || !place.Exists {
		if verdict := v.decide(dir, false, need); !verdict.Allowed() {
			return Place{}, v.denied(dir, false, need)
		}
	}
	if tree := v.share.Folder.Tree; tree.DeepestRule(was) != tree.DeepestRule(dir) {
		if read := acl.Read.Mask(!h.file); v.effective(from, h.file).Granted&read != read {
			return Place{}, v.denied(from, h.file, read)
		}
	}
	if !h.file { // nothing below may be open: its path would change under it
		n.mu.Lock()
		defer n.mu.Unlock()
		for other := range h.folder.handles {
			if p := other.Path(); p != from && under(p, from) {
				return Place{}, ErrDenied
			}
		}
	}
	return place, nil
}

func (n *Namespace) mayReplace(v view, root int, h *Handle, place Place) error {
	if !place.File || !h.file {
		return ErrDenied
	}
	if v.effective(place.Path, true).Granted&acl.Delete == 0 {
		return v.denied(place.Path, true, acl.Delete)
	}
	fd, err := openBeneath(root, place.Path, unix.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	info, err := stat(fd)
	if err != nil {
		return err
	}
	if info.Attributes&AttrReadOnly != 0 {
		return ErrDenied
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	if n.open[info.id()] != nil {
		return ErrDenied
	}
	return nil
}

func sameObject(root int, path string, id fileID) (bool, error) {
	fd, err := openBeneath(root, path, unix.O_PATH, 0)
	if err != nil {
		return false, err
	}
	defer unix.Close(fd)
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return false, translate(err)
	}
	return fileID{st.Dev, st.Ino} == id, nil
}

func (n *Namespace) renameOnDisk(root int, from string, place Place, final string) error {
	fromDir, fromName := split(from)
	toDir, toName := split(final)
	src, err := openBeneath(root, fromDir, unix.O_RDONLY|unix.O_DIRECTORY, 0)
	if err != nil {
		return err
	}
	defer unix.Close(src)
	dst, err := openBeneath(root, toDir, unix.O_RDONLY|unix.O_DIRECTORY, 0)
	if err != nil {
		return err
	}
	defer unix.Close(dst)
	return n.index.changing(src, func() error {
		if place.Exists { // takes the place of what is there, under the name there
			_, there := split(place.Path)
			if err := unix.Renameat(src, fromName, dst, there); err != nil {
				return translate(err)
			}
			if there == toName {
				return nil
			}
			return translate(unix.Renameat2(dst, there, dst, toName, unix.RENAME_NOREPLACE))
		}
		return translate(unix.Renameat2(src, fromName, dst, toName, unix.RENAME_NOREPLACE))
	}, func(names map[string]string) {
		delete(names, FoldName(fromName))
		if fromDir == toDir {
			names[FoldName(toName)] = toName
		}
	})
}

// moved tells the handles on what was renamed, and below it, where they are now.
func (n *Namespace) moved(folder int64, state *folderState, from, to string) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for h := range state.handles {
		h.mu.Lock()
		if under(h.path, from) {
			h.path = to + h.path[len(from):]
			h.policy = nil // decide anew
		}
		h.mu.Unlock()
	}
}

// DirEntry is one name of a directory.
type DirEntry struct {
	Name string
	Info Info
}

// Names lists a directory's names, in no order, "." and ".." left out.
func (h *Handle) Names() ([]string, error) {
	if err := h.check(acl.ListDirectory); err != nil {
		return nil, err
	}
	if h.file {
		return nil, ErrNotDirectory
	}
	var names []string
	err := h.use(func(fd int) (err error) { names, err = readNames(fd); return err })
	return names, err
}

// Look gives what a listing shows of one name. It is false for what is not shown: gone
// since, a device or a pipe, a link that leads nowhere, a name that is not UTF-8, or
// what the share hides because the subject may not open it.
func (h *Handle) Look(name string) (DirEntry, bool) {
	v, err := h.ns.view(h.sub, h.share)
	if err != nil || checkName(name) != nil {
		return DirEntry{}, false
	}
	var info Info
	path := join(h.Path(), name)
	err = h.use(func(fd int) error {
		obj, err := openBeneath(fd, name, unix.O_RDONLY|unix.O_NONBLOCK|unix.O_NOCTTY, 0)
		if err != nil {
			return err
		}
		defer unix.Close(obj)
		var st unix.Stat_t
		if err := unix.Fstat(obj, &st); err != nil {
			return err
		}
		if t := st.Mode & unix.S_IFMT; t != unix.S_IFREG && t != unix.S_IFDIR {
			return ErrInvalid
		}
		info, err = stat(obj)
		return err
	})
	if errors.Is(err, ErrDenied) { // a link, perhaps
		root, rerr := openRoot(v.share.Folder.Root)
		if rerr != nil {
			return DirEntry{}, false
		}
		defer unix.Close(root)
		place, rerr := find(root, path, h.ns.index)
		if rerr != nil || !place.Exists {
			return DirEntry{}, false
		}
		path = place.Path
		obj, rerr := openBeneath(root, path, unix.O_RDONLY|unix.O_NONBLOCK|unix.O_NOCTTY, 0)
		if rerr != nil {
			return DirEntry{}, false
		}
		defer unix.Close(obj)
		info, err = stat(obj)
	}
	if err != nil {
		return DirEntry{}, false
	}
	if v.share.ListOnlyOpenable {
		need := acl.ReadData
		if info.Dir {
			need = acl.ListDirectory
		}
		if !v.decide(path, !info.Dir, need).Allowed() {
			return DirEntry{}, false
		}
	}
	return DirEntry{name, info}, true
}

// Parent looks at the directory that holds this one, or at itself at the root.
func (h *Handle) Parent() (Info, error) {
	path := h.Path()
	if path == "" {
		return h.Stat()
	}
	var info Info
	err := h.use(func(fd int) error {
		dir, err := unix.Openat(fd, "..", unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
		if err != nil {
			return translate(err)
		}
		defer unix.Close(dir)
		info, err = stat(dir)
		return err
	})
	return info, err
}
