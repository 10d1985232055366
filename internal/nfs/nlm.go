package nfs

import (
	"context"
	"errors"
	"math"
	"net/netip"
	"sync"
	"time"

	"amber.example/gatekeeper/internal/contain"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/onc"
)

// The lock manager of version 3 clients: NLM version 4 (X/Open XNFS, chapter 14; RFC 1813 appendix
// II). Its locks are the same as everyone's. Procedures that are answered by another call are not
// spoken: over TCP nobody needs them.
const (
	nlmTest    = 1
	nlmLock    = 2
	nlmCancel  = 3
	nlmUnlock  = 4
	nlmGranted = 5
	nlmShare   = 20
	nlmUnshare = 21
	nlmNMLock  = 22
	nlmFreeAll = 23

	nlmOK          = 0
	nlmDenied      = 1
	nlmNoLocks     = 2
	nlmBlocked     = 3
	nlmDeniedGrace = 4
	nlmROFS        = 6
	nlmStale       = 7
	nlmFBig        = 8
	nlmFailed      = 9
)

const (
	rememberNLM  = "nlm"
	mostNetObj   = 1024
	mostWaiting  = 1024
	mostNLMFiles = 1 << 14
	// mostNLMShares is how many owners of one host may hold files open with SHARE.
	mostNLMShares = 1024
	// A client that was told of its lock takes it up within so long, or asks again: the Linux kernel
	// asks again every 30 seconds.
	takeUp      = 45 * time.Second
	callBackFor = 5 * time.Second
)

// nlmOwner is who locks: a process of a host. It is compared with ==.
type nlmOwner struct {
	host  netip.Addr
	svid  uint32
	owner string
}

// nlmArgs is nlm4_lock.
type nlmArgs struct {
	caller         string
	fh, oh         []byte
	svid           uint32
	offset, length uint64
}

type nlmFile struct {
	host netip.Addr
	fh   handle
}

// waiting is a lock that somebody waits for.
type waiting struct {
	file      nlmFile
	owner     nlmOwner
	r         files.Range
	args      nlmArgs
	cancel    context.CancelFunc
	confirmed chan struct{} // closed when the client asks again, or releases
}

type lockManager struct {
	s       *Server
	ctx     context.Context
	stop    context.CancelFunc
	running sync.WaitGroup

	mu         sync.Mutex
	files      map[nlmFile]*files.Handle
	owners     map[nlmFile]map[nlmOwner]bool // who has, or had, locks there
	shares     map[nlmFile]map[nlmOwner]*files.Handle
	sharing    map[netip.Addr]int // owners in shares, by host
	waits      map[*waiting]struct{}
	remembered map[netip.Addr]bool // hosts that hold locks, as written down
	graceEnds  time.Time
}

func newLockManager(s *Server) (*lockManager, error) {
	m := &lockManager{s: s, files: make(map[nlmFile]*files.Handle), owners: make(map[nlmFile]map[nlmOwner]bool),
		shares: make(map[nlmFile]map[nlmOwner]*files.Handle), sharing: make(map[netip.Addr]int), waits: make(map[*waiting]struct{}), remembered: make(map[netip.Addr]bool)}
	m.ctx, m.stop = context.WithCancel(context.Background())
	hosts, err := s.Memory.Remembered(m.ctx, rememberNLM)
	if err != nil {
		return nil, err
	}
	for _, raw := range hosts {
		host, err := netip.ParseAddr(string(raw))
		if err := errors.Join(err, s.Memory.Forget(m.ctx, rememberNLM, raw)); err != nil {
			s.Log.Error("cannot read which hosts held locks", "error", err)
			continue
		}
		m.graceEnds = time.Now().Add(s.Lease)
		contain.Go(&m.running, "telling a host of a restart", func() { m.tellRestart(host) })
	}
	return m, nil
}

func (m *lockManager) close() {
	m.stop()
	m.running.Wait()
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, h := range m.files {
		h.Close()
	}
	for _, by := range m.shares {
		for _, h := range by {
			h.Close()
		}
	}
}

func readNLM(r *onc.Reader) nlmArgs {
	return nlmArgs{caller: r.String(mostNetObj), fh: r.Opaque(mostHandle3), oh: r.Opaque(mostNetObj), svid: r.Uint32(), offset: r.Uint64(), length: r.Uint64()}
}

