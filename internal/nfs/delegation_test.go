package nfs

import (
	"errors"
	"net"
	"os"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/onc"
	"amber.example/gatekeeper/test/nfsraw"
)

// delegated is a client of version 4.1 that can be called back.
type delegated struct {
	*nfsraw.Client
	t    *testing.T
	name string

	mu       sync.Mutex
	recalled []string         // the stateids that were
	answers  func() [2]uint32 // to CB_SEQUENCE and CB_RECALL; nil for none
}

func (d *delegated) callback(args *onc.Reader) []byte {
	args.Opaque(1024)
	if args.Uint32() != 1 || args.Uint32() != 0 || args.Uint32() != 2 || args.Uint32() != opCBSequence {
		return []byte{}
	}
	id := args.Fixed(16)
	seq, slot, highest, cache, refers := args.Uint32(), args.Uint32(), args.Uint32(), args.Bool(), args.Uint32()
	if cache || refers != 0 || args.Uint32() != opCBRecall {
		return []byte{}
	}
	args.Uint32()
	other := string(args.Fixed(12))
	args.Bool()
	args.Opaque(mostHandle4)
	d.mu.Lock()
	defer d.mu.Unlock()
	if args.Err() != nil {
		d.t.Error("a recall that cannot be read")
	}
	d.recalled = append(d.recalled, other)
	answer := [2]uint32{}
	if d.answers != nil {
		answer = d.answers()
		if answer[0] == 1 {
			return nil
		}
	}
	w := &onc.Writer{}
	w.Uint32(max(answer[0], answer[1]))
	w.String("")
	if answer[0] != 0 {
		w.Uint32(1)
		w.Uint32(opCBSequence)
		w.Uint32(answer[0])
		return w.B
	}
	w.Uint32(2)
	w.Uint32(opCBSequence)
	w.Uint32(0)
	w.Fixed(id)
	for _, v := range []uint32{seq, slot, highest, highest} {
		w.Uint32(v)
	}
	w.Uint32(opCBRecall)
	w.Uint32(answer[1])
	return w.B
}

func (d *delegated) recalls() int {
	d.mu.Lock()
	defer d.mu.Unlock()
	return len(d.recalled)
}

func (d *delegated) answering(fn func() [2]uint32) {
	d.mu.Lock()
	defer d.mu.Unlock()
	d.answers = fn
}

// dial connects once more.
func (d *delegated) dial(addr string) net.Conn {
	c, err := net.Dial("tcp", addr)
	require.NoError(d.t, err)
	out := nfsraw.Callbacks(c, d.callback)
	d.t.Cleanup(func() { out.Close() })
	return out
}

func newDelegated(t *testing.T, addr, name string, uid uint32) *delegated {
	d := &delegated{t: t, name: name}
	d.Client = nfsraw.On(t, d.dial(addr), uid, 3001)
	require.EqualValues(t, sessionBackChannel, d.NewSessionCalled(name))
	return d
}

// opened is what an OPEN gave.
type openedBy struct {
	status     status4
	id, fh     []byte
	delegation []byte // its stateid; nil for none
}

// open opens a file of the export scratch with a claim of what is there.
func (d *delegated) open(access int, claim ...any) (o openedBy) {
	d.t.Helper()
	ops := []func(*onc.Writer){nfsraw.Op(24), nfsraw.Op(15, "scratch"), nfsraw.Op(18, append([]any{0, access, 0, uint64(0), d.name, 0}, claim...)...), nfsraw.Op(10)}
	status, r := d.Session(ops...)
	if o.status = status4(status); status != 0 {
		return o
	}
	nfsraw.Next(r)
	nfsraw.Next(r)
	nfsraw.Next(r)
	o.id = append(o.id, r.Fixed(16)...)
	r.Fixed(20)
	r.Uint32()
	require.Zero(d.t, r.Uint32())
	if r.Uint32() == delegateRead {
		o.delegation = append(o.delegation, r.Fixed(16)...)
		require.False(d.t, r.Bool())
		require.Equal(d.t, make([]byte, 12), r.Fixed(12), "nobody is let in without asking")
		require.Equal(d.t, "EVERYONE@", r.String(64))
	}
	nfsraw.Next(r)
	o.fh = append(o.fh, r.Opaque(128)...)
	require.NoError(d.t, r.Err())
	return o
}

