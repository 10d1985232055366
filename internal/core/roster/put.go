package roster

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/site"
)

// Act is what becomes of a line.
type Act string

// The acts.
const (
	Made    Act = "made"
	Changed Act = "changed"
	Same    Act = "same"
	Refused Act = "refused"
	Gone    Act = "gone" // somebody whom the list does not have any more
)

// Outcome is what becomes of one line, or of somebody who is in no line.
type Outcome struct {
	Line    int // 0 for who is in none
	Name    string
	Act     Act
	Changed []site.Changed // in the words in which it is typed
	Why     string         // it was refused
}

// Rules are what names and addresses have to be; each gives what is wrong, nil for nothing.
type Rules struct {
	Name, Mail func(text string) error
}

// What becomes of people who are in no line.
type GoneRule struct {
	Disable bool
	Leave   func(id identity.ID)        // has them leave; nil for not
	Within  func(u *identity.User) bool // of whom that is asked
}

// roll is who is in the records while a list is put into them.
type roll struct {
	d       *site.Draft
	dir     *identity.Directory
	rules   Rules
	next    uint32
	taken   map[uint32]identity.ID
	limits  map[identity.ID]limit.Limit // on what users have in all; nil before one is needed
	now     time.Time
	retired map[uint32]string             // whose numbers were until lately
	direct  map[identity.ID][]identity.ID // groups in which somebody is listed, by user
	members map[identity.ID]*identity.Group
	altered map[identity.ID]bool // groups
}

// Put puts what a list says into a draft of the records of a directory, and says line by line what became of it. Refused lines alter nothing.
func Put(d *site.Draft, dir *identity.Directory, people []Person, rules Rules, gone GoneRule, now time.Time) []Outcome {
	r := &roll{now: now, d: d, dir: dir, rules: rules, next: dir.NextUID(), taken: make(map[uint32]identity.ID), retired: make(map[uint32]string), direct: make(map[identity.ID][]identity.ID),
		members: make(map[identity.ID]*identity.Group), altered: make(map[identity.ID]bool)}
	for _, u := range dir.Users() {
		r.taken[u.UID] = u.ID
	}
	for _, n := range d.Records().RetiredNumbers {
		if now.Sub(n.Since) < site.RetiredFor {
			r.retired[n.UID] = n.Name
		}
	}
	for _, g := range dir.Groups() {
		for _, m := range g.Members {
			if m.Kind == identity.KindUser {
				r.direct[m.ID] = append(r.direct[m.ID], g.ID)
			}
		}
	}
	for i := range people { // what they are given is nobody else's, whoever comes first
		if p := &people[i]; p.Wrong == "" && p.UID != nil {
			if _, ok := r.taken[*p.UID]; !ok {
				r.taken[*p.UID] = 0
			}
		}
	}
	var out []Outcome
	var leavers []identity.ID
	listed := make(map[identity.ID]bool)
	for i := range people {
		o, id := r.put(&people[i])
		out = append(out, o)
		listed[id] = true
		if u := dir.UserNamed(people[i].Name); u != nil { // who is refused is not gone
			listed[u.ID] = true
		}
	}
	if gone.Within != nil {
		for _, u := range slices.Clone(dir.Users()) {
			if listed[u.ID] || !gone.Within(&u) || u.Disabled {
				continue
			}
			o := Outcome{Name: u.Name, Act: Gone}
			switch {
			case gone.Leave != nil:
				leavers = append(leavers, u.ID)
				o.Changed = []site.Changed{{Name: "leaves", Before: "no", After: "yes"}}
			case gone.Disable:
				u.Disabled = true
				site.Put(d, u)
				o.Changed = []site.Changed{{Name: "disabled", Before: "no", After: "yes"}}
			}
			out = append(out, o)
		}
	}
	for id := range r.altered {
		site.Put(d, *r.members[id])
	}
	for _, id := range leavers { // of the groups as they are now
		gone.Leave(id)
	}
	return out
}

// put puts one line in. It gives whose it is, 0 for nobody's.
func (r *roll) put(p *Person) (Outcome, identity.ID) {
	o := Outcome{Line: p.Line, Name: plain.Text(p.Name), Act: Refused, Why: p.Wrong}
	if o.Why != "" {
		return o, 0
	}
	was, u := r.dir.UserNamed(p.Name), identity.User{SMB: true, NFS: true, Console: true, Name: p.Name}
	if was != nil {
		u = *was
	}
	groups, err := r.fill(&u, was, p)
	if err != nil {
		o.Why = err.Error()
		return o, u.ID
	}
	o.Changed = r.difference(was, &u, p.Groups != nil, groups)
	switch {
	case was == nil:
		if o.Act = Made; p.UID == nil {
			u.UID = r.free()
			o.Changed = append([]site.Changed{{Name: "uid", After: strconv.FormatUint(uint64(u.UID), 10)}}, o.Changed...)
		}
		u.ID = identity.ID(site.Put(r.d, u))
		r.taken[u.UID] = u.ID
	case len(o.Changed) == 0:
		o.Act = Same
		return o, u.ID
	default:
		o.Act = Changed
		site.Put(r.d, u)
		r.taken[u.UID] = u.ID
	}
	r.bind(was, &u)
	if p.Groups != nil {
		r.join(u.ID, groups)
	}
	return o, u.ID
}

