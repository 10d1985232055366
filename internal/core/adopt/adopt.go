// Package adopt turns owners, modes and POSIX ACLs into entries that let everybody in the records
// do just what those let them do, thing by thing.
//
// It is pure: what is on the disk comes in as attributes.
package adopt

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/audit"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
)

// Object is one file or directory of a tree. Path is below the folder, "" for the folder itself.
type Object struct {
	Path  string
	Unix  *posix.Attributes
	Owned acl.Ownership
}

// right is one thing that permission bits let somebody do: the bits that must be had at once, and
// what they stand for.
type right struct {
	need uint32
	mask acl.Mask
}

const (
	toRead = acl.ReadData | acl.ReadNamedAttrs
	always = acl.ReadAttributes | acl.ReadACL | acl.Synchronize
	owners = acl.WriteAttributes | acl.WriteACL | acl.WriteOwner
)

func rights(dir bool) []right {
	if dir {
		return []right{{posix.Read, toRead}, {posix.Exec, acl.Execute},
			{posix.Write | posix.Exec, acl.AddFile | acl.AddSubdirectory | acl.DeleteChild | acl.WriteNamedAttrs}}
	}
	return []right{{posix.Read, toRead}, {posix.Exec, acl.Execute}, {posix.Write, acl.WriteData | acl.AppendData | acl.WriteNamedAttrs}}
}

// Converter turns objects into rules. Objects must come parents first.
type Converter struct {
	directory *identity.Directory
	audit     *audit.Audit
	known     map[string][]acl.Entry
}

// NewConverter is for the people of a policy.
func NewConverter(p *site.Policy) *Converter {
	return &Converter{directory: p.Directory, audit: &audit.Audit{Policy: p}, known: make(map[string][]acl.Entry)}
}

// Entries gives the entries for one object, to be written on it and to apply to it alone. They name
// owner@ and group@ for those, so that objects of the same mode have the same entries.
func (c *Converter) Entries(o Object) []acl.Entry {
	key := fmt.Sprint(*o.Unix, o.Owned)
	if have, ok := c.known[key]; ok {
		return have
	}
	d := c.directory
	allow := map[identity.Principal]acl.Mask{identity.Everyone: always, identity.Owner: owners}
	deny := make(map[identity.Principal]acl.Mask)
	for _, r := range rights(o.Unix.Dir) {
		want := c.audit.Permits(o.Unix, r.need, site.Anonymous)
		got := d.NoPeople()
		give := func(who identity.Principal, perm uint32, people identity.People) {
			if r.need&^perm == 0 {
				allow[who] |= r.mask
				if people != nil {
					got.Or(people)
				}
			}
		}
		owner := d.NoPeople()
		if o.Owned.User >= 0 {
			owner.Add(o.Owned.User)
		}
		var group identity.People
		if o.Owned.Group >= 0 {
			group = d.Members(o.Owned.Group)
		}
		give(identity.Owner, o.Unix.Mode>>6, owner)
		list := o.Unix.ACL
		if list == nil || o.Unix.Mode&0o070 == 0 {
			list = posix.Of(o.Unix.Mode & 0o777)
		}
		mask := uint32(7)
		for _, e := range list {
			if e.Tag == posix.Mask {
				mask = e.Perm
			}
		}
		for _, e := range list {
			switch e.Tag {
			case posix.User:
				if u := d.UserIndexByUID(e.ID); u >= 0 {
					one := d.NoPeople()
					one.Add(u)
					give(identity.UserPrincipal(d.Users()[u].ID), e.Perm&mask, one)
				}
			case posix.GroupObj:
				give(identity.OwningGroup, e.Perm&mask, group)
			case posix.Group:
				if g := d.GroupIndexByGID(e.ID); g >= 0 {
					give(identity.GroupPrincipal(d.Groups()[g].ID), e.Perm&mask, d.Members(g))
				}
			case posix.Other:
				give(identity.Everyone, e.Perm, d.Everybody())
			}
		}
		c.correct(o, r.mask, want, got, allow, deny)
	}
	out := entriesOf(deny, true)
	out = append(out, entriesOf(allow, false)...)
	c.known[key] = out
	return out
}

