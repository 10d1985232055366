package smb

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/smb/message"
)

// machine is a raw client with a GUID of its own, as each machine has.
func machine(t testing.TB, addr string, guid byte) *rawClient {
	return dialRaw(t, addr).signInWith(body(&message.NegotiateRequest{SecurityMode: signingEnabled, ClientGUID: [16]byte{guid}, Dialects: []uint16{dialect21}})).connect()
}

// machine3 speaks 3.1.1, which has leases and durable handles of the second version.
func machine3(t testing.TB, addr string, guid byte) *rawClient {
	return machine3From(t, addr, "127.0.0.1", guid)
}

func machine3From(t testing.TB, addr, from string, guid byte) *rawClient {
	c := dialRawFrom(t, addr, from)
	c.preauth = new([64]byte)
	return c.signInWith(body(&message.NegotiateRequest{SecurityMode: signingEnabled, ClientGUID: [16]byte{guid}, Capabilities: capDirectoryLeasing | capPersistent, Dialects: []uint16{dialect311}, Contexts: []message.NegotiateContext{
		{Type: message.ContextPreauth, Data: preauthContext}, {Type: message.ContextSigning, Data: gmacContext}}})).connect()
}

const (
	readWrite = 0x12019f
	readOnly  = 0x120089
	deletes   = 0x110080
)

// opens sends a create and gives what came of it, passing over what is told meanwhile.
func (c *rawClient) opens(m *message.CreateRequest) (Status, message.CreateResponse) {
	if m.Sharing == 0 {
		m.Sharing = 7
	}
	h, b, err := c.do(message.Create, body(m))
	require.NoError(c.t, err)
	var out message.CreateResponse
	if h.Status == 0 {
		require.NoError(c.t, out.Parse(append(make([]byte, message.HeaderSize), b...)))
	}
	return Status(h.Status), out
}

func leaseContext(key byte, state uint32) message.CreateContext {
	l := message.Lease{Key: [16]byte{key}, State: state}
	return message.CreateContext{Name: message.ContextLease, Data: l.Append(nil)}
}

func (c *rawClient) openLeased(name string, access uint32, key byte, state uint32, more ...message.CreateContext) (message.CreateResponse, uint32) {
	status, out := c.opens(&message.CreateRequest{Name: message.UTF16(name), Access: access, Disposition: 3, Oplock: message.OplockLease, Contexts: append([]message.CreateContext{leaseContext(key, state)}, more...)})
	require.Equal(c.t, statusOK, status)
	return out, leaseOf(c.t, &out)
}

func leaseOf(t testing.TB, out *message.CreateResponse) uint32 {
	require.EqualValues(t, message.OplockLease, out.Oplock)
	for _, x := range out.Contexts {
		if x.Name == message.ContextLease {
			var l message.Lease
			require.NoError(t, l.Parse(x.Data))
			return l.State
		}
	}
	t.Fatal("no lease in the answer")
	return 0
}

func idOf(out *message.CreateResponse) []byte {
	return le.AppendUint64(le.AppendUint64(nil, out.ID.Persistent), out.ID.Volatile)
}

// told waits for the next notification of a broken lease.
func (c *rawClient) told() message.LeaseBreakNotification {
	h, b, err := c.receive()
	require.NoError(c.t, err)
	require.Equal(c.t, message.OplockBreak, h.Command)
	require.Equal(c.t, ^uint64(0), h.MessageID)
	require.Zero(c.t, h.Flags&message.FlagSigned)
	var n message.LeaseBreakNotification
	require.NoError(c.t, n.Parse(append(make([]byte, message.HeaderSize), b...)))
	return n
}

func (c *rawClient) gives(key byte, state uint32) Status {
	return c.status(message.OplockBreak, body(&message.LeaseBreakAnswer{Key: [16]byte{key}, State: state}))
}