func (a *nlmArgs) put(w *onc.Writer) {
	w.String(a.caller)
	w.Opaque(a.fh)
	w.Opaque(a.oh)
	w.Uint32(a.svid)
	w.Uint64(a.offset)
	w.Uint64(a.length)
}

func (a *nlmArgs) span(exclusive bool) (files.Range, bool) {
	r := files.Range{Offset: a.offset, Length: a.length, Exclusive: exclusive}
	if a.length == 0 || a.length > math.MaxUint64-a.offset { // to the end of the file
		r.Length = math.MaxUint64 - a.offset
	}
	return r, r.Length > 0
}

func (m *lockManager) serve(c *onc.Call, w *onc.Writer) onc.AcceptStat {
	switch c.Procedure {
	case 0:
		return onc.Success
	case nlmFreeAll:
		c.Args.String(mostNetObj)
		c.Args.Uint32()
		if c.Args.Err() != nil {
			return onc.GarbageArgs
		}
		m.freeHost(c.Conn.Remote.Addr())
		return onc.Success
	case nlmTest, nlmLock, nlmCancel, nlmUnlock, nlmNMLock:
	case nlmShare, nlmUnshare:
		return m.share(c, w)
	default:
		return onc.ProcUnavail
	}
	cookie := c.Args.Opaque(mostNetObj)
	var block, exclusive, reclaim bool
	switch c.Procedure {
	case nlmLock, nlmCancel, nlmNMLock:
		block, exclusive = c.Args.Bool(), c.Args.Bool()
	case nlmTest:
		exclusive = c.Args.Bool()
	}
	a := readNLM(c.Args)
	if c.Procedure == nlmLock || c.Procedure == nlmNMLock {
		reclaim = c.Args.Bool()
		c.Args.Uint32()
	}
	if c.Args.Err() != nil {
		return onc.GarbageArgs
	}
	w.Opaque(cookie)
	r, ok := a.span(exclusive)
	if !ok {
		w.Uint32(nlmFBig)
		return onc.Success
	}
	owner := nlmOwner{c.Conn.Remote.Addr(), a.svid, string(a.oh)}
	switch c.Procedure {
	case nlmTest:
		m.test(c, w, &a, owner, r)
	case nlmLock, nlmNMLock:
		w.Uint32(m.lock(c, &a, owner, r, block && c.Procedure == nlmLock, reclaim))
	case nlmCancel:
		w.Uint32(m.cancel(owner, r))
	case nlmUnlock:
		w.Uint32(m.unlock(c, &a, owner, r))
	}
	return onc.Success
}

func (m *lockManager) inGrace() bool {
	m.mu.Lock()
	defer m.mu.Unlock()
	return time.Now().Before(m.graceEnds)
}

func nlmStatus(s *Server, err error) uint32 {
	switch {
	case err == nil:
		return nlmOK
	case errors.Is(err, files.ErrStale), errors.Is(err, files.ErrGone), errors.Is(err, errBadHandle):
		return nlmStale
	case errors.Is(err, files.ErrNoSpace):
		return nlmNoLocks
	case errors.Is(err, files.ErrDenied), errors.Is(err, files.ErrLocked), errors.Is(err, files.ErrSharing):
		return nlmDenied
	}
	s.Log.Debug("lock failed", "error", err)
	return nlmFailed
}

