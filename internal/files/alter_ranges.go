package files

import (
	"errors"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/limit"
)

// reshape runs a call that changes how long a file is, which parts of it take space, or which streams it has; grow is by how many bytes at most it counts
// for more, and may refuse it. Nobody else alters the file between the two.
func (a alter) reshape(f *open, grow func(st *unix.Statx_t, allocated bool) (int64, error), do func() error) error {
	var st unix.Statx_t
	t, owner, err := a.beginOwned(f.id, f.path, f.counted, f.fd, &st)
	if err != nil {
		return err
	}
	defer t.end()
	was := t.amount(f.fd, &st)
	more, err := grow(&st, t.allocated())
	if err != nil {
		return err
	}
	if st.Nlink == 0 {
		if more > 0 {
			return ErrStale
		}
		return do() // see write
	}
	names, err := t.namesOf(f)
	if err != nil {
		return err
	}
	claim, err := t.book.Reserve(owner, names, limit.Amount{Bytes: more})
	if err != nil {
		return t.fail(f.path(), err)
	}
	if err := do(); err != nil {
		claim.Forget()
		return err
	}
	is := was
	if statx(f.fd, &st) == nil {
		is = t.amount(f.fd, &st)
	}
	claim.Settle(f.id, is.Minus(was))
	return nil
}

// empty has a range of a file read as zeros, and take no space where the file system can. The size stays.
func (a alter) empty(f *open, off, length int64) error {
	return a.reshape(f, func(*unix.Statx_t, bool) (int64, error) { return 0, nil }, func() error {
		return alterBy(callWrite, f.fd, func() error {
			return unix.Fallocate(f.fd, unix.FALLOC_FL_PUNCH_HOLE|unix.FALLOC_FL_KEEP_SIZE, off, length)
		})
	})
}

// copyRange copies within the host from one file to another, by sharing blocks where the file system does that by itself. The bytes go through
// buf where the host cannot, and where both are the same file.
func copyRange(to, from int, toOff, fromOff int64, length int, buf []byte) (done int, err error) {
	for buf == nil && done < length {
		if err := before(callWrite, to); err != nil {
			return done, translate(err)
		}
		at, there := fromOff+int64(done), toOff+int64(done)
		switch n, err := unix.CopyFileRange(from, &at, to, &there, length-done, 0); err {
		case nil:
			if done += n; n == 0 {
				return done, nil
			}
		case unix.EINTR:
		case unix.EXDEV, unix.EINVAL, unix.ENOSYS, unix.EOPNOTSUPP:
			buf = make([]byte, min(length-done, 1<<20))
		default:
			return done, translate(err)
		}
	}
	for done < length {
		n, err := whole(readFrom, from, buf[:min(len(buf), length-done)], fromOff+int64(done))
		if err != nil || n == 0 {
			return done, err
		}
		m, err := whole(writeTo, to, buf[:n], toOff+int64(done))
		done += m
		if err != nil {
			return done, err
		}
	}
	return done, nil
}

// shareRange has one file share the blocks of another: ErrNotSupported where the file system cannot.
func shareRange(to, from int, toOff, fromOff, length int64) error {
	err := alterBy(callWrite, to, func() error {
		return unix.IoctlFileCloneRange(to, &unix.FileCloneRange{Src_fd: int64(from), Src_offset: uint64(fromOff), Src_length: uint64(length), Dest_offset: uint64(toOff)})
	})
	if errors.Is(err, unix.EOPNOTSUPP) || errors.Is(err, unix.ENOTTY) || errors.Is(err, unix.EXDEV) {
		return ErrNotSupported
	}
	return err
}