// silent says that nothing comes for a while.
func (c *rawClient) silent() {
	_ = c.nc.SetReadDeadline(time.Now().Add(150 * time.Millisecond))
	_, _, err := c.receive()
	require.Error(c.t, err)
	_ = c.nc.SetReadDeadline(time.Now().Add(2 * time.Minute))
}

const rh, rwh = message.LeaseRead | message.LeaseHandle, message.LeaseRead | message.LeaseWrite | message.LeaseHandle

// What is granted, and what another's open, write and deletion take of it: MS-SMB2 section 2.2.13.2.8, MS-FSA section 2.1.4.12.
func TestLeases(t *testing.T) {
	addr, dir := startServer(t)
	a, b := machine(t, addr, 1), machine(t, addr, 2)
	mine, granted := a.openLeased("leased.txt", readWrite, 10, rwh)
	require.EqualValues(t, rwh, granted)
	again, granted := a.openLeased("leased.txt", readWrite, 10, message.LeaseRead)
	require.EqualValues(t, rwh, granted, "the same key shares the lease, and loses nothing of it")
	require.Equal(t, statusOK, a.status(message.Close, closeBody(idOf(&again))))
	require.Equal(t, statusUnsuccessful, a.gives(10, rh), "nobody asked")
	require.Equal(t, statusObjectNameNotFound, a.gives(11, 0), "no such lease")

	// To look at attributes takes nothing; to open for data takes write caching, and waits for it.
	status, _ := b.opens(&message.CreateRequest{Name: message.UTF16("leased.txt"), Access: 0x80, Disposition: 1})
	require.Equal(t, statusOK, status)
	opened := make(chan message.CreateResponse, 1)
	go func() {
		_, out := b.opens(&message.CreateRequest{Name: message.UTF16("leased.txt"), Access: readWrite, Disposition: 1, Oplock: message.OplockLease, Contexts: []message.CreateContext{leaseContext(20, rwh)}})
		opened <- out
	}()
	n := a.told()
	require.EqualValues(t, rwh, n.Now)
	require.EqualValues(t, rh, n.New)
	require.EqualValues(t, message.LeaseMustAnswer, n.Flags)
	require.Equal(t, statusRequestNotAccepted, a.gives(10, rwh), "more than is left")
	select {
	case <-opened:
		t.Fatal("it was opened before what is not written was")
	case <-time.After(100 * time.Millisecond):
	}
	write := func(id []byte, text string) []byte {
		return body(&message.WriteRequest{Data: []byte(text), ID: message.FileID{Persistent: le.Uint64(id), Volatile: le.Uint64(id[8:])}})
	}
	require.Equal(t, statusOK, a.status(message.Write, write(idOf(&mine), "written late")), "it is written back meanwhile")
	require.Equal(t, statusOK, a.gives(10, rh))
	theirs := <-opened
	require.EqualValues(t, rh, leaseOf(t, &theirs), "nobody writes late where others have it open")
	h, data, err := b.do(message.Read, readBody(idOf(&theirs), 20, 0))
	require.NoError(t, err)
	require.Equal(t, statusOK, Status(h.Status))
	require.Equal(t, "written late", string(data[16:]))

	// A write takes what others have read, and is not put off by that.
	require.Equal(t, statusOK, b.status(message.Write, write(idOf(&theirs), "anew")))
	n = a.told()
	require.EqualValues(t, 0, n.New)
	require.Equal(t, statusOK, a.gives(10, 0))
	b.silent()

	// So do times and attributes that are set, which is waited for: who caches trusts what it knows of them.
	_, granted = a.openLeased("timed.txt", readOnly, 13, rh)
	require.EqualValues(t, rh, granted)
	_, timed := b.opens(&message.CreateRequest{Name: message.UTF16("timed.txt"), Access: 0x100, Disposition: 1})
	set := make(chan Status, 1)
	go func() {
		set <- b.status(message.SetInfo, body(&message.SetInfoRequest{About: message.AboutFile, Class: message.FileBasicInfo, Data: (&message.BasicInfo{Times: message.Times{Written: 133000000000000000}}).Append(nil), ID: timed.ID}))
	}()
	n = a.told()
	require.EqualValues(t, 0, n.New)
	require.Empty(t, set)
	require.Equal(t, statusOK, a.gives(13, 0))
	require.Equal(t, statusOK, <-set)

	// One key is for one file.
	status, _ = a.opens(&message.CreateRequest{Name: message.UTF16("README.txt"), Access: readOnly, Disposition: 1, Oplock: message.OplockLease, Contexts: []message.CreateContext{leaseContext(10, rh)}})
	require.Equal(t, statusInvalidParameter, status)
	// But two machines may choose the same.
	_, granted = b.openLeased("README.txt", readOnly, 10, rh)
	require.EqualValues(t, rh, granted)

	// What is open for a cache alone is closed for who deletes.
	_, granted = a.openLeased("gone.txt", readOnly, 12, rh)
	require.EqualValues(t, rh, granted)
	kept, _ := a.openLeased("gone.txt", readOnly, 12, rh)
	status, doomed := b.opens(&message.CreateRequest{Name: message.UTF16("gone.txt"), Access: deletes, Disposition: 1})
	require.Equal(t, statusOK, status)
	deleted := make(chan Status, 1)
	go func() {
		id := idOf(&doomed)
		deleted <- b.status(message.SetInfo, body(&message.SetInfoRequest{About: message.AboutFile, Class: message.FileDispositionInfo, Data: []byte{1}, ID: message.FileID{Persistent: le.Uint64(id), Volatile: le.Uint64(id[8:])}}))
	}()
	n = a.told()
	require.EqualValues(t, message.LeaseRead, n.New)
	require.Equal(t, statusOK, a.status(message.Close, closeBody(idOf(&kept))))
	require.Equal(t, statusOK, a.gives(12, message.LeaseRead))
	require.Equal(t, statusOK, <-deleted)
	require.FileExists(t, filepath.Join(dir, "nightlog", "gone.txt"), "one of theirs is open yet")
}

