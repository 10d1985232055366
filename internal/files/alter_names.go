package files

import (
	"errors"
	"slices"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/usage"
)

// directory is an open directory in which names come and go.
type directory struct {
	fd   int
	path string
}

// within runs a change of a directory's names, which may make the directory itself grow by so much. The
// directory must be held. A change that takes no new room is never refused.
func (t at) within(d directory, grows bool, change func() error) error {
	if t.book == nil {
		return change()
	}
	var st unix.Statx_t
	if err := statx(d.fd, &st); err != nil {
		return err
	}
	var most limit.Amount
	owner, known := t.book.DirectoryOwner(usageID(&st))
	if !known {
		owner = t.facts.countsFor(d.fd, &st)
		if !t.mayBeNew(owner) {
			t.book.NoteDirectory(usageID(&st), owner)
		}
	}
	names := []string{d.path}
	if grows { // a directory that is full becomes a tree of blocks: a root, and two for the one there was
		if need := 4 * int64(max(st.Blksize, 4096)); !t.book.Roomy(owner, names, need) {
			most.Bytes = need
		}
	}
	claim, err := t.book.Reserve(owner, names, most)
	var over *usage.Over
	if errors.As(err, &over) && over.Counter.Of != limit.Everything {
		// Whose the directory is being at their limit keeps nobody else from adding a name: it seldom grows by one.
		claim, err = t.book.Reserve(owner, names, limit.Amount{})
	}
	if err != nil {
		return t.fail(d.path, err)
	}
	err = change()
	is := st
	_ = statx(d.fd, &is) // its named streams, which count as well, are what they were
	claim.Settle(usageID(&st), t.amountBy(markless, &is).Minus(t.amountBy(markless, &st)))
	return err
}

// maker makes something new in a directory: what, under which name, and whose it is to be.
type maker struct {
	directory
	name  string
	kind  uint32 // the type bits of st_mode
	bytes int64  // of a link: how long it is
	owner usage.Owner
	is    posix.Attributes // what it is to carry
	mode  uint32
	index *foldIndex
	in    fileID // the directory
}

// markless reads an object as if it had no extended attributes of the service's, as what is new has none.
func markless(string, []byte) (int, error) { return 0, unix.ENODATA }

// make runs a call that makes something and opens it, and has it be its maker's by born. Nobody alters what is not its
// maker's yet: see beginOwned. What cannot be given to its maker is taken away again.
func (a alter) make(m maker, call func() (fd int, err error), born func(fd int, st *unix.Statx_t) error) error {
	t := a.begin(m.in.usage())
	defer t.end()
	path := join(m.path, m.name)
	grow := limit.Amount{Bytes: m.bytes, Files: 1}
	if m.kind == unix.S_IFDIR || t.allocated() {
		grow.Bytes += 4096
	}
	claim, err := t.book.Reserve(m.owner, []string{path}, grow)
	if err != nil {
		return t.fail(path, err)
	}
	var st unix.Statx_t
	fd := -1
	err = t.within(m.directory, true, func() error {
		return m.index.changingIn(m.in, m.fd, func() (err error) {
			if fd, err = call(); err != nil {
				return err
			}
			return statx(fd, &st)
		}, func(names *folded) { names.put(m.name) })
	})
	if fd < 0 {
		claim.Forget()
		return err
	}
	is, id := t.amountBy(markless, &st), usageID(&st)
	claim.Made(id, is)
	if t.book != nil && m.kind == unix.S_IFDIR && m.owner.Own { // another may have had its number
		t.book.NoteDirectory(id, m.owner)
	}
	if err == nil {
		err = born(fd, &st)
	}
	if err != nil {
		flags := 0
		if m.kind == unix.S_IFDIR {
			flags = unix.AT_REMOVEDIR
		}
		gone := t.within(m.directory, false, func() error {
			return m.index.changing(m.fd, func() error { return takeName(m.fd, m.name, flags) },
				func(names *folded) { names.drop(m.name) })
		})
		if gone == nil {
			t.book.Gone(id, m.owner, t.book.Trees([]string{path}), is, false)
		}
		return err
	}
	if t.allocated() && m.kind != unix.S_IFREG && statx(fd, &st) == nil { // its marks take room as well
		if more, err := t.book.Reserve(m.owner, []string{path}, limit.Amount{}); err == nil {
			more.Settle(id, t.amount(fd, &st).Minus(is))
		}
	}
	return nil
}

