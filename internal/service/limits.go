package service

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/usage"
)

// LimitInput says whose limit is meant, where it reaches, and what is to change of it. Name is a user, a group, or
// FOLDER or FOLDER/PATH; of a default it is the group whose members it binds, "" for everybody. Volume and Folder are
// the reach of users', groups' and default limits, at most one of them; none is everywhere.
//
// Bounds are as people write them: a size, a number of files, "none" for no bound; "" leaves what there was.
type LimitInput struct {
	Kind                 limit.Kind
	Name, Volume, Folder string
	SoftBytes, HardBytes string
	SoftFiles, HardFiles string
	Grace                string
}

// noBound is how people write that there is no bound.
const noBound = "none"

// subject finds whose limit is meant.
func (s *Service) subject(in LimitInput) (l limit.Limit, err error) {
	l.Kind = in.Kind
	if in.Volume != "" && in.Folder != "" {
		return l, invalid("folder", "a limit reaches one volume or one folder: a folder lies on one volume")
	}
	switch in.Kind {
	case limit.OfUser:
		u, err := s.User(in.Name)
		if err != nil {
			return l, err
		}
		l.User = u.ID
	case limit.OfGroup:
		g, err := s.Group(in.Name)
		if err != nil {
			return l, err
		}
		l.Group = g.ID
	case limit.Default:
		if in.Name != "" {
			g, err := s.Group(in.Name)
			if err != nil {
				return l, err
			}
			l.Group = g.ID
		}
	case limit.OfFolder:
		if in.Volume != "" || in.Folder != "" {
			return l, invalid("volume", "a folder's limit reaches that folder")
		}
		name, path, err := site.SplitPath(in.Name)
		if err != nil {
			return l, invalid("name", "%v", err)
		}
		f, err := s.Folder(name)
		if err != nil {
			return l, err
		}
		l.Folder, l.Path = f.ID, path
		return l, nil
	default:
		return l, invalid("kind", "%q is not one of user, group, folder, default", in.Kind)
	}
	if in.Volume != "" {
		v, err := s.volume(in.Volume)
		if err != nil {
			return l, err
		}
		l.Volume = v.ID
	}
	if in.Folder != "" {
		f, err := s.Folder(in.Folder)
		if err != nil {
			return l, err
		}
		l.Folder = f.ID
	}
	return l, nil
}

// same says whether two limits are of one subject and reach.
func same(a, b *limit.Limit) bool {
	return a.Kind == b.Kind && a.User == b.User && a.Group == b.Group && a.Volume == b.Volume && a.Folder == b.Folder && a.Path == b.Path
}

