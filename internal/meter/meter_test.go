package meter

import (
	"fmt"
	"math"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// A time lies in the one bucket whose bounds hold it, whatever it is.
func TestEveryTimeHasItsBucket(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		edge := time.Duration(64*time.Microsecond) << rapid.IntRange(0, Buckets).Draw(t, "edge")
		took := edge + time.Duration(rapid.IntRange(-2, 2).Draw(t, "off"))
		if rapid.Bool().Draw(t, "anywhere") {
			took = time.Duration(rapid.Int64Range(-5, int64(time.Hour)).Draw(t, "took"))
		}
		i := bucketOf(took)
		if high, bounded := Bound(i); bounded {
			require.Less(t, took, high)
		}
		if i > 0 {
			low, _ := Bound(i - 1)
			require.GreaterOrEqual(t, took, low)
		}
	})
}

// A quantile is no further from the true one than its bucket is wide, and grows with the part that is asked for.
func TestQuantilesAreNear(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var tally Tally
		all := rapid.SliceOfN(rapid.Int64Range(0, int64(2*time.Second)), 1, 200).Draw(t, "took")
		for _, took := range all {
			tally.add(Did{Kind: Read, Took: time.Duration(took)})
		}
		slices.Sort(all)
		c := tally.Count()
		before := time.Duration(0)
		for _, part := range []float64{0.01, 0.5, 0.9, 0.99, 1} {
			is := c.Quantile(part)
			require.GreaterOrEqual(t, is, before)
			before = is
			at := time.Duration(all[max(0, int(math.Ceil(part*float64(len(all))))-1)])
			i := bucketOf(at)
			high, _ := Bound(i)
			low := time.Duration(0)
			if i > 0 {
				low, _ = Bound(i - 1)
			}
			require.True(t, is >= low && is <= high, "%v of %v: %v is not within %v and %v", part, all, is, low, high)
		}
	})
	var none Times
	require.Zero(t, none.Quantile(0.5))
}

// Many count at once, in all that a request is about, and nothing is lost or allocated.
func TestCountingAtOnce(t *testing.T) {
	var m Meter
	of := Of{Protocol: m.Tally(ByProtocol, "SMB 3.1.1"), Folder: m.Tally(ByFolder, "1"), Host: m.Tally(ByHost, "192.0.2.1")}
	did := Did{Kind: Write, Outcome: Refused, Read: 3, Written: -1, Began: time.Now(), Took: time.Millisecond}
	require.Zero(t, testing.AllocsPerRun(100, func() { of.Count(did) }))
	var wait sync.WaitGroup
	for range 8 {
		wait.Go(func() {
			for i := range 1000 {
				of.Count(did)
				m.Tally(ByHost, fmt.Sprint(i%7)).Count()
			}
		})
	}
	wait.Wait()
	seen := 0
	m.Each(ByFolder, func(name string, c Count) {
		seen++
		require.Equal(t, "1", name)
		require.EqualValues(t, 8101, c.Operations[Write][Refused])
		require.EqualValues(t, 8101, c.All())
		require.EqualValues(t, 3*8101, c.Read)
		require.Zero(t, c.Written)
		require.Equal(t, 8101*time.Millisecond, c.Sum)
	})
	require.Equal(t, 1, seen)
}

// There are never more of a kind than may be, however many come.
func TestWhatIsToldApartIsBounded(t *testing.T) {
	var m Meter
	for i := range 3 * mostOf[ByHost] {
		m.Tally(ByHost, fmt.Sprint(i))
		require.LessOrEqual(t, len(m.by[ByHost].all), mostOf[ByHost])
	}
}
