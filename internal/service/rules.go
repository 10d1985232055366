package service

import (
	"context"
	"slices"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
)

// EntryChange is what is to change of an entry; nil leaves a field as it is.
type EntryChange struct {
	Level   *string
	Applies []string // none leaves them
	Expires *time.Time
	Note    *string
}

// UpdateEntry changes an explicit entry of FOLDER or FOLDER/PATH.
func (s *Service) UpdateEntry(ctx context.Context, by Actor, full string, id int64, in EntryChange) error {
	f, at, err := s.place(full)
	if err != nil {
		return err
	}
	return s.change(ctx, by, "change entry "+itoa(id), f.Display(at.Path), func(d *site.Draft) error {
		rule := d.Rule(f.ID, at.Path)
		i := slices.IndexFunc(rule.Entries, func(e acl.Entry) bool { return e.ID == id })
		if i < 0 {
			return notFound("id", "amber entry list "+quote(f.Display(at.Path)), "entry %d is not written on %s", id, f.Display(at.Path))
		}
		rule.Entries = slices.Clone(rule.Entries)
		if err := s.alterEntry(&rule.Entries[i], in); err != nil {
			return err
		}
		d.PutRule(f.ID, rule)
		return nil
	})
}

// alterEntry makes an entry what it is to be.
func (s *Service) alterEntry(e *acl.Entry, in EntryChange) (err error) {
	if in.Level != nil {
		if e.Level, e.Mask, err = acl.ParseGrant(*in.Level); err != nil {
			return invalid("level", "%v", err)
		}
	}
	if len(in.Applies) > 0 {
		if e.Applies, err = parseApplies(in.Applies); err != nil {
			return err
		}
	}
	if in.Expires != nil {
		e.Expires = instant(*in.Expires)
	}
	set(&e.Note, in.Note)
	return s.checkEntry(*e)
}

// checkEntry refuses what no entry can be.
func (s *Service) checkEntry(e acl.Entry) error {
	if e.Ended(s.Now()) {
		return invalid("ends", "%s has passed already: the entry would never count", e.Expires.Format(time.RFC3339))
	}
	if len(e.Note) > 500 {
		return invalid("note", "the note is longer than 500 bytes")
	}
	return nil
}

// entryPlace finds a path that rules can be written on.
func (s *Service) entryPlace(full string) (*site.PublishedFolder, files.Place, error) {
	f, at, err := s.place(full)
	if err != nil {
		return nil, at, err
	}
	if f.Unix() {
		return nil, at, conflict("path", "amber mode show "+quote(f.Display(at.Path)), "in %s owner, group and mode decide: entries there would say nothing", f.Name)
	}
	return f, at, nil
}

// ClearRules removes what is written on FOLDER or FOLDER/PATH, cuts included; with below, what is
// written on all paths below as well. Data is not touched. What is on disk no more can be cleared.
func (s *Service) ClearRules(ctx context.Context, by Actor, full string, below bool) error {
	name, path, err := site.SplitPath(full)
	if err != nil {
		return invalid("path", "%v", err)
	}
	f, err := s.Folder(name)
	if err != nil {
		return err
	}
	if f.Tree.Rule(path) == nil { // perhaps in another case, as it is on disk
		if _, at, err := s.place(full); err == nil {
			path = at.Path
		}
	}
	action := "clear rules"
	if below {
		action = "clear rules here and below"
	}
	return s.change(ctx, by, action, f.Display(path), func(d *site.Draft) error {
		found := eraseRules(d, f.ID, func(r acl.Rule) bool { return r.Path == path || below && under(r.Path, path) })
		if !found {
			return notFound("path", "amber folder show "+quote(f.Name), "nothing is written on %s", f.Display(path))
		}
		return nil
	})
}

