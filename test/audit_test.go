package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/cloudsoda/go-smb2"
	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/demo"
	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/onc"
	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/internal/store"
	"amber.example/gatekeeper/test/gateway"
	"amber.example/gatekeeper/test/nfsraw"
)

// tried is what a client managed to do at the root of a folder.
type tried struct{ read, add, change bool }

// expected is what the audit says of that.
func expected(l acl.LevelSet) tried { return tried{l.Has(acl.Read), l.Has(acl.Add), l.Has(acl.Change)} }

// plant puts a file on the disk that belongs to nobody in particular.
func plant(t *testing.T, f *site.PublishedFolder, name string) {
	t.Helper()
	require.NoError(t, os.WriteFile(filepath.Join(f.Root, name), []byte("planted"), 0o660))
}

func trySMB(t *testing.T, g *gateway.Gateway, f *site.PublishedFolder, user string) (got tried) {
	s, err := g.TryDial(user, user+demo.PasswordSuffix, 0)
	if err != nil {
		return got
	}
	defer func() { _ = s.Logoff() }()
	m, err := s.Mount(f.Shares[0].Name)
	if err != nil {
		return got
	}
	_, err = m.ReadDir(".")
	got.read = err == nil
	made, err := m.OpenFile("smb-"+user+".txt", os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o660)
	if got.add = err == nil; got.add {
		require.NoError(t, made.Close())
	}
	plant(t, f, "planted-"+user)
	got.change = m.Remove("planted-"+user) == nil
	return got
}

func tryNFS(t *testing.T, g *gateway.Gateway, f *site.PublishedFolder, u identity.User) (got tried) {
	c := nfsraw.Dial(t, g.NFS, u.UID, u.UID)
	root := c.Mnt(f.Exports[0].Path)
	status, _ := c.Do(nfsraw.NFS, 3, 16, func(w *onc.Writer) { w.Opaque(root); w.Uint64(0); w.Uint64(0); w.Uint32(4096) })
	got.read = status == 0
	status, _ = c.Create3(root, "nfs-"+u.Name+".txt")
	got.add = status == 0
	plant(t, f, "planted-"+u.Name)
	status, _ = c.Do(nfsraw.NFS, 3, 12, func(w *onc.Writer) { w.Opaque(root); w.String("planted-" + u.Name) })
	got.change = status == 0
	return got
}

// Every cell of the demo's matrix is tried for real, over both protocols, and again after changes of
// every kind.
func TestEveryCellOfTheMatrixHoldsOnTheWire(t *testing.T) {
	g := gateway.Start(t)
	g.Unlimited(t)
	ctx := t.Context()
	for _, e := range g.Service.Policy().Exports { // so that this machine is the host that may most
		squash, write := "root", true
		_, err := g.Service.AddRule(ctx, gateway.Keeper, service.RuleList{Export: e.Path}, service.RuleInput{From: "127.0.0.1", Write: &write, Squash: &squash}, 1)
		require.NoError(t, err)
	}
	cells := func() (n int) {
		a := g.Service.Audit()
		for f, standing := range a.Matrix() {
			for i, u := range a.Policy.Directory.Users() {
				says := standing.Of(int32(i))
				require.False(t, says.Either().Levels.Has(acl.Control) && !f.Unix(), "nobody is given control in the demo, but for who owns scratch")
				if len(f.Shares) > 0 {
					require.Equal(t, expected(says.SMB.Levels), trySMB(t, g, f, u.Name), "%s on %s over SMB: %s", u.Name, f.Name, says.OverSMB())
					n++
				}
				if len(f.Exports) > 0 {
					want, got := expected(says.NFS.Levels), tryNFS(t, g, f, u)
					if f.Unix() {
						got.change = want.change // who writes there removes; the level holds what is the owner's besides
					}
					require.Equal(t, want, got, "%s on %s over NFS: %s", u.Name, f.Name, says.NFS)
					n++
				}
			}
		}
		return n
	}
	require.Greater(t, cells(), 90)
	for _, f := range g.Service.Policy().Folders { // the wire has left things of that name
		require.NoError(t, filepath.WalkDir(f.Root, func(path string, d os.DirEntry, err error) error {
			if name := d.Name(); strings.HasPrefix(name, "smb-") || strings.HasPrefix(name, "nfs-") || strings.HasPrefix(name, "planted-") {
				return os.Remove(path)
			}
			return err
		}))
	}
	_, err := g.Service.AddEntry(ctx, gateway.Keeper, "plates", service.EntryInput{Who: "observers", Level: "read", Deny: true})
	require.NoError(t, err)
	_, err = g.Service.AddEntry(ctx, gateway.Keeper, "visitors", service.EntryInput{Who: "tomasz", Level: "change", Expires: time.Now().Add(time.Hour)})
	require.NoError(t, err)
	require.NoError(t, g.Service.Arrange(ctx, gateway.Keeper, "nightlog", "drop-place", []string{"visitors"}, []string{"engineers"}))
	_, err = g.Service.UpdateUser(ctx, gateway.Keeper, "piran", service.UserChange{Disabled: new(true)})
	require.NoError(t, err)
	cells()
}

