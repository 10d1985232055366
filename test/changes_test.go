package test

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/test/gateway"
)

// Every operation that changes the records may stand in a set, by what its document says; and what may not is named here.
func TestWhatMayStandInASet(t *testing.T) {
	g := gateway.Start(t)
	alone := []string{"sign-in", "sign-out", "make-first-administrator", "make-changes", "preview", "as-if", "try-notice", "look-for-largest", "begin-survey", "cancel-job", "read-roster", "change-own-password",
		"begin-own-codes", "confirm-own-codes", "remove-own-codes", "end-sign-in", "add-token", "reset-password", "plan-leave", "begin-strays", "hand-over", "make-own", "remove-holding", "try", "end-session", "close-open", "reread-settings", "set-log-level", "keep-backup", "make-backup"}
	var doc struct {
		Paths      map[string]map[string]struct{ OperationID string }
		Components struct {
			Schemas map[string]struct {
				OneOf []struct {
					Ref string `json:"$ref"`
				}
				Properties map[string]struct {
					Enum       []string
					Properties map[string]any
				}
			}
		}
	}
	require.NoError(t, json.Unmarshal(ask(t, g, "", "GET", "/openapi.json", "").body, &doc))
	described := make(map[string]bool)
	for _, one := range doc.Components.Schemas["Change"].OneOf {
		of := doc.Components.Schemas[strings.TrimPrefix(one.Ref, "#/components/schemas/")].Properties
		described[of["act"].Enum[0]+" "+of["kind"].Enum[0]] = true
	}
	for path, ops := range doc.Paths {
		for method, op := range ops {
			if method == "get" {
				continue
			}
			filled := strings.NewReplacer("{name}", "a%2Fb", "{member}", "orla", "{id}", "1", "{protocol}", "smb", "{row}", "1").Replace(strings.TrimPrefix(path, "/api/v1/"))
			c, may, err := api.AsChange(strings.ToUpper(method), filled, url.Values{}, nil)
			require.NoError(t, err)
			require.Equal(t, !slices.Contains(alone, op.OperationID), may, op.OperationID)
			if may {
				require.True(t, described[c.Act+" "+c.Kind], "%s %s", c.Act, c.Kind)
				require.Equal(t, op.OperationID, c.Act+"-"+strings.ReplaceAll(c.Kind, " ", "-"))
				delete(described, c.Act+" "+c.Kind)
			}
		}
	}
	require.Empty(t, slices.Collect(maps.Keys(described)), "each is an operation's")
}

func set(t *testing.T, changes ...string) string {
	t.Helper()
	return `{"changes":[` + strings.Join(changes, ",") + `]}`
}

