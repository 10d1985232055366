package service

import (
	"fmt"
	"os"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/audit"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/report"
)

// machineName is what the machine calls itself.
func machineName() string {
	name, err := os.Hostname()
	if err != nil {
		return "amber"
	}
	return name
}

func (s *Service) newReport(by Actor, title string) *report.Report {
	return &report.Report{Title: title, Gateway: machineName(), At: s.now(), Made: time.Now(), By: by.Name, Facts: []report.Fact{}, Sections: []report.Section{}}
}

// Through spells through what somebody has what they have: "entry for observers, in staff, on plates".
func Through(h *audit.Holder) string {
	if h.Entry == nil {
		return h.Class
	}
	who := "entry for "
	switch {
	case len(h.Chain) > 0:
		who += strings.Join(h.Chain, ", in ")
	case h.Entry.Who.Kind == identity.KindUser:
		who += "the user"
	case h.Entry.Who.Kind == identity.KindOwner:
		who += "owner@"
	case h.Entry.Who.Kind == identity.KindOwningGroup:
		who += "group@"
	default:
		who += "everyone@"
	}
	return who + ", on " + h.From
}

// PublishedAs spells where a folder is published.
func PublishedAs(f *site.PublishedFolder) string {
	var out []string
	for _, sh := range f.Shares {
		out = append(out, "SMB "+sh.Name)
	}
	for _, e := range f.Exports {
		out = append(out, "NFS "+e.Path)
	}
	if len(out) == 0 {
		return "nowhere"
	}
	return strings.Join(out, ", ")
}

// FolderReport tells who may do what in a folder, on every path with rules, and by which entries.
func (s *Service) FolderReport(by Actor, name string) (*report.Report, error) {
	f, err := s.Folder(name)
	if err != nil {
		return nil, err
	}
	d, a := s.Policy().Directory, s.Audit()
	r := s.newReport(by, "Who may do what in "+f.Name)
	r.Facts = append(r.Facts, report.Fact{Name: "description", Value: f.Description}, report.Fact{Name: "published as", Value: PublishedAs(f)})
	if u := d.User(f.Owner); u != nil {
		r.Facts = append(r.Facts, report.Fact{Name: "owner", Value: u.Name})
	}
	paths := []string{""}
	for _, rule := range f.Rules {
		if rule.Path != "" && !f.Unix() {
			paths = append(paths, rule.Path)
		}
	}
	for _, path := range paths {
		at := files.Place{}
		if found, err := files.Find(f.At, path); err == nil {
			at = found
		}
		sec := report.Section{Title: f.Display(path), Head: []string{"user", "name", "level", "through"}, Empty: "Nobody gets in."}
		for _, h := range a.Who(f, path, at.File) {
			sec.Rows = append(sec.Rows, []string{h.User.Name, h.User.FullName, h.Pair.String(), Through(&h)})
		}
		sec.Text = fmt.Sprintf("%d people.", len(sec.Rows))
		r.Sections = append(r.Sections, sec)
	}
	if f.Unix() {
		if at, ok := s.factsOf(f).UnixOf(""); ok {
			r.Facts = append(r.Facts, report.Fact{Name: "mode", Value: access.Ls(at)})
		}
		return r, nil
	}
	entries := report.Section{Title: "Entries", Head: []string{"path", "entry", "", "who", "level", "reaches", "until", "note"}, Empty: "None."}
	for i := range f.Rules {
		if f.Rules[i].Cut {
			entries.Rows = append(entries.Rows, []string{f.Display(f.Rules[i].Path), "", "", "", "", "", "", "inherits nothing from above"})
		}
		for j := range f.Rules[i].Entries {
			e := &f.Rules[i].Entries[j]
			entries.Rows = append(entries.Rows, []string{f.Display(f.Rules[i].Path), itoa(e.ID), verbOf(e), d.Name(e.Who), strings.ReplaceAll(e.Grant(), ",", ", "), strings.Join(e.Applies.Names(), ", "), until(e.Expires), e.Note})
		}
	}
	r.Sections = append(r.Sections, entries)
	return r, nil
}

func verbOf(e *acl.Entry) string {
	if e.Deny {
		return "deny"
	}
	return "allow"
}

func until(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.Local().Format("2006-01-02 15:04")
}

// PersonReport tells where a user gets.
func (s *Service) PersonReport(by Actor, name string) (*report.Report, error) {
	u, err := s.User(name)
	if err != nil {
		return nil, err
	}
	d := s.Policy().Directory
	r := s.newReport(by, "What "+u.Name+" may do")
	state := "enabled"
	switch {
	case u.Disabled:
		state = "disabled"
	case u.Ended(s.now()):
		state = "ended"
	case !u.Expires.IsZero():
		state = "until " + until(u.Expires)
	}
	var groups []string
	for _, g := range d.MemberOf(u.ID) {
		groups = append(groups, strings.Join(d.Chain(u.ID, g.ID), ", in "))
	}
	r.Facts = append(r.Facts, report.Fact{Name: "full name", Value: u.FullName}, report.Fact{Name: "uid", Value: fmt.Sprint(u.UID)}, report.Fact{Name: "account", Value: state}, report.Fact{Name: "groups", Value: strings.Join(groups, "; ")})
	sec := report.Section{Title: "Where the level changes", Head: []string{"path", "level"}, Empty: "Nothing is reached."}
	for _, spot := range s.Audit().Reach(d.UserIndex(u.ID)) {
		sec.Rows = append(sec.Rows, []string{spot.Folder.Display(spot.Path), spot.Pair.String()})
	}
	r.Sections = append(r.Sections, sec)
	return r, nil
}

// FindingsReport tells of everything that is found to be wrong or risky, what is accepted included.
func (s *Service) FindingsReport(by Actor) *report.Report {
	r := s.newReport(by, "What is found to be wrong or risky")
	open := report.Section{Title: "Open", Head: []string{"severity", "what", "of", "says", "fixed by"}, Empty: "Nothing is found to be wrong."}
	accepted := report.Section{Title: "Accepted", Head: []string{"severity", "what", "of", "accepted by", "until", "because"}, Empty: "Nothing is accepted."}
	for _, f := range s.Audit().Findings() {
		if f.Accepted != nil {
			accepted.Rows = append(accepted.Rows, []string{f.Severity.String(), f.Kind, f.Subject, f.Accepted.By, until(f.Accepted.Until), f.Accepted.Reason})
			continue
		}
		var fixes []string
		for _, m := range f.Fixes {
			fixes = append(fixes, Command(m))
		}
		open.Rows = append(open.Rows, []string{f.Severity.String(), f.Kind, f.Subject, f.Says, strings.Join(fixes, "; ")})
	}
	r.Sections = append(r.Sections, open, accepted)
	return r
}
