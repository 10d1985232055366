package service

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"sync/atomic"
	"time"

	"amber.example/gatekeeper/internal/contain"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/store"
)

// Job is something that goes on by itself for a while: it tells how far it is, can be stopped, and
// is taken up again after a restart. Doing it twice is doing it once.
type Job struct {
	ID    int64
	Kind  string
	Text  string
	Actor string
	Begun time.Time // since this process has been at it
	Total int64     // how many files and directories there are, as far as is known; 0 where it is not
	done  atomic.Int64
	ended time.Time     // valid once over
	over  chan struct{} // closed when it has ended
	err   error         // valid then
	found *files.Largest
	stop  context.CancelFunc
}

func newJob(id int64, kind, text, actor string) *Job {
	return &Job{ID: id, Kind: kind, Text: text, Actor: actor, Begun: time.Now(), over: make(chan struct{})}
}

// Done is how many files and directories it has been through.
func (w *Job) Done() int64 { return w.done.Load() }

// Rate is how many a second it has been through, and Left how long it will go on at that rate; false where nobody can tell.
func (w *Job) Rate() (perSecond float64, left time.Duration, known bool) {
	until := time.Now()
	over, _ := w.Over()
	if over {
		until = w.ended
	}
	took, done := until.Sub(w.Begun).Seconds(), w.Done()
	if took <= 0 || done == 0 {
		return 0, 0, false
	}
	perSecond = float64(done) / took
	if over || w.Total <= 0 {
		return perSecond, 0, false
	}
	return perSecond, time.Duration(float64(max(w.Total-done, 0)) / perSecond * float64(time.Second)), true
}

// end notes how it ended.
func (w *Job) end(err error) {
	w.err, w.ended = err, time.Now()
	close(w.over)
}

// Ended is closed once it has.
func (w *Job) Ended() <-chan struct{} { return w.over }

// Over says whether it has ended, and how.
func (w *Job) Over() (bool, error) {
	select {
	case <-w.over:
		return true, w.err
	default:
		return false, nil
	}
}

// jobs is what is going on and what has ended lately.
type jobs struct {
	mu     sync.Mutex
	by     map[int64]*Job
	ctx    context.Context
	cancel context.CancelFunc
	wait   sync.WaitGroup
}

func newJobs() *jobs {
	ctx, cancel := context.WithCancel(context.Background())
	return &jobs{by: make(map[int64]*Job), ctx: ctx, cancel: cancel}
}

// note remembers a job, and forgets some that have ended.
func (w *jobs) note(one *Job) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for id, old := range w.by {
		if over, _ := old.Over(); over && len(w.by) > mostFinished {
			delete(w.by, id)
		}
	}
	w.by[one.ID] = one
}

// close stops all jobs and waits for it; what is not done is taken up at the next start.
func (w *jobs) close() {
	w.cancel()
	w.wait.Wait()
}

const (
	ownerJob     = "owner"
	mostFinished = 100
)

// ownerArgs is what changing an owner takes; records are named by number.
type ownerArgs struct {
	Folder int64       `json:"folder"`
	Path   string      `json:"path"`
	Owner  identity.ID `json:"owner,omitempty"`
	Group  identity.ID `json:"group,omitempty"`
}

