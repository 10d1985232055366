package access

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/site"
)

// GateReport is what one gate asked and left.
type GateReport struct {
	Gate   Gate
	Leaves acl.Mask
	Reason string // one sentence
	// Record names what decided: "user orla", "share plates", "entry 12 on nightlog".
	Record string
	// Entries are those that decided some bit, in the order in which they did.
	Entries []EntryReport
	// Fixes are the changes that together make this gate leave what was wanted.
	Fixes []Fix
}

// EntryReport is one entry that decided some bit.
type EntryReport struct {
	ID      int64
	Path    string // where it is written: folder and path; "" at share level
	Deny    bool
	Who     string
	Grant   string // a level, or names of bits
	Decided acl.Mask
	// Chain is how the user comes to be meant: group names from the one that
	// lists them to the one the entry names. Empty for direct entries.
	Chain []string
}

// Record names the entry: "entry 12 on nightlog".
func (e EntryReport) Record() string {
	if e.ID < 0 {
		folder, _, _ := strings.Cut(e.Path, "/")
		return "personal folder " + folder
	}
	return fmt.Sprintf("entry %d on %s", e.ID, e.Path)
}

// Says is what the entry says of the user: "allows staff read (through observers, in staff)".
func (e EntryReport) Says() string {
	verb := "allows"
	if e.Deny {
		verb = "denies"
	}
	s := fmt.Sprintf("%s %s %s", verb, e.Who, e.Grant)
	if e.ID < 0 && strings.Contains(e.Path, "/") {
		s = e.Who + " has the directory of their own: it " + s
	}
	if len(e.Chain) > 1 {
		s += " (through " + strings.Join(e.Chain, ", in ") + ")"
	}
	return s
}

// FixKind says what a Fix does.
type FixKind string

// What can be fixed.
const (
	FixEnable       FixKind = "enable account"
	FixExtend       FixKind = "extend account"
	FixBegin        FixKind = "begin account"
	FixProtocol     FixKind = "let account use protocol"
	FixService      FixKind = "switch service on"
	FixPublish      FixKind = "publish folder"
	FixReadWrite    FixKind = "make share read-write"
	FixGuests       FixKind = "have share take guests"
	FixNoGuests     FixKind = "have share take no guests"
	FixShareAllow   FixKind = "allow at share level"
	FixShareRemove  FixKind = "remove share-level entry"
	FixAllow        FixKind = "add entry"
	FixRemove       FixKind = "remove entry"
	FixUser         FixKind = "add user"
	FixRule         FixKind = "add client rule"
	FixRuleWrite    FixKind = "let client rule write"
	FixShareHost    FixKind = "let host use share"
	FixMode         FixKind = "change mode"
	FixRuleRemove   FixKind = "remove client rule"
	FixRuleSquash   FixKind = "squash root"
	FixRuleUnknown  FixKind = "refuse unknown uids"
	FixClear        FixKind = "clear rules"
	FixFolderRemove FixKind = "remove folder"
	FixGroupRemove  FixKind = "remove group"
	FixNumber       FixKind = "change uid or gid"
	FixNumberMap    FixKind = "map numbers"
	FixLimit        FixKind = "change limit"
	FixLimitRemove  FixKind = "remove limit"
	FixHolding      FixKind = "remove what was held"
	FixHandOver     FixKind = "hand over files"
	FixCounting     FixKind = "count what is stored"
)

// Fix is one change that would widen a verdict.
type Fix struct {
	Kind     FixKind
	User     string // or a group, where an entry is added
	Protocol site.Protocol
	Share    string
	Path     string // folder and path
	EntryID  int64
	Level    acl.Level
	Mask     acl.Mask    // where Level is none
	Applies  acl.Applies // zero for everywhere
	Deny     bool
	HereOnly bool
	Export   string // its path
	From     string // an address; of a share, all the hosts that it is to be kept to
	Rule     int64  // a client rule's number in the records
	Set      string // the host set that the rule is in; "" for the export itself
	UID      uint32
	Group    bool // UID is a gid, and User a group
	Mode     uint32
	Limit    LimitName    // a limit
	Bounds   limit.Bounds // and what of it is to change
	Volume   string
	Touches  string // whose verdicts it changes besides that of who asks; "" for nobody's
}

