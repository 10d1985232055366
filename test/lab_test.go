package test

import (
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"runtime"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/test/need"
)

// mounts are what the kernel mounts in the lab, in the order of docs/lab.md.
var mounts = []struct{ script, version, title string }{
	{"nfs", "3", "NFS 3"}, {"nfs", "4.0", "NFS 4.0"}, {"nfs", "4.1", "NFS 4.1"}, {"smb", "3.1.1", "SMB 3.1.1"},
}

// The stock Linux kernel's own clients do real work by every protocol: see test/lab. The service is killed
// and started again while they are at it.
func TestKernelClient(t *testing.T) {
	switch _, err := exec.LookPath("apt-get"); {
	case runtime.GOARCH != "amd64" || err != nil:
		need.Missing(t, "the lab's guest is built from Debian's amd64 packages")
	case os.Geteuid() != 0:
		need.Missing(t, "the lab installs qemu: it takes root")
	case os.Getenv("AMBER_LAB") == "off":
		t.Skip("AMBER_LAB=off")
	}
	if out, err := exec.Command("lab/build").CombinedOutput(); err != nil {
		need.Missing(t, "the lab cannot be built here: %s", out)
	}
	bin := binary(t)
	var mu sync.Mutex
	printed := make(map[string]string)
	guests := make(chan struct{}, 2) // side by side: each is emulated, and wants a core
	t.Run("mounts", func(t *testing.T) {
		for _, m := range mounts {
			t.Run(m.title, func(t *testing.T) {
				t.Parallel()
				guests <- struct{}{}
				defer func() { <-guests }()
				out, whole := runLab(t, bin, m.script, m.version)
				mu.Lock()
				defer mu.Unlock()
				if whole {
					printed[m.title] = out
				}
			})
		}
	})
	if t.Failed() || len(printed) < len(mounts) {
		return
	}
	// docs/lab.md holds what the guest said, but for the kernel's exact version.
	const doc = "../docs/lab.md"
	raw, err := os.ReadFile(doc)
	require.NoError(t, err)
	head, _, ok := strings.Cut(string(raw), "\n## ")
	require.True(t, ok)
	text := head + "\n"
	for _, m := range mounts {
		text += fmt.Sprintf("## %s\n\n```\n%s```\n\n", m.title, printed[m.title])
	}
	text = strings.TrimSuffix(text, "\n")
	if *update {
		require.NoError(t, os.WriteFile(doc, []byte(text), 0o644))
		return
	}
	release := regexp.MustCompile(`(?m)^== guest .*$`)
	require.Equal(t, release.ReplaceAllString(string(raw), "== guest"), release.ReplaceAllString(text, "== guest"), "go test ./test -run KernelClient -update writes it anew")
}

