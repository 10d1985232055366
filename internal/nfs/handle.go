package nfs

import (
	"crypto/hmac"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/binary"
	"hash"
	"sync"
	"sync/atomic"

	"amber.example/gatekeeper/internal/files"
)

// A file handle names an object and the export it was had through. It is sealed with a key of the
// gateway's own, so that none can be made up: one that was had through one export is none of
// another's, and there is no telling inode numbers into handles.
//
//	version 1 | export 4 | inode 8 | mount 4 | born 8 | HMAC-SHA-256, cut to 16
const (
	handleVersion = 1
	handleBody    = 1 + 4 + 8 + 4 + 8
	handleSize    = handleBody + 16
	mostHandle3   = 64  // RFC 1813 section 2.4
	mostHandle4   = 128 // RFC 8881 section 3.1
)

type handle struct {
	export int64
	key    files.Key
}

// handles seals and opens file handles.
type handles struct {
	macs  sync.Pool
	known [mostKnown]atomic.Pointer[knownHandle]
}

// knownHandle is a handle that was sealed, or found to be, a while ago: to find that again costs more than all else that a small call takes.
type knownHandle struct {
	handle
	raw [handleSize]byte
}

const mostKnown = 1 << 11

// slot is where a handle is, if it is known.
func (hs *handles) slot(h handle) *atomic.Pointer[knownHandle] {
	const spread = 0x9e3779b97f4a7c15 // 2^64 by the golden ratio
	return &hs.known[(h.key.Inode^uint64(h.export)<<48^uint64(h.key.Mount)<<32)*spread>>(64-11)]
}

func newHandles(key []byte) *handles {
	return &handles{macs: sync.Pool{New: func() any { return hmac.New(sha256.New, key) }}}
}

func (hs *handles) mac(body []byte, out *[sha256.Size]byte) {
	m := hs.macs.Get().(hash.Hash)
	m.Reset()
	m.Write(body)
	m.Sum(out[:0])
	hs.macs.Put(m)
}

// seal gives the handle as it is on the wire. It is not to be altered.
func (hs *handles) seal(h handle) []byte {
	slot := hs.slot(h)
	if k := slot.Load(); k != nil && k.handle == h {
		return k.raw[:]
	}
	k := &knownHandle{handle: h}
	b := k.raw[:handleBody]
	b[0] = handleVersion
	binary.BigEndian.PutUint32(b[1:], uint32(h.export))
	binary.BigEndian.PutUint64(b[5:], h.key.Inode)
	binary.BigEndian.PutUint32(b[13:], h.key.Mount)
	binary.BigEndian.PutUint64(b[17:], uint64(h.key.Born))
	var sum [sha256.Size]byte
	hs.mac(b, &sum)
	copy(k.raw[handleBody:], sum[:])
	slot.Store(k)
	return k.raw[:]
}

// open gives what a handle names; false for one that was not made here.
func (hs *handles) open(b []byte) (handle, bool) {
	if len(b) != handleSize || b[0] != handleVersion {
		return handle{}, false
	}
	h := handle{int64(binary.BigEndian.Uint32(b[1:])), files.Key{Inode: binary.BigEndian.Uint64(b[5:]),
		Mount: binary.BigEndian.Uint32(b[13:]), Born: int64(binary.BigEndian.Uint64(b[17:]))}}
	slot := hs.slot(h)
	if k := slot.Load(); k != nil && k.handle == h {
		return h, subtle.ConstantTimeCompare(k.raw[:], b) == 1
	}
	var sum [sha256.Size]byte
	hs.mac(b[:handleBody], &sum)
	if subtle.ConstantTimeCompare(sum[:handleSize-handleBody], b[handleBody:]) != 1 {
		return handle{}, false
	}
	k := &knownHandle{handle: h}
	copy(k.raw[:], b)
	slot.Store(k)
	return h, true
}

// cookieVerifier ties the cookies of a listing to its directory. It does not change while the
// directory does, since the host's cookies outlive that.
func (hs *handles) cookieVerifier(h handle) uint64 {
	var sum [sha256.Size]byte
	hs.mac(append([]byte("cookies"), hs.seal(h)...), &sum)
	return binary.BigEndian.Uint64(sum[:]) | 1 // never 0, which says that there is none yet
}