type ancestorNote struct {
	path    string
	passed  bool
	denies  []*acl.Ace // that may keep the user from passing
	reports []EntryReport
	mode    string // why not, where modes decide
	fix     uint32 // and the mode that would let them
	touches string // and whom else
}

type recorder struct {
	policy    *site.Policy
	request   *Request
	reports   []GateReport
	ancestors []ancestorNote
	trace     []EntryReport
	denies    []*acl.Ace    // on the object, that may withhold something wanted
	giving    []EntryReport // on its directory, that give something of the object as well
}

func (c *recorder) add(g Gate, leaves acl.Mask, record, reason string, fixes ...Fix) *GateReport {
	c.reports = append(c.reports, GateReport{Gate: g, Leaves: leaves, Reason: reason, Record: record, Fixes: fixes})
	return &c.reports[len(c.reports)-1]
}

func (c *recorder) short(leaves acl.Mask) bool { return c.request.Want&^leaves != 0 }

func (c *recorder) account(u *identity.User, leaves acl.Mask) {
	if nfs := c.request.NFS; nfs != nil && nfs.Rule != nil {
		c.arrival(nfs, u, leaves)
		return
	}
	switch {
	case u == nil:
		c.add(Account, leaves, "", "there is no such user")
	case u.Disabled:
		c.add(Account, leaves, "user "+u.Name, u.Name+" is disabled", c.letWork(u)...)
	case leaves == 0 && !u.Begun(c.request.Now):
		c.add(Account, leaves, "user "+u.Name, fmt.Sprintf("%s's account begins at %s", u.Name, moment(u.Starts)), c.letWork(u)...)
	case leaves == 0:
		c.add(Account, leaves, "user "+u.Name, fmt.Sprintf("%s's account ended at %s", u.Name, moment(u.Expires)), c.letWork(u)...)
	case !u.Expires.IsZero():
		c.add(Account, leaves, "user "+u.Name, fmt.Sprintf("%s is enabled until %s", u.Name, moment(u.Expires)))
	case c.request.Via == site.SMB && u.ID == c.policy.Services.SMBGuest:
		c.add(Account, leaves, "user "+u.Name, u.Name+" is enabled, and so is whoever comes without an account: they come in as "+u.Name)
	default:
		c.add(Account, leaves, "user "+u.Name, u.Name+" is enabled")
	}
}

func moment(t time.Time) string { return t.UTC().Format("2006-01-02 15:04 MST") }

// letWork is what has an account work that does not.
func (c *recorder) letWork(u *identity.User) (fixes []Fix) {
	if u.Disabled {
		fixes = append(fixes, Fix{Kind: FixEnable, User: u.Name})
	}
	if !u.Begun(c.request.Now) {
		fixes = append(fixes, Fix{Kind: FixBegin, User: u.Name})
	}
	if u.Ended(c.request.Now) {
		fixes = append(fixes, Fix{Kind: FixExtend, User: u.Name})
	}
	return fixes
}

func (c *recorder) service(u *identity.User, leaves acl.Mask) {
	via := c.request.Via
	if leaves != 0 && u == nil {
		c.add(Service, leaves, "service "+via.String(), via.String()+" is on")
		return
	} else if leaves != 0 {
		c.add(Service, leaves, "service "+via.String(), fmt.Sprintf("%s is on and %s may use it", via, u.Name))
		return
	}
	var reasons []string
	var fixes []Fix
	if !c.policy.Services.On(via) {
		reasons = append(reasons, via.String()+" is switched off")
		fixes = append(fixes, Fix{Kind: FixService, Protocol: via, Touches: "everybody who may use " + via.String()})
	}
	if u != nil && (via == site.SMB && !u.SMB || via == site.NFS && !u.NFS) {
		reasons = append(reasons, fmt.Sprintf("%s may not use %s", u.Name, via))
		fixes = append(fixes, Fix{Kind: FixProtocol, User: u.Name, Protocol: via})
	}
	if u == nil && len(reasons) == 0 {
		reasons = append(reasons, "nobody is asking")
	}
	c.add(Service, leaves, "service "+via.String(), strings.Join(reasons, "; "), fixes...)
}