// Each of the demo's mistakes is found, and fixed by the commands printed for it; then nothing is
// left to find.
func TestTheDemosMistakesAreFoundAndFixed(t *testing.T) {
	bin := binary(t)
	p := serve(t, bin, filepath.Join(t.TempDir(), "state"), "--demo")
	a := amber{t, bin, p.url, t.TempDir()}
	_, errOut, code := a.try("keeper-at-larkfell", "sign-in", "keeper")
	require.Zero(t, code, errOut)
	findings := func(args ...string) (list []api.Finding) {
		require.NoError(t, json.Unmarshal([]byte(a.run(append([]string{"finding", "list", "--json"}, args...)...)), &list))
		return list
	}
	var found []string
	for _, f := range findings() {
		found = append(found, f.Kind+": "+f.Subject)
	}
	require.Equal(t, []string{"open to any host: client rule 1 of /visitors", "unknown uids may write: client rule 2 of /scratch", "ids in conflict: user piran at dome1",
		"root not squashed: client rule 1 of /visitors", "grant to someone gone: entry 10 on plates", "blocked by a parent: entry 7 on instruments/firmware/bench",
		"in grace: limit of user piran", "limit reached: limit of user svc-reduce in scratch"}, found)

	key := findings()[4].Key
	a.run("finding", "accept", key, "--reason", "Corin comes back in May", "--until", time.Now().AddDate(0, 1, 0).Format("2006-01-02"))
	require.Len(t, findings(), len(found)-1)
	require.Len(t, findings("--all"), len(found)+5, "and those who decide without having control, as the demo has agreed to")
	a.run("finding", "reopen", key)
	a.run("service", "off", "smb") // the trap of every beginner
	require.True(t, slices.ContainsFunc(findings(), func(f api.Finding) bool { return f.Kind == "service off" }))

	for range 20 {
		list := findings()
		if len(list) == 0 {
			break
		}
		for _, m := range list[0].Fix {
			cmd := exec.Command("/bin/sh", "-c", m+" --yes") // as a person pastes it
			cmd.Env = []string{"HOME=" + a.home, "PATH=" + filepath.Dir(bin) + ":/usr/bin:/bin", "AMBER_URL=" + a.url}
			said, err := cmd.CombinedOutput()
			require.NoError(t, err, "%s: %s", m, said)
		}
		require.False(t, slices.ContainsFunc(findings(), func(f api.Finding) bool { return f.Key == list[0].Key }), "%s is fixed by %q", list[0].Says, list[0].Fix)
	}
	require.Contains(t, a.run("finding", "list"), "nothing is found to be wrong")
}

// request is one that changes something.
type request struct {
	Method, Path string
	Body         json.RawMessage
}

