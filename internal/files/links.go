package files

import (
	"context"
	"strings"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/acl"
)

// Symbolic links over SMB. A share either has them followed by the service, within the folder, so that clients never see one; or it tells clients
// of them, which then follow them themselves, by a path that is decided about as any other is (MS-SMB2 section 2.2.2.2.1).

// LinkMet is the error for a path that leads through a symbolic link, of a client that follows it itself.
type LinkMet struct {
	Target string // as it is written in the link
	Rest   string // of the path, after the link
}

func (l *LinkMet) Error() string { return "a symbolic link leads to " + l.Target }

// tellsLinks says whether symbolic links are told of and not followed.
func (v view) tellsLinks() bool { return v.share != nil && v.share.ShowLinks }

// noContents says whether there is nothing to read or to write in it.
func (h *Handle) noContents() bool { return h.Dir() || h.Linked() }

// statLink is statAt for what may be a link.
func statLink(dir int, path string) (Info, error) {
	fd, err := openBeneath(dir, path, unix.O_PATH|unix.O_NOFOLLOW, 0)
	if err != nil {
		return Info{}, err
	}
	defer unix.Close(fd)
	return stat(fd)
}

// leadsToDir says whether a link leads to a directory of its folder, by a way that the subject may look along.
func (v view) leadsToDir(path string, index *foldIndex) bool {
	root, err := openFolder(v.folder.At)
	if err != nil {
		return false
	}
	defer unix.Close(root)
	place, err := find(root, path, index)
	return err == nil && place.Exists && !place.File && v.decide(place.Path, false, acl.ReadAttributes).Allowed()
}

func (h *Handle) leadsToDir() bool {
	v, err := h.ns.view(h.sub, h.share)
	return err == nil && v.leadsToDir(h.Path(), h.ns.index)
}

// Linked says whether the handle is open on a symbolic link itself.
func (h *Handle) Linked() bool { return h.linked || h.became.Load() != nil }

// Target is where the symbolic link leads that the handle is open on: ErrInvalid where that is none.
func (h *Handle) Target() (string, error) {
	if err := h.check(0); err != nil {
		return "", err
	}
	became := h.became.Load()
	if !h.linked && became == nil {
		return "", ErrInvalid
	}
	if h.Maximum()&acl.ReadAttributes == 0 {
		return "", ErrDenied
	}
	buf := make([]byte, longestPath)
	n := 0
	err := h.use(func(fd int) (err error) {
		if became != nil {
			fd = became.fd
		}
		if err := before(callLook, fd); err != nil {
			return translate(err)
		}
		n, err = unix.Readlinkat(fd, "", buf)
		return translate(err)
	})
	return string(buf[:max(n, 0)]), err
}

// becameLink is the symbolic link that has taken the place of what a handle made.
type becameLink struct{ fd int }

// SetTarget puts a symbolic link in the place of an empty file, or directory, that the handle has just made: that is how links are made over SMB
// (MS-FSA section 2.1.5.10.37). Where it leads is for clients to make sense of.
func (h *Handle) SetTarget(ctx context.Context, target string) error {
	switch {
	case len(target) >= longestPath:
		return ErrNameTooLong
	case target == "" || strings.ContainsRune(target, 0):
		return ErrInvalid
	}
	const either = acl.WriteData | acl.WriteAttributes
	if h.asked&either == 0 || !h.created || h.linked || h.streamed {
		return ErrDenied
	}
	if err := h.check(h.asked & either); err != nil {
		return err
	}
	h.folder.paths.RLock()
	defer h.folder.paths.RUnlock()
	h.mu.Lock() // it is nothing else meanwhile
	defer h.mu.Unlock()
	v, err := h.ns.view(h.sub, h.share)
	switch {
	case err != nil:
		return err
	case h.closed:
		return ErrClosed
	case !v.tellsLinks():
		return ErrNotSupported
	case h.became.Load() != nil:
		return ErrExists
	}
	h.ns.mu.Lock()
	alone := len(h.of.handles) == 1 && len(h.of.leases) == 0 && !h.of.deletePending
	h.ns.mu.Unlock()
	if !alone {
		return ErrSharing
	}
	info, err := stat(h.fd)
	if err != nil {
		return err
	}
	if info.Size > 0 || streamBytes(xattrsOf(h.fd)) > 0 {
		return ErrInvalid
	}
	path := h.Path()
	dir, name := split(path)
	if err := v.require(dir, false, toAdd(true)); err != nil {
		return err
	}
	root, err := openFolder(v.folder.At)
	if err != nil {
		return err
	}
	defer unix.Close(root)
	parent, err := openBeneath(root, dir, unix.O_RDONLY|unix.O_DIRECTORY, 0)
	if err != nil {
		return err
	}
	defer unix.Close(parent)
	m, err := v.maker(parent, path, unix.S_IFLNK, int64(len(target)), 0o777)
	if err != nil {
		return err
	}
	if err := v.alter().remove(h.fd, h.going(v, directory{parent, dir}, name, !h.file)); err != nil {
		return err
	}
	l := becameLink{-1}
	err = v.make(m, func() (int, error) {
		if err := makeLink(parent, name, target); err != nil {
			return -1, err
		}
		l.fd, err = openBeneath(parent, name, unix.O_PATH|unix.O_NOFOLLOW, 0)
		return l.fd, err
	})
	if err != nil {
		if l.fd >= 0 {
			unix.Close(l.fd)
		}
		return err
	}
	h.folder.spots.drop(h.info.id())
	h.became.Store(&l)
	h.ns.notify.tell(h.folderID, Event{Path: path, Kind: EventModified, by: h.parentKey})
	return flush(parent)
}
