package trying

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"path"
	"strings"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/onc"
)

// Programs and procedures of MOUNT version 3 and NFS version 3 (RFC 1813, sections 5.2 and 3.3).
const (
	programNFS, programMount = 100003, 100005

	mountMnt   = 1
	nfsLookup  = 3
	nfsAccess  = 4
	nfsRead    = 6
	nfsWrite   = 7
	nfsCreate  = 8
	nfsRemove  = 12
	nfsReadDir = 16

	longestHandle = 64
	longestReply  = 256 << 10
)

// client is one connection of version 3.
type client struct {
	conn net.Conn
	cred *onc.Credential
	xid  uint32
}

// status is a refusal over NFS (RFC 1813 section 2.6).
type status uint32

// nfsWords say what a refusal over NFS means (RFC 1813 section 2.6).
var nfsWords = map[status]string{
	1: "not the owner", 2: "there is no such name", 5: "the disk fails", 13: "access denied", 17: "it is there already", 20: "not a directory",
	21: "it is a directory", 28: "the disk is full", 30: "it is read-only", 63: "the name is too long", 69: noRoom,
	70: "it is gone", 10008: "it answers later",
}

func (s status) Error() string {
	if w := nfsWords[s]; w != "" {
		return w
	}
	return fmt.Sprintf("refused with status %d", uint32(s))
}

func (c *client) call(program, procedure uint32, args func(*onc.Writer)) (*onc.Reader, error) {
	c.xid++
	w := &onc.Writer{B: make([]byte, 4, 512)}
	onc.AppendCall(w, c.xid, program, 3, procedure, c.cred)
	args(w)
	binary.BigEndian.PutUint32(w.B, 1<<31|uint32(len(w.B)-4))
	if _, err := c.conn.Write(w.B); err != nil {
		return nil, err
	}
	var mark [4]byte
	if _, err := io.ReadFull(c.conn, mark[:]); err != nil {
		return nil, err
	}
	n := binary.BigEndian.Uint32(mark[:])
	if n&(1<<31) == 0 || n&^(1<<31) > longestReply {
		return nil, errors.New("the answer is in pieces")
	}
	b := make([]byte, n&^(1<<31))
	if _, err := io.ReadFull(c.conn, b); err != nil {
		return nil, err
	}
	r, err := onc.ParseReply(b, c.xid)
	if err != nil {
		return nil, err
	}
	if s := r.Uint32(); s != 0 {
		return r, status(s)
	}
	return r, nil
}

// handle reads a file handle.
func handle(r *onc.Reader) []byte { return bytes.Clone(r.Opaque(longestHandle)) }

// skipAttributes goes past a post_op_attr.
func skipAttributes(r *onc.Reader) {
	const attributes = 84 // bytes of fattr3
	if r.Bool() {
		r.Fixed(attributes)
	}
}

func (c *client) mount(where string) ([]byte, error) {
	r, err := c.call(programMount, mountMnt, func(w *onc.Writer) { w.String(where) })
	if err != nil {
		return nil, err
	}
	return handle(r), nil
}

func (c *client) lookup(dir []byte, name string) ([]byte, error) {
	r, err := c.call(programNFS, nfsLookup, func(w *onc.Writer) { w.Opaque(dir); w.String(name) })
	if err != nil {
		return nil, err
	}
	return handle(r), nil
}

func (c *client) list(dir []byte) error {
	_, err := c.call(programNFS, nfsReadDir, func(w *onc.Writer) {
		w.Opaque(dir)
		w.Uint64(0)
		w.Uint64(0) // no verifier
		w.Uint32(8 << 10)
	})
	return err
}

// ACCESS bits of RFC 1813 section 3.3.4.
const (
	accessRead   = 0x01
	accessModify = 0x04
)

// may asks which of some rights there are.
func (c *client) may(object []byte, want uint32) error {
	r, err := c.call(programNFS, nfsAccess, func(w *onc.Writer) { w.Opaque(object); w.Uint32(want) })
	if err != nil {
		return err
	}
	skipAttributes(r)
	if r.Uint32()&want != want {
		return status(13)
	}
	return nil
}

// create makes a file that must not be there.
func (c *client) create(dir []byte, name string) ([]byte, error) {
	r, err := c.call(programNFS, nfsCreate, func(w *onc.Writer) {
		w.Opaque(dir)
		w.String(name)
		const guarded = 1
		w.Uint32(guarded)
		w.Bool(true)
		w.Uint32(0o640)
		for range 3 { // uid, gid and size are as they come
			w.Bool(false)
		}
		w.Uint32(0)
		w.Uint32(0)
	})
	if err != nil {
		return nil, err
	}
	if !r.Bool() {
		return c.lookup(dir, name)
	}
	return handle(r), nil
}

func (c *client) write(file, data []byte) error {
	_, err := c.call(programNFS, nfsWrite, func(w *onc.Writer) {
		w.Opaque(file)
		w.Uint64(0)
		w.Uint32(uint32(len(data)))
		const fileSync = 2
		w.Uint32(fileSync)
		w.Opaque(data)
	})
	return err
}

