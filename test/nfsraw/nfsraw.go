// Package nfsraw is just enough of an NFS client to send a gateway what no well-behaved client would,
// and to keep it busy: calls are built by hand. What a client makes of the answers is for real
// clients to prove.
package nfsraw

import (
	"bytes"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/onc"
)

// Programs.
const (
	NFS     = 100003
	Mount   = 100005
	NLM     = 100021
	NSM     = 100024
	ACL     = 100227
	Portmap = 100000
)

// Client is one connection. Cred is who calls.
type Client struct {
	T    testing.TB
	C    net.Conn
	Cred *onc.Credential
	xid  uint32

	// Version 4.1.
	session  []byte
	sequence uint32
	Flags    uint32 // of the last SEQUENCE
}

// Dial connects as a uid with a gid.
func Dial(t testing.TB, address string, uid, gid uint32) *Client {
	t.Helper()
	c, err := net.Dial("tcp", address)
	require.NoError(t, err)
	return On(t, c, uid, gid)
}

// On speaks on a connection that is there.
func On(t testing.TB, c net.Conn, uid, gid uint32) *Client {
	t.Cleanup(func() { c.Close() })
	require.NoError(t, c.SetDeadline(time.Now().Add(5*time.Minute)))
	return &Client{T: t, C: c, Cred: &onc.Credential{Machine: "test", UID: uid, GID: gid}, xid: uint32(time.Now().UnixNano())}
}

// Send sends a call and gives its number; head and then tail are its arguments.
func (c *Client) Send(program, version, procedure uint32, head, tail []byte) uint32 {
	c.xid++
	w := &onc.Writer{B: make([]byte, 4, 256)}
	onc.AppendCall(w, c.xid, program, version, procedure, c.Cred)
	w.B = append(w.B, head...)
	binary.BigEndian.PutUint32(w.B, 1<<31|uint32(len(w.B)-4+len(tail)))
	bufs := net.Buffers{w.B, tail}
	_, err := bufs.WriteTo(c.C)
	require.NoError(c.T, err)
	return c.xid
}

// Receive reads one answer whole into buf, as much as fits, and gives what follows its header.
func (c *Client) Receive(buf []byte) (*onc.Reader, error) {
	var mark [4]byte
	if _, err := readFull(c.C, mark[:]); err != nil {
		return nil, err
	}
	n := int(binary.BigEndian.Uint32(mark[:]) &^ (1 << 31))
	if n > len(buf) {
		buf = make([]byte, n)
	}
	if _, err := readFull(c.C, buf[:n]); err != nil {
		return nil, err
	}
	return onc.ParseReply(buf[:n], binary.BigEndian.Uint32(buf))
}

func readFull(c net.Conn, b []byte) (int, error) {
	for at := 0; at < len(b); {
		n, err := c.Read(b[at:])
		if err != nil {
			return at, err
		}
		at += n
	}
	return len(b), nil
}

// Call makes one call and waits for its answer.
func (c *Client) Call(program, version, procedure uint32, args func(w *onc.Writer)) (*onc.Reader, error) {
	w := &onc.Writer{}
	if args != nil {
		args(w)
	}
	c.Send(program, version, procedure, w.B, nil)
	return c.Receive(nil)
}

// Do is Call for version 3 and what goes with it, where an answer is expected: it gives the status and
// what follows.
func (c *Client) Do(program, version, procedure uint32, args func(w *onc.Writer)) (uint32, *onc.Reader) {
	c.T.Helper()
	r, err := c.Call(program, version, procedure, args)
	require.NoError(c.T, err)
	return r.Uint32(), r
}

// Mnt mounts a path by version 3 and gives its handle.
func (c *Client) Mnt(path string) []byte {
	c.T.Helper()
	status, r := c.Do(Mount, 3, 1, func(w *onc.Writer) { w.String(path) })
	require.Zero(c.T, status, "mount %s", path)
	return append([]byte{}, r.Opaque(64)...)
}

