package turns_test

import (
	"math/rand/v2"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/turns"
)

// Whatever the kinds of requests and however long they take, each is read once, in order, by one goroutine at a time, and done once; and the end is told once.
func TestEachIsReadAndDoneOnce(t *testing.T) {
	var group sync.WaitGroup
	for range 40 {
		group.Go(func() {
			const n = 300
			var read, inRead, ended atomic.Int32
			var did [n]atomic.Int32
			var work sync.WaitGroup
			over := make(chan struct{})
			turns.Run(func() (func(), turns.Kind) {
				if inRead.Add(1) != 1 {
					t.Error("two read at once")
				}
				defer inRead.Add(-1)
				i := int(read.Load())
				if i == n {
					return nil, turns.Over
				}
				read.Store(int32(i + 1))
				kind := []turns.Kind{turns.Inline, turns.Alone, turns.Alone, turns.Alone, turns.Beside}[rand.IntN(5)]
				if kind == turns.Inline {
					did[i].Add(1)
					return nil, kind
				}
				work.Add(1)
				return func() {
					defer work.Done()
					if rand.IntN(20) == 0 {
						time.Sleep(time.Duration(rand.IntN(5000)) * time.Microsecond)
					}
					did[i].Add(1)
				}, kind
			}, func() {
				ended.Add(1)
				close(over)
			})
			<-over
			work.Wait()
			require.EqualValues(t, 1, ended.Load())
			for i := range did {
				require.EqualValues(t, 1, did[i].Load(), i)
			}
		})
	}
	group.Wait()
}

// One that waits for another behind it gets it: nobody is kept from reading by what is in work. After a silence as well, when nothing was being watched.
func TestTheNextIsReadBesideAnother(t *testing.T) {
	for _, pause := range []time.Duration{0, 200 * time.Millisecond} {
		let, over := make(chan struct{}), make(chan struct{})
		asked := 0
		turns.Run(func() (func(), turns.Kind) {
			switch asked++; asked {
			case 1:
				time.Sleep(pause)
				return func() { <-let }, turns.Alone
			case 2:
				return func() { close(let) }, turns.Alone
			}
			return nil, turns.Over
		}, func() { close(over) })
		select {
		case <-over:
		case <-time.After(time.Minute):
			t.Fatal("it waits for ever")
		}
	}
}
