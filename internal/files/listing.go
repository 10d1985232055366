package files

import (
	"errors"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/acl"
)

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
	err = h.use(func(fd int) (err error) { info, err = statAt(fd, name); return err })
	if errors.Is(err, ErrDenied) { // a link, perhaps
		root, rerr := openRoot(v.folder.Root)
		if rerr != nil {
			return DirEntry{}, false
		}
		defer unix.Close(root)
		place, rerr := find(root, path, h.ns.index)
		if rerr != nil || !place.Exists {
			return DirEntry{}, false
		}
		path = place.Path
		info, err = statAt(root, path)
	}
	if err != nil || info.special {
		return DirEntry{}, false
	}
	if v.share != nil && v.share.ListOnlyOpenable {
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
