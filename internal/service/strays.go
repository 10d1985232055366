package service

import (
	"cmp"
	"context"
	"slices"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/job"
)

// straysJob looks for what is under numbers that nobody has.
const straysJob = "strays"

// Stray is what is under a number that no user, or no group, has.
type Stray struct {
	Number  uint32   `json:"number"`
	Group   bool     `json:"group" doc:"It is a group's number."`
	Name    string   `json:"name,omitempty" doc:"Whose it was, where the records know."`
	Files   int64    `json:"files" doc:"How many files and directories."`
	Bytes   int64    `json:"bytes"`
	Folders []string `json:"folders" doc:"In which folders."`
	Example string   `json:"example" doc:"One of them."`
}

// Strays is what came of looking for them.
type Strays struct {
	Strays  []Stray  `json:"strays" doc:"The largest first."`
	Looked  int64    `json:"looked" doc:"How many files and directories were looked at."`
	Refused []string `json:"refused,omitempty" doc:"Folders that could not be looked at in full, with why."`
}

// mostStrays is how many numbers are told apart.
const mostStrays = 10_000

// BeginStrays begins to look in all folders for what is under numbers that nobody has, or that somebody had who left.
func (s *Service) BeginStrays(ctx context.Context, by Actor) (*job.Job, error) {
	return s.startJob(ctx, by, straysJob, "look for files of numbers that nobody has", struct{}{})
}

type strayKey struct {
	number uint32
	group  bool
}

// runStrays is that job. After a restart it begins anew.
func (s *Service) runStrays(ctx context.Context, j *job.Job) (any, error) {
	out := Strays{Strays: []Stray{}}
	found := make(map[strayKey]*Stray)
	d := s.Policy().Directory
	for _, f := range s.Policy().Folders {
		note := func(number uint32, group bool, o files.Found) {
			key := strayKey{number, group}
			is := found[key]
			if is == nil {
				if len(found) >= mostStrays {
					return
				}
				is = &Stray{Number: number, Group: group, Example: f.Display(o.Path), Name: s.strayName(key)}
				found[key] = is
			}
			is.Files++
			is.Bytes += o.Size
			if !slices.Contains(is.Folders, f.Name) {
				is.Folders = append(is.Folders, f.Name)
			}
		}
		err := files.FactsOf(s.Policy(), f).Walk(ctx, func(o files.Found) error {
			if o.Path == "" && o.Unix.UID == 0 { // the folder's own directory, as it was made
				return nil
			}
			if i := d.UserIndexByUID(o.Unix.UID); i == identity.None || !d.Users()[i].Left.IsZero() {
				note(o.Unix.UID, false, o)
			}
			if d.GroupIndexByGID(o.Unix.GID) == identity.None {
				note(o.Unix.GID, true, o)
			}
			out.Looked++
			j.SetDone(out.Looked)
			return nil
		})
		if ctx.Err() != nil {
			return nil, err
		}
		if err != nil {
			out.Refused = append(out.Refused, f.Name+": "+err.Error())
		}
	}
	for _, is := range found {
		out.Strays = append(out.Strays, *is)
	}
	slices.SortFunc(out.Strays, func(a, b Stray) int {
		return cmp.Or(cmp.Compare(b.Bytes, a.Bytes), cmp.Compare(b.Files, a.Files), cmp.Compare(a.Number, b.Number))
	})
	return out, nil
}

// strayName is whose a number is, or was.
func (s *Service) strayName(key strayKey) string {
	if key.group {
		return ""
	}
	d := s.Policy().Directory
	if i := d.UserIndexByUID(key.number); i != identity.None {
		return d.Users()[i].Name + ", who left"
	}
	r := s.force.Load().records
	if n, ok := r.Retired(key.number, s.Now()); ok {
		return n.Name + ", who was removed"
	}
	return s.lastWith(key.number, 0)
}
