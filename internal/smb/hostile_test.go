package smb

import (
	"context"
	"crypto/hmac"
	"crypto/md5"
	"encoding/binary"
	"io"
	"log/slog"
	"net"
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/descriptor"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/ntlm"
	"amber.example/gatekeeper/internal/smb/message"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

type oneAccount struct{}

var piranHash = []byte("0123456789abcdef")

func (oneAccount) ProveNT(_ context.Context, name, _ string, compare func([]byte) bool) (identity.ID, error) {
	if !strings.EqualFold(name, "piran") || !compare(piranHash) {
		return 0, ntlm.ErrWrong
	}
	return 1, nil
}

// noNames knows piran.
type noNames struct{}

func (noNames) Domain() descriptor.SID                  { return "S-1-5-21-1-2-3" }
func (n noNames) SID(identity.Principal) descriptor.SID { return n.Domain().In(1001) }
func (n noNames) Who(sid descriptor.SID) (identity.Principal, bool) {
	return identity.UserPrincipal(1), sid == n.Domain().In(1001)
}

func startServer(t testing.TB) (addr, dir string) {
	_, addr, dir = startServerOf(t)
	return addr, dir
}

func startServerOf(t testing.TB) (s *Server, addr, dir string) {
	s, addr, dir, _ = startServerBy(t)
	return s, addr, dir
}

// startServerBy gives what sets the hosts that the share is kept to as well.
func startServerBy(t testing.TB) (s *Server, addr, dir string, keepTo func(hosts ...string)) {
	dir = t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "nightlog", "2026"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "nightlog", "README.txt"), []byte("night log"), 0o644))
	records := site.Records{
		Users:   []identity.User{{ID: 1, Name: "piran", UID: 1, SMB: true}},
		Volumes: []site.Volume{{ID: 1, Name: "v", Path: dir}},
		Folders: []site.Folder{{ID: 1, Name: "nightlog", VolumeID: 1, Path: "nightlog",
			Rules: []acl.Rule{{Entries: []acl.Entry{{ID: 1, Who: identity.Everyone, Level: acl.Change, Applies: acl.Everywhere}}}}}},
		Shares: []site.Share{{ID: 1, Name: "nightlog", FolderID: 1, Announced: true}}, Services: site.Services{SMB: true},
	}
	var inForce atomic.Pointer[site.Policy]
	keepTo = func(hosts ...string) {
		records.Shares[0].Hosts = nil
		for _, h := range hosts {
			records.Shares[0].Hosts = append(records.Shares[0].Hosts, site.ParseHostTerm(h))
		}
		policy, err := site.Compile(records)
		require.NoError(t, err)
		inForce.Store(policy)
	}
	keepTo()
	current := inForce.Load
	s = NewServer(Config{Name: "larkfell", Policy: current, Accounts: oneAccount{}, Names: noNames{}, Files: files.New(current, nil),
		Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
	return s, serves(t, s), dir, keepTo
}

// serves has a server answer until the test ends, and gives where.
func serves(t testing.TB, s *Server) (addr string) {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	done := make(chan error)
	go func() { done <- s.Serve(l) }()
	t.Cleanup(func() {
		l.Close()
		s.Close()
		<-done
	})
	return l.Addr().String()
}

// rawClient sends what it is told to, right or wrong. It speaks 2.1.
type rawClient struct {
	t       testing.TB
	nc      net.Conn
	id      uint64
	session uint64
	tree    uint32
	sign    signer
	preauth *[64]byte // for 3.1.1: the hash so far
}

func dialRaw(t testing.TB, addr string) *rawClient { return dialRawFrom(t, addr, "127.0.0.1") }

// dialRawFrom comes from an address of this machine.
func dialRawFrom(t testing.TB, addr, from string) *rawClient {
	nc, err := (&net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(from)}}).Dial("tcp", addr)
	require.NoError(t, err)
	t.Cleanup(func() { nc.Close() })
	_ = nc.SetDeadline(time.Now().Add(2 * time.Minute))
	return &rawClient{t: t, nc: nc}
}

