// Package ntlm is the server's side of NTLMv2 (MS-NLMP) and of the SPNEGO
// exchange around it (RFC 4178, MS-SPNG). LM, NTLMv1 and anonymous sign-in are not
// spoken: an attempt fails like a wrong password.
package ntlm

import (
	"bytes"
	"crypto/hmac"
	"crypto/md5"
	"crypto/rand"
	"crypto/rc4"
	"crypto/subtle"
	"encoding/binary"
	"errors"
	"strings"
	"time"
	"unicode/utf16"
)

// ErrMalformed is returned for what is no NTLM or SPNEGO message.
var ErrMalformed = errors.New("malformed authentication message")

// ErrWrong is returned for a wrong user or password, and for the old protocols.
var ErrWrong = errors.New("authentication failed")

// ErrMustChange and ErrPasswordOver say that the password is right and opens nothing: somebody else has set it, or it is older than passwords may be.
var (
	ErrMustChange   = errors.New("the password has to be changed first")
	ErrPasswordOver = errors.New("the password is too old")
)

// ErrPutOff says that a password was not looked at, since too many wrong ones came before.
var ErrPutOff = errors.New("too many wrong passwords")

const (
	signature = "NTLMSSP\x00"

	flagUnicode          = 0x00000001
	flagRequestTarget    = 0x00000004
	flagSign             = 0x00000010
	flagSeal             = 0x00000020
	flagNTLM             = 0x00000200
	flagAnonymous        = 0x00000800
	flagAlwaysSign       = 0x00008000
	flagTargetServer     = 0x00020000
	flagExtendedSecurity = 0x00080000
	flagTargetInfo       = 0x00800000
	flagVersion          = 0x02000000
	flag128              = 0x20000000
	flagKeyExchange      = 0x40000000
	flag56               = 0x80000000

	avEOL, avComputer, avDomain, avDNSComputer, avDNSDomain, avFlags, avTimestamp = 0, 1, 2, 3, 4, 6, 7

	longestMessage = 16 << 10
	longestName    = 256 // bytes of a name
)

// Credentials finds the secret of a user by name and has it compared, nil for who has none: nil if it is right, else
// ErrWrong, or ErrPutOff where it was not compared.
type Credentials func(user string, compare func(ntHash []byte) bool) error

// exchange is one NTLM sign-in, from the first message to the last.
type exchange struct {
	serverName string
	negotiate  []byte
	challenge  []byte
	nonce      [8]byte
	flags      uint32
	user       string
	key        []byte       // the exported session key
	nobody     func() error // see SignIn.LetNobodyIn
	anonymous  bool
}

func utf16le(s string) []byte {
	var out []byte
	for _, u := range utf16.Encode([]rune(s)) {
		out = binary.LittleEndian.AppendUint16(out, u)
	}
	return out
}

func fromUTF16(b []byte) string {
	units := make([]uint16, len(b)/2)
	for i := range units {
		units[i] = binary.LittleEndian.Uint16(b[2*i:])
	}
	return string(utf16.Decode(units))
}

// begin takes NEGOTIATE_MESSAGE and gives CHALLENGE_MESSAGE, MS-NLMP sections
// 2.2.1.1 and 2.2.1.2.
func (x *exchange) begin(msg []byte) ([]byte, error) {
	if len(msg) < 16 || len(msg) > longestMessage || string(msg[:8]) != signature || binary.LittleEndian.Uint32(msg[8:]) != 1 {
		return nil, ErrMalformed
	}
	x.negotiate = bytes.Clone(msg)
	asked := binary.LittleEndian.Uint32(msg[12:])
	if asked&flagExtendedSecurity == 0 || asked&flagUnicode == 0 {
		return nil, ErrWrong // nothing that could lead to NTLMv2
	}
	x.flags = asked&(flagSign|flagSeal|flagKeyExchange|flag128|flag56|flagAlwaysSign) |
		flagUnicode | flagRequestTarget | flagNTLM | flagTargetServer | flagExtendedSecurity | flagTargetInfo | flagVersion
	rand.Read(x.nonce[:])

	name := utf16le(strings.ToUpper(x.serverName))
	dns := utf16le(strings.ToLower(x.serverName))
	var info []byte
	av := func(id uint16, value []byte) {
		info = binary.LittleEndian.AppendUint16(info, id)
		info = binary.LittleEndian.AppendUint16(info, uint16(len(value)))
		info = append(info, value...)
	}
	av(avDomain, name)
	av(avComputer, name)
	av(avDNSDomain, dns)
	av(avDNSComputer, dns)
	av(avTimestamp, binary.LittleEndian.AppendUint64(nil, uint64(time.Now().UnixNano()/100+116444736000000000)))
	av(avEOL, nil)

	const fixed = 56
	out := make([]byte, fixed, fixed+len(name)+len(info))
	copy(out, signature)
	binary.LittleEndian.PutUint32(out[8:], 2)
	putField(out[12:], len(name), fixed)
	binary.LittleEndian.PutUint32(out[20:], x.flags)
	copy(out[24:], x.nonce[:])
	putField(out[40:], len(info), fixed+len(name))
	copy(out[48:], []byte{10, 0, 0, 0, 0, 0, 0, 15}) // VERSION, MS-NLMP section 2.2.2.10: the revision is what counts
	out = append(append(out, name...), info...)
	x.challenge = out
	return out, nil
}

