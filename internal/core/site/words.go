package site

import (
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/plain"
)

// Said is one thing that a record says: under the name of the option that sets it, or what it is, and in the form in which it is typed.
type Said struct{ Name, Value string }

// Changed is one thing that a record said before and says after; "" for nothing.
type Changed struct{ Name, Before, After string }

// Told is what became of one record.
type Told struct {
	Kind    string
	ID      int64
	Name    string // as people know it, by its name after, or before where it is gone; "" for what has none
	Act     Act
	Changed []Changed
}

// Act is what becomes of a record.
type Act string

// The acts.
const (
	ActAdded   Act = "added"
	ActChanged Act = "changed"
	ActRemoved Act = "removed"
)

// Names are what the records of a site are called, for those that refer to them.
type Names struct {
	users, groups    map[identity.ID]string
	folders, volumes map[int64]string
	shares           map[int64]string
}

// Names gives what records are called.
func (r *Records) Names() *Names {
	n := &Names{make(map[identity.ID]string), make(map[identity.ID]string), make(map[int64]string), make(map[int64]string), make(map[int64]string)}
	for i := range r.Shares {
		n.shares[r.Shares[i].ID] = r.Shares[i].Name
	}
	for i := range r.Users {
		n.users[r.Users[i].ID] = r.Users[i].Name
	}
	for i := range r.Groups {
		n.groups[r.Groups[i].ID] = r.Groups[i].Name
	}
	for i := range r.Folders {
		n.folders[r.Folders[i].ID] = r.Folders[i].Name
	}
	for i := range r.Volumes {
		n.volumes[r.Volumes[i].ID] = r.Volumes[i].Name
	}
	return n
}

// Tell says what became of a record. Was and is are the names before and after. What a later version wrote, of kinds that are not known, is told as
// it is written down.
func Tell(key Key, before, after json.RawMessage, was, is *Names) (Told, error) {
	t := Told{Kind: key.Kind, ID: key.ID, Act: ActChanged}
	say := asWritten
	if i := slices.IndexFunc(Kinds, func(k Kind) bool { return k.Name == key.Kind }); i >= 0 {
		say = Kinds[i].say
	}
	var said [2][]Said
	for i, side := range []struct {
		raw   json.RawMessage
		names *Names
		gone  Act
	}{{before, was, ActAdded}, {after, is, ActRemoved}} {
		if len(side.raw) == 0 {
			t.Act = side.gone
			continue
		}
		name, all, err := say(side.names, side.raw)
		if err != nil {
			return t, fmt.Errorf("%s %d: %w", key.Kind, key.ID, err)
		}
		t.Name, said[i] = name, all
	}
	t.Changed = changed(said[0], said[1])
	return t, nil
}

// changed is what differs, in the order of what is said after, and then of what is said no more. Of several of one name each is new or gone, unless one has
// come for one.
func changed(before, after []Said) (out []Changed) {
	gone, fresh := without(before, after), without(after, before)
	was, come := make(map[string][]string), make(map[string]int)
	for _, s := range gone {
		was[s.Name] = append(was[s.Name], s.Value)
	}
	for _, s := range fresh {
		come[s.Name]++
	}
	one := func(name string) bool { return len(was[name]) == 1 && come[name] == 1 }
	for _, s := range fresh {
		c := Changed{s.Name, "", s.Value}
		if one(s.Name) {
			c.Before = was[s.Name][0]
		}
		out = append(out, c)
	}
	for _, s := range gone {
		if !one(s.Name) {
			out = append(out, Changed{s.Name, s.Value, ""})
		}
	}
	return out
}

// without is what one list says that another does not, and that is something.
func without(list, other []Said) (out []Said) {
	there := make(map[Said]bool, len(other))
	for _, s := range other {
		there[s] = true
	}
	for _, s := range list {
		if s.Value != "" && !there[s] {
			out = append(out, s)
		}
	}
	return out
}

// asWritten says of a record that nothing is known of how it is written down.
func asWritten(_ *Names, raw json.RawMessage) (string, []Said, error) {
	return "", []Said{{"record", string(raw)}}, nil
}