// A directory has none, and what cannot be is not granted.
func TestNoSuchLease(t *testing.T) {
	addr, _ := startServer(t)
	a := machine(t, addr, 1)
	status, out := a.opens(&message.CreateRequest{Name: message.UTF16("2026"), Access: readOnly, Disposition: 1, Oplock: message.OplockLease, Contexts: []message.CreateContext{leaseContext(1, rh)}})
	require.Equal(t, statusOK, status)
	require.Zero(t, out.Oplock)
	_, granted := a.openLeased("README.txt", readOnly, 2, message.LeaseWrite|message.LeaseHandle)
	require.Zero(t, granted, "nothing without reading")
	for _, bad := range [][]byte{{}, {1, 2, 3}, make([]byte, 31), make([]byte, 52), make([]byte, 100)} {
		status, _ = a.opens(&message.CreateRequest{Name: message.UTF16("README.txt"), Access: readOnly, Disposition: 1, Oplock: message.OplockLease, Contexts: []message.CreateContext{{Name: message.ContextLease, Data: bad}}})
		require.Equal(t, statusInvalidParameter, status, "%d bytes", len(bad))
	}
	alive(t, addr)
}

// Old clients have oplocks, which are of one open.
func TestOplocks(t *testing.T) {
	addr, _ := startServer(t)
	a, b := machine(t, addr, 1), machine(t, addr, 2)
	status, mine := a.opens(&message.CreateRequest{Name: message.UTF16("README.txt"), Access: readWrite, Disposition: 1, Oplock: message.OplockBatch})
	require.Equal(t, statusOK, status)
	require.EqualValues(t, message.OplockBatch, mine.Oplock)
	opened := make(chan message.CreateResponse, 1)
	go func() {
		_, out := b.opens(&message.CreateRequest{Name: message.UTF16("README.txt"), Access: readOnly, Disposition: 1, Oplock: message.OplockBatch})
		opened <- out
	}()
	h, raw, err := a.receive()
	require.NoError(t, err)
	require.Equal(t, message.OplockBreak, h.Command)
	var n message.OplockBreakMessage
	require.NoError(t, n.Parse(append(make([]byte, message.HeaderSize), raw...)))
	require.Equal(t, mine.ID, n.ID)
	require.EqualValues(t, message.OplockShared, n.Level)
	bad := n
	bad.Level = message.OplockBatch
	require.Equal(t, statusInvalidParameter, a.status(message.OplockBreak, body(&bad)))
	require.Equal(t, statusFileClosed, machine(t, addr, 3).status(message.OplockBreak, body(&n)), "another's")
	require.Equal(t, statusOK, a.status(message.OplockBreak, body(&n)))
	require.Equal(t, statusInvalidOplockProtocol, a.status(message.OplockBreak, body(&n)), "once")
	theirs := <-opened
	require.EqualValues(t, message.OplockShared, theirs.Oplock&message.OplockShared)
	require.Equal(t, statusInvalidParameter, a.status(message.OplockBreak, []byte{24}))
}