// change is the same as one that can be tried out.
func (r request) change(t *testing.T) api.Change {
	t.Helper()
	path, query, _ := strings.Cut(r.Path, "?")
	values, err := url.ParseQuery(query)
	require.NoError(t, err)
	var body any
	if r.Body != nil {
		body = r.Body
	}
	c, ok, err := api.AsChange(r.Method, path, values, body)
	require.NoError(t, err)
	require.True(t, ok, r.Path)
	return c
}

// What a preview says comes true, and nothing of a preview does.
func TestPreviewComesTrue(t *testing.T) {
	g := gateway.Start(t)
	keeper, auditor := g.Token(t, "keeper"), g.Token(t, "auditor")
	get := func(path string, out any) {
		t.Helper()
		r := ask(t, g, auditor, "GET", "/api/v1/"+path, "")
		require.Equal(t, http.StatusOK, r.status, "%s: %s", path, r.body)
		require.NoError(t, json.Unmarshal(r.body, out))
	}
	for _, change := range []request{
		{Method: "POST", Path: "entries", Body: json.RawMessage(`{"path":"nightlog","who":"visitors","level":"read"}`)},
		{Method: "POST", Path: "entries", Body: json.RawMessage(`{"path":"plates","who":"staff","deny":true,"level":"pass","applies":["folder"]}`)},
		{Method: "DELETE", Path: "entries/7?path=instruments/firmware/bench"},
		{Method: "PUT", Path: "inheritance", Body: json.RawMessage(`{"path":"nightlog/2026","inherit":false}`)},
		{Method: "PUT", Path: "groups/staff/members/orla"},
		{Method: "PATCH", Path: "users/isolde", Body: json.RawMessage(`{"disabled":true}`)},
		{Method: "POST", Path: "users", Body: json.RawMessage(`{"name":"lunt","primaryGroup":"observers"}`)},
		{Method: "PATCH", Path: "shares/visitors", Body: json.RawMessage(`{"readOnly":true}`)},
		{Method: "POST", Path: "exports/plates/rules", Body: json.RawMessage(`{"from":"198.51.100.0/24","write":true}`)},
		{Method: "PUT", Path: "mode", Body: json.RawMessage(`{"path":"scratch","mode":"0700"}`)},
		{Method: "POST", Path: "rules/copy", Body: json.RawMessage(`{"from":"instruments","to":"visitors"}`)},
		{Method: "POST", Path: "folders/scratch/convert"},
		{Method: "PUT", Path: "arrangement", Body: json.RawMessage(`{"path":"visitors","arrangement":"personal","team":["observers"]}`)},
		{Method: "POST", Path: "folders", Body: json.RawMessage(`{"name":"charts","volume":"summit","arrangement":"few-change","team":["wren"],"others":["staff"]}`)},
		{Method: "DELETE", Path: "rules?path=personal&below=true"},
		{Method: "PUT", Path: "services/nfs", Body: json.RawMessage(`{"on":false}`)},
		{Method: "DELETE", Path: "folders/nightlog"},
	} {
		name := change.Method + " " + change.Path
		rows := g.Changes(t)
		policy := g.Service.Policy()
		body, err := json.Marshal(api.ChangesBody{Changes: []api.Change{change.change(t)}})
		require.NoError(t, err)
		r := ask(t, g, auditor, "POST", "/api/v1/preview", string(body))
		require.Equal(t, http.StatusOK, r.status, "%s: %s", name, r.body)
		var said api.Effect
		require.NoError(t, json.Unmarshal(r.body, &said))
		require.False(t, slices.ContainsFunc(said.Warnings, func(f api.Finding) bool { return f.Kind == "path gone" }), "%s: %v", name, said.Warnings)
		require.Equal(t, rows, g.Changes(t), "%s is not made", name)
		require.Same(t, policy, g.Service.Policy())

		before := g.Service.Audit()
		r = ask(t, g, keeper, change.Method, "/api/v1/"+change.Path, string(change.Body))
		require.Less(t, r.status, 300, "%s: %s", name, r.body)
		matrix, is := before.Matrix(), g.Service.Audit().Matrix()
		for f, standing := range is {
			for _, u := range g.Service.Policy().Directory.Users() {
				var was string
				for b, s := range matrix {
					if i := before.Policy.Directory.UserIndex(u.ID); b.ID == f.ID && i >= 0 {
						was = s.Of(i).String()
					}
				}
				now := standing.Of(g.Service.Policy().Directory.UserIndex(u.ID)).String()
				if was == "" {
					was = "nothing"
				}
				i := slices.IndexFunc(said.Changes, func(c api.EffectOnPath) bool {
					return c.Path == f.Name && c.Objects == "" && slices.Contains(c.People, u.Name)
				})
				switch {
				case f.Unix() && change.Path == "mode": // the disk is as it is now on both sides
				case was == now:
					if i >= 0 { // rights that go unsaid, but for the difference
						require.True(t, strings.HasPrefix(said.Changes[i].Is.Text, now+" ("), "%s: %s on %s becomes %s", name, u.Name, f.Name, said.Changes[i].Is.Text)
					}
				default:
					require.GreaterOrEqual(t, i, 0, "%s: %s on %s was %s and is %s", name, u.Name, f.Name, was, now)
					require.Equal(t, was, said.Changes[i].Was.Text)
					require.Equal(t, now, said.Changes[i].Is.Text)
				}
			}
		}
		if change.Path == "mode" {
			require.Equal(t, 7, said.Lose, "all of staff but the owner, and orla, lose the way into scratch")
		}
		require.Eventually(t, func() bool { // what goes on on the disk is a row of the journal when it ends
			var jobs []api.Job
			get("jobs", &jobs)
			return !slices.ContainsFunc(jobs, func(j api.Job) bool { return !j.Over })
		}, time.Minute, 10*time.Millisecond)
	}
	var why api.Why
	get("why?user=orla&path=plates", &why)
	require.False(t, why.Allowed)
}

