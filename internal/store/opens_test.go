package store

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
)

// What is written down of an open is the last that was, is there for the next service, and is gone once it is forgotten.
func TestOpensAreKept(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	open := func() *Opens {
		o, aside, err := OpenOpens(ctx, dir)
		require.NoError(t, err)
		require.Empty(t, aside)
		require.NoError(t, o.Lost)
		return o
	}
	o := open()
	var all sync.WaitGroup
	for id := range uint64(8) {
		all.Go(func() {
			for i := range 20 {
				require.NoError(t, o.Keep(ctx, id, fmt.Append(nil, id, " ", i)))
			}
			if id%2 == 0 {
				require.NoError(t, o.Forget(ctx, id))
				require.NoError(t, o.Forget(ctx, id), "twice is once")
			}
		})
	}
	all.Wait()
	require.NoError(t, o.Keep(ctx, 1<<63+5, []byte("a number beyond those that are signed")))
	kept, err := o.Kept(ctx)
	require.NoError(t, err)
	want := map[uint64][]byte{1: []byte("1 19"), 3: []byte("3 19"), 5: []byte("5 19"), 7: []byte("7 19"), 1<<63 + 5: []byte("a number beyond those that are signed")}
	require.Equal(t, want, kept)
	// Killed: nothing of it is closed. The next one finds all of it.
	again := open()
	kept, err = again.Kept(ctx)
	require.NoError(t, err)
	require.Equal(t, want, kept)
	require.NoError(t, again.Close())
	require.NoError(t, o.Close())
	info, err := os.Stat(filepath.Join(dir, OpensFileName))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}

// A database that is damaged is put aside, and whatever was open is opened anew; one that cannot be written keeps nothing from starting.
func TestDamagedOpens(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	path := filepath.Join(dir, OpensFileName)
	require.NoError(t, os.WriteFile(path, []byte("this is no database, and never was one, however one looks at it"), 0o600))
	o, aside, err := OpenOpens(ctx, dir)
	require.NoError(t, err)
	require.NotEmpty(t, aside)
	require.FileExists(t, filepath.Join(dir, aside))
	kept, err := o.Kept(ctx)
	require.NoError(t, err)
	require.Empty(t, kept)
	require.NoError(t, o.Keep(ctx, 1, []byte("one")))
	require.NoError(t, o.Close())

	none, _, err := OpenOpens(ctx, filepath.Join(dir, "nowhere"))
	require.NoError(t, err)
	require.Error(t, none.Lost)
	require.NoError(t, none.Keep(ctx, 1, []byte("one")), "in memory")
	require.NoError(t, none.Close())
}
