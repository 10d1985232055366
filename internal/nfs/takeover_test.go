package nfs

import (
	"net"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/onc"
	"amber.example/gatekeeper/test/nfsraw"
)

// from connects from an address of this machine.
func from(t *testing.T, address, server string, uid uint32) *nfsraw.Client {
	t.Helper()
	d := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.ParseIP(address)}}
	c, err := d.Dial("tcp", server)
	require.NoError(t, err)
	return nfsraw.On(t, c, uid, 3001)
}

// hello becomes a client of version 4.1 and gives its number and the first number of a session.
func hello(t *testing.T, c *nfsraw.Client, owner string) (status uint32, id uint64, sequence uint32) {
	t.Helper()
	r, err := c.Call(nfsraw.NFS, 4, 1, nfsraw.Compound(1, nfsraw.Op(42, nfsraw.Raw("verifier"), owner, 0, 0, 0)))
	require.NoError(t, err)
	if status, _ = nfsraw.Results(r); status != 0 {
		return status, 0, 0
	}
	nfsraw.Next(r)
	return 0, r.Uint64(), r.Uint32()
}

func createSession(t *testing.T, c *nfsraw.Client, id uint64, sequence uint32) (uint32, []byte) {
	t.Helper()
	channel := []any{0, 1 << 16, 1 << 16, 4096, 16, 4, 0}
	args := append(append(append([]any{id, sequence, 0}, channel...), channel...), 0, 1, 0)
	r, err := c.Call(nfsraw.NFS, 4, 1, nfsraw.Compound(1, nfsraw.Op(43, args...)))
	require.NoError(t, err)
	status, _ := nfsraw.Results(r)
	if status != 0 {
		return status, nil
	}
	nfsraw.Next(r)
	return 0, append([]byte{}, r.Fixed(16)...)
}

// A session is its host's: nothing that another host says gets it, uses it or ends it.
func TestSessionsAreNotTakenOver(t *testing.T) {
	p := newPlace(t)
	addr, stop := p.serve()
	defer stop()
	victim, thief := from(t, "127.0.0.1", addr, piran), from(t, "127.0.0.2", addr, piran)
	status, id, seq := hello(t, victim, "dome1")
	require.Zero(t, status)
	status, session := createSession(t, victim, id, seq)
	require.Zero(t, status)
	again, same := createSession(t, victim, id, seq)
	require.Zero(t, again)
	require.Equal(t, session, same, "asked again by its own host it is told again")

	status, told := createSession(t, thief, id, seq)
	require.NotZero(t, status)
	require.Nil(t, told, "the answer is another host's")
	status, _, _ = hello(t, thief, "dome1")
	require.EqualValues(t, err4ClidInUse, status, "with the same name and verifier")
	for what, ops := range map[string][]func(w *onc.Writer){
		"SEQUENCE":        {nfsraw.Op(53, nfsraw.Raw(session), 1, 0, 0, true)},
		"DESTROY_SESSION": {nfsraw.Op(44, nfsraw.Raw(session))},
		"BIND_CONN":       {nfsraw.Op(41, nfsraw.Raw(session), 1, false)},
		"DESTROY_CLIENT":  {nfsraw.Op(57, id)},
	} {
		r, err := thief.Call(nfsraw.NFS, 4, 1, nfsraw.Compound(1, ops...))
		require.NoError(t, err)
		status, _ := nfsraw.Results(r)
		require.NotZero(t, status, what)
	}
	r, err := victim.Call(nfsraw.NFS, 4, 1, nfsraw.Compound(1, nfsraw.Op(53, nfsraw.Raw(session), 1, 0, 0, true)))
	require.NoError(t, err)
	status, _ = nfsraw.Results(r)
	require.Zero(t, status, "its own host goes on")
}

// Numbers of clients and stateids do not tell the next.
func TestNumbersAreNotGuessed(t *testing.T) {
	p := newPlace(t)
	addr, stop := p.serve()
	defer stop()
	c := from(t, "127.0.0.1", addr, piran)
	seen := make(map[uint64]bool)
	var last uint64
	close := 0
	for i := range 64 {
		status, id, _ := hello(t, c, string(rune('a'+i)))
		require.Zero(t, status)
		require.False(t, seen[id])
		if seen[id] = true; i > 0 && (id-last < 1000 || last-id < 1000) {
			close++
		}
		last = id
	}
	require.Less(t, close, 2)
}

