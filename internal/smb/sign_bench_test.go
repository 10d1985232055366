package smb

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/test/bare"

	"amber.example/gatekeeper/internal/smb/message"
)

func BenchmarkSign(b *testing.B) {
	msg := make([]byte, 1<<20)
	for name, alg := range map[string]uint16{"HMAC-SHA256": signHMAC, "AES-CMAC": signCMAC, "AES-GMAC": signGMAC} {
		s, err := newSigner(alg, secret)
		require.NoError(b, err)
		b.Run(name, func(b *testing.B) {
			b.SetBytes(int64(len(msg)))
			for b.Loop() {
				s.sign(msg)
			}
		})
	}
}

// The server's own cost: a client that keeps eight requests under way and does not
// check the signatures on what it gets, beside a bare copy of the same bytes over loopback.
func BenchmarkServerSequential(b *testing.B) {
	const size, piece, ahead = 256 << 20, 1 << 20, 8
	addr, dir := startServer(b)
	require.NoError(b, os.WriteFile(filepath.Join(dir, "nightlog", "big.fits"), make([]byte, size), 0o644))
	c := dialRaw(b, addr)
	_ = c.nc.SetDeadline(time.Now().Add(time.Minute))
	c.preauth = new([64]byte)
	c.signInWith(hello311(preauthContext, gmacContext)).connect()
	id := c.create("big.fits", 0x12019f, 1, 0)
	send := func(cmd message.Command, body []byte) {
		msg := c.message(cmd, body)
		le.PutUint16(msg[6:], 16)  // a megabyte is sixteen credits
		le.PutUint16(msg[14:], 32) // and as many again for the next
		c.id += 15
		signMessage(c.sign, msg)
		c.frame(msg)
	}
	for range 20 { // credits for all that is kept under way
		_, _, err := c.do(message.Echo, []byte{4, 0, 0, 0})
		require.NoError(b, err)
	}
	run := func(request func(at uint64)) float64 {
		start := time.Now()
		for sent, got := 0, 0; got < size/piece; got++ {
			for ; sent < size/piece && sent < got+ahead; sent++ {
				request(uint64(sent) * piece)
			}
			h, _, err := c.receive()
			require.NoError(b, err)
			require.Equal(b, statusOK, Status(h.Status))
		}
		return size / 1e6 / time.Since(start).Seconds()
	}
	data := append(readBody(id, piece, 0)[:48], make([]byte, piece)...)
	le.PutUint16(data[2:], message.HeaderSize+48)
	for b.Loop() {
		least := bare.Copy(b, size, piece)
		read := run(func(at uint64) { send(message.Read, readBody(id, piece, at)) })
		write := run(func(at uint64) { le.PutUint64(data[8:], at); send(message.Write, data) })
		b.ReportMetric(least, "bare-MB/s")
		b.ReportMetric(read, "read-MB/s")
		b.ReportMetric(write, "write-MB/s")
		b.ReportMetric(read/least, "read/bare")
		b.ReportMetric(write/least, "write/bare")
	}
}
