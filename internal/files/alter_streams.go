package files

import (
	"slices"

	"golang.org/x/sys/unix"
)

// restream changes the named streams of an object. They count for whom the object counts for, as its own bytes do.
func (a alter) restream(f *open, change func(streams) (streams, error)) error {
	var value []byte
	grows := false
	return a.reshape(f, func(st *unix.Statx_t, allocated bool) (int64, error) {
		have, was, err := readStreams(xattrsOf(f.fd))
		if err != nil {
			return 0, err
		}
		is, err := change(have)
		if err != nil {
			return 0, err
		}
		value = is.bytes()
		if len(is) > mostStreams || len(value) > mostStreamBytes {
			return 0, ErrNoSpace
		}
		grow := int64(len(value) - was)
		if grows = grow > 0; grows && allocated {
			grow += int64(max(st.Blksize, 4096))
		}
		return grow, nil
	}, func() error { return setStreams(f.fd, value, grows) })
}

// setStreams writes the attribute down. What grows is written with spare room first, so that a file system that keeps little beside an
// object refuses a stream, and not later the owner or the entries that the service has to write down there.
func setStreams(fd int, value []byte, grows bool) error {
	if len(value) == 0 {
		return unmark(fd, streamsAttr)
	}
	if grows {
		if err := mark(fd, streamsAttr, append(slices.Clip(value), make([]byte, spareMarks)...)); err != nil {
			return err
		}
	}
	return mark(fd, streamsAttr, value)
}
