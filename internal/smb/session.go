package smb

import (
	"crypto/rand"
	"errors"
	"fmt"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/live"
	"amber.example/gatekeeper/internal/meter"
	"amber.example/gatekeeper/internal/ntlm"
	"amber.example/gatekeeper/internal/smb/message"
)

// Dialects, MS-SMB2 section 2.2.3.
const (
	dialect21   = 0x0210
	dialect30   = 0x0300
	dialect302  = 0x0302
	dialect311  = 0x0311
	dialectWild = 0x02ff

	signingEnabled  = 1
	signingRequired = 2

	capReferrals = 0x01 // MS-DFSC
	capLeasing   = 0x02
	capLargeMTU  = 0x04

	capPersistent       = 0x10
	capDirectoryLeasing = 0x20

	preauthSHA512 = 1
)

// session is one signed-in user on one connection.
type session struct {
	id     uint64
	number uint64 // to who looks after things: see live.go
	since  time.Time
	conn   *conn
	signIn *ntlm.SignIn // under way; only the reading goroutine touches it

	preauth     [64]byte
	established atomic.Bool
	user        identity.ID // these three are fixed once established
	name        string
	guest       bool     // came without an account
	signer      signer   // nil for who came without a name: there is no key
	sealing     *sealing // nil where the two agreed on no cipher
	traffic     live.Traffic
	mac         atomic.Bool // it has asked by ContextMac
	of          *meter.Of   // what it is counted by; nil for nothing

	mu       sync.Mutex
	trees    map[uint32]*tree
	opens    map[uint64]*open
	nextTree uint32
	closed   bool
}

// tree is one share that a session is connected to.
type tree struct {
	id    uint32
	share string // "" for the pipes of IPC$, and for what is elsewhere
	led   string // where it is, of what is elsewhere
	of    *meter.Of
}

func (t *tree) pipes() bool { return t.share == "" && t.led == "" }

func (c *conn) session(id uint64) *session {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.sessions[id]
}

func (s *session) tree(id uint32) *tree {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.trees[id]
}

func (s *session) find(id uint64) *open {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.opens[id]
}

// close closes all that the session has open.
func (s *session) close() {
	for _, o := range s.shut() {
		o.close()
	}
}

// shut ends the session, and gives what it had open.
func (s *session) shut() map[uint64]*open {
	s.mu.Lock()
	opens := s.opens
	s.opens, s.trees, s.closed = nil, nil, true
	s.mu.Unlock()
	s.established.Store(false)
	s.conn.srv.mu.Lock()
	delete(s.conn.srv.sessions, s.id)
	s.conn.srv.mu.Unlock()
	return opens
}

// sessionSetup is MS-SMB2 section 3.3.5.5.
func (r *request) sessionSetup() (*reply, Status, bool) {
	c := r.c
	fail := func(s Status) (*reply, Status, bool) { return noBody(), s, true }
	var m message.SessionSetupRequest
	if m.Parse(r.raw) != nil {
		return fail(statusInvalidParameter)
	}
	if m.Flags&message.SessionBinding != 0 {
		return fail(statusRequestNotAccepted)
	}
	s, status := r.setupSession()
	if status != statusOK {
		return fail(status)
	}
	if s.signIn == nil {
		s.signIn = ntlm.New(c.srv.Name)
		s.signIn.LetNobodyIn(func() error { return c.letNobodyIn(s) })
		s.preauth = c.preauth
	}
	if c.dialect == dialect311 {
		s.preauth = extend(s.preauth, r.raw)
	}
	r.h.SessionID = s.id
	token, done, err := c.authenticate(s, m.Token)
	if err != nil { // a session that fails to sign in again ends as well
		s.signIn = nil
		s.end()
		return fail(statusOf(err))
	}
	out := message.SessionSetupResponse{Token: token}
	if done && s.signIn.Anonymous() {
		out.Flags = message.SessionIsNull
	}
	rep := answer(&out)
	if !done {
		rep = r.finish(rep, statusMoreProcessingRequired)
		rep.h.Put(rep.b)
		if c.dialect == dialect311 {
			s.preauth = extend(s.preauth, rep.b)
		}
		c.send(rep.b)
		return nil, statusOK, true
	}
	if status := r.establish(s); status != statusOK {
		return fail(status)
	}
	rep.sign = s.signer
	if m.PreviousSession != 0 && !s.guest && m.PreviousSession != s.id {
		c.srv.endPrevious(m.PreviousSession, s.user)
	}
	return rep, statusOK, true
}