// Lookup3 looks a name up by version 3.
func (c *Client) Lookup3(dir []byte, name string) (uint32, []byte) {
	c.T.Helper()
	status, r := c.Do(NFS, 3, 3, func(w *onc.Writer) { w.Opaque(dir); w.String(name) })
	if status != 0 {
		return status, nil
	}
	return 0, append([]byte{}, r.Opaque(64)...)
}

// Mode3 is a sattr3 that sets a mode and nothing else.
func Mode3(w *onc.Writer, mode uint32) {
	w.Bool(true)
	w.Uint32(mode)
	for range 3 {
		w.Bool(false)
	}
	w.Uint32(0)
	w.Uint32(0)
}

// Create3 makes a file by version 3, unchecked.
func (c *Client) Create3(dir []byte, name string) (uint32, []byte) {
	c.T.Helper()
	status, r := c.Do(NFS, 3, 8, func(w *onc.Writer) { w.Opaque(dir); w.String(name); w.Uint32(0); Mode3(w, 0o644) })
	if status != 0 || !r.Bool() {
		return status, nil
	}
	return 0, append([]byte{}, r.Opaque(64)...)
}

// Compound writes a version 4 compound of operations; each writes its number and arguments.
func Compound(minor uint32, ops ...func(w *onc.Writer)) func(w *onc.Writer) {
	return func(w *onc.Writer) {
		w.String("")
		w.Uint32(minor)
		w.Uint32(uint32(len(ops)))
		for _, op := range ops {
			op(w)
		}
	}
}

// Op is an operation with arguments written one after the other: uint32, uint64, bool, []byte and string
// by their kinds, and Raw as it is.
func Op(number uint32, args ...any) func(w *onc.Writer) {
	return func(w *onc.Writer) {
		w.Uint32(number)
		for _, a := range args {
			switch v := a.(type) {
			case int:
				w.Uint32(uint32(v))
			case uint32:
				w.Uint32(v)
			case uint64:
				w.Uint64(v)
			case bool:
				w.Bool(v)
			case []byte:
				w.Opaque(v)
			case string:
				w.String(v)
			case Raw:
				w.B = append(w.B, v...)
			default:
				panic(fmt.Sprintf("%T", a))
			}
		}
	}
}

// Raw is an argument as it is.
type Raw []byte

// Results reads the frame of a compound's answer: its status, and the number of operations answered.
func Results(r *onc.Reader) (status uint32, n uint32) {
	status = r.Uint32()
	r.Opaque(1024)
	return status, r.Uint32()
}

// Next reads the number and status of the next operation's answer.
func Next(r *onc.Reader) (op, status uint32) { return r.Uint32(), r.Uint32() }

// NewSession becomes a version 4.1 client with a session, ready to go on.
func (c *Client) NewSession(owner string) {
	c.T.Helper()
	c.NewSessionUnfinished(owner)
	status, _ := c.Session(Op(58, false))
	require.Zero(c.T, status)
}

// NewSessionUnfinished is NewSession without saying that nothing is left to reclaim.
func (c *Client) NewSessionUnfinished(owner string) { c.newSession(owner, 0) }

// NewSessionCalled is NewSession of a client that can be called back over its connection: see Callbacks.
func (c *Client) NewSessionCalled(owner string) (flags uint32) {
	c.T.Helper()
	flags = c.newSession(owner, 2)
	status, _ := c.Session(Op(58, false))
	require.Zero(c.T, status)
	return flags
}

