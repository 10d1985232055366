package test

import (
	"context"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/asking"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/test/gateway"
)

// personalHome makes the folder home, which is personal for staff and published over SMB.
func personalHome(t *testing.T, g *gateway.Gateway) {
	t.Helper()
	ctx := context.Background()
	_, err := g.Service.CreateFolder(ctx, gateway.Keeper, service.FolderInput{Name: "home", Volume: "summit"})
	require.NoError(t, err)
	_, err = g.Service.UpdateFolder(ctx, gateway.Keeper, "home", service.FolderChange{Personal: new("staff")})
	require.NoError(t, err)
	_, err = g.Service.CreateShare(ctx, gateway.Keeper, service.ShareInput{Folder: "home"})
	require.NoError(t, err)
}

// Over SMB a personal folder shows each only their own directory, which is there from their first use, and lets nobody into another's.
func TestAPersonalFolderOverSMB(t *testing.T) {
	g := gateway.Start(t)
	personalHome(t, g)
	names := func(user string) (out []string) {
		share := g.Mount(t, g.Dial(t, user, 0), "home")
		list, err := share.ReadDir(".")
		require.NoError(t, err)
		for _, is := range list {
			out = append(out, is.Name())
		}
		return out
	}
	require.Equal(t, []string{"piran"}, names("piran"))
	require.Equal(t, []string{"wren"}, names("wren"))
	piran := g.Mount(t, g.Dial(t, "piran", 0), "home")
	require.NoError(t, piran.WriteFile("piran/notes", []byte("clear night"), 0o644))
	_, err := piran.ReadDir("wren")
	require.Error(t, err)
	require.Error(t, piran.WriteFile("wren/notes", nil, 0o644))
	require.Error(t, piran.Mkdir("another", 0o755))
	require.Error(t, piran.Rename("piran", "wren2"), "it is called as they are")
	_, err = g.Dial(t, "orla", 0).Mount("home")
	require.Error(t, err, "who is not in the group")
}

// Who is called otherwise finds their own directory under that name, with what is written in it, and so does who has it open; undo has it all back. Where the new name is
// taken, nothing changes.
func TestAPersonIsCalledOtherwise(t *testing.T) {
	g := gateway.Start(t)
	ctx := context.Background()
	personalHome(t, g)
	share := g.Mount(t, g.Dial(t, "piran", 0), "home")
	require.NoError(t, share.Mkdir("piran/drafts", 0o755))
	_, err := g.Service.AddEntry(ctx, gateway.Keeper, "home/piran/drafts", service.EntryInput{Who: "isolde", Level: "read"})
	require.NoError(t, err)
	open, err := share.Create("piran/drafts/notes")
	require.NoError(t, err)
	home := filepath.Join(g.State, "volumes/summit/home")

	require.NoError(t, os.Mkdir(filepath.Join(home, "keast"), 0o755))
	_, err = g.Service.UpdateUser(ctx, gateway.Keeper, "piran", service.UserChange{Name: new("keast")})
	require.ErrorContains(t, err, "home/keast")
	require.NotNil(t, g.Service.Policy().Directory.UserNamed("piran"), "it was taken back")
	require.DirExists(t, filepath.Join(home, "piran/drafts"))
	require.NoError(t, os.Remove(filepath.Join(home, "keast")))

	_, err = g.Service.UpdateUser(ctx, gateway.Keeper, "piran", service.UserChange{Name: new("keast")})
	require.NoError(t, err)
	require.NoDirExists(t, filepath.Join(home, "piran"))
	_, err = open.Write([]byte("it goes on"))
	require.NoError(t, err)
	require.NoError(t, open.Close())
	text, err := os.ReadFile(filepath.Join(home, "keast/drafts/notes"))
	require.NoError(t, err)
	require.Equal(t, "it goes on", string(text))
	renamed := g.Mount(t, g.DialAs(t, "keast", "piran-at-larkfell"), "home")
	list, err := renamed.ReadDir("keast/drafts")
	require.NoError(t, err)
	require.Len(t, list, 1)
	why := func(user, path string) string {
		a, err := g.Service.Why(ctx, asking.Question{User: user, Path: path, Want: "read"})
		require.NoError(t, err)
		return a.Gates[len(a.Gates)-2].Reason
	}
	require.Contains(t, why("isolde", "home/keast/drafts"), "allows isolde read")

	_, err = g.Service.Undo(ctx, gateway.Keeper, nil)
	require.NoError(t, err)
	require.NoDirExists(t, filepath.Join(home, "keast"))
	require.FileExists(t, filepath.Join(home, "piran/drafts/notes"))
	require.Contains(t, why("isolde", "home/piran/drafts"), "allows isolde read")
	require.Contains(t, why("piran", "home/piran/drafts"), "piran")

	// Who looks after people calls them otherwise, and their directory with it; where something was written in it that is for those who decide there.
	vale := service.Actor{Name: "vale", Role: identity.Operator}
	_, err = g.Service.UpdateUser(ctx, vale, "piran", service.UserChange{Name: new("keast")})
	require.ErrorContains(t, err, "may not")
	require.NoError(t, g.Service.ClearRules(ctx, gateway.Keeper, "home/piran/drafts", true))
	_, err = g.Service.UpdateUser(ctx, vale, "piran", service.UserChange{Name: new("keast")})
	require.NoError(t, err)
	require.FileExists(t, filepath.Join(home, "keast/drafts/notes"))
}
