package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strconv"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/contain"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/job"
	"amber.example/gatekeeper/internal/report"
	"amber.example/gatekeeper/internal/store"
)

// LeaveInput is how somebody leaves.
type LeaveInput struct {
	On    time.Time // zero, or a moment that has passed, for now
	To    string    // who succeeds them: entries, ownership and reviews pass to that one; "" for nobody
	Files bool      // what they own on disk passes to the successor as well, by a job
	Hold  string    // or is kept in this folder, by a job; "" for that it stays where it is
	Until time.Time // until this day; zero for no day
}

// Departure is how somebody left, or will.
type Departure struct {
	User     string         `json:"user"`
	To       string         `json:"to,omitempty"`
	On       time.Time      `json:"on"`
	Planned  bool           `json:"planned" doc:"It is to come."`
	Partings []site.Parting `json:"partings" doc:"What they have, and what becomes of it."`
	Job      int64          `json:"job,omitempty" doc:"The job that passes on what they own on disk, or has it kept."`
}

// leaving checks how somebody is to leave.
func (s *Service) leaving(name string, in LeaveInput) (user, to *identity.User, err error) {
	if user, err = s.User(name); err != nil {
		return nil, nil, err
	}
	switch {
	case !user.Left.IsZero():
		return nil, nil, conflict("name", "amber user show "+quote(user.Name), "%s left on %s", user.Name, user.Left.Format("2 Jan 2006"))
	case in.Files && in.Hold != "":
		return nil, nil, invalid("hold", "what they own on disk passes to %s or is kept: say one of the two", cmp.Or(in.To, "somebody"))
	case in.Hold == "" && !in.Until.IsZero():
		return nil, nil, invalid("until", "say in which folder what they own on disk is kept until then")
	case !in.Until.IsZero() && !in.Until.After(cmp.Or(in.On, s.Now())):
		return nil, nil, invalid("until", "it would be kept until before they leave")
	case in.To == "" && in.Files:
		return nil, nil, invalid("to", "say to whom what they own on disk is to pass")
	}
	if in.Hold != "" {
		if err := s.mayHold(in.Hold); err != nil {
			return nil, nil, err
		}
	}
	if in.To == "" {
		return user, nil, nil
	}
	if to, err = s.User(in.To); err != nil {
		return nil, nil, err
	}
	switch {
	case to.ID == user.ID:
		return nil, nil, invalid("to", "%s cannot succeed themselves", user.Name)
	case !to.Left.IsZero() || to.Disabled || to.Ended(s.Now()):
		return nil, nil, invalid("to", "the account of %s does not work: name somebody else", to.Name)
	}
	return user, to, nil
}

// PlanLeave says what would become of all that somebody has, and changes nothing.
func (s *Service) PlanLeave(name string, in LeaveInput) (Departure, error) {
	user, to, err := s.leaving(name, in)
	if err != nil {
		return Departure{}, err
	}
	return s.planLeave(user, to, in), nil
}

func (s *Service) planLeave(user, to *identity.User, in LeaveInput) Departure {
	is := s.force.Load()
	return s.depart(site.NewDraft(is.records, is.numbers), user, to, in)
}

// planned is how somebody is to leave; the zero value where nothing is planned.
func planned(p *site.Policy, u *identity.User) (in LeaveInput) {
	if u.Leaving == nil {
		return in
	}
	in.On, in.Files, in.Until = u.Leaving.On, u.Leaving.Files, u.Leaving.Until
	if f := p.Folder(u.Leaving.Hold); f != nil {
		in.Hold = f.Name
	}
	if to := p.Directory.User(u.Leaving.To); to != nil {
		in.To = to.Name
	}
	return in
}

func (s *Service) depart(d *site.Draft, user, to *identity.User, in LeaveInput) Departure {
	now := instant(s.Now())
	out := Departure{User: user.Name, On: now, Partings: []site.Parting{}}
	if in.On.After(now) {
		out.On, out.Planned = instant(in.On), true
	}
	succeeds := identity.ID(0)
	if to != nil {
		out.To, succeeds = to.Name, to.ID
	}
	out.Partings = append(out.Partings, site.Depart(d, s.Policy().Directory, user.ID, succeeds, out.On)...)
	if use := s.ledger.Use(limit.Counter{Of: limit.Owned, Number: user.UID}); use.Files > 0 || in.Files || in.Hold != "" {
		p := site.Parting{What: "files", Where: fmt.Sprintf("what belongs to uid %d: %s, as far as is counted", user.UID, limit.Files.Spell(use.Files)), Becomes: "stay where they are, and theirs"}
		switch {
		case in.Files:
			p.Becomes = "pass to " + to.Name + ", by a job"
		case in.Hold != "":
			p.Becomes = "are kept in " + in.Hold + untilDay(in.Until) + ", by a job"
		}
		out.Partings = append(out.Partings, p)
	}
	becomes := "stays where it is, and nobody gets into it by its being theirs"
	if in.Hold != "" {
		becomes = "is kept in " + in.Hold + untilDay(in.Until) + ", by a job"
	}
	for _, own := range s.ownOf(user) {
		out.Partings = append(out.Partings, site.Parting{What: "files", Where: "their own directory, " + own, Becomes: becomes})
	}
	site.ByWhat(out.Partings)
	return out
}

