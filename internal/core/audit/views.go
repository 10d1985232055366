package audit

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
)

// Pair is what somebody may do to an object over each protocol.
type Pair struct {
	SMB, NFS acl.Had
	Kind     acl.Kind
	ByMode   bool // owner, mode and ACL decide, which whoever gets to the object may read
}

// Either is what may be done over at least one of both.
func (p Pair) Either() acl.Had { return p.SMB.Or(p.NFS) }

// Any says whether anything may be done beyond seeing that the object is there.
func (p Pair) Any() bool { return p.any(p.SMB) || p.any(p.NFS) }

// AnyOverSMB is Any for one protocol.
func (p Pair) AnyOverSMB() bool { return p.any(p.SMB) }

// AnyOverNFS is AnyOverSMB for the other protocol.
func (p Pair) AnyOverNFS() bool { return p.any(p.NFS) }

// Or adds what another pair gives to what this one gives, of the same kind of object.
func (p Pair) Or(q Pair) Pair {
	p.SMB, p.NFS = p.SMB.Or(q.SMB), p.NFS.Or(q.NFS)
	return p
}

func (p Pair) any(h acl.Had) bool { return h.Levels != 0 || h.Rights&^p.unsaid() != 0 }

// unsaid are the rights that go without saying.
func (p Pair) unsaid() acl.Mask {
	if p.ByMode {
		return acl.Visible | acl.ReadACL
	}
	return acl.Visible
}

// OverSMB spells what may be done over SMB. To see attributes alone goes unsaid.
func (p Pair) OverSMB() string { return p.over(p.SMB) }

// OverNFS spells what may be done over NFS.
func (p Pair) OverNFS() string { return p.over(p.NFS) }

func (p Pair) over(h acl.Had) string {
	if !p.any(h) {
		return acl.NoLevel.String()
	}
	if p.ByMode {
		return h.TextBeside(acl.ReadACL, p.Kind)
	}
	return h.Text(p.Kind)
}

// String spells it: "read", or "change over SMB, read over NFS" where they differ. A protocol
// that leaves nothing is not mentioned.
func (p Pair) String() string {
	smb, nfs := p.OverSMB(), p.OverNFS()
	switch {
	case smb == nfs:
		return smb
	case !p.any(p.NFS):
		return smb + " over SMB"
	case !p.any(p.SMB):
		return nfs + " over NFS"
	case strings.Contains(smb+nfs, ","):
		return fmt.Sprintf("%s over SMB; %s over NFS", smb, nfs)
	}
	return fmt.Sprintf("%s over SMB, %s over NFS", smb, nfs)
}

// Spelled is what somebody may do, in words.
type Spelled struct{ SMB, NFS, Text string }

// Spell puts a pair into words: of each protocol, and of both.
func (p Pair) Spell() Spelled { return Spelled{p.OverSMB(), p.OverNFS(), p.String()} }

// Same says whether two pairs are told alike, be they of the folder itself, which nobody may delete, or of what is in it.
func (p Pair) Same(q Pair) bool {
	return p == q || p.OverSMB() == q.OverSMB() && p.OverNFS() == q.OverNFS()
}

// Of gives what one user may do, by dense index.
func (s *Standing) Of(user int32) Pair { return Pair{s.SMB.Of(user), s.NFS.Of(user), s.kind, s.byMode} }

// Holder is somebody who may do something to an object.
type Holder struct {
	User *identity.User
	Pair
	// Entry is what gives them the widest level, written on From (folder and path); nil where modes
	// decide, and then Class says as what.
	Entry *acl.Entry
	From  string
	Class string
	// Chain is how the user comes to be meant: group names from the one that lists them to the
	// one the entry names. Empty for direct entries.
	Chain []string
}