// setupSession finds the session that a SESSION_SETUP is about, or makes one.
func (r *request) setupSession() (*session, Status) {
	c := r.c
	if r.h.SessionID != 0 {
		s := c.session(r.h.SessionID)
		switch {
		case s == nil:
			return nil, statusUserSessionDeleted
		case r.sealed != nil && r.sealed != s, s.established.Load() && !r.genuine(s):
			return nil, statusAccessDenied
		}
		return s, statusOK
	}
	var id [8]byte
	rand.Read(id[:])
	s := &session{id: le.Uint64(id[:])&^(1<<63) | 1, conn: c, trees: make(map[uint32]*tree), opens: make(map[uint64]*open)}
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.sessions) >= maxSessions {
		return nil, statusInsufficientResources
	}
	c.sessions[s.id] = s
	return s, statusOK
}

// authenticate takes the next step of a sign-in. Wrong passwords are slowed where they are compared.
func (c *conn) authenticate(s *session, token []byte) ([]byte, bool, error) {
	var user identity.ID
	var name string
	guest := false
	answer, done, err := s.signIn.Step(token, func(who string, compare func([]byte) bool) (err error) {
		name = who
		if c.trial != nil {
			user, err = c.trial.prove(compare)
			return err
		}
		if user = c.guestNamed(who); user != 0 && compare(noPassword) {
			guest = true
			return nil
		}
		user, err = c.srv.Accounts.ProveNT(c.ctx, who, c.address, compare)
		return err
	})
	switch {
	case errors.Is(err, ntlm.ErrPutOff):
		c.log.Info("sign-in put off", "user", name)
		return nil, false, statusAccountLockedOut
	case errors.Is(err, ntlm.ErrMustChange):
		c.log.Info("sign-in refused: the password has to be changed first", "user", name)
		return nil, false, statusPasswordMustChange
	case errors.Is(err, ntlm.ErrPasswordOver):
		c.log.Info("sign-in refused: the password is too old", "user", name)
		return nil, false, statusPasswordExpired
	case errors.Is(err, ntlm.ErrWrong):
		c.log.Info("sign-in failed", "user", name)
		return nil, false, statusLogonFailure
	case err != nil:
		return nil, false, statusInvalidParameter
	case !done:
		return answer, false, nil
	}
	if s.signIn.Anonymous() {
		user, guest = c.srv.Policy().Services.SMBGuest, true
	}
	if gate := c.srv.admit(user); gate != access.Passed {
		c.log.Info("sign-in refused", "user", name, "gate", gate.String())
		if gate == access.Service {
			return nil, false, statusLogonTypeNotGranted
		}
		if u := c.srv.Policy().Directory.User(user); u != nil && u.Disabled {
			return nil, false, statusAccountDisabled
		}
		return nil, false, statusAccountExpired
	}
	if !s.established.Load() {
		s.user, s.name, s.guest = user, s.signIn.User(), guest
		if guest {
			s.name = "guest"
		}
	} else if s.user != user || s.guest != guest || s.signIn.Anonymous() != (s.signer == nil) {
		return nil, false, statusAccessDenied // a session stays with whom it began
	}
	return answer, true, nil
}

// establish derives the session's keys, MS-SMB2 section 3.3.5.5.3.
func (r *request) establish(s *session) Status {
	c := r.c
	key, anonymous := s.signIn.Key(), s.signIn.Anonymous()
	s.signIn = nil
	if s.established.Load() {
		return statusOK // signed in again: the keys stay
	}
	if anonymous {
		c.begin(s)
		return statusOK
	}
	var err error
	if s.sealing, err = newSealing(c.dialect, c.cipher, key, s.preauth); err != nil {
		return statusUnexpectedIOError
	}
	switch c.dialect {
	case dialect30, dialect302:
		key = deriveKey(key, "SMB2AESCMAC\x00", []byte("SmbSign\x00"))
	case dialect311:
		key = deriveKey(key, "SMBSigningKey\x00", s.preauth[:])
	}
	sign, err := newSigner(c.signing, key)
	if err != nil {
		return statusUnexpectedIOError
	}
	s.signer = sign
	c.begin(s)
	return statusOK
}

// begin has a session begin.
func (c *conn) begin(s *session) {
	s.number, s.since = c.srv.nextID.Add(1), time.Now()
	s.of = s.about()
	s.established.Store(true)
	c.srv.mu.Lock()
	c.srv.sessions[s.id] = s
	c.srv.mu.Unlock()
	_ = c.nc.SetReadDeadline(time.Time{})
	c.log.Info("signed in", "user", s.name, "dialect", c.dialect)
}

// end takes a session off its connection, with all that waits in it and is open.
func (s *session) end() {
	s.leave()
	s.close()
}

// leave takes a session off its connection.
func (s *session) leave() {
	c := s.conn
	c.mu.Lock()
	delete(c.sessions, s.id)
	c.mu.Unlock()
	c.stopWaiting(func(a *asyncOp) bool { return a.req.sess == s })
}

