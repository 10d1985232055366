package test

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/asking"
	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/internal/smb"
	"amber.example/gatekeeper/internal/store"
	"amber.example/gatekeeper/internal/trying"
	"amber.example/gatekeeper/test/gateway"
)

func triedFiles(t *testing.T, root string) (out []string) {
	for _, p := range keptPaths(t, root) {
		if strings.Contains(p, "amber-try-") {
			out = append(out, p)
		}
	}
	return out
}

// What the wire does for everybody, at the root of each folder and in every path on which something is written, is what the audit says; and nothing of it
// stays, neither on disk, nor in what is counted, nor in what was done at the wire.
func TestTheWireAndTheAuditAgreeForEverybody(t *testing.T) {
	g := gateway.Start(t)
	ctx := context.Background()
	events, err := g.Service.Events(ctx, store.Match{Most: 10000})
	require.NoError(t, err)
	var paths []string
	p := g.Service.Policy()
	for _, f := range p.Folders {
		paths = append(paths, f.Name)
		for _, r := range f.Rules {
			if path := f.Display(r.Path); r.Path != "" {
				if _, at, err := g.Service.Locate(path); err == nil && at.Exists {
					paths = append(paths, path)
				}
			}
		}
	}
	counted := func() (out []string) {
		for _, by := range []service.Subject{service.ByFolder, service.ByUser, service.ByGroup} {
			uses, err := g.Service.Uses(ctx, by)
			require.NoError(t, err)
			for _, u := range uses {
				out = append(out, fmt.Sprintf("%s %v", u.Name, u.Amount))
			}
		}
		return out
	}
	was := counted()
	refused, ways := 0, 0
	for _, u := range p.Directory.Users() {
		for _, path := range paths {
			got, err := g.Doors.Try(ctx, g.Service, trying.Question{User: u.Name, Path: path})
			if err != nil {
				require.ErrorContains(t, err, "not published", "%s on %s", u.Name, path)
				continue
			}
			for i := range got {
				ways++
				require.Truef(t, got[i].Agrees(), "%s on %s: %+v", u.Name, path, got[i])
				for _, s := range got[i].Steps {
					if !s.Done {
						refused++
						require.NotEmptyf(t, s.Gate, "%s on %s: %+v", u.Name, path, s)
					}
				}
			}
		}
	}
	require.Greater(t, ways, 100)
	require.Greater(t, refused, 50)
	require.Empty(t, triedFiles(t, filepath.Join(g.State, "volumes/summit")))
	require.Equal(t, was, counted())
	time.Sleep(100 * time.Millisecond) // events are written down in the background
	after, err := g.Service.Events(ctx, store.Match{Most: 10000})
	require.NoError(t, err)
	require.Equal(t, len(events), len(after))
}

// A secret that was made for one connection opens no other, and no other secret opens that one.
func TestOnlyTheServiceGoesInAsSomebody(t *testing.T) {
	g := gateway.Start(t)
	ctx := context.Background()
	for _, by := range []service.Actor{{Name: "rota", ID: 1, Role: "operator"}, {Name: "auditor", ID: 1, Role: "auditor"}, {Name: "orla", ID: 1}} {
		require.ErrorContains(t, g.Service.MayTry(ctx, by, "wren", "plates"), "administrator")
	}
	// the wrong secret, on a connection that is a trial
	doors := g.Doors
	asked := doors.SMB
	doors.SMB = func(trial smb.Trial) net.Conn {
		trial.NTHash = make([]byte, 16)
		return asked(trial)
	}
	ways, err := doors.Try(ctx, g.Service, trying.Question{User: "wren", Path: "plates", Via: "smb"})
	require.NoError(t, err)
	require.False(t, ways[0].Agrees())
	require.Equal(t, "the sign-in fails", ways[0].Steps[0].Says)
}

// The wrong things are refused in words before anybody goes anywhere, and a wire that does what it should not is told of.
func TestATryThatCannotBe(t *testing.T) {
	g := gateway.Start(t)
	ctx := context.Background()
	for q, says := range map[trying.Question]string{
		{User: "nobody", Path: "plates"}:                                   "no user",
		{User: "wren", Path: "nowhere"}:                                    "nowhere",
		{User: "wren", Path: "plates/never"}:                               "not on disk",
		{User: "wren", Path: "plates", Via: "nfs", From: "no such host"}:   "not an address",
		{User: "wren", Path: "plates", Via: "nfs", From: "203.0.113.4444"}: "not an address",
	} {
		_, err := g.Doors.Try(ctx, g.Service, q)
		require.ErrorContains(t, err, says, "%+v", q)
	}
	ways, err := g.Doors.Try(ctx, g.Service, trying.Question{User: "wren", Path: "plates", Via: "nfs", From: "203.0.113.9"})
	require.NoError(t, err)
	require.Equal(t, "origin", ways[0].Steps[0].Gate)
	require.True(t, ways[0].Agrees())
	require.NoError(t, g.Service.SetService(ctx, gateway.Keeper, "smb", service.ServiceChange{On: new(false)}))
	ways, err = g.Doors.Try(ctx, g.Service, trying.Question{User: "wren", Path: "plates", Via: "smb"})
	require.NoError(t, err)
	require.Equal(t, "service", ways[0].Steps[0].Gate)
	require.Equal(t, "the connection is closed", ways[0].Steps[0].Says)
	require.True(t, ways[0].Agrees())
	require.NoError(t, g.Service.SetService(ctx, gateway.Keeper, "smb", service.ServiceChange{On: new(true)}))

	ways, err = g.Doors.Try(ctx, g.Service, trying.Question{User: "piran", Path: "nightlog", Via: "smb", From: "198.51.100.7"})
	require.NoError(t, err)
	require.Equal(t, netip.MustParseAddr("198.51.100.7"), ways[0].From)
	ways, err = g.Doors.Try(ctx, otherwise{g.Service}, trying.Question{User: "piran", Path: "nightlog"})
	require.NoError(t, err)
	for i := range ways {
		require.False(t, ways[i].Agrees(), "an audit that says otherwise is told of")
	}
}

// otherwise is a gateway whose audit refuses everything.
type otherwise struct{ *service.Service }

func (o otherwise) Why(ctx context.Context, q asking.Question) (asking.Answer, error) {
	a, err := o.Service.Why(ctx, q)
	if q.Mask&acl.ListDirectory != 0 {
		a.Verdict.Gate = access.Entry
	}
	return a, err
}
