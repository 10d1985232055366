package test

import (
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/test/gateway"
	"amber.example/gatekeeper/test/nfsraw"
)

// What clients of both protocols are told while a disk is missing is that it does not work, and never that nothing is there, by
// which some would take away what they keep; and they go on when it is back.
func TestClientsOfAMissingDisk(t *testing.T) {
	const ioDeviceError, nfsIO = 0xc0000185, 5
	g := gateway.Start(t)
	nightlogOverNFS(t, g)
	share := g.Mount(t, g.Dial(t, "piran", 0), "nightlog")
	c := nfsraw.Dial(t, g.NFS, 2003, 3001)
	root := c.Mnt("/nightlog")
	status, dir := c.Lookup3(root, "2026")
	require.Zero(t, status)
	volume := g.Service.Policy().Volumes[0]
	require.NoError(t, os.Rename(volume.Path, volume.Path+".elsewhere"))
	require.NoError(t, os.MkdirAll(filepath.Join(volume.Path, "nightlog/2026"), 0o755))

	_, err := share.ReadFile("2026/03/2026-03-01.txt")
	requireStatus(t, err, ioDeviceError)
	_, err = share.Create("2026/new.txt")
	requireStatus(t, err, ioDeviceError)
	_, err = share.ReadDir("2026")
	requireStatus(t, err, ioDeviceError)
	status, _ = c.Lookup3(root, "2026")
	require.EqualValues(t, nfsIO, status)
	status, _ = c.Lookup3(dir, "03")
	require.EqualValues(t, nfsIO, status)
	require.EqualValues(t, nfsIO, write3(c, dir, 0, 10))
	status, _ = c.Do(nfsraw.NFS, 4, 1, nfsraw.Compound(0, nfsraw.Op(22, dir), nfsraw.Op(15, "03")))
	require.EqualValues(t, nfsIO, status)
	require.ErrorIs(t, files.IsThere(volume.Location()), files.ErrIO)
	left, err := os.ReadDir(filepath.Join(volume.Path, "nightlog/2026"))
	require.NoError(t, err)
	require.Empty(t, left)

	require.NoError(t, os.RemoveAll(volume.Path))
	require.NoError(t, os.Rename(volume.Path+".elsewhere", volume.Path))
	_, err = share.ReadFile("2026/03/2026-03-01.txt")
	require.NoError(t, err)
	status, _ = c.Lookup3(dir, "03")
	require.Zero(t, status, "the handle that it had")
}

// A copy of a state directory, tried beside the one that serves, gets nothing of what that has; and takes it up when that has ended.
func TestACopyOfAServiceIsKeptOff(t *testing.T) {
	bin := binary(t)
	state := filepath.Join(t.TempDir(), "state")
	first := serve(t, bin, state, "--demo")
	copied := filepath.Join(t.TempDir(), "copy")
	out, err := exec.Command("cp", "-a", state, copied).CombinedOutput()
	require.NoError(t, err, string(out))
	second := serve(t, bin, copied, "--demo")
	a := amber{t, bin, second.url, t.TempDir()}
	_, errOut, code := a.try("keeper-at-larkfell", "sign-in", "keeper")
	require.Zero(t, code, errOut)
	require.Contains(t, a.run("volume", "list"), "another service that runs on this host")
	require.Contains(t, a.run("finding", "list"), "volume away")
	first.kill()
	require.Eventually(t, func() bool {
		out, _, _ := a.try("", "volume", "list")
		return strings.Contains(out, "there") && !strings.Contains(out, "away")
	}, 20*time.Second, 100*time.Millisecond)
}
