package nfs

import (
	"bufio"
	"encoding/binary"
	"encoding/hex"
	"io"
	"net"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/onc"
)

// Calls of other people's clients, taken down by test/capture_test.go, are read to their last argument: none is garbage or bad
// XDR, and what their handles name is not here any more, which is said as the standard has it.
func TestCapturedCalls(t *testing.T) {
	p := newPlace(t)
	addr, stop := p.serve()
	defer stop()
	for name, want := range map[string]struct{ v3, v4 []uint32 }{
		"libnfs-3": {v3: []uint32{1, 3, 7, 8, 17, 19}}, // GETATTR, LOOKUP, WRITE, CREATE, READDIRPLUS, FSINFO
		"libnfs-4": {v4: []uint32{9, 15, 18, 22, 24, 25, 26, 35, 36, 38}},
	} {
		t.Run(name, func(t *testing.T) {
			c, err := net.Dial("tcp", addr)
			require.NoError(t, err)
			defer c.Close()
			require.NoError(t, c.SetDeadline(time.Now().Add(2*time.Minute)))
			f, err := os.Open("testdata/captured/" + name + ".txt")
			require.NoError(t, err)
			defer f.Close()
			procedures, operations := make(map[uint32]bool), make(map[uint32]bool)
			lines := bufio.NewScanner(f)
			lines.Buffer(nil, 1<<22)
			calls := 0
			for lines.Scan() {
				way, text, _ := strings.Cut(lines.Text(), " ")
				if way != ">" {
					continue
				}
				b, err := hex.DecodeString(text)
				require.NoError(t, err)
				calls++
				program, version, procedure := binary.BigEndian.Uint32(b[12:]), binary.BigEndian.Uint32(b[16:]), binary.BigEndian.Uint32(b[20:])
				_, err = c.Write(append(binary.BigEndian.AppendUint32(nil, 1<<31|uint32(len(b))), b...))
				require.NoError(t, err)
				var mark [4]byte
				_, err = io.ReadFull(c, mark[:])
				require.NoError(t, err)
				reply := make([]byte, binary.BigEndian.Uint32(mark[:])&^(1<<31))
				_, err = io.ReadFull(c, reply)
				require.NoError(t, err)
				r, err := onc.ParseReply(reply, binary.BigEndian.Uint32(b))
				require.NoError(t, err, "program %d version %d procedure %d: accepted", program, version, procedure)
				if program != 100003 || procedure == 0 {
					continue
				}
				status := r.Uint32()
				if version == 3 {
					procedures[procedure] = true
					require.Contains(t, []status3{ok3, err3Stale, err3BadHandle}, status3(status), "procedure %d", procedure)
					continue
				}
				r.Opaque(1024)
				n := r.Uint32()
				require.Positive(t, n)
				require.NotContains(t, []status4{err4BadXDR, err4NotSupp, err4Inval}, status4(status), "%x", b)
				for _, op := range opsOf(b) {
					operations[op] = true
				}
			}
			require.NoError(t, lines.Err())
			require.Greater(t, calls, 15)
			for _, proc := range want.v3 {
				require.True(t, procedures[proc], "procedure %d of %v", proc, procedures)
			}
			for _, op := range want.v4 {
				require.True(t, operations[op], "operation %d of %v", op, operations)
			}
		})
	}
}

// opsOf finds the numbers of operations that may begin at each word of a compound: enough to say that one is there.
func opsOf(call []byte) (out []uint32) {
	for at := 40; at+4 <= len(call); at += 4 {
		if n := binary.BigEndian.Uint32(call[at:]); n >= 3 && n <= 58 {
			out = append(out, n)
		}
	}
	return out
}
