// Package dcerpc speaks the connection-oriented RPC of C706 and MS-RPCE, as far as it takes to answer what desktops ask of a file server on
// its pipes: MS-SRVS (which shares there are, who is connected and what they have open), MS-LSAT (names to SIDs and back) and a few calls of MS-SAMR (which
// users and groups there are).
package dcerpc

import (
	"encoding/binary"
	"errors"
)

var le = binary.LittleEndian

// PDU types, C706 section 12.6.4.
const (
	pduRequest      = 0
	pduResponse     = 2
	pduFault        = 3
	pduBind         = 11
	pduBindAck      = 12
	pduBindNak      = 13
	pduAlterContext = 14
	pduAlterResp    = 15

	flagFirst  = 1
	flagLast   = 2
	flagObject = 0x80

	headerSize     = 16
	smallestFrag   = 1432
	largestFrag    = 4280
	longestCall    = 64 << 10
	mostContexts   = 16
	faultOpRange   = 0x1c010002
	faultContext   = 0x1c00001a
	faultBadStub   = 0x000006f7
	providerReject = 2
)

// ErrMalformed is returned for what is no PDU; the pipe is of no more use.
var ErrMalformed = errors.New("malformed RPC message")

var (
	srvsvcSyntax = syntax("\xc8\x4f\x32\x4b\x70\x16\xd3\x01\x12\x78\x5a\x47\xbf\x6e\xe1\x88", 3)
	lsarpcSyntax = syntax("\x78\x57\x34\x12\x34\x12\xcd\xab\xef\x00\x01\x23\x45\x67\x89\xab", 0)
	samrSyntax   = syntax("\x78\x57\x34\x12\x34\x12\xcd\xab\xef\x00\x01\x23\x45\x67\x89\xac", 1)
	ndrSyntax    = syntax("\x04\x5d\x88\x8a\xeb\x1c\xc9\x11\x9f\xe8\x08\x00\x2b\x10\x48\x60", 2)
)

func syntax(uuid string, version uint32) [20]byte {
	var s [20]byte
	copy(s[:], uuid)
	le.PutUint32(s[16:], version)
	return s
}

// Service is what answers on a pipe, on behalf of one caller.
type Service interface {
	pipe() string
	syntax() [20]byte
	// call runs one operation on its stub; known is false where there is no such operation. A stub that is not its shows in the reader.
	call(op uint16, in *reader, out *writer) (known bool)
}

// Conn is one open pipe. It is not safe for use by several goroutines.
type Conn struct {
	service  Service
	contexts map[uint16]bool // presentation contexts that were accepted
	fragment int             // most bytes the client takes in one PDU
	call     []byte          // the stub of a request whose last fragment is still to come
}

// NewConn opens the pipe.
func NewConn(s Service) *Conn {
	return &Conn{service: s, contexts: make(map[uint16]bool), fragment: largestFrag}
}

// Handle takes one PDU and gives those that answer it.
func (c *Conn) Handle(pdu []byte) ([][]byte, error) {
	if len(pdu) < headerSize || pdu[0] != 5 || pdu[1] != 0 || pdu[4] != 0x10 {
		return nil, ErrMalformed
	}
	kind, flags, id := pdu[2], pdu[3], le.Uint32(pdu[12:])
	size, auth := int(le.Uint16(pdu[8:])), int(le.Uint16(pdu[10:]))
	if size != len(pdu) || auth != 0 {
		return nil, ErrMalformed
	}
	b := pdu[headerSize:]
	switch kind {
	case pduBind:
		return c.bind(pduBindAck, id, b)
	case pduAlterContext:
		return c.bind(pduAlterResp, id, b)
	case pduRequest:
		return c.request(flags, id, b)
	}
	return nil, ErrMalformed
}

func pdu(kind, flags byte, id uint32, body []byte) []byte {
	out := make([]byte, headerSize, headerSize+len(body))
	copy(out, []byte{5, 0, kind, flags, 0x10})
	le.PutUint16(out[8:], uint16(headerSize+len(body)))
	le.PutUint32(out[12:], id)
	return append(out, body...)
}

