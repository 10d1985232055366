package service

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/store"
)

// Rules that were written on names as they are on disk, before names were spelled, go on to hold, and the journal tells it.
func TestOldNamesAreSpelled(t *testing.T) {
	c, ctx := counted(t), context.Background()
	root := c.Policy().Folders[0].Root
	require.NoError(t, os.Rename(filepath.Join(root, "firmware"), filepath.Join(root, `firm\ware`)))
	require.NoError(t, os.Mkdir(filepath.Join(root, "a\x1bb"), 0o755))
	require.NoError(t, c.change(ctx, keeper, "as it was", "", func(d *site.Draft) error {
		d.PutRule(c.Policy().Folders[0].ID, acl.Rule{Path: `firm\ware`, Cut: true})
		d.PutRule(c.Policy().Folders[0].ID, acl.Rule{Path: "a\x1bb", Cut: true})
		return nil
	}))
	require.NoError(t, c.Close())
	c.begin()
	tree := c.Policy().Folders[0].Tree
	require.True(t, tree.HasRulesAt(`firm\x5cware`))
	require.True(t, tree.HasRulesAt(`a\x1bb`))
	require.Error(t, c.write(`firm\ware/camera`, 10), "it is cut off from what lets them in")
	require.Error(t, c.write("a\x1bb/new", 10))
	require.NoError(t, c.write("mine", 10))
	rows, err := c.Journal(ctx, store.Match{})
	require.NoError(t, err)
	require.Equal(t, "spell names", rows[len(rows)-1].Action)
	require.NoError(t, c.Close())
	c.begin()
	again, err := c.Journal(ctx, store.Match{})
	require.NoError(t, err)
	require.Len(t, again, len(rows), "once")
}