// A question about the past is answered by the rules of then, and one with changes by those of after.
func TestAskedOfThenAndOfAfter(t *testing.T) {
	bin := binary(t)
	p := serve(t, bin, filepath.Join(t.TempDir(), "state"), "--demo")
	a := amber{t, bin, p.url, t.TempDir()}
	_, errOut, code := a.try("keeper-at-larkfell", "sign-in", "keeper")
	require.Zero(t, code, errOut)
	why := func(args ...string) bool {
		var y api.Why
		require.NoError(t, json.Unmarshal([]byte(a.run(append([]string{"why", "orla", "nightlog", "--json"}, args...)...)), &y))
		return y.Allowed
	}
	require.False(t, why())
	require.True(t, why("--with", `entry add nightlog allow "orla" read`))
	require.True(t, why("--with", "group join orla staff", "--with", "user set orla --full-name 'Orla F.'"))
	require.False(t, why("--with", "entry add nightlog allow orla read", "--with", "user set orla --disable"))
	require.False(t, why(), "nothing was done")
	var rows []api.JournalRow
	require.NoError(t, json.Unmarshal([]byte(a.run("journal", "list", "--last", "1000", "--json")), &rows))
	then := rows[len(rows)-1].At
	// The journal's times have no more than seconds where people write them.
	require.Eventually(t, func() bool { return time.Now().Unix() > then.Unix()+1 }, 2*time.Minute, 50*time.Millisecond)
	a.run("entry", "add", "nightlog", "allow", "orla", "read")
	require.True(t, why())
	at := then.Add(time.Second).Format(time.RFC3339)
	require.False(t, why("--at", at))
	require.Contains(t, a.run("compare", "--from", at), "gains")
	require.Contains(t, a.run("who", "nightlog"), "orla")
	require.NotContains(t, a.run("who", "nightlog", "--at", at), "orla")
	require.NotContains(t, a.run("reach", "orla", "--at", at), "nightlog")
	_, errOut, code = a.try("", "why", "orla", "nightlog", "--at", "2001-01-01")
	require.Equal(t, 2, code)
	require.Contains(t, errOut, "nothing is known of what was before")
	for _, bad := range []string{"entry list nightlog", "entry add nowhere", "no such command", `entry add "nightlog`} {
		_, errOut, code = a.try("", "why", "orla", "nightlog", "--with", bad)
		require.Equal(t, 2, code, "%s: %s", bad, errOut)
	}
}