// Leave has somebody leave: now, or on a day, until which all stays as it is. What names them goes, or passes to who succeeds them.
func (s *Service) Leave(ctx context.Context, by Actor, name string, in LeaveInput) (Departure, error) {
	user, to, err := s.leaving(name, in)
	if err != nil {
		return Departure{}, err
	}
	succeeds := identity.ID(0)
	if to != nil {
		succeeds = to.ID
	}
	if in.On.After(s.Now()) {
		return s.planLeave(user, to, in), s.change(ctx, by, "plan leaving", user.Name, func(d *site.Draft) error {
			u, ok := site.Get[identity.User](d, int64(user.ID))
			if !ok {
				return notFound("user", "amber user list", "there is no user %q", name)
			}
			u.Leaving = &identity.Leaving{On: instant(in.On), To: succeeds, Files: in.Files}
			if in.Hold != "" {
				f, err := s.Folder(in.Hold)
				if err != nil {
					return err
				}
				u.Leaving.Hold = f.ID
				if !in.Until.IsZero() {
					u.Leaving.Until = instant(in.Until)
				}
			}
			u.Expires = u.Leaving.On
			if err := checkDates(&u); err != nil {
				return err
			}
			site.Put(d, u)
			return s.keepAdministrator(d)
		})
	}
	var out Departure
	var is job.Record
	if in.Files {
		if is, err = s.handOverJob(by, user.UID, to); err != nil {
			return Departure{}, err
		}
	}
	var holding site.Holding
	if in.Hold != "" {
		if holding, is, err = s.holdJob(by, user, in); err != nil {
			return Departure{}, err
		}
	}
	j, err := s.changeWith(ctx, by, "leave", user.Name, in.Files || in.Hold != "", is, func(d *site.Draft) error {
		out = s.depart(d, user, to, LeaveInput{Files: in.Files, Hold: in.Hold, Until: in.Until})
		if in.Hold != "" {
			site.Put(d, holding)
		}
		return s.keepAdministrator(d)
	})
	if err != nil {
		return Departure{}, err
	}
	s.later(func() { s.EndLoose(user.ID) })
	if j != nil {
		out.Job = j.ID()
	}
	return out, nil
}

// Stay takes back that somebody is to leave on a day. The account ends no more then.
func (s *Service) Stay(ctx context.Context, by Actor, name string) error {
	user, err := s.User(name)
	if err != nil {
		return err
	}
	if user.Leaving == nil {
		return notFound("name", "amber user show "+quote(user.Name), "nothing is planned for %s", user.Name)
	}
	return s.change(ctx, by, "plan no leaving", user.Name, func(d *site.Draft) error {
		u, ok := site.Get[identity.User](d, int64(user.ID))
		if !ok || u.Leaving == nil {
			return notFound("name", "amber user list", "nothing is planned for %s", user.Name)
		}
		if u.Expires.Equal(u.Leaving.On) {
			u.Expires = time.Time{}
		}
		u.Leaving = nil
		site.Put(d, u)
		return nil
	})
}

// dueEvery is how often it is looked whether somebody's day has come.
const dueEvery = time.Minute

// runDue has those leave whose day has come. What cannot be written down is tried again.
func (s *Service) runDue() {
	for {
		contain.Run("having those leave whose day has come", func() { s.leaveDue(s.background.ctx) })
		select {
		case <-s.background.ctx.Done():
			return
		case <-time.After(dueEvery):
		}
	}
}

func (s *Service) leaveDue(ctx context.Context) {
	d := s.Policy().Directory
	for _, u := range d.Users() {
		if u.Leaving == nil || u.Leaving.On.After(s.Now()) {
			continue
		}
		_, err := s.Leave(ctx, Itself, u.Name, planned(s.Policy(), &u))
		if e := (*Error)(nil); errors.As(err, &e) && (e.Field == "to" || e.Field == "hold" || e.Field == "until") { // who was to succeed them is gone as well, or where it was to be kept
			_, err = s.Leave(ctx, Itself, u.Name, LeaveInput{})
		}
		if err != nil && ctx.Err() == nil {
			slog.Error("somebody whose day has come cannot leave", "user", u.Name, "error", err)
		}
	}
}

// handOverJob is the job that passes on what a number owns.
const handOverJob = "hand over"

type handOverArgs struct {
	UID uint32      `json:"uid"`
	To  identity.ID `json:"to"`
}

func (s *Service) handOverJob(by Actor, uid uint32, to *identity.User) (job.Record, error) {
	return s.jobs.Draft(handOverJob, fmt.Sprintf("pass what belongs to uid %d to %s", uid, to.Name), by.Name, handOverArgs{uid, to.ID})
}