// maker is for something that the view's subject is about to make, with a mode.
func (v view) maker(parent int, path string, kind uint32, bytes int64, mode uint32) (maker, error) {
	dir, name := split(path)
	var st unix.Statx_t
	if err := statx(parent, &st); err != nil {
		return maker{}, err
	}
	m := maker{directory: directory{parent, dir}, name: name, kind: kind, bytes: bytes, mode: mode, index: v.index, in: fileOf(&st)}
	m.is = v.asBorn(m.directory, &st, mode, kind == unix.S_IFDIR)
	if v.unixFacts().native || kind == unix.S_IFREG || kind == unix.S_IFDIR {
		m.owner = usage.Owner{UID: m.is.UID, GID: m.is.GID, Own: true}
	}
	return m, nil
}

// makeDirectory is the call by which a directory is made.
func makeDirectory(parent int, name string) error {
	return alterBy(callMake, parent, func() error { return unix.Mkdirat(parent, name, bornDir) })
}

// makeFile makes an empty file and opens it.
func makeFile(parent int, name string) (int, error) {
	return openBeneath(parent, name, unix.O_RDWR|unix.O_CREAT|unix.O_EXCL, bornFile)
}

// makeLink makes a symbolic link.
func makeLink(parent int, name, target string) error {
	return alterBy(callMake, parent, func() error { return unix.Symlinkat(target, parent, name) })
}

// makeNode makes a pipe or a socket.
func makeNode(parent int, name string, kind uint32) error {
	return alterBy(callMake, parent, func() error { return unix.Mknodat(parent, name, kind|0o600, 0) })
}

// makeName gives what has a name another.
func makeName(from int, name string, to int, other string) error {
	return alterBy(callMake, to, func() error { return unix.Linkat(from, name, to, other, 0) })
}

// moveName moves a name; replacing says that what is there makes way.
func moveName(from int, name string, to int, other string, replacing bool) error {
	return alterBy(callRename, from, func() error {
		if replacing {
			return unix.Renameat(from, name, to, other)
		}
		return unix.Renameat2(from, name, to, other, unix.RENAME_NOREPLACE)
	})
}

// takeName takes a name away.
func takeName(dir int, name string, flags int) error {
	return alterBy(callRemove, dir, func() error { return unix.Unlinkat(dir, name, flags) })
}

// going is a name that is about to be taken away.
type going struct {
	directory
	name  string
	dir   bool
	names func() ([]string, error) // all that it has, this one first
	// unlessOpen says whether somebody has it open, to a function by whose end nobody has closed it. Nil is for nobody.
	unlessOpen func(func(open bool))
	index      *foldIndex
}

// remove takes a name away, if it is still that of what fd is open on.
func (a alter) remove(fd int, g going) error {
	parent, err := idOf(g.fd)
	if err != nil {
		return err
	}
	id, err := idOf(fd)
	if err != nil {
		return err
	}
	t := a.begin(parent, id)
	defer t.end()
	var st unix.Statx_t
	if err := statx(fd, &st); err != nil {
		return err
	}
	forget, err := t.gone(fd, &st, g)
	if err != nil {
		return err
	}
	flags := 0
	if g.dir {
		flags = unix.AT_REMOVEDIR
	}
	err = t.within(g.directory, false, func() error {
		return g.index.changing(g.fd, func() error {
			if !isNamed(g.fd, g.name, id) {
				return ErrNotFound
			}
			return takeName(g.fd, g.name, flags)
		}, func(names *folded) { names.drop(g.name) })
	})
	if err == nil {
		forget()
	}
	return err
}

// isNamed says whether a name in a directory is that of an object.
func isNamed(dir int, name string, id usage.ID) bool {
	var there unix.Stat_t
	return unix.Fstatat(dir, name, &there, unix.AT_SYMLINK_NOFOLLOW) == nil && (usage.ID{Device: there.Dev, Inode: there.Ino}) == id
}

