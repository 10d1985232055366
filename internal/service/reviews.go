package service

import (
	"context"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/report"
)

const mostLines = 20_000

// Review finds a review by name, whatever its case.
func (s *Service) Review(name string) (*site.Review, error) {
	for i := range s.Policy().Reviews {
		if r := &s.Policy().Reviews[i]; identity.Fold(r.Name) == identity.Fold(name) {
			return r, nil
		}
	}
	return nil, notFound("name", "amber review list", "there is no review %q", name)
}

// CreateReview lists who has what in some folders, for reviewers to go through: every entry, and for
// each group that an entry names whoever is in it.
func (s *Service) CreateReview(ctx context.Context, by Actor, name string, folders, reviewers []string) (*site.Review, error) {
	if err := checkPlaceName("name", name); err != nil {
		return nil, err
	}
	if len(folders) == 0 || len(reviewers) == 0 {
		return nil, invalid("folders", "name the folders to look at and who is to look")
	}
	r := site.Review{Name: name, Made: time.Now().UTC().Truncate(time.Second), By: by.Name}
	err := s.change(ctx, by, "begin review", name, func(d *site.Draft) error {
		if _, err := s.Review(name); err == nil {
			return conflict("name", "amber review show "+quote(name), "there is a review %s already", name)
		}
		for _, who := range reviewers {
			u, err := s.User(who)
			if err != nil {
				return err
			}
			if u.Role == identity.NoRole {
				return conflict("reviewers", "amber user set "+quote(u.Name)+" --role auditor", "%s may not sign in here, and so not review", u.Name)
			}
			r.Reviewers = append(r.Reviewers, u.Name)
		}
		if err := s.reviewLines(&r, folders); err != nil {
			return err
		}
		site.Put(d, r)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return s.Review(name)
}

func (s *Service) reviewLines(r *site.Review, folders []string) error {
	d := s.Policy().Directory
	groups := make(map[identity.ID]bool)
	add := func(l site.ReviewLine) {
		l.Number = len(r.Lines) + 1
		r.Lines = append(r.Lines, l)
	}
	for _, name := range folders {
		f, err := s.Folder(name)
		if err != nil {
			return err
		}
		if f.Unix() {
			return conflict("folders", "amber folder convert "+quote(f.Name), "in %s owner, group and mode decide: there are no entries to review", f.Name)
		}
		r.Folders = append(r.Folders, f.Name)
		for i := range f.Rules {
			for j := range f.Rules[i].Entries {
				e := &f.Rules[i].Entries[j]
				l := site.ReviewLine{Path: f.Display(f.Rules[i].Path), Entry: e.ID, Says: fmt.Sprintf("%s %s %s", verbOf(e), d.Name(e.Who), e.Grant()), People: s.named(e.Who)}
				if e.Note != "" {
					l.Says += " (" + e.Note + ")"
				}
				if e.Who.Kind == identity.KindGroup {
					groups[e.Who.ID] = true
				}
				add(l)
			}
		}
	}
	for grew := true; grew; { // groups in groups in groups
		grew = false
		for _, g := range d.Groups() {
			for _, m := range g.Members {
				if groups[g.ID] && m.Kind == identity.KindGroup && !groups[m.ID] {
					groups[m.ID], grew = true, true
				}
			}
		}
	}
	for _, g := range d.Groups() {
		for _, m := range g.Members {
			if groups[g.ID] {
				add(site.ReviewLine{Group: g.Name, Member: memberName(d, m), Says: fmt.Sprintf("%s is in %s", d.Name(m), g.Name), People: s.named(m)})
			}
		}
		for _, u := range d.Users() {
			if groups[g.ID] && u.Primary == g.ID {
				add(site.ReviewLine{Group: g.Name, Member: primaryMark + u.Name, Says: fmt.Sprintf("%s has %s as primary group", u.Name, g.Name), People: []string{u.Name}})
			}
		}
	}
	if len(r.Lines) > mostLines {
		return invalid("folders", "%d lines are more than anybody reviews: pick fewer folders", len(r.Lines))
	}
	return nil
}

// primaryMark stands before the name of a member whose primary group it is.
const primaryMark = "primary:"

func memberName(d *identity.Directory, who identity.Principal) string {
	if who.Kind == identity.KindGroup {
		return "group:" + d.Name(who)
	}
	return "user:" + d.Name(who)
}

// named lists whom a principal means, by name; nobody for those that depend on an owner.
func (s *Service) named(who identity.Principal) []string {
	d := s.Policy().Directory
	out := []string{}
	switch who.Kind {
	case identity.KindUser:
		out = append(out, d.Name(who))
	case identity.KindGroup:
		for i := range d.Members(d.GroupIndex(who.ID)).Each() {
			out = append(out, d.Users()[i].Name)
		}
	}
	return out
}

// Mark is a decision on one line.
type Mark struct {
	Line     int
	Decision site.Decision
	Comment  string
}

// MarkReview writes decisions. Only its reviewers can.
func (s *Service) MarkReview(ctx context.Context, by Actor, name string, marks []Mark) (*site.Review, error) {
	found, err := s.Review(name)
	if err != nil {
		return nil, err
	}
	if !slices.Contains(found.Reviewers, by.Name) {
		return nil, &Error{Kind: Forbidden, Message: fmt.Sprintf("%s is not asked to review %s: %s", by.Name, found.Name, strings.Join(found.Reviewers, ", "))}
	}
	as := by
	as.Role = entitled
	err = s.change(ctx, as, "mark review", found.Name, func(d *site.Draft) error {
		r, err := s.openReview(name)
		if err != nil {
			return err
		}
		for _, m := range marks {
			if m.Line < 1 || m.Line > len(r.Lines) {
				return invalid("line", "review %s has no line %d", r.Name, m.Line)
			}
			if m.Decision != site.Keep && m.Decision != site.Remove && m.Decision != site.Undecided {
				return invalid("decision", "%q is not keep or remove", m.Decision)
			}
			if len(m.Comment) > 500 {
				return invalid("comment", "the comment on line %d is longer than 500 bytes", m.Line)
			}
			l := &r.Lines[m.Line-1]
			l.Decision, l.Comment, l.By = m.Decision, m.Comment, by.Name
			if m.Decision == site.Undecided {
				l.By = ""
			}
		}
		site.Put(d, r)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return s.Review(name)
}

// openReview is a copy of a review that goes on.
func (s *Service) openReview(name string) (site.Review, error) {
	r, err := s.Review(name)
	if err != nil {
		return site.Review{}, err
	}
	if !r.Closed.IsZero() {
		return site.Review{}, conflict("name", "amber review show "+quote(r.Name), "review %s was closed by %s", r.Name, r.ClosedBy)
	}
	out := *r
	out.Lines = slices.Clone(r.Lines)
	return out, nil
}

// ApplyReview makes the removals of a review as one change, closes it and signs the record. Every
// line must be decided. What is gone already is passed over.
func (s *Service) ApplyReview(ctx context.Context, by Actor, name string) (*site.Review, error) {
	err := s.change(ctx, by, "close review", name, func(d *site.Draft) error {
		gone := make(map[int64]bool)
		r, err := s.openReview(name)
		if err != nil {
			return err
		}
		for _, l := range r.Lines {
			switch {
			case l.Decision == site.Undecided:
				return conflict("name", "amber review show "+quote(r.Name)+" --undecided", "line %d of %s is not decided: %s", l.Number, r.Name, l.Says)
			case l.Decision == site.Keep:
			case l.Entry != 0:
				gone[l.Entry] = true
			default:
				s.reviewedOut(d, l)
			}
		}
		dropEntries(d, gone)
		r.Closed, r.ClosedBy = time.Now().UTC().Truncate(time.Second), by.Name
		if r.Signature, err = s.sign(r); err != nil {
			return err
		}
		site.Put(d, r)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return s.Review(name)
}

// dropEntries removes entries on paths, by number.
func dropEntries(d *site.Draft, gone map[int64]bool) {
	if len(gone) == 0 {
		return
	}
	is := func(e acl.Entry) bool { return gone[e.ID] }
	for _, f := range slices.Clone(d.Records().Folders) {
		for _, r := range slices.Clone(f.Rules) {
			if slices.ContainsFunc(r.Entries, is) {
				r.Entries = site.Without(r.Entries, is)
				d.PutRule(f.ID, r)
			}
		}
	}
}

// reviewedOut takes somebody out of a group. What is gone since is passed over.
func (s *Service) reviewedOut(d *site.Draft, l site.ReviewLine) {
	g := s.Policy().Directory.GroupNamed(l.Group)
	if g == nil {
		return
	}
	if name, ok := strings.CutPrefix(l.Member, primaryMark); ok {
		if known := s.Policy().Directory.UserNamed(name); known != nil {
			if u, ok := site.Get[identity.User](d, int64(known.ID)); ok && u.Primary == g.ID {
				u.Primary = 0
				site.Put(d, u)
			}
		}
		return
	}
	if who, err := s.principal("member", l.Member); err == nil {
		dropMember(d, g.ID, who)
	}
}

// RemoveReview forgets a review. The journal keeps what it was.
func (s *Service) RemoveReview(ctx context.Context, by Actor, name string) error {
	return s.change(ctx, by, "remove review", name, func(d *site.Draft) error {
		r, err := s.Review(name)
		if err != nil {
			return err
		}
		site.Delete[site.Review](d, r.ID)
		return nil
	})
}

func (s *Service) signer() ed25519.PrivateKey {
	return ed25519.NewKeyFromSeed(s.keys.Derive("review signatures"))
}

// sign gives the signature of a record: Ed25519 over its JSON without one.
func (s *Service) sign(r site.Review) (string, error) {
	r.Signature, r.ID = "", 0
	raw, err := json.Marshal(r)
	return base64.StdEncoding.EncodeToString(ed25519.Sign(s.signer(), raw)), err
}

// SignatureKey is the public key by which anybody can tell that a record is this gateway's, base64.
func (s *Service) SignatureKey() string {
	return base64.StdEncoding.EncodeToString(s.signer().Public().(ed25519.PublicKey))
}

// VerifyReview says whether a closed record is as this gateway signed it.
func (s *Service) VerifyReview(r site.Review) bool {
	signature, err := base64.StdEncoding.DecodeString(r.Signature)
	if err != nil || r.Closed.IsZero() {
		return false
	}
	r.Signature, r.ID = "", 0
	raw, err := json.Marshal(r)
	return err == nil && ed25519.Verify(s.signer().Public().(ed25519.PublicKey), raw, signature)
}

var reviewColumns = []string{"line", "path or group", "says", "people", "decision", "comment"}

// ReviewCSV writes the lines for a spreadsheet, to be marked there and read again.
func ReviewCSV(w io.Writer, r *site.Review) error {
	out := csv.NewWriter(w)
	if err := out.Write(reviewColumns); err != nil {
		return err
	}
	for _, l := range r.Lines {
		where := l.Path
		if l.Group != "" {
			where = "group " + l.Group
		}
		row := []string{strconv.Itoa(l.Number), where, l.Says, strings.Join(l.People, " "), string(l.Decision), l.Comment}
		for i := range row {
			row[i] = report.Cell(row[i])
		}
		if err := out.Write(row); err != nil {
			return err
		}
	}
	out.Flush()
	return out.Error()
}

// noCSV says where a text is no CSV.
func noCSV(err error) error {
	if at := (*csv.ParseError)(nil); errors.As(err, &at) {
		return invalid("text", "it is no CSV: in line %d a quotation mark stands where none may, or is missing", at.Line)
	}
	return invalid("text", "it is no CSV")
}

// ReadReviewCSV reads decisions from what ReviewCSV wrote; lines may be left out and columns beyond
// the first and those of decision and comment changed.
func ReadReviewCSV(text string) ([]Mark, error) {
	in := csv.NewReader(strings.NewReader(text))
	in.FieldsPerRecord = -1
	head, err := in.Read()
	if errors.Is(err, io.EOF) {
		return nil, invalid("text", "there is nothing in it")
	}
	if err != nil {
		return nil, noCSV(err)
	}
	at := make(map[string]int)
	for i, name := range head {
		at[strings.ToLower(strings.TrimSpace(strings.TrimPrefix(name, "\ufeff")))] = i
	}
	line, okLine := at["line"]
	decision, okDecision := at["decision"]
	comment, okComment := at["comment"]
	if !okLine || !okDecision {
		return nil, invalid("text", "its first row does not name the columns line and decision")
	}
	var out []Mark
	for n := 2; ; n++ {
		row, err := in.Read()
		if errors.Is(err, io.EOF) {
			return out, nil
		}
		if err != nil {
			return nil, noCSV(err)
		}
		if len(row) <= max(line, decision) || len(out) > mostLines {
			return nil, invalid("text", "row %d has %d columns", n, len(row))
		}
		number, err := strconv.Atoi(strings.TrimSpace(row[line]))
		if err != nil {
			return nil, invalid("text", "row %d: %q is no number of a line", n, row[line])
		}
		m := Mark{Line: number, Decision: site.Decision(strings.ToLower(strings.TrimSpace(row[decision])))}
		if okComment && len(row) > comment {
			m.Comment = report.Uncell(strings.TrimSpace(row[comment]))
		}
		out = append(out, m)
	}
}

// ReviewReport tells what was decided of each line.
func (s *Service) ReviewReport(by Actor, name string) (*report.Report, error) {
	v, err := s.Review(name)
	if err != nil {
		return nil, err
	}
	r := s.newReport(by, "Review "+v.Name)
	r.Facts = append(r.Facts, report.Fact{Name: "folders", Value: strings.Join(v.Folders, ", ")}, report.Fact{Name: "reviewers", Value: strings.Join(v.Reviewers, ", ")},
		report.Fact{Name: "begun", Value: until(v.Made) + " by " + v.By})
	if !v.Closed.IsZero() {
		r.Facts = append(r.Facts, report.Fact{Name: "closed", Value: until(v.Closed) + " by " + v.ClosedBy},
			report.Fact{Name: "signature", Value: v.Signature}, report.Fact{Name: "public key", Value: s.SignatureKey()})
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
