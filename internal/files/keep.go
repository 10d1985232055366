package files

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/usage"
)

// Keeping says what goes from one folder into another to be kept: what belongs to a uid, and all that is at and below a path, "" for none. It comes to lie below a
// path of the other folder, at the path that it had. Paths are as on disk.
type Keeping struct {
	From, To int64
	UID      uint32
	Own      string
	Below    string
}

// Kept is what came of it.
type Kept struct {
	Files   int64
	Refused []string // what stayed where it was, with why, in words; the first hundred
	Stayed  int64    // how many that was
}

func (k *Kept) stays(display string, err error) {
	if errors.Is(err, ErrExists) {
		err = ErrExists
	}
	if k.Stayed++; len(k.Refused) < 100 {
		k.Refused = append(k.Refused, display+": "+err.Error())
	}
}

var (
	errSeveralNames = errors.New("it has several names, and they would be in two folders")
	errOpen         = errors.New("somebody has it open")
)

// Keep moves it, file by file, and takes directories away that are left with nothing in them. What is moved stays whose it is. A file that has several names, is open,
// or has something in its place already stays; so does everything where the folders are on different file systems. After an
// interruption it goes on by being called again.
func (n *Namespace) Keep(ctx context.Context, k Keeping, step func()) (out Kept, err error) {
	p := n.policy()
	from, to := p.Folder(k.From), p.Folder(k.To)
	if from == nil || to == nil {
		return out, ErrGone
	}
	src, err := openFolder(from.At)
	if err != nil {
		return out, err
	}
	defer unix.Close(src)
	dst, err := openFolder(to.At)
	if err != nil {
		return out, err
	}
	defer unix.Close(dst)
	var a, b unix.Statx_t
	if err := errors.Join(statx(src, &a), statx(dst, &b)); err != nil {
		return out, err
	}
	if usageID(&a).Device != usageID(&b).Device {
		return out, fmt.Errorf("%s is on another file system than %s: %w", to.Name, from.Name, ErrAcross)
	}
	m := mover{n: n, k: k, src: n.onBehalfOf(p, from), dst: n.onBehalfOf(p, to), srcRoot: src, dstRoot: dst}
	facts := m.src.unixFacts()
	var emptied []string
	err = facts.eachBelow(src, "", func(path string, st *unix.Statx_t, get xattrs) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		owner, own := facts.numbersBy(get, st)
		if !(own && owner.UID == k.UID) && !(k.Own != "" && under(path, k.Own)) {
			return nil
		}
		if st.Mode&unix.S_IFMT == unix.S_IFDIR {
			emptied = append(emptied, path)
			if k.Own == "" || !under(path, k.Own) {
				return nil
			}
			if fd, err := m.parents(join(path, "x")); err == nil { // a directory of theirs is kept even with nothing in it
				unix.Close(fd)
			}
			return nil
		}
		if err := m.move(path); err != nil {
			out.stays(from.Display(plain.Spell(path)), err)
			return nil
		}
		out.Files++
		step()
		return nil
	})
	slices.Sort(out.Refused)
	for _, path := range slices.Backward(emptied) {
		if ctx.Err() == nil && err == nil {
			err = m.takeEmpty(m.src, src, path)
		}
	}
	return out, err
}

// Empty removes all that is at and below a path of a folder, and gives how many files that was. What is open, or cannot be removed, stays.
func (n *Namespace) Empty(ctx context.Context, folder int64, path string, step func()) (out Kept, err error) {
	p := n.policy()
	f := p.Folder(folder)
	if f == nil || path == "" {
		return out, ErrGone
	}
	root, err := openFolder(f.At)
	if err != nil {
		return out, err
	}
	defer unix.Close(root)
	fd, err := openBeneath(root, path, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW, 0)
	if errors.Is(err, ErrNotFound) || errors.Is(err, ErrPathNotFound) {
		return out, nil
	}
	if err != nil {
		return out, err
	}
	defer unix.Close(fd)
	m := mover{n: n, src: n.onBehalfOf(p, f), srcRoot: root}
	directories := []string{path}
	err = m.src.unixFacts().eachBelow(fd, path, func(path string, st *unix.Statx_t, _ xattrs) error {
		if err := ctx.Err(); err != nil {
			return err
		}
		if st.Mode&unix.S_IFMT == unix.S_IFDIR {
			directories = append(directories, path)
			return nil
		}
		if err := m.remove(path, st); err != nil {
			out.stays(f.Display(plain.Spell(path)), err)
			return nil
		}
		out.Files++
		step()
		return nil
	})
	for _, path := range slices.Backward(directories) {
		if ctx.Err() == nil && err == nil {
			err = m.takeEmpty(m.src, root, path)
		}
	}
	return out, err
}

