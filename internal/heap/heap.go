// Package heap says how often memory is looked through for what nobody uses any more. Left alone, the runtime does so whenever as much was allocated as is
// in use: a service that holds 20 MB looks through them for every 20 MB of requests, many times a second. Here it waits for at least Room.
package heap

import (
	"os"
	"runtime"
	"runtime/debug"
	"runtime/metrics"
	"sync"
)

// Room is how many bytes may be allocated, whatever little is in use, before memory is looked through.
const Room = 96 << 20

// Percent is what the runtime is told: by how much of what is in use, in bytes, it may grow. It is never less than the runtime's own 100.
func Percent(live uint64) int {
	const least = 4 << 20 // the runtime itself looks at nothing smaller
	return int(max(100, Room*100/max(live, least)))
}

var once sync.Once

// Keep has the process leave Room from now on. It goes by what is in use after each look. Whoever starts the process with GOGC decides
// themselves, and nothing is done.
func Keep() {
	if os.Getenv("GOGC") != "" {
		return
	}
	once.Do(func() {
		adjust()
		runtime.SetFinalizer(new(look), again)
	})
}

// look is found unused at each look, which is how it is known that there was one.
type look struct{ _ [64]byte }

func again(l *look) {
	adjust()
	runtime.SetFinalizer(l, again)
}

// adjust sets the percentage by what is in use.
func adjust() {
	sample := []metrics.Sample{{Name: "/gc/heap/live:bytes"}}
	metrics.Read(sample)
	if sample[0].Value.Kind() == metrics.KindUint64 {
		debug.SetGCPercent(Percent(sample[0].Value.Uint64()))
	}
}
