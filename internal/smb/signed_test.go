package smb

import (
	"context"
	"errors"
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

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/ntlm"
	"amber.example/gatekeeper/internal/smb/message"
)

// No pair of direction and message ID is ever signed twice: AES-GMAC makes its nonce of the two, and two signatures by
// one nonce give its key away (MS-SMB2 section 3.1.4.1).
func TestNoNonceIsUsedTwice(t *testing.T) {
	addr, _ := startServer(t)
	c := dialRaw(t, addr)
	c.preauth = new([64]byte)
	c.signInWith(hello311([]byte{1, 0, 0, 0, 1, 0}, []byte{1, 0, 2, 0}))
	signed := make(map[uint64]int)
	kinds := make(map[message.Command]bool)
	take := func(h message.Header) message.Header {
		t.Helper()
		kinds[h.Command] = true
		if h.Flags&message.FlagSigned != 0 {
			signed[h.MessageID]++
		}
		return h
	}
	do := func(cmd message.Command, body []byte) (message.Header, []byte) {
		t.Helper()
		h, b, err := c.do(cmd, body)
		require.NoError(t, err)
		return take(h), b
	}
	c.connect()
	open := func(name string, access, disposition, options uint32) []byte {
		h, b := do(message.Create, createBody(name, access, disposition, options))
		require.Equal(t, statusOK, Status(h.Status))
		return append([]byte{}, b[64:80]...)
	}
	dir := open("", 0x81, 1, message.OptDirectory)
	file := open("README.txt", 0x3, 1, 0)

	// Everything that can be asked, well made or not.
	for cmd := message.Negotiate; cmd <= message.OplockBreak+1; cmd++ {
		switch cmd {
		case message.Negotiate, message.SessionSetup, message.Cancel, message.Logoff, message.TreeDisconnect:
			continue
		}
		for _, size := range []int{0, 8, 24, 32, 48, 56} {
			body := make([]byte, size)
			if size >= 2 {
				le.PutUint16(body, uint16(size|1))
			}
			do(cmd, body)
		}
	}
	// What is answered twice: a change in a directory, told, and cancelled; a lock that waits.
	notify := make([]byte, 32)
	le.PutUint16(notify, 32)
	le.PutUint32(notify[4:], 4096)
	copy(notify[8:], dir)
	le.PutUint32(notify[24:], 0xfff)
	for range 3 {
		h, _ := do(message.ChangeNotify, notify)
		require.Equal(t, statusPending, Status(h.Status))
		require.Zero(t, h.Flags&message.FlagSigned, "an interim answer is not signed (section 3.3.4.2)")
		pended := h
		made := c.message(message.Create, createBody("new.txt", 0x10003, 5, message.OptDeleteOnClose))
		signMessage(c.sign, made)
		c.frame(made)
		var fid []byte
		for range 2 {
			h, b, err := c.receive()
			require.NoError(t, err)
			take(h)
			if h.Command == message.Create {
				fid = append(fid, b[64:80]...)
			} else {
				require.Equal(t, pended.MessageID, h.MessageID)
				require.NotZero(t, h.Flags&message.FlagSigned)
			}
		}
		do(message.Close, append([]byte{24, 0, 0, 0, 0, 0, 0, 0}, fid...))
	}
	h, _ := do(message.ChangeNotify, notify)
	require.Equal(t, statusPending, Status(h.Status))
	cancel := make([]byte, message.HeaderSize+4)
	ch := message.Header{Command: message.Cancel, Flags: message.FlagAsync, MessageID: h.MessageID, AsyncID: h.AsyncID, SessionID: c.session}
	ch.Put(cancel)
	cancel[message.HeaderSize] = 4
	signMessage(c.sign, cancel)
	c.frame(cancel)
	last, _, err := c.receive()
	require.NoError(t, err)
	require.Equal(t, statusCancelled, Status(take(last).Status))

	lock := func(fid []byte, flags uint32) []byte {
		b := make([]byte, 48)
		le.PutUint16(b, 48)
		le.PutUint16(b[2:], 1)
		copy(b[8:], fid)
		le.PutUint64(b[32:], 1)
		le.PutUint32(b[40:], flags)
		return b
	}
	other := open("README.txt", 0x3, 1, 0)
	h, _ = do(message.Lock, lock(file, 0x2|0x10))
	require.Equal(t, statusOK, Status(h.Status))
	h, _ = do(message.Lock, lock(other, 0x2)) // waits
	require.Equal(t, statusPending, Status(h.Status))
	require.Zero(t, h.Flags&message.FlagSigned)
	waiting := h.MessageID
	unlock := c.message(message.Lock, lock(file, 0x4))
	signMessage(c.sign, unlock)
	c.frame(unlock)
	answered := false
	for range 2 {
		h, _, err := c.receive()
		require.NoError(t, err)
		answered = answered || take(h).MessageID == waiting
	}
	require.True(t, answered)

	for id, n := range signed {
		require.Equal(t, 1, n, "message %d", id)
	}
	require.Greater(t, len(signed), 60)
	for _, cmd := range []message.Command{message.TreeConnect, message.Read, message.Write, message.Lock, message.Ioctl, message.Echo, message.QueryDirectory, message.ChangeNotify, message.QueryInfo, message.SetInfo, message.Flush, message.Close, message.Create, message.OplockBreak} {
		require.True(t, kinds[cmd], "%v", cmd)
	}
}

