package service

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/store"
)

// title names a change in the journal.
type title struct{ action, subject string }

// change runs one administrative change: fn alters a draft of the records, and also what is written down beside them; see the package's comment. In a set
// it is one of the set's.
func (s *Service) change(ctx context.Context, by Actor, action, subject string, fn func(*site.Draft) error, also ...func(*store.Tx) error) error {
	if s.drafting != nil {
		return s.drafting.take(s, title{action, subject}, fn, also)
	}
	if err := s.mayChange(by, action); err != nil {
		return err
	}
	s.writing.Lock()
	defer s.writing.Unlock()
	of := s.force.Load()
	d := site.NewDraft(of.records, of.numbers)
	if err := fn(d); err != nil {
		return err
	}
	is, err := of.next(d)
	if err != nil {
		return err
	}
	_, err = s.write(ctx, by, title{action, subject}, d, is, also)
	return err
}

// Change is change, for packages that draw up changes.
func (s *Service) Change(ctx context.Context, by Actor, action, subject string, fn func(*site.Draft) error) error {
	return s.change(ctx, by, action, subject, fn)
}

// failPoint is called at each boundary of a change, for a test that ends the process there.
var failPoint = func(name string) {}

// write writes a draft down, does on disk what goes with it, and brings it into force. What cannot be done on disk is taken back. The caller
// has the writing lock. It gives the row of the journal.
func (s *Service) write(ctx context.Context, by Actor, name title, d *site.Draft, is *inForce, also []func(*store.Tx) error) (int64, error) {
	changes, err := d.Changes()
	if err == nil {
		err = s.mayWrite(by, d, changes)
	}
	if err != nil {
		return 0, err
	}
	row := &store.JournalRow{At: time.Now(), Actor: by.Name, Action: name.action, Subject: name.subject, Changes: changes}
	var pending []int64
	err = s.store.Write(ctx, func(tx *store.Tx) (err error) {
		failPoint("before anything is written")
		if pending, err = tx.Save(ctx, d, changes); err != nil {
			return err
		}
		failPoint("before the journal")
		for _, write := range also {
			if err := write(tx); err != nil {
				return err
			}
		}
		if err := tx.Append(ctx, row); err != nil {
			return err
		}
		defer failPoint("before the commit")
		return tx.Belong(ctx, pending, row.Seq)
	})
	if err != nil {
		return 0, s.Unwritable(err)
	}
	failPoint("after the commit")
	ctx = context.WithoutCancel(ctx)
	for _, e := range d.Effects() {
		failPoint("before an effect")
		if err := s.doEffect(is.policy, e); err != nil {
			failPoint("before it is taken back")
			return 0, s.takeBack(ctx, by, name, d, is, changes, pending, asRefusal(err))
		}
	}
	failPoint("before it is in force")
	s.enforce(is)
	failPoint("before effects are noted")
	s.settled(ctx, pending)
	failPoint("after all")
	return row.Seq, nil
}

// settled notes that effects are done. Where that cannot be noted, the next start does them again, which is nothing.
func (s *Service) settled(ctx context.Context, pending []int64) {
	if len(pending) == 0 {
		return
	}
	if err := s.store.Settled(ctx, pending); err != nil {
		slog.Warn("what has been done on disk cannot be noted, and is done again at the next start", "error", err)
	}
}

// enforce brings records into force.
func (s *Service) enforce(is *inForce) {
	s.force.Store(is)
	s.ledger.SetTable(is.policy.Limits)
	s.counts.Changed()
	s.changed.ring()
}

