package smb

import (
	"runtime/debug"
	"sync"
	"time"

	"amber.example/gatekeeper/internal/contain"
	"amber.example/gatekeeper/internal/smb/message"
	"amber.example/gatekeeper/internal/turns"
)

// request is one message of a frame on its way to being answered.
type request struct {
	c    *conn
	h    message.Header
	raw  []byte // the whole message
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
	h    message.Header
	sign signer   // nil where it goes out unsigned
	seal *session // in whose seal it goes out; nil for open. What is sealed is not signed (MS-SMB2 section 3.3.4.1.1)
	bare bool     // it must: see later
	sent func()   // called when it has gone out; may be nil
}

// answer is a reply with a body.
func answer(m interface{ Append([]byte) []byte }) *reply {
	return &reply{b: m.Append(make([]byte, message.HeaderSize, 256))}
}

// noBody is one that gets the body of an error.
func noBody() *reply { return &reply{b: make([]byte, message.HeaderSize, 80)} }

// receive takes one frame, and gives what is to be done with it: turns.Over when the connection is to be closed.
func (c *conn) receive(f *buffer) (work func(), kind turns.Kind) {
	refuse := func() (func(), turns.Kind) {
		f.release()
		return nil, turns.Over
	}
	went := func(alive bool) (func(), turns.Kind) {
		f.release()
		if !alive {
			return nil, turns.Over
		}
		return nil, turns.Inline
	}
	if message.IsSMB1(f.b) {
		return went(c.negotiateSMB1(f.b))
	}
	frame, in := f.b, (*session)(nil)
	if message.IsTransform(frame) {
		var ok bool
		if frame, in, ok = c.unseal(frame); !ok {
			c.log.Debug("a sealed frame was refused")
			return refuse()
		}
	}
	reqs, ok := c.split(frame)
	if !ok {
		return refuse()
	}
	ordered, long := true, len(f.b) > quickFrame
	for _, r := range reqs {
		r.sealed = in
		switch r.h.Command {
		case message.Negotiate, message.SessionSetup:
			if len(reqs) > 1 {
				return refuse() // MS-SMB2 section 3.3.5.2.7: never in a compound
			}
		case message.Logoff, message.TreeConnect, message.TreeDisconnect, message.Cancel:
		default:
			ordered = false
		}
		if !c.negotiated && r.h.Command != message.Negotiate {
			return refuse()
		}
		long = long || r.h.CreditCharge > 1
	}
	if ordered {
		return went(c.answer(reqs, func() {}))
	}
	place := c.slots.Take(c.ctx, f.setAside)
	if place == nil {
		return refuse()
	}
	if kind = turns.Alone; long || c.in.Buffered() > 0 {
		kind = turns.Beside
	}
	c.working.Add(1)
	return func() {
		defer c.working.Done()
		contain.Run("a request", func() {
			defer func() {
				f.release()
				place.Done()
			}()
			if !c.answer(reqs, place.Keep) {
				c.nc.Close()
			}
		})
	}, kind
}

// quickFrame is how long a frame may be of a request that is answered at once.
const quickFrame = 16 << 10

