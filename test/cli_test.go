package test

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/internal/store"
)

// built is the program, built once for all tests.
var built = sync.OnceValues(func() (string, error) {
	dir, err := os.MkdirTemp("", "amber-test-*")
	if err != nil {
		return "", err
	}
	path := filepath.Join(dir, "amber")
	cmd := exec.Command("go", "build", "-o", path, "../cmd/amber")
	cmd.Env = append(os.Environ(), "CGO_ENABLED=0")
	if out, err := cmd.CombinedOutput(); err != nil {
		return dir, fmt.Errorf("%w: %s", err, out)
	}
	return path, nil
})

func binary(t testing.TB) string {
	t.Helper()
	path, err := built()
	require.NoError(t, err)
	return path
}

func TestMain(m *testing.M) {
	code := m.Run()
	if path, err := built(); err == nil {
		os.RemoveAll(filepath.Dir(path))
	}
	os.Exit(code)
}

// process is a running `amber serve`.
type process struct {
	bin, state, url, smb, nfs, code string
	out                             string // the file that it prints to
	cmd                             *exec.Cmd
}

var printed = regexp.MustCompile(`console and API  (http://\S+)\n\s+SMB\s+(\S+)\n\s+NFS\s+(\S+)`)

func serve(t testing.TB, bin, state string, flags ...string) *process {
	t.Helper()
	p := &process{bin: bin, state: state}
	p.cmd = exec.Command(bin, append([]string{"serve", "--state", state, "--console", "127.0.0.1:0", "--smb", "127.0.0.1:0", "--nfs", "127.0.0.1:0"}, flags...)...)
	out, err := os.CreateTemp(t.TempDir(), "stdout")
	require.NoError(t, err)
	defer out.Close()
	p.cmd.Stdout, p.cmd.Stderr, p.out = out, out, out.Name()
	require.NoError(t, p.cmd.Start())
	t.Cleanup(p.kill)
	last := "make demo-reset"
	if !slices.Contains(flags, "--demo") {
		last = "\n  NFS  "
		if _, err := os.Stat(filepath.Join(state, store.FileName)); err != nil {
			last = "--code "
		}
	}
	var text string
	require.Eventually(t, func() bool {
		raw, err := os.ReadFile(out.Name())
		text = string(raw)
		_, after, ok := strings.Cut(text, last)
		return err == nil && ok && strings.Contains(after, "\n")
	}, 2*time.Minute, 10*time.Millisecond)
	m := printed.FindStringSubmatch(text)
	require.NotNil(t, m, text)
	p.url, p.smb, p.nfs = m[1], m[2], m[3]
	if _, after, ok := strings.Cut(text, "--code "); ok {
		p.code, _, _ = strings.Cut(after, "\n")
	}
	return p
}

// said is all that it has printed.
func (p *process) said() string {
	raw, _ := os.ReadFile(p.out)
	return string(raw)
}

func (p *process) kill() {
	_ = p.cmd.Process.Kill()
	_ = p.cmd.Wait()
}

// amber runs a client command as somebody with a home of their own.
type amber struct {
	t    testing.TB
	bin  string
	url  string
	home string
}

func (a amber) try(password string, args ...string) (out, errOut string, code int) {
	a.t.Helper()
	cmd := exec.Command(a.bin, args...)
	cmd.Env = []string{"HOME=" + a.home, "PATH=" + os.Getenv("PATH"), "AMBER_URL=" + a.url, "AMBER_PASSWORD=" + password}
	var o, e bytes.Buffer
	cmd.Stdout, cmd.Stderr = &o, &e
	_ = cmd.Run()
	for _, line := range strings.Split(o.String(), "\n") {
		if !strings.HasPrefix(line, " ") && !strings.Contains(line, "/") { // paths and commands may be longer
			require.LessOrEqual(a.t, utf8.RuneCountInString(line), 100, line)
		}
	}
	return o.String(), e.String(), cmd.ProcessState.ExitCode()
}

