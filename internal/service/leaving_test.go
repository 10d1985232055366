package service

import (
	"bytes"
	"context"
	"encoding/json"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/audit"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/job"
)

// Who leaves is out at once, and what they had on disk is their successor's once the job has been through.
func TestSomebodyLeaves(t *testing.T) {
	c, ctx := counted(t), context.Background()
	require.NoError(t, c.write("firmware/mine", 3000))
	_, err := c.CreateUser(ctx, keeper, UserInput{Name: "ines", Service: true})
	require.NoError(t, err)
	tomasz, ines := *c.Policy().Directory.UserNamed("tomasz"), *c.Policy().Directory.UserNamed("ines")
	plan, err := c.PlanLeave("tomasz", LeaveInput{To: "ines", Files: true})
	require.NoError(t, err)
	require.Equal(t, []site.Parting{
		{What: "account", Where: "tomasz", Becomes: "works no more; uid 1000 stays theirs"},
		{What: "files", Where: "what belongs to uid 1000: 1 files, as far as is counted", Becomes: "pass to ines, by a job"},
		{What: "member", Where: "group engineers", Becomes: "taken out"},
		{What: "entry", Where: "entry 1 on instruments: allow change", Becomes: "passes to ines"},
	}, plan.Partings)
	require.True(t, c.Policy().Directory.UserNamed("tomasz").InForce(time.Now()), "nothing is done yet")

	for _, in := range []LeaveInput{{Files: true}, {To: "tomasz"}, {To: "nobody"}} {
		_, err := c.Leave(ctx, keeper, "tomasz", in)
		require.Error(t, err)
	}
	out, err := c.Leave(ctx, keeper, "tomasz", LeaveInput{To: "ines", Files: true})
	require.NoError(t, err)
	require.Equal(t, plan.Partings, out.Partings)
	require.Equal(t, access.Account, access.Admit(c.Policy(), tomasz.ID, site.SMB, time.Now()))
	j, err := c.Job(out.Job)
	require.NoError(t, err)
	<-j.Over()
	require.Empty(t, j.Now().Error)
	require.JSONEq(t, `{"files":1}`, string(j.Now().Result))
	require.Zero(t, c.ledger.Use(limit.Counter{Of: limit.Owned, Number: tomasz.UID}).Files)
	require.EqualValues(t, 1, c.ledger.Use(limit.Counter{Of: limit.Owned, Number: ines.UID}).Files)
	_, err = c.Leave(ctx, keeper, "tomasz", LeaveInput{})
	require.ErrorContains(t, err, "left on")
	r, err := c.LeavingReport(ctx, keeper, "tomasz")
	require.NoError(t, err)
	var page bytes.Buffer
	require.NoError(t, r.Write(&page, "csv"))
	require.Contains(t, page.String(), "allow ines change", "to whom the entry passed")
	_, err = c.Undo(ctx, keeper, nil)
	require.NoError(t, err)
	back := *c.Policy().Directory.UserNamed("tomasz")
	require.Equal(t, tomasz, back, "with the password")
}

// Who is to leave on a day does so then, with whoever was to succeed them, and if that one is gone as well, with nobody.
func TestLeavingOnADay(t *testing.T) {
	s, ctx := observatory(t), context.Background()
	day := time.Now().Add(24 * time.Hour)
	for _, name := range []string{"una", "ines"} {
		_, err := s.CreateUser(ctx, keeper, UserInput{Name: name, Service: true})
		require.NoError(t, err)
	}
	_, err := s.AddEntry(ctx, keeper, "instruments", EntryInput{Who: "tomasz", Level: "change"})
	require.NoError(t, err)
	out, err := s.Leave(ctx, keeper, "tomasz", LeaveInput{On: day, To: "ines"})
	require.NoError(t, err)
	require.True(t, out.Planned)
	require.True(t, s.Policy().Directory.UserNamed("tomasz").InForce(time.Now()))
	require.ErrorContains(t, s.RemoveUser(ctx, keeper, "ines"), "ines", "who is to succeed somebody is not removed")
	s.leaveDue(ctx)
	require.True(t, s.Policy().Directory.UserNamed("tomasz").Left.IsZero(), "the day has not come")
	require.NoError(t, s.Stay(ctx, keeper, "tomasz"))
	require.True(t, s.Policy().Directory.UserNamed("tomasz").Expires.IsZero())
	require.Error(t, s.Stay(ctx, keeper, "tomasz"))

	due := func(to string) {
		t.Helper()
		_, err := s.Leave(ctx, keeper, "tomasz", LeaveInput{On: day, To: to})
		require.NoError(t, err)
		require.NoError(t, s.change(ctx, Itself, "let time pass", "", func(d *site.Draft) error {
			u, _ := site.Get[identity.User](d, int64(s.Policy().Directory.UserNamed("tomasz").ID))
			u.Leaving = &identity.Leaving{On: instant(time.Now().Add(-time.Second)), To: u.Leaving.To}
			site.Put(d, u)
			return nil
		}))
		s.leaveDue(ctx)
		require.False(t, s.Policy().Directory.UserNamed("tomasz").Left.IsZero())
		require.Nil(t, s.Policy().Directory.UserNamed("tomasz").Leaving)
	}
	due("ines")
	require.Equal(t, identity.UserPrincipal(s.Policy().Directory.UserNamed("ines").ID), s.Policy().FolderNamed("instruments").Rules[0].Entries[1].Who)
	rows, err := s.Undo(ctx, Itself, nil)
	require.NoError(t, err)
	require.Equal(t, "leave", rows[0].Action)
	require.NoError(t, s.Stay(ctx, keeper, "tomasz"))
	_, err = s.Leave(ctx, keeper, "ines", LeaveInput{})
	require.NoError(t, err)
	_, err = s.Leave(ctx, keeper, "tomasz", LeaveInput{On: day, To: "ines"})
	require.Error(t, err, "who has left succeeds nobody")
	due("una")
}

