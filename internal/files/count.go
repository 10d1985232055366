package files

import (
	"context"
	"errors"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/usage"
)

// Account has growth held to the limits of a ledger, and counted in it; before anything is served.
func (n *Namespace) Account(l *usage.Ledger) { n.ledger = l }

// CountFor is whom what has no owner of its own counts for in a folder.
func CountFor(p *site.Policy, f *site.PublishedFolder) usage.Owner {
	a, _ := FactsOf(p, f).numbersBy(func(string, []byte) (int, error) { return 0, unix.ENODATA }, &unix.Statx_t{})
	return usage.Owner{UID: a.UID, GID: a.GID}
}

// Follow brings what is counted of a folder into line with the policy: setup says how it is to be counted by the policy in
// force, nil for not at all. It gives the counts that are due.
func (n *Namespace) Follow(folder int64, setup func() *usage.Setup) []usage.Need {
	state := n.folder(folder)
	state.paths.RLock() // no directory with a limit on it is being renamed
	defer state.paths.RUnlock()
	return n.ledger.Set(folder, setup)
}

// Pace is asked from time to time how a count may go on: it waits, or ends the count by an error.
type Pace func(counted int64) error

// chunk is how many names of a directory are looked at between two chances for renames.
const chunk = 500

// Count counts all of a folder, or what is below a directory in it, while people write. Counted says that it
// has been done: it is false, without an error, where another count is going on there.
func (n *Namespace) Count(ctx context.Context, folder int64, below string, pace Pace) (differed usage.Differed, counted bool, err error) {
	book := n.ledger.Folder(folder)
	if book == nil {
		return usage.Differed{}, true, nil
	}
	scan := book.Count(below)
	if scan == nil {
		return usage.Differed{}, false, nil
	}
	c := &counting{n: n, folder: folder, book: book, scan: scan, pace: pace, ctx: ctx}
	for {
		dir, ok := scan.Next()
		if !ok {
			if differed, done := scan.Finish(); done {
				return differed, true, nil
			}
			continue
		}
		if err := c.directory(dir); err != nil {
			scan.Cancel()
			return usage.Differed{}, false, err
		}
	}
}

type counting struct {
	n      *Namespace
	folder int64
	book   *usage.Folder
	scan   *usage.Scan
	pace   Pace
	ctx    context.Context
	buf    []byte
}

// directory counts a directory and what is in it, and notes the directories in it to be looked at.
func (c *counting) directory(path string) error {
	var names []dirent
	var id usage.ID
	first := true
	for {
		if err := errors.Join(c.ctx.Err(), c.pace(c.scan.Done())); err != nil {
			return err
		}
		rest, more, err := c.some(path, &id, names, first)
		if err != nil || !more {
			return err
		}
		names, first = rest, false
	}
}