// onBehalfOf is a view of a folder by the service itself.
func (n *Namespace) onBehalfOf(p *site.Policy, f *site.PublishedFolder) view {
	facts := FactsOf(p, f)
	return view{policy: p, sub: Subject{Via: site.SMB}, folder: f, now: n.now(), ledger: n.ledger, index: n.index, facts: &facts}
}

// mover moves what is kept.
type mover struct {
	n                *Namespace
	k                Keeping
	src, dst         view
	srcRoot, dstRoot int
}

// alone keeps everybody from deciding by the paths of both folders, in the order of their numbers.
func (m *mover) alone() (end func()) {
	a, b := m.n.folder(m.k.From), m.n.folder(m.k.To)
	if m.k.From > m.k.To {
		a, b = b, a
	}
	a.paths.Lock()
	if a != b {
		b.paths.Lock()
	}
	return func() {
		if a != b {
			b.paths.Unlock()
		}
		a.paths.Unlock()
	}
}

// move moves one file.
func (m *mover) move(path string) error {
	to := join(m.k.Below, path)
	into, err := m.parents(path)
	if err != nil {
		return err
	}
	defer unix.Close(into)
	defer m.alone()()
	parent, fd, err := openNamed(m.srcRoot, path)
	if err != nil {
		return err
	}
	defer unix.Close(parent)
	defer unix.Close(fd)
	dir, name := split(path)
	var st unix.Statx_t
	if err := statx(fd, &st); err != nil {
		return err
	}
	if st.Nlink > 1 {
		return errSeveralNames
	}
	if err := m.closed(&st); err != nil {
		return err
	}
	toDir, _ := split(to)
	err = m.src.alter().carryOver(fd, going{directory: directory{parent, dir}, name: name, index: m.n.index, names: func() ([]string, error) { return []string{path}, nil }},
		m.dst.alter(), directory{into, toDir})
	if err == nil {
		m.n.folder(m.k.From).epoch.Add(1)
		m.n.folder(m.k.To).epoch.Add(1)
		m.n.notify.tell(m.k.From, Event{Path: path, Kind: EventRemoved})
		m.n.notify.tell(m.k.To, Event{Path: to, Kind: EventAdded})
	}
	return err
}

// openNamed opens what is at a path, and the directory that it is in.
func openNamed(root int, path string) (parent, fd int, err error) {
	dir, name := split(path)
	if parent, err = openBeneath(root, dir, unix.O_RDONLY|unix.O_DIRECTORY, 0); err != nil {
		return -1, -1, err
	}
	if fd, err = openBeneath(parent, name, unix.O_PATH|unix.O_NOFOLLOW, 0); err != nil {
		unix.Close(parent)
		return -1, -1, err
	}
	return parent, fd, nil
}

// closed says whether nobody has something open over SMB, as is known.
func (m *mover) closed(st *unix.Statx_t) error {
	m.n.mu.Lock()
	defer m.n.mu.Unlock()
	id := usageID(st)
	if m.n.open[fileID{id.Device, id.Inode}.data()] != nil {
		return errOpen
	}
	return nil
}

// parents makes the directories that something from a path is to lie in where it is kept, each as the one that it stands for.
func (m *mover) parents(path string) (fd int, err error) {
	state := m.n.folder(m.k.To)
	state.paths.RLock()
	defer state.paths.RUnlock()
	if fd, err = openBeneath(m.dstRoot, "", unix.O_RDONLY|unix.O_DIRECTORY, 0); err != nil {
		return -1, err
	}
	dir, _ := split(path)
	in := ""
	for _, name := range parts(join(m.k.Below, dir)) {
		is := posix.Attributes{UID: m.k.UID, GID: site.Anonymous, Mode: 0o700, Dir: true}
		if at := join(in, name); under(at, m.k.Below) && at != m.k.Below {
			is = m.attributesOf(at[len(m.k.Below)+1:], is)
		}
		next, err := m.enter(fd, in, name, is)
		unix.Close(fd)
		if err != nil {
			return -1, err
		}
		fd, in = next, join(in, name)
	}
	return fd, nil
}

