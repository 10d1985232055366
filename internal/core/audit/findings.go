package audit

import (
	"cmp"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"slices"
	"strings"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
)

// Severity says how soon a finding wants a hand.
type Severity uint8

// The severities.
const (
	Low    Severity = iota + 1 // untidy: it misleads who reads the rules
	Medium                     // somebody has less, or more, than was meant
	High                       // data is open to people or machines that nobody named, or nobody gets at it
)

func (s Severity) String() string { return [...]string{"", "low", "medium", "high"}[s] }

// Finding is something that the audit holds to be wrong or risky.
type Finding struct {
	Key      string // stays the same while the finding does
	Kind     string
	Severity Severity
	Subject  string // the record: "entry 12 on plates"
	Says     string // one sentence
	Fixes    []access.Fix
	// Accepted is set where somebody lives with it.
	Accepted *site.Acceptance
}

// The kinds of findings.
const (
	OpenToEveryone  = "open to everyone"
	OpenExport      = "open to any host"
	OpenToGuests    = "open to guests"
	RootNotSquashed = "root not squashed"
	UnknownWrites   = "unknown uids may write"
	ServiceOff      = "service off"
	Blocked         = "blocked by a parent"
	Shadowed        = "shadowed"
	Redundant       = "redundant"
	IdleDeny        = "deny that never bites"
	GrantToGone     = "grant to someone gone"
	UsersForGroup   = "users where a group exists"
	EmptyGroup      = "empty group"
	UnusedGroup     = "group nobody uses"
	IDConflict      = "ids in conflict"
	ProtocolsDiffer = "protocols differ"
	NoControl       = "nobody decides"
	PathGone        = "path gone"
	CanTakeControl  = "can take control"
	OddRights       = "rights that no level describes"
)

// onDisk is what facts may tell besides: whether anything is at a path, and whether it is a file.
type onDisk interface {
	Kind(path string) (exists, file bool)
}

// away says whether the disk that facts are about is not there.
func away(facts any) bool {
	f, ok := facts.(interface{ Away() bool })
	return ok && f.Away()
}

type finder struct {
	*Audit
	out   []Finding
	sizes []int // of the groups, see groupSize
}

// groupSize is how many users are in a group, by its dense index.
func (x *finder) groupSize(group int32) int {
	if x.sizes == nil {
		x.sizes = make([]int, len(x.Policy.Directory.Groups()))
		for g := range x.sizes {
			x.sizes[g] = x.Policy.Directory.Members(int32(g)).Count()
		}
	}
	return x.sizes[group]
}

// add notes a finding; key tells it from others of its kind.
func (x *finder) add(kind string, s Severity, key, subject, says string, fixes ...access.Fix) {
	sum := sha256.Sum256([]byte(kind + "\x00" + key))
	f := Finding{Key: hex.EncodeToString(sum[:4]), Kind: kind, Severity: s, Subject: subject, Says: says, Fixes: fixes}
	for i := range x.Policy.Acceptances {
		if acc := &x.Policy.Acceptances[i]; acc.Finding == f.Key && acc.Until.After(x.Now) {
			f.Accepted = acc
		}
	}
	x.out = append(x.out, f)
}

// Findings lists all that the audit holds against the site, the gravest first.
func (a *Audit) Findings() []Finding { return a.findings(nil) }

func (a *Audit) findings(skip map[int64]bool) []Finding {
	x := &finder{Audit: a}
	for _, pf := range a.Policy.Folders {
		if skip[pf.ID] {
			continue
		}
		f := a.folder(pf)
		if away(f.facts) { // nothing can be said that depends on what is there, and its volume is a finding
			x.shares(f)
			x.exports(f)
			continue
		}
		if pf.Unix() {
			x.modes(f)
		} else {
			x.rules(f)
		}
		x.shares(f)
		x.exports(f)
		x.control(f)
		x.protocols(f)
	}
	x.groups()
	x.numbers()
	x.limits()
	slices.SortStableFunc(x.out, func(a, b Finding) int {
		return cmp.Or(cmp.Compare(b.Severity, a.Severity), cmp.Compare(pressing(a.Kind), pressing(b.Kind)), cmp.Compare(a.Subject, b.Subject), cmp.Compare(a.Kind, b.Kind))
	})
	return x.out
}

