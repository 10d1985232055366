package smb

import (
	"context"
	"encoding/json"
	"net/netip"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/meter"
)

// What is open on some shares outlasts the service (persistent handles, MS-SMB2 section 3.3.5.9.10): it is written down when it is opened and when
// what it locks or may cache changes, opened again when the service is started anew, and kept for its client for as long as was agreed.

// Opens is where it is written down.
type Opens interface {
	Keep(ctx context.Context, id uint64, body []byte) error
	Forget(ctx context.Context, id uint64) error
	Kept(ctx context.Context) (map[uint64][]byte, error)
}

// writtenOpen is an open as it is written down.
type writtenOpen struct {
	Share   string
	User    identity.ID
	Client  [16]byte
	Create  [16]byte
	Timeout time.Duration
	From    netip.Addr
	Since   time.Time
	File    files.Lasting

	Lease       bool     `json:",omitzero"`
	Second      bool     `json:",omitzero"` // the second version of leases
	Key, Parent [16]byte `json:",omitzero"`
	Oplock      bool     `json:",omitzero"`
}

// persists says whether what is opened on a share over this connection outlasts the service.
func (c *conn) persists(sh *site.PublishedShare) bool {
	return sh != nil && sh.Persistent && c.capabilities()&capPersistent != 0 && c.trial == nil
}

// persistent says whether an open outlasts the service.
func (o *open) persistent() bool {
	d := o.durable.Load()
	return d != nil && d.persistent
}

// writeDown writes an open down for the first time, and says whether it could.
func (s *Server) writeDown(o *open, c *conn, d *durable) bool {
	o.keeping.Lock()
	defer o.keeping.Unlock()
	o.written = writtenOpen{Share: o.tree.share, User: o.sess.Load().user, Client: c.client.ClientGUID, Create: d.create.create,
		Timeout: d.timeout, From: c.from.Address, Since: o.since}
	if k := o.cache; k != nil && k.oplock != nil {
		o.written.Oplock = true
	} else if k != nil {
		o.written.Lease, o.written.Second, o.written.Key, o.written.Parent = true, k.second, k.id.key, k.parent
	}
	return o.keep()
}

// keep writes an open down as it is now. keeping is held.
func (o *open) keep() bool {
	o.written.File = o.handle.Lasting()
	body, err := json.Marshal(&o.written)
	if err == nil {
		err = o.srv.Lasting.Keep(context.Background(), o.id, body)
	}
	if err != nil {
		o.srv.Log.Warn("what is open is not written down, and does not outlast the service", "share", o.written.Share, "path", o.written.File.Path, "error", err)
	}
	return err == nil
}

// changed writes down what an open locks, and what it is called, where it outlasts the service.
func (o *open) changed() {
	if !o.persistent() {
		return
	}
	o.keeping.Lock()
	defer o.keeping.Unlock()
	if !o.gone {
		o.keep()
	}
}

// remember writes down what may be cached now, for all but the open for which that has just been done.
func (c *cached) remember(but *open) {
	c.srv.cacheMu.Lock()
	var opens []*open
	for o := range c.opens {
		if o != but {
			opens = append(opens, o)
		}
	}
	c.srv.cacheMu.Unlock()
	for _, o := range opens {
		o.changed()
	}
}

// forget is for an open that is closed: by its client, by an administrator, or since it was waited for in vain. What is closed as the service ends
// stays written down.
func (o *open) forget() {
	if !o.persistent() {
		return
	}
	o.keeping.Lock()
	defer o.keeping.Unlock()
	o.gone = true
	if o.srv.isStopped() {
		o.handle.Suspend()
	} else if err := o.srv.Lasting.Forget(context.Background(), o.id); err != nil {
		o.srv.Log.Warn("what was open stays written down though it is closed", "error", err)
	}
}

// Restore opens again what was open when the service ended, for clients to come back to. It is called once, before anything is served.
func (s *Server) Restore(ctx context.Context) error {
	if s.Lasting == nil {
		return nil
	}
	kept, err := s.Lasting.Kept(ctx)
	if err != nil {
		return err
	}
	for id, body := range kept {
		if id >= s.nextID.Load() {
			s.nextID.Store(id)
		}
		var w writtenOpen
		err := json.Unmarshal(body, &w)
		if err == nil {
			err = s.reopen(ctx, id, w)
		}
		if err == nil {
			continue
		}
		s.Log.Info("what was open before the service was started anew is not opened again", "share", w.Share, "path", w.File.Path, "reason", err.Error())
		if err := s.Lasting.Forget(ctx, id); err != nil {
			return err
		}
	}
	return nil
}

func (s *Server) reopen(ctx context.Context, id uint64, w writtenOpen) error {
	if s.admit(w.User) != 0 {
		return statusAccessDenied
	}
	o := &open{srv: s, id: id, since: w.Since, tree: &tree{share: w.Share, of: new(meter.Of)}, written: w, whence: new(whence)}
	d := &durable{second: true, create: createID{w.Client, w.Create}, timeout: min(max(w.Timeout, time.Second), longestTime), persistent: true}
	o.durable.Store(d)
	from := site.Origin{Address: w.From}
	o.whence.was = func(sh *site.PublishedShare) *site.Origin {
		if !sh.NeedsNames(from.Address) {
			return &from
		}
		return s.named(ctx, from)
	}
	who := files.Subject{User: w.User, Via: site.SMB, From: w.From.String(), Whence: o.whence}
	key := any(o)
	if w.Lease {
		key = leaseID{w.Client, w.Key}
	}
	var err error
	if o.handle, err = s.Files.Reopen(who, w.Share, w.File, key); err != nil {
		return err
	}
	var c *cached
	switch {
	case w.Lease:
		if c = s.shareLease(o, leaseID{w.Client, w.Key}, w.Second, w.Parent, w.File.Cached); c == nil {
			_ = o.handle.Close()
			return statusInvalidParameter
		}
	case w.Oplock:
		c = s.giveOplock(o, w.File.Cached)
	}
	if c != nil {
		c.lease.Resume(w.File.Epoch)
	}
	s.cacheMu.Lock()
	s.creates[d.create] = o
	s.cacheMu.Unlock()
	if !s.adopt(&orphan{o: o, user: w.User, client: w.Client, from: w.From.String()}) {
		o.close()
		return statusInsufficientResources
	}
	s.Log.Info("what was open before the service was started anew is kept for its client", "share", w.Share, "path", w.File.Path, "for", d.timeout.String())
	return nil
}
