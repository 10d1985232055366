package files

import (
	"context"
	"errors"
	"strings"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/usage"
)

// Set is what is to change of an object; nil leaves it as it is (RFC 1813 section 2.5, sattr3).
type Set struct {
	Mode     *uint32
	UID, GID *uint32
	Size     *uint64
	Accessed *SetTime
	Modified *SetTime
}

// SetTime is a time to set: the gateway's own clock, or the client's.
type SetTime struct {
	Now     bool
	Sec     int64
	Nanosec uint32
}

// Empty says whether it changes nothing.
func (s Set) Empty() bool { return s == Set{} }

func (t *SetTime) spec() unix.Timespec {
	switch {
	case t == nil:
		return unix.Timespec{Nsec: unix.UTIME_OMIT}
	case t.Now:
		return unix.Timespec{Nsec: unix.UTIME_NOW}
	}
	return unix.Timespec{Sec: t.Sec, Nsec: int64(t.Nanosec)}
}

// Verifier makes an exclusive creation that is asked for twice the same one (RFC 1813 section
// 3.3.8). It stays with what was made.
type Verifier [8]byte

// MadeBy says whether the object was made by an exclusive creation with that verifier, and is
// as it was made.
func (o *Object) MadeBy(v Verifier) bool {
	var have Verifier
	n, err := getxattr(o.fd, verifierAttr, have[:])
	return err == nil && n == len(v) && have == v && o.Regular() && o.st.Size == 0
}

// SetVerifier marks what was just made as made by an exclusive creation.
func (o *Object) SetVerifier(v Verifier) error {
	return mark(o.fd, verifierAttr, v[:])
}

func (o *Object) setTimes(s Set) error {
	return setTimes(o.fd, s.Accessed.spec(), s.Modified.spec())
}

// asDirectory gives a descriptor of the directory that is for more than its path, until the visit ends.
func (o *Object) asDirectory() (int, error) {
	if o.real {
		return o.fd, nil
	}
	fd, err := openBeneath(o.w.root, o.path, unix.O_RDONLY|unix.O_DIRECTORY, 0)
	if err != nil {
		return -1, err
	}
	o.w.opened = append(o.w.opened, fd)
	o.fd, o.real = fd, true
	return fd, nil
}

// inDirectory runs a change of a directory's names, on disk before it returns.
func (o *Object) inDirectory(change func(d directory) error) error {
	parent, err := o.asDirectory()
	if err != nil {
		return err
	}
	if err := change(directory{parent, o.path}); err != nil {
		return err
	}
	return flush(parent)
}

// mayAdd says whether something of that name may be put into the directory.
func (o *Object) mayAdd(name string, file bool) error {
	if !o.Dir() {
		return ErrNotDirectory
	}
	if name == "." || name == ".." {
		return ErrExists
	}
	if err := checkName(name); err != nil {
		return err
	}
	if len(join(o.path, name)) > longestPath {
		return ErrNameTooLong
	}
	if err := o.require(acl.Execute); err != nil {
		return err
	}
	dir, err := o.asDirectory()
	if err != nil {
		return err
	}
	if isThere(dir, name) {
		return ErrExists
	}
	return o.require(toAdd(file))
}

// isThere says whether anything has a name in a directory.
func isThere(dir int, name string) bool {
	var st unix.Stat_t
	return before(callLook, dir) == nil && unix.Fstatat(dir, name, &st, unix.AT_SYMLINK_NOFOLLOW) == nil
}