// openAt opens a file by version 4.1 to read and write, and gives its stateid.
func openAt(t *testing.T, c *nfsraw.Client, dir []byte, owner, name string) (fh, stateid []byte) {
	t.Helper()
	status, r := c.Session(nfsraw.Op(22, dir), nfsraw.Op(18, 0, 3, 0, uint64(0), owner, 0, 0, name), nfsraw.Op(10))
	require.Zero(t, status)
	nfsraw.Next(r)
	nfsraw.Next(r)
	stateid = append([]byte{}, r.Fixed(16)...)
	r.Fixed(4 + 8 + 8 + 4) // change_info4, flags
	for range r.Uint32() {
		r.Uint32()
	}
	r.Uint32()
	nfsraw.Next(r)
	return append([]byte{}, r.Opaque(128)...), stateid
}

// What one person of a host has open is of no use to another: they read and write as themselves, and may not close,
// lock or cut short what is not theirs.
func TestAStateidIsItsOpeners(t *testing.T) {
	p := newPlace(t)
	addr, stop := p.serve()
	defer stop()
	c := from(t, "127.0.0.1", addr, piran)
	c.NewSession("dome1")
	fh, stateid := openAt(t, c, c.Mnt("/nightlog"), "piran", "entry")
	as := func(uid uint32, ops ...func(w *onc.Writer)) uint32 {
		c.Cred.UID = uid
		defer func() { c.Cred.UID = piran }()
		status, _ := c.Session(append([]func(w *onc.Writer){nfsraw.Op(22, fh)}, ops...)...)
		return status
	}
	const orla = 2006 // who may add to nightlog and read nothing of it
	id := nfsraw.Raw(stateid)
	for what, op := range map[string]func(w *onc.Writer){
		"READ":           nfsraw.Op(25, id, uint64(0), 4),
		"WRITE":          nfsraw.Op(38, id, uint64(0), 2, "x"),
		"SETATTR":        nfsraw.Op(34, id, 1, 1<<4, []byte{0, 0, 0, 0, 0, 0, 0, 1}),
		"OPEN_DOWNGRADE": nfsraw.Op(21, id, 0, 1, 0),
		"LOCK":           nfsraw.Op(12, 2, false, uint64(0), uint64(1), true, 0, id, 0, uint64(0), "locker"),
		"CLOSE":          nfsraw.Op(4, 0, id),
	} {
		require.EqualValues(t, err4Access, as(orla, op), what)
	}
	require.Zero(t, as(piran, nfsraw.Op(25, id, uint64(0), 4)))
	require.Zero(t, as(piran, nfsraw.Op(38, id, uint64(0), 2, "x")))
	require.Zero(t, as(piran, nfsraw.Op(34, id, 1, 1<<4, []byte{0, 0, 0, 0, 0, 0, 0, 1})))
	require.Zero(t, as(piran, nfsraw.Op(4, 0, id)))
}

// Attributes that come along with other answers are told to those who may see them, and to nobody else.
func TestAttributesDoNotComeAlong(t *testing.T) {
	p := newPlace(t)
	addr, stop := p.serve()
	defer stop()
	c := from(t, "127.0.0.1", addr, piran)
	_, fh := c.Lookup3(c.Mnt("/nightlog"), "entry")
	told := func(procedure uint32, args func(w *onc.Writer)) bool {
		status, r := c.Do(nfsraw.NFS, 3, procedure, func(w *onc.Writer) { w.Opaque(fh); args(w) })
		if procedure == 2 {
			require.NotZero(t, status)
			before, after := r.Bool(), r.Bool()
			return before || after
		}
		return r.Bool()
	}
	access := func(w *onc.Writer) { w.Uint32(0x3f) }
	setMode := func(w *onc.Writer) { nfsraw.Mode3(w, 0o777); w.Bool(false) }
	require.True(t, told(4, access))
	was := p.policy.Load()
	none, err := site.Compile(site.Records{Users: []identity.User{{ID: 1, Name: "piran", UID: piran, NFS: true}}, Volumes: was.Volumes,
		Folders: []site.Folder{{ID: 2, Name: "nightlog", VolumeID: 1, Path: "nightlog"}},
		Exports: []site.Export{{ID: 2, Path: "/nightlog", FolderID: 2, Rules: was.Exports[1].Rules}}, Services: site.Services{NFS: true}})
	require.NoError(t, err)
	p.policy.Store(none)
	require.False(t, told(4, access))
	require.False(t, told(2, setMode))
	require.False(t, told(5, func(*onc.Writer) {}), "READLINK")
}
