package nfs

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/binary"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.uber.org/goleak"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/onc"
	"amber.example/gatekeeper/test/nfsraw"
)

func TestMain(m *testing.M) { goleak.VerifyTestMain(m) }

// memory is what outlives a server.
type memory struct {
	mu sync.Mutex
	by map[string]map[string]bool
}

func (m *memory) Remembered(_ context.Context, kind string) (out [][]byte, _ error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for o := range m.by[kind] {
		out = append(out, []byte(o))
	}
	return out, nil
}

func (m *memory) Remember(_ context.Context, kind string, owner []byte) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	if m.by == nil {
		m.by = make(map[string]map[string]bool)
	}
	if m.by[kind] == nil {
		m.by[kind] = make(map[string]bool)
	}
	m.by[kind][string(owner)] = true
	return nil
}

func (m *memory) Forget(_ context.Context, kind string, owner []byte) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	delete(m.by[kind], string(owner))
	return nil
}

// place is a directory with folders, which servers come and go over.
type place struct {
	t      testing.TB
	dir    string
	memory memory
	policy atomic.Pointer[site.Policy]
	// records are what the policy is made from.
	records site.Records
	server  *Server // the last that was started
}

const piran = 2003 // who has group 3001, and so may change nightlog

func newPlace(t testing.TB) *place {
	p := &place{t: t, dir: t.TempDir()}
	for _, dir := range []string{"scratch/2026", "nightlog", "sealed"} {
		require.NoError(t, os.MkdirAll(filepath.Join(p.dir, dir), 0o755))
	}
	for _, file := range []string{"scratch/README.txt", "scratch/2026/list", "nightlog/entry", "sealed/key"} {
		require.NoError(t, os.WriteFile(filepath.Join(p.dir, file), []byte("text of "+file), 0o644))
	}
	here := func(id int64, from string, write bool) []site.ClientRule {
		return []site.ClientRule{{ID: id, From: from, Write: write, Squash: site.SquashRoot, AnonUID: site.Anonymous, AnonGID: site.Anonymous,
			Security: []site.Flavor{site.FlavorSys}, Unknown: site.UnknownNumber}}
	}
	p.records = site.Records{
		Groups:  []identity.Group{{ID: 1, Name: "observers", GID: 3001}},
		Users:   []identity.User{{ID: 1, Name: "piran", UID: piran, Primary: 1, NFS: true}, {ID: 2, Name: "orla", UID: 2006, NFS: true}},
		Volumes: []site.Volume{{ID: 1, Name: "v", Path: p.dir}},
		Folders: []site.Folder{{ID: 1, Name: "scratch", VolumeID: 1, Path: "scratch", Permissions: site.ByMode, Owner: 1, Group: 1},
			{ID: 2, Name: "nightlog", VolumeID: 1, Path: "nightlog", Rules: []acl.Rule{{Entries: []acl.Entry{
				{ID: 1, Who: identity.GroupPrincipal(1), Level: acl.Change, Applies: acl.Everywhere}, {ID: 2, Who: identity.UserPrincipal(2), Level: acl.Add, Applies: acl.Everywhere}}}}},
			{ID: 3, Name: "sealed", VolumeID: 1, Path: "sealed", Permissions: site.ByMode}},
		Exports: []site.Export{{ID: 1, Path: "/scratch", FolderID: 1, Rules: here(1, "127.0.0.1", true)},
			{ID: 2, Path: "/nightlog", FolderID: 2, Rules: here(2, "127.0.0.0/8", true)},
			{ID: 3, Path: "/sealed", FolderID: 3, Rules: here(3, "192.0.2.1", true)},
			{ID: 4, Path: "/sky/year", FolderID: 1, Below: "2026", Sync: true, Rules: here(4, "127.0.0.1", true)}},
		Services: site.Services{NFS: true},
	}
	policy, err := site.Compile(p.records)
	require.NoError(t, err)
	p.policy.Store(policy)
	return p
}

// serve starts a server and gives its address and what ends it.
func (p *place) serve() (string, func()) {
	current := p.policy.Load
	key := sha256.Sum256([]byte("key"))
	s, err := NewServer(Config{Policy: current, Files: files.New(current, nil), Key: key[:], Memory: &p.memory, Lease: 2 * time.Second,
		Names: func(context.Context, netip.Addr) ([]string, bool) { return nil, true }, Log: slog.New(slog.NewTextHandler(io.Discard, nil))})
	require.NoError(p.t, err)
	p.server = s
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(p.t, err)
	done := make(chan error)
	go func() { done <- s.Serve(l) }()
	return l.Addr().String(), sync.OnceFunc(func() {
		l.Close()
		s.Close()
		<-done
	})
}

func (p *place) start() string {
	addr, stop := p.serve()
	p.t.Cleanup(stop)
	return addr
}

// outsider connects from an address that only nightlog lets in.
func outsider(t testing.TB, addr string) *nfsraw.Client {
	d := net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 0, 2)}}
	c, err := d.Dial("tcp", addr)
	require.NoError(t, err)
	return nfsraw.On(t, c, piran, 3001)
}

func getAttr(fh []byte) func(w *onc.Writer) { return func(w *onc.Writer) { w.Opaque(fh) } }

