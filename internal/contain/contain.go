// Package contain keeps what goes wrong in one goroutine from ending the process.
package contain

import (
	"fmt"
	"log/slog"
	"runtime/debug"
	"sync"
)

// Run runs fn. A panic in it ends fn and nothing else; it is logged, with where it was.
func Run(what string, fn func()) {
	defer func() {
		if p := recover(); p != nil {
			slog.Error("something went wrong, and was contained", "in", what, "panic", fmt.Sprint(p), "stack", string(debug.Stack()))
		}
	}()
	fn()
}

// Go runs fn in a goroutine that a group waits for, and contains it.
func Go(group *sync.WaitGroup, what string, fn func()) {
	group.Go(func() { Run(what, fn) })
}