func (c *rawClient) message(cmd message.Command, body []byte) []byte {
	h := message.Header{Command: cmd, Credits: 64, CreditCharge: 1, MessageID: c.id, TreeID: c.tree, SessionID: c.session}
	c.id++
	msg := make([]byte, message.HeaderSize, message.HeaderSize+len(body))
	h.Put(msg)
	return append(msg, body...)
}

func (c *rawClient) frame(msg []byte) {
	_, _ = c.nc.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(msg))), msg...))
}

func (c *rawClient) receive() (message.Header, []byte, error) {
	var prefix [4]byte
	if _, err := io.ReadFull(c.nc, prefix[:]); err != nil {
		return message.Header{}, nil, err
	}
	msg := make([]byte, binary.BigEndian.Uint32(prefix[:]))
	if _, err := io.ReadFull(c.nc, msg); err != nil {
		return message.Header{}, nil, err
	}
	var h message.Header
	err := h.Parse(msg)
	if c.preauth != nil && c.sign == nil && (h.Command == message.Negotiate || Status(h.Status) == statusMoreProcessingRequired) {
		*c.preauth = extend(*c.preauth, msg)
	}
	return h, msg[message.HeaderSize:], err
}

func (c *rawClient) do(cmd message.Command, body []byte) (message.Header, []byte, error) {
	msg := c.message(cmd, body)
	if c.sign != nil {
		signMessage(c.sign, msg)
	} else if c.preauth != nil {
		*c.preauth = extend(*c.preauth, msg)
	}
	c.frame(msg)
	return c.receive()
}

func negotiateBody(dialects ...uint16) []byte {
	return body(&message.NegotiateRequest{SecurityMode: signingEnabled, Dialects: dialects})
}

// body is a message without its header.
func body(m interface{ Append([]byte) []byte }) []byte {
	return m.Append(make([]byte, message.HeaderSize))[message.HeaderSize:]
}

// hello311 offers 3.1.1 with the contexts given.
func hello311(contexts ...[]byte) []byte {
	m := message.NegotiateRequest{SecurityMode: signingEnabled, Dialects: []uint16{dialect311}}
	for i, c := range contexts {
		m.Contexts = append(m.Contexts, message.NegotiateContext{Type: []uint16{message.ContextPreauth, message.ContextSigning, message.ContextEncryption}[i], Data: c})
	}
	return body(&m)
}

func (c *rawClient) signIn() *rawClient { return c.signInWith(negotiateBody(dialect21)) }

// signInWith is the client's half of NTLMv2, MS-NLMP section 3.3.2.
func (c *rawClient) signInWith(hello []byte) *rawClient {
	_, _, err := c.do(message.Negotiate, hello)
	require.NoError(c.t, err)
	first := make([]byte, 32)
	copy(first, "NTLMSSP\x00\x01")
	le.PutUint32(first[12:], 0x00080201)
	h, body, err := c.do(message.SessionSetup, setupBody(first))
	require.NoError(c.t, err)
	require.Equal(c.t, statusMoreProcessingRequired, Status(h.Status))
	c.session = h.SessionID
	challenge := body[8:]
	mac := func(key []byte, parts ...[]byte) []byte {
		m := hmac.New(md5.New, key)
		for _, p := range parts {
			m.Write(p)
		}
		return m.Sum(nil)
	}
	blob := append([]byte{1, 1}, make([]byte, 30)...)
	key := mac(piranHash, message.UTF16("PIRAN"))
	proof := mac(key, challenge[24:32], blob)
	last := make([]byte, 64)
	copy(last, "NTLMSSP\x00\x03")
	for _, f := range []struct {
		at   int
		data []byte
	}{{36, message.UTF16("piran")}, {20, append(proof, blob...)}} {
		le.PutUint16(last[f.at:], uint16(len(f.data)))
		le.PutUint32(last[f.at+4:], uint32(len(last)))
		last = append(last, f.data...)
	}
	h, _, err = c.do(message.SessionSetup, setupBody(last))
	require.NoError(c.t, err)
	require.Equal(c.t, statusOK, Status(h.Status))
	c.sign = hmacSigner(mac(key, proof))
	if c.preauth != nil {
		c.sign, err = newSigner(signGMAC, deriveKey(mac(key, proof), "SMBSigningKey\x00", c.preauth[:]))
		require.NoError(c.t, err)
	}
	return c
}

