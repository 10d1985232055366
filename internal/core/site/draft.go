package site

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"sort"
	"strings"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
)

// Numbers are the last that were given to records of each kind. None is given twice, those of removed records neither.
type Numbers map[string]int64

// Kinds of what is numbered and is no record of its own.
const (
	EntryNumbers      = "entry"
	ClientRuleNumbers = "client rule"
	SecretNumbers     = "secret"
)

// Draft is the records as they are to be: those it was made from, with what has been put and deleted since. What it was made from stays as it is; lists
// that nothing is altered in are shared with it. A draft is for one goroutine.
type Draft struct {
	is, was   Records
	own       map[string]bool // kinds whose list is the draft's own
	rules     map[int64]bool  // folders whose rules are
	touched   map[Key]int64   // with the record that it belongs to
	fresh     map[Key]bool    // what was touched since the draft was last compiled
	unchecked map[Key]bool    // and since it was last checked
	numbers   Numbers
	before    Numbers // those it began with
	secrets   map[int64]Secret
	effects   []Effect
	stirred   bool                       // something has been touched by which people or places are found
	looked    map[string]bool            // kinds in which it was looked for what two have in common
	uniques   map[string]map[keyed]int64 // what tells records of those apart; what is no longer true stays in it
}

// Secret is what a record refers to by number and does not hold, so that it is in no journal. Hash is a password's, in the form of the PHC
// (argon2id); Sealed is sealed with the key file.
type Secret struct {
	Hash   string
	Sealed []byte
}

// Change is one record before and after. Before is empty where it was made, After where it was removed. Secrets are in no record and so
// in no change.
type Change struct {
	Kind   string          `json:"kind"` // one of Kinds
	ID     int64           `json:"id"`
	Before json.RawMessage `json:"before,omitempty"`
	After  json.RawMessage `json:"after,omitempty"`
}

// NewDraft begins a draft of records.
func NewDraft(r Records, last Numbers) *Draft {
	numbers := maps.Clone(last)
	if numbers == nil {
		numbers = make(Numbers)
	}
	return &Draft{is: r, was: r, own: make(map[string]bool), rules: make(map[int64]bool), touched: make(map[Key]int64), fresh: make(map[Key]bool), unchecked: make(map[Key]bool), numbers: numbers, before: last, secrets: make(map[int64]Secret), looked: make(map[string]bool), uniques: make(map[string]map[keyed]int64)}
}

// Records are the records as they are to be. They are not to be altered.
func (d *Draft) Records() Records { return d.is }

// Numbers are the last that have been given.
func (d *Draft) Numbers() Numbers { return maps.Clone(d.numbers) }

// Given are the last numbers of the kinds of which the draft has given any.
func (d *Draft) Given() Numbers {
	out := make(Numbers)
	for kind, last := range d.numbers {
		if last != d.before[kind] {
			out[kind] = last
		}
	}
	return out
}

// Secrets are those that the draft has brought, by number.
func (d *Draft) Secrets() map[int64]Secret { return d.secrets }

// Number gives the next number of a kind.
func (d *Draft) Number(kind string) int64 {
	d.numbers[kind]++
	return d.numbers[kind]
}

// Keep has a secret be written down with the draft, and gives its number.
func (d *Draft) Keep(s Secret) int64 {
	id := d.Number(SecretNumbers)
	d.secrets[id] = s
	return id
}

// What stands for many records when it is asked what was touched: the rules of a folder, by its number, and limits of any kind.
const (
	folderRules = "rules of folder"
	anyLimit    = "limits"
)

// Stirred says whether anything has been touched, since the draft was last compiled, by which people or places are found.
func (d *Draft) Stirred() bool { return d.stirred }

