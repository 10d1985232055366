package files

import (
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/plain"
)

// HostDirectory is a directory of the host, as it may become a volume.
type HostDirectory struct {
	Name string
	// Wrong is why it cannot be one, in words; "" where nothing speaks against it, as far as can be told without writing.
	Wrong string
	Mark  string // of a volume, that it carries; "" for none
}

// HostPlace is a directory of the host and those in it, by name.
type HostPlace struct {
	HostDirectory
	FileSystem string // what kind it is: "ext4", "xfs", "nfs"
	Mind       string // what is to be known of that kind; "" for nothing
	Space      Space
	Below      []HostDirectory
	More       bool // there are more directories than are told
}

// mostHostDirectories is how many directories of one are told of.
const mostHostDirectories = 500

// kinds of file system by the number that statfs(2) gives, and what is to be known of them as places for volumes.
var fileSystems = map[int64]struct{ name, mind, wrong string }{
	unix.EXT4_SUPER_MAGIC:      {name: "ext4"}, // and ext2, ext3
	unix.XFS_SUPER_MAGIC:       {name: "xfs"},
	unix.BTRFS_SUPER_MAGIC:     {name: "btrfs"},
	unix.F2FS_SUPER_MAGIC:      {name: "f2fs"},
	0x2fc12fc1:                 {name: "zfs"},
	unix.OVERLAYFS_SUPER_MAGIC: {name: "overlay", mind: "it is the file system of a container: what is stored there may go with it"},
	unix.TMPFS_MAGIC:           {name: "tmpfs", mind: "it is in memory: what is stored there is gone when the machine starts anew"},
	unix.RAMFS_MAGIC:           {name: "ramfs", mind: "it is in memory: what is stored there is gone when the machine starts anew"},
	unix.NFS_SUPER_MAGIC:       {name: "nfs", mind: "it is another machine's: locks and rights are that one's as well"},
	unix.SMB2_SUPER_MAGIC:      {name: "smb", mind: "it is another machine's: locks and rights are that one's as well"},
	unix.CIFS_SUPER_MAGIC:      {name: "smb", mind: "it is another machine's: locks and rights are that one's as well"},
	unix.FUSE_SUPER_MAGIC:      {name: "fuse", mind: "a program serves it: whether it keeps extended attributes and locks is that program's"},
	unix.MSDOS_SUPER_MAGIC:     {name: "fat", wrong: "its file system keeps no extended attributes"},
	unix.PROC_SUPER_MAGIC:      {name: "proc", wrong: "the kernel's own, and no place for files"},
	unix.SYSFS_MAGIC:           {name: "sysfs", wrong: "the kernel's own, and no place for files"},
	unix.CGROUP2_SUPER_MAGIC:   {name: "cgroup", wrong: "the kernel's own, and no place for files"},
	unix.DEVPTS_SUPER_MAGIC:    {name: "devpts", wrong: "the kernel's own, and no place for files"},
	unix.SQUASHFS_MAGIC:        {name: "squashfs", wrong: "its file system can only be read"},
	unix.ISOFS_SUPER_MAGIC:     {name: "iso9660", wrong: "its file system can only be read"},
}

// LookAtHost tells of a directory of the host, by an absolute path without links in it, and of the directories in it. It writes nothing.
func LookAtHost(path string) (HostPlace, error) {
	fd, err := unix.Open(path, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
	if err != nil {
		return HostPlace{}, fmt.Errorf("%s cannot be looked at: %s", path, reason(err))
	}
	defer unix.Close(fd)
	out := HostPlace{HostDirectory: lookAtOne(fd, "", path)}
	var st unix.Statfs_t
	if err := unix.Fstatfs(fd, &st); err == nil {
		out.Space = spaceOf(&st)
		kind, known := fileSystems[int64(st.Type)&0xffffffff]
		if out.FileSystem, out.Mind = kind.name, kind.mind; !known {
			out.FileSystem = fmt.Sprintf("0x%x", uint32(st.Type))
		}
	}
	err = readDirents(fd, make([]byte, direntBuffer), func(e dirent) bool {
		if e.name == "." || e.name == ".." || strings.HasPrefix(e.name, ".") || e.kind != unix.DT_DIR && e.kind != unix.DT_UNKNOWN {
			return true
		}
		var st unix.Stat_t
		if unix.Fstatat(fd, e.name, &st, unix.AT_SYMLINK_NOFOLLOW) != nil || st.Mode&unix.S_IFMT != unix.S_IFDIR {
			return true
		}
		if len(out.Below) >= mostHostDirectories {
			out.More = true
			return false
		}
		out.Below = append(out.Below, HostDirectory{Name: e.name})
		return true
	})
	slices.SortFunc(out.Below, func(a, b HostDirectory) int { return strings.Compare(a.Name, b.Name) })
	for i := range out.Below {
		out.Below[i] = lookAtOne(fd, out.Below[i].Name, strings.TrimSuffix(path, "/")+"/"+out.Below[i].Name)
	}
	return out, err
}

// lookAtOne says what speaks against a directory, open itself or by its name in one that is.
func lookAtOne(dir int, name, path string) HostDirectory {
	out := HostDirectory{Name: plain.Spell(name)}
	fd := dir
	if name != "" {
		var err error
		if fd, err = unix.Openat(dir, name, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0); err != nil {
			out.Wrong = "it cannot be read: " + reason(err)
			return out
		}
		defer unix.Close(fd)
	}
	var st unix.Statfs_t
	if err := unix.Fstatfs(fd, &st); err == nil {
		if out.Wrong = fileSystems[int64(st.Type)&0xffffffff].wrong; out.Wrong == "" && st.Flags&unix.ST_RDONLY != 0 {
			out.Wrong = "it is mounted to be read only"
		}
	}
	if err := unix.Faccessat(fd, ".", unix.R_OK|unix.W_OK|unix.X_OK, 0); err != nil && out.Wrong == "" {
		out.Wrong = fmt.Sprintf("the service, which runs as uid %d, may not write there", os.Geteuid())
	}
	if _, err := unix.Fgetxattr(fd, volumeAttr, nil); errors.Is(err, unix.EOPNOTSUPP) && out.Wrong == "" {
		out.Wrong = "its file system keeps no extended attributes for users"
	}
	out.Mark, _ = readMark(fd)
	if out.Wrong == "" && len(path) > 4000 {
		out.Wrong = "its path is too long"
	}
	return out
}
