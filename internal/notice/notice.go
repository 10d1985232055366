// Package notice brings to people and programs what they are to be told: it fills in templates, sends mail and calls
// webhooks. It keeps nothing and decides nothing.
package notice

import (
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/limit"
)

// Notice is one thing that was told, as webhooks have it and the API lists it.
type Notice struct {
	ID        int64      `json:"id" doc:"Later ones have higher numbers."`
	At        time.Time  `json:"at"`
	Kind      string     `json:"kind" enum:"reached,grace begun,grace ending"`
	By        string     `json:"by" enum:"user,group,folder,tree" doc:"What the use is of."`
	Name      string     `json:"name" doc:"Who or what that is."`
	Limit     string     `json:"limit" doc:"Whose the limit is and where it reaches, in words."`
	Percent   int        `json:"percent,omitempty" doc:"The mark that was reached, of the hard limit, or of the soft one where there is none."`
	Dimension string     `json:"dimension" enum:"bytes,files"`
	UsedBytes int64      `json:"usedBytes"`
	UsedFiles int64      `json:"usedFiles"`
	SoftBytes *int64     `json:"softBytes,omitempty"`
	HardBytes *int64     `json:"hardBytes,omitempty"`
	SoftFiles *int64     `json:"softFiles,omitempty"`
	HardFiles *int64     `json:"hardFiles,omitempty"`
	GraceEnds *time.Time `json:"graceEnds,omitempty" doc:"From when on nothing can grow."`
	Says      string     `json:"says" doc:"All of it in a sentence."`
}

// Words spells what a notice tells, as one sentence or two. Who is of what the use is, subject whose the limit is.
func Words(n limit.Notice, s *limit.Standing, who, subject string, now time.Time) string {
	d := n.Dimension
	use := d.Spell(s.Use.Of(d))
	hard, isHard := s.Limit.Hard(d)
	soft, isSoft := s.Limit.Soft(d)
	out := who + ": " + use + " in use"
	switch n.Kind {
	case limit.Reached:
		bound, name := hard, "hard"
		if !isHard {
			bound, name = soft, "soft"
		}
		switch {
		case n.Percent == 100 && isHard:
			out += ", which is all of the hard limit of " + d.Spell(bound) + "; nothing can grow"
		case n.Percent == 100:
			out += ", which is all of the soft limit of " + d.Spell(bound)
		default:
			out += ", " + percent(n.Percent) + " or more of the " + name + " limit of " + d.Spell(bound)
		}
	case limit.GraceBegun:
		out += ", more than the soft limit of " + d.Spell(soft)
	case limit.GraceEnds:
		out += ", still more than the soft limit of " + d.Spell(soft)
	}
	if ends, running := s.Ends(d); isSoft && running && now.Before(ends) && !(n.Kind == limit.Reached && n.Percent == 100 && isHard) {
		out += "; nothing can grow from " + Moment(ends) + " on, unless there is less by then"
	}
	if subject == "user "+who || subject == who {
		return out + "."
	}
	if strings.HasPrefix(subject, "default") {
		return out + ". The limit is the " + subject + "."
	}
	return out + ". The limit is that of " + subject + "."
}

// Moment spells a moment for people.
func Moment(t time.Time) string { return t.UTC().Format("2 January 2006, 15:04 UTC") }
