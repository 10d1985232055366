package nfs

import (
	"container/list"
	"hash/maphash"
	"net/netip"
	"sync"
	"time"

	"amber.example/gatekeeper/internal/live"
)

// replyCache answers a call that is made again, over a new connection after the old one broke,
// with the first answer: what cannot be done twice is not (RFC 1813 section 4.1). Version
// 4.1 has its slots for that.
type replyCache struct {
	looks live.Looks
	seed  maphash.Seed

	mu   sync.Mutex
	by   map[replyKey]*list.Element // of *cachedReply
	used *list.List
}

type replyKey struct {
	client    netip.AddrPort // clients that connect again keep their port
	xid       uint32
	procedure uint32
	sum       uint64
}

type cachedReply struct {
	key   replyKey
	at    time.Time
	reply []byte // nil while it is being made
}

const (
	mostReplies = 4096
	replyFor    = 2 * time.Minute
	mostReply   = 2048
)

func newReplyCache() *replyCache {
	return &replyCache{seed: maphash.MakeSeed(), by: make(map[replyKey]*list.Element), used: list.New()}
}

// begin says whether a call is new. If not, the reply is that of the first; nil while
// that is still being made, and then nobody is to answer.
func (c *replyCache) begin(client netip.AddrPort, xid, procedure uint32, args []byte) (key replyKey, fresh bool, reply []byte) {
	key = replyKey{client, xid, procedure, maphash.Bytes(c.seed, args)}
	c.mu.Lock()
	defer c.mu.Unlock()
	if e := c.by[key]; e != nil {
		r := e.Value.(*cachedReply)
		if time.Since(r.at) < replyFor {
			c.looks.Looked(true)
			return key, false, r.reply
		}
		c.used.Remove(e)
	}
	c.looks.Looked(false)
	c.by[key] = c.used.PushFront(&cachedReply{key: key, at: time.Now()})
	for c.used.Len() > mostReplies {
		e := c.used.Back()
		c.used.Remove(e)
		delete(c.by, e.Value.(*cachedReply).key)
	}
	return key, true, nil
}

func (c *replyCache) end(key replyKey, reply []byte) {
	c.mu.Lock()
	defer c.mu.Unlock()
	e := c.by[key]
	if e == nil {
		return
	}
	if len(reply) > mostReply { // none that cannot be repeated is that long
		c.used.Remove(e)
		delete(c.by, key)
		return
	}
	e.Value.(*cachedReply).reply = append([]byte{}, reply...)
}
