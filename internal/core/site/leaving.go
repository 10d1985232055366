package site

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
)

// RetiredNumber is a uid of somebody who was removed. It is given to nobody else for a while, as what they own somewhere would be the other's.
type RetiredNumber struct {
	ID    int64     `json:"id,omitzero"`
	UID   uint32    `json:"uid,omitzero"`
	Name  string    `json:"name,omitzero"` // whose it was
	Since time.Time `json:"since,omitzero"`
}

// RetiredFor is how long a number is given to nobody else.
const RetiredFor = 365 * 24 * time.Hour

// Retired finds whose number a uid was until lately; false where it may be given.
func (r *Records) Retired(uid uint32, now time.Time) (RetiredNumber, bool) {
	i := slices.IndexFunc(r.RetiredNumbers, func(n RetiredNumber) bool { return n.UID == uid && now.Sub(n.Since) < RetiredFor })
	if i < 0 {
		return RetiredNumber{}, false
	}
	return r.RetiredNumbers[i], true
}

// Holding is what somebody left who has left, and where it is kept until a day: below a path of a folder.
type Holding struct {
	ID       int64     `json:"id,omitzero"`
	Name     string    `json:"name,omitzero"` // whose it was
	UID      uint32    `json:"uid,omitzero"`
	FolderID int64     `json:"folderId,omitzero"`
	Path     string    `json:"path,omitzero"`
	Since    time.Time `json:"since,omitzero"`
	Until    time.Time `json:"until,omitzero"` // zero for no day
}

// Parting is one thing that somebody who leaves has, and what becomes of it.
type Parting struct {
	What    string `json:"what"`    // entry, member, ownership, review, anonymous id, guests, token, account, files
	Where   string `json:"where"`   // in words
	Becomes string `json:"becomes"` // in words
}

// Depart takes a user out of a draft, on a day, as somebody who leaves: the account works no more, and what names them goes, or passes to a successor, 0 for
// none. What was denied to them passes to nobody. It says what became of what. The record stays, and with it the number.
func Depart(d *Draft, dir *identity.Directory, id, to identity.ID, at time.Time) []Parting {
	u, ok := Get[identity.User](d, int64(id))
	if !ok {
		return nil
	}
	p := &parting{d: d, dir: dir, who: identity.UserPrincipal(id), to: identity.UserPrincipal(to), user: u, successor: dir.User(to)}
	p.account(at)
	p.entries()
	p.groups()
	p.folders()
	p.anonymous()
	p.guest()
	p.reviews()
	for _, t := range slices.Clone(d.is.Tokens) {
		if t.User == id {
			p.say("token", t.Name, "taken back")
			Delete[Token](d, t.ID)
		}
	}
	return p.said
}

type parting struct {
	d         *Draft
	dir       *identity.Directory
	who, to   identity.Principal
	user      identity.User
	successor *identity.User // nil for none
	said      []Parting
}

func (p *parting) say(what, where, becomes string) {
	p.said = append(p.said, Parting{what, where, becomes})
}

// passes says that something becomes the successor's, or what it becomes where there is none.
func (p *parting) passes(otherwise string) string {
	if p.successor == nil {
		return otherwise
	}
	return "passes to " + p.successor.Name
}

func (p *parting) account(at time.Time) {
	u := p.user
	was := "never worked"
	if u.InForce(at) {
		was = "works no more"
	}
	if u.Expires.IsZero() || u.Expires.After(at) {
		u.Expires = at
	}
	if g := p.dir.Group(u.Primary); g != nil {
		p.say("member", "group "+g.Name+", the primary one", "taken out")
		u.Primary = 0
	}
	u.Disabled, u.Left, u.Leaving, u.Password, u.Codes, u.PastPasswords = true, at, nil, 0, 0, nil
	Put(p.d, u)
	p.say("account", u.Name, was+"; uid "+number(u.UID)+" stays theirs")
}

// entriesWithout is a list of entries without those about who leaves, or with the successor's in their place.
func (p *parting) entriesWithout(all []acl.Entry, where string) (out []acl.Entry, any bool) {
	for _, e := range all {
		if e.Who != p.who {
			out = append(out, e)
			continue
		}
		any = true
		says := fmt.Sprintf("entry %d on %s: allow %s", e.ID, where, e.Grant())
		if e.Deny {
			p.say("entry", fmt.Sprintf("entry %d on %s: deny %s", e.ID, where, e.Grant()), "removed")
			continue
		}
		e.Who = p.to
		switch {
		case p.successor == nil:
			p.say("entry", says, "removed")
		case slices.ContainsFunc(all, e.Same) || slices.ContainsFunc(out, e.Same):
			p.say("entry", says, "removed: "+p.successor.Name+" has the same")
		default:
			p.say("entry", says, "passes to "+p.successor.Name)
			out = append(out, e)
		}
	}
	return out, any
}

