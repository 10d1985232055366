package service

import (
	"context"
	"errors"
	"io"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/roster"
	"amber.example/gatekeeper/internal/core/site"
)

// RosterInput is a list of people, and what is to become of those who are not in it.
type RosterInput struct {
	File      []byte
	Format    roster.Format     // "" for what it looks like
	Columns   map[string]string // what headers of a CSV stand for
	SkipWrong bool              // do the rest where a line is refused
	// Gone is what becomes of people who are in no line: "" or ignore, disable, or leave. It is of those in a group, or with a label, and of nobody else.
	Gone        string
	WithinGroup string
	WithinLabel string
}

// ReadRoster says what would become of each line of a list.
func (s *Service) ReadRoster(in RosterInput) ([]roster.Outcome, error) {
	is := s.force.Load()
	d := site.NewDraft(is.records, is.numbers)
	return s.putRoster(d, in)
}

func (s *Service) putRoster(d *site.Draft, in RosterInput) ([]roster.Outcome, error) {
	rules := roster.Rules{Name: func(name string) error { return checkAccountName("name", name) }, Mail: func(address string) error { return checkMail("mail", address) }}
	if in.Format == roster.Groups || in.Format == "" && roster.LooksLikeGroups(in.File) {
		groups, err := roster.ReadGroups(in.File)
		if err != nil {
			return nil, invalid("file", "it cannot be read as a list of groups: %v", err)
		}
		return roster.PutGroups(d, s.Policy().Directory, groups, rules), nil
	}
	people, err := roster.Read(in.File, roster.Options{Format: in.Format, Columns: in.Columns, Location: time.Local})
	var groups []roster.Group
	ldif := in.Format == roster.LDIF || in.Format == "" && roster.LooksLikeLDIF(in.File)
	if ldif && (err == nil || errors.Is(err, roster.ErrEmpty)) {
		groups, err = roster.ReadLDIFGroups(in.File)
		if err == nil && len(people)+len(groups) == 0 {
			err = roster.ErrEmpty
		}
	}
	if err != nil {
		return nil, invalid("file", "it cannot be read as a list of people: %v", err)
	}
	gone, err := s.goneRule(in)
	if err != nil {
		return nil, err
	}
	if in.Gone == "leave" {
		now := instant(s.Now())
		gone.Leave = func(id identity.ID) {
			site.Depart(d, s.Policy().Directory, id, 0, now)
			s.later(func() { s.EndLoose(id) })
		}
	}
	if ldif {
		return roster.PutLDIF(d, s.Policy().Directory, people, groups, rules, gone, s.Now())
	}
	return roster.Put(d, s.Policy().Directory, people, rules, gone, s.Now()), nil
}

// goneRule is of whom it is asked whether they are still in a list.
func (s *Service) goneRule(in RosterInput) (rule roster.GoneRule, err error) {
	p := s.Policy()
	switch in.Gone {
	case "", "ignore":
	case "disable", "leave":
		if in.WithinGroup == "" && in.WithinLabel == "" {
			return rule, invalid("gone", "whoever is in no line would be gone, whole departments of which it knows nothing: say within which group, or which label, it is complete")
		}
		rule.Disable = in.Gone == "disable"
	default:
		return rule, invalid("gone", "%q is not one of ignore, disable, leave", in.Gone)
	}
	if in.WithinGroup == "" && in.WithinLabel == "" {
		return rule, nil
	}
	group := identity.None
	if in.WithinGroup != "" {
		g, err := s.Group(in.WithinGroup)
		if err != nil {
			return rule, err
		}
		group = p.Directory.GroupIndex(g.ID)
	}
	var filter identity.LabelFilter
	if in.WithinLabel != "" {
		if filter, err = identity.ParseLabelFilter([]string{in.WithinLabel}); err != nil {
			return rule, invalid("withinLabel", "%v", err)
		}
	}
	rule.Within = func(u *identity.User) bool {
		return (group == identity.None || p.Directory.Member(p.Directory.UserIndex(u.ID), group)) && filter.Fits(u.Labels.Map())
	}
	return rule, nil
}

// errNothingNew ends a change that would say nothing: it is no row of the journal.
var errNothingNew = errors.New("nothing new")

// ImportUsers puts a list of people into the records, as one change. A list of which everything is so already changes nothing.
func (s *Service) ImportUsers(ctx context.Context, by Actor, in RosterInput) (out []roster.Outcome, err error) {
	err = s.change(ctx, by, "import users", in.subject(), func(d *site.Draft) error {
		if out, err = s.putRoster(d, in); err != nil {
			return err
		}
		if s.drafting == nil && in.same(out) {
			return errNothingNew
		}
		for _, o := range out {
			if o.Act == roster.Refused && !in.SkipWrong {
				return conflict("file", "", "nothing was done: line %d%s is refused: %s", o.Line, ofName(o.Name), o.Why)
			}
		}
		return s.keepAdministrator(d)
	})
	if errors.Is(err, errNothingNew) {
		err = nil
	}
	return out, err
}

func ofName(name string) string {
	if name == "" {
		return ""
	}
	return ", " + name + ","
}

// same says whether nothing is to be done, and nothing refused.
func (in RosterInput) same(out []roster.Outcome) bool {
	for _, o := range out {
		if o.Act != roster.Same && (o.Act != roster.Gone || len(o.Changed) > 0) {
			return false
		}
	}
	return true
}

func (in RosterInput) subject() string {
	if in.WithinGroup != "" {
		return "group " + in.WithinGroup
	}
	return in.WithinLabel
}

// WriteRoster writes the users down in a form that can be read again.
func (s *Service) WriteRoster(w io.Writer, format roster.Format) error {
	text, err := roster.Write(s.Policy().Directory, s.Policy().Profiles, format)
	if err != nil {
		return invalid("format", "%v", err)
	}
	_, err = w.Write(text)
	return err
}