// takeBack writes the opposite of a change whose effects on disk cannot be. Where that cannot be written down either, the change is in force, and the next
// start tries its effects again.
func (s *Service) takeBack(ctx context.Context, by Actor, name title, done *site.Draft, is *inForce, changes []site.Change, pending []int64, why error) error {
	back := site.NewDraft(is.records, is.numbers)
	err := back.Restore(changes)
	var was *inForce
	if err == nil {
		was, err = is.next(back)
	}
	if err == nil {
		undone, _ := back.Changes()
		err = s.store.Write(ctx, func(tx *store.Tx) error {
			if _, err := tx.Save(ctx, back, undone); err != nil {
				return err
			}
			if err := tx.Settled(ctx, pending); err != nil {
				return err
			}
			return tx.Append(ctx, &store.JournalRow{At: time.Now(), Actor: by.Name, Action: "take back: " + name.action, Subject: name.subject, Changes: undone})
		})
	}
	if err != nil {
		slog.Error("a change whose effects on disk cannot be cannot be taken back either", "change", name.action, "of", name.subject, "effects", why, "taking back", err)
		s.enforce(is)
		return errors.Join(why, err)
	}
	for _, e := range done.Effects() { // as far as that can be done
		if e.Act == site.RenameOwn {
			if err := s.renameOwn(was.policy, site.Effect{Folder: e.Folder, Path: e.To, To: e.Path}); err != nil && !errors.Is(err, files.ErrExists) {
				slog.Error("a directory that was renamed for a change that was taken back cannot be called as it was", "path", e.To, "error", err)
			}
		}
		if e.Act == site.MarkVolume {
			s.unmarkVolume(e.Volume.Volume, e.Mark)
		}
	}
	s.enforce(was)
	return why
}

// asRefusal says why an effect cannot be.
func asRefusal(err error) error {
	if away := (*files.Away)(nil); errors.As(err, &away) {
		return &Error{Kind: Unavailable, Field: "path", Next: "amber volume list", Message: err.Error()}
	}
	return invalid("path", "%v", err)
}

func (s *Service) doEffect(p *site.Policy, e site.Effect) error {
	switch e.Act {
	case site.MakeDirectory:
		return files.MakeFolder(e.Volume, e.Path)
	case site.SetMode:
		if f := p.Folder(e.Folder); f != nil {
			return files.SetMode(p, s.ledger, f, e.Path, files.Set{Mode: e.Mode, UID: e.UID, GID: e.GID})
		}
	case site.RenameOwn:
		return s.renameOwn(p, e)
	case site.MarkVolume:
		return files.MarkVolume(e.Volume.Volume, e.Mark)
	case site.UnmarkVolume:
		s.unmarkVolume(e.Volume.Volume, e.Mark)
	}
	return nil
}

// settleEffects does what the process had written down and not done when it ended. What cannot be done as its volume is away is tried again once that is
// back; of what cannot be done at all, the change is taken back.
func (s *Service) settleEffects(ctx context.Context) error {
	s.writing.Lock()
	defer s.writing.Unlock()
	pending, err := s.store.Pending(ctx)
	if err != nil || len(pending) == 0 {
		return err
	}
	gone := make(map[int64]bool) // rows that were taken back
	for _, one := range pending {
		if gone[one.Row] {
			continue
		}
		err := s.doEffect(s.Policy(), one.Effect)
		if away := (*files.Away)(nil); errors.As(err, &away) {
			slog.Error("what a change has to do on disk is done once its volume is back", "row", one.Row, "what", one.Effect.Act, "path", one.Effect.Path, "error", err)
			continue
		}
		if err == nil {
			s.settled(ctx, []int64{one.ID})
			continue
		}
		slog.Error("what a change has to do on disk cannot be done: it is taken back", "row", one.Row, "what", one.Effect.Act, "path", one.Effect.Path, "error", err)
		gone[one.Row] = true
		if err := s.takeBackRow(ctx, one.Row, pending); err != nil {
			return err
		}
	}
	return nil
}

