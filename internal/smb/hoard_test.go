package smb

import (
	"context"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/smb/message"
)

func (h *hoard) held() (all, most int) {
	h.mu.Lock()
	defer h.mu.Unlock()
	for _, n := range h.of {
		most = max(most, n)
	}
	return h.all, most
}

// Whatever is taken and given back: never more than there is, of all and of one, and nothing in the end.
func TestTheHoardIsBounded(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		h := &hoard{most: rapid.IntRange(1, 1000).Draw(t, "most"), of: make(map[string]int)}
		h.ofOne = rapid.IntRange(1, h.most).Draw(t, "of one")
		type part struct {
			who string
			n   int
		}
		var parts []part
		sum, of := 0, map[string]int{}
		for range rapid.IntRange(0, 50).Draw(t, "steps") {
			p := part{rapid.SampledFrom([]string{"a", "b", "c"}).Draw(t, "who"), rapid.IntRange(0, 600).Draw(t, "n")}
			ok := h.take(p.who, p.n)
			require.Equal(t, sum+p.n <= h.most && of[p.who]+p.n <= h.ofOne, ok)
			if ok {
				parts = append(parts, p)
				sum, of[p.who] = sum+p.n, of[p.who]+p.n
			}
			if len(parts) > 0 && rapid.Bool().Draw(t, "give") {
				h.give(parts[0].who, parts[0].n)
				sum, of[parts[0].who] = sum-parts[0].n, of[parts[0].who]-parts[0].n
				parts = parts[1:]
			}
		}
		for _, p := range parts {
			h.give(p.who, p.n)
		}
		all, _ := h.held()
		require.Zero(t, all)
		require.Empty(t, h.of)
	})
	h := &hoard{most: 10, ofOne: 10, of: make(map[string]int)}
	require.True(t, h.take("a", 10))
	ctx, cancel := context.WithTimeout(t.Context(), 20*time.Millisecond)
	defer cancel()
	require.False(t, h.wait(ctx, "b", 1, func() {}))
	time.AfterFunc(10*time.Millisecond, func() { h.give("a", 10) })
	require.True(t, h.wait(t.Context(), "b", 1, func() {}))
}

// A client that asks and asks, and reads nothing back, waits for itself; when it goes nothing is left of it.
func TestWhoReadsNothingBackWaitsAlone(t *testing.T) {
	s, addr, dir := startServerOf(t)
	s.hoard = &hoard{most: 4 << 20, ofOne: 300 << 10, of: make(map[string]int)}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "nightlog", "plate"), make([]byte, 1<<20), 0o644))
	greedy := dialRaw(t, addr).signIn().connect()
	require.NoError(t, greedy.nc.(*net.TCPConn).SetReadBuffer(4096))
	id := greedy.create("plate", 0x120089, 1, 0)
	for range 50 {
		msg := greedy.message(message.Read, readBody(id, 65536, 0))
		if greedy.sign != nil {
			signMessage(greedy.sign, msg)
		}
		greedy.frame(msg)
	}
	seen := 0
	for range 40 {
		all, most := s.hoard.held()
		seen = max(seen, most)
		require.LessOrEqual(t, most, 300<<10)
		require.LessOrEqual(t, all, 300<<10)
		time.Sleep(5 * time.Millisecond)
	}
	require.GreaterOrEqual(t, seen, 65536)
	from := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 0, 2)}}
	nc, err := from.Dial("tcp", addr)
	require.NoError(t, err)
	defer nc.Close()
	_ = nc.SetDeadline(time.Now().Add(time.Minute))
	other := (&rawClient{t: t, nc: nc}).signIn().connect()
	own := other.create("plate", 0x120089, 1, 0)
	for range 20 {
		h, body, err := other.do(message.Read, readBody(own, 65536, 0))
		require.NoError(t, err)
		require.Equal(t, statusOK, Status(h.Status))
		require.Len(t, body, 16+65536)
	}
	greedy.nc.Close()
	require.Eventually(t, func() bool { all, _ := s.hoard.held(); return all == 0 }, 2*time.Minute, 5*time.Millisecond)
}

// Names of a directory are kept while they are listed, and no longer; and no more of them than there is room for.
func TestNamesAreKeptNoLongerThanTheyAreListed(t *testing.T) {
	s, addr, dir := startServerOf(t)
	for i := range 1000 {
		require.NoError(t, os.WriteFile(filepath.Join(dir, "nightlog", "2026", fmt.Sprintf("plate-%04d.fits", i)), nil, 0o644))
	}
	c := dialRaw(t, addr).signIn().connect()
	list := func(id []byte, flags byte) Status {
		raw := message.UTF16("*")
		b := make([]byte, 32)
		le.PutUint16(b, 33)
		b[2], b[3] = message.FileNamesInfo, flags
		copy(b[8:], id)
		le.PutUint16(b[24:], message.HeaderSize+32)
		le.PutUint16(b[26:], uint16(len(raw)))
		le.PutUint32(b[28:], 32<<10)
		return c.status(message.QueryDirectory, append(append(b, raw...), 0))
	}
	const restart, reopen = 1, 16
	id := c.create("2026", 0x120089, 1, message.OptDirectory)
	require.Equal(t, statusOK, list(id, 0))
	all, _ := s.hoard.held()
	require.Greater(t, all, 1000*15)
	require.Equal(t, statusOK, list(id, restart))
	again, _ := s.hoard.held()
	require.Equal(t, all, again, "the same names once")
	for list(id, 0) == statusOK {
	}
	all, _ = s.hoard.held()
	require.Zero(t, all)
	require.Equal(t, statusNoMoreFiles, list(id, 0))
	require.Equal(t, statusOK, list(id, reopen))
	require.Equal(t, statusOK, c.status(message.Close, closeBody(id)))
	all, _ = s.hoard.held()
	require.Zero(t, all, "closed in the middle")

	s.hoard.mu.Lock()
	s.hoard.ofOne = 100 << 10
	s.hoard.mu.Unlock()
	refused := 0
	for range 10 {
		if list(c.create("2026", 0x120089, 1, message.OptDirectory), 0) == statusInsufficientResources {
			refused++
		}
	}
	require.Positive(t, refused)
	all, _ = s.hoard.held()
	require.LessOrEqual(t, all, 100<<10)
	c.nc.Close()
	require.Eventually(t, func() bool { all, _ := s.hoard.held(); return all == 0 }, 10*time.Second, 5*time.Millisecond)
}
