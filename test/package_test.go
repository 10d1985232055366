package test

import (
	"bytes"
	"crypto/sha256"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// command runs one, and fails with what it printed.
func command(t *testing.T, dir string, env []string, name string, args ...string) string {
	t.Helper()
	cmd := exec.Command(name, args...)
	cmd.Dir, cmd.Env = dir, append(os.Environ(), env...)
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s %s: %s", name, strings.Join(args, " "), out)
	return string(out)
}

// packaged builds the program in a directory and makes the packages of it.
func packaged(t *testing.T, root, out string) map[string][sha256.Size]byte {
	t.Helper()
	programs := t.TempDir()
	env := []string{"CGO_ENABLED=0", "GOFLAGS=-buildvcs=false"}
	command(t, root, env, "go", "build", "-trimpath", "-ldflags", "-s -w -X main.version=0.1.0+test", "-o", filepath.Join(programs, "amber-amd64"), "./cmd/amber")
	command(t, filepath.Join(root, "packaging"), env, "go", "run", ".", "-root", root, "-bin", programs, "-out", out, "-version", "0.1.0+test", "-made", "2026-03-20T12:00:00Z", "-arch", "amd64")
	sums := make(map[string][sha256.Size]byte)
	names, err := os.ReadDir(out)
	require.NoError(t, err)
	for _, n := range names {
		raw, err := os.ReadFile(filepath.Join(out, n.Name()))
		require.NoError(t, err)
		sums[n.Name()] = sha256.Sum256(raw)
	}
	return sums
}

// sources are the files of the repository: as git knows them, or where there is no checkout all but what is made from them.
func sources(t *testing.T, root string) (files []string) {
	t.Helper()
	list := exec.Command("git", "ls-files", "--cached", "--others", "--exclude-standard")
	list.Dir = root
	if out, err := list.Output(); err == nil {
		return strings.Fields(string(out))
	}
	err := filepath.WalkDir(root, func(path string, d fs.DirEntry, err error) error {
		rel, relErr := filepath.Rel(root, path)
		switch {
		case err != nil || relErr != nil:
			return errors.Join(err, relErr)
		case d.IsDir() && (slices.Contains([]string{".git", "bin", "dist", "state"}, rel) || d.Name() == "node_modules"):
			return filepath.SkipDir
		case d.Type().IsRegular():
			files = append(files, rel)
		}
		return nil
	})
	require.NoError(t, err)
	return files
}

// Two builds in two places give the same bytes; the deb goes into an empty root and what is there starts; the unit is sound; the list of parts and the image
// are what their standards have.
func TestPackages(t *testing.T) {
	root, err := filepath.Abs("..")
	require.NoError(t, err)
	first, out := t.TempDir(), t.TempDir()
	elsewhere := filepath.Join(t.TempDir(), "deep", "checkout")
	files := sources(t, root)
	for _, f := range append(files, "web/dist") {
		to := filepath.Join(elsewhere, f)
		require.NoError(t, os.MkdirAll(filepath.Dir(to), 0o755))
		if _, err := os.Stat(filepath.Join(root, f)); err == nil { // one that is deleted and not committed is no part
			command(t, root, nil, "cp", "-rT", f, to)
		}
	}
	sums := packaged(t, root, first)
	require.Len(t, sums, 5)
	require.Equal(t, sums, packaged(t, elsewhere, out), "the same bytes")

	t.Run("deb", func(t *testing.T) { installs(t, filepath.Join(first, "amber-gatekeeper_0.1.0+test_amd64.deb")) })
	t.Run("parts", func(t *testing.T) {
		raw, err := os.ReadFile(filepath.Join(first, "amber-gatekeeper-0.1.0+test.cdx.json"))
		require.NoError(t, err)
		var bom struct {
			BomFormat, SpecVersion string
			Components             []struct{ PURL string }
		}
		require.NoError(t, json.Unmarshal(raw, &bom))
		require.Equal(t, "CycloneDX", bom.BomFormat)
		all := make(map[string]bool)
		for _, c := range bom.Components {
			name, _, _ := strings.Cut(strings.TrimPrefix(c.PURL, "pkg:"), "@")
			all[name] = true
		}
		for _, part := range []string{"golang/std", "golang/modernc.org/sqlite", "golang/filippo.io/age", "golang/github.com/go-chi/chi/v5", "npm/react", "npm/%40chakra-ui/react"} {
			require.True(t, all[part], part)
		}
		require.False(t, all["npm/vitest"], "what only tests is no part")
	})
	t.Run("image", func(t *testing.T) {
		dir := t.TempDir()
		command(t, dir, nil, "tar", "xf", filepath.Join(first, "amber-gatekeeper-0.1.0+test-oci.tar"))
		var index struct {
			Manifests []struct {
				Digest   string
				Platform struct{ OS, Architecture string }
			}
		}
		raw, err := os.ReadFile(filepath.Join(dir, "index.json"))
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(raw, &index))
		require.Len(t, index.Manifests, 1)
		require.Equal(t, "linux/amd64", index.Manifests[0].Platform.OS+"/"+index.Manifests[0].Platform.Architecture)
		var manifest struct {
			Layers []struct{ Digest, MediaType string }
			Config struct{ Digest string }
		}
		blob := func(digest string) []byte {
			raw, err := os.ReadFile(filepath.Join(dir, "blobs", strings.Replace(digest, ":", "/", 1)))
			require.NoError(t, err)
			require.Equal(t, strings.TrimPrefix(digest, "sha256:"), fmt.Sprintf("%x", sha256.Sum256(raw)))
			return raw
		}
		require.NoError(t, json.Unmarshal(blob(index.Manifests[0].Digest), &manifest))
		require.Len(t, manifest.Layers, 1)
		require.Equal(t, "application/vnd.oci.image.layer.v1.tar+gzip", manifest.Layers[0].MediaType)
		require.Contains(t, string(blob(manifest.Config.Digest)), "65532")
		layer := filepath.Join(dir, "layer.tgz")
		require.NoError(t, os.WriteFile(layer, blob(manifest.Layers[0].Digest), 0o600))
		require.Contains(t, command(t, dir, nil, "tar", "tzf", layer), "usr/bin/amber")
	})
}