func (d *Draft) touch(kind string, id, parent int64) {
	key := Key{kind, id}
	d.touched[key], d.fresh[key], d.unchecked[key] = parent, true, true
	switch kind {
	case "user", "group", "volume", "folder", "share", "export", "host set":
		d.stirred = true
	case "rule":
		d.fresh[Key{folderRules, parent}] = true
	case "limit":
		d.fresh[Key{Kind: anyLimit}] = true
	}
}

// list is how records of a kind that are a list are got at.
type list[T any] struct {
	kind string
	of   func(*Records) *[]T
	id   func(*T) int64
	set  func(*T, int64)
}

func (l *list[T]) find(r *Records, id int64) (int, bool) {
	all := *l.of(r)
	if len(all) == 0 {
		return 0, false
	}
	// Numbers go up by one where nothing was removed: a record is where it would be then, or before.
	most := min(id-l.id(&all[0]), int64(len(all)))
	if most >= 0 && most < int64(len(all)) && l.id(&all[most]) == id {
		return int(most), true
	}
	return sort.Find(int(max(most, 0)), func(i int) int { return cmp.Compare(id, l.id(&all[i])) })
}

func (l *list[T]) there(r *Records, id int64) bool {
	_, there := l.find(r, id)
	return there
}

func (l *list[T]) owned(d *Draft) *[]T {
	all := l.of(&d.is)
	if !d.own[l.kind] {
		d.own[l.kind] = true
		*all = append(make([]T, 0, len(*all)+1), *all...)
	}
	return all
}

func (l *list[T]) put(d *Draft, v T) int64 {
	id := l.id(&v)
	if id == 0 {
		if all := *l.of(&d.is); len(all) > 0 { // where it is not known what was given, at least none of those that are there
			d.numbers[l.kind] = max(d.numbers[l.kind], l.id(&all[len(all)-1]))
		}
		id = d.Number(l.kind)
		l.set(&v, id)
	}
	if d.numbers[l.kind] < id {
		d.numbers[l.kind] = id
	}
	all := l.owned(d)
	i, there := l.find(&d.is, id)
	if there {
		(*all)[i] = v
	} else {
		*all = slices.Insert(*all, i, v)
	}
	d.touch(l.kind, id, 0)
	return id
}

func (l *list[T]) delete(d *Draft, id int64) {
	if i, there := l.find(&d.is, id); there {
		all := l.owned(d)
		if *all = slices.Delete(*all, i, i+1); len(*all) == 0 {
			*all = nil
		}
		d.touch(l.kind, id, 0)
	}
}

func (l *list[T]) get(r *Records, id int64) (v T, there bool) {
	i, there := l.find(r, id)
	if there {
		v = (*l.of(r))[i]
	}
	return v, there
}

// one is a record of which there is one.
type one[T any] struct {
	kind string
	at   func(*Records) *T
}

// access gives how records of a type are got at: a *list or a *one of it.
func access[T any]() (l *list[T], o *one[T]) {
	for i := range Kinds {
		switch a := Kinds[i].access.(type) {
		case *list[T]:
			return a, nil
		case *one[T]:
			return nil, a
		}
	}
	panic(fmt.Sprintf("%T is no kind of record", *new(T)))
}

// Put writes a record in the place of the one with its number; without a number it is a new one. It gives the number. What a folder's rules are is
// written by PutRule alone.
func Put[T any](d *Draft, v T) int64 {
	l, o := access[T]()
	if l == nil {
		*o.at(&d.is) = v
		d.touch(o.kind, 1, 0)
		return 1
	}
	return l.put(d, v)
}

// Get finds a record by number.
func Get[T any](d *Draft, id int64) (T, bool) {
	l, _ := access[T]()
	return l.get(&d.is, id)
}

// Delete removes a record, with all that is nothing without it: memberships and limits of a user or a group; rules, shares, exports and limits
// of a folder; limits on a volume.
func Delete[T any](d *Draft, id int64) {
	l, _ := access[T]()
	d.cascade(Key{l.kind, id})
	l.delete(d, id)
}