// runLab has a guest do a script over one mount of a service of its own, and gives what it said, and
// whether nothing had to be left out.
func runLab(t *testing.T, bin, script, version string) (said string, whole bool) {
	state := filepath.Join(t.TempDir(), "state")
	flags := []string{"--demo", "--nfs", "127.0.0.1:0", "--lease", "15s"}
	locks := "yes"
	if script == "nfs" && version == "3" {
		// Its locks are found by the port mapper, whose port is fixed.
		if l, err := net.Listen("tcp", "127.0.0.1:111"); err == nil {
			l.Close()
			flags = append(flags, "--portmap", "127.0.0.1:111")
		} else {
			t.Logf("without locks: %v", err)
			locks = "no"
		}
	}
	p := serve(t, bin, state, flags...)
	folder := filepath.Join(state, "volumes/summit", map[string]string{"nfs": "scratch", "smb": "nightlog"}[script])
	a := amber{t, bin, p.url, t.TempDir()}
	_, errOut, code := a.try("keeper-at-larkfell", "sign-in", "keeper")
	require.Zero(t, code, errOut)
	// The demo's own limits are for a few megabytes.
	a.run("limit", "remove", "user", "svc-reduce", "--folder", "scratch")
	a.run("limit", "remove", "user", "piran")
	a.run("limit", "remove", "user", "bettany")
	a.run("limit", "remove", "folder", "nightlog")
	a.run("share", "add", "nightlog", "--name", "nightlog-kept", "--persistent")
	who, in := map[string]string{"nfs": "svc-reduce", "smb": "piran"}[script], filepath.Base(folder)
	many := filepath.Join(folder, "many")
	require.NoError(t, os.Mkdir(many, 0o777))
	for i := range 100_000 {
		f, err := os.Create(filepath.Join(many, fmt.Sprintf("f%06d", i)))
		require.NoError(t, err)
		require.NoError(t, f.Close())
	}
	if script == "smb" {
		a.run("share", "add", "nightlog", "--name", "nightlog-links", "--show-links")
		a.run("user", "add", "passer-by", "--nfs", "off", "--console", "off", "--no-password", "--yes")
		a.run("entry", "add", "nightlog", "allow", "passer-by", "read", "--yes")
		a.run("share", "add", "nightlog", "--name", "nightlog-guests", "--guests")
		a.run("service", "set", "smb", "--guest", "passer-by", "--yes")
		a.run("server-name", "set", "barn", "--lead", "log=nightlog", "--lead", `march=\\10.0.2.2\nightlog\2026\03`)
		links := filepath.Join(folder, "2026/links")
		require.NoError(t, os.Mkdir(links, 0o777))
		for name, target := range map[string]string{"here": "../../README.txt", "out": "../../../elsewhere", "nights": "../03"} {
			require.NoError(t, os.Symlink(target, filepath.Join(links, name)))
		}
		// What no SMB client could have made.
		old := filepath.Join(folder, "old\xe4r")
		require.NoError(t, os.Mkdir(old, 0o777))
		for i, name := range everyByte() {
			require.NoError(t, os.WriteFile(filepath.Join(old, name), fmt.Appendln(nil, i), 0o666))
		}
	}
	port := func(address string) string { _, port, _ := strings.Cut(address, ":"); return port }
	text, err := os.ReadFile("lab/" + script + ".sh")
	require.NoError(t, err)
	address := p.smb
	if script == "nfs" {
		address = p.nfs
	}
	line := newLine(t, address)
	if script == "smb" {
		address = line.Addr().String()
	}
	job := filepath.Join(t.TempDir(), "job")
	require.NoError(t, os.WriteFile(job, fmt.Appendf(nil, "PORT=%s VERSION=%s LOCKS=%s\n%s", port(address), version, locks, text), 0o600))

	// The guest asks for a limit, and for the service to be killed, by making a file.
	done := make(chan struct{})
	limited := make(chan struct{})
	go func() {
		defer close(limited)
		for _, step := range []struct{ asked, said string }{{"limit-me", "limited"}, {"let-me", "let"}} {
			for {
				select {
				case <-done:
					return
				case <-time.After(100 * time.Millisecond):
				}
				if _, err := os.Stat(filepath.Join(folder, "work", step.asked)); err == nil {
					break
				}
			}
			most := ""
			if step.asked == "limit-me" {
				var uses api.Uses
				out, _, _ := a.try("", "use", "--by", "folder", "--json")
				_ = json.Unmarshal([]byte(out), &uses)
				for _, u := range uses.Uses {
					if u.Name == in {
						most = fmt.Sprint((u.UsedBytes>>20 + 4) << 20)
					}
				}
				a.try("", "limit", "set", "folder", in, "--hard", most, "--yes")
				a.try("", "limit", "set", "user", who, "--folder", in, "--hard", most, "--yes")
			} else {
				a.try("", "limit", "remove", "folder", in, "--yes")
				a.try("", "limit", "remove", "user", who, "--folder", in, "--yes")
			}
			_ = os.WriteFile(filepath.Join(folder, "work", step.said), []byte(most), 0o666)
		}
	}()
	cut := make(chan struct{})
	go func() { // and for the connections to be cut, again and again
		defer close(cut)
		for {
			select {
			case <-done:
				return
			case <-time.After(100 * time.Millisecond):
			}
			if _, err := os.Stat(filepath.Join(folder, "work", "cut-me")); err == nil {
				break
			}
		}
		for range 50 {
			time.Sleep(600 * time.Millisecond)
			line.cut()
		}
		_ = os.WriteFile(filepath.Join(folder, "work", "cut"), []byte("cut"), 0o666)
	}()
	killed := make(chan bool, 1)
	go func() { // and for the service to be killed and started anew: once, and over SMB five times more
		asks := func(file string) bool {
			for {
				select {
				case <-done:
					return false
				case <-time.After(100 * time.Millisecond):
				}
				if _, err := os.Stat(filepath.Join(folder, "work", file)); err == nil {
					return true
				}
			}
		}
		says := func(file string) error {
			return os.WriteFile(filepath.Join(folder, "work", file), []byte("started"), 0o666)
		}
		again := func() {
			p.kill()
			p = serve(t, bin, state, append([]string{"--smb", p.smb}, strings.Split(strings.ReplaceAll(strings.Join(flags, " "), "127.0.0.1:0", p.nfs), " ")...)...)
		}
		if !asks("kill-the-service") {
			killed <- false
			return
		}
		again()
		killed <- says("restarted") == nil
		if script != "smb" || !asks("restart-me") {
			return
		}
		for range 5 {
			again()
			time.Sleep(4 * time.Second)
		}
		_ = says("restarts")
	}()
	out, err := exec.Command("lab/run", job, "1200").CombinedOutput()
	close(done)
	<-limited
	<-cut
	require.NoError(t, err, "%s", out)
	require.True(t, <-killed, "the service was never killed: %s", out)
	_, said, ok := strings.Cut(string(out), "== guest")
	require.True(t, ok)
	return "== guest" + said, locks == "yes"
}

// line is a way to the service that can be cut.
type line struct {
	net.Listener
	mu    sync.Mutex
	conns []net.Conn
}

func newLine(t *testing.T, to string) *line {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	out := &line{Listener: l}
	t.Cleanup(func() {
		l.Close()
		out.cut()
	})
	go func() {
		for {
			in, err := l.Accept()
			if err != nil {
				return
			}
			there, err := net.Dial("tcp", to)
			if err != nil {
				in.Close()
				continue
			}
			out.mu.Lock()
			out.conns = append(out.conns, in, there)
			out.mu.Unlock()
			for _, way := range [][2]net.Conn{{in, there}, {there, in}} {
				go func() {
					_, _ = io.Copy(way[0], way[1])
					way[0].Close()
					way[1].Close()
				}()
			}
		}
	}()
	return out
}

// cut closes all connections there are.
func (l *line) cut() {
	l.mu.Lock()
	defer l.mu.Unlock()
	for _, c := range l.conns {
		c.Close()
	}
	l.conns = nil
}