func (c *rawClient) connect() *rawClient {
	h, _, err := c.do(message.TreeConnect, body(&message.TreeConnectRequest{Path: message.UTF16(`\\larkfell\nightlog`)}))
	require.NoError(c.t, err)
	require.Equal(c.t, statusOK, Status(h.Status))
	c.tree = h.TreeID
	return c
}

func createBody(name string, access, disposition, options uint32) []byte {
	return body(&message.CreateRequest{Access: access, Sharing: 7, Disposition: disposition, Options: options, Name: message.UTF16(name)})
}

func (c *rawClient) create(name string, access, disposition, options uint32) []byte {
	h, body, err := c.do(message.Create, createBody(name, access, disposition, options))
	require.NoError(c.t, err)
	require.Equal(c.t, statusOK, Status(h.Status), "%v", Status(h.Status))
	return body[64:80]
}

// alive says whether the server still serves others.
func alive(t testing.TB, addr string) {
	c := dialRaw(t, addr).signIn().connect()
	id := c.create("README.txt", 0x120089, 1, 0)
	h, body, err := c.do(message.Read, readBody(id, 9, 0))
	require.NoError(t, err)
	require.Equal(t, statusOK, Status(h.Status))
	require.Equal(t, "night log", string(body[16:]))
	c.nc.Close()
}

func readBody(id []byte, length uint32, offset uint64) []byte {
	b := make([]byte, 49)
	le.PutUint16(b, 49)
	le.PutUint32(b[4:], length)
	le.PutUint64(b[8:], offset)
	copy(b[16:], id)
	return b
}

func TestBeforeSignIn(t *testing.T) {
	addr, _ := startServer(t)
	closed := func(name string, send func(c *rawClient)) {
		c := dialRaw(t, addr)
		send(c)
		for range 3 {
			if _, _, err := c.receive(); err != nil {
				return
			}
		}
		t.Errorf("%s: the connection stays open", name)
	}
	closed("no SMB", func(c *rawClient) { c.frame([]byte("GET / HTTP/1.1\r\n\r\n")) })
	closed("16 MB frame", func(c *rawClient) { _, _ = c.nc.Write([]byte{0, 0xff, 0xff, 0xff}) })
	closed("session message", func(c *rawClient) { _, _ = c.nc.Write([]byte{0x81, 0, 0, 68}) })
	closed("short header", func(c *rawClient) { c.frame([]byte("\xfeSMB")) })
	closed("no negotiation", func(c *rawClient) { c.frame(c.message(message.TreeConnect, make([]byte, 32))) })
	closed("response", func(c *rawClient) {
		m := c.message(message.Negotiate, negotiateBody(dialect21))
		m[16] = message.FlagResponse
		c.frame(m)
	})
	closed("bad chain", func(c *rawClient) {
		m := c.message(message.Negotiate, negotiateBody(dialect21))
		le.PutUint32(m[20:], 0xfffffff8)
		c.frame(m)
	})
	closed("negotiate twice", func(c *rawClient) {
		c.frame(c.message(message.Negotiate, negotiateBody(dialect21)))
		c.frame(c.message(message.Negotiate, negotiateBody(dialect21)))
	})
	closed("message ID not granted", func(c *rawClient) {
		c.id = 77
		c.frame(c.message(message.Negotiate, negotiateBody(dialect21)))
	})

	for name, c := range map[string]struct {
		body   []byte
		status Status
	}{
		"unknown dialect": {negotiateBody(0x0202, 0x9999), statusNotSupported}, "no dialect": {negotiateBody(), statusInvalidParameter},
		"truncated": {negotiateBody(dialect21)[:36], statusInvalidParameter}, "3.1.1 without contexts": {negotiateBody(dialect311), statusSMBNoPreauthOverlap},
	} {
		h, _, err := dialRaw(t, addr).do(message.Negotiate, c.body)
		require.NoError(t, err, name)
		require.Equal(t, c.status, Status(h.Status), name)
	}

	c := dialRaw(t, addr)
	_, _, err := c.do(message.Negotiate, negotiateBody(dialect21))
	require.NoError(t, err)
	c.session = 4711
	h, _, err := c.do(message.TreeConnect, make([]byte, 32))
	require.NoError(t, err)
	require.Equal(t, statusUserSessionDeleted, Status(h.Status))
	alive(t, addr)
}

