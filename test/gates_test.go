package test

import (
	"encoding/json"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/test/gateway"
)

// console is another console of a gateway, started with names and proxies.
func console(t *testing.T, g *gateway.Gateway, names []string, proxies ...string) *httptest.Server {
	t.Helper()
	c := api.Config{Service: g.Service, Version: "test", Names: names}
	for _, p := range proxies {
		c.Proxies = append(c.Proxies, netip.MustParsePrefix(p))
	}
	s := httptest.NewServer(api.New(c))
	t.Cleanup(s.Close)
	return s
}

// A page whose own name is made to lead here is not the console: the gateway answers to loopback names, to the address
// at which it is reached and to names given at the start.
func TestTheConsoleAnswersToItsOwnNames(t *testing.T) {
	g := gateway.Start(t)
	s := console(t, g, []string{"Gate.larkfell.example"})
	get := func(host string, path string) *http.Response {
		req, err := http.NewRequest(http.MethodGet, s.URL+path, nil)
		require.NoError(t, err)
		req.Host = host
		resp, err := gateway.Client.Do(req)
		require.NoError(t, err)
		resp.Body.Close()
		return resp
	}
	for host, want := range map[string]int{
		"127.0.0.1": 200, "127.0.0.1:8460": 200, "localhost": 200, "LOCALHOST:9": 200, "[::1]:8460": 200, "127.9.9.9": 200, "console.localhost": 200, "gate.larkfell.example:443": 200, "gate.larkfell.example.": 200,
		"evil.example": 421, "localhost.evil.example": 421, "127.0.0.1.evil.example": 421, "192.0.2.1": 421, "xlocalhost": 421, "gate.larkfell.example.evil": 421, "0.0.0.0": 421, "[::]": 421, "2130706433": 421,
	} {
		require.Equal(t, want, get(host, "/api/v1/health").StatusCode, host)
		if want == 421 {
			require.Equal(t, want, get(host, "/").StatusCode, "nor the pages")
			require.Equal(t, want, get(host, "/openapi.json").StatusCode)
		}
	}
}

// What is said of a request before it came here is believed of the proxies that are trusted and of nobody else: for the
// name, the scheme and the address that is slowed down.
func TestProxiesAreBelievedIfTrusted(t *testing.T) {
	g := gateway.Start(t)
	signIn := func(s *httptest.Server, password string, headers ...string) *http.Response {
		req, err := http.NewRequest(http.MethodPost, s.URL+"/api/v1/sign-in", strings.NewReader(`{"user":"keeper","password":"`+password+`"}`))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/json")
		for i := 0; i < len(headers); i += 2 {
			req.Header.Add(headers[i], headers[i+1])
		}
		resp, err := gateway.Client.Do(req)
		require.NoError(t, err)
		resp.Body.Close()
		return resp
	}
	secure := func(resp *http.Response) bool {
		require.Equal(t, 200, resp.StatusCode)
		return strings.Contains(resp.Header.Get("Set-Cookie"), "; Secure")
	}
	const right = "keeper-at-larkfell"
	plain, behind := console(t, g, nil), console(t, g, []string{"gate.larkfell.example"}, "127.0.0.0/8", "192.0.2.0/24")
	require.False(t, secure(signIn(plain, right)))
	require.False(t, secure(signIn(plain, right, "X-Forwarded-Proto", "https", "Forwarded", "proto=https")), "anybody can say so")
	require.False(t, secure(signIn(behind, right)))
	require.True(t, secure(signIn(behind, right, "X-Forwarded-Proto", "https", "X-Forwarded-Host", "gate.larkfell.example")))
	require.True(t, secure(signIn(behind, right, "Forwarded", `for="[2001:db8::7]:4711";proto=https;host=gate.larkfell.example`)))
	require.Equal(t, 421, signIn(behind, right, "X-Forwarded-Host", "evil.example").StatusCode)
	require.Equal(t, 400, signIn(behind, right, "X-Forwarded-For", "198.51.100.7", "Forwarded", "for=203.0.113.9").StatusCode, "one of the two the client wrote")
	require.Equal(t, 200, signIn(behind, right, "X-Forwarded-For", "198.51.100.7", "Forwarded", "for=198.51.100.7").StatusCode)
	require.Equal(t, 200, signIn(plain, right, "X-Forwarded-Host", "evil.example").StatusCode, "it is not looked at")

	// Guesses from one address do not slow another that comes by the same proxy; and what a client says of itself is not
	// believed: the last address before the trusted ones counts.
	for range 12 {
		signIn(behind, "wrong", "X-Forwarded-For", "198.51.100.66")
	}
	limited := func(resp *http.Response) bool { return resp.StatusCode == 429 }
	require.True(t, limited(signIn(behind, "wrong", "X-Forwarded-For", "203.0.113.5, 198.51.100.66")), "a made-up address before one's own")
	require.True(t, limited(signIn(behind, "wrong", "X-Forwarded-For", "198.51.100.66, 192.0.2.7")), "through two proxies")
	name := func(s *httptest.Server, from string) int {
		req, err := http.NewRequest(http.MethodPost, s.URL+"/api/v1/sign-in", strings.NewReader(`{"user":"auditor","password":"auditor-at-larkfell"}`))
		require.NoError(t, err)
		req.Header.Set("Content-Type", "application/json")
		req.Header.Set("X-Forwarded-For", from)
		resp, err := gateway.Client.Do(req)
		require.NoError(t, err)
		resp.Body.Close()
		return resp.StatusCode
	}
	require.Equal(t, 429, name(behind, "198.51.100.66"))
	require.Equal(t, 200, name(behind, "198.51.100.67"))
}

