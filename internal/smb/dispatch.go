package smb

import (
	"runtime/debug"
	"sync"
	"time"

	"amber.example/gatekeeper/internal/contain"
)

// request is one message of a frame on its way to being answered.
type request struct {
	c    *conn
	h    header
	raw  []byte // the whole message
	body body
	sess *session
	tree *tree
	link *chain

	sealed *session // in whose seal it came; nil where it came open

	gave, took int // bytes of files
}

// chain is what related requests of a compound hand on, MS-SMB2 section 3.3.5.2.7.2.
type chain struct {
	sessionID uint64
	treeID    uint32
	fileID    uint64
	hasFile   bool
	status    Status // of the request before
	length    int    // of messages in the compound
}

// reply is a response being built: room for the header, then the body.
type reply struct {
	b    []byte
	buf  *buffer // backing b, if it came from the pool
	h    header
	sign signer   // nil where it goes out unsigned
	seal *session // in whose seal it goes out; nil for open. What is sealed is not signed (MS-SMB2 section 3.3.4.1.1)
	bare bool     // it must: see later
	sent func()   // called when it has gone out; may be nil
}

func newReply(size int) *reply {
	return &reply{b: make([]byte, headerSize, headerSize+size)}
}

// at gives the body's bytes from an offset on, to fill in.
func (r *reply) at(offset int) []byte { return r.b[headerSize+offset:] }

// fixed appends a body of n zero bytes that begins with a structure size.
func (r *reply) fixed(size uint16, n int) *reply {
	r.b = append(r.b, make([]byte, n)...)
	le.PutUint16(r.at(0), size)
	return r
}

// receive takes one frame. It is false when the connection is to be closed.
func (c *conn) receive(f *buffer) bool {
	if len(f.b) >= 4 && string(f.b[:4]) == "\xffSMB" {
		defer f.release()
		return c.negotiateSMB1(f.b)
	}
	frame, in := f.b, (*session)(nil)
	if isSealed(frame) {
		var ok bool
		if frame, in, ok = c.unseal(frame); !ok {
			c.log.Debug("a sealed frame was refused")
			f.release()
			return false
		}
	}
	reqs, ok := c.split(frame)
	for _, r := range reqs {
		r.sealed = in
	}
	if !ok {
		f.release()
		return false
	}
	ordered := true
	for _, r := range reqs {
		switch r.h.command {
		case cmdNegotiate, cmdSessionSetup:
			if len(reqs) > 1 {
				f.release()
				return false // MS-SMB2 section 3.3.5.2.7: never in a compound
			}
		case cmdLogoff, cmdTreeConnect, cmdTreeDisconnect, cmdCancel:
		default:
			ordered = false
		}
		if !c.negotiated && r.h.command != cmdNegotiate {
			f.release()
			return false
		}
	}
	if ordered {
		defer f.release()
		return c.answer(reqs, func() {})
	}
	place := c.slots.Take(c.ctx, f.setAside)
	if place == nil {
		f.release()
		return false
	}
	contain.Go(&c.working, "a request", func() {
		defer func() {
			f.release()
			place.Done()
		}()
		if !c.answer(reqs, place.Keep) {
			c.nc.Close()
		}
	})
	return true
}

// split parts a frame into its messages and takes their credits.
func (c *conn) split(frame []byte) ([]*request, bool) {
	var out []*request
	for {
		h, err := parseHeader(frame)
		if err != nil || h.flags&flagResponse != 0 {
			return nil, false
		}
		msg := frame
		if h.next != 0 {
			if h.next%8 != 0 || h.next < headerSize || int(h.next) > len(frame)-headerSize {
				return nil, false
			}
			msg, frame = frame[:h.next], frame[h.next:]
		}
		if h.command != cmdCancel {
			c.mu.Lock()
			ok := c.window.take(h.messageID, h.creditCharge)
			c.mu.Unlock()
			if !ok {
				return nil, false // MS-SMB2 section 3.3.5.2.3
			}
		}
		out = append(out, &request{c: c, h: h, raw: msg, body: body(msg[headerSize:])})
		if h.next == 0 {
			return out, true
		}
		if len(out) == 64 {
			return nil, false
		}
	}
}

// answer runs the messages of a frame in order and sends what they give; done is told in between.
func (c *conn) answer(reqs []*request, done func()) bool {
	link := &chain{length: len(reqs)}
	var replies []*reply
	for i, r := range reqs {
		r.link = link
		related := r.h.flags&flagRelated != 0
		if !related {
			*link = chain{length: len(reqs)}
		} else if i == 0 {
			replies = append(replies, r.finish(newReply(16), statusInvalidParameter))
			link.status = statusInvalidParameter
			continue
		}
		began := time.Now()
		rep, status, alive := r.run(related)
		r.count(began, status)
		if !alive {
			return false
		}
		link.status = status
		if rep == nil { // a cancel has no answer
			continue
		}
		replies = append(replies, r.finish(rep, status))
	}
	done()
	if len(replies) > 0 {
		c.transmit(replies)
	}
	return true
}

