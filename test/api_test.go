package test

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/demo"
	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/test/gateway"
	"amber.example/gatekeeper/test/need"
)

type answer struct {
	status  int
	header  http.Header
	body    []byte
	problem api.Problem
}

func ask(t testing.TB, g *gateway.Gateway, token, method, path, body string, headers ...string) answer {
	t.Helper()
	req, err := http.NewRequest(method, g.URL+path, strings.NewReader(body))
	require.NoError(t, err)
	if body != "" {
		req.Header.Set("Content-Type", "application/json")
	}
	if token != "" {
		req.Header.Set("Authorization", "Bearer "+token)
	}
	for i := 0; i < len(headers); i += 2 {
		req.Header.Set(headers[i], headers[i+1])
	}
	resp, err := gateway.Client.Do(req)
	require.NoError(t, err)
	defer resp.Body.Close()
	a := answer{status: resp.StatusCode, header: resp.Header}
	a.body, err = io.ReadAll(resp.Body)
	require.NoError(t, err)
	if resp.StatusCode >= 400 {
		require.Equal(t, "application/problem+json", resp.Header.Get("Content-Type"), "%s %s: %s", method, path, a.body)
		require.NoError(t, json.Unmarshal(a.body, &a.problem))
		require.Equal(t, resp.StatusCode, a.problem.Status)
		require.NotEmpty(t, a.problem.Detail)
	}
	return a
}

func TestBadInputNamesTheField(t *testing.T) {
	g := gateway.Start(t)
	keeper := g.Token(t, "keeper")
	for _, c := range []struct {
		method, path, body string
		status             int
		field              string
	}{
		{"POST", "/api/v1/users", `{"name":"lunt","colour":"blue"}`, 422, "body.colour"},
		{"POST", "/api/v1/users", `{"name":"lunt","uid":"many"}`, 422, "body.uid"},
		{"POST", "/api/v1/users", `{"name":"lunt","uid":2001}`, 409, "body.uid"},
		{"POST", "/api/v1/users", `{}`, 422, "body"},
		{"POST", "/api/v1/entries", `{"path":"nightlog","who":"orla","level":"write"}`, 422, "body.level"},
		{"POST", "/api/v1/entries", `{"path":"../etc","who":"orla","level":"read"}`, 422, "body.path"},
		{"POST", "/api/v1/entries", `{"path":"nightlog","who":"orla","level":"read","applies":["everything"]}`, 422, "body.applies[0]"},
		{"GET", "/api/v1/why?user=orla", "", 422, "query.path"},
		{"GET", "/api/v1/why?user=orla&path=nightlog&wnat=read", "", 422, "query.wnat"},
		{"GET", "/api/v1/why?user=orla&path=nightlog%00x", "", 422, "query.path"},
		{"PUT", "/api/v1/mode", `{"path":"scratch","mode":"0998"}`, 422, "body.mode"},
		{"POST", "/api/v1/ids/check", `{}`, 422, "body.passwd"},
		{"POST", "/api/v1/ids/check", `{"passwd":"root:x:0"}`, 422, "body.passwd"},
		{"POST", "/api/v1/ids/check", `{"group":"users:x:-1:\n"}`, 422, "body.group"},
		{"PATCH", "/api/v1/groups/observers", `{"gid":3002}`, 409, "body.gid"},
		{"GET", "/api/v1/folders/nightlog/connect?host=a%20b", "", 422, "query.host"},
		{"DELETE", "/api/v1/entries/one?path=nightlog", "", 422, "path.id"},
	} {
		a := ask(t, g, keeper, c.method, c.path, c.body)
		require.Equal(t, c.status, a.status, "%s %s: %s", c.path, c.body, a.body)
		require.NotEmpty(t, a.problem.Errors, string(a.body))
		require.Equal(t, c.field, a.problem.Errors[0].Location, string(a.body))
	}
	require.Equal(t, 400, ask(t, g, keeper, "POST", "/api/v1/users", `{"name":`).status)
	require.Equal(t, 404, ask(t, g, keeper, "GET", "/api/v1/nothing", "").status)
	require.Equal(t, 405, ask(t, g, keeper, "PUT", "/api/v1/users", "").status)
	require.Equal(t, 413, ask(t, g, keeper, "POST", "/api/v1/users", `{"name":"`+strings.Repeat("x", 2<<20)+`"}`).status)
	// A password that does not fit is not sent back.
	a := ask(t, g, keeper, "POST", "/api/v1/users", `{"name":"lunt","password":"`+strings.Repeat("secret", 60)+`"}`)
	require.Equal(t, 422, a.status)
	require.NotContains(t, string(a.body), "secretsecret")
}