// gone gives what is to be counted once one of an object's names is no more.
func (t at) gone(fd int, st *unix.Statx_t, g going) (func(), error) {
	if t.book == nil {
		return func() {}, nil
	}
	names, err := g.names()
	if err != nil {
		return nil, err
	}
	was, owner, id := t.amount(fd, st), t.facts.countsFor(fd, st), usageID(st)
	if g.dir || st.Nlink <= 1 {
		trees := t.book.Trees(names)
		return func() {
			if g.unlessOpen == nil {
				t.book.Gone(id, owner, trees, was, false)
				return
			}
			g.unlessOpen(func(open bool) { t.book.Gone(id, owner, trees, was, open) })
		}, nil
	}
	move, err := t.book.Move([]usage.Part{{ID: id, Owner: owner, Amount: was, From: names, To: names[1:]}}, "")
	return move.Done, err
}

// link gives an object that has some names one more, in the directory that to is open on.
func (a alter) link(fd int, namesNow func() ([]string, error), from directory, was string, to directory, name string, index *foldIndex) error {
	parent, err := idOf(to.fd)
	if err != nil {
		return err
	}
	id, err := idOf(fd)
	if err != nil {
		return err
	}
	source, err := idOf(from.fd)
	if err != nil {
		return err
	}
	t := a.begin(parent, id, source)
	defer t.end()
	var st unix.Statx_t
	if err := statx(fd, &st); err != nil {
		return err
	}
	if !isNamed(from.fd, was, id) { // somebody has put something else there since
		return ErrStale
	}
	names, err := namesNow()
	if err != nil {
		return err
	}
	path := join(to.path, name)
	part := usage.Part{ID: id, From: names, To: append(slices.Clone(names), path)}
	if t.book != nil {
		part.Owner, part.Amount = t.facts.countsFor(fd, &st), t.amount(fd, &st)
	}
	move, err := t.book.Move([]usage.Part{part}, "")
	if err != nil {
		return t.fail(path, err)
	}
	err = t.within(to, true, func() error {
		return index.changing(to.fd, func() error { return makeName(from.fd, was, to.fd, name) }, func(names *folded) { names.put(name) })
	})
	if err != nil {
		move.Forget()
		return err
	}
	move.Done()
	return nil
}

// renaming is a name that is about to become another.
type renaming struct {
	fd       int // what is renamed
	dir      bool
	names    []string // all that it has, the one that goes first; the folder is held alone, so that they stay
	from, to string
	src, dst directory
	name     string // in src
	replaced int    // what makes way; -1 for nothing
	going    going
	// namesOf are all names of something below what is renamed, that has several.
	namesOf func(path string, st *unix.Statx_t) []string
	moved   func() // tells those who have it open, or something below it
}

// mostMoved is how many objects may come into a tree, or leave one, by one rename of a directory: they are counted first, and
// nobody else is served in the folder meanwhile.
const mostMoved = 10_000

// rename renames. The caller holds the folder alone. Where a directory with more than mostMoved objects
// would come into a tree or leave one it is ErrAcross, which has clients copy instead.
func (a alter) rename(r renaming, call func() error) error {
	book := a.ledger.Folder(a.folder)
	book.Enter()
	crosses, meets, carries := false, false, false
	if book != nil {
		crosses, meets = book.Crosses(r.from, r.to)
		carries = book.TreeBelow(r.from)
	}
	book.Leave()
	src, err := idOf(r.src.fd)
	if err != nil {
		return err
	}
	dst, err := idOf(r.dst.fd)
	if err != nil {
		return err
	}
	id, err := idOf(r.fd)
	if err != nil {
		return err
	}
	var other usage.ID
	if r.replaced >= 0 {
		if other, err = idOf(r.replaced); err != nil {
			return err
		}
	}
	if meets {
		return ErrAcross
	}
	var t at
	if r.dir && crosses || carries {
		t = a.beginAlone()
		defer t.book.LeaveAlone()
	} else {
		t = a.begin(src, dst, id, other)
		defer t.end()
	}
	if !isNamed(r.src.fd, r.name, id) { // it has been removed, and perhaps something else has its name by now
		return ErrNotFound
	}
	forget := func() {}
	if r.replaced >= 0 {
		if !isNamed(r.dst.fd, r.going.name, other) {
			return ErrNotFound
		}
		var st unix.Statx_t
		if err := statx(r.replaced, &st); err != nil {
			return err
		}
		if forget, err = t.gone(r.replaced, &st, r.going); err != nil {
			return err
		}
	}
	var move usage.Move
	carried := ""
	if carries {
		carried = r.from
	}
	if t.book != nil && (!r.dir && (t.book.HasTrees() || t.book.Counts()) || crosses) {
		parts, err := t.parts(r, crosses)
		if err != nil {
			return err
		}
		if move, err = t.book.Move(parts, carried); err != nil {
			return t.fail(r.to, err)
		}
	}
	if carries {
		t.book.Repath(r.from, r.to)
	}
	err = t.within(r.src, false, func() error {
		if src == dst {
			return call()
		}
		return t.within(r.dst, r.replaced < 0, call)
	})
	if err != nil {
		move.Forget()
		if carries {
			t.book.Repath(r.to, r.from)
		}
		return err
	}
	move.Done()
	forget()
	r.moved()
	if r.dir {
		t.book.Again(r.to)
	}
	return nil
}