// hosts reports the origin gate of a share that is kept to hosts.
func (c *recorder) hosts(rule *site.ExportRule, leaves acl.Mask) {
	r, record := c.request, "share "+c.request.Share.Name
	name, kept := r.Share.Name, strings.ReplaceAll(site.HostTerms(r.Share.Hosts), ",", ", ")
	switch {
	case r.Origin == nil && leaves == 0:
		c.add(Origin, leaves, record, fmt.Sprintf("%s is kept to %s, which means no host", name, kept), c.keepTo("everybody who uses share "+name, []site.HostTerm{{From: "*"}}))
	case r.Origin == nil:
		c.add(Origin, leaves, record, fmt.Sprintf("%s is kept to %s: this is for whoever comes from there (say from where with --from)", name, kept))
	case rule == nil:
		from := r.Origin.Address.String()
		says := fmt.Sprintf("%s is kept to %s, and %s is none of those", name, kept, saysOrigin(r.Origin, true))
		if r.Origin.Unsure {
			says = fmt.Sprintf("%s is kept to %s, and it cannot be told just now what %s is called", name, kept, from)
		}
		c.add(Origin, leaves, record, says, c.keepTo("everybody at "+from, append([]site.HostTerm{{From: from}}, r.Share.Hosts...)))
	default:
		c.add(Origin, leaves, record, fmt.Sprintf("%s is the first of the hosts of %s that matches %s", ofSet(rule), name, saysOrigin(r.Origin, rule.ByName())))
	}
}

// keepTo is the fix that has the share be used from other hosts.
func (c *recorder) keepTo(touches string, hosts []site.HostTerm) Fix {
	return Fix{Kind: FixShareHost, Share: c.request.Share.Name, Touches: touches, From: site.HostTerms(hosts)}
}

// letWrite is the fix that has those write who come by a rule of the share; by the first where it is not known by which.
func (c *recorder) letWrite(rule *site.ExportRule) Fix {
	share := c.request.Share
	if rule == nil {
		rule = &share.InForce[0]
	}
	touches := "everybody at " + rule.From
	if rule.Set != "" {
		return Fix{Kind: FixRuleWrite, Set: rule.Set, Rule: rule.ID, Touches: touches}
	}
	hosts := slices.Clone(share.Hosts)
	for i := range hosts {
		if hosts[i].From == rule.From {
			hosts[i].ReadOnly = false
			break
		}
	}
	return c.keepTo(touches, hosts)
}

// saysOrigin spells from where a request comes, with what it is called where that matters.
func saysOrigin(o *site.Origin, byName bool) string {
	if byName && len(o.Names) > 0 {
		return o.Address.String() + " (" + strings.Join(o.Names, ", ") + ")"
	}
	return o.Address.String()
}