func (d *delegated) named(access int, name string) openedBy {
	d.t.Helper()
	return d.open(access, 0, name)
}

func (d *delegated) op(fh []byte, op func(*onc.Writer)) status4 {
	d.t.Helper()
	status, _ := d.Session(nfsraw.Op(22, fh), op)
	return status4(status)
}

func (d *delegated) giveBack(o openedBy) status4 {
	return d.op(o.fh, nfsraw.Op(opDelegReturn, nfsraw.Raw(o.delegation)))
}

func (d *delegated) close(o openedBy) {
	d.t.Helper()
	require.Equal(d.t, ok4, d.op(o.fh, nfsraw.Op(4, 0, nfsraw.Raw(o.id))))
}

// A file is delegated to who opens it to read, can be called back and has not got it already, as long as nobody writes it.
func TestWhoGetsADelegation(t *testing.T) {
	p := newPlace(t)
	require.NoError(t, os.WriteFile(filepath.Join(p.dir, "scratch/two"), []byte("names"), 0o666))
	require.NoError(t, os.Link(filepath.Join(p.dir, "scratch/two"), filepath.Join(p.dir, "scratch/names")))
	require.NoError(t, os.Chmod(filepath.Join(p.dir, "scratch/README.txt"), 0o666))
	addr := p.start()
	d := newDelegated(t, addr, "desk", piran)
	o := d.named(1, "README.txt")
	require.NotNil(t, o.delegation)
	again := d.named(1, "README.txt")
	require.Nil(t, again.delegation, "it has it already")
	require.Len(t, p.server.Opens(), 2)
	d.close(again)
	require.Len(t, p.server.Opens(), 1, "what is delegated stays")
	require.True(t, p.server.Opens()[0].Delegated)
	require.Equal(t, 1, only(t, p.server).Opens)
	require.Equal(t, ok4, d.op(o.fh, nfsraw.Op(25, nfsraw.Raw(o.delegation), uint64(0), 64)), "it reads by it")
	require.Equal(t, err4OpenMode, d.op(o.fh, nfsraw.Op(38, nfsraw.Raw(o.delegation), uint64(0), 2, "x")), "and writes nothing")
	require.Equal(t, err4BadStateID, d.op(o.fh, nfsraw.Op(4, 0, nfsraw.Raw(o.delegation))), "it is nothing to be closed")
	require.Equal(t, err4LocksHeld, d.op(o.fh, nfsraw.Op(45, nfsraw.Raw(o.delegation))), "nor freed")
	status, r := d.Session(nfsraw.Op(55, 1, nfsraw.Raw(o.delegation)))
	require.Zero(t, status)
	nfsraw.Next(r)
	r.Uint32()
	require.Zero(t, r.Uint32(), "it is good")

	other := newDelegated(t, addr, "other", 2006)
	mine := other.named(1, "README.txt")
	require.NotNil(t, mine.delegation, "several read")
	require.Equal(t, err4BadStateID, other.op(o.fh, nfsraw.Op(opDelegReturn, nfsraw.Raw(o.delegation))), "it is another's")
	require.Equal(t, err4BadStateID, other.op(o.fh, nfsraw.Op(25, nfsraw.Raw(o.delegation), uint64(0), 64)))
	list := other.named(1, "2026/../README.txt")
	require.NotEqual(t, ok4, list.status)

	require.Nil(t, d.named(1|wantNone, "two").delegation, "it would rather not")
	require.Nil(t, d.named(1, "two").delegation, "what has several names is asked for each time")
	require.Nil(t, d.named(3, "README.txt").delegation, "who writes asks each time")
	plain := &delegated{Client: nfsraw.Dial(t, addr, piran, 3001), t: t, name: "plain"}
	plain.NewSession("plain")
	require.Nil(t, plain.named(1, "README.txt").delegation, "it cannot be called back")
}