// endPrevious ends the session that a client had before its connection broke.
func (s *Server) endPrevious(id uint64, user identity.ID) {
	s.mu.Lock()
	old := s.sessions[id]
	s.mu.Unlock()
	if old != nil && old.user == user {
		old.leave()
		old.detach()
	}
}

func (r *request) logoff(*message.Empty) (*reply, error) {
	rep := answer(&message.Empty{})
	rep.sign = r.sess.signer
	r.sess.end()
	if !r.c.signedIn() {
		_ = r.c.nc.SetReadDeadline(time.Now().Add(signInTime))
	}
	return rep, nil
}

// stopWaiting ends the pended requests that are picked.
func (c *conn) stopWaiting(pick func(*asyncOp) bool) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, a := range c.waiting {
		if pick(a) {
			a.closed = true
			a.stop()
		}
	}
}

// treeConnect is MS-SMB2 section 3.3.5.7.
func (r *request) treeConnect(m *message.TreeConnectRequest) (*reply, error) {
	path, ok := message.Text(m.Path)
	parts := strings.Split(strings.TrimPrefix(path, `\\`), `\`)
	if !ok || !strings.HasPrefix(path, `\\`) || len(parts) != 2 || parts[1] == "" || strings.ContainsRune(path, 0) {
		return nil, statusBadNetworkName
	}
	t := &tree{}
	kind, flags, capabilities, maximum := byte(message.ShareDisk), uint32(0), uint32(0), acl.Mask(0)
	if strings.EqualFold(parts[1], "IPC$") {
		sealed, err := r.admitted()
		if err != nil {
			return nil, err
		}
		kind, flags, maximum = message.SharePipe, message.ShareNoCaching|sealed, acl.Read.Mask(false)|acl.WriteData
	} else {
		sh, elsewhere := r.c.srv.Policy().Meant(parts[0], parts[1])
		if elsewhere != "" {
			return r.led(elsewhere)
		}
		if sh == nil {
			return nil, statusBadNetworkName
		}
		var err error
		who := r.subject()
		who.Encrypts = r.sess.sealing != nil
		if maximum, err = r.c.srv.Files.Connect(who, sh.Name); err != nil {
			r.c.log.Info("share refused", "user", r.sess.name, "share", sh.Name, "reason", err.Error())
			return nil, err
		}
		if sh.MostConnections > 0 { // who comes meanwhile is counted after
			r.c.srv.joining.Lock()
			defer r.c.srv.joining.Unlock()
		}
		if r.c.srv.full(sh, r.sess) {
			r.c.log.Info("share refused", "user", r.sess.name, "share", sh.Name, "reason", fmt.Sprintf("it has the %d connections that it takes", sh.MostConnections))
			return nil, statusRequestNotAccepted
		}
		t.share, t.of = sh.Name, r.sess.through(sh)
		flags |= offline(sh)
		if r.c.persists(sh) {
			capabilities |= message.ShareKept
		}
		if sh.ListOnlyOpenable {
			flags |= message.ShareListAccessible
		}
		if r.c.srv.Policy().Sealed(sh) {
			flags |= message.ShareSealed
		}
	}
	return r.joined(t, &message.TreeConnectResponse{Type: kind, ShareFlags: flags, Capabilities: capabilities, MaximalAccess: uint32(maximum)})
}

// admitted is for what is in no folder: whoever may come in over SMB may have it, sealed where everything is. It gives the flag that says so.
func (r *request) admitted() (flag uint32, err error) {
	if r.c.srv.admit(r.sess.user) != access.Passed {
		return 0, statusAccessDenied
	}
	if !r.c.srv.Policy().Services.SMBEncrypted {
		return 0, nil
	}
	if r.sess.sealing == nil {
		return 0, statusAccessDenied
	}
	return message.ShareSealed, nil
}

// joined has a session be connected to a tree.
func (r *request) joined(t *tree, out *message.TreeConnectResponse) (*reply, error) {
	s := r.sess
	s.mu.Lock()
	if s.closed || len(s.trees) >= maxTrees {
		s.mu.Unlock()
		return nil, statusInsufficientResources
	}
	s.nextTree++
	t.id = s.nextTree
	s.trees[t.id] = t
	s.mu.Unlock()
	r.h.TreeID = t.id
	r.link.treeID = t.id
	return answer(out), nil
}

func (r *request) treeDisconnect(*message.Empty) (*reply, error) {
	s := r.sess
	t := s.tree(r.h.TreeID)
	if t == nil {
		return nil, statusNetworkNameDeleted
	}
	var gone []*open
	s.mu.Lock()
	delete(s.trees, t.id)
	for id, o := range s.opens {
		if o.tree == t {
			gone = append(gone, o)
			delete(s.opens, id)
		}
	}
	s.mu.Unlock()
	for _, o := range gone {
		r.c.stopWaiting(func(a *asyncOp) bool { return a.file == o.id })
		o.close()
	}
	return answer(&message.Empty{}), nil
}
