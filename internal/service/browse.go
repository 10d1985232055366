package service

import (
	"context"
	"errors"
	"path"
	"strconv"
	"time"

	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
)

// Looked is a directory of a folder, with some of what is in it.
type Looked struct {
	Path  string // with the folder's name
	User  string // whose levels are told; "" for nobody's
	Level *Levels
	Below []LookedAt
	More  bool
}

// LookedAt is one name of it.
type LookedAt struct {
	files.LookedUp
	Owner, Group string  // by name, or uid and gid where nobody in the records has the number
	Level        *Levels // of the user that was asked for; nil for nobody
	Written      int     // how many entries are written on it itself
	Cut          bool    // it inherits nothing from above
}

// browseWithin is how long a disk has to list a directory.
const browseWithin = 10 * time.Second

// Browse lists a directory of a folder: names, owners, sizes, what is written on them, and the levels of a user, where one is named. What is in files is not shown.
func (s *Service) Browse(ctx context.Context, full, user string, b files.Browsing) (Looked, error) {
	f, at, err := s.Locate(full)
	if err != nil {
		return Looked{}, err
	}
	if why := s.Away(f.VolumeID); why != "" {
		return Looked{}, &Error{Kind: Unavailable, Field: "path", Message: why}
	}
	if at.Exists && at.File {
		return Looked{}, invalid("path", "%s is a file, and nothing is in it", f.Display(at.Path))
	}
	out := Looked{Path: f.Display(at.Path)}
	who := int32(-1)
	if user != "" {
		u, err := s.User(user)
		if err != nil {
			return Looked{}, err
		}
		out.User, who = u.Name, s.Policy().Directory.UserIndex(u.ID)
	}
	list, more, err := s.listed(ctx, f, at.Path, b)
	if err != nil {
		return Looked{}, err
	}
	out.More = more
	a := s.Audit()
	level := func(path string, file bool) *Levels {
		if who < 0 {
			return nil
		}
		l := LevelsOf(a.By(f, who, path, file))
		return &l
	}
	out.Level = level(at.Path, false)
	d := s.Policy().Directory
	for _, l := range list {
		below := path.Join(at.Path, l.Name)
		one := LookedAt{LookedUp: l, Owner: "uid " + strconv.FormatUint(uint64(l.Unix.UID), 10), Group: "gid " + strconv.FormatUint(uint64(l.Unix.GID), 10)}
		if l.Owned.User >= 0 {
			one.Owner = d.Users()[l.Owned.User].Name
		}
		if l.Owned.Group >= 0 {
			one.Group = d.Groups()[l.Owned.Group].Name
		}
		if l.Sort == files.Directory || l.Sort == files.RegularFile {
			one.Level = level(below, l.Sort == files.RegularFile)
		}
		if r := f.Tree.Rule(below); r != nil {
			one.Written, one.Cut = len(r.Entries), r.Cut
		}
		out.Below = append(out.Below, one)
	}
	return out, nil
}

// listed asks the disk, for as long as it may take; a few at once, so that one that does not answer holds up no more than those.
func (s *Service) listed(ctx context.Context, f *site.PublishedFolder, path string, b files.Browsing) ([]files.LookedUp, bool, error) {
	type seen struct {
		list []files.LookedUp
		more bool
	}
	ctx, cancel := context.WithTimeout(ctx, browseWithin)
	defer cancel()
	select {
	case s.looking <- struct{}{}:
	case <-ctx.Done():
		return nil, false, &Error{Kind: Unavailable, Field: "path", Message: "directories that were asked about do not answer: wait until they do"}
	}
	is, err := answered(ctx, s.looking, func() (seen, error) {
		list, more, err := files.FactsOf(s.Policy(), f).Browse(ctx, path, b)
		return seen{list, more}, err
	})
	switch {
	case err == nil:
		return is.list, is.more, nil
	case errors.Is(err, files.ErrNotFound):
		return nil, false, notFound("path", "amber browse "+plain.Word(f.Name), "%s is not on disk", f.Display(path))
	case errors.Is(err, files.ErrDenied):
		return nil, false, invalid("path", "%s is a link, and leads elsewhere: browse where it leads, if that is in the folder", f.Display(path))
	case errors.Is(err, files.ErrNotDirectory):
		return nil, false, invalid("path", "%s is no directory", f.Display(path))
	case ctx.Err() != nil:
		return nil, false, &Error{Kind: Unavailable, Field: "path", Message: f.Display(path) + " does not answer"}
	}
	return nil, false, &Error{Kind: Unavailable, Field: "path", Message: "the disk does not list " + f.Display(path)}
}