// SetLimit sets a limit, or changes the one that the subject has with that reach. It binds at once.
func (s *Service) SetLimit(ctx context.Context, by Actor, in LimitInput) (*limit.Limit, error) {
	l, err := s.subject(in)
	if err != nil {
		return nil, err
	}
	var id int64
	err = s.change(ctx, by, "set limit", s.LimitSubject(&l), func(d *site.Draft) error {
		if l, err = s.subject(in); err != nil { // as it is under the lock
			return err
		}
		l.GraceSeconds = int64(limit.DefaultGrace / time.Second)
		for _, have := range s.Policy().Limits.Limits {
			if same(&have, &l) {
				l.ID, l.Bounds = have.ID, have.Bounds
			}
		}
		if l.ID == 0 && in.SoftBytes == "" && in.HardBytes == "" && in.SoftFiles == "" && in.HardFiles == "" {
			return invalid("hardBytes", "say what the limit is: soft or hard, in bytes or in files, or none to let somebody off the default")
		}
		if l.Kind == limit.OfFolder && l.Path != "" && l.ID == 0 {
			if err := s.treeFor(&l); err != nil {
				return err
			}
		}
		if err := readBounds(&l.Bounds, in); err != nil {
			return err
		}
		id = site.Put(d, l)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return s.Policy().Limits.Limit(id), nil
}

// treeFor finds the path of a new limit as it stands on disk.
func (s *Service) treeFor(l *limit.Limit) error {
	f := s.Policy().Folder(l.Folder)
	_, at, err := s.place(f.Display(l.Path))
	if err != nil {
		return err
	}
	switch {
	case !at.Exists:
		return notFound("name", "", "%s is not on disk: a limit there would bind nothing", f.Display(l.Path))
	case at.File:
		return invalid("name", "%s is a file: a limit is for a directory and what is in it", f.Display(at.Path))
	}
	l.Path = at.Path
	for _, have := range s.Policy().Limits.Trees(f.ID) {
		if have.Path == l.Path {
			l.ID, l.Bounds = have.ID, have.Bounds
		}
	}
	if l.ID == 0 && len(s.Policy().Limits.Trees(f.ID)) >= mostTrees {
		return conflict("name", "amber limit list", "%s has limits on %d paths already, which is as many as there can be", f.Name, mostTrees)
	}
	return nil
}

// mostTrees is on how many paths of a folder there can be limits: each is looked at whenever something grows.
const mostTrees = 1000

func readBounds(b *limit.Bounds, in LimitInput) error {
	for _, bound := range []struct {
		field, text string
		to          **int64
		parse       func(string) (int64, error)
	}{
		{"softBytes", in.SoftBytes, &b.SoftBytes, limit.ParseSize}, {"hardBytes", in.HardBytes, &b.HardBytes, limit.ParseSize},
		{"softFiles", in.SoftFiles, &b.SoftFiles, limit.ParseCount}, {"hardFiles", in.HardFiles, &b.HardFiles, limit.ParseCount},
	} {
		switch bound.text {
		case "":
		case noBound:
			*bound.to = nil
		default:
			n, err := bound.parse(bound.text)
			if err != nil {
				return invalid(bound.field, "%v", err)
			}
			*bound.to = &n
		}
	}
	if in.Grace != "" {
		d, err := limit.ParseGrace(in.Grace)
		if err != nil {
			return invalid("grace", "%v", err)
		}
		b.GraceSeconds = int64(d / time.Second)
	}
	switch err := b.Check(); {
	case errors.Is(err, limit.ErrHardSoft):
		return invalid("hardBytes", "%v: what is soft is passed first", err)
	case err != nil:
		return invalid("hardBytes", "%v", err)
	}
	return nil
}

// RemoveLimit removes the limit that a subject has with a reach.
func (s *Service) RemoveLimit(ctx context.Context, by Actor, in LimitInput) error {
	l, err := s.subject(in)
	if err != nil {
		return err
	}
	return s.change(ctx, by, "remove limit", s.LimitSubject(&l), func(d *site.Draft) error {
		if l, err = s.subject(in); err != nil {
			return err
		}
		for _, have := range s.Policy().Limits.Limits {
			if same(&have, &l) {
				site.Delete[limit.Limit](d, have.ID)
				return nil
			}
		}
		return notFound("name", "amber limit list", "there is no limit of %s", s.LimitSubject(&l))
	})
}

// LimitSubject spells whose a limit is, and where it reaches: "user piran on main".
func (s *Service) LimitSubject(l *limit.Limit) string { return access.LimitSubject(s.Policy(), l) }

// LimitWaits says why a limit does not bind yet, or not everywhere: what is stored where it reaches is still being counted, or not
// counted at all. "" where it binds.
func (s *Service) LimitWaits(l *limit.Limit) string {
	var off, counting []string
	for _, f := range s.Policy().Folders {
		if l.Folder != 0 && l.Folder != f.ID || l.Volume != 0 && l.Volume != f.VolumeID {
			continue
		}
		v, _ := s.Policy().Volume(f.VolumeID)
		book := s.ledger.Folder(f.ID)
		switch {
		case !v.Counting.On():
			off = append(off, f.Name)
		case book == nil || !book.Counted() || l.Path != "" && s.pathWaits(book, f, l):
			counting = append(counting, f.Name)
		}
	}
	switch {
	case len(off) > 0:
		return "nothing is counted in " + strings.Join(off, ", ") + "; see amber volume set"
	case len(counting) > 0:
		return "what is in " + strings.Join(counting, ", ") + " is still being counted; see amber count list"
	}
	return ""
}

// pathWaits says whether what is at and below the path of a limit has not been counted yet.
func (s *Service) pathWaits(book *usage.Folder, f *site.PublishedFolder, l *limit.Limit) bool {
	if !slices.ContainsFunc(book.Paths(), func(p limit.Limit) bool { return p.ID == l.ID }) {
		return true
	}
	return slices.ContainsFunc(s.ledger.Against(limit.Counter{Volume: f.VolumeID, Folder: f.ID, Tree: l.ID}), func(st limit.Standing) bool { return st.Counting })
}

// Words spells what a limit says: "soft 2.5 MB, hard 3 MB, 7d of grace".
func Words(b limit.Bounds) string {
	out := ""
	add := func(format string, args ...any) {
		if out != "" {
			out += ", "
		}
		out += fmt.Sprintf(format, args...)
	}
	for d := range limit.Dimensions {
		if n, ok := b.Soft(d); ok {
			add("soft %s", d.Spell(n))
		}
		if n, ok := b.Hard(d); ok {
			add("hard %s", d.Spell(n))
		}
	}
	if out == "" {
		return "no limit"
	}
	if b.SoftBytes != nil || b.SoftFiles != nil {
		add("%s of grace", limit.FormatGrace(b.Grace()))
	}
	return out
}
