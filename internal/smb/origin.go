package smb

import (
	"context"
	"slices"
	"sync/atomic"
	"time"

	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/smb/message"
)

// whence is from where somebody acts by what they have open: the connection by which they have it now, which may be another than that by which
// they opened it.
type whence struct {
	by  atomic.Pointer[conn]
	was func(sh *site.PublishedShare) *site.Origin // while there is none, after the service was started anew
}

func newWhence(c *conn) *whence {
	w := new(whence)
	w.by.Store(c)
	return w
}

// Origin is files.Whence's.
func (w *whence) Origin(sh *site.PublishedShare) *site.Origin {
	if c := w.by.Load(); c != nil {
		return c.Origin(sh)
	}
	return w.was(sh)
}

// called is what a client's host was called at a moment, as far as the policy of then cared.
type called struct {
	policy *site.Policy
	at     time.Time
	origin *site.Origin
}

// calledFor is how long what a host is called holds before it is looked up again.
const calledFor = 10 * time.Second

// Origin is from where the connection comes. Its names are looked up where it hangs on them whether a share may be used, and not before. The
// result is only read.
func (c *conn) Origin(sh *site.PublishedShare) *site.Origin {
	if !sh.NeedsNames(c.from.Address) {
		return &c.from
	}
	p := c.srv.Policy()
	if is := c.called.Load(); is != nil && is.policy == p && time.Since(is.at) < calledFor {
		return is.origin
	}
	o := c.srv.named(c.ctx, c.from)
	c.called.Store(&called{p, time.Now(), o})
	return o
}

// named is an origin with its names.
func (s *Server) named(ctx context.Context, o site.Origin) *site.Origin {
	if s.HostNames == nil {
		o.Unsure = true
	} else {
		names, sure := s.HostNames(ctx, o.Address)
		o.Names, o.Unsure = names, !sure
	}
	return &o
}

// full says whether a session would be one too many on a share. One that is on it counts once, however often it connected; those of the service with
// itself do not.
func (s *Server) full(sh *site.PublishedShare, who *session) bool {
	if sh.MostConnections == 0 || who.conn.trial != nil {
		return false
	}
	n := 0
	for _, one := range s.signedIn() {
		_, trees := one.openNow()
		if slices.ContainsFunc(trees, func(t *tree) bool { return t.share == sh.Name }) {
			if one == who {
				return false
			}
			n++
		}
	}
	return n >= sh.MostConnections
}

// offline are the share flags for what clients may keep, MS-SMB2 section 2.2.10.
func offline(sh *site.PublishedShare) uint32 {
	switch sh.Offline {
	case site.OfflineAuto:
		return message.ShareAutoCaching
	case site.OfflineVDO:
		return message.ShareVDOCaching
	case site.OfflineNone:
		return message.ShareNoCaching
	}
	return message.ShareManualCaching
}
