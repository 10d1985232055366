package ntlm

import (
	"bytes"
	"crypto/rc4"
	"encoding/asn1"
	"encoding/binary"
	"encoding/hex"
	"testing"

	"github.com/stretchr/testify/require"
)

func unhex(t testing.TB, s string) []byte {
	t.Helper()
	b, err := hex.DecodeString(s)
	require.NoError(t, err)
	return b
}

// The NTLMv2 example of MS-NLMP section 4.2.4: User, Domain, Password.
func TestNTLMv2Example(t *testing.T) {
	hash := unhex(t, "a4f49c406510bdcab6824ee7c30fd852") // NTOWFv1, section 4.2.2.1.2
	key := mac(hash, utf16le("USER"), utf16le("Domain"))
	require.Equal(t, "0c868a403bfd7a93a3001ef22ef02e3f", hex.EncodeToString(key))
	blob := unhex(t, "01010000000000000000000000000000aaaaaaaaaaaaaaaa0000000002000c0044006f006d00610069006e0001000c005300650072007600650072000000000000000000")
	proof := mac(key, unhex(t, "0123456789abcdef"), blob)
	require.Equal(t, "68cd0ab851e51c96aabc927bebef6a1c", hex.EncodeToString(proof))
	require.Equal(t, "8de40ccadbc14a82f15cb0ad0de95ca3", hex.EncodeToString(mac(key, proof)))

	// The same through the messages.
	x := exchange{challenge: []byte{1}}
	copy(x.nonce[:], unhex(t, "0123456789abcdef"))
	msg := authenticate("User", "Domain", append(proof, blob...))
	require.NoError(t, x.finish(msg, known(hash)))
	require.Equal(t, "8de40ccadbc14a82f15cb0ad0de95ca3", hex.EncodeToString(x.key))
	for name, spoil := range map[string]func(m []byte){
		"proof": func(m []byte) { m[len(m)-1] ^= 1 }, "user": func(m []byte) { m[64] ^= 1 }, "anonymous": func(m []byte) { m[61] |= flagAnonymous >> 8 },
	} {
		bad := authenticate("User", "Domain", append(proof, blob...))
		spoil(bad)
		require.ErrorIs(t, (&exchange{challenge: []byte{1}, nonce: x.nonce}).finish(bad, known(hash)), ErrWrong, name)
	}
}

// The signing example of MS-NLMP section 4.2.4.4, which seals "Plaintext" before it signs:
// the checksum is enciphered with what follows in the same key stream.
func TestSigningExample(t *testing.T) {
	x := exchange{key: bytes.Repeat([]byte{0x55}, 16), flags: flagKeyExchange}
	require.Equal(t, "4788dc861b4782f35d43fd98fe1a2d39", hex.EncodeToString(x.derive("client-to-server", "signing")))
	require.Equal(t, "59f600973cc4960a25480a7c196e4c58", hex.EncodeToString(x.derive("client-to-server", "sealing")))
	plain := utf16le("Plaintext")
	c, err := rc4.NewCipher(x.derive("client-to-server", "sealing"))
	require.NoError(t, err)
	sealed := make([]byte, len(plain))
	c.XORKeyStream(sealed, plain)
	require.Equal(t, "54e50165bf1936dc996020c1811b0f06fb5f", hex.EncodeToString(sealed))
	sum := mac(x.derive("client-to-server", "signing"), []byte{0, 0, 0, 0}, plain)[:8]
	c.XORKeyStream(sum, sum)
	require.Equal(t, "7fb38ec5c55d4976", hex.EncodeToString(sum))
	// Without sealing first, sign enciphers with the start of the stream.
	want := mac(x.derive("client-to-server", "signing"), []byte{0, 0, 0, 0}, plain)[:8]
	c, err = rc4.NewCipher(x.derive("client-to-server", "sealing"))
	require.NoError(t, err)
	c.XORKeyStream(want, want)
	require.Equal(t, "01000000"+hex.EncodeToString(want)+"00000000", hex.EncodeToString(x.sign("client-to-server", plain)))
	require.NotEqual(t, x.sign("client-to-server", plain), x.sign("server-to-client", plain))
}