// Whatever alters a delegated file, by whichever way, has the delegation be given back first; and nothing is delegated that is being written.
func TestWhatRecallsADelegation(t *testing.T) {
	p := newPlace(t)
	require.NoError(t, os.Chmod(filepath.Join(p.dir, "scratch"), 0o777))
	addr := p.start()
	mode := func(w *onc.Writer, mode uint32) { nfsraw.Mode3(w, mode) }
	for name, alter := range map[string]func(c *nfsraw.Client, other *delegated, root, fh []byte) uint32{
		"an open for writing": func(_ *nfsraw.Client, other *delegated, _, _ []byte) uint32 {
			return uint32(other.named(2, "file").status)
		},
		"a write of version 3": func(c *nfsraw.Client, _ *delegated, _, fh []byte) uint32 {
			s, _ := c.Do(nfsraw.NFS, 3, 7, func(w *onc.Writer) { w.Opaque(fh); w.Uint64(0); w.Uint32(1); w.Uint32(0); w.Opaque([]byte("x")) })
			return s
		},
		"a mode": func(c *nfsraw.Client, _ *delegated, _, fh []byte) uint32 {
			s, _ := c.Do(nfsraw.NFS, 3, 2, func(w *onc.Writer) { w.Opaque(fh); mode(w, 0o600); w.Uint32(0) })
			return s
		},
		"a removal": func(c *nfsraw.Client, _ *delegated, root, _ []byte) uint32 {
			s, _ := c.Do(nfsraw.NFS, 3, 12, func(w *onc.Writer) { w.Opaque(root); w.String("file") })
			return s
		},
		"a rename": func(c *nfsraw.Client, _ *delegated, root, _ []byte) uint32 {
			s, _ := c.Do(nfsraw.NFS, 3, 14, func(w *onc.Writer) { w.Opaque(root); w.String("file"); w.Opaque(root); w.String("moved") })
			return s
		},
		"one that replaces it": func(c *nfsraw.Client, _ *delegated, root, _ []byte) uint32 {
			s, _ := c.Do(nfsraw.NFS, 3, 14, func(w *onc.Writer) { w.Opaque(root); w.String("README.txt"); w.Opaque(root); w.String("file") })
			if s == 0 {
				require.NoError(p.t, os.WriteFile(filepath.Join(p.dir, "scratch/README.txt"), nil, 0o644))
			}
			return s
		},
		"a second name": func(c *nfsraw.Client, _ *delegated, root, fh []byte) uint32 {
			s, _ := c.Do(nfsraw.NFS, 3, 15, func(w *onc.Writer) { w.Opaque(fh); w.Opaque(root); w.String("second") })
			return s
		},
	} {
		t.Run(name, func(t *testing.T) {
			for _, f := range []string{"file", "moved", "second"} {
				_ = os.Remove(filepath.Join(p.dir, "scratch", f))
			}
			d, other, three := newDelegated(t, addr, "desk "+name, piran), newDelegated(t, addr, "other "+name, piran), nfsraw.Dial(t, addr, piran, 3001)
			root := three.Mnt("/scratch")
			status, _ := three.Create3(root, "file")
			require.Zero(t, status)
			o := d.named(1, "file")
			require.NotNil(t, o.delegation)
			_, fh := three.Lookup3(root, "file")
			busy := alter(three, other, root, fh)
			require.Contains(t, []uint32{uint32(err4Delay)}, busy, "not while the client goes by what was")
			require.Eventually(t, func() bool { return d.recalls() > 0 }, 10*time.Second, time.Millisecond)
			require.Equal(t, busy, alter(three, other, root, fh), "though it was told")
			// Meanwhile it says what it has open by the delegation, and reads on.
			cur := d.open(1, claimDelegateCur, nfsraw.Raw(o.delegation), "file")
			require.Equal(t, ok4, cur.status)
			require.Nil(t, cur.delegation)
			require.Equal(t, ok4, d.op(o.fh, nfsraw.Op(25, nfsraw.Raw(o.delegation), uint64(0), 64)))
			require.Equal(t, ok4, d.giveBack(o))
			require.Equal(t, err4BadStateID, d.giveBack(o), "once")
			require.Zero(t, alter(three, other, root, fh))
			require.Equal(t, 1, d.recalls(), "told once")
			again := d.open(1, 4)
			require.NotEqual(t, ok4, again.status, "a directory")
			d.close(cur) // the same open as at first: one owner has one of a file
			if name != "an open for writing" {
				return
			}
			require.Nil(t, d.named(1, "file").delegation, "somebody writes it")
		})
	}
}