// saying makes a Kind's say of what reads a record of it.
func saying[T any](say func(n *Names, record *T) (string, []Said)) func(*Names, json.RawMessage) (string, []Said, error) {
	return func(n *Names, raw json.RawMessage) (string, []Said, error) {
		var record T
		if err := json.Unmarshal(raw, &record); err != nil {
			return "", nil, err
		}
		name, said := say(n, &record)
		if marked, ok := any(&record).(interface{ Marks() identity.Labels }); ok {
			for _, l := range marked.Marks() {
				said = append(said, Said{"label " + l.Key, l.Value})
			}
		}
		return name, said, nil
	}
}

// named looks a name up, and gives the number of what has none.
func named[ID ~int64](names map[ID]string, id ID) string {
	if id == 0 {
		return ""
	}
	if name := names[id]; name != "" {
		return name
	}
	return "#" + strconv.FormatInt(int64(id), 10)
}

// who spells a principal as identity.Directory.Name does.
func (n *Names) who(p identity.Principal) string {
	kind, names := "user ", n.users
	switch p.Kind {
	case identity.KindUser:
	case identity.KindGroup:
		kind, names = "group ", n.groups
	default:
		return (*identity.Directory)(nil).Name(p)
	}
	if name := names[p.ID]; name != "" {
		return name
	}
	return kind + "#" + strconv.FormatInt(int64(p.ID), 10)
}

// place spells a folder with the path in it.
func (n *Names) place(folder int64, path string) string {
	if path == "" {
		return named(n.folders, folder)
	}
	return named(n.folders, folder) + "/" + path
}

// HostTerms spells them as they are typed; "" for none.
func HostTerms(terms []HostTerm) string {
	out := make([]string, len(terms))
	for i, t := range terms {
		out[i] = t.String()
	}
	return strings.Join(out, ",")
}

// most spells how many there may be; "" for any number.
func most(n int) string {
	if n == 0 {
		return ""
	}
	return strconv.Itoa(n)
}

func yes(is bool) string {
	if is {
		return "yes"
	}
	return "no"
}

// OnOff is how a switch is said to be.
func OnOff(is bool) string {
	if is {
		return "on"
	}
	return "off"
}

// Moment is how a time is typed; "" for never.
func Moment(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return t.UTC().Format(time.RFC3339)
}

// ParseDay reads a day such as 2026-12-31, at its beginning in a zone, or a moment of RFC 3339; day says which it was, and ok whether it was either.
func ParseDay(text string, in *time.Location) (t time.Time, day, ok bool) {
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t, false, true
	}
	t, err := time.ParseInLocation(time.DateOnly, text, in)
	return t, true, err == nil
}

func sayUser(n *Names, u *identity.User) (string, []Said) {
	role, ends := cmp.Or(string(u.Role), "none"), cmp.Or(Moment(u.Expires), "never")
	var earlier []string
	for _, n := range u.PastPasswords {
		earlier = append(earlier, given(n))
	}
	must := ""
	if u.MustChange {
		must = "to be changed first"
	}
	return u.Name, []Said{{"name", u.Name}, {"full-name", u.FullName}, {"uid", number(u.UID)}, {"primary", named(n.groups, u.Primary)}, {"role", role},
		{"mail", u.Mail}, {"description", u.Description}, {"starts", Moment(u.Starts)}, {"ends", ends}, {"smb", OnOff(u.SMB)}, {"nfs", OnOff(u.NFS)}, {"console", OnOff(u.Console)},
		{"service", yes(u.Service)}, {"disabled", yes(u.Disabled)}, {"password", given(u.Password)}, {"password is", must}, {"password set", Moment(u.PasswordSet)},
		{"earlier passwords", strings.Join(earlier, ", ")}, {"one-time codes", given(u.Codes)}, {"profile", given(u.Profile)}, {"left", Moment(u.Left)}, {"leaves", leaving(n, u.Leaving)}}
}

// leaving is how somebody will leave, in words.
func leaving(n *Names, l *identity.Leaving) string {
	if l == nil {
		return ""
	}
	text := Moment(l.On)
	if l.To != 0 {
		text += ", succeeded by " + named(n.users, l.To)
	}
	if l.Files {
		text += ", with what they own on disk"
	}
	if l.Hold != 0 {
		text += ", what they own on disk kept in " + named(n.folders, l.Hold)
	}
	if !l.Until.IsZero() {
		text += " until " + Moment(l.Until)
	}
	return text
}