// make makes something in the directory and gives it its owner, mode and what else is asked. mk gives what it has opened of it, or -1.
func (o *Object) make(name string, kind uint32, bytes int64, set Set, mode uint32, mk func(parent int) (int, error)) (*Object, error) {
	file := kind != unix.S_IFDIR
	if err := o.mayAdd(name, file); err != nil {
		return nil, err
	}
	if set.Mode != nil {
		mode = *set.Mode
	}
	parent, err := o.asDirectory()
	if err != nil {
		return nil, err
	}
	m, err := o.w.v.maker(parent, join(o.path, name), kind, bytes, mode)
	if err != nil {
		return nil, err
	}
	var c *Object
	if err := o.w.v.make(m, func() (int, error) {
		fd, err := mk(parent)
		real := fd >= 0
		if err == nil && !real {
			fd, err = openBeneath(parent, name, unix.O_PATH|unix.O_NOFOLLOW, 0)
		}
		if err != nil {
			return -1, err
		}
		c, err = o.w.at(join(o.path, name), fd, real)
		return fd, err
	}); err != nil {
		return nil, err
	}
	o.w.state.spots.put(c.id(), file, spot{o.id(), name})
	set.Mode = nil
	if err = c.look(); err == nil && !set.Empty() {
		err = errors.Join(c.set(set, true), c.look())
	}
	if f := o.w.v.unixFacts(); err == nil && set.Empty() && f.unix && !f.native && (c.Dir() || c.Regular()) {
		c.owned(m.is) // as it was written just now
	}
	if err == nil {
		err = flush(parent)
	}
	if err != nil {
		_ = o.w.v.alter().remove(c.fd, going{directory: directory{parent, o.path}, name: name, dir: !file, names: c.names, index: o.w.n.index})
		return nil, err
	}
	o.w.n.notify.tell(o.w.v.folder.ID, Event{Path: c.path, Kind: EventAdded, Dir: !file})
	return c, nil
}

// CreateFile makes a regular file that is not there yet: ErrExists where something is. The guest
// may fill it, whatever the entries say of altering.
func (o *Object) CreateFile(name string, set Set) (*Object, error) {
	if set.Size != nil && *set.Size == 0 {
		set.Size = nil
	}
	c, err := o.make(name, unix.S_IFREG, 0, set, 0o600, func(parent int) (int, error) { return makeFile(parent, name) })
	if err != nil {
		return nil, err
	}
	o.w.n.noteMaker(madeKeyOf(&c.st), o.w.v.nfs)
	return c, nil
}

// Mkdir makes a directory.
func (o *Object) Mkdir(name string, set Set) (*Object, error) {
	set.Size = nil
	return o.make(name, unix.S_IFDIR, 0, set, 0o755, func(parent int) (int, error) { return -1, makeDirectory(parent, name) })
}

// MakeLink makes a symbolic link. Where it leads is for the client to make sense of.
func (o *Object) MakeLink(name, target string, set Set) (*Object, error) {
	switch {
	case len(target) >= longestPath:
		return nil, ErrNameTooLong
	case target == "" || strings.ContainsRune(target, 0):
		return nil, ErrInvalid
	}
	return o.make(name, unix.S_IFLNK, int64(len(target)), Set{Accessed: set.Accessed, Modified: set.Modified}, 0o777,
		func(parent int) (int, error) { return -1, makeLink(parent, name, target) })
}

// Mknod makes a named pipe or a socket, by the type bits of st_mode. Devices are refused: what a
// device number means is the host's own affair.
func (o *Object) Mknod(name string, kind uint32, set Set) (*Object, error) {
	if kind != unix.S_IFIFO && kind != unix.S_IFSOCK {
		if err := o.mayAdd(name, true); err != nil {
			return nil, err
		}
		return nil, ErrNotSupported
	}
	set.Size = nil
	return o.make(name, kind, 0, set, 0o600, func(parent int) (int, error) { return -1, makeNode(parent, name, kind) })
}

// Set changes an object. All is asked for before anything is done.
func (o *Object) Set(set Set) error { return o.set(set, false) }

// set changes an object, for whoever has just made it with what a maker may do besides.
func (o *Object) set(set Set, maker bool) error {
	if set.Empty() {
		return nil
	}
	if err := o.maySet(set, maker); err != nil {
		return err
	}
	if err := o.w.n.elsewhere(o.id(), cacheAll); err != nil {
		return err
	}
	f := o.w.v.unixFacts()
	if set.Size != nil {
		if err := o.truncate(*set.Size, maker); err != nil {
			return err
		}
	}
	if set.Mode != nil || set.UID != nil || set.GID != nil {
		if err := o.look(); err != nil { // cutting it short may have changed its mode
			return err
		}
		o.w.state.epoch.Add(1) // before and after: see altering
		who := o.w.v.credential()
		was := *o.owner()
		is := was
		if set.UID != nil || set.GID != nil {
			is = posix.Given(&who, is, orLeft(set.UID), orLeft(set.GID))
		}
		if set.Mode != nil {
			if f.unix {
				is = posix.Chmod(&who, is, *set.Mode)
			} else if o.Regular() {
				mode := uint32(o.st.Mode) & 0o777 &^ 0o111
				if *set.Mode&0o111 != 0 {
					mode |= 0o110
				}
				if err := setPermissions(o.fd, mode); err != nil {
					return err
				}
			}
		}
		if f.unix || set.UID != nil || set.GID != nil {
			if err := o.w.v.alter().own(o.fd, o.path, o.names, f.becomes(o.fd, &o.st, is.UID, is.GID), func() error { return f.write(o.fd, &o.st, was, is) }); err != nil {
				return err
			}
		}
		o.w.state.epoch.Add(1)
	}
	if set.Accessed != nil || set.Modified != nil {
		if err := o.setTimes(set); err != nil {
			return err
		}
	}
	o.sync()
	if !maker {
		o.w.n.notify.tell(o.w.v.folder.ID, Event{Path: o.path, Kind: EventModified, Dir: o.Dir()})
	}
	return o.look()
}

