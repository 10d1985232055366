package files

import (
	"errors"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
)

// Facts reads and writes whose the objects of one folder are, and their modes where modes
// decide: as the host's own where ownership is native, else in extended attributes. It is
// the core's access.Facts.
type Facts struct {
	place     site.Location
	directory *identity.Directory
	native    bool
	unix      bool
	owner     *identity.User // of what has no owner of its own; may be nil
	group     *identity.Group
	marks     *marks    // nil: all is read each time
	root      *heldRoot // of one request, as long as that lasts; nil: the folder is opened each time
}

// FactsOf is for one folder of a policy. Paths that are asked about, and told, are as the records spell them: see plain.Spell.
func FactsOf(p *site.Policy, f *site.PublishedFolder) Facts {
	return Facts{place: f.At, directory: p.Directory, native: f.Ownership == site.Native, unix: f.Unix(),
		owner: p.Directory.User(f.Owner), group: p.Directory.Group(f.Group)}
}

var _ access.Facts = Facts{}

// Away says whether the folder's volume is not where it should be, so that nothing can be told of what is in it.
func (f Facts) Away() bool { return errors.Is(IsThere(f.place), ErrIO) }

// The modes in which objects are made, before they are anyone's.
const (
	bornFile = 0o660
	bornDir  = 0o770
)

// The extended attributes of the host's own POSIX ACLs.
const (
	hostACL     = "system.posix_acl_access"
	hostDefault = "system.posix_acl_default"
)

// OwnerOf is access.Facts.OwnerOf.
func (f Facts) OwnerOf(path string) (acl.Ownership, bool) {
	m, there := f.toldAt(plain.Unspell(path))
	if !there || !m.own {
		return acl.Ownership{}, false
	}
	return acl.Ownership{User: f.directory.UserIndexByUID(m.is.UID), Group: f.directory.GroupIndexByGID(m.is.GID)}, true
}

// UnixOf is access.Facts.UnixOf.
func (f Facts) UnixOf(path string) (*posix.Attributes, bool) {
	m, there := f.toldAt(plain.Unspell(path))
	if !there {
		return nil, false
	}
	return &m.is, true
}

// toldAt is told of what is at a path, if anything is.
func (f Facts) toldAt(path string) (m marked, there bool) {
	if f.root != nil && f.root.not == path && path != "" {
		return m, false
	}
	if t, ok := f.root.recall(path); ok {
		return t.marked, true
	}
	f.at(path, func(fd int, st *unix.Statx_t) { m, there = f.toldOf(path, fd, st), true })
	return m, there
}

func (f Facts) at(path string, look func(fd int, st *unix.Statx_t)) {
	var st unix.Statx_t
	if path == "" && f.root != nil && f.root.dir >= 0 {
		if statx(f.root.dir, &st) == nil {
			look(f.root.dir, &st)
		}
		return
	}
	root, give, err := f.root.open(f.place)
	if err != nil {
		return
	}
	defer give()
	how := unix.O_PATH | unix.O_NOFOLLOW
	if path == "" { // a directory, whose marks are read twice as fast by a descriptor that is more than its path
		how = unix.O_RDONLY | unix.O_DIRECTORY | unix.O_NOFOLLOW
	}
	fd, err := openBeneath(root, path, how, 0)
	if errors.Is(err, ErrDenied) && path == "" {
		fd, err = openBeneath(root, path, unix.O_PATH|unix.O_NOFOLLOW, 0)
	}
	if err != nil {
		return
	}
	defer unix.Close(fd)
	if statx(fd, &st) == nil {
		look(fd, &st)
	}
}

// told is read by what is remembered, for whoever only decides by it: the result is not to be altered. own is false where the object has no owner of its own.
func (f Facts) told(fd int, st *unix.Statx_t) (is posix.Attributes, own bool) {
	get := xattrsOf(fd)
	if f.marks == nil {
		return f.readOwned(get, st)
	}
	k := f.markOf(st)
	is, own, ok := f.recalled(k, st)
	if !ok {
		looked := time.Since(began)
		is, own = f.readOwned(get, st)
		f.marks.put(k, st.Ctime, looked, marked{own, is})
	}
	return is, own
}

// recalled is told, where that is remembered.
func (f Facts) recalled(k markKey, st *unix.Statx_t) (is posix.Attributes, own, ok bool) {
	m, ok := f.marks.get(k, st.Ctime)
	if ok && !m.own {
		f.ownedByFolder(&m.is)
	}
	return m.is, m.own, ok
}

