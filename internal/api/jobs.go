package api

import (
	"context"
	"errors"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2/sse"

	"amber.example/gatekeeper/internal/service"
)

// Job is something that goes on by itself for a while.
type Job struct {
	ID      int64     `json:"id"`
	Kind    string    `json:"kind" doc:"What it does: owner, largest."`
	Text    string    `json:"text"`
	Actor   string    `json:"actor"`
	Begun   time.Time `json:"begun"`
	Done    int64     `json:"done" doc:"How many files and directories it has been through."`
	Total   int64     `json:"total,omitempty" doc:"How many there are, where that is known."`
	Rate    float64   `json:"rate,omitempty" doc:"How many a second."`
	Left    *float64  `json:"left,omitempty" doc:"How many seconds it will go on at that rate, where that is known."`
	Over    bool      `json:"over"`
	Error   string    `json:"error,omitempty" doc:"Why it ended early."`
	Largest *Largest  `json:"largest,omitempty" doc:"What a look for the largest found."`
}

func jobOf(w *service.Job) Job {
	out := Job{ID: w.ID, Kind: w.Kind, Text: w.Text, Actor: w.Actor, Begun: w.Begun, Done: w.Done(), Total: w.Total}
	rate, left, known := w.Rate()
	if out.Rate = rate; known {
		seconds := left.Seconds()
		out.Left = &seconds
	}
	var err error
	if out.Over, err = w.Over(); errors.Is(err, context.Canceled) {
		out.Error = "it was cancelled"
	} else if err != nil {
		out.Error = err.Error()
	}
	if l := w.Looked(); l != nil {
		out.Largest = largestOf(l)
	}
	return out
}

// JobOf is the parameter of what is asked of a job.
type JobOf struct {
	ID int64 `path:"id"`
}

// progressEvery is how often whoever follows a job is told how far it is.
const progressEvery = 250 * time.Millisecond

func (s *Server) registerJobs() {
	handle(s, operation("set-owner", http.MethodPut, "/owner", "Give a path, or all below it, to an owner and a group", "places"), func(ctx context.Context, in *struct {
		Body struct {
			Path  string `json:"path" maxLength:"4096"`
			Owner string `json:"owner,omitempty" maxLength:"64"`
			Group string `json:"group,omitempty" maxLength:"64"`
			Below bool   `json:"below,omitempty" doc:"And all that is below; that is a job."`
		}
	}) (Job, error) {
		b := in.Body
		w, err := s.on(ctx).SetOwner(ctx, caller(ctx), b.Path, b.Owner, b.Group, b.Below)
		if err != nil || w == nil {
			return Job{}, err
		}
		return jobOf(w), nil
	})
	handle(s, operation("list-jobs", http.MethodGet, "/jobs", "List what goes on by itself, and what has ended lately", "jobs"), func(ctx context.Context, _ *struct{}) ([]Job, error) {
		out := []Job{}
		for _, w := range s.svc.Jobs() {
			out = append(out, jobOf(w))
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
	do(s, operation("cancel-job", http.MethodDelete, "/jobs/{id}", "Cancel a job; what it has done stays done", "jobs"), func(ctx context.Context, in *JobOf) error {
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
			case <-w.Ended():
			case <-tick.C:
			}
		}
	})
}