// Other records, another mode set from outside and the host itself recall what they bear on; and what an administrator closes is revoked.
func TestDelegationsEndWithWhatTheyRestOn(t *testing.T) {
	p := newPlace(t)
	addr := p.start()
	d := newDelegated(t, addr, "desk", piran)
	reclaimed := func(want int) {
		t.Helper()
		require.Eventually(t, func() bool {
			_, _ = d.Session() // it is there
			return d.recalls() == want
		}, 20*time.Second, 50*time.Millisecond)
	}
	fresh := func() openedBy {
		t.Helper()
		p.server.state.mu.Lock()
		clear(p.server.state.recalled)
		p.server.state.mu.Unlock()
		o := d.named(1, "README.txt")
		require.NotNil(t, o.delegation)
		d.close(o)
		return o
	}
	o := fresh()
	p.server.Files.RulesMoved()
	reclaimed(1)
	require.Equal(t, ok4, d.giveBack(o))
	require.Nil(t, d.named(1, "README.txt").delegation, "not again at once")

	o = fresh()
	require.NoError(t, os.WriteFile(filepath.Join(p.dir, "scratch/README.txt"), []byte("by the host"), 0o644))
	changed := make(chan struct{})
	go p.server.Files.FollowRules(t.Context(), func() <-chan struct{} { return changed })
	reclaimed(2)
	require.Equal(t, ok4, d.giveBack(o))

	o = fresh()
	opens := p.server.Opens()
	require.True(t, p.server.CloseOpen(opens[len(opens)-1].ID))
	require.Equal(t, err4DelegRevoked, d.giveBack(o))
	require.EqualValues(t, stateRecallableRevoked, d.Flags)
	status, r := d.Session(nfsraw.Op(55, 1, nfsraw.Raw(o.delegation)))
	require.Zero(t, status)
	nfsraw.Next(r)
	r.Uint32()
	require.EqualValues(t, err4DelegRevoked, r.Uint32())
	require.Equal(t, ok4, d.op(o.fh, nfsraw.Op(45, nfsraw.Raw(o.delegation))))
	require.Equal(t, err4BadStateID, d.giveBack(o))
	require.Zero(t, d.Flags)

	fresh()
	require.True(t, p.server.EndSession(only(t, p.server).ID))
	require.Empty(t, p.server.Opens())
}

// Who may do something for a time only gets no delegation, and ends the one that their client has: it would go by what they may now.
func TestNothingIsDelegatedForATime(t *testing.T) {
	p := newPlace(t)
	r := p.records
	r.Folders[1].Rules[0].Entries[1].Level = acl.Read
	r.Users[1].Expires = time.Now().Add(time.Hour)
	policy, err := site.Compile(r)
	require.NoError(t, err)
	p.policy.Store(policy)
	addr := p.start()
	d := newDelegated(t, addr, "desk", piran)
	in := func(uid uint32, ops ...func(*onc.Writer)) (uint32, *onc.Reader) {
		d.Cred = &onc.Credential{Machine: "test", UID: uid, GID: 3009}
		return d.Session(append([]func(*onc.Writer){nfsraw.Op(24), nfsraw.Op(15, "nightlog")}, ops...)...)
	}
	open := func(uid uint32, owner string) (delegates uint32) {
		status, r := in(uid, nfsraw.Op(18, 0, 1, 0, uint64(0), owner, 0, 0, "entry"))
		require.Zero(t, status)
		for range 3 {
			nfsraw.Next(r)
		}
		r.Fixed(16 + 20 + 4 + 4)
		return r.Uint32()
	}
	require.EqualValues(t, delegateNone, open(2006, "orla"))
	require.EqualValues(t, delegateRead, open(piran, "piran"))
	status, _ := in(piran, nfsraw.Op(15, "entry"), nfsraw.Op(3, 1))
	require.Zero(t, status)
	require.Zero(t, d.recalls())
	status, _ = in(2006, nfsraw.Op(15, "entry"), nfsraw.Op(3, 1))
	require.Zero(t, status)
	require.Eventually(t, func() bool { return d.recalls() == 1 }, 10*time.Second, time.Millisecond)
}

