package asking

import (
	"fmt"
	"strconv"
	"strings"

	"amber.example/gatekeeper/internal/command"
	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/audit"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/refusal"
	"amber.example/gatekeeper/internal/report"
)

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
func (a Answers) FolderReport(by refusal.Actor, name string) (*report.Report, error) {
	f, err := a.Gateway.Folder(name)
	if err != nil {
		return nil, err
	}
	d, all := a.Gateway.Policy().Directory, a.Gateway.Audit()
	r := report.New("Who may do what in "+f.Name, by.Name, a.Gateway.Now())
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
		for _, h := range all.Who(f, path, at.File) {
			sec.Rows = append(sec.Rows, []string{h.User.Name, h.User.FullName, h.Pair.String(), Through(&h)})
		}
		sec.Text = fmt.Sprintf("%d people.", len(sec.Rows))
		r.Sections = append(r.Sections, sec)
	}
	if f.Unix() {
		if at, ok := a.Gateway.FactsOf(f).UnixOf(""); ok {
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
			entries.Rows = append(entries.Rows, []string{f.Display(f.Rules[i].Path), strconv.FormatInt(e.ID, 10), e.Verb(), d.Name(e.Who), strings.ReplaceAll(e.Grant(), ",", ", "), strings.Join(e.Applies.Names(), ", "), report.Moment(e.Expires), e.Note})
		}
	}
	r.Sections = append(r.Sections, entries)
	return r, nil
}

// PersonReport tells where a user gets.
func (a Answers) PersonReport(by refusal.Actor, name string) (*report.Report, error) {
	u, err := a.Gateway.User(name)
	if err != nil {
		return nil, err
	}
	d := a.Gateway.Policy().Directory
	r := report.New("What "+u.Name+" may do", by.Name, a.Gateway.Now())
	state := "enabled"
	switch {
	case u.Disabled:
		state = "disabled"
	case u.Ended(a.Gateway.Now()):
		state = "ended"
	case !u.Expires.IsZero():
		state = "until " + report.Moment(u.Expires)
	}
	var groups []string
	for _, g := range d.MemberOf(u.ID) {
		groups = append(groups, strings.Join(d.Chain(u.ID, g.ID), ", in "))
	}
	r.Facts = append(r.Facts, report.Fact{Name: "full name", Value: u.FullName}, report.Fact{Name: "uid", Value: fmt.Sprint(u.UID)}, report.Fact{Name: "account", Value: state}, report.Fact{Name: "groups", Value: strings.Join(groups, "; ")})
	sec := report.Section{Title: "Where the level changes", Head: []string{"path", "level"}, Empty: "Nothing is reached."}
	for _, spot := range a.Gateway.Audit().Reach(d.UserIndex(u.ID)) {
		sec.Rows = append(sec.Rows, []string{spot.Folder.Display(spot.Path), spot.Pair.String()})
	}
	r.Sections = append(r.Sections, sec)
	return r, nil
}

// FindingsReport tells of everything that is found to be wrong or risky, what is accepted included.
func (a Answers) FindingsReport(by refusal.Actor) *report.Report {
	r := report.New("What is found to be wrong or risky", by.Name, a.Gateway.Now())
	open := report.Section{Title: "Open", Head: []string{"severity", "what", "of", "says", "fixed by"}, Empty: "Nothing is found to be wrong."}
	accepted := report.Section{Title: "Accepted", Head: []string{"severity", "what", "of", "accepted by", "until", "because"}, Empty: "Nothing is accepted."}
	for _, f := range a.Gateway.Audit().Findings() {
		if f.Accepted != nil {
			accepted.Rows = append(accepted.Rows, []string{f.Severity.String(), f.Kind, f.Subject, f.Accepted.By, report.Moment(f.Accepted.Until), f.Accepted.Reason})
			continue
		}
		var fixes []string
		for _, m := range f.Fixes {
			fixes = append(fixes, command.Of(m))
		}
		open.Rows = append(open.Rows, []string{f.Severity.String(), f.Kind, f.Subject, f.Says, strings.Join(fixes, "; ")})
	}
	r.Sections = append(r.Sections, open, accepted)
	return r
}
