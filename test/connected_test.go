package test

import (
	"fmt"
	"io"
	"net/http"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/test/gateway"
	"amber.example/gatekeeper/test/nfsraw"
)

// Who is connected and what they hold open is one list for all protocols; a client library of other hands is cut off where it is ended, loses no word that
// it wrote, and comes back.
func TestWhoIsConnectedIsSeenAndEnded(t *testing.T) {
	g := gateway.Start(t)
	keeper := g.Token(t, "keeper")
	sessions := func(q string) api.Sessions { return get[api.Sessions](t, g, keeper, "sessions?"+q) }
	opens := func(q string) api.Opens { return get[api.Opens](t, g, keeper, "opens?"+q) }
	require.Empty(t, sessions("").Sessions)

	isolde := g.Dial(t, "isolde", 0x311)
	share := g.Mount(t, isolde, "nightlog")
	f, err := share.Create("held.txt")
	require.NoError(t, err)
	_, err = f.Write([]byte("written and acknowledged"))
	require.NoError(t, err)
	piran := g.Dial(t, "piran", 0x210)
	log, err := g.Mount(t, piran, "nightlog").Create("piran.txt")
	require.NoError(t, err)
	nightlogOverNFS(t, g)
	c := nfsraw.Dial(t, g.NFS, 2003, 3001)
	c.NewSession("dome1")
	status, _ := c.Session(nfsraw.Op(24), nfsraw.Op(15, "nightlog"), nfsraw.Op(18, 0, 1, 0, uint64(0), "owner", 0, 0, "held.txt"))
	require.Zero(t, status)

	all := sessions("")
	require.Equal(t, 3, all.Total)
	first := all.Sessions[0]
	require.Equal(t, []api.Connected{{User: "isolde"}}, first.Who)
	require.Equal(t, "3.1.1", first.Version)
	require.NotEmpty(t, first.Signing)
	require.Equal(t, []string{"nightlog"}, first.Through)
	require.EqualValues(t, 24, first.Written)
	require.Equal(t, 1, first.Opens)
	require.Equal(t, "2.1", all.Sessions[1].Version)
	require.Equal(t, "HMAC-SHA256", all.Sessions[1].Signing)
	last := all.Sessions[2]
	require.Equal(t, "4.1", last.Version)
	require.Equal(t, "piran", last.Who[0].User)
	require.EqualValues(t, 2003, *last.Who[0].UID)

	for q, want := range map[string]int{"who=isolde": 1, "who=PIRAN": 2, "who=2003": 1, "via=nfs": 1, "via=smb": 2, "from=127.0.0.1": 3, "from=127.0.0.0/8": 3, "from=192.0.2.0/24": 0,
		"from=no-such-host": 0, "on=nightlog": 3, "on=nightlog/2026": 3, "on=plates": 0, "on=nowhere": 0, "via=nfs&who=isolde": 0} {
		require.Equal(t, want, sessions(q).Total, q)
	}
	require.Len(t, sessions("limit=1").Sessions, 1)
	require.Equal(t, "nfs", sessions("limit=1").Sessions[0].Via, "the latest")

	open := opens("on=nightlog/held.txt")
	require.Equal(t, 2, open.Total)
	require.Equal(t, "nightlog/held.txt", open.Opens[0].Path)
	require.Equal(t, []string{"read", "write"}, open.Opens[0].Does)
	require.Equal(t, []string{"read"}, open.Opens[1].Does)
	require.Equal(t, first.ID, open.Opens[0].Session)
	require.Equal(t, 3, opens("on=nightlog").Total)
	require.Zero(t, opens("on=nightlog/held").Total, "a name that only begins so is another")

	// Nobody but an administrator ends anything, and it is written down who did.
	auditor := g.Token(t, "auditor")
	require.Equal(t, http.StatusOK, ask(t, g, auditor, "GET", "/api/v1/sessions", "").status)
	for _, path := range []string{"sessions/" + first.ID, "opens/" + open.Opens[0].ID} {
		require.Equal(t, http.StatusForbidden, ask(t, g, auditor, "DELETE", "/api/v1/"+path, "").status)
	}
	require.Equal(t, http.StatusForbidden, ask(t, g, g.Token(t, "isolde"), "GET", "/api/v1/sessions", "").status)
	require.Equal(t, http.StatusNotFound, ask(t, g, keeper, "DELETE", "/api/v1/sessions/smb-99999", "").status)
	require.Equal(t, http.StatusNotFound, ask(t, g, keeper, "DELETE", "/api/v1/opens/nfs-99999", "").status)

	require.Equal(t, http.StatusNoContent, ask(t, g, keeper, "DELETE", "/api/v1/opens/"+open.Opens[0].ID, "").status)
	_, err = f.Write([]byte("more"))
	require.Error(t, err, "STATUS_FILE_CLOSED")
	again, err := share.Open("held.txt")
	require.NoError(t, err, "the session goes on")
	said, err := io.ReadAll(again)
	require.NoError(t, err)
	require.Equal(t, "written and acknowledged", string(said))

	require.Equal(t, http.StatusNoContent, ask(t, g, keeper, "DELETE", "/api/v1/sessions/"+first.ID, "").status)
	_, err = share.Stat("held.txt")
	require.Error(t, err, "STATUS_USER_SESSION_DELETED")
	require.Equal(t, http.StatusNotFound, ask(t, g, keeper, "DELETE", "/api/v1/sessions/"+first.ID, "").status, "it has ended")
	_, err = log.Write([]byte("others go on"))
	require.NoError(t, err)
	require.NotEmpty(t, g.Dial(t, "isolde", 0x311), "she comes back")
	require.Equal(t, http.StatusNoContent, ask(t, g, keeper, "DELETE", "/api/v1/sessions/"+last.ID, "").status)
	require.Zero(t, opens("via=nfs").Total)

	var acts []string
	for _, row := range get[[]api.JournalRow](t, g, keeper, "journal?by=keeper&limit=3") {
		acts = append(acts, row.Action+": "+row.Subject)
	}
	require.Equal(t, []string{"end session: piran from 127.0.0.1 over NFS 4.1", "end session: isolde from 127.0.0.1 over SMB 3.1.1", "close open: nightlog/held.txt, open for isolde from 127.0.0.1"}, acts)
}

