package onc

import (
	"encoding/hex"
	"log/slog"
	"net"
	"net/netip"
	"os"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// What is written is read again, padded as RFC 4506 has it.
func TestXDR(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		b, s := rapid.SliceOfN(rapid.Byte(), 0, 40).Draw(t, "b"), rapid.String().Draw(t, "s")
		n, big, yes := rapid.Uint32().Draw(t, "n"), rapid.Uint64().Draw(t, "big"), rapid.Bool().Draw(t, "yes")
		used := rapid.IntRange(0, len(b)).Draw(t, "used")
		w := &Writer{}
		w.Opaque(b)
		w.String(s)
		w.Uint32(n)
		w.Uint64(big)
		w.Bool(yes)
		copy(w.Room(len(b)), b)
		w.Cut(len(b), used)
		require.Zero(t, w.Len()%4)
		r := NewReader(w.B)
		require.Equal(t, b, append([]byte{}, r.Opaque(40)...))
		require.Equal(t, s, r.String(1<<10))
		require.Equal(t, n, r.Uint32())
		require.Equal(t, big, r.Uint64())
		require.Equal(t, yes, r.Bool())
		require.Equal(t, b[:used], append([]byte{}, r.Fixed(used)...))
		require.NoError(t, r.Err())
		require.Zero(t, r.Len())
	})
	for _, bad := range []string{"", "00", "0000000500000000", "ffffffff00000000", "00000003616263"} {
		raw, err := hex.DecodeString(bad)
		require.NoError(t, err)
		r := NewReader(raw)
		r.Opaque(1 << 30)
		require.ErrorIs(t, r.Err(), ErrXDR, bad)
		require.Zero(t, r.Uint64(), "and after that there is nothing")
	}
	r := NewReader([]byte{0, 0, 0, 2})
	r.Bool()
	require.ErrorIs(t, r.Err(), ErrXDR)
	r = NewReader([]byte{0x40, 0, 0, 0, 0, 0, 0, 0})
	require.Zero(t, r.Count(1<<31-1, 4), "an array is no longer than what is there")
}

// A call by AUTH_SYS as another's client sends it: MOUNT's null procedure.
const mountNull = "58a1a6a200000000000000020001 86a50000000300000000" + "0000000100000024" + "0000000000000006" + "6c69626e66730000" + "000007d300000bb9" + "00000002" + "00000bb800000bba" + "0000000000000000"

func TestParseCall(t *testing.T) {
	raw, err := hex.DecodeString(mountNull[:28] + mountNull[29:])
	require.NoError(t, err)
	r := NewReader(raw)
	h, version, stat, err := ParseCall(r)
	require.NoError(t, err)
	require.EqualValues(t, 2, version)
	require.Equal(t, AuthOK, stat)
	require.Equal(t, Header{XID: 0x58a1a6a2, Program: 100005, Version: 3, Cred: Credential{Flavor: AuthSys, Machine: "libnfs", UID: 2003, GID: 3001, Groups: []uint32{3000, 3002}}}, h)
	require.Zero(t, r.Len())

	// Our own calls are read the same way.
	w := &Writer{}
	AppendCall(w, h.XID, h.Program, h.Version, h.Procedure, &h.Cred)
	again, _, _, err := ParseCall(NewReader(w.B))
	require.NoError(t, err)
	require.Equal(t, h, again)
}

func answers(t *testing.T, w *Writer) []uint32 {
	out := &Writer{}
	_, answered := dispatch([]Program{Portmap([]Mapping{{100003, 3, ProtocolTCP, 20490}, {100003, 4, ProtocolTCP, 20490}})}, nil, w.B, false, out)
	require.True(t, answered)
	var words []uint32
	for r := NewReader(out.B); r.Len() > 0; {
		words = append(words, r.Uint32())
	}
	return words
}