func TestSignInOverHTTP(t *testing.T) {
	g := gateway.Start(t)
	good := `{"user":"keeper","password":"keeper` + demo.PasswordSuffix + `"}`
	a := ask(t, g, "", "POST", "/api/v1/sign-in", good)
	require.Equal(t, 200, a.status)
	cookie := a.header.Get("Set-Cookie")
	for _, attr := range []string{"HttpOnly", "SameSite=Strict", "Path=/"} {
		require.Contains(t, cookie, attr)
	}
	value, _, _ := strings.Cut(cookie, ";")
	require.Equal(t, 200, ask(t, g, "", "GET", "/api/v1/me", "", "Cookie", value).status)
	// Another site cannot ride on the cookie.
	a = ask(t, g, "", "PUT", "/api/v1/services/smb", `{"on":false}`, "Cookie", value, "Sec-Fetch-Site", "cross-site")
	require.Equal(t, 403, a.status)
	require.True(t, g.Service.Policy().Services.SMB)
	require.Equal(t, 204, ask(t, g, "", "POST", "/api/v1/sign-out", "", "Cookie", value).status)
	require.Equal(t, 401, ask(t, g, "", "GET", "/api/v1/me", "", "Cookie", value).status)

	for range 5 {
		require.Equal(t, 401, ask(t, g, "", "POST", "/api/v1/sign-in", `{"user":"auditor","password":"wrong"}`).status)
	}
	a = ask(t, g, "", "POST", "/api/v1/sign-in", `{"user":"auditor","password":"auditor`+demo.PasswordSuffix+`"}`)
	require.Equal(t, 429, a.status)
	require.NotEmpty(t, a.header.Get("Retry-After"))
}

// Whoever knows a password changes it, whatever their role, and nobody else does; the new one holds for every way in at once, the old one for none.
func TestOwnPassword(t *testing.T) {
	g := gateway.Start(t)
	change := func(user, old, password string) answer {
		body, err := json.Marshal(map[string]string{"user": user, "old": old, "password": password})
		require.NoError(t, err)
		return ask(t, g, "", "POST", "/api/v1/own-password", string(body))
	}
	was := func(user string) string { return user + demo.PasswordSuffix }
	const is = "a-walk-on-the-fell"
	keeper, rows := g.Token(t, "keeper"), g.Changes(t)
	for _, c := range []struct {
		user, old, password string
		status              int
		says                string
	}{
		{"wren", "wrong", is, 401, "user name or password is wrong"},
		{"nobody-here", was("nobody-here"), is, 401, "user name or password is wrong"},
		{"corin", was("corin"), is, 401, "user name or password is wrong"}, // disabled
		{"wren", was("wren"), was("wren"), 422, "as it was"},
		{"wren", was("wren"), "short", 422, "8 characters"},
		{"wren", was("wren"), "Summer2026", 422, "guessed first"},
		{"wren", was("wren"), "wren2026", 422, "the name"},
		{"wren", was("wren"), strings.Repeat("ab1", 200), 422, "256"},
		{"", "", "", 422, "body.user"},
	} {
		a := change(c.user, c.old, c.password)
		require.Equal(t, c.status, a.status, "%v: %s", c, a.body)
		require.Contains(t, string(a.body), c.says, "%v", c)
	}
	require.Equal(t, rows, g.Changes(t))
	g.DialAs(t, "wren", was("wren"))

	require.Equal(t, 204, change("WREN", was("wren"), is).status, "names are the same whatever their case")
	g.DialAs(t, "wren", is)
	_, err := g.TryDial("wren", was("wren"), 0)
	require.Error(t, err)
	require.Equal(t, 401, change("wren", was("wren"), "another-walk-up").status)
	var row []struct{ Actor, Action, Subject string }
	require.NoError(t, json.Unmarshal(ask(t, g, keeper, "GET", "/api/v1/journal?limit=1", "").body, &row))
	require.Equal(t, []struct{ Actor, Action, Subject string }{{"wren", "set password", "wren"}}, row)
	require.NotContains(t, string(ask(t, g, keeper, "GET", "/api/v1/journal", "").body), is)

	// Sessions end with the password that they were begun with, and others' do not.
	auditor := g.Token(t, "auditor")
	require.Equal(t, 204, change("auditor", was("auditor"), is).status)
	require.Equal(t, 401, ask(t, g, auditor, "GET", "/api/v1/me", "").status)
	require.Equal(t, 200, ask(t, g, keeper, "GET", "/api/v1/me", "").status)

	// It is no way to guess faster than by signing in: both count for one.
	g = gateway.Start(t)
	for range 3 {
		require.Equal(t, 401, change("piran", "wrong", is).status)
	}
	for range 2 {
		require.Equal(t, 401, ask(t, g, "", "POST", "/api/v1/sign-in", `{"user":"piran","password":"wrong"}`).status)
	}
	a := change("piran", was("piran"), is)
	require.Equal(t, 429, a.status)
	require.NotEmpty(t, a.header.Get("Retry-After"))
}

func TestHeadersOfThePages(t *testing.T) {
	g := gateway.Start(t)
	resp, err := gateway.Client.Get(g.URL + "/folders")
	require.NoError(t, err)
	defer resp.Body.Close()
	page, err := io.ReadAll(resp.Body)
	require.NoError(t, err)
	if resp.StatusCode == 404 && bytes.Contains(page, []byte("make build")) {
		need.Missing(t, "the console is not built: make build")
	}
	require.Contains(t, string(page), "<title>Amber Gatekeeper</title>")
	require.Contains(t, resp.Header.Get("Content-Security-Policy"), "frame-ancestors 'none'")
	require.Equal(t, "nosniff", resp.Header.Get("X-Content-Type-Options"))
}