func (c *recorder) share(who identity.Person, rule *site.ExportRule, list *acl.ACL, leaves acl.Mask) {
	r := c.request
	if r.Share == nil || r.Via == site.NFS {
		fixes := []Fix{{Kind: FixPublish, Path: r.Folder.Name, Protocol: r.Via, Touches: "everybody whom something lets into " + r.Folder.Name}}
		c.add(ShareLevel, leaves, "folder "+r.Folder.Name, fmt.Sprintf("%s is not published over %s", r.Folder.Name, r.Via), fixes...)
		return
	}
	record := "share " + r.Share.Name
	var reasons []string
	var fixes []Fix
	if r.Share.ReadOnly {
		reasons = append(reasons, r.Share.Name+" is a read-only share")
		if r.Want&^acl.ReadOnly != 0 {
			fixes = append(fixes, Fix{Kind: FixReadWrite, Share: r.Share.Name, Touches: "everybody who uses share " + r.Share.Name})
		}
	}
	if onlyRead(r, rule) {
		from := "all the hosts that it is kept to"
		if rule != nil {
			from = ofSet(rule)
		}
		reasons = append(reasons, r.Share.Name+" is only read from "+from)
		if r.Want&^acl.ReadOnly != 0 {
			fixes = append(fixes, c.letWrite(rule))
		}
	}
	if !c.policy.TakesIn(r.Share, r.User) {
		reasons = append(reasons, fmt.Sprintf("%s is as whom those come in who have no account, and %s takes no guests", c.subject(), r.Share.Name))
		fixes = append(fixes, Fix{Kind: FixGuests, Share: r.Share.Name, Touches: "everybody who reaches the service, with an account or without"})
	}
	if r.Share.MostConnections > 0 {
		reasons = append(reasons, fmt.Sprintf("%s takes %d connections at once: more are refused", r.Share.Name, r.Share.MostConnections))
	}
	switch {
	case c.policy.Services.SMBEncrypted:
		reasons = append(reasons, "everything over SMB is encrypted: clients that do not encrypt (before SMB 3.0 none can) are refused")
	case r.Share.Encrypted:
		reasons = append(reasons, r.Share.Name+" is encrypted: clients that do not encrypt (before SMB 3.0 none can) are refused")
	}
	var trace []EntryReport
	if list == nil {
		if len(reasons) == 0 {
			reasons = append(reasons, fmt.Sprintf("share %s adds no limits of its own", r.Share.Name))
		}
	} else {
		allowed := list.Evaluate(who, r.Folder.OwnedBy, r.Now, acl.All, func(a *acl.Ace, bits acl.Mask) {
			trace = append(trace, c.report(a, "share "+r.Share.Name, bits))
		})
		allowed = Amounts(allowed, r.File)
		denies := list.Denies(who, r.Folder.OwnedBy, r.Now, takes(r.Want, r.File))
		reasons = append(reasons, fmt.Sprintf("share %s leaves %s", r.Share.Name, acl.Describe(allowed, acl.KindOf(r.Path, r.File))))
		if r.Want&^allowed != 0 {
			for _, a := range denies {
				fixes = append(fixes, Fix{Kind: FixShareRemove, Share: r.Share.Name, EntryID: a.Entry.ID, Touches: c.besidesThem(a.Entry.Who)})
			}
			if r.Want&^c.allowedWithout(list, denies, who, r.Folder.OwnedBy) != 0 {
				fixes = append(fixes, Fix{Kind: FixShareAllow, Share: r.Share.Name, User: c.userName(), Level: c.fixLevel(), Mask: c.fixMask(allowed)})
			}
		}
	}
	c.add(ShareLevel, leaves, record, strings.Join(reasons, "; "), fixes...).Entries = trace
}

// allowedWithout is what an ACL would allow if some of its entries were not there.
func (c *recorder) allowedWithout(list *acl.ACL, gone []*acl.Ace, who identity.Person, own acl.Ownership) acl.Mask {
	rest := list.Without(gone)
	return Amounts(rest.Evaluate(who, own, c.request.Now, acl.All, nil), c.request.File)
}

func (c *recorder) report(a *acl.Ace, path string, bits acl.Mask) EntryReport {
	e := EntryReport{ID: a.Entry.ID, Path: path, Deny: a.Entry.Deny, Who: c.policy.Directory.Name(a.Entry.Who),
		Grant: a.Entry.Grant(), Decided: bits}
	if a.Entry.Who.Kind == identity.KindGroup {
		e.Chain = c.policy.Directory.Chain(c.request.User, a.Entry.Who.ID)
	}
	return e
}

func (c *recorder) ancestor(list *acl.ACL, at string, who identity.Person, own acl.Ownership, want acl.Mask) acl.Mask {
	note := ancestorNote{path: at}
	c.giving = nil // only the last directory on the way gives anything
	got := list.Evaluate(who, own, c.request.Now, want, func(a *acl.Ace, bits acl.Mask) {
		r := c.report(a, c.request.Folder.Display(a.From), bits)
		if bits&acl.Execute != 0 {
			note.reports = append(note.reports, r)
		}
		if bits&fromParent != 0 && !r.Deny {
			c.giving = append(c.giving, r)
		}
	})
	note.denies = list.Denies(who, own, c.request.Now, acl.Execute)
	note.passed = got&acl.Execute != 0
	c.ancestors = append(c.ancestors, note)
	return got
}

func (c *recorder) entries(list *acl.ACL, who identity.Person, own acl.Ownership, want acl.Mask) acl.Mask {
	c.denies = list.Denies(who, own, c.request.Now, takes(c.request.Want, c.request.File))
	return list.Evaluate(who, own, c.request.Now, want, func(a *acl.Ace, bits acl.Mask) {
		c.trace = append(c.trace, c.report(a, c.request.Folder.Display(a.From), bits))
	})
}

