package roster

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/site"
)

// Group is what a line of group(5) says.
type Group struct {
	Line    int
	Name    string
	GID     *uint32
	Members []string
	Wrong   string // why nothing can be made of the line; "" where something can
}

// groupList collects groups, and says of each that says the same as one before that it does.
type groupList struct {
	all     []Group
	names   map[string]int
	numbers map[uint32]int
}

func (l *groupList) add(g Group) error {
	if len(l.all) >= MostLines {
		return errTooMany
	}
	if l.names == nil {
		l.names, l.numbers = make(map[string]int), make(map[uint32]int)
	}
	if at, ok := l.names[identity.Fold(g.Name)]; ok && g.Wrong == "" {
		g.Wrong = fmt.Sprintf("line %d is of %s as well", at, g.Name)
	}
	if g.GID != nil && g.Wrong == "" {
		if at, ok := l.numbers[*g.GID]; ok {
			g.Wrong = fmt.Sprintf("gid %d is that of line %d", *g.GID, at)
		}
		l.numbers[*g.GID] = g.Line
	}
	l.names[identity.Fold(g.Name)] = g.Line
	l.all = append(l.all, g)
	return nil
}

// ofSystem says whether a gid is, by common custom, that of a group of the system itself.
func ofSystem(gid *uint32) bool { return gid != nil && (*gid < firstPerson || *gid > lastPerson) }

// ReadLDIFGroups reads the entries of class posixGroup (RFC 2307), or that have a cn, a gidNumber and no uid; none where a file has none.
func ReadLDIFGroups(raw []byte) ([]Group, error) {
	text, err := decoded(raw)
	if err != nil {
		return nil, err
	}
	var list groupList
	for _, entry := range ldifEntries(text) {
		values, wrong := entry.values()
		class := slices.ContainsFunc(values["objectclass"], func(c string) bool { return strings.EqualFold(c, "posixGroup") })
		if len(values["uid"]) > 0 || len(values["cn"]) == 0 || !class && len(values["gidnumber"]) == 0 {
			continue // a person, or something else
		}
		g := Group{Line: entry.line, Name: values["cn"][0], Members: values["memberuid"], Wrong: wrong}
		if v := values["gidnumber"]; len(v) > 0 {
			var p Person
			if g.GID = p.number("gidNumber", v[0]); g.Wrong == "" {
				g.Wrong = p.Wrong
			}
		}
		if ofSystem(g.GID) {
			continue
		}
		if err := list.add(g); err != nil {
			return nil, err
		}
	}
	return list.all, nil
}

// ReadGroups reads lines of group(5); those of the system's own groups are passed over.
func ReadGroups(raw []byte) (out []Group, err error) {
	text, err := decoded(raw)
	if err != nil {
		return nil, err
	}
	var list groupList
	for n, cells := range lines(text) {
		g := Group{Line: n, Name: cells[0]}
		if len(cells) != 4 {
			g.Wrong = fmt.Sprintf("it has %d fields, and a line of group has 4", len(cells))
			if err := list.add(g); err != nil {
				return nil, err
			}
			continue
		}
		var p Person
		if g.GID = p.number("gid", cells[2]); p.Wrong != "" {
			g.Wrong = p.Wrong
		}
		if ofSystem(g.GID) {
			continue
		}
		for name := range strings.SplitSeq(cells[3], ",") {
			if name = strings.TrimSpace(name); name != "" {
				g.Members = append(g.Members, name)
			}
		}
		if err := list.add(g); err != nil {
			return nil, err
		}
	}
	if len(list.all) == 0 {
		return nil, ErrEmpty
	}
	return list.all, nil
}

// PutGroups puts groups into a draft of the records of a directory: those that are not there are made, members that the records know are put in, and nobody
// is taken out, as such a file does not list those whose primary group one is. It says line by line what became of it.
func PutGroups(d *site.Draft, dir *identity.Directory, groups []Group, rules Rules) (out []Outcome) {
	numbers := make(map[uint32]identity.ID)
	for _, g := range dir.Groups() {
		numbers[g.GID] = g.ID
	}
	for i := range groups {
		out = append(out, putGroup(d, dir, &groups[i], rules, numbers))
	}
	return out
}

