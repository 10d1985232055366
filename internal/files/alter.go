package files

import (
	"errors"
	"os"
	"strconv"
	"sync/atomic"
	"time"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/usage"
)

// This is the one layer that alters data, for handles and objects alike: no other file of the package calls anything of the
// kernel's that writes, makes, moves, removes or marks, which alter_test.go sees to. What must happen before (room
// under the limits) and after (counting) is here and nowhere else.
//
// Whoever has decided that something may be done does it by an alter. The locks are taken in this order: the folder's paths,
// its book (usage.Folder.Enter), the objects (usage.Ledger.Hold), the index of names.

// alter alters what is in one folder.
type alter struct {
	ledger *usage.Ledger
	folder int64
	facts  Facts
	// refused is told of a limit that is in the way, and makes the error of it.
	refused func(path string, over *usage.Over) error
}

// alter is for what the view has allowed.
func (v view) alter() alter {
	return alter{v.ledger, v.folder.ID, v.unixFacts(), func(path string, over *usage.Over) error {
		v.tell(Refused, path, access.Limit)
		return &Full{Over: over, Path: v.display(path)}
	}}
}

// Full is the error for what a limit does not allow; it wraps ErrLimit.
type Full struct {
	Over *usage.Over
	Path string
}

func (f *Full) Error() string { return f.Path + ": " + f.Over.Error() }

// Unwrap makes errors.Is(err, ErrLimit) true.
func (f *Full) Unwrap() error { return ErrLimit }

// at is one alteration under way: what it holds.
type at struct {
	alter
	book *usage.Folder
	held usage.Held
}

// begin enters the folder's book and keeps others off some objects.
func (a alter) begin(ids ...usage.ID) at {
	for {
		book := a.ledger.Folder(a.folder)
		book.Enter()
		t := at{a, book, a.ledger.Hold(ids...)}
		if a.ledger.Folder(a.folder) == book {
			return t
		}
		t.end() // it has just begun, or ceased, to be counted
	}
}

// beginAlone is begin for what moves things between trees.
func (a alter) beginAlone() at {
	book := a.ledger.Folder(a.folder)
	book.EnterAlone()
	return at{alter: a, book: book}
}

func (t at) end() {
	t.held.Release()
	t.book.Leave()
}

func (t at) fail(path string, err error) error {
	var over *usage.Over
	switch {
	case errors.As(err, &over):
		return t.refused(path, over)
	case errors.Is(err, usage.ErrTooMuch):
		return ErrNoSpace
	}
	return err
}

// amount is what an object counts.
func (t at) amount(fd int, st *unix.Statx_t) limit.Amount { return t.amountBy(xattrsOf(fd), st) }

// amountBy is amount for what is read by get; nothing where nothing is counted.
func (t at) amountBy(get xattrs, st *unix.Statx_t) limit.Amount {
	if t.book == nil {
		return limit.Amount{}
	}
	return amountOf(get, st, t.book.Allocated())
}

// allocated says whether bytes are counted as they take space.
func (t at) allocated() bool { return t.book != nil && t.book.Allocated() }

// amountOf is what an object counts: its size and that of its named streams, or the space it takes.
func amountOf(get xattrs, st *unix.Statx_t, allocated bool) limit.Amount {
	switch kind := st.Mode & unix.S_IFMT; {
	case allocated:
		return limit.Amount{Bytes: int64(min(st.Blocks, 1<<53)) * 512, Files: 1}
	case kind == unix.S_IFREG || kind == unix.S_IFDIR:
		return limit.Amount{Bytes: int64(min(st.Size, 1<<62)) + streamBytes(get), Files: 1}
	case kind == unix.S_IFLNK:
		return limit.Amount{Bytes: int64(st.Size), Files: 1}
	}
	return limit.Amount{Files: 1}
}

func usageID(st *unix.Statx_t) usage.ID {
	return usage.ID{Device: unix.Mkdev(st.Dev_major, st.Dev_minor), Inode: st.Ino}
}

func (id fileID) usage() usage.ID { return usage.ID{Device: id.dev, Inode: id.ino} }

// countsFor is whom an object counts for.
func (f Facts) countsFor(fd int, st *unix.Statx_t) usage.Owner {
	return f.countsForBy(xattrsOf(fd), st)
}

func (f Facts) countsForBy(get xattrs, st *unix.Statx_t) usage.Owner {
	a, own := f.numbersBy(get, st)
	if !own {
		return usage.Owner{}
	}
	return usage.Owner{UID: a.UID, GID: a.GID, Own: true}
}

