package job

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"maps"
	"slices"
	"sync"
	"time"

	"amber.example/gatekeeper/internal/contain"
)

// Keeper writes jobs down.
type Keeper interface {
	// Jobs gives all that are written down, in the order of their numbers.
	Jobs(ctx context.Context) ([]Record, error)
	// AddJob writes one down and gives its number.
	AddJob(ctx context.Context, r Record) (int64, error)
	NoteJob(ctx context.Context, id int64, p Progress) error
	// EndJob writes down how one ended, and forgets all but the latest of those that have.
	EndJob(ctx context.Context, r Record, keep int) error
}

// mostEnded is how many that have ended are remembered.
const mostEnded = 100

// Runner has jobs run.
type Runner struct {
	keeper Keeper
	kinds  map[string]Kind
	ctx    context.Context
	cancel context.CancelFunc
	wait   sync.WaitGroup

	mu sync.Mutex
	by map[int64]*Job
}

// New makes a runner of some kinds of job. Nothing runs before Resume.
func New(keeper Keeper, kinds ...Kind) *Runner {
	ctx, cancel := context.WithCancel(context.Background())
	r := &Runner{keeper: keeper, kinds: make(map[string]Kind), ctx: ctx, cancel: cancel, by: make(map[int64]*Job)}
	for _, k := range kinds {
		r.kinds[k.Name] = k
	}
	return r
}

// Resume takes up what was going on when the service was ended, and remembers what had ended.
func (r *Runner) Resume(ctx context.Context) error {
	all, err := r.keeper.Jobs(ctx)
	if err != nil {
		return fmt.Errorf("jobs: %w", err)
	}
	for _, is := range all {
		j := r.job(is)
		j.done.Store(is.Done)
		j.total.Store(is.Total)
		switch {
		case !is.Ended.IsZero():
			j.taken, j.before = is.Begun, 0
			close(j.over)
			r.mu.Lock()
			r.by[is.ID] = j
			r.mu.Unlock()
		case r.kinds[is.Kind].Run == nil:
			slog.Error("a job that was going on is of a kind that is not known, and is left", "job", is.ID, "kind", is.Kind)
		default:
			r.run(j)
		}
	}
	return nil
}

func (r *Runner) job(is Record) *Job {
	return &Job{is: is, taken: time.Now(), before: is.Done, noted: time.Now(), runner: r, over: make(chan struct{})}
}

// Draft is a job as it is to be written down by who starts it. Errors: ErrFull.
func (r *Runner) Draft(kind, text, actor string, args any) (Record, error) {
	k, known := r.kinds[kind]
	if !known {
		return Record{}, fmt.Errorf("there is no kind of job %q", kind)
	}
	if k.Most > 0 && r.goingOn(kind) >= k.Most {
		return Record{}, ErrFull
	}
	raw, err := json.Marshal(args)
	return Record{Kind: kind, Args: raw, Text: text, Actor: actor, Begun: time.Now().UTC().Truncate(time.Second)}, err
}

func (r *Runner) goingOn(kind string) (n int) {
	r.mu.Lock()
	defer r.mu.Unlock()
	for _, j := range r.by {
		if j.is.Kind == kind && !j.IsOver() {
			n++
		}
	}
	return n
}

// Begin runs a job that has been written down.
func (r *Runner) Begin(is Record) *Job {
	j := r.job(is)
	r.run(j)
	return j
}

// Start writes a job down and runs it. Errors: ErrFull.
func (r *Runner) Start(ctx context.Context, kind, text, actor string, args any) (*Job, error) {
	is, err := r.Draft(kind, text, actor, args)
	if err != nil {
		return nil, err
	}
	if is.ID, err = r.keeper.AddJob(ctx, is); err != nil {
		return nil, err
	}
	return r.Begin(is), nil
}

func (r *Runner) run(j *Job) {
	ctx, stop := context.WithCancelCause(r.ctx)
	j.stop = stop
	r.mu.Lock()
	r.by[j.is.ID] = j
	r.forget()
	r.mu.Unlock()
	contain.Go(&r.wait, "job "+j.is.Text, func() {
		defer stop(nil)
		err := errWentWrong // unless it comes to its end
		var result any
		defer func() { r.end(j, result, err) }()
		result, err = r.kinds[j.is.Kind].Run(ctx, j)
		if err != nil && errors.Is(context.Cause(ctx), ErrCancelled) {
			err = ErrCancelled
		}
	})
}

// end notes how a job ended, unless the service is what ends: then it is taken up at the next start.
func (r *Runner) end(j *Job, result any, err error) {
	held := err != nil && r.ctx.Err() != nil && !errors.Is(err, ErrCancelled)
	j.is.Done, j.is.Total, j.is.Ended = j.done.Load(), j.total.Load(), time.Now().UTC()
	if err != nil {
		j.is.Error = err.Error()
	} else if j.is.Result, err = json.Marshal(result); err != nil {
		j.is.Error = err.Error()
	}
	if !held {
		if err := r.keeper.EndJob(context.WithoutCancel(r.ctx), j.is, mostEnded); err != nil {
			slog.Error("that a job has ended cannot be written down: it is done again at the next start", "job", j.is.ID, "error", err)
		}
	}
	close(j.over)
}

// forget forgets the eldest of those that have ended, where there are many. The caller has the lock.
func (r *Runner) forget() {
	var ended []int64
	for id, j := range r.by {
		if j.IsOver() {
			ended = append(ended, id)
		}
	}
	slices.Sort(ended)
	for _, id := range ended[:max(0, len(ended)-mostEnded)] {
		delete(r.by, id)
	}
}

// All lists jobs that go on and those that have ended lately, the latest first.
func (r *Runner) All() []*Job {
	r.mu.Lock()
	defer r.mu.Unlock()
	return slices.SortedFunc(maps.Values(r.by), func(a, b *Job) int { return cmp.Compare(b.is.ID, a.is.ID) })
}

// Job finds one by its number. Errors: ErrNone.
func (r *Runner) Job(id int64) (*Job, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if j := r.by[id]; j != nil {
		return j, nil
	}
	return nil, ErrNone
}

// Cancel ends a job where it is, and waits until it has ended.
func (r *Runner) Cancel(j *Job) {
	if j.stop != nil {
		j.stop(ErrCancelled)
	}
	<-j.over
}

// WindDown has all jobs end, to be taken up at the next start.
func (r *Runner) WindDown() { r.cancel() }

// Close is WindDown, and waits for it.
func (r *Runner) Close() {
	r.cancel()
	r.wait.Wait()
}