// orLeft is the number of an owner or a group that is set, or the one by which chown leaves it.
func orLeft(number *uint32) uint32 {
	if number == nil {
		return posix.Nobody
	}
	return *number
}

// sync puts a file's or directory's attributes on disk; for other objects there is no call.
func (o *Object) sync() {
	if !o.Dir() && !o.Regular() {
		return
	}
	if fd, err := reopen(o.fd, unix.O_RDONLY|unix.O_NONBLOCK|unix.O_NOCTTY); err == nil {
		_ = flush(fd)
		unix.Close(fd)
	}
}

// maySet says whether an object may be changed so. made is for who has just made it.
func (o *Object) maySet(set Set, made bool) error {
	deny := o.denied
	granted := o.Granted()
	maker := made || !o.Dir() && o.w.n.isMaker(madeKeyOf(&o.st), o.w.v.nfs) && o.w.v.mayStillAdd(o.path, true)
	now := func(t *SetTime) bool { return t == nil || t.Now }
	if !o.w.v.folder.Unix() {
		if maker {
			granted |= creatorMask
		}
		var want acl.Mask
		if set.Mode != nil || !now(set.Accessed) || !now(set.Modified) {
			want |= acl.WriteAttributes
		} else if set.Accessed != nil || set.Modified != nil {
			if granted&acl.WriteAttributes == 0 {
				want |= acl.WriteData
			}
		}
		is := o.owner()
		if set.UID != nil && *set.UID != is.UID || set.GID != nil && *set.GID != is.GID {
			want |= acl.WriteOwner
		}
		if set.Size != nil {
			want |= acl.WriteData
		}
		if want&^granted != 0 {
			return deny(want)
		}
		return nil
	}
	uid, gid := orLeft(set.UID), orLeft(set.GID)
	who, is := &o.w.v.nfs.Unix, o.owner()
	if made { // all but whose it is goes with making it
		if !posix.MayGive(who, is, uid, gid) {
			return ErrOwner
		}
		return nil
	}
	// What has nothing to do with the object itself comes first.
	if verdict := o.w.v.decide(o.path, !o.Dir(), 0); verdict.Granted&acl.ReadAttributes == 0 || o.w.ReadOnly() {
		return deny(acl.WriteAttributes)
	}
	owns := posix.Owns(who, is)
	switch {
	case !posix.MayGive(who, is, uid, gid):
		return ErrOwner
	case set.Mode != nil && (!owns || o.Symlink()):
		if o.Symlink() {
			return ErrNotSupported
		}
		return ErrOwner
	case (!now(set.Accessed) || !now(set.Modified)) && !owns:
		return ErrOwner
	case (set.Accessed != nil || set.Modified != nil) && !owns && !posix.Permits(who, is, posix.Write):
		return deny(acl.WriteData)
	case set.Accessed != nil && set.Accessed.Now != (set.Modified != nil && set.Modified.Now) && !owns:
		return ErrOwner // one of the two alone is to set a time
	case set.Size != nil && !owns && !posix.Permits(who, is, posix.Write):
		return deny(acl.WriteData)
	}
	return nil
}