// Whoever watches the wire is told that something was asked there, and whoever does not is not.
func TestWhatStirsAtTheWireIsTold(t *testing.T) {
	g := gateway.Start(t)
	keeper := g.Token(t, "keeper")
	heard := func(query string) chan string {
		req, err := http.NewRequestWithContext(t.Context(), "GET", g.URL+"/api/v1/watch"+query, nil)
		require.NoError(t, err)
		req.Header.Set("Authorization", "Bearer "+keeper)
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		t.Cleanup(func() { resp.Body.Close() })
		out := make(chan string, 64)
		go func() {
			var all strings.Builder
			b := make([]byte, 4096)
			for {
				n, err := resp.Body.Read(b)
				all.Write(b[:n])
				for {
					line, rest, ok := strings.Cut(all.String(), "\n")
					if !ok {
						break
					}
					all.Reset()
					all.WriteString(rest)
					if strings.HasPrefix(line, "event: ") {
						out <- line
					}
				}
				if err != nil {
					return
				}
			}
		}()
		return out
	}
	live, still := heard("?live=true"), heard("")
	g.Mount(t, g.Dial(t, "isolde", 0x311), "nightlog")
	require.Eventually(t, func() bool {
		select {
		case line := <-live:
			return line == "event: stirred"
		default:
			return false
		}
	}, 30*time.Second, 20*time.Millisecond)
	for len(still) > 0 {
		require.NotEqual(t, "event: stirred", <-still)
	}
}

