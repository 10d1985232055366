package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/refusal"
)

func checkPlaceName(field, name string) error { return refusal.PlaceName(field, name) }

func (s *Service) volume(name string) (site.Volume, error) {
	for _, v := range s.Policy().Volumes {
		if identity.Fold(v.Name) == identity.Fold(name) {
			return v, nil
		}
	}
	return site.Volume{}, notFound("volume", "amber volume list", "there is no volume %q", name)
}

// Folder finds a folder by name, whatever its case.
func (s *Service) Folder(name string) (*site.PublishedFolder, error) {
	if f := s.Policy().FolderNamed(name); f != nil {
		return f, nil
	}
	return nil, noFolder(name)
}

func noFolder(name string) error {
	return notFound("folder", "amber folder list", "there is no folder %q", name)
}

// Share finds a share by name, whatever its case.
func (s *Service) Share(name string) (*site.PublishedShare, error) {
	if sh := s.Policy().ShareNamed(name); sh != nil {
		return sh, nil
	}
	return nil, notFound("share", "amber share list", "there is no share %q", name)
}

// place finds the folder and the path below it, as it stands on disk, from
// FOLDER/PATH as people write it.
func (s *Service) place(full string) (*site.PublishedFolder, files.Place, error) {
	name, path, err := site.SplitPath(full)
	if err != nil {
		return nil, files.Place{}, invalid("path", "%v", err)
	}
	f := s.known().FolderNamed(name)
	if f == nil {
		return nil, files.Place{}, noFolder(name)
	}
	at, err := s.find(f.At, path)
	if s.drafting != nil && errors.Is(err, files.ErrGone) && path == "" { // a folder that would have been made
		return f, files.Place{Exists: true}, nil
	}
	var away *files.Away
	switch {
	case errors.As(err, &away) && path == "":
		return f, files.Place{Exists: true}, nil // what is said of all of the folder can be asked for, and altered, meanwhile
	case errors.As(err, &away):
		v, _ := s.Policy().Volume(f.VolumeID)
		return nil, files.Place{}, &Error{Kind: Unavailable, Field: "path", Next: "amber volume list",
			Message: fmt.Sprintf("%s cannot be looked at: volume %s at %s", f.Display(path), v.Name, away)}
	case err != nil:
		return nil, files.Place{}, invalid("path", "%s: %v", f.Display(path), err)
	}
	return f, at, nil
}

// find looks at the disk: on a draft once for each path, as nothing is done there before the draft is written down.
func (s *Service) find(at site.Location, path string) (files.Place, error) {
	if s.drafting == nil {
		return files.Find(at, path)
	}
	key := placeAt{at, path}
	known, ok := s.drafting.found[key]
	if !ok {
		known.place, known.err = files.Find(at, path)
		s.drafting.found[key] = known
	}
	return known.place, known.err
}

// EntryInput is what a new entry is made from.
type EntryInput struct {
	Who     string // as principals are written
	Deny    bool
	Level   string    // a level, or names of RFC 8881 bits with commas between
	Applies []string  // of folder, subfolders, files, direct; none is the first three
	Expires time.Time // the first moment at which it no longer counts; zero for never
	Note    string
	// Through writes what lets them pass every directory above as well, where nothing does yet.
	Through bool
}

func parseApplies(names []string) (acl.Applies, error) {
	if len(names) == 0 {
		return acl.Everywhere, nil
	}
	a, err := acl.ParseApplies(names)
	if err != nil {
		return 0, invalid("applies", "%v", err)
	}
	if a&acl.Everywhere == 0 {
		return 0, invalid("applies", "the entry would reach nothing: name folder, subfolders or files as well")
	}
	if a&acl.DirectOnly != 0 && a&(acl.Subfolders|acl.Files) == 0 {
		return 0, invalid("applies", "direct narrows subfolders and files: name one of them as well")
	}
	return a, nil
}

// newEntry is the entry that an input stands for.
func (s *Service) newEntry(in EntryInput) (e acl.Entry, err error) {
	if e.Who, err = s.Principal("who", in.Who); err != nil {
		return e, err
	}
	if e.Level, e.Mask, err = acl.ParseGrant(in.Level); err != nil {
		return e, invalid("level", "%v", err)
	}
	if e.Applies, err = parseApplies(in.Applies); err != nil {
		return e, err
	}
	e.Deny, e.Expires, e.Note = in.Deny, instant(in.Expires), in.Note
	return e, s.checkEntry(e)
}

// mostEntries is how many there may be on one path, or one share: nobody could tell what more of them say.
const mostEntries = 1000

var errManyEntries = &Error{Kind: Conflict, Field: "path", Message: fmt.Sprintf("there are %d entries already, which is as many as a list holds: name a group instead", mostEntries)}

// writeEntry adds an entry to a path of a folder and gives its number.
func (s *Service) writeEntry(d *site.Draft, folder int64, path string, in EntryInput) (int64, error) {
	e, err := s.newEntry(in)
	if err != nil {
		return 0, err
	}
	r := d.Rule(folder, path)
	if len(r.Entries) >= mostEntries {
		return 0, errManyEntries
	}
	r.Entries = append(slices.Clip(r.Entries), e)
	r = d.PutRule(folder, r)
	return r.Entries[len(r.Entries)-1].ID, nil
}