// Refusals at the wire are written down, each told once and then counted, and not in the journal.
func TestRefusalsAreWrittenDown(t *testing.T) {
	g := gateway.Start(t)
	for range 5 {
		_, err := g.Dial(t, "orla", 0).Mount("nightlog")
		require.Error(t, err)
	}
	_, err := g.Service.UpdateFolder(t.Context(), gateway.Keeper, "plates", service.FolderChange{LogAccess: new(true)})
	require.NoError(t, err)
	m := g.Mount(t, g.Dial(t, "wren", 0), "plates")
	_, err = m.ReadFile("index.csv")
	require.NoError(t, err)
	require.Error(t, m.WriteFile("index.csv", []byte("x"), 0o660))
	var rows []string
	require.Eventually(t, func() bool {
		list, err := g.Service.Events(t.Context(), store.Match{})
		require.NoError(t, err)
		rows = nil
		for _, e := range list {
			require.Equal(t, "127.0.0.1", e.From)
			require.Positive(t, e.Count)
			if e.Kind == "signed in" {
				continue
			}
			rows = append(rows, fmt.Sprint(e.Who, " ", e.Kind, " ", e.Path))
		}
		return len(rows) >= 3
	}, 2*time.Minute, 50*time.Millisecond)
	slices.Sort(rows)
	require.Equal(t, []string{"orla refused nightlog", "wren read plates/index.csv", "wren refused plates/index.csv"}, slices.Compact(rows))
	rowsAfter, err := g.Service.Journal(t.Context(), store.Match{})
	require.NoError(t, err)
	for _, r := range rowsAfter {
		require.NotEqual(t, "refused", r.Action, "what strangers do is not in the journal")
	}
}