// pressing puts before all others what keeps people from their work at this moment.
func pressing(kind string) int {
	if i := slices.Index([]string{Unwritten, VolumeAway}, kind); i >= 0 {
		return i
	}
	return 2
}

// FindingsApart gives what is found after and not before, and the other way round.
func (c *Comparison) FindingsApart() (come, gone []Finding) {
	skipB, skipA := make(map[int64]bool), make(map[int64]bool)
	for _, pair := range c.folders() {
		if c.untouched[pair] {
			skipB[pair[0].ID], skipA[pair[1].ID] = true, true
		}
	}
	var was []Finding
	var wrong any
	done := make(chan struct{})
	go func() {
		defer close(done)
		defer func() { wrong = recover() }()
		was = c.before.findings(skipB)
	}()
	defer func() { <-done }()
	is := c.after.findings(skipA)
	<-done
	if wrong != nil { // whoever asked is to hear of it, and nobody else
		panic(wrong)
	}
	apart := func(these, those []Finding) (out []Finding) {
		have := make(map[string]bool)
		for _, f := range those {
			have[f.Key] = true
		}
		for _, f := range these {
			if !have[f.Key] {
				out = append(out, f)
			}
		}
		return out
	}
	return apart(is, was), apart(was, is)
}

// Name spells a principal as commands take it, telling a user from a group of the same name.
func Name(d *identity.Directory, who identity.Principal) string {
	name := d.Name(who)
	switch {
	case who.Kind == identity.KindUser && d.GroupNamed(name) != nil:
		return "user:" + name
	case who.Kind == identity.KindGroup && d.UserNamed(name) != nil:
		return "group:" + name
	}
	return name
}

// some spells a few names and how many more there are.
func some(d *identity.Directory, people identity.People) string {
	const most = 3
	var names []string
	n := people.Count()
	for i := range people.Each() {
		if len(names) == most && n > most+1 {
			return strings.Join(names, ", ") + fmt.Sprintf(" and %d more", n-most)
		}
		names = append(names, d.Users()[i].Name)
	}
	if len(names) > 1 {
		return strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
	}
	return strings.Join(names, "")
}

func entryName(e *acl.Entry, at string) string { return fmt.Sprintf("entry %d on %s", e.ID, at) }

func entryKey(e *acl.Entry) string { return fmt.Sprintf("entry %d", e.ID) }

func verb(e *acl.Entry) string {
	if e.Deny {
		return "denies"
	}
	return "allows"
}

// gone says what is the matter with an account that an entry names; "" for nothing.
func (x *finder) gone(e *acl.Entry) string {
	if e.Who.Kind != identity.KindUser {
		return ""
	}
	u := x.Policy.Directory.User(e.Who.ID)
	switch {
	case u == nil:
		return "who is in the records no more"
	case u.Disabled:
		return "who is disabled"
	case u.Ended(x.Now):
		return "whose account has ended"
	}
	return ""
}

func (x *finder) shares(f *folder) {
	d := x.Policy.Directory
	for _, s := range f.Shares {
		if !x.Policy.Services.SMB {
			x.add(ServiceOff, Medium, "share "+s.Name, "share "+s.Name, "SMB is switched off, so nobody reaches the share", access.Fix{Kind: access.FixService, Protocol: site.SMB})
		}
		x.guests(f, s)
		for i := range s.Share.Entries {
			e := &s.Share.Entries[i]
			remove := access.Fix{Kind: access.FixShareRemove, Share: s.Name, EntryID: e.ID}
			if why := x.gone(e); why != "" && !e.Ended(x.Now) {
				x.add(GrantToGone, Medium, entryKey(e), entryName(e, "share "+s.Name), fmt.Sprintf("it %s %s, %s", verb(e), d.Name(e.Who), why), remove)
			}
		}
	}
}

