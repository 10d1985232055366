package service

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strconv"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/store"
)

const undoAction = "undo "

// Undo takes back what rows of the journal changed in the records, as one change: with none, the last change of who asks that has not been taken back
// already. What others have changed since stays; where that is the same, or needs what would go, their rows are named.
// What is gone and had an identity comes back as it was. It gives the rows that were taken back, the latest first.
func (s *Service) Undo(ctx context.Context, by Actor, rows []int64) ([]store.JournalRow, error) {
	if len(rows) == 0 {
		last, err := s.lastOf(ctx, by)
		if err != nil {
			return nil, err
		}
		rows = []int64{last}
	}
	rows = slices.Clone(rows)
	slices.Sort(rows)
	rows = slices.Compact(rows)
	slices.Reverse(rows)
	if len(rows) > 1000 {
		return nil, invalid("rows", "%d rows are more than are taken back at once", len(rows))
	}
	var all []store.JournalRow
	var numbers, subjects []string
	for _, n := range rows {
		row, err := s.undoable(ctx, n)
		if err != nil {
			return nil, err
		}
		all, numbers = append(all, row), append(numbers, itoa(n))
		if !slices.Contains(subjects, row.Subject) {
			subjects = append(subjects, row.Subject)
		}
	}
	subject := ""
	if len(subjects) == 1 {
		subject = subjects[0]
	}
	return all, s.change(ctx, by, undoAction+strings.Join(numbers, ", "), subject, func(d *site.Draft) error {
		for _, row := range all {
			obstacles, err := d.Revert(row.Changes)
			if err != nil {
				return err
			}
			if len(obstacles) > 0 {
				var keys []site.Key
				for _, o := range obstacles {
					keys = append(keys, o.Key)
				}
				return s.inTheWay(ctx, all, row.Seq, keys, fmt.Sprintf("row %d cannot be taken back by itself: what it changed has been changed again since", row.Seq))
			}
		}
		if fault := d.Check(); fault != nil {
			return s.inTheWay(ctx, all, rows[len(rows)-1], []site.Key{fault.Key, fault.Other}, "that would leave records which contradict each other: "+fault.Error())
		}
		if err := s.settleUndone(ctx, d, all); err != nil {
			return err
		}
		return s.keepAdministrator(d)
	})
}

// undoable finds a row that can be taken back.
func (s *Service) undoable(ctx context.Context, n int64) (store.JournalRow, error) {
	row, there, err := s.store.Row(ctx, n)
	switch {
	case err != nil:
		return row, err
	case !there:
		return row, notFound("rows", "amber journal list", "the journal has no row %d", n)
	case len(row.Changes) == 0 || row.Changes[0].Kind == store.DeedKind:
		return row, conflict("rows", "amber journal show "+itoa(n), "row %d, %s, changed nothing in the records: there is nothing to take back", n, row.Action)
	case row.Actor == Itself.Name && row.Action == "rename":
		return row, conflict("rows", "", "row %d follows a directory that was renamed: rename %s back, and its rules follow", n, row.Subject)
	case row.Actor == Itself.Name && slices.Contains([]string{"begin", "number secrets", "spell names", "mark volume"}, row.Action):
		return row, conflict("rows", "", "row %d, %s, is the service's own and not to be taken back", n, row.Action)
	}
	for _, c := range row.Changes {
		if !site.Known(c.Kind) {
			return row, conflict("rows", "", "row %d was written by a newer version: this one does not know what a %s is", n, c.Kind)
		}
	}
	sound, err := s.store.Sound(ctx, n)
	if err == nil && !sound {
		err = conflict("rows", "amber journal verify", "row %d is not what was written: it has been altered, and cannot be trusted with what was there before", n)
	}
	return row, err
}

// inTheWay says why rows cannot be taken back, and which later ones are to be as well.
func (s *Service) inTheWay(ctx context.Context, rows []store.JournalRow, from int64, keys []site.Key, says string) error {
	var since []store.JournalRow
	err := s.store.EachRow(ctx, store.Match{After: from, Only: "changes"}, func(row store.JournalRow) error {
		if !slices.ContainsFunc(rows, func(r store.JournalRow) bool { return r.Seq == row.Seq }) && slices.ContainsFunc(row.Changes, func(c site.Change) bool { return slices.Contains(keys, site.Key{Kind: c.Kind, ID: c.ID}) }) {
			since = append(since, row)
		}
		return nil
	})
	if err != nil {
		return err
	}
	if since = s.needed(rows, since); len(since) == 0 {
		return conflict("rows", "", "%s", says)
	}
	next := "amber undo"
	for i := len(since) - 1; i >= 0; i-- {
		next += " " + itoa(since[i].Seq)
	}
	for _, row := range rows {
		next += " " + itoa(row.Seq)
	}
	return conflict("rows", next, "%s. In the way: %s", says, rowsInWords(since, 5))
}

