package smb

import (
	"crypto/rand"
	"crypto/sha512"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/ntlm"
	"amber.example/gatekeeper/internal/smb/message"
)

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

func (c *conn) helloReply(dialect uint16, contexts []message.NegotiateContext) *reply {
	return answer(&message.NegotiateResponse{SecurityMode: signingEnabled | signingRequired, Dialect: dialect, ServerGUID: c.srv.guid,
		Capabilities: c.capabilities(),
		MaxTransact:  maxTransact, MaxRead: maxTransact, MaxWrite: maxTransact, SystemTime: message.Filetime(time.Now()), Token: ntlm.Hint(), Contexts: contexts})
}

// capabilities are the server's, MS-SMB2 section 2.2.4.
func (c *conn) capabilities() uint32 {
	is := uint32(capLargeMTU | capLeasing)
	if c.leads {
		is |= capReferrals
	}
	if c.dialect >= dialect30 { // only to clients that can as well: others would take them for something else
		can := uint32(capDirectoryLeasing)
		if c.srv.Lasting != nil {
			can |= capPersistent
		}
		is |= can & c.client.Capabilities
	}
	if c.cipher != 0 && c.dialect != dialect311 { // there, a context says so
		is |= capEncryption
	}
	return is
}

// negotiate is MS-SMB2 section 3.3.5.4.
func (r *request) negotiate() (*reply, Status, bool) {
	c := r.c
	if c.negotiated {
		return nil, 0, false
	}
	fail := func() (*reply, Status, bool) { return noBody(), statusInvalidParameter, true }
	var m message.NegotiateRequest
	if m.Parse(r.raw) != nil {
		return fail()
	}
	c.client = m
	c.client.Contexts = nil // they are in the frame, which is used again
	best := uint16(0)
	for _, d := range m.Dialects {
		if (d == dialect21 || d == dialect30 || d == dialect302 || d == dialect311) && d > best {
			best = d
		}
	}
	var contexts []message.NegotiateContext
	switch best {
	case 0:
		return noBody(), statusNotSupported, true
	case dialect21:
		c.signing = signHMAC
	case dialect30, dialect302:
		c.signing = signCMAC
		if c.client.Capabilities&capEncryption != 0 {
			c.cipher = cipherCCM128
		}
	case dialect311:
		c.signing = signCMAC
		offered := make(map[uint16][]byte)
		for _, one := range m.Contexts {
			if _, twice := offered[one.Type]; twice {
				return fail()
			}
			offered[one.Type] = one.Data
		}
		hash, ok := offered[message.ContextPreauth]
		if !ok || !listed(hash, 4, preauthSHA512) {
			return noBody(), statusSMBNoPreauthOverlap, true
		}
		chosen := func(kind, number uint16) {
			contexts = append(contexts, message.NegotiateContext{Type: kind, Data: []byte{1, 0, byte(number), 0}})
		}
		salt := make([]byte, 32)
		rand.Read(salt)
		contexts = append(contexts, message.NegotiateContext{Type: message.ContextPreauth, Data: append([]byte{1, 0, 32, 0, preauthSHA512, 0}, salt...)})
		if ciphers, ok := offered[message.ContextEncryption]; ok {
			c.cipher = chooseCipher(ciphers)
			chosen(message.ContextEncryption, c.cipher)
		}
		// GMAC where the client can: hardware does it many times faster than CMAC.
		if algorithms, ok := offered[message.ContextSigning]; ok {
			if listed(algorithms, 2, signGMAC) {
				c.signing = signGMAC
			} else if !listed(algorithms, 2, signCMAC) {
				c.signing = signHMAC
			}
			chosen(message.ContextSigning, c.signing)
		}
	}
	c.dialect, c.negotiated = best, true
	rep := c.helloReply(best, contexts)
	if best == dialect311 {
		c.preauth = extend(c.preauth, r.raw)
	}
	rep = r.finish(rep, statusOK)
	rep.h.Put(rep.b)
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
