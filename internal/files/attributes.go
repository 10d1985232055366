package files

import (
	"fmt"
	"time"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
)

// Extended attributes in which the service keeps what the host's file system
// cannot say for it.
const (
	ownerAttr = "user.amber.owner" // "UID:GID", the logical owner
	dosAttr   = "user.amber.dos"   // "ATTRIBUTES CREATED", hexadecimal and Unix nanoseconds
)

// Attributes that SMB clients set and get back, MS-FSCC section 2.6.
const (
	AttrReadOnly uint32 = 0x01
	AttrHidden   uint32 = 0x02
	AttrSystem   uint32 = 0x04
	AttrArchive  uint32 = 0x20

	keptAttributes = AttrReadOnly | AttrHidden | AttrSystem | AttrArchive
)

// Info is what is known of an object.
type Info struct {
	Dir        bool
	Size       int64 // bytes; 0 for directories
	Allocated  int64 // bytes on disk
	Links      uint32
	Inode      uint64
	Device     uint64
	Created    time.Time
	Accessed   time.Time
	Modified   time.Time
	Changed    time.Time
	Attributes uint32 // the kept ones of MS-FSCC section 2.6

	special bool // neither a file nor a directory
}

func (i Info) id() fileID { return fileID{i.Device, i.Inode} }

// stat reads an open object.
func stat(fd int) (Info, error) {
	var st unix.Statx_t
	err := unix.Statx(fd, "", unix.AT_EMPTY_PATH|unix.AT_STATX_SYNC_AS_STAT, unix.STATX_BASIC_STATS|unix.STATX_BTIME, &st)
	if err != nil {
		return Info{}, translate(err)
	}
	at := func(t unix.StatxTimestamp) time.Time { return time.Unix(t.Sec, int64(t.Nsec)) }
	info := Info{
		Dir: st.Mode&unix.S_IFMT == unix.S_IFDIR, Size: int64(st.Size), Allocated: int64(st.Blocks) * 512, Links: st.Nlink,
		Inode: st.Ino, Device: unix.Mkdev(st.Dev_major, st.Dev_minor),
		Created: at(st.Btime), Accessed: at(st.Atime), Modified: at(st.Mtime), Changed: at(st.Ctime),
	}
	info.special = !info.Dir && st.Mode&unix.S_IFMT != unix.S_IFREG
	if info.Dir {
		info.Size, info.Allocated = 0, 0
	}
	if st.Mask&unix.STATX_BTIME == 0 || st.Btime.Sec == 0 {
		info.Created = info.Modified
	}
	var buf [64]byte
	if n, err := unix.Fgetxattr(fd, dosAttr, buf[:]); err == nil {
		var created int64
		if _, err := fmt.Sscanf(string(buf[:n]), "%x %d", &info.Attributes, &created); err == nil && created != 0 {
			info.Created = time.Unix(0, created)
		}
		info.Attributes &= keptAttributes
	}
	return info, nil
}

// statAt looks at what is at a path without links below an open directory.
func statAt(dir int, path string) (Info, error) {
	fd, err := openBeneath(dir, path, unix.O_RDONLY|unix.O_NONBLOCK|unix.O_NOCTTY, 0)
	if err != nil {
		return Info{}, err
	}
	defer unix.Close(fd)
	return stat(fd)
}

func setDOS(fd int, attributes uint32, created time.Time) error {
	var ns int64
	if !created.IsZero() {
		ns = created.UnixNano()
	}
	return translate(unix.Fsetxattr(fd, dosAttr, fmt.Appendf(nil, "%x %d", attributes&keptAttributes, ns), 0))
}

func setOwner(fd int, user *identity.User, group uint32) error {
	return translate(unix.Fsetxattr(fd, ownerAttr, fmt.Appendf(nil, "%d:%d", user.UID, group), 0))
}

// Owners reads who owns objects below a root, for the core: access.Facts.
type Owners struct {
	Root      string
	Directory *identity.Directory
}

// OwnerOf is access.Facts.OwnerOf.
func (o Owners) OwnerOf(path string) (acl.Ownership, bool) {
	root, err := openRoot(o.Root)
	if err != nil {
		return acl.Ownership{}, false
	}
	defer unix.Close(root)
	fd, err := openBeneath(root, path, unix.O_RDONLY|unix.O_NONBLOCK, 0)
	if err != nil {
		return acl.Ownership{}, false
	}
	defer unix.Close(fd)
	var buf [32]byte
	n, err := unix.Fgetxattr(fd, ownerAttr, buf[:])
	if err != nil {
		return acl.Ownership{}, false
	}
	var uid, gid uint32
	if _, err := fmt.Sscanf(string(buf[:n]), "%d:%d", &uid, &gid); err != nil {
		return acl.Ownership{}, false
	}
	return acl.Ownership{User: o.Directory.UserIndexByUID(uid), Group: o.Directory.GroupIndexByGID(gid)}, true
}
