package test

import (
	"crypto/sha256"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/test/need"
)

// detour is one address that leads to wherever the service is now, as a name of a machine does.
type detour struct {
	l  net.Listener
	to atomic.Pointer[string]

	mu    sync.Mutex
	conns map[net.Conn]bool
}

func newDetour(t *testing.T, to string) *detour {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	r := &detour{l: l, conns: make(map[net.Conn]bool)}
	r.to.Store(&to)
	t.Cleanup(func() { l.Close() })
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go r.pass(c)
		}
	}()
	return r
}

func (r *detour) pass(c net.Conn) {
	defer c.Close()
	s, err := net.Dial("tcp", *r.to.Load())
	if err != nil {
		return
	}
	defer s.Close()
	r.mu.Lock()
	r.conns[c] = true
	r.mu.Unlock()
	ended := make(chan struct{}, 2)
	go func() { _, _ = io.Copy(s, c); ended <- struct{}{} }()
	go func() { _, _ = io.Copy(c, s); ended <- struct{}{} }()
	<-ended
	r.mu.Lock()
	delete(r.conns, c)
	r.mu.Unlock()
}

// lead has who comes from now on be led elsewhere, and who is there come again.
func (r *detour) lead(to string) {
	r.to.Store(&to)
	r.mu.Lock()
	defer r.mu.Unlock()
	for c := range r.conns {
		c.Close()
	}
}

// The kernel's client of NFS 4.1 writes, with a file held open and locked, while the service is killed, is stopped and started anew as by an upgrade, and is
// brought back from a backup with another state directory, another directory of its volume, and other ports. It notices a pause, and nothing else.
func TestFaultDrill(t *testing.T) {
	switch {
	case os.Geteuid() != 0:
		need.Missing(t, "the lab installs qemu: it takes root")
	case os.Getenv("AMBER_LAB") == "off":
		t.Skip("AMBER_LAB=off")
	}
	if out, err := exec.Command("lab/build").CombinedOutput(); err != nil {
		need.Missing(t, "the lab cannot be built here: %s", out)
	}
	bin, dir := binary(t), t.TempDir()
	first := filepath.Join(dir, "first")
	p := serve(t, bin, first, "--demo", "--lease", "15s")
	a := amber{t, bin, p.url, t.TempDir()}
	_, errOut, code := a.try("keeper-at-larkfell", "sign-in", "keeper")
	require.Zero(t, code, errOut)
	a.run("limit", "remove", "user", "svc-reduce", "--folder", "scratch")
	r := newDetour(t, p.nfs)
	_, port, err := net.SplitHostPort(r.l.Addr().String())
	require.NoError(t, err)
	script, err := os.ReadFile("lab/drill.sh")
	require.NoError(t, err)
	job := filepath.Join(dir, "job")
	require.NoError(t, os.WriteFile(job, fmt.Appendf(nil, "PORT=%s\n%s", port, script), 0o600))
	type result struct {
		out []byte
		err error
	}
	guest := make(chan result, 1)
	go func() {
		out, err := exec.Command("lab/run", job, "600").CombinedOutput()
		guest <- result{out, err}
	}()

	volume := filepath.Join(first, "volumes/summit")
	at := func() int {
		raw, _ := os.ReadFile(filepath.Join(volume, "scratch/drill/at"))
		n, _ := strconv.Atoi(strings.TrimSpace(string(raw)))
		return n
	}
	// goesOn waits until some more has been written, and says how long nothing was.
	goesOn := func(what string) {
		t.Helper()
		begun, from := time.Now(), at()
		for at() < from+3 {
			select {
			case is := <-guest:
				t.Fatalf("%s: the guest ended: %v %s", what, is.err, is.out)
			case <-time.After(50 * time.Millisecond):
			}
			require.Less(t, time.Since(begun), 5*time.Minute, "%s: nothing is written", what)
		}
		t.Logf("%s: after %s it writes on", what, time.Since(begun).Round(100*time.Millisecond))
	}
	goesOn("at first")

	p.kill()
	p = serve(t, bin, first, "--demo", "--lease", "15s")
	r.lead(p.nfs)
	goesOn("killed")

	took := p.stop(t)
	require.Less(t, took, 5*time.Second)
	t.Logf("a stop takes %s", took.Round(10*time.Millisecond))
	p = serve(t, bin, first, "--demo", "--lease", "15s")
	r.lead(p.nfs)
	goesOn("upgraded")

	a = amber{t, bin, p.url, a.home}
	_, errOut, code = a.try("keeper-at-larkfell", "sign-in", "keeper")
	require.Zero(t, code, errOut)
	copied := filepath.Join(dir, "larkfell.tar.gz")
	a.run("backup", copied)
	goesOn("backed up")
	p.stop(t)
	disk, second := filepath.Join(dir, "another", "disk"), filepath.Join(dir, "another", "state")
	require.NoError(t, os.MkdirAll(filepath.Dir(disk), 0o755))
	require.NoError(t, os.Rename(volume, disk)) // the disk goes along
	volume = disk
	require.NoError(t, os.RemoveAll(first))
	out, err := exec.Command(bin, "restore", copied, "--state", second, "--volume", "summit="+disk).CombinedOutput()
	require.NoError(t, err, "%s", out)
	p = serve(t, bin, second, "--lease", "15s")
	r.lead(p.nfs)
	goesOn("restored elsewhere")

	require.NoError(t, os.WriteFile(filepath.Join(volume, "scratch/drill/enough"), nil, 0o666))
	is := <-guest
	require.NoError(t, is.err, "%s", is.out)
	for _, said := range []string{"every part is what was written", "the file that was held open has every line", "the lock is held"} {
		require.Contains(t, string(is.out), "ok  "+said)
	}
	// On the disk it is what the guest says.
	sums, err := os.ReadFile(filepath.Join(volume, "scratch/drill/sums"))
	require.NoError(t, err)
	for i, sum := range strings.Split(strings.TrimSpace(string(sums)), "\n") {
		raw, err := os.ReadFile(filepath.Join(volume, fmt.Sprintf("scratch/drill/part%d", i+1)))
		require.NoError(t, err)
		require.Equal(t, strings.Fields(sum)[0], fmt.Sprintf("%x", sha256.Sum256(raw)))
	}
}
