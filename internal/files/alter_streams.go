package files

import (
	"slices"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/limit"
)

// restream changes the named streams of an object. They count for whom the object counts for, as its own bytes do.
func (a alter) restream(f *open, change func(streams) (streams, error)) error {
	var st unix.Statx_t
	t, owner, err := a.beginOwned(f.id, f.path, f.counted, f.fd, &st)
	if err != nil {
		return err
	}
	defer t.end()
	have, was, err := readStreams(xattrsOf(f.fd))
	if err != nil {
		return err
	}
	is, err := change(have)
	if err != nil {
		return err
	}
	value := is.bytes()
	grow := int64(len(value) - was)
	switch {
	case len(is) > mostStreams || len(value) > mostStreamBytes:
		return ErrNoSpace
	case grow > 0 && st.Nlink == 0:
		return ErrStale
	case grow > 0 && t.allocated():
		grow += int64(max(st.Blksize, 4096))
	}
	names, err := t.namesOf(f)
	if err != nil {
		return err
	}
	claim, err := t.book.Reserve(owner, names, limit.Amount{Bytes: grow})
	if err != nil {
		return t.fail(f.path(), err)
	}
	before := t.amount(f.fd, &st)
	if err := setStreams(f.fd, value, len(value) > was); err != nil {
		claim.Forget()
		return err
	}
	after := before
	if statx(f.fd, &st) == nil {
		after = t.amount(f.fd, &st)
	}
	if st.Nlink == 0 {
		claim.Forget()
		return nil
	}
	claim.Settle(f.id, after.Minus(before))
	return nil
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
