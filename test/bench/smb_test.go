// Package bench measures the gateway's interfaces, each beside the least that the same
// bytes could cost: see docs/performance.md.
package bench

import (
	"io"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/test/bare"
	"amber.example/gatekeeper/test/gateway"
)

const (
	size  = 256 << 20
	piece = 1 << 20
)

// Sequential reading and writing through SMB by a client library in the same
// process, every message signed, beside a bare copy of the same bytes. Client and server share
// the machine, and both sign.
func BenchmarkSMBSequential(b *testing.B) {
	for name, dialect := range map[string]uint16{"2.1 HMAC-SHA256": 0x0210, "3.1.1 AES-CMAC": 0x0311} {
		b.Run(name, func(b *testing.B) {
			g := gateway.Start(b)
			g.Unlimited(b)
			m := g.Mount(b, g.Dial(b, "piran", dialect), "nightlog")
			data := make([]byte, size)
			for b.Loop() {
				least := bare.Copy(b, size, piece)
				f, err := m.Create("big.fits")
				require.NoError(b, err)
				start := time.Now()
				_, err = f.Write(data)
				require.NoError(b, err)
				write := size / 1e6 / time.Since(start).Seconds()
				_, err = f.Seek(0, io.SeekStart)
				require.NoError(b, err)
				start = time.Now()
				_, err = io.ReadFull(f, data)
				require.NoError(b, err)
				read := size / 1e6 / time.Since(start).Seconds()
				require.NoError(b, f.Close())
				b.ReportMetric(least, "bare-MB/s")
				b.ReportMetric(write, "write-MB/s")
				b.ReportMetric(read, "read-MB/s")
				b.ReportMetric(write/least, "write/bare")
				b.ReportMetric(read/least, "read/bare")
			}
		})
	}
}
