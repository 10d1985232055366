package smb

import (
	"math/bits"
	"strings"

	"amber.example/gatekeeper/internal/files"
)

// longestMask is how many characters a mask may have. Names have at most 255, and what matches nothing of them needs no more.
const longestMask = 512

// mask is a wildcard expression of MS-FSA section 2.1.4.4, whatever the case: * and ?, and the DOS forms < (up to the
// last dot), > (one character, or none at the end) and " (a dot, or none at the end).
//
// It is matched with one bit for each place in it where a match may have come to, all at once: the time is that of the
// name's length, times a word for each 64 places, whatever is written in the mask.
type mask struct {
	all                         bool // it is *
	plain                       bool // it is a name: there is nothing of the above in it
	text                        string
	places                      int
	star, dos, one, maybe, dots []uint64 // where *, <, ?, > and " stand
	letters                     map[rune][]uint64
}

// newMask compiles a mask; false for one that is too long.
func newMask(text string) (*mask, bool) {
	for strings.Contains(text, "**") {
		text = strings.ReplaceAll(text, "**", "*")
	}
	runes := []rune(files.FoldName(text))
	if len(runes) > longestMask {
		return nil, false
	}
	words := len(runes)/64 + 1
	m := &mask{all: text == "*", plain: !strings.ContainsAny(text, `*?<>"`), text: text, places: len(runes), letters: make(map[rune][]uint64)}
	for _, of := range []*[]uint64{&m.star, &m.dos, &m.one, &m.maybe, &m.dots} {
		*of = make([]uint64, words)
	}
	for i, r := range runes {
		var at []uint64
		switch r {
		case '*':
			at = m.star
		case '<':
			at = m.dos
		case '?':
			at = m.one
		case '>':
			at = m.maybe
		case '"':
			at = m.dots
		default:
			if m.letters[r] == nil {
				m.letters[r] = make([]uint64, words)
			}
			at = m.letters[r]
		}
		at[i/64] |= 1 << (i % 64)
	}
	return m, true
}

// match says whether a name fits.
func (m *mask) match(name string) bool {
	if m.all {
		return true
	}
	runes := []rune(files.FoldName(name))
	lastDot := -1
	for i, c := range runes {
		if c == '.' {
			lastDot = i
		}
	}
	var room [longestMask/64 + 1]uint64
	states := room[:len(m.star)]
	states[0] = 1
	m.skip(states, runes, 0)
	for at, c := range runes {
		letter := m.letters[c]
		carry := uint64(0)
		for w := range states {
			goes := m.one[w]
			if c == '.' {
				goes |= m.dots[w]
			} else {
				goes |= m.maybe[w]
			}
			if at == lastDot {
				goes |= m.dos[w]
			}
			if letter != nil {
				goes |= letter[w]
			}
			goes &= states[w]
			states[w] = states[w]&(m.star[w]|m.dos[w]) | goes<<1 | carry
			carry = goes >> 63
		}
		m.skip(states, runes, at+1)
	}
	return states[m.places/64]>>(m.places%64)&1 != 0
}

// skip goes on from each place over those after it that may match nothing. A sum does it for a whole run of them at once:
// what is added at one of them carries to the first place after the run.
func (m *mask) skip(states []uint64, name []rune, at int) {
	end := at == len(name)
	carry := uint64(0)
	for w, s := range states {
		nothing := m.star[w] | m.dos[w]
		if end {
			nothing |= m.dots[w]
		}
		if end || name[at] == '.' {
			nothing |= m.maybe[w]
		}
		// The sum begins at the place that the carry has come to as well.
		sum, more := bits.Add64(nothing, s&nothing, carry)
		states[w] = s | (sum ^ nothing)
		carry = more
	}
}
