package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/job"
	"amber.example/gatekeeper/internal/store"
)

// The kinds of job.
const (
	ownerJob   = "owner"
	convertJob = "convert"
	surveyJob  = "survey"
	largestJob = "largest"
)

// mostLookers is how many jobs of a kind that changes nothing go on at once.
const mostLookers = 2

func (s *Service) jobKinds() []job.Kind {
	return []job.Kind{
		{Name: ownerJob, Run: s.giveBelow},
		{Name: handOverJob, Run: s.runHandOver},
		{Name: ownJob, Run: s.runOwn},
		{Name: holdJob, Run: s.runHold},
		{Name: releaseJob, Run: s.runRelease},
		{Name: straysJob, Run: s.runStrays, Most: mostLookers},
		{Name: convertJob, Run: s.runConvert},
		{Name: surveyJob, Run: s.runSurvey, Most: mostLookers},
		{Name: largestJob, Run: s.runLargest, Most: mostLookers},
	}
}

// startJob begins a job that is written down by itself.
func (s *Service) startJob(ctx context.Context, by Actor, kind, text string, args any) (*job.Job, error) {
	j, err := s.jobs.Start(ctx, kind, text, by.Name, args)
	if errors.Is(err, job.ErrFull) {
		return nil, conflict("", "amber job list", "%d jobs of that kind go on already: wait for one of them", mostLookers)
	}
	return j, s.Unwritable(err)
}

// ownerArgs is what changing an owner takes; records are named by number.
type ownerArgs struct {
	Folder int64       `json:"folder"`
	Path   string      `json:"path"`
	Owner  identity.ID `json:"owner,omitempty"`
	Group  identity.ID `json:"group,omitempty"`
}

// SetOwner gives FOLDER or FOLDER/PATH, and with below all that is below it, an owner, a group, or
// both; "" leaves one. Below, it is a job; else, and in a set of changes, none is given.
func (s *Service) SetOwner(ctx context.Context, by Actor, full, owner, group string, below bool) (*job.Job, error) {
	f, at, err := s.place(full)
	if err != nil {
		return nil, err
	}
	if !at.Exists {
		return nil, notFound("path", "", "%s is not on disk", f.Display(at.Path))
	}
	args := ownerArgs{Folder: f.ID, Path: at.Path}
	if owner != "" {
		u, err := s.User(owner)
		if err != nil {
			return nil, err
		}
		args.Owner = u.ID
	}
	if group != "" {
		g, err := s.Group(group)
		if err != nil {
			return nil, err
		}
		args.Group = g.ID
	}
	if args.Owner == 0 && args.Group == 0 {
		return nil, invalid("owner", "name an owner, a group, or both")
	}
	action := fmt.Sprintf("give to %s", joinOwners(owner, group))
	if below {
		action += ", with all below"
	}
	is, err := s.jobs.Draft(ownerJob, action+": "+f.Display(at.Path), by.Name, args)
	if err != nil {
		return nil, err
	}
	return s.changeWith(ctx, by, action, f.Display(at.Path), below, is, func(d *site.Draft) error {
		if !below || s.tried() {
			s.setMode(d, f, at.Path, s.ownerSet(args))
		}
		return nil
	})
}

// changeWith makes a change with which, if begins, a job begins: it is written down with the change. None is given in a set of changes, with which it begins.
func (s *Service) changeWith(ctx context.Context, by Actor, action, subject string, begins bool, is job.Record, fn func(*site.Draft) error) (*job.Job, error) {
	err := s.change(ctx, by, action, subject, fn, func(tx *store.Tx) (err error) {
		if begins {
			is.ID, err = tx.AddJob(ctx, is)
		}
		return err
	})
	switch {
	case err != nil || !begins:
		return nil, err
	case s.drafting != nil:
		of := s.drafting.of
		s.later(func() { of.jobs.Begin(is) })
		return nil, nil
	}
	return s.jobs.Begin(is), nil
}

func joinOwners(owner, group string) string {
	if owner == "" {
		return "group " + group
	}
	if group == "" {
		return owner
	}
	return owner + " and group " + group
}

func (s *Service) ownerSet(args ownerArgs) (set files.Set) {
	d := s.Policy().Directory
	if u := d.User(args.Owner); u != nil {
		set.UID = &u.UID
	}
	if g := d.Group(args.Group); g != nil {
		set.GID = &g.GID
	}
	return set
}

// jobFolder reads what a job takes, and finds the folder of it that it is about.
func (s *Service) jobFolder(j *job.Job, args any, folder *int64) (*site.PublishedFolder, error) {
	if err := j.Args(args); err != nil {
		return nil, err
	}
	return s.folderOf(*folder)
}

