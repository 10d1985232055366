package limit

import (
	"errors"
	"maps"
	"math/bits"
	"slices"
	"time"
)

// Marks say when somebody is told how a use stands with a limit.
type Marks struct {
	// Percent are parts of the bound that comes last, the hard one, or the soft one where there is none; in order.
	Percent []int
	// Grace has it told when a grace begins, and on its last day.
	Grace bool
}

// DefaultPercent are the marks where nothing else is said.
var DefaultPercent = []int{80, 90, 95, 100}

const (
	// markBack is by how many per cent of the bound a use has to go back below a mark before it can reach it again.
	markBack = 5
	// markQuiet is for how long nobody is told again of the same mark.
	markQuiet = time.Hour
	// lastDay is how long before the end of a grace it is told once more.
	lastDay = 24 * time.Hour
	// mostMarks is how many percentages there may be.
	mostMarks = 8
)

// ErrMarks says that percentages make no sense.
var ErrMarks = errors.New("the marks are up to 8 different numbers between 1 and 100")

// CleanPercent sorts percentages; ErrMarks where they make no sense.
func CleanPercent(marks []int) ([]int, error) {
	out := slices.Compact(slices.Sorted(slices.Values(marks)))
	if len(out) > mostMarks || len(out) > 0 && (out[0] < 1 || out[len(out)-1] > 100) {
		return nil, ErrMarks
	}
	return append([]int{}, out...), nil
}

// NoticeKind says what somebody is told.
type NoticeKind string

// What is told.
const (
	Reached    NoticeKind = "reached"      // use has reached a mark
	GraceBegun NoticeKind = "grace begun"  // use has passed a soft bound
	GraceEnds  NoticeKind = "grace ending" // the last day of a grace has begun
)

// Notice is something to be told of a standing, in one dimension. Percent is the mark that was reached, 0 for a grace.
type Notice struct {
	Kind      NoticeKind
	Dimension Dimension
	Percent   int
}

// Told is what has been told of a standing. The zero Told is nothing.
type Told struct {
	By [Dimensions]ToldOf `json:"by"`
}

// ToldOf is what has been told in one dimension.
type ToldOf struct {
	At     int               `json:"at,omitzero"`     // the highest mark that was reached and not left since, in per cent
	When   map[int]time.Time `json:"when,omitempty"`  // when each mark was last told
	Soft   bool              `json:"soft,omitzero"`   // the soft bound was passed, and not left since
	Begun  time.Time         `json:"begun,omitzero"`  // when the begin of a grace was last told
	Ending time.Time         `json:"ending,omitzero"` // the end of the grace whose last day was told
}

// Nothing says whether it is as if nothing had been told.
func (t *Told) Nothing() bool {
	for i := range t.By {
		by := &t.By[i]
		if by.At != 0 || by.Soft || len(by.When) > 0 || !by.Begun.IsZero() || !by.Ending.IsZero() {
			return false
		}
	}
	return true
}

// atLeast says whether use is at so many per cent of a bound, or above. Of a bound of 0 anything is all of it.
func atLeast(use, bound int64, percent int) bool {
	if use <= 0 || percent <= 0 {
		return percent <= 0
	}
	uh, ul := bits.Mul64(uint64(use), 100)
	bh, bl := bits.Mul64(uint64(bound), uint64(percent))
	return uh > bh || uh == bh && ul >= bl
}

// Next gives what is to be told of a standing now, of which so much has been told, and what will have been told then. Refused
// says in which dimensions growth was refused since it was last asked: who is so close to a bound that nothing fits any more has
// reached it, though use is a little below.
//
// Each mark is told once, until use has gone well below it; where several are passed at once, the highest is.
func (m Marks) Next(told Told, s *Standing, refused [Dimensions]bool, now time.Time) (Told, []Notice) {
	var out []Notice
	for d := range Dimensions {
		by := &told.By[d]
		by.When = maps.Clone(by.When)
		use := s.Use.Of(d)
		bound, ok := s.Limit.Hard(d)
		soft, isSoft := s.Limit.Soft(d)
		if !ok {
			bound, ok = soft, isSoft
		}
		left, at := 0, 0
		if ok {
			full := refused[d] && atLeast(use, bound, 100-markBack)
			for _, mark := range m.Percent {
				if mark <= by.At && atLeast(use, bound, mark-markBack) {
					left = mark
				}
				if full || atLeast(use, bound, mark) {
					at = mark
				}
			}
		}
		if at > left {
			if now.Sub(by.When[at]) >= markQuiet {
				out = append(out, Notice{Reached, d, at})
				if by.When == nil {
					by.When = make(map[int]time.Time)
				}
				by.When[at] = now
			}
			left = at
		}
		by.At = left
		maps.DeleteFunc(by.When, func(mark int, at time.Time) bool { return mark > left && now.Sub(at) >= markQuiet })

		if !isSoft || !atLeast(use, soft, 100-markBack) {
			by.Soft = false
		}
		ends, running := s.Ends(d)
		if !running || !m.Grace || !now.Before(ends) {
			continue
		}
		switch {
		case !by.Soft:
			by.Soft = true
			if now.Sub(by.Begun) >= markQuiet {
				out = append(out, Notice{GraceBegun, d, 0})
				by.Begun = now
				if ends.Sub(now) <= lastDay { // that is all there is to say
					by.Ending = ends
				}
			}
		case ends.Sub(now) <= lastDay && !by.Ending.Equal(ends):
			if s.Limit.Grace() > lastDay {
				out = append(out, Notice{GraceEnds, d, 0})
			}
			by.Ending = ends
		}
	}
	return told, out
}
