package files

import (
	"fmt"
	"time"

	"golang.org/x/sys/unix"
)

// Extended attributes in which the service keeps what the host's file system
// cannot say for it.
const (
	ownerAttr    = "user.amber.owner"   // "UID:GID", the logical owner; with ":MODE" in octal where modes decide
	aclAttr      = "user.amber.acl"     // the logical POSIX ACL, as system.posix_acl_access would be
	defaultAttr  = "user.amber.default" // and the default one
	verifierAttr = "user.amber.made"    // the verifier of an exclusive creation over NFS
	dosAttr      = "user.amber.dos"     // "ATTRIBUTES CREATED", hexadecimal and Unix nanoseconds
)

// Attributes that SMB clients set and get back, MS-FSCC section 2.6.
const (
	AttrReadOnly uint32 = 0x01
	AttrHidden   uint32 = 0x02
	AttrSystem   uint32 = 0x04
	AttrArchive  uint32 = 0x20
	AttrSparse   uint32 = 0x200 // set by SetSparse alone

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

	Link  bool // a symbolic link
	ToDir bool // which leads to a directory of the same folder

	special bool // none of these
}

func (i Info) id() fileID { return fileID{i.Device, i.Inode} }

// stat reads an open object.
func stat(fd int) (Info, error) {
	var st unix.Statx_t
	if err := statx(fd, &st); err != nil {
		return Info{}, err
	}
	at := func(t unix.StatxTimestamp) time.Time { return time.Unix(t.Sec, int64(t.Nsec)) }
	info := Info{
		Dir: st.Mode&unix.S_IFMT == unix.S_IFDIR, Size: int64(st.Size), Allocated: int64(st.Blocks) * 512, Links: st.Nlink,
		Inode: st.Ino, Device: unix.Mkdev(st.Dev_major, st.Dev_minor),
		Created: at(st.Btime), Accessed: at(st.Atime), Modified: at(st.Mtime), Changed: at(st.Ctime),
	}
	info.Link = st.Mode&unix.S_IFMT == unix.S_IFLNK
	info.special = !info.Dir && !info.Link && st.Mode&unix.S_IFMT != unix.S_IFREG
	if info.Dir || info.Link {
		info.Size, info.Allocated = 0, 0
	}
	if st.Mask&unix.STATX_BTIME == 0 || st.Btime.Sec == 0 {
		info.Created = info.Modified
	}
	var created int64
	looked, id := time.Since(began), info.id()
	dos, ok := dosSeen.get(id, st.Ctime)
	if !ok {
		dos = readDOS(fd)
		dosSeen.put(id, st.Ctime, looked, dos)
	}
	if info.Attributes, created = dos.attributes, dos.created; created != 0 {
		info.Created = time.Unix(0, created)
	}
	return info, nil
}

// dosMarks are the attributes that SMB clients set, and the creation time in Unix nanoseconds; 0 for none.
type dosMarks struct {
	attributes uint32
	created    int64
}

// dosSeen are those of what was looked at.
var dosSeen = newMemory[fileID, dosMarks]()

func readDOS(fd int) (is dosMarks) {
	var buf [64]byte
	if n, err := getxattr(fd, dosAttr, buf[:]); err == nil {
		if _, err := fmt.Sscanf(string(buf[:n]), "%x %d", &is.attributes, &is.created); err != nil {
			return dosMarks{}
		}
	}
	is.attributes &= keptAttributes | AttrSparse
	return is
}

func statx(fd int, st *unix.Statx_t) error {
	if err := before(callLook, fd); err != nil {
		return translate(err)
	}
	return translate(unix.Statx(fd, "", unix.AT_EMPTY_PATH|unix.AT_STATX_SYNC_AS_STAT, unix.STATX_BASIC_STATS|unix.STATX_BTIME, st))
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