func (c *recorder) path(leaves acl.Mask) {
	f := c.request.Folder
	if len(c.ancestors) == 0 {
		c.add(Path, leaves, "folder "+f.Name, f.Name+" is the folder itself: there is nothing to pass")
		return
	}
	for _, a := range c.ancestors {
		if a.passed {
			continue
		}
		where := f.Display(a.path)
		if a.mode != "" {
			var fixes []Fix
			for _, other := range c.ancestors {
				if !other.passed {
					fixes = append(fixes, Fix{Kind: FixMode, Path: f.Display(other.path), Mode: other.fix, Touches: other.touches})
				}
			}
			c.add(Path, leaves, where, a.mode, fixes...)
		} else if len(a.reports) > 0 {
			r := a.reports[len(a.reports)-1]
			c.add(Path, leaves, r.Record(), fmt.Sprintf("%s; %s may not pass %s", r.Says(), c.subject(), where)).Entries = a.reports
		} else {
			c.add(Path, leaves, where, fmt.Sprintf("no entry there lets %s pass", c.subject()))
		}
		return
	}
	last := c.ancestors[len(c.ancestors)-1]
	var trace []EntryReport
	if len(last.reports) > 0 {
		trace = last.reports
	}
	c.add(Path, leaves, f.Display(last.path), fmt.Sprintf("%s may pass every directory down to %s", c.subject(), f.Display(last.path))).Entries = trace
}

func (c *recorder) entry(leaves acl.Mask) {
	f, r := c.request.Folder, c.request
	where := f.Display(r.Path)
	var deciding *EntryReport
	for i := range c.trace { // what a reader wants first: why not, else why
		t := &c.trace[i]
		if t.Decided&r.Want != 0 && (t.Deny == c.short(leaves)) && deciding == nil {
			deciding = t
		}
	}
	switch {
	case deciding != nil:
		c.add(Entry, leaves, deciding.Record(), deciding.Says()+c.besides(leaves))
	case !c.short(leaves) && r.Want != 0 && len(c.giving) > 0:
		c.add(Entry, leaves, c.giving[0].Record(), c.giving[0].Says()+" on the directory it is in"+c.besides(leaves))
	case !c.short(leaves) && r.Want != 0:
		c.add(Entry, leaves, where, strings.TrimPrefix(c.besides(leaves), "; "))
	case c.short(leaves):
		c.add(Entry, leaves, where, fmt.Sprintf("no entry that reaches it gives %s %s", c.subject(), c.wanted(leaves)))
	default:
		c.add(Entry, leaves, where, "nothing was asked for")
	}
	c.reports[len(c.reports)-1].Entries = c.trace
}

// besides says which rights that are granted no entry gives by itself: see may.go.
func (c *recorder) besides(leaves acl.Mask) string {
	var own, dir acl.Mask // what entries allow of the object, and of its directory
	for i := range c.trace {
		if !c.trace[i].Deny {
			own |= c.trace[i].Decided
		}
	}
	for i := range c.giving {
		dir |= c.giving[i].Decided
	}
	var s string
	if leaves&^own&acl.Delete != 0 && dir&acl.DeleteChild != 0 {
		s += "; it may be deleted by whoever may delete what is in its directory"
	}
	if leaves&^own&acl.ReadAttributes != 0 {
		if c.request.Via == site.NFS {
			s += "; over NFS its attributes are shown to whoever may pass its directory"
		} else {
			s += "; its attributes are shown to whoever may list its directory"
		}
	}
	if leaves&^own&ByRunning != 0 {
		s += "; who may run it may read it, since running it is reading it"
	}
	if own&^leaves&AltersNames != 0 {
		s += "; names in it are not to be changed without passing it"
	}
	return s
}

func (c *recorder) userName() string {
	return c.policy.Directory.Name(identity.UserPrincipal(c.request.User))
}

// wantLevel is the narrowest level that holds all that is wanted.
func (c *recorder) wantLevel() acl.Level {
	for _, l := range acl.Levels {
		if takes(c.request.Want, c.request.File)&^l.Mask(!c.request.File) == 0 {
			return l
		}
	}
	return acl.Control
}