func (c *Client) newSession(owner string, asked uint32) (flags uint32) {
	c.T.Helper()
	r, err := c.Call(NFS, 4, 1, Compound(1, Op(42, Raw("verifier"), owner, 0, 0, 0)))
	require.NoError(c.T, err)
	status, _ := Results(r)
	require.Zero(c.T, status)
	Next(r)
	id, seq := r.Uint64(), r.Uint32()
	channel := []any{0, 1<<20 + 4096, 1<<20 + 4096, 4096, 64, 64, 0}
	args := append([]any{id, seq, asked}, channel...)
	args = append(append(args, channel...), CallbackProgram, 1, 0)
	r, err = c.Call(NFS, 4, 1, Compound(1, Op(43, args...)))
	require.NoError(c.T, err)
	status, _ = Results(r)
	require.Zero(c.T, status)
	Next(r)
	c.session = append([]byte{}, r.Fixed(16)...)
	c.sequence = 0
	r.Uint32()
	return r.Uint32()
}

// CallbackProgram is the program by which clients here are called back.
const CallbackProgram = 0x40000000

// Bind has another connection be for the session's callbacks as well, and gives what it is for then.
func (c *Client) Bind(direction int) uint32 {
	c.T.Helper()
	r, err := c.Call(NFS, 4, 1, Compound(1, Op(41, Raw(c.session), direction, false)))
	require.NoError(c.T, err)
	status, _ := Results(r)
	require.Zero(c.T, status)
	Next(r)
	r.Fixed(16)
	return r.Uint32()
}

// called is a connection over which the server calls as well.
type called struct {
	net.Conn
	answers *io.PipeReader
	writing sync.Mutex
}

// Callbacks makes a connection one over which the server calls back: what is read of it is answers alone. answer is told each call, behind its header, and
// gives what follows the header of an accepted one; nil has it never be answered.
func Callbacks(c net.Conn, answer func(args *onc.Reader) []byte) net.Conn {
	r, w := io.Pipe()
	out := &called{Conn: c, answers: r}
	go func() {
		for {
			var mark [4]byte
			if _, err := readFull(c, mark[:]); err != nil {
				w.CloseWithError(err)
				return
			}
			record := make([]byte, binary.BigEndian.Uint32(mark[:])&^(1<<31))
			if _, err := readFull(c, record); err != nil {
				w.CloseWithError(err)
				return
			}
			if binary.BigEndian.Uint32(record[4:]) == 1 {
				if _, err := w.Write(append(mark[:], record...)); err != nil {
					return
				}
				continue
			}
			args := onc.NewReader(record)
			h, _, _, err := onc.ParseCall(args)
			if err != nil {
				w.CloseWithError(err)
				return
			}
			go func() {
				results := answer(args)
				if results == nil {
					return
				}
				reply := &onc.Writer{B: make([]byte, 4, 64)}
				for _, v := range []uint32{h.XID, 1, 0, 0, 0, 0} {
					reply.Uint32(v)
				}
				reply.B = append(reply.B, results...)
				binary.BigEndian.PutUint32(reply.B, 1<<31|uint32(reply.Len()-4))
				_, _ = out.Write(reply.B)
			}()
		}
	}()
	return out
}

func (c *called) Read(b []byte) (int, error) { return c.answers.Read(b) }

func (c *called) Write(b []byte) (int, error) {
	c.writing.Lock()
	defer c.writing.Unlock()
	return c.Conn.Write(b)
}

func (c *called) Close() error {
	c.answers.Close()
	return c.Conn.Close()
}

// DestroySession is the operation that ends the session.
func (c *Client) DestroySession() func(w *onc.Writer) { return Op(44, Raw(c.session)) }

// Sequence is the operation that a compound of the session begins with.
func (c *Client) Sequence() func(w *onc.Writer) {
	c.sequence++
	return c.SequenceOf(c.sequence, 0)
}

// Over has the session go on over another connection.
func (c *Client) Over(other net.Conn) { c.C = other }

// SequenceOf is Sequence with a number and a slot.
func (c *Client) SequenceOf(sequence, slot uint32) func(w *onc.Writer) {
	return Op(53, Raw(c.session), sequence, slot, slot, true)
}