// file gives the open file on which a host's locks are, opening it if may says that the guest may.
func (m *lockManager) file(c *onc.Call, raw []byte, open bool, write bool) (nlmFile, *files.Handle, error) {
	h, ok := m.s.handles.open(raw)
	if !ok {
		return nlmFile{}, nil, errBadHandle
	}
	key := nlmFile{c.Conn.Remote.Addr(), h}
	if open {
		// Whoever locks must be able to read, or to write for a lock that shuts others out.
		f, err := m.s.Files.File(m.s.guest(c, h.export), h.key, write)
		if err != nil {
			return key, nil, err
		}
		f.Release()
	}
	m.mu.Lock()
	have := m.files[key]
	n := len(m.files)
	m.mu.Unlock()
	if have != nil || !open {
		return key, have, nil
	}
	if n >= mostNLMFiles {
		return key, nil, files.ErrNoSpace
	}
	v, found, _, err := m.s.visit(c, files.Working, raw)
	if err != nil {
		return key, nil, err
	}
	opened, err := found[0].Open(files.OpenRequest{Sharing: files.ShareRead | files.ShareWrite | files.ShareDelete})
	v.End()
	if err != nil {
		return key, nil, err
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	if have := m.files[key]; have != nil { // two at once
		defer opened.Close()
		return key, have, nil
	}
	m.files[key] = opened
	return key, opened, nil
}

func (m *lockManager) test(c *onc.Call, w *onc.Writer, a *nlmArgs, owner nlmOwner, r files.Range) {
	if m.inGrace() {
		w.Uint32(nlmDeniedGrace)
		return
	}
	v, found, _, err := m.s.visit(c, files.Working, a.fh)
	if err != nil {
		w.Uint32(nlmStatus(m.s, err))
		return
	}
	defer v.End()
	held, err := found[0].TestRange(owner, r)
	if err != nil || held == nil {
		w.Uint32(nlmStatus(m.s, err))
		return
	}
	w.Uint32(nlmDenied)
	w.Bool(held.Exclusive)
	svid, oh := uint32(0), []byte("other")
	if o, ok := held.By.(nlmOwner); ok {
		svid, oh = o.svid, []byte(o.owner)
	}
	w.Uint32(svid)
	w.Opaque(oh)
	w.Uint64(held.Offset)
	if held.Offset+held.Length == math.MaxUint64 {
		w.Uint64(0)
	} else {
		w.Uint64(held.Length)
	}
}

func (m *lockManager) lock(c *onc.Call, a *nlmArgs, owner nlmOwner, r files.Range, block, reclaim bool) uint32 {
	if m.inGrace() != reclaim {
		if reclaim {
			return nlmDenied // it is over
		}
		return nlmDeniedGrace
	}
	key, f, err := m.file(c, a.fh, true, r.Exclusive)
	if err != nil {
		return nlmStatus(m.s, err)
	}
	if err := m.remember(owner.host); err != nil {
		m.s.Log.Error("cannot note that a host holds locks", "error", err)
		return nlmNoLocks
	}
	_, freed, err := f.LockRange(owner, r)
	switch {
	case err == nil:
		m.owns(key, owner)
		m.settle(owner, r)
		return nlmOK
	case !errors.Is(err, files.ErrLocked):
		return nlmStatus(m.s, err)
	case !block:
		return nlmDenied
	}
	return m.wait(key, f, owner, r, *a, freed)
}

func (m *lockManager) owns(key nlmFile, owner nlmOwner) {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.owners[key] == nil {
		m.owners[key] = make(map[nlmOwner]bool)
	}
	m.owners[key][owner] = true
}

// remember writes down that a host holds locks, so that it is told of a restart.
func (m *lockManager) remember(host netip.Addr) error {
	m.mu.Lock()
	known := m.remembered[host]
	m.remembered[host] = true
	m.mu.Unlock()
	if known {
		return nil
	}
	return m.s.Memory.Remember(m.ctx, rememberNLM, []byte(host.String()))
}

func (m *lockManager) cancel(owner nlmOwner, r files.Range) uint32 {
	m.settle(owner, r)
	return nlmOK
}

func (m *lockManager) unlock(c *onc.Call, a *nlmArgs, owner nlmOwner, r files.Range) uint32 {
	m.settle(owner, r)
	key, f, err := m.file(c, a.fh, false, false)
	if err != nil {
		return nlmStatus(m.s, err)
	}
	if f == nil {
		return nlmOK // nothing of it was locked
	}
	if err := f.UnlockRange(owner, r.Offset, r.Length); err != nil {
		return nlmStatus(m.s, err)
	}
	m.tidy(key, f, owner)
	return nlmOK
}

// tidy closes a file on which a host has no locks left.
func (m *lockManager) tidy(key nlmFile, f *files.Handle, owner nlmOwner) {
	m.mu.Lock()
	if !f.HasLocks(owner) {
		delete(m.owners[key], owner)
	}
	last := len(m.owners[key]) == 0 && m.files[key] == f
	for x := range m.waits {
		last = last && x.file != key
	}
	if last {
		delete(m.owners, key)
		delete(m.files, key)
	}
	m.mu.Unlock()
	if last {
		f.Close()
	}
}

// freeHost gives up all that a host has, since it has started anew.
func (m *lockManager) freeHost(host netip.Addr) {
	m.mu.Lock()
	var closing []*files.Handle
	for x := range m.waits {
		if x.owner.host == host {
			delete(m.waits, x)
			x.cancel()
		}
	}
	for key, f := range m.files {
		if key.host != host {
			continue
		}
		for owner := range m.owners[key] {
			_ = f.UnlockRange(owner, 0, math.MaxUint64)
		}
		closing = append(closing, f)
		delete(m.files, key)
		delete(m.owners, key)
	}
	for key, by := range m.shares {
		if key.host != host {
			continue
		}
		for _, h := range by {
			closing = append(closing, h)
		}
		delete(m.shares, key)
	}
	delete(m.sharing, host)
	delete(m.remembered, host)
	m.mu.Unlock()
	for _, f := range closing {
		f.Close()
	}
	_ = m.s.Memory.Forget(m.ctx, rememberNLM, []byte(host.String()))
}

// share is SHARE and UNSHARE: opening in a way that shuts others out, without reading.
func (m *lockManager) share(c *onc.Call, w *onc.Writer) onc.AcceptStat {
	cookie, caller, fh, oh := c.Args.Opaque(mostNetObj), c.Args.String(mostNetObj), c.Args.Opaque(mostHandle3), c.Args.Opaque(mostNetObj)
	deny, access := c.Args.Uint32(), c.Args.Uint32()
	reclaim := c.Args.Bool()
	if c.Args.Err() != nil || deny > 3 || access > 3 {
		return onc.GarbageArgs
	}
	_ = caller
	w.Opaque(cookie)
	answer := func(st uint32) onc.AcceptStat {
		w.Uint32(st)
		w.Uint32(0)
		return onc.Success
	}
	h, ok := m.s.handles.open(fh)
	if !ok {
		return answer(nlmStale)
	}
	key, owner := nlmFile{c.Conn.Remote.Addr(), h}, nlmOwner{c.Conn.Remote.Addr(), 0, string(oh)}
	if c.Procedure == nlmUnshare {
		if had := m.letGo(key, owner); had != nil {
			had.Close()
		}
		return answer(nlmOK)
	}
	if m.inGrace() && !reclaim {
		return answer(nlmDeniedGrace)
	}
	v, found, _, err := m.s.visit(c, files.Working, fh)
	if err != nil {
		return answer(nlmStatus(m.s, err))
	}
	opened, err := found[0].Open(files.OpenRequest{Access: maskOf(access), Sharing: sharingOf(deny), Holder: owner})
	v.End()
	if err != nil {
		return answer(nlmStatus(m.s, err))
	}
	had, ok := m.hold(key, owner, opened)
	if !ok {
		opened.Close()
		return answer(nlmNoLocks)
	}
	if had != nil {
		had.Close()
	}
	return answer(nlmOK)
}

// hold notes what an owner holds a file open with, and gives what it did before. It is false where its host has too many.
func (m *lockManager) hold(key nlmFile, owner nlmOwner, opened *files.Handle) (had *files.Handle, ok bool) {
	m.mu.Lock()
	defer m.mu.Unlock()
	had = m.shares[key][owner]
	if had == nil && m.sharing[key.host] >= mostNLMShares {
		return nil, false
	}
	if m.shares[key] == nil {
		m.shares[key] = make(map[nlmOwner]*files.Handle)
	}
	if m.shares[key][owner] = opened; had == nil {
		m.sharing[key.host]++
	}
	return had, true
}

// letGo forgets it; nil where there is none.
func (m *lockManager) letGo(key nlmFile, owner nlmOwner) *files.Handle {
	m.mu.Lock()
	defer m.mu.Unlock()
	had := m.shares[key][owner]
	if had == nil {
		return nil
	}
	if delete(m.shares[key], owner); len(m.shares[key]) == 0 {
		delete(m.shares, key)
	}
	if m.sharing[key.host]--; m.sharing[key.host] == 0 {
		delete(m.sharing, key.host)
	}
	return had
}
