package files

import (
	"errors"
	"fmt"
	"net"
	"os"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/site"
)

// A volume carries a mark, which its record knows. What is at the volume's path and does not carry it is something else, most
// often the empty directory on which a disk is not mounted: nothing is read or written there.

const volumeAttr = "user.amber.volume"

// Away is the error for what is on a volume that is not where it should be; it wraps ErrIO.
type Away struct {
	Volume string // its path on the host
	Why    string
}

func (a *Away) Error() string { return a.Volume + " is away: " + a.Why }

// Unwrap makes errors.Is(err, ErrIO) true.
func (a *Away) Unwrap() error { return ErrIO }

// seenVolume is a directory that carried a mark when it was last looked at. The host reuses inode numbers, and so the moment at which it
// was made belongs to it.
type seenVolume struct {
	dirIdentity
	mark string
}

// seenVolumes are those last seen at each path.
var seenVolumes sync.Map // path to seenVolume

// openFolder opens the directory of a folder, if its volume is there: an Away where it is not, ErrGone where the volume is and
// the folder is not.
func openFolder(at site.Location) (int, error) {
	volume, err := openVolume(at)
	if err != nil {
		return -1, err
	}
	defer unix.Close(volume)
	how := unix.OpenHow{Flags: unix.O_PATH | unix.O_DIRECTORY | unix.O_CLOEXEC, Resolve: unix.RESOLVE_BENEATH | unix.RESOLVE_NO_MAGICLINKS}
	below := at.Below
	if below == "" {
		below = "."
	}
	var fd int
	for range 100 {
		if fd, err = unix.Openat2(volume, below, &how); err != unix.EINTR && err != unix.EAGAIN {
			break
		}
	}
	switch {
	case err == nil:
		return fd, nil
	case errors.Is(err, unix.ENOENT), errors.Is(err, unix.ENOTDIR), errors.Is(err, unix.EXDEV), errors.Is(err, unix.ELOOP):
		return -1, fmt.Errorf("%w: %s: %w", ErrGone, at, err)
	}
	return -1, translate(err)
}

