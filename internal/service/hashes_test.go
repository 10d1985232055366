package service

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"net"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/audit"
	"amber.example/gatekeeper/internal/store"
)

func hashed(t *testing.T, state, to string) *Service {
	t.Helper()
	s, err := Open(context.Background(), state, WithHashes(to))
	require.NoError(t, err)
	return s
}

func vouched(s *Service) bool {
	for _, f := range s.Audit().Findings() {
		if f.Kind == audit.HashesLost {
			return false
		}
	}
	return true
}

// The hash of each row is in a file as soon as it is written, once, over restarts; and with it a journal whose end was cut off, or that was written
// anew as a whole, is found.
func TestHashesInAFile(t *testing.T) {
	state, file, ctx := t.TempDir(), filepath.Join(t.TempDir(), "hashes"), context.Background()
	for round := range 3 {
		s := hashed(t, state, file)
		require.True(t, vouched(s))
		for i := range 5 {
			_, err := s.CreateGroup(ctx, keeper, GroupInput{Name: fmt.Sprintf("g%d-%d", round, i)})
			require.NoError(t, err)
		}
		rows, err := s.Journal(ctx, store.Match{})
		require.NoError(t, err)
		require.NoError(t, s.Close())
		raw, err := os.ReadFile(file)
		require.NoError(t, err)
		lines := strings.Split(strings.TrimSpace(string(raw)), "\n")
		require.Len(t, lines, len(rows))
		for i, r := range rows {
			require.True(t, strings.HasPrefix(lines[i], fmt.Sprintf("%d %x ", r.Seq, r.Hash)), lines[i])
		}
	}
	s := hashed(t, state, "")
	_, err := s.store.DB().Exec(`DELETE FROM journal WHERE seq > 10`)
	require.NoError(t, err)
	_, err = s.VerifyJournal(ctx)
	require.NoError(t, err, "by itself it does not show")
	require.NoError(t, s.Close())
	s = hashed(t, state, file)
	require.False(t, vouched(s))
	require.Contains(t, s.HashesProblem(), "cut off")
	require.NoError(t, s.Close())

	require.NoError(t, os.WriteFile(file, []byte("this is no file of hashes\n"), 0o600))
	_, err = Open(ctx, state, WithHashes(file))
	require.ErrorContains(t, err, "does not begin with the number of a row", "and nothing is written to it")
	_, err = Open(ctx, state, WithHashes(t.TempDir()+"/none/hashes"))
	require.Error(t, err)
}

// They are sent as syslog messages, as often as it takes.
func TestHashesBySyslog(t *testing.T) {
	packets, err := net.ListenPacket("udp", "127.0.0.1:0")
	require.NoError(t, err)
	defer packets.Close()
	s := hashed(t, t.TempDir(), "syslog://"+packets.LocalAddr().String())
	defer s.Close()
	buf := make([]byte, 2048)
	require.NoError(t, packets.SetReadDeadline(time.Now().Add(20*time.Second)))
	n, _, err := packets.ReadFrom(buf)
	require.NoError(t, err)
	require.Regexp(t, `^<110>1 \d{4}-\d\d-\d\dT\d\d:\d\d:\d\d\.\d{6}Z \S+ amber-gatekeeper \d+ journal \[journal@32473 row="1" hash="[0-9a-f]{64}"\]$`, string(buf[:n]))

	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	address := l.Addr().String()
	require.NoError(t, l.Close()) // nobody is there yet
	other := hashed(t, t.TempDir(), "syslog+tcp://"+address)
	defer other.Close()
	require.Eventually(t, func() bool { return other.HashesProblem() != "" }, 20*time.Second, 10*time.Millisecond)
	l, err = net.Listen("tcp", address)
	require.NoError(t, err)
	defer l.Close()
	c, err := l.Accept()
	require.NoError(t, err)
	defer c.Close()
	in := bufio.NewReader(c)
	var length int
	_, err = fmt.Fscanf(in, "%d ", &length)
	require.NoError(t, err)
	message := make([]byte, length)
	_, err = io.ReadFull(in, message)
	require.NoError(t, err)
	require.Contains(t, string(message), `row="1"`)
	_, err = Open(context.Background(), t.TempDir(), WithHashes("syslog://127.0.0.1"))
	require.ErrorContains(t, err, "no port")
}
