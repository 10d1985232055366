package nfs

import (
	"net"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/live"
	"amber.example/gatekeeper/internal/onc"
	"amber.example/gatekeeper/test/nfsraw"
)

// only gives the one session that there is.
func only(t *testing.T, s *Server) live.Session {
	t.Helper()
	all := s.Sessions()
	require.Len(t, all, 1)
	return all[0]
}

// What is taken away from a client of version 4.0 it is told of at its next use (RFC 7530 section 9.1.4.4), and no other client is.
func TestAnOpenIsTakenAwayFromAClientOfVersion40(t *testing.T) {
	p := newPlace(t)
	addr := p.start()
	c := newClient40(t, nfsraw.Dial(t, addr, piran, 3001), "desk")
	_, fh, id, _ := c.open(1, "owner", "entry")
	status, r := c.do(nfsraw.Op(22, fh), nfsraw.Op(20, nfsraw.Raw(id), 2))
	require.Equal(t, ok4, status)
	nfsraw.Next(r)
	nfsraw.Next(r)
	id = append([]byte{}, r.Fixed(16)...)
	other := newClient40(t, nfsraw.Dial(t, addr, piran, 3001), "another")
	_, _, otherID, _ := other.open(1, "owner", "entry")
	read := func(c *client40, id []byte) status4 {
		status, _ := c.do(nfsraw.Op(22, fh), nfsraw.Op(25, nfsraw.Raw(id), uint64(0), 64))
		return status
	}
	require.Equal(t, ok4, read(c, id))

	opens := p.server.Opens()
	require.Len(t, opens, 2)
	mine := opens[0]
	for _, o := range opens {
		require.Equal(t, "entry", o.Path)
		require.EqualValues(t, 2, o.Folder)
		require.EqualValues(t, 1, o.Who.User)
		require.EqualValues(t, piran, *o.Who.UID)
		if o.Since.Before(mine.Since) {
			mine = o
		}
	}
	require.False(t, p.server.CloseOpen("nfs-999999"))
	require.False(t, p.server.CloseOpen("smb-1"))
	require.True(t, p.server.CloseOpen(mine.ID))
	require.False(t, p.server.CloseOpen(mine.ID), "there is none any more")
	require.Equal(t, err4AdminRevoked, read(c, id))
	status, _ = c.do(nfsraw.Op(22, fh), nfsraw.Op(4, 3, nfsraw.Raw(id))) // CLOSE
	require.Equal(t, err4AdminRevoked, status)
	status, _ = other.do(nfsraw.Op(22, fh), nfsraw.Op(25, nfsraw.Raw(otherID), uint64(0), 64))
	require.Equal(t, ok4, status, "another has what it had")
	require.Len(t, p.server.Opens(), 1)
}

