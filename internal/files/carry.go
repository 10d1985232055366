package files

import (
	"context"
	"errors"
	"time"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/posix"
)

// mayGo says whether an object may be taken away from where it is: what its directory and its
// entry say, and those who have it open.
func (o *Object) mayGo() error {
	if o.IsRoot() || o.path == "" {
		return ErrDenied
	}
	if o.Granted()&acl.Delete == 0 {
		if o.w.v.folder.Unix() {
			dir, _ := split(o.path)
			if o.w.v.decide(dir, false, acl.DeleteChild).Allowed() {
				return ErrOwner // the sticky bit
			}
			return o.w.v.denied(dir, false, acl.DeleteChild)
		}
		return o.denied(acl.Delete)
	}
	if readDOS(o.fd).attributes&AttrReadOnly != 0 && !o.Dir() {
		return ErrReadOnlyFile
	}
	if err := o.w.n.elsewhere(o.id(), CacheHandle); err != nil {
		return err // until clients of SMB have closed what they keep open for their caches alone
	}
	o.w.n.mu.Lock()
	defer o.w.n.mu.Unlock()
	if of := o.w.n.open[o.id().data()]; of != nil {
		for h := range of.handles {
			// A client of SMB that shares nothing of the name keeps it; those of NFS never do.
			if h.sub.Guest == nil && h.claims != 0 && h.sharing&ShareDelete == 0 {
				return ErrSharing
			}
		}
	}
	return nil
}

// Remove takes a name out of a directory: a directory's, which must be empty, if dir says so, and
// else any other's.
func (o *Object) Remove(name string, dir bool) error {
	if !o.Dir() {
		return ErrNotDirectory
	}
	if name == "." || name == ".." {
		return ErrInvalid
	}
	if err := o.require(acl.Execute); err != nil {
		return err
	}
	c, err := o.child(name)
	if err != nil {
		return err
	}
	if err := c.mayGo(); err != nil {
		return err
	}
	switch {
	case dir && !c.Dir():
		return ErrNotDirectory
	case !dir && c.Dir():
		return ErrIsDirectory
	}
	g := c.going(name)
	err = o.inDirectory(func(d directory) error {
		g.directory = d
		return o.w.v.alter().remove(c.fd, g)
	})
	if err != nil {
		return err
	}
	o.w.removed(c)
	return nil
}

// going is the object's name as one that is about to go.
func (o *Object) going(name string) going {
	dir, _ := split(o.path)
	return going{directory: directory{-1, dir}, name: name, dir: o.Dir(), names: o.names, unlessOpen: o.w.n.openNow(o.id()), index: o.w.n.index}
}

// openNow gives, for going.unlessOpen, whether an object is open.
func (n *Namespace) openNow(id fileID) func(func(bool)) {
	return func(then func(open bool)) {
		n.mu.Lock()
		defer n.mu.Unlock()
		of := n.open[id.data()]
		then(of != nil && len(of.handles) > 0)
	}
}

// removed forgets an object whose name is gone.
func (w *Visit) removed(c *Object) {
	if c.Dir() {
		w.state.epoch.Add(1) // another may have its number at once, and its path
	}
	w.n.cache.drop(c.id())
	w.state.spots.drop(c.id())
	if c.Dir() || c.st.Nlink <= 1 { // else it is found again by another name
		w.state.spots.lost(c.key)
		w.n.forgetMaker(madeKeyOf(&c.st))
	}
	w.n.notify.tell(w.v.folder.ID, Event{Path: c.path, Kind: EventRemoved, Dir: c.Dir()})
	w.v.gone(c.path)
}

// lost notes that an object is gone for good.
func (s *spots) lost(key Key) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.missing == nil || len(s.missing) >= mostMissing {
		s.missing = make(map[Key]time.Time)
	}
	s.missing[key] = time.Now()
}

// Link gives an object another name. Where entries decide, the same rules have to hold for both, for
// whoever it may be: ErrAcross where they do not, which has clients copy instead.
func (o *Object) Link(dir *Object, name string) error {
	if o.Dir() {
		return ErrIsDirectory
	}
	if err := dir.mayAdd(name, true); err != nil {
		return err
	}
	if !o.w.v.sameRules(o.path, join(dir.path, name)) || o.w.v.hasRulesAt(o.path) {
		return ErrAcross
	}
	if o.st.Nlink >= mostNames && !o.w.v.folder.Unix() {
		return ErrManyNames
	}
	if err := o.w.n.recall(o.id()); err != nil {
		return err
	}
	from, was := split(o.path)
	source, err := openBeneath(o.w.root, from, unix.O_PATH|unix.O_DIRECTORY, 0)
	if err != nil {
		return err
	}
	defer unix.Close(source)
	err = dir.inDirectory(func(d directory) error {
		return o.w.v.alter().link(o.fd, o.names, directory{source, from}, was, d, name, o.w.n.index)
	})
	if err != nil {
		return err
	}
	o.w.state.spots.named(o.id(), dirSpot(source, was))
	o.w.state.spots.named(o.id(), spot{dir.id(), name})
	o.w.n.notify.tell(o.w.v.folder.ID, Event{Path: join(dir.path, name), Kind: EventAdded})
	return o.look()
}