// A review from its beginning to the signed record: marked by those asked, in the console's API and in a
// spreadsheet, and applied as one change.
func TestAReview(t *testing.T) {
	bin := binary(t)
	p := serve(t, bin, filepath.Join(t.TempDir(), "state"), "--demo")
	a := amber{t, bin, p.url, t.TempDir()}
	looker := amber{t, bin, p.url, t.TempDir()}
	for who, as := range map[string]amber{"keeper": a, "auditor": looker} {
		_, errOut, code := as.try(who+"-at-larkfell", "sign-in", who)
		require.Zero(t, code, errOut)
	}
	refused := func(as amber, says string, args ...string) {
		t.Helper()
		_, errOut, code := as.try("", append(args, "--yes")...)
		require.Contains(t, []int{1, 2}, code, args) // refused, or of no sense
		require.Contains(t, errOut, says)
	}
	refused(a, "may not sign in", "review", "add", "spring", "--folder", "plates", "--reviewer", "wren")
	refused(a, "no entries to review", "review", "add", "spring", "--folder", "scratch", "--reviewer", "auditor")
	refused(looker, "takes an administrator", "review", "add", "spring", "--folder", "plates", "--reviewer", "auditor")
	a.run("review", "add", "spring", "--folder", "plates", "--folder", "visitors", "--reviewer", "auditor")
	var r api.Review
	show := func() {
		t.Helper()
		require.NoError(t, json.Unmarshal([]byte(a.run("review", "show", "spring", "--json")), &r))
	}
	show()
	line := func(says string) string {
		t.Helper()
		i := slices.IndexFunc(r.Lines, func(l api.ReviewLine) bool { return strings.HasPrefix(l.Says, says) })
		require.GreaterOrEqual(t, i, 0, "%s is in %v", says, r.Lines)
		return fmt.Sprint(r.Lines[i].Number)
	}
	refused(a, "is not asked to review", "review", "mark", "spring", "1", "keep")
	refused(looker, "is not decided", "review", "apply", "spring", "--preview") // nor could the auditor
	looker.run("review", "mark", "spring", "all", "keep")
	looker.run("review", "mark", "spring", line("allow corin"), "remove", "--comment", "=left in spring")
	csv := filepath.Join(t.TempDir(), "spring.csv")
	looker.run("review", "export", "spring", "--out", csv)
	text, err := os.ReadFile(csv)
	require.NoError(t, err)
	require.Contains(t, string(text), ",'=left in spring", "no formula")
	marked := strings.Replace(string(text), "svc-dome is in archive,svc-dome,keep,", "svc-dome is in archive,svc-dome,remove,primary is enough", 1)
	require.NotEqual(t, string(text), marked)
	require.NoError(t, os.WriteFile(csv, []byte(marked), 0o600))
	looker.run("review", "import", "spring", csv)
	require.NoError(t, os.WriteFile(csv, []byte("line,decision\n1,perhaps\n"), 0o600))
	refused(looker, `"perhaps" is not keep or remove`, "review", "import", "spring", csv)
	show()
	require.Equal(t, 2, r.Remove)
	require.Zero(t, r.Undecided)
	refused(looker, "takes an administrator", "review", "apply", "spring")
	a.run("review", "apply", "spring")
	require.NotContains(t, a.run("entry", "list", "plates"), "corin")
	var g api.Group
	require.NoError(t, json.Unmarshal([]byte(a.run("group", "show", "archive", "--json")), &g))
	require.NotContains(t, fmt.Sprint(g.Members), "svc-dome")
	refused(looker, "was closed by keeper", "review", "mark", "spring", "1", "remove")

	record := filepath.Join(t.TempDir(), "spring.json")
	a.run("review", "export", "spring", "--record", "--out", record)
	require.Contains(t, looker.run("review", "verify", record), "as this gateway signed it")
	raw, err := os.ReadFile(record)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(record, []byte(strings.Replace(string(raw), `"remove"`, `"keep"`, 1)), 0o600))
	refused(looker, "not as this gateway signed it", "review", "verify", record)
	report := func(args ...string) string {
		t.Helper()
		name := filepath.Join(t.TempDir(), "report")
		looker.run(append(append([]string{"report"}, args...), "--out", name)...)
		raw, err := os.ReadFile(name)
		require.NoError(t, err)
		return string(raw)
	}
	html := report("review", "spring")
	require.Contains(t, html, "To remove")
	require.Contains(t, html, "=left in spring")
	for _, kind := range [][]string{{"folder", "instruments"}, {"person", "isolde"}, {"findings"}} {
		for _, format := range []string{"html", "csv", "json"} {
			require.Contains(t, report(append(slices.Clone(kind), "--format", format)...), "instruments", "%v as %s", kind, format)
		}
	}
}

// Whom things belong to is previewed like all else, where that decides anything.
func TestOwnersArePreviewed(t *testing.T) {
	g := gateway.Start(t)
	ctx := t.Context()
	_, err := g.Service.AddEntry(ctx, gateway.Keeper, "visitors", service.EntryInput{Who: "owner@", Level: "change"})
	require.NoError(t, err)
	r := ask(t, g, g.Token(t, "auditor"), "POST", "/api/v1/preview", `{"changes":[{"kind":"owner","act":"set","with":{"path":"visitors","owner":"bettany","below":true}}]}`)
	require.Equal(t, http.StatusOK, r.status, "%s", r.body)
	var e api.Effect
	require.NoError(t, json.Unmarshal(r.body, &e))
	require.Equal(t, 1, e.Gain)
	require.Equal(t, 1, e.Lose)
	for _, c := range e.Changes {
		require.Equal(t, "visitors", c.Path)
		require.Equal(t, map[bool][]string{true: {"bettany"}, false: {"wren"}}[c.Gains], c.People)
	}
	w, err := g.Service.SetOwner(ctx, gateway.Keeper, "visitors", "bettany", "", false)
	require.NoError(t, err)
	require.Nil(t, w, "one path is no job")
	a := g.Service.Audit()
	st := a.At(g.Service.Policy().FolderNamed("visitors"), "", false)
	require.Equal(t, "change", st.Of(a.Policy.Directory.UserIndex(a.Policy.Directory.UserNamed("bettany").ID)).String())
}