// installs puts the package into a root where nothing is, looks the units over there, and starts what is there.
func installs(t *testing.T, deb string) {
	root := t.TempDir()
	for _, dir := range []string{"var/lib/dpkg/info", "var/lib/dpkg/updates", "etc", "usr/bin", "bin"} {
		require.NoError(t, os.MkdirAll(filepath.Join(root, dir), 0o755))
	}
	for name, text := range map[string]string{"var/lib/dpkg/status": "", "etc/passwd": "root:x:0:0:root:/root:/bin/sh\n", "etc/group": "root:x:0:\n", "bin/kill": "#!/bin/sh\n"} {
		require.NoError(t, os.WriteFile(filepath.Join(root, name), []byte(text), 0o755))
	}
	said := command(t, root, nil, "dpkg", "--root="+root, "--log=/dev/null", "--force-not-root", "--force-script-chrootless", "--force-depends", "-i", deb)
	require.Contains(t, said, "systemctl enable --now amber-gatekeeper")
	passwd, err := os.ReadFile(filepath.Join(root, "etc/passwd"))
	require.NoError(t, err)
	require.Contains(t, string(passwd), "amber-gatekeeper:", "its user is in that root")
	host, err := os.ReadFile("/etc/passwd")
	require.NoError(t, err)
	require.NotContains(t, string(host), "amber-gatekeeper:", "and not in this")

	units, err := filepath.Glob(filepath.Join(root, "lib/systemd/system/amber-gatekeeper*"))
	require.NoError(t, err)
	require.Len(t, units, 4)
	for _, u := range units {
		said := command(t, root, nil, "systemd-analyze", "verify", "--root="+root, "--man=no", "--recursive-errors=no", u)
		require.Empty(t, strings.TrimSpace(said), u)
	}
	score := command(t, root, nil, "systemd-analyze", "security", "--no-pager", "--offline=true", "--threshold=30", filepath.Join(root, "lib/systemd/system/amber-gatekeeper.service"))
	t.Log(regexp.MustCompile(`Overall exposure level.*`).FindString(score))

	amber := filepath.Join(root, "usr/bin/amber")
	require.Contains(t, command(t, root, nil, amber, "version"), "0.1.0+test")
	check := command(t, root, []string{"AMBER_LOG_TO=stderr"}, amber, "serve", "--check", "--config", filepath.Join(root, "etc/amber-gatekeeper/amber.yaml"))
	require.Regexp(t, `state +/var/lib/amber-gatekeeper +amber.yaml line`, check)
	p := serve(t, amber, filepath.Join(root, "var/lib/amber-gatekeeper"), "--demo", "--config", filepath.Join(root, "etc/amber-gatekeeper/amber.yaml"), "--log-to", "stderr")
	require.Less(t, p.stop(t), 2*time.Second)
	require.Contains(t, command(t, root, nil, "dpkg", "--root="+root, "--log=/dev/null", "--force-not-root", "--force-script-chrootless", "-r", "amber-gatekeeper"), "Removing amber-gatekeeper")
	_, err = os.Stat(filepath.Join(root, "etc/amber-gatekeeper/amber.yaml"))
	require.NoError(t, err, "settings stay")
	_, err = os.Stat(amber)
	require.ErrorIs(t, err, os.ErrNotExist)
}