// HandOver begins to give a user all that belongs to a number, in all folders. A number that is somebody's is theirs to give: have them leave.
func (s *Service) HandOver(ctx context.Context, by Actor, uid uint32, to string) (*job.Job, error) {
	u, err := s.User(to)
	if err != nil {
		return nil, err
	}
	d := s.Policy().Directory
	if i := d.UserIndexByUID(uid); i != identity.None && d.Users()[i].Left.IsZero() {
		return nil, conflict("uid", "amber user leave "+quote(d.Users()[i].Name)+" --to "+quote(u.Name)+" --files", "uid %d is %s's, who has not left", uid, d.Users()[i].Name)
	}
	if uid == u.UID {
		return nil, invalid("uid", "uid %d is %s's already", uid, u.Name)
	}
	is, err := s.handOverJob(by, uid, u)
	if err != nil {
		return nil, err
	}
	return s.changeWith(ctx, by, "hand over", fmt.Sprintf("uid %d to %s", uid, u.Name), true, is, func(*site.Draft) error { return nil })
}

// HandedOver is what came of that.
type HandedOver struct {
	Files   int64    `json:"files" doc:"How many files and directories were passed on."`
	Refused []string `json:"refused,omitempty" doc:"Folders in which some could not be, with why."`
}

// runHandOver is that job. It marks the folder and the path that it has been through.
func (s *Service) runHandOver(ctx context.Context, j *job.Job) (any, error) {
	var args handOverArgs
	if err := j.Args(&args); err != nil {
		return nil, err
	}
	to := s.Policy().Directory.User(args.To)
	if to == nil {
		return nil, notFound("to", "amber user list", "who was to have it is gone")
	}
	var out HandedOver
	folder, path := int64(0), ""
	if was, rest, ok := strings.Cut(j.Was(), " "); ok {
		folder, _ = strconv.ParseInt(was, 10, 64)
		path = rest
	}
	for _, f := range s.Policy().Folders { // in the order of their numbers
		if f.ID < folder {
			continue
		}
		last := ""
		if f.ID == folder {
			last = path
		}
		mark := func() (string, error) { return fmt.Sprintf("%d %s", f.ID, last), nil }
		give := func(o files.Found) error {
			if o.Unix.UID == args.UID {
				if err := files.SetMode(s.Policy(), s.ledger, f, o.Path, files.Set{UID: &to.UID}); err != nil {
					return err
				}
				out.Files++
			}
			last = "/" + o.Path
			j.Step()
			return j.At(ctx, mark)
		}
		facts := files.FactsOf(s.Policy(), f)
		var err error
		if last == "" {
			err = facts.WalkFrom(ctx, "", give)
		} else {
			err = facts.WalkOn(ctx, "", last[1:], give)
		}
		if ctx.Err() != nil {
			if last != "" {
				err = errors.Join(err, j.Note(context.WithoutCancel(ctx), mark))
			}
			return nil, err
		}
		if err != nil { // a disk that is away keeps nobody from what is on the others
			out.Refused = append(out.Refused, f.Name+": "+err.Error())
		}
	}
	return out, nil
}

// LeavingReport lays out, for paper, what somebody who leaves has and what becomes of it; of who has left, what became of it.
func (s *Service) LeavingReport(ctx context.Context, by Actor, name string) (*report.Report, error) {
	u, err := s.User(name)
	if err != nil {
		return nil, err
	}
	r := report.New("Leaving: "+u.Name, by.Name, s.Now())
	r.Facts = []report.Fact{{Name: "user", Value: u.Name}, {Name: "full name", Value: u.FullName}, {Name: "uid", Value: strconv.FormatUint(uint64(u.UID), 10)}}
	section := report.Section{Title: "What there is, and what becomes of it", Head: []string{"what", "where", "becomes"}, Empty: "Nothing."}
	if u.Left.IsZero() {
		plan, err := s.PlanLeave(u.Name, planned(s.Policy(), u))
		if err != nil {
			return nil, err
		}
		r.Facts = append(r.Facts, report.Fact{Name: "leaves", Value: report.Moment(plan.On)}, report.Fact{Name: "succeeded by", Value: cmp.Or(plan.To, "nobody")})
		for _, p := range plan.Partings {
			section.Rows = append(section.Rows, []string{p.What, p.Where, p.Becomes})
		}
		r.Sections = append(r.Sections, section)
		return r, nil
	}
	r.Facts = append(r.Facts, report.Fact{Name: "left", Value: report.Moment(u.Left)})
	section.Title, section.Head = "What was changed", []string{"record", "what", "was", "is"}
	err = s.EachRow(ctx, store.Match{On: u.Name, Only: "changes"}, func(row store.JournalRow) error {
		if row.Action != "leave" || row.Subject != u.Name {
			return nil
		}
		_, told, err := s.Act(ctx, row.Seq)
		section.Rows = nil // the last time
		for _, t := range told {
			for _, c := range t.Changed {
				section.Rows = append(section.Rows, []string{t.Kind + " " + t.Name, c.Name, c.Before, c.After})
			}
		}
		return err
	})
	section.Text = "As the journal has it."
	r.Sections = append(r.Sections, section)
	return r, err
}