// A second name does not lift a file out of its rules for who may not read it, over NFS either.
func TestNothingLeaksByLinking(t *testing.T) {
	g := gateway.Start(t)
	ctx := t.Context()
	_, err := g.Service.AddRule(ctx, gateway.Keeper, service.RuleList{Export: "/instruments"}, service.RuleInput{From: "127.0.0.1", Write: new(true)}, 1)
	require.NoError(t, err)
	f := g.Service.Policy().FolderNamed("instruments")
	require.NoError(t, os.MkdirAll(filepath.Join(f.Root, "open"), 0o770))
	require.NoError(t, os.MkdirAll(filepath.Join(f.Root, "kept"), 0o770))
	require.NoError(t, os.WriteFile(filepath.Join(f.Root, "kept/key.txt"), []byte("secret"), 0o660))
	_, err = g.Service.AddEntry(ctx, gateway.Keeper, "instruments/kept", service.EntryInput{Who: "tomasz", Level: "read", Deny: true, Applies: []string{"files"}})
	require.NoError(t, err)
	_, err = g.Service.AddEntry(ctx, gateway.Keeper, "instruments/open", service.EntryInput{Who: "tomasz", Level: "change"})
	require.NoError(t, err)
	c := nfsraw.Dial(t, g.NFS, 2004, 3002)
	root := c.Mnt("/instruments")
	_, kept := c.Lookup3(root, "kept")
	_, open := c.Lookup3(root, "open")
	status, file := c.Lookup3(kept, "key.txt")
	require.Zero(t, status)
	link := func() uint32 {
		status, _ := c.Do(nfsraw.NFS, 3, 15, func(w *onc.Writer) { w.Opaque(file); w.Opaque(open); w.String("mine.txt") })
		return status
	}
	rename := func() uint32 {
		status, _ := c.Do(nfsraw.NFS, 3, 14, func(w *onc.Writer) { w.Opaque(root); w.String("kept"); w.Opaque(open); w.String("mine") })
		return status
	}
	const acces, across = 13, 18
	require.EqualValues(t, across, link(), "whoever asks: the client is to copy")
	require.EqualValues(t, acces, rename(), "nor does the directory that it is in go where it could be read")
	require.NoError(t, g.Service.ClearRules(ctx, gateway.Keeper, "instruments/kept", false))
	require.EqualValues(t, across, link(), "who may do everything here is no exception: what others may would differ")
	require.Zero(t, rename())
	require.NoError(t, g.Service.ClearRules(ctx, gateway.Keeper, "instruments/open", false))
	status, file = c.Lookup3(open, "mine")
	require.Zero(t, status)
	_, file = c.Lookup3(file, "key.txt")
	require.Zero(t, link(), "where the same rules hold a file may have two names")
}

