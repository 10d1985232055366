package files

import (
	"context"
	"errors"
	"time"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/plain"
)

// Rename moves the object to another path of the same share (MS-FSCC section
// 2.4.43). With replace, a file already there makes way.
func (h *Handle) Rename(ctx context.Context, to string, replace bool) error {
	for began := time.Now(); ; {
		err := h.renameOnce(ctx, to, replace)
		var others *breaking
		if !errors.As(err, &others) || time.Since(began) > mostPatience {
			return err
		}
		select {
		case <-others.until:
		case <-ctx.Done():
			return ErrClosed
		}
	}
}

func (h *Handle) renameOnce(ctx context.Context, to string, replace bool) error {
	if err := h.check(acl.Delete); err != nil {
		return err
	}
	if err := checkPath(to); err != nil {
		return err
	}
	if h.Path() == "" || to == "" || h.became.Load() != nil {
		return ErrDenied
	}
	h.folder.paths.Lock()
	defer h.folder.paths.Unlock()
	n := h.ns
	v, err := n.view(h.sub, h.share)
	if err != nil {
		return err
	}
	root, err := openFolder(v.folder.At)
	if err != nil {
		return err
	}
	defer unix.Close(root)
	from := h.Path()
	info, err := h.Stat()
	if err != nil {
		return err
	}
	links := info.Links
	place, final, err := n.target(v, root, h, from, to, links)
	if err != nil {
		return err
	}
	if place.Exists && place.Path != from {
		same, err := sameObject(root, place.Path, h.info.id())
		if err != nil {
			return err
		}
		if same { // two names of one object: POSIX does nothing
			return nil
		}
		if !replace {
			return ErrExists
		}
		if err := n.mayReplace(v, root, h, place); err != nil {
			return err
		}
	}
	if final == from {
		return nil
	}
	dir, name := split(final)
	replaces := place.Exists && place.Path != from
	err = n.carry(ctx, v, h.folder, from, final, func() error { return n.renameOnDisk(v, h, root, from, place, final, replaces) }, func() error {
		if replaces {
			return errNoWayBack
		}
		return n.renameOnDisk(v, h, root, final, Place{Path: from, ParentExists: true}, from, false)
	})
	if err != nil {
		return err
	}
	if parent, err := openBeneath(root, dir, unix.O_PATH|unix.O_DIRECTORY, 0); err == nil {
		at := dirSpot(parent, name)
		h.folder.spots.put(h.info.id(), h.file, at)
		if h.file && links > 1 {
			h.folder.spots.named(h.info.id(), at)
		}
		unix.Close(parent)
	}
	n.notify.tell(h.folderID, Event{Path: from, NewPath: final, Kind: EventRenamed, Dir: !h.file, by: h.parentKey})
	if replaces {
		v.gone(place.Path)
	}
	v.carried(from, final)
	return nil
}

// target resolves where a rename leads and checks what it takes: to add there, and
// not to lift a file out of the rules that govern it without being able to read it.
func (n *Namespace) target(v view, root int, h *Handle, from, to string, links uint32) (place Place, final string, err error) {
	place, err = findBy(root, to, n.index, v.tellsLinks())
	if err == nil && place.link != nil && place.link.rest != "" { // who renames has followed all links on the way
		err = ErrPathNotFound
	}
	if err != nil {
		return Place{}, "", err
	}
	// The last name as the client spells it: a rename may change only the case.
	dir, name := split(place.Path)
	if _, typed := split(to); place.Exists && FoldName(typed) == FoldName(name) { // else a symbolic link led there
		name = typed
	}
	final = join(dir, name)
	if !place.Exists && !place.ParentExists {
		return Place{}, "", ErrPathNotFound
	}
	if !h.file && under(place.Path, from) && place.Path != from {
		return Place{}, "", ErrInvalid
	}
	was, _ := split(from)
	if dir != was || !place.Exists {
		if err := v.require(dir, false, toAdd(h.file)); err != nil {
			return Place{}, "", err
		}
	}
	if final != from {
		if err := v.mayCarry(from, final, h.file, links); err != nil {
			return Place{}, "", err
		}
	}
	if !h.file { // nothing below may be open by SMB, which knows it by its path
		n.mu.Lock()
		defer n.mu.Unlock()
		var until <-chan struct{}
		held := false
		for other := range h.folder.handles {
			if p := other.Path(); other.sub.Guest == nil && p != from && under(p, from) {
				if closed := other.of.lowerOthers(nil, CacheHandle); closed != nil { // for a client's cache alone, it may be
					until = closed
				} else {
					held = true
				}
			}
		}
		switch {
		case until != nil:
			return Place{}, "", &breaking{until}
		case held:
			return Place{}, "", ErrDenied
		}
	}
	return place, final, nil
}