func putField(b []byte, length, offset int) {
	binary.LittleEndian.PutUint16(b, uint16(length))
	binary.LittleEndian.PutUint16(b[2:], uint16(length))
	binary.LittleEndian.PutUint32(b[4:], uint32(offset))
}

// field reads a length and offset pair, and what they point at.
func field(msg []byte, at int) ([]byte, bool) {
	if len(msg) < at+8 {
		return nil, false
	}
	length, offset := int(binary.LittleEndian.Uint16(msg[at:])), int(binary.LittleEndian.Uint32(msg[at+4:]))
	if offset < 0 || offset > len(msg) || length > len(msg)-offset {
		return nil, false
	}
	return msg[offset : offset+length], true
}

// finish takes AUTHENTICATE_MESSAGE, MS-NLMP section 2.2.1.3, and checks it as
// sections 3.2.5.1.2 and 3.3.2 say.
func (x *exchange) finish(msg []byte, creds Credentials) error {
	if len(msg) < 64 || len(msg) > longestMessage || string(msg[:8]) != signature || binary.LittleEndian.Uint32(msg[8:]) != 3 {
		return ErrMalformed
	}
	if x.challenge == nil {
		return ErrMalformed
	}
	nt, ok1 := field(msg, 20)
	domain, ok2 := field(msg, 28)
	user, ok3 := field(msg, 36)
	sealedKey, ok4 := field(msg, 52)
	if !ok1 || !ok2 || !ok3 || !ok4 {
		return ErrMalformed
	}
	flags := binary.LittleEndian.Uint32(msg[60:])
	x.user = fromUTF16(user)
	if x.nobody != nil && x.user == "" && len(nt) == 0 {
		x.anonymous = true
		return x.nobody()
	}
	// 24 bytes is NTLMv1, none is anonymous; NTLMv2 has a proof of 16 and a blob of at least 28.
	if x.user == "" || len(x.user) > longestName || flags&flagAnonymous != 0 || len(nt) < 16+28 {
		return ErrWrong
	}
	proof, blob := nt[:16], nt[16:]
	var responseKey []byte
	err := creds(x.user, func(hash []byte) bool {
		known := hash != nil
		if !known {
			hash = make([]byte, 16) // go through the motions
		}
		responseKey = mac(hash, utf16le(strings.ToUpper(x.user)), domain)
		right := subtle.ConstantTimeCompare(mac(responseKey, x.nonce[:], blob), proof) == 1
		return right && known && blob[0] == 1
	})
	if err != nil {
		return err
	}
	x.key = mac(responseKey, proof)
	if flags&x.flags&flagKeyExchange != 0 {
		if len(sealedKey) != 16 {
			return ErrMalformed
		}
		c, err := rc4.NewCipher(x.key)
		if err != nil {
			return err
		}
		exported := make([]byte, 16)
		c.XORKeyStream(exported, sealedKey)
		x.key = exported
	}
	x.flags &= flags | flagVersion
	if promisesMIC(blob[28:]) {
		const at = 72
		if len(msg) < at+16 {
			return ErrMalformed
		}
		zeroed := bytes.Clone(msg)
		clear(zeroed[at : at+16])
		if !hmac.Equal(mac(x.key, x.negotiate, x.challenge, zeroed), msg[at:at+16]) {
			return ErrWrong
		}
	}
	return nil
}

// promisesMIC looks for MsvAvFlags with the bit that says a MIC is there.
func promisesMIC(av []byte) bool {
	for len(av) >= 4 {
		id, n := binary.LittleEndian.Uint16(av), int(binary.LittleEndian.Uint16(av[2:]))
		if av = av[4:]; id == avEOL || n > len(av) {
			return false
		}
		if id == avFlags && n == 4 {
			return binary.LittleEndian.Uint32(av)&2 != 0
		}
		av = av[n:]
	}
	return false
}

func mac(key []byte, parts ...[]byte) []byte {
	h := hmac.New(md5.New, key)
	for _, p := range parts {
		h.Write(p)
	}
	return h.Sum(nil)
}

// derive is SIGNKEY or SEALKEY of MS-NLMP section 3.4.5.2 and 3.4.5.3, for keys of 128
// bits. side is "client-to-server" or "server-to-client", use "signing" or "sealing".
func (x *exchange) derive(side, use string) []byte {
	h := md5.New()
	h.Write(x.key)
	h.Write([]byte("session key to " + side + " " + use + " key magic constant\x00"))
	return h.Sum(nil)
}

// sign is the message signature with extended session security and sequence
// number 0, MS-NLMP section 3.4.4.2.
func (x *exchange) sign(side string, message []byte) []byte {
	seq := []byte{0, 0, 0, 0}
	sum := mac(x.derive(side, "signing"), seq, message)[:8]
	if x.flags&flagKeyExchange != 0 {
		c, err := rc4.NewCipher(x.derive(side, "sealing"))
		if err != nil {
			return nil
		}
		c.XORKeyStream(sum, sum)
	}
	return append(append([]byte{1, 0, 0, 0}, sum...), seq...)
}
