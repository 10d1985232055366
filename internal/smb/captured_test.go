package smb

import (
	"bufio"
	"bytes"
	"crypto/hmac"
	"crypto/md5"
	"crypto/rc4"
	"encoding/hex"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	//lint:ignore SA1019 MS-NLMP section 3.3.1 builds NTLMv2 on it
	"golang.org/x/crypto/md4"

	"amber.example/gatekeeper/internal/smb/message"
)

// frame is one of a conversation that was taken down: see test/capture_test.go.
type capturedFrame struct {
	fromClient bool
	b          []byte
}

func captured(t *testing.T, name string) (out []capturedFrame) {
	f, err := os.Open("testdata/captured/" + name + ".txt")
	require.NoError(t, err)
	defer f.Close()
	lines := bufio.NewScanner(f)
	lines.Buffer(nil, 1<<22)
	for lines.Scan() {
		way, text, _ := strings.Cut(lines.Text(), " ")
		if way == "#" {
			continue
		}
		b, err := hex.DecodeString(text)
		require.NoError(t, err)
		out = append(out, capturedFrame{way == ">", b})
	}
	require.NoError(t, lines.Err())
	require.NotEmpty(t, out)
	return out
}

// sessionKey is what MS-NLMP section 3.3.2 makes of a password and an AUTHENTICATE_MESSAGE, here from the
// standard and not by internal/ntlm.
func sessionKey(t *testing.T, user, password string, token []byte) []byte {
	at := bytes.LastIndex(token, []byte("NTLMSSP\x00"))
	require.GreaterOrEqual(t, at, 0)
	msg := token[at:]
	field := func(i int) []byte {
		n, o := int(le.Uint16(msg[i:])), int(le.Uint32(msg[i+4:]))
		return msg[o : o+n]
	}
	mac := func(key []byte, parts ...[]byte) []byte {
		m := hmac.New(md5.New, key)
		for _, p := range parts {
			m.Write(p)
		}
		return m.Sum(nil)
	}
	h := md4.New()
	h.Write(message.UTF16(password))
	key := mac(h.Sum(nil), message.UTF16(strings.ToUpper(user)), field(28))
	key = mac(key, field(20)[:16])
	if le.Uint32(msg[60:])&0x40000000 != 0 {
		c, err := rc4.NewCipher(key)
		require.NoError(t, err)
		key = make([]byte, 16)
		c.XORKeyStream(key, field(52))
	}
	return key
}

// Conversations of other people's clients are taken apart as they were meant, and the keys that follow from them verify
// every signature on both sides.
func TestCapturedConversations(t *testing.T) {
	for name, c := range map[string]struct {
		dialect   uint16
		algorithm uint16
		names     []string // of CREATE
		commands  []message.Command
	}{
		"python-2.1":  {dialect21, signHMAC, []string{"", "README.txt", "new"}, []message.Command{message.Negotiate, message.SessionSetup, message.TreeConnect, message.Create, message.QueryDirectory, message.Read, message.Write, message.SetInfo, message.Close, message.Logoff}},
		"go-3.1.1":    {dialect311, signCMAC, []string{"", "README.txt", "captured.txt"}, []message.Command{message.Negotiate, message.SessionSetup, message.TreeConnect, message.Create, message.QueryDirectory, message.Read, message.Write, message.SetInfo, message.Close, message.TreeDisconnect, message.Logoff}},
		"linux-3.0":   {dialect30, signCMAC, []string{"", "README.txt", "captured", "made"}, []message.Command{message.Negotiate, message.SessionSetup, message.TreeConnect, message.Create, message.QueryDirectory, message.Read, message.Write, message.SetInfo, message.Lock, message.Ioctl, message.Close, message.TreeDisconnect, message.Logoff}},
		"linux-3.1.1": {dialect311, signCMAC, []string{"", "README.txt", "captured", "made"}, []message.Command{message.Negotiate, message.SessionSetup, message.TreeConnect, message.Create, message.QueryDirectory, message.Read, message.Write, message.SetInfo, message.Lock, message.Ioctl, message.Close, message.TreeDisconnect, message.Logoff}},
	} {
		t.Run(name, func(t *testing.T) {
			var preauth [64]byte
			var sign signer
			var token []byte
			names, commands := make(map[string]bool), make(map[message.Command]bool)
			signed, algorithm := 0, c.algorithm
			for _, f := range captured(t, name) {
				if string(f.b[:4]) == "\xffSMB" {
					continue
				}
				for rest := f.b; ; {
					var h message.Header
					require.NoError(t, h.Parse(rest))
					msg := rest
					if h.Next != 0 {
						msg, rest = rest[:h.Next], rest[h.Next:]
					}
					commands[h.Command] = true
					require.Equal(t, !f.fromClient, h.Flags&message.FlagResponse != 0)
					if sign == nil && (h.Command == message.Negotiate || h.Command == message.SessionSetup && h.Status != 0 || h.Command == message.SessionSetup && f.fromClient) {
						preauth = extend(preauth, msg)
					}
					switch {
					case f.fromClient && h.Command == message.SessionSetup:
						var m message.SessionSetupRequest
						require.NoError(t, m.Parse(msg))
						token = m.Token
					case !f.fromClient && h.Command == message.Negotiate:
						var m message.NegotiateResponse
						require.NoError(t, m.Parse(msg))
						if m.Dialect == dialectWild {
							break
						}
						require.Equal(t, c.dialect, m.Dialect)
						for _, one := range m.Contexts {
							if one.Type == message.ContextSigning {
								algorithm = le.Uint16(one.Data[2:])
							}
						}
					case !f.fromClient && h.Command == message.SessionSetup && h.Status == 0:
						key := sessionKey(t, "piran", "piran-at-larkfell", token)
						switch c.dialect {
						case dialect30:
							key = deriveKey(key, "SMB2AESCMAC\x00", []byte("SmbSign\x00"))
						case dialect311:
							key = deriveKey(key, "SMBSigningKey\x00", preauth[:])
						}
						var err error
						sign, err = newSigner(algorithm, key)
						require.NoError(t, err)
					case f.fromClient && h.Command == message.Create:
						var m message.CreateRequest
						require.NoError(t, m.Parse(msg))
						path, status := fromWire(m.Name)
						require.Equal(t, statusOK, status)
						names[path] = true
						_, _, status = genericAccess(m.Access)
						require.Equal(t, statusOK, status)
					}
					if sign != nil && h.Flags&message.FlagSigned != 0 {
						require.True(t, verifyMessage(sign, msg), "%v from the client %v", h.Command, f.fromClient)
						signed++
						msg[len(msg)-1] ^= 1
						require.False(t, verifyMessage(sign, msg))
						msg[len(msg)-1] ^= 1
					}
					if h.Next == 0 {
						break
					}
				}
			}
			for _, n := range c.names {
				require.True(t, names[n], "%q in %v", n, names)
			}
			for _, cmd := range c.commands {
				require.True(t, commands[cmd], "%v", cmd)
			}
			require.Greater(t, signed, 20)
		})
	}
}