// guests looks at what those may do in a share who have no account.
func (x *finder) guests(f *folder, s *site.PublishedShare) {
	guest := x.Policy.Services.SMBGuest
	if !s.Guests || guest == 0 || x.guest < 0 {
		return
	}
	may := decided(x.Policy, access.Request{Via: site.SMB, User: guest, Share: s, Folder: f.PublishedFolder, Facts: f.facts, Now: x.Now}, acl.KindOf("", false)).Levels
	severity, what := Medium, "read it"
	switch {
	case may.Has(acl.Change):
		severity, what = High, "change what is in it"
	case may.Has(acl.Add):
		severity, what = High, "put something into it"
	case !may.Has(acl.Read):
		return
	}
	x.add(OpenToGuests, severity, "share "+s.Name, "share "+s.Name,
		fmt.Sprintf("whoever reaches the service may %s without an account, as %s", what, x.Policy.Directory.Users()[x.guest].Name), access.Fix{Kind: access.FixNoGuests, Share: s.Name})
}

func (x *finder) exports(f *folder) {
	for _, e := range f.Exports {
		if !x.Policy.Services.NFS {
			x.add(ServiceOff, Medium, "export "+e.Path, "export "+e.Path, "NFS is switched off, so nobody reaches the export", access.Fix{Kind: access.FixService, Protocol: site.NFS})
		}
		for i := range e.InForce {
			l := &e.InForce[i]
			if l.ShadowedBy != 0 {
				continue
			}
			subject := fmt.Sprintf("client rule %d of %s", l.Number, e.Path)
			key := fmt.Sprintf("rule %d of %d", l.ID, e.ID)
			fix := func(kind access.FixKind) access.Fix {
				return access.Fix{Kind: kind, Export: e.Path, Set: l.Set, Rule: l.ID}
			}
			if l.Everyone() {
				severity, may := Medium, "read"
				if l.Write {
					severity, may = High, "read and write"
				}
				x.add(OpenExport, severity, key, subject, fmt.Sprintf("%s lets any host %s, as whomever it says it is", l.From, may), fix(access.FixRuleRemove))
			}
			if l.Squash == site.SquashNone {
				severity := Medium
				if f.Unix() {
					severity = High
				}
				x.add(RootNotSquashed, severity, key, subject, fmt.Sprintf("the superuser of any host that %s means stays the superuser", l.From), fix(access.FixRuleSquash))
			}
			if l.Write && (l.Unknown == site.UnknownNumber && f.Unix() || l.Unknown == site.UnknownAnonymous && x.nobodyAdds(f, e, l)) {
				x.add(UnknownWrites, High, key, subject, fmt.Sprintf("uids that no user has may write from %s", l.From), fix(access.FixRuleUnknown))
			}
		}
	}
}

// nobodyAdds says whether a uid that no user has may put anything into the folder by a rule.
func (x *finder) nobodyAdds(f *folder, e *site.PublishedExport, l *site.ExportRule) bool {
	said := posix.Credential{UID: posix.Nobody - 1, GID: posix.Nobody - 1}
	r := access.Request{Via: site.NFS, NFS: access.ArriveBy(x.Policy, e, l, said), Folder: f.PublishedFolder, Path: e.Below, Facts: f.facts, Now: x.Now}
	return decided(x.Policy, r, acl.KindOf(r.Path, false)).Levels.Has(acl.Add)
}

// control looks for somebody who may say who else gets in.
func (x *finder) control(f *folder) {
	d := x.Policy.Directory
	var may identity.People
	if f.Unix() {
		at := f.attributes("")
		if at == nil {
			return
		}
		may = x.those(at.UID)
	} else {
		w := &workspace{}
		fr := f.start(w)
		f.grants(w, fr, false, func(v vector) {
			may = d.Everybody().Clone()
			v.all(f.parts, acl.WriteACL, may)
		})
	}
	may.And(x.active)
	if !may.Empty() {
		return
	}
	says := "no user may decide about it: only administrators of the gateway can"
	if f.Unix() {
		x.add(NoControl, Low, f.Name, "folder "+f.Name, says, access.Fix{Kind: access.FixMode, Path: f.Name})
		return
	}
	// Who is to decide is for an administrator to say, unless somebody is there who owns it.
	var fixes []access.Fix
	allow := func(p identity.Principal) {
		fixes = append(fixes, access.Fix{Kind: access.FixAllow, Path: f.Name, User: Name(d, p), Level: acl.Control})
	}
	if u := d.User(f.Owner); u != nil && u.InForce(x.Now) {
		allow(identity.UserPrincipal(u.ID))
	} else if i := d.GroupIndex(f.Group); i != identity.None {
		able := d.Members(i).Clone()
		if able.And(x.active); !able.Empty() {
			allow(identity.GroupPrincipal(f.Group))
		}
	}
	x.add(NoControl, Low, f.Name, "folder "+f.Name, says, fixes...)
}

