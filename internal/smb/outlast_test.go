package smb

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"log/slog"
	"os"
	"path/filepath"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/smb/message"
)

// memory keeps what is open, as long as the test lasts.
type memory struct {
	mu    sync.Mutex
	kept  map[uint64][]byte
	fails error
}

func (m *memory) Keep(_ context.Context, id uint64, body []byte) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.fails == nil {
		m.kept[id] = body
	}
	return m.fails
}

func (m *memory) Forget(_ context.Context, id uint64) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	delete(m.kept, id)
	return nil
}

func (m *memory) Kept(context.Context) (map[uint64][]byte, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	out := make(map[uint64][]byte)
	for id, body := range m.kept {
		out[id] = body
	}
	return out, m.fails
}

func (m *memory) len() int {
	m.mu.Lock()
	defer m.mu.Unlock()
	return len(m.kept)
}

// each alters what is kept.
func (m *memory) each(alter func(w *writtenOpen)) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for id, body := range m.kept {
		var w writtenOpen
		if json.Unmarshal(body, &w) == nil {
			alter(&w)
			m.kept[id], _ = json.Marshal(&w)
		}
	}
}

// lasting is a service that can be started anew, with one share on which what is open outlasts that.
type lasting struct {
	t       testing.TB
	dir     string
	memory  memory
	opens   Opens // memory
	records site.Records
	server  *Server
}

