// Package limit is the arithmetic of limits: which of them bear on what is counted, what is left, and
// when a grace ends.
//
// It is pure: no clock, no storage, no network.
package limit

import (
	"errors"
	"fmt"
	"math"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
)

// Amount is what is stored, or what something would add to it.
type Amount struct {
	Bytes int64
	Files int64 // directories and links among them
}

// Plus is the sum of two amounts. A sum that no number can hold is the largest, or the smallest, that can be.
func (a Amount) Plus(b Amount) Amount { return Amount{plus(a.Bytes, b.Bytes), plus(a.Files, b.Files)} }

// Minus is what is left of an amount without another.
func (a Amount) Minus(b Amount) Amount {
	return Amount{plus(a.Bytes, -b.Bytes), plus(a.Files, -b.Files)}
}

// Grows says whether an amount is more of anything.
func (a Amount) Grows() bool { return a.Bytes > 0 || a.Files > 0 }

// Growth is the part of an amount that is more.
func (a Amount) Growth() Amount { return Amount{max(a.Bytes, 0), max(a.Files, 0)} }

func plus(a, b int64) int64 {
	switch {
	case b > 0 && a > math.MaxInt64-b:
		return math.MaxInt64
	case b < 0 && a < math.MinInt64-b:
		return math.MinInt64
	}
	return a + b
}

// Kind says whose a limit is.
type Kind string

// The kinds of limit.
const (
	OfUser   Kind = "user"
	OfGroup  Kind = "group"
	OfFolder Kind = "folder" // or of a path in it, with all below
	Default  Kind = "default"
)

// Limit is one limit as recorded. User limits bind what a user owns, Group limits what belongs to a group.
// A Default binds each user who has no limit of their own with that reach: each member of Group, or each at
// all where that is 0; whoever is in a group that has one is bound by that and not by the one for all.
//
// The reach of users', groups' and default limits is one Folder, one Volume, or everywhere where both
// are 0. A Folder's limit binds what is in it, or at and below Path.
type Limit struct {
	ID     int64       `json:"id,omitzero"`
	Kind   Kind        `json:"kind"`
	User   identity.ID `json:"user,omitzero"`
	Group  identity.ID `json:"group,omitzero"`
	Volume int64       `json:"volumeId,omitzero"`
	Folder int64       `json:"folderId,omitzero"`
	Path   string      `json:"path,omitzero"`
	Bounds
}

// Bounds are what a limit says. What is nil has no bound; a limit without any lets its user off the defaults.
// Files are those of Amount. Grace is for how many seconds growing goes on above a soft bound.
type Bounds struct {
	SoftBytes    *int64 `json:"softBytes,omitempty"`
	HardBytes    *int64 `json:"hardBytes,omitempty"`
	SoftFiles    *int64 `json:"softFiles,omitempty"`
	HardFiles    *int64 `json:"hardFiles,omitempty"`
	GraceSeconds int64  `json:"graceSeconds,omitzero"`
}

// DefaultGrace is the grace of a limit that says none.
const DefaultGrace = 7 * 24 * time.Hour

// mostGrace is the longest there is, so that no sum of moments overflows.
const mostGrace = 10 * 365 * 24 * time.Hour

// Bounds and graces that make no sense.
var (
	ErrNegative = errors.New("a limit is not negative")
	ErrHardSoft = errors.New("the hard limit is below the soft one")
	ErrGrace    = errors.New("a grace is between no time and ten years")
)

// Check says what is wrong with bounds; nil where nothing is.
func (b Bounds) Check() error {
	for _, p := range []struct {
		soft, hard *int64
		what       string
	}{{b.SoftBytes, b.HardBytes, "bytes"}, {b.SoftFiles, b.HardFiles, "files"}} {
		switch {
		case p.soft != nil && *p.soft < 0 || p.hard != nil && *p.hard < 0:
			return fmt.Errorf("%w (%s)", ErrNegative, p.what)
		case p.soft != nil && p.hard != nil && *p.hard < *p.soft:
			return fmt.Errorf("%w (%s)", ErrHardSoft, p.what)
		}
	}
	if b.GraceSeconds < 0 || b.GraceSeconds > int64(mostGrace/time.Second) {
		return ErrGrace
	}
	return nil
}

// None says whether there is no bound at all.
func (b Bounds) None() bool {
	return b.SoftBytes == nil && b.HardBytes == nil && b.SoftFiles == nil && b.HardFiles == nil
}

// Grace is for how long growing goes on above a soft bound.
func (b Bounds) Grace() time.Duration { return time.Duration(b.GraceSeconds) * time.Second }

// Dimension is what is bounded.
type Dimension uint8

// The dimensions.
const (
	Bytes Dimension = iota
	Files
	Dimensions
)

