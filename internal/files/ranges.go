package files

import (
	"context"
	"time"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/acl"
)

// borrow gives a descriptor of its own on what the handle is open on, for one call that has another handle in use: nobody waits for two handles
// at once.
func (h *Handle) borrow() (fd int, err error) {
	err = h.use(func(own int) (err error) {
		fd, err = unix.FcntlInt(uintptr(own), unix.F_DUPFD_CLOEXEC, 0)
		return translate(err)
	})
	return fd, err
}

// fromTo checks that length bytes may be taken from one handle and put into another.
func fromTo(to, from *Handle, toOff, fromOff, length int64) error {
	switch {
	case to.noContents() || from.noContents() || toOff < 0 || fromOff < 0 || length < 0 || toOff+length < toOff || fromOff+length < fromOff:
		return ErrInvalid
	case to.asked&acl.WriteData == 0: // what may only add would have to be found the end for
		return ErrDenied
	}
	if err := from.check(acl.ReadData); err != nil {
		return err
	}
	if err := to.check(acl.WriteData); err != nil {
		return err
	}
	if err := from.mayTouch(fromOff, length, false); err != nil {
		return err
	}
	return to.mayTouch(toOff, length, true)
}

// CopyFrom copies length bytes from a place in another file that is open to a place in this one, without their leaving the host. It gives how
// many it copied: fewer where the other ends.
func (h *Handle) CopyFrom(from *Handle, toOff, fromOff int64, length int) (n int, err error) {
	if err := fromTo(h, from, toOff, fromOff, int64(length)); err != nil {
		return 0, err
	}
	if h.streamed || from.streamed {
		return h.copyStream(from, toOff, fromOff, length)
	}
	err = h.altered(from, func(fd, source int) error {
		var buf []byte
		if h.info.id() == from.info.id() { // it may overlap: read all of it before any is written
			buf = make([]byte, length)
		}
		n, err = h.alter().write(&h.data, toOff, length, func() (int, error) { return copyRange(fd, source, toOff, fromOff, length, buf) })
		return err
	})
	return n, err
}

// wholePart is how much of a file is copied before it is looked whether anybody still waits.
const wholePart = 16 << 20

// CopyWhole has this file be what another is: its bytes, and its named streams in the place of those there were. It gives how many bytes it copied
// of the file itself.
func (h *Handle) CopyWhole(ctx context.Context, from *Handle) (done int64, err error) {
	if h.streamed || from.streamed || h.info.id() == from.info.id() {
		return 0, ErrInvalid
	}
	if err := fromTo(h, from, 0, 0, 0); err != nil {
		return 0, err
	}
	info, err := from.Stat()
	if err != nil {
		return 0, err
	}
	all, err := from.streams()
	if err != nil {
		return 0, err
	}
	for done < info.Size {
		n, err := h.CopyFrom(from, done, done, int(min(info.Size-done, wholePart)))
		if done += int64(n); err != nil {
			return done, err
		}
		if ctx.Err() != nil {
			return done, ErrClosed
		}
		if n == 0 { // it has been cut short meanwhile
			break
		}
	}
	if err := h.Truncate(done); err != nil {
		return done, err
	}
	return done, h.use(func(int) error { return h.restream(func(streams) (streams, error) { return all, nil }) })
}

// ShareFrom has a range of this file share the blocks of a range of another: ErrNotSupported where the file system cannot.
func (h *Handle) ShareFrom(from *Handle, toOff, fromOff, length int64) error {
	if err := fromTo(h, from, toOff, fromOff, length); err != nil || length == 0 {
		return err
	}
	if h.streamed || from.streamed {
		return ErrNotSupported
	}
	if info, err := from.Stat(); err != nil || fromOff+length > info.Size && fromOff+length > roundUp(info.Size) {
		return ErrInvalid
	}
	return h.altered(from, func(fd, source int) error {
		_, err := h.alter().write(&h.data, toOff, int(length), func() (int, error) {
			if err := shareRange(fd, source, toOff, fromOff, length); err != nil {
				return 0, err
			}
			return int(length), nil
		})
		return err
	})
}

