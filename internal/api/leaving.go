package api

import (
	"context"
	"net/http"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/service"
)

// Leave is how somebody leaves.
type Leave struct {
	On    *time.Time `json:"on,omitempty" doc:"When; now, if left out. Until then all stays as it is."`
	To    string     `json:"to,omitempty" maxLength:"64" doc:"Who succeeds them: entries, ownership of folders and groups, and reviews that go on pass to that user. What was denied to them passes to nobody."`
	Files bool       `json:"files,omitempty" doc:"What they own on disk passes to that user as well; that is a job."`
	Hold  string     `json:"hold,omitempty" maxLength:"80" doc:"Or is kept in this folder, in a directory of their name; that is a job."`
	Until *time.Time `json:"until,omitempty" doc:"Until when it is to be kept; for good, if left out."`
}

func (b Leave) input() service.LeaveInput {
	in := service.LeaveInput{To: b.To, Files: b.Files, Hold: b.Hold}
	if b.Until != nil {
		in.Until = *b.Until
	}
	if b.On != nil {
		in.On = *b.On
	}
	return in
}

// NumberToGive says who is to have what belongs to a number.
type NumberToGive struct {
	UID uint32 `json:"uid" maximum:"4294967294"`
	To  string `json:"to" maxLength:"64"`
}

const (
	planLeave     = "plan-leave"
	beginStrays   = "begin-strays"
	handOver      = "hand-over"
	makeOwn       = "make-own"
	removeHolding = "remove-holding"
)

func (s *Server) registerLeaving() {
	handle(s, operation(planLeave, http.MethodPost, "/users/{name}/leaving/read", "Say what would become of all that somebody has who leaves", "people"), func(ctx context.Context, in *struct {
		Named
		Body Leave
	}) (service.Departure, error) {
		return s.on(ctx).PlanLeave(in.Name, in.Body.input())
	})
	handle(s, operation("leave-user", http.MethodPost, "/users/{name}/leaving", "Have somebody leave, now or on a day", "people"), func(ctx context.Context, in *struct {
		Named
		Body Leave
	}) (service.Departure, error) {
		return s.on(ctx).Leave(ctx, caller(ctx), in.Name, in.Body.input())
	})
	do(s, operation("stay-user", http.MethodDelete, "/users/{name}/leaving", "Take back that somebody is to leave on a day", "people"), func(ctx context.Context, in *Named) error {
		return s.on(ctx).Stay(ctx, caller(ctx), in.Name)
	})
	handle(s, operation("list-holdings", http.MethodGet, "/holdings", "List what is kept of people who left", "people"), func(ctx context.Context, _ *struct{}) ([]Holding, error) {
		p := s.on(ctx).Policy()
		out := []Holding{}
		for i := range p.Holdings {
			out = append(out, holdingOf(p, &p.Holdings[i]))
		}
		return out, nil
	})
	handle(s, operation("change-holding", http.MethodPatch, "/holdings/{name}", "Keep what somebody left until another day", "people"), func(ctx context.Context, in *struct {
		Named
		Body KeepUntil
	}) (Holding, error) {
		until := time.Time{}
		if in.Body.Until != nil {
			until = *in.Body.Until
		}
		is, err := s.on(ctx).ChangeHolding(ctx, caller(ctx), in.Name, until)
		return shownBy(is, err, func(h *site.Holding) Holding { return holdingOf(s.on(ctx).Policy(), h) })
	})
	handle(s, operation(removeHolding, http.MethodDelete, "/holdings/{name}", "Remove what is kept of somebody who left, from disk as well; that is a job", "people"), func(ctx context.Context, in *Named) (Job, error) {
		j, err := s.on(ctx).RemoveHolding(ctx, caller(ctx), in.Name)
		return shownBy(j, err, jobOf)
	})
	handle(s, operation(beginStrays, http.MethodPost, "/ids/strays", "Look for files of numbers that nobody has; that is a job", "people"), func(ctx context.Context, _ *struct{}) (Job, error) {
		j, err := s.on(ctx).BeginStrays(ctx, caller(ctx))
		return shownBy(j, err, jobOf)
	})
	handle(s, operation(handOver, http.MethodPost, "/ids/hand-over", "Give somebody what belongs to a number; that is a job", "people"), func(ctx context.Context, in *struct{ Body NumberToGive }) (Job, error) {
		j, err := s.on(ctx).HandOver(ctx, caller(ctx), in.Body.UID, in.Body.To)
		return shownBy(j, err, jobOf)
	})
}

// Holding is what is kept of somebody who left.
type Holding struct {
	Of    string     `json:"of" doc:"Whose it was."`
	UID   uint32     `json:"uid"`
	Where string     `json:"where" doc:"As FOLDER/PATH."`
	Since time.Time  `json:"since"`
	Until *time.Time `json:"until,omitempty" doc:"Until when; left out where no day is said."`
}

// KeepUntil says until when something is kept.
type KeepUntil struct {
	Until *time.Time `json:"until,omitempty" doc:"For good, if left out."`
}

func holdingOf(p *site.Policy, h *site.Holding) Holding {
	out := Holding{Of: h.Name, UID: h.UID, Where: h.Path, Since: h.Since, Until: orNever(h.Until)}
	if f := p.Folder(h.FolderID); f != nil {
		out.Where = f.Display(h.Path)
	}
	return out
}

// leavingOf is what is planned for a user.
func leavingOf(p *site.Policy, u *identity.User) *PlannedLeaving {
	if u.Leaving == nil {
		return nil
	}
	out := &PlannedLeaving{On: u.Leaving.On, Files: u.Leaving.Files, Until: orNever(u.Leaving.Until)}
	if f := p.Folder(u.Leaving.Hold); f != nil {
		out.Hold = f.Name
	}
	if to := p.Directory.User(u.Leaving.To); to != nil {
		out.To = to.Name
	}
	return out
}

// PlannedLeaving is how somebody will leave.
type PlannedLeaving struct {
	On    time.Time  `json:"on"`
	To    string     `json:"to,omitempty"`
	Files bool       `json:"files"`
	Hold  string     `json:"hold,omitempty"`
	Until *time.Time `json:"until,omitempty"`
}
