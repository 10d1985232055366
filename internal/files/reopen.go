package files

import (
	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/acl"
)

// Lasting is what there is to know of a handle on a file, so that a service that was started anew can open it again for whoever had it open.
type Lasting struct {
	Folder       int64
	Path         string // below the folder
	Stream       string `json:",omitzero"`
	OfDirectory  bool   `json:",omitzero"` // the stream
	Inode        uint64
	Asked        acl.Mask
	Sharing      Sharing
	WriteThrough bool    `json:",omitzero"`
	Created      bool    `json:",omitzero"` // by the handle
	Deletes      bool    `json:",omitzero"` // the file, when it is closed
	Pending      bool    `json:",omitzero"` // the file is to be deleted when nobody has it open any more
	Locks        []Range `json:",omitempty"`
	Cached       Caching `json:",omitzero"`
	Epoch        uint16  `json:",omitzero"`
}

// Lasting gives it as it is now.
func (h *Handle) Lasting() Lasting {
	k := Lasting{Folder: h.folderID, Path: h.Path(), Inode: h.info.Inode, Stream: h.Stream(), OfDirectory: !h.file, Asked: h.asked,
		WriteThrough: h.writeThrough, Created: h.created}
	h.ns.mu.Lock()
	k.Sharing, k.Pending = h.sharing, h.of.deletePending
	if h.lease != nil {
		k.Cached, k.Epoch = h.lease.state, h.lease.epoch
	}
	h.ns.mu.Unlock()
	h.mu.RLock()
	k.Deletes = h.deleteOnClose
	h.mu.RUnlock()
	l := &h.of.locks
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, have := range l.held {
		if have.By == h {
			k.Locks = append(k.Locks, have.Range)
		}
	}
	return k
}

// Reopen opens again what a service had open before it was started anew, for the same subject by the same entrance: the same file, with the same
// locks, against all who came since. What it may be used for is decided at each use, as ever. It is an error where the file is not there any
// more, the subject may not come in, or somebody has it open in a way that it cannot be shared.
func (n *Namespace) Reopen(sub Subject, share string, k Lasting, key any) (*Handle, error) {
	v, err := n.view(sub, share)
	if err != nil {
		return nil, err
	}
	if v.folder.ID != k.Folder || checkPath(k.Path) != nil || k.OfDirectory && k.Stream == "" || k.Stream != "" && CheckStream(k.Stream) != nil {
		return nil, ErrGone
	}
	state := n.folder(v.folder.ID)
	state.paths.RLock()
	defer state.paths.RUnlock()
	root, err := openFolder(v.folder.At)
	if err != nil {
		return nil, err
	}
	defer unix.Close(root)
	h, _, err := n.within(v.sub, func() (*Handle, Action, error) {
		h := &Handle{ns: n, sub: v.sub, share: v.entrance(), folder: state, folderID: k.Folder, file: !k.OfDirectory, streamed: k.Stream != "",
			asked: k.Asked & acl.All, sharing: k.Sharing, writeThrough: k.WriteThrough, created: k.Created}
		h.setPath(k.Path)
		if err := h.openFD(root, h.Path(), k.Stream == "" && k.Asked&(acl.WriteData|acl.AppendData) != 0, 0); err != nil {
			return nil, 0, err
		}
		err := error(ErrGone) // another file has its name now
		if h.info.Inode == k.Inode {
			err = n.register(h, k.Stream, key, k.Deletes, false)
		}
		if err != nil {
			h.closeFD()
			return nil, 0, err
		}
		return h, Opened, nil
	})
	if err != nil {
		return nil, err
	}
	if h.streamed {
		if h.info, err = h.Stat(); err != nil { // it has no such stream any more
			h.abandon()
			return nil, err
		}
	}
	for _, r := range k.Locks {
		if _, err := h.Lock(r); err != nil {
			h.abandon() // it was not closed by whoever had it open
			return nil, err
		}
	}
	n.mu.Lock()
	h.of.deletePending = h.of.deletePending || k.Pending
	n.mu.Unlock()
	return h, nil
}

// Suspend is for a handle that is closed as the service ends, and opened again when it is started anew: what it is open on is not deleted meanwhile.
func (h *Handle) Suspend() {
	h.mu.Lock()
	h.deleteOnClose = false
	h.mu.Unlock()
	h.ns.mu.Lock()
	defer h.ns.mu.Unlock()
	h.of.deletePending = false
}

// Resume has a lease go on where it was before the service was started anew.
func (l *Lease) Resume(epoch uint16) {
	l.n.mu.Lock()
	defer l.n.mu.Unlock()
	l.epoch = max(l.epoch, epoch)
}