func TestHandlesOutliveRestartsAndRenames(t *testing.T) {
	p := newPlace(t)
	addr, stop := p.serve()
	c := nfsraw.Dial(t, addr, piran, 3001)
	root := c.Mnt("/scratch")
	_, dir := c.Lookup3(root, "2026")
	_, list := c.Lookup3(dir, "list")
	_, readme := c.Lookup3(root, "README.txt")
	status, _ := c.Do(nfsraw.NFS, 3, 14, func(w *onc.Writer) { w.Opaque(root); w.String("2026"); w.Opaque(root); w.String("year") })
	require.Zero(t, status)
	for _, fh := range [][]byte{root, dir, list} {
		status, _ = c.Do(nfsraw.NFS, 3, 1, getAttr(fh))
		require.Zero(t, status)
	}
	verifier := func(c *nfsraw.Client) uint64 {
		status, r := c.Do(nfsraw.NFS, 3, 7, func(w *onc.Writer) {
			w.Opaque(list)
			w.Uint64(0)
			w.Uint32(4)
			w.Uint32(0)
			w.Opaque([]byte("TEXT"))
		})
		require.Zero(t, status)
		b := r.Rest()
		return binary.BigEndian.Uint64(b[len(b)-8:])
	}
	was := verifier(c)
	stop()

	// While it is down: a file is moved, another one takes the place of one that was there.
	require.NoError(t, os.Rename(filepath.Join(p.dir, "scratch/year/list"), filepath.Join(p.dir, "scratch/elsewhere")))
	require.NoError(t, os.Remove(filepath.Join(p.dir, "scratch/README.txt")))
	require.NoError(t, os.WriteFile(filepath.Join(p.dir, "scratch/README.txt"), []byte("another"), 0o644))
	c = nfsraw.Dial(t, p.start(), piran, 3001)
	for _, fh := range [][]byte{list, dir, root} {
		status, _ = c.Do(nfsraw.NFS, 3, 1, getAttr(fh))
		require.Zero(t, status)
	}
	require.NotEqual(t, was, verifier(c), "what was unstable has to be sent again")
	_, again := c.Lookup3(root, "elsewhere")
	require.Equal(t, list, again)
	for range 3 {
		status, _ = c.Do(nfsraw.NFS, 3, 1, getAttr(readme))
		if status != uint32(err3Jukebox) {
			require.EqualValues(t, err3Stale, status)
		}
	}
	status, _ = c.Do(nfsraw.NFS, 3, 12, func(w *onc.Writer) { w.Opaque(root); w.String("elsewhere") })
	require.Zero(t, status)
	status, _ = c.Do(nfsraw.NFS, 3, 1, getAttr(list))
	require.EqualValues(t, err3Stale, status)
}

func TestHandlesCannotBeMadeUp(t *testing.T) {
	p := newPlace(t)
	c := nfsraw.Dial(t, p.start(), piran, 3001)
	fh := c.Mnt("/scratch")
	for i := range fh {
		forged := bytes.Clone(fh)
		forged[i] ^= 1
		status, _ := c.Do(nfsraw.NFS, 3, 1, getAttr(forged))
		require.EqualValues(t, err3BadHandle, status)
	}
	for _, forged := range [][]byte{{}, fh[:len(fh)-1], append(bytes.Clone(fh), 0), make([]byte, 64)} {
		status, _ := c.Do(nfsraw.NFS, 3, 1, getAttr(forged))
		require.EqualValues(t, err3BadHandle, status)
	}
	// An export that begins below its folder: what is above is out of reach.
	year := c.Mnt("/sky/year")
	status, up := c.Lookup3(year, "..")
	require.Zero(t, status)
	require.Equal(t, year, up)
	status, _ = c.Do(nfsraw.NFS, 3, 14, func(w *onc.Writer) { w.Opaque(year); w.String("list"); w.Opaque(fh); w.String("taken") })
	require.EqualValues(t, err3XDev, status)
	// And what is moved out of it is gone from there, though not from the folder.
	_, list := c.Lookup3(year, "list")
	_, dir := c.Lookup3(fh, "2026")
	status, _ = c.Do(nfsraw.NFS, 3, 14, func(w *onc.Writer) { w.Opaque(dir); w.String("list"); w.Opaque(fh); w.String("out") })
	require.Zero(t, status)
	status, _ = c.Do(nfsraw.NFS, 3, 1, getAttr(list))
	require.EqualValues(t, err3Stale, status)
}