func sayProfile(n *Names, p *Profile) (string, []Said) {
	role := cmp.Or(string(p.Role), "none")
	said := []Said{{"name", p.Name}, {"description", p.Description}, {"smb", OnOff(p.SMB)}, {"nfs", OnOff(p.NFS)}, {"console", OnOff(p.Console)}, {"role", role}}
	if p.HardBytes != nil {
		said = append(said, Said{"limit", limit.FormatSize(*p.HardBytes)}, Said{"limit in bytes", strconv.FormatInt(*p.HardBytes, 10)})
	}
	if p.EndsAfter != 0 {
		said = append(said, Said{"ends-after", strconv.Itoa(p.EndsAfter) + " days"})
	}
	for _, g := range p.Groups {
		said = append(said, Said{"group", named(n.groups, g)})
	}
	return p.Name, said
}

func sayNumberMap(n *Names, m *NumberMap) (string, []Said) {
	said := []Said{{"name", m.Name}, {"description", m.Description}, {"from", strings.Join(m.From, ", ")}, {"others", string(m.Others)}}
	for _, u := range m.Users {
		said = append(said, Said{"uid " + number(u.There), named(n.users, u.Who)})
	}
	for _, g := range m.Groups {
		said = append(said, Said{"gid " + number(g.There), named(n.groups, g.Who)})
	}
	return m.Name, said
}

func sayRetiredNumber(_ *Names, n *RetiredNumber) (string, []Said) {
	return number(n.UID), []Said{{"uid", number(n.UID)}, {"was", n.Name}, {"since", Moment(n.Since)}}
}

func saySigningIn(_ *Names, s *SigningIn) (string, []Said) {
	count := func(n int) string {
		if n == 0 {
			return ""
		}
		return strconv.Itoa(n)
	}
	said := []Said{{"idle-minutes", count(s.IdleMinutes)}, {"longest-hours", count(s.LongestHours)}, {"password-days", count(s.PasswordDays)}}
	for _, r := range s.CodesFor {
		said = append(said, Said{"codes-for", string(r)})
	}
	return "signing in", said
}

func sayToken(n *Names, t *Token) (string, []Said) {
	role := cmp.Or(string(t.Role), "none")
	said := []Said{{"name", t.Name}, {"user", named(n.users, t.User)}, {"role", role}, {"made", Moment(t.Made)}, {"ends", Moment(t.Ends)}, {"secret", given(t.Secret)}}
	for _, p := range t.From {
		said = append(said, Said{"from", p})
	}
	return t.Name, said
}

// given tells secrets apart, of which there is nothing else to be said.
func given(secret int64) string {
	if secret == 0 {
		return ""
	}
	return "no. " + strconv.FormatInt(secret, 10)
}

func number(n uint32) string { return strconv.FormatUint(uint64(n), 10) }

func sayGroup(n *Names, g *identity.Group) (string, []Said) {
	said := []Said{{"name", g.Name}, {"gid", number(g.GID)}, {"description", g.Description}}
	for _, m := range g.Members {
		said = append(said, Said{"member", n.who(m)})
	}
	for _, o := range g.Owners {
		said = append(said, Said{"owner", n.who(o)})
	}
	return g.Name, said
}

func sayVolume(_ *Names, v *Volume) (string, []Said) {
	counting := v.Counting
	if counting == "" {
		counting = CountNothing
	}
	return v.Name, []Said{{"name", v.Name}, {"path", v.Path}, {"counting", string(counting)}, {"mark", v.Mark}}
}

func sayFolder(n *Names, f *Folder) (string, []Said) {
	return f.Name, []Said{{"name", f.Name}, {"volume", named(n.volumes, f.VolumeID)}, {"path", f.Path}, {"description", f.Description},
		{"owner", named(n.users, f.Owner)}, {"group", named(n.groups, f.Group)}, {"permissions", string(f.Permissions)}, {"ownership", string(f.Ownership)},
		{"log-access", yes(f.LogAccess)}, {"personal", personal(n, f.Personal)}}
}

func personal(n *Names, p *Personal) string {
	if p == nil {
		return ""
	}
	return "for " + named(n.groups, p.Group) + ", who " + acl.GrantText(p.Level, 0) + " their own"
}