// protocols looks for people who may do one thing over SMB and another over NFS.
func (x *finder) protocols(f *folder) {
	if len(f.Shares) == 0 || len(f.rules) == 0 || !x.Policy.Services.SMB || !x.Policy.Services.NFS {
		return
	}
	d := x.Policy.Directory
	st := f.atRoot()
	differ := d.NoPeople()
	for i, atom := range st.SMB.parts {
		if atom&^acl.Visible == 0 { // over NFS whoever may mount sees that much
			continue
		}
		for w := range differ {
			differ[w] |= st.SMB.has[i][w] ^ st.NFS.has[i][w]
		}
	}
	differ.And(x.smb)
	differ.And(x.nfs)
	if differ.Empty() {
		return
	}
	var first int32
	for first = range differ.Each() {
		break
	}
	says := fmt.Sprintf("%s: %s, as %s", some(d, differ), differs(differ.Count()), st.Of(first))
	fixes, squashed := x.align(f, differ, st)
	if squashed != "" {
		says += "; over NFS they are nobody in particular: " + squashed
	}
	x.add(ProtocolsDiffer, Low, f.Name, "folder "+f.Name, says, fixes...)
}

func differs(n int) string {
	if n == 1 {
		return "one person may do different things over each protocol"
	}
	return fmt.Sprintf("%d people may do different things over each protocol", n)
}

// maxAligned is for how many different cases fixes are worked out. Where there are more, it is rather the shares and the exports that were meant
// to differ.
const maxAligned = 4

// align gives what would let people do over one protocol what they may over the other. Entries are the same for both, so the cause is what a share
// or a client rule withholds, and each fix is about one of those: it concerns everybody who comes that way, and says so. Where people
// arrive as somebody else over NFS no fix helps, and squashed says by which client rule.
//
// The gates are asked about one person for each pair of what is had over both protocols, and about no more than maxAligned of them.
func (x *finder) align(f *folder, differ identity.People, st *Standing) (fixes []access.Fix, squashed string) {
	seen := make(map[access.Fix]bool)
	cases := st.cases(differ)
	if len(cases) > maxAligned {
		return nil, ""
	}
	for _, c := range cases {
		user := c.one
		r := access.Request{User: x.Policy.Directory.Users()[user].ID, Folder: f.PublishedFolder, Facts: f.facts, Now: x.Now}
		missing := c.SMB.Rights &^ c.NFS.Rights &^ acl.Visible
		if missing == 0 {
			missing = c.NFS.Rights &^ c.SMB.Rights &^ acl.Visible
			r.Via, r.Share = site.SMB, f.Shares[0]
		} else {
			r.Via, r.NFS = site.NFS, x.arrive(f.of[0], f.rules[0], user)
			if r.NFS.User != r.User {
				return nil, fmt.Sprintf("client rule %d of %s", f.rules[0].Number, f.of[0].Path)
			}
		}
		r.Want = missing
		for _, l := range acl.Levels { // a level says more than its rights one by one
			if l.Wants(acl.Root)&missing != 0 && (c.SMB.Levels ^ c.NFS.Levels).Has(l) {
				r.Want |= l.Wants(acl.Root)
			}
		}
		for user := range c.who.Each() {
			r.User = x.Policy.Directory.Users()[user].ID
			if r.NFS != nil {
				r.NFS = x.arrive(f.of[0], f.rules[0], user)
			}
			personal := false
			for _, m := range shareFixes(x.Policy, r) {
				personal = personal || m.User != ""
				if !seen[m] {
					seen[m] = true
					fixes = append(fixes, m)
				}
			}
			if !personal {
				break
			}
			if c.who.Count() > maxAligned {
				return nil, ""
			}
		}
	}
	return fixes, ""
}