func openVolume(at site.Location) (int, error) {
	fd, err := unix.Open(at.Volume, unix.O_PATH|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	switch {
	case at.Mark == "" && err != nil:
		return -1, fmt.Errorf("%w: %s: %w", ErrGone, at.Volume, err)
	case errors.Is(err, unix.ENOENT), errors.Is(err, unix.ENOTDIR):
		return -1, missing(at, "there is no such directory")
	case err != nil:
		return -1, missing(at, "it cannot be opened: "+reason(err))
	}
	if at.Mark == "" {
		return fd, nil
	}
	if err := isVolume(fd, at); err != nil {
		unix.Close(fd)
		return -1, err
	}
	return fd, nil
}

// reason is the host's word for what went wrong.
func reason(err error) string {
	var errno unix.Errno
	if errors.As(err, &errno) {
		return errno.Error()
	}
	return err.Error()
}

// missing is the error for a volume that is not there; it is looked at closely again when something is.
func missing(at site.Location, why string) error {
	seenVolumes.Delete(at.Volume)
	return &Away{at.Volume, why}
}

// isVolume says why what fd is open on is not the volume that it should be.
func isVolume(fd int, at site.Location) error {
	var st unix.Statx_t
	if err := before(callLook, fd); err != nil {
		return missing(at, "it cannot be looked at: "+reason(err))
	}
	if err := unix.Statx(fd, "", unix.AT_EMPTY_PATH|unix.AT_STATX_SYNC_AS_STAT, unix.STATX_INO|unix.STATX_BTIME, &st); err != nil {
		return missing(at, "it cannot be looked at: "+reason(err))
	}
	is := seenVolume{identityOf(&st), at.Mark}
	if was, ok := seenVolumes.Load(at.Volume); ok && was == is && is.born != 0 {
		return nil
	}
	have, err := readMark(fd)
	switch {
	case err != nil:
		return missing(at, "its mark cannot be read: "+reason(err))
	case have == "" && isEmpty(fd):
		return missing(at, "the directory is empty. A disk may not be mounted there")
	case have == "":
		return missing(at, "what is there now is not the volume: it does not carry its mark. Another disk may be mounted there, or none")
	case have != at.Mark:
		return missing(at, "what is there now is another volume: it carries another mark")
	}
	if err := claims.take(at.Mark); err != nil {
		return missing(at, err.Error())
	}
	seenVolumes.Store(at.Volume, is)
	return nil
}

func isEmpty(fd int) bool {
	names, err := readNames(fd)
	return err == nil && len(names) == 0
}

// readMark gives the mark that a directory carries, "" for none.
func readMark(fd int) (string, error) {
	buf := make([]byte, 64)
	n, err := getxattr(fd, volumeAttr, buf)
	switch {
	case errors.Is(err, unix.ENODATA), errors.Is(err, unix.EOPNOTSUPP):
		return "", nil
	case err != nil:
		return "", err
	}
	return string(buf[:n]), nil
}

// IsThere says why a volume is not there: an Away, or nil.
func IsThere(at site.Location) error {
	fd, err := openVolume(at)
	if err == nil {
		unix.Close(fd)
	}
	return err
}

// VolumeMark gives the mark that a host directory carries, "" for none.
func VolumeMark(path string) (string, error) {
	fd, err := unix.Open(path, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return "", err
	}
	defer unix.Close(fd)
	return readMark(fd)
}

// MarkVolume has a host directory carry a mark.
func MarkVolume(path, value string) error {
	fd, err := unix.Open(path, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	if err := mark(fd, volumeAttr, []byte(value)); err != nil {
		return fmt.Errorf("%s cannot be marked as a volume: %s", path, reason(err))
	}
	return flush(fd)
}

// UnmarkVolume takes a mark away, if the directory carries that one.
func UnmarkVolume(path, value string) error {
	fd, err := unix.Open(path, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_CLOEXEC, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	claims.release(value)
	if have, err := readMark(fd); err != nil || have != value {
		return err
	}
	return unmark(fd, volumeAttr)
}

// claims are the volumes that this process has to itself, among the processes of the host: each is a name of the kernel's that one process has
// at a time and that goes when the process does. Unlike a lock on the directory it does not keep the volume from being unmounted.
var claims = &volumeClaims{of: make(map[string]net.Listener), failed: make(map[string]time.Time)}

type volumeClaims struct {
	mu     sync.Mutex
	of     map[string]net.Listener // by mark; nil where somebody of no concern has the name
	failed map[string]time.Time
}

var errTaken = errors.New("another service that runs on this host has it")

// retryClaim is how often it is tried to have a volume that another process has.
const retryClaim = time.Second

func (c *volumeClaims) take(mark string) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if _, ok := c.of[mark]; ok {
		return nil
	}
	if time.Since(c.failed[mark]) < retryClaim {
		return errTaken
	}
	name := "@amber-volume-" + mark
	l, err := net.Listen("unix", name)
	if errors.Is(err, unix.EADDRINUSE) && hasIt(name) {
		c.failed[mark] = time.Now()
		return errTaken
	}
	c.of[mark] = l // without, where the host has no such names: then nobody can be told apart
	delete(c.failed, mark)
	return nil
}

func (c *volumeClaims) release(mark string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if l := c.of[mark]; l != nil {
		l.Close()
	}
	delete(c.of, mark)
}

// hasIt says whether a name is held by a process that could alter what is on a volume of ours: one of the same user, or the superuser's. What
// others hold is not for them to hold.
func hasIt(name string) bool {
	conn, err := net.DialTimeout("unix", name, time.Second)
	if err != nil {
		return false // it has just gone, or nobody is listening
	}
	defer conn.Close()
	raw, err := conn.(*net.UnixConn).SyscallConn()
	if err != nil {
		return true
	}
	ours := true
	_ = raw.Control(func(fd uintptr) {
		if cred, err := unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET, unix.SO_PEERCRED); err == nil {
			ours = cred.Uid == 0 || int(cred.Uid) == os.Geteuid()
		}
	})
	return ours
}
