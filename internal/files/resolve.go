package files

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/site"
)

// Errors that a protocol turns into its own codes. They are wrapped, and
// compared with errors.Is.
var (
	ErrNotFound       = errors.New("no such file or directory")
	ErrPathNotFound   = errors.New("a directory on the way is not there")
	ErrExists         = errors.New("it is there already")
	ErrDenied         = errors.New("access denied")
	ErrIsDirectory    = errors.New("it is a directory")
	ErrNotDirectory   = errors.New("it is not a directory")
	ErrSharing        = errors.New("it is open in a way that does not allow this")
	ErrDeletePending  = errors.New("it is about to be deleted")
	ErrReadOnlyFile   = errors.New("it is marked read-only")
	ErrNotEmpty       = errors.New("the directory is not empty")
	ErrName           = errors.New("the name cannot be used")
	ErrNoSpace        = errors.New("no space is left on the volume")
	ErrLimit          = errors.New("a limit is reached")
	ErrGone           = errors.New("the share or folder is no longer there")
	ErrLoop           = errors.New("too many symbolic links")
	ErrClosed         = errors.New("the file is closed")
	ErrInvalid        = errors.New("that cannot be done to it")
	ErrNameTooLong    = errors.New("the name is too long")
	ErrStale          = errors.New("the object is not there any more")
	ErrOwner          = errors.New("only its owner may do that")
	ErrAcross         = errors.New("it cannot be moved that far")
	ErrManyNames      = errors.New("it has too many names")
	ErrNotSupported   = errors.New("that is not supported")
	ErrIO             = errors.New("the disk does not answer as it should")
	ErrReadOnlyVolume = errors.New("the volume can only be read")
)

const (
	longestName  = 255 // bytes, as on every local file system
	longestPath  = 4096
	mostSymlinks = 16
)

// beneath are the resolution flags of every open below a folder: nothing above
// the folder, no symbolic links, whatever is swapped in while we look.
const beneath = unix.RESOLVE_BENEATH | unix.RESOLVE_NO_SYMLINKS | unix.RESOLVE_NO_MAGICLINKS

// Place is what Find found.
type Place struct {
	Path   string // as on disk, where it is there; symbolic links followed
	Exists bool
	File   bool // it exists and is not a directory
	// ParentExists says, where the object is not there, whether all but its last name is.
	ParentExists bool
	link         *linkAt // a symbolic link that is there, or on the way, for those who follow it themselves
}

// linkAt is a symbolic link that a path leads through.
type linkAt struct {
	target string
	rest   string // of the path, after the link
}

// Find looks a path up in a folder, as the records spell it. Names match exactly or else whatever their
// case. Symbolic links are followed as long as they stay below the root; one that
// leads out of it is not there.
func Find(at site.Location, path string) (Place, error) {
	dir, err := openFolder(at)
	if err != nil {
		return Place{}, err
	}
	defer unix.Close(dir)
	place, err := find(dir, plain.Unspell(path), nil)
	place.Path = plain.Spell(place.Path)
	return place, err
}

// openBeneath opens a path that has no symbolic links in it, below dir.
func openBeneath(dir int, path string, flags int, mode uint32) (int, error) {
	call := callOpen
	if flags&unix.O_CREAT != 0 {
		call = callMake
	}
	if err := before(call, dir); err != nil {
		return -1, translate(err)
	}
	if path == "" {
		path = "."
	}
	how := unix.OpenHow{Flags: uint64(flags | unix.O_CLOEXEC), Mode: uint64(mode), Resolve: beneath}
	var fd int
	var err error
	for range 100 {
		if fd, err = unix.Openat2(dir, path, &how); err != unix.EINTR && err != unix.EAGAIN {
			break
		} // a rename elsewhere raced with the walk: look again
	}
	return fd, translate(err)
}

// reopen opens what a descriptor names, wherever it is by now.
func reopen(fd, flags int) (int, error) {
	if err := before(callOpen, fd); err != nil {
		return -1, translate(err)
	}
	again, err := unix.Open(procPath(fd), flags|unix.O_CLOEXEC, 0)
	return again, translate(err)
}

// translate turns the kernel's errors into this package's.
func translate(err error) error {
	if err == nil {
		return nil
	}
	return translated(err)
}

func translated(err error) error {
	errno, ok := err.(unix.Errno)
	if !ok && !errors.As(err, &errno) {
		return err
	}
	if is := translations[errno]; is != nil {
		return is
	}
	return err
}

// translations are made once: that there is nothing of a name is said all the time.
var translations = func() map[unix.Errno]error {
	all := make(map[unix.Errno]error)
	for errno := unix.Errno(1); errno < 256; errno++ {
		if is := meaning(errno); is != nil {
			all[errno] = fmt.Errorf("%w (%w)", is, errno)
		}
	}
	return all
}()

