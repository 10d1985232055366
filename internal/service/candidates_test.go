package service

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/files"
)

// Directories of the host are told of to administrators, below the roots and nowhere else, with what speaks against each.
func TestCandidates(t *testing.T) {
	ctx, host, state := context.Background(), t.TempDir(), t.TempDir()
	for _, dir := range []string{"disk/summit/below", "disk/free", "disk/.hidden", "disk/of-another", "elsewhere/secret"} {
		require.NoError(t, os.MkdirAll(filepath.Join(host, dir), 0o755))
	}
	root := filepath.Join(host, "disk")
	require.NoError(t, os.WriteFile(filepath.Join(root, "a-file"), nil, 0o644))
	require.NoError(t, os.Symlink(filepath.Join(host, "elsewhere"), filepath.Join(root, "way-out")))
	require.NoError(t, os.Mkdir(filepath.Join(root, "not \xe4 text"), 0o755))
	require.NoError(t, files.MarkVolume(filepath.Join(root, "of-another"), "0123456789abcdef"))
	s, err := Open(ctx, state, WithVolumeRoots([]string{root}))
	require.NoError(t, err)
	t.Cleanup(func() { s.Close() })
	_, err = s.CreateVolume(ctx, keeper, VolumeInput{Name: "summit", Path: filepath.Join(root, "summit")})
	require.NoError(t, err)

	at, err := s.Candidates(keeper, "")
	require.NoError(t, err)
	real, err := filepath.EvalSymlinks(root)
	require.NoError(t, err)
	require.Equal(t, real, at.Path)
	require.Empty(t, at.Up, "there is no way out of the root")
	require.Equal(t, "volume summit is in it", at.Wrong)
	require.NotZero(t, at.Space.Total)
	require.NotEmpty(t, at.FileSystem)
	wrong := make(map[string]string)
	for _, c := range at.Below {
		wrong[c.Name] = c.Wrong
	}
	require.Equal(t, map[string]string{"free": "", `not \xe4 text`: "", "of-another": "it carries the mark of another volume", "summit": "it is volume summit"}, wrong, "neither files, links nor what is hidden")
	at, err = s.Candidates(keeper, filepath.Join(root, "summit", "below"))
	require.NoError(t, err)
	require.Equal(t, "it is in volume summit", at.Wrong)
	require.Equal(t, filepath.Join(real, "summit"), at.Up)
	at, err = s.Candidates(keeper, filepath.Join(real, `not \xe4 text`))
	require.NoError(t, err, "as it was told of")
	require.Empty(t, at.Below)

	for _, path := range []string{host, filepath.Join(host, "elsewhere"), filepath.Join(root, "way-out"), filepath.Join(root, "way-out", "secret"), root + "/free/../../elsewhere", "/", "/etc", "disk", root + "/free\x00", root + "/nothing-there"} {
		_, err := s.Candidates(keeper, path)
		require.Error(t, err, path)
		require.NotContains(t, err.Error(), "secret/", path)
	}
	for _, role := range []identity.Role{identity.Operator, identity.Auditor, identity.NoRole} {
		_, err := s.Candidates(Actor{Name: "somebody", Role: role}, "")
		require.ErrorContains(t, err, "takes an administrator")
	}

	// Directories that do not answer keep nobody from the rest, and are asked about only so often.
	for range mostLooking {
		s.looking <- struct{}{}
	}
	_, err = s.Candidates(keeper, "")
	require.ErrorContains(t, err, "do not answer")
}

// Many directories are told of up to a bound.
func TestManyCandidates(t *testing.T) {
	root := t.TempDir()
	for i := range 520 {
		require.NoError(t, os.Mkdir(filepath.Join(root, string(rune('a'+i%26))+string(rune('a'+i/26%26))+string(rune('0'+i/676))), 0o755))
	}
	at, err := files.LookAtHost(root)
	require.NoError(t, err)
	require.Len(t, at.Below, 500)
	require.True(t, at.More)
}