// eraseRules removes the rules of a folder that are picked, and says whether there were any.
func eraseRules(d *site.Draft, folder int64, pick func(acl.Rule) bool) (any bool) {
	f, _ := site.Get[site.Folder](d, folder)
	for _, r := range slices.Clone(f.Rules) {
		if pick(r) {
			d.PutRule(folder, acl.Rule{Path: r.Path})
			any = true
		}
	}
	return any
}

// putRule writes a rule in the place of what a path has, with entries of its own.
func putRule(d *site.Draft, folder int64, r acl.Rule) {
	r.ID, r.Entries = 0, slices.Clone(r.Entries)
	for i := range r.Entries {
		r.Entries[i].ID, r.Entries[i].Expires = 0, instant(r.Entries[i].Expires)
	}
	d.PutRule(folder, r)
}

// CopyRules makes what holds on one path hold on another: its complete list is written there, and
// the rules on paths below that are there too. What was written there before is removed.
func (s *Service) CopyRules(ctx context.Context, by Actor, from, to string) error {
	f, at, err := s.entryPlace(from)
	if err != nil {
		return err
	}
	g, there, err := s.entryPlace(to)
	if err != nil {
		return err
	}
	if f.ID == g.ID && (files.Inside(at.Path, there.Path) || files.Inside(there.Path, at.Path) || at.Path == "" || there.Path == "") {
		return invalid("path", "%s and %s are one inside the other", f.Display(at.Path), g.Display(there.Path))
	}
	if !at.Exists || !there.Exists {
		return notFound("path", "", "%s and %s are not both on disk", f.Display(at.Path), g.Display(there.Path))
	}
	return s.change(ctx, by, "copy rules of "+f.Display(at.Path), g.Display(there.Path), func(d *site.Draft) error {
		source := s.Policy().Folder(f.ID)
		eraseRules(d, g.ID, func(r acl.Rule) bool { return r.Path == there.Path || under(r.Path, there.Path) })
		own := s.rule(f.ID, at.Path)
		top := acl.Rule{Path: there.Path, Cut: true, Entries: slices.Clone(site.Written(own.Entries))}
		if !own.Cut {
			top.Entries = append(top.Entries, site.Written(source.Tree.InheritedEntries(at.Path, at.File))...)
		}
		putRule(d, g.ID, top)
		for _, r := range site.WrittenRules(source.Rules) {
			if !under(r.Path, at.Path) {
				continue
			}
			rest := strings.TrimPrefix(strings.TrimPrefix(r.Path, at.Path), "/")
			path := rest
			if there.Path != "" {
				path = there.Path + "/" + rest
			}
			if found, err := files.Find(g.At, path); err != nil || !found.Exists {
				continue
			}
			r.Path = path
			putRule(d, g.ID, r)
		}
		return nil
	})
}

// under says whether a path is below another, which may be the folder itself.
func under(path, dir string) bool {
	return path != dir && (dir == "" || files.Inside(path, dir))
}

// SetRule writes a whole list on FOLDER or FOLDER/PATH in the place of what is written there.
// Numbers of the entries do not count.
func (s *Service) SetRule(ctx context.Context, by Actor, action, full string, cut bool, entries []acl.Entry) error {
	f, at, err := s.entryPlace(full)
	if err != nil {
		return err
	}
	return s.change(ctx, by, action, f.Display(at.Path), func(d *site.Draft) error {
		if !at.Exists {
			return notFound("path", "amber entry list "+quote(f.Name), "%s is not on disk: rules there would say nothing", f.Display(at.Path))
		}
		for _, e := range entries {
			if err := s.checkEntry(e); err != nil {
				return err
			}
		}
		putRule(d, f.ID, acl.Rule{Path: at.Path, Cut: cut, Entries: entries})
		return nil
	})
}

// Arrangement is a ready-made set of entries for what is often asked for. Each fills one or two
// blanks: the team, who mostly work there, and the others, who look on.
type Arrangement struct {
	Name   string
	Text   string
	Team   string // what the blank is for; "" where there is none
	Others string
}

