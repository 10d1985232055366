package smb

import (
	"bufio"
	"encoding/binary"
	"io"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/test/bare"

	"amber.example/gatekeeper/internal/heap"
	"amber.example/gatekeeper/internal/smb/message"
)

func BenchmarkSign(b *testing.B) {
	msg := make([]byte, 1<<20)
	for name, alg := range map[string]uint16{"HMAC-SHA256": signHMAC, "AES-CMAC": signCMAC, "AES-GMAC": signGMAC} {
		s, err := newSigner(alg, piranHash)
		require.NoError(b, err)
		b.Run(name, func(b *testing.B) {
			b.SetBytes(int64(len(msg)))
			for b.Loop() {
				s.sign(msg)
			}
		})
	}
}

// lean is a client that costs as little as it can: it keeps eight requests under way, which it has signed or sealed before the clock runs, and
// takes what comes as it is, into one buffer.
type lean struct {
	*rawClient
	seals *session
	check bool // the signatures of what comes
	buf   []byte
}

// ahead is how many requests it keeps under way.
const ahead = 8

// request is one as it goes over the wire. Where most of it is the same for all, as the data of a write are, that is shared, and kept out of head.
func (c *lean) request(cmd message.Command, id uint64, body, data []byte) (head, rest []byte) {
	h := message.Header{Command: cmd, Credits: 32, CreditCharge: 16, MessageID: id, TreeID: c.tree, SessionID: c.session}
	msg := make([]byte, message.HeaderSize, message.HeaderSize+len(body)+len(data)+tagSize)
	h.Put(msg)
	msg = append(append(msg, body...), data...)
	if c.seals != nil {
		sealed := frameOf(c.seals.seal([][]byte{msg}))
		return append(binary.BigEndian.AppendUint32(nil, uint32(len(sealed))), sealed...), nil
	}
	signMessage(c.sign, msg)
	return append(binary.BigEndian.AppendUint32(nil, uint32(len(msg))), msg[:len(msg)-len(data)]...), data
}

// run sends requests and gives how many MB of the file they moved in a second.
func (c *lean) run(b *testing.B, requests [][2][]byte, size int, after func()) float64 {
	start := time.Now()
	for sent, got := 0, 0; got < len(requests); got++ {
		for ; sent < len(requests) && sent < got+ahead; sent++ {
			_, err := (&net.Buffers{requests[sent][0], requests[sent][1]}).WriteTo(c.nc)
			require.NoError(b, err)
		}
		_, err := io.ReadFull(c.nc, c.buf[:4])
		require.NoError(b, err)
		frame := c.buf[:binary.BigEndian.Uint32(c.buf)]
		_, err = io.ReadFull(c.nc, frame)
		require.NoError(b, err)
		if c.seals != nil {
			frame = c.opened(b, frame)
		}
		if c.check {
			require.True(b, verifyMessage(c.sign, frame))
		}
		var h message.Header
		require.NoError(b, h.Parse(frame))
		require.Equal(b, statusOK, Status(h.Status))
	}
	after()
	return float64(size) / 1e6 / time.Since(start).Seconds()
}

// opened is what is in a sealed frame.
func (c *lean) opened(b *testing.B, frame []byte) []byte {
	var t message.Transform
	require.NoError(b, t.Parse(frame))
	sealed := append(frame[message.TransformSize:], t.Signature[:]...)
	aead := c.seals.sealing.in
	msg, err := aead.Open(sealed[:0], t.Nonce[:aead.NonceSize()], sealed, frame[message.NonceAt:message.TransformSize])
	require.NoError(b, err)
	return msg
}

// newLean signs in, sealing or not.
func newLean(b *testing.B, addr string, sealed bool) *lean {
	c := &lean{rawClient: dialRaw(b, addr), buf: make([]byte, 2<<20)}
	_ = c.nc.SetDeadline(time.Now().Add(5 * time.Minute))
	c.preauth = new([64]byte)
	contexts := [][]byte{preauthContext, gmacContext}
	if sealed {
		contexts = append(contexts, gcmContext)
	}
	c.signInWith(hello311(contexts...)).connect()
	for range 40 { // credits for all that is kept under way
		_, _, err := c.do(message.Echo, []byte{4, 0, 0, 0})
		require.NoError(b, err)
	}
	return c
}