// needed are those of later rows without which rows cannot be taken back.
func (s *Service) needed(rows []store.JournalRow, since []store.JournalRow) []store.JournalRow {
	const most = 50
	if len(since) > most {
		return since
	}
	of := s.force.Load()
	works := func(with []store.JournalRow) bool {
		all := slices.Concat(rows, with)
		slices.SortFunc(all, func(a, b store.JournalRow) int { return cmp.Compare(b.Seq, a.Seq) })
		d := site.NewDraft(of.records, of.numbers)
		for _, row := range all {
			if obstacles, err := d.Revert(row.Changes); err != nil || len(obstacles) > 0 {
				return false
			}
		}
		return d.Check() == nil
	}
	for i := 0; i < len(since); {
		if without := slices.Delete(slices.Clone(since), i, i+1); works(without) {
			since = without
		} else {
			i++
		}
	}
	return since
}

// settleUndone sees to what records that have come back refer to beside the records: passwords that are not kept any more, and marks of volumes.
func (s *Service) settleUndone(ctx context.Context, d *site.Draft, rows []store.JournalRow) error {
	for _, row := range rows {
		for _, c := range row.Changes {
			switch c.Kind {
			case "user":
				if err := s.settleSecrets(ctx, d, c.ID); err != nil {
					return err
				}
				if now := s.known().Directory.User(identity.ID(c.ID)); now != nil {
					s.moveOwn(d, now.ID, now.Name, false) // what was written on it comes back with the rows
				}
			case "volume":
				if err := s.settleMark(d, c.ID); err != nil {
					return err
				}
			}
		}
	}
	return nil
}

// settleSecrets takes from a user what is not kept any more.
func (s *Service) settleSecrets(ctx context.Context, d *site.Draft, id int64) error {
	u, ok := site.Get[identity.User](d, id)
	if !ok {
		return nil
	}
	var err error
	gone := func(n int64) bool {
		kept, e := s.store.Secret(ctx, n)
		err = errors.Join(err, e)
		return e == nil && kept.Hash == ""
	}
	was := u
	if u.Password != 0 && gone(u.Password) {
		u.Password = 0
	}
	if u.Codes != 0 && gone(u.Codes) {
		u.Codes = 0
	}
	u.PastPasswords = site.Without(u.PastPasswords, gone)
	if err == nil && !sameRecord(was, u) {
		site.Put(d, u)
	}
	return err
}

// settleMark has the directory of a volume carry its mark, or no longer.
func (s *Service) settleMark(d *site.Draft, id int64) error {
	was, had := s.known().Volume(id)
	is, has := site.Get[site.Volume](d, id)
	if had && (!has || was.Path != is.Path || was.Mark != is.Mark) {
		d.Do(site.Effect{Act: site.UnmarkVolume, Volume: site.Location{Volume: was.Path}, Mark: was.Mark})
	}
	if !has || had && was.Path == is.Path && was.Mark == is.Mark {
		return nil
	}
	have, err := files.VolumeMark(is.Path)
	if err != nil {
		return invalid("rows", "%v", err)
	}
	if have != "" && have != is.Mark && !(had && have == was.Mark) {
		return conflict("rows", "amber volume list", "%s carries the mark of another volume now", is.Path)
	}
	s.markVolume(d, is.Path, is.Mark)
	return nil
}

// keepSecrets is how long passwords are kept of users who have gone, and those that were before: until then they come back.
const keepSecrets = 90 * 24 * time.Hour

// forgetSecrets forgets those that nothing has referred to for longer than that.
func (s *Service) forgetSecrets(ctx context.Context) {
	if err := s.store.ForgetSecrets(ctx, time.Now().Add(-keepSecrets)); err != nil && ctx.Err() == nil {
		slog.Error("passwords that nobody has any more cannot be forgotten", "error", err)
	}
}

// lastOf is the last change of somebody that has not been taken back.
func (s *Service) lastOf(ctx context.Context, by Actor) (found int64, err error) {
	undone := make(map[int64]bool)
	err = s.store.EachRow(ctx, store.Match{By: by.Name, Only: "changes", Back: true}, func(row store.JournalRow) error {
		rows, isUndo := undoneBy(row)
		switch {
		case undone[row.Seq]:
		case isUndo:
			for _, n := range rows {
				undone[n] = true
			}
		case len(row.Changes) > 0:
			found = row.Seq
			return errFound
		}
		return nil
	})
	if err != nil && !errors.Is(err, errFound) {
		return 0, err
	}
	if found == 0 {
		return 0, notFound("rows", "amber journal list", "%s has changed nothing that could be taken back", by.Name)
	}
	return found, nil
}

var errFound = errors.New("found")

// undoneBy are the rows that a row took back; false where it is no such row.
func undoneBy(row store.JournalRow) (out []int64, is bool) {
	list, is := strings.CutPrefix(row.Action, undoAction)
	if !is {
		return nil, false
	}
	for text := range strings.SplitSeq(list, ", ") {
		n, err := strconv.ParseInt(text, 10, 64)
		if err != nil {
			return nil, false
		}
		out = append(out, n)
	}
	return out, true
}
