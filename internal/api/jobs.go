package api

import (
	"context"
	"encoding/json"
	"net/http"
	"strconv"
	"time"

	"github.com/danielgtaylor/huma/v2/sse"

	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/job"
	"amber.example/gatekeeper/internal/service"
)

// Job is something that goes on by itself for a while.
type Job struct {
	ID         int64               `json:"id"`
	Kind       string              `json:"kind" enum:"owner,convert,survey,largest,hand over,strays,own directories" doc:"What it does."`
	Text       string              `json:"text"`
	Actor      string              `json:"actor"`
	Begun      time.Time           `json:"begun"`
	Done       int64               `json:"done" doc:"How many files and directories it has been through."`
	Total      int64               `json:"total,omitempty" doc:"How many there are, where that is known."`
	Rate       float64             `json:"rate,omitempty" doc:"How many a second, since it was last taken up."`
	Left       *float64            `json:"left,omitempty" doc:"How many seconds it will go on at that rate, where that is known."`
	Over       bool                `json:"over"`
	Ended      *time.Time          `json:"ended,omitempty"`
	Error      string              `json:"error,omitempty" doc:"Why it ended early."`
	Largest    *Largest            `json:"largest,omitempty" doc:"What a look for the largest found."`
	Survey     *service.Survey     `json:"survey,omitempty" doc:"What a survey found."`
	Converted  *service.Converted  `json:"converted,omitempty" doc:"What became of a folder's modes."`
	Strays     *service.Strays     `json:"strays,omitempty" doc:"What is under numbers that nobody has."`
	HandedOver *service.HandedOver `json:"handedOver,omitempty" doc:"What was given to somebody."`
	Held       *service.HeldNow    `json:"held,omitempty" doc:"What came to be kept, or what was kept and is removed."`
	OwnMade    *service.OwnMade    `json:"ownMade,omitempty" doc:"How many directories were made."`
}

func jobOf(j *job.Job) Job {
	is := j.Now()
	out := Job{ID: is.ID, Kind: is.Kind, Text: is.Text, Actor: is.Actor, Begun: is.Begun, Done: is.Done, Total: is.Total, Over: j.IsOver(), Error: is.Error}
	rate, left, known := j.Rate()
	if out.Rate = rate; known {
		seconds := left.Seconds()
		out.Left = &seconds
	}
	out.Ended = orNever(is.Ended)
	if is.Result == nil {
		return out
	}
	switch is.Kind {
	case "largest":
		var found files.Largest
		if json.Unmarshal(is.Result, &found) == nil {
			out.Largest = largestOf(&found)
		}
	case "survey":
		_ = json.Unmarshal(is.Result, &out.Survey)
	case "own directories":
		_ = json.Unmarshal(is.Result, &out.OwnMade)
	case "strays":
		_ = json.Unmarshal(is.Result, &out.Strays)
	case "hold", "remove what was held":
		_ = json.Unmarshal(is.Result, &out.Held)
	case "hand over":
		_ = json.Unmarshal(is.Result, &out.HandedOver)
	case "convert":
		_ = json.Unmarshal(is.Result, &out.Converted)
	}
	return out
}

// JobOf is the parameter of what is asked of a job.
type JobOf struct {
	ID int64 `path:"id"`
}

// progressEvery is how often whoever follows a job is told how far it is.
const progressEvery = 250 * time.Millisecond

// OwnerToSet says to whom a path is given.
type OwnerToSet struct {
	Path  string `json:"path" maxLength:"4096"`
	Owner string `json:"owner,omitempty" maxLength:"64"`
	Group string `json:"group,omitempty" maxLength:"64"`
	Below bool   `json:"below,omitempty" doc:"And all that is below; that is a job."`
}

func (s *Server) registerJobs() {
	handle(s, operation("set-owner", http.MethodPut, "/owner", "Give a path, or all below it, to an owner and a group", "places"), func(ctx context.Context, in *struct{ Body OwnerToSet }) (Job, error) {
		b := in.Body
		w, err := s.on(ctx).SetOwner(ctx, caller(ctx), b.Path, b.Owner, b.Group, b.Below)
		if err != nil {
			return Job{}, err
		}
		if w == nil {
			return Job{Kind: "owner", Actor: caller(ctx).Name, Begun: time.Now().UTC(), Over: true, Done: 1}, nil
		}
		return jobOf(w), nil
	})
	jobs := listing[Job]{name: func(j *Job) string { return strconv.FormatInt(j.ID, 10) }, matches: func(j *Job) []string { return []string{j.Kind, j.Text, j.Actor} },
		sorts: map[string]func(*Job) string{"number": func(j *Job) string { return byNumber(j.ID) }, "actor": func(j *Job) string { return j.Actor }, "kind": func(j *Job) string { return j.Kind }}}
	list(s, operation("list-jobs", http.MethodGet, "/jobs", "List what goes on by itself, and what has ended lately", "jobs"), jobs, func(context.Context) ([]Job, error) {
		var out []Job
		for _, j := range s.svc.Jobs() {
			one := jobOf(j)
			one.Largest, one.Survey = nil, nil // shown where one is asked for
			out = append(out, one)
		}
		return out, nil
	})
	handle(s, operation("show-job", http.MethodGet, "/jobs/{id}", "Tell how far a job is", "jobs"), func(ctx context.Context, in *JobOf) (Job, error) {
		w, err := s.svc.Job(in.ID)
		if err != nil {
			return Job{}, err
		}
		return jobOf(w), nil
	})
	do(s, operation(cancelJob, http.MethodDelete, "/jobs/{id}", "Cancel a job; what it has done stays done", "jobs"), func(ctx context.Context, in *JobOf) error {
		return s.svc.CancelJob(ctx, caller(ctx), in.ID)
	})
	sse.Register(s.api, operation("follow-job", http.MethodGet, "/jobs/{id}/progress", "Follow a job until it has ended", "jobs"), map[string]any{"progress": Job{}}, func(ctx context.Context, in *JobOf, send sse.Sender) {
		w, err := s.svc.Job(in.ID)
		if err != nil {
			return
		}
		tick := time.NewTicker(progressEvery)
		defer tick.Stop()
		for {
			is := jobOf(w)
			if send.Data(is) != nil || is.Over {
				return
			}
			select {
			case <-ctx.Done():
				return
			case <-w.Over():
			case <-tick.C:
			}
		}
	})
}