// The server's own cost, beside a bare TCP copy of the same file that reads and writes it the same way, and has it on disk at the end: in turn,
// the best of five of each. Sealed, it stands beside the same over TLS 1.3.
func BenchmarkServerSequential(b *testing.B) {
	const size, piece = 256 << 20, 1 << 20
	for _, name := range []string{"signed", "signed and checked", "sealed"} {
		b.Run(name, func(b *testing.B) {
			sealed := name == "sealed"
			s, addr, dir := startServerOf(b)
			path := filepath.Join(dir, "nightlog", "big.fits")
			require.NoError(b, os.WriteFile(path, make([]byte, size), 0o644))
			c := newLean(b, addr, sealed)
			id := c.create("big.fits", readWrite, 1, 0)
			c.check = name == "signed and checked"
			if sealed {
				c.seals = sealsOf(b, s, c.session)
			}
			over := bare.Plain
			if sealed {
				over = bare.TLS(b)
			}
			data := make([]byte, piece)
			requests := func(cmd message.Command) (out [][2][]byte) {
				for at := uint64(0); at < size; at += piece {
					body, rest := readBody(id, piece, at), []byte(nil)
					if cmd == message.Write {
						body, rest = body[:48], data
						le.PutUint16(body, 49)
						le.PutUint16(body[2:], message.HeaderSize+48)
					}
					head, rest := c.request(cmd, c.id, body, rest)
					out, c.id = append(out, [2][]byte{head, rest}), c.id+16
				}
				return out
			}
			for b.Loop() {
				var read, write, fetch, store float64
				for range 5 {
					fetch = max(fetch, bare.Fetch(b, over, path, piece))
					asked := requests(message.Read)
					read = max(read, c.run(b, asked, size, func() {}))
					store = max(store, bare.Store(b, over, path, piece))
					asked = requests(message.Write)
					write = max(write, c.run(b, asked, size, func() {
						sync := make([]byte, 24)
						le.PutUint16(sync, 24)
						copy(sync[8:], id)
						head, _ := c.request(message.Flush, c.id, sync, nil)
						c.id += 16
						c.run(b, [][2][]byte{{head}}, 0, func() {})
					}))
				}
				b.ReportMetric(fetch, "bare-read-MB/s")
				b.ReportMetric(store, "bare-write-MB/s")
				b.ReportMetric(read, "read-MB/s")
				b.ReportMetric(write, "write-MB/s")
				b.ReportMetric(read/fetch, "read/bare")
				b.ReportMetric(write/store, "write/bare")
			}
		})
	}
}

// Opens and stats, one at a time, beside a bare request and its answer, of as many bytes, over a socket of the same kind.
func BenchmarkServerSmall(b *testing.B) {
	heap.Keep() // as the service has it
	addr, _ := startServer(b)
	c := newLean(b, addr, false)
	const n = 1000
	in := bufio.NewReader(c.nc)
	// Requests are written and signed before the clock runs, but for those that say what an answer has said: what is measured is the server's cost.
	frame := func(id uint64, cmd message.Command, m interface{ Append([]byte) []byte }) []byte {
		h := message.Header{Command: cmd, Credits: 32, CreditCharge: 1, MessageID: id, TreeID: c.tree, SessionID: c.session}
		msg := m.Append(make([]byte, message.HeaderSize, 256))
		h.Put(msg)
		signMessage(c.sign, msg)
		return append(binary.BigEndian.AppendUint32(nil, uint32(len(msg))), msg...)
	}
	trip := func(frame []byte) []byte {
		if _, err := c.nc.Write(frame); err != nil {
			b.Fatal(err)
		}
		if _, err := io.ReadFull(in, c.buf[:4]); err != nil {
			b.Fatal(err)
		}
		out := c.buf[:binary.BigEndian.Uint32(c.buf)]
		if _, err := io.ReadFull(in, out); err != nil {
			b.Fatal(err)
		}
		var h message.Header
		if h.Parse(out) != nil || h.Status != 0 {
			b.Fatal(h.Status)
		}
		return out[message.HeaderSize:]
	}
	// patched is a frame with another number and another file than it was written with.
	patched := func(frame []byte, id uint64, file []byte) []byte {
		msg := frame[4:]
		le.PutUint64(msg[24:], id) // MessageId of the header
		copy(msg[message.HeaderSize+8:], file)
		signMessage(c.sign, msg)
		return frame
	}
	many := func(step uint64, cmd message.Command, m interface{ Append([]byte) []byte }) (frames [n][]byte) {
		for i := range frames {
			frames[i] = frame(c.id+uint64(i)*step, cmd, m)
		}
		return frames
	}
	create := &message.CreateRequest{Access: 0x120089, Sharing: 7, Disposition: 1, Name: message.UTF16("README.txt")}
	rate := func(trips int, one func(i int)) float64 {
		start := time.Now()
		for i := range n {
			one(i)
		}
		took := time.Since(start)
		c.id += uint64(n * trips)
		return float64(n*trips) / took.Seconds()
	}
	var beside bare.Beside
	for b.Loop() {
		for range 10 {
			held := fileID(trip(frame(c.id, message.Create, create))[64:80])
			c.id++
			beside.Round(func() float64 { return bare.Trips(b, n, 180, 240) }, map[string]func() float64{
				"open": func() float64 {
					frames, closing := many(2, message.Create, create), frame(0, message.Close, &message.CloseRequest{})
					return rate(2, func(i int) {
						id := trip(frames[i])[64:80]
						trip(patched(closing, c.id+2*uint64(i)+1, id))
					})
				},
				"stat": func() float64 {
					frames := many(1, message.QueryInfo, &message.QueryInfoRequest{About: message.AboutFile, Class: message.FileNetworkOpenInfo, Room: 56, ID: held})
					return rate(1, func(i int) { trip(frames[i]) })
				},
			})
			trip(frame(c.id, message.Close, &message.CloseRequest{ID: held}))
			c.id++
		}
	}
	beside.Report(b, "bare")
}

// sealsOf is a session as its client has it.
func sealsOf(b *testing.B, s *Server, id uint64) *session {
	s.mu.Lock()
	defer s.mu.Unlock()
	of := s.sessions[id]
	require.NotNil(b, of)
	mine := &session{id: id, conn: of.conn, sealing: &sealing{in: of.sealing.out, out: of.sealing.in, cipher: of.sealing.cipher}}
	mine.sealing.salt = [4]byte{1, 2, 3, 4}
	return mine
}