func (a amber) run(args ...string) string {
	a.t.Helper()
	out, errOut, code := a.try("", append(args, "--yes")...)
	require.Zero(a.t, code, "amber %s: %s", strings.Join(args, " "), errOut)
	return out
}

// A site made from nothing, by its first administrator, with the command line alone.
func TestCommandLineFromNothing(t *testing.T) {
	bin := binary(t)
	p := serve(t, bin, filepath.Join(t.TempDir(), "state"))
	require.NotEmpty(t, p.code)
	a := amber{t, bin, p.url, t.TempDir()}
	_, errOut, code := a.try("", "folder", "list")
	require.Equal(t, 1, code)
	require.Contains(t, errOut, "there is no administrator yet")
	_, errOut, code = a.try("keeper-at-larkfell", "first-administrator", "keeper", "--code", "wrong")
	require.Equal(t, 1, code)
	require.Contains(t, errOut, "the code is wrong")
	_, errOut, code = a.try("keeper-at-larkfell", "first-administrator", "keeper", "--code", p.code)
	require.Zero(t, code, errOut)
	info, err := os.Stat(filepath.Join(a.home, ".config", "amber-gatekeeper", "tokens.json"))
	require.NoError(t, err)
	require.EqualValues(t, 0o600, info.Mode().Perm())

	require.Contains(t, a.run("folder", "list"), "no folders yet: amber folder add")
	a.run("volume", "add", "summit", t.TempDir())
	a.run("group", "add", "observers", "--gid", "3001", "--description", "Night observers")
	_, errOut, code = a.try("piran-at-larkfell", "user", "add", "piran", "--uid", "2003", "--group", "observers", "--ends", "2030-12-31")
	require.Zero(t, code, errOut)
	a.run("folder", "add", "nightlog", "--volume", "summit", "--description", "The observers' log")
	a.run("share", "add", "nightlog")
	require.Contains(t, a.run("entry", "add", "nightlog", "allow", "observers", "change", "--note", "their log"), "allow observers change")
	require.Contains(t, a.run("why", "piran", "nightlog", "--want", "change"), "ALLOWED")
	require.Contains(t, a.run("entry", "list", "nightlog"), "their log")
	require.Contains(t, a.run("share", "list"), "nightlog")
	require.Contains(t, a.run("journal", "list"), "add entry")
	require.Contains(t, a.run("journal", "verify"), "each follows from the one before")
	a.run("share", "entry", "add", "nightlog", "allow", "observers", "read")
	require.Contains(t, a.run("share", "show", "nightlog"), "observers")
	out := a.run("why", "piran", "nightlog", "--want", "change")
	require.Contains(t, out, "REFUSED at the share gate")
	require.Contains(t, out, "amber share entry add nightlog allow piran change")
	a.run("group", "join", "piran", "observers")
	a.run("service", "off", "smb")
	require.Contains(t, a.run("why", "piran", "nightlog"), "amber service on smb")
	a.run("service", "on", "smb")

	// What removes asks first, and does nothing where nobody can be asked.
	_, errOut, code = a.try("", "share", "remove", "nightlog")
	require.Equal(t, 2, code)
	require.Contains(t, errOut, "This ends the publication nightlog.")
	require.Contains(t, a.run("share", "list"), "nightlog")
	_, errOut, code = a.try("", "volume", "remove", "summit")
	require.Equal(t, 1, code)
	require.Contains(t, errOut, "is on volume", "what would be turned down is not asked about")
	a.run("share", "remove", "nightlog", "--yes")
	a.run("folder", "remove", "nightlog", "--yes")
	a.run("user", "remove", "piran", "--yes")
	a.run("group", "remove", "observers", "-y")
	a.run("volume", "remove", "summit", "--yes")

	// Exit codes: refused, wrong usage, nothing there.
	for _, c := range []struct {
		code int
		says string
		args []string
	}{
		{1, "there is no user", []string{"user", "show", "nobody"}}, {2, "usage: amber why USER PATH", []string{"why", "piran"}},
		{1, "there is no volume", []string{"volume", "remove", "nowhere"}},
		{2, "there is no option --sideways", []string{"folder", "list", "--sideways"}}, {2, "there is no command", []string{"folder", "paint"}}, {2, "there is no command", []string{"fodler"}},
		{2, "allow or deny", []string{"entry", "add", "nightlog", "permit", "piran", "read"}},
		{3, "no service answers", []string{"--url", "http://127.0.0.1:1", "folder", "list"}},
		{2, "no address", []string{"--url", "ftp://x", "folder", "list"}},
	} {
		_, errOut, code := a.try("", c.args...)
		require.Equal(t, c.code, code, "%v: %s", c.args, errOut)
		require.Contains(t, strings.ToLower(errOut), strings.ToLower(c.says), c.args)
	}
	// Somebody with access to the disk alters what was done: it shows.
	db, err := sql.Open("sqlite", filepath.Join(p.state, store.FileName))
	require.NoError(t, err)
	_, err = db.Exec(`UPDATE journal SET actor = 'wren' WHERE seq = 4`)
	require.NoError(t, err)
	require.NoError(t, db.Close())
	_, errOut, code = a.try("", "journal", "verify")
	require.Equal(t, 1, code)
	require.Contains(t, errOut, "row 4: something has been altered, or taken out")

	a.run("sign-out")
	_, errOut, code = a.try("", "folder", "list")
	require.Equal(t, 1, code)
	require.Contains(t, errOut, "next: amber sign-in USER")

	// A second service keeps off the same state.
	second := exec.Command(bin, "serve", "--state", p.state, "--console", "127.0.0.1:0", "--smb", "127.0.0.1:0")
	said, err := second.CombinedOutput()
	require.Error(t, err)
	require.Contains(t, string(said), "another service is running")
}

