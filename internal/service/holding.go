package service

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/audit"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/job"
)

// fileKeeper moves what is to be kept from folder to folder, and removes it in the end.
type fileKeeper interface {
	Keep(ctx context.Context, k files.Keeping, step func()) (files.Kept, error)
	Empty(ctx context.Context, folder int64, path string, step func()) (files.Kept, error)
}

// The jobs of that.
const (
	holdJob    = "hold"
	releaseJob = "remove what was held"
)

type holdArgs struct {
	Name   string      `json:"name"`
	User   identity.ID `json:"user,omitempty"`
	UID    uint32      `json:"uid,omitempty"`
	Folder int64       `json:"folder"`
	Path   string      `json:"path"`
	Own    []int64     `json:"own,omitempty"` // folders in which they have a directory of their own
}

func untilDay(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return " until " + t.Add(-time.Second).Local().Format("2 Jan 2006")
}

// mayHold says why what people leave cannot be kept in a folder; nil where it can.
func (s *Service) mayHold(name string) error {
	f, err := s.Folder(name)
	if err != nil {
		return err
	}
	if f.Personal != nil {
		return invalid("hold", "%s is personal: directories in it are people's by their names", f.Name)
	}
	return nil
}

// holdJob is where what somebody leaves comes to be kept, and the job that brings it there.
func (s *Service) holdJob(by Actor, u *identity.User, in LeaveInput) (site.Holding, job.Record, error) {
	f, err := s.Folder(in.Hold)
	if err != nil {
		return site.Holding{}, job.Record{}, err
	}
	h := site.Holding{Name: u.Name, UID: u.UID, FolderID: f.ID, Since: instant(s.Now())}
	if !in.Until.IsZero() {
		h.Until = instant(in.Until)
	}
	taken := func(path string) bool {
		_, at, err := s.place(f.Display(path))
		return err == nil && at.Exists || slices.ContainsFunc(s.Policy().Holdings, func(h site.Holding) bool { return h.FolderID == f.ID && identity.Fold(h.Path) == identity.Fold(path) })
	}
	h.Path = u.Name
	for n := 2; taken(h.Path); n++ {
		h.Path = fmt.Sprintf("%s-%d", u.Name, n)
	}
	args := holdArgs{Name: u.Name, User: u.ID, UID: u.UID, Folder: f.ID, Path: h.Path}
	d := s.Policy().Directory
	for _, own := range s.Policy().Folders {
		if own.Personal.Has(d, d.UserIndex(u.ID)) {
			args.Own = append(args.Own, own.ID)
		}
	}
	is, err := s.jobs.Draft(holdJob, "keep what "+u.Name+" leaves in "+f.Display(h.Path), by.Name, args)
	return h, is, err
}

// HeldNow is what came of bringing there what is kept, or of removing it.
type HeldNow struct {
	Files   int64    `json:"files" doc:"How many files were moved, or removed."`
	Stayed  int64    `json:"stayed,omitempty" doc:"How many could not be."`
	Refused []string `json:"refused,omitempty" doc:"Some of those, with why."`
}

func (h *HeldNow) add(k files.Kept) {
	h.Files, h.Stayed = h.Files+k.Files, h.Stayed+k.Stayed
	h.Refused = append(h.Refused, k.Refused...)
}

func (h *HeldNow) stays(where string, err error) {
	h.Stayed++
	h.Refused = append(h.Refused, where+": "+err.Error())
}

// keeps is what moves files; an error before anything is served.
func (s *Service) keeps() (fileKeeper, error) {
	if homes := s.homes.Load(); homes != nil {
		if k, ok := (*homes).(fileKeeper); ok {
			return k, nil
		}
	}
	return nil, &Error{Kind: Conflict, Message: "nothing is served yet: it is tried again at the next start"}
}

// holdArgs is what a job of these takes, and what moves files.
func (s *Service) holdArgs(j *job.Job) (args holdArgs, k fileKeeper, err error) {
	if err = j.Args(&args); err == nil {
		k, err = s.keeps()
	}
	return args, k, err
}

