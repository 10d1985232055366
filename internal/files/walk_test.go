package files

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/site"
)

// A walk that goes on after any of its places, whether that is still there or not, visits just what was to come.
func TestAWalkGoesOnWhereItWas(t *testing.T) {
	root := t.TempDir()
	rapid.Check(t, func(t *rapid.T) {
		dir, err := os.MkdirTemp(root, "")
		require.NoError(t, err)
		name := rapid.SampledFrom([]string{"a", "b", "a.b", "a-", "B", "é", "\xe4", "z z"})
		for range rapid.IntRange(0, 12).Draw(t, "things") {
			at := strings.Join(rapid.SliceOfN(name, 1, 4).Draw(t, "at"), "/")
			if rapid.Bool().Draw(t, "file") {
				if os.MkdirAll(filepath.Join(dir, filepath.Dir(at)), 0o755) == nil {
					_ = os.WriteFile(filepath.Join(dir, at), nil, 0o644) // where a directory is, that is it
				}
			} else {
				_ = os.MkdirAll(filepath.Join(dir, at), 0o755)
			}
		}
		people, err := identity.Compile(nil, nil)
		require.NoError(t, err)
		f := Facts{place: site.Location{Volume: dir}, directory: people}
		walked := func(walk func(visit func(Found) error) error) (out []string) {
			require.NoError(t, walk(func(o Found) error { out = append(out, o.Path); return nil }))
			return out
		}
		all := walked(func(visit func(Found) error) error { return f.WalkFrom(t.Context(), "", visit) })
		i := rapid.IntRange(0, len(all)-1).Draw(t, "last")
		rest := func() []string {
			return walked(func(visit func(Found) error) error { return f.WalkOn(t.Context(), "", all[i], visit) })
		}
		require.Equal(t, all[i+1:], append([]string{}, rest()...), "after %q", all[i])
		if all[i] == "" {
			return
		}
		gone := filepath.Join(dir, plain.Unspell(all[i]))
		require.NoError(t, os.RemoveAll(gone))
		var left []string
		for _, p := range all[i+1:] {
			if !strings.HasPrefix(p, all[i]+"/") {
				left = append(left, p)
			}
		}
		require.Equal(t, left, rest(), "after %q, which is gone", all[i])
		if parent, _ := split(all[i]); parent != "" {
			below := left
			left = nil
			for _, p := range below {
				if strings.HasPrefix(p, parent+"/") {
					left = append(left, p)
				}
			}
			require.Equal(t, left, walked(func(visit func(Found) error) error { return f.WalkOn(t.Context(), parent, all[i], visit) }), "in a part of the folder")
		}
	})
}