// A set says which of its changes is wrong and where, and makes none of them, however many there are; and is made in its order, each change as of after those
// before.
func TestASetIsOne(t *testing.T) {
	g := gateway.Start(t)
	keeper := g.Token(t, "keeper")
	many := make([]string, 0, 10_001)
	for i := range 9_999 {
		many = append(many, fmt.Sprintf(`{"kind":"group","act":"add","with":{"name":"crew%d","gid":%d}}`, i, 100_000+i))
	}
	before := g.Changes(t)
	for name, c := range map[string]struct {
		body   string
		status int
		where  string
		says   string
	}{
		"the last of ten thousand": {set(t, append(many, `{"kind":"entry","act":"add","with":{"path":"plates","who":"nobody here","level":"read"}}`)...), 404, "body.changes[9999].with.who", "change 10000 of 10000"},
		"more than that":           {set(t, append(many, many[:2]...)...), 422, "body.changes", "10001 changes are more"},
		"none":                     {set(t), 422, "body.changes", "no change"},
		"no such kind":             {set(t, `{"kind":"castle","act":"add","with":{}}`), 422, "body.changes[0].kind", "castle"},
		"no such act":              {set(t, `{"kind":"user","act":"add","with":{"name":"lunt"}}`, `{"kind":"user","act":"adopt"}`), 422, "body.changes[1].kind", "change 2 of 2"},
		"a field too many":         {set(t, `{"kind":"user","act":"add","with":{"name":"lunt","castle":1}}`), 422, "body.changes[0].with.castle", "not as it should be"},
		"one too few":              {set(t, `{"kind":"entry","act":"remove","of":{"id":7}}`), 422, "body.changes[0].of", "not as it should be"},
		"of another type":          {set(t, `{"kind":"entry","act":"remove","of":{"id":"seven","path":"plates"}}`), 422, "body.changes[0].of.id", "not as it should be"},
		"a path and a body":        {`{"changes":[{"method":"DELETE","path":"users/wren"}]}`, 422, "", "not as it should be"},
		"not JSON":                 {`{"changes":`, 422, "", ""},
		"a name that cannot be":    {set(t, `{"kind":"user","act":"add","with":{"name":"a b"}}`), 422, "body.changes[0].with.name", "letters"},
		"twice the same":           {set(t, `{"kind":"user","act":"add","with":{"name":"lunt"}}`, `{"kind":"user","act":"add","with":{"name":"LUNT"}}`), 409, "body.changes[1].with.name", "there is a user LUNT already"},
		"too many entries":         {set(t, slices.Repeat([]string{`{"kind":"entry","act":"add","with":{"path":"plates","who":"wren","level":"read"}}`}, 1001)...), 409, "body.changes[996].with.path", "as many as a list holds"},
		"a row to come":            {`{"asOf":99999,"changes":[{"kind":"user","act":"add","with":{"name":"lunt"}}]}`, 404, "body.asOf", "no row 99999"},
	} {
		t.Run(name, func(t *testing.T) {
			policy := g.Service.Policy()
			a := ask(t, g, keeper, http.MethodPost, "/api/v1/changes", c.body)
			var p api.Problem
			_ = json.Unmarshal(a.body, &p)
			if name == "not JSON" {
				require.Contains(t, []int{400, 422}, a.status)
			} else {
				require.Equal(t, c.status, a.status, "%s", a.body)
			}
			require.Contains(t, p.Detail, c.says)
			if c.where != "" {
				require.NotEmpty(t, p.Errors, "%s", a.body)
				require.Equal(t, c.where, p.Errors[0].Location)
			}
			require.Same(t, policy, g.Service.Policy())
			require.Equal(t, before, g.Changes(t))
		})
	}
	auditor := g.Token(t, "auditor")
	require.Equal(t, http.StatusForbidden, ask(t, g, auditor, http.MethodPost, "/api/v1/changes", set(t, many[0])).status)

	body := set(t, `{"kind":"user","act":"add","with":{"name":"lunt","password":"a long enough one"}}`, `{"kind":"group","act":"add","with":{"name":"crew","members":["lunt"]}}`,
		`{"kind":"folder","act":"add","with":{"name":"charts","volume":"summit"}}`, `{"kind":"share","act":"add","with":{"folder":"charts"}}`,
		`{"kind":"entry","act":"add","with":{"path":"charts","who":"crew","level":"change"}}`, `{"kind":"limit","act":"set","with":{"kind":"user","name":"lunt","hardBytes":"5MB"}}`)
	a := ask(t, g, auditor, http.MethodPost, "/api/v1/preview", body)
	require.Equal(t, http.StatusOK, a.status, "%s", a.body)
	var said api.Effect
	require.NoError(t, json.Unmarshal(a.body, &said))
	require.Equal(t, 1, said.Gain)
	a = ask(t, g, keeper, http.MethodPost, "/api/v1/changes", body)
	require.Equal(t, http.StatusOK, a.status, "%s", a.body)
	var made api.ChangesMade
	require.NoError(t, json.Unmarshal(a.body, &made))
	require.Equal(t, 6, made.Made)
	require.Equal(t, before+1, g.Changes(t))
	share := g.Mount(t, g.DialAs(t, "lunt", "a long enough one"), "charts")
	require.NoError(t, share.WriteFile("first", []byte("plate"), 0o600), "and it is so at the wire")
	a = ask(t, g, keeper, http.MethodPost, "/api/v1/changes", fmt.Sprintf(`{"asOf":%d,"changes":[{"kind":"user","act":"remove","of":{"name":"nobody-here"}}]}`, made.Row))
	require.Equal(t, http.StatusNotFound, a.status)
	a = ask(t, g, keeper, http.MethodPost, "/api/v1/changes", fmt.Sprintf(`{"asOf":%d,"changes":[{"kind":"group","act":"add","with":{"name":"later"}}]}`, made.Row-1))
	require.Equal(t, http.StatusConflict, a.status)
	require.Contains(t, string(a.body), "make 6 changes")
	require.Equal(t, http.StatusOK, ask(t, g, keeper, http.MethodPost, "/api/v1/journal/undo", fmt.Sprintf(`{"rows":[%d]}`, made.Row)).status)
	require.Nil(t, g.Service.Policy().Directory.UserNamed("lunt"))
	require.Nil(t, g.Service.Policy().FolderNamed("charts"))
}

