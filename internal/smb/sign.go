package smb

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/hmac"
	"crypto/sha256"
	"crypto/subtle"
	"sync"

	"amber.example/gatekeeper/internal/smb/message"
)

// signer makes the 16-byte signature of a message whose signature field is zero,
// MS-SMB2 section 3.1.4.1.
type signer interface {
	sign(msg []byte) [16]byte
}

// Signing algorithms as numbered in MS-SMB2 section 2.2.3.1.7.
const (
	signHMAC = 0
	signCMAC = 1
	signGMAC = 2
)

func newSigner(algorithm uint16, key []byte) (signer, error) {
	switch algorithm {
	case signHMAC:
		return hmacSigner(key), nil
	case signCMAC:
		return newCMAC(key)
	}
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	aead, err := cipher.NewGCM(block)
	return gmacSigner{aead}, err
}

type hmacSigner []byte

func (k hmacSigner) sign(msg []byte) (out [16]byte) {
	h := hmac.New(sha256.New, k)
	h.Write(msg)
	var sum [sha256.Size]byte
	copy(out[:], h.Sum(sum[:0]))
	return out
}

// gmacSigner is AES-GMAC with the nonce of MS-SMB2 section 3.1.4.1.
type gmacSigner struct{ aead cipher.AEAD }

// gmacWork is the memory of one: what goes through an interface does not stay on the stack.
type gmacWork struct {
	nonce [12]byte
	sum   [16]byte
}

var gmacWorks = sync.Pool{New: func() any { return new(gmacWork) }}

func (g gmacSigner) sign(msg []byte) (out [16]byte) {
	w := gmacWorks.Get().(*gmacWork)
	defer gmacWorks.Put(w)
	nonce := &w.nonce
	clear(nonce[:])
	var h message.Header
	if h.Parse(msg) != nil {
		return out
	}
	le.PutUint64(nonce[:], h.MessageID)
	if h.Flags&message.FlagResponse != 0 {
		nonce[8] |= 1
	}
	if h.Command == message.Cancel {
		nonce[8] |= 2
	}
	copy(out[:], g.aead.Seal(w.sum[:0], nonce[:], nil, msg))
	return out
}

// cmacSigner is AES-128-CMAC, RFC 4493.
type cmacSigner struct {
	block  cipher.Block
	k1, k2 [16]byte
}

func newCMAC(key []byte) (*cmacSigner, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	c := &cmacSigner{block: block}
	block.Encrypt(c.k1[:], c.k1[:])
	c.k1 = double(c.k1)
	c.k2 = double(c.k1)
	return c, nil
}

func double(in [16]byte) (out [16]byte) {
	carry := byte(0)
	for i := 15; i >= 0; i-- {
		out[i] = in[i]<<1 | carry
		carry = in[i] >> 7
	}
	out[15] ^= 0x87 & -carry
	return out
}

func (c *cmacSigner) sign(msg []byte) (x [16]byte) {
	for len(msg) > 16 {
		subtle.XORBytes(x[:], x[:], msg[:16])
		c.block.Encrypt(x[:], x[:])
		msg = msg[16:]
	}
	last := c.k1
	if len(msg) < 16 {
		last = c.k2
		last[len(msg)] ^= 0x80
	}
	subtle.XORBytes(last[:], last[:], msg)
	subtle.XORBytes(x[:], x[:], last[:])
	c.block.Encrypt(x[:], x[:])
	return x
}

// deriveKey is deriveBits for 128 bits.
func deriveKey(key []byte, label string, context []byte) []byte {
	return deriveBits(key, label, context, 128)
}

// deriveBits is the counter-mode KDF of NIST SP 800-108 with HMAC-SHA256 and a
// result of so many bits, 256 at most, MS-SMB2 section 3.1.4.2.
func deriveBits(key []byte, label string, context []byte, bits int) []byte {
	h := hmac.New(sha256.New, key)
	h.Write([]byte{0, 0, 0, 1})
	h.Write([]byte(label))
	h.Write([]byte{0})
	h.Write(context)
	h.Write([]byte{0, 0, byte(bits >> 8), byte(bits)})
	return h.Sum(nil)[:bits/8]
}

// signMessage puts the signature into a message.
func signMessage(s signer, msg []byte) {
	message.MarkSigned(msg)
	clear(msg[message.SignatureAt : message.SignatureAt+16])
	sum := s.sign(msg)
	copy(msg[message.SignatureAt:], sum[:])
}

// verifyMessage checks a message's signature; the message is left as it was.
func verifyMessage(s signer, msg []byte) bool {
	var got [16]byte
	copy(got[:], msg[message.SignatureAt:])
	clear(msg[message.SignatureAt : message.SignatureAt+16])
	want := s.sign(msg)
	copy(msg[message.SignatureAt:], got[:])
	return subtle.ConstantTimeCompare(got[:], want[:]) == 1
}