// SetOwner gives FOLDER or FOLDER/PATH, and with below all that is below it, an owner, a group, or
// both; "" leaves one. Below, it goes on by itself.
func (s *Service) SetOwner(ctx context.Context, by Actor, full, owner, group string, below bool) (*Job, error) {
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
	raw, err := json.Marshal(args)
	if err != nil {
		return nil, err
	}
	var id int64
	err = s.change(ctx, by, action, f.Display(at.Path), func(d *site.Draft) error {
		if !below || s.tried() {
			s.setMode(d, f, at.Path, s.ownerSet(args))
		}
		return nil
	}, func(tx *store.Tx) (err error) {
		if below {
			id, err = tx.Insert(ctx, `INSERT INTO jobs (kind, args, actor) VALUES (?, ?, ?)`, ownerJob, string(raw), by.Name)
		}
		return err
	})
	if err != nil || s.drafting != nil {
		if err == nil && below {
			of := s.drafting.of
			s.later(func() {
				of.begin(newJob(id, ownerJob, action+": "+f.Display(at.Path), by.Name), args)
			})
		}
		return nil, err
	}
	w := newJob(id, ownerJob, action+": "+f.Display(at.Path), by.Name)
	if !below {
		w.done.Store(1)
		w.end(nil)
		return w, nil
	}
	s.begin(w, args)
	return w, nil
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

// errWentWrong is of a job that ended where it should not have.
var errWentWrong = errors.New("something went wrong; the service's log says what")

// begin runs a job by itself.
func (s *Service) begin(w *Job, args ownerArgs) {
	ctx, cancel := context.WithCancel(s.jobs.ctx)
	w.stop = cancel
	w.Total = s.countedBelow(args.Folder, args.Path)
	s.jobs.note(w)
	contain.Go(&s.jobs.wait, w.Text, func() {
		defer cancel()
		err := errWentWrong // unless it comes to its end
		defer func() { w.end(err) }()
		if err = s.giveBelow(ctx, w, args); s.jobs.ctx.Err() != nil && err != nil {
			return // the service stops: it goes on after the next start
		}
		forget := s.store.Write(context.WithoutCancel(ctx), func(tx *store.Tx) error {
			return tx.Run(context.WithoutCancel(ctx), `DELETE FROM jobs WHERE id = ?`, w.ID)
		})
		err = errors.Join(err, forget)
	})
}

func (s *Service) giveBelow(ctx context.Context, w *Job, args ownerArgs) error {
	f := s.Policy().Folder(args.Folder)
	if f == nil {
		return notFound("path", "amber folder list", "the folder is gone")
	}
	set := s.ownerSet(args)
	return files.FactsOf(s.Policy(), f).WalkFrom(ctx, args.Path, func(o files.Found) error {
		defer w.done.Add(1)
		return files.SetMode(s.Policy(), s.ledger, f, o.Path, set)
	})
}

// resumeJobs takes up what was going on when the service stopped.
func (s *Service) resumeJobs(ctx context.Context) error {
	rows, err := s.store.DB().QueryContext(ctx, `SELECT id, args, actor FROM jobs WHERE kind = ? ORDER BY id`, ownerJob)
	if err != nil {
		return err
	}
	defer rows.Close()
	type left struct {
		w    *Job
		args ownerArgs
	}
	var all []left
	for rows.Next() {
		var raw string
		l := left{w: newJob(0, ownerJob, "", "")}
		if err := rows.Scan(&l.w.ID, &raw, &l.w.Actor); err != nil {
			return err
		}
		if err := json.Unmarshal([]byte(raw), &l.args); err != nil {
			return fmt.Errorf("job %d: %w", l.w.ID, err)
		}
		l.w.Text = "give owner and group, taken up again"
		if f := s.Policy().Folder(l.args.Folder); f != nil {
			l.w.Text += ": " + f.Display(l.args.Path)
		}
		all = append(all, l)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	for _, l := range all {
		s.begin(l.w, l.args)
	}
	return nil
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

// Jobs lists what goes on and what has ended lately, the latest first.
func (s *Service) Jobs() []*Job {
	s.jobs.mu.Lock()
	defer s.jobs.mu.Unlock()
	out := slices.Collect(maps.Values(s.jobs.by))
	slices.SortFunc(out, func(a, b *Job) int { return cmp.Or(b.Begun.Compare(a.Begun), cmp.Compare(b.ID, a.ID)) })
	return out
}

// Job finds a job by its number.
func (s *Service) Job(id int64) (*Job, error) {
	s.jobs.mu.Lock()
	defer s.jobs.mu.Unlock()
	if w := s.jobs.by[id]; w != nil {
		return w, nil
	}
	return nil, notFound("id", "amber job list", "there is no job %d", id)
}

// CancelJob ends a job where it is. What it has done stays done.
func (s *Service) CancelJob(ctx context.Context, by Actor, id int64) error {
	w, err := s.Job(id)
	if err != nil {
		return err
	}
	if w.ID > firstLook && (w.Actor == by.Name || by.Role == identity.Administrator) { // it changes nothing
		w.stop()
		<-w.over
		return nil
	}
	err = s.change(ctx, by, "cancel job", w.Text, func(*site.Draft) error { return nil })
	if err == nil {
		w.stop()
		<-w.over
	}
	return err
}