// free is the next number that nobody has, and nobody in the list is given.
func (r *roll) free() uint32 {
	for {
		n := r.next
		r.next++
		if _, ok := r.taken[n]; !ok && r.retired[n] == "" {
			return n
		}
	}
}

// fill gives a record what a line says, and gives the groups that it names.
func (r *roll) fill(u, was *identity.User, p *Person) (groups []identity.ID, err error) {
	if was == nil {
		if err := r.rules.Name(p.Name); err != nil {
			return nil, err
		}
	}
	for what, text := range map[string]*string{"full name": p.FullName, "mail": p.Mail} {
		if text != nil && plain.Check(*text) != nil {
			return nil, fmt.Errorf("%s: %w", what, plain.Check(*text))
		}
	}
	if p.FullName != nil {
		if u.FullName = *p.FullName; len(u.FullName) > 200 {
			return nil, fmt.Errorf("the full name is longer than 200 bytes")
		}
	}
	if p.Mail != nil {
		if u.Mail = *p.Mail; u.Mail != "" {
			if err := r.rules.Mail(u.Mail); err != nil {
				return nil, err
			}
		}
	}
	if p.UID != nil {
		if err := r.mayHave(u, *p.UID); err != nil {
			return nil, err
		}
		u.UID = *p.UID
	}
	if p.Starts != nil {
		if u.Starts = *p.Starts; !u.Starts.IsZero() {
			u.Starts = u.Starts.UTC().Truncate(time.Second)
		}
	}
	if p.Profile != nil {
		if err := r.profile(u, p); err != nil {
			return nil, err
		}
	}
	if p.Ends != nil {
		if u.Expires = *p.Ends; !u.Expires.IsZero() {
			u.Expires = u.Expires.UTC().Truncate(time.Second)
		}
	}
	if !u.Expires.IsZero() && !u.Starts.Before(u.Expires) {
		return nil, errors.New("the account would end before it begins")
	}
	if len(p.Labels) > 0 {
		if u.Labels, err = u.Labels.With(p.Labels); err != nil {
			return nil, err
		}
	}
	if err := r.primary(u, p); err != nil || p.Groups == nil {
		return nil, err
	}
	for _, name := range *p.Groups {
		g := r.dir.GroupNamed(name)
		if g == nil {
			return nil, fmt.Errorf("there is no group %q", name)
		}
		if !slices.Contains(groups, g.ID) {
			groups = append(groups, g.ID)
		}
	}
	slices.Sort(groups)
	return groups, nil
}

// profile gives a record what the profile says that a line names, and has the line name the groups of it besides those that it names itself, or that
// somebody is in.
func (r *roll) profile(u *identity.User, p *Person) error {
	if *p.Profile == "" {
		u.Profile = 0
		return nil
	}
	is := site.ProfileNamed(r.d.Records().Profiles, *p.Profile)
	if is == nil {
		return fmt.Errorf("there is no profile %q", *p.Profile)
	}
	fresh := u.Profile != is.ID
	if fresh {
		is.Shape(u, r.now)
	}
	var names []string
	switch {
	case p.Groups != nil:
		names = *p.Groups
	case !fresh:
		return nil
	default:
		for _, id := range r.direct[u.ID] {
			names = append(names, r.dir.Name(identity.GroupPrincipal(id)))
		}
	}
	for _, id := range is.Groups {
		name := r.dir.Name(identity.GroupPrincipal(id))
		if p.Primary != nil && identity.Fold(*p.Primary) == identity.Fold(name) || p.Primary == nil && u.Primary == id {
			continue // they are in it as it is
		}
		names = append(names, name)
	}
	p.Groups = &names
	return nil
}

// bind gives somebody the limit of the profile that they have just been given.
func (r *roll) bind(was *identity.User, u *identity.User) {
	if was != nil && was.Profile == u.Profile {
		return
	}
	p := site.ProfileOf(r.d.Records().Profiles, u)
	if p == nil {
		return
	}
	if r.limits == nil {
		r.limits = site.LimitsInAll(r.d.Records())
	}
	p.Bind(r.d, u.ID, r.limits)
}

