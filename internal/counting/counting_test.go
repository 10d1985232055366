package counting

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// The clock of graces goes on as time does.
func TestASteadyClock(t *testing.T) {
	ahead := time.Now().Add(time.Hour)
	now := steady(ahead)
	require.WithinDuration(t, ahead, now(), time.Second, "a clock that was set back does not lengthen a grace")
	require.WithinDuration(t, time.Now(), steady(time.Time{})(), time.Second)
}
