package acl

import (
	"fmt"
	"slices"
	"strings"
	"sync/atomic"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
)

// Ace is one entry as it bears on one object.
type Ace struct {
	Entry *Entry
	From  string // the path on which it is written
	Mask  Mask
	kind  identity.Kind
	deny  bool
	index int32
}

// ACL is the complete, ordered list for one object: explicit deny, explicit
// allow, then the parent's, and so on up.
type ACL struct {
	Aces      []Ace
	ownership bool // some ace names owner@ or group@
	ends      bool // some ace has an end date
}

// NeedsOwnership says whether the answer depends on who owns the object.
func (a *ACL) NeedsOwnership() bool { return a.ownership }

// HoldsUntil is the first moment after now at which an entry of the list ends; zero if none does.
func (a *ACL) HoldsUntil(now time.Time) time.Time {
	var first time.Time
	if a.ends {
		for i := range a.Aces {
			if t := a.Aces[i].Entry.Expires; t.After(now) && (first.IsZero() || t.Before(first)) {
				first = t
			}
		}
	}
	return first
}

// Tree is a folder's rules, compiled. Only paths with rules, and those on the
// way to them, have a node; all others inherit at evaluation. Lists are built
// when first asked for and kept. Safe for any number of readers.
type Tree struct {
	root *node
	dir  identity.Indexes
}

type node struct {
	path     string
	parent   *node
	children map[string]*node
	rule     *Rule
	lists    [6]atomic.Pointer[ACL] // by distance (0, 1, more) and file or directory
}

// NewTree compiles the rules of one folder, for directories in which those whom they name have these indexes. A path given twice, or one that is
// not clean, is an error.
func NewTree(dir identity.Indexes, rules []Rule) (*Tree, error) {
	t := &Tree{root: &node{}, dir: dir}
	for i := range rules {
		r := &rules[i]
		if r.Path != "" {
			for part := range strings.SplitSeq(r.Path, "/") {
				if part == "" || part == "." || part == ".." || strings.ContainsRune(part, 0) {
					return nil, fmt.Errorf("path %q is not a plain relative path", r.Path)
				}
			}
		}
		n := t.grow(r.Path)
		if n.rule != nil {
			return nil, fmt.Errorf("path %q has two rules", r.Path)
		}
		n.rule = r
	}
	return t, nil
}

func (t *Tree) grow(path string) *node {
	n := t.root
	if path == "" {
		return n
	}
	for part := range strings.SplitSeq(path, "/") {
		child := n.children[part]
		if child == nil {
			child = &node{parent: n, path: join(n.path, part)}
			if n.children == nil {
				n.children = make(map[string]*node)
			}
			n.children[part] = child
		}
		n = child
	}
	return n
}

func join(dir, name string) string {
	if dir == "" {
		return name
	}
	return dir + "/" + name
}

// Walker steps from the folder's root to an object. The zero value is of no use; see
// Tree.Start.
type Walker struct {
	At   string // path of the directory or object now looked at
	List *ACL
	Last bool // At is the object itself

	tree *Tree
	path string
	file bool
	node *node // deepest node on the way
	dist int   // how far At is below it
	done bool
	any  bool
}

// Start begins a walk to path; file says whether the object there is a file.
func (t *Tree) Start(path string, file bool) Walker {
	return Walker{tree: t, path: path, file: file}
}

// Next moves one step down and says whether there was one.
func (w *Walker) Next() bool {
	if w.done {
		return false
	}
	if !w.any {
		w.any, w.node, w.At = true, w.tree.root, ""
	} else {
		rest := w.path
		if w.At != "" {
			rest = w.path[len(w.At)+1:]
		}
		name := rest
		if i := strings.IndexByte(rest, '/'); i >= 0 {
			name = rest[:i]
		}
		w.At = w.path[:len(w.path)-len(rest)+len(name)]
		if child := w.node.children[name]; w.dist == 0 && child != nil {
			w.node = child
		} else if w.dist < 2 {
			w.dist++
		}
	}
	w.Last = len(w.At) == len(w.path)
	w.done = w.Last
	w.List = w.tree.list(w.node, w.dist, w.Last && w.file)
	return true
}

