package test

import (
	"context"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/test/gateway"
)

// Over SMB a personal folder shows each only their own directory, which is there from their first use, and lets nobody into another's.
func TestAPersonalFolderOverSMB(t *testing.T) {
	g := gateway.Start(t)
	ctx := context.Background()
	_, err := g.Service.CreateFolder(ctx, gateway.Keeper, service.FolderInput{Name: "home", Volume: "summit"})
	require.NoError(t, err)
	_, err = g.Service.UpdateFolder(ctx, gateway.Keeper, "home", service.FolderChange{Personal: new("staff")})
	require.NoError(t, err)
	_, err = g.Service.CreateShare(ctx, gateway.Keeper, service.ShareInput{Folder: "home"})
	require.NoError(t, err)
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
	_, err = piran.ReadDir("wren")
	require.Error(t, err)
	require.Error(t, piran.WriteFile("wren/notes", nil, 0o644))
	require.Error(t, piran.Mkdir("another", 0o755))
	require.Error(t, piran.Rename("piran", "wren2"), "it is called as they are")
	_, err = g.Dial(t, "orla", 0).Mount("home")
	require.Error(t, err, "who is not in the group")
}
