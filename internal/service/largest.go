package service

import (
	"context"
	"fmt"
	"sync/atomic"

	"amber.example/gatekeeper/internal/contain"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
)

// lookers is how many looks for the largest go on at once.
var lookers atomic.Int32

const (
	mostLookers = 2
	// firstLook numbers jobs that are not kept over a restart, apart from those that are.
	firstLook = 1 << 40
)

var looks atomic.Int64

// Largest begins to look for the files and directories that take most room at FOLDER or FOLDER/PATH and below. It
// goes on by itself; Looked gives what it found.
func (s *Service) Largest(_ context.Context, by Actor, full string, most int) (*Job, error) {
	f, at, err := s.place(full)
	if err != nil {
		return nil, err
	}
	switch {
	case !at.Exists || at.File:
		return nil, invalid("path", "%s is not a directory", f.Display(at.Path))
	case most < 1 || most > 1000:
		return nil, invalid("top", "%d is not between 1 and 1000", most)
	case s.drafting != nil || !s.asOf.IsZero():
		return nil, &Error{Kind: Invalid, Message: "what takes most room can be asked as of now only"}
	}
	if lookers.Add(1) > mostLookers {
		lookers.Add(-1)
		return nil, &Error{Kind: Conflict, Message: fmt.Sprintf("%d looks for what is largest are going on already: wait for one of them", mostLookers)}
	}
	w := newJob(firstLook+looks.Add(1), "largest", "look for what is largest in "+f.Display(at.Path), by.Name)
	w.Total = s.countedBelow(f.ID, at.Path)
	v, _ := s.Policy().Volume(f.VolumeID)
	facts := files.FactsOf(s.Policy(), f)
	ctx, cancel := context.WithCancel(s.jobs.ctx)
	w.stop = cancel
	s.jobs.note(w)
	contain.Go(&s.jobs.wait, w.Text, func() {
		defer lookers.Add(-1)
		defer cancel()
		err := errWentWrong // unless it comes to its end
		defer func() { w.end(err) }()
		var found files.Largest
		found, err = facts.Largest(ctx, at.Path, most, v.Counting == site.CountAllocated, func(n int64) { w.done.Store(n) })
		w.found = &found
	})
	return w, nil
}

// Looked gives what a look for the largest found; nil where it has not ended, or failed.
func (w *Job) Looked() *files.Largest {
	if over, err := w.Over(); over && err == nil {
		return w.found
	}
	return nil
}
