package site

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
)

// Fault is why records cannot be as a draft has them.
type Fault struct {
	Key   Key    // the record at fault
	Name  string // of it, in words: "user wren"
	Field string // as it is called in the record's JSON form
	Says  string // what is wrong: "uid 2001 is isolde's"
	// Other is the record that it contradicts, or that it refers to and is not there.
	Other Key
}

func (f *Fault) Error() string { return f.Name + ": " + f.Says }

// keyed is something that no two records of a kind may have in common.
type keyed struct{ field, value string }

// checks are what is true of every record of a kind.
type checks[T any] struct {
	name   func(*T) string
	unique func(*T) []keyed
	refers func(d *Draft, v *T, to func(field, kind string, id int64)) // calls to with all that has to be there
}

// checking is how a kind's records are checked in a draft: those with these numbers.
func checking[T any](l *list[T], c checks[T]) func(d *Draft, ids []int64) *Fault {
	refers := referring(l, c)
	return func(d *Draft, ids []int64) *Fault {
		taken := make(map[keyed]int64) // by those that have become others
		clash := func(k keyed, id, other int64) *Fault {
			v, _ := l.get(&d.is, id)
			o, _ := l.get(&d.is, other)
			return &Fault{Key: Key{l.kind, id}, Name: l.kind + " " + c.name(&v), Field: k.field, Says: fmt.Sprintf("%s %s is that of %s %s", k.field, k.value, l.kind, c.name(&o)), Other: Key{l.kind, other}}
		}
		for _, id := range ids {
			if fault := refers(d, id); fault != nil {
				return fault
			}
			if c.unique == nil {
				continue
			}
			v, _ := l.get(&d.is, id)
			mine := c.unique(&v)
			if was, there := l.get(&d.was, id); there && slices.Equal(mine, c.unique(&was)) {
				continue // it was so before, and whoever is new is looked at
			}
			for _, k := range mine {
				if other, ok := taken[k]; ok {
					return clash(k, id, other)
				}
				taken[k] = id
			}
		}
		if len(taken) == 0 {
			return nil
		}
		index := d.uniques[l.kind]
		if index == nil && d.looked[l.kind] { // more than once is worth an index
			index = make(map[keyed]int64)
			d.uniques[l.kind] = index
			for _, v := range *l.of(&d.is) {
				for _, k := range c.unique(&v) {
					if _, mine := taken[k]; !mine || taken[k] != l.id(&v) {
						index[k] = l.id(&v)
					}
				}
			}
		}
		if index != nil {
			for k, id := range taken {
				other, had := index[k]
				if v, there := l.get(&d.is, other); had && other != id && there && slices.Contains(c.unique(&v), k) {
					return clash(k, id, other)
				}
			}
			maps.Copy(index, taken)
			return nil
		}
		d.looked[l.kind] = true
		all := *l.of(&d.is)
		for i := range all {
			for _, k := range c.unique(&all[i]) {
				if id, ok := taken[k]; ok && id != l.id(&all[i]) {
					return clash(k, id, l.id(&all[i]))
				}
			}
		}
		return nil
	}
}

// referring is that part of it that is about what a record refers to.
func referring[T any](l *list[T], c checks[T]) func(d *Draft, id int64) *Fault {
	return func(d *Draft, id int64) (fault *Fault) {
		v, there := l.get(&d.is, id)
		if !there || c.refers == nil {
			return nil
		}
		c.refers(d, &v, func(field, kind string, to int64) {
			if fault == nil && !d.has(kind, to) {
				fault = &Fault{Key: Key{l.kind, id}, Name: l.kind + " " + c.name(&v), Field: field, Says: fmt.Sprintf("it names a %s that is not there", kind), Other: Key{kind, to}}
			}
		})
		return fault
	}
}

// has says whether a record is there.
func (d *Draft) has(kind string, id int64) bool {
	k := kindNamed[kind]
	return k != nil && k.there != nil && k.there(&d.is, id)
}

// Check says what is wrong with the draft, by the records that it has touched: what one refers to is there, and no two have in common what tells them
// apart; nil where nothing is. Asked again, it looks at what has been touched since.
func (d *Draft) Check() *Fault {
	var gone []Key
	of := make(map[string][]int64)
	for key := range d.unchecked {
		k, parent := kindNamed[key.Kind], d.touched[key]
		if _, there := k.get(&d.is, key.ID, parent); !there {
			gone = append(gone, key)
		} else if key.Kind == "rule" {
			if fault := d.checkRule(parent, key.ID); fault != nil {
				return fault
			}
		} else {
			of[key.Kind] = append(of[key.Kind], key.ID)
		}
	}
	for kind, ids := range of {
		if check := kindNamed[kind].check; check != nil {
			slices.Sort(ids)
			if fault := check(d, ids); fault != nil {
				return fault
			}
		}
	}
	if fault := d.checkGone(gone); fault != nil {
		return fault
	}
	if fault := d.checkGuest(); fault != nil {
		return fault
	}
	clear(d.unchecked)
	return nil
}

