package test

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"fmt"
	"io"
	"math/big"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/certs"
	"amber.example/gatekeeper/test/gateway"
)

// certified writes a certificate for loopback, signed by itself, with its key.
func certified(t *testing.T, certificate, key string) {
	t.Helper()
	c, k, err := certs.SignItself(time.Now(), []string{"gateway.larkfell.example"})
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(key, k, 0o600))
	require.NoError(t, os.WriteFile(certificate, c, 0o600))
}

// ofClient writes a certificate for a client, signed by itself, with its key.
func ofClient(t *testing.T, certificate, key string) {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	form := x509.Certificate{SerialNumber: big.NewInt(1), NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour), IsCA: true, BasicConstraintsValid: true,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageClientAuth}}
	der, err := x509.CreateCertificate(rand.Reader, &form, &form, &private.PublicKey, private)
	require.NoError(t, err)
	raw, err := x509.MarshalPKCS8PrivateKey(private)
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(certificate, pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: der}), 0o600))
	require.NoError(t, os.WriteFile(key, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: raw}), 0o600))
}

// fingerprint is that of the certificate that is shown at an address.
func fingerprint(t testing.TB, url string) string {
	t.Helper()
	c, err := tls.Dial("tcp", strings.TrimPrefix(strings.TrimPrefix(url, "http://"), "https://"), &tls.Config{InsecureSkipVerify: true})
	require.NoError(t, err)
	defer c.Close()
	return certs.Fingerprint(c.ConnectionState().PeerCertificates[0].Raw)
}

// Settings come from a file, and what can be is taken up from it while the service runs; what is wrong in it is told with its line, and nothing changes.
func TestSettingsOfARunningService(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "amber.yaml")
	certified(t, filepath.Join(dir, "c.pem"), filepath.Join(dir, "k.pem"))
	write := func(text string) { require.NoError(t, os.WriteFile(file, []byte(text), 0o600)) }
	const base = "tls-certificate: c.pem\ntls-key: k.pem\nkeep: 30d\n"
	write(base)
	bin := binary(t)
	p := serve(t, bin, filepath.Join(dir, "state"), "--demo", "--config", file)
	a := amber{t, bin, p.url, t.TempDir()}
	_, errOut, code := a.try("keeper-at-larkfell", "sign-in", "keeper")
	require.Zero(t, code, errOut)
	require.Regexp(t, `keep +30d +.*amber\.yaml line 3`, a.run("config", "show"))
	require.Regexp(t, `smb +127\.0\.0\.1:0 +--smb`, a.run("config", "show"))
	first := fingerprint(t, p.url)

	// By the signal: the level and the certificate.
	certified(t, filepath.Join(dir, "c.pem"), filepath.Join(dir, "k.pem"))
	write(base + "log-level: debug\n")
	require.NoError(t, p.cmd.Process.Signal(syscall.SIGHUP))
	require.Eventually(t, func() bool { return strings.Contains(p.said(), "the settings have been read again") }, 10*time.Second, 20*time.Millisecond)
	require.NotEqual(t, first, fingerprint(t, p.url))
	require.Regexp(t, `log-level +debug`, a.run("config", "show"))
	require.Contains(t, p.said(), "msg=answered", "what is at level debug is logged now")

	// By a command, which names what waits; and what is wrong is refused with its line.
	write(strings.Replace(base, "30d", "40d", 1))
	require.Contains(t, a.run("config", "reread"), "after the next start, since they say something else now: keep")
	require.Regexp(t, `keep +30d`, a.run("config", "show"))
	require.Regexp(t, `log-level +info`, a.run("config", "show"))
	write(base + "lease: soon\n")
	_, errOut, code = a.try("", "config", "reread")
	require.Equal(t, 1, code)
	require.Contains(t, errOut, "amber.yaml line 4: lease:")
	require.NoError(t, os.Remove(filepath.Join(dir, "k.pem")))
	write(base)
	_, errOut, code = a.try("", "config", "reread")
	require.Equal(t, 1, code)
	require.Contains(t, errOut, "k.pem: it cannot be read: there is none")
	require.Contains(t, a.run("config", "log-level", "warn"), "logged from warn on")
	require.Regexp(t, `log-level +warn +what was asked for`, a.run("config", "show"))
	out, _, _ := a.try("", "status")
	require.Regexp(t, `certificate +to mind +what its files hold now cannot be used`, out)
	out, _, _ = a.try("", "certificate", "show", "--json")
	require.Contains(t, out, "k.pem: it cannot be read: there is none")

	// Only an administrator may; what was done is in the journal.
	b := amber{t, bin, p.url, t.TempDir()}
	_, errOut, code = b.try("auditor-at-larkfell", "sign-in", "auditor")
	require.Zero(t, code, errOut)
	require.Contains(t, b.run("config", "show"), "log-level")
	for _, args := range [][]string{{"config", "reread"}, {"config", "log-level", "debug"}, {"backup"}, {"backup", filepath.Join(dir, "x")}} {
		_, errOut, code = b.try("", args...)
		require.Equal(t, 1, code, args)
		require.Contains(t, errOut, "takes an administrator")
	}
	require.Regexp(t, `keeper +set log level +warn`, a.run("journal", "list"))

	check := exec.Command(bin, "serve", "--check", "--config", file)
	raw, err := check.CombinedOutput()
	require.Error(t, err)
	require.Contains(t, string(raw), "amber.yaml line 2: tls-key:")
	require.Equal(t, 2, check.ProcessState.ExitCode())
	write("keep: 30d\nsmbb: 1\n")
	raw, err = exec.Command(bin, "serve", "--config", file).CombinedOutput()
	require.Error(t, err)
	require.Contains(t, string(raw), `amber.yaml line 2: there is no setting "smbb"; there is smb`)
}