// Session does operations within the session and gives the status, and the answers after SEQUENCE's.
func (c *Client) Session(ops ...func(w *onc.Writer)) (uint32, *onc.Reader) {
	c.T.Helper()
	r, err := c.Call(NFS, 4, 1, Compound(1, append([]func(w *onc.Writer){c.Sequence()}, ops...)...))
	require.NoError(c.T, err)
	status, _ := Results(r)
	if _, s := Next(r); s != 0 {
		return s, r
	}
	r.Fixed(16 + 4*4)
	c.Flags = r.Uint32()
	return status, r
}

// Prepared is a call that is written before the clock runs, so that making it costs the client what the bytes cost and no more.
type Prepared struct {
	c        *Client
	out, in  []byte // with their record marks
	sequence int    // where in out the number of the sequence is; 0 without a session
}

// resultAt is where the results of a call that was accepted begin, behind its record mark (RFC 5531 section 9).
const resultAt = 4 + 24

// Prepare writes a call of NFS version 3, or of a compound of the session for version 4, and makes it once to know how long the answer is.
func (c *Client) Prepare(version, procedure uint32, args func(w *onc.Writer)) *Prepared {
	c.T.Helper()
	p := &Prepared{c: c}
	w := &onc.Writer{B: make([]byte, 4, 256)}
	onc.AppendCall(w, 0, NFS, version, procedure, c.Cred)
	if version == 4 {
		p.sequence = w.Len() + 4*4 + 16 // behind tag, minor version, count, number of the operation and session
	}
	args(w)
	binary.BigEndian.PutUint32(w.B, 1<<31|uint32(w.Len()-4))
	p.out = w.B
	p.number()
	_, err := c.C.Write(p.out)
	require.NoError(c.T, err)
	var mark [4]byte
	_, err = readFull(c.C, mark[:])
	require.NoError(c.T, err)
	p.in = make([]byte, 4+binary.BigEndian.Uint32(mark[:])&^(1<<31))
	copy(p.in, mark[:])
	_, err = readFull(c.C, p.in[4:])
	require.NoError(c.T, err)
	require.NoError(c.T, p.good())
	return p
}

func (p *Prepared) number() {
	p.c.xid++
	binary.BigEndian.PutUint32(p.out[4:], p.c.xid)
	if p.sequence != 0 {
		p.c.sequence++
		binary.BigEndian.PutUint32(p.out[p.sequence:], p.c.sequence)
	}
}

func (p *Prepared) good() error {
	xid, status := binary.BigEndian.Uint32(p.in[4:]), uint32(0)
	if len(p.in) > resultAt {
		status = binary.BigEndian.Uint32(p.in[resultAt:])
	}
	if xid != p.c.xid || status != 0 {
		return fmt.Errorf("call %d was answered as %d with status %d", p.c.xid, xid, status)
	}
	return nil
}

// Do makes the call and waits for an answer of the same length, which has to be a good one.
func (p *Prepared) Do() error {
	p.number()
	if _, err := p.c.C.Write(p.out); err != nil {
		return err
	}
	if _, err := readFull(p.c.C, p.in); err != nil {
		return err
	}
	return p.good()
}

// Rename has the call say another name from now on, in the place of one as long.
func (p *Prepared) Rename(was, is string) {
	at := bytes.LastIndex(p.out, []byte(was))
	require.True(p.c.T, at >= 0 && len(was) == len(is), "%q is not in the call, or not as long as %q", was, is)
	copy(p.out[at:], is)
}

// PrepareSession is Prepare for operations of the session.
func (c *Client) PrepareSession(ops ...func(w *onc.Writer)) *Prepared {
	c.T.Helper()
	return c.Prepare(4, 1, Compound(1, append([]func(w *onc.Writer){c.SequenceOf(0, 0)}, ops...)...))
}

// Sizes are how long the call and its answer are, in bytes.
func (p *Prepared) Sizes() (call, answer int) { return len(p.out), len(p.in) }