// guessed counts how many passwords were compared.
type guessed struct{ compared atomic.Int32 }

func (g *guessed) ProveNT(_ context.Context, _, _ string, compare func([]byte) bool) (identity.ID, error) {
	if g.compared.Add(1) > 3 {
		return 0, ntlm.ErrPutOff
	}
	if !compare(piranHash) {
		return 0, ntlm.ErrWrong
	}
	return 1, nil
}

// However a guess is wrapped, it is made where guesses are counted: an AUTHENTICATE inside of a second
// NegTokenInit too.
func TestNoGuessGoesUncounted(t *testing.T) {
	g := &guessed{}
	policy, err := site.Compile(site.Records{Users: []identity.User{{ID: 1, Name: "piran", UID: 1, SMB: true}}, Services: site.Services{SMB: true}})
	require.NoError(t, err)
	current := func() *site.Policy { return policy }
	s := NewServer(Config{Name: "larkfell", Policy: current, Accounts: g, Names: noNames{}, Files: files.New(current, nil), Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
	addr := serves(t, s)
	putOff := 0
	for range 8 {
		c := dialRaw(t, addr)
		_, _, err := c.do(message.Negotiate, negotiateBody(dialect21))
		require.NoError(t, err)
		first := make([]byte, 32)
		copy(first, "NTLMSSP\x00\x01")
		le.PutUint32(first[12:], 0x00080201)
		h, _, err := c.do(message.SessionSetup, setupBody(negTokenInit(first)))
		require.NoError(t, err)
		require.Equal(t, statusMoreProcessingRequired, Status(h.Status))
		c.session = h.SessionID
		guess := make([]byte, 64)
		copy(guess, "NTLMSSP\x00\x03")
		for at, data := range map[int][]byte{36: message.UTF16("piran"), 20: append([]byte(strings.Repeat("x", 16)), make([]byte, 32)...)} {
			le.PutUint16(guess[at:], uint16(len(data)))
			le.PutUint32(guess[at+4:], uint32(len(guess)))
			guess = append(guess, data...)
		}
		h, _, err = c.do(message.SessionSetup, setupBody(negTokenInit(guess)))
		require.NoError(t, err)
		if Status(h.Status) == statusAccountLockedOut {
			putOff++
		} else {
			require.Equal(t, statusLogonFailure, Status(h.Status))
		}
	}
	require.EqualValues(t, 8, g.compared.Load())
	require.Equal(t, 5, putOff)
}

func setupBody(token []byte) []byte {
	b := make([]byte, 24, 24+len(token))
	le.PutUint16(b, 25)
	le.PutUint16(b[12:], message.HeaderSize+24)
	le.PutUint16(b[14:], uint16(len(token)))
	return append(b, token...)
}

// negTokenInit wraps a token as RFC 4178 section 4.2.1 has the first one, put together by hand.
func negTokenInit(token []byte) []byte {
	der := func(tag byte, content []byte) []byte {
		n := len(content)
		switch {
		case n < 128:
			return append([]byte{tag, byte(n)}, content...)
		case n < 256:
			return append([]byte{tag, 0x81, byte(n)}, content...)
		}
		return append([]byte{tag, 0x82, byte(n >> 8), byte(n)}, content...)
	}
	ntlmssp := []byte{0x06, 0x0a, 0x2b, 0x06, 0x01, 0x04, 0x01, 0x82, 0x37, 0x02, 0x02, 0x0a}
	spnego := []byte{0x06, 0x06, 0x2b, 0x06, 0x01, 0x05, 0x05, 0x02}
	inner := append(der(0xa0, der(0x30, ntlmssp)), der(0xa2, der(0x04, token))...)
	return der(0x60, append(spnego, der(0xa0, der(0x30, inner))...))
}

// A change is told over the wire to those who may know of it, and to others not at all.
func TestWatchersAreNotToldHiddenNames(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "nightlog/closed"), 0o755))
	policy, err := site.Compile(site.Records{
		Users:   []identity.User{{ID: 1, Name: "piran", UID: 1, SMB: true}, {ID: 2, Name: "orla", UID: 2, SMB: true}},
		Volumes: []site.Volume{{ID: 1, Name: "v", Path: dir}},
		Folders: []site.Folder{{ID: 1, Name: "nightlog", VolumeID: 1, Path: "nightlog", Rules: []acl.Rule{
			{ID: 1, Entries: []acl.Entry{{ID: 1, Who: identity.Everyone, Level: acl.Change, Applies: acl.Everywhere}}},
			{ID: 2, Path: "closed", Entries: []acl.Entry{{ID: 2, Deny: true, Who: identity.UserPrincipal(1), Level: acl.Read, Applies: acl.Everywhere}}}}}},
		Shares: []site.Share{{ID: 1, Name: "nightlog", FolderID: 1}}, Services: site.Services{SMB: true},
	})
	require.NoError(t, err)
	current := func() *site.Policy { return policy }
	ns := files.New(current, nil)
	s := NewServer(Config{Name: "larkfell", Policy: current, Accounts: oneAccount{}, Names: noNames{}, Files: ns, Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
	addr := serves(t, s)
	c := dialRaw(t, addr).signIn().connect()
	_, b, err := c.do(message.Create, createBody("", 0x81, 1, message.OptDirectory))
	require.NoError(t, err)
	notify := make([]byte, 32)
	le.PutUint16(notify, 32)
	le.PutUint16(notify[2:], 1) // the whole tree
	le.PutUint32(notify[4:], 4096)
	copy(notify[8:], b[64:80])
	h, _, err := c.do(message.ChangeNotify, notify)
	require.NoError(t, err)
	require.Equal(t, statusPending, Status(h.Status))
	create := func(path string) {
		f, _, err := ns.Open(files.Subject{User: 2, Via: site.SMB}, files.OpenRequest{Share: "nightlog", Path: path, Access: acl.WriteData, Sharing: 7, Disposition: files.CreateOnly})
		require.NoError(t, err)
		require.NoError(t, f.Close())
	}
	create("closed/appointment.txt")
	_ = c.nc.SetReadDeadline(time.Now().Add(300 * time.Millisecond))
	_, _, err = c.receive()
	var timeout net.Error
	require.True(t, errors.As(err, &timeout) && timeout.Timeout(), "nothing is told of it: %v", err)
	_ = c.nc.SetReadDeadline(time.Now().Add(time.Minute))
	create("public.txt")
	h, b, err = c.receive()
	require.NoError(t, err)
	require.Equal(t, statusOK, Status(h.Status))
	require.Contains(t, string(b), string(message.UTF16("public.txt")))
	require.NotContains(t, string(b), string(message.UTF16("appointment")))
}