// The answers of RFC 5531 section 9 to what is not spoken, and RFC 1833 section 3's to what is.
func TestDispatch(t *testing.T) {
	call := func(program, version, procedure uint32, args ...uint32) *Writer {
		w := &Writer{}
		AppendCall(w, 7, program, version, procedure, nil)
		for _, a := range args {
			w.Uint32(a)
		}
		return w
	}
	for name, c := range map[string]struct {
		call *Writer
		want []uint32
	}{
		"getport":         {call(100000, 2, 3, 100003, 4, ProtocolTCP, 0), []uint32{7, 1, 0, 0, 0, 0, 20490}},
		"another version": {call(100000, 2, 3, 100003, 2, ProtocolTCP, 0), []uint32{7, 1, 0, 0, 0, 0, 20490}},
		"another network": {call(100000, 2, 3, 100003, 3, ProtocolUDP, 0), []uint32{7, 1, 0, 0, 0, 0, 0}},
		"dump":            {call(100000, 2, 4), []uint32{7, 1, 0, 0, 0, 0, 1, 100003, 3, 6, 20490, 1, 100003, 4, 6, 20490, 0}},
		"set":             {call(100000, 2, 1, 100003, 3, ProtocolTCP, 666), []uint32{7, 1, 0, 0, 0, 0, 0}},
		"no program":      {call(4711, 2, 0), []uint32{7, 1, 0, 0, 0, uint32(ProgUnavail)}},
		"no version":      {call(100000, 4, 0), []uint32{7, 1, 0, 0, 0, uint32(ProgMismatch), 2, 2}},
		"no procedure":    {call(100000, 2, 9), []uint32{7, 1, 0, 0, 0, uint32(ProcUnavail)}},
		"garbage":         {call(100000, 2, 3), []uint32{7, 1, 0, 0, 0, uint32(GarbageArgs)}},
	} {
		require.Equal(t, c.want, answers(t, c.call), name)
	}
	old := call(100000, 2, 0)
	old.PutUint32(8, 1)
	require.Equal(t, []uint32{7, 1, 1, 0, 2, 2}, answers(t, old))
	weak := call(100000, 2, 0)
	weak.PutUint32(24, 6)
	require.Equal(t, []uint32{7, 1, 1, 1, uint32(AuthTooWeak)}, answers(t, weak))
	bad := call(100000, 2, 0)
	bad.PutUint32(24, AuthSys)
	require.Equal(t, []uint32{7, 1, 1, 1, uint32(AuthBadCred)}, answers(t, bad))
}

// Any record is answered, or nobody is there to answer.
func FuzzRecord(f *testing.F) {
	raw, err := hex.DecodeString(mountNull[:28] + mountNull[29:])
	require.NoError(f, err)
	f.Add(raw)
	w := &Writer{}
	AppendCall(w, 7, PortmapProgram, PortmapVersion, 3, nil)
	f.Add(append(w.B, make([]byte, 16)...))
	programs := []Program{Portmap([]Mapping{{100003, 3, ProtocolTCP, 20490}})}
	f.Fuzz(func(t *testing.T, record []byte) {
		out := &Writer{}
		if _, answered := dispatch(programs, nil, record, false, out); answered {
			r := NewReader(out.B)
			r.Uint32()
			require.EqualValues(t, msgReply, r.Uint32())
		}
		_, _ = ParseReply(record, 7)
	})
}

// A sender that may be made up gets few answers, however often it is said to ask.
func TestDatagramsAreAnsweredSparingly(t *testing.T) {
	pc, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	defer pc.Close()
	go func() {
		_ = ServePackets(pc, []Program{Portmap([]Mapping{{Program: 100003, Version: 3, Protocol: ProtocolTCP, Port: 20490}})})
	}()
	c, err := net.Dial("udp", pc.LocalAddr().String())
	require.NoError(t, err)
	defer c.Close()
	var w Writer
	for _, n := range []uint32{7, 0, 2, PortmapProgram, PortmapVersion, 4, 0, 0, 0, 0} { // DUMP
		w.Uint32(n)
	}
	const asked = 2000
	for range asked {
		_, err := c.Write(w.B)
		require.NoError(t, err)
	}
	got := 0
	buf := make([]byte, 2048)
	require.NoError(t, c.SetReadDeadline(time.Now().Add(300*time.Millisecond)))
	for {
		if _, err := c.Read(buf); err != nil {
			break
		}
		got++
	}
	require.Positive(t, got)
	require.Less(t, got, asked/4)
	var d datagrams
	now := time.Unix(1e9, 0)
	all := 0
	for i := range 3 * mostAnswersAll {
		if d.may(netip.AddrFrom4([4]byte{10, 0, byte(i >> 8), byte(i)}), now) {
			all++
		}
	}
	require.Equal(t, mostAnswersAll, all)
	require.True(t, d.may(netip.MustParseAddr("192.0.2.1"), now.Add(time.Second)))
}

// At the end of file descriptors the listener waits, and goes on after.
func TestServeOutlastsTheEndOfDescriptors(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	f := &short{Listener: l}
	f.left.Store(3)
	s := &Server{Programs: []Program{Portmap(nil)}, Log: slog.New(slog.DiscardHandler)}
	done := make(chan error, 1)
	go func() { done <- s.Serve(f) }()
	d, err := DialTCP(t.Context(), l.Addr().String())
	require.NoError(t, err)
	_, err = d.Call(PortmapProgram, PortmapVersion, 0, nil, nil)
	require.NoError(t, err)
	d.Close()
	l.Close()
	require.ErrorIs(t, <-done, net.ErrClosed)
	s.Close()
}

// short is a listener that is short of descriptors so many times.
type short struct {
	net.Listener
	left atomic.Int64
}

func (s *short) Accept() (net.Conn, error) {
	if s.left.Add(-1) >= 0 {
		return nil, &net.OpError{Op: "accept", Net: "tcp", Err: os.NewSyscallError("accept4", syscall.EMFILE)}
	}
	return s.Listener.Accept()
}