// List gives the complete list that bears on one object.
func (t *Tree) List(path string, file bool) *ACL {
	w := t.Start(path, file)
	for w.Next() {
		if w.Last {
			return w.List
		}
	}
	return nil
}

// Rule gives what is written on a path itself; nil where nothing is.
func (t *Tree) Rule(path string) *Rule {
	if n := t.find(path); n != nil {
		return n.rule
	}
	return nil
}

// HasRulesAt says whether there is a rule on the path or anywhere below it.
func (t *Tree) HasRulesAt(path string) bool {
	n := t.find(path)
	return n != nil && (n.rule != nil || len(n.children) > 0)
}

// find gives the node at a path, nil when there is none.
func (t *Tree) find(path string) *node {
	n := t.root
	if path == "" {
		return n
	}
	for part := range strings.SplitSeq(path, "/") {
		if n = n.children[part]; n == nil {
			return nil
		}
	}
	return n
}

func (t *Tree) list(n *node, dist int, file bool) *ACL {
	slot := &n.lists[dist*2+1-index(file)]
	if have := slot.Load(); have != nil {
		return have
	}
	built := t.build(n, dist, file)
	slot.Store(built) // two at once build the same
	return built
}

func (t *Tree) build(n *node, dist int, file bool) *ACL {
	list := &ACL{}
	for ; n != nil; n, dist = n.parent, dist+1 {
		if n.rule == nil {
			continue
		}
		for _, deny := range []bool{true, false} {
			for i := range n.rule.Entries {
				e := &n.rule.Entries[i]
				if e.Deny != deny || !e.Reaches(dist, file) {
					continue
				}
				ace := Ace{Entry: e, From: n.path, Mask: e.Bits(!file), kind: e.Who.Kind, deny: deny, index: identity.None}
				list.ends = list.ends || !e.Expires.IsZero()
				switch e.Who.Kind {
				case identity.KindUser:
					ace.index = t.dir.User(e.Who.ID)
				case identity.KindGroup:
					ace.index = t.dir.Group(e.Who.ID)
				case identity.KindOwner, identity.KindOwningGroup:
					list.ownership = true
				}
				list.Aces = append(list.Aces, ace)
			}
		}
		if n.rule.Cut {
			break
		}
	}
	list.Aces = slices.Clip(list.Aces)
	return list
}

func (a *Ace) matches(who identity.Person, own Ownership) bool {
	switch a.kind {
	case identity.KindUser:
		return who.Is(a.index)
	case identity.KindGroup:
		return who.In(a.index)
	case identity.KindOwner:
		return who.Is(own.User)
	case identity.KindOwningGroup:
		return who.In(own.Group)
	case identity.KindEveryone:
		return true
	}
	return false
}

// Evaluate gives the bits of want that the list allows: entries in order, each
// bit decided by the first entry that names it, what no entry names refused
// (RFC 8881 section 6.2.1). Entries that have ended by now count no more. It allocates
// nothing. With a note, it is called for each entry that decided some bit of want, with those bits.
func (a *ACL) Evaluate(who identity.Person, own Ownership, now time.Time, want Mask, note func(*Ace, Mask)) Mask {
	var allowed Mask
	open := want
	for i := range a.Aces {
		ace := &a.Aces[i]
		bits := ace.Mask & open
		if bits == 0 || !ace.matches(who, own) || a.ends && ace.Entry.Ended(now) {
			continue
		}
		if !ace.deny {
			allowed |= bits
		}
		if note != nil {
			note(ace, bits)
		}
		if open &^= bits; open == 0 {
			break
		}
	}
	return allowed
}

// DeepestRule gives the longest part of the path, down to the path itself, on
// which a rule is written; "" when there is none below the folder's root.
func (t *Tree) DeepestRule(path string) string {
	n, deepest := t.root, ""
	if path == "" {
		return ""
	}
	for part := range strings.SplitSeq(path, "/") {
		if n = n.children[part]; n == nil {
			break
		}
		if n.rule != nil {
			deepest = n.path
		}
	}
	return deepest
}