func TestOutsidersLearnNothing(t *testing.T) {
	p := newPlace(t)
	addr := p.start()
	inside, out := nfsraw.Dial(t, addr, piran, 3001), outsider(t, addr)
	fh := inside.Mnt("/scratch")
	for _, path := range []string{"/scratch", "/sealed", "/nothing", "/scratch/2026", "/sky"} {
		status, _ := out.Do(nfsraw.Mount, 3, 1, func(w *onc.Writer) { w.String(path) })
		require.EqualValues(t, mntAcces, status, path)
	}
	status, _ := out.Do(nfsraw.NFS, 3, 1, getAttr(fh))
	require.EqualValues(t, err3Acces, status, "another host's handle is of no use")
	exports := func(c *nfsraw.Client) (out []string) {
		r, err := c.Call(nfsraw.Mount, 3, 5, nil)
		require.NoError(t, err)
		for r.Bool() {
			out = append(out, r.String(1024))
			require.True(t, r.Bool())
			require.Equal(t, c.C.LocalAddr().(*net.TCPAddr).IP.String(), r.String(255), "to itself, and it is not told to whom else")
			require.False(t, r.Bool())
		}
		return out
	}
	require.Equal(t, []string{"/nightlog"}, exports(out))
	require.Equal(t, []string{"/nightlog", "/scratch", "/sky/year"}, exports(inside))

	// Version 4: the pseudo-root shows a host what leads to what it may mount.
	names := func(c *nfsraw.Client, ops ...func(w *onc.Writer)) (out []string) {
		ops = append(append([]func(w *onc.Writer){nfsraw.Op(24)}, ops...), nfsraw.Op(26, uint64(0), uint64(0), 4096, 4096, 0))
		status, r := c.Session(ops...)
		require.Zero(t, status)
		for range ops[1:] {
			nfsraw.Next(r)
		}
		nfsraw.Next(r)
		r.Uint64()
		for r.Bool() {
			r.Uint64()
			out = append(out, r.String(255))
			require.Zero(t, r.Uint32())
			r.Opaque(0)
		}
		return out
	}
	inside.NewSession("inside")
	out.NewSession("outside")
	require.Equal(t, []string{"nightlog", "scratch", "sky"}, names(inside))
	require.Equal(t, []string{"year"}, names(inside, nfsraw.Op(15, "sky")))
	require.Equal(t, []string{"nightlog"}, names(out))
	status, _ = out.Session(nfsraw.Op(24), nfsraw.Op(15, "scratch"))
	require.EqualValues(t, err4NoEnt, status)

	// A host that no rule matches gets no answer to anything.
	p.policy.Store(withoutRules(t, p))
	r, err := out.Call(nfsraw.NFS, 4, 1, nfsraw.Compound(1, out.Sequence(), nfsraw.Op(24)))
	require.ErrorIs(t, err, onc.ErrRefused, "%v", r)
}

func withoutRules(t *testing.T, p *place) *site.Policy {
	q, err := site.Compile(site.Records{Volumes: p.policy.Load().Volumes, Services: site.Services{NFS: true}})
	require.NoError(t, err)
	return q
}