// A client that does not give back, does not answer, answers nonsense or is gone is not waited for for ever: what it has is revoked, and it is told so.
func TestDelegationsThatAreNotGivenBack(t *testing.T) {
	for name, answers := range map[string]func() [2]uint32{
		"says that it has none":      func() [2]uint32 { return [2]uint32{0, uint32(err4BadStateID)} },
		"puts it off":                func() [2]uint32 { return [2]uint32{0, uint32(err4Delay)} },
		"puts all off":               func() [2]uint32 { return [2]uint32{uint32(err4Delay), 0} },
		"says that it is misordered": func() [2]uint32 { return [2]uint32{uint32(err4SeqMisordered), 0} },
		"says that it has done it":   func() [2]uint32 { return [2]uint32{uint32(err4RetryUncachedRep), 0} },
		"says nothing":               func() [2]uint32 { return [2]uint32{1, 0} },
	} {
		t.Run(name, func(t *testing.T) {
			p := newPlace(t)
			require.NoError(t, os.Chmod(filepath.Join(p.dir, "scratch/README.txt"), 0o666))
			addr := p.start()
			p.server.state.recallFor = 3 * time.Second
			d, other := newDelegated(t, addr, "desk", piran), newDelegated(t, addr, "other", piran)
			d.answering(answers)
			o := d.named(1, "README.txt")
			require.NotNil(t, o.delegation)
			require.Equal(t, err4Delay, other.named(2, "README.txt").status)
			require.Eventually(t, func() bool {
				_, _ = d.Session() // it is there
				return other.named(2, "README.txt").status == ok4
			}, 20*time.Second, 50*time.Millisecond)
			want := err4DelegRevoked
			if name == "says that it has none" {
				want = err4BadStateID
			}
			require.Equal(t, want, d.giveBack(o))
			if want == err4DelegRevoked {
				require.NoError(t, os.WriteFile(filepath.Join(p.dir, "scratch/another"), nil, 0o644))
				require.Nil(t, d.named(1, "another").delegation, "others waited for it")
			}
		})
	}
}

// Where its connection is lost the client is told so, and recalled over the one that it says next.
func TestTheWayBackIsLostAndFound(t *testing.T) {
	p := newPlace(t)
	require.NoError(t, os.Chmod(filepath.Join(p.dir, "scratch/README.txt"), 0o666))
	addr := p.start()
	d, other := newDelegated(t, addr, "desk", piran), newDelegated(t, addr, "other", piran)
	o := d.named(1, "README.txt")
	require.NotNil(t, o.delegation)
	require.Zero(t, d.Flags)
	d.C.Close()
	require.Eventually(t, func() bool { return len(p.server.rpc.Conns()) == 1 }, 10*time.Second, time.Millisecond)
	require.Equal(t, err4Delay, other.named(2, "README.txt").status)
	d.Over(d.dial(addr))
	require.Nil(t, d.named(1, "2026").delegation)
	require.EqualValues(t, statePathDown, d.Flags)
	require.EqualValues(t, bindFore, d.Bind(bindFore))
	time.Sleep(2 * recallAgain)
	require.Zero(t, d.recalls())
	require.EqualValues(t, bindBoth, d.Bind(bindBackOrBoth))
	require.Eventually(t, func() bool { return d.recalls() == 1 }, 10*time.Second, time.Millisecond)
	require.Equal(t, ok4, d.giveBack(o))
	require.Zero(t, d.Flags)
	require.Equal(t, ok4, other.named(2, "README.txt").status)
}

