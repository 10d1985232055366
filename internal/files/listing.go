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
	if !h.Dir() {
		return nil, ErrNotDirectory
	}
	var names []string
	err := h.use(func(fd int) (err error) { names, err = readNames(fd); return err })
	return names, err
}

// Named gives the name in a directory that a name of any case means: none, or one.
func (h *Handle) Named(name string) ([]string, error) {
	if err := h.check(acl.ListDirectory); err != nil {
		return nil, err
	}
	if !h.Dir() {
		return nil, ErrNotDirectory
	}
	if checkName(name) != nil {
		return nil, nil
	}
	var names []string
	err := h.use(func(fd int) error {
		_, err := modeAt(fd, name)
		if ok := err == nil; ok || errors.Is(err, ErrNotFound) {
			if !ok {
				name, ok, err = h.ns.index.find(fd, name)
			}
			if ok {
				names = []string{name}
			}
		}
		return err
	})
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
	if errors.Is(err, ErrDenied) && v.tellsLinks() {
		err = h.use(func(fd int) (err error) { info, err = statLink(fd, name); return err })
		if err == nil && info.Link {
			info.ToDir = v.leadsToDir(path, h.ns.index)
		}
	} else if errors.Is(err, ErrDenied) { // a link, perhaps
		root, rerr := openFolder(v.folder.At)
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
	if !v.shows(path, !info.Dir) {
		return DirEntry{}, false
	}
	return DirEntry{name, info}, true
}

// shows says whether a listing of the directory it is in, by whoever may list that, shows the name of an
// object: not where the share hides what the subject may not open.
func (v view) shows(path string, file bool) bool {
	if v.share == nil || !v.share.ListOnlyOpenable && v.folder.Personal == nil {
		return true
	}
	need := acl.ReadData
	if !file {
		need = acl.ListDirectory
	}
	return v.decide(path, file, need).Allowed()
}

// Told gives an event as whoever watches by a handle may be told of it, at the moment at which they are: with no
// name that a listing would not show them now, and none from outside of what they watch. False where nothing
// is left of it.
func (h *Handle) Told(e Event, deep bool) (Event, bool) {
	v, err := h.ns.view(h.sub, h.share)
	if err != nil || v.folder.ID != h.folderID || h.check(acl.ListDirectory) != nil {
		return Event{}, false
	}
	watched := h.Path()
	sees := func(path string) bool {
		dir, _ := split(path)
		if path == "" || dir != watched && !(deep && under(dir, watched)) {
			return false
		}
		return (dir == watched || v.decide(dir, false, acl.ListDirectory).Allowed()) && v.shows(path, !e.Dir)
	}
	if e.Kind != EventRenamed {
		return e, sees(e.Path)
	}
	switch was, is := sees(e.Path), sees(e.NewPath); {
	case was && is:
		return e, true
	case was:
		return Event{Path: e.Path, Kind: EventRemoved, Dir: e.Dir}, true
	case is:
		return Event{Path: e.NewPath, Kind: EventAdded, Dir: e.Dir}, true
	}
	return Event{}, false
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
