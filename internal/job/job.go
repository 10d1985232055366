// Package job runs what takes long by itself: what is of a registered kind tells how far it is, can be cancelled, and goes on after a
// restart of the service where it was.
package job

import (
	"context"
	"encoding/json"
	"errors"
	"sync/atomic"
	"time"
)

// Kind is a kind of job, registered once.
type Kind struct {
	Name string
	// Run does it and gives what came of it, to be written down as JSON. It looks at where the job was (Was) and says where it is (At).
	// Where it ends with the context's error as the service stops, it is taken up again at the next start.
	Run func(ctx context.Context, j *Job) (result any, err error)
	// Most is how many of the kind go on at once; 0 for any number.
	Most int
}

// Progress is how far a job is.
type Progress struct {
	Done  int64  // how many things, such as files and directories, it has been through
	Total int64  // how many there are, as far as that is known; 0 where it is not
	Mark  string // where it is, in the words of its kind; "" for the beginning
}

// Record is a job as it is written down.
type Record struct {
	ID    int64 // 0 before it is written down
	Kind  string
	Args  json.RawMessage // of its kind
	Text  string          // what it does, in words
	Actor string
	Begun time.Time
	Progress
	Ended  time.Time       // zero while it goes on
	Error  string          // why it ended early; "" where it did not
	Result json.RawMessage // what came of it; nil where it has not come to its end
}

// Errors of jobs.
var (
	ErrCancelled = errors.New("it was cancelled")
	ErrFull      = errors.New("as many as may be go on already")
	ErrNone      = errors.New("there is no such job")
	errWentWrong = errors.New("something went wrong; the service's log says what")
)

// every is how often it is written down how far a job is.
const every = time.Second

// Job is one that goes on, or has ended.
type Job struct {
	is      Record // what does not change while it goes on, and how it ended once it is over
	done    atomic.Int64
	total   atomic.Int64
	taken   time.Time // since when this process has been at it
	before  int64     // how far it was then
	noted   time.Time // when it was last written down how far it is
	visited int       // calls of At
	runner  *Runner
	over    chan struct{} // closed when it has ended
	stop    context.CancelCauseFunc
}

// ID is its number.
func (j *Job) ID() int64 { return j.is.ID }

// Args reads what it was started with.
func (j *Job) Args(into any) error { return json.Unmarshal(j.is.Args, into) }

// Was is where it was when it was taken up; "" for the beginning.
func (j *Job) Was() string { return j.is.Mark }

// SetTotal says how many things there are.
func (j *Job) SetTotal(n int64) { j.total.Store(n) }

// SetDone says how many things it has been through.
func (j *Job) SetDone(n int64) { j.done.Store(n) }

// Step says that it has been through one thing more.
func (j *Job) Step() { j.done.Add(1) }

// At has it written down now and then where the job is. where is asked for only then; it is called by the goroutine that runs the job.
func (j *Job) At(ctx context.Context, where func() (mark string, err error)) error {
	const look = 64
	if j.visited++; j.visited%look != 0 || time.Since(j.noted) < every {
		return nil
	}
	return j.Note(ctx, where)
}

// Note has it written down at once where the job is.
func (j *Job) Note(ctx context.Context, where func() (mark string, err error)) error {
	mark, err := where()
	if err != nil {
		return err
	}
	j.noted = time.Now()
	return j.runner.keeper.NoteJob(ctx, j.is.ID, Progress{j.done.Load(), j.total.Load(), mark})
}

// Over is closed once it has ended, or is held up until the next start.
func (j *Job) Over() <-chan struct{} { return j.over }

// IsOver says whether it has ended.
func (j *Job) IsOver() bool {
	select {
	case <-j.over:
		return true
	default:
		return false
	}
}

// Now is the job as it is at this moment.
func (j *Job) Now() Record {
	out := Record{ID: j.is.ID, Kind: j.is.Kind, Args: j.is.Args, Text: j.is.Text, Actor: j.is.Actor, Begun: j.is.Begun}
	if j.IsOver() {
		out = j.is
	}
	if out.Done, out.Total = j.done.Load(), j.total.Load(); out.Done > out.Total { // more came than there were
		out.Total = 0
	}
	return out
}

// Rate is how many things a second it has been through since it was last taken up, and left how long it will go on at that; known is false where
// nobody can tell.
func (j *Job) Rate() (perSecond float64, left time.Duration, known bool) {
	until, over := time.Now(), j.IsOver()
	if over {
		until = j.is.Ended
	}
	took, done := until.Sub(j.taken).Seconds(), j.done.Load()-j.before
	if took <= 0 || done <= 0 {
		return 0, 0, false
	}
	perSecond = float64(done) / took
	still := j.total.Load() - j.done.Load()
	if over || still < 0 {
		return perSecond, 0, false
	}
	return perSecond, time.Duration(float64(still) / perSecond * float64(time.Second)), true
}
