package site

import (
	"slices"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
)

// Personal makes a folder one in which each of a group has a directory of their own, called as they are: they may change what is in it, and list the folder
// itself. It is one rule for all of them, whoever comes and goes, and no entries that somebody would have to write.
type Personal struct {
	Group identity.ID `json:"group,omitzero"`
	// Level is what each has of their own directory; acl.NoLevel is acl.Change.
	Level acl.Level `json:"level,omitzero"`
}

// Has says whether somebody has a directory of their own in the folder, by dense index.
func (p *Personal) Has(d *identity.Directory, user int32) bool {
	return p != nil && d.Member(user, d.GroupIndex(p.Group))
}

// inForce are the rules of a folder as they hold: those that are written, and those that come of its being personal. Of these, entries have negative
// numbers, as there is no record of them.
func (f *Folder) inForce(d *identity.Directory) []acl.Rule {
	group := identity.None
	if f.Personal != nil {
		group = d.GroupIndex(f.Personal.Group)
	}
	if group == identity.None || f.Permissions == ByMode {
		return f.Rules
	}
	out := slices.Clone(f.Rules)
	at := make(map[string]int, len(out))
	for i := range out {
		at[out[i].Path] = i
	}
	add := func(path string, e acl.Entry) {
		i, ok := at[path]
		if !ok {
			out = append(out, acl.Rule{Path: path, Entries: []acl.Entry{e}})
			return
		}
		out[i].Entries = append(slices.Clone(out[i].Entries), e)
	}
	level := f.Personal.Level
	if level == acl.NoLevel {
		level = acl.Change
	}
	add("", acl.Entry{ID: -1, Who: identity.GroupPrincipal(f.Personal.Group), Level: acl.Read, Applies: acl.Here})
	for i := range d.Members(group).Each() {
		u := &d.Users()[i]
		add(u.Name, acl.Entry{ID: -1 - int64(u.ID), Who: identity.UserPrincipal(u.ID), Level: level, Applies: acl.Everywhere})
	}
	slices.SortFunc(out, func(a, b acl.Rule) int { return byPath(a, b.Path) })
	return out
}

// Written are those of some entries of which there are records.
func Written(all []acl.Entry) []acl.Entry {
	if !slices.ContainsFunc(all, func(e acl.Entry) bool { return e.ID < 0 }) {
		return all
	}
	return Without(all, func(e acl.Entry) bool { return e.ID < 0 })
}

// WrittenRules are rules without what comes of a folder's being personal.
func WrittenRules(all []acl.Rule) (out []acl.Rule) {
	for _, r := range all {
		if r.Entries = Written(r.Entries); r.Cut || len(r.Entries) > 0 {
			out = append(out, r)
		}
	}
	return out
}