// some counts the next names of a directory. The path is looked at each time: where the directory has been renamed meanwhile it
// will be come by again.
func (c *counting) some(path string, id *usage.ID, names []dirent, first bool) (rest []dirent, more bool, err error) {
	p := c.n.policy()
	f := p.Folder(c.folder)
	if f == nil {
		return nil, false, ErrGone
	}
	facts, state := FactsOf(p, f), c.n.folder(c.folder)
	state.paths.RLock()
	defer state.paths.RUnlock()
	root, err := openFolder(f.At)
	if err != nil {
		return nil, false, err
	}
	defer unix.Close(root)
	fd, err := openBeneath(root, path, unix.O_RDONLY|unix.O_DIRECTORY, 0)
	if errors.Is(err, ErrNotFound) || errors.Is(err, ErrNotDirectory) || errors.Is(err, ErrDenied) && path != "" {
		return nil, false, nil
	}
	if err != nil {
		return nil, false, err
	}
	defer unix.Close(fd)
	here, err := idOf(fd)
	if err != nil {
		return nil, false, err
	}
	if first {
		*id = here
		if c.buf == nil {
			c.buf = make([]byte, direntBuffer)
		}
		if err := readDirents(fd, c.buf, func(e dirent) bool {
			if e.name != "." && e.name != ".." {
				names = append(names, e)
			}
			return true
		}); err != nil {
			return nil, false, err
		}
		c.look(facts, here, path, func(st *unix.Statx_t) error { return statx(fd, st) }, xattrsOf(fd), nil, facts.idAt(path))
	} else if here != *id {
		return nil, false, nil
	}
	proc := procPath(fd) + "/"
	for i, e := range names {
		if i == chunk {
			return names[chunk:], true, nil
		}
		at := join(path, e.name)
		if e.kind == unix.DT_UNKNOWN { // some file systems do not say
			if mode, err := modeAt(fd, e.name); err == nil && mode == unix.S_IFDIR {
				e.kind = unix.DT_DIR
			}
		}
		if e.kind == unix.DT_DIR {
			c.scan.Into(at)
			continue
		}
		see := func(st *unix.Statx_t) error {
			return statxAt(fd, e.name, st)
		}
		get := func(attr string, buf []byte) (int, error) { return unix.Lgetxattr(proc+e.name, attr, buf) }
		// It is what the directory said, unless something is mounted there or it has been replaced since.
		target, all := usage.ID{Device: here.Device, Inode: e.ino}, []string(nil)
		for c.look(facts, target, at, see, get, all, here) {
			var st unix.Statx_t
			if see(&st) != nil {
				break // gone since
			}
			if st.Mode&unix.S_IFMT == unix.S_IFDIR {
				c.scan.Into(at)
				break
			}
			target, all = usageID(&st), c.n.namesOfStat(f, state, &st, at)
		}
	}
	return nil, false, nil
}

// look counts one object as it is when nobody alters it, or the directory that it is in: what has just been made is not its maker's
// yet. Again says that it is something else than it was thought to be, or has more names than were given.
func (c *counting) look(facts Facts, id usage.ID, path string, see func(*unix.Statx_t) error, get xattrs, names []string, in usage.ID) (again bool) {
	c.book.Enter()
	defer c.book.Leave()
	held := c.n.ledger.Hold(id, in)
	defer held.Release()
	var st unix.Statx_t
	switch {
	case see(&st) != nil || st.Nlink == 0:
		return false // gone since; what has its name now is counted by who made it
	case usageID(&st) != id:
		return true
	case names == nil && st.Nlink > 1 && st.Mode&unix.S_IFMT != unix.S_IFDIR && c.book.HasTrees():
		return true
	case names == nil:
		names = []string{path}
	}
	c.scan.Look(id, facts.countsForBy(get, &st), names, amountOf(get, &st, c.book.Allocated()))
	return false
}

// eachBelow visits everything below an open directory, which has a path.
func (f Facts) eachBelow(dir int, path string, visit func(path string, st *unix.Statx_t, get xattrs) error) error {
	fd, err := openBeneath(dir, "", unix.O_RDONLY|unix.O_DIRECTORY, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	names, err := readNames(fd)
	if err != nil {
		return err
	}
	proc := procPath(fd) + "/"
	for _, name := range names {
		var st unix.Statx_t
		if err := statxAt(fd, name, &st); err != nil {
			continue
		}
		at := join(path, name)
		if err := visit(at, &st, func(attr string, buf []byte) (int, error) { return unix.Lgetxattr(proc+name, attr, buf) }); err != nil {
			return err
		}
		if st.Mode&unix.S_IFMT != unix.S_IFDIR {
			continue
		}
		child, err := openBeneath(fd, name, unix.O_RDONLY|unix.O_DIRECTORY, 0)
		if errors.Is(err, ErrNotFound) || errors.Is(err, ErrNotDirectory) {
			continue // gone since
		}
		if err != nil {
			return err
		}
		err = f.eachBelow(child, at, visit)
		unix.Close(child)
		if err != nil {
			return err
		}
	}
	return nil
}