// A client of version 4.1 whose session is ended finds its state revoked, frees it and goes on (RFC 8881 section 8.5).
func TestASessionOfVersion41Ends(t *testing.T) {
	p := newPlace(t)
	addr := p.start()
	c := nfsraw.Dial(t, addr, piran, 3001)
	c.NewSession("desk")
	status, r := c.Session(nfsraw.Op(24), nfsraw.Op(15, "nightlog"), nfsraw.Op(18, 0, 3, 0, uint64(0), "owner", 0, 0, "entry"), nfsraw.Op(10))
	require.Zero(t, status)
	for range 3 {
		nfsraw.Next(r)
	}
	id := append([]byte{}, r.Fixed(16)...)
	r.Fixed(20)
	r.Uint32()
	r.Uint32()
	r.Uint32()
	nfsraw.Next(r)
	fh := append([]byte{}, r.Opaque(128)...)
	status, r = c.Session(nfsraw.Op(22, fh), nfsraw.Op(12, 2, false, uint64(0), uint64(10), true, 0, nfsraw.Raw(id), 0, uint64(0), "me")) // LOCK
	require.Zero(t, status)
	nfsraw.Next(r)
	nfsraw.Next(r)
	lock := append([]byte{}, r.Fixed(16)...)
	status, _ = c.Session(nfsraw.Op(22, fh), nfsraw.Op(38, nfsraw.Raw(id), uint64(0), 2, "words")) // WRITE
	require.Zero(t, status)
	require.Zero(t, c.Flags)

	is := only(t, p.server)
	require.Equal(t, "4.1", is.Version)
	require.Equal(t, site.NFS, is.Via)
	require.Equal(t, []string{"/nightlog"}, is.Through)
	require.EqualValues(t, 5, is.Written)
	require.Equal(t, 1, is.Opens)
	require.Equal(t, 1, is.Locks)
	require.Len(t, is.Who, 1)
	require.WithinDuration(t, time.Now(), is.Last, 10*time.Second)
	require.Equal(t, []live.Lock{{Length: 10, Exclusive: true}}, p.server.Opens()[0].Locks)

	require.False(t, p.server.EndSession("nfs-c999"))
	require.True(t, p.server.EndSession(is.ID))
	_, err := c.Call(nfsraw.NFS, 4, 0, func(*onc.Writer) {})
	require.Error(t, err, "the connection is closed")
	require.Empty(t, p.server.Opens())

	again, err := net.Dial("tcp", addr)
	require.NoError(t, err)
	defer again.Close()
	c.Over(again)
	status, r = c.Session(nfsraw.Op(55, 2, nfsraw.Raw(id), nfsraw.Raw(lock))) // TEST_STATEID
	require.Zero(t, status)
	require.EqualValues(t, stateRevoked, c.Flags)
	nfsraw.Next(r)
	require.EqualValues(t, 2, r.Uint32())
	require.EqualValues(t, err4AdminRevoked, r.Uint32())
	require.EqualValues(t, err4AdminRevoked, r.Uint32())
	for _, one := range [][]byte{lock, id} {
		status, _ = c.Session(nfsraw.Op(45, nfsraw.Raw(one))) // FREE_STATEID
		require.Zero(t, status)
	}
	status, _ = c.Session(nfsraw.Op(22, fh), nfsraw.Op(25, nfsraw.Raw(id), uint64(0), 64))
	require.EqualValues(t, err4BadStateID, status)
	require.Zero(t, c.Flags, "all was freed")
	status, _ = c.Session(nfsraw.Op(24), nfsraw.Op(15, "nightlog"), nfsraw.Op(18, 0, 3, 0, uint64(0), "owner", 0, 0, "entry"))
	require.Zero(t, status, "it goes on")
}

// Version 3 knows no sessions: its connection is closed, and what its host has locked is given up.
func TestAConnectionOfVersion3Ends(t *testing.T) {
	p := newPlace(t)
	addr := p.start()
	c := nfsraw.Dial(t, addr, piran, 3001)
	status, fh := c.Lookup3(c.Mnt("/nightlog"), "entry")
	require.Zero(t, status)
	locked := func(c *nfsraw.Client, owner string) uint32 {
		r, err := c.Call(nfsraw.NLM, 4, 2, func(w *onc.Writer) {
			w.String("cookie")
			w.Bool(false)
			w.Bool(true)
			w.String("dome1")
			w.Opaque(fh)
			w.String(owner)
			w.Uint32(1)
			w.Uint64(0)
			w.Uint64(10)
			w.Bool(false)
			w.Uint32(1)
		})
		require.NoError(t, err)
		r.Opaque(64)
		return r.Uint32()
	}
	require.Zero(t, locked(c, "a"))
	require.EqualValues(t, nlmDenied, locked(c, "b"))
	is := only(t, p.server)
	require.Equal(t, "3", is.Version)
	require.Equal(t, 1, is.Locks)
	require.Equal(t, []string{"/nightlog"}, is.Through)
	opens := p.server.Opens()
	require.Len(t, opens, 1)
	require.Equal(t, "entry", opens[0].Path)

	require.True(t, p.server.CloseOpen(opens[0].ID), "the locks alone")
	require.Zero(t, locked(c, "b"))
	require.True(t, p.server.EndSession(is.ID))
	_, err := c.Call(nfsraw.NFS, 3, 0, func(*onc.Writer) {})
	require.Error(t, err)
	require.Eventually(t, func() bool { return len(p.server.Sessions()) == 0 }, 10*time.Second, 10*time.Millisecond)
	require.Empty(t, p.server.Opens())
	require.Zero(t, locked(nfsraw.Dial(t, addr, piran, 3001), "c"))
}
