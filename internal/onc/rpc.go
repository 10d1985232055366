package onc

import (
	"fmt"
	"net/netip"
	"time"

	"amber.example/gatekeeper/internal/lanes"
)

// Constants of RFC 5531 section 9.
const (
	msgCall, msgReply = 0, 1

	replyAccepted, replyDenied = 0, 1
	rejectVersion, rejectAuth  = 0, 1

	rpcVersion = 2
)

// AcceptStat is how a call that was understood ended (RFC 5531 section 9).
type AcceptStat uint32

// The kinds of AcceptStat. The last two are none: with Drop the call is not answered, with Weak
// it is turned down for its credential.
const (
	Success AcceptStat = iota
	ProgUnavail
	ProgMismatch
	ProcUnavail
	GarbageArgs
	SystemErr

	Drop AcceptStat = ^AcceptStat(0)
	Weak AcceptStat = ^AcceptStat(1)
)

// Flavors of authentication.
const (
	AuthNone uint32 = 0
	AuthSys  uint32 = 1
)

// AuthStat says why a credential was turned down (RFC 5531 section 9).
type AuthStat uint32

// The kinds of AuthStat that are used here.
const (
	AuthOK      AuthStat = 0
	AuthBadCred AuthStat = 1
	AuthTooWeak AuthStat = 5
)

// Credential is who the client says is calling.
type Credential struct {
	Flavor   uint32
	Machine  string // AUTH_SYS only, as all that follows
	UID, GID uint32
	Groups   []uint32 // at most 16
}

// Header is the start of a call (RFC 5531 section 9).
type Header struct {
	XID, Program, Version, Procedure uint32
	Cred                             Credential
}

const (
	mostAuth    = 400
	mostMachine = 255
	mostGroups  = 16
)

// errNotCall is for a record that is no call of this version: there is nobody to answer.
var errNotCall = fmt.Errorf("%w: not a call", ErrXDR)

// ParseCall reads a call's header; what follows it are the arguments. A version other than 2 and a
// credential that cannot be read are told by stat and version, to be answered.
func ParseCall(r *Reader) (h Header, version uint32, stat AuthStat, err error) {
	h.XID = r.Uint32()
	if kind := r.Uint32(); r.err != nil || kind != msgCall {
		return h, 0, 0, errNotCall
	}
	version = r.Uint32()
	h.Program, h.Version, h.Procedure = r.Uint32(), r.Uint32(), r.Uint32()
	h.Cred.Flavor = r.Uint32()
	body := r.Opaque(mostAuth)
	r.Uint32() // the verifier: it says nothing in these flavours
	r.Opaque(mostAuth)
	if r.err != nil {
		return h, version, 0, r.err
	}
	switch h.Cred.Flavor {
	case AuthNone:
	case AuthSys:
		if !h.Cred.parse(body) {
			stat = AuthBadCred
		}
	default:
		stat = AuthTooWeak
	}
	return h, version, stat, nil
}

// parse reads authsys_parms (RFC 5531 appendix A).
func (c *Credential) parse(body []byte) bool {
	r := NewReader(body)
	r.Uint32() // stamp
	c.Machine = r.String(mostMachine)
	c.UID, c.GID = r.Uint32(), r.Uint32()
	for range r.Count(mostGroups, 4) {
		c.Groups = append(c.Groups, r.Uint32())
	}
	return r.err == nil
}

// AppendCall writes a call with an AUTH_SYS credential, or none for nil.
func AppendCall(w *Writer, xid, program, version, procedure uint32, cred *Credential) {
	w.Uint32(xid)
	w.Uint32(msgCall)
	w.Uint32(rpcVersion)
	w.Uint32(program)
	w.Uint32(version)
	w.Uint32(procedure)
	if cred == nil {
		w.Uint32(AuthNone)
		w.Uint32(0)
	} else {
		var body Writer
		body.Uint32(0)
		body.String(cred.Machine)
		body.Uint32(cred.UID)
		body.Uint32(cred.GID)
		body.Uint32(uint32(len(cred.Groups)))
		for _, g := range cred.Groups {
			body.Uint32(g)
		}
		w.Uint32(AuthSys)
		w.Opaque(body.B)
	}
	w.Uint32(AuthNone)
	w.Uint32(0)
}

// Call is one call, for as long as it is being answered.
type Call struct {
	Header
	Args  *Reader
	args  Reader // what Args is
	Conn  *Conn
	Began time.Time   // when it was there whole
	large bool        // the call itself holds one of the places for large messages
	held  *lanes.Call // the answer does
	// Note is the program's own.
	Note any
}

// Program answers the calls of one program.
type Program struct {
	Number    uint32
	Low, High uint32 // versions
	// Serve answers one call, by appending results. It may be called by several goroutines.
	Serve func(c *Call, w *Writer) AcceptStat
}

// Address is where the caller is.
func (c *Call) Address() netip.AddrPort { return c.Conn.Remote }

// dispatch answers a record with another; nil for none.
func dispatch(programs []Program, conn *Conn, record []byte, large bool, w *Writer) (*Call, bool) {
	c := &Call{Conn: conn, Began: time.Now(), args: Reader{b: record}, large: large}
	c.Args = &c.args
	h, version, stat, err := ParseCall(c.Args)
	if err != nil {
		return nil, false
	}
	c.Header = h
	start := w.Len()
	w.Uint32(h.XID)
	w.Uint32(msgReply)
	if version != rpcVersion {
		w.Uint32(replyDenied)
		w.Uint32(rejectVersion)
		w.Uint32(rpcVersion)
		w.Uint32(rpcVersion)
		return c, true
	}
	if stat != AuthOK {
		w.Uint32(replyDenied)
		w.Uint32(rejectAuth)
		w.Uint32(uint32(stat))
		return c, true
	}
	w.Uint32(replyAccepted)
	w.Uint32(AuthNone)
	w.Uint32(0)
	at := w.Len()
	w.Uint32(0)
	outcome := ProgUnavail
	var p *Program
	for i := range programs {
		if programs[i].Number == h.Program {
			p = &programs[i]
		}
	}
	switch {
	case p == nil:
	case h.Version < p.Low || h.Version > p.High:
		outcome = ProgMismatch
	default:
		outcome = p.Serve(c, w)
	}
	switch outcome {
	case Drop:
		w.B = w.B[:start]
		return c, false
	case Weak:
		w.B = w.B[:start+8]
		w.Uint32(replyDenied)
		w.Uint32(rejectAuth)
		w.Uint32(uint32(AuthTooWeak))
		return c, true
	}
	if outcome != Success {
		w.B = w.B[:at+4]
	}
	w.PutUint32(at, uint32(outcome))
	if outcome == ProgMismatch {
		w.Uint32(p.Low)
		w.Uint32(p.High)
	}
	return c, true
}