func sayRule(n *Names, r *RuleRecord) (string, []Said) {
	at := n.place(r.FolderID, r.Path)
	inherits := "inherits what is above"
	if r.Cut {
		inherits = "inherits nothing"
	}
	return at, append([]Said{{"path", at}, {"inheritance", inherits}}, n.entries(r.Entries)...)
}

func (n *Names) entries(all []acl.Entry) (said []Said) {
	for i := range all {
		said = append(said, Said{"entry " + strconv.FormatInt(all[i].ID, 10), n.entry(&all[i])})
	}
	return said
}

// entry spells what amber entry add is told.
func (n *Names) entry(e *acl.Entry) string {
	words := []string{"allow", plain.Word(n.who(e.Who)), e.Grant()}
	if e.Deny {
		words[0] = "deny"
	}
	if e.Applies != acl.Everywhere && e.Applies != 0 {
		words = append(words, "--applies", strings.Join(e.Applies.Names(), ","))
	}
	if !e.Expires.IsZero() {
		words = append(words, "--ends", Moment(e.Expires))
	}
	if e.Note != "" {
		words = append(words, "--note", plain.Word(e.Note))
	}
	return strings.Join(words, " ")
}

func sayShare(n *Names, s *Share) (string, []Said) {
	return s.Name, append([]Said{{"name", s.Name}, {"folder", named(n.folders, s.FolderID)}, {"description", s.Description},
		{"announced", yes(s.Announced)}, {"read-only", yes(s.ReadOnly)}, {"list-only-openable", yes(s.ListOnlyOpenable)}, {"encrypted", yes(s.Encrypted)},
		{"persistent", yes(s.Persistent)}, {"show-links", yes(s.ShowLinks)}, {"guests", yes(s.Guests)},
		{"hosts", HostTerms(s.Hosts)}, {"offline", string(cmp.Or(s.Offline, OfflineManual))}, {"most-connections", most(s.MostConnections)}}, n.entries(s.Entries)...)
}

func sayServerName(n *Names, s *ServerName) (string, []Said) {
	said := []Said{{"name", s.Name}, {"description", s.Description}}
	for _, l := range s.Leads {
		to := l.Elsewhere
		if l.Here != 0 {
			to = strings.TrimSpace(named(n.shares, l.Here) + " " + to)
		}
		said = append(said, Said{"lead " + l.Share, to})
	}
	return s.Name, said
}

func sayHostSet(_ *Names, h *HostSet) (string, []Said) {
	return h.Name, append([]Said{{"name", h.Name}, {"description", h.Description}}, clientRules(h.Rules)...)
}

func sayExport(n *Names, e *Export) (string, []Said) {
	return e.Path, append([]Said{{"at", e.Path}, {"folder", n.place(e.FolderID, e.Below)}, {"description", e.Description},
		{"sync", yes(e.Sync)}, {"client-groups", yes(e.ClientGroups)}}, clientRules(e.Rules)...)
}

// clientRules says the rules one by one, and their order, which decides.
func clientRules(rules []ClientRule) (said []Said) {
	var order []string
	for _, r := range rules {
		id := strconv.FormatInt(r.ID, 10)
		order = append(order, id)
		said = append(said, Said{"rule " + id, r.typed()})
	}
	if len(rules) > 1 {
		said = append(said, Said{"order of the rules", strings.Join(order, ", ")})
	}
	return said
}

// typed spells what amber export rule add is told.
func (r *ClientRule) typed() string {
	words := []string{plain.Word(r.From)}
	if strings.HasPrefix(r.From, SetMark) {
		return words[0] // nothing else counts
	}
	words = append(words, "--ro")
	if r.Write {
		words[1] = "--rw"
	}
	words = append(words, "--squash", string(r.Squash), "--anon-uid", number(r.AnonUID), "--anon-gid", number(r.AnonGID))
	for _, f := range r.Security {
		words = append(words, "--sec", string(f))
	}
	if r.PrivilegedPort {
		words = append(words, "--privileged-port")
	}
	return strings.Join(append(words, "--unknown", string(r.Unknown)), " ")
}

