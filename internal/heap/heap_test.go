package heap

import (
	"runtime"
	"runtime/debug"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestPercent(t *testing.T) {
	for _, c := range []struct {
		live uint64
		want int
	}{{0, 2400}, {4 << 20, 2400}, {24 << 20, 400}, {48 << 20, 200}, {96 << 20, 100}, {97 << 20, 100}, {8 << 30, 100}, {1 << 63, 100}} {
		require.Equal(t, c.want, Percent(c.live), "%d bytes in use", c.live)
	}
}

var held [][]byte

// With more in use it waits for less, in proportion, and for more again once that is given back.
func TestKeepGoesByWhatIsInUse(t *testing.T) {
	t.Setenv("GOGC", "")
	Keep()
	Keep()
	percent := func() int {
		is := debug.SetGCPercent(100)
		debug.SetGCPercent(is)
		return is
	}
	comes := func(good func(int) bool) {
		t.Helper()
		require.Eventually(t, func() bool { runtime.GC(); return good(percent()) }, 20*time.Second, 10*time.Millisecond)
	}
	comes(func(p int) bool { return p > 300 })
	for range 200 {
		held = append(held, make([]byte, 1<<20))
	}
	comes(func(p int) bool { return p == 100 })
	held = nil
	comes(func(p int) bool { return p > 300 })
}