func authenticate(user, domain string, response []byte) []byte {
	msg := make([]byte, 64)
	copy(msg, signature)
	binary.LittleEndian.PutUint32(msg[8:], 3)
	for _, f := range []struct {
		at   int
		data []byte
	}{{36, utf16le(user)}, {28, utf16le(domain)}, {20, response}} {
		putField(msg[f.at:], len(f.data), len(msg))
		msg = append(msg, f.data...)
	}
	return msg
}

func negotiate(flags uint32) []byte {
	msg := make([]byte, 32)
	copy(msg, signature)
	binary.LittleEndian.PutUint32(msg[8:], 1)
	binary.LittleEndian.PutUint32(msg[12:], flags)
	return msg
}

// known is for tests in which everybody has one secret.
func known(secret []byte) Credentials {
	return func(_ string, compare func([]byte) bool) error {
		if !compare(secret) {
			return ErrWrong
		}
		return nil
	}
}

const modern = flagUnicode | flagExtendedSecurity | flagNTLM

// LM and NTLMv1, whose answers are 24 bytes, and anonymous sign-in never get in.
func TestOldProtocolsAreRefused(t *testing.T) {
	for name, msg := range map[string][]byte{
		"NTLMv1": authenticate("wren", "", make([]byte, 24)), "LM only": authenticate("wren", "", nil), "no name": authenticate("", "", make([]byte, 60)),
	} {
		s := New("larkfell")
		_, done, err := s.Step(negotiate(modern), nil)
		require.NoError(t, err)
		require.False(t, done)
		_, done, err = s.Step(msg, known(make([]byte, 16)))
		require.ErrorIs(t, err, ErrWrong, name)
		require.False(t, done)
	}
	_, _, err := New("larkfell").Step(negotiate(flagUnicode|flagNTLM), nil)
	require.ErrorIs(t, err, ErrWrong, "without extended security")
}

func TestClientThatWouldRatherHaveAnotherMechanism(t *testing.T) {
	kerberos := asn1.ObjectIdentifier{1, 2, 840, 113554, 1, 2, 2}
	body, err := asn1.Marshal(negTokenInit{MechTypes: []asn1.ObjectIdentifier{kerberos, oidNTLM}, MechToken: []byte("ticket")})
	require.NoError(t, err)
	oid, err := asn1.Marshal(oidSPNEGO)
	require.NoError(t, err)
	s := New("larkfell")
	reply, done, err := s.Step(wrap(asn1.ClassApplication, 0, append(oid, wrap(asn1.ClassContextSpecific, 0, body)...)), nil)
	require.NoError(t, err)
	require.False(t, done)
	resp, err := parseResp(reply)
	require.NoError(t, err)
	require.True(t, resp.SupportedMech.Equal(oidNTLM))
	reply, _, err = s.Step(respond(negTokenResp{NegState: stateIncomplete, ResponseToken: negotiate(modern)}), nil)
	require.NoError(t, err)
	resp, err = parseResp(reply)
	require.NoError(t, err)
	require.Equal(t, signature, string(resp.ResponseToken[:8]))
}

// Whatever a client sends: no panic, and nobody gets in without the secret.
func FuzzStep(f *testing.F) {
	f.Add(negotiate(modern), authenticate("wren", "LARKFELL", make([]byte, 60)))
	f.Add(Hint(), respond(negTokenResp{NegState: stateCompleted, ResponseToken: authenticate("wren", "", make([]byte, 44))}))
	f.Add([]byte{0x60}, []byte{0xa1, 0x80})
	f.Fuzz(func(t *testing.T, first, second []byte) {
		s := New("larkfell")
		secret := []byte("0123456789abcdef")
		for _, token := range [][]byte{first, second, second} {
			if _, done, _ := s.Step(token, known(secret)); done {
				t.Fatal("signed in")
			}
		}
	})
}