// What no client should send is answered by the standard's error, or by the end of the connection.
func TestHostileCalls(t *testing.T) {
	p := newPlace(t)
	addr := p.start()
	c := nfsraw.Dial(t, addr, piran, 3001)
	root := c.Mnt("/scratch")
	_, readme := c.Lookup3(root, "README.txt")
	_, dir := c.Lookup3(root, "2026")
	create := func(name string) func(w *onc.Writer) {
		return func(w *onc.Writer) { w.Opaque(root); w.String(name); w.Uint32(0); nfsraw.Mode3(w, 0o644) }
	}
	cookie := func(dir []byte, cookie, verifier uint64) func(w *onc.Writer) {
		return func(w *onc.Writer) {
			w.Opaque(dir)
			w.Uint64(cookie)
			w.Uint64(verifier)
			w.Uint32(4096)
		}
	}
	_, r := c.Do(nfsraw.NFS, 3, 16, cookie(root, 0, 0))
	require.True(t, r.Bool())
	r.Fixed(84)
	verifier := r.Uint64()
	for name, call := range map[string]struct {
		procedure uint32
		args      func(w *onc.Writer)
		want      status3
	}{
		"slash in a name":         {8, create("a/b"), err3Inval},
		"NUL in a name":           {8, create("a\x00b"), err3Inval},
		"no name":                 {8, create(""), err3Inval},
		"a name not UTF-8":        {8, create("\xff"), ok3},
		"dot dot":                 {8, create(".."), err3Exist},
		"a long name":             {8, create(strings.Repeat("x", 256)), err3NameTooLong},
		"remove dot":              {13, func(w *onc.Writer) { w.Opaque(root); w.String(".") }, err3Inval},
		"lookup in a file":        {3, func(w *onc.Writer) { w.Opaque(readme); w.String("x") }, err3NotDir},
		"read a directory":        {6, func(w *onc.Writer) { w.Opaque(root); w.Uint64(0); w.Uint32(9) }, err3IsDir},
		"read far out":            {6, func(w *onc.Writer) { w.Opaque(readme); w.Uint64(1 << 63); w.Uint32(9) }, err3Inval},
		"4 GB to read":            {6, func(w *onc.Writer) { w.Opaque(readme); w.Uint64(0); w.Uint32(^uint32(0)) }, ok3},
		"write far out":           {7, func(w *onc.Writer) { w.Opaque(readme); w.Uint64(1<<63 - 1); w.Uint32(1); w.Uint32(0); w.String("x") }, err3FBig},
		"a device":                {11, func(w *onc.Writer) { w.Opaque(root); w.String("d"); w.Uint32(4); nfsraw.Mode3(w, 0o644); w.Uint64(0) }, err3NotSupp},
		"a kind that is none":     {11, func(w *onc.Writer) { w.Opaque(root); w.String("d"); w.Uint32(1) }, err3BadType},
		"another's cookie":        {16, cookie(dir, 1, verifier), err3BadCookie},
		"a cookie made up":        {16, cookie(root, 1<<62, verifier), ok3},
		"no room for a name":      {16, func(w *onc.Writer) { w.Opaque(root); w.Uint64(0); w.Uint64(0); w.Uint32(8) }, err3TooSmall},
		"4 GB to list":            {16, func(w *onc.Writer) { w.Opaque(root); w.Uint64(0); w.Uint64(0); w.Uint32(^uint32(0)) }, ok3},
		"a link to a directory":   {15, func(w *onc.Writer) { w.Opaque(root); w.Opaque(root); w.String("x") }, err3IsDir},
		"a directory into itself": {14, func(w *onc.Writer) { w.Opaque(root); w.String("2026"); w.Opaque(dir); w.String("x") }, err3Inval},
		"readlink of a file":      {5, getAttr(readme), err3Inval},
		"an enormous file":        {2, func(w *onc.Writer) { w.Opaque(readme); sizeOnly(w, 1<<63); w.Bool(false) }, err3NoSpc},
		"not as it was":           {2, func(w *onc.Writer) { w.Opaque(readme); sizeOnly(w, 0); w.Bool(true); w.Uint64(7) }, err3NotSync},
	} {
		status, _ := c.Do(nfsraw.NFS, 3, call.procedure, call.args)
		require.Equal(t, call.want, status3(status), name)
	}
	for name, refused := range map[string][3]uint32{"program": {4711, 3, 0}, "version": {nfsraw.NFS, 2, 0}, "version of mount": {nfsraw.Mount, 1, 0}, "procedure": {nfsraw.NFS, 3, 22}} {
		_, err := c.Call(refused[0], refused[1], refused[2], nil)
		require.ErrorIs(t, err, onc.ErrRefused, name)
	}
	for procedure := range uint32(22) { // arguments that end at once
		if procedure > 0 {
			_, err := c.Call(nfsraw.NFS, 3, procedure, nil)
			require.ErrorIs(t, err, onc.ErrRefused)
		}
	}
	c.NewSession("hostile")
	for name, call := range map[string]struct {
		ops  []func(w *onc.Writer)
		want status4
	}{
		"no handle":                  {[]func(w *onc.Writer){nfsraw.Op(9, 0)}, err4NoFileHandle},
		"an operation that is none":  {[]func(w *onc.Writer){nfsraw.Op(4711)}, err4OpIllegal},
		"SEQUENCE again":             {[]func(w *onc.Writer){nfsraw.Op(53)}, err4SequencePos},
		"dot dot":                    {[]func(w *onc.Writer){nfsraw.Op(24), nfsraw.Op(15, "..")}, err4BadName},
		"slash":                      {[]func(w *onc.Writer){nfsraw.Op(24), nfsraw.Op(15, "a/b")}, err4BadChar},
		"not UTF-8":                  {[]func(w *onc.Writer){nfsraw.Op(24), nfsraw.Op(15, "\xff")}, err4NoEnt},
		"a forged handle":            {[]func(w *onc.Writer){nfsraw.Op(22, make([]byte, 41))}, err4BadHandle},
		"making at the top":          {[]func(w *onc.Writer){nfsraw.Op(24), nfsraw.Op(28, "scratch")}, err4ROFS},
		"above the top":              {[]func(w *onc.Writer){nfsraw.Op(24), nfsraw.Op(16)}, err4NoEnt},
		"a stateid made up":          {[]func(w *onc.Writer){nfsraw.Op(22, readme), nfsraw.Op(25, nfsraw.Raw(make([]byte, 15)), nfsraw.Raw{7}, uint64(0), 9)}, err4BadStateID},
		"reserved cookie":            {[]func(w *onc.Writer){nfsraw.Op(22, root), nfsraw.Op(26, uint64(2), uint64(0), 4096, 4096, 0)}, err4BadCookie},
		"another directory's cookie": {[]func(w *onc.Writer){nfsraw.Op(22, root), nfsraw.Op(26, uint64(5), uint64(9), 4096, 4096, 0)}, err4BadCookie},
		"an attribute only to read":  {[]func(w *onc.Writer){nfsraw.Op(22, readme), nfsraw.Op(34, nfsraw.Raw(make([]byte, 16)), 1, 2, []byte{0, 0, 0, 1})}, err4Inval},
		"a lock of no length":        {[]func(w *onc.Writer){nfsraw.Op(22, readme), nfsraw.Op(13, 1, uint64(0), uint64(0), uint64(0), "me")}, err4Inval},
	} {
		status, _ := c.Session(call.ops...)
		require.Equal(t, call.want, status4(status), name)
	}
	r, err := c.Call(nfsraw.NFS, 4, 1, nfsraw.Compound(2))
	require.NoError(t, err)
	status, _ := nfsraw.Results(r)
	require.EqualValues(t, err4MinorVersMismatch, status)
	require.NoFileExists(t, filepath.Join(p.dir, "b"))
}

func sizeOnly(w *onc.Writer, size uint64) {
	for range 3 {
		w.Bool(false)
	}
	w.Bool(true)
	w.Uint64(size)
	w.Uint32(0)
	w.Uint32(0)
}

