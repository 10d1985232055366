// Package review has people look at who has what, line by line, and takes away what they decide against as one change.
package review

import (
	"context"
	"crypto/ed25519"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/refusal"
)

const mostLines = 20_000

// Gateway is what is reviewed.
type Gateway interface {
	Policy() *site.Policy
	User(name string) (*identity.User, error)
	Folder(name string) (*site.PublishedFolder, error)
	// Principal is whom a name means; field is where it stands.
	Principal(field, name string) (identity.Principal, error)
	// Change makes a change that a function draws up.
	Change(ctx context.Context, by refusal.Actor, action, subject string, fn func(*site.Draft) error) error
}

// Reviews are the reviews of a gateway.
type Reviews struct {
	gateway Gateway
	seed    []byte // of the key that records are signed with
}

// New are the reviews of a gateway, signed with the key of a seed of 32 bytes.
func New(g Gateway, seed []byte) Reviews { return Reviews{g, seed} }

func quote(s string) string { return plain.Word(s) }

// Review finds a review by name, whatever its case.
func (v Reviews) Review(name string) (*site.Review, error) {
	for i := range v.gateway.Policy().Reviews {
		if r := &v.gateway.Policy().Reviews[i]; identity.Fold(r.Name) == identity.Fold(name) {
			return r, nil
		}
	}
	return nil, refusal.Missing("name", "amber review list", "there is no review %q", name)
}