// What is written of the records is recalled once though many are delegated, over few slots.
func TestManyDelegationsAreRecalled(t *testing.T) {
	p := newPlace(t)
	const many = 100
	for i := range many {
		require.NoError(t, os.WriteFile(filepath.Join(p.dir, "scratch", name(i)), nil, 0o644))
	}
	addr := p.start()
	d := newDelegated(t, addr, "desk", piran)
	for i := range many {
		require.NotNil(t, d.named(1, name(i)).delegation)
	}
	p.server.Files.RulesMoved()
	require.Eventually(t, func() bool { return d.recalls() == many }, 20*time.Second, 5*time.Millisecond)
	d.mu.Lock()
	defer d.mu.Unlock()
	once := map[string]bool{}
	for _, id := range d.recalled {
		once[id] = true
	}
	require.Len(t, once, many)
}

func name(i int) string { return "plate" + string(rune('0'+i/10%10)) + string(rune('0'+i%10)) }

// Two who hold a file and alter it in turn, by all ways at once, never stand in each other's way for good, and nothing is left behind.
func TestDelegationsUnderWork(t *testing.T) {
	p := newPlace(t)
	require.NoError(t, os.Chmod(filepath.Join(p.dir, "scratch/README.txt"), 0o666))
	addr := p.start()
	var all sync.WaitGroup
	for i := range 4 {
		d := newDelegated(t, addr, name(i), piran)
		all.Go(func() {
			for step := range 60 {
				access := 1
				if (step+i)%5 == 0 {
					access = 3
				}
				o := d.named(access, "README.txt")
				for deadline := time.Now().Add(20 * time.Second); o.status == err4Delay && time.Now().Before(deadline); o = d.named(access, "README.txt") {
					time.Sleep(time.Millisecond)
				}
				if o.status != ok4 {
					t.Error(o.status)
					return
				}
				if o.delegation != nil {
					_ = d.op(o.fh, nfsraw.Op(25, nfsraw.Raw(o.delegation), uint64(0), 64))
					if s := d.giveBack(o); s != ok4 {
						t.Error(s)
					}
				}
				d.close(o)
				if i == 0 {
					p.server.state.mu.Lock()
					clear(p.server.state.recalled)
					p.server.state.mu.Unlock()
				}
			}
		})
	}
	all.Wait()
	require.Empty(t, p.server.Opens())
	p.server.state.mu.Lock()
	defer p.server.state.mu.Unlock()
	require.Zero(t, p.server.state.open)
}

// FuzzCallbackAnswers reads whatever a client may answer to a callback.
func FuzzCallbackAnswers(f *testing.F) {
	good := (&delegated{t: &testing.T{}}).callback(onc.NewReader(recallArgs()))
	f.Add(good)
	f.Add([]byte{})
	f.Add(good[:len(good)-4])
	f.Fuzz(func(t *testing.T, b []byte) {
		done, st, err := readCallback(onc.NewReader(b), opCBRecall)
		if err == nil && st == ok4 && !done {
			t.Fatal("a recall was done in no slot")
		}
		if err != nil && !errors.Is(err, errCallback) {
			t.Fatal(err)
		}
	})
}

func recallArgs() []byte {
	w := &onc.Writer{}
	w.String("")
	for _, v := range []uint32{1, 0, 2, opCBSequence} {
		w.Uint32(v)
	}
	w.Fixed(make([]byte, 16))
	for _, v := range []uint32{1, 0, 0, 0, 0, opCBRecall, 1} {
		w.Uint32(v)
	}
	w.Fixed(make([]byte, 12))
	w.Bool(false)
	w.Opaque(make([]byte, handleSize))
	return w.B
}