// Records that never end, or are longer than any may be, end the connection and hold no memory.
func TestHostileRecords(t *testing.T) {
	p := newPlace(t)
	addr := p.start()
	ends := func(what string, send func(c net.Conn)) {
		d := net.Dialer{}
		c, err := d.Dial("tcp", addr)
		require.NoError(t, err)
		defer c.Close()
		require.NoError(t, c.SetDeadline(time.Now().Add(2*time.Minute)))
		send(c)
		_, err = io.Copy(io.Discard, c)
		var timeout net.Error
		require.False(t, err != nil && asTimeout(err, &timeout), "%s: the connection stays", what)
	}
	mark := func(n uint32) []byte { return binary.BigEndian.AppendUint32(nil, n) }
	ends("2 GB", func(c net.Conn) { _, _ = c.Write(mark(1<<31 | 0x7fffffff)) })
	ends("2 MB", func(c net.Conn) { _, _ = c.Write(mark(1<<31 | 2<<20)) })
	ends("fragments without end", func(c net.Conn) {
		for range 2000 {
			if _, err := c.Write(append(mark(1), 0)); err != nil {
				return
			}
		}
	})
	ends("empty fragments", func(c net.Conn) {
		for range 2000 {
			if _, err := c.Write(mark(0)); err != nil {
				return
			}
		}
	})
	ends("not a call", func(c net.Conn) { _, _ = c.Write(append(mark(1<<31|12), []byte("GET / HTTP/1")...)) })

	// A hundred connections that each say they will send a megabyte, and do not.
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	var conns []net.Conn
	for range 100 {
		c, err := net.Dial("tcp", addr)
		require.NoError(t, err)
		_, err = c.Write(mark(1<<31 | 60<<10))
		require.NoError(t, err)
		conns = append(conns, c)
	}
	c := nfsraw.Dial(t, addr, piran, 3001)
	c.Mnt("/scratch")
	runtime.ReadMemStats(&after)
	require.Less(t, int64(after.HeapAlloc)-int64(before.HeapAlloc), int64(32<<20))
	for _, c := range conns {
		c.Close()
	}
}

func asTimeout(err error, to *net.Error) bool {
	ne, ok := err.(net.Error)
	*to = ne
	return ok && ne.Timeout()
}

// A call in several fragments is one call.
func TestFragments(t *testing.T) {
	p := newPlace(t)
	c := nfsraw.Dial(t, p.start(), piran, 3001)
	w := &onc.Writer{}
	onc.AppendCall(w, 7, nfsraw.Mount, 3, 1, c.Cred)
	w.String("/scratch")
	for i, b := range w.B {
		n := uint32(1)
		if i == len(w.B)-1 {
			n |= 1 << 31
		}
		_, err := c.C.Write(append(binary.BigEndian.AppendUint32(nil, n), b))
		require.NoError(t, err)
	}
	r, err := c.Receive(nil)
	require.NoError(t, err)
	require.Zero(t, r.Uint32())
}

func TestSlotsAnswerAgain(t *testing.T) {
	p := newPlace(t)
	c := nfsraw.Dial(t, p.start(), piran, 3001)
	c.NewSession("slots")
	make1 := func(name string) []func(w *onc.Writer) {
		return []func(w *onc.Writer){nfsraw.Op(24), nfsraw.Op(15, "scratch"), nfsraw.Op(6, 2, name, 0, 0)}
	}
	send := func(seq, slot uint32, ops ...func(w *onc.Writer)) (status4, []byte) {
		r, err := c.Call(nfsraw.NFS, 4, 1, nfsraw.Compound(1, append([]func(w *onc.Writer){c.SequenceOf(seq, slot)}, ops...)...))
		require.NoError(t, err)
		all := bytes.Clone(r.Rest())
		status, _ := nfsraw.Results(r)
		return status4(status), all
	}
	status, first := send(1, 3, make1("made")...)
	require.Equal(t, ok4, status)
	status, again := send(1, 3, make1("made")...)
	require.Equal(t, ok4, status, "a directory is not made twice: the first answer stands")
	require.Equal(t, first, again)
	status, _ = send(1, 3, make1("other")...)
	require.Equal(t, err4SeqFalseRetry, status)
	require.NoDirExists(t, filepath.Join(p.dir, "scratch/other"))
	for seq, want := range map[uint32]status4{3: err4SeqMisordered, 0: err4SeqMisordered} {
		status, _ = send(seq, 3, nfsraw.Op(24))
		require.Equal(t, want, status)
	}
	status, _ = send(1, 1000, nfsraw.Op(24))
	require.Equal(t, err4BadSlot, status)

	// Version 3 has its own memory, by the call's number, on the same connection.
	root := c.Mnt("/scratch")
	for range 2 {
		w := &onc.Writer{B: make([]byte, 4)}
		onc.AppendCall(w, 4711, nfsraw.NFS, 3, 13, c.Cred)
		w.Opaque(root)
		w.String("made")
		binary.BigEndian.PutUint32(w.B, 1<<31|uint32(len(w.B)-4))
		_, err := c.C.Write(w.B)
		require.NoError(t, err)
		r, err := c.Receive(nil)
		require.NoError(t, err)
		require.Zero(t, r.Uint32(), "a directory is not missing because it was removed a moment ago")
	}
}