// What takes long is a job: it is listed, followed as it goes by whoever may look, waited for, and cancelled.
func TestJobs(t *testing.T) {
	bin := binary(t)
	p := serve(t, bin, filepath.Join(t.TempDir(), "state"), "--demo")
	a := amber{t, bin, p.url, t.TempDir()}
	_, errOut, code := a.try("keeper-at-larkfell", "sign-in", "keeper")
	require.Zero(t, code, errOut)
	require.Contains(t, a.run("job", "list"), "no job goes on")
	require.Contains(t, a.run("owner", "set", "visitors", "--owner", "bettany", "--below"), "files and directories given")
	var jobs []api.Job
	require.NoError(t, json.Unmarshal([]byte(a.run("job", "list", "--json")), &jobs))
	require.Len(t, jobs, 1)
	j := jobs[0]
	require.Equal(t, "owner", j.Kind)
	require.True(t, j.Over)
	require.Empty(t, j.Error)
	require.Positive(t, j.Done)
	require.Positive(t, j.Rate)
	number := fmt.Sprint(j.ID)
	require.Contains(t, a.run("job", "list"), "done")
	require.Contains(t, a.run("job", "show", number), "with all below: visitors")
	require.Contains(t, a.run("job", "wait", number), "done")
	require.Contains(t, a.run("job", "cancel", number), "has ended")
	for _, args := range [][]string{{"job", "show", "4711"}, {"job", "wait", "4711"}, {"job", "cancel", "4711"}} {
		_, errOut, code := a.try("", args...)
		require.Equal(t, 1, code)
		require.Contains(t, errOut, "there is no job 4711")
	}
	_, errOut, code = a.try("", "job", "show", "first")
	require.Equal(t, 2, code, errOut)

	g := gateway.Start(t)
	auditor := g.Token(t, "auditor")
	var w api.Job
	require.NoError(t, json.Unmarshal(ask(t, g, g.Token(t, "keeper"), http.MethodPut, "/api/v1/owner", `{"path":"visitors","owner":"bettany","below":true}`).body, &w))
	require.Equal(t, http.StatusUnauthorized, ask(t, g, "", http.MethodGet, fmt.Sprintf("/api/v1/jobs/%d/progress", w.ID), "").status)
	told := string(ask(t, g, auditor, http.MethodGet, fmt.Sprintf("/api/v1/jobs/%d/progress", w.ID), "").body)
	require.Contains(t, told, "event: progress\n")
	last := told[strings.LastIndex(told, "data: ")+6:]
	require.NoError(t, json.Unmarshal([]byte(strings.TrimSpace(last)), &w), told)
	require.True(t, w.Over)
	require.Equal(t, http.StatusForbidden, ask(t, g, auditor, http.MethodDelete, fmt.Sprintf("/api/v1/jobs/%d", w.ID), "").status)
}

// Several are removed as one change, or none of them; and come back as one. A preview removes nothing.
func TestSeveralAreRemovedAsOne(t *testing.T) {
	bin := binary(t)
	p := serve(t, bin, filepath.Join(t.TempDir(), "state"), "--demo")
	a := amber{t, bin, p.url, t.TempDir()}
	_, errOut, code := a.try("keeper-at-larkfell", "sign-in", "keeper")
	require.Zero(t, code, errOut)
	a.run("group", "add", "autumn-crew")
	a.run("group", "add", "winter-crew")
	_, errOut, code = a.try("", "group", "remove", "autumn-crew", "staff", "--yes")
	require.Equal(t, 1, code)
	require.Contains(t, errOut, "change 2 of 2: staff is still named by")
	require.Contains(t, a.run("group", "list"), "autumn-crew", "none of them")
	a.run("group", "remove", "autumn-crew", "winter-crew", "--preview")
	require.Contains(t, a.run("group", "list"), "winter-crew")
	require.Contains(t, a.run("group", "remove", "autumn-crew", "winter-crew", "--yes"), "removed group autumn-crew, winter-crew")
	require.NotContains(t, a.run("group", "list"), "-crew")
	require.Contains(t, a.run("undo", "--yes"), "make 2 changes")
	require.Contains(t, a.run("group", "list"), "autumn-crew")
	require.Contains(t, a.run("group", "list"), "winter-crew")

	file := filepath.Join(t.TempDir(), "commands")
	require.NoError(t, os.WriteFile(file, []byte("# both\n\ngroup add spring-crew\nentry add plates allow 'spring-crew' read --note \"it's theirs\"\n"), 0o600))
	require.Contains(t, a.run("together", "--file", file, "--yes"), "2 changes")
	for name, text := range map[string]string{"a quote": "group add 'x", "changes nothing": "group list", "no command": "grop add x", "too long": strings.Repeat("x", 70_000)} {
		require.NoError(t, os.WriteFile(file, []byte("group add never\n"+text+"\n"), 0o600))
		_, errOut, code := a.try("", "together", "--file", file, "--yes")
		require.Equal(t, 2, code, "%s: %s", name, errOut)
	}
	_, errOut, code = a.try("", "together", "--file", filepath.Join(t.TempDir(), "nothing"), "--yes")
	require.Equal(t, 2, code, errOut)
	require.NotContains(t, a.run("group", "list"), "never")
}