// The command line takes a certificate that nobody signed for once its fingerprint was given, and no other afterwards.
func TestACertificateIsTakenOnce(t *testing.T) {
	bin, dir := binary(t), t.TempDir()
	p := serve(t, bin, filepath.Join(dir, "state"), "--demo")
	url := strings.Replace(p.url, "http://", "https://", 1)
	a := amber{t, bin, url, t.TempDir()}
	is := fingerprint(t, url)
	require.Contains(t, strings.Join(strings.Fields(p.said()), ""), strings.ReplaceAll(is, " ", "")[:47], "it is printed at the start")
	_, errOut, code := a.try("keeper-at-larkfell", "sign-in", "keeper")
	require.Equal(t, 3, code)
	require.Contains(t, errOut, is)
	require.Contains(t, errOut, "certificate trust")
	_, errOut, code = a.try("", "certificate", "trust", strings.Repeat("00:", 31)+"00")
	require.Equal(t, 1, code)
	require.Contains(t, errOut, "another certificate")
	a.run("certificate", "trust", is)
	_, errOut, code = a.try("keeper-at-larkfell", "sign-in", "keeper")
	require.Zero(t, code, errOut)
	require.Contains(t, a.run("certificate", "show"), is[:47])

	// Another service at the same address is not it.
	p.stop(t)
	require.NoError(t, os.Remove(filepath.Join(dir, "state", certs.OwnFile)))
	at := strings.TrimPrefix(p.url, "http://")
	q := serve(t, bin, filepath.Join(dir, "state"), "--demo", "--console", at)
	require.Equal(t, p.url, q.url)
	_, errOut, code = a.try("", "status")
	require.Equal(t, 3, code)
	require.Contains(t, errOut, "shows another certificate than the one that was known")
	a.run("certificate", "forget")
	_, errOut, code = a.try("", "status", "--fingerprint", fingerprint(t, url))
	require.NotEqual(t, 3, code, errOut)
}

// stop ends a service as the service manager does, and waits for it.
func (p *process) stop(t testing.TB) time.Duration {
	t.Helper()
	begun := time.Now()
	require.NoError(t, p.cmd.Process.Signal(syscall.SIGTERM))
	_ = p.cmd.Wait()
	require.True(t, p.cmd.ProcessState.Exited(), p.said())
	require.Zero(t, p.cmd.ProcessState.ExitCode(), p.said())
	return time.Since(begun)
}

// Other machines are answered by TLS alone: browsers are led there, and nobody's token is taken from the open. Proxies that are trusted say how who asks came.
func TestOtherMachinesByTLSAlone(t *testing.T) {
	g := gateway.Start(t)
	token := g.Token(t, "keeper")
	ask := func(from, path string, with func(*http.Request)) *httptest.ResponseRecorder {
		r := httptest.NewRequest("GET", "http://127.0.0.1"+path, nil)
		r.RemoteAddr = from + ":40000"
		r.Header.Set("Authorization", "Bearer "+token)
		if with != nil {
			with(r)
		}
		w := httptest.NewRecorder()
		g.Handler.ServeHTTP(w, r)
		return w
	}
	require.Equal(t, http.StatusOK, ask("127.0.0.1", "/api/v1/me", nil).Code)
	require.Equal(t, http.StatusOK, ask("[::1]", "/api/v1/me", nil).Code)
	require.Equal(t, http.StatusForbidden, ask("192.0.2.7", "/api/v1/me", nil).Code)
	require.Equal(t, http.StatusForbidden, ask("192.0.2.7", "/metrics", nil).Code)
	led := ask("192.0.2.7", "/folders?x=1", nil)
	require.Equal(t, http.StatusPermanentRedirect, led.Code)
	require.Equal(t, "https://127.0.0.1/folders?x=1", led.Header().Get("Location"))
	require.Equal(t, http.StatusForbidden, ask("192.0.2.7", "/", func(r *http.Request) { r.Method = "POST" }).Code)
	over := ask("192.0.2.7", "/api/v1/me", func(r *http.Request) { r.TLS = &tls.ConnectionState{} })
	require.Equal(t, http.StatusOK, over.Code)
	require.Empty(t, over.Header().Get("Strict-Transport-Security"), "the name is not one that an authority signed for")
	require.Equal(t, http.StatusForbidden, ask("192.0.2.7", "/api/v1/me", func(r *http.Request) { r.Header.Set("X-Forwarded-Proto", "https") }).Code, "nobody is believed who is no trusted proxy")
}

