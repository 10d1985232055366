package site

import (
	"fmt"
	"slices"
	"strings"
)

// Whence says what becomes another, between two policies, about from where and how clients come in: what the levels that people have do not tell. A sentence
// each; nil where nothing does. What is published, or no longer, is not in it.
func Whence(before, after *Policy) (out []string) {
	was := make(map[int64]*PublishedShare, len(before.Shares))
	for _, s := range before.Shares {
		was[s.ID] = s
	}
	for _, s := range after.Shares {
		old := was[s.ID]
		if old == nil {
			old = &PublishedShare{}
			if len(s.Hosts) == 0 && s.MostConnections == 0 {
				continue
			}
		}
		say := func(format string, args ...any) {
			out = append(out, "share "+s.Name+" "+fmt.Sprintf(format, args...))
		}
		if usedFrom(s) != usedFrom(old) {
			say("is used %s; it was used %s", usedFrom(s), usedFrom(old))
		}
		if takes(s) != takes(old) {
			say("takes %s at once; it took %s", takes(s), takes(old))
		}
		switch is := after.Sealed(s); {
		case is && old.ID != 0 && !before.Sealed(old):
			say("refuses clients that do not encrypt, as before SMB 3.0 none can")
		case !is && old.ID != 0 && before.Sealed(old):
			say("lets in clients that do not encrypt")
		}
	}
	for _, e := range after.Exports {
		old := before.Export(e.ID)
		if old == nil {
			continue
		}
		say := func(from []string, what string) {
			if len(from) > 0 {
				out = append(out, fmt.Sprintf("export %s %s %s", e.Path, what, strings.Join(from, ", ")))
			}
		}
		is, was := termsOf(e.InForce), termsOf(old.InForce)
		say(less(is, was, false), "lets in from")
		say(less(was, is, false), "lets nobody in any more from")
		say(less(is, was, true), "has other terms from")
	}
	return out
}

// usedFrom spells from where a share is used, with what stands in its host sets.
func usedFrom(s *PublishedShare) string {
	if len(s.Hosts) == 0 {
		return "from everywhere"
	}
	if len(s.InForce) == 0 {
		return "from nowhere"
	}
	var from []string
	for _, l := range s.InForce {
		if !l.Write {
			l.From += " (to read)"
		}
		from = append(from, l.From)
	}
	return "from " + strings.Join(from, ", ") + " only"
}

// takes spells how many connections a share takes.
func takes(s *PublishedShare) string {
	switch s.MostConnections {
	case 0:
		return "as many connections as come"
	case 1:
		return "1 connection"
	}
	return fmt.Sprintf("%d connections", s.MostConnections)
}

// termsOf gives, by from where, what the first rule about it says.
func termsOf(rules []ExportRule) map[string]string {
	out := make(map[string]string, len(rules))
	for i := range rules {
		if l := &rules[i]; out[l.From] == "" && l.ShadowedBy == 0 {
			out[l.From] = l.ClientRule.typed()
		}
	}
	return out
}

// less gives, in order, from where there are terms in one and not in the other, or others in both.
func less(one, other map[string]string, both bool) (out []string) {
	for from, terms := range one {
		if there := other[from]; both && there != "" && there != terms || !both && there == "" {
			out = append(out, from)
		}
	}
	slices.Sort(out)
	return out
}