// The last administrator does not leave, today or on a day, and nobody ends them by a date.
func TestTheLastAdministratorStays(t *testing.T) {
	s, ctx := observatory(t), context.Background()
	_, err := s.Leave(ctx, keeper, "keeper", LeaveInput{})
	require.ErrorContains(t, err, "no administrator")
	_, err = s.Leave(ctx, keeper, "keeper", LeaveInput{On: time.Now().Add(time.Hour)})
	require.ErrorContains(t, err, "no administrator")
	_, err = s.UpdateUser(ctx, keeper, "keeper", UserChange{Expires: new(time.Now().Add(time.Hour))})
	require.ErrorContains(t, err, "no administrator")
	_, err = s.UpdateUser(ctx, keeper, "keeper", UserChange{Starts: new(time.Now().Add(time.Hour))})
	require.ErrorContains(t, err, "no administrator")
}

// Files of numbers that nobody has are found, with whose they were, and given to somebody; those of somebody who is there are not taken.
func TestStrays(t *testing.T) {
	c, ctx := counted(t), context.Background()
	require.NoError(t, c.write("firmware/mine", 3000))
	tomasz := c.Policy().Directory.UserNamed("tomasz")
	look := func() Strays {
		t.Helper()
		j, err := c.BeginStrays(ctx, keeper)
		require.NoError(t, err)
		return result[Strays](t, j)
	}
	before := look()
	for _, is := range before.Strays {
		require.NotEqual(t, tomasz.UID, is.Number)
	}
	_, err := c.HandOver(ctx, keeper, tomasz.UID, "tomasz")
	require.Error(t, err)
	_, err = c.CreateUser(ctx, keeper, UserInput{Name: "ines", Service: true})
	require.NoError(t, err)
	_, err = c.HandOver(ctx, keeper, tomasz.UID, "ines")
	require.ErrorContains(t, err, "who has not left")
	_, err = c.Leave(ctx, keeper, "tomasz", LeaveInput{})
	require.NoError(t, err)
	found := false
	for _, f := range c.Audit().Findings() {
		found = found || f.Kind == audit.StillTheirs
	}
	require.True(t, found, "what is left is a finding")
	after := look()
	require.Equal(t, len(before.Strays)+1, len(after.Strays))
	for _, is := range after.Strays {
		if is.Number == tomasz.UID && !is.Group {
			require.Equal(t, Stray{Number: tomasz.UID, Name: "tomasz, who left", Files: 1, Bytes: 3000, Folders: []string{"instruments"}, Example: "instruments/firmware/mine"}, is)
		}
	}
	j, err := c.HandOver(ctx, keeper, tomasz.UID, "ines")
	require.NoError(t, err)
	require.EqualValues(t, 1, result[HandedOver](t, j).Files)
	require.Equal(t, before.Strays, look().Strays)
}

func result[T any](t *testing.T, j *job.Job) T {
	t.Helper()
	<-j.Over()
	require.Empty(t, j.Now().Error)
	var out T
	require.NoError(t, json.Unmarshal(j.Now().Result, &out))
	return out
}