// Who says hello again and again, and never in a way that is understood, leaves no more behind than who says it once.
func TestHellosDoNotAddUp(t *testing.T) {
	s, _, _ := startServerOf(t)
	mine, theirs := net.Pipe()
	defer mine.Close()
	defer theirs.Close()
	c := newConn(s, mine)
	defer c.cancel()
	for range 500 {
		hello := append(make([]byte, message.HeaderSize), negotiateBody(make([]uint16, 64)...)...)
		_, status, open := (&request{c: c, raw: hello}).negotiate()
		require.Equal(t, statusNotSupported, status)
		require.True(t, open)
	}
	require.Len(t, c.client.Dialects, 64)
}

func TestSignaturesAreDemanded(t *testing.T) {
	addr, _ := startServer(t)
	c := dialRaw(t, addr).signIn().connect()
	body := createBody("stolen.txt", 0x120116, 2, 0)
	c.frame(c.message(message.Create, body))
	h, _, err := c.receive()
	require.NoError(t, err)
	require.Equal(t, statusAccessDenied, Status(h.Status), "unsigned")
	msg := c.message(message.Create, body)
	signMessage(c.sign, msg)
	msg[len(msg)-2] ^= 1
	c.frame(msg)
	h, _, err = c.receive()
	require.NoError(t, err)
	require.Equal(t, statusAccessDenied, Status(h.Status), "changed on the way")

	// Another connection cannot use the session.
	other := dialRaw(t, addr).signIn()
	other.session, other.sign = c.session, c.sign
	h, _, err = other.do(message.Echo, []byte{4, 0, 0, 0})
	require.NoError(t, err)
	require.Equal(t, statusUserSessionDeleted, Status(h.Status))
}

// A session may sign in again, as the same user and with the right secret; else it ends.
func TestSigningInAgain(t *testing.T) {
	addr, _ := startServer(t)
	c := dialRaw(t, addr).signIn().connect()
	id := c.create("README.txt", 0x120089, 1, 0)
	again := func(token []byte) Status {
		b := make([]byte, 24, 24+len(token))
		le.PutUint16(b, 25)
		le.PutUint16(b[12:], message.HeaderSize+24)
		le.PutUint16(b[14:], uint16(len(token)))
		return c.status(message.SessionSetup, append(b, token...))
	}
	first := make([]byte, 32)
	copy(first, "NTLMSSP\x00\x01")
	le.PutUint32(first[12:], 0x00080201)
	require.Equal(t, statusMoreProcessingRequired, again(first))
	require.Equal(t, statusOK, c.status(message.Read, readBody(id, 9, 0)), "what is open goes on meanwhile")
	require.Equal(t, statusInvalidParameter, again([]byte("NTLMSSP\x00\x03 and no more")))
	require.Equal(t, statusUserSessionDeleted, c.status(message.Read, readBody(id, 9, 0)))
	alive(t, addr)
}