// counted is whom an open file counts for, remembered as long as that cannot have changed.
type counted struct{ at atomic.Pointer[countedAt] }

type countedAt struct {
	book    *usage.Folder
	version int64
	owner   usage.Owner
}

// ownerOf gives whom an object counts for; not sure says that it may have been made this moment. With certain, its
// directory is held.
func (t at) ownerOf(c *counted, fd int, st *unix.Statx_t, certain bool) (o usage.Owner, sure bool) {
	version := t.book.Version()
	if m := c.at.Load(); m != nil && m.book == t.book && m.version == version {
		return m.owner, true
	}
	o = t.facts.countsFor(fd, st)
	if !certain && t.mayBeNew(o) {
		return o, false
	}
	c.at.Store(&countedAt{t.book, version, o})
	return o, true
}

// mayBeNew says whether somebody's may be what has just been made and not been given to its maker yet.
func (t at) mayBeNew(o usage.Owner) bool {
	return !o.Own || t.facts.native && o.UID == uint32(os.Geteuid())
}

// beginOwned is begin for an object that counts for somebody, whom it gives with how the object is. What has just been made is
// nobody's for a moment; whoever makes it holds its directory until it is theirs, and so does this before it believes
// that something is nobody's.
func (a alter) beginOwned(id usage.ID, path func() string, c *counted, fd int, st *unix.Statx_t) (t at, o usage.Owner, err error) {
	var dir usage.ID
	for {
		t = a.begin(id, dir)
		if err = statx(fd, st); err != nil {
			t.end()
			return at{}, o, err
		}
		if t.book == nil {
			return t, o, nil
		}
		var sure bool
		if o, sure = t.ownerOf(c, fd, st, dir != usage.ID{}); sure {
			return t, o, nil
		}
		t.end()
		if dir = a.facts.idAt(path()); dir == (usage.ID{}) {
			dir = id // it has no name any more
		}
	}
}

// idAt is the directory in which something is, at a path; the zero ID where that cannot be told.
func (f Facts) idAt(path string) (id usage.ID) {
	dir, _ := split(path)
	f.at(dir, func(_ int, st *unix.Statx_t) { id = usageID(st) })
	return id
}

// namesOf gives the names of a file, where they matter.
func (t at) namesOf(f *open) ([]string, error) {
	if t.book == nil || !t.book.HasTrees() {
		return nil, nil
	}
	return f.names()
}

// open is a file that is open for writing.
type open struct {
	fd    int
	id    usage.ID
	names func() ([]string, error) // as they are now, the one it is known by first
	path  func() string
	*counted
}

// write runs a system call that writes length bytes at an offset, or at the end where that is negative.
func (a alter) write(f *open, off int64, length int, call func() (int, error)) (int, error) {
	if length == 0 {
		return call()
	}
	if n, done, err := a.overwrite(f, off, length, call); done {
		return n, err
	}
	var st unix.Statx_t
	t, owner, err := a.beginOwned(f.id, f.path, f.counted, f.fd, &st)
	if err != nil {
		return 0, err
	}
	defer t.end()
	at := off
	if at < 0 {
		at = int64(st.Size)
	}
	grow, allocated := int64(0), t.allocated()
	if end := at + int64(length); end < at {
		return 0, ErrNoSpace
	} else if allocated { // as much as it could be
		const block, about = 1 << 16, 1 << 16
		grow = end - at + block + about
		if uint64(end) <= st.Size && st.Blocks*512 >= (st.Size+block-1)/block*block {
			grow = 0 // there are no holes to fill
		}
	} else if uint64(end) > st.Size {
		grow = end - int64(st.Size)
	}
	if st.Nlink == 0 {
		if grow > 0 { // nobody would see what it takes
			return 0, ErrStale
		}
		return call() // it counts as much as it did when it lost its name
	}
	names, err := t.namesOf(f)
	if err != nil {
		return 0, err
	}
	claim, err := t.book.Reserve(owner, names, limit.Amount{Bytes: grow})
	if err != nil {
		return 0, t.fail(f.path(), err)
	}
	n, err := call()
	did := limit.Amount{}
	if allocated {
		was := t.amount(f.fd, &st)
		if statx(f.fd, &st) == nil {
			did.Bytes = t.amount(f.fd, &st).Minus(was).Bytes
		}
	} else if end := at + int64(n); n > 0 && end > int64(st.Size) {
		did.Bytes = end - int64(st.Size)
	}
	claim.Settle(f.id, did)
	return n, err
}

