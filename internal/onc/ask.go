package onc

import (
	"context"
	"encoding/binary"
	"errors"
	"net"
	"sync"
	"sync/atomic"
)

// asking is what a connection has asked its client. Client and server call each other over one connection where a program has it so, as NFS version 4.1 has
// (RFC 8881 section 2.10.3.1); the numbers of the two ways have nothing to do with each other.
type asking struct {
	xid     atomic.Uint32
	mu      sync.Mutex
	answers map[uint32]chan []byte
}

// mostAsked is how many calls of one client may wait for their answers.
const mostAsked = 16

// ErrAsking is for too many calls of one client at a time.
var ErrAsking = errors.New("too much is being asked of the client already")

// Ask calls the client over the connection and waits for its answer: the results of a call that it accepted, ErrRefused of one that it did not.
func (c *Conn) Ask(ctx context.Context, program, version, procedure uint32, cred *Credential, args func(w *Writer)) (*Reader, error) {
	a := &c.asking
	xid, answer := a.xid.Add(1), make(chan []byte, 1)
	a.mu.Lock()
	if len(a.answers) >= mostAsked {
		a.mu.Unlock()
		return nil, ErrAsking
	}
	if a.answers == nil {
		a.answers = make(map[uint32]chan []byte)
	}
	a.answers[xid] = answer
	a.mu.Unlock()
	defer func() {
		a.mu.Lock()
		defer a.mu.Unlock()
		delete(a.answers, xid)
	}()
	w := &Writer{B: make([]byte, 4, 256)}
	AppendCall(w, xid, program, version, procedure, cred)
	args(w)
	if err := c.send(w.B); err != nil {
		return nil, err
	}
	select {
	case record := <-answer:
		return ParseReply(record, xid)
	case <-c.ctx.Done():
		return nil, net.ErrClosed
	case <-ctx.Done():
		return nil, ctx.Err()
	}
}

// Over says whether the connection has ended.
func (c *Conn) Over() bool { return c.ctx.Err() != nil }

// answered takes a record that is an answer to a call of the client; false where it is none. What nobody waits for any more is forgotten.
func (c *Conn) answered(record []byte) bool {
	if len(record) < 8 || len(record) > mostUntrusted || binary.BigEndian.Uint32(record[4:]) != msgReply {
		return false
	}
	a := &c.asking
	xid := binary.BigEndian.Uint32(record)
	if xid == 0 || xid > a.xid.Load() { // never asked
		return false
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if answer := a.answers[xid]; answer != nil {
		delete(a.answers, xid)
		answer <- record
	}
	return true
}