// parts are all objects that a rename moves.
func (t at) parts(r renaming, below bool) ([]usage.Part, error) {
	var out []usage.Part
	var st unix.Statx_t
	if err := statx(r.fd, &st); err != nil {
		return nil, err
	}
	to := append([]string{r.to}, r.names[1:]...)
	out = append(out, usage.Part{ID: usageID(&st), Owner: t.facts.countsFor(r.fd, &st), Amount: t.amount(r.fd, &st), From: r.names, To: to})
	if !r.dir || !below {
		return out, nil
	}
	seen := make(map[usage.ID]bool)
	err := t.facts.eachBelow(r.fd, r.from, func(path string, st *unix.Statx_t, get xattrs) error {
		if len(out) > mostMoved {
			return ErrAcross
		}
		id := usageID(st)
		if seen[id] { // another of its names
			return nil
		}
		seen[id] = true
		p := usage.Part{ID: id, Owner: t.facts.countsForBy(get, st), Amount: t.amountBy(get, st), From: []string{path}}
		if st.Nlink > 1 && st.Mode&unix.S_IFMT != unix.S_IFDIR {
			p.From = r.namesOf(path, st)
		}
		for _, name := range p.From {
			if under(name, r.from) {
				name = r.to + name[len(r.from):]
			}
			p.To = append(p.To, name)
		}
		out = append(out, p)
		return nil
	})
	return out, err
}

// carryOver moves a file that has one name into a directory of another folder, under the name that it has. The caller holds both folders alone. It keeps nobody to a limit:
// what was stored is stored.
func (a alter) carryOver(fd int, g going, other alter, into directory) error {
	src, err := idOf(g.fd)
	if err != nil {
		return err
	}
	id, err := idOf(fd)
	if err != nil {
		return err
	}
	dst, err := idOf(into.fd)
	if err != nil {
		return err
	}
	t := a.begin(src, id)
	defer t.end()
	there := other.begin(dst)
	defer there.end()
	if !isNamed(g.fd, g.name, id) {
		return ErrNotFound
	}
	var st unix.Statx_t
	if err := statx(fd, &st); err != nil {
		return err
	}
	forget, err := t.gone(fd, &st, g)
	if err != nil {
		return err
	}
	if a.facts.native != other.facts.native { // whose it is, is written down otherwise there: in both ways before it moves
		if err := other.facts.write(fd, &st, other.facts.read(fd, &st), a.facts.read(fd, &st)); err != nil {
			return err
		}
		if err := statx(fd, &st); err != nil {
			return err
		}
	}
	claim, err := there.book.Reserve(other.facts.countsFor(fd, &st), []string{join(into.path, g.name)}, limit.Amount{})
	if err != nil {
		return err
	}
	err = t.within(g.directory, false, func() error {
		return there.within(into, false, func() error {
			return g.index.changing(g.fd, func() error {
				return g.index.changing(into.fd, func() error { return moveName(g.fd, g.name, into.fd, g.name, false) },
					func(names *folded) { names.put(g.name) })
			}, func(names *folded) { names.drop(g.name) })
		})
	})
	if err != nil {
		claim.Forget()
		return err
	}
	forget()
	claim.Made(id, there.amount(fd, &st))
	return nil
}
