package files

import (
	"cmp"
	"container/heap"
	"context"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/usage"
)

// Sized is a file, or a directory with all below it.
type Sized struct {
	Path   string // below the folder
	Amount limit.Amount
}

// Largest is what takes most room below a directory, the largest first.
type Largest struct {
	Files       []Sized
	Directories []Sized // the one looked at is not among them
	All         limit.Amount
	Unread      int64 // directories that could not be read
}

// smallest keeps the largest few, the smallest of them on top.
type smallest []Sized

func (s smallest) Len() int           { return len(s) }
func (s smallest) Less(i, j int) bool { return bigger(s[j], s[i]) < 0 }
func (s smallest) Swap(i, j int)      { s[i], s[j] = s[j], s[i] }
func (s *smallest) Push(x any)        { *s = append(*s, x.(Sized)) }
func (s *smallest) Pop() any {
	last := (*s)[len(*s)-1]
	*s = (*s)[:len(*s)-1]
	return last
}

func bigger(a, b Sized) int {
	return cmp.Or(cmp.Compare(b.Amount.Bytes, a.Amount.Bytes), cmp.Compare(b.Amount.Files, a.Amount.Files), cmp.Compare(a.Path, b.Path))
}

func (s *smallest) offer(x Sized, most int) {
	if s.Len() < most {
		heap.Push(s, x)
	} else if most > 0 && bigger(x, (*s)[0]) < 0 {
		(*s)[0] = x
		heap.Fix(s, 0)
	}
}

func (s *smallest) sorted() []Sized {
	out := make([]Sized, s.Len())
	for i := len(out) - 1; i >= 0; i-- {
		out[i] = heap.Pop(s).(Sized)
	}
	return out
}

// Largest finds the few files and directories that take most room at and below a path, as they are counted: a file with several
// names is found by the first that is come by. It tells how many objects it has looked at, and ends early with the context.
func (f Facts) Largest(ctx context.Context, path string, most int, allocated bool, looked func(n int64)) (Largest, error) {
	root, err := openFolder(f.place)
	if err != nil {
		return Largest{}, err
	}
	defer unix.Close(root)
	path = plain.Unspell(path)
	top, err := openBeneath(root, path, unix.O_RDONLY|unix.O_DIRECTORY, 0)
	if err != nil {
		return Largest{}, err
	}
	defer unix.Close(top)
	l := &looking{ctx: ctx, most: most, allocated: allocated, looked: looked, seen: make(map[usage.ID]bool)}
	var out Largest
	if out.All, err = l.directory(top, path); err != nil {
		return Largest{}, err
	}
	out.Files, out.Directories, out.Unread = l.files.sorted(), l.dirs.sorted(), l.unread
	return out, nil
}

type looking struct {
	ctx       context.Context
	most      int
	allocated bool
	looked    func(n int64)
	n, unread int64
	seen      map[usage.ID]bool // files with several names
	files     smallest
	dirs      smallest
}

func (l *looking) directory(fd int, path string) (sum limit.Amount, err error) {
	if err := l.ctx.Err(); err != nil {
		return sum, err
	}
	var st unix.Statx_t
	if err := statx(fd, &st); err != nil {
		return sum, err
	}
	sum = amountOf(xattrsOf(fd), &st, l.allocated)
	names, err := readNames(fd)
	if err != nil {
		return sum, err
	}
	proc := procPath(fd) + "/"
	for _, name := range names {
		if statxAt(fd, name, &st) != nil {
			continue // gone since
		}
		l.n++
		at := join(path, name)
		if st.Mode&unix.S_IFMT == unix.S_IFDIR {
			child, err := openBeneath(fd, name, unix.O_RDONLY|unix.O_DIRECTORY, 0)
			if err != nil {
				l.unread++
				continue
			}
			below, err := l.directory(child, at)
			unix.Close(child)
			if l.ctx.Err() != nil {
				return sum, l.ctx.Err()
			}
			if err != nil {
				l.unread++
			}
			l.dirs.offer(Sized{plain.Spell(at), below}, l.most)
			sum = sum.Plus(below)
			continue
		}
		if st.Nlink > 1 {
			if id := usageID(&st); l.seen[id] {
				continue
			} else {
				l.seen[id] = true
			}
		}
		is := amountOf(func(attr string, buf []byte) (int, error) { return unix.Lgetxattr(proc+name, attr, buf) }, &st, l.allocated)
		l.files.offer(Sized{plain.Spell(at), is}, l.most)
		sum = sum.Plus(is)
	}
	l.looked(l.n)
	return sum, nil
}
