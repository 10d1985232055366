package bench

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/cloudsoda/go-smb2"
	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/demo"
	"amber.example/gatekeeper/internal/meter"
	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/test/gateway"
	"amber.example/gatekeeper/test/nfsraw"
)

// A scrape with 1,000 folders that have all been asked for everything, beside a bare answer of the same bytes over the same way.
func BenchmarkScrape(b *testing.B) {
	g := gateway.Start(b)
	ctx := context.Background()
	for i := range 1000 {
		f, err := g.Service.CreateFolder(ctx, gateway.Keeper, service.FolderInput{Name: fmt.Sprintf("run%04d", i), Volume: "summit"})
		require.NoError(b, err)
		t := g.Service.Meter().Tally(meter.ByFolder, strconv.FormatInt(f.ID, 10))
		of := meter.Of{Folder: t}
		for k := range meter.Kinds {
			of.Count(meter.Did{Kind: k, Took: time.Millisecond, Began: time.Now()})
		}
	}
	token := g.Token(b, "keeper")
	bare := http.Server{}
	defer bare.Close()
	get := func(url string) []byte {
		req, err := http.NewRequest("GET", url, nil)
		require.NoError(b, err)
		req.Header.Set("Authorization", "Bearer "+token)
		resp, err := http.DefaultClient.Do(req)
		require.NoError(b, err)
		defer resp.Body.Close()
		raw, err := io.ReadAll(resp.Body)
		require.NoError(b, err)
		return raw
	}
	body := get(g.URL + "/metrics")
	require.Contains(b, string(body), `folder="run0999"`)
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(b, err)
	bare.Handler = http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) { _, _ = w.Write(body) })
	go func() { _ = bare.Serve(l) }()
	for b.Loop() {
		start := time.Now()
		get("http://" + l.Addr().String() + "/")
		least := time.Since(start)
		start = time.Now()
		get(g.URL + "/metrics")
		took := time.Since(start)
		b.ReportMetric(float64(took.Microseconds())/1000, "ms/scrape")
		b.ReportMetric(float64(least.Microseconds())/1000, "ms/bare")
		b.ReportMetric(float64(len(body))/1e6, "MB")
	}
}

// 1,000 clients of each protocol that are signed in and ask nothing: what each takes of the service's memory, in a process of its own.
func BenchmarkIdleSessions(b *testing.B) {
	const many, each = 1000, 100 // so many of one address
	bin := filepath.Join(b.TempDir(), "amber")
	cmd := exec.Command("go", "build", "-o", bin, "../../cmd/amber")
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	out, err := cmd.CombinedOutput()
	require.NoError(b, err, "%s", out)
	for b.Loop() {
		for _, kind := range []string{"SMB", "NFS3", "NFS4.1"} {
			p := begin(b, bin)
			p.allow(b, bin)
			before := p.memory(b)
			for i := range many {
				from := net.TCPAddr{IP: net.IPv4(127, 0, byte(1+i/each), 1)}
				at := p.nfs
				if kind == "SMB" {
					at = p.smb
				}
				c, err := (&net.Dialer{LocalAddr: &from}).Dial("tcp", at)
				require.NoError(b, err)
				defer c.Close()
				switch kind {
				case "SMB":
					d := smb2.Dialer{Initiator: &smb2.NTLMInitiator{User: "piran", Password: "piran" + demo.PasswordSuffix}}
					s, err := d.DialConn(context.Background(), c, "gateway")
					require.NoError(b, err)
					_, err = s.Mount("nightlog")
					require.NoError(b, err)
				case "NFS3":
					n := nfsraw.On(b, c, 2102, 3001)
					n.Mnt("/scratch")
				default:
					nfsraw.On(b, c, 2102, 3001).NewSession(fmt.Sprintf("reduce%d", i))
				}
			}
			after := p.memory(b)
			b.ReportMetric(float64(after-before)/many, "kB/"+kind)
			p.end(b)
		}
	}
}

// process is a service in a process of its own.
type process struct {
	cmd           *exec.Cmd
	url, smb, nfs string
}

func begin(b *testing.B, bin string) *process {
	b.Helper()
	p := &process{cmd: exec.Command(bin, "serve", "--demo", "--state", filepath.Join(b.TempDir(), "state"), "--console", "127.0.0.1:0", "--smb", "127.0.0.1:0", "--nfs", "127.0.0.1:0")}
	name := filepath.Join(b.TempDir(), "out")
	f, err := os.Create(name)
	require.NoError(b, err)
	defer f.Close()
	p.cmd.Stdout, p.cmd.Stderr = f, f
	// What is no longer needed is given back at once, so that what is resident is what is held.
	p.cmd.Env = append(os.Environ(), "GOGC=10", "GOMEMLIMIT=4MiB")
	require.NoError(b, p.cmd.Start())
	b.Cleanup(func() { _ = p.cmd.Process.Kill() })
	require.Eventually(b, func() bool {
		raw, _ := os.ReadFile(name)
		m := regexp.MustCompile(`API +(\S+)\n +SMB +(\S+)\n +NFS +(\S+)`).FindStringSubmatch(string(raw))
		if m == nil || !strings.Contains(string(raw), "demo-reset") {
			return false
		}
		p.url, p.smb, p.nfs = m[1], m[2], m[3]
		return true
	}, time.Minute, 10*time.Millisecond)
	return p
}

// allow lets all of loopback mount what is to be mounted.
func (p *process) allow(b *testing.B, bin string) {
	b.Helper()
	home := b.TempDir()
	for _, args := range [][]string{{"sign-in", "keeper"}, {"export", "rule", "add", "/scratch", "127.0.0.0/8", "--yes"}} {
		cmd := exec.Command(bin, args...)
		cmd.Env = []string{"HOME=" + home, "AMBER_URL=" + p.url, "AMBER_PASSWORD=keeper" + demo.PasswordSuffix}
		out, err := cmd.CombinedOutput()
		require.NoError(b, err, "%s", out)
	}
}

func (p *process) end(b *testing.B) {
	b.Helper()
	require.NoError(b, p.cmd.Process.Signal(syscall.SIGTERM))
	_ = p.cmd.Wait()
}

// memory is what the process has resident, in kB of 1024 bytes, once it has come to rest.
func (p *process) memory(b *testing.B) int {
	b.Helper()
	time.Sleep(3 * time.Second)
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/status", p.cmd.Process.Pid))
	require.NoError(b, err)
	m := regexp.MustCompile(`VmRSS:\s+(\d+) kB`).FindStringSubmatch(string(raw))
	require.NotNil(b, m)
	n, err := strconv.Atoi(m[1])
	require.NoError(b, err)
	return n
}