// transmit signs and sends replies as one frame.
func (c *conn) transmit(replies []*reply) {
	msgs := make([][]byte, len(replies))
	for i, r := range replies {
		if i < len(replies)-1 {
			for len(r.b)%8 != 0 {
				r.b = append(r.b, 0)
			}
			r.h.next = uint32(len(r.b))
		}
		r.h.put(r.b)
		if r.sign != nil && r.seal == nil {
			signMessage(r.sign, r.b)
		}
		msgs[i] = r.b
	}
	if s := replies[0].seal; s != nil {
		msgs = s.seal(msgs)
	}
	c.send(msgs...)
	for _, r := range replies {
		if r.buf != nil {
			r.buf.release()
		}
		if r.sent != nil {
			r.sent()
		}
	}
}

// finish fills in a reply's header; one without a body gets the error body of
// MS-SMB2 section 2.2.2.
func (r *request) finish(rep *reply, status Status) *reply {
	if len(rep.b) == headerSize {
		rep.fixed(9, 9)
	}
	rep.h.status = status
	rep.h.command = r.h.command
	rep.h.flags |= flagResponse | r.h.flags&flagRelated
	rep.h.messageID = r.h.messageID
	rep.h.creditCharge = r.h.creditCharge
	rep.h.treeID, rep.h.sessionID = r.h.treeID, r.h.sessionID
	r.c.mu.Lock()
	rep.h.credits = r.c.window.grant(r.h.credits)
	r.c.mu.Unlock()
	rep.seal = r.sealed
	if rep.sign == nil && !rep.bare && r.sess != nil && r.sess.established.Load() && r.h.command != cmdSessionSetup {
		rep.sign = r.sess.signer
	}
	return rep
}

type handler func(*request) (*reply, error)

var handlers = map[command]handler{
	cmdLogoff: (*request).logoff, cmdTreeConnect: (*request).treeConnect, cmdTreeDisconnect: (*request).treeDisconnect,
	cmdCreate: (*request).create, cmdClose: (*request).close, cmdFlush: (*request).flush, cmdRead: (*request).read,
	cmdWrite: (*request).write, cmdLock: (*request).lock, cmdIoctl: (*request).ioctl, cmdEcho: (*request).echo,
	cmdQueryDirectory: (*request).queryDirectory, cmdChangeNotify: (*request).changeNotify,
	cmdQueryInfo: (*request).queryInfo, cmdSetInfo: (*request).setInfo,
}

// withoutTree are the commands that need no tree.
func withoutTree(c command) bool {
	return c == cmdLogoff || c == cmdTreeConnect || c == cmdEcho
}

// run answers one message. alive is false when the connection must be closed.
func (r *request) run(related bool) (rep *reply, status Status, alive bool) {
	defer func() {
		// One bad message must not take the others' connections with it.
		if p := recover(); p != nil {
			r.c.log.Error("request failed", "command", r.h.command, "panic", p, "stack", string(debug.Stack()))
			rep, status, alive = nil, statusUnexpectedIOError, false
		}
	}()
	fail := func(s Status) (*reply, Status, bool) { return newReply(16), s, true }
	switch r.h.command {
	case cmdNegotiate:
		return r.negotiate()
	case cmdSessionSetup:
		return r.sessionSetup()
	case cmdCancel:
		r.c.cancelAsync(r)
		return nil, statusOK, true
	}
	if related {
		r.h.sessionID, r.h.treeID = r.link.sessionID, r.link.treeID
	}
	r.link.sessionID, r.link.treeID = r.h.sessionID, r.h.treeID
	if r.h.command == cmdEcho && r.h.sessionID == 0 {
		rep, err := r.echo()
		return orEmpty(rep), statusOf(err), true
	}
	r.sess = r.c.session(r.h.sessionID)
	if r.sess == nil || !r.sess.established.Load() {
		return fail(statusUserSessionDeleted)
	}
	if r.sealed != nil && r.sealed != r.sess { // MS-SMB2 section 3.3.5.2.1.1
		return nil, statusAccessDenied, false
	}
	if !r.genuine(r.sess) {
		return fail(statusAccessDenied)
	}
	r.sess.traffic.Did()
	r.c.srv.stirs.Add(1)
	if related && r.link.status.failed() && !r.link.hasFile {
		return fail(r.link.status) // it would act on what was never opened
	}
	if !withoutTree(r.h.command) {
		if r.tree = r.sess.tree(r.h.treeID); r.tree == nil {
			return fail(statusNetworkNameDeleted)
		}
		if r.sealed == nil && r.c.srv.sealsShare(r.tree) {
			return fail(statusAccessDenied) // MS-SMB2 section 3.3.5.2.11
		}
	}
	handle := handlers[r.h.command]
	if handle == nil {
		if r.h.command == cmdOplockBreak { // none is ever granted
			return fail(statusInvalidDeviceRequest)
		}
		return fail(statusInvalidParameter)
	}
	rep, err := handle(r)
	if err == errHangUp {
		return nil, statusAccessDenied, false
	}
	return orEmpty(rep), statusOf(err), true
}