// AddEntry writes an entry on FOLDER or FOLDER/PATH and gives its number.
func (s *Service) AddEntry(ctx context.Context, by Actor, full string, in EntryInput) (int64, error) {
	var id int64
	f, at, err := s.entryPlace(full)
	if err != nil {
		return 0, err
	}
	err = s.change(ctx, by, "add entry", f.Display(at.Path), func(d *site.Draft) error {
		if !at.Exists {
			return notFound("path", "amber entry list "+quote(f.Name), "%s is not on disk: an entry there would say nothing", f.Display(at.Path))
		}
		if in.Through {
			if err := s.letThrough(d, f, at.Path, in); err != nil {
				return err
			}
		}
		id, err = s.writeEntry(d, f.ID, at.Path, in)
		return err
	})
	return id, err
}

// letThrough writes entries by which those whom an entry is for may pass the directories above a path: where no entry for them does.
func (s *Service) letThrough(draft *site.Draft, f *site.PublishedFolder, path string, in EntryInput) error {
	if in.Deny {
		return invalid("through", "what is denied needs no way to it")
	}
	who, err := s.Principal("who", in.Who)
	if err != nil {
		return err
	}
	d := s.Policy().Directory
	if f = s.Policy().Folder(f.ID); f == nil {
		return files.ErrGone
	}
	for path != "" {
		path = path[:max(strings.LastIndexByte(path, '/'), 0)]
		list := f.Tree.List(path, false)
		passes := slices.ContainsFunc(list.Aces, func(a acl.Ace) bool { return a.Entry.Who == who && !a.Entry.Deny && a.Mask&acl.Execute != 0 })
		if who.Kind == identity.KindUser {
			passes = list.Evaluate(d.Person(d.UserIndex(who.ID)), f.OwnedBy, s.Now(), acl.Execute, nil) != 0
		}
		if passes {
			continue
		}
		if _, err := s.writeEntry(draft, f.ID, path, EntryInput{Who: in.Who, Level: acl.Pass.String(), Applies: []string{"folder"}, Expires: in.Expires, Note: in.Note}); err != nil {
			return err
		}
	}
	return nil
}

// RemoveEntry removes an explicit entry of FOLDER or FOLDER/PATH.
func (s *Service) RemoveEntry(ctx context.Context, by Actor, full string, id int64) error {
	f, at, err := s.place(full)
	if err != nil {
		return err
	}
	return s.change(ctx, by, "remove entry "+itoa(id), f.Display(at.Path), func(d *site.Draft) error {
		rule := d.Rule(f.ID, at.Path)
		if !slices.ContainsFunc(rule.Entries, func(e acl.Entry) bool { return e.ID == id }) {
			return notFound("id", "amber entry list "+quote(f.Display(at.Path)), "entry %d is not written on %s", id, f.Display(at.Path))
		}
		rule.Entries = site.Without(rule.Entries, func(e acl.Entry) bool { return e.ID == id })
		d.PutRule(f.ID, rule)
		return nil
	})
}

// rule gives what is written on a path under the policy now in force; an empty rule
// where nothing is, or the folder has gone.
func (s *Service) rule(folder int64, path string) acl.Rule {
	if f := s.Policy().Folder(folder); f != nil {
		if r := f.Tree.Rule(path); r != nil {
			return *r
		}
	}
	return acl.Rule{}
}

// SetInherit cuts a path off from what its parents say, or takes that up again.
// With copy, cutting writes what was inherited as explicit entries first.
func (s *Service) SetInherit(ctx context.Context, by Actor, full string, inherit, copy bool) error {
	f, at, err := s.place(full)
	if err != nil {
		return err
	}
	action := "cut inheritance"
	if inherit {
		action = "take up inheritance"
	}
	return s.change(ctx, by, action, f.Display(at.Path), func(d *site.Draft) error {
		if at.Path == "" {
			return invalid("path", "%s is the folder itself and inherits nothing", f.Name)
		}
		if !at.Exists {
			return notFound("path", "", "%s is not on disk", f.Display(at.Path))
		}
		// Current under the writing lock, unlike f.
		rule := d.Rule(f.ID, at.Path)
		if !inherit && copy && !rule.Cut {
			rule.Entries = slices.Clip(rule.Entries)
			for _, e := range site.Written(s.Policy().Folder(f.ID).Tree.InheritedEntries(at.Path, at.File)) {
				e.ID = 0
				rule.Entries = append(rule.Entries, e)
			}
		}
		rule.Cut = !inherit
		d.PutRule(f.ID, rule)
		return nil
	})
}

// Locate finds the folder and the path below it, as it stands on disk.
func (s *Service) Locate(full string) (*site.PublishedFolder, files.Place, error) {
	s.Policy() // whoever asks looks at what is written there as well
	return s.place(full)
}