// fixLevel is the level that an entry would have to give for all that is wanted: where just the rights of a level are wanted. Else it is NoLevel,
// and fixMask has the rights, so that nobody is given more than was asked for.
func (c *recorder) fixLevel() acl.Level {
	kind := acl.KindOf(c.request.Path, c.request.File)
	for _, l := range acl.Levels {
		if w := takes(c.request.Want, c.request.File); w == l.Wants(kind) || w == l.Mask(!c.request.File) || w|acl.Delete == l.Mask(true) && kind == acl.Root {
			return l
		}
	}
	if c.request.Want == 0 {
		return c.wantLevel()
	}
	return acl.NoLevel
}

// fixMask is the rights that are wanted beside those that are left already.
func (c *recorder) fixMask(leaves acl.Mask) acl.Mask {
	if c.fixLevel() != acl.NoLevel {
		return 0
	}
	return takes(c.request.Want, c.request.File) &^ leaves
}

// wanted spells what is wanted and not left: a level, or rights.
func (c *recorder) wanted(leaves acl.Mask) string {
	return strings.ReplaceAll(acl.GrantText(c.fixLevel(), c.fixMask(leaves)), ",", ", ")
}

// fix finds, for the path and entry gates, the narrowest changes that together let the request through: entries for who asks alone, on what
// was asked about and on the directories to be passed on the way, which there come before everything inherited. Only denies that
// are written on the same path have to go.
func (c *recorder) fix() {
	r := c.request
	path, entry := c.gate(Path), c.gate(Entry)
	if path == nil || entry == nil || r.User == 0 || r.Folder.Unix() {
		return
	}
	if !r.onDisk() {
		for _, on := range []*GateReport{path, entry} {
			if c.short(on.Leaves) {
				on.Reason += "; it is not on disk, and an entry is written on what is there"
				return
			}
		}
		return
	}
	seen := make(map[int64]bool)
	remove := func(on *GateReport, denies []*acl.Ace, from string, in acl.Mask) {
		for _, d := range denies {
			if d.From != from || seen[d.Entry.ID] {
				continue
			}
			seen[d.Entry.ID] = true
			touches := c.besidesThem(d.Entry.Who)
			if touches == "" && (d.Mask&^in != 0 || from != r.Path && d.Entry.Applies != acl.Here) {
				touches = c.userName() + " in what else it denies"
			}
			on.Fixes = append(on.Fixes, Fix{Kind: FixRemove, Path: r.Folder.Display(from), EntryID: d.Entry.ID, Touches: touches})
		}
	}
	for _, a := range c.ancestors {
		if a.passed {
			continue
		}
		remove(path, a.denies, a.path, acl.Pass.Mask(true))
		path.Fixes = append(path.Fixes, Fix{Kind: FixAllow, Path: r.Folder.Display(a.path), User: c.userName(), Level: acl.Pass, HereOnly: true, Touches: c.squashedToo()})
	}
	if c.short(entry.Leaves) {
		remove(entry, c.denies, r.Path, acl.All)
		entry.Fixes = append(entry.Fixes, Fix{Kind: FixAllow, Path: r.Folder.Display(r.Path), User: c.userName(), Level: c.fixLevel(), Mask: c.fixMask(entry.Leaves), Touches: c.squashedToo()})
	}
}

// squashedToo says who acts as the same user as who asks; "" for nobody.
func (c *recorder) squashedToo() string {
	nfs := c.request.NFS
	if nfs == nil {
		return ""
	}
	if said, known := nfs.translated(); known && said.UID == nfs.Unix.UID {
		return ""
	}
	return "all whom " + ruleName{nfs.Rule, nfs.Export.Path}.String() + " makes " + c.userName()
}

// besidesThem says whom an entry means besides who is asking; "" for nobody.
func (c *recorder) besidesThem(who identity.Principal) string {
	if who == identity.UserPrincipal(c.request.User) {
		return ""
	}
	return "all whom it names, " + c.policy.Directory.Name(who)
}

// onDisk says whether anything is at the path, as far as that can be told.
func (r *Request) onDisk() bool {
	disk, ok := r.Facts.(interface {
		Kind(path string) (exists, file bool)
	})
	if !ok || r.Path == "" {
		return true
	}
	exists, _ := disk.Kind(r.Path)
	return exists
}

func (c *recorder) gate(g Gate) *GateReport {
	for i := range c.reports {
		if c.reports[i].Gate == g {
			return &c.reports[i]
		}
	}
	return nil
}