// roundUp is where the last cluster of a file ends, to which clients share it.
func roundUp(size int64) int64 { return (size + 1<<16 - 1) &^ (1<<16 - 1) }

// altered runs what alters the file from another.
func (h *Handle) altered(from *Handle, do func(fd, source int) error) error {
	source, err := from.borrow()
	if err != nil {
		return err
	}
	defer unix.Close(source)
	from.did(Read, &from.toldRead)
	return h.rewritten(func(fd int) error { return do(fd, source) })
}

// rewritten runs what alters the data of the file, or of the stream.
func (h *Handle) rewritten(do func(fd int) error) error {
	h.did(Wrote, &h.toldWrote)
	h.alters()
	err := h.use(func(fd int) error {
		if !h.streamed {
			if err := h.altering(fd); err != nil {
				return err
			}
		}
		return do(fd)
	})
	h.touched()
	return err
}

// Zero has a range of the file read as zeros, up to where it ends (MS-FSCC section 2.3.71).
func (h *Handle) Zero(off, end int64) error {
	if err := h.check(acl.WriteData); err != nil {
		return err
	}
	if h.noContents() || off < 0 || end < off {
		return ErrInvalid
	}
	info, err := h.Stat()
	if err != nil {
		return err
	}
	if end = min(end, info.Size); end <= off {
		return nil
	}
	if err := h.mayTouch(off, end-off, true); err != nil {
		return err
	}
	return h.rewritten(func(int) error {
		if h.streamed {
			return h.zeroStream(off, end)
		}
		return h.alter().empty(&h.data, off, end-off)
	})
}

// SetSparse marks a file as one that may have holes, or no longer (MS-FSCC section 2.3.69). Every file may; some clients make them only in those
// that are marked.
func (h *Handle) SetSparse(is bool) error {
	if h.asked&(acl.WriteData|acl.AppendData|acl.WriteAttributes) == 0 {
		return ErrDenied
	}
	if err := h.check(h.asked & (acl.WriteData | acl.AppendData | acl.WriteAttributes)); err != nil {
		return err
	}
	if !h.file || h.streamed || h.linked {
		return ErrInvalid
	}
	return h.use(func(fd int) error {
		dos := readDOS(fd)
		var at time.Time
		if dos.created != 0 {
			at = time.Unix(0, dos.created)
		}
		attributes := dos.attributes &^ AttrSparse
		if is {
			attributes |= AttrSparse
		}
		return setDOS(fd, attributes, at)
	})
}

// Extent is a part of a file, in bytes.
type Extent struct{ Offset, Length int64 }

// Allocated gives the parts of a range that take space, the first most of them; more says that there are others (MS-FSCC section 2.3.51).
func (h *Handle) Allocated(off, length int64, most int) (out []Extent, more bool, err error) {
	if err := h.check(acl.ReadData); err != nil {
		return nil, false, err
	}
	if h.noContents() || off < 0 || length < 0 || off+length < off {
		return nil, false, ErrInvalid
	}
	if h.streamed {
		info, err := h.Stat()
		if end := min(off+length, info.Size); err == nil && off < end && most > 0 {
			out = []Extent{{off, end - off}}
		}
		return out, false, err
	}
	err = h.use(func(fd int) error {
		for at, end := off, off+length; at < end; {
			if err := before(callLook, fd); err != nil {
				return translate(err)
			}
			data, err := unix.Seek(fd, at, unix.SEEK_DATA)
			if err == unix.ENXIO || err == nil && data >= end {
				return nil
			}
			if err != nil {
				return translate(err)
			}
			if len(out) == most {
				more = true
				return nil
			}
			hole, err := unix.Seek(fd, data, unix.SEEK_HOLE)
			if err != nil {
				return translate(err)
			}
			out = append(out, Extent{data, min(hole, end) - data})
			at = hole
		}
		return nil
	})
	return out, more, err
}