// meaning is what an error of the kernel's is in this package; nil where it is nothing of its own.
func meaning(errno unix.Errno) (is error) {
	switch errno {
	case unix.ENOENT:
		is = ErrNotFound
	case unix.EEXIST:
		is = ErrExists
	case unix.EACCES, unix.EPERM, unix.EXDEV:
		is = ErrDenied
	case unix.EROFS:
		is = ErrReadOnlyVolume
	case unix.EIO, unix.ENODEV, unix.ENXIO, unix.ESHUTDOWN, unix.EUCLEAN, unix.EBADMSG, unix.ENOTCONN, unix.ETIMEDOUT:
		is = ErrIO
	case unix.EISDIR:
		is = ErrIsDirectory
	case unix.ENOTDIR:
		is = ErrNotDirectory
	case unix.ENOTEMPTY:
		is = ErrNotEmpty
	case unix.ENOSPC, unix.EFBIG, unix.E2BIG:
		is = ErrNoSpace
	case unix.EDQUOT:
		is = ErrLimit
	case unix.ELOOP:
		is = ErrDenied // a symbolic link was swapped in where there was none
	case unix.ENAMETOOLONG:
		is = errors.Join(ErrName, ErrNameTooLong)
	case unix.EMFILE, unix.ENFILE, unix.ENOMEM:
		is = ErrTooMany
	case unix.EILSEQ:
		is = ErrName
	case unix.EINVAL:
		is = ErrInvalid
	}
	return is
}

// checkPath refuses what could never be a path below a folder.
func checkPath(path string) error {
	if len(path) > longestPath {
		return fmt.Errorf("%w: longer than %d bytes", ErrName, longestPath)
	}
	if path == "" {
		return nil
	}
	for name := range strings.SplitSeq(path, "/") {
		if err := checkName(name); err != nil {
			return err
		}
	}
	return nil
}

func checkName(name string) error {
	switch {
	case name == "" || name == "." || name == "..":
		return fmt.Errorf("%w: %q", ErrName, name)
	case len(name) > longestName:
		return fmt.Errorf("%w: longer than %d bytes", errors.Join(ErrName, ErrNameTooLong), longestName)
	case strings.ContainsAny(name, "/\x00"):
		return fmt.Errorf("%w: %q", ErrName, name)
	}
	return nil
}

// FoldName is the form in which names that differ only in case are the same. Bytes that are not UTF-8 have no case.
func FoldName(name string) string {
	if utf8.ValidString(name) {
		return strings.Map(unicode.ToUpper, name)
	}
	var b strings.Builder
	for i := 0; i < len(name); {
		r, n := utf8.DecodeRuneInString(name[i:])
		if r == utf8.RuneError && n == 1 {
			b.WriteByte(name[i])
		} else {
			b.WriteRune(unicode.ToUpper(r))
		}
		i += n
	}
	return b.String()
}

func join(dir, name string) string {
	if dir == "" {
		return name
	}
	return dir + "/" + name
}

// split parts a path into its directory and its last name.
func split(path string) (dir, name string) {
	if i := strings.LastIndexByte(path, '/'); i >= 0 {
		return path[:i], path[i+1:]
	}
	return "", path
}

func find(root int, path string, index *foldIndex) (Place, error) {
	return findBy(root, path, index, false)
}

// findBy is find, which ends at the first symbolic link where links are told of and not followed.
func findBy(root int, path string, index *foldIndex, told bool) (Place, error) {
	if err := checkPath(path); err != nil {
		return Place{}, err
	}
	// Most paths are exact and free of links: one call settles those.
	if fd, err := openBeneath(root, path, unix.O_PATH, 0); err == nil {
		var st unix.Stat_t
		err := unix.Fstat(fd, &st)
		unix.Close(fd)
		if err != nil {
			return Place{}, err
		}
		return Place{Path: path, Exists: true, File: st.Mode&unix.S_IFMT != unix.S_IFDIR}, nil
	}
	at, rest, links := "", path, 0
	for rest != "" {
		name, after, _ := strings.Cut(rest, "/")
		dir, err := openBeneath(root, at, unix.O_RDONLY|unix.O_DIRECTORY, 0)
		if err != nil {
			return Place{}, err
		}
		real, mode, target, err := lookUp(dir, name, index)
		unix.Close(dir)
		switch {
		case errors.Is(err, ErrNotFound):
			return Place{Path: join(at, rest), ParentExists: after == ""}, nil
		case err != nil:
			return Place{}, err
		}
		if mode == unix.S_IFLNK && told {
			return Place{Path: join(at, real), Exists: true, File: true, link: &linkAt{target, after}}, nil
		}
		if mode == unix.S_IFLNK {
			if links++; links > mostSymlinks {
				return Place{}, ErrLoop
			}
			spliced, ok := splice(at, target, after)
			if !ok { // leads out of the folder: as good as not there
				return Place{Path: join(at, rest), ParentExists: false}, nil
			}
			at, rest = "", spliced
			if rest == "" {
				return Place{Exists: true}, nil
			}
			continue
		}
		at, rest = join(at, real), after
		if mode != unix.S_IFDIR {
			if rest != "" {
				return Place{Path: join(at, rest)}, nil
			}
			return Place{Path: at, Exists: true, File: true}, nil
		}
	}
	return Place{Path: at, Exists: true}, nil
}

