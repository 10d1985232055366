package files

import (
	"sync/atomic"

	"golang.org/x/sys/unix"
)

// The calls by which the package reads and alters the disks of folders. All go by here so that a test can have a disk
// fail, or not answer, at any of them.

// hostCall is one of them.
type hostCall string

const (
	callOpen   hostCall = "open"
	callLook   hostCall = "look"
	callList   hostCall = "list"
	callRead   hostCall = "read"
	callWrite  hostCall = "write"
	callSync   hostCall = "sync"
	callResize hostCall = "resize"
	callMake   hostCall = "make"
	callRemove hostCall = "remove"
	callRename hostCall = "rename"
	callMark   hostCall = "mark" // sets a mode, a time or an attribute
)

// disturb is what tests put in the way of calls: it is given the call and the descriptor it begins at, and may wait, or give what the call
// is to fail with.
var disturb atomic.Pointer[func(call hostCall, fd int) error]

// Disturb has every call on the disks of folders ask f first, until undo: for tests of what a disk can do. Calls are "open", "look", "list",
// "read", "write", "sync", "resize", "make", "remove", "rename" and "mark"; at is the path of the host at which one begins.
func Disturb(f func(call, at string) error) (undo func()) {
	by := func(call hostCall, fd int) error { return f(string(call), pathOnHost(fd)) }
	disturb.Store(&by)
	return func() { disturb.Store(nil) }
}

// before is called before a call.
func before(call hostCall, fd int) error {
	if f := disturb.Load(); f != nil {
		return (*f)(call, fd)
	}
	return nil
}

// pathOnHost is where on the host an open descriptor is now; "" where that cannot be told.
func pathOnHost(fd int) string {
	buf := make([]byte, longestPath)
	n, err := unix.Readlink(procPath(fd), buf)
	if err != nil {
		return ""
	}
	return string(buf[:n])
}

// readFrom is pread.
func readFrom(fd int, p []byte, off int64) (int, error) {
	if err := before(callRead, fd); err != nil {
		return 0, err
	}
	return unix.Pread(fd, p, off)
}

// flush puts what was written to an object on disk.
func flush(fd int) error {
	if err := before(callSync, fd); err != nil {
		return translate(err)
	}
	return translate(unix.Fsync(fd))
}

// flushData is flush for the bytes of a file alone.
func flushData(fd int) error {
	if err := before(callSync, fd); err != nil {
		return translate(err)
	}
	return translate(unix.Fdatasync(fd))
}

// statxAt looks at a name in a directory, which is not followed.
func statxAt(dir int, name string, st *unix.Statx_t) error {
	if err := before(callLook, dir); err != nil {
		return translate(err)
	}
	return translate(unix.Statx(dir, name, unix.AT_SYMLINK_NOFOLLOW|unix.AT_STATX_SYNC_AS_STAT, unix.STATX_BASIC_STATS|unix.STATX_BTIME, st))
}