// Who never answers holds nobody up for ever: their connection ending is an answer.
func TestWhoNeverAnswers(t *testing.T) {
	addr, _ := startServer(t)
	a, b := machine(t, addr, 1), machine(t, addr, 2)
	_, granted := a.openLeased("README.txt", readWrite, 10, rwh)
	require.EqualValues(t, rwh, granted)
	opened := make(chan Status, 1)
	go func() {
		status, _ := b.opens(&message.CreateRequest{Name: message.UTF16("README.txt"), Access: readOnly, Disposition: 1})
		opened <- status
	}()
	a.told()
	a.nc.Close()
	require.Equal(t, statusOK, <-opened)
}

// And who did not answer in time once, caches nothing more over that connection.
func TestLateOnce(t *testing.T) {
	s, addr, _ := startServerOf(t)
	a := machine(t, addr, 1)
	_, granted := a.openLeased("README.txt", readWrite, 10, rwh)
	require.EqualValues(t, rwh, granted)
	s.cacheMu.Lock()
	c := s.leases[leaseID{[16]byte{1}, [16]byte{10}}]
	s.cacheMu.Unlock()
	require.True(t, c.tell(files.Break{Late: true}))
	status, out := a.opens(&message.CreateRequest{Name: message.UTF16("2026\\late"), Access: readWrite, Disposition: 3, Oplock: message.OplockLease, Contexts: []message.CreateContext{leaseContext(11, rwh)}})
	require.Equal(t, statusOK, status)
	require.Zero(t, out.Oplock)
	_, granted = machine(t, addr, 1).openLeased("2026\\other", readWrite, 12, rwh)
	require.EqualValues(t, rwh, granted, "another connection of it is another try")
}

func reconnectContext(out *message.CreateResponse) message.CreateContext {
	by := message.Reconnect{ID: out.ID}
	return message.CreateContext{Name: message.ContextReconnect, Data: by.Append(nil)}
}

func reconnectV2(out *message.CreateResponse, create byte) message.CreateContext {
	by := message.Reconnect{Second: true, ID: out.ID, Create: [16]byte{create}}
	return message.CreateContext{Name: message.ContextReconnectV2, Data: by.Append(nil)}
}

func durableV2(create byte) message.CreateContext {
	d := message.DurableV2{Create: [16]byte{create}}
	return message.CreateContext{Name: message.ContextDurableV2, Data: d.Append(nil)}
}

// comesBack tries until the server has seen that the connection is gone.
func comesBack(c *rawClient, m *message.CreateRequest) (status Status, out message.CreateResponse) {
	require.Eventually(c.t, func() bool {
		status, out = c.opens(m)
		return status != statusObjectNameNotFound
	}, time.Minute, 5*time.Millisecond)
	return status, out
}