// Opening what is not there under ever new names leaves nothing behind, and who opens and who locks are bounded for an address.
func TestOwnersAreBounded(t *testing.T) {
	st := &state{ownersOf: make(map[netip.Addr]int), clients: make(map[uint64]*client4)}
	address := netip.MustParseAddr("192.0.2.1")
	var clients []*client4
	for id := range uint64(6) {
		c := &client4{id: id, minor: 1, address: address, owners: make(map[string]*openOwner), lockers: make(map[string]*lockOwner), locks: make(map[[12]byte]*lock4)}
		st.clients[id] = c
		clients = append(clients, c)
	}
	full := func(c *client4, opens int) (n int) {
		for i := 0; st.moreOwners(c); i++ {
			c.owners[fmt.Sprint(c.id, "/", i)] = &openOwner{client: c, opens: opens}
			n++
			require.LessOrEqual(t, n, 3*mostOwners)
			if n == 3*mostOwners {
				break
			}
		}
		return n
	}
	require.Equal(t, 3*mostOwners, full(clients[0], 0), "those that have nothing open make room")
	require.LessOrEqual(t, st.owners, mostOwners)
	st.forgetOwner(clients[0], "0/1")
	for name := range clients[0].owners {
		st.forgetOwner(clients[0], name)
	}
	require.Zero(t, st.owners)
	for i := range 4 {
		require.Equal(t, mostOwners, full(clients[i], 1))
	}
	require.Zero(t, full(clients[4], 1), "another client of the same address")
	other := &client4{id: 99, address: netip.MustParseAddr("192.0.2.2"), owners: make(map[string]*openOwner), lockers: make(map[string]*lockOwner), locks: make(map[[12]byte]*lock4)}
	st.clients[99] = other
	require.Equal(t, mostOwners, full(other, 1), "one of another")
	clients[0].owners = map[string]*openOwner{"0": {opens: 1}}
	st.fewerOwners(clients[0], mostOwners-1)
	for i := range mostOwners - 1 {
		_, s := st.locker(clients[0], fmt.Sprint(i))
		require.Equal(t, ok4, s)
	}
	held, _ := st.locker(clients[0], "7")
	clients[0].locks[[12]byte{1}] = &lock4{owner: held}
	_, s := st.locker(clients[0], "one more")
	require.Equal(t, ok4, s, "those who have no lock left make room")
	require.Same(t, held, clients[0].lockers["7"])
	require.Len(t, clients[0].lockers, 2)
}

// Who is let in nowhere takes no place among the answers that are kept, and does not stay.
func TestStrangersTakeNoPlace(t *testing.T) {
	p := newPlace(t)
	addr := p.start()
	c := nfsraw.Dial(t, addr, piran, 3001)
	root := c.Mnt("/nightlog")
	r := *p.policy.Load()
	mkdir := func(name string) uint32 {
		t.Helper()
		w := &onc.Writer{}
		w.Opaque(root)
		w.String(name)
		for range 6 {
			w.Uint32(0)
		}
		r, err := c.Call(nfsraw.NFS, 3, 9, func(out *onc.Writer) { out.B = append(out.B, w.B...) })
		require.NoError(t, err)
		return r.Uint32()
	}
	require.Zero(t, mkdir("mine"))
	before := p.server.replies.used.Len()
	require.Positive(t, before)
	shut := r
	shut.Services.NFS = false
	p.policy.Store(&shut)
	for i := range 50 {
		require.NotZero(t, mkdir(fmt.Sprint("theirs", i)))
	}
	require.Equal(t, before, p.server.replies.used.Len())
}

// Sessions by the million, clients by the million: there is an end to them.
func TestStateIsBounded(t *testing.T) {
	p := newPlace(t)
	c := nfsraw.Dial(t, p.start(), piran, 3001)
	refused := 0
	for i := range mostOfAddress + 50 {
		r, err := c.Call(nfsraw.NFS, 4, 1, nfsraw.Compound(1, nfsraw.Op(42, nfsraw.Raw("verifier"), fmt.Sprint("owner", i), 0, 0, 0)))
		require.NoError(t, err)
		if status, _ := nfsraw.Results(r); status != 0 {
			require.EqualValues(t, err4Delay, status)
			refused++
		}
	}
	require.Equal(t, 50, refused)

	c = nfsraw.Dial(t, p.start(), piran, 3001)
	r, err := c.Call(nfsraw.NFS, 4, 1, nfsraw.Compound(1, nfsraw.Op(42, nfsraw.Raw("verifier"), "one", 0, 0, 0)))
	require.NoError(t, err)
	nfsraw.Results(r)
	nfsraw.Next(r)
	id, seq := r.Uint64(), r.Uint32()
	made := 0
	for range mostSessions + 10 {
		channel := []any{0, 1 << 20, 1 << 20, 1 << 20, 1 << 20, 1 << 20, 0}
		args := append(append(append([]any{id, seq, 0}, channel...), channel...), 0, 1, 0)
		r, err := c.Call(nfsraw.NFS, 4, 1, nfsraw.Compound(1, nfsraw.Op(43, args...)))
		require.NoError(t, err)
		if status, _ := nfsraw.Results(r); status == 0 {
			made++
			seq++
			nfsraw.Next(r)
			r.Fixed(16 + 8)
			r.Uint32()
			for _, most := range []uint32{mostRecordOfSession, mostRecordOfSession, mostCached, mostOps, mostSlots} {
				require.LessOrEqual(t, r.Uint32(), most)
			}
		} else {
			require.EqualValues(t, err4NoSpc, status)
		}
	}
	require.Equal(t, mostSessions, made)
}

const mostRecordOfSession = onc.MostData + 32<<10

// Who has a file open when the server goes away gets it back first; others wait until then.
func TestReclaimAfterRestart(t *testing.T) {
	p := newPlace(t)
	addr, stop := p.serve()
	c := nfsraw.Dial(t, addr, piran, 3001)
	c.NewSession("keeper of state")
	open := func(c *nfsraw.Client, claim ...any) uint32 {
		args := append([]any{0, 3, 0, uint64(0), "owner", 0}, claim...)
		status, _ := c.Session(nfsraw.Op(24), nfsraw.Op(15, "scratch"), nfsraw.Op(18, args...))
		return status
	}
	require.Zero(t, open(c, 0, "README.txt"))
	_, readme := c.Lookup3(c.Mnt("/scratch"), "README.txt")
	stop()

	addr = p.start()
	stranger, back := nfsraw.Dial(t, addr, piran, 3001), nfsraw.Dial(t, addr, piran, 3001)
	stranger.NewSession("stranger")
	require.EqualValues(t, err4Grace, open(stranger, 0, "README.txt"))
	require.EqualValues(t, err4NoGrace, reclaim(stranger, readme), "it had nothing to reclaim")
	back.NewSessionUnfinished("keeper of state")
	require.Zero(t, reclaim(back, readme))
	status, _ := back.Session(nfsraw.Op(58, false))
	require.Zero(t, status)
	require.Zero(t, open(stranger, 0, "README.txt"), "the one who had something is done, so nobody waits longer")
	require.EqualValues(t, err4NoGrace, reclaim(back, readme))
}

