package limit

import (
	"fmt"
	"slices"
	"strings"

	"amber.example/gatekeeper/internal/core/identity"
)

// Counter names what is counted together: what one number owns, what belongs to one group's number, or all of it; in
// one folder, on one volume, or everywhere. With Tree it is what a limit on a path binds.
type Counter struct {
	Of     Counted
	Number uint32 // a uid or a gid
	Volume int64
	Folder int64
	Tree   int64 // a limit's number
}

// Counted says what a Counter counts.
type Counted uint8

// What is counted.
const (
	Everything Counted = iota
	Owned              // by a uid
	Grouped            // with a gid
)

// Table is the limits of a site, compiled: immutable, for any number of readers.
type Table struct {
	Limits    []Limit
	directory *identity.Directory
	users     map[reached][]*Limit
	groups    map[reached][]*Limit
	folders   map[int64][]*Limit // without a path
	trees     map[int64][]*Limit // with one, sorted by it
	byID      map[int64]*Limit
	defaults  map[scope][]*Limit
}

type scope struct{ volume, folder int64 }

type reached struct {
	id identity.ID
	scope
}

func (l *Limit) scope() scope { return scope{l.Volume, l.Folder} }

// NewTable compiles limits. Errors name the limit at fault.
func NewTable(directory *identity.Directory, limits []Limit) (*Table, error) {
	t := &Table{Limits: slices.Clone(limits), directory: directory, users: make(map[reached][]*Limit), groups: make(map[reached][]*Limit),
		folders: make(map[int64][]*Limit), trees: make(map[int64][]*Limit), byID: make(map[int64]*Limit), defaults: make(map[scope][]*Limit)}
	for i := range t.Limits {
		l := &t.Limits[i]
		if err := l.Check(); err != nil {
			return nil, fmt.Errorf("limit %d: %w", l.ID, err)
		}
		t.byID[l.ID] = l
		switch l.Kind {
		case OfUser:
			if directory.User(l.User) == nil {
				return nil, fmt.Errorf("user of limit %d: %w", l.ID, identity.ErrAbsent)
			}
			t.users[reached{l.User, l.scope()}] = append(t.users[reached{l.User, l.scope()}], l)
		case OfGroup:
			if directory.Group(l.Group) == nil {
				return nil, fmt.Errorf("group of limit %d: %w", l.ID, identity.ErrAbsent)
			}
			t.groups[reached{l.Group, l.scope()}] = append(t.groups[reached{l.Group, l.scope()}], l)
		case OfFolder:
			if l.Path == "" {
				t.folders[l.Folder] = append(t.folders[l.Folder], l)
			} else {
				t.trees[l.Folder] = append(t.trees[l.Folder], l)
			}
		case Default:
			if l.Group != 0 && directory.Group(l.Group) == nil {
				return nil, fmt.Errorf("group of limit %d: %w", l.ID, identity.ErrAbsent)
			}
			t.defaults[l.scope()] = append(t.defaults[l.scope()], l)
		default:
			return nil, fmt.Errorf("limit %d: %q is no kind of limit", l.ID, l.Kind)
		}
	}
	for _, list := range t.trees {
		slices.SortFunc(list, func(a, b *Limit) int { return strings.Compare(a.Path, b.Path) })
	}
	return t, nil
}

// With is the same limits, of people of whom nobody a limit names has gone.
func (t *Table) With(directory *identity.Directory) *Table {
	out := *t
	out.directory = directory
	return &out
}

// Limit finds a limit by its number; nil where there is none.
func (t *Table) Limit(id int64) *Limit { return t.byID[id] }

// Trees are the limits on paths of a folder, in the order of the paths.
func (t *Table) Trees(folder int64) []*Limit { return t.trees[folder] }

// Of gives the limits that bind what a counter counts. Those without a bound are left out.
func (t *Table) Of(c Counter) []*Limit {
	var out []*Limit
	at := scope{c.Volume, c.Folder}
	if at.folder != 0 {
		at.volume = 0 // a folder lies on one volume, which a reach does not say again
	}
	switch {
	case c.Tree != 0:
		if l := t.byID[c.Tree]; l != nil {
			out = append(out, l)
		}
	case c.Of == Owned:
		out = t.ofOwner(c.Number, at)
	case c.Of == Grouped:
		if g := t.directory.GroupIndexByGID(c.Number); g != identity.None {
			out = append(out, t.groups[reached{t.directory.Groups()[g].ID, at}]...)
		}
	case c.Folder != 0:
		out = append(out, t.folders[c.Folder]...)
	}
	return slices.DeleteFunc(out, func(l *Limit) bool { return l.None() })
}

// ofOwner gives what binds an owner: the limits of their own, else the defaults of their groups, else those for all. A
// number that is nobody's in the records is bound by those for all.
func (t *Table) ofOwner(uid uint32, at scope) []*Limit {
	i := t.directory.UserIndexByUID(uid)
	if i != identity.None {
		if own := t.users[reached{t.directory.Users()[i].ID, at}]; len(own) > 0 {
			return slices.Clone(own)
		}
	}
	var out, all []*Limit
	for _, l := range t.defaults[at] {
		switch {
		case l.Group == 0:
			all = append(all, l)
		case i != identity.None && t.directory.Member(i, t.directory.GroupIndex(l.Group)):
			out = append(out, l)
		}
	}
	if len(out) == 0 {
		return all
	}
	return out
}

// Under says whether a path is at or below the path of a limit on a tree.
func (l *Limit) Under(path string) bool {
	return path == l.Path || strings.HasPrefix(path, l.Path) && len(path) > len(l.Path) && path[len(l.Path)] == '/'
}

// Reaches gives where limits on owners, or on groups, reach: each as a Counter without a number.
func (t *Table) Reaches(of Counted) (out []Counter) {
	add := func(s scope) {
		c := Counter{Of: of, Volume: s.volume, Folder: s.folder}
		if !slices.Contains(out, c) {
			out = append(out, c)
		}
	}
	for _, l := range t.Limits {
		if of == Owned && (l.Kind == OfUser || l.Kind == Default) || of == Grouped && l.Kind == OfGroup {
			add(l.scope())
		}
	}
	return out
}