// What was open when a connection broke is open when its client comes back, with its locks and its lease; to nobody else.
func TestDurableHandles(t *testing.T) {
	for version := 1; version <= 2; version++ {
		t.Run(fmt.Sprint("version ", version), func(t *testing.T) {
			addr, _ := startServer(t)
			dial := machine
			asks := message.CreateContext{Name: message.ContextDurable, Data: make([]byte, 16)}
			if version == 2 {
				dial, asks = machine3, durableV2(7)
			}
			a := dial(t, addr, 1)
			mine, granted := a.openLeased("README.txt", readWrite, 10, rwh, asks)
			require.EqualValues(t, rwh, granted)
			require.Len(t, mine.Contexts, 2, "and it is durable")
			require.Equal(t, statusOK, a.status(message.Lock, lockBody(idOf(&mine), message.LockExclusive|message.LockFailNow, 0, 3)))
			a.nc.Close()

			back := func(contexts ...message.CreateContext) *message.CreateRequest {
				return &message.CreateRequest{Name: message.UTF16("README.txt"), Access: readWrite, Disposition: 1, Oplock: message.OplockLease, Contexts: contexts}
			}
			claim := reconnectContext(&mine)
			if version == 2 {
				claim = reconnectV2(&mine, 7)
			}
			// Another machine does not get it, nor does another lease, nor who knows half of it.
			other := dial(t, addr, 2)
			status, _ := other.opens(back(claim, leaseContext(10, rwh)))
			require.Equal(t, statusObjectNameNotFound, status)
			again := dial(t, addr, 1)
			status, _ = again.opens(back(claim, leaseContext(11, rwh)))
			require.Equal(t, statusObjectNameNotFound, status)
			status, _ = again.opens(back(claim))
			require.Equal(t, statusObjectNameNotFound, status)
			if version == 2 {
				status, _ = again.opens(back(reconnectV2(&mine, 8), leaseContext(10, rwh)))
				require.Equal(t, statusObjectNameNotFound, status, "another create")
			}
			status, got := comesBack(again, back(claim, leaseContext(10, rwh)))
			require.Equal(t, statusOK, status)
			require.Equal(t, mine.ID, got.ID)
			require.EqualValues(t, rwh, leaseOf(t, &got))
			status, _ = again.opens(back(claim, leaseContext(10, rwh)))
			require.Equal(t, statusObjectNameNotFound, status, "it is taken")
			require.Equal(t, statusOK, again.status(message.Read, readBody(idOf(&got), 9, 0)))
			require.Equal(t, statusRangeNotLocked, again.status(message.Lock, lockBody(idOf(&got), message.Unlock, 0, 2)))
			require.Equal(t, statusOK, again.status(message.Lock, lockBody(idOf(&got), message.Unlock, 0, 3)), "the lock is there yet")
			require.Equal(t, statusOK, again.status(message.Close, closeBody(idOf(&got))))
			status, _ = again.opens(back(claim, leaseContext(10, rwh)))
			require.Equal(t, statusObjectNameNotFound, status, "closed is closed")
		})
	}
}

// What a client comes back to from another address is used from there: the hosts that the share is kept to are asked about that one.
func TestComingBackFromElsewhere(t *testing.T) {
	_, addr, _, keepTo := startServerBy(t)
	keepTo("127.0.0.1", "127.0.0.2")
	a := machine3(t, addr, 1)
	mine, _ := a.openLeased("README.txt", readWrite, 10, rwh, durableV2(7))
	a.nc.Close()
	again := machine3From(t, addr, "127.0.0.2", 1)
	status, got := comesBack(again, &message.CreateRequest{Name: message.UTF16("README.txt"), Access: readWrite, Disposition: 1, Oplock: message.OplockLease,
		Contexts: []message.CreateContext{reconnectV2(&mine, 7), leaseContext(10, rwh)}})
	require.Equal(t, statusOK, status)
	read := func() Status { return again.status(message.Read, readBody(idOf(&got), 9, 0)) }
	require.Equal(t, statusOK, read())
	keepTo("127.0.0.2")
	require.Equal(t, statusOK, read())
	keepTo("127.0.0.1")
	require.Equal(t, statusAccessDenied, read())
	keepTo("127.0.0.2=ro")
	require.Equal(t, statusOK, read())
	write := append(readBody(idOf(&got), 1, 0)[:48], 'x')
	le.PutUint16(write[2:], message.HeaderSize+48)
	require.Equal(t, statusAccessDenied, again.status(message.Write, write))
}

