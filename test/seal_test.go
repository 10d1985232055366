package test

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/json"
	"io"
	"net"
	"os/exec"
	"sync"
	"testing"
	"time"

	"github.com/cloudsoda/go-smb2"
	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/demo"
	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/test/gateway"
	"amber.example/gatekeeper/test/need"
)

// heard keeps all that goes over a connection.
type heard struct {
	net.Conn
	mu  sync.Mutex
	all bytes.Buffer
}

func (h *heard) Read(p []byte) (int, error) {
	n, err := h.Conn.Read(p)
	h.note(p[:n])
	return n, err
}
func (h *heard) Write(p []byte) (int, error) {
	h.note(p)
	return h.Conn.Write(p)
}
func (h *heard) note(p []byte) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.all.Write(p)
}

// over signs in over a connection of the test's.
func over(t *testing.T, c net.Conn, user string, dialect uint16) *smb2.Session {
	t.Helper()
	d := smb2.Dialer{Negotiator: smb2.Negotiator{SpecifiedDialect: dialect, RequireMessageSigning: true}, Initiator: &smb2.NTLMInitiator{User: user, Password: user + demo.PasswordSuffix}}
	s, err := d.DialConn(context.Background(), c, "gateway")
	require.NoError(t, err)
	return s
}

// On a share that is encrypted nothing goes over the wire open, whatever is done on it; who cannot encrypt is refused, and who is there already and does not is
// refused from then on.
func TestAnEncryptedShare(t *testing.T) {
	g := gateway.Start(t)
	g.Unlimited(t)
	ctx := context.Background()
	early := g.Mount(t, g.Dial(t, "isolde", 0x0311), "nightlog")
	require.NoError(t, early.WriteFile("early.txt", []byte("open"), 0o666))
	_, err := g.Service.UpdateShare(ctx, gateway.Keeper, "nightlog", service.ShareChange{Encrypted: new(true)})
	require.NoError(t, err)
	_, err = early.ReadFile("early.txt")
	require.Error(t, err, "who does not encrypt is refused at the next request")

	old := g.Dial(t, "isolde", 0x0210)
	_, err = old.Mount("nightlog")
	require.Error(t, err, "SMB 2.1 has no encryption")
	require.Contains(t, string(ask(t, g, g.Token(t, "keeper"), "GET", "/api/v1/events?on=nightlog&only=refused", "").body), `"gate":"share"`, "it is seen who was refused, and by which gate")
	require.Contains(t, string(ask(t, g, g.Token(t, "keeper"), "GET", "/api/v1/why?user=isolde&path=nightlog&via=smb", "").body), "clients that do not encrypt", "and why knows it")
	m, err := old.Mount("plates")
	require.NoError(t, err, "other shares are as they were")
	require.NoError(t, m.Umount())

	const secret = "the moon is made of basalt, and the night is long"
	big := make([]byte, 3<<20)
	rand.Read(big)
	for name, dialect := range map[string]uint16{"3.0": 0x0300, "3.0.2": 0x0302, "3.1.1": 0x0311} {
		c, err := net.Dial("tcp", g.SMB)
		require.NoError(t, err)
		wire := &heard{Conn: c}
		s := over(t, wire, "isolde", dialect)
		m, err := s.Mount("nightlog")
		require.NoError(t, err, name)
		require.NoError(t, m.WriteFile("sealed-name-"+name, []byte(secret), 0o666))
		got, err := m.ReadFile("sealed-name-" + name)
		require.NoError(t, err)
		require.Equal(t, secret, string(got))
		require.NoError(t, m.WriteFile("big", big, 0o666))
		f, err := m.Open("big")
		require.NoError(t, err)
		back, err := io.ReadAll(f)
		require.NoError(t, err)
		require.True(t, bytes.Equal(big, back), name)
		require.NoError(t, f.Close())
		list, err := m.ReadDir("")
		require.NoError(t, err)
		require.NotEmpty(t, list)
		_, err = m.ReadFile("nothing-here")
		require.Error(t, err)
		var sessions api.Sessions
		require.NoError(t, json.Unmarshal(ask(t, g, g.Token(t, "keeper"), "GET", "/api/v1/sessions?who=isolde", "").body, &sessions))
		sealing := map[string]bool{}
		for _, one := range sessions.Sessions {
			sealing[one.Sealing] = true
		}
		want := "AES-128-CCM"
		if dialect == 0x0311 {
			want = "AES-128-GCM"
		}
		require.True(t, sealing[want], "%s: %v", name, sealing)
		require.NoError(t, m.Umount())
		require.NoError(t, s.Logoff())
		wire.mu.Lock()
		require.NotContains(t, wire.all.String(), secret, name)
		utf16 := func(s string) string {
			var b []byte
			for _, c := range []byte(s) {
				b = append(b, c, 0)
			}
			return string(b)
		}
		require.Contains(t, wire.all.String(), utf16("nightlog"), "%s: connecting is open, so that it is heard", name)
		require.NotContains(t, wire.all.String(), utf16("sealed-name"), name)
		wire.mu.Unlock()
	}
}

