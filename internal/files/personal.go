package files

import (
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/site"
)

// MakeOwn makes the directory of their own that a user has in a folder which is personal, if it is not there: it is theirs from the first moment, and counted
// as theirs. It says whether it was made now.
func (n *Namespace) MakeOwn(folder int64, user identity.ID) (made bool, err error) {
	p := n.policy()
	f, u := p.Folder(folder), p.Directory.User(user)
	if f == nil || u == nil || f.Unix() || !f.Personal.Has(p.Directory, p.Directory.UserIndex(user)) {
		return false, nil
	}
	v := n.onBehalfOf(p, f)
	v.sub.User = user
	root, err := openFolder(f.At)
	if err != nil {
		return false, err
	}
	defer unix.Close(root)
	place, err := find(root, u.Name, n.index)
	if err != nil || place.Exists {
		return false, err
	}
	dir, err := openBeneath(root, "", unix.O_RDONLY|unix.O_DIRECTORY, 0)
	if err != nil {
		return false, err
	}
	defer unix.Close(dir)
	m, err := v.maker(dir, u.Name, unix.S_IFDIR, 0, 0o770)
	if err != nil {
		return false, err
	}
	fd := -1
	err = v.make(m, func() (int, error) {
		if err := makeDirectory(dir, u.Name); err != nil {
			return -1, err
		}
		fd, err = openBeneath(dir, u.Name, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW, 0)
		return fd, err
	})
	if fd >= 0 {
		unix.Close(fd)
	}
	if errors.Is(err, ErrExists) { // somebody was faster
		return false, nil
	}
	if err == nil {
		n.notify.tell(f.ID, Event{Path: u.Name, Kind: EventAdded, Dir: true})
	}
	return err == nil, err
}

// renameWithin is how long a directory waits for others who decide by paths of its folder.
const renameWithin = 5 * time.Second

// RenameOwn gives a directory that somebody has of their own another name, with all that is open in it. What is there already under the new name stays as it is, and
// that is an ErrExists; that there is none, or that it has the name by now, is no error. Names are as the records spell them.
func (n *Namespace) RenameOwn(folder int64, from, to string) error {
	p := n.policy()
	f := p.Folder(folder)
	if f == nil {
		return nil
	}
	from, to = plain.Unspell(from), plain.Unspell(to)
	state := n.folder(folder)
	// Whoever renames over the wire holds the folder and then waits for the records, and this is called by who holds those.
	for end := time.Now().Add(renameWithin); !state.paths.TryLock(); time.Sleep(time.Millisecond) {
		if time.Now().After(end) {
			return fmt.Errorf("%s: its paths are being changed by others: try again", f.Display(plain.Spell(from)))
		}
	}
	defer state.paths.Unlock()
	root, err := openFolder(f.At)
	if err != nil {
		return err
	}
	defer unix.Close(root)
	dir, err := openBeneath(root, "", unix.O_RDONLY|unix.O_DIRECTORY, 0)
	if err != nil {
		return err
	}
	defer unix.Close(dir)
	fd, err := openBeneath(dir, from, unix.O_PATH|unix.O_DIRECTORY|unix.O_NOFOLLOW, 0)
	switch {
	case errors.Is(err, ErrNotFound) || errors.Is(err, ErrNotDirectory):
		return nil
	case err != nil:
		return err
	}
	defer unix.Close(fd)
	v := n.onBehalfOf(p, f)
	r := renaming{fd: fd, dir: true, from: from, to: to, replaced: -1, name: from, names: []string{from}, src: directory{fd: dir}, dst: directory{fd: dir}}
	r.namesOf = func(path string, st *unix.Statx_t) []string { return n.namesOfStat(f, state, st, path) }
	r.moved = func() { n.moved(state, from, to) }
	err = v.alter().rename(r, func() error {
		return n.index.changing(dir, func() error { return moveName(dir, from, dir, to, false) }, func(names *folded) {
			names.drop(from)
			names.put(to)
		})
	})
	if errors.Is(err, ErrExists) {
		return fmt.Errorf("%s: %w", f.Display(plain.Spell(to)), ErrExists)
	}
	if err == nil {
		n.decideAgain(state, to)
		n.notify.tell(folder, Event{Path: from, NewPath: to, Kind: EventRenamed, Dir: true})
	}
	return err
}

// mostDirectories is how many names are looked at in a folder that is personal.
const mostDirectories = 200_000

// DirectoriesIn lists the directories in a folder, by name.
func DirectoriesIn(f *site.PublishedFolder) (out []string, err error) {
	root, err := openFolder(f.At)
	if err != nil {
		return nil, err
	}
	defer unix.Close(root)
	dir, err := openBeneath(root, "", unix.O_RDONLY|unix.O_DIRECTORY, 0)
	if err != nil {
		return nil, err
	}
	defer unix.Close(dir)
	err = readDirents(dir, make([]byte, direntBuffer), func(e dirent) bool {
		if e.name != "." && e.name != ".." && e.kind == unix.DT_DIR {
			out = append(out, plain.Spell(e.name))
		}
		return len(out) < mostDirectories
	})
	slices.Sort(out)
	return out, err
}

// comeHome makes somebody's own directory at their first use of a folder that is personal. What hinders it is no reason to keep them out: they see then that
// it is not there.
func (n *Namespace) comeHome(v view, user identity.ID) {
	if v.folder.Personal == nil {
		return
	}
	if _, err := n.MakeOwn(v.folder.ID, user); err != nil {
		slog.Warn("somebody's own directory cannot be made", "folder", v.folder.Name, "user", user, "error", err)
	}
}
