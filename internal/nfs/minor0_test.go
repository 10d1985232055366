package nfs

import (
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/onc"
	"amber.example/gatekeeper/test/nfsraw"
)

// client40 is a version 4.0 client that has become known.
type client40 struct {
	*nfsraw.Client
	id uint64
}

func (c *client40) do(ops ...func(w *onc.Writer)) (status4, *onc.Reader) {
	r, err := c.Call(nfsraw.NFS, 4, 1, nfsraw.Compound(0, ops...))
	require.NoError(c.T, err)
	status, _ := nfsraw.Results(r)
	return status4(status), r
}

func newClient40(t *testing.T, c *nfsraw.Client, owner string) *client40 {
	x := &client40{Client: c}
	status, r := x.do(nfsraw.Op(35, nfsraw.Raw("verifier"), owner, 0, "tcp", "192.0.2.1.8.1", 0))
	require.Equal(t, ok4, status)
	nfsraw.Next(r)
	x.id = r.Uint64()
	confirm := append([]byte{}, r.Fixed(8)...)
	status, _ = x.do(nfsraw.Op(36, x.id, nfsraw.Raw("wrong..."[:8])))
	require.Equal(t, err4StaleClientID, status)
	status, _ = x.do(nfsraw.Op(36, x.id, nfsraw.Raw(confirm)))
	require.Equal(t, ok4, status)
	return x
}

// open opens a file of nightlog for reading and writing and gives its handle and stateid.
func (c *client40) open(seq int, owner, name string) (status status4, fh, stateid []byte, confirm bool) {
	status, r := c.do(nfsraw.Op(24), nfsraw.Op(15, "nightlog"), nfsraw.Op(18, seq, 3, 0, c.id, owner, 0, 0, name), nfsraw.Op(10))
	if status != ok4 {
		return status, nil, nil, false
	}
	nfsraw.Next(r)
	nfsraw.Next(r)
	nfsraw.Next(r)
	stateid = append([]byte{}, r.Fixed(16)...)
	r.Fixed(20)
	flags := r.Uint32()
	require.Zero(c.T, r.Uint32()) // attributes
	require.Zero(c.T, r.Uint32()) // no delegation
	nfsraw.Next(r)
	return status, append([]byte{}, r.Opaque(128)...), stateid, flags&2 != 0
}

// The sequence of an owner's requests in version 4.0: each once, the last one again, no other (RFC 7530
// section 9.1.7), and nothing of it for another host.
func TestVersion40(t *testing.T) {
	p := newPlace(t)
	addr := p.start()
	c := newClient40(t, nfsraw.Dial(t, addr, piran, 3001), "desk")
	status, fh, id, confirm := c.open(10, "owner", "entry")
	require.Equal(t, ok4, status)
	require.True(t, confirm, "an owner who is new is confirmed first")
	status, r := c.do(nfsraw.Op(22, fh), nfsraw.Op(20, nfsraw.Raw(id), 11))
	require.Equal(t, ok4, status)
	nfsraw.Next(r)
	nfsraw.Next(r)
	id = append([]byte{}, r.Fixed(16)...)

	read := func(c *client40, id []byte) (status4, string) {
		status, r := c.do(nfsraw.Op(22, fh), nfsraw.Op(25, nfsraw.Raw(id), uint64(0), 64))
		if status != ok4 {
			return status, ""
		}
		nfsraw.Next(r)
		nfsraw.Next(r)
		r.Bool()
		return status, r.String(64)
	}
	status, text := read(c, id)
	require.Equal(t, ok4, status)
	require.Equal(t, "text of nightlog/entry", text)

	// Another host, which may mount the same export, cannot use what this one has open, nor speak for it.
	other := newClient40(t, outsider(t, addr), "elsewhere")
	status, _ = read(other, id)
	require.NotEqual(t, ok4, status)
	status, _ = other.do(nfsraw.Op(30, c.id))
	require.Equal(t, err4StaleClientID, status)
	status, _ = other.do(nfsraw.Op(39, c.id, "locker"))
	require.Equal(t, err4StaleClientID, status)
	status, _ = other.do(nfsraw.Op(35, nfsraw.Raw("another!"), "desk", 0, "tcp", "", 0))
	require.Equal(t, err4ClidInUse, status, "nor take its name while it has something open")

	lock := func(openSeq int, id []byte, offset uint64) (status4, []byte) {
		status, r := c.do(nfsraw.Op(22, fh), nfsraw.Op(12, 2, false, offset, uint64(10), true, openSeq, nfsraw.Raw(id), 1, c.id, "locker"))
		if status != ok4 {
			return status, nil
		}
		nfsraw.Next(r)
		nfsraw.Next(r)
		return status, append([]byte{}, r.Fixed(16)...)
	}
	status, _ = lock(99, id, 0)
	require.Equal(t, err4BadSeqID, status)
	status, locked := lock(12, id, 0)
	require.Equal(t, ok4, status)
	status, again := lock(12, id, 0)
	require.Equal(t, ok4, status, "asked again, answered again")
	require.Equal(t, locked, again)
	status, _ = c.do(nfsraw.Op(22, fh), nfsraw.Op(14, 2, 2, nfsraw.Raw(locked), uint64(0), uint64(10)))
	require.Equal(t, ok4, status)
	status, _ = c.do(nfsraw.Op(22, fh), nfsraw.Op(4, 13, nfsraw.Raw(id)))
	require.Equal(t, ok4, status)
	status, _ = read(c, id)
	require.Equal(t, err4BadStateID, status, "closed is closed")

	// What one opens to shut others out, another owner of the same client meets.
	status, r = c.do(nfsraw.Op(24), nfsraw.Op(15, "nightlog"), nfsraw.Op(18, 1, 1, 3, c.id, "first", 0, 0, "entry"))
	require.Equal(t, ok4, status, "%v", r.Err())
	status, _, _, _ = c.open(1, "second", "entry")
	require.Equal(t, err4ShareDenied, status)
	status, r = c.do(nfsraw.Op(53))
	require.Equal(t, err4OpIllegal, status, "version 4.1's are not 4.0's: %v", r.Err())
}