// Every command with every kind of broken body: an error, or the end of that one
// connection; never more.
func TestBrokenBodies(t *testing.T) {
	addr, dir := startServer(t)
	c := dialRaw(t, addr).signIn().connect()
	sizes := map[message.Command]uint16{message.Logoff: 4, message.TreeConnect: 9, message.TreeDisconnect: 4, message.Create: 57, message.Close: 24, message.Flush: 24, message.Read: 49,
		message.Write: 49, message.Lock: 48, message.Ioctl: 57, message.Echo: 4, message.QueryDirectory: 33, message.ChangeNotify: 32, message.QueryInfo: 41, message.SetInfo: 33, message.OplockBreak: 24, 99: 8}
	for cmd, size := range sizes {
		for _, fill := range []byte{0, 0xff, 0x7f} {
			for _, n := range []int{0, 1, 2, int(size) / 2, int(size) - 1, int(size), 200} {
				b := make([]byte, n)
				for i := range b {
					b[i] = fill
				}
				if n >= 2 {
					le.PutUint16(b, size)
				}
				h, _, err := c.do(cmd, b)
				if err != nil || cmd == message.Logoff || cmd == message.TreeDisconnect {
					c = dialRaw(t, addr).signIn().connect()
					continue
				}
				if cmd != message.Echo && cmd != message.Create {
					require.True(t, Status(h.Status).failed(), "command %d, %d bytes of %02x: %v", cmd, n, fill, Status(h.Status))
				}
			}
		}
	}
	alive(t, addr)
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Len(t, entries, 1, "nothing was made outside the folder")
}

func TestAbsurdLengths(t *testing.T) {
	addr, _ := startServer(t)
	c := dialRaw(t, addr).signIn().connect()
	id := c.create("README.txt", 0x120089, 1, 0)
	for _, r := range []struct {
		length uint32
		offset uint64
		status Status
	}{{0xffffffff, 0, statusInvalidParameter}, {1 << 20, 0, statusInvalidParameter /* not paid for */}, {9, 1 << 63, statusInvalidParameter},
		{9, 1 << 61, statusInvalidParameter}, {9, 9, statusEndOfFile}, {0, 0, statusOK}} {
		h, _, err := c.do(message.Read, readBody(id, r.length, r.offset))
		require.NoError(t, err)
		if r.offset == 1<<61 { // beyond what the file system can address, or the end of the file
			require.True(t, Status(h.Status).failed())
			continue
		}
		require.Equal(t, r.status, Status(h.Status), "%d at %d", r.length, r.offset)
	}
	h, _, err := c.do(message.Write, readBody(id, 9, 0))
	require.NoError(t, err)
	require.True(t, Status(h.Status).failed(), "data that is not there, on a file not open for writing")
	h, _, err = c.do(message.Read, readBody(make([]byte, 16), 9, 0))
	require.NoError(t, err)
	require.Equal(t, statusFileClosed, Status(h.Status))
	alive(t, addr)
}

// Opening, reading and closing in one frame, each on what the one before opened.
func TestCompound(t *testing.T) {
	addr, _ := startServer(t)
	c := dialRaw(t, addr).signIn().connect()
	wild := make([]byte, 16)
	for i := range wild {
		wild[i] = 0xff
	}
	closeBody := append([]byte{24, 0, 0, 0, 0, 0, 0, 0}, wild...)
	compound := func(name string) []Status {
		var frame []byte
		parts := [][]byte{c.message(message.Create, createBody(name, 0x120089, 1, 0)), c.message(message.Read, readBody(wild, 9, 0)), c.message(message.Close, closeBody)}
		for i, m := range parts {
			for len(m)%8 != 0 {
				m = append(m, 0)
			}
			if i > 0 {
				le.PutUint32(m[16:], message.FlagRelated)
			}
			if i < len(parts)-1 {
				le.PutUint32(m[20:], uint32(len(m)))
			}
			signMessage(c.sign, m)
			frame = append(frame, m...)
		}
		c.frame(frame)
		var prefix [4]byte
		_, err := io.ReadFull(c.nc, prefix[:])
		require.NoError(t, err)
		reply := make([]byte, binary.BigEndian.Uint32(prefix[:]))
		_, err = io.ReadFull(c.nc, reply)
		require.NoError(t, err)
		var out []Status
		for {
			next := le.Uint32(reply[20:])
			out = append(out, Status(le.Uint32(reply[8:])))
			msg := reply
			if next != 0 {
				msg = reply[:next]
			}
			require.True(t, verifyMessage(c.sign, msg), "each part is signed")
			if next == 0 {
				return out
			}
			reply = reply[next:]
		}
	}
	require.Equal(t, []Status{statusOK, statusOK, statusOK}, compound("README.txt"))
	require.Equal(t, []Status{statusObjectNameNotFound, statusObjectNameNotFound, statusObjectNameNotFound}, compound("no such file"))
}