// CreateReview lists who has what in some folders, for reviewers to go through: every entry, and for
// each group that an entry names whoever is in it.
func (v Reviews) CreateReview(ctx context.Context, by refusal.Actor, name string, folders, reviewers []string) (*site.Review, error) {
	if err := refusal.PlaceName("name", name); err != nil {
		return nil, err
	}
	if len(folders) == 0 || len(reviewers) == 0 {
		return nil, refusal.Bad("folders", "name the folders to look at and who is to look")
	}
	r := site.Review{Name: name, Made: time.Now().UTC().Truncate(time.Second), By: by.Name}
	err := v.gateway.Change(ctx, by, "begin review", name, func(d *site.Draft) error {
		if _, err := v.Review(name); err == nil {
			return refusal.Clash("name", "amber review show "+quote(name), "there is a review %s already", name)
		}
		for _, who := range reviewers {
			u, err := v.gateway.User(who)
			if err != nil {
				return err
			}
			if u.Role == identity.NoRole {
				return refusal.Clash("reviewers", "amber user set "+quote(u.Name)+" --role auditor", "%s may not sign in here, and so not review", u.Name)
			}
			r.Reviewers = append(r.Reviewers, u.Name)
		}
		if err := v.reviewLines(&r, folders); err != nil {
			return err
		}
		site.Put(d, r)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return v.Review(name)
}

func (v Reviews) reviewLines(r *site.Review, folders []string) error {
	d := v.gateway.Policy().Directory
	groups := make(map[identity.ID]bool)
	add := func(l site.ReviewLine) {
		l.Number = len(r.Lines) + 1
		r.Lines = append(r.Lines, l)
	}
	for _, name := range folders {
		f, err := v.gateway.Folder(name)
		if err != nil {
			return err
		}
		if f.Unix() {
			return refusal.Clash("folders", "amber folder convert "+quote(f.Name), "in %s owner, group and mode decide: there are no entries to review", f.Name)
		}
		r.Folders = append(r.Folders, f.Name)
		for i := range f.Rules {
			for j := range f.Rules[i].Entries {
				e := &f.Rules[i].Entries[j]
				if e.ID < 0 { // nobody wrote it
					continue
				}
				l := site.ReviewLine{Path: f.Display(f.Rules[i].Path), Entry: e.ID, Says: fmt.Sprintf("%s %s %s", e.Verb(), d.Name(e.Who), e.Grant()), People: v.named(e.Who)}
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
				add(site.ReviewLine{Group: g.Name, Member: memberName(d, m), Says: fmt.Sprintf("%s is in %s", d.Name(m), g.Name), People: v.named(m)})
			}
		}
		for _, u := range d.Users() {
			if groups[g.ID] && u.Primary == g.ID {
				add(site.ReviewLine{Group: g.Name, Member: PrimaryMark + u.Name, Says: fmt.Sprintf("%s has %s as primary group", u.Name, g.Name), People: []string{u.Name}})
			}
		}
	}
	if len(r.Lines) > mostLines {
		return refusal.Bad("folders", "%d lines are more than anybody reviews: pick fewer folders", len(r.Lines))
	}
	return nil
}

// PrimaryMark stands before the name of a member whose primary group it is.
const PrimaryMark = "primary:"

func memberName(d *identity.Directory, who identity.Principal) string {
	if who.Kind == identity.KindGroup {
		return "group:" + d.Name(who)
	}
	return "user:" + d.Name(who)
}

// named lists whom a principal means, by name; nobody for those that depend on an owner.
func (v Reviews) named(who identity.Principal) []string {
	d := v.gateway.Policy().Directory
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
func (v Reviews) MarkReview(ctx context.Context, by refusal.Actor, name string, marks []Mark) (*site.Review, error) {
	found, err := v.Review(name)
	if err != nil {
		return nil, err
	}
	if !slices.Contains(found.Reviewers, by.Name) {
		return nil, &refusal.Error{Kind: refusal.Forbidden, Message: fmt.Sprintf("%s is not asked to review %s: %s", by.Name, found.Name, strings.Join(found.Reviewers, ", "))}
	}
	as := by
	as.Role = refusal.Entitled
	err = v.gateway.Change(ctx, as, "mark review", found.Name, func(d *site.Draft) error {
		r, err := v.openReview(name)
		if err != nil {
			return err
		}
		for _, m := range marks {
			if m.Line < 1 || m.Line > len(r.Lines) {
				return refusal.Bad("line", "review %s has no line %d", r.Name, m.Line)
			}
			if m.Decision != site.Keep && m.Decision != site.Remove && m.Decision != site.Undecided {
				return refusal.Bad("decision", "%q is not keep or remove", m.Decision)
			}
			if len(m.Comment) > 500 {
				return refusal.Bad("comment", "the comment on line %d is longer than 500 bytes", m.Line)
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
	return v.Review(name)
}

// openReview is a copy of a review that goes on.
func (v Reviews) openReview(name string) (site.Review, error) {
	r, err := v.Review(name)
	if err != nil {
		return site.Review{}, err
	}
	if !r.Closed.IsZero() {
		return site.Review{}, refusal.Clash("name", "amber review show "+quote(r.Name), "review %s was closed by %s", r.Name, r.ClosedBy)
	}
	out := *r
	out.Lines = slices.Clone(r.Lines)
	return out, nil
}

// ApplyReview makes the removals of a review as one change, closes it and signs the record. Every
// line must be decided. What is gone already is passed over.
func (v Reviews) ApplyReview(ctx context.Context, by refusal.Actor, name string) (*site.Review, error) {
	err := v.gateway.Change(ctx, by, "close review", name, func(d *site.Draft) error {
		gone := make(map[int64]bool)
		r, err := v.openReview(name)
		if err != nil {
			return err
		}
		for _, l := range r.Lines {
			switch {
			case l.Decision == site.Undecided:
				return refusal.Clash("name", "amber review show "+quote(r.Name)+" --undecided", "line %d of %s is not decided: %s", l.Number, r.Name, l.Says)
			case l.Decision == site.Keep:
			case l.Entry != 0:
				gone[l.Entry] = true
			default:
				v.reviewedOut(d, l)
			}
		}
		dropEntries(d, gone)
		r.Closed, r.ClosedBy = time.Now().UTC().Truncate(time.Second), by.Name
		if r.Signature, err = v.sign(r); err != nil {
			return err
		}
		site.Put(d, r)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return v.Review(name)
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
func (v Reviews) reviewedOut(d *site.Draft, l site.ReviewLine) {
	g := v.gateway.Policy().Directory.GroupNamed(l.Group)
	if g == nil {
		return
	}
	if name, ok := strings.CutPrefix(l.Member, PrimaryMark); ok {
		if known := v.gateway.Policy().Directory.UserNamed(name); known != nil {
			if u, ok := site.Get[identity.User](d, int64(known.ID)); ok && u.Primary == g.ID {
				u.Primary = 0
				site.Put(d, u)
			}
		}
		return
	}
	if who, err := v.gateway.Principal("member", l.Member); err == nil {
		site.Leave(d, g.ID, who)
	}
}

// RemoveReview forgets a review. The journal keeps what it was.
func (v Reviews) RemoveReview(ctx context.Context, by refusal.Actor, name string) error {
	return v.gateway.Change(ctx, by, "remove review", name, func(d *site.Draft) error {
		r, err := v.Review(name)
		if err != nil {
			return err
		}
		site.Delete[site.Review](d, r.ID)
		return nil
	})
}

func (v Reviews) signer() ed25519.PrivateKey {
	return ed25519.NewKeyFromSeed(v.seed)
}

// sign gives the signature of a record: Ed25519 over its JSON without one.
func (v Reviews) sign(r site.Review) (string, error) {
	r.Signature, r.ID = "", 0
	raw, err := json.Marshal(r)
	return base64.StdEncoding.EncodeToString(ed25519.Sign(v.signer(), raw)), err
}

// SignatureKey is the public key by which anybody can tell that a record is this gateway's, base64.
func (v Reviews) SignatureKey() string {
	return base64.StdEncoding.EncodeToString(v.signer().Public().(ed25519.PublicKey))
}

// VerifyReview says whether a closed record is as this gateway signed it.
func (v Reviews) VerifyReview(r site.Review) bool {
	signature, err := base64.StdEncoding.DecodeString(r.Signature)
	if err != nil || r.Closed.IsZero() {
		return false
	}
	r.Signature, r.ID = "", 0
	raw, err := json.Marshal(r)
	return err == nil && ed25519.Verify(v.signer().Public().(ed25519.PublicKey), raw, signature)
}
