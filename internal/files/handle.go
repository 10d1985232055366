package files

import (
	"fmt"
	"sync"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/usage"
)

// Handle is an open file or directory. It is safe for use by several goroutines.
type Handle struct {
	ns           *Namespace
	sub          Subject
	share        string
	folder       *folderState
	folderID     int64
	from         string // for whom it counts as open, once it is held
	number       uint64 // goes up with each
	since        time.Time
	held         bool
	file         bool
	streamed     bool // it is open on a named stream: see streams.go
	linked       bool // it is open on a symbolic link itself: see links.go
	became       atomic.Pointer[becameLink]
	asked        acl.Mask // what it was opened for
	sharing      Sharing  // guarded by Namespace.mu once registered, as is claims
	claims       Sharing  // what others have to share with it
	writeThrough bool
	created      bool
	holder       any
	parentKey    any
	lease        *Lease // guarded by Namespace.mu; leased says without it whether there is one
	leased       atomic.Bool
	info         Info // as opened
	of           *openFile
	toldRead     atomic.Bool
	toldWrote    atomic.Bool
	plainAt      atomic.Int64 // see altering
	data         open         // for altering it
	counted      counted
	path         atomic.Pointer[string] // see setPath: it changes while the object is held
	// verdict is nil once it does not hold any more. No lock guards it that is held while a disk is asked.
	verdict atomic.Pointer[settled]

	mu            sync.RWMutex // guards what follows; fd is not closed while it is held for reading
	fd            int
	closed        bool
	wrote         bool
	deleteOnClose bool
}

// settled is the last verdict on a handle.
type settled struct {
	granted    acl.Mask
	policy     *site.Policy // by which it was decided
	validUntil time.Time
}

// openFD opens the descriptor, by a path below an open directory, and looks at what it is.
func (h *Handle) openFD(from int, path string, writing bool, create int) error {
	flags := unix.O_RDONLY | unix.O_NONBLOCK | unix.O_NOCTTY
	if h.file && writing {
		flags = unix.O_RDWR | unix.O_NONBLOCK | unix.O_NOCTTY
	}
	switch {
	case h.linked:
		flags = unix.O_PATH | unix.O_NOFOLLOW
	case !h.file:
		flags |= unix.O_DIRECTORY
	}
	mode := uint32(0)
	if create != 0 {
		mode = bornFile
	}
	fd, err := openBeneath(from, path, flags|create, mode)
	if err != nil {
		return err
	}
	if h.info, err = stat(fd); err == nil {
		switch {
		case h.info.special: // a device, a pipe
			err = ErrDenied
		case h.info.Link != h.linked || h.info.Dir == h.file:
			err = errOther
		}
	}
	if err != nil {
		unix.Close(fd)
		return err
	}
	h.fd = fd
	h.data = open{fd: fd, id: h.info.id().usage(), names: h.namesNow, path: h.Path, counted: &h.counted}
	return nil
}

// errOther says that what is opened is not what it was a moment ago.
var errOther = fmt.Errorf("%w: another is there by now", ErrDenied)

// alter is for altering what the handle is open on.
func (h *Handle) alter() alter {
	v, err := h.ns.view(h.sub, h.share)
	if err != nil { // it has just gone
		return alter{ledger: h.ns.ledger, folder: h.folderID, refused: func(path string, over *usage.Over) error { return &Full{Over: over, Path: path} }}
	}
	return v.alter()
}

// namesNow are all names of the object.
func (h *Handle) namesNow() ([]string, error) {
	f := h.ns.policy().Folder(h.folderID)
	if f == nil {
		return nil, ErrGone
	}
	return h.ns.namesOf(f, h.folder, h.data.fd, h.Path()), nil
}

func (h *Handle) closeFD() { unix.Close(h.fd) }

func (h *Handle) settle(v view, verdict access.Verdict) acl.Mask {
	granted := verdict.Granted
	if h.streamed {
		granted = forStream(granted, !h.file)
	}
	granted &= h.asked
	h.verdict.Store(&settled{granted, v.policy, verdict.ValidUntil})
	return granted
}

