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
	h.Write(utf16le(password))
	key := mac(h.Sum(nil), utf16le(strings.ToUpper(user)), field(28))
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
		commands  []command
	}{
		"python-2.1": {dialect21, signHMAC, []string{"", "README.txt", "new"}, []command{cmdNegotiate, cmdSessionSetup, cmdTreeConnect, cmdCreate, cmdQueryDirectory, cmdRead, cmdWrite, cmdSetInfo, cmdClose, cmdLogoff}},
		"go-3.1.1":   {dialect311, signCMAC, []string{"", "README.txt", "captured.txt"}, []command{cmdNegotiate, cmdSessionSetup, cmdTreeConnect, cmdCreate, cmdQueryDirectory, cmdRead, cmdWrite, cmdSetInfo, cmdClose, cmdTreeDisconnect, cmdLogoff}},
	} {
		t.Run(name, func(t *testing.T) {
			var preauth [64]byte
			var sign signer
			var token []byte
			names, commands := make(map[string]bool), make(map[command]bool)
			signed, algorithm := 0, c.algorithm
			for _, f := range captured(t, name) {
				if string(f.b[:4]) == "\xffSMB" {
					continue
				}
				for rest := f.b; ; {
					h, err := parseHeader(rest)
					require.NoError(t, err)
					msg := rest
					if h.next != 0 {
						msg, rest = rest[:h.next], rest[h.next:]
					}
					b := body(msg[headerSize:])
					commands[h.command] = true
					require.Equal(t, !f.fromClient, h.flags&flagResponse != 0)
					again := make([]byte, headerSize)
					h.status = Status(le.Uint32(msg[8:]))
					h.put(again)
					copy(again[signatureAt:], msg[signatureAt:headerSize])
					if h.flags&flagAsync == 0 {
						copy(again[32:36], msg[32:36]) // reserved
					}
					require.Equal(t, msg[8:32], again[8:32], "%v", h.command)
					if sign == nil && (h.command == cmdNegotiate || h.command == cmdSessionSetup && h.status != statusOK || h.command == cmdSessionSetup && f.fromClient) {
						preauth = extend(preauth, msg)
					}
					switch {
					case f.fromClient && h.command == cmdSessionSetup:
						var ok bool
						require.True(t, b.fixed(25))
						token, ok = b.buffer(int(le.Uint16(b[12:])), int(le.Uint16(b[14:])))
						require.True(t, ok)
					case !f.fromClient && h.command == cmdNegotiate && le.Uint16(b[4:]) != dialectWild:
						require.Equal(t, c.dialect, le.Uint16(b[4:]))
						if c.dialect == dialect311 && bytes.Contains(msg, []byte{contextSigning, 0, 4, 0, 0, 0, 0, 0, 1, 0, signGMAC, 0}) {
							algorithm = signGMAC
						}
					case !f.fromClient && h.command == cmdSessionSetup && h.status == statusOK:
						key := sessionKey(t, "piran", "piran-at-larkfell", token)
						if c.dialect == dialect311 {
							key = deriveKey(key, "SMBSigningKey\x00", preauth[:])
						}
						var err error
						sign, err = newSigner(algorithm, key)
						require.NoError(t, err)
					case f.fromClient && h.command == cmdCreate:
						require.True(t, b.fixed(57))
						raw, ok := b.buffer(int(le.Uint16(b[44:])), int(le.Uint16(b[46:])))
						require.True(t, ok)
						path, status := fromWire(raw)
						require.Equal(t, statusOK, status)
						names[path] = true
						contexts, ok := b.buffer(int(le.Uint32(b[48:])), int(le.Uint32(b[52:])))
						require.True(t, ok)
						_, ok = createContexts(contexts)
						require.True(t, ok)
						_, _, status = genericAccess(le.Uint32(b[24:]))
						require.Equal(t, statusOK, status)
					}
					if sign != nil && h.flags&flagSigned != 0 {
						require.True(t, verifyMessage(sign, msg), "%v from the client %v", h.command, f.fromClient)
						signed++
						msg[len(msg)-1] ^= 1
						require.False(t, verifyMessage(sign, msg))
						msg[len(msg)-1] ^= 1
					}
					if h.next == 0 {
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
