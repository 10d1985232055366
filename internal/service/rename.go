package service

import (
	"slices"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/review"
)

// renaming is how records of a kind are named, for renaming one: it keeps its number, and all that names it by that goes on to.
type renaming struct {
	kind  string // in words
	show  string // the command that shows one
	check func(field, name string) error
	taken func(name string) (by int64) // 0 where nobody has it
}

// rename gives the record with a number another name; nil leaves it. Its name may change in case alone.
func rename(r renaming, id int64, name *string, to *string) error {
	if to == nil {
		return nil
	}
	if err := r.check("name", *to); err != nil {
		return err
	}
	if by := r.taken(*to); by != 0 && by != id {
		return conflict("name", r.show+quote(*to), "there is a %s %s already", r.kind, *to)
	}
	*name = *to
	return nil
}

// nameAfter is the name by which a record is found once it has been changed.
func nameAfter(was string, to *string) string {
	if to == nil {
		return was
	}
	return *to
}

func (s *Service) userNames() renaming {
	return renaming{"user", "amber user show ", checkAccountName, func(name string) int64 {
		if u := s.Policy().Directory.UserNamed(name); u != nil {
			return int64(u.ID)
		}
		return 0
	}}
}

func (s *Service) groupNames() renaming {
	return renaming{"group", "amber group show ", checkAccountName, func(name string) int64 {
		if g := s.Policy().Directory.GroupNamed(name); g != nil {
			return int64(g.ID)
		}
		return 0
	}}
}

func (s *Service) folderNames() renaming {
	return renaming{"folder", "amber folder show ", checkPlaceName, func(name string) int64 {
		if f := s.Policy().FolderNamed(name); f != nil {
			return f.ID
		}
		return 0
	}}
}

func (s *Service) shareNames() renaming {
	return renaming{"share", "amber share show ", checkShareName, func(name string) int64 {
		if sh := s.Policy().ShareNamed(name); sh != nil {
			return sh.ID
		}
		return 0
	}}
}

func (s *Service) hostSetNames() renaming {
	return renaming{"host set", "amber hosts show ", checkPlaceName, func(name string) int64 {
		if h := s.Policy().HostSetNamed(name); h != nil {
			return h.ID
		}
		return 0
	}}
}

func (s *Service) serverNames() renaming {
	return renaming{"server name", "amber server-name show ", checkServerName, func(name string) int64 {
		if n, err := s.ServerName(name); err == nil {
			return n.ID
		}
		return 0
	}}
}

func (s *Service) volumeNames() renaming {
	return renaming{"volume", "amber volume show ", checkPlaceName, func(name string) int64 {
		for _, v := range s.Policy().Volumes {
			if identity.Fold(v.Name) == identity.Fold(name) {
				return v.ID
			}
		}
		return 0
	}}
}

// renameInReviews has the reviews that are still open name what they name now, so that what is decided there is done to whom it was decided about.
func renameInReviews(d *site.Draft, to *string, alter func(r *site.Review) (altered bool)) {
	if to == nil {
		return
	}
	for _, r := range slices.Clone(d.Records().Reviews) {
		if !r.Closed.IsZero() {
			continue
		}
		r.Lines, r.Folders, r.Reviewers = slices.Clone(r.Lines), slices.Clone(r.Folders), slices.Clone(r.Reviewers) // what is in force is not altered
		if alter(&r) {
			site.Put(d, r)
		}
	}
}

// renamePrincipal does it for a user or a group.
func (s *Service) renamePrincipal(d *site.Draft, p identity.Principal, was string, to *string) {
	renameInReviews(d, to, func(r *site.Review) (altered bool) {
		if p.Kind == identity.KindUser {
			altered = inPlace(r.Reviewers, was, *to)
		}
		for i := range r.Lines {
			l := &r.Lines[i]
			if p.Kind == identity.KindGroup && identity.Fold(l.Group) == identity.Fold(was) {
				l.Group, altered = *to, true
			}
			kind := map[identity.Kind]string{identity.KindUser: "user:", identity.KindGroup: "group:"}[p.Kind]
			if p.Kind == identity.KindUser && l.Member == review.PrimaryMark+was {
				l.Member, altered = review.PrimaryMark+*to, true
			} else if who, err := s.Principal("member", l.Member); err == nil && l.Member != "" && who == p {
				l.Member, altered = kind+*to, true
			}
		}
		return altered
	})
}

// inPlace puts one name in the place of another.
func inPlace(names []string, was, to string) bool {
	i := slices.IndexFunc(names, func(n string) bool { return identity.Fold(n) == identity.Fold(was) })
	if i >= 0 {
		names[i] = to
	}
	return i >= 0
}
