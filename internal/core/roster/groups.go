package roster

import (
	"fmt"
	"slices"
	"strings"

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

// ReadGroups reads lines of group(5); those of the system's own groups are passed over.
func ReadGroups(raw []byte) (out []Group, err error) {
	text, err := decoded(raw)
	if err != nil {
		return nil, err
	}
	names, numbers := make(map[string]int), make(map[uint32]int)
	for n, cells := range lines(text) {
		if len(out) >= MostLines {
			return nil, errTooMany
		}
		g := Group{Line: n, Name: cells[0]}
		if len(cells) != 4 {
			g.Wrong = fmt.Sprintf("it has %d fields, and a line of group has 4", len(cells))
			out = append(out, g)
			continue
		}
		var p Person
		if g.GID = p.number("gid", cells[2]); p.Wrong != "" {
			g.Wrong = p.Wrong
		}
		if g.GID != nil && (*g.GID < firstPerson || *g.GID > lastPerson) {
			continue
		}
		for name := range strings.SplitSeq(cells[3], ",") {
			if name = strings.TrimSpace(name); name != "" {
				g.Members = append(g.Members, name)
			}
		}
		if at, ok := names[identity.Fold(g.Name)]; ok && g.Wrong == "" {
			g.Wrong = fmt.Sprintf("line %d is of %s as well", at, g.Name)
		}
		if g.GID != nil && g.Wrong == "" {
			if at, ok := numbers[*g.GID]; ok {
				g.Wrong = fmt.Sprintf("gid %d is that of line %d", *g.GID, at)
			}
			numbers[*g.GID] = n
		}
		names[identity.Fold(g.Name)] = n
		out = append(out, g)
	}
	if len(out) == 0 {
		return nil, ErrEmpty
	}
	return out, nil
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
		if who := identity.UserPrincipal(u.ID); !slices.Contains(g.Members, who) {
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
