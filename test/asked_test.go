package test

import (
	"bufio"
	"encoding/csv"
	"encoding/json"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/onc"
	"amber.example/gatekeeper/internal/store"
	"amber.example/gatekeeper/test/gateway"
	"amber.example/gatekeeper/test/nfsraw"
)

// Who took what away, and who renamed it, is told over both protocols, though nobody asked for it; what was neither is not.
func TestWhoDeletedIt(t *testing.T) {
	g := gateway.Start(t)
	nightlogOverNFS(t, g)
	share := g.Mount(t, g.Dial(t, "piran", 0), "nightlog")
	require.NoError(t, share.WriteFile("2026/mine", []byte("x"), 0o644))
	require.NoError(t, share.WriteFile("2026/other", []byte("x"), 0o644))
	require.NoError(t, share.WriteFile("2026/third", []byte("x"), 0o644))
	require.NoError(t, share.Rename("2026/mine", "2026/ours"))
	require.NoError(t, share.Remove("2026/ours"))
	require.Error(t, share.Remove("2026/nothing"))
	c := nfsraw.Dial(t, g.NFS, 2002, 3001) // isolde
	_, dir := c.Lookup3(c.Mnt("/nightlog"), "2026")
	status, _ := c.Do(nfsraw.NFS, 3, 14, func(w *onc.Writer) { w.Opaque(dir); w.String("other"); w.Opaque(dir); w.String("third") })
	require.Zero(t, status, "what was there makes way")
	status, _ = c.Do(nfsraw.NFS, 3, 12, func(w *onc.Writer) { w.Opaque(dir); w.String("third") })
	require.Zero(t, status)
	want := []string{
		"piran renamed nightlog/2026/mine to nightlog/2026/ours over SMB", "piran removed nightlog/2026/ours over SMB",
		"isolde removed nightlog/2026/third over NFS", "isolde renamed nightlog/2026/other to nightlog/2026/third over NFS",
	}
	var got []string
	require.Eventually(t, func() bool {
		list, err := g.Service.Events(t.Context(), store.Match{On: "nightlog/2026"})
		require.NoError(t, err)
		got = nil
		for _, e := range list {
			text := e.Who + " " + e.Kind + " " + e.Path
			if e.Target != "" {
				text += " to " + e.Target
			}
			got = append(got, text+" over "+e.Via)
		}
		return len(got) >= len(want)
	}, 2*time.Minute, 50*time.Millisecond)
	require.ElementsMatch(t, want, got)
	list, err := g.Service.Events(t.Context(), store.Match{By: "isolde", Only: "removed"})
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.LessOrEqual(t, list[0].Count, int64(2), "the second time is counted with the first, or when it is due")
	n, err := g.Service.VerifyEvents(t.Context())
	require.NoError(t, err)
	require.GreaterOrEqual(t, n, int64(len(want)))
}