func reclaim(c *nfsraw.Client, fh []byte) uint32 {
	status, _ := c.Session(nfsraw.Op(22, fh), nfsraw.Op(18, 0, 3, 0, uint64(0), "owner", 0, 1, 0))
	return status
}

// What the export demands of every write, and what a client may ask for.
func TestStability(t *testing.T) {
	p := newPlace(t)
	c := nfsraw.Dial(t, p.start(), piran, 3001)
	committed := func(export string, stable uint32) uint32 {
		status, fh := c.Create3(c.Mnt(export), fmt.Sprint("f", stable))
		require.Zero(t, status)
		status, r := c.Do(nfsraw.NFS, 3, 7, func(w *onc.Writer) {
			w.Opaque(fh)
			w.Uint64(0)
			w.Uint32(1)
			w.Uint32(stable)
			w.Opaque([]byte("x"))
		})
		require.Zero(t, status)
		b := r.Rest()
		return binary.BigEndian.Uint32(b[len(b)-12:])
	}
	for stable := range uint32(3) {
		require.Equal(t, stable, committed("/scratch", stable))
		require.EqualValues(t, files.FileSync, committed("/sky/year", stable), "the export wants it at once")
	}
}

// Who may only add can fill what they make, and alter nothing that is there.
func TestAddingOverNFS(t *testing.T) {
	p := newPlace(t)
	c := nfsraw.Dial(t, p.start(), 2006, 3001)
	root := c.Mnt("/nightlog")
	write := func(fh []byte) uint32 {
		status, _ := c.Do(nfsraw.NFS, 3, 7, func(w *onc.Writer) {
			w.Opaque(fh)
			w.Uint64(0)
			w.Uint32(4)
			w.Uint32(0)
			w.Opaque([]byte("data"))
		})
		return status
	}
	status, mine := c.Create3(root, "mine")
	require.Zero(t, status)
	require.Zero(t, write(mine))
	status, there := c.Lookup3(root, "entry")
	require.Zero(t, status)
	require.EqualValues(t, err3Acces, write(there))
	status, _ = c.Do(nfsraw.NFS, 3, 12, func(w *onc.Writer) { w.Opaque(root); w.String("entry") })
	require.EqualValues(t, err3Acces, status)
	other := nfsraw.Dial(t, c.C.RemoteAddr().String(), 4242, 3001)
	status, _ = other.Do(nfsraw.NFS, 3, 6, func(w *onc.Writer) { w.Opaque(there); w.Uint64(0); w.Uint32(9) })
	require.EqualValues(t, err3Acces, status, "a bare number is nobody where entries decide")
}

// Many clients at once, on the same few names, by every version, while directories move about: nothing
// waits for itself, nothing is lost count of.
func TestManyAtOnce(t *testing.T) {
	p := newPlace(t)
	addr := p.start()
	var clients sync.WaitGroup
	for n := range 8 {
		clients.Add(1)
		c := nfsraw.Dial(t, addr, piran, 3001)
		root := c.Mnt("/scratch")
		c.NewSession(fmt.Sprint("client", n))
		go func() {
			defer clients.Done()
			rng := rand.New(rand.NewPCG(uint64(n), 1))
			names := []string{"a", "b", "c"}
			for range 300 {
				name, other := names[rng.IntN(3)], names[rng.IntN(3)]
				call := func(procedure uint32, args func(w *onc.Writer)) {
					if _, err := c.Call(nfsraw.NFS, 3, procedure, args); err != nil {
						t.Error(err)
					}
				}
				in := func(w *onc.Writer) { w.Opaque(root); w.String(name) }
				switch rng.IntN(7) {
				case 0:
					call(8, func(w *onc.Writer) { in(w); w.Uint32(0); nfsraw.Mode3(w, 0o644) })
				case 1:
					call(9, func(w *onc.Writer) { in(w); nfsraw.Mode3(w, 0o755) })
				case 2:
					call(14, func(w *onc.Writer) { in(w); w.Opaque(root); w.String(other) })
				case 3:
					call(12, in)
					call(13, in)
				case 4:
					r, err := c.Call(nfsraw.NFS, 3, 3, in)
					if err != nil {
						t.Error(err)
					} else if r.Uint32() == 0 {
						fh := append([]byte{}, r.Opaque(64)...)
						call(7, func(w *onc.Writer) { w.Opaque(fh); w.Uint64(0); w.Uint32(4); w.Uint32(0); w.String("data") })
						call(6, func(w *onc.Writer) { w.Opaque(fh); w.Uint64(0); w.Uint32(9) })
						call(8, func(w *onc.Writer) { w.Opaque(fh); w.String(other); w.Uint32(0); nfsraw.Mode3(w, 0o644) })
					}
				case 5:
					call(17, func(w *onc.Writer) { w.Opaque(root); w.Uint64(0); w.Uint64(0); w.Uint32(4096); w.Uint32(4096) })
				case 6:
					args := nfsraw.Compound(1, c.Sequence(), nfsraw.Op(24), nfsraw.Op(15, "scratch"), nfsraw.Op(18, 0, 3, 0, uint64(0), "owner", 1, 0, 0, 0, 0, name))
					r, err := c.Call(nfsraw.NFS, 4, 1, args)
					if err != nil {
						t.Error(err)
						return
					}
					if status, _ := nfsraw.Results(r); status == 0 {
						nfsraw.Next(r)
						r.Fixed(36)
						nfsraw.Next(r)
						nfsraw.Next(r)
						nfsraw.Next(r)
						id := append([]byte{}, r.Fixed(16)...)
						if _, err := c.Call(nfsraw.NFS, 4, 1, nfsraw.Compound(1, c.Sequence(), nfsraw.Op(22, root), nfsraw.Op(4, 0, nfsraw.Raw(id)))); err != nil {
							t.Error(err)
						}
					}
				}
			}
		}()
	}
	done := make(chan struct{})
	go func() { clients.Wait(); close(done) }()
	select {
	case <-done:
	case <-time.After(time.Minute):
		all := make([]byte, 1<<20)
		t.Fatalf("something waits for itself:\n%s", all[:runtime.Stack(all, true)])
	}
}

