package files

import (
	"errors"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/acl"
)

// Open opens a regular file that is there, as NFS version 4 does: req says with what access and
// sharing; its share, path and disposition are not looked at.
func (o *Object) Open(req OpenRequest) (*Handle, error) {
	switch {
	case o.Dir():
		return nil, ErrIsDirectory
	case !o.Regular():
		return nil, ErrInvalid
	}
	req.Disposition, req.Directory = OpenOnly, false
	place := Place{Path: o.path, Exists: true, File: true}
	h, _, err := o.w.n.within(o.w.v.sub, func() (*Handle, Action, error) { return o.w.n.openExisting(o.w.v, o.w.state, o.w.root, place, req) })
	var search *searchNames
	if errors.As(err, &search) {
		o.w.wanted = append(o.w.wanted, search.key)
		err = ErrBusy
	}
	return h, err
}

// OpenNew makes a regular file and opens it: ErrExists where something is there.
func (o *Object) OpenNew(name string, req OpenRequest, set Set) (*Handle, *Object, error) {
	if err := o.mayAdd(name, true); err != nil {
		return nil, nil, err
	}
	mode := uint32(0o600)
	if set.Mode != nil {
		mode = *set.Mode
	}
	req.Disposition, req.Directory, req.Mode = CreateOnly, false, &mode
	parent, err := o.asDirectory()
	if err != nil {
		return nil, nil, err
	}
	path := join(o.path, name)
	h, _, err := o.w.n.within(o.w.v.sub, func() (*Handle, Action, error) { return o.w.n.createIn(o.w.v, o.w.state, parent, path, req) })
	if err != nil {
		return nil, nil, err
	}
	var c *Object
	fd, err := unix.FcntlInt(uintptr(h.fd), unix.F_DUPFD_CLOEXEC, 0)
	if err == nil {
		c, err = o.w.at(path, fd, true)
	}
	if err == nil {
		set.Mode = nil
		err = c.set(set, true)
	}
	if err == nil {
		o.w.n.noteMaker(madeKeyOf(&c.st), o.w.v.nfs)
		err = flush(parent)
	}
	if err != nil {
		return nil, nil, errors.Join(err, h.Discard())
	}
	return h, c, nil
}

// Drop closes a handle within a visit, which Close must not be called in.
func (h *Handle) Drop() error { return h.close() }

// Discard is Drop for what was just made and is not to stay.
func (h *Handle) Discard() error {
	h.mu.Lock()
	h.deleteOnClose = true
	h.mu.Unlock()
	return h.close()
}

// abandon closes what could not be opened after all: it is not deleted.
func (h *Handle) abandon() {
	h.mu.Lock()
	h.deleteOnClose = false
	h.mu.Unlock()
	_ = h.close()
}

// Narrow has a handle shut others out less, as NFS's OPEN_DOWNGRADE does: it goes on as if
// it had been opened for that access only.
func (h *Handle) Narrow(access acl.Mask, sharing Sharing) {
	h.ns.mu.Lock()
	defer h.ns.mu.Unlock()
	h.claims, h.sharing = sharingNeeded(access), sharing
}

// Sync puts what was written on disk as far as asked.
func (h *Handle) Sync(stable Stability) error {
	return h.use(func(fd int) error { return syncTo(fd, stable) })
}

// Size is the length in bytes.
func (h *Handle) Size() (uint64, error) {
	var size uint64
	err := h.use(func(fd int) error {
		var st unix.Statx_t
		err := statx(fd, &st)
		size = st.Size
		return err
	})
	return size, err
}

// TestRange gives a lock on the object that would stand in an owner's way; nil when there is none.
func (o *Object) TestRange(owner any, r Range) (*Held, error) {
	switch {
	case o.Dir():
		return nil, ErrIsDirectory
	case !o.Regular():
		return nil, ErrInvalid
	}
	if err := o.MayLook(); err != nil {
		return nil, err
	}
	o.w.n.mu.Lock()
	of := o.w.n.open[o.id().data()]
	o.w.n.mu.Unlock()
	if of == nil {
		return nil, nil
	}
	l := &of.locks
	l.mu.Lock()
	defer l.mu.Unlock()
	if have := l.conflict(owner, r); have != nil {
		found := *have
		return &found, nil
	}
	return nil, nil
}