// Text that does something to where it is shown is refused where administrators type it.
func TestTextThatDoesNotShowItselfIsRefused(t *testing.T) {
	g := gateway.Start(t)
	keeper := g.Token(t, "keeper")
	for _, bad := range []string{`a\u001b[31mb`, `a\nb`, `a\u202eb`, `a\u0000b`, `a\u009bb`, `a\u2028b`} {
		for path, body := range map[string]string{
			"POST /users":             `{"name":"newbie","fullName":"%","password":"a long password"}`,
			"POST /groups":            `{"name":"newgroup","description":"%"}`,
			"PATCH /folders/nightlog": `{"description":"%"}`,
			"POST /entries":           `{"path":"nightlog","who":"orla","level":"read","note":"%"}`,
			"POST /volumes":           `{"name":"more","path":"/srv/%"}`,
			"POST /folders":           `{"name":"more","volume":"summit","path":"m%"}`,
		} {
			method, route, _ := strings.Cut(path, " ")
			got := ask(t, g, keeper, method, "/api/v1"+route, strings.ReplaceAll(body, "%", bad))
			require.Equal(t, 422, got.status, "%s %s: %s", path, bad, got.body)
			for _, r := range string(got.body) {
				require.False(t, r < 0x20 && r != '\n' || r == 0x202e || r == 0x9b, "the answer does not repeat it: %q", got.body)
			}
		}
	}
}

// What storage users call their files does nothing to the terminal of who reads about it.
func TestNamesDoNothingToTheTerminal(t *testing.T) {
	g := gateway.Start(t)
	const name = "x\n  9999  keeper   removed user wren\x1b[2J\u202etxt.exe"
	f := g.Service.Policy().FolderNamed("nightlog")
	require.NoError(t, os.WriteFile(filepath.Join(f.Root, name), nil, 0o660))
	g.Service.Saw(files.AccessEvent{Kind: files.Refused, User: 1, From: "192.0.2.9", Path: "nightlog/" + name})
	a := amber{t, binary(t), g.URL, t.TempDir()}
	_, errOut, code := a.try("keeper-at-larkfell", "sign-in", "keeper")
	require.Zero(t, code, errOut)
	printed := func(args ...string) string {
		t.Helper()
		out, errOut, _ := a.try("", args...)
		for _, r := range out + errOut {
			require.False(t, r < 0x20 && r != '\n' || r == 0x202e || r >= 0x7f && r < 0xa0, "%v prints %U: %q", args, r, out)
		}
		for line := range strings.Lines(out + errOut) {
			require.NotRegexp(t, `^\s*9999`, line, "a line that nobody wrote")
		}
		return out + errOut
	}
	require.Eventually(t, func() bool { return strings.Contains(printed("events", "--only", "refused"), `x\x0a`) }, time.Minute, 50*time.Millisecond)
	require.Contains(t, printed("why", "piran", "nightlog/"+name), `x\x0a`)
	printed("why", "nobody"+name, "nightlog")
	printed("user", "show", name)
	raw := printed("why", "piran", "nightlog/"+name, "--json")
	var why api.Why
	require.NoError(t, json.Unmarshal([]byte(raw), &why))
	require.Equal(t, "nightlog/"+plain.Spell(name), why.Path, "in JSON it is whole, and spelled")
	require.True(t, why.Exists)
}
