package nfs

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"net/netip"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/contain"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/live"
)

// state is what version 4 keeps for its clients (RFC 8881 section 8, RFC 7530 section 9): who they
// are, their sessions, what they have open and locked.
type state struct {
	s       *Server
	boot    uint32 // the first half of client numbers and stateids: none outlives a restart
	stop    chan struct{}
	ctx     context.Context // until it is closed
	cancel  context.CancelFunc
	stopped sync.WaitGroup

	// mu is let go by unlock: files are closed after, since closing waits for renames, which
	// may wait for somebody who waits for mu.
	mu         sync.Mutex
	doomed     []*files.Handle
	owners     int                // who opens and who locks, of all clients
	ownersOf   map[netip.Addr]int // by address
	open       int                // files, of all clients
	mostOpen   int
	clients    map[uint64]*client4
	byOwner    map[string]*client4 // confirmed ones, by owner and minor version
	sessions   map[[16]byte]*session4
	recalled   map[handle]time.Time     // when files' delegations were last recalled
	recallFor  time.Duration            // how long clients are asked for them
	distrusted map[netip.Addr]time.Time // hosts that did not give one back, and when
	// reclaiming are the owners that may reclaim what they held before the restart, until graceEnds.
	reclaiming map[string]bool
	graceEnds  time.Time
}

// client4 is one client.
type client4 struct {
	id        uint64
	minor     uint32
	owner     []byte
	verifier  [8]byte
	address   netip.Addr
	confirmed bool
	confirm   [8]byte // version 4.0
	renewed   time.Time
	number    uint64 // to who looks after things: see live.go
	since     time.Time
	traffic   live.Traffic
	came      visitors
	recorded  bool // that it holds state is written down
	reclaimed bool // it has said that it reclaims nothing more

	sequence uint32 // of CREATE_SESSION
	created  []byte // its last answer
	sessions int
	owners   map[string]*openOwner
	lockers  map[string]*lockOwner
	opens    map[[12]byte]*open4
	openBy   map[openKey]*open4
	locks    map[[12]byte]*lock4
	// revoked are stateids of what was taken away, with what SEQUENCE says of it, until the client frees them (RFC 8881 section 8.5).
	revoked map[[12]byte]uint32
	// Version 4.1: the sessions by which it can be called, and what is delegated to it.
	called      []*session4
	delegations map[[12]byte]*delegation4
	delegated   map[handle]*delegation4
}

// openKey is by what an owner's open file is found again.
type openKey struct {
	owner *openOwner
	fh    handle
}

// openOwner is who opens files. Version 4.0 counts its requests.
type openOwner struct {
	seqOwner
	client    *client4
	confirmed bool
	opens     int
	opening   int // requests of theirs that are being answered
}

// lockOwner is who locks ranges; the files package tells them apart by address.
type lockOwner struct {
	seqOwner
	client *client4
	name   []byte
}

// seqOwner counts requests as version 4.0 does and repeats the last answer (RFC 7530 section 9.1.7).
type seqOwner struct {
	seq    uint32
	known  bool
	answer []byte
}

// open4 is a file that an owner has open, however often they opened it.
type open4 struct {
	other  [12]byte
	seq    uint32
	client *client4
	owner  *openOwner
	by     *files.Guest // who opened it
	fh     handle
	file   *files.Handle
	access uint32 // of OPEN4_SHARE_ACCESS_READ and WRITE
	deny   uint32
	locks  map[*lockOwner]*lock4
}

// lock4 is what a lock owner has locked of an open file.
type lock4 struct {
	other [12]byte
	seq   uint32
	open  *open4
	owner *lockOwner
}

// session4 is a session of version 4.1 (RFC 8881 section 2.10).
type session4 struct {
	id     [16]byte
	client *client4
	slots  []slot4
	// The longest answer that is sent, and the most operations of a compound.
	longest, ops uint32
	back         backchannel
}

type slot4 struct {
	seq    uint32
	busy   bool
	sum    uint64 // of the request, to tell a repetition from another with its number
	kept   bool   // the answer
	answer []byte
}

const (
	mostClients    = 4096
	mostOfAddress  = 128
	mostSessions   = 4 // of a client
	mostSlots      = 64
	mostCached     = 2048    // bytes of an answer
	mostOwners     = 1 << 12 // who opens and who locks, of a client
	mostOwnersOf   = 1 << 14 // of all clients of an address
	mostOwnersAll  = 1 << 17
	longestOwner   = 1024
	rememberV4     = "v4"
	unconfirmedFor = 30 * time.Second
)