func newLasting(t testing.TB) *lasting {
	l := &lasting{t: t, dir: t.TempDir(), memory: memory{kept: make(map[uint64][]byte)}}
	l.opens = &l.memory
	require.NoError(t, os.MkdirAll(filepath.Join(l.dir, "nightlog", "2026"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(l.dir, "nightlog", "README.txt"), []byte("night log"), 0o644))
	l.records = site.Records{
		Users:   []identity.User{{ID: 1, Name: "piran", UID: 1, SMB: true}, {ID: 2, Name: "orla", UID: 2, SMB: true}},
		Volumes: []site.Volume{{ID: 1, Name: "v", Path: l.dir}},
		Folders: []site.Folder{{ID: 1, Name: "nightlog", VolumeID: 1, Path: "nightlog",
			Rules: []acl.Rule{{Entries: []acl.Entry{{ID: 1, Who: identity.Everyone, Level: acl.Change, Applies: acl.Everywhere}}}}}},
		Shares: []site.Share{{ID: 1, Name: "nightlog", FolderID: 1, Announced: true, Persistent: true}}, Services: site.Services{SMB: true},
	}
	return l
}

// start starts it, as a process that knows nothing of the one before but what that wrote down.
func (l *lasting) start() (addr string) {
	l.t.Helper()
	policy, err := site.Compile(l.records)
	require.NoError(l.t, err)
	current := func() *site.Policy { return policy }
	s := NewServer(Config{Name: "larkfell", Policy: current, Accounts: oneAccount{}, Names: noNames{}, Files: files.New(current, nil), Lasting: l.opens,
		Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
	require.NoError(l.t, s.Restore(context.Background()))
	l.server = s
	return serves(l.t, s)
}

func persistent(create byte, timeout time.Duration) message.CreateContext {
	d := message.DurableV2{Create: [16]byte{create}, Flags: message.DurablePersistent, Timeout: uint32(timeout / time.Millisecond)}
	return message.CreateContext{Name: message.ContextDurableV2, Data: d.Append(nil)}
}

// lasts says whether an answer promises that the open outlasts the service.
func lasts(out *message.CreateResponse) bool {
	for _, x := range out.Contexts {
		if x.Name == message.ContextDurableV2 {
			return le.Uint32(x.Data[4:])&message.DurablePersistent != 0
		}
	}
	return false
}

func (c *rawClient) opensLasting(name string, create byte, contexts ...message.CreateContext) message.CreateResponse {
	c.t.Helper()
	m := &message.CreateRequest{Name: message.UTF16(name), Access: readWrite | deletes, Disposition: 3, Contexts: append(contexts, persistent(create, 0))}
	if len(contexts) > 0 {
		m.Oplock = message.OplockLease
	}
	status, out := c.opens(m)
	require.Equal(c.t, statusOK, status)
	return out
}

// claims asks for it back.
func (c *rawClient) claims(of *message.CreateResponse, create byte, contexts ...message.CreateContext) (Status, message.CreateResponse) {
	m := &message.CreateRequest{Name: message.UTF16("README.txt"), Access: readWrite, Disposition: 1, Contexts: append(contexts, reconnectV2(of, create))}
	if len(contexts) > 0 {
		m.Oplock = message.OplockLease
	}
	return c.opens(m)
}

func write(o *message.CreateResponse, text string) []byte {
	return body(&message.WriteRequest{Data: []byte(text), ID: o.ID})
}

// Killed or stopped, with a lease or without: what is open on such a share is open when the service is started anew, with its locks, for its client
// alone; meanwhile nobody opens it, or locks it, against that.
func TestWhatIsOpenOutlastsTheService(t *testing.T) {
	for name, c := range map[string]struct {
		stops bool
		lease []message.CreateContext
	}{
		"killed": {false, []message.CreateContext{leaseOn(10, 0, rwh)}}, "stopped": {true, []message.CreateContext{leaseOn(10, 0, rwh)}},
		"killed, without a lease": {false, nil}, "stopped, with a lease that keeps nothing": {true, []message.CreateContext{leaseOn(10, 0, message.LeaseRead)}},
	} {
		t.Run(name, func(t *testing.T) {
			l := newLasting(t)
			a := machine3(t, l.start(), 1)
			mine := a.opensLasting("README.txt", 7, c.lease...)
			require.True(t, lasts(&mine))
			require.Equal(t, statusOK, a.status(message.Lock, lockBody(idOf(&mine), message.LockExclusive|message.LockFailNow, 0, 3)))
			require.Equal(t, statusOK, a.status(message.Lock, lockBody(idOf(&mine), message.LockShared|message.LockFailNow, 20, 2)))
			require.Equal(t, statusOK, a.status(message.Lock, lockBody(idOf(&mine), message.LockExclusive|message.LockFailNow, 100, 1)))
			require.Equal(t, statusOK, a.status(message.Lock, lockBody(idOf(&mine), message.Unlock, 100, 1)))
			require.Equal(t, statusOK, a.status(message.Write, write(&mine, "before")))
			if c.stops {
				l.server.Close()
			}
			require.Equal(t, 1, l.memory.len())
			addr := l.start()

			b := machine3(t, addr, 2)
			keeps := len(c.lease) > 0 && name != "stopped, with a lease that keeps nothing"
			if !keeps { // otherwise they wait for what is cached, see below
				status, _ := b.opens(&message.CreateRequest{Name: message.UTF16("README.txt"), Access: readWrite, Sharing: 1, Disposition: 1})
				require.Equal(t, statusSharingViolation, status, "not so that it is shut out")
				status, theirs := b.opens(&message.CreateRequest{Name: message.UTF16("README.txt"), Access: readWrite, Disposition: 1})
				require.Equal(t, statusOK, status)
				require.Equal(t, statusLockNotGranted, b.status(message.Lock, lockBody(idOf(&theirs), message.LockExclusive|message.LockFailNow, 2, 1)))
				require.Equal(t, statusLockNotGranted, b.status(message.Lock, lockBody(idOf(&theirs), message.LockExclusive|message.LockFailNow, 21, 1)))
				require.Equal(t, statusOK, b.status(message.Lock, lockBody(idOf(&theirs), message.LockShared|message.LockFailNow, 21, 1)))
				require.Equal(t, statusOK, b.status(message.Lock, lockBody(idOf(&theirs), message.LockExclusive|message.LockFailNow, 100, 1)), "what was unlocked is")
				require.Equal(t, statusOK, b.status(message.Close, closeBody(idOf(&theirs))))
			}
			// Neither another machine gets it, nor who knows half of it.
			status, _ := b.claims(&mine, 7, c.lease...)
			require.Equal(t, statusObjectNameNotFound, status)
			again := machine3(t, addr, 1)
			status, _ = again.claims(&mine, 8, c.lease...)
			require.Equal(t, statusObjectNameNotFound, status)
			status, _ = again.claims(&mine, 7, leaseOn(11, 0, rwh))
			require.Equal(t, statusObjectNameNotFound, status)

			status, got := again.claims(&mine, 7, c.lease...)
			require.Equal(t, statusOK, status)
			require.Equal(t, mine.ID, got.ID)
			if keeps {
				require.Equal(t, leaseOf(t, &mine), leaseOf(t, &got))
			}
			require.Equal(t, statusOK, again.status(message.Write, write(&got, "after!")))
			require.Equal(t, statusOK, again.status(message.Lock, lockBody(idOf(&got), message.Unlock, 0, 3)))
			status, _ = again.claims(&mine, 7, c.lease...)
			require.Equal(t, statusObjectNameNotFound, status, "it is taken")
			// What is opened now has another number.
			fresh := again.opensLasting("2026\\fresh.txt", 9)
			require.Greater(t, fresh.ID.Persistent, mine.ID.Persistent)
			require.Equal(t, statusOK, again.status(message.Close, closeBody(idOf(&got))))
			require.Equal(t, statusOK, again.status(message.Close, closeBody(idOf(&fresh))))
			require.Zero(t, l.memory.len(), "what is closed is forgotten")
			text, err := os.ReadFile(filepath.Join(l.dir, "nightlog", "README.txt"))
			require.NoError(t, err)
			require.Equal(t, "after!log", string(text))
		})
	}
}

// Over any number of restarts, as often as its client comes back or does not.
func TestItOutlastsManyRestarts(t *testing.T) {
	l := newLasting(t)
	c := machine3(t, l.start(), 1)
	mine := c.opensLasting("README.txt", 7, leaseOn(10, 0, rwh))
	for i := range 6 {
		addr := l.start()
		if i%2 == 0 {
			continue
		}
		c = machine3(t, addr, 1)
		status, got := c.claims(&mine, 7, leaseOn(10, 0, rwh))
		require.Equal(t, statusOK, status)
		require.Equal(t, mine.ID, got.ID)
		require.Equal(t, statusOK, c.status(message.Write, write(&got, "again")))
	}
}

// What is not so, is not promised: on other shares, of directories, over old dialects, for who does not ask, and where it cannot be written down.
func TestWhatDoesNotOutlast(t *testing.T) {
	l := newLasting(t)
	addr := l.start()
	a := machine3(t, addr, 1)
	status, dir := a.opens(&message.CreateRequest{Name: message.UTF16("2026"), Access: readOnly, Disposition: 1, Contexts: []message.CreateContext{persistent(1, 0)}})
	require.Equal(t, statusOK, status)
	require.False(t, lasts(&dir))
	only, _ := a.openLeased("README.txt", readWrite, 10, rwh, durableV2(2))
	require.Len(t, only.Contexts, 2, "durable")
	require.False(t, lasts(&only))
	old := machine(t, addr, 2)
	status, none := old.opens(&message.CreateRequest{Name: message.UTF16("2026\\old.txt"), Access: readWrite, Disposition: 3, Contexts: []message.CreateContext{persistent(3, 0)}})
	require.Equal(t, statusOK, status)
	require.Empty(t, none.Contexts)
	require.Zero(t, l.memory.len())
	l.memory.fails = errors.New("no space left on device")
	full := a.opensLasting("2026\\full.txt", 4)
	require.False(t, lasts(&full))
	full = a.opensLasting("2026\\full-too.txt", 5, leaseOn(20, 0, rwh))
	require.False(t, lasts(&full), "and still it is durable")
	require.Len(t, full.Contexts, 2)
	l.memory.fails = nil
	l.records.Shares[0].Persistent = false
	b := machine3(t, l.start(), 1)
	mine := b.opensLasting("README.txt", 6, leaseOn(10, 0, rwh))
	require.False(t, lasts(&mine))
	require.Zero(t, l.memory.len())
}

// What has become of it meanwhile: closed, renamed, waited for in vain, gone from the disk, another's, of a share that is no more.
func TestWhatBecameOfItMeanwhile(t *testing.T) {
	night := func(l *lasting, name string) string { return filepath.Join(l.dir, "nightlog", name) }
	for name, c := range map[string]struct {
		before func(l *lasting, a *rawClient, mine *message.CreateResponse)
		status Status
	}{
		"closed": {func(l *lasting, a *rawClient, mine *message.CreateResponse) {
			require.Equal(t, statusOK, a.status(message.Close, closeBody(idOf(mine))))
		}, statusObjectNameNotFound},
		"logged off": {func(l *lasting, a *rawClient, mine *message.CreateResponse) {
			require.Equal(t, statusOK, a.status(message.Logoff, []byte{4, 0, 0, 0}))
		}, statusObjectNameNotFound},
		"renamed": {func(l *lasting, a *rawClient, mine *message.CreateResponse) {
			to := message.RenameInfo{Name: message.UTF16("2026\\READ.txt")}
			require.Equal(t, statusOK, a.status(message.SetInfo, body(&message.SetInfoRequest{About: message.AboutFile, Class: message.FileRenameInfo, Data: to.Append(nil), ID: mine.ID})))
		}, statusOK},
		"renamed on the host": {func(l *lasting, _ *rawClient, _ *message.CreateResponse) {
			require.NoError(t, os.Rename(night(l, "README.txt"), night(l, "READ.txt")))
		}, statusObjectNameNotFound},
		"replaced on the host": {func(l *lasting, _ *rawClient, _ *message.CreateResponse) {
			require.NoError(t, os.WriteFile(night(l, "new"), []byte("another"), 0o644))
			require.NoError(t, os.Rename(night(l, "new"), night(l, "README.txt")))
		}, statusObjectNameNotFound},
		"a link on the host": {func(l *lasting, _ *rawClient, _ *message.CreateResponse) {
			require.NoError(t, os.Rename(night(l, "README.txt"), filepath.Join(l.dir, "outside")))
			require.NoError(t, os.Symlink("../outside", night(l, "README.txt")))
		}, statusObjectNameNotFound},
		"another's": {func(l *lasting, _ *rawClient, _ *message.CreateResponse) {
			l.memory.each(func(w *writtenOpen) { w.User = 2 })
		}, statusAccessDenied},
		"of a person who is no more": {func(l *lasting, _ *rawClient, _ *message.CreateResponse) {
			l.memory.each(func(w *writtenOpen) { w.User = 9 })
		}, statusObjectNameNotFound},
		"of a person who may not come": {func(l *lasting, _ *rawClient, _ *message.CreateResponse) {
			l.memory.each(func(w *writtenOpen) { w.User = 2 })
			l.records.Users[1].SMB = false
		}, statusObjectNameNotFound},
		"of another folder": {func(l *lasting, _ *rawClient, _ *message.CreateResponse) {
			l.memory.each(func(w *writtenOpen) { w.File.Folder = 2 })
		}, statusObjectNameNotFound},
		"of a path out of it": {func(l *lasting, _ *rawClient, _ *message.CreateResponse) {
			l.memory.each(func(w *writtenOpen) { w.File.Path = "../nightlog/README.txt" })
		}, statusObjectNameNotFound},
		"of a share that is no more": {func(l *lasting, _ *rawClient, _ *message.CreateResponse) {
			l.memory.each(func(w *writtenOpen) { w.Share = "plates" })
		}, statusObjectNameNotFound},
		"waited for in vain": {func(l *lasting, _ *rawClient, _ *message.CreateResponse) {
			l.memory.each(func(w *writtenOpen) { w.Timeout = time.Second })
		}, statusObjectNameNotFound},
		"no longer a share on which it outlasts": {func(l *lasting, _ *rawClient, _ *message.CreateResponse) {
			l.records.Shares[0].Persistent = false
		}, statusOK},
	} {
		t.Run(name, func(t *testing.T) {
			l := newLasting(t)
			a := machine3(t, l.start(), 1)
			mine := a.opensLasting("README.txt", 7)
			c.before(l, a, &mine)
			addr := l.start()
			if name == "waited for in vain" {
				require.Eventually(t, func() bool { return l.memory.len() == 0 }, time.Minute, 10*time.Millisecond)
			}
			status, got := machine3(t, addr, 1).claims(&mine, 7)
			require.Equal(t, c.status, status)
			switch status {
			case statusOK:
				require.Equal(t, mine.ID, got.ID)
				require.Equal(t, 1, l.memory.len())
			case statusObjectNameNotFound:
				require.Zero(t, l.memory.len())
			}
		})
	}
}

// A file that is to be deleted when it is closed is there until then, whether the service is killed or stopped meanwhile, and deleted then.
func TestWhatIsToBeDeletedOutlasts(t *testing.T) {
	for name, c := range map[string]struct{ stops, onClose bool }{"killed": {false, false}, "stopped": {true, false}, "killed, when it is closed": {false, true}, "stopped, when it is closed": {true, true}} {
		t.Run(name, func(t *testing.T) {
			l := newLasting(t)
			a := machine3(t, l.start(), 1)
			file := filepath.Join(l.dir, "nightlog", "README.txt")
			m := &message.CreateRequest{Name: message.UTF16("README.txt"), Access: readWrite | deletes, Disposition: 1, Contexts: []message.CreateContext{persistent(7, 0)}}
			if c.onClose {
				m.Options = message.OptDeleteOnClose
			}
			status, mine := a.opens(m)
			require.Equal(t, statusOK, status)
			require.True(t, lasts(&mine))
			if !c.onClose {
				require.Equal(t, statusOK, a.status(message.SetInfo, body(&message.SetInfoRequest{About: message.AboutFile, Class: message.FileDispositionInfo, Data: []byte{1}, ID: mine.ID})))
			}
			if c.stops {
				l.server.Close()
			}
			require.FileExists(t, file)
			addr := l.start()
			if !c.onClose {
				status, _ = machine3(t, addr, 2).opens(&message.CreateRequest{Name: message.UTF16("README.txt"), Access: readOnly, Disposition: 1})
				require.Equal(t, statusDeletePending, status)
			}
			again := machine3(t, addr, 1)
			status, got := again.claims(&mine, 7)
			require.Equal(t, statusOK, status)
			require.FileExists(t, file)
			require.Equal(t, statusOK, again.status(message.Close, closeBody(idOf(&got))))
			require.NoFileExists(t, file)
			require.Zero(t, l.memory.len())
		})
	}
}

// Who wants what a client caches that is away waits for it: the client is told when it comes back, and the other is let in when it has given it
// back. What it wrote late is there then.
func TestWhoIsAwayIsAskedLater(t *testing.T) {
	l := newLasting(t)
	a := machine3(t, l.start(), 1)
	mine := a.opensLasting("README.txt", 7, leaseOn(10, 0, rwh))
	addr := l.start()
	b := machine3(t, addr, 2)
	opened := make(chan Status, 1)
	go func() {
		status, _ := b.opens(&message.CreateRequest{Name: message.UTF16("README.txt"), Access: readOnly, Disposition: 1})
		opened <- status
	}()
	require.Eventually(t, func() bool {
		l.server.cacheMu.Lock()
		defer l.server.cacheMu.Unlock()
		c := l.server.leases[leaseID{[16]byte{1}, [16]byte{10}}]
		return c != nil && c.owed != nil
	}, time.Minute, 5*time.Millisecond)
	require.Empty(t, opened)
	again := machine3(t, addr, 1)
	status, got := again.claims(&mine, 7, leaseOn(10, 0, rwh))
	require.Equal(t, statusOK, status)
	require.EqualValues(t, rwh, leaseOf(t, &got))
	n := again.told()
	require.EqualValues(t, rh, n.New)
	require.Equal(t, statusOK, again.status(message.Write, write(&got, "late")))
	require.Empty(t, opened, "not before")
	require.Equal(t, statusOK, again.gives(10, rh))
	require.Equal(t, statusOK, <-opened)
	// What is left of it is written down: after another restart it is that.
	status, got = machine3(t, l.start(), 1).claims(&mine, 7, leaseOn(10, 0, rwh))
	require.Equal(t, statusOK, status)
	require.EqualValues(t, rh, leaseOf(t, &got))
}

// A share says beside its flags that what is open on it outlasts the service, and the service that it can, to those dialects that know of it.
func TestItIsSaidOfTheShare(t *testing.T) {
	l := newLasting(t)
	is := func(dial func(t testing.TB, addr string, guid byte) *rawClient) uint32 {
		c := dial(t, l.start(), 1)
		h, raw, err := c.do(message.TreeConnect, body(&message.TreeConnectRequest{Path: message.UTF16(`\\larkfell\nightlog`)}))
		require.NoError(t, err)
		require.Equal(t, statusOK, Status(h.Status))
		var m message.TreeConnectResponse
		require.NoError(t, m.Parse(append(make([]byte, message.HeaderSize), raw...)))
		return m.Capabilities
	}
	require.EqualValues(t, message.ShareKept, is(machine3))
	require.Zero(t, is(machine))
	// Not to a client that does not say that it can: python3-impacket, for one, breaks at its first name if it is told of leases on directories.
	c := dialRaw(t, l.start())
	c.frame(c.message(message.Negotiate, body(&message.NegotiateRequest{SecurityMode: signingEnabled, ClientGUID: [16]byte{1}, Dialects: []uint16{dialect30}})))
	_, raw, err := c.receive()
	require.NoError(t, err)
	var m message.NegotiateResponse
	require.NoError(t, m.Parse(append(make([]byte, message.HeaderSize), raw...)))
	require.Zero(t, m.Capabilities&(capDirectoryLeasing|capPersistent))
	l.records.Shares[0].Persistent = false
	require.Zero(t, is(machine3))
}

// Whatever is written down, by a disk that failed or by somebody who got at it: the service starts, and opens nothing that may not be.
func FuzzWrittenOpens(f *testing.F) {
	sound, err := json.Marshal(&writtenOpen{Share: "nightlog", User: 1, Client: [16]byte{1}, Create: [16]byte{7}, Timeout: time.Minute, Lease: true, Second: true, Key: [16]byte{10},
		File: files.Lasting{Folder: 1, Path: "README.txt", Asked: acl.All, Sharing: 7, Cached: 7, Locks: []files.Range{{Offset: 1, Length: 2, Exclusive: true}}}})
	require.NoError(f, err)
	f.Add(sound)
	f.Add([]byte("{}"))
	f.Add([]byte(`{"Share":"nightlog","User":1,"File":{"Folder":1,"Path":"","Asked":4294967295}}`))
	f.Add([]byte(`{"Share":"nightlog","User":1,"Timeout":-1,"File":{"Folder":1,"Path":"2026","Locks":[{"Offset":18446744073709551615,"Length":18446744073709551615}]}}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		l := newLasting(t)
		info, err := os.Stat(filepath.Join(l.dir, "nightlog", "README.txt"))
		require.NoError(t, err)
		l.memory.kept[3] = raw
		l.memory.kept[4] = raw
		l.memory.each(func(w *writtenOpen) {
			if w.File.Inode == 0 {
				w.File.Inode = inodeOf(info)
			}
		})
		policy, err := site.Compile(l.records)
		require.NoError(t, err)
		current := func() *site.Policy { return policy }
		s := NewServer(Config{Name: "larkfell", Policy: current, Accounts: oneAccount{}, Names: noNames{}, Files: files.New(current, nil), Lasting: &l.memory, Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
		require.NoError(t, s.Restore(context.Background()))
		for _, o := range s.Opens() {
			require.Equal(t, "README.txt", o.Path)
		}
		require.Len(t, s.orphans, l.memory.len())
		s.Close()
	})
}

func inodeOf(info os.FileInfo) uint64 { return info.Sys().(*syscall.Stat_t).Ino }