// correct adds what a right's entries leave out and denies what they give too much: by group where
// that hits nobody else, else by user.
func (c *Converter) correct(o Object, mask acl.Mask, want, got identity.People, allow, deny map[identity.Principal]acl.Mask) {
	d := c.directory
	missing := want.Clone()
	missing.AndNot(got)
	for u := range missing.Each() {
		allow[identity.UserPrincipal(d.Users()[u].ID)] |= mask
	}
	excess := got.Clone()
	excess.AndNot(want)
	if o.Owned.User >= 0 && excess.Has(o.Owned.User) {
		deny[identity.Owner] |= mask
		excess.Remove(o.Owned.User)
	}
	byGroup := func(who identity.Principal, members identity.People) {
		hit, wanted := members.Clone(), members.Clone()
		hit.And(excess)
		wanted.And(want)
		if wanted.Empty() && hit.Count() > 1 {
			deny[who] |= mask
			excess.AndNot(members)
		}
	}
	if o.Owned.Group >= 0 {
		byGroup(identity.OwningGroup, d.Members(o.Owned.Group))
	}
	for _, e := range o.Unix.ACL {
		if g := d.GroupIndexByGID(e.ID); e.Tag == posix.Group && g >= 0 {
			byGroup(identity.GroupPrincipal(d.Groups()[g].ID), d.Members(g))
		}
	}
	for u := range excess.Each() {
		deny[identity.UserPrincipal(d.Users()[u].ID)] |= mask
	}
}

func entriesOf(masks map[identity.Principal]acl.Mask, deny bool) []acl.Entry {
	var out []acl.Entry
	for who, mask := range masks {
		out = append(out, acl.Entry{Deny: deny, Who: who, Mask: mask, Applies: acl.Here})
	}
	rank := map[identity.Kind]int{identity.KindOwner: 0, identity.KindUser: 1, identity.KindOwningGroup: 2, identity.KindGroup: 3, identity.KindEveryone: 4}
	slices.SortFunc(out, func(a, b acl.Entry) int {
		return cmp.Or(cmp.Compare(rank[a.Who.Kind], rank[b.Who.Kind]), cmp.Compare(a.Who.ID, b.Who.ID))
	})
	return out
}

// anywhere stands for all directories.
const anywhere = "\x00"

// Rules gives the rules of a whole tree: one where an object differs from what is handed down to it.
// What is made later takes after the directory it is made in, and files after the files that are
// commonest there.
func (c *Converter) Rules(objects []Object) []acl.Rule {
	type handed struct{ dirs, files string }
	texts := make([]string, len(objects))
	entries := make([][]acl.Entry, len(objects))
	commonest := make(map[string]map[string]int) // by directory: how many files have which entries
	spelled := make(map[string][]acl.Entry)
	for i, o := range objects {
		entries[i] = c.Entries(o)
		texts[i] = fmt.Sprint(entries[i])
		spelled[texts[i]] = entries[i]
		if !o.Unix.Dir {
			dir := parent(o.Path)
			if commonest[dir] == nil {
				commonest[dir] = make(map[string]int)
			}
			commonest[dir][texts[i]]++
			if commonest[anywhere] == nil {
				commonest[anywhere] = make(map[string]int)
			}
			commonest[anywhere][texts[i]]++
		}
	}
	files := func(dir string) string {
		best, most := "", 0
		for text, n := range commonest[dir] {
			if n > most || n == most && text < best {
				best, most = text, n
			}
		}
		return best
	}
	hands := make(map[string]handed)
	var out []acl.Rule
	for i, o := range objects {
		up := handed{}
		if o.Path != "" {
			up = hands[parent(o.Path)]
		}
		if !o.Unix.Dir {
			if texts[i] != up.files {
				out = append(out, acl.Rule{Path: o.Path, Cut: true, Entries: entries[i]})
			}
			continue
		}
		mine := handed{texts[i], cmp.Or(files(o.Path), up.files, files(anywhere))}
		if mine.files == "" { // no file anywhere: as the directory, less what goes through it
			mine.files = c.likeDirectory(o, spelled)
		}
		if mine == up {
			hands[o.Path] = up
			continue
		}
		hands[o.Path] = mine
		rule := acl.Rule{Path: o.Path, Cut: o.Path != ""}
		rule.Entries = append(applying(entries[i], acl.Here|acl.Subfolders), applying(spelled[mine.files], acl.Files)...)
		out = append(out, merged(rule))
	}
	return out
}

func (c *Converter) likeDirectory(o Object, spelled map[string][]acl.Entry) string {
	file := *o.Unix
	file.Dir = false
	o.Unix = &file
	entries := c.Entries(o)
	text := fmt.Sprint(entries)
	spelled[text] = entries
	return text
}

func applying(entries []acl.Entry, applies acl.Applies) []acl.Entry {
	out := slices.Clone(entries)
	for i := range out {
		out[i].Applies = applies
	}
	return out
}

// merged puts entries that say the same of directories and of files into one.
func merged(r acl.Rule) acl.Rule {
	var out []acl.Entry
	for _, e := range r.Entries {
		i := slices.IndexFunc(out, func(o acl.Entry) bool { return o.Who == e.Who && o.Deny == e.Deny && o.Mask == e.Mask })
		if i >= 0 {
			out[i].Applies |= e.Applies
		} else {
			out = append(out, e)
		}
	}
	r.Entries = out
	return r
}

func parent(path string) string {
	if i := strings.LastIndexByte(path, '/'); i >= 0 {
		return path[:i]
	}
	return ""
}
