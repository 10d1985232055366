package files

import (
	"strconv"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/usage"
)

// make is alter.make for what is its maker's then.
func (v view) make(m maker, call func() (fd int, err error)) error {
	return v.alter().make(m, call, func(fd int, st *unix.Statx_t) error { return v.born(m, fd, st) })
}

// born makes a new object its maker's: with the owner, group, mode and ACL that it gets where it is. It is a part of making
// it, see alter.make.
func (v view) born(m maker, fd int, st *unix.Statx_t) error {
	f := v.unixFacts()
	if !f.unix && m.mode&0o111 != 0 && st.Mode&unix.S_IFMT == unix.S_IFREG {
		if err := setPermissions(fd, uint32(st.Mode)&0o777|0o110); err != nil {
			return err
		}
	}
	var was posix.Attributes
	if f.native { // what is new can have an ACL of the host's only, from its directory
		was = f.read(fd, st)
	}
	return f.write(fd, st, was, m.is)
}

// asBorn is the owner, group, mode and ACL that something gets by being made in a directory, which in tells of.
func (v view) asBorn(in directory, st *unix.Statx_t, mode uint32, dir bool) posix.Attributes {
	f, who := v.unixFacts(), v.credential()
	if !f.unix {
		return posix.Attributes{UID: who.UID, GID: who.GID, Dir: dir}
	}
	of := f.toldOf(in.path, in.fd, st).is
	return posix.Made(&who, &of, mode, dir)
}

// beginAt is beginOwned for what is at a path.
func (a alter) beginAt(fd int, path string, st *unix.Statx_t) (at, usage.Owner, error) {
	id, err := idOf(fd)
	if err != nil {
		return at{}, usage.Owner{}, err
	}
	return a.beginOwned(id, func() string { return path }, &counted{}, fd, st)
}

// own changes owner, group, mode and ACL of an object that is at a path; does is what changes them.
func (a alter) own(fd int, path string, namesNow func() ([]string, error), to usage.Owner, does func() error) error {
	var st unix.Statx_t
	t, from, err := a.beginAt(fd, path, &st)
	if err != nil {
		return err
	}
	defer t.end()
	if t.book == nil || st.Nlink == 0 { // what has no name any more counts for whom it did
		return does()
	}
	names, err := namesNow()
	if err != nil {
		return err
	}
	was := t.amount(fd, &st)
	gift, err := t.book.Give(usageID(&st), from, to, names, was)
	if err != nil {
		return t.fail(path, err)
	}
	err = does()
	if statx(fd, &st) != nil || t.facts.countsFor(fd, &st) != to {
		gift.Forget()
		return err
	}
	gift.Done(t.amount(fd, &st))
	return err
}

// handOver changes what an object carries, whatever the limits say. Trees do not change by it.
func (a alter) handOver(fd int, path string, to func(was posix.Attributes) posix.Attributes) error {
	var st unix.Statx_t
	t, from, err := a.beginAt(fd, path, &st)
	if err != nil {
		return err
	}
	defer t.end()
	was := t.facts.read(fd, &st)
	before := t.amount(fd, &st)
	err = t.facts.write(fd, &st, was, to(was))
	if t.book == nil || st.Nlink == 0 || statx(fd, &st) != nil {
		return err
	}
	t.book.Hand(usageID(&st), from, t.facts.countsFor(fd, &st), []string{path}, before).Done(t.amount(fd, &st))
	return err
}

// becomes is whom something will count for that is given an owner and a group.
func (f Facts) becomes(fd int, st *unix.Statx_t, uid, gid uint32) usage.Owner {
	kind := st.Mode & unix.S_IFMT
	if !f.native && kind != unix.S_IFREG && kind != unix.S_IFDIR {
		return f.countsFor(fd, st) // see Facts.write
	}
	return usage.Owner{UID: uid, GID: gid, Own: true}
}

// write sets what an object carries to what it shall, was being what it carries now.
func (f Facts) write(fd int, st *unix.Statx_t, was, is posix.Attributes) error {
	kind := st.Mode & unix.S_IFMT
	if f.native {
		if was.UID != is.UID || was.GID != is.GID {
			if err := unix.Fchownat(fd, "", int(is.UID), int(is.GID), unix.AT_EMPTY_PATH); err != nil {
				return translate(err)
			}
		}
		if kind == unix.S_IFLNK {
			return nil
		}
		if f.unix {
			if err := writeACLs(fd, hostACL, hostDefault, was, is); err != nil {
				return err
			}
			return setPermissions(fd, is.Mode)
		}
		return nil
	}
	if kind != unix.S_IFREG && kind != unix.S_IFDIR {
		return nil // the kernel keeps such attributes on files and directories only
	}
	text := strconv.FormatUint(uint64(is.UID), 10) + ":" + strconv.FormatUint(uint64(is.GID), 10)
	if f.unix {
		text += ":" + strconv.FormatUint(uint64(is.Mode), 8)
		if err := writeACLs(fd, aclAttr, defaultAttr, was, is); err != nil {
			return err
		}
	}
	return mark(fd, ownerAttr, []byte(text))
}

func writeACLs(fd int, access, def string, was, is posix.Attributes) error {
	one := func(name string, was, is posix.ACL) error {
		switch {
		case is != nil:
			return mark(fd, name, is.Bytes())
		case was != nil:
			return unmark(fd, name)
		}
		return nil
	}
	if err := one(access, was.ACL, is.ACL); err != nil {
		return err
	}
	return one(def, was.Default, is.Default)
}
