package smb

import (
	"crypto/rand"
	"crypto/sha512"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/ntlm"
)

// clientHello is what a client said first, for FSCTL_VALIDATE_NEGOTIATE_INFO.
type clientHello struct {
	capabilities uint32
	guid         [16]byte
	mode         uint16
	dialects     []uint16
}

// negotiateSMB1 answers the old negotiation by which some clients ask whether the
// server speaks SMB 2, MS-SMB2 section 3.3.5.3.
func (c *conn) negotiateSMB1(msg []byte) bool {
	const commandNegotiate = 0x72
	if c.negotiated || len(msg) < 35 || msg[4] != commandNegotiate {
		return false
	}
	for name := range strings.SplitSeq(string(msg[35:]), "\x00") {
		if strings.TrimPrefix(name, "\x02") == "SMB 2.???" {
			r := &request{c: c}
			c.transmit([]*reply{r.finish(c.helloReply(dialectWild, nil), statusOK)})
			return true
		}
	}
	return false
}

func (c *conn) helloReply(dialect uint16, contexts []byte) *reply {
	hint := ntlm.Hint()
	rep := newReply(256).fixed(65, 64)
	b := rep.at(0)
	le.PutUint16(b[2:], signingEnabled|signingRequired)
	le.PutUint16(b[4:], dialect)
	copy(b[8:], c.srv.guid[:])
	le.PutUint32(b[24:], c.capabilities())
	le.PutUint32(b[28:], maxTransact)
	le.PutUint32(b[32:], maxTransact)
	le.PutUint32(b[36:], maxTransact)
	le.PutUint64(b[40:], filetime(time.Now()))
	le.PutUint16(b[56:], headerSize+64)
	le.PutUint16(b[58:], uint16(len(hint)))
	rep.b = append(rep.b, hint...)
	if len(contexts) > 0 {
		for len(rep.b)%8 != 0 {
			rep.b = append(rep.b, 0)
		}
		le.PutUint32(rep.at(60), uint32(len(rep.b)))
		rep.b = append(rep.b, contexts...)
	}
	return rep
}

// capabilities are the server's, MS-SMB2 section 2.2.4.
func (c *conn) capabilities() uint32 {
	if c.cipher != 0 && c.dialect != dialect311 { // there, a context says so
		return capLargeMTU | capEncryption
	}
	return capLargeMTU
}

// negotiate is MS-SMB2 section 3.3.5.4.
func (r *request) negotiate() (*reply, Status, bool) {
	c := r.c
	if c.negotiated {
		return nil, 0, false
	}
	fail := func() (*reply, Status, bool) { return newReply(16), statusInvalidParameter, true }
	if !r.body.fixed(36) {
		return fail()
	}
	count := int(le.Uint16(r.body[2:]))
	if count == 0 || count > 64 || len(r.body) < 36+2*count {
		return fail()
	}
	c.client.dialects = c.client.dialects[:0] // of a try before that came to nothing
	c.client.mode = le.Uint16(r.body[4:])
	c.client.capabilities = le.Uint32(r.body[8:])
	copy(c.client.guid[:], r.body[12:28])
	best := uint16(0)
	for i := range count {
		d := le.Uint16(r.body[36+2*i:])
		c.client.dialects = append(c.client.dialects, d)
		if (d == dialect21 || d == dialect30 || d == dialect302 || d == dialect311) && d > best {
			best = d
		}
	}
	var contexts []byte
	ctxCount := uint16(1)
	switch best {
	case 0:
		return newReply(16), statusNotSupported, true
	case dialect21:
		c.signing = signHMAC
	case dialect30, dialect302:
		c.signing = signCMAC
		if c.client.capabilities&capEncryption != 0 {
			c.cipher = cipherCCM128
		}
	case dialect311:
		c.signing = signCMAC
		offered, ok := r.negotiateContexts()
		if !ok {
			return fail()
		}
		hash, ok := offered[contextPreauth]
		if !ok || !listed(hash, 4, preauthSHA512) {
			return newReply(16), statusSMBNoPreauthOverlap, true
		}
		salt := make([]byte, 32)
		rand.Read(salt)
		data := []byte{1, 0, 32, 0, preauthSHA512, 0}
		contexts = appendContext(contexts, contextPreauth, append(data, salt...))
		if ciphers, ok := offered[contextEncryption]; ok {
			c.cipher = chooseCipher(ciphers)
			contexts = appendContext(contexts, contextEncryption, []byte{1, 0, byte(c.cipher), 0})
			ctxCount++
		}
		// GMAC where the client can: hardware does it many times faster than CMAC.
		if algorithms, ok := offered[contextSigning]; ok {
			if listed(algorithms, 2, signGMAC) {
				c.signing = signGMAC
			} else if !listed(algorithms, 2, signCMAC) {
				c.signing = signHMAC
			}
			contexts = appendContext(contexts, contextSigning, []byte{1, 0, byte(c.signing), 0})
			ctxCount++
		}
	}
	c.dialect, c.negotiated = best, true
	rep := c.helloReply(best, contexts)
	if best == dialect311 {
		le.PutUint16(rep.at(6), ctxCount)
		c.preauth = extend(c.preauth, r.raw)
	}
	rep = r.finish(rep, statusOK)
	rep.h.put(rep.b)
	if best == dialect311 {
		c.preauth = extend(c.preauth, rep.b)
	}
	c.send(rep.b)
	return nil, statusOK, true
}

// extend is the pre-authentication integrity hash, MS-SMB2 section 3.3.5.4.
func extend(have [64]byte, msg []byte) [64]byte {
	h := sha512.New()
	h.Write(have[:])
	h.Write(msg)
	return [64]byte(h.Sum(nil))
}

// negotiateContexts reads those of MS-SMB2 section 2.2.3.1, by type.
func (r *request) negotiateContexts() (map[uint16][]byte, bool) {
	at, count := int(le.Uint32(r.body[28:]))-headerSize, int(le.Uint16(r.body[32:]))
	out := make(map[uint16][]byte)
	if count > 32 {
		return nil, false
	}
	for range count {
		if at < 0 || at > len(r.body)-8 {
			return nil, false
		}
		kind, n := le.Uint16(r.body[at:]), int(le.Uint16(r.body[at+2:]))
		if n > len(r.body)-at-8 {
			return nil, false
		}
		if _, twice := out[kind]; twice {
			return nil, false
		}
		out[kind] = r.body[at+8 : at+8+n]
		at += (8 + n + 7) &^ 7
	}
	return out, true
}

// listed looks for a number in a context that begins with their count, the numbers
// standing at an offset.
func listed(data []byte, at int, want uint16) bool {
	if len(data) < 2 {
		return false
	}
	for i := range int(le.Uint16(data)) {
		if len(data) < at+2*i+2 {
			return false
		}
		if le.Uint16(data[at+2*i:]) == want {
			return true
		}
	}
	return false
}

func appendContext(b []byte, kind uint16, data []byte) []byte {
	for len(b)%8 != 0 {
		b = append(b, 0)
	}
	b = le.AppendUint16(b, kind)
	b = le.AppendUint16(b, uint16(len(data)))
	b = append(b, 0, 0, 0, 0)
	return append(b, data...)
}
