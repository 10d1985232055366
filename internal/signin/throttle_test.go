package signin

import (
	"context"
	"strconv"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// The first few wrong passwords cost nothing; then each doubles the wait.
func TestThrottle(t *testing.T) {
	now := time.Unix(0, 0)
	th := NewThrottle(func() time.Time { return now })
	ctx := context.Background()
	try := func(account, address string, ok bool) time.Duration {
		done, wait := th.Begin(ctx, account, address, 0)
		if done != nil {
			done(ok)
		}
		return wait
	}
	for range freeTries + 1 {
		require.Zero(t, try("wren", "a", false))
	}
	require.Equal(t, time.Second, try("Wren", "b", true), "the account, from anywhere")
	require.Equal(t, time.Second, try("piran", "a", true), "the address, for anyone")
	require.Zero(t, try("piran", "b", true))
	for i := range 20 { // each further one doubles the wait, up to a point
		wait := try("wren", "a", false)
		require.Equal(t, min(time.Second<<i, longestWait), wait)
		now = now.Add(wait)
		require.Zero(t, try("wren", "a", false))
	}
	for range 10 * freeTries {
		require.Zero(t, try("isolde", "c", true), "what succeeds is not held against anyone")
	}
	now = now.Add(forgetAfter + time.Second)
	require.Zero(t, try("wren", "a", false))
	require.Zero(t, try("wren", "a", false), "an old past is forgotten")

	// Guessing side by side gains no more than the few that are looked at together.
	var open []func(bool)
	for range mostPending {
		done, wait := th.Begin(ctx, "tomasz", "d", 0)
		require.Zero(t, wait)
		open = append(open, done)
	}
	late := make(chan time.Duration)
	go func() { late <- try("tomasz", "e", false) }()
	for _, done := range open {
		done(false)
	}
	require.GreaterOrEqual(t, <-late, time.Second)
	// A crowd with the right password only takes its turns.
	var crowd sync.WaitGroup
	for range 10 * mostPending {
		crowd.Go(func() { require.Zero(t, try("bettany", "f", true)) })
	}
	crowd.Wait()

	for i := range 3 * mostTries {
		try(strconv.Itoa(i), "address "+strconv.Itoa(i), false)
	}
	require.LessOrEqual(t, len(th.tries), mostTries+2)
}
