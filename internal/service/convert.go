package service

import (
	"context"
	"fmt"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/adopt"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/job"
)

// mostRules bounds what a tree is turned into: beyond, it is kinder to keep its modes.
const mostRules = 20_000

// Converted is what became of a folder's modes.
type Converted struct {
	Folder  string `json:"folder"`
	Objects int    `json:"objects" doc:"How many files and directories were looked at."`
	Rules   int    `json:"rules" doc:"On how many paths entries were written."`
}

type convertArgs struct {
	Folder int64       `json:"folder"`
	By     identity.ID `json:"by"`
}

// ConvertFolder turns the owners, modes and POSIX ACLs of a folder's files and directories into
// entries, which decide from then on. Everybody keeps what they had, thing by thing; a sticky bit
// has no counterpart. It is a job; in a set of changes it is done at once, and no job is given.
func (s *Service) ConvertFolder(ctx context.Context, by Actor, name string) (*job.Job, error) {
	f, err := s.Folder(name)
	if err != nil {
		return nil, err
	}
	if err := convertible(f); err != nil {
		return nil, err
	}
	if s.drafting == nil {
		if err := s.mustAdminister(by, "turn modes into entries"); err != nil {
			return nil, err
		}
		return s.startJob(ctx, by, convertJob, "turn the modes of "+f.Name+" into entries", convertArgs{f.ID, by.ID})
	}
	c := newConversion(f)
	if err := files.FactsOf(s.Policy(), f).Walk(ctx, c.look); err != nil {
		return nil, invalid("name", "%s: %v", f.Name, err)
	}
	_, err = c.write(ctx, s, by)
	return nil, err
}

func convertible(f *site.PublishedFolder) error {
	if f.Unix() {
		return nil
	}
	return conflict("name", "amber folder show "+quote(f.Name), "in %s entries decide already: converting would put modes that nobody looks at in their place", f.Name)
}

// runConvert is that job. Only its last step changes anything.
func (s *Service) runConvert(ctx context.Context, j *job.Job) (any, error) {
	defer func() {
		if !s.closing() {
			s.forgetLook(j)
		}
	}()
	var args convertArgs
	f, err := s.jobFolder(j, &args, &args.Folder)
	if err != nil {
		return nil, err
	}
	is := j.Now()
	if !f.Unix() && is.Mark != "" { // the service was ended between the change and the end of the job
		return Converted{f.Name, int(is.Done), len(f.Rules)}, nil
	}
	c := newConversion(f)
	if err := s.lookAtAll(ctx, j, f, c.look); err != nil {
		return nil, err
	}
	by := Actor{ID: args.By, Name: is.Actor, Role: identity.Administrator}
	if u := s.Policy().Directory.User(args.By); args.By != 0 && (u == nil || u.Role != identity.Administrator) {
		return nil, &Error{Kind: Forbidden, Message: is.Actor + " is no administrator any more: nothing was changed"}
	}
	return c.write(ctx, s, by)
}

// conversion is what is found of a folder before its modes are turned into entries.
type conversion struct {
	folder *site.PublishedFolder
	found  []adopt.Object
	known  map[string]*posix.Attributes // those alike are kept once
}

func newConversion(f *site.PublishedFolder) *conversion {
	return &conversion{folder: f, known: make(map[string]*posix.Attributes)}
}

func (c *conversion) look(o files.Found) error {
	key := fmt.Sprint(*o.Unix)
	if c.known[key] == nil {
		c.known[key] = o.Unix
	}
	c.found = append(c.found, adopt.Object{Path: o.Path, Unix: c.known[key], Owned: o.Owned})
	return nil
}

func (c *conversion) write(ctx context.Context, s *Service, by Actor) (Converted, error) {
	f := c.folder
	err := s.change(ctx, by, "turn modes into entries", f.Name, func(d *site.Draft) error {
		// People may have come and gone since the first file was looked at, which is why owners are looked up again.
		people := s.Policy().Directory
		for i := range c.found {
			o := &c.found[i]
			o.Owned = acl.Ownership{User: people.UserIndexByUID(o.Unix.UID), Group: people.GroupIndexByGID(o.Unix.GID)}
		}
		rules := adopt.NewConverter(s.Policy()).Rules(c.found)
		if len(rules) > mostRules {
			return conflict("name", "", "the modes in %s are so varied that %d rules would come of it: keep them deciding", f.Name, len(rules))
		}
		is, there := site.Get[site.Folder](d, f.ID)
		switch {
		case !there:
			return notFound("name", "amber folder list", "the folder is gone")
		case is.Permissions != site.ByMode:
			return convertible(&site.PublishedFolder{Folder: is})
		}
		eraseRules(d, f.ID, func(acl.Rule) bool { return true })
		for _, r := range rules {
			putRule(d, f.ID, r)
		}
		is, _ = site.Get[site.Folder](d, f.ID)
		is.Permissions = site.ByEntries
		site.Put(d, is)
		return nil
	})
	if err != nil {
		return Converted{}, err
	}
	is, err := s.folderOf(f.ID)
	if err != nil {
		return Converted{}, err
	}
	return Converted{is.Name, len(c.found), len(is.Rules)}, nil
}