// Varies says whether different things may hold for two files of the folder that are of one owner.
func (t *Tree) Varies() bool {
	return len(t.root.children) > 0 || t.root.rule != nil && slices.ContainsFunc(t.root.rule.Entries, func(e Entry) bool {
		return e.Applies&DirectOnly != 0 || e.Who.Kind == identity.KindOwner || e.Who.Kind == identity.KindOwningGroup
	})
}

// SameWithin says whether the same entries bear on what is in two directories and has no rules of
// its own.
func (t *Tree) SameWithin(a, b string) bool {
	from, x := t.inside(a)
	other, y := t.inside(b)
	return from == other && x == y
}

// inside is which rule is nearest to what is in a directory, and how far that is from it, as far as
// it matters.
func (t *Tree) inside(dir string) (rule string, distance int) {
	rule = t.DeepestRule(dir)
	if n := t.find(rule); dir == rule && n.rule != nil && slices.ContainsFunc(n.rule.Entries, func(e Entry) bool { return e.Applies&DirectOnly != 0 }) {
		return rule, 1
	}
	return rule, 2
}

// Denies lists the deny entries that name the user and withhold some bit of
// bits, whether or not an entry before them decides.
func (a *ACL) Denies(who identity.Person, own Ownership, now time.Time, bits Mask) []*Ace {
	var out []*Ace
	for i := range a.Aces {
		if ace := &a.Aces[i]; ace.deny && ace.Mask&bits != 0 && ace.matches(who, own) && !ace.Entry.Ended(now) {
			out = append(out, ace)
		}
	}
	return out
}

// Without is the list as it would be if some of its entries were not there.
func (a *ACL) Without(gone []*Ace) *ACL {
	rest := &ACL{ownership: a.ownership, ends: a.ends}
	for i := range a.Aces {
		if !slices.ContainsFunc(gone, func(g *Ace) bool { return g.Entry == a.Aces[i].Entry }) {
			rest.Aces = append(rest.Aces, a.Aces[i])
		}
	}
	return rest
}

// Borne is an entry as it bears on a path or on what is below it.
type Borne struct {
	Entry
	Inherited bool
}

// Bearing lists all that bears on a path and on what will be made below it, in the order in which it counts: what is written there, then what
// it inherits, as the entries that would say the same if they were written there. What has run out on the way down is left out.
func (t *Tree) Bearing(path string, file bool) (out []Borne) {
	t.bearing(path, file, func(r *Rule, dist int) {
		for _, deny := range []bool{true, false} {
			for _, e := range r.Entries {
				if e.Deny != deny {
					continue
				}
				if dist == 0 {
					out = append(out, Borne{e, false})
				} else if e.Applies = e.inherited(dist, file); e.Applies != 0 {
					out = append(out, Borne{e, true})
				}
			}
		}
	})
	return out
}

// inherited is how far an entry reaches from an object so many steps below the path it is written on.
func (e *Entry) inherited(dist int, file bool) (applies Applies) {
	if e.Reaches(dist, file) {
		applies |= Here
	}
	if !file && e.Applies&DirectOnly == 0 {
		applies |= e.Applies & (Subfolders | Files)
	}
	return applies
}

// bearing tells of the rules that bear on a path, the nearest first, and how far each is.
func (t *Tree) bearing(path string, file bool, each func(r *Rule, dist int)) {
	w := t.Start(path, file)
	for w.Next() && !w.Last {
	}
	n, dist := w.node, w.dist
	for ; n != nil; n, dist = n.parent, dist+1 {
		if n.rule == nil {
			continue
		}
		if each(n.rule, dist); n.rule.Cut {
			break
		}
	}
}

// InheritedEntries lists what a path inherits, as the entries that would say the
// same if they were written on it: what has run out on the way down is left out.
func (t *Tree) InheritedEntries(path string, file bool) (out []Entry) {
	t.bearing(path, file, func(r *Rule, dist int) {
		for _, e := range r.Entries {
			if e.Applies = e.inherited(dist, file); dist > 0 && e.Applies != 0 {
				out = append(out, e)
			}
		}
	})
	return out
}