// By command line, sessions are ended by name or all that match, and nothing is where nothing was said.
func TestSessionsByCommandLine(t *testing.T) {
	bin := binary(t)
	p := serve(t, bin, t.TempDir()+"/state", "--demo")
	a := amber{t, bin, p.url, t.TempDir()}
	_, errOut, code := a.try("keeper-at-larkfell", "sign-in", "keeper")
	require.Zero(t, code, errOut)
	require.Contains(t, a.run("session", "list"), "nobody is connected")
	require.Contains(t, a.run("open", "list"), "nothing is open")
	for i, bad := range [][]string{{"session", "end"}, {"session", "end", "smb-1", "--who", "isolde"}, {"open", "close"}, {"session", "list", "--via", "ftp"}} {
		_, errOut, code := a.try("", bad...)
		require.Equal(t, 2, code, "%d: %s", i, errOut)
	}
	hold := func(name string) {
		g := gateway.Gateway{SMB: p.smb}
		share, err := g.Dial(t, "isolde", 0).Mount("nightlog")
		require.NoError(t, err)
		f, err := share.OpenFile(name, os.O_CREATE|os.O_RDWR, 0o644)
		require.NoError(t, err)
		t.Cleanup(func() { f.Close() })
	}
	for i := range 3 {
		hold(fmt.Sprintf("held-%d.txt", i))
	}
	out := a.run("session", "list", "--who", "isolde")
	require.Equal(t, 3, strings.Count(out, "isolde"))
	require.Contains(t, a.run("open", "list", "--on", "nightlog/held-1.txt"), "read, write")
	_, errOut, code = a.try("", "session", "end", "--who", "isolde")
	require.Equal(t, 2, code)
	require.Contains(t, errOut, "This ends 3 sessions, with all that is open in them.")
	require.Contains(t, a.run("open", "close", "--on", "nightlog/held-1.txt", "--yes"), "closed 1 of 1")
	require.Contains(t, a.run("session", "end", "--who", "isolde", "--yes"), "ended 3 of 3")
	require.Contains(t, a.run("session", "list"), "nobody is connected")
	require.Contains(t, a.run("session", "end", "--who", "isolde", "--yes"), "nothing matches")
}

// What is asked at the wire is counted by folder, way in, person and host, is kept over time, and is given to whoever may look as Prometheus takes it.
func TestWhatIsAskedIsCounted(t *testing.T) {
	g := gateway.Start(t)
	share := g.Mount(t, g.Dial(t, "isolde", 0x311), "nightlog")
	require.NoError(t, share.WriteFile("counted.txt", make([]byte, 300_000), 0o644))
	_, err := share.ReadFile("counted.txt")
	require.NoError(t, err)
	orla, err := g.TryDial("orla", "orla-at-larkfell", 0x311)
	require.NoError(t, err)
	defer func() { _ = orla.Logoff() }()
	_, err = orla.Mount("nightlog")
	require.Error(t, err)
	nightlogOverNFS(t, g)
	c := nfsraw.Dial(t, g.NFS, 2003, 3001)
	status, _ := c.Lookup3(c.Mnt("/nightlog"), "counted.txt")
	require.Zero(t, status)
	status, _ = c.Lookup3(c.Mnt("/nightlog"), "no-such-file")
	require.NotZero(t, status)

	keeper, auditor := g.Token(t, "keeper"), g.Token(t, "auditor")
	a := ask(t, g, auditor, "GET", "/metrics", "")
	require.Equal(t, http.StatusOK, a.status)
	said := string(a.body)
	for _, line := range []string{`amber_folder_read_bytes_total{folder="nightlog"} 300000`, `amber_folder_written_bytes_total{folder="nightlog"} 300000`, `amber_share_written_bytes_total{share="nightlog"} 300000`,
		`amber_person_read_bytes_total{user="isolde"} 300000`, `amber_host_written_bytes_total{address="127.0.0.1"} 300000`, `amber_folder_requests_total{folder="nightlog",kind="look",outcome="failed"} 1`,
		`amber_export_requests_total{kind="look",outcome="done",path="/nightlog"} 1`, `amber_protocol_requests_total{kind="other",outcome="refused",version="SMB 3.1.1"} 1`, `amber_sessions{via="SMB"} 2`, `amber_gate_refusals_total{gate="entry"} 1`, `amber_build_info{version="test"} 1`,
		`amber_errors_total{protocol="SMB",status="0xC0000022"} 1`, `amber_connections{via="SMB"} 2`, `amber_requests_working{via="SMB"} 0`, `amber_queue_length{queue="messages"} 0`} {
		require.Contains(t, said, line+"\n")
	}
	require.Regexp(t, `amber_database_write_seconds_count\{database="records"\} [1-9]`, said)
	require.Regexp(t, `amber_cache_looks_total\{cache="NFS answers kept",result="not found"\} \d`, said)
	require.Regexp(t, `amber_folder_request_duration_seconds_count\{folder="nightlog"\} [1-9]`, said)
	for _, token := range []string{"", g.Token(t, "isolde")} {
		require.Contains(t, []int{http.StatusUnauthorized, http.StatusForbidden}, ask(t, g, token, "GET", "/metrics", "").status)
	}

	var over api.Throughput
	require.Eventually(t, func() bool {
		over = get[api.Throughput](t, g, keeper, "throughput?of=nightlog")
		return len(over.Spans) > 0
	}, 40*time.Second, 200*time.Millisecond)
	require.Equal(t, 10, over.Step)
	require.EqualValues(t, 300_000, over.Totals.Read)
	require.EqualValues(t, 300_000, over.Totals.Written)
	require.Positive(t, over.Totals.Median)
	require.GreaterOrEqual(t, over.Totals.Slow, over.Totals.Median)
	all := get[api.Throughput](t, g, keeper, "throughput")
	require.Greater(t, all.Totals.Operations, over.Totals.Operations, "signing in is of no folder")
	require.Empty(t, get[api.Throughput](t, g, keeper, "throughput?of=plates").Spans)
	csv := string(ask(t, g, keeper, "GET", "/api/v1/throughput/export?of=nightlog", "").body)
	require.True(t, strings.HasPrefix(csv, "at,seconds,operations,read,written,median_ms,slow_ms\n"), csv)
	require.Equal(t, len(over.Spans)+1, strings.Count(csv, "\n"))
	require.Equal(t, http.StatusNotFound, ask(t, g, keeper, "GET", "/api/v1/throughput?of=no-such", "").status)
	require.Equal(t, http.StatusUnprocessableEntity, ask(t, g, keeper, "GET", "/api/v1/throughput?since=2026-03-02T00:00:00Z&until=2026-03-01T00:00:00Z", "").status)
}

