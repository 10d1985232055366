package smb

import (
	"crypto/aes"
	"crypto/cipher"
	"crypto/rand"
	"encoding/binary"
	"sync/atomic"

	"github.com/pion/dtls/v3/pkg/crypto/ccm"
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
	contextEncryption = 2
	capEncryption     = 0x40

	shareSealed   = 0x8000 // SMB2_SHAREFLAG_ENCRYPT_DATA
	sessionSealed = 4      // SMB2_SESSION_FLAG_ENCRYPT_DATA

	// The transform header, MS-SMB2 section 2.2.41: protocol, signature, nonce, size, reserved, flags, session.
	transformSize = 52
	transformFlag = 1 // encrypted
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

// isSealed says whether a frame holds a transform header.
func isSealed(frame []byte) bool { return len(frame) >= 4 && string(frame[:4]) == "\xfdSMB" }

// unseal decrypts a frame in place, MS-SMB2 section 3.3.5.2.1.1, and gives the session that it belongs to. Nothing of a frame that was
// altered, is of a session that is not there, or holds another transform header, is looked at.
func (c *conn) unseal(frame []byte) (msg []byte, s *session, ok bool) {
	if len(frame) < transformSize+headerSize {
		return nil, nil, false
	}
	head := frame[:transformSize]
	size, flags, id := le.Uint32(head[36:]), le.Uint16(head[42:]), le.Uint64(head[44:])
	s = c.session(id)
	if s == nil || !s.established.Load() || s.sealing == nil || flags != transformFlag || int64(size) != int64(len(frame)-transformSize) {
		return nil, nil, false
	}
	aead := s.sealing.in
	// The tag stands before what it is about; the library wants it behind.
	sealed := append(frame[transformSize:], head[4:4+tagSize]...)
	msg, err := aead.Open(sealed[:0], head[20:20+aead.NonceSize()], sealed, head[20:])
	if err != nil || isSealed(msg) {
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
	head := make([]byte, transformSize)
	copy(head, "\xfdSMB")
	binary.LittleEndian.PutUint64(head[20:], s.sealing.next.Add(1))
	if s.sealing.out.NonceSize() == 12 {
		copy(head[28:], s.sealing.salt[:])
	}
	le.PutUint32(head[36:], uint32(len(whole)))
	le.PutUint16(head[42:], transformFlag)
	le.PutUint64(head[44:], s.id)
	n := len(whole)
	out := s.sealing.out.Seal(whole[:0], head[20:20+s.sealing.out.NonceSize()], whole, head[20:])
	copy(head[4:], out[n:])
	return [][]byte{head, out[:n]}
}

// sealsShare says whether nothing on a share may go over the wire open, by the policy in force.
func (s *Server) sealsShare(t *tree) bool {
	if t.pipes() {
		return false
	}
	sh := s.Policy().ShareNamed(t.share)
	return sh != nil && sh.Encrypted
}

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