// takeBackRow takes back the change of a row whose effects cannot be, as far as it has not been changed again since. The caller has the writing lock.
func (s *Service) takeBackRow(ctx context.Context, seq int64, pending []store.Pending) error {
	row, there, err := s.store.Row(ctx, seq)
	if err != nil {
		return err
	}
	of := s.force.Load()
	d := site.NewDraft(of.records, of.numbers)
	is := of
	if there {
		obstacles, err := d.Revert(row.Changes)
		if err == nil && len(obstacles) == 0 {
			is, err = of.next(d)
		}
		if err != nil || len(obstacles) > 0 {
			slog.Error("it cannot be taken back either, as it has been changed again since", "row", seq, "error", err)
			d, is = site.NewDraft(of.records, of.numbers), of
		}
	}
	changes, err := d.Changes()
	if err != nil {
		return err
	}
	err = s.store.Write(ctx, func(tx *store.Tx) error {
		if _, err := tx.Save(ctx, d, changes); err != nil {
			return err
		}
		var ids []int64
		for _, p := range pending {
			if p.Row == seq {
				ids = append(ids, p.ID)
			}
		}
		if err := tx.Settled(ctx, ids); err != nil || len(changes) == 0 {
			return err
		}
		return tx.Append(ctx, &store.JournalRow{At: time.Now(), Actor: Itself.Name, Action: "take back: " + row.Action, Subject: row.Subject, Changes: changes})
	})
	if err == nil && len(changes) > 0 {
		s.enforce(is)
	}
	return err
}

// draftTries is how often a set of changes is worked out anew as somebody else was faster, before others are kept waiting for it.
const draftTries = 3

// Make makes several changes as one, or none of them: do makes them on the service that it is given, which answers as of after those before,
// and may be called more than
// once. With a row of the journal, nothing may have been changed after it; 0 is whatever was. It gives the row that tells of it, 0 where nothing was changed.
func (s *Service) Make(ctx context.Context, by Actor, asOf int64, do func(ctx context.Context, set *Service) error) (row int64, err error) {
	if err := s.mayChange(by, "make changes"); err != nil {
		return 0, err
	}
	for try := 1; ; try++ {
		last := try > draftTries
		if last {
			s.writing.Lock()
		}
		of := s.force.Load()
		set := s.draft(of, true)
		err := do(ctx, set)
		if err == nil {
			set.Policy()
			err = set.drafting.failed
		}
		if err != nil {
			if last {
				s.writing.Unlock()
			}
			return 0, err
		}
		if !last {
			s.writing.Lock()
		}
		if s.force.Load() != of {
			s.writing.Unlock()
			continue
		}
		row, err = s.commit(ctx, by, asOf, set)
		s.writing.Unlock()
		if err == nil {
			for _, do := range set.drafting.after {
				do()
			}
		}
		return row, err
	}
}

// commit writes down what has been drafted. The caller has the writing lock.
func (s *Service) commit(ctx context.Context, by Actor, asOf int64, set *Service) (int64, error) {
	if err := s.unchangedSince(ctx, asOf); err != nil {
		return 0, err
	}
	t := set.drafting
	if len(t.names) == 0 {
		return 0, nil
	}
	name := t.names[0]
	if len(t.names) > 1 {
		name = title{fmt.Sprintf("make %d changes", len(t.names)), ""}
		for _, n := range t.names {
			if n.subject != "" && n.subject != name.subject {
				if name.subject != "" {
					name.subject = ""
					break
				}
				name.subject = n.subject
			}
		}
	}
	return s.write(ctx, by, name, t.draft, set.force.Load(), t.also)
}

// unchangedSince refuses where something has been changed after a row of the journal.
func (s *Service) unchangedSince(ctx context.Context, row int64) error {
	if row == 0 {
		return nil
	}
	last, err := s.store.Until(ctx, time.Now().Add(24*time.Hour))
	if err != nil {
		return err
	}
	if row < 0 || row > last {
		return notFound("asOf", "amber journal list", "the journal has no row %d", row)
	}
	const most = 5
	since, err := s.store.Journal(ctx, store.Match{After: row, Only: "changes", Most: most + 1})
	if err != nil || len(since) == 0 {
		return err
	}
	return conflict("asOf", "amber journal show "+itoa(since[0].Seq), "since row %d there has been changed: %s", row, rowsInWords(since, most))
}

// rowsInWords names rows of the journal: "95, add entry (plates) by keeper".
func rowsInWords(rows []store.JournalRow, most int) string {
	var out []string
	for i, r := range rows {
		if i == most {
			out = append(out, "and more")
			break
		}
		text := fmt.Sprintf("%d, %s", r.Seq, r.Action)
		if r.Subject != "" {
			text += " (" + r.Subject + ")"
		}
		out = append(out, text+" by "+r.Actor)
	}
	return strings.Join(out, "; ")
}