func TestChangeNotifyAndCancel(t *testing.T) {
	addr, _ := startServer(t)
	c := dialRaw(t, addr).signIn().connect()
	dir := c.create("2026", 0x120089, 1, message.OptDirectory)
	watch := make([]byte, 32)
	le.PutUint16(watch, 32)
	le.PutUint32(watch[4:], 4096)
	copy(watch[8:], dir)
	h, _, err := c.do(message.ChangeNotify, watch)
	require.NoError(t, err)
	require.Equal(t, statusPending, Status(h.Status))
	require.NotZero(t, h.Flags&message.FlagAsync)
	pending := h.AsyncID

	// What the watch waited for and the answer to what caused it come in either order.
	msg := c.message(message.Create, createBody(`2026\new.txt`, 0x120116, 2, 0))
	signMessage(c.sign, msg)
	c.frame(msg)
	h, body, err := c.receive()
	require.NoError(t, err)
	other, otherBody, err := c.receive()
	require.NoError(t, err)
	if h.Command == message.Create {
		h, body, other = other, otherBody, h
	}
	require.Equal(t, message.Create, other.Command)
	require.Equal(t, statusOK, Status(other.Status))
	require.Equal(t, message.ChangeNotify, h.Command)
	require.Equal(t, pending, h.AsyncID)
	require.EqualValues(t, message.NotifyAdded, le.Uint32(body[12:]))
	name, _ := message.Text(body[20:])
	require.Equal(t, "new.txt", name)

	h, _, err = c.do(message.ChangeNotify, watch)
	require.NoError(t, err)
	cancel := c.message(message.Cancel, []byte{4, 0, 0, 0})
	c.id-- // a cancel uses no ID of its own
	le.PutUint32(cancel[16:], message.FlagAsync)
	le.PutUint64(cancel[32:], h.AsyncID)
	signMessage(c.sign, cancel)
	c.frame(cancel)
	h, _, err = c.receive()
	require.NoError(t, err)
	require.Equal(t, statusCancelled, Status(h.Status))
	h, _, err = c.do(message.Echo, []byte{4, 0, 0, 0})
	require.NoError(t, err)
	require.Equal(t, statusOK, Status(h.Status))
}

var preauthContext, gmacContext, gcmContext = []byte{1, 0, 0, 0, preauthSHA512, 0}, []byte{2, 0, signGMAC, 0, signCMAC, 0}, []byte{1, 0, cipherGCM128, 0}

func TestGMACWhereTheClientCan(t *testing.T) {
	addr, _ := startServer(t)
	c := dialRaw(t, addr)
	c.preauth = new([64]byte)
	c.signInWith(hello311(preauthContext, gmacContext)).connect()
	id := c.create("README.txt", 0x120089, 1, 0)
	h, body, err := c.do(message.Read, readBody(id, 9, 0))
	require.NoError(t, err)
	require.Equal(t, statusOK, Status(h.Status))
	require.Equal(t, "night log", string(body[16:]))
}

// FuzzSigned sends a signed-in client's messages of any command with any body.
func FuzzSigned(f *testing.F) {
	f.Add(uint16(message.Create), createBody("README.txt", 0x120089, 1, 0))
	f.Add(uint16(message.QueryInfo), make([]byte, 41))
	f.Add(uint16(message.Ioctl), make([]byte, 57))
	addr, _ := startServer(f)
	var c *rawClient
	f.Fuzz(func(t *testing.T, cmd uint16, body []byte) {
		asks := message.Command(cmd)
		if asks == message.Cancel || asks == message.Negotiate || asks == message.SessionSetup {
			return
		}
		if c == nil {
			nc, err := net.Dial("tcp", addr)
			require.NoError(t, err)
			c = (&rawClient{t: t, nc: nc}).signIn().connect()
		}
		_ = c.nc.SetDeadline(time.Now().Add(time.Minute))
		c.t = t
		if _, _, err := c.do(asks, body); err != nil {
			c.nc.Close()
			c = nil
			alive(t, addr)
		}
	})
}
