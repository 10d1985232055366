// Package access decides. A request passes the gates in order; what it may do
// is what all of them leave. Decide, for the data path, and Explain, for people,
// are the same walk without and with a recorder.
//
// It is pure: no clock, no storage, no network. Time and the facts of the file
// system come in with the request.
package access

import (
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
)

// Gate is one of the ordered checks that a request passes.
type Gate uint8

// The gates, in the order in which they are passed. Hold has its place and nothing to ask yet; Limit is asked by
// what grows, see room.go.
const (
	Passed Gate = iota // no gate withholds anything asked for
	Account
	Service
	Origin
	ShareLevel
	Path
	Entry
	Hold
	Limit
)

var gateNames = [...]string{"passed", "account", "service", "origin", "share", "path", "entry", "hold", "limit"}

func (g Gate) String() string { return gateNames[g] }

// Facts tells what the records do not hold about the objects on disk.
type Facts interface {
	// OwnerOf gives the owner of the object at a path below the folder; the
	// second result is false where it has none of its own.
	OwnerOf(path string) (acl.Ownership, bool)
	// UnixOf gives the owner, mode and POSIX ACL of the object at a path of a folder in
	// which those decide; false where it is not there. The result is only read.
	UnixOf(path string) (*posix.Attributes, bool)
}

// Request asks what a user may do to one object, by one way in.
type Request struct {
	User   identity.ID
	Via    site.Protocol
	Share  *site.PublishedShare // over SMB; nil: the folder is not published by it
	NFS    *Arrival             // over NFS; nil: the folder is not published by it
	Origin *site.Origin         // over SMB, from where; nil: from where most is let in
	Folder *site.PublishedFolder
	Path   string // below the folder, as on disk; "" is the folder itself
	// Others are other names of the same file below the folder; Unjudged says that there are more than are looked
	// at, and that nobody is let at it where entries decide.
	Others   []string
	Unjudged bool
	File     bool  // the object is not a directory
	Facts    Facts // nil: nothing has an owner of its own
	Want     acl.Mask
	At       Stage // where modes decide
	// Room is how it stands with the limits on what the object is, or would be, counted for; nil leaves the limit gate out.
	// Only Explain looks at it.
	Room []limit.Standing
	Now  time.Time
}

// ownerOf is who owns the object at a path of the folder.
func (r *Request) ownerOf(path string) acl.Ownership {
	if r.Facts != nil {
		if own, ok := r.Facts.OwnerOf(path); ok {
			return own
		}
	}
	return r.Folder.OwnedBy
}

// Verdict is the outcome.
type Verdict struct {
	Granted acl.Mask // what every gate leaves, whether asked for or not
	Gate    Gate     // the first that withholds something wanted; Passed if none
	// ValidUntil is when the passing of time alone changes the verdict; zero if never.
	ValidUntil time.Time
}

// Allowed says whether all that was wanted is granted.
func (v Verdict) Allowed() bool { return v.Gate == Passed }

// holds notes that something on which the verdict rests ends at a moment; zero for never.
func (v *Verdict) holds(until time.Time) {
	if !until.IsZero() && (v.ValidUntil.IsZero() || until.Before(v.ValidUntil)) {
		v.ValidUntil = until
	}
}

// Decide gives the verdict. It allocates nothing.
func Decide(p *site.Policy, r Request) Verdict {
	v := walk(p, &r, nil)
	if len(r.Others) > 0 || r.Unjudged {
		v, _ = byNames(p, &r, v)
	}
	return v
}

// Explain gives the same verdict with the account of every gate.
func Explain(p *site.Policy, r Request) (Verdict, []GateReport) {
	rec := &recorder{policy: p, request: &r}
	v := walk(p, &r, rec)
	rec.fix()
	if len(r.Others) > 0 || r.Unjudged {
		v = rec.explainNames(p, v)
	}
	return v, rec.reports
}

