package service

import (
	"context"
	"fmt"
	"slices"

	"amber.example/gatekeeper/internal/core/audit"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/job"
)

// ownMaker makes the directory that somebody has of their own in a folder which is personal.
type ownMaker interface {
	MakeOwn(folder int64, user identity.ID) (made bool, err error)
	RenameOwn(folder int64, from, to string) error
}

// ownJob makes them for all at once.
const ownJob = "own directories"

type ownArgs struct {
	Folder int64 `json:"folder"`
}

// MakeAllOwn begins to make, in a folder that is personal, the directories of all who have none yet. They are made by themselves as well, when somebody
// first comes.
func (s *Service) MakeAllOwn(ctx context.Context, by Actor, folder string) (*job.Job, error) {
	f, err := s.Folder(folder)
	if err != nil {
		return nil, err
	}
	if f.Personal == nil {
		return nil, conflict("name", "amber folder set "+quote(f.Name)+" --personal GROUP", "%s is not personal", f.Name)
	}
	if err := s.mustAdminister(by, "make directories"); err != nil {
		return nil, err
	}
	return s.startJob(ctx, by, ownJob, "make the directories of all who have one in "+f.Name, ownArgs{f.ID})
}

// OwnMade is what came of that.
type OwnMade struct {
	Made int64 `json:"made" doc:"How many directories were not there."`
}

func (s *Service) runOwn(ctx context.Context, j *job.Job) (any, error) {
	var args ownArgs
	f, err := s.jobFolder(j, &args, &args.Folder)
	if err != nil {
		return nil, err
	}
	homes := s.homes.Load()
	if f.Personal == nil || homes == nil {
		return OwnMade{}, nil
	}
	d := s.Policy().Directory
	var out OwnMade
	people := d.Members(d.GroupIndex(f.Personal.Group))
	j.SetTotal(int64(people.Count()))
	for i := range people.Each() {
		if ctx.Err() != nil {
			return nil, ctx.Err()
		}
		made, err := (*homes).MakeOwn(f.ID, d.Users()[i].ID)
		if err != nil {
			return nil, fmt.Errorf("the directory of %s: %w", d.Users()[i].Name, err)
		}
		if made {
			out.Made++
		}
		j.Step()
	}
	return out, nil
}

// strangers are the directories in folders that are personal which are nobody's who has one there.
func (s *Service) strangers() (out []audit.Stranger) {
	d := s.Policy().Directory
	for _, f := range s.Policy().Folders {
		if f.Personal == nil {
			continue
		}
		if _, away := s.VolumeAway(f.VolumeID); away {
			continue
		}
		names, err := files.DirectoriesIn(f)
		if err != nil {
			continue // the folder's own finding says why
		}
		names = slices.DeleteFunc(names, func(name string) bool {
			u := d.UserNamed(name)
			return u != nil && u.Name == name && f.Personal.Has(d, d.UserIndex(u.ID)) && u.Left.IsZero()
		})
		if len(names) > 0 {
			out = append(out, audit.Stranger{Folder: f.Name, Group: d.Name(identity.GroupPrincipal(f.Personal.Group)), Names: names})
		}
	}
	return out
}

// ownOf names the directories of their own that somebody has, as FOLDER/NAME.
func (s *Service) ownOf(u *identity.User) (out []string) {
	d := s.Policy().Directory
	for _, f := range s.Policy().Folders {
		if f.Personal.Has(d, d.UserIndex(u.ID)) {
			out = append(out, f.Display(u.Name))
		}
	}
	return out
}

// moveOwn has the directories that a user has of their own be called as the user is, once a draft is written down; with rules, what is written on them and below
// goes along.
func (s *Service) moveOwn(d *site.Draft, id identity.ID, was string, rules bool) {
	u, there := site.Get[identity.User](d, int64(id))
	if !there || u.Name == was {
		return
	}
	dir := s.known().Directory
	for _, f := range s.known().Folders {
		if !f.Personal.Has(dir, dir.UserIndex(id)) {
			continue
		}
		if _, at, err := s.place(f.Display(was)); err != nil || !at.Exists {
			continue
		}
		if rules {
			d.MoveRules(f.ID, was, u.Name)
		}
		d.Do(site.Effect{Act: site.RenameOwn, Folder: f.ID, Path: was, To: u.Name})
	}
}

// renameOwn is that on disk.
func (s *Service) renameOwn(p *site.Policy, e site.Effect) error {
	if homes := s.homes.Load(); homes != nil {
		return (*homes).RenameOwn(e.Folder, e.Path, e.To)
	}
	return files.New(func() *site.Policy { return p }, s).RenameOwn(e.Folder, e.Path, e.To) // before anything is served
}
