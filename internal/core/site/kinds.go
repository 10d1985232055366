package site

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"reflect"
	"slices"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
)

// Kind is a kind of record, declared once: what tells records apart, where they are, how they are written down, and what they say
// in words. The difference of two sites, the journal, and the past that is rebuilt from it go by these declarations.
type Kind struct {
	Name   string // in the journal
	Parent string // the kind of the record that one belongs to; "" for none
	each   func(r *Records, visit func(id int64, record any))
	read   func(r *Records, raw json.RawMessage) error
	done   func(r *Records) // after all are read; may be nil
	say    func(n *Names, raw json.RawMessage) (name string, said []Said, err error)
	there  func(r *Records, id int64) bool                             // nil for what lies in others
	get    func(r *Records, id, parent int64) (record any, there bool) // as it is written down
	check  func(d *Draft, ids []int64) *Fault
	refers func(d *Draft, id int64) *Fault           // check, less what tells records apart
	put    func(d *Draft, raw json.RawMessage) error // writes a record as it was written down
	drop   func(d *Draft, c Change) error            // removes one that a change made, and nothing else
	access any                                       // a *list or a *one of the records' type; nil for what lies in others
}

// Key tells the records of a site apart.
type Key struct {
	Kind string
	ID   int64
}

// Kinds are all that there are, by name.
var Kinds = []Kind{
	listed("acceptance", func(r *Records) *[]Acceptance { return &r.Acceptances }, func(a *Acceptance) *int64 { return &a.ID }, sayAcceptance, checkAcceptance),
	listed("export", func(r *Records) *[]Export { return &r.Exports }, func(e *Export) *int64 { return &e.ID }, sayExport, checkExport),
	{Name: "folder", say: saying(sayFolder), access: folders, there: folders.there, put: func(d *Draft, raw json.RawMessage) error {
		var f Folder
		err := json.Unmarshal(raw, &f)
		is, _ := folders.get(&d.is, f.ID)
		f.Rules = is.Rules
		folders.put(d, f)
		return err
	}, drop: func(d *Draft, c Change) error {
		f, _ := folders.get(&d.is, c.ID)
		for _, r := range f.Rules {
			d.touch("rule", r.ID, c.ID)
		}
		folders.delete(d, c.ID)
		return nil
	}, check: checking(folders, checkFolder), refers: referring(folders, checkFolder), get: func(r *Records, id, _ int64) (any, bool) {
		f, there := folders.get(r, id)
		f.Rules = nil
		return f, there
	}, each: func(r *Records, visit func(int64, any)) {
		for _, f := range r.Folders {
			f.Rules = nil // records of their own
			visit(f.ID, f)
		}
	}, read: func(r *Records, raw json.RawMessage) error {
		f := Folder{Permissions: ByEntries, Ownership: Mapped} // written before there was a choice
		err := json.Unmarshal(raw, &f)
		r.Folders = append(r.Folders, f)
		return err
	}},
	listed("group", func(r *Records) *[]identity.Group { return &r.Groups }, func(g *identity.Group) *identity.ID { return &g.ID }, sayGroup, checkGroup),
	listed("holding", func(r *Records) *[]Holding { return &r.Holdings }, func(h *Holding) *int64 { return &h.ID }, sayHolding, checkHolding),
	listed("hook", func(r *Records) *[]Hook { return &r.Hooks }, func(h *Hook) *int64 { return &h.ID }, sayHook, checkHook),
	listed("host set", func(r *Records) *[]HostSet { return &r.HostSets }, func(h *HostSet) *int64 { return &h.ID }, sayHostSet, checkHostSet),
	listed("id list", func(r *Records) *[]IDList { return &r.IDLists }, func(l *IDList) *int64 { return &l.ID }, sayIDList, checkIDList),
	listed("limit", func(r *Records) *[]limit.Limit { return &r.Limits }, func(l *limit.Limit) *int64 { return &l.ID }, sayLimit, checkLimit),
	single("notices", func(r *Records) *Notices { return &r.Notices }, false, sayNotices),
	listed("number map", func(r *Records) *[]NumberMap { return &r.NumberMaps }, func(m *NumberMap) *int64 { return &m.ID }, sayNumberMap, checkNumberMap),
	listed("profile", func(r *Records) *[]Profile { return &r.Profiles }, func(p *Profile) *int64 { return &p.ID }, sayProfile, checkProfile),
	listed("retired number", func(r *Records) *[]RetiredNumber { return &r.RetiredNumbers }, func(n *RetiredNumber) *int64 { return &n.ID }, sayRetiredNumber, checkRetiredNumber),
	listed("review", func(r *Records) *[]Review { return &r.Reviews }, func(v *Review) *int64 { return &v.ID }, sayReview, checkReview),
	{Name: "rule", Parent: "folder", say: saying(sayRule), put: func(d *Draft, raw json.RawMessage) error {
		var r RuleRecord
		if err := json.Unmarshal(raw, &r); err != nil {
			return err
		}
		d.dropRule(r.FolderID, r.ID)
		d.PutRule(r.FolderID, r.Rule)
		return nil
	}, drop: func(d *Draft, c Change) error {
		var r RuleRecord
		err := json.Unmarshal(c.After, &r)
		d.dropRule(r.FolderID, c.ID)
		return err
	}, get: func(r *Records, id, folder int64) (any, bool) {
		f, _ := folders.get(r, folder)
		i := slices.IndexFunc(f.Rules, func(rule acl.Rule) bool { return rule.ID == id })
		if i < 0 {
			return nil, false
		}
		return RuleRecord{folder, f.Rules[i]}, true
	}, each: func(r *Records, visit func(int64, any)) {
		for _, f := range r.Folders {
			for _, rule := range f.Rules {
				visit(rule.ID, RuleRecord{f.ID, rule})
			}
		}
	}, read: func(r *Records, raw json.RawMessage) error {
		var rule RuleRecord
		err := json.Unmarshal(raw, &rule)
		if i, ok := slices.BinarySearchFunc(r.Folders, rule.FolderID, func(f Folder, id int64) int { return cmp.Compare(f.ID, id) }); ok {
			r.Folders[i].Rules = append(r.Folders[i].Rules, rule.Rule)
		}
		return err
	}, done: func(r *Records) {
		for i := range r.Folders {
			slices.SortFunc(r.Folders[i].Rules, func(a, b acl.Rule) int { return cmp.Compare(a.Path, b.Path) })
		}
	}},
	listed("server name", func(r *Records) *[]ServerName { return &r.ServerNames }, func(n *ServerName) *int64 { return &n.ID }, sayServerName, checkServerName),
	single("services", func(r *Records) *Services { return &r.Services }, true, sayServices),
	listed("share", func(r *Records) *[]Share { return &r.Shares }, func(s *Share) *int64 { return &s.ID }, sayShare, checkShare),
	single("signing in", func(r *Records) *SigningIn { return &r.SigningIn }, false, saySigningIn),
	listed("token", func(r *Records) *[]Token { return &r.Tokens }, func(t *Token) *int64 { return &t.ID }, sayToken, checkToken),
	listed("user", func(r *Records) *[]identity.User { return &r.Users }, func(u *identity.User) *identity.ID { return &u.ID }, sayUser, checkUser),
	listed("volume", func(r *Records) *[]Volume { return &r.Volumes }, func(v *Volume) *int64 { return &v.ID }, sayVolume, checkVolume),
}