// Rename moves a name of one directory to another. What is there already makes way, if it is of
// the same kind and, for a directory, empty. The visit must be alone.
func (o *Object) Rename(ctx context.Context, name string, to *Object, toName string) error {
	w := o.w
	for _, d := range []*Object{o, to} {
		if !d.Dir() {
			return ErrNotDirectory
		}
		if err := d.require(acl.Execute); err != nil {
			return err
		}
	}
	for _, s := range []string{name, toName} {
		if s == "." || s == ".." {
			return ErrInvalid
		}
	}
	if err := checkName(toName); err != nil {
		return err
	}
	c, err := o.child(name)
	if err != nil {
		return err
	}
	final := join(to.path, toName)
	there, err := to.child(toName)
	if err != nil && !errors.Is(err, ErrNotFound) {
		return err
	}
	if there != nil && there.id() == c.id() {
		return nil // two names of one object, or one: POSIX does nothing
	}
	if err := c.mayGo(); err != nil {
		return err
	}
	if c.Dir() && under(final, c.path) {
		return ErrInvalid
	}
	if there != nil {
		if err := there.mayGo(); err != nil {
			return err
		}
		if c.Dir() && under(c.path, there.path) {
			return ErrNotEmpty
		}
		switch {
		case c.Dir() && !there.Dir():
			return ErrNotDirectory
		case !c.Dir() && there.Dir():
			return ErrIsDirectory
		}
	}
	if o.path != to.path || there == nil && !w.v.folder.Unix() {
		if err := to.require(toAdd(!c.Dir())); err != nil {
			return err
		}
	}
	if c.Dir() && o.path != to.path && w.v.folder.Unix() && !posix.Permits(&w.v.nfs.Unix, c.owner(), posix.Write) {
		return w.v.denied(c.path, false, acl.AddFile) // its ".." is written to
	}
	if err := w.v.mayCarry(c.path, final, !c.Dir(), c.st.Nlink); err != nil {
		return err
	}
	from := c.path
	r := renaming{fd: c.fd, dir: c.Dir(), from: from, to: final, replaced: -1}
	if r.names, err = c.names(); err != nil {
		return err
	}
	if there != nil {
		r.replaced = there.fd
		r.going = there.going(toName)
	}
	err = w.n.carry(ctx, w.v, w.state, from, final, func() error { return o.renameOnDisk(r, name, to, toName) }, func() error {
		if there != nil {
			return errNoWayBack
		}
		r.from, r.to, r.names[0] = r.to, r.from, r.to
		return to.renameOnDisk(r, toName, o, name)
	})
	if err != nil {
		return err
	}
	if there != nil {
		w.removed(there)
	}
	w.state.spots.put(c.id(), !c.Dir(), spot{to.id(), toName})
	if !c.Dir() && c.st.Nlink > 1 {
		w.state.spots.named(c.id(), spot{to.id(), toName})
	}
	w.n.notify.tell(w.v.folder.ID, Event{Path: c.path, NewPath: final, Kind: EventRenamed, Dir: c.Dir()})
	w.v.carried(c.path, final)
	return nil
}

func (o *Object) renameOnDisk(r renaming, name string, to *Object, toName string) error {
	dst, err := to.asDirectory()
	if err != nil {
		return err
	}
	err = o.inDirectory(func(src directory) error {
		r.src, r.dst, r.name = src, directory{dst, to.path}, name
		r.namesOf = func(path string, st *unix.Statx_t) []string {
			return o.w.n.namesOfStat(o.w.v.folder, o.w.state, st, path)
		}
		r.moved = func() { o.w.n.moved(o.w.state, r.from, r.to) }
		return o.w.v.alter().rename(r, func() error {
			return o.w.n.index.changing(src.fd, func() error {
				return moveName(src.fd, name, dst, toName, true)
			}, func(names *folded) {
				names.drop(name)
				if o.path == to.path {
					names.put(toName)
				}
			})
		})
	})
	if err == nil && o.path != to.path {
		err = flush(dst)
	}
	return err
}