func newState(s *Server) (*state, error) {
	st := &state{s: s, stop: make(chan struct{}), ownersOf: make(map[netip.Addr]int), clients: make(map[uint64]*client4), byOwner: make(map[string]*client4),
		sessions: make(map[[16]byte]*session4), reclaiming: make(map[string]bool), recalled: make(map[handle]time.Time), distrusted: make(map[netip.Addr]time.Time), recallFor: askedFor}
	st.ctx, st.cancel = context.WithCancel(context.Background())
	// Half of the descriptors there are, so that the rest of the service goes on.
	var limit unix.Rlimit
	if err := unix.Getrlimit(unix.RLIMIT_NOFILE, &limit); err != nil {
		return nil, err
	}
	st.mostOpen = int(min(limit.Cur/2, 1<<20))
	var b [4]byte
	rand.Read(b[:])
	st.boot = binary.BigEndian.Uint32(b[:])
	owners, err := s.Memory.Remembered(context.Background(), rememberV4)
	if err != nil {
		return nil, err
	}
	for _, o := range owners {
		st.reclaiming[string(o)] = true
	}
	if len(owners) > 0 {
		st.graceEnds = time.Now().Add(s.Lease)
	}
	st.stopped.Add(1)
	go st.janitor()
	return st, nil
}

func (st *state) close() {
	close(st.stop)
	st.cancel()
	st.stopped.Wait()
	st.mu.Lock()
	defer st.unlock()
	for _, c := range st.clients {
		for _, o := range c.opens {
			st.doomed = append(st.doomed, o.file)
		}
		st.endDelegations(c, false)
	}
}

func (st *state) unlock() {
	doomed := st.doomed
	st.doomed = nil
	st.mu.Unlock()
	for _, h := range doomed {
		if err := h.Close(); err != nil {
			st.s.Log.Error("close failed", "error", err)
		}
	}
}

// janitor ends clients whose lease has run out, and the time of grace.
func (st *state) janitor() {
	defer st.stopped.Done()
	tick := time.NewTicker(min(st.s.Lease/4, 5*time.Second))
	defer tick.Stop()
	for {
		select {
		case <-st.stop:
			return
		case <-tick.C:
		}
		contain.Run("ending leases", st.expire)
	}
}

// expire ends what has run out by now.
func (st *state) expire() {
	st.mu.Lock()
	defer st.unlock()
	now := time.Now()
	for _, c := range st.clients {
		if idle := now.Sub(c.renewed); idle > st.s.Lease+st.s.Lease/2 || !c.confirmed && idle > unconfirmedFor {
			st.end(c)
		}
	}
	st.inGrace()
}

// inGrace says whether clients may still reclaim what they held before the restart, and others
// must wait (RFC 8881 section 8.4.2.1). It ends early once every one of them is done.
func (st *state) inGrace() bool {
	if st.graceEnds.IsZero() {
		return false
	}
	if time.Now().Before(st.graceEnds) && len(st.reclaiming) > 0 {
		return true
	}
	st.graceEnds = time.Time{}
	for owner := range st.reclaiming { // they did not come back
		st.forget([]byte(owner))
	}
	clear(st.reclaiming)
	return false
}

func ownerKey(minor uint32, owner []byte) string {
	return string(append([]byte{byte(minor)}, owner...))
}

func (st *state) forget(key []byte) {
	if err := st.s.Memory.Forget(context.Background(), rememberV4, key); err != nil {
		st.s.Log.Error("cannot forget an NFS client", "error", err)
	}
}

// record writes down that a client holds state, before it holds any.
func (st *state) record(c *client4) error {
	if c.recorded {
		return nil
	}
	err := st.s.Memory.Remember(context.Background(), rememberV4, []byte(ownerKey(c.minor, c.owner)))
	c.recorded = err == nil
	return err
}

// end gives up all that a client has.
func (st *state) end(c *client4) {
	for _, o := range c.opens {
		st.closeOpen(o)
	}
	st.endDelegations(c, false)
	for id, se := range st.sessions {
		if se.client == c {
			delete(st.sessions, id)
		}
	}
	delete(st.clients, c.id)
	st.fewerOwners(c, len(c.owners)+len(c.lockers))
	key := ownerKey(c.minor, c.owner)
	if st.byOwner[key] == c {
		delete(st.byOwner, key)
		if c.recorded {
			st.forget([]byte(key))
		}
	}
}

// moreOwners says whether a client may have one more who opens or locks. Those who have nothing open are forgotten for it, where that
// is what it takes.
func (st *state) moreOwners(c *client4) bool {
	room := func() bool {
		return len(c.owners)+len(c.lockers) < mostOwners && st.ownersOf[c.address] < mostOwnersOf && st.owners < mostOwnersAll
	}
	if !room() {
		for name := range c.owners {
			st.forgetOwner(c, name)
		}
		st.forgetLockers(c)
	}
	if !room() {
		return false
	}
	st.owners++
	st.ownersOf[c.address]++
	return true
}

// forgetOwner forgets somebody who has nothing open, and is not about to.
func (st *state) forgetOwner(c *client4, name string) {
	if o := c.owners[name]; o != nil && o.opens == 0 && o.opening == 0 && st.clients[c.id] == c {
		delete(c.owners, name)
		st.fewerOwners(c, 1)
	}
}

