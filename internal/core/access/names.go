package access

import (
	"fmt"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/site"
)

// A file may have several names, and different rules may hold for each. Where entries decide, no name
// grants what another withholds: by whichever it is opened, and whoever looked it up last by
// which, the answer is the same. To take a name away is about that name alone. Where modes
// decide, the mode is the file's own and any name by which one gets to it will do, as POSIX has it.

// ofName is what a verdict on a file says about one of its names and not about the file.
const ofName = acl.Delete

// byNames is the verdict on a file of several names, and which of the others it is by; -1 for its
// own path.
func byNames(p *site.Policy, r *Request, v Verdict) (Verdict, int) {
	by := -1
	unix := r.Folder.Unix()
	for i, name := range r.Others {
		if unix && v.Gate != Path && v.Granted != 0 {
			break // it is reached
		}
		q := *r
		q.Path, q.Others, q.Want = name, nil, r.Want&^ofName
		other := walk(p, &q, nil)
		if unix {
			if other.Granted&^ofName != 0 && other.Gate != Path {
				was := v.Granted & ofName
				v, by = other, i
				if v.Granted = v.Granted&^ofName | was; v.Gate == Open && r.Want&^v.Granted != 0 {
					v.Gate = Path
				}
			}
			continue
		}
		v.Granted &= other.Granted | ofName
		v.holds(other.ValidUntil)
		if v.Gate == Open && other.Gate != Open {
			v.Gate, by = other.Gate, i
		}
	}
	return v, by
}

// explainNames puts in the place of what the path and entry gates said of a path what they say of
// the other name that decides.
func (c *recorder) explainNames(p *site.Policy, v Verdict) Verdict {
	total, by := byNames(p, c.request, v)
	if by < 0 {
		for i := range c.reports { // what other names withhold that was not asked for
			if g := &c.reports[i]; g.Gate == Entry && v.Granted&^total.Granted != 0 {
				g.Leaves &^= v.Granted &^ total.Granted
				g.Reason += fmt.Sprintf("; by its other names it may be used for less (%s)", c.request.Folder.Display(c.request.Others[0]))
			}
		}
		return total
	}
	q := *c.request
	q.Path, q.Others, q.Want = c.request.Others[by], nil, c.request.Want&^ofName
	other := &recorder{policy: p, request: &q}
	walk(p, &q, other)
	other.mend()
	for i := range c.reports {
		g, theirs := &c.reports[i], other.gate(c.reports[i].Gate)
		if g.Gate != Path && g.Gate != Entry || theirs == nil {
			continue
		}
		leaves := g.Leaves & (theirs.Leaves | ofName)
		if q.Folder.Unix() {
			leaves = theirs.Leaves&^ofName | g.Leaves&ofName
		}
		if leaves != g.Leaves {
			*g = *theirs
			g.Leaves = leaves
			g.Reason = fmt.Sprintf("the same file is named %s, and there %s", q.Folder.Display(q.Path), theirs.Reason)
		}
	}
	for i := range c.reports { // nothing is left that any name withholds
		if g := &c.reports[i]; g.Gate == Entry {
			g.Leaves &= total.Granted | ^v.Granted
		}
	}
	return total
}