// Those with a label are changed, and removed, as one change that says before whom it concerns; who is named is not looked for.
func TestThoseWithALabelAreChangedAsOne(t *testing.T) {
	bin := binary(t)
	p := serve(t, bin, filepath.Join(t.TempDir(), "state"), "--demo")
	a := amber{t, bin, p.url, t.TempDir()}
	_, errOut, code := a.try("keeper-at-larkfell", "sign-in", "keeper")
	require.Zero(t, code, errOut)
	a.run("user", "import", "../demo/people/visiting-spring.csv", "--yes")
	ending := func(text string) int { return strings.Count(a.run("user", "list", "--label", "cohort"), text) }
	require.Equal(t, 40, ending("until 31 May 2031"))
	for args, says := range map[string]string{
		"user set --label cohort=spring --ends 2030-01-31":            "40 users, ada.arlet, ada.brock, bram.harrow and 37 more. Nothing was done",
		"user set orla --label cohort=spring --ends 2030-01-31":       "not both",
		"user remove orla --label cohort=spring --yes":                "not both",
		"user set --ends 2030-01-31 --yes":                            "by --label KEY=VALUE",
		"user remove --yes":                                           "by --label KEY=VALUE",
		"user set --label cohort=autumn --ends 2030-01-31 --yes":      "no user is marked so",
		"folder remove --label cohort=spring --yes":                   "no folder is marked so",
		"user set --label cohort=spring --uid 5000 --yes":             "one user at a time",
		"user set --label cohort=spring --primary nobodys --yes":      "nobodys",
		"user set --label cohort=spring --mark cohort --yes":          "KEY=VALUE",
		"user set --label cohort=spring --label role --smb off --yes": "no user is marked so",
	} {
		_, errOut, code := a.try("", strings.Fields(args)...)
		require.NotZero(t, code, args)
		require.Contains(t, errOut, says, args)
	}
	_, errOut, code = a.try("", "user", "set", "--label", "cohort=spring", "--disable", "--preview")
	require.Zero(t, code, errOut)
	require.Contains(t, errOut, "would change 40 users")
	require.Equal(t, 40, ending("until 31 May 2031"), "nothing was done so far")
	require.Equal(t, 40, strings.Count(a.run("user", "set", "--label", "cohort=spring", "--ends", "2030-01-31", "--yes"), "until 31 Jan 2030"))
	a.run("undo", "--yes")
	require.Equal(t, 40, ending("until 31 May 2031"))
	a.run("user", "remove", "--label", "cohort=spring", "--yes")
	require.Contains(t, a.run("user", "list", "--label", "cohort"), "no users of which that is so")
	a.run("undo", "--yes")
	require.Equal(t, 40, ending("until 31 May 2031"))
	for _, kind := range []string{"group", "volume", "folder", "share", "export"} {
		before := a.run(kind, "list")
		_, errOut, code = a.try("", kind, "set", "--label", "kept=no", "--mark", "kept=yes", "--yes")
		require.NotZero(t, code, kind)
		require.Contains(t, errOut, "no "+kind+" is marked so")
		require.Equal(t, before, a.run(kind, "list"))
	}
	require.Contains(t, a.run("volume", "set", "summit", "--mark", "kept=no"), "kept=no")
	require.Contains(t, a.run("volume", "set", "--label", "kept=no", "--mark", "kept=yes", "--yes"), "kept=yes")
}
