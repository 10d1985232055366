package acl

import (
	"fmt"
	"slices"
	"strings"
)

// Had is what somebody may do to an object over one protocol.
//
// Rights are the rights that each are granted alone. Levels are those whose rights are granted together. The two can
// differ: where modes decide, read and write may come from two entries of a POSIX ACL; and of two shares each may leave half a level.
type Had struct {
	Rights Mask
	Levels LevelSet
}

// HadOf is what a mask amounts to that is granted as a whole.
func HadOf(m Mask, of Kind) Had { return Had{m, LevelSetOf(m, of)} }

// Or is what either gives.
func (h Had) Or(other Had) Had { return Had{h.Rights | other.Rights, h.Levels | other.Levels} }

// Visible are the rights to see that an object is there and what its attributes are. Over NFS whoever may mount has them.
const Visible = ReadAttributes | Synchronize

// Any says whether there is a level, or anything may be done beyond seeing the object's attributes.
func (h Had) Any() bool { return h.Levels != 0 || h.Rights&^Visible != 0 }

// maxMissing is how many rights may be missing for a level to be named with "but may not".
const maxMissing = 3

// Text spells what somebody may do: "read", "read, and may write_acl", "change, but may not delete", "only list_directory"
// or "nothing". The rights have the names of RFC 8881. Synchronize goes unsaid, and so does read_attributes beside rights of more weight.
func (h Had) Text(of Kind) string { return h.TextBeside(0, of) }

// TextBeside is Text with some rights left unsaid where no level needs them: what everybody has anyway.
func (h Had) TextBeside(unsaid Mask, of Kind) string {
	dir := !of.File()
	widest := h.Levels.Widest()
	var covered Mask
	for _, l := range widest {
		covered |= l.Mask(dir)
	}
	beyond := h.Rights &^ covered &^ Synchronize &^ unsaid
	if beyond&^Visible != 0 {
		beyond &^= ReadAttributes
	}
	if beyond == 0 { // of no rights, or of none that are said, that is nothing
		return h.Levels.String()
	}
	// A wider level that lacks a right or two says more than a narrower one with five more.
	for _, l := range []Level{Read, Add, Change, Control} {
		missing, more := l.Wants(of)&^h.Rights, h.Rights&^l.Mask(dir)
		if slices.Contains(widest, l) || missing == 0 || more != 0 || missing.Count() > maxMissing || missing.Count() >= beyond.Count() {
			continue
		}
		if l == Add && of.File() {
			continue
		}
		return fmt.Sprintf("%s, but may not %s", l, strings.Join(missing.Names(dir), ", "))
	}
	names := strings.Join(beyond.Names(dir), ", ")
	if len(widest) == 0 {
		return "only " + names
	}
	return h.Levels.String() + ", and may " + names
}

// Exact says whether levels alone say all that is had, so that no right has to be named.
func (h Had) Exact(of Kind) bool { return h.Text(of) == h.Levels.String() }

// Bits lists the access rights one by one, in the order of RFC 8881.
func Bits() []Mask {
	out := make([]Mask, 0, len(maskNames))
	for _, n := range maskNames {
		out = append(out, n.bit)
	}
	return out
}