// Who lists everybody who may do something to an object, the widest first, then by name.
func (a *Audit) Who(pf *site.PublishedFolder, path string, file bool) []Holder {
	f := a.folder(pf)
	all := a.At(pf, path, file)
	some := a.Policy.Directory.NoPeople()
	unsaid := Pair{ByMode: pf.Unix()}.unsaid()
	for _, sets := range []*Sets{&all.SMB, &all.NFS} {
		for _, l := range acl.Levels {
			some.Or(sets.levels[l])
		}
		for i, atom := range sets.parts {
			if atom&^unsaid != 0 {
				some.Or(sets.has[i])
			}
		}
	}
	var list *acl.ACL
	var own acl.Ownership
	var at *posix.Attributes
	if pf.Unix() {
		if at = f.attributes(path); at == nil {
			at = &nothing
		}
	} else {
		list, own = pf.Tree.List(path, file), f.ownerOf(path)
	}
	var out []Holder
	users := a.Policy.Directory.Users()
	for i := range some.Each() {
		h := Holder{User: &users[i], Pair: all.Of(i)}
		if pf.Unix() {
			who := access.UnixCredential(a.Policy.Directory, users[i].ID)
			h.Class = access.Class(&who, at)
		} else {
			a.through(&h, list, own, i, acl.KindOf(path, file), pf)
			if h.Entry == nil && path != "" { // what its directory gives
				up := path[:max(strings.LastIndexByte(path, '/'), 0)]
				a.by(&h, pf.Tree.List(up, false), f.ownerOf(up), i, acl.Execute|acl.ListDirectory|acl.DeleteChild, acl.ListDirectory|acl.DeleteChild, pf)
			}
		}
		out = append(out, h)
	}
	slices.SortStableFunc(out, func(x, y Holder) int {
		return cmp.Or(cmp.Compare(y.Either().Levels, x.Either().Levels), cmp.Compare(y.Either().Rights.Count(), x.Either().Rights.Count()), cmp.Compare(x.User.Name, y.User.Name))
	})
	return out
}

// through finds the entry that gives a holder the bits that set their widest level apart.
func (a *Audit) through(h *Holder, list *acl.ACL, own acl.Ownership, user int32, kind acl.Kind, pf *site.PublishedFolder) {
	had := h.Either()
	widest := had.Levels.Widest()
	if len(widest) == 0 { // the entry that gives most of the rights
		a.by(h, list, own, user, had.Rights, had.Rights&^acl.Visible, pf)
		return
	}
	level := widest[len(widest)-1]
	telling := level.Wants(kind)
	for _, l := range acl.LevelsOf(kind) {
		if l != level && level.Contains(l) {
			telling &^= l.Wants(kind)
		}
	}
	if telling == 0 {
		telling = level.Wants(kind)
	}
	a.by(h, list, own, user, level.Wants(kind), telling, pf)
}

// by finds the entry of a list that gives a holder most of what is telling among what they want.
func (a *Audit) by(h *Holder, list *acl.ACL, own acl.Ownership, user int32, want, telling acl.Mask, pf *site.PublishedFolder) {
	most := 0
	list.Evaluate(a.Policy.Directory.Person(user), own, a.Now, want, func(ace *acl.Ace, bits acl.Mask) {
		if n := (bits&telling).Count()<<8 + bits.Count(); !ace.Entry.Deny && n > most {
			most, h.Entry, h.From = n, ace.Entry, pf.Display(ace.From)
		}
	})
	if h.Entry != nil && h.Entry.Who.Kind == identity.KindGroup {
		h.Chain = a.chain(user, h.Entry.Who.ID)
	}
}

// chain is Directory.Chain with what was found for one group kept for the next user.
func (a *Audit) chain(user int32, group identity.ID) []string {
	steps := a.chains[group]
	if steps == nil {
		steps = a.Policy.Directory.StepsTo(group)
		if a.chains == nil {
			a.chains = make(map[identity.ID]map[int32]int32)
		}
		a.chains[group] = steps
	}
	return a.Policy.Directory.ChainBy(user, steps)
}

// Spot is a path where somebody may do something else than above it.
type Spot struct {
	Folder *site.PublishedFolder
	Path   string
	Pair
}

