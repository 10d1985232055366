package test

import (
	"bufio"
	"context"
	"io"
	"os"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/test/gateway"
)

// guests has those who have no account come in as a user, on one share of nightlog.
func guests(t *testing.T, g *gateway.Gateway) {
	t.Helper()
	ctx := context.Background()
	_, err := g.Service.CreateUser(ctx, gateway.Keeper, service.UserInput{Name: "visitor"})
	require.NoError(t, err)
	_, err = g.Service.AddEntry(ctx, gateway.Keeper, "nightlog", service.EntryInput{Who: "visitor", Level: "read"})
	require.NoError(t, err)
	_, err = g.Service.CreateShare(ctx, gateway.Keeper, service.ShareInput{Folder: "nightlog", Name: "window", Guests: true})
	require.NoError(t, err)
	require.NoError(t, g.Service.SetService(ctx, gateway.Keeper, "smb", service.ServiceChange{Guest: new("visitor")}))
}

// Those who have no account come in as the one user, by the shares that take guests, and see no more than that; by a client from other hands.
func TestGuests(t *testing.T) {
	g := gateway.Start(t)
	guests(t, g)
	lines := [][2]string{
		{"get window/README.txt", "Larkfell night log."},
		{"put window/README.txt x", "ACCESS_DENIED"},
		{"put window/README.txt:stream x", "ACCESS_DENIED"},
		{"put window/mine.txt x", "ACCESS_DENIED"},
		{"get nightlog/README.txt", "ACCESS_DENIED"},
		{"get plates/README.txt", "ACCESS_DENIED"},
		{"users", "OBJECT_NAME_NOT_FOUND"},
		{"sids keeper", "OBJECT_NAME_NOT_FOUND"},
		{"sessions", "refused"},
		{"files", "refused"},
	}
	asked := make([]string, len(lines))
	for i, l := range lines {
		asked[i] = l[0]
	}
	for _, who := range []string{"", "guest", "visitor"} {
		if who == "visitor" {
			t.Setenv("SMB_PASSWORD", "")
		}
		for i, got := range desktop(t, g, who, asked...) {
			require.Contains(t, got, lines[i][1], "%q: %s", who, lines[i][0])
		}
	}
}

// What lets guests in is one switch of the service and one of the share; and who came in by it has nothing left when either is off, nor when the user is
// another.
func TestGuestsAreLetInNoLonger(t *testing.T) {
	g := gateway.Start(t)
	ctx := context.Background()
	refused := func() {
		t.Helper()
		require.Contains(t, guestSays(t, g, ""), "STATUS_LOGON_FAILURE")
		require.Contains(t, guestSays(t, g, "guest"), "STATUS_LOGON_FAILURE")
	}
	refused()
	guests(t, g)
	open := guestHolds(t, g)
	require.Contains(t, open.ask("get window/README.txt"), "Larkfell")
	share := func(on bool) {
		_, err := g.Service.UpdateShare(ctx, gateway.Keeper, "window", service.ShareChange{Guests: &on})
		require.NoError(t, err)
	}
	share(false)
	require.Contains(t, open.ask("get window/README.txt"), "ACCESS_DENIED")
	share(true)
	require.Contains(t, open.ask("get window/README.txt"), "Larkfell")
	// Another user is the guest: who came in as the first is nobody, and not what that user may be otherwise.
	require.NoError(t, g.Service.SetService(ctx, gateway.Keeper, "smb", service.ServiceChange{Guest: new("wren")}))
	for _, path := range []string{"window", "nightlog", "plates"} {
		require.Contains(t, open.ask("get "+path+"/README.txt"), "ACCESS_DENIED", path)
	}
	require.NoError(t, g.Service.SetService(ctx, gateway.Keeper, "smb", service.ServiceChange{Guest: new("")}))
	for _, path := range []string{"window", "nightlog", "plates"} {
		require.Contains(t, open.ask("get "+path+"/README.txt"), "ACCESS_DENIED", path)
	}
	refused()

	// Nobody who looks after the service is a guest, and no guest is given that.
	var refusal *service.Error
	require.ErrorAs(t, g.Service.SetService(ctx, gateway.Keeper, "smb", service.ServiceChange{Guest: new("keeper")}), &refusal)
	require.NoError(t, g.Service.SetService(ctx, gateway.Keeper, "smb", service.ServiceChange{Guest: new("visitor")}))
	_, err := g.Service.UpdateUser(ctx, gateway.Keeper, "visitor", service.UserChange{Role: new(identity.Auditor)})
	require.ErrorAs(t, err, &refusal)
	require.Contains(t, err.Error(), "visitor")
	require.ErrorAs(t, g.Service.RemoveUser(ctx, gateway.Keeper, "visitor"), &refusal)
}

// staying is a client that stays signed in.
type staying struct {
	t   *testing.T
	in  io.Writer
	out *bufio.Scanner
}

// asGuest runs the client as somebody without a password.
func asGuest(t *testing.T, g *gateway.Gateway, user string) *exec.Cmd {
	_, port, _ := strings.Cut(g.SMB, ":")
	cmd := exec.CommandContext(t.Context(), "/usr/bin/python3", "-W", "ignore", "clients/desktop.py", port, user)
	cmd.Env = append(os.Environ(), "SMB_PASSWORD=")
	return cmd
}

// guestSays gives what comes of signing in.
func guestSays(t *testing.T, g *gateway.Gateway, user string) string {
	out, _ := asGuest(t, g, user).CombinedOutput()
	return string(out)
}

// guestHolds signs nobody in, and stays.
func guestHolds(t *testing.T, g *gateway.Gateway) *staying {
	cmd := asGuest(t, g, "")
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	t.Cleanup(func() { in.Close(); _ = cmd.Wait() })
	a := &staying{t, in, bufio.NewScanner(out)}
	require.True(t, a.out.Scan())
	require.Equal(t, "signed in", a.out.Text())
	return a
}

// ask gives what comes back for a line.
func (a *staying) ask(line string) string {
	a.t.Helper()
	_, err := io.WriteString(a.in, line+"\nmark\n")
	require.NoError(a.t, err)
	var b strings.Builder
	for a.out.Scan() {
		if a.out.Text() == "there is no mark" {
			return b.String()
		}
		b.WriteString(a.out.Text() + "\n")
	}
	a.t.Fatal("the client has ended")
	return ""
}