func (d *Draft) cascade(key Key) {
	limits := func(of func(l *limit.Limit) bool) {
		for _, l := range slices.Clone(d.is.Limits) {
			if of(&l) {
				Delete[limit.Limit](d, l.ID)
			}
		}
	}
	switch key.Kind {
	case "user", "group":
		who := identity.UserPrincipal(identity.ID(key.ID))
		if key.Kind == "group" {
			who = identity.GroupPrincipal(identity.ID(key.ID))
		}
		for _, g := range slices.Clone(d.is.Groups) {
			is := func(m identity.Principal) bool { return m == who }
			if slices.Contains(g.Members, who) || slices.Contains(g.Owners, who) {
				g.Members, g.Owners = Without(g.Members, is), Without(g.Owners, is)
				Put(d, g)
			}
		}
		for _, t := range slices.Clone(d.is.Tokens) {
			if key.Kind == "user" && t.User == who.ID {
				Delete[Token](d, t.ID)
			}
		}
		limits(func(l *limit.Limit) bool {
			return key.Kind == "user" && l.User == who.ID || key.Kind == "group" && l.Group == who.ID
		})
	case "volume":
		limits(func(l *limit.Limit) bool { return l.Volume == key.ID })
	case "folder":
		for _, s := range slices.Clone(d.is.Shares) {
			if s.FolderID == key.ID {
				Delete[Share](d, s.ID)
			}
		}
		for _, e := range slices.Clone(d.is.Exports) {
			if e.FolderID == key.ID {
				Delete[Export](d, e.ID)
			}
		}
		limits(func(l *limit.Limit) bool { return l.Folder == key.ID })
		if f, ok := Get[Folder](d, key.ID); ok {
			for _, r := range f.Rules {
				d.touch("rule", r.ID, key.ID)
			}
		}
	}
}

// Without is a list less what is picked; nil where nothing is left. The list itself is not altered.
func Without[T any](list []T, pick func(T) bool) (out []T) {
	for _, v := range list {
		if !pick(v) {
			out = append(out, v)
		}
	}
	return out
}

func byPath(r acl.Rule, path string) int { return cmp.Compare(r.Path, path) }

// Rule is what is written on a path of a folder; an empty rule where nothing is.
func (d *Draft) Rule(folder int64, path string) acl.Rule {
	if f, ok := Get[Folder](d, folder); ok {
		if i, there := slices.BinarySearchFunc(f.Rules, path, byPath); there {
			return f.Rules[i]
		}
	}
	return acl.Rule{Path: path}
}

// PutRule writes a rule in the place of what its path has: with nothing in it, it removes that. Entries without a number get one. It gives the rule
// as it is now; nothing is written where there is no such folder.
func (d *Draft) PutRule(folder int64, r acl.Rule) acl.Rule {
	rules := d.rulesOf(folder)
	if rules == nil {
		return r
	}
	r.Cut = r.Cut && r.Path != "" // a folder has nothing above
	r.Entries = slices.Clone(r.Entries)
	for i := range r.Entries {
		if r.Entries[i].ID == 0 {
			r.Entries[i].ID = d.Number(EntryNumbers)
		}
		d.numbers[EntryNumbers] = max(d.numbers[EntryNumbers], r.Entries[i].ID)
	}
	i, there := slices.BinarySearchFunc(*rules, r.Path, byPath)
	says := r.Cut || len(r.Entries) > 0
	switch {
	case there && says:
		if r.ID != 0 && r.ID != (*rules)[i].ID { // another takes its place
			d.touch("rule", (*rules)[i].ID, folder)
		} else {
			r.ID = (*rules)[i].ID
		}
		(*rules)[i] = r
	case there:
		d.touch("rule", (*rules)[i].ID, folder)
		if *rules = slices.Delete(*rules, i, i+1); len(*rules) == 0 {
			*rules = nil
		}
		return r
	case says:
		if r.ID == 0 {
			r.ID = d.Number("rule")
		}
		*rules = slices.Insert(*rules, i, r)
	default:
		return r
	}
	d.numbers["rule"] = max(d.numbers["rule"], r.ID)
	d.touch("rule", r.ID, folder)
	return r
}