// Who wants what is kept for a client without a connection gets it: there is nobody to ask. And who logs off keeps nothing.
func TestKeptForNobody(t *testing.T) {
	s, addr, dir := startServerOf(t)
	a, b := machine(t, addr, 1), machine(t, addr, 2)
	asks := message.CreateContext{Name: message.ContextDurable, Data: make([]byte, 16)}
	mine, _ := a.openLeased("README.txt", readWrite, 10, rwh, asks)
	a.nc.Close()
	status, _ := b.opens(&message.CreateRequest{Name: message.UTF16("README.txt"), Access: readWrite, Disposition: 1})
	require.Equal(t, statusOK, status)
	back := machine(t, addr, 1)
	status, _ = back.opens(&message.CreateRequest{Name: message.UTF16("README.txt"), Access: readWrite, Disposition: 1, Oplock: message.OplockLease, Contexts: []message.CreateContext{reconnectContext(&mine), leaseContext(10, rwh)}})
	require.Equal(t, statusObjectNameNotFound, status)

	// It is seen by who looks after things, who may close it.
	e := machine(t, addr, 4)
	_, _ = e.openLeased("2026\\seen", readWrite, 40, rwh, asks)
	e.nc.Close()
	var seen string
	require.Eventually(t, func() bool {
		for _, o := range s.Opens() {
			if o.Path == "2026/seen" && len(s.signedIn()) == 2 { // b and back
				seen = o.ID
			}
		}
		return seen != ""
	}, time.Minute, 5*time.Millisecond)
	require.True(t, s.CloseOpen(seen))
	require.False(t, s.CloseOpen(seen))

	c := machine(t, addr, 3)
	gone, _ := c.openLeased("2026\\x", 0x13019f, 30, rwh, asks)
	require.Equal(t, statusOK, c.status(message.Logoff, []byte{4, 0, 0, 0}))
	d := machine(t, addr, 3)
	status, _ = d.opens(&message.CreateRequest{Name: message.UTF16("2026\\x"), Access: readWrite, Disposition: 1, Oplock: message.OplockLease, Contexts: []message.CreateContext{reconnectContext(&gone), leaseContext(30, rwh)}})
	require.Equal(t, statusObjectNameNotFound, status)
	require.NoError(t, os.Remove(filepath.Join(dir, "nightlog", "2026", "x")))
}

// A create that is sent twice is done once.
func TestCreatesAreNotReplayed(t *testing.T) {
	addr, _ := startServer(t)
	a := machine3(t, addr, 1)
	m := &message.CreateRequest{Name: message.UTF16("once.txt"), Access: readWrite, Sharing: 7, Disposition: 2, Oplock: message.OplockLease, Contexts: []message.CreateContext{leaseContext(10, rwh), durableV2(7)}}
	status, first := a.opens(m)
	require.Equal(t, statusOK, status)
	status, _ = a.opens(m)
	require.Equal(t, statusDuplicateObjectID, status)
	msg := a.message(message.Create, body(m))
	le.PutUint32(msg[16:], message.FlagReplay)
	signMessage(a.sign, msg)
	a.frame(msg)
	h, b, err := a.receive()
	require.NoError(t, err)
	require.Equal(t, statusOK, Status(h.Status))
	var second message.CreateResponse
	require.NoError(t, second.Parse(append(make([]byte, message.HeaderSize), b...)))
	require.Equal(t, first.ID, second.ID)
}