// truncate sets the size in bytes.
func (o *Object) truncate(size uint64, maker bool) error {
	switch {
	case o.Dir():
		return ErrIsDirectory
	case !o.Regular():
		return ErrInvalid
	case size > 1<<62:
		return ErrNoSpace
	}
	if readDOS(o.fd).attributes&AttrReadOnly != 0 && !maker {
		return ErrReadOnlyFile
	}
	from, to := min(o.st.Size, size), max(o.st.Size, size)
	if err := o.w.n.barred(o.id(), int64(from), int64(to-from), true); err != nil {
		return err
	}
	fd, err := reopen(o.fd, unix.O_WRONLY|unix.O_NONBLOCK|unix.O_NOCTTY)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	if err := o.w.v.altering(o.fd, &o.st); err != nil {
		return err
	}
	return o.w.v.alter().resize(&open{fd: fd, id: o.id().usage(), names: o.names, path: o.Path, counted: &counted{}}, int64(size))
}

// names are all names of the object, as far as trees make them matter: ErrBusy where they have to be searched for first.
func (o *Object) names() ([]string, error) {
	out := []string{o.path}
	if book := o.w.n.ledger.Folder(o.w.v.folder.ID); book == nil || !book.HasTrees() || o.Dir() {
		return out, nil
	}
	var st unix.Statx_t // as it is now
	if err := statx(o.fd, &st); err != nil || st.Nlink <= 1 {
		return out, err
	}
	paths, incomplete := o.w.state.spots.namesOf(o.w.root, o.w.rootID, &st)
	if incomplete {
		o.w.wanted = append(o.w.wanted, o.key)
		return nil, ErrBusy
	}
	for _, p := range paths {
		if p != o.path {
			out = append(out, p)
		}
	}
	return out, nil
}

// SetACL sets the POSIX ACL of an object where modes decide, and what is made in it starts with.
func (o *Object) SetACL(access, inherited posix.ACL) error {
	if !o.w.v.folder.Unix() || o.Symlink() {
		return ErrNotSupported
	}
	if o.w.ReadOnly() || o.w.v.decide(o.path, !o.Dir(), acl.ReadAttributes).Gate != 0 {
		return o.denied(acl.WriteACL)
	}
	if !posix.Owns(&o.w.v.nfs.Unix, o.owner()) {
		return ErrOwner
	}
	was := *o.owner()
	is := posix.WithACL(&o.w.v.nfs.Unix, was, access)
	if o.Dir() {
		is.Default = inherited
	} else if inherited != nil {
		return ErrInvalid
	}
	if err := o.w.n.recall(o.id()); err != nil {
		return err
	}
	o.w.state.epoch.Add(1)
	f := o.w.v.unixFacts()
	err := o.w.v.alter().own(o.fd, o.path, o.names, f.becomes(o.fd, &o.st, is.UID, is.GID), func() error { return f.write(o.fd, &o.st, was, is) })
	o.w.state.epoch.Add(1)
	if err != nil {
		return err
	}
	o.sync()
	return o.look()
}

// SetEntries puts entries in the place of all that bears on an object so far, where entries decide.
func (o *Object) SetEntries(ctx context.Context, entries []acl.Entry) error {
	if o.w.v.folder.Unix() || o.Symlink() || o.w.n.rules == nil {
		return ErrNotSupported
	}
	if err := o.require(acl.WriteACL); err != nil {
		return err
	}
	return o.w.n.rules.WriteRule(ctx, o.w.v.folder.ID, o.w.v.nfs.User, acl.Rule{Path: plain.Spell(o.path), Cut: o.path != "", Entries: entries})
}

// SetMode sets mode, owner and group of what is at a path of a folder, as the records spell it, as the superuser would. What it gives to somebody
// counts for them in the ledger, whatever their limits.
func SetMode(p *site.Policy, ledger *usage.Ledger, f *site.PublishedFolder, path string, set Set) error {
	root, err := openFolder(f.At)
	if err != nil {
		return err
	}
	defer unix.Close(root)
	path = plain.Unspell(path)
	fd, err := openBeneath(root, path, unix.O_PATH|unix.O_NOFOLLOW, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	modesSet.Add(1)
	defer modesSet.Add(1)
	return alter{ledger: ledger, folder: f.ID, facts: FactsOf(p, f)}.handOver(fd, path, func(was posix.Attributes) posix.Attributes {
		if set.UID != nil {
			was.UID = *set.UID
		}
		if set.GID != nil {
			was.GID = *set.GID
		}
		if set.Mode != nil {
			was = posix.Chmod(&posix.Credential{}, was, *set.Mode)
		}
		return was
	})
}
