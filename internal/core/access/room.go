package access

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/limit"
)

// The limit gate is asked by what would grow, when it would, and knows by how much (internal/usage); a request knows only what
// somebody may do. So the walk that decides leaves it out, and the one that explains says what could still grow now: without room,
// nothing is made in a directory and no file gets longer. What is there may be written over all the same.

// roomLeaves is what the limits on what is asked about leave.
func roomLeaves(r *Request) acl.Mask {
	leaves := acl.All
	for i := range r.Room {
		_, bytes := r.Room[i].Refuses(limit.Amount{Bytes: 1}, r.Now)
		_, files := r.Room[i].Refuses(limit.Amount{Files: 1}, r.Now)
		switch {
		case r.File && bytes:
			leaves &^= acl.AppendData
		case !r.File && (files || bytes):
			leaves &^= acl.AddFile | acl.AddSubdirectory
		}
	}
	return leaves
}

// limits asks the limit gate, where somebody records.
func (c *recorder) limits(pass func(Gate, acl.Mask)) {
	if c == nil || c.request.Room == nil {
		return
	}
	leaves := roomLeaves(c.request)
	pass(Limit, leaves)
	c.room(leaves)
}

// room reports the limit gate: by the limit that leaves least.
func (c *recorder) room(leaves acl.Mask) {
	r := c.request
	if len(r.Room) == 0 {
		c.add(Limit, leaves, "", "no limit bears on it")
		return
	}
	tightest := slices.MaxFunc(r.Room, func(a, b limit.Standing) int {
		return CompareStandings(&a, &b, r.Now)
	})
	var fixes []Fix
	if c.short(leaves) {
		for i := range r.Room {
			s := &r.Room[i]
			_, bytes := s.Refuses(limit.Amount{Bytes: 1}, r.Now)
			_, files := s.Refuses(limit.Amount{Files: 1}, r.Now)
			if bytes || files && !r.File {
				fixes = append(fixes, RaiseLimit(c.policy, s, r.Now))
			}
		}
	}
	c.add(Limit, leaves, "limit of "+LimitSubject(c.policy, tightest.Limit), standingSays(&tightest, r), fixes...)
}

// CompareStandings puts those that refuse after those that do not, and the fuller after the less full.
func CompareStandings(a, b *limit.Standing, now time.Time) int {
	full := func(s *limit.Standing) int {
		if _, refuses := s.Refuses(limit.Amount{Bytes: 1, Files: 1}, now); refuses {
			return 1
		}
		return 0
	}
	sa, _ := a.Share()
	sb, _ := b.Share()
	return cmp.Or(cmp.Compare(full(a), full(b)), cmp.Compare(sa, sb))
}

func standingSays(s *limit.Standing, r *Request) string {
	var parts []string
	for d := range limit.Dimensions {
		soft, hasSoft := s.Limit.Soft(d)
		hard, hasHard := s.Limit.Hard(d)
		if !hasSoft && !hasHard {
			continue
		}
		spell := func(n int64) string {
			if d == limit.Bytes {
				return limit.FormatSize(n)
			}
			return fmt.Sprint(n)
		}
		text := spell(s.Use.Of(d))
		if d == limit.Files {
			text += " files"
		}
		text += " in use"
		if hasSoft {
			text += ", soft " + spell(soft)
		}
		if hasHard {
			text += ", hard " + spell(hard)
		}
		if ends, ok := s.Ends(d); ok {
			if left := ends.Sub(r.Now); left > 0 {
				text += ", " + limit.FormatGrace(left) + " of grace left"
			} else {
				text += ", grace over since " + ends.UTC().Format("2006-01-02 15:04 MST")
			}
		}
		parts = append(parts, text)
	}
	if s.Counting {
		parts = append(parts, "what is there is still being counted, and the limit does not bind yet")
	}
	return strings.Join(parts, "; ")
}