func putGroup(d *site.Draft, dir *identity.Directory, in *Group, rules Rules, numbers map[uint32]identity.ID) Outcome {
	o := Outcome{Line: in.Line, Name: plain.Text(in.Name), Act: Refused, Why: in.Wrong}
	if o.Why != "" {
		return o
	}
	g, was := identity.Group{Name: in.Name}, dir.GroupNamed(in.Name)
	if was != nil {
		g = *was
		g.Members = slices.Clone(g.Members)
	} else if err := rules.Name(in.Name); err != nil {
		o.Why = err.Error()
		return o
	}
	if in.GID != nil {
		if holder, ok := numbers[*in.GID]; ok && (was == nil || holder != was.ID) {
			o.Why = fmt.Sprintf("gid %d is that of %s", *in.GID, dir.Name(identity.GroupPrincipal(holder)))
			return o
		}
		if g.GID != *in.GID {
			o.Changed = append(o.Changed, site.Changed{Name: "gid", Before: number(g.GID), After: number(*in.GID)})
		}
		g.GID = *in.GID
	}
	var came []string
	for _, name := range in.Members {
		u := dir.UserNamed(name)
		if u == nil {
			o.Why, o.Changed = fmt.Sprintf("there is no user %q: put the people in first", plain.Text(name)), nil
			return o
		}
		if who := identity.UserPrincipal(u.ID); !slices.Contains(g.Members, who) && !(was != nil && dir.Member(dir.UserIndex(u.ID), dir.GroupIndex(was.ID))) { // through another is in it as well
			g.Members = append(g.Members, who)
			came = append(came, u.Name)
		}
	}
	if len(came) > 0 {
		o.Changed = append(o.Changed, site.Changed{Name: "members", After: strings.Join(came, " ")})
	}
	switch {
	case was == nil:
		o.Act = Made
	case len(o.Changed) == 0:
		o.Act = Same
		return o
	default:
		o.Act = Changed
	}
	id := site.Put(d, g)
	numbers[g.GID] = identity.ID(id)
	return o
}

// PutLDIF puts people and groups of one file into a draft: groups that are not there first, so that people can have them for their primary one, and who is in
// them last, since that may be somebody of the same file. It says what became of each by its line.
func PutLDIF(d *site.Draft, dir *identity.Directory, people []Person, groups []Group, rules Rules, gone GoneRule, now time.Time) ([]Outcome, error) {
	empty := slices.Clone(groups)
	for i := range empty {
		empty[i].Members = nil
	}
	made := PutGroups(d, dir, empty, rules)
	again := func() (err error) {
		r := d.Records()
		dir, err = identity.Compile(r.Users, r.Groups)
		return err
	}
	if err := again(); err != nil {
		return nil, err
	}
	var out []Outcome
	if len(people) > 0 {
		out = Put(d, dir, people, rules, gone, now)
	}
	if err := again(); err != nil {
		return nil, err
	}
	for i, o := range PutGroups(d, dir, groups, rules) {
		if before := made[i]; before.Act != Refused && o.Act != Refused {
			o.Changed = append(before.Changed, o.Changed...)
			if before.Act == Made || o.Act == Same {
				o.Act = before.Act
			}
		}
		out = append(out, o)
	}
	slices.SortStableFunc(out, func(a, b Outcome) int { return cmp.Compare(a.Line, b.Line) })
	return out, nil
}

// WriteGroups writes groups down as lines of group(5), with all who are in each, directly or through others.
func WriteGroups(d *identity.Directory) []byte {
	var b strings.Builder
	for i := range d.Groups() {
		g := &d.Groups()[i]
		var names []string
		for u := range d.Members(d.GroupIndex(g.ID)).Each() {
			names = append(names, d.Users()[u].Name)
		}
		fmt.Fprintf(&b, "%s:x:%d:%s\n", g.Name, g.GID, strings.Join(names, ","))
	}
	return []byte(b.String())
}