// writeTo is pwrite.
func writeTo(fd int, p []byte, off int64) (int, error) {
	if err := before(callWrite, fd); err != nil {
		return 0, err
	}
	return unix.Pwrite(fd, p, off)
}

// appendTo is pwrite to the end of a file, found and written to in one step.
func appendTo(fd int, p []byte, _ int64) (int, error) {
	if err := before(callWrite, fd); err != nil {
		return 0, err
	}
	return unix.Pwritev2(fd, [][]byte{p}, 0, unix.RWF_APPEND)
}

// overwrite is write for what does not grow the file, beside others who do the same; done says that it did not.
func (a alter) overwrite(f *open, off int64, length int, call func() (int, error)) (n int, done bool, err error) {
	book := a.ledger.Folder(a.folder)
	if off < 0 || book != nil && book.Allocated() {
		return 0, false, nil
	}
	held := a.ledger.HoldShared(f.id)
	defer held.Release()
	var st unix.Statx_t
	if err := statx(f.fd, &st); err != nil {
		return 0, true, err
	}
	if end := off + int64(length); end < off || uint64(end) > st.Size {
		return 0, false, nil
	}
	n, err = call()
	return n, true, err
}

// resize sets the size of a file that is open for writing.
func (a alter) resize(f *open, size int64) error {
	return a.reshape(f, func(st *unix.Statx_t, allocated bool) (int64, error) {
		if grow := size - int64(st.Size); !allocated || grow < 0 {
			return grow, nil
		}
		return 0, nil // what is added is a hole
	}, func() error { return setSize(f.fd, size) })
}

// setSize is ftruncate.
func setSize(fd int, size int64) error {
	return alterBy(callResize, fd, func() error { return unix.Ftruncate(fd, size) })
}

// alterBy runs one call that alters something.
func alterBy(call hostCall, fd int, do func() error) error {
	if err := before(call, fd); err != nil {
		return translate(err)
	}
	return translate(do())
}

// mayGrow says whether a file could be grown to a size now.
func (a alter) mayGrow(f *open, size int64) error {
	var st unix.Statx_t
	t, owner, err := a.beginOwned(f.id, f.path, f.counted, f.fd, &st)
	if err != nil {
		return err
	}
	defer t.end()
	names, err := t.namesOf(f)
	if err != nil {
		return err
	}
	claim, err := t.book.Reserve(owner, names, limit.Amount{Bytes: size - int64(st.Size)})
	if err != nil {
		return t.fail(f.path(), err)
	}
	claim.Forget()
	return nil
}

func idOf(fd int) (usage.ID, error) {
	var st unix.Stat_t
	if err := unix.Fstat(fd, &st); err != nil {
		return usage.ID{}, translate(err)
	}
	return usage.ID{Device: st.Dev, Inode: st.Ino}, nil
}

// setPermissions sets the permission bits that the host itself keeps.
func setPermissions(fd int, mode uint32) error {
	return alterBy(callMark, fd, func() error { return unix.Chmod(procPath(fd), mode) })
}

// setTimes sets when an object was last read and written.
func setTimes(fd int, accessed, modified unix.Timespec) error {
	return alterBy(callMark, fd, func() error {
		return unix.UtimesNanoAt(unix.AT_FDCWD, procPath(fd), []unix.Timespec{accessed, modified}, 0)
	})
}

// mark sets an extended attribute of the service's own.
func mark(fd int, name string, value []byte) error {
	return alterBy(callMark, fd, func() error {
		err := unix.Fsetxattr(fd, name, value, 0)
		if err == unix.EBADF { // opened for its path only
			err = unix.Setxattr(procPath(fd), name, value, 0)
		}
		return err
	})
}

// unmark removes one, if it is there.
func unmark(fd int, name string) error {
	return alterBy(callMark, fd, func() error {
		if err := unix.Removexattr(procPath(fd), name); err != unix.ENODATA {
			return err
		}
		return nil
	})
}

// setDOS sets what SMB clients set of attributes, and the creation time; zero for the host's own.
func setDOS(fd int, attributes uint32, created time.Time) error {
	var ns int64
	if !created.IsZero() {
		ns = created.UnixNano()
	}
	return mark(fd, dosAttr, []byte(strconv.FormatUint(uint64(attributes&(keptAttributes|AttrSparse)), 16)+" "+strconv.FormatInt(ns, 10)))
}