func (n *Namespace) mayReplace(v view, root int, h *Handle, place Place) error {
	if !place.File || !h.file {
		return ErrDenied
	}
	if v.decide(place.Path, true, 0).Granted&acl.Delete == 0 {
		return v.denied(place.Path, true, acl.Delete)
	}
	info, err := statLink(root, place.Path)
	if err != nil {
		return err
	}
	if info.Attributes&AttrReadOnly != 0 {
		return ErrDenied
	}
	n.mu.Lock()
	defer n.mu.Unlock()
	of := n.open[info.id().data()]
	if of == nil {
		return nil
	}
	if until := of.lowerOthers(nil, CacheHandle); until != nil {
		return &breaking{until}
	}
	return ErrDenied
}

func sameObject(root int, path string, id fileID) (bool, error) {
	fd, err := openBeneath(root, path, unix.O_PATH|unix.O_NOFOLLOW, 0)
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

func (n *Namespace) renameOnDisk(v view, h *Handle, root int, from string, place Place, final string, replaces bool) error {
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
	r := renaming{fd: h.fd, dir: !h.file, from: from, to: final, replaced: -1, name: fromName, src: directory{src, fromDir}, dst: directory{dst, toDir}}
	r.names = n.namesFor(v.folder, h.folder, h.fd, from)
	r.namesOf = func(path string, st *unix.Statx_t) []string { return n.namesOfStat(v.folder, h.folder, st, path) }
	r.moved = func() { n.moved(h.folder, from, final) }
	_, there := split(place.Path)
	if replaces {
		fd, err := openBeneath(root, place.Path, unix.O_PATH|unix.O_NOFOLLOW, 0)
		if err != nil {
			return err
		}
		defer unix.Close(fd)
		r.replaced = fd
		r.going = going{directory: r.dst, name: there, names: func() ([]string, error) { return n.namesFor(v.folder, h.folder, fd, place.Path), nil }, index: n.index}
	}
	return v.alter().rename(r, func() error {
		return n.index.changing(src, func() error {
			if place.Exists { // takes the place of what is there, under the name there
				if err := moveName(src, fromName, dst, there, true); err != nil {
					return err
				}
				if there == toName {
					return nil
				}
				return moveName(dst, there, dst, toName, false)
			}
			return moveName(src, fromName, dst, toName, false)
		}, func(names *folded) {
			names.drop(fromName)
			if fromDir == toDir {
				if place.Exists {
					names.drop(there)
				}
				names.put(toName)
			}
		})
	})
}

// errNoWayBack is why a rename cannot be taken back: what was there has made way.
var errNoWayBack = errors.New("what was there is gone")

// carry renames on disk and tells all who are concerned: the rules, which move along, and the open
// handles. No handle is decided about meanwhile, so that none is by an old path under new
// rules. The caller holds the folder alone.
func (n *Namespace) carry(ctx context.Context, v view, state *folderState, from, to string, move, back func() error) error {
	state.renaming.Lock()
	defer state.renaming.Unlock()
	var err error
	book := n.ledger.Folder(v.folder.ID)
	if v.hasRulesAt(from) || book != nil && book.Limited(from) {
		err = n.rules.MoveRules(ctx, v.folder.ID, plain.Spell(from), plain.Spell(to), move, back)
	} else {
		err = move()
	}
	n.decideAgain(state, to)
	return err
}

// moved tells the handles on what was renamed, and below it, where they are now.
func (n *Namespace) moved(state *folderState, from, to string) {
	n.mu.Lock()
	defer n.mu.Unlock()
	for h := range state.handles {
		if path := h.Path(); under(path, from) {
			h.setPath(to + path[len(from):])
		}
	}
}

// decideAgain has the handles that a rename may concern be decided about anew.
func (n *Namespace) decideAgain(state *folderState, to string) {
	state.epoch.Add(1)
	n.mu.Lock()
	defer n.mu.Unlock()
	for h := range state.handles {
		if under(h.Path(), to) || h.file && h.info.Links > 1 { // another of its names may be below
			h.verdict.Store(nil)
		}
	}
}
