package access

import (
	"fmt"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/site"
)

// A file may have several names, and different rules may hold for each. Where entries decide, no name
// grants what another withholds: by whichever it is opened, and whoever looked it up last by
// which, the answer is the same. To take a name away is about that name alone. Where modes
// decide, the mode is the file's own, and each name is as good as the way to it, as POSIX has it.

// ofName is what a verdict on a file says about one of its names and not about the file.
const ofName = acl.Delete

// byNames is the verdict on a file of several names, and which of the others withholds something
// wanted; -1 for none.
func byNames(p *site.Policy, r *Request, v Verdict) (Verdict, int) {
	by := -1
	if r.Folder.Unix() {
		return v, by
	}
	if r.Unjudged {
		if v.Granted &= ofName; v.Gate == Passed && r.Want&^v.Granted != 0 {
			v.Gate = Entry
		}
		return v, by
	}
	for i, name := range r.Others {
		q := *r
		q.Path, q.Others, q.Want = name, nil, r.Want&^ofName
		other := walk(p, &q, nil)
		v.Granted &= other.Granted | ofName
		v.holds(other.ValidUntil)
		if v.Gate == Passed && other.Gate != Passed {
			v.Gate, by = other.Gate, i
		}
	}
	return v, by
}

// explainNames puts in the place of what the path and entry gates said of a path what they say of
// the other name that decides.
func (c *recorder) explainNames(p *site.Policy, v Verdict) Verdict {
	total, by := byNames(p, c.request, v)
	if by >= 0 {
		q := *c.request
		q.Path, q.Others, q.Want = c.request.Others[by], nil, c.request.Want&^ofName
		other := &recorder{policy: p, request: &q}
		walk(p, &q, other)
		other.fix()
		for i := range c.reports {
			g, theirs := &c.reports[i], other.gate(c.reports[i].Gate)
			if leaves := g.Leaves & (theirs.Leaves | ofName); (g.Gate == Path || g.Gate == Entry) && leaves != g.Leaves {
				*g = *theirs
				g.Leaves = leaves
				g.Reason = fmt.Sprintf("the same file is named %s, and there %s", q.Folder.Display(q.Path), theirs.Reason)
			}
		}
	}
	if gone := v.Granted &^ total.Granted; gone != 0 { // what names withhold that was not asked for
		g := c.gate(Entry)
		g.Leaves &^= gone
		if c.request.Unjudged {
			g.Reason = "it has more names than are looked at, so nobody is let at it; fewer have to be made of them"
			g.Fixes = nil
		} else if by < 0 {
			g.Reason += fmt.Sprintf("; as %s the same file may be used for less", c.request.Folder.Display(c.request.Others[0]))
		}
	}
	return total
}
