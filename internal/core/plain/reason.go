package plain

import (
	"errors"
	"io/fs"
	"os"
	"syscall"
)

// Reason says in plain words why the system refused something about a file or an address.
func Reason(err error) string {
	for _, known := range []struct {
		is   error
		says string
	}{
		{fs.ErrNotExist, "there is none"}, {fs.ErrPermission, "the service may not"}, {fs.ErrExist, "there is one already"},
		{syscall.ENOTDIR, "what should be a directory is none"}, {syscall.EISDIR, "it is a directory"}, {syscall.ENOTEMPTY, "it is not empty"},
		{syscall.ENOSPC, "there is no room left"}, {syscall.EDQUOT, "there is no room left for this user"}, {syscall.EROFS, "it can only be read there"},
		{syscall.EIO, "the disk failed"}, {syscall.ENAMETOOLONG, "the name is too long"}, {syscall.ELOOP, "links lead round in a circle"},
		{syscall.EMFILE, "too many files are open"}, {syscall.ENFILE, "too many files are open on this machine"},
		{syscall.EADDRINUSE, "something else listens there already"}, {syscall.EADDRNOTAVAIL, "this machine does not have that address"},
		{syscall.ECONNREFUSED, "nothing listens there"}, {syscall.ECONNRESET, "it was cut off"}, {syscall.EHOSTUNREACH, "there is no way there"},
		{syscall.ENETUNREACH, "there is no way there"}, {os.ErrDeadlineExceeded, "it took too long"},
	} {
		if errors.Is(err, known.is) {
			return known.says
		}
	}
	var number syscall.Errno
	if errors.As(err, &number) {
		return "the system says " + Text(number.Error())
	}
	return "it failed"
}