// checkGuest looks at as whom those come in who have no account: somebody who is there, and looks after nothing.
func (d *Draft) checkGuest() *Fault {
	guest := int64(d.is.Services.SMBGuest)
	if guest == 0 {
		return nil
	}
	fault := Fault{Key: Key{"services", 1}, Name: "services", Field: "guest", Other: Key{"user", guest}}
	u, ok := Get[identity.User](d, guest)
	switch {
	case !ok:
		fault.Says = "it names a user that is not there, as whom those come in who have no account"
	case u.Role != identity.NoRole:
		fault.Says = fmt.Sprintf("those who have no account come in as %s, who is %s: who has a role cannot be that", u.Name, u.Role)
	default:
		return nil
	}
	return &fault
}

// checkRule looks at whom the entries of a rule name.
func (d *Draft) checkRule(folder, id int64) *Fault {
	f, _ := folders.get(&d.is, folder)
	i := slices.IndexFunc(f.Rules, func(r acl.Rule) bool { return r.ID == id })
	path := f.Name
	if f.Rules[i].Path != "" {
		path += "/" + f.Rules[i].Path
	}
	return d.checkEntries(Key{"rule", id}, "rule on "+path, f.Rules[i].Entries)
}

func (d *Draft) checkEntries(key Key, name string, entries []acl.Entry) *Fault {
	for _, e := range entries {
		if other, named := principalKey(e.Who); named && !d.has(other.Kind, other.ID) {
			return &Fault{Key: key, Name: name, Field: "entries", Says: fmt.Sprintf("entry %d names a %s that is not there", e.ID, other.Kind), Other: other}
		}
	}
	return nil
}

// principalKey is the record of a principal; false for those that are none.
func principalKey(p identity.Principal) (Key, bool) {
	switch p.Kind {
	case identity.KindUser:
		return Key{"user", int64(p.ID)}, true
	case identity.KindGroup:
		return Key{"group", int64(p.ID)}, true
	}
	return Key{}, false
}

// checkGone looks for what still refers to records that have gone: all that may is looked through, as nothing says who does.
func (d *Draft) checkGone(gone []Key) *Fault {
	if !slices.ContainsFunc(gone, func(k Key) bool {
		return k.Kind == "user" || k.Kind == "group" || k.Kind == "volume" || k.Kind == "folder" || k.Kind == "host set" || k.Kind == "profile" || k.Kind == "share"
	}) {
		return nil
	}
	for i := range Kinds {
		k := &Kinds[i]
		if k.check == nil {
			continue
		}
		var fault *Fault
		k.each(&d.is, func(id int64, _ any) {
			if fault == nil {
				fault = k.refers(d, id)
			}
		})
		if fault != nil {
			return fault
		}
	}
	for _, f := range d.is.Folders {
		for _, r := range f.Rules {
			if fault := d.checkRule(f.ID, r.ID); fault != nil {
				return fault
			}
		}
	}
	return nil
}

func name(value string) keyed { return keyed{"name", identity.Fold(value)} }

func optional[N ~int64](to func(field, kind string, id int64), field, kind string, id N) {
	if id != 0 {
		to(field, kind, int64(id))
	}
}