// genuine says whether a message is the session's: it came in its seal, or has its signature.
func (r *request) genuine(s *session) bool {
	return r.sealed == s || r.h.flags&flagSigned != 0 && verifyMessage(s.signer, r.raw)
}

func orEmpty(rep *reply) *reply {
	if rep == nil {
		return newReply(16)
	}
	return rep
}

// fileID reads the 16 bytes of a file ID; the one that stands for "as before" in a
// compound is replaced (MS-SMB2 section 3.3.5.2.7.2).
func (r *request) fileID(at int) uint64 {
	persistent, id := le.Uint64(r.body[at:]), le.Uint64(r.body[at+8:])
	if id == ^uint64(0) && persistent == id && r.h.flags&flagRelated != 0 && r.link.hasFile {
		return r.link.fileID
	}
	r.link.fileID, r.link.hasFile = id, true
	return id
}

// open finds the open file that a request names.
func (r *request) open(at int) (*open, error) {
	id := r.fileID(at)
	if o := r.sess.find(id); o != nil && o.tree == r.tree {
		return o, nil
	}
	return nil, statusFileClosed
}

// fits says whether the request paid for n bytes of data, MS-SMB2 section 3.3.5.2.5.
func (r *request) fits(n int) bool {
	return n <= maxTransact && n <= int(max(r.h.creditCharge, 1))*65536
}

func (r *request) echo() (*reply, error) {
	if !r.body.fixed(4) {
		return nil, statusInvalidParameter
	}
	return newReply(8).fixed(4, 4), nil
}

// asyncOp is a request that was answered with "pending" and is answered again later.
type asyncOp struct {
	id     uint64
	req    *request
	file   uint64
	cancel chan struct{}
	closed bool // cancelled because the file is; guarded by conn.mu
	once   sync.Once
}

func (a *asyncOp) stop() { a.once.Do(func() { close(a.cancel) }) }

// later answers "pending", and once that has gone out runs wait, which is to settle the
// request. There is no reply when too many are waiting.
func (r *request) later(file uint64, wait func(*asyncOp)) (*reply, error) {
	c := r.c
	// The frame is used again once the request returns: keep only what is copied.
	kept := &request{c: c, h: r.h, sess: r.sess, sealed: r.sealed}
	a := &asyncOp{id: c.srv.nextID.Add(1), req: kept, file: file, cancel: make(chan struct{})}
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.waiting) >= maxWaiting {
		return nil, statusInsufficientResources
	}
	c.waiting[a.id] = a
	rep := newReply(16).fixed(9, 9)
	rep.h.flags, rep.h.asyncID = flagAsync, a.id
	// It has the message ID of the answer that follows, and so would have its nonce: two signatures by one nonce
	// give away the key of AES-GMAC. Interim answers are not signed (MS-SMB2 sections 3.3.4.1.1 and 3.3.4.2), and
	// clients do not check them (section 3.2.5.1.3).
	rep.bare = true
	c.working.Add(1)
	rep.sent = func() {
		go func() {
			defer c.working.Done()
			contain.Run("waiting for a client", func() { wait(a) })
		}()
	}
	return rep, statusPending
}

// settle sends the final answer of a pended request, which grants no credits: the
// interim one did.
func (a *asyncOp) settle(rep *reply, status Status) {
	c := a.req.c
	c.mu.Lock()
	delete(c.waiting, a.id)
	c.mu.Unlock()
	if rep == nil {
		rep = newReply(16)
	}
	a.req.finishAsync(rep, status, a.id)
	c.transmit([]*reply{rep})
}

func (r *request) finishAsync(rep *reply, status Status, id uint64) {
	if len(rep.b) == headerSize {
		rep.fixed(9, 9)
	}
	rep.h = header{status: status, command: r.h.command, flags: flagResponse | flagAsync, messageID: r.h.messageID,
		creditCharge: r.h.creditCharge, asyncID: id, sessionID: r.h.sessionID}
	rep.sign, rep.seal = r.sess.signer, r.sealed
}

// cancelAsync is CANCEL, MS-SMB2 section 3.3.5.16: it has no answer of its own.
func (c *conn) cancelAsync(r *request) {
	sess := c.session(r.h.sessionID)
	if sess == nil || !sess.established.Load() || r.sealed != nil && r.sealed != sess || !r.genuine(sess) {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for id, a := range c.waiting {
		if a.req.sess == sess && (r.h.flags&flagAsync != 0 && id == r.h.asyncID || r.h.flags&flagAsync == 0 && a.req.h.messageID == r.h.messageID) {
			a.stop()
			return
		}
	}
}