// dropRule removes the rule with a number, wherever it is in its folder.
func (d *Draft) dropRule(folder, id int64) {
	f, _ := folders.get(&d.is, folder)
	if i := slices.IndexFunc(f.Rules, func(r acl.Rule) bool { return r.ID == id }); i >= 0 {
		d.PutRule(folder, acl.Rule{Path: f.Rules[i].Path})
	}
}

// rulesOf gives the rules of a folder, for being altered; nil where there is no such folder.
func (d *Draft) rulesOf(folder int64) *[]acl.Rule {
	i, there := folders.find(&d.is, folder)
	if !there {
		return nil
	}
	f := &(*folders.owned(d))[i]
	if !d.rules[folder] {
		d.rules[folder] = true
		f.Rules = slices.Clone(f.Rules)
	}
	return &f.Rules
}

// MoveRules has what is written on a path of a folder, and below it, rules and limits, be written at another path. What was written there before is gone.
func (d *Draft) MoveRules(folder int64, from, to string) {
	rules := d.rulesOf(folder)
	if rules == nil {
		return
	}
	var moved, kept []acl.Rule
	for _, r := range *rules {
		switch {
		case Within(r.Path, from):
			d.touch("rule", r.ID, folder)
			r.Path = to + strings.TrimPrefix(r.Path, from)
			moved = append(moved, r)
		case Within(r.Path, to):
			d.touch("rule", r.ID, folder)
		default:
			kept = append(kept, r)
		}
	}
	kept = append(kept, moved...)
	slices.SortFunc(kept, func(a, b acl.Rule) int { return cmp.Compare(a.Path, b.Path) })
	*rules = kept
	for _, l := range slices.Clone(d.is.Limits) {
		switch {
		case l.Kind != limit.OfFolder || l.Folder != folder || l.Path == "":
		case Within(l.Path, from):
			l.Path = to + strings.TrimPrefix(l.Path, from)
			Put(d, l)
		case Within(l.Path, to):
			Delete[limit.Limit](d, l.ID)
		}
	}
}

// Within says whether a path is another, or below it; both are cleaned, and neither is the folder itself.
func Within(path, dir string) bool { return path == dir || strings.HasPrefix(path, dir+"/") }

// Changes is the difference between what the draft was made from and what it is, by kind and number.
func (d *Draft) Changes() ([]Change, error) {
	var out []Change
	for key, parent := range d.touched {
		k := kindNamed[key.Kind]
		c := Change{Kind: key.Kind, ID: key.ID}
		for _, side := range []struct {
			of *Records
			to *json.RawMessage
		}{{&d.was, &c.Before}, {&d.is, &c.After}} {
			if record, there := k.get(side.of, key.ID, parent); there {
				raw, err := json.Marshal(record)
				if err != nil {
					return nil, fmt.Errorf("%s %d: %w", key.Kind, key.ID, err)
				}
				*side.to = raw
			}
		}
		if !bytes.Equal(c.Before, c.After) {
			out = append(out, c)
		}
	}
	slices.SortFunc(out, func(a, b Change) int { return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.ID, b.ID)) })
	return out, nil
}

// Restore puts records back to what they were before changes, as they are written down, whatever has become of them since.
func (d *Draft) Restore(changes []Change) error {
	for _, c := range inOrder(changes) {
		k := kindNamed[c.Kind]
		if k == nil {
			continue
		}
		var err error
		if c.Before == nil {
			err = k.drop(d, c)
		} else {
			err = k.put(d, c.Before)
		}
		if err != nil {
			return fmt.Errorf("%s %d: %w", c.Kind, c.ID, err)
		}
	}
	return nil
}
