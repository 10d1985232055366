package service

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"sync"
	"sync/atomic"

	"amber.example/gatekeeper/internal/contain"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/store"
)

// Work is something that goes on by itself for a while: it tells how far it is, can be stopped, and
// is taken up again after a restart. Doing it twice is doing it once.
type Work struct {
	ID    int64
	Text  string
	Actor string
	done  atomic.Int64
	over  chan struct{} // closed when it has ended
	err   error         // valid then
	found *files.Largest
	stop  context.CancelFunc
}

// Done is how many files and directories it has been through.
func (w *Work) Done() int64 { return w.done.Load() }

// Over says whether it has ended, and how.
func (w *Work) Over() (bool, error) {
	select {
	case <-w.over:
		return true, w.err
	default:
		return false, nil
	}
}

// works is what is going on and what has ended lately.
type works struct {
	mu     sync.Mutex
	by     map[int64]*Work
	ctx    context.Context
	cancel context.CancelFunc
	wait   sync.WaitGroup
}

func newWorks() *works {
	ctx, cancel := context.WithCancel(context.Background())
	return &works{by: make(map[int64]*Work), ctx: ctx, cancel: cancel}
}

// note remembers a work, and forgets some that have ended.
func (w *works) note(one *Work) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for id, old := range w.by {
		if over, _ := old.Over(); over && len(w.by) > mostFinished {
			delete(w.by, id)
		}
	}
	w.by[one.ID] = one
}

// close stops all work and waits for it; what is not done is taken up at the next start.
func (w *works) close() {
	w.cancel()
	w.wait.Wait()
}

const (
	ownerWork    = "owner"
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
func (s *Service) SetOwner(ctx context.Context, by Actor, full, owner, group string, below bool) (*Work, error) {
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
			id, err = tx.Insert(ctx, `INSERT INTO work (kind, args, actor) VALUES (?, ?, ?)`, ownerWork, string(raw), by.Name)
		}
		return err
	})
	if err != nil || s.drafting != nil {
		if err == nil && below {
			of := s.drafting.of
			s.later(func() {
				of.begin(&Work{ID: id, Text: action + ": " + f.Display(at.Path), Actor: by.Name, over: make(chan struct{})}, args)
			})
		}
		return nil, err
	}
	w := &Work{ID: id, Text: action + ": " + f.Display(at.Path), Actor: by.Name, over: make(chan struct{})}
	if !below {
		w.done.Store(1)
		close(w.over)
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

// errWentWrong is of a work that ended where it should not have.
var errWentWrong = errors.New("something went wrong; the service's log says what")

// begin runs a work by itself.
func (s *Service) begin(w *Work, args ownerArgs) {
	ctx, cancel := context.WithCancel(s.works.ctx)
	w.stop = cancel
	s.works.note(w)
	contain.Go(&s.works.wait, w.Text, func() {
		defer cancel()
		defer close(w.over)
		w.err = errWentWrong // unless it comes to its end
		err := s.giveBelow(ctx, w, args)
		w.err = err
		if s.works.ctx.Err() != nil && w.err != nil {
			return // the service stops: it goes on after the next start
		}
		forget := s.store.Write(context.WithoutCancel(ctx), func(tx *store.Tx) error {
			return tx.Run(context.WithoutCancel(ctx), `DELETE FROM work WHERE id = ?`, w.ID)
		})
		w.err = errors.Join(w.err, forget)
	})
}

func (s *Service) giveBelow(ctx context.Context, w *Work, args ownerArgs) error {
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

// resumeWork takes up what was going on when the service stopped.
func (s *Service) resumeWork(ctx context.Context) error {
	rows, err := s.store.DB().QueryContext(ctx, `SELECT id, args, actor FROM work WHERE kind = ? ORDER BY id`, ownerWork)
	if err != nil {
		return err
	}
	defer rows.Close()
	type left struct {
		w    *Work
		args ownerArgs
	}
	var all []left
	for rows.Next() {
		var raw string
		l := left{w: &Work{over: make(chan struct{})}}
		if err := rows.Scan(&l.w.ID, &raw, &l.w.Actor); err != nil {
			return err
		}
		if err := json.Unmarshal([]byte(raw), &l.args); err != nil {
			return fmt.Errorf("work %d: %w", l.w.ID, err)
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

// Work finds a work by its number.
func (s *Service) Work(id int64) (*Work, error) {
	s.works.mu.Lock()
	defer s.works.mu.Unlock()
	if w := s.works.by[id]; w != nil {
		return w, nil
	}
	return nil, notFound("id", "", "no work %d is going on", id)
}

// StopWork ends a work where it is. What it has done stays done.
func (s *Service) StopWork(ctx context.Context, by Actor, id int64) error {
	w, err := s.Work(id)
	if err != nil {
		return err
	}
	if w.ID > firstLook && (w.Actor == by.Name || by.Role == identity.Administrator) { // it changes nothing
		w.stop()
		<-w.over
		return nil
	}
	err = s.change(ctx, by, "stop work", w.Text, func(*site.Draft) error { return nil })
	if err == nil {
		w.stop()
		<-w.over
	}
	return err
}
