package smb

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"sync/atomic"

	"github.com/pion/dtls/v3/pkg/crypto/ccm"

	"amber.example/gatekeeper/internal/smb/message"
)

// Ciphers as numbered in MS-SMB2 section 2.2.3.1.2.
const (
	cipherCCM128 = 1
	cipherGCM128 = 2
	cipherCCM256 = 3
	cipherGCM256 = 4
)

var cipherNames = map[uint16]string{cipherCCM128: "AES-128-CCM", cipherGCM128: "AES-128-GCM", cipherCCM256: "AES-256-CCM", cipherGCM256: "AES-256-GCM"}

const (
	capEncryption = 0x40
	tagSize       = 16
)

// sealing encrypts and decrypts the messages of a session.
type sealing struct {
	in, out cipher.AEAD
	cipher  uint16
	salt    [4]byte       // the end of each nonce, where there is room for it
	next    atomic.Uint64 // its beginning: no two messages have the same
	used    atomic.Bool   // the client has sealed something
}

// newSealing derives the keys of MS-SMB2 section 3.1.4.2; nil where the two agreed on no cipher. hash is the pre-authentication
// integrity hash, which dialect 3.1.1 has.
func newSealing(dialect, number uint16, sessionKey []byte, hash [64]byte) (*sealing, error) {
	if number == 0 || dialect < dialect30 {
		return nil, nil
	}
	bits := 128
	if number == cipherCCM256 || number == cipherGCM256 {
		bits = 256
	}
	inLabel, inContext, outLabel, outContext := "SMB2AESCCM\x00", []byte("ServerIn \x00"), "SMB2AESCCM\x00", []byte("ServerOut\x00")
	if dialect == dialect311 {
		inLabel, inContext, outLabel, outContext = "SMBC2SCipherKey\x00", hash[:], "SMBS2CCipherKey\x00", hash[:]
	}
	s := &sealing{cipher: number}
	rand.Read(s.salt[:])
	var err error
	if s.in, err = newAEAD(number, deriveBits(sessionKey, inLabel, inContext, bits)); err != nil {
		return nil, err
	}
	s.out, err = newAEAD(number, deriveBits(sessionKey, outLabel, outContext, bits))
	return s, err
}

func newAEAD(number uint16, key []byte) (cipher.AEAD, error) {
	block, err := aes.NewCipher(key)
	if err != nil {
		return nil, err
	}
	if number == cipherGCM128 || number == cipherGCM256 {
		return cipher.NewGCM(block)
	}
	return ccm.NewCCM(block, tagSize, 11)
}

// unseal decrypts a frame in place, MS-SMB2 section 3.3.5.2.1.1, and gives the session that it belongs to. Nothing of a frame that was
// altered, is of a session that is not there, or holds another transform header, is looked at.
func (c *conn) unseal(frame []byte) (msg []byte, s *session, ok bool) {
	var t message.Transform
	if len(frame) < message.TransformSize+message.HeaderSize || t.Parse(frame) != nil {
		return nil, nil, false
	}
	s = c.session(t.SessionID)
	if s == nil || !s.established.Load() || s.sealing == nil || t.Flags != message.TransformSealed || int64(t.Size) != int64(len(frame)-message.TransformSize) {
		return nil, nil, false
	}
	aead := s.sealing.in
	// The tag stands before what it is about; the library wants it behind.
	sealed := append(frame[message.TransformSize:], t.Signature[:]...)
	msg, err := aead.Open(sealed[:0], t.Nonce[:aead.NonceSize()], sealed, frame[message.NonceAt:message.TransformSize])
	if err != nil || message.IsTransform(msg) {
		return nil, nil, false
	}
	s.sealing.used.Store(true)
	return msg, s, true
}

// seal encrypts messages as one, MS-SMB2 section 3.1.4.3, in the place of the first where there is room.
func (s *session) seal(msgs [][]byte) [][]byte {
	whole := msgs[0]
	for _, m := range msgs[1:] {
		whole = append(whole, m...)
	}
	t := message.Transform{Size: uint32(len(whole)), Flags: message.TransformSealed, SessionID: s.id}
	le.PutUint64(t.Nonce[:], s.sealing.next.Add(1))
	if s.sealing.out.NonceSize() == 12 {
		copy(t.Nonce[8:], s.sealing.salt[:])
	}
	head := t.Append(make([]byte, 0, message.TransformSize))
	n := len(whole)
	out := s.sealing.out.Seal(whole[:0], t.Nonce[:s.sealing.out.NonceSize()], whole, head[message.NonceAt:])
	copy(t.Signature[:], out[n:])
	return [][]byte{t.Append(head[:0]), out[:n]}
}

// sealsShare says whether nothing on a share may go over the wire open, by the policy in force.
func (s *Server) sealsShare(t *tree) bool {
	p := s.Policy()
	if t.share == "" { // in no folder
		return p.Services.SMBEncrypted
	}
	sh := p.ShareNamed(t.share)
	return sh != nil && p.Sealed(sh)
}

// maySend says whether a request may use a share as it came: encrypted, where the share requires that (MS-SMB2 section 3.3.5.2.11).
func (r *request) maySend(t *tree) bool { return r.sealed != nil || !r.c.srv.sealsShare(t) }

// chooseCipher takes the first of a client's that is known here, in the client's order; 0 for none.
func chooseCipher(data []byte) uint16 {
	if len(data) < 2 {
		return 0
	}
	for i := range int(le.Uint16(data)) {
		if len(data) < 2*i+4 {
			return 0
		}
		if number := le.Uint16(data[2*i+2:]); cipherNames[number] != "" {
			return number
		}
	}
	return 0
}
