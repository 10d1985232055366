package lanes_test

import (
	"context"
	"sync"
	"sync/atomic"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/lanes"
)

// Calls that do not come back hold up the others for a moment once, and not for good; and there are never more of them than
// may be.
func TestWhatDoesNotComeBackStandsInNobodysWay(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		l := lanes.New(4, lanes.NewAside(6))
		told := 0
		var stuck []*lanes.Call
		begun := time.Now()
		for range 10 {
			stuck = append(stuck, l.Take(t.Context(), func() { told++ }))
		}
		require.Equal(t, 6, told, "as many as may go on beside")
		require.LessOrEqual(t, time.Since(begun), 3*(lanes.Patience+lanes.Patience/4))

		ctx, cancel := context.WithTimeout(t.Context(), time.Hour)
		defer cancel()
		require.Nil(t, l.Take(ctx, nil), "and no more")

		for i, c := range stuck { // those that come back give back what they had
			if i%2 == 0 {
				c.Done()
			}
		}
		begun = time.Now()
		for range 1000 {
			c := l.Take(t.Context(), nil)
			require.NotNil(t, c)
			c.Done()
		}
		require.Zero(t, time.Since(begun), "nobody waits where there are places")
		for i, c := range stuck {
			if i%2 == 1 {
				c.Done()
			}
		}
		for range 4 {
			require.NotNil(t, l.Take(t.Context(), nil), "all places are there again")
		}
	})
}

// Whatever comes and goes, no more are in work than places and those beside.
func TestLanesAreKeptByMany(t *testing.T) {
	const places, beside = 3, 2
	t.Run("who waits for a client keeps its place", func(t *testing.T) {
		synctest.Test(t, func(t *testing.T) {
			l := lanes.New(1, lanes.NewAside(5))
			l.Take(t.Context(), nil).Keep()
			ctx, cancel := context.WithTimeout(t.Context(), time.Hour)
			defer cancel()
			require.Nil(t, l.Take(ctx, nil))
		})
	})
	t.Run("one client leaves some for others", func(t *testing.T) {
		synctest.Test(t, func(t *testing.T) {
			aside := lanes.NewAside(5)
			ctx, cancel := context.WithTimeout(t.Context(), time.Hour)
			defer cancel()
			one, two := lanes.New(1, aside), lanes.New(1, aside)
			for n := range 4 {
				require.Equal(t, n < 3, one.Take(ctx, nil) != nil, n)
			}
			require.NotNil(t, two.Take(t.Context(), nil))
			require.NotNil(t, two.Take(t.Context(), nil))
		})
	})
	l, now, most := lanes.New(places, lanes.NewAside(beside)), atomic.Int64{}, atomic.Int64{}
	var all sync.WaitGroup
	for i := range 40 {
		all.Go(func() {
			for j := range 20 {
				c := l.Take(t.Context(), nil)
				if n := now.Add(1); n > most.Load() {
					most.Store(n)
				}
				if i < 2 && j == 0 {
					time.Sleep(lanes.Patience + lanes.Patience/2)
				}
				now.Add(-1)
				c.Done()
			}
		})
	}
	all.Wait()
	require.LessOrEqual(t, most.Load(), int64(places+beside))
	require.Positive(t, most.Load())
}
