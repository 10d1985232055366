package service

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/job"
)

// archive is a service with a folder in which modes decide, and many files.
func archive(t *testing.T, dirs, each int) (s *Service, state string, f *site.PublishedFolder) {
	t.Helper()
	ctx := t.Context()
	state = t.TempDir()
	s, err := Open(ctx, state)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	for i, name := range []string{"bettany", "piran"} {
		_, err = s.CreateUser(ctx, keeper, UserInput{Name: name, UID: new(uint32(2005 + i))})
		require.NoError(t, err)
	}
	_, err = s.CreateVolume(ctx, keeper, VolumeInput{Name: "summit", Path: t.TempDir()})
	require.NoError(t, err)
	f, err = s.CreateFolder(ctx, keeper, FolderInput{Name: "plates", Volume: "summit", Ownership: site.Mapped, Owner: "piran", Permissions: site.ByMode})
	require.NoError(t, err)
	for d := range dirs {
		dir := filepath.Join(f.Root, fmt.Sprintf("night-%03d", d))
		require.NoError(t, os.Mkdir(dir, 0o750))
		for i := range each {
			require.NoError(t, os.WriteFile(filepath.Join(dir, fmt.Sprintf("%03d", i)), nil, fs.FileMode(0o600+8*(i%8)).Perm()))
		}
	}
	return s, state, f
}

// held begins a job and ends the service while it goes on; the test has nothing to say where it is over too soon.
func held(t *testing.T, s *Service, begin func() (*job.Job, error)) job.Record {
	t.Helper()
	j, err := begin()
	require.NoError(t, err)
	for j.Now().Done < 10 && !j.IsOver() {
		time.Sleep(100 * time.Microsecond)
	}
	require.NoError(t, s.Close())
	require.True(t, j.IsOver())
	return j.Now()
}

func again(t *testing.T, state string, id int64) (*Service, job.Record) {
	t.Helper()
	s, err := Open(t.Context(), state)
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	j, err := s.Job(id)
	require.NoError(t, err)
	<-j.Over()
	return s, j.Now()
}

// Giving a tree to others goes on after a restart, where it was.
func TestGivingGoesOnWhereItWas(t *testing.T) {
	const dirs, each = 40, 50
	s, state, _ := archive(t, dirs, each)
	ctx := t.Context()
	_, err := s.SetOwner(ctx, keeper, "plates", "nobody-here", "", true)
	require.Error(t, err)
	was := held(t, s, func() (*job.Job, error) { return s.SetOwner(ctx, keeper, "plates", "bettany", "", true) })
	t.Logf("ended after %d of %d: %v", was.Done, dirs*(each+1)+1, was.Error)
	// What it has been through is not given again: somebody takes the folder itself back meanwhile.
	s, err = Open(ctx, state)
	require.NoError(t, err)
	j, err := s.Job(was.ID)
	require.NoError(t, err)
	<-j.Over()
	defer s.Close()
	require.Empty(t, j.Now().Error)
	require.EqualValues(t, dirs*(each+1)+1, j.Now().Done, "each once")
	n := 0
	f := s.Policy().FolderNamed("plates")
	require.NoError(t, files.FactsOf(s.Policy(), f).Walk(ctx, func(o files.Found) error {
		require.EqualValues(t, 2005, o.Unix.UID, o.Path)
		n++
		return nil
	}))
	require.Equal(t, dirs*(each+1)+1, n)
	_, err = s.Job(99)
	require.Error(t, err)
}

