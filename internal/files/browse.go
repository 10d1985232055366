package files

import (
	"context"
	"slices"
	"strconv"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/posix"
)

// Sort is what sort of object something is.
type Sort string

// The sorts that a listing tells apart.
const (
	Directory   Sort = "directory"
	RegularFile Sort = "file"
	Link        Sort = "link"
	Special     Sort = "special" // a device, a pipe or a socket: never served
)

// LookedUp is one name of a directory, as whoever looks after it is shown it.
type LookedUp struct {
	Name    string // as the records spell it
	Sort    Sort
	Size    int64 // in bytes; 0 for what is no file
	Changed time.Time
	Unix    posix.Attributes
	Owned   acl.Ownership // as the policy numbers people; owners unknown to it are None
}

// Browsing says what of a directory is to be listed.
type Browsing struct {
	Match           string // only names that hold this, whatever its case; "" for all
	DirectoriesOnly bool
	After           string // only names that come after this one, as they are spelled; "" for the first
	Most            int    // how many names at most
}

// mostBrowsed is how many names of a directory are read to list some of them.
const mostBrowsed = 1 << 20

// Browse lists some names of a directory in their order, and says whether there are more after them. What is in files is not looked at.
func (f Facts) Browse(ctx context.Context, path string, b Browsing) (list []LookedUp, more bool, err error) {
	f.unix = true
	root, err := openFolder(f.place)
	if err != nil {
		return nil, false, err
	}
	defer unix.Close(root)
	dir, err := openBeneath(root, plain.Unspell(path), unix.O_RDONLY|unix.O_DIRECTORY, 0)
	if err != nil {
		return nil, false, err
	}
	defer unix.Close(dir)
	match, after := strings.ToLower(b.Match), plain.Unspell(b.After)
	var names []string
	read := 0
	err = readDirents(dir, make([]byte, direntBuffer), func(e dirent) bool {
		read++
		if e.name != "." && e.name != ".." && e.name > after && strings.Contains(strings.ToLower(plain.Spell(e.name)), match) &&
			(!b.DirectoriesOnly || e.kind == unix.DT_DIR || e.kind == unix.DT_UNKNOWN) {
			names = append(names, e.name)
		}
		return read < mostBrowsed && ctx.Err() == nil
	})
	if err == nil {
		err = ctx.Err()
	}
	if err != nil {
		return nil, false, err
	}
	more = read >= mostBrowsed
	slices.Sort(names)
	here := "/proc/self/fd/" + strconv.Itoa(dir) + "/"
	for i, name := range names {
		if len(list) == b.Most {
			return list, true, nil
		}
		if i%256 == 0 && ctx.Err() != nil {
			return nil, false, ctx.Err()
		}
		var st unix.Statx_t
		if statxAt(dir, name, &st) != nil {
			continue // gone since
		}
		l := LookedUp{Name: plain.Spell(name), Changed: time.Unix(st.Mtime.Sec, int64(st.Mtime.Nsec)).UTC()}
		switch st.Mode & unix.S_IFMT {
		case unix.S_IFDIR:
			l.Sort = Directory
		case unix.S_IFREG:
			l.Sort, l.Size = RegularFile, int64(st.Size)
		case unix.S_IFLNK:
			l.Sort = Link
		default:
			l.Sort = Special
		}
		if b.DirectoriesOnly && l.Sort != Directory {
			continue
		}
		l.Unix = f.readBy(func(attr string, buf []byte) (int, error) { return unix.Lgetxattr(here+name, attr, buf) }, &st)
		l.Owned = acl.Ownership{User: f.directory.UserIndexByUID(l.Unix.UID), Group: f.directory.GroupIndexByGID(l.Unix.GID)}
		list = append(list, l)
	}
	return list, more, nil
}