func (d Dimension) String() string {
	if d == Files {
		return "files"
	}
	return "bytes"
}

// Spell spells a number of it for people: "2.5 MB", "300 files".
func (d Dimension) Spell(n int64) string {
	if d == Files {
		return fmt.Sprintf("%d files", n)
	}
	return FormatSize(n)
}

// Of is one dimension of an amount.
func (a Amount) Of(d Dimension) int64 {
	if d == Files {
		return a.Files
	}
	return a.Bytes
}

// Soft is a soft bound; false where there is none.
func (b Bounds) Soft(d Dimension) (int64, bool) {
	if d == Files {
		return given(b.SoftFiles)
	}
	return given(b.SoftBytes)
}

// Hard is a hard bound; false where there is none.
func (b Bounds) Hard(d Dimension) (int64, bool) {
	if d == Files {
		return given(b.HardFiles)
	}
	return given(b.HardBytes)
}

func given(p *int64) (int64, bool) {
	if p == nil {
		return 0, false
	}
	return *p, true
}

// Since is when the use of each dimension went above its soft bound; zero where it is not above.
type Since [Dimensions]time.Time

// Standing is how something counted stands against one limit.
type Standing struct {
	Limit *Limit
	Use   Amount
	Since Since
	// Counting says that what there was is still being counted for the first time, so that the limit does not bind yet.
	Counting bool
}

// Ends is when the grace ends; false where none is running, as use is not above the soft bound.
func (s *Standing) Ends(d Dimension) (time.Time, bool) {
	soft, ok := s.Limit.Soft(d)
	if !ok || s.Use.Of(d) <= soft || s.Since[d].IsZero() {
		return time.Time{}, false
	}
	return s.Since[d].Add(s.Limit.Grace()), true
}

// Bound is up to where use may grow now; false where there is no bound.
func (s *Standing) Bound(d Dimension, now time.Time) (int64, bool) {
	hard, ok := s.Limit.Hard(d)
	if soft, has := s.Limit.Soft(d); has {
		over := s.Limit.GraceSeconds == 0
		if ends, running := s.Ends(d); running && !now.Before(ends) {
			over = true
		}
		if over && (!ok || soft < hard) {
			return soft, true
		}
	}
	return hard, ok
}

// Left is by how much use may still grow, never less than 0; false where there is no bound.
func (s *Standing) Left(d Dimension, now time.Time) (int64, bool) {
	bound, ok := s.Bound(d, now)
	if !ok || s.Counting {
		return 0, false
	}
	return max(plus(bound, -s.Use.Of(d)), 0), true
}

// Refuses gives the dimension in which the limit says no to growing by an amount; false where it does not.
func (s *Standing) Refuses(grow Amount, now time.Time) (Dimension, bool) {
	for d := range Dimensions {
		if left, ok := s.Left(d, now); ok && grow.Of(d) > left {
			return d, true
		}
	}
	return 0, false
}

// Share is use as a part of the bound that comes last: the hard one, or the soft one where there is none. The
// dimension is the one that is fuller; 0 where there is no bound. A bound of 0 is full.
func (s *Standing) Share() (float64, Dimension) {
	most, of := 0.0, Bytes
	for d := range Dimensions {
		bound, ok := s.Limit.Hard(d)
		if !ok {
			bound, ok = s.Limit.Soft(d)
		}
		if !ok {
			continue
		}
		part := 1.0
		if bound > 0 {
			part = float64(s.Use.Of(d)) / float64(bound)
		}
		if part > most {
			most, of = part, d
		}
	}
	return most, of
}

// State says where a standing is, in one word.
type State string

// The states, from the best to the worst.
const (
	Within State = "within"
	Soft   State = "in grace" // above a soft bound, and may grow still
	Ended  State = "grace over"
	Full   State = "full" // at the hard bound, or above it
)

// State gives it as of a moment: the worst of both dimensions.
func (s *Standing) State(now time.Time) State {
	state := Within
	worse := func(to State) {
		if rank[to] > rank[state] {
			state = to
		}
	}
	for d := range Dimensions {
		if hard, ok := s.Limit.Hard(d); ok && s.Use.Of(d) >= hard {
			worse(Full)
		}
		if ends, ok := s.Ends(d); ok {
			if worse(Soft); !now.Before(ends) {
				worse(Ended)
			}
		}
	}
	return state
}

var rank = map[State]int{Within: 0, Soft: 1, Ended: 2, Full: 3}

// Raised is what a bound might be set to that leaves room above an amount: a quarter more, rounded up to two digits that matter.
func Raised(n int64) int64 {
	want := plus(max(n, 8), max(n, 8)/4)
	unit := int64(1)
	for unit <= math.MaxInt64/1000 && want/unit >= 100 {
		unit *= 10
	}
	return plus(want, unit-1) / unit * unit
}