// markOf is by what the marks of an object are remembered.
func (f Facts) markOf(st *unix.Statx_t) markKey {
	return markKey{fileOf(st), f.native, f.unix}
}

// xattrs reads one object's extended attributes.
type xattrs func(name string, buf []byte) (int, error)

func xattrsOf(fd int) xattrs {
	path := "" // by which it has to be, once that is known
	return func(name string, buf []byte) (int, error) {
		if path == "" {
			n, err := unix.Fgetxattr(fd, name, buf)
			if err != unix.EBADF {
				return n, err
			}
			path = procPath(fd) // opened for its path only
		}
		return unix.Getxattr(path, name, buf)
	}
}

func (f Facts) numbersBy(get xattrs, st *unix.Statx_t) (posix.Attributes, bool) {
	a := posix.Attributes{UID: st.Uid, GID: st.Gid, Mode: uint32(st.Mode) & 0o7777, Dir: st.Mode&unix.S_IFMT == unix.S_IFDIR}
	if f.native {
		return a, true
	}
	var buf [48]byte
	if n, err := get(ownerAttr, buf[:]); err == nil {
		if parseOwner(string(buf[:n]), &a) {
			return a, true
		}
	}
	f.ownedByFolder(&a)
	return a, false
}

// ownedByFolder gives what has no owner of its own those of the folder.
func (f Facts) ownedByFolder(a *posix.Attributes) {
	a.UID, a.GID = site.Anonymous, site.Anonymous
	if f.owner != nil {
		a.UID = f.owner.UID
	}
	if f.group != nil {
		a.GID = f.group.GID
	}
}

// parseOwner reads "UID:GID" or "UID:GID:MODE".
func parseOwner(s string, a *posix.Attributes) bool {
	user, rest, ok := strings.Cut(s, ":")
	group, mode, hasMode := strings.Cut(rest, ":")
	uid, err1 := strconv.ParseUint(user, 10, 32)
	gid, err2 := strconv.ParseUint(group, 10, 32)
	if !ok || err1 != nil || err2 != nil {
		return false
	}
	if hasMode {
		m, err := strconv.ParseUint(mode, 8, 12)
		if err != nil {
			return false
		}
		a.Mode = uint32(m)
	}
	a.UID, a.GID = uint32(uid), uint32(gid)
	return true
}

// read gives all that decides about an object where modes do.
func (f Facts) read(fd int, st *unix.Statx_t) posix.Attributes { return f.readBy(xattrsOf(fd), st) }

func (f Facts) readBy(get xattrs, st *unix.Statx_t) posix.Attributes {
	a, _ := f.readOwned(get, st)
	return a
}

// readOwned is readBy, and says whether the object has an owner of its own.
func (f Facts) readOwned(get xattrs, st *unix.Statx_t) (posix.Attributes, bool) {
	a, own := f.numbersBy(get, st)
	if !f.unix || st.Mode&unix.S_IFMT == unix.S_IFLNK {
		return a, own
	}
	access, def := aclAttr, defaultAttr
	if f.native {
		access, def = hostACL, hostDefault
	}
	a.ACL = readACL(get, access)
	if a.Dir {
		a.Default = readACL(get, def)
	}
	return a, own
}

func readACL(get xattrs, name string) posix.ACL {
	var small [256]byte
	n, err := get(name, small[:])
	buf := small[:]
	if errors.Is(err, unix.ERANGE) {
		buf = make([]byte, 4+8*posix.MostACEs)
		n, err = get(name, buf)
	}
	if err != nil {
		return nil
	}
	list, err := posix.ParseACL(buf[:n])
	if err != nil {
		return nil
	}
	return list
}

// procPath is a path to an open object that works for descriptors which only name it.
func procPath(fd int) string { return "/proc/self/fd/" + strconv.Itoa(fd) }

func getxattr(fd int, name string, buf []byte) (int, error) { return xattrsOf(fd)(name, buf) }

// credential is as whom a view acts where numbers count.
func (v view) credential() posix.Credential {
	if v.nfs != nil {
		return v.nfs.Unix
	}
	return access.UnixCredential(v.policy.Directory, v.sub.User)
}

func (v view) unixFacts() Facts { return *v.facts }

// Kind says whether anything is at a path, and whether it is something else than a directory.
func (f Facts) Kind(path string) (exists, file bool) {
	f.at(plain.Unspell(path), func(_ int, st *unix.Statx_t) { exists, file = true, st.Mode&unix.S_IFMT != unix.S_IFDIR })
	return exists, file
}