// Reach lists where a user, by dense index, gets, with the breakpoints below. Where modes decide
// only the folder itself is looked at, see Survey; folders that the user gets nowhere in are left out.
func (a *Audit) Reach(user int32) []Spot {
	var out []Spot
	for _, pf := range a.Policy.Folders {
		f := a.folder(pf)
		if pf.Unix() {
			if p := f.unixAt("").Of(user); p.Any() {
				out = append(out, Spot{pf, "", p})
			}
			continue
		}
		first, any := len(out), false
		f.eachFor(user, func(path string, p, above Pair) {
			if path == "" || !p.Same(above) {
				out = append(out, Spot{pf, path, p})
				any = any || p.Any()
			}
		})
		if !any {
			out = out[:first]
		}
	}
	return out
}

// Matrix gives the standing of everybody at the root of each folder.
func (a *Audit) Matrix() map[*site.PublishedFolder]*Standing {
	out := make(map[*site.PublishedFolder]*Standing)
	for _, pf := range a.Policy.Folders {
		out[pf] = a.folder(pf).atRoot()
	}
	return out
}

// atRoot is what everybody may do to the folder itself. It is worked out once.
func (f *folder) atRoot() *Standing {
	if f.atTop == nil {
		f.atTop = f.audit.At(f.PublishedFolder, "", false)
	}
	return f.atTop
}

// OfGroup gives what somebody may do at a folder's root of whom only one group is known, by its
// dense index: a member as any other.
func (a *Audit) OfGroup(pf *site.PublishedFolder, group int32) Pair {
	f := a.folder(pf)
	person := a.Policy.Directory.GroupPerson(group)
	var own, ownNFS acl.Had
	granted := func(list *acl.ACL, own acl.Ownership) acl.Mask {
		return list.Evaluate(person, own, a.Now, acl.All, nil)
	}
	if pf.Unix() {
		at := f.attributes("")
		if at == nil {
			return Pair{Kind: acl.Root, ByMode: true}
		}
		c := &posix.Credential{UID: posix.Nobody, GID: a.Policy.Directory.Groups()[group].GID, Groups: a.Policy.Directory.GIDsAbove(group)}
		may := func(want acl.Mask) bool {
			need := access.UnixNeeds(want, true)
			return !need.Never && !need.Owner && !need.Remove && posix.Permits(c, at, need.Bits)
		}
		var classes []acl.Mask
		own.Rights, classes = access.UnixClasses(true)
		for _, class := range classes {
			if may(class) {
				own.Rights |= class
			}
		}
		for _, l := range acl.Levels {
			if may(l.Wants(acl.Root)) {
				own.Levels |= 1 << l
			}
		}
		ownNFS = own
	} else {
		entries := granted(pf.Tree.List("", false), acl.Ownership{User: identity.None, Group: f.ownerOf("").Group})
		own = acl.HadOf(access.EntryLeaves(site.SMB, "", false, entries, 0), acl.Root)
		ownNFS = acl.HadOf(access.EntryLeaves(site.NFS, "", false, entries, 0), acl.Root)
	}
	through := func(own acl.Had, leaves acl.Mask) acl.Had {
		return acl.Had{Rights: own.Rights & leaves, Levels: own.Levels & acl.LevelSetOf(leaves, acl.Root)}
	}
	p := Pair{Kind: acl.Root, ByMode: pf.Unix()}
	for _, share := range pf.Shares {
		leaves := acl.All
		if !a.Policy.Services.SMB {
			leaves = 0
		}
		if share.Entries != nil {
			leaves &= granted(share.Entries.List("", false), pf.OwnedBy)
		}
		leaves &= share.Most()
		p.SMB = p.SMB.Or(through(own, access.Amounts(leaves, false)))
	}
	for i, rule := range f.rules {
		leaves := acl.All
		if !rule.Write {
			leaves = acl.ReadOnly
		}
		if a.Policy.Services.NFS && rule.Squash != site.SquashAll && f.of[i].Below == "" {
			p.NFS = p.NFS.Or(through(ownNFS, leaves))
		}
	}
	return p
}
