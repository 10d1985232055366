package smb

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/smb/message"
	"amber.example/gatekeeper/internal/store"
)

// BenchmarkOpensThatLast opens and closes a file on a share on which that outlasts the service, as a part of the rate without, and starts a service
// anew on a thousand files that are open.
func BenchmarkOpensThatLast(b *testing.B) {
	l := newLasting(b)
	kept, _, err := store.OpenOpens(context.Background(), b.TempDir())
	require.NoError(b, err)
	defer kept.Close()
	l.opens = kept
	c := machine3(b, l.start(), 1)
	rate := func(contexts ...message.CreateContext) float64 {
		const n = 600
		began := time.Now()
		for range n {
			status, out := c.opens(&message.CreateRequest{Name: message.UTF16("README.txt"), Access: readWrite, Disposition: 1, Contexts: contexts})
			require.Equal(b, statusOK, status)
			require.Equal(b, len(contexts) > 0, lasts(&out))
			require.Equal(b, statusOK, c.status(message.Close, closeBody(idOf(&out))))
		}
		return n / time.Since(began).Seconds()
	}
	for b.Loop() {
		without := rate()
		with := rate(persistent(7, 0))
		b.ReportMetric(with, "lasting/s")
		b.ReportMetric(with/without, "of-others")
		for i := range 1000 {
			create := message.DurableV2{Create: [16]byte{8, byte(i), byte(i >> 8)}, Flags: message.DurablePersistent}
			status, _ := c.opens(&message.CreateRequest{Name: message.UTF16("README.txt"), Access: readWrite, Disposition: 1, Contexts: []message.CreateContext{{Name: message.ContextDurableV2, Data: create.Append(nil)}}})
			require.Equal(b, statusOK, status)
		}
		began := time.Now()
		c = machine3(b, l.start(), 1)
		b.ReportMetric(float64(time.Since(began).Milliseconds()), "ms-anew")
		require.GreaterOrEqual(b, len(l.server.orphans), 1000)
	}
}