// The demo's story by the commands that it prints, ending with the fixes that `why` prints.
func TestDemoByCommandLine(t *testing.T) {
	bin := binary(t)
	start := time.Now()
	p := serve(t, bin, filepath.Join(t.TempDir(), "state"), "--demo")
	t.Logf("the demo was up after %v", time.Since(start).Round(time.Millisecond))
	a := amber{t, bin, p.url, t.TempDir()}
	_, errOut, code := a.try("keeper-at-larkfell", "sign-in", "keeper")
	require.Zero(t, code, errOut)
	for _, args := range [][]string{{"volume", "list"}, {"folder", "list"}, {"folder", "show", "instruments"}, {"user", "list"}, {"user", "show", "orla"}, {"group", "list"},
		{"group", "show", "staff"}, {"share", "list"}, {"share", "show", "personal"}, {"service", "list"}, {"entry", "list", "instruments/firmware/bench"},
		{"why", "orla", "nightlog"}, {"connect", "nightlog", "--user", "piran"}, {"journal", "list"}} {
		require.NotEmpty(t, a.run(args...))
		var v any
		require.NoError(t, json.Unmarshal([]byte(a.run(append(args, "--json")...)), &v), args)
	}
	// A telescope host whose numbers are not ours: each mismatch is fixed by what is printed.
	passwd, group := filepath.Join(a.home, "passwd"), filepath.Join(a.home, "group")
	require.NoError(t, os.WriteFile(passwd, []byte("root:x:0:0::/:/bin/sh\npiran:x:1000:1000::/:/bin/sh\ndome:x:2101:2101::/:/bin/sh\nisolde:x:2002:1::/:/bin/sh\n"), 0o600))
	require.NoError(t, os.WriteFile(group, []byte("root:x:0:\nobservers:x:3002:piran\nengineers:x:3001:\n"), 0o600))
	var checked api.NumbersChecked
	require.NoError(t, json.Unmarshal([]byte(a.run("ids", "check", passwd, group, "--json")), &checked))
	require.Equal(t, 7, checked.Compared)
	require.Len(t, checked.Mismatches, 4)
	for range checked.Mismatches { // one may clear another: the two groups have each other's number
		require.NoError(t, json.Unmarshal([]byte(a.run("ids", "check", group, passwd, "--json")), &checked))
		if len(checked.Mismatches) > 0 {
			for _, m := range checked.Mismatches[0].FixHere {
				a.run(strings.Fields(m)[1:]...)
			}
		}
	}
	require.Contains(t, a.run("ids", "check", passwd, group), "0 mismatches")

	_, port, _ := strings.Cut(p.smb, ":")
	require.Contains(t, a.run("connect", "nightlog", "--user", "piran"),
		"mount -t cifs //127.0.0.1/nightlog /mnt/nightlog -o port="+port+",vers=3.1.1,username=piran\n")
	for _, q := range [][]string{
		{"orla", "nightlog", "read"}, {"isolde", "instruments/firmware/bench", "read"}, {"corin", "plates", "add"}, {"svc-dome", "plates", "add"},
		{"bettany", "plates/index.csv", "change"}, {"piran", "personal/wren/notes.txt", "change"}, {"piran", "instruments/Firmware/CAMERA-3.2.hex", "read"},
	} {
		args := []string{"why", q[0], q[1], "--want", q[2], "--json"}
		var y api.Why
		require.NoError(t, json.Unmarshal([]byte(a.run(args...)), &y))
		require.False(t, y.Allowed, q)
		require.True(t, y.Exists)
		var fixes []string
		for _, g := range y.Gates {
			fixes = append(fixes, g.Fix...)
		}
		require.NotEmpty(t, fixes)
		for _, m := range fixes {
			cmd := exec.Command("/bin/sh", "-c", m+" --yes") // as a person pastes it
			cmd.Env = []string{"HOME=" + a.home, "PATH=" + filepath.Dir(bin) + ":/usr/bin:/bin", "AMBER_URL=" + a.url}
			said, err := cmd.CombinedOutput()
			require.NoError(t, err, "%s: %s", m, said)
		}
		require.NoError(t, json.Unmarshal([]byte(a.run(args...)), &y))
		require.True(t, y.Allowed, "%v after %v", q, fixes)
	}
}