// forgetLockers forgets who has locked and has no lock left.
func (st *state) forgetLockers(c *client4) {
	holds := make(map[*lockOwner]bool)
	for _, l := range c.locks {
		holds[l.owner] = true
	}
	for name, o := range c.lockers {
		if !holds[o] {
			delete(c.lockers, name)
			st.fewerOwners(c, 1)
		}
	}
}

func (st *state) fewerOwners(c *client4, n int) {
	st.owners -= n
	if st.ownersOf[c.address] -= n; st.ownersOf[c.address] <= 0 {
		delete(st.ownersOf, c.address)
	}
}

// closeOpen closes a file with the locks on it.
func (st *state) closeOpen(o *open4) {
	for owner, l := range o.locks {
		_ = o.file.UnlockRange(owner, 0, ^uint64(0))
		delete(o.client.locks, l.other)
	}
	st.open--
	delete(o.client.opens, o.other)
	delete(o.client.openBy, openKey{o.owner, o.fh})
	o.owner.opens--
	st.doomed = append(st.doomed, o.file)
}

// addClient enters a new client, unconfirmed.
func (st *state) addClient(minor uint32, owner []byte, verifier [8]byte, address netip.Addr) (*client4, status4) {
	of := 0
	for _, c := range st.clients {
		if c.address == address {
			of++
		}
	}
	if len(st.clients) >= mostClients || of >= mostOfAddress {
		return nil, exhausted(minor, err4Delay)
	}
	c := &client4{number: st.s.numbers.Add(1), since: time.Now(), revoked: make(map[[12]byte]uint32), id: st.clientID(), minor: minor, owner: bytes.Clone(owner), verifier: verifier, address: address,
		renewed: time.Now(), owners: make(map[string]*openOwner), lockers: make(map[string]*lockOwner),
		opens: make(map[[12]byte]*open4), openBy: make(map[openKey]*open4), locks: make(map[[12]byte]*lock4), delegations: make(map[[12]byte]*delegation4), delegated: make(map[handle]*delegation4)}
	st.clients[c.id] = c
	return c, ok4
}

// exhausted is the error for what there is no room for: version 4.1 has none of its own for that, and
// says so in the way that its operation may.
func exhausted(minor uint32, otherwise status4) status4 {
	if minor == 0 {
		return err4Resource
	}
	return otherwise
}

// confirmClient makes a client the one that its owner is.
func (st *state) confirmClient(c *client4) {
	key := ownerKey(c.minor, c.owner)
	if old := st.byOwner[key]; old != nil && old != c {
		recorded := old.recorded
		old.recorded = false // what is written down is now about the new one
		st.end(old)
		c.recorded = recorded
	}
	c.confirmed = true
	st.byOwner[key] = c
}

// clientID makes a client's number, which nobody can guess.
func (st *state) clientID() uint64 {
	for {
		var b [4]byte
		rand.Read(b[:])
		id := uint64(st.boot)<<32 | uint64(binary.BigEndian.Uint32(b[:]))
		if st.clients[id] == nil {
			return id
		}
	}
}

// other makes the part of a stateid that names it, which nobody can guess.
func (st *state) other() (id [12]byte) {
	binary.BigEndian.PutUint32(id[:], st.boot)
	rand.Read(id[4:])
	return id
}

// session finds a session, which is its client's alone: where the flavour proves nobody, that is who comes
// from the address at which it was made.
func (st *state) session(id [16]byte, from netip.Addr) *session4 {
	if se := st.sessions[id]; se != nil && se.client.address == from {
		return se
	}
	return nil
}

// sessionID makes a session's number, which nobody can guess.
func (st *state) sessionID() (id [16]byte) {
	rand.Read(id[:])
	return id
}

// identity is how the server calls itself, the same over restarts.
func (st *state) identity() []byte {
	sum := sha256.Sum256(append([]byte("server"), st.s.Key...))
	return []byte("amber-" + hex.EncodeToString(sum[:6]))
}

// Bits of share access and deny, RFC 8881 section 18.16.
const (
	shareRead  = 1
	shareWrite = 2
)

// maskOf is what an OPEN's share access asks for.
func maskOf(access uint32) acl.Mask {
	var m acl.Mask
	if access&shareRead != 0 {
		m |= acl.ReadData
	}
	if access&shareWrite != 0 {
		m |= acl.WriteData
	}
	return m
}

// sharingOf is what an OPEN's share deny leaves others. Names are never denied.
func sharingOf(deny uint32) files.Sharing {
	sh := files.ShareRead | files.ShareWrite | files.ShareDelete
	if deny&shareRead != 0 {
		sh &^= files.ShareRead
	}
	if deny&shareWrite != 0 {
		sh &^= files.ShareWrite
	}
	return sh
}