// The journal is asked by who, what, when and where, by pages; followed; written out whole as CSV and JSON Lines; and compared with hashes that were
// kept elsewhere.
func TestTheJournalIsAsked(t *testing.T) {
	bin := binary(t)
	state, hashes := filepath.Join(t.TempDir(), "state"), filepath.Join(t.TempDir(), "hashes")
	p := serve(t, bin, state, "--demo", "--journal-hashes", hashes)
	a := amber{t, bin, p.url, t.TempDir()}
	_, errOut, code := a.try("keeper-at-larkfell", "sign-in", "keeper")
	require.Zero(t, code, errOut)
	for _, team := range []string{"one", "two", "three"} {
		a.run("group", "add", team)
	}
	a.run("entry", "add", "nightlog/2026", "allow", "one", "read")
	rows := func(args ...string) (out []api.JournalRow) {
		t.Helper()
		require.NoError(t, json.Unmarshal([]byte(a.run(append([]string{"journal", "list", "--json"}, args...)...)), &out))
		return out
	}
	all := rows("--last", "2000")
	require.Equal(t, "add entry", all[len(all)-1].Action, "the latest last")
	require.EqualValues(t, 1, all[0].Seq)
	last := rows("--last", "2")
	require.Equal(t, all[len(all)-2:], last)
	require.Equal(t, last, rows("--after", "0", "--last", "2000")[len(all)-2:])
	for _, r := range rows("--on", "nightlog", "--by", "keeper", "--since", "10m") {
		require.True(t, r.Subject == "nightlog" || strings.HasPrefix(r.Subject, "nightlog/"), r.Subject)
		require.Equal(t, "keeper", r.Actor)
	}
	require.Len(t, rows("--on", "nightlog/2026", "--only", "changes", "--last", "1"), 1)
	require.Empty(t, rows("--until", "2026-01-01"))
	out, errOut, code := a.try("", "journal", "list", "--since", "soon")
	require.Equal(t, 2, code, out)
	require.Contains(t, errOut, "no moment")

	file := filepath.Join(t.TempDir(), "out")
	a.run("journal", "export", "--format", "csv", "--out", file)
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	table, err := csv.NewReader(strings.NewReader(string(raw))).ReadAll()
	require.NoError(t, err)
	require.Len(t, table, len(all)+1)
	a.run("journal", "export", "--out", file)
	raw, err = os.ReadFile(file)
	require.NoError(t, err)
	n := 0
	for line := range strings.Lines(string(raw)) {
		var row api.JournalRow
		require.NoError(t, json.Unmarshal([]byte(line), &row))
		require.Equal(t, all[n].Seq, row.Seq)
		n++
	}
	require.Equal(t, len(all), n)
	_, _, code = a.try("", "events", "export", "--format", "csv")
	require.Zero(t, code)

	follow := exec.Command(bin, "journal", "list", "--follow", "--last", "1")
	follow.Env = []string{"HOME=" + a.home, "AMBER_URL=" + a.url}
	pipe, err := follow.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, follow.Start())
	defer func() { _ = follow.Process.Kill(); _ = follow.Wait() }()
	lines := make(chan string, 100)
	go func() {
		for in := bufio.NewScanner(pipe); in.Scan(); {
			lines <- in.Text()
		}
		close(lines)
	}()
	await := func(what string) {
		t.Helper()
		for timeout := time.After(time.Minute); ; {
			select {
			case line, ok := <-lines:
				require.True(t, ok, "it goes on")
				if strings.Contains(line, what) {
					return
				}
			case <-timeout:
				t.Fatalf("it does not tell of %q", what)
			}
		}
	}
	await("nightlog/2026")
	a.run("group", "add", "four")
	await("four")

	require.Eventually(t, func() bool {
		out, _, code := a.try("", "journal", "verify", "--against", hashes)
		return code == 0 && strings.Contains(out, "is what")
	}, 30*time.Second, 100*time.Millisecond)
	raw, err = os.ReadFile(hashes)
	require.NoError(t, err)
	kept := strings.Split(strings.TrimSpace(string(raw)), "\n")
	wrong := filepath.Join(t.TempDir(), "wrong")
	require.NoError(t, os.WriteFile(wrong, []byte(strings.Replace(kept[len(kept)-1], " ", " 00", 1)[:60]+"\n"), 0o600))
	_, _, code = a.try("", "journal", "verify", "--against", wrong)
	require.NotZero(t, code)
	require.NoError(t, os.WriteFile(wrong, []byte("999999 "+strings.Repeat("ab", 32)+" now\n"), 0o600))
	_, errOut, code = a.try("", "journal", "verify", "--against", wrong)
	require.Equal(t, 1, code)
	require.Contains(t, errOut, "cut off")
}