var (
	checkUser = checks[identity.User]{name: func(u *identity.User) string { return u.Name },
		unique: func(u *identity.User) []keyed { return []keyed{name(u.Name), {"uid", number(u.UID)}} },
		refers: func(_ *Draft, u *identity.User, to func(string, string, int64)) {
			optional(to, "primary", "group", u.Primary)
			optional(to, "profile", "profile", u.Profile)
			if u.Leaving != nil {
				optional(to, "leaving", "user", u.Leaving.To)
				optional(to, "leaving", "folder", u.Leaving.Hold)
			}
		}}
	checkGroup = checks[identity.Group]{name: func(g *identity.Group) string { return g.Name },
		unique: func(g *identity.Group) []keyed { return []keyed{name(g.Name), {"gid", number(g.GID)}} },
		refers: func(_ *Draft, g *identity.Group, to func(string, string, int64)) {
			for _, m := range g.Members {
				if key, ok := principalKey(m); ok {
					to("members", key.Kind, key.ID)
				}
			}
			for _, o := range g.Owners {
				if key, ok := principalKey(o); ok {
					to("owners", key.Kind, key.ID)
				}
			}
		}}
	checkProfile = checks[Profile]{name: func(p *Profile) string { return p.Name }, unique: func(p *Profile) []keyed { return []keyed{name(p.Name)} },
		refers: func(_ *Draft, p *Profile, to func(string, string, int64)) {
			for _, g := range p.Groups {
				to("groups", "group", int64(g))
			}
		}}
	checkNumberMap = checks[NumberMap]{name: func(m *NumberMap) string { return m.Name }, unique: func(m *NumberMap) []keyed { return []keyed{name(m.Name)} },
		refers: func(_ *Draft, m *NumberMap, to func(string, string, int64)) {
			for _, n := range m.Users {
				optional(to, "users", "user", n.Who)
			}
			for _, n := range m.Groups {
				optional(to, "groups", "group", n.Who)
			}
		}}
	checkRetiredNumber = checks[RetiredNumber]{name: func(n *RetiredNumber) string { return number(n.UID) },
		unique: func(n *RetiredNumber) []keyed { return []keyed{{"uid", number(n.UID)}} }}
	checkToken = checks[Token]{name: func(t *Token) string { return t.Name },
		unique: func(t *Token) []keyed {
			return []keyed{{"name", strconv.FormatInt(int64(t.User), 10) + ":" + identity.Fold(t.Name)}}
		},
		refers: func(_ *Draft, t *Token, to func(string, string, int64)) { to("user", "user", int64(t.User)) }}
	checkVolume = checks[Volume]{name: func(v *Volume) string { return v.Name }, unique: func(v *Volume) []keyed { return []keyed{name(v.Name), {"path", v.Path}} }}
	checkFolder = checks[Folder]{name: func(f *Folder) string { return f.Name },
		unique: func(f *Folder) []keyed {
			return []keyed{name(f.Name), {"path", strconv.FormatInt(f.VolumeID, 10) + ":" + f.Path}}
		},
		refers: func(_ *Draft, f *Folder, to func(string, string, int64)) {
			to("volumeId", "volume", f.VolumeID)
			optional(to, "owner", "user", f.Owner)
			optional(to, "group", "group", f.Group)
			if f.Personal != nil {
				to("personal", "group", int64(f.Personal.Group))
			}
		}}
	checkShare = checks[Share]{name: func(s *Share) string { return s.Name }, unique: func(s *Share) []keyed { return []keyed{name(s.Name)} },
		refers: func(_ *Draft, s *Share, to func(string, string, int64)) {
			to("folderId", "folder", s.FolderID)
			for _, e := range s.Entries {
				if key, ok := principalKey(e.Who); ok {
					to("entries", key.Kind, key.ID)
				}
			}
		}}
	checkServerName = checks[ServerName]{name: func(n *ServerName) string { return n.Name }, unique: func(n *ServerName) []keyed { return []keyed{name(n.Name)} },
		refers: func(_ *Draft, n *ServerName, to func(string, string, int64)) {
			for _, l := range n.Leads {
				optional(to, "leads", "share", l.Here)
			}
		}}
	checkHostSet = checks[HostSet]{name: func(h *HostSet) string { return h.Name }, unique: func(h *HostSet) []keyed { return []keyed{name(h.Name)} }}
	checkExport  = checks[Export]{name: func(e *Export) string { return e.Path }, unique: func(e *Export) []keyed { return []keyed{{"path", e.Path}} },
		refers: func(d *Draft, e *Export, to func(string, string, int64)) {
			to("folderId", "folder", e.FolderID)
			for _, r := range e.Rules {
				if set, ok := strings.CutPrefix(r.From, SetMark); ok && !slices.ContainsFunc(d.is.HostSets, func(h HostSet) bool { return identity.Fold(h.Name) == identity.Fold(set) }) {
					to("rules", "host set", 0)
				}
			}
		}}
	checkHolding = checks[Holding]{name: func(h *Holding) string { return h.Name },
		unique: func(h *Holding) []keyed {
			return []keyed{{"path", strconv.FormatInt(h.FolderID, 10) + ":" + identity.Fold(h.Path)}}
		},
		refers: func(_ *Draft, h *Holding, to func(string, string, int64)) { to("folderId", "folder", h.FolderID) }}
	checkReview     = checks[Review]{name: func(r *Review) string { return r.Name }, unique: func(r *Review) []keyed { return []keyed{name(r.Name)} }}
	checkHook       = checks[Hook]{name: func(h *Hook) string { return h.Name }, unique: func(h *Hook) []keyed { return []keyed{name(h.Name)} }}
	checkIDList     = checks[IDList]{name: func(l *IDList) string { return l.Host }, unique: func(l *IDList) []keyed { return []keyed{{"host", identity.Fold(l.Host)}} }}
	checkAcceptance = checks[Acceptance]{name: func(a *Acceptance) string { return a.Finding }, unique: func(a *Acceptance) []keyed { return []keyed{{"finding", a.Finding}} }}
	checkLimit      = checks[limit.Limit]{name: func(l *limit.Limit) string { return strconv.FormatInt(l.ID, 10) },
		unique: func(l *limit.Limit) []keyed {
			return []keyed{{"name", fmt.Sprint(l.Kind, l.User, l.Group, l.Volume, l.Folder, " ", l.Path)}}
		},
		refers: func(_ *Draft, l *limit.Limit, to func(string, string, int64)) {
			optional(to, "user", "user", l.User)
			optional(to, "group", "group", l.Group)
			optional(to, "volume", "volume", l.Volume)
			optional(to, "folder", "folder", l.Folder)
		}}
)