// With everything encrypted, no share is there for who does not encrypt, nor are the pipes; and it can be taken back.
func TestEverythingEncrypted(t *testing.T) {
	g := gateway.Start(t)
	g.Unlimited(t)
	keeper := g.Token(t, "keeper")
	early := g.Mount(t, g.Dial(t, "isolde", 0x0311), "nightlog")
	require.Equal(t, 204, ask(t, g, keeper, "PUT", "/api/v1/services/smb", `{"encrypted":true}`).status)
	require.Contains(t, string(ask(t, g, keeper, "GET", "/api/v1/services", "").body), `"encrypted":true`)
	_, err := early.ReadFile("README.txt")
	require.Error(t, err)
	old := g.Dial(t, "isolde", 0x0210)
	for _, share := range []string{"nightlog", "plates", "visitors"} {
		_, err = old.Mount(share)
		require.Error(t, err, share)
	}
	_, err = old.ListSharenames()
	require.Error(t, err, "what shares there are is not told either")
	require.Contains(t, string(ask(t, g, keeper, "GET", "/api/v1/why?user=isolde&path=nightlog&via=smb", "").body), "everything over SMB is encrypted")

	c, err := net.Dial("tcp", g.SMB)
	require.NoError(t, err)
	wire := &heard{Conn: c}
	m, err := over(t, wire, "isolde", 0x0311).Mount("nightlog")
	require.NoError(t, err)
	const secret = "nobody hears of the comet yet"
	require.NoError(t, m.WriteFile("comet", []byte(secret), 0o666))
	got, err := m.ReadFile("comet")
	require.NoError(t, err)
	require.Equal(t, secret, string(got))
	wire.mu.Lock()
	require.NotContains(t, wire.all.String(), secret)
	wire.mu.Unlock()

	require.Equal(t, 422, ask(t, g, keeper, "PUT", "/api/v1/services/nfs", `{"encrypted":true}`).status)
	require.Equal(t, 422, ask(t, g, keeper, "PUT", "/api/v1/services/smb", `{}`).status)
	require.Equal(t, 204, ask(t, g, keeper, "PUT", "/api/v1/services/smb", `{"encrypted":false}`).status)
	_, err = g.Dial(t, "isolde", 0x0210).Mount("nightlog")
	require.NoError(t, err)
}

// A client of other hands, in another language, writes and reads there as well.
func TestImpacketEncrypts(t *testing.T) {
	if err := exec.Command("/usr/bin/python3", "-c", "import impacket").Run(); err != nil {
		need.Missing(t, "python3-impacket is not installed: make test installs it")
	}
	g := gateway.Start(t)
	_, err := g.Service.UpdateShare(context.Background(), gateway.Keeper, "nightlog", service.ShareChange{Encrypted: new(true)})
	require.NoError(t, err)
	_, port, err := net.SplitHostPort(g.SMB)
	require.NoError(t, err)
	ctx, cancel := context.WithTimeout(context.Background(), time.Minute)
	defer cancel()
	out, err := exec.CommandContext(ctx, "/usr/bin/python3", "clients/busy.py", port, "isolde", "nightlog", "1").CombinedOutput()
	require.NoError(t, err, "%s", out)
}