// The service manager hands sockets over and is told when the service is ready, that it lives, and when it ends; systemd-socket-activate does as it does.
func TestTheServiceManager(t *testing.T) {
	bin, state := binary(t), filepath.Join(t.TempDir(), "state")
	notify := filepath.Join(t.TempDir(), "notify")
	told, err := net.ListenUnixgram("unixgram", &net.UnixAddr{Name: notify, Net: "unixgram"})
	require.NoError(t, err)
	defer told.Close()
	next := func(want string) string {
		t.Helper()
		require.NoError(t, told.SetReadDeadline(time.Now().Add(time.Minute)))
		buf := make([]byte, 4096)
		for {
			n, err := told.Read(buf)
			require.NoError(t, err, "waiting for %s", want)
			if text := string(buf[:n]); strings.Contains(text, want) {
				return text
			}
		}
	}
	at := make([]string, 3)
	for i := range at {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		at[i] = l.Addr().String()
		l.Close()
	}
	cmd := exec.Command("systemd-socket-activate", "-E", "NOTIFY_SOCKET="+notify, "-E", "WATCHDOG_USEC=900000", "-l", at[0], "-l", at[1], "-l", at[2], "--fdname=console:smb:nfs",
		bin, "serve", "--state", state, "--demo", "--console", "192.0.2.1:1", "--smb", "192.0.2.1:1", "--nfs", "192.0.2.1:1")
	var out bytes.Buffer
	cmd.Stdout, cmd.Stderr = &out, &out
	require.NoError(t, cmd.Start())
	defer func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }()
	require.Eventually(t, func() bool { // the first that connects has it started, and waits
		c, err := net.Dial("tcp", at[0])
		if err == nil {
			c.Close()
		}
		return err == nil
	}, 10*time.Second, 10*time.Millisecond)
	require.Contains(t, next("READY=1"), "STATUS=console "+at[0])
	next("WATCHDOG=1")
	a := amber{t, bin, "http://" + at[0], t.TempDir()}
	_, errOut, code := a.try("keeper-at-larkfell", "sign-in", "keeper")
	require.Zero(t, code, errOut)
	require.Contains(t, a.run("service", "list"), at[1])
	next("WATCHDOG=1")
	a.run("config", "reread")
	require.NoError(t, cmd.Process.Signal(os.Interrupt))
	next("STOPPING=1")
	require.NoError(t, cmd.Wait(), out.String())
}
