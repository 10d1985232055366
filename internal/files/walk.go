package files

import (
	"context"
	"slices"
	"strconv"
	"strings"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/posix"
)

// Found is one object that Walk came by. Its attributes are only to be read during the visit.
type Found struct {
	Path  string // below the folder; "" for the folder itself
	Unix  *posix.Attributes
	Owned acl.Ownership // as the policy numbers people; owners unknown to it are None
	Size  int64         // in bytes; 0 for a directory
}

// Walk visits every file and directory of a folder, a directory before what is in it and the
// names of a directory in order. Symbolic links and what is no file are passed over, other file
// systems mounted below are not. It ends early with the context.
func (f Facts) Walk(ctx context.Context, visit func(Found) error) error {
	return f.WalkFrom(ctx, "", visit)
}

// WalkFrom visits what is at a path, and below it where that is a directory.
func (f Facts) WalkFrom(ctx context.Context, path string, visit func(Found) error) error {
	return f.walk(ctx, path, nil, visit)
}

// WalkOn is WalkFrom for what comes after one that was visited, whether that is still there or not.
func (f Facts) WalkOn(ctx context.Context, path, last string, visit func(Found) error) error {
	last = plain.Unspell(last)
	return f.walk(ctx, path, &last, visit)
}

func (f Facts) walk(ctx context.Context, path string, last *string, visit func(Found) error) error {
	f.unix = true // ACLs count, whatever decides so far
	path = plain.Unspell(path)
	root, err := openFolder(f.place)
	if err != nil {
		return err
	}
	defer unix.Close(root)
	top, err := openBeneath(root, path, unix.O_RDONLY|unix.O_NONBLOCK|unix.O_NOCTTY, 0)
	if err != nil {
		return err
	}
	defer unix.Close(top)
	var st unix.Statx_t
	if err := statx(top, &st); err != nil {
		return err
	}
	w := &walk{f: f, ctx: ctx, visit: visit, buf: make([]byte, direntBuffer)}
	var after []string // the names that lead to the last, less those that lead to where the walk begins
	if last == nil {
		if err := w.one(path, &st, xattrsOf(top)); err != nil {
			return err
		}
	} else if rest := strings.Trim(strings.TrimPrefix(*last, path), "/"); rest != "" {
		after = strings.Split(rest, "/")
	}
	if st.Mode&unix.S_IFMT != unix.S_IFDIR {
		return nil
	}
	return w.directory(top, path, after)
}

type walk struct {
	f     Facts
	ctx   context.Context
	visit func(Found) error
	buf   []byte
}

func (w *walk) one(path string, st *unix.Statx_t, get xattrs) error {
	a := w.f.readBy(get, st)
	own := acl.Ownership{User: w.f.directory.UserIndexByUID(a.UID), Group: w.f.directory.GroupIndexByGID(a.GID)}
	size := int64(0)
	if st.Mode&unix.S_IFMT == unix.S_IFREG {
		size = int64(st.Size)
	}
	return w.visit(Found{plain.Spell(path), &a, own, size})
}

// directory visits what is in an open directory, and what is below that; of what is in it, what comes after a name, and where that leads further down
// all has been visited and what is below comes after.
func (w *walk) directory(fd int, path string, after []string) error {
	if err := w.ctx.Err(); err != nil {
		return err
	}
	var names []string
	if err := readDirents(fd, w.buf, func(e dirent) bool {
		if e.name != "." && e.name != ".." && e.kind != unix.DT_LNK {
			names = append(names, e.name)
		}
		return true
	}); err != nil {
		return err
	}
	slices.Sort(names)
	here := "/proc/self/fd/" + strconv.Itoa(fd) + "/"
	var below []string
	for _, name := range names {
		var st unix.Statx_t
		if err := statxAt(fd, name, &st); err != nil {
			continue // gone since
		}
		kind := st.Mode & unix.S_IFMT
		if kind != unix.S_IFREG && kind != unix.S_IFDIR {
			continue
		}
		get := func(attr string, buf []byte) (int, error) { return unix.Lgetxattr(here+name, attr, buf) }
		if len(after) == 0 || len(after) == 1 && name > after[0] {
			if err := w.one(join(path, name), &st, get); err != nil {
				return err
			}
		}
		if kind == unix.S_IFDIR {
			below = append(below, name)
		}
	}
	for _, name := range below {
		var further []string
		if len(after) > 1 {
			if name < after[0] {
				continue
			}
			if name == after[0] {
				further = after[1:]
			}
		}
		child, err := unix.Openat(fd, name, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW|unix.O_CLOEXEC, 0)
		if err == unix.ENOENT || err == unix.ELOOP || err == unix.ENOTDIR {
			continue // gone since
		}
		if err != nil {
			return translate(err)
		}
		err = w.directory(child, join(path, name), further)
		unix.Close(child)
		if err != nil {
			return err
		}
	}
	return nil
}
