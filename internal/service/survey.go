package service

import (
	"context"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/audit"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/job"
)

// Survey is what everybody may do to the files and directories of a folder where modes decide; or, of one user, where their level changes.
type Survey struct {
	Folder      string       `json:"folder"`
	Files       int          `json:"files"`
	Directories int          `json:"directories"`
	Kinds       int          `json:"kinds" doc:"How many different owners, modes and ACLs there are."`
	People      []SurveyRow  `json:"people" doc:"Those who may do anything at all."`
	User        string       `json:"user,omitempty"`
	Spots       []SurveySpot `json:"spots,omitempty" doc:"Where that user's level changes."`
}

// SurveyRow is how many files, and directories, a user may do something to.
type SurveyRow struct {
	User        string         `json:"user"`
	Files       map[string]int `json:"files" doc:"By level: how many at least so far."`
	Directories map[string]int `json:"directories"`
}

// SurveySpot is a directory in which a user's level is another than in the one above, or files in it.
type SurveySpot struct {
	Path  string `json:"path"`
	Files int    `json:"files,omitempty" doc:"How many files in it, where they are meant and not the directory."`
	Level Levels `json:"level"`
}

// Levels is what somebody may do over each protocol, in words: a level, and the access rights beyond it or missing from it.
type Levels struct {
	SMB  string `json:"smb" doc:"nothing, pass, read, add, change or control, or read and add; with access rights by their RFC 8881 names where no level says it all: read, and may write_acl." example:"change, but may not delete"`
	NFS  string `json:"nfs" doc:"The same over NFS, from whichever host leaves most." example:"read"`
	Text string `json:"text" doc:"Both, in words." example:"change over SMB, read over NFS"`
}

// LevelsOf spells a pair.
func LevelsOf(p audit.Pair) Levels { return Levels(p.Spell()) }

type surveyArgs struct {
	Folder int64       `json:"folder"`
	User   identity.ID `json:"user,omitempty"`
}

// surveyOf reads what a survey is to be of: a folder where modes decide, and a user's name or "".
func (s *Service) surveyOf(folder, user string) (f *site.PublishedFolder, of identity.ID, err error) {
	if f, err = s.Folder(folder); err != nil {
		return nil, 0, err
	}
	if !f.Unix() {
		return nil, 0, conflict("name", "amber report folder "+quote(f.Name), "in %s entries decide: its rules say all there is, without looking at each file", f.Name)
	}
	of, err = s.userOrNone(user)
	return f, of, err
}

// BeginSurvey begins a job that looks at every file and directory of a folder in which modes decide.
func (s *Service) BeginSurvey(ctx context.Context, by Actor, folder, user string) (*job.Job, error) {
	f, of, err := s.surveyOf(folder, user)
	if err != nil {
		return nil, err
	}
	return s.startJob(ctx, by, surveyJob, "look at every file of "+f.Name, surveyArgs{f.ID, of})
}

func (s *Service) runSurvey(ctx context.Context, j *job.Job) (any, error) {
	defer func() {
		if !s.closing() {
			s.forgetLook(j)
		}
	}()
	var args surveyArgs
	f, err := s.jobFolder(j, &args, &args.Folder)
	if err != nil {
		return nil, err
	}
	survey := audit.NewSurvey()
	err = s.lookAtAll(ctx, j, f, func(o files.Found) error {
		survey.Add(o.Path, o.Unix)
		return nil
	})
	if err != nil {
		return nil, err
	}
	if f, err = s.folderOf(args.Folder); err != nil { // as it is now
		return nil, err
	}
	return s.surveyed(f, survey, args.User)
}

// Survey does at once what BeginSurvey has a job do, for small folders and for drafts. It ends early with the context.
func (s *Service) Survey(ctx context.Context, folder, user string) (Survey, error) {
	f, of, err := s.surveyOf(folder, user)
	if err != nil {
		return Survey{}, err
	}
	survey := audit.NewSurvey()
	err = files.FactsOf(s.Policy(), f).Walk(ctx, func(o files.Found) error {
		survey.Add(o.Path, o.Unix)
		return nil
	})
	if err != nil {
		return Survey{}, invalid("name", "%s: %v", f.Name, err)
	}
	return s.surveyed(f, survey, of)
}

func (s *Service) surveyed(f *site.PublishedFolder, survey *audit.Survey, user identity.ID) (Survey, error) {
	got := s.Audit().Survey(f, survey)
	out := Survey{Folder: f.Name, Files: got.Files, Directories: got.Directories, Kinds: got.Kinds(), People: []SurveyRow{}}
	d := s.Policy().Directory
	if user != 0 {
		u := d.User(user)
		if u == nil {
			return Survey{}, notFound("user", "amber user list", "the user is gone")
		}
		out.User, out.Spots = u.Name, []SurveySpot{}
		for _, spot := range got.Reach(d.UserIndex(u.ID)) {
			out.Spots = append(out.Spots, SurveySpot{f.Display(spot.Path), spot.Files, LevelsOf(spot.Pair)})
		}
		return out, nil
	}
	for i, t := range got.Totals() {
		row := SurveyRow{User: d.Users()[i].Name, Files: make(map[string]int), Directories: make(map[string]int)}
		for _, l := range acl.Levels {
			if t.Files[l] > 0 {
				row.Files[l.String()] = t.Files[l]
			}
			if t.Directories[l] > 0 {
				row.Directories[l.String()] = t.Directories[l]
			}
		}
		if len(row.Files)+len(row.Directories) > 0 {
			out.People = append(out.People, row)
		}
	}
	return out, nil
}