// A survey knows after a restart what it looked at before, though that has gone since; where what it kept is damaged, it begins anew.
func TestASurveyGoesOnWhereItWas(t *testing.T) {
	const dirs, each = 60, 50
	const all = dirs * each
	for _, damaged := range []bool{false, true} {
		t.Run(fmt.Sprint("damaged ", damaged), func(t *testing.T) {
			s, state, f := archive(t, dirs, each)
			was := held(t, s, func() (*job.Job, error) { return s.BeginSurvey(t.Context(), keeper, "plates", "") })
			if was.Ended.IsZero() || was.Error == "" {
				t.Skip("it was too fast to be ended on the way")
			}
			kept := filepath.Join(state, jobsDirectory, fmt.Sprintf("%d.gz", was.ID))
			_, err := os.Stat(kept)
			require.NoError(t, err)
			// The directories come first, so that no file of the first was looked at before all directories.
			if was.Done > dirs+1 {
				require.NoError(t, os.Remove(filepath.Join(f.Root, "night-000", "000")))
			}
			gone := 0
			if damaged {
				raw, err := os.ReadFile(kept)
				require.NoError(t, err)
				raw[len(raw)/2] ^= 0xff
				require.NoError(t, os.WriteFile(kept, raw, 0o600))
				if was.Done > dirs+1 {
					gone = 1
				}
			}
			_, is := again(t, state, was.ID)
			require.Empty(t, is.Error)
			require.EqualValues(t, all-gone+dirs+1, is.Done)
			require.Contains(t, string(is.Result), fmt.Sprintf(`"files":%d,"directories":%d`, all-gone, dirs+1))
			_, err = os.Stat(kept)
			require.ErrorIs(t, err, fs.ErrNotExist, "what it kept is of no use any more")
		})
	}
}

// Modes are turned into the same entries whether the service was ended on the way or not, as one change.
func TestConvertingGoesOnWhereItWas(t *testing.T) {
	const dirs, each = 30, 40
	s, _, _ := archive(t, dirs, each)
	j, err := s.ConvertFolder(t.Context(), keeper, "plates")
	require.NoError(t, err)
	<-j.Over()
	require.Empty(t, j.Now().Error)
	whole := s.Policy().FolderNamed("plates")
	require.False(t, whole.Unix())
	require.NotEmpty(t, whole.Rules)
	_, err = s.ConvertFolder(t.Context(), keeper, "plates")
	require.ErrorContains(t, err, "entries decide already")

	s, state, f := archive(t, dirs, each)
	was := held(t, s, func() (*job.Job, error) { return s.ConvertFolder(t.Context(), keeper, "plates") })
	s, is := again(t, state, was.ID)
	require.Empty(t, is.Error)
	parts := s.Policy().FolderNamed("plates")
	require.Equal(t, len(whole.Rules), len(parts.Rules))
	for i := range whole.Rules {
		require.Equal(t, whole.Rules[i].Path, parts.Rules[i].Path)
		require.Equal(t, len(whole.Rules[i].Entries), len(parts.Rules[i].Entries))
	}
	require.Equal(t, f.ID, parts.ID)
}

// Who begins a job, and is no administrator any more when it comes to its end, changes nothing; nor does one that is cancelled.
func TestAConversionOfWhoMayNoMore(t *testing.T) {
	s, _, _ := archive(t, 2, 2)
	ctx := t.Context()
	u, err := s.User("bettany")
	require.NoError(t, err)
	bettany := Actor{ID: u.ID, Name: u.Name, Role: "administrator"} // as of before
	j, err := s.ConvertFolder(ctx, bettany, "plates")
	require.NoError(t, err)
	<-j.Over()
	require.Contains(t, j.Now().Error, "no administrator any more")
	require.True(t, s.Policy().FolderNamed("plates").Unix())
	_, err = s.ConvertFolder(ctx, Actor{Name: "orla", Role: "auditor"}, "plates")
	var e *Error
	require.True(t, errors.As(err, &e))
	require.Equal(t, Forbidden, e.Kind)

	auditor, other := Actor{Name: "orla", Role: "auditor"}, Actor{Name: "wren", Role: "auditor"}
	survey, err := s.BeginSurvey(ctx, auditor, "plates", "piran")
	require.NoError(t, err)
	<-survey.Over()
	require.Contains(t, string(survey.Now().Result), `"user":"piran"`)
	require.ErrorContains(t, s.CancelJob(context.Background(), other, survey.ID()), "only they, or an administrator")
	require.NoError(t, s.CancelJob(context.Background(), auditor, survey.ID()), "it has ended")
	require.ErrorContains(t, s.CancelJob(context.Background(), auditor, j.ID()), "only an administrator")
}