// check refuses what the policy in force now does not grant this handle; with nothing
// needed, a handle to which nothing is left. A policy other than the one last looked at is
// looked at first.
func (h *Handle) check(need acl.Mask) error {
	p, now := h.ns.policy(), h.ns.now()
	h.mu.RLock()
	closed := h.closed
	h.mu.RUnlock()
	if closed {
		return ErrClosed
	}
	var granted acl.Mask
	path := h.Path()
	if m := h.verdict.Load(); m != nil && m.policy == p && (m.validUntil.IsZero() || now.Before(m.validUntil)) {
		granted = m.granted
	} else {
		var err error
		if granted, err = h.decideAnew(); err != nil {
			return err
		}
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

// Settle takes the verdict on the handle if it is not known, so that what follows need not ask the disk for it.
func (h *Handle) Settle() { _ = h.check(0) }

// decideAnew takes the verdict on a handle by the policy in force and where it is now.
func (h *Handle) decideAnew() (acl.Mask, error) {
	v, err := h.ns.view(h.sub, h.share)
	if err != nil || v.folder.ID != h.folderID {
		return 0, ErrGone
	}
	others, err := h.othersNow(v)
	if err != nil {
		return 0, err
	}
	h.folder.renaming.RLock()
	defer h.folder.renaming.RUnlock()
	if v, err = h.ns.view(h.sub, h.share); err != nil || v.folder.ID != h.folderID {
		return 0, ErrGone
	}
	path := h.Path()
	verdict := v.decideNamed(access.InUse, path, others, h.file, 0)
	if h.created { // as long as they may still add there
		dir, _ := split(path)
		if v.decide(dir, false, toAdd(h.file)).Allowed() {
			verdict.Granted |= creatorMask
		}
	}
	return h.settle(v, verdict), nil
}

// Path is where the object is now, below its folder.
func (h *Handle) Path() string { return *h.path.Load() }

func (h *Handle) setPath(path string) { h.path.Store(&path) }

// Dir says whether it is a directory.
func (h *Handle) Dir() bool { return !h.file && !h.streamed }

// Granted is what the handle was opened for.
func (h *Handle) Granted() acl.Mask { return h.asked }

// Maximum is the most that the subject may now do with the object.
func (h *Handle) Maximum() acl.Mask {
	v, err := h.ns.view(h.sub, h.share)
	if err != nil {
		return 0
	}
	return v.decide(h.Path(), h.file, 0).Granted
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
	info, err := h.Object()
	if h.streamed && err == nil {
		var data []byte
		if data, err = h.own(); err == nil {
			info.Dir, info.Size = false, int64(len(data))
			info.Allocated = streamTakes(info.Size)
		}
	}
	return info, err
}

// Object looks at the object of which the handle may be open on a stream.
func (h *Handle) Object() (info Info, err error) {
	err = h.use(func(fd int) error {
		l := h.became.Load()
		if l != nil {
			fd = l.fd
		}
		if info, err = stat(fd); err == nil && info.Link {
			info.ToDir = h.leadsToDir()
		}
		return err
	})
	return info, err
}

// Opened is the object as it was when it was opened.
func (h *Handle) Opened() Info { return h.info }

// StatChecked looks at the object if the handle may do what is needed; 0 for whatever is
// open to it at all.
func (h *Handle) StatChecked(need acl.Mask) (Info, error) {
	if err := h.check(need); err != nil {
		return Info{}, err
	}
	return h.Stat()
}

// mayDelete is for a handle that nobody else has yet, or that is locked.
func (h *Handle) mayDelete() error {
	if h.asked&acl.Delete == 0 {
		return ErrDenied
	}
	if h.Path() == "" && !h.streamed {
		return ErrDenied
	}
	if h.info.Attributes&AttrReadOnly != 0 {
		return ErrReadOnlyFile
	}
	if !h.Dir() {
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
	return h.close()
}

func (h *Handle) close() error {
	h.mu.Lock()
	if h.closed {
		h.mu.Unlock()
		return ErrClosed
	}
	h.closed = true
	path, wrote, fd := h.Path(), h.wrote, h.fd
	h.mu.Unlock()
	h.release(func(Range) bool { return true }, false)

	n := h.ns
	n.mu.Lock()
	delete(h.of.handles, h)
	delete(h.folder.handles, h)
	h.leave()
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
		if h.streamed {
			err = n.removeStream(h)
		} else {
			err = n.remove(h, path)
		}
		n.mu.Lock()
		delete(n.open, h.of.id)
		n.mu.Unlock()
	} else if wrote {
		n.notify.tell(h.folderID, Event{Path: path, Kind: EventModified, by: h.parentKey})
	}
	if last && h.file && !h.streamed {
		n.ledger.Folder(h.folderID).Closed(h.of.id.usage())
	}
	unix.Close(fd)
	if l := h.became.Load(); l != nil {
		unix.Close(l.fd)
	}
	if h.held { // not while it is still being opened
		n.budget.give(h.from)
	}
	return err
}

// going is the name that the handle's object has in a directory, about to be taken away.
func (h *Handle) going(v view, in directory, name string, isDir bool) going {
	n, path := h.ns, join(in.path, name)
	names := func() ([]string, error) { return n.namesFor(v.folder, h.folder, h.fd, path), nil }
	return going{directory: in, name: name, dir: isDir, names: names, index: n.index}
}

// remove unlinks what a handle was open on, if it is still what is there.
func (n *Namespace) remove(h *Handle, path string) error {
	v, err := n.view(h.sub, h.share)
	if err != nil {
		return err
	}
	root, err := openFolder(v.folder.At)
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
	fd, isDir := h.fd, !h.file
	if l := h.became.Load(); l != nil {
		fd, isDir = l.fd, false
	}
	err = v.alter().remove(fd, h.going(v, directory{parent, dir}, name, isDir))
	if err == nil {
		if isDir {
			h.folder.epoch.Add(1) // see Visit.removed
		}
		h.folder.spots.drop(h.info.id())
		n.cache.drop(h.info.id())
		var st unix.Statx_t
		if statx(fd, &st) == nil && st.Nlink == 0 {
			n.forgetMaker(madeKeyOf(&st))
		}
		n.notify.tell(h.folderID, Event{Path: path, Kind: EventRemoved, Dir: !h.file, by: h.parentKey})
		v.gone(path)
	}
	return err
}