// split parts a frame into its messages and takes their credits.
func (c *conn) split(frame []byte) ([]*request, bool) {
	var out []*request
	for {
		var h message.Header
		if h.Parse(frame) != nil || h.Flags&message.FlagResponse != 0 {
			return nil, false
		}
		msg := frame
		if h.Next != 0 {
			if h.Next%8 != 0 || h.Next < message.HeaderSize || int(h.Next) > len(frame)-message.HeaderSize {
				return nil, false
			}
			msg, frame = frame[:h.Next], frame[h.Next:]
		}
		if h.Command != message.Cancel {
			c.mu.Lock()
			ok := c.window.take(h.MessageID, h.CreditCharge)
			c.mu.Unlock()
			if !ok {
				return nil, false // MS-SMB2 section 3.3.5.2.3
			}
		}
		out = append(out, &request{c: c, h: h, raw: msg})
		if h.Next == 0 {
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
		related := r.h.Flags&message.FlagRelated != 0
		if !related {
			*link = chain{length: len(reqs)}
		} else if i == 0 {
			replies = append(replies, r.finish(noBody(), statusInvalidParameter))
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
			r.h.Next = uint32(len(r.b))
		}
		r.h.Put(r.b)
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
	rep.complete()
	rep.h.Status = uint32(status)
	rep.h.Command = r.h.Command
	rep.h.Flags |= message.FlagResponse | r.h.Flags&message.FlagRelated
	rep.h.MessageID = r.h.MessageID
	rep.h.CreditCharge = r.h.CreditCharge
	rep.h.TreeID, rep.h.SessionID = r.h.TreeID, r.h.SessionID
	r.c.mu.Lock()
	rep.h.Credits = r.c.window.grant(r.h.Credits)
	r.c.mu.Unlock()
	rep.seal = r.sealed
	if rep.sign == nil && !rep.bare && r.sess != nil && r.sess.established.Load() && r.h.Command != message.SessionSetup {
		rep.sign = r.sess.signer
	}
	return rep
}

// complete gives a reply that has no body that of an error.
func (rep *reply) complete() {
	if len(rep.b) == message.HeaderSize {
		rep.b = (&message.ErrorResponse{}).Append(rep.b)
	}
}

type handler func(*request) (*reply, error)

// taking reads the request that a handler takes.
func taking[T any, P interface {
	*T
	Parse(msg []byte) error
}](handle func(*request, P) (*reply, error)) handler {
	return func(r *request) (*reply, error) {
		m := P(new(T))
		if m.Parse(r.raw) != nil {
			return nil, statusInvalidParameter
		}
		return handle(r, m)
	}
}

var handlers = map[message.Command]handler{
	message.Logoff: taking((*request).logoff), message.TreeConnect: taking((*request).treeConnect), message.TreeDisconnect: taking((*request).treeDisconnect),
	message.Create: taking((*request).create), message.Close: taking((*request).close), message.Flush: taking((*request).flush),
	message.Read: taking((*request).read), message.Write: taking((*request).write), message.Lock: taking((*request).lock),
	message.Ioctl: taking((*request).ioctl), message.Echo: taking((*request).echo), message.QueryDirectory: taking((*request).queryDirectory),
	message.ChangeNotify: taking((*request).changeNotify), message.QueryInfo: taking((*request).queryInfo), message.SetInfo: taking((*request).setInfo),
	message.OplockBreak: (*request).breakAnswer,
}

// withoutTree are the commands that need no tree.
func withoutTree(c message.Command) bool {
	return c == message.Logoff || c == message.TreeConnect || c == message.Echo || c == message.OplockBreak
}

// run answers one message. alive is false when the connection must be closed.
func (r *request) run(related bool) (rep *reply, status Status, alive bool) {
	defer func() {
		// One bad message must not take the others' connections with it.
		if p := recover(); p != nil {
			r.c.log.Error("request failed", "command", r.h.Command, "panic", p, "stack", string(debug.Stack()))
			rep, status, alive = nil, statusUnexpectedIOError, false
		}
	}()
	fail := func(s Status) (*reply, Status, bool) { return noBody(), s, true }
	switch r.h.Command {
	case message.Negotiate:
		return r.negotiate()
	case message.SessionSetup:
		return r.sessionSetup()
	case message.Cancel:
		r.c.cancelAsync(r)
		return nil, statusOK, true
	}
	if related {
		r.h.SessionID, r.h.TreeID = r.link.sessionID, r.link.treeID
	}
	r.link.sessionID, r.link.treeID = r.h.SessionID, r.h.TreeID
	if r.h.Command == message.Echo && r.h.SessionID == 0 {
		rep, err := handlers[message.Echo](r)
		return orEmpty(rep), statusOf(err), true
	}
	r.sess = r.c.session(r.h.SessionID)
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
	if related && (r.link.status.failed() || r.link.status == statusStoppedOnSymlink) && !r.link.hasFile {
		return fail(r.link.status) // it would act on what was never opened
	}
	if !withoutTree(r.h.Command) {
		if r.tree = r.sess.tree(r.h.TreeID); r.tree == nil {
			return fail(statusNetworkNameDeleted)
		}
		if !r.maySend(r.tree) {
			return fail(statusAccessDenied)
		}
	}
	handle := handlers[r.h.Command]
	if handle == nil {
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
	if s.signer == nil { // who came without a name has no key to sign by
		return r.sealed == nil
	}
	return r.sealed == s || r.h.Flags&message.FlagSigned != 0 && verifyMessage(s.signer, r.raw)
}

func orEmpty(rep *reply) *reply {
	if rep == nil {
		return noBody()
	}
	return rep
}

// open finds the open file that a request names; the ID that stands for "as before" in a compound is replaced (MS-SMB2
// section 3.3.5.2.7.2).
func (r *request) open(id message.FileID) (*open, error) {
	if id == message.AsBefore && r.h.Flags&message.FlagRelated != 0 && r.link.hasFile {
		id.Volatile = r.link.fileID
	} else {
		r.link.fileID, r.link.hasFile = id.Volatile, true
	}
	if o := r.sess.find(id.Volatile); o != nil && o.tree == r.tree {
		return o, nil
	}
	return nil, statusFileClosed
}

// fits says whether the request paid for n bytes of data, MS-SMB2 section 3.3.5.2.5.
func (r *request) fits(n int) bool {
	return n <= maxTransact && n <= int(max(r.h.CreditCharge, 1))*65536
}

func (r *request) echo(*message.Empty) (*reply, error) { return answer(&message.Empty{}), nil }

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
	rep := answer(&message.ErrorResponse{})
	rep.h.Flags, rep.h.AsyncID = message.FlagAsync, a.id
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
		rep = noBody()
	}
	a.req.finishAsync(rep, status, a.id)
	c.transmit([]*reply{rep})
}

func (r *request) finishAsync(rep *reply, status Status, id uint64) {
	rep.complete()
	rep.h = message.Header{Status: uint32(status), Command: r.h.Command, Flags: message.FlagResponse | message.FlagAsync, MessageID: r.h.MessageID,
		CreditCharge: r.h.CreditCharge, AsyncID: id, SessionID: r.h.SessionID}
	rep.sign, rep.seal = r.sess.signer, r.sealed
}

// cancelAsync is CANCEL, MS-SMB2 section 3.3.5.16: it has no answer of its own.
func (c *conn) cancelAsync(r *request) {
	sess := c.session(r.h.SessionID)
	if sess == nil || !sess.established.Load() || r.sealed != nil && r.sealed != sess || !r.genuine(sess) {
		return
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	for id, a := range c.waiting {
		if a.req.sess == sess && (r.h.Flags&message.FlagAsync != 0 && id == r.h.AsyncID || r.h.Flags&message.FlagAsync == 0 && a.req.h.MessageID == r.h.MessageID) {
			a.stop()
			return
		}
	}
}
