package service

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/store"
)

// Labels are written down, told in words, taken back one by one, and there after a restart.
func TestLabels(t *testing.T) {
	s, ctx := observatory(t), context.Background()
	_, err := s.UpdateFolder(ctx, keeper, "instruments", FolderChange{Labels: map[string]string{"season": "spring", "team": "dome"}})
	require.NoError(t, err)
	first := s.lastRow(t).Seq
	_, err = s.UpdateFolder(ctx, keeper, "instruments", FolderChange{Labels: map[string]string{"season": "autumn"}})
	require.NoError(t, err)
	_, told, err := s.Act(ctx, s.lastRow(t).Seq)
	require.NoError(t, err)
	require.Equal(t, []site.Changed{{Name: "label season", Before: "spring", After: "autumn"}}, told[0].Changed)

	_, err = s.UpdateFolder(ctx, keeper, "instruments", FolderChange{Description: new("benches")})
	require.NoError(t, err)
	_, err = s.Undo(ctx, keeper, []int64{first})
	require.ErrorContains(t, err, "change folder", "the season has become another since")
	f, err := s.Folder("instruments")
	require.NoError(t, err)
	require.Equal(t, map[string]string{"season": "autumn", "team": "dome"}, f.Labels.Map())

	for _, labels := range []map[string]string{{"a b": "c"}, {"a": "b,c"}} {
		_, err = s.UpdateFolder(ctx, keeper, "instruments", FolderChange{Labels: labels})
		var e *Error
		require.ErrorAs(t, err, &e)
		require.Equal(t, "labels", e.Field)
	}
	_, err = s.UpdateFolder(ctx, keeper, "instruments", FolderChange{Labels: map[string]string{"season": "", "team": ""}})
	require.NoError(t, err)
	_, err = s.Undo(ctx, keeper, nil)
	require.NoError(t, err)

	made := map[string]string{"season": "spring"}
	u, err := s.CreateUser(ctx, keeper, UserInput{Name: "lunt", Labels: made})
	require.NoError(t, err)
	require.Equal(t, made, u.Labels.Map())
	g, err := s.CreateGroup(ctx, keeper, GroupInput{Name: "spring-run", Labels: made})
	require.NoError(t, err)
	require.Equal(t, made, g.Labels.Map())
	sh, err := s.CreateShare(ctx, keeper, ShareInput{Folder: "instruments", Name: "benches", Labels: made})
	require.NoError(t, err)
	require.Equal(t, made, sh.Labels.Map())
	e, err := s.CreateExport(ctx, keeper, ExportInput{Folder: "instruments", Path: "/benches", Labels: made})
	require.NoError(t, err)
	require.Equal(t, made, e.Labels.Map())
	v, err := s.UpdateVolume(ctx, keeper, s.Policy().Volumes[0].Name, VolumeChange{Labels: made})
	require.NoError(t, err)
	require.Equal(t, made, v.Labels.Map())

	rows, err := s.Journal(ctx, store.Match{})
	require.NoError(t, err)
	rebuilt, err := store.Rebuild(rows)
	require.NoError(t, err)
	require.Equal(t, s.force.Load().records, rebuilt)
	state := s.state
	require.NoError(t, s.Close())
	s, err = Open(ctx, state)
	require.NoError(t, err)
	defer s.Close()
	require.Equal(t, rebuilt, s.force.Load().records)
	f, err = s.Folder("instruments")
	require.NoError(t, err)
	require.Equal(t, map[string]string{"season": "autumn", "team": "dome"}, f.Labels.Map(), "taken away, and taken back")
}
