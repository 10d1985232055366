package accesslog

import (
	"context"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/store"
)

func openLog(t *testing.T, dir string) *Log {
	t.Helper()
	l, err := Open(context.Background(), dir, 0, func(id identity.ID) string { return fmt.Sprintf("user %d", id) })
	require.NoError(t, err)
	return l
}

// Sign-ins are told apart by who, by which way, from where and why not; the same again is counted; names that are nobody's are not told.
func TestSignInsAreCounted(t *testing.T) {
	l, ctx := openLog(t, t.TempDir()), context.Background()
	defer l.Store().Close()
	for range 3 {
		l.SawSignIn(1, "console", "192.0.2.1", "")
	}
	l.SawSignIn(1, "SMB", "192.0.2.1", "")
	l.SawSignIn(1, "console", "192.0.2.1", "wrong")
	l.SawSignIn(0, "console", "192.0.2.2", "wrong")
	l.SawSignIn(0, "console", "192.0.2.2", "wrong")
	require.NoError(t, l.WriteDown(ctx))
	list, err := l.Events(ctx, store.Match{})
	require.NoError(t, err)
	got := make(map[string]int64)
	for _, e := range list {
		got[e.Kind+" "+e.Who+" "+e.Via+" "+e.From+" "+e.Path] += e.Count
	}
	require.Equal(t, map[string]int64{"signed in user 1 console 192.0.2.1 ": 3, "signed in user 1 SMB 192.0.2.1 ": 1,
		"sign-in refused user 1 console 192.0.2.1 wrong": 1, "sign-in refused no such user console 192.0.2.2 wrong": 2}, got)
	// Whoever guesses from everywhere fills no disk, and nothing is dropped.
	for i := range 3 * MostRefusals {
		l.SawSignIn(0, "console", fmt.Sprintf("192.0.2.%d", i), "wrong")
	}
	require.NoError(t, l.WriteDown(ctx))
	list, err = l.Events(ctx, store.Match{Only: string(SignInRefused)})
	require.NoError(t, err)
	require.LessOrEqual(t, len(list), MostRefusals+4)
	total := int64(0)
	for _, e := range list {
		total += e.Count
	}
	require.EqualValues(t, 3+3*MostRefusals, total)
	n, err := l.VerifyEvents(ctx)
	require.NoError(t, err)
	require.Positive(t, n)
}

// When somebody last came in is known by each way, over a restart as well; that they come by NFS is told of once in a while for each address.
func TestWhenSomebodyLastCame(t *testing.T) {
	dir, ctx := t.TempDir(), context.Background()
	l := openLog(t, dir)
	for range 50 {
		l.Arrived(1, "192.0.2.17")
		l.Arrived(1, "192.0.2.18")
	}
	l.SawSignIn(1, "SMB", "192.0.2.1", "")
	l.SawSignIn(1, "console", "192.0.2.1", "wrong")
	require.NoError(t, l.WriteDown(ctx))
	list, err := l.Events(ctx, store.Match{Only: string(SignedIn)})
	require.NoError(t, err)
	require.Len(t, list, 3)
	for _, e := range list {
		require.EqualValues(t, 1, e.Count)
	}
	check := func(l *Log) {
		t.Helper()
		seen, err := l.LastSeen(ctx, 1)
		require.NoError(t, err)
		require.Len(t, seen, 2, "what was refused is no coming in")
		require.Equal(t, []string{"NFS", "SMB"}, []string{seen[0].Via, seen[1].Via})
		require.Equal(t, "192.0.2.18", seen[0].From)
		require.WithinDuration(t, time.Now(), seen[0].At, time.Minute)
		none, err := l.LastSeen(ctx, 2)
		require.NoError(t, err)
		require.Empty(t, none)
	}
	check(l)
	require.NoError(t, l.Store().Close())
	l = openLog(t, dir)
	defer l.Store().Close()
	check(l)
}