// A token is worth nothing to who has stolen it where clients have certificates; a sign-in, which a browser makes, goes on.
func TestATokenWithoutItsCertificate(t *testing.T) {
	bin, dir := binary(t), t.TempDir()
	ofClient(t, filepath.Join(dir, "desk.pem"), filepath.Join(dir, "desk.key"))
	g := gateway.Start(t, gateway.WithClientAuthority(filepath.Join(dir, "desk.pem")))
	keeper := g.Token(t, "keeper")
	var made struct{ Text string }
	answer := ask(t, g, keeper, "POST", "/api/v1/tokens", `{"name":"night","role":"auditor","ends":"2031-01-01T00:00:00Z"}`)
	require.NoError(t, json.Unmarshal(answer.body, &made))
	require.NotEmpty(t, made.Text, "%s", answer.body)
	code := func(token string, from string, proved bool) int {
		r := httptest.NewRequest("GET", "https://127.0.0.1/api/v1/status", nil)
		r.RemoteAddr, r.TLS = from+":40000", &tls.ConnectionState{}
		if proved {
			pair, err := tls.LoadX509KeyPair(filepath.Join(dir, "desk.pem"), filepath.Join(dir, "desk.key"))
			require.NoError(t, err)
			r.TLS.VerifiedChains = append(r.TLS.VerifiedChains, nil)
			r.TLS.VerifiedChains[0] = append(r.TLS.VerifiedChains[0], pair.Leaf)
		}
		r.Header.Set("Authorization", "Bearer "+token)
		w := httptest.NewRecorder()
		g.Handler.ServeHTTP(w, r)
		return w.Code
	}
	require.Equal(t, http.StatusUnauthorized, code(made.Text, "192.0.2.7", false))
	require.Equal(t, http.StatusOK, code(made.Text, "192.0.2.7", true))
	require.Equal(t, http.StatusOK, code(made.Text, "127.0.0.1", false))
	require.Equal(t, http.StatusOK, code(keeper, "192.0.2.7", false))
	r := httptest.NewRequest("GET", "http://127.0.0.1/api/v1/status", nil) // by a proxy on this machine
	r.RemoteAddr = "127.0.0.1:40000"
	r.Header.Set("Authorization", "Bearer "+made.Text)
	r.Header.Set("X-Forwarded-For", "192.0.2.7")
	w := httptest.NewRecorder()
	g.Behind("127.0.0.1").ServeHTTP(w, r)
	require.Equal(t, http.StatusUnauthorized, w.Code, "who comes by a proxy is not on this machine")

	// On the wire, with the command line's own certificate.
	p := serve(t, bin, filepath.Join(dir, "state"), "--demo", "--tls-client-authority", filepath.Join(dir, "desk.pem"))
	url := strings.Replace(p.url, "http://", "https://", 1)
	a := amber{t, bin, url, t.TempDir()}
	a.run("certificate", "trust", fingerprint(t, url))
	_, errOut, code2 := a.try("keeper-at-larkfell", "sign-in", "keeper", "--certificate", filepath.Join(dir, "desk.pem"), "--key", filepath.Join(dir, "desk.key"))
	require.Zero(t, code2, errOut)
	require.Contains(t, a.run("certificate", "show"), "only with a certificate")
	_, errOut, code2 = a.try("", "status", "--certificate", filepath.Join(dir, "desk.pem"))
	require.Equal(t, 2, code2)
	require.Contains(t, errOut, "cannot be used")
}

// Each request has an id, which is in the error that the client sees; what a client calls it is of no moment.
func TestEachRequestHasAnID(t *testing.T) {
	g := gateway.Start(t)
	seen := make(map[string]bool)
	for _, path := range []string{"/api/v1/me", "/api/v1/users?match=%00", "/api/v1/nothing", "/api/v1/health"} {
		req, err := http.NewRequest("GET", g.URL+path, nil)
		require.NoError(t, err)
		req.Header.Set(api.RequestHeader, "moon")
		resp, err := http.DefaultClient.Do(req)
		require.NoError(t, err)
		raw, err := io.ReadAll(resp.Body)
		resp.Body.Close()
		require.NoError(t, err)
		id := resp.Header.Get(api.RequestHeader)
		require.Regexp(t, regexp.MustCompile(`^[a-z2-7]{16}$`), id)
		require.False(t, seen[id])
		seen[id] = true
		if resp.StatusCode >= 400 {
			require.Contains(t, string(raw), fmt.Sprintf(`"request":%q`, id), "%s: %s", path, raw)
		}
	}
}