// runHold is the job. What it was through already is there by now, so that it begins anew after a restart.
func (s *Service) runHold(ctx context.Context, j *job.Job) (any, error) {
	args, k, err := s.holdArgs(j)
	if err != nil {
		return nil, err
	}
	var out HeldNow
	for _, f := range s.Policy().Folders {
		if f.ID == args.Folder {
			continue
		}
		what := files.Keeping{From: f.ID, To: args.Folder, UID: args.UID, Below: args.Path + "/" + plain.Unspell(f.Name)}
		if slices.Contains(args.Own, f.ID) {
			what.Own = args.Name
		}
		kept, err := k.Keep(ctx, what, j.Step)
		out.add(kept)
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		if err != nil { // a disk that is away keeps nobody from what is on the others
			out.stays(f.Name, err)
		}
	}
	return out, nil
}

// Holding finds what is kept of somebody, by whose it was or by where it is.
func (s *Service) Holding(name string) (*site.Holding, error) {
	p := s.Policy()
	var found *site.Holding
	for i := range p.Holdings {
		h := &p.Holdings[i]
		if f := p.Folder(h.FolderID); identity.Fold(h.Path) == identity.Fold(name) || f != nil && f.Display(h.Path) == name {
			return h, nil
		}
		if found == nil && identity.Fold(h.Name) == identity.Fold(name) {
			found = h
		}
	}
	if found == nil {
		return nil, notFound("holding", "amber holding list", "nothing of %q is kept", name)
	}
	return found, nil
}

// ChangeHolding has what is kept be kept until another day; the zero time for no day.
func (s *Service) ChangeHolding(ctx context.Context, by Actor, name string, until time.Time) (*site.Holding, error) {
	h, err := s.Holding(name)
	if err != nil {
		return nil, err
	}
	err = s.change(ctx, by, "keep", h.Path, func(d *site.Draft) error {
		is, ok := site.Get[site.Holding](d, h.ID)
		if !ok {
			return notFound("holding", "amber holding list", "nothing of %q is kept", name)
		}
		if is.Until = until; !until.IsZero() {
			is.Until = instant(until)
		}
		site.Put(d, is)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return s.Holding(h.Path)
}

// RemoveHolding removes what is kept of somebody from the records and, by a job, from disk: that is not taken back.
func (s *Service) RemoveHolding(ctx context.Context, by Actor, name string) (*job.Job, error) {
	h, err := s.Holding(name)
	if err != nil {
		return nil, err
	}
	f, err := s.folderOf(h.FolderID)
	if err != nil {
		return nil, err
	}
	is, err := s.jobs.Draft(releaseJob, "remove what "+h.Name+" left in "+f.Display(h.Path), by.Name, holdArgs{Name: h.Name, Folder: h.FolderID, Path: h.Path})
	if err != nil {
		return nil, err
	}
	return s.changeWith(ctx, by, "remove what was held", h.Path, true, is, func(d *site.Draft) error {
		site.Delete[site.Holding](d, h.ID)
		return nil
	})
}

func (s *Service) runRelease(ctx context.Context, j *job.Job) (any, error) {
	args, k, err := s.holdArgs(j)
	if err != nil {
		return nil, err
	}
	var out HeldNow
	kept, err := k.Empty(ctx, args.Folder, plain.Unspell(args.Path), j.Step)
	out.add(kept)
	return out, err
}

// overdue is what is kept though its day has come.
func (s *Service) overdue() (out []audit.Overdue) {
	p := s.Policy()
	for _, h := range p.Holdings {
		f := p.Folder(h.FolderID)
		if f == nil || h.Until.IsZero() || h.Until.After(s.Now()) {
			continue
		}
		out = append(out, audit.Overdue{Name: h.Name, Where: f.Display(h.Path), Path: h.Path, Until: h.Until})
	}
	slices.SortFunc(out, func(a, b audit.Overdue) int { return strings.Compare(a.Where, b.Where) })
	return out
}

// keepsNothing refuses what would forget a folder in which something is kept, or is to be.
func (s *Service) keepsNothing(f *site.PublishedFolder) error {
	for _, h := range s.Policy().Holdings {
		if h.FolderID == f.ID {
			return conflict("name", "amber holding list", "what %s left is kept in %s", h.Name, f.Display(h.Path))
		}
	}
	for _, u := range s.Policy().Directory.Users() {
		if u.Leaving != nil && u.Leaving.Hold == f.ID {
			return conflict("name", "amber user leave "+quote(u.Name)+" --stay", "what %s leaves is to be kept in %s", u.Name, f.Name)
		}
	}
	return nil
}