// What the journal says of a change, pasted into a shell, is the change once more.
func TestTheJournalInWords(t *testing.T) {
	bin := binary(t)
	p := serve(t, bin, filepath.Join(t.TempDir(), "state"), "--demo")
	a := amber{t, bin, p.url, t.TempDir()}
	_, errOut, code := a.try("keeper-at-larkfell", "sign-in", "keeper")
	require.Zero(t, code, errOut)
	last := func() (row api.JournalAct) {
		t.Helper()
		var rows []api.JournalRow
		require.NoError(t, json.Unmarshal([]byte(a.run("journal", "list", "--json", "--only", "changes", "--last", "1")), &rows))
		require.NoError(t, json.Unmarshal([]byte(a.run("journal", "show", strconv.FormatInt(rows[0].Seq, 10), "--json")), &row))
		return row
	}
	after := func(name string) string {
		t.Helper()
		for _, c := range last().Told[0].Changed {
			if strings.HasPrefix(c.Name, name) {
				return c.After
			}
		}
		require.Fail(t, "nothing is said of "+name)
		return ""
	}
	pasted := func(command string) {
		t.Helper()
		cmd := exec.Command("sh", "-c", "set -f; "+bin+" "+command+" --yes")
		cmd.Env = []string{"HOME=" + a.home, "PATH=" + os.Getenv("PATH"), "AMBER_URL=" + a.url}
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s: %s", command, out)
	}
	for _, c := range []struct {
		args       []string
		said, like string
	}{
		{[]string{"entry", "add", "plates", "deny", "staff", "read_acl,write_acl", "--applies", "files,direct", "--ends", "2031-12-31", "--note", "it's \"over\" $HOME `id` \\"}, "entry ", "entry add instruments "},
		{[]string{"entry", "add", "plates", "allow", "everyone@", "pass"}, "entry ", "entry add instruments "},
		{[]string{"share", "entry", "add", "plates", "allow", "svc-reduce", "add"}, "entry ", "share entry add visitors "},
		{[]string{"export", "rule", "add", "/instruments", "*.larkfell.example", "--rw", "--squash", "all", "--anon-uid", "7", "--privileged-port", "--unknown", "anonymous"}, "rule ", "hosts rule add dome-hosts "},
		{[]string{"limit", "set", "user", "tomasz", "--soft", "1234567", "--hard", "1.5GiB", "--hard-files", "20k", "--grace", "90m"}, "hard", "limit set user isolde --hard "},
		{[]string{"limit", "set", "user", "tomasz", "--grace", "25h"}, "grace", "limit set user isolde --grace "},
		{[]string{"user", "set", "tomasz", "--full-name", "Tomasz O'Wilk", "--ends", "2032-01-05"}, "ends", "user set isolde --ends "},
	} {
		a.run(c.args...)
		said := after(c.said)
		pasted(c.like + said)
		require.Equal(t, said, after(c.said))
	}
	text := a.run("journal", "show", strconv.FormatInt(last().Seq, 10))
	require.Contains(t, text, "user isolde, changed")
	require.Regexp(t, `ends +was +never\n +is +2032-01-0`, text)

	a.run("user", "add", "short-stay", "--no-password", "--uid", "2999")
	a.run("user", "remove", "short-stay")
	gone := last()
	require.Equal(t, "retired number", gone.Told[0].Kind, "it rests for a year")
	require.Equal(t, "removed", gone.Told[1].Act)
	require.Equal(t, "short-stay", gone.Told[1].Name)
	require.Contains(t, gone.Told[1].Changed, api.Changed{Name: "uid", Before: "2999"})
	require.Contains(t, a.run("journal", "show", strconv.FormatInt(gone.Seq, 10)), "uid       2999\n")

	_, errOut, code = a.try("", "journal", "show", "99999999")
	require.Equal(t, 1, code)
	require.Contains(t, errOut, "the journal has no row 99999999")
	for _, bad := range []string{"0", "-1", "one", "9223372036854775808"} {
		_, errOut, code = a.try("", "journal", "show", "--", bad)
		require.Equal(t, 2, code, bad)
		require.Contains(t, errOut, "is no number of a row")
	}
	for row := int64(1); row <= gone.Seq; row++ { // there is none that cannot be told
		a.run("journal", "show", strconv.FormatInt(row, 10))
	}
}