var kindNamed = make(map[string]*Kind)

func init() {
	for i := range Kinds {
		kindNamed[Kinds[i].Name] = &Kinds[i]
	}
}

// Known says whether there is a kind of that name.
func Known(kind string) bool { return kindNamed[kind] != nil }

var folders = &list[Folder]{"folder", func(r *Records) *[]Folder { return &r.Folders }, func(f *Folder) int64 { return f.ID }, func(f *Folder, id int64) { f.ID = id }}

// RuleRecord is a rule on a path with the folder that it belongs to.
type RuleRecord struct {
	FolderID int64 `json:"folderId"`
	acl.Rule
}

// listed is a kind whose records are a list, in the order of their numbers.
func listed[T any, N ~int64](name string, all func(*Records) *[]T, number func(*T) *N, say func(*Names, *T) (string, []Said), c checks[T]) Kind {
	l := &list[T]{name, all, func(v *T) int64 { return int64(*number(v)) }, func(v *T, id int64) { *number(v) = N(id) }}
	return Kind{Name: name, say: saying(say), access: l, there: l.there, put: func(d *Draft, raw json.RawMessage) error {
		var v T
		err := json.Unmarshal(raw, &v)
		l.put(d, v)
		return err
	}, drop: func(d *Draft, c Change) error { l.delete(d, c.ID); return nil }, check: checking(l, c), refers: referring(l, c), get: func(r *Records, id, _ int64) (any, bool) { return l.get(r, id) }, each: func(r *Records, visit func(int64, any)) {
		for _, v := range *all(r) {
			visit(l.id(&v), v)
		}
	}, read: func(r *Records, raw json.RawMessage) error {
		var v T
		err := json.Unmarshal(raw, &v)
		*all(r) = append(*all(r), v)
		return err
	}}
}

// single is a kind of which there is one record, which is always there or else only where it says anything.
func single[T any](name string, at func(*Records) *T, always bool, say func(*Names, *T) (string, []Said)) Kind {
	there := func(r *Records) bool {
		var none T
		return always || !reflect.DeepEqual(*at(r), none)
	}
	return Kind{Name: name, say: saying(say), access: &one[T]{name, at}, put: func(d *Draft, raw json.RawMessage) error {
		var v T
		err := json.Unmarshal(raw, &v)
		*at(&d.is) = v
		d.touch(name, 1, 0)
		return err
	}, drop: func(d *Draft, _ Change) error {
		*at(&d.is) = *new(T)
		d.touch(name, 1, 0)
		return nil
	}, get: func(r *Records, _, _ int64) (any, bool) { return *at(r), there(r) }, each: func(r *Records, visit func(int64, any)) {
		if there(r) {
			visit(1, *at(r))
		}
	}, read: func(r *Records, raw json.RawMessage) error { return json.Unmarshal(raw, at(r)) }}
}

// Each visits every record by itself.
func (r Records) Each(visit func(key Key, record any)) {
	for i := range Kinds {
		Kinds[i].each(&r, func(id int64, record any) { visit(Key{Kinds[i].Name, id}, record) })
	}
}

// Assemble makes a site of records as they are written down. Those of kinds that are not known are passed over. An error names the record.
func Assemble(all map[Key]json.RawMessage) (Records, error) {
	var r Records
	keys := slices.SortedFunc(maps.Keys(all), func(a, b Key) int { return cmp.Or(cmp.Compare(a.Kind, b.Kind), cmp.Compare(a.ID, b.ID)) })
	for _, children := range []bool{false, true} { // after those that they belong to
		for _, key := range keys {
			k := kindNamed[key.Kind]
			if k == nil || (k.Parent != "") != children {
				continue
			}
			if err := k.read(&r, all[key]); err != nil {
				return Records{}, fmt.Errorf("%s %d: %w", key.Kind, key.ID, err)
			}
		}
	}
	for i := range Kinds {
		if Kinds[i].done != nil {
			Kinds[i].done(&r)
		}
	}
	return r, nil
}