func walk(p *site.Policy, r *Request, rec *recorder) Verdict {
	v := Verdict{Granted: acl.All}
	pass := func(g Gate, leaves acl.Mask) {
		v.Granted &= leaves
		if v.Gate == Passed && r.Want&^v.Granted != 0 {
			v.Gate = g
		}
	}

	if r.NFS != nil {
		r.User = r.NFS.User
	}
	account := p.Directory.User(r.User)
	who := p.Directory.Person(p.Directory.UserIndex(r.User))
	unix := r.Folder.Unix()
	var leaves acl.Mask
	if nfs := r.NFS; nfs != nil && nfs.Rule != nil {
		who = nfs.Person
		if leaves = acl.All; account != nil {
			leaves = accountLeaves(account, r.Now)
		}
		if !nfs.accepted(unix) {
			leaves = 0
		}
	} else {
		leaves = accountLeaves(account, r.Now)
	}
	switch {
	case account == nil:
	case leaves != 0:
		v.ValidUntil = account.Expires
	case !account.Disabled && !account.Begun(r.Now):
		v.ValidUntil = account.Starts
	}
	pass(Account, leaves)
	if rec != nil {
		rec.account(account, leaves)
	}

	leaves = serviceLeaves(p, account, r.Via, r.NFS != nil && account == nil)
	pass(Service, leaves)
	if rec != nil {
		rec.service(account, leaves)
	}

	if r.Via == site.NFS && r.NFS != nil {
		leaves = 0
		if r.NFS.originLeaves() {
			leaves = acl.All
		}
		pass(Origin, leaves)
		if rec != nil {
			rec.origin(leaves)
		}
	}

	var rule *site.ExportRule // that lets in over SMB, where the share is kept to hosts and it is known from which one comes
	if r.Via == site.SMB && r.Share != nil && len(r.Share.Hosts) > 0 {
		rule, leaves = hostLeaves(r)
		pass(Origin, leaves)
		if rec != nil {
			rec.hosts(rule, leaves)
		}
	}

	leaves = shareLeaves(p, r, rule, &v, who, rec)
	pass(ShareLevel, leaves)

	if unix {
		walkUnix(p, r, &v, pass, rec)
		rec.limits(pass)
		return v
	}
	passed, allowed := acl.All, acl.Mask(0)
	var dir acl.Mask // what the directory that the object is in grants of itself
	parent := max(strings.LastIndexByte(r.Path, '/'), 0)
	for w := r.Folder.Tree.Start(r.Path, r.File); w.Next(); {
		v.holds(w.List.HoldsUntil(r.Now))
		var own acl.Ownership
		if w.List.NeedsOwnership() {
			own = r.ownerOf(w.At)
		}
		if w.Last {
			if rec == nil {
				allowed = w.List.Evaluate(who, own, r.Now, acl.All, nil)
			} else {
				allowed = rec.entries(w.List, who, own, acl.All)
			}
			break
		}
		want := acl.Execute
		if len(w.At) == parent {
			want |= fromParent
		}
		if rec == nil {
			dir = w.List.Evaluate(who, own, r.Now, want, nil)
		} else {
			dir = rec.ancestor(w.List, w.At, who, own, want)
		}
		if dir&acl.Execute == 0 {
			passed = 0
		}
	}
	pass(Path, passed)
	if rec != nil {
		rec.path(passed)
	}
	allowed = EntryLeaves(r.Via, r.Path, r.File, allowed, dir)
	pass(Entry, allowed)
	if rec != nil {
		rec.entry(allowed)
	}
	rec.limits(pass)
	return v
}

func accountLeaves(account *identity.User, now time.Time) acl.Mask {
	if account == nil || !account.InForce(now) {
		return 0
	}
	return acl.All
}

// serviceLeaves is what the service gate leaves; anonymous says that nobody in the records
// is asking, who needs no leave of their own.
func serviceLeaves(p *site.Policy, account *identity.User, via site.Protocol, anonymous bool) acl.Mask {
	if anonymous && p.Services.On(via) {
		return acl.All
	}
	if !p.Services.On(via) || account == nil || via == site.SMB && !account.SMB || via == site.NFS && !account.NFS {
		return 0
	}
	return acl.All
}

// Admit asks only the gates that stand before any folder: Passed when the user may
// come in by that protocol, else Account or Service.
func Admit(p *site.Policy, user identity.ID, via site.Protocol, now time.Time) Gate {
	account := p.Directory.User(user)
	switch {
	case accountLeaves(account, now) == 0:
		return Account
	case serviceLeaves(p, account, via, false) == 0:
		return Service
	}
	return Passed
}

// hostLeaves is what the origin gate leaves of a share that is kept to hosts, and by which of its rules.
func hostLeaves(r *Request) (rule *site.ExportRule, leaves acl.Mask) {
	if r.Origin == nil {
		if r.Share.Most() == 0 { // no host is let in
			return nil, 0
		}
		return nil, acl.All
	}
	if rule = r.Share.Match(r.Origin); rule == nil {
		return nil, 0
	}
	return rule, acl.All
}

func shareLeaves(p *site.Policy, r *Request, rule *site.ExportRule, v *Verdict, who identity.Person, rec *recorder) acl.Mask {
	leaves := acl.All
	switch {
	case r.Via == site.NFS && r.NFS != nil:
		if r.NFS.Rule != nil && !r.NFS.Rule.Write {
			leaves = acl.ReadOnly
		}
		if rec != nil {
			rec.export(leaves)
		}
		return leaves
	case r.Via == site.NFS || r.Share == nil:
		if rec != nil {
			rec.share(who, nil, nil, 0)
		}
		return 0
	}
	var list *acl.ACL
	if r.Share.Entries != nil {
		list = r.Share.Entries.List("", r.File)
		v.holds(list.HoldsUntil(r.Now))
		leaves = list.Evaluate(who, r.Folder.OwnedBy, r.Now, acl.All, nil)
	}
	leaves &= optionsLeave(r, rule)
	if !p.TakesIn(r.Share, r.User) {
		leaves = 0
	}
	leaves = Amounts(leaves, r.File)
	if rec != nil {
		rec.share(who, rule, list, leaves)
	}
	return leaves
}

// optionsLeave is what the options of a share leave, to where a rule lets in.
func optionsLeave(r *Request, rule *site.ExportRule) acl.Mask {
	if r.Share.ReadOnly || onlyRead(r, rule) {
		return acl.ReadOnly
	}
	return acl.All
}

// onlyRead says whether a share is only read from where one comes.
func onlyRead(r *Request, rule *site.ExportRule) bool {
	return rule != nil && !rule.Write || rule == nil && r.Origin == nil && r.Share.OnlyRead()
}