func parts(path string) (out []string) {
	for path != "" {
		dir, name := split(path)
		out, path = append(out, name), dir
	}
	slices.Reverse(out)
	return out
}

// attributesOf is whose a directory is, in the folder that it is in.
func (m *mover) attributesOf(path string, otherwise posix.Attributes) posix.Attributes {
	fd, err := openBeneath(m.srcRoot, path, unix.O_PATH|unix.O_DIRECTORY|unix.O_NOFOLLOW, 0)
	if err != nil {
		return otherwise
	}
	defer unix.Close(fd)
	var st unix.Statx_t
	if statx(fd, &st) != nil {
		return otherwise
	}
	return m.src.unixFacts().read(fd, &st)
}

// enter opens a directory in another, which it makes if it is not there.
func (m *mover) enter(parent int, in, name string, is posix.Attributes) (int, error) {
	const flags = unix.O_RDONLY | unix.O_DIRECTORY | unix.O_NOFOLLOW
	fd, err := openBeneath(parent, name, flags, 0)
	if !errors.Is(err, ErrNotFound) {
		return fd, err
	}
	is.ACL, is.Default = nil, nil
	v := m.dst
	of, err := idOf(parent)
	if err != nil {
		return -1, err
	}
	make := maker{directory: directory{parent, in}, name: name, kind: unix.S_IFDIR, is: is, mode: is.Mode, index: v.index,
		owner: usage.Owner{UID: is.UID, GID: is.GID, Own: true}, in: fileID{of.Device, of.Inode}}
	fd = -1
	err = v.make(make, func() (int, error) {
		if err := makeDirectory(parent, name); err != nil {
			return -1, err
		}
		fd, err = openBeneath(parent, name, flags, 0)
		return fd, err
	})
	if errors.Is(err, ErrExists) {
		return openBeneath(parent, name, flags, 0)
	}
	if err != nil && fd >= 0 {
		unix.Close(fd)
		fd = -1
	}
	return fd, err
}

// remove takes one file away.
func (m *mover) remove(path string, st *unix.Statx_t) error {
	state := m.n.folder(m.src.folder.ID)
	state.paths.Lock()
	defer state.paths.Unlock()
	if err := m.closed(st); err != nil {
		return err
	}
	return m.take(m.src, m.srcRoot, path, false)
}

// TakeTried removes a file that a trial has left: an empty one, or one of a few bytes, that nobody has open. It is as if it had not been.
func (n *Namespace) TakeTried(folder int64, path string, most int64) error {
	p := n.policy()
	f := p.Folder(folder)
	if f == nil {
		return ErrGone
	}
	root, err := openFolder(f.At)
	if err != nil {
		return err
	}
	defer unix.Close(root)
	path = plain.Unspell(path)
	fd, err := openBeneath(root, path, unix.O_PATH|unix.O_NOFOLLOW, 0)
	if err != nil {
		return err
	}
	defer unix.Close(fd)
	var st unix.Statx_t
	if err := statx(fd, &st); err != nil {
		return err
	}
	if st.Mode&unix.S_IFMT != unix.S_IFREG || st.Nlink != 1 || int64(st.Size) > most {
		return ErrDenied
	}
	m := mover{n: n, src: n.onBehalfOf(p, f), srcRoot: root}
	return m.remove(path, &st)
}

// takeEmpty takes a directory away that has nothing in it.
func (m *mover) takeEmpty(v view, root int, path string) error {
	state := m.n.folder(v.folder.ID)
	state.paths.Lock()
	defer state.paths.Unlock()
	err := m.take(v, root, path, true)
	if errors.Is(err, ErrNotEmpty) || errors.Is(err, ErrExists) || errors.Is(err, ErrNotFound) || errors.Is(err, ErrPathNotFound) {
		return nil
	}
	return err
}

func (m *mover) take(v view, root int, path string, dir bool) error {
	parent, fd, err := openNamed(root, path)
	if err != nil {
		return err
	}
	defer unix.Close(parent)
	defer unix.Close(fd)
	in, name := split(path)
	err = v.alter().remove(fd, going{directory: directory{parent, in}, name: name, dir: dir, index: m.n.index, names: func() ([]string, error) { return []string{path}, nil }})
	if err == nil {
		m.n.folder(v.folder.ID).epoch.Add(1)
		m.n.notify.tell(v.folder.ID, Event{Path: path, Kind: EventRemoved, Dir: dir})
	}
	return err
}