// mayHave says why somebody cannot have a number.
func (r *roll) mayHave(u *identity.User, uid uint32) error {
	switch holder, ok := r.taken[uid]; {
	case uid == 0 || uid >= lastPerson+1 && uid <= 65535 || uid == 1<<32-1:
		return fmt.Errorf("uid %d is kept for the system: it is nobody's", uid)
	case ok && holder != 0 && holder != u.ID:
		return fmt.Errorf("uid %d is %s's: two users with one number are one user to every NFS client", uid, r.dir.Name(identity.UserPrincipal(holder)))
	case holder == 0 && r.retired[uid] != "" && u.UID != uid:
		return fmt.Errorf("uid %d was %s's until lately: what is theirs on disks and clients would be the other's", uid, r.retired[uid])
	}
	return nil
}

func (r *roll) primary(u *identity.User, p *Person) error {
	switch {
	case p.Primary != nil && *p.Primary == "":
		u.Primary = 0
	case p.Primary != nil:
		g := r.dir.GroupNamed(*p.Primary)
		if g == nil {
			return fmt.Errorf("there is no group %q", *p.Primary)
		}
		u.Primary = g.ID
	case p.PrimaryGID != nil && *p.PrimaryGID == site.Anonymous: // as it is written for who has none
		u.Primary = 0
	case p.PrimaryGID != nil:
		i := r.dir.GroupIndexByGID(*p.PrimaryGID)
		if i == identity.None {
			return fmt.Errorf("no group has gid %d", *p.PrimaryGID)
		}
		u.Primary = r.dir.Groups()[i].ID
	}
	return nil
}

// join has somebody be listed in some groups and no others.
func (r *roll) join(who identity.ID, groups []identity.ID) {
	p := identity.UserPrincipal(who)
	for _, id := range r.direct[who] {
		if !slices.Contains(groups, id) {
			g := r.group(id)
			g.Members = slices.DeleteFunc(g.Members, func(m identity.Principal) bool { return m == p })
		}
	}
	for _, id := range groups {
		if !slices.Contains(r.direct[who], id) {
			g := r.group(id)
			g.Members = append(g.Members, p)
		}
	}
	r.direct[who] = groups
}

// group is a group that is about to be altered: a copy.
func (r *roll) group(id identity.ID) *identity.Group {
	r.altered[id] = true
	if g := r.members[id]; g != nil {
		return g
	}
	g, _ := site.Get[identity.Group](r.d, int64(id))
	g.Members = slices.Clone(g.Members)
	r.members[id] = &g
	return &g
}

// difference is what a line alters, in words.
func (r *roll) difference(was, is *identity.User, named bool, groups []identity.ID) (out []site.Changed) {
	before, group := identity.User{}, func(id identity.ID) string {
		if id == 0 {
			return ""
		}
		return r.dir.Name(identity.GroupPrincipal(id))
	}
	if was != nil {
		before = *was
	}
	add := func(name, from, to string) {
		if from != to {
			out = append(out, site.Changed{Name: name, Before: from, After: to})
		}
	}
	add("full name", before.FullName, is.FullName)
	if is.UID != 0 {
		add("uid", number(before.UID), number(is.UID))
	}
	add("group", group(before.Primary), group(is.Primary))
	if named {
		names := func(ids []identity.ID) string {
			var out []string
			for _, id := range ids {
				out = append(out, group(id))
			}
			slices.SortFunc(out, func(a, b string) int { return cmp.Compare(identity.Fold(a), identity.Fold(b)) })
			return strings.Join(out, " ")
		}
		add("groups", names(r.direct[before.ID]), names(groups))
	}
	add("mail", before.Mail, is.Mail)
	add("starts", site.Moment(before.Starts), site.Moment(is.Starts))
	profiles := r.d.Records().Profiles
	add("profile", site.ProfileName(profiles, &before), site.ProfileName(profiles, is))
	add("role", string(before.Role), string(is.Role))
	if was != nil {
		add("smb", site.OnOff(before.SMB), site.OnOff(is.SMB))
		add("nfs", site.OnOff(before.NFS), site.OnOff(is.NFS))
		add("console", site.OnOff(before.Console), site.OnOff(is.Console))
	}
	add("ends", site.Moment(before.Expires), site.Moment(is.Expires))
	had, has := before.Labels.Map(), is.Labels.Map()
	all := maps.Clone(had)
	if all == nil {
		all = make(map[string]string)
	}
	maps.Copy(all, has)
	for _, key := range slices.Sorted(maps.Keys(all)) {
		add("label "+key, had[key], has[key])
	}
	return out
}

func number(n uint32) string {
	if n == 0 {
		return ""
	}
	return strconv.FormatUint(uint64(n), 10)
}
