package smb

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/smb/message"
)

// leaseOn is a lease of the second version, by a client that says which directory it caches what it opens in.
func leaseOn(key, parent byte, state uint32) message.CreateContext {
	l := message.Lease{Second: true, Key: [16]byte{key}, State: state}
	if parent != 0 {
		l.Parent, l.Flags = [16]byte{parent}, message.LeaseHasParent
	}
	return message.CreateContext{Name: message.ContextLease, Data: l.Append(nil)}
}

func (c *rawClient) lists(dir string, key byte, state uint32) message.CreateResponse {
	c.t.Helper()
	status, out := c.opens(&message.CreateRequest{Name: message.UTF16(dir), Access: readOnly, Disposition: 1, Options: message.OptDirectory, Oplock: message.OplockLease, Contexts: []message.CreateContext{leaseOn(key, 0, state)}})
	require.Equal(c.t, statusOK, status)
	return out
}

// makes makes a file, with the lease of it that clients ask for as well.
func (c *rawClient) makes(name string, parent byte) message.CreateResponse {
	c.t.Helper()
	key := 100 + name[len(name)-5] // of each file another
	status, out := c.opens(&message.CreateRequest{Name: message.UTF16(name), Access: readWrite | deletes, Disposition: 2, Oplock: message.OplockLease, Contexts: []message.CreateContext{leaseOn(key, parent, rh)}})
	require.Equal(c.t, statusOK, status)
	return out
}

// Of a directory, what is in it may be cached, MS-SMB2 section 3.3.5.9.11: until somebody else changes it. Whoever changes it themselves, and says
// by what key they know the directory, is not told.
func TestDirectoryLeases(t *testing.T) {
	addr, _ := startServer(t)
	a, b := machine3(t, addr, 1), machine3(t, addr, 2)
	out := a.lists("2026", 10, rwh)
	require.EqualValues(t, rh, leaseOf(t, &out), "nobody writes a directory late")
	again := a.lists("2026", 10, message.LeaseRead)
	require.EqualValues(t, rh, leaseOf(t, &again), "one key, one lease")

	made := a.makes("2026\\mine.txt", 10)
	a.silent()
	require.Equal(t, statusOK, a.status(message.Close, closeBody(idOf(&made))))
	a.silent()
	_ = b.makes("2026\\theirs.txt", 10)
	n := a.told()
	require.Equal(t, [16]byte{10}, n.Key, "the key of another machine's lease is not ours, though it is the same")
	require.EqualValues(t, rh, n.Now)
	require.Zero(t, n.New)
	require.EqualValues(t, message.LeaseMustAnswer, n.Flags)
	require.NotZero(t, n.Epoch)
	require.Equal(t, statusRequestNotAccepted, a.gives(10, message.LeaseRead))
	_ = b.makes("2026\\meanwhile.txt", 0)
	require.Equal(t, statusOK, a.gives(10, 0))
	require.Equal(t, statusUnsuccessful, a.gives(10, 0), "once")
	a.silent()

	// What is asked for again is granted again, with an epoch that goes on.
	more := a.lists("2026", 10, rh)
	require.EqualValues(t, rh, leaseOf(t, &more))
	for _, o := range []message.CreateResponse{out, again, more} {
		require.Equal(t, statusOK, a.status(message.Close, closeBody(idOf(&o))))
	}
	_ = b.makes("2026\\nobody-looks-on.txt", 0)
	a.silent()
	require.Equal(t, statusObjectNameNotFound, a.gives(10, 0), "it ends with what is open")
	alive(t, addr)
}

// Who removes a directory, or renames it, waits until whoever keeps it open for their cache alone has closed it.
func TestAKeptDirectoryIsClosedForWhoRemovesIt(t *testing.T) {
	addr, _ := startServer(t)
	a, b := machine3(t, addr, 1), machine3(t, addr, 2)
	status, made := b.opens(&message.CreateRequest{Name: message.UTF16("gone"), Access: readOnly | deletes, Disposition: 2, Options: message.OptDirectory})
	require.Equal(t, statusOK, status)
	kept := a.lists("gone", 10, rh)
	removed := make(chan Status, 1)
	go func() {
		removed <- b.status(message.SetInfo, body(&message.SetInfoRequest{About: message.AboutFile, Class: message.FileDispositionInfo, Data: []byte{1}, ID: made.ID}))
	}()
	n := a.told()
	require.EqualValues(t, message.LeaseRead, n.New)
	require.Equal(t, statusOK, a.status(message.Close, closeBody(idOf(&kept))))
	require.Equal(t, statusOK, <-removed)
	require.Equal(t, statusOK, b.status(message.Close, closeBody(idOf(&made))))
	status, _ = a.opens(&message.CreateRequest{Name: message.UTF16("gone"), Access: readOnly, Disposition: 1})
	require.Equal(t, statusObjectNameNotFound, status)
}

// Leases of the first version, and oplocks, are of files alone; and a directory is not kept for a client that has gone.
func TestWhatADirectoryHasNot(t *testing.T) {
	addr, _ := startServer(t)
	a := machine3(t, addr, 1)
	for _, m := range []message.CreateRequest{
		{Oplock: message.OplockLease, Contexts: []message.CreateContext{leaseContext(1, rh)}},
		{Oplock: message.OplockBatch}, {Oplock: message.OplockShared},
	} {
		m.Name, m.Access, m.Disposition = message.UTF16("2026"), readOnly, 1
		status, out := a.opens(&m)
		require.Equal(t, statusOK, status)
		require.Zero(t, out.Oplock)
		require.Empty(t, out.Contexts)
	}
	durable := message.DurableV2{Create: [16]byte{7}}
	status, out := a.opens(&message.CreateRequest{Name: message.UTF16("2026"), Access: readOnly, Disposition: 1, Oplock: message.OplockLease,
		Contexts: []message.CreateContext{leaseOn(5, 0, rh), {Name: message.ContextDurableV2, Data: durable.Append(nil)}}})
	require.Equal(t, statusOK, status)
	require.Len(t, out.Contexts, 1, "the lease, and nothing of being durable")
	require.EqualValues(t, rh, leaseOf(t, &out))
	// The key is that directory's, and of nothing else.
	status, _ = a.opens(&message.CreateRequest{Name: message.UTF16("README.txt"), Access: readOnly, Disposition: 1, Oplock: message.OplockLease, Contexts: []message.CreateContext{leaseOn(5, 0, rh)}})
	require.Equal(t, statusInvalidParameter, status)
}

// A client that is told and never answers holds nobody up, and neither does one that is gone.
func TestASilentListerHoldsNobodyUp(t *testing.T) {
	s, addr, _ := startServerOf(t)
	a, gone, b := machine3(t, addr, 1), machine3(t, addr, 3), machine3(t, addr, 2)
	a.lists("2026", 10, rh)
	gone.lists("2026", 11, rh)
	require.NoError(t, gone.nc.Close())
	began := time.Now()
	for _, name := range []string{"one.txt", "two.txt", "four.txt"} {
		_ = b.makes("2026\\"+name, 0)
	}
	require.Less(t, time.Since(began), 15*time.Second)
	require.Equal(t, [16]byte{10}, a.told().Key)
	a.silent()
	require.Eventually(t, func() bool {
		s.cacheMu.Lock()
		defer s.cacheMu.Unlock()
		return len(s.leases) <= 4 // the silent one's, and those of what is made
	}, 20*time.Second, 20*time.Millisecond)
}