func sayLimit(n *Names, l *limit.Limit) (string, []Said) {
	name := string(l.Kind)
	switch l.Kind {
	case limit.OfUser:
		name += " " + named(n.users, l.User)
	case limit.OfGroup:
		name += " " + named(n.groups, l.Group)
	case limit.OfFolder:
		name += " " + n.place(l.Folder, l.Path)
	case limit.Default:
		if l.Group != 0 {
			name += " " + named(n.groups, l.Group)
		}
	}
	if l.Volume != 0 {
		name += " --volume " + named(n.volumes, l.Volume)
	} else if l.Folder != 0 && l.Kind != limit.OfFolder {
		name += " --folder " + named(n.folders, l.Folder)
	}
	bound := func(d limit.Dimension, of func(limit.Dimension) (int64, bool)) string {
		switch v, ok := of(d); {
		case !ok:
			return "none"
		case d == limit.Files:
			return strconv.FormatInt(v, 10)
		default:
			return limit.ExactSize(v)
		}
	}
	return name, []Said{{"whose", name}, {"soft", bound(limit.Bytes, l.Soft)}, {"hard", bound(limit.Bytes, l.Hard)},
		{"soft-files", bound(limit.Files, l.Soft)}, {"hard-files", bound(limit.Files, l.Hard)}, {"grace", limit.ExactGrace(l.Grace())}}
}

func sayNotices(_ *Names, s *Notices) (string, []Said) {
	marks := make([]string, 0, len(s.Percent))
	for _, p := range s.Marks().Percent {
		marks = append(marks, strconv.Itoa(p))
	}
	said := []Said{{"at", strings.Join(marks, ",")}, {"grace", OnOff(!s.NoGrace)}, {"mail-server", s.Mail.Server}, {"mail-security", s.Mail.Security},
		{"mail-from", s.Mail.From}, {"mail-user", s.Mail.User}, {"mail-password", given(s.Mail.Password)}, {"mail-trust", s.Mail.Trust}}
	for _, name := range slices.Sorted(maps.Keys(s.Templates)) {
		said = append(said, Said{"text " + name, s.Templates[name]})
	}
	return "", said
}

func sayHolding(n *Names, h *Holding) (string, []Said) {
	return h.Name, []Said{{"of", h.Name}, {"uid", number(h.UID)}, {"in", named(n.folders, h.FolderID)}, {"path", h.Path}, {"since", Moment(h.Since)}, {"until", Moment(h.Until)}}
}

func sayHook(_ *Names, h *Hook) (string, []Said) {
	return h.Name, []Said{{"name", h.Name}, {"address", h.Site}, {"is", OnOff(!h.Off)}, {"secret", given(h.Secret)}}
}

func sayServices(n *Names, s *Services) (string, []Said) {
	return "", []Said{{"smb", OnOff(s.SMB)}, {"nfs", OnOff(s.NFS)}, {"smb encrypted", yes(s.SMBEncrypted)}, {"smb guests", guestOf(n, s.SMBGuest)}}
}

// guestOf says as whom those come in who have no account.
func guestOf(n *Names, guest identity.ID) string {
	if guest == 0 {
		return "none"
	}
	return named(n.users, guest)
}

func sayAcceptance(_ *Names, a *Acceptance) (string, []Said) {
	return a.Finding, []Said{{"finding", a.Finding}, {"reason", a.Reason}, {"until", Moment(a.Until)}, {"by", a.By}}
}

func sayIDList(_ *Names, l *IDList) (string, []Said) {
	said := []Said{{"host", l.Host}}
	for _, n := range l.Numbers {
		of := "user "
		if n.Group {
			of = "group "
		}
		said = append(said, Said{of + n.Name, number(n.Number)})
	}
	return l.Host, said
}

func sayReview(_ *Names, r *Review) (string, []Said) {
	said := []Said{{"name", r.Name}, {"folders", strings.Join(r.Folders, ", ")}, {"reviewers", strings.Join(r.Reviewers, ", ")}, {"made", Moment(r.Made)},
		{"by", r.By}, {"closed", Moment(r.Closed)}, {"closed by", r.ClosedBy}, {"signature", r.Signature}}
	for _, l := range r.Lines {
		text := l.Says
		if l.Decision != Undecided {
			text += ": " + string(l.Decision) + ", says " + l.By
		}
		if l.Comment != "" {
			text += ", as " + strconv.Quote(l.Comment)
		}
		said = append(said, Said{"line " + strconv.Itoa(l.Number), text})
	}
	return r.Name, said
}