func (p *parting) entries() {
	for _, f := range slices.Clone(p.d.is.Folders) {
		for _, r := range slices.Clone(f.Rules) {
			where := f.Name
			if r.Path != "" {
				where += "/" + r.Path
			}
			if left, any := p.entriesWithout(r.Entries, where); any {
				r.Entries = left
				p.d.PutRule(f.ID, r)
			}
		}
	}
	for _, s := range slices.Clone(p.d.is.Shares) {
		if left, any := p.entriesWithout(s.Entries, "share "+s.Name); any {
			s.Entries = left
			Put(p.d, s)
		}
	}
}

func (p *parting) groups() {
	for _, g := range slices.Clone(p.d.is.Groups) {
		is := func(m identity.Principal) bool { return m == p.who }
		member, owner := slices.ContainsFunc(g.Members, is), slices.ContainsFunc(g.Owners, is)
		if member {
			g.Members = Without(g.Members, is)
			p.say("member", "group "+g.Name, "taken out")
		}
		if owner {
			g.Owners = Without(g.Owners, is)
			if p.successor != nil && !slices.Contains(g.Owners, p.to) {
				g.Owners = append(g.Owners, p.to)
			}
			p.say("ownership", "group "+g.Name, p.passes("removed"))
		}
		if member || owner {
			Put(p.d, g)
		}
	}
}

func (p *parting) folders() {
	for _, f := range slices.Clone(p.d.is.Folders) {
		if f.Owner == p.who.ID {
			f.Owner = p.to.ID
			Put(p.d, f)
			p.say("ownership", "folder "+f.Name, p.passes("nobody's"))
		}
	}
}

// anonymous has no rule of an export squash to who leaves.
func (p *parting) anonymous() {
	to, becomes := Anonymous, "squashed to "+number(Anonymous)
	if p.successor != nil {
		to, becomes = p.successor.UID, "squashed to "+p.successor.Name
	}
	alter := func(rules []ClientRule, where string) (out []ClientRule, any bool) {
		out = slices.Clone(rules)
		for i := range out {
			if r := &out[i]; r.AnonUID == p.user.UID && r.Squash != "" {
				r.AnonUID, any = to, true
				p.say("anonymous id", fmt.Sprintf("rule %d of %s, for %s", r.ID, where, r.From), becomes)
			}
		}
		return out, any
	}
	for _, e := range slices.Clone(p.d.is.Exports) {
		if rules, any := alter(e.Rules, "export "+e.Path); any {
			e.Rules = rules
			Put(p.d, e)
		}
	}
	for _, h := range slices.Clone(p.d.is.HostSets) {
		if rules, any := alter(h.Rules, "host set "+h.Name); any {
			h.Rules = rules
			Put(p.d, h)
		}
	}
}

// guest has nobody come in as who leaves.
func (p *parting) guest() {
	if s := p.d.is.Services; s.SMBGuest == p.user.ID {
		s.SMBGuest = 0
		Put(p.d, s)
		p.say("guests", "SMB", "nobody comes in without an account any more")
	}
}

// reviews has others be asked in the place of who leaves, in those that go on.
func (p *parting) reviews() {
	for _, v := range slices.Clone(p.d.is.Reviews) {
		is := func(name string) bool { return identity.Fold(name) == identity.Fold(p.user.Name) }
		if !v.Closed.IsZero() || !slices.ContainsFunc(v.Reviewers, is) {
			continue
		}
		v.Reviewers = Without(v.Reviewers, is)
		becomes := "asked no more"
		if s := p.successor; s != nil && s.Role != identity.NoRole {
			if becomes = s.Name + " is asked in their place"; !slices.Contains(v.Reviewers, s.Name) {
				v.Reviewers = append(v.Reviewers, s.Name)
			}
		} else if len(v.Reviewers) == 0 {
			becomes = "nobody is asked any more: name somebody else"
		}
		Put(p.d, v)
		p.say("review", v.Name, becomes)
	}
}

// ByWhat sorts what people part with as it is read: the account first.
func ByWhat(all []Parting) {
	order := []string{"account", "files", "member", "ownership", "entry", "anonymous id", "review", "token"}
	slices.SortStableFunc(all, func(a, b Parting) int {
		return cmp.Compare(slices.Index(order, a.What), slices.Index(order, b.What))
	})
}
