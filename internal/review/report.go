package review

import (
	"strconv"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/refusal"
	"amber.example/gatekeeper/internal/report"
)

// ReviewReport tells what was decided of each line.
func (all Reviews) ReviewReport(by refusal.Actor, name string) (*report.Report, error) {
	v, err := all.Review(name)
	if err != nil {
		return nil, err
	}
	r := report.New("Review "+v.Name, by.Name, time.Now())
	r.Facts = append(r.Facts, report.Fact{Name: "folders", Value: strings.Join(v.Folders, ", ")}, report.Fact{Name: "reviewers", Value: strings.Join(v.Reviewers, ", ")},
		report.Fact{Name: "begun", Value: report.Moment(v.Made) + " by " + v.By})
	if !v.Closed.IsZero() {
		r.Facts = append(r.Facts, report.Fact{Name: "closed", Value: report.Moment(v.Closed) + " by " + v.ClosedBy},
			report.Fact{Name: "signature", Value: v.Signature}, report.Fact{Name: "public key", Value: all.SignatureKey()})
	}
	for _, part := range []struct {
		title    string
		decision site.Decision
	}{{"To remove", site.Remove}, {"To keep", site.Keep}, {"Undecided", site.Undecided}} {
		sec := report.Section{Title: part.title, Head: []string{"line", "where", "what", "people", "by", "comment"}, Empty: "None."}
		for _, l := range v.Lines {
			if l.Decision != part.decision {
				continue
			}
			where := l.Path
			if l.Group != "" {
				where = "group " + l.Group
			}
			sec.Rows = append(sec.Rows, []string{strconv.Itoa(l.Number), where, l.Says, strings.Join(l.People, ", "), l.By, l.Comment})
		}
		r.Sections = append(r.Sections, sec)
	}
	return r, nil
}
