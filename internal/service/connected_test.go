package service

import (
	"context"
	"fmt"
	"net/netip"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/hostnames"
	"amber.example/gatekeeper/internal/live"
	"amber.example/gatekeeper/internal/store"
)

// crowd is a way in by which very many have come.
type crowd struct {
	many  int
	ended atomic.Int64
}

func (c *crowd) Sessions() (out []live.Session) {
	for i := range c.many {
		out = append(out, live.Session{ID: fmt.Sprintf("smb-%d", i), Via: site.SMB, Version: "3.1.1", Who: []live.Person{{UID: new(uint32(i))}},
			Address: netip.AddrFrom4([4]byte{10, 0, byte(i >> 8), byte(i)}).String(), Since: time.Now()})
	}
	return out
}
func (c *crowd) Opens() []live.Open        { return nil }
func (c *crowd) EndSession(id string) bool { return c.ended.Add(1) == 1 }
func (c *crowd) CloseOpen(string) bool     { return false }
func (c *crowd) Stirs() uint64             { return 0 }
func (c *crowd) Via() string               { return "SMB" }
func (c *crowd) Load() live.Load           { return live.Load{Connections: c.many} }

// sleeping answers for no name before ten seconds have passed.
type sleeping struct{}

func (sleeping) LookupAddr(ctx context.Context, _ string) ([]string, error) {
	select {
	case <-ctx.Done():
		return nil, ctx.Err()
	case <-time.After(10 * time.Second):
		return []string{"late.larkfell.example."}, nil
	}
}
func (s sleeping) LookupNetIP(ctx context.Context, _, _ string) ([]netip.Addr, error) {
	_, err := s.LookupAddr(ctx, "")
	return nil, err
}

// Ten thousand sessions from as many hosts, whose names take ten seconds each to be found, are listed at once; one of them is ended without asking for any name; and
// ending one that is ending already is no error.
func TestACrowdIsListed(t *testing.T) {
	ctx := context.Background()
	s := open(t)
	s.hosts = hostnames.New(sleeping{})
	door := &crowd{many: 10_000}
	begun := time.Now()
	all := s.Connected(live.Doors{door}, LiveQuery{})
	require.Len(t, all, door.many)
	require.Less(t, time.Since(begun), 5*time.Second)
	require.Len(t, s.Connected(live.Doors{door}, LiveQuery{From: "10.0.7.0/24"}), 256)
	require.Len(t, s.Connected(live.Doors{door}, LiveQuery{Who: "4711"}), 1)

	begun = time.Now()
	for range 2 {
		require.NoError(t, s.EndConnected(ctx, keeper, live.Doors{door}, "smb-9999"))
	}
	require.Less(t, time.Since(begun), 5*time.Second)
	require.EqualValues(t, 2, door.ended.Load())
	require.Error(t, s.EndConnected(ctx, keeper, live.Doors{door}, "smb-10000"))
	rows, err := s.Journal(ctx, store.Match{})
	require.NoError(t, err)
	require.Equal(t, "end session", rows[len(rows)-1].Action)
	require.Equal(t, map[string]live.Load{"SMB": {Connections: 10_000}}, live.Doors{door}.Loads())
}