// Arrangements lists them.
func Arrangements() []Arrangement {
	return []Arrangement{
		{"together", "everyone on the team changes everything", "who changes", ""},
		{"few-change", "a few change, the rest read", "who changes", "who reads"},
		{"only-named", "only those named get in, and change everything", "who gets in", ""},
		{"drop-place", "some put things in and change nothing, others read", "who adds", "who reads"},
		{"personal", "everybody has a directory of their own, seen by nobody else", "whose directories these are", ""},
	}
}

// Arrange writes an arrangement on FOLDER or FOLDER/PATH in the place of what is written there. A
// personal one makes a directory for each user in the team that has none yet.
func (s *Service) Arrange(ctx context.Context, by Actor, full, arrangement string, team, others []string) error {
	i := slices.IndexFunc(Arrangements(), func(a Arrangement) bool { return a.Name == arrangement })
	if i < 0 {
		var names []string
		for _, a := range Arrangements() {
			names = append(names, a.Name)
		}
		return invalid("arrangement", "%q is not one of %s", arrangement, strings.Join(names, ", "))
	}
	a := Arrangements()[i]
	if len(team) == 0 {
		return invalid("team", "say %s", a.Team)
	}
	if a.Others == "" && len(others) > 0 {
		return invalid("others", "%s: there are no others", a.Text)
	}
	f, at, err := s.entryPlace(full)
	if err != nil {
		return err
	}
	if at.File {
		return invalid("path", "%s is a file", f.Display(at.Path))
	}
	teamLevel, applies := acl.Change, acl.Everywhere
	switch a.Name {
	case "drop-place":
		teamLevel = acl.Add
	case "personal":
		teamLevel, applies = acl.Read, acl.Here
	}
	var entries []acl.Entry
	add := func(field string, names []string, level acl.Level, applies acl.Applies) error {
		for _, name := range names {
			who, err := s.Principal(field, name)
			if err != nil {
				return err
			}
			entries = append(entries, acl.Entry{Who: who, Level: level, Applies: applies})
		}
		return nil
	}
	if err := add("team", team, teamLevel, applies); err != nil {
		return err
	}
	if err := add("others", others, acl.Read, acl.Everywhere); err != nil {
		return err
	}
	if a.Name != "personal" {
		return s.SetRule(ctx, by, "arrange "+a.Name, full, at.Path != "", entries)
	}
	return s.arrangePersonal(ctx, by, f, at, entries)
}

// arrangePersonal writes the entries of the folder, and on a directory for each user that they name
// an entry for that user alone.
func (s *Service) arrangePersonal(ctx context.Context, by Actor, f *site.PublishedFolder, at files.Place, entries []acl.Entry) error {
	people := s.Policy().Directory
	owners := people.NoPeople()
	for _, e := range entries {
		switch e.Who.Kind {
		case identity.KindUser:
			owners.Add(people.UserIndex(e.Who.ID))
		case identity.KindGroup:
			owners.Or(people.Members(people.GroupIndex(e.Who.ID)))
		default:
			return invalid("team", "%s is nobody to make a directory for: name users or groups", people.Name(e.Who))
		}
	}
	if n := owners.Count(); n > 10_000 {
		return invalid("team", "%d directories are more than are made at once", n)
	}
	return s.change(ctx, by, "arrange personal", f.Display(at.Path), func(d *site.Draft) error {
		putRule(d, f.ID, acl.Rule{Path: at.Path, Cut: at.Path != "", Entries: entries})
		for i := range owners.Each() {
			u := people.Users()[i]
			path := u.Name
			if at.Path != "" {
				path = at.Path + "/" + u.Name
			}
			rule := acl.Rule{Path: path, Entries: []acl.Entry{{Who: identity.UserPrincipal(u.ID), Level: acl.Change, Applies: acl.Everywhere}}}
			putRule(d, f.ID, rule)
			if err := s.makeDirectory(d, f.At, path); err != nil {
				return err
			}
		}
		return nil
	})
}
