package nfs

import (
	"context"
	"errors"
	"time"

	"amber.example/gatekeeper/internal/onc"
)

// Callbacks to clients of version 4.1 (RFC 8881 sections 2.10.3.1 and 20), over connections that they have opened and said to be for that.

const (
	callbackVersion = 1
	procCompound    = 1
	opCBRecall      = 4
	opCBSequence    = 11

	// Flags of CREATE_SESSION, directions of BIND_CONN_TO_SESSION (RFC 8881 sections 18.36 and 18.34), and what SEQUENCE says (section 18.46.3).
	sessionBackChannel = 0x2
	bindFore           = 1
	bindBack           = 2
	bindBoth           = 3
	bindBackOrBoth     = 7
	statePathDown      = 0x200

	leastCallback = 512 // bytes that a client has to take and give for a recall
	answerFor     = 10 * time.Second
)

// backchannel is by what a session's client is called; guarded by state.mu.
type backchannel struct {
	wanted  bool // the client has asked for one, and takes enough
	conn    *onc.Conn
	program uint32
	cred    *onc.Credential // nil for none
	slots   chan *backSlot  // that are free
}

// backSlot is one call that a client takes beside others. Who has it, has it alone.
type backSlot struct{ number, highest, seq uint32 }

const mostBackSlots = 16

// begin has a session's client be called over the connection by which it has asked for that.
func (b *backchannel) begin(conn *onc.Conn, program uint32, cred *onc.Credential, c channel) {
	*b = backchannel{wanted: true, conn: conn, program: program, cred: cred}
	n := min(c.maxRequests, mostBackSlots)
	b.slots = make(chan *backSlot, n)
	for i := range n {
		b.slots <- &backSlot{number: i, highest: n - 1}
	}
}

// readCallbackSecurity reads callback_sec_parms4, of which the first that can be used is: the last results are false where there is none.
func (q *compound) readCallbackSecurity() (cred *onc.Credential, good bool, st status4) {
	for range q.r.Count(8, 4) {
		flavor := q.r.Uint32()
		switch flavor {
		case onc.AuthNone:
			good = true
		case onc.AuthSys:
			q.r.Uint32()
			c := &onc.Credential{Flavor: onc.AuthSys, Machine: q.r.String(longestOwner)}
			c.UID, c.GID = q.r.Uint32(), q.r.Uint32()
			for range q.r.Count(16, 4) {
				c.Groups = append(c.Groups, q.r.Uint32())
			}
			if cred == nil && len(c.Machine) <= longestMachine {
				cred, good = c, true
			}
		default:
			return nil, false, err4Inval
		}
	}
	if q.r.Err() != nil {
		return nil, false, err4BadXDR
	}
	return cred, good, ok4
}

const longestMachine = 255 // RFC 5531 appendix A

// enough says whether a client takes what a recall needs.
func (c *channel) enough() bool {
	return c.maxRequest >= leastCallback && c.maxResponse >= leastCallback && c.maxOps >= 2 && c.maxRequests > 0
}

// live gives the connection, where there is one. The caller holds mu.
func (b *backchannel) live() *onc.Conn {
	if b.conn != nil && b.conn.Over() {
		b.conn = nil
	}
	return b.conn
}

// pathDown is what SEQUENCE says of the session's callbacks. The caller holds mu.
func (se *session4) pathDown() uint32 {
	if se.back.wanted && se.back.live() == nil {
		return statePathDown
	}
	return 0
}

// callback is by what a client can be called now.
type callback struct {
	session [16]byte
	backchannel
}

// back gives that; false where there is none. The caller holds mu.
func (c *client4) back() (callback, bool) {
	for _, se := range c.called {
		if se.back.live() != nil {
			return callback{se.id, se.back}, true
		}
	}
	return callback{}, false
}

var errCallback = errors.New("the client does not answer callbacks as it should")

// call has the client do one operation, and gives the status of that.
func (b *callback) call(ctx context.Context, op uint32, args func(w *onc.Writer)) (status4, error) {
	ctx, cancel := context.WithTimeout(ctx, answerFor)
	defer cancel()
	var slot *backSlot
	select {
	case slot = <-b.slots:
	case <-ctx.Done():
		return 0, ctx.Err()
	}
	defer func() { b.slots <- slot }()
	r, err := b.conn.Ask(ctx, b.program, callbackVersion, procCompound, b.cred, func(w *onc.Writer) {
		w.String("")
		w.Uint32(1) // the minor version
		w.Uint32(0) // version 4.0's
		w.Uint32(2)
		w.Uint32(opCBSequence)
		w.Fixed(b.session[:])
		w.Uint32(slot.seq + 1)
		w.Uint32(slot.number)
		w.Uint32(slot.highest)
		w.Bool(false)
		w.Uint32(0) // nothing that the client has asked is said to have come before
		w.Uint32(op)
		args(w)
	})
	if err != nil { // it may have been done: see below
		return 0, err
	}
	done, st, err := readCallback(r, op)
	if done {
		slot.seq++
	}
	return st, err
}

// readCallback reads CB_COMPOUND4res of CB_SEQUENCE and one operation (RFC 8881 sections 20.9 and 21): the status of that, and whether the slot has done
// with its number.
func readCallback(r *onc.Reader, op uint32) (done bool, st status4, err error) {
	all := status4(r.Uint32())
	r.Opaque(longestTag)
	n := r.Count(2, 8)
	first, sequenced := r.Uint32(), status4(r.Uint32())
	switch {
	case r.Err() != nil || n == 0 || first != opCBSequence:
		return false, 0, errCallback
	case sequenced == err4RetryUncachedRep: // the slot's last call was done, whose answer never came: the next has the next number
		return true, err4Delay, nil
	case sequenced == err4Delay:
		return false, sequenced, nil
	case sequenced != ok4:
		return false, sequenced, errCallback
	}
	r.Fixed(16)
	for range 4 {
		r.Uint32()
	}
	second, st := r.Uint32(), status4(r.Uint32())
	if r.Err() != nil || n != 2 || second != op || st != all {
		return true, 0, errCallback
	}
	return true, st, nil
}
