package files

import (
	"errors"
	"log/slog"
	"slices"

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
	v := view{policy: p, sub: Subject{User: user, Via: site.SMB}, folder: f, now: n.now(), ledger: n.ledger, index: n.index, facts: FactsOf(p, f)}
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
	err = v.alter().make(m, func() (int, error) {
		if err := makeDirectory(dir, u.Name); err != nil {
			return -1, err
		}
		fd, err = openBeneath(dir, u.Name, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW, 0)
		return fd, err
	}, func(fd int) error { return v.born(m, fd) })
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