// bind is C706 section 12.6.4.3; of the contexts offered, those are taken that are
// the service in NDR.
func (c *Conn) bind(answer byte, id uint32, b []byte) ([][]byte, error) {
	if len(b) < 12 {
		return nil, ErrMalformed
	}
	c.fragment = min(max(int(le.Uint16(b[2:])), smallestFrag), largestFrag)
	count := int(b[8])
	if count == 0 || count > mostContexts {
		return nil, ErrMalformed
	}
	out := le.AppendUint16(nil, largestFrag)
	out = le.AppendUint16(out, largestFrag)
	out = le.AppendUint32(out, 1) // association group
	address := "\\PIPE\\" + c.service.pipe() + "\x00"
	out = le.AppendUint16(out, uint16(len(address)))
	out = append(out, address...)
	for (len(out)+headerSize)%4 != 0 {
		out = append(out, 0)
	}
	out = append(out, byte(count), 0, 0, 0)
	b = b[12:]
	for range count {
		if len(b) < 24 {
			return nil, ErrMalformed
		}
		context, transfers := le.Uint16(b), int(b[2])
		known := [20]byte(b[4:24]) == c.service.syntax()
		if b = b[24:]; len(b) < 20*transfers {
			return nil, ErrMalformed
		}
		ndr := false
		for i := range transfers {
			ndr = ndr || [20]byte(b[20*i:]) == ndrSyntax
		}
		b = b[20*transfers:]
		switch {
		case !known:
			out = append(out, providerReject, 0, 1, 0) // abstract syntax not supported
			out = append(out, make([]byte, 20)...)
		case !ndr:
			out = append(out, providerReject, 0, 2, 0) // transfer syntaxes not supported
			out = append(out, make([]byte, 20)...)
		default:
			c.contexts[context] = true
			out = append(out, 0, 0, 0, 0)
			out = append(out, ndrSyntax[:]...)
		}
	}
	if len(c.contexts) > mostContexts {
		return nil, ErrMalformed
	}
	return [][]byte{pdu(answer, flagFirst|flagLast, id, out)}, nil
}

func (c *Conn) request(flags byte, id uint32, b []byte) ([][]byte, error) {
	if len(b) < 8 {
		return nil, ErrMalformed
	}
	context, op := le.Uint16(b[4:]), le.Uint16(b[6:])
	if b = b[8:]; flags&flagObject != 0 {
		if len(b) < 16 {
			return nil, ErrMalformed
		}
		b = b[16:]
	}
	if flags&flagFirst != 0 {
		c.call = nil
	}
	if len(c.call)+len(b) > longestCall {
		return nil, ErrMalformed
	}
	c.call = append(c.call, b...)
	if flags&flagLast == 0 {
		return nil, nil
	}
	stub := c.call
	c.call = nil
	fault := func(code uint32) [][]byte {
		body := make([]byte, 16)
		le.PutUint16(body[4:], context)
		le.PutUint32(body[8:], code)
		return [][]byte{pdu(pduFault, flagFirst|flagLast, id, body)}
	}
	if !c.contexts[context] {
		return fault(faultContext), nil
	}
	in, out := &reader{b: stub}, &writer{}
	switch known := c.service.call(op, in, out); {
	case !known:
		return fault(faultOpRange), nil
	case in.err != nil:
		return fault(faultBadStub), nil
	}
	return c.fragments(id, context, out.b), nil
}

// fragments parts an answer into PDUs the client takes.
func (c *Conn) fragments(id uint32, context uint16, stub []byte) [][]byte {
	var out [][]byte
	room := (c.fragment - headerSize - 8) &^ 7
	flags := byte(flagFirst)
	for {
		n := min(room, len(stub))
		if n == len(stub) {
			flags |= flagLast
		}
		body := le.AppendUint32(nil, uint32(len(stub)))
		body = le.AppendUint16(body, context)
		body = append(body, 0, 0)
		out = append(out, pdu(pduResponse, flags, id, append(body, stub[:n]...)))
		if stub, flags = stub[n:], 0; len(stub) == 0 {
			return out
		}
	}
}