// folderOf finds the folder that a job is about.
func (s *Service) folderOf(id int64) (*site.PublishedFolder, error) {
	if f := s.Policy().Folder(id); f != nil {
		return f, nil
	}
	return nil, notFound("path", "amber folder list", "the folder is gone")
}

// giveBelow is the job that changes owners. It marks the last path that it has given.
func (s *Service) giveBelow(ctx context.Context, j *job.Job) (any, error) {
	var args ownerArgs
	f, err := s.jobFolder(j, &args, &args.Folder)
	if err != nil {
		return nil, err
	}
	j.SetTotal(s.countedBelow(args.Folder, args.Path))
	set, facts := s.ownerSet(args), files.FactsOf(s.Policy(), f)
	last := j.Was()
	mark := func() (string, error) { return last, nil }
	give := func(o files.Found) error {
		if err := files.SetMode(s.Policy(), s.ledger, f, o.Path, set); err != nil {
			return err
		}
		last = "/" + o.Path // the folder itself is no beginning
		j.Step()
		return j.At(ctx, mark)
	}
	if last == "" {
		err = facts.WalkFrom(ctx, args.Path, give)
	} else {
		err = facts.WalkOn(ctx, args.Path, last[1:], give)
	}
	if ctx.Err() != nil && last != "" {
		err = errors.Join(err, j.Note(context.WithoutCancel(ctx), mark))
	}
	return nil, err
}

// countedBelow is how many files and directories there are in all of a folder, as far as is counted; 0 where that is not known.
func (s *Service) countedBelow(folder int64, path string) int64 {
	f := s.Policy().Folder(folder)
	if f == nil || path != "" {
		return 0
	}
	if book := s.ledger.Folder(folder); book == nil || !book.Counted() {
		return 0
	}
	return s.ledger.Use(limit.Counter{Volume: f.VolumeID, Folder: folder}).Files
}

// largestArgs is what a look for the largest takes.
type largestArgs struct {
	Folder int64  `json:"folder"`
	Path   string `json:"path"`
	Most   int    `json:"most"`
}

// Largest begins to look for the files and directories that take most room at FOLDER or FOLDER/PATH and below.
func (s *Service) Largest(ctx context.Context, by Actor, full string, most int) (*job.Job, error) {
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
	return s.startJob(ctx, by, largestJob, "look for what is largest in "+f.Display(at.Path), largestArgs{f.ID, at.Path, most})
}

// runLargest is that job. What it knows is in no order that it could be taken up by: after a restart it begins anew.
func (s *Service) runLargest(ctx context.Context, j *job.Job) (any, error) {
	var args largestArgs
	f, err := s.jobFolder(j, &args, &args.Folder)
	if err != nil {
		return nil, err
	}
	v, _ := s.Policy().Volume(f.VolumeID)
	j.SetTotal(s.countedBelow(f.ID, args.Path))
	return files.FactsOf(s.Policy(), f).Largest(ctx, args.Path, cmp.Or(args.Most, 10), v.Counting == site.CountAllocated, j.SetDone)
}

// Jobs lists what goes on and what has ended lately, the latest first.
func (s *Service) Jobs() []*job.Job { return s.jobs.All() }

// Job finds a job by its number.
func (s *Service) Job(id int64) (*job.Job, error) {
	j, err := s.jobs.Job(id)
	if err != nil {
		return nil, notFound("id", "amber job list", "there is no job %d", id)
	}
	return j, nil
}

// CancelJob ends a job where it is. What it has done stays done. Whoever began one may, and administrators.
func (s *Service) CancelJob(ctx context.Context, by Actor, id int64) error {
	j, err := s.Job(id)
	if err != nil {
		return err
	}
	is := j.Now()
	looks := is.Kind == largestJob || is.Kind == surveyJob || is.Kind == straysJob // and changes nothing
	if looks && is.Actor != by.Name && by.Role != identity.Administrator {
		return &Error{Kind: Forbidden, Message: fmt.Sprintf("%s was begun by %s: only they, or an administrator, can cancel it", is.Text, is.Actor)}
	}
	if !looks {
		if err := s.mustAdminister(by, "cancel that"); err != nil {
			return err
		}
	}
	if j.IsOver() {
		return nil
	}
	if !looks {
		if err := s.change(ctx, by, "cancel job", is.Text, func(*site.Draft) error { return nil }); err != nil {
			return err
		}
	}
	s.jobs.Cancel(j)
	return nil
}