func (c *client) read(file []byte, most uint32) ([]byte, error) {
	r, err := c.call(programNFS, nfsRead, func(w *onc.Writer) { w.Opaque(file); w.Uint64(0); w.Uint32(most) })
	if err != nil {
		return nil, err
	}
	skipAttributes(r)
	r.Uint32() // how much
	r.Bool()   // whether that is the end
	return bytes.Clone(r.Opaque(int(most))), r.Err()
}

func (c *client) remove(dir []byte, name string) error {
	_, err := c.call(programNFS, nfsRemove, func(w *onc.Writer) { w.Opaque(dir); w.String(name) })
	return err
}

// overNFS goes in by an export, as a host's kernel does on somebody's behalf.
func (t *try) overNFS(ctx context.Context) {
	t.way.Through = t.through(ctx)
	early, because := t.early(ctx)
	e := t.g.Policy().ExportAt(t.way.Through)
	if e == nil {
		t.note("mounts", "no export of the folder holds the path", false, access.Path, "no export of the folder holds the path")
		return
	}
	conn := t.doors.NFS(t.from)
	defer conn.Close()
	_ = conn.SetDeadline(deadline(ctx))
	cred, known := t.credential()
	if !known {
		says := "the host has no number for " + t.user.Name
		t.note("comes with a number of the host's", says, false, access.Account, says)
		return
	}
	var xid [4]byte
	rand.Read(xid[:])
	c := &client{conn: conn, cred: cred, xid: binary.BigEndian.Uint32(xid[:])}
	at, err := c.mount(e.Path)
	if early == access.Account || early == access.Service && t.g.Policy().Services.NFS {
		early = access.Passed // who comes is looked at with each request, and not when a host mounts
	}
	if !t.note("mounts "+e.Path, saidNFS(err), early == access.Passed, early, because) {
		return
	}
	walked := plain.Unspell(e.Below)
	rest := strings.Trim(strings.TrimPrefix(plain.Unspell(t.at.Path), walked), "/")
	for name := range strings.SplitSeq(rest, "/") {
		if name == "" {
			continue
		}
		below, err := c.lookup(at, name)
		if err != nil {
			t.step(ctx, "goes into "+plain.Spell(path.Base(walked)), plain.Spell(walked), acl.Execute, saidNFS(err))
			return
		}
		walked, at = path.Join(walked, name), below
	}
	if t.at.File {
		t.step(ctx, "reads the file", t.at.Path, acl.ReadData, saidNFS(c.may(at, accessRead)))
		if !t.q.Look {
			t.step(ctx, "may write to it, and writes nothing", t.at.Path, acl.WriteData|acl.AppendData, saidNFS(c.may(at, accessModify)))
		}
		return
	}
	t.step(ctx, "lists the directory", t.at.Path, acl.ListDirectory, saidNFS(c.list(at)))
	if t.q.Look {
		return
	}
	file, err := c.create(at, t.name)
	t.made = err == nil
	if !t.grow(ctx, "makes a file there", t.at.Path, acl.AddFile, saidNFS(err)) {
		return
	}
	is := content()
	wrote := t.fill(ctx, saidNFS(c.write(file, is)))
	was, err := c.read(file, mostTried+1)
	if err == nil && wrote && !bytes.Equal(was, is) {
		err = errOtherwise
	}
	// Nothing is opened over NFS 3: while they fill a file, who has made it may read it as well.
	t.note("reads it back while it is filled", saidNFS(err), true, access.Passed, "")
	allowed, gate, reason := t.mayRemove(ctx)
	t.note("removes it", saidNFS(c.remove(at, t.name)), allowed, gate, reason)
}

// credential is what the person's host sends of them: numbers of its own, where it has such. False where it has none for them.
func (t *try) credential() (*onc.Credential, bool) {
	p := t.g.Policy()
	o := site.Origin{Address: t.from.Addr(), Port: t.from.Port(), Flavor: site.FlavorSys}
	numbers, _ := p.NumbersAt(&o)
	uid, known := numbers.UserThere(t.user.UID)
	if !known {
		return nil, false
	}
	c := &onc.Credential{Machine: "amber", UID: uid, GID: site.Anonymous}
	if g := p.Directory.Group(t.user.Primary); g != nil {
		if gid, ok := numbers.GroupThere(g.GID); ok {
			c.GID = gid
		}
	}
	const mostGroups = 16 // RFC 5531 appendix A
	for _, here := range p.Directory.GIDs(p.Directory.UserIndex(t.user.ID)) {
		if gid, ok := numbers.GroupThere(here); ok && gid != c.GID && len(c.Groups) < mostGroups {
			c.Groups = append(c.Groups, gid)
		}
	}
	return c, true
}

// saidNFS says what an error over NFS means; "" for none.
func saidNFS(err error) string {
	if err == nil {
		return ""
	}
	if s := status(0); errors.As(err, &s) {
		return s.Error()
	}
	return lost(err)
}