// shareFixes are the fixes of the gates that stand before the path.
func shareFixes(p *site.Policy, r access.Request) (fixes []access.Fix) {
	_, gates := access.Explain(p, r)
	for _, g := range gates {
		if g.Gate < access.Path {
			fixes = append(fixes, g.Fixes...)
		}
	}
	return fixes
}

// modes looks at the root of a folder where modes decide.
func (x *finder) modes(f *folder) {
	at := f.attributes("")
	if at != nil && at.Mode&0o002 != 0 { // an ACL has the same of all others
		x.add(OpenToEveryone, High, f.Name, "folder "+f.Name, fmt.Sprintf("its mode, %04o, lets everybody write", at.Mode), access.Fix{Kind: access.FixMode, Path: f.Name, Mode: at.Mode &^ 0o002})
	}
}

func (x *finder) groups() {
	d := x.Policy.Directory
	used := make(map[identity.ID]bool)
	removes := make(map[identity.ID][]access.Fix)
	for _, f := range x.Policy.Folders {
		used[f.Group] = true
		for i := range f.Rules {
			for _, e := range f.Rules[i].Entries {
				if e.Who.Kind == identity.KindGroup {
					used[e.Who.ID] = true
					if e.ID < 0 { // it comes of the folder's being personal
						continue
					}
					removes[e.Who.ID] = append(removes[e.Who.ID], access.Fix{Kind: access.FixRemove, Path: f.Display(f.Rules[i].Path), EntryID: e.ID})
				}
			}
		}
	}
	for _, s := range x.Policy.Shares {
		for _, e := range s.Share.Entries {
			if e.Who.Kind == identity.KindGroup {
				used[e.Who.ID] = true
				removes[e.Who.ID] = append(removes[e.Who.ID], access.Fix{Kind: access.FixShareRemove, Share: s.Name, EntryID: e.ID})
			}
		}
	}
	for _, u := range d.Users() {
		used[u.Primary] = true
	}
	for _, g := range d.Groups() {
		for _, m := range g.Members {
			if m.Kind == identity.KindGroup {
				used[m.ID] = true
			}
		}
	}
	for i, g := range d.Groups() {
		remove := access.Fix{Kind: access.FixGroupRemove, User: g.Name}
		switch {
		case d.Members(int32(i)).Empty():
			x.add(EmptyGroup, Low, g.Name, "group "+g.Name, "nobody is in it, directly or through other groups", append(removes[g.ID], remove)...)
		case !used[g.ID]:
			x.add(UnusedGroup, Low, g.Name, "group "+g.Name, "no entry, folder, user or other group names it", remove)
		}
	}
}

// numbers looks at what other machines call their users and groups.
func (x *finder) numbers() {
	for _, l := range x.Policy.IDLists {
		mayMap := x.Policy.NumbersOf(l.Host) == nil && site.MayBeMapped(l.Host)
		for _, m := range x.Policy.CompareNumbers(l.Host, l.Numbers) {
			kind, what := "uid", "user"
			if m.Group {
				kind, what = "gid", "group"
			}
			says := fmt.Sprintf("%s %d there is %s", kind, m.There, m.Name)
			if m.Taken != "" {
				says += ", and here " + m.Taken
			}
			if m.Known {
				says += fmt.Sprintf("; %s has %d here", m.Name, m.Here)
			}
			var fixes []access.Fix
			if m.Taken != "" {
				fixes = append(fixes, access.Fix{Kind: access.FixNumber, User: m.Taken, UID: m.Free, Group: m.Group})
			}
			if m.Known {
				fixes = append(fixes, access.Fix{Kind: access.FixNumber, User: m.Name, UID: m.There, Group: m.Group})
			}
			if m.Known && mayMap {
				fixes = append(fixes, access.Fix{Kind: access.FixNumberMap, From: l.Host})
			}
			x.add(IDConflict, High, fmt.Sprintf("%s %s %s", l.Host, what, m.Name), fmt.Sprintf("%s %s at %s", what, m.Name, l.Host), says, fixes...)
		}
	}
}