// Any call with any arguments is answered, or ends the connection, and nothing else.
func FuzzCalls(f *testing.F) {
	p := newPlace(f)
	addr := p.start()
	c := nfsraw.Dial(f, addr, piran, 3001)
	root := c.Mnt("/scratch")
	_, readme := c.Lookup3(root, "README.txt")
	programs := []uint32{nfsraw.NFS, nfsraw.Mount, nfsraw.NLM, nfsraw.NSM, nfsraw.ACL}
	versions := map[uint32]uint32{nfsraw.NFS: 3, nfsraw.Mount: 3, nfsraw.NLM: 4, nfsraw.NSM: 1, nfsraw.ACL: 3}
	for i := range programs {
		for procedure := range uint32(23) {
			w := &onc.Writer{}
			w.Opaque(readme)
			w.Uint64(0)
			w.Uint32(4)
			f.Add(uint8(i), procedure, w.B)
		}
	}
	f.Fuzz(func(t *testing.T, program uint8, procedure uint32, args []byte) {
		c := nfsraw.Dial(t, addr, piran, 3001)
		number := programs[int(program)%len(programs)]
		if len(args) > 4096 {
			return
		}
		c.Send(number, versions[number], procedure%24, args, nil)
		if _, err := c.Receive(nil); err != nil {
			require.ErrorIs(t, err, onc.ErrRefused)
		}
	})
}

// Any compound is answered.
func FuzzCompounds(f *testing.F) {
	p := newPlace(f)
	addr := p.start()
	c := nfsraw.Dial(f, addr, piran, 3001)
	_, readme := c.Lookup3(c.Mnt("/scratch"), "README.txt")
	for _, ops := range [][]func(w *onc.Writer){
		{nfsraw.Op(24), nfsraw.Op(15, "scratch"), nfsraw.Op(18, 0, 3, 0, uint64(0), "owner", 1, 0, 0, 0, 0, "new"), nfsraw.Op(4, 0, nfsraw.Raw(make([]byte, 16)))},
		{nfsraw.Op(22, readme), nfsraw.Op(9, 2, 0xffffffff, 0xffffffff), nfsraw.Op(34, nfsraw.Raw(make([]byte, 16)), 2, 16, 2, []byte{0, 0, 1, 0o244})},
		{nfsraw.Op(22, readme), nfsraw.Op(13, 1, uint64(0), uint64(9), uint64(0), "me"), nfsraw.Op(25, nfsraw.Raw(make([]byte, 16)), uint64(0), 9)},
		{nfsraw.Op(24), nfsraw.Op(26, uint64(0), uint64(0), 4096, 4096, 0), nfsraw.Op(32), nfsraw.Op(29, "a", "b"), nfsraw.Op(11, "c")},
		{nfsraw.Op(24), nfsraw.Op(37, 1, 2, []byte{0, 0, 0, 2}), nfsraw.Op(55, 1, nfsraw.Raw(make([]byte, 16))), nfsraw.Op(12, 1, false, uint64(0), uint64(1), true)},
	} {
		w := &onc.Writer{}
		for _, op := range ops {
			op(w)
		}
		f.Add(uint32(len(ops)), true, w.B)
		f.Add(uint32(len(ops)), false, w.B)
	}
	f.Fuzz(func(t *testing.T, n uint32, inSession bool, ops []byte) {
		if len(ops) > 4096 {
			return
		}
		c := nfsraw.Dial(t, addr, piran, 3001)
		head := func(w *onc.Writer) { w.String(""); w.Uint32(0); w.Uint32(n) }
		if inSession {
			c.NewSessionUnfinished("fuzz")
			head = func(w *onc.Writer) { w.String(""); w.Uint32(1); w.Uint32(n%100 + 1); c.Sequence()(w) }
		}
		_, err := c.Call(nfsraw.NFS, 4, 1, func(w *onc.Writer) { head(w); w.B = append(w.B, ops...) })
		if err != nil {
			require.ErrorIs(t, err, onc.ErrRefused)
		}
		if inSession {
			_, err = c.Call(nfsraw.NFS, 4, 1, nfsraw.Compound(1, c.DestroySession()))
			require.NoError(t, err)
		}
	})
}