// How it stands is said line by line, the worst decides, and who may be served is said to everybody.
func TestHowItStands(t *testing.T) {
	g := gateway.Start(t)
	keeper := g.Token(t, "keeper")
	line := func(what string) api.StatusLine {
		for _, l := range get[api.Status](t, g, keeper, "status").Lines {
			if l.What == what {
				return l
			}
		}
		t.Fatalf("nothing is said of %s", what)
		return api.StatusLine{}
	}
	require.Equal(t, "to mind", get[api.Status](t, g, keeper, "status").State, "of the demo's mistakes")
	require.Equal(t, "well", line("SMB").State)
	require.Equal(t, "nobody is connected", line("clients").Says)
	require.Equal(t, "to mind", line("findings").State)
	require.Equal(t, http.StatusOK, ask(t, g, "", "GET", "/api/v1/ready", "").status)
	require.Equal(t, http.StatusForbidden, ask(t, g, g.Token(t, "isolde"), "GET", "/api/v1/status", "").status)
	g.Mount(t, g.Dial(t, "isolde", 0x311), "nightlog")
	require.Equal(t, "1 is connected, with 0 open files, directories and pipes", line("clients").Says)
	require.Equal(t, http.StatusNoContent, ask(t, g, keeper, "PUT", "/api/v1/services/nfs", `{"on":false}`).status)
	require.Equal(t, "is switched off", line("NFS").Says)
	require.Equal(t, http.StatusOK, ask(t, g, "", "GET", "/api/v1/ready", "").status, "what is off is not missed")

	volume := g.Service.Policy().Volumes[0].Path
	require.NoError(t, os.Rename(volume, volume+".gone"))
	t.Cleanup(func() { _ = os.Rename(volume+".gone", volume) })
	require.Eventually(t, func() bool { return line("volume summit").State == "wrong" }, 60*time.Second, 200*time.Millisecond)
	require.Equal(t, "wrong", get[api.Status](t, g, keeper, "status").State)
}