// splice is the path that a link in directory at, with the given target, leads to,
// with what follows it; false if it leaves the folder.
func splice(at, target, after string) (string, bool) {
	if target == "" || filepath.IsAbs(target) {
		return "", false
	}
	joined := filepath.Join(at, target)
	if joined == ".." || strings.HasPrefix(joined, "../") {
		return "", false
	}
	if joined == "." {
		joined = ""
	}
	if after != "" {
		joined = join(joined, after)
	}
	return joined, true
}

// lookUp finds a name in a directory, exactly or whatever its case. mode is the
// type bits; target is set for symbolic links.
func lookUp(dir int, name string, index *foldIndex) (real string, mode uint32, target string, err error) {
	mode, err = modeAt(dir, name)
	if errors.Is(err, ErrNotFound) {
		var ok bool
		if name, ok, err = index.find(dir, name); err == nil && !ok {
			err = ErrNotFound
		}
		if err == nil {
			mode, err = modeAt(dir, name)
		}
	}
	if err != nil {
		return "", 0, "", err
	}
	if mode == unix.S_IFLNK {
		buf := make([]byte, longestPath)
		n, err := unix.Readlinkat(dir, name, buf)
		if err != nil {
			return "", 0, "", translate(err)
		}
		target = string(buf[:n])
	}
	return name, mode, target, nil
}

func modeAt(dir int, name string) (uint32, error) {
	if err := before(callLook, dir); err != nil {
		return 0, translate(err)
	}
	var st unix.Stat_t
	if err := unix.Fstatat(dir, name, &st, unix.AT_SYMLINK_NOFOLLOW); err != nil {
		return 0, translate(err)
	}
	return st.Mode & unix.S_IFMT, nil
}

// readNames lists a directory that is open for reading.
func readNames(dir int) ([]string, error) {
	if err := before(callList, dir); err != nil {
		return nil, translate(err)
	}
	fd, err := unix.Openat(dir, ".", unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return nil, translate(err)
	}
	f := os.NewFile(uintptr(fd), "directory")
	defer f.Close()
	names, err := f.Readdirnames(-1)
	if errors.Is(err, unix.ENOENT) { // it has been removed since it was opened: nothing is in it
		return nil, nil
	}
	return names, err
}

// CheckVolume says why a host directory cannot be a volume, nil if it can: it
// must be writable and hold extended attributes in the user namespace.
func CheckVolume(path string) error {
	f, err := os.CreateTemp(path, ".amber-check-*")
	if err != nil {
		return fmt.Errorf("%s cannot be written: %s", path, reason(err))
	}
	defer os.Remove(f.Name())
	defer f.Close()
	if err := mark(int(f.Fd()), ownerAttr, []byte("0:0")); err != nil {
		return fmt.Errorf("%s is on a file system without extended attributes for users, which ownership needs (%s)", path, reason(err))
	}
	return nil
}

// MayBeVolume is as much of CheckVolume as can be said without writing anything.
func MayBeVolume(path string) error {
	if err := unix.Access(path, unix.R_OK|unix.W_OK|unix.X_OK); err != nil {
		return fmt.Errorf("%s cannot be written: %s", path, reason(err))
	}
	return nil
}

// MayMakeFolder is as much of MakeFolder as can be said without making anything.
func MayMakeFolder(at site.Location, path string) error {
	root, err := openFolder(at)
	if err != nil {
		return err
	}
	defer unix.Close(root)
	fd, err := openBeneath(root, plain.Unspell(path), unix.O_PATH|unix.O_NOFOLLOW, 0)
	if errors.Is(err, ErrNotFound) {
		return nil
	}
	if err != nil {
		return fmt.Errorf("%s leads out of the volume, or through what is not a directory", path)
	}
	defer unix.Close(fd)
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil || st.Mode&unix.S_IFMT != unix.S_IFDIR {
		return fmt.Errorf("%s is not a directory", path)
	}
	return nil
}

// MakeFolder makes a directory below a volume, or below a folder. It may be there.
func MakeFolder(at site.Location, path string) error {
	fd, err := openFolder(at)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	root, err := os.OpenRoot(procPath(fd))
	if err != nil {
		return fmt.Errorf("%s cannot be opened: %s", at, reason(err))
	}
	defer root.Close()
	path = plain.Unspell(path)
	if err := root.MkdirAll(path, 0o770); err != nil {
		return fmt.Errorf("the directory %s cannot be made: %s", plain.Spell(path), reason(err))
	}
	info, err := root.Lstat(path)
	if err != nil {
		return fmt.Errorf("the directory %s cannot be looked at: %s", plain.Spell(path), reason(err))
	}
	if info.Mode()&fs.ModeSymlink != 0 || !info.IsDir() {
		return fmt.Errorf("%s is not a directory", path)
	}
	return nil
}