// Who holds WRITE_ACL sets entries over NFS 4, and what the audit says afterwards is what was set.
func TestEntriesAreSetOverNFS(t *testing.T) {
	g := gateway.Start(t)
	ctx := t.Context()
	nightlogOverNFS(t, g)
	const acl4, allow, deny = 1 << 12, 0, 1
	type ace struct {
		kind, flags uint32
		mask        acl.Mask
		who         string
	}
	fh := func() []byte {
		c := nfsraw.Dial(t, g.NFS, 2003, 3001)
		_, dir := c.Lookup3(c.Mnt("/nightlog"), "2026")
		return dir
	}()
	set := func(uid uint32, aces ...ace) uint32 {
		t.Helper()
		c := nfsraw.Dial(t, g.NFS, uid, 3001)
		c.NewSession(fmt.Sprint("acl", uid, len(aces), time.Now().UnixNano()))
		w := &onc.Writer{}
		w.Uint32(uint32(len(aces)))
		for _, a := range aces {
			w.Uint32(a.kind)
			w.Uint32(a.flags)
			w.Uint32(uint32(a.mask))
			w.String(a.who)
		}
		status, _ := c.Session(nfsraw.Op(22, fh), nfsraw.Op(34, nfsraw.Raw(make([]byte, 16)), 1, acl4, w.B))
		return status
	}
	all := []ace{{deny, 3, acl.WriteData | acl.AppendData, "2002"}, {allow, 3, acl.Change.Mask(true), "3001"}, {allow, 3, acl.Control.Mask(true), "piran@larkfell.example"}, {allow, 0, acl.Pass.Mask(true), "EVERYONE@"}}
	all[1].flags |= 0x40 // a group
	const access, inval, badOwner = 13, 22, 10039
	require.EqualValues(t, access, set(2003, all...), "piran may change nightlog, and not who may")
	_, err := g.Service.AddEntry(ctx, gateway.Keeper, "nightlog/2026", service.EntryInput{Who: "piran", Level: "control"})
	require.NoError(t, err)
	require.EqualValues(t, badOwner, set(2003, ace{allow, 0, acl.ReadData, "2999"}))
	require.EqualValues(t, inval, set(2003, all[1], all[0]), "an allow before a deny of the same")
	require.Zero(t, set(2003, all...))
	f := g.Service.Policy().FolderNamed("nightlog")
	require.True(t, f.Tree.Rule("2026").Cut, "all that bears on it is what was sent")
	a := g.Service.Audit()
	st := a.At(f, "2026", false)
	for user, want := range map[string]string{"isolde": "read", "piran": "control", "svc-reduce": "change", "wren": "pass"} {
		i := a.Policy.Directory.UserIndex(a.Policy.Directory.UserNamed(user).ID)
		p := st.Of(i)
		require.Equal(t, want, p.Either().Levels.String(), user)
	}
	rows, err := g.Service.Journal(ctx, store.Match{Only: "changes"})
	require.NoError(t, err)
	last := rows[len(rows)-1]
	require.Equal(t, "piran set entries nightlog/2026", last.Actor+" "+last.Action+" "+last.Subject)
}

// Access for a while ends by itself, for what is open too, and nothing has to happen for that.
func TestTemporaryAccessEnds(t *testing.T) {
	g := gateway.Start(t)
	buf := make([]byte, 4)
	session := g.Dial(t, "orla", 0)
	var until time.Time
	var m *smb2.Share
	var f *smb2.File
	for length := 3 * time.Second; ; length *= 2 { // until the machine is fast enough for what comes before the end
		until = time.Now().Add(length).Truncate(time.Second)
		_, err := g.Service.AddEntry(t.Context(), gateway.Keeper, "nightlog", service.EntryInput{Who: "orla", Level: "read", Expires: until})
		require.NoError(t, err)
		if m, err = session.Mount("nightlog"); err == nil {
			if f, err = m.Open("README.txt"); err == nil {
				_, err = f.ReadAt(buf, 0)
			}
		}
		if err == nil {
			break
		}
		require.False(t, time.Now().Before(until), "%v", err)
	}
	require.Eventually(t, func() bool { _, err := f.ReadAt(buf, 0); return err != nil }, 2*time.Minute, 20*time.Millisecond)
	require.False(t, time.Now().Before(until), "not before its time")
	_, err := m.Open("README.txt")
	require.Error(t, err)
	_, err = g.Service.AddEntry(t.Context(), gateway.Keeper, "nightlog", service.EntryInput{Who: "orla", Level: "read", Expires: until})
	require.ErrorContains(t, err, "has passed already")
}