// Killed at any moment, the service has each change whole or not at all: what the
// journal says is what the records are.
func TestKilledAtAnyMoment(t *testing.T) {
	bin := binary(t)
	state := filepath.Join(t.TempDir(), "state")
	seen := int64(0)
	for round := range 5 {
		p := serve(t, bin, state, "--demo")
		a := amber{t, bin, p.url, t.TempDir()}
		_, errOut, code := a.try("keeper-at-larkfell", "sign-in", "keeper")
		require.Zero(t, code, errOut)
		stop := make(chan struct{})
		for i := range 3 {
			go func() {
				for n := 0; ; n++ {
					select {
					case <-stop:
						return
					default:
						cmd := exec.Command(bin, "entry", "add", "nightlog", "allow", "orla", "read", "--yes", "--note", fmt.Sprint(round, i, n))
						cmd.Env = []string{"HOME=" + a.home, "AMBER_URL=" + a.url}
						_ = cmd.Run()
					}
				}
			}()
		}
		time.Sleep(time.Duration(200+70*round) * time.Millisecond) // how far they get does not matter
		require.NoError(t, p.cmd.Process.Signal(syscall.SIGKILL))
		_ = p.cmd.Wait()
		close(stop)

		ctx := context.Background()
		svc, err := service.Open(ctx, state)
		require.NoError(t, err)
		n, err := svc.VerifyJournal(ctx)
		require.NoError(t, err)
		require.Greater(t, n, seen)
		seen = n
		rows, err := svc.Journal(ctx, store.Match{})
		require.NoError(t, err)
		records, err := store.Rebuild(rows)
		require.NoError(t, err)
		entries := 0
		for _, f := range records.Folders {
			for _, r := range f.Rules {
				entries += len(r.Entries)
			}
		}
		have := 0
		for _, f := range svc.Policy().Folders {
			for _, r := range f.Rules {
				have += len(r.Entries)
			}
		}
		require.Equal(t, entries, have)
		require.NoError(t, svc.Close())
	}
}
