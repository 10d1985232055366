package files

import (
	"context"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/site"
)

// cacher opens a file and caches what it may; told is what it was asked to give back.
func (l *larkfell) cacher(path string, key any, want Caching) (h *Handle, lease *Lease, told chan Break) {
	l.t.Helper()
	h, _, err := l.Open(Subject{User: piran, Via: site.SMB}, OpenRequest{Share: "nightlog", Path: path, Access: acl.ReadData | acl.WriteData | acl.Delete, Sharing: ShareRead | ShareWrite | ShareDelete, Disposition: OpenOnly, Key: key})
	require.NoError(l.t, err)
	told = make(chan Break, 8)
	return h, h.Cache(key, want, func(b Break) bool { told <- b; return true }), told
}

func mayCache(l *Lease) Caching {
	state, _, _ := l.Now()
	return state
}

// Over NFS, who reads, writes, removes or renames what a client of SMB caches is put off until that is given back, and is then let in.
func TestCachesAreBrokenByNFS(t *testing.T) {
	for name, c := range map[string]struct {
		takes Caching
		uses  func(l *larkfell, key Key) error
	}{
		"reading": {CacheWrite, func(l *larkfell, key Key) error {
			f, err := l.File(l.guest(2003), key, false)
			if err != nil {
				return err
			}
			defer f.Release()
			_, err = f.ReadAt(make([]byte, 4), 0)
			return err
		}},
		"writing": {cacheAll, func(l *larkfell, key Key) error {
			f, err := l.File(l.guest(2003), key, true)
			if err != nil {
				return err
			}
			defer f.Release()
			_, _, err = f.WriteAt([]byte("new"), 0, Unstable)
			return err
		}},
		"opening": {CacheWrite, func(l *larkfell, _ Key) error {
			return l.visit(2003, Working, func(v *Visit, _ *Object) error {
				o, err := walkTo(v, "README.txt")
				require.NoError(l.t, err)
				h, err := o.Open(OpenRequest{Access: acl.ReadData, Sharing: ShareRead | ShareWrite | ShareDelete})
				if err == nil {
					err = h.Drop()
				}
				return err
			})
		}},
		"setting its mode": {cacheAll, func(l *larkfell, _ Key) error {
			return l.visit(2003, Alone, func(v *Visit, _ *Object) error {
				o, err := walkTo(v, "README.txt")
				require.NoError(l.t, err)
				return o.Set(Set{Mode: new(uint32(0o750))})
			})
		}},
		"removing": {CacheHandle, func(l *larkfell, _ Key) error {
			return l.visit(2003, Alone, func(_ *Visit, root *Object) error { return root.Remove("README.txt", false) })
		}},
		"renaming": {CacheHandle, func(l *larkfell, _ Key) error {
			return l.visit(2003, Alone, func(_ *Visit, root *Object) error {
				return root.Rename(context.Background(), "README.txt", root, "READ.txt")
			})
		}},
	} {
		t.Run(name, func(t *testing.T) {
			l := newLarkfell(t)
			l.exported()
			key := l.keyOf(2003, "README.txt")
			h, lease, told := l.cacher("README.txt", "a", cacheAll)
			require.Equal(t, cacheAll, mayCache(lease))
			require.ErrorIs(t, c.uses(l, key), ErrBusy)
			b := <-told
			require.True(t, b.Answer)
			require.Equal(t, c.takes, b.From&^b.To)
			require.ErrorIs(t, c.uses(l, key), ErrBusy, "until it is answered")
			require.NoError(t, lease.Answer(b.To))
			if c.takes&CacheHandle != 0 && c.takes != cacheAll {
				require.NoError(t, h.Close())
			}
			require.NoError(t, c.uses(l, key))
			require.Empty(t, told, "nobody is asked twice")
		})
	}
}

// However clients open, answer, write and close: never do two cache writes, never is anything cached that could not be, whoever waits is let in
// in the end, and nothing is left behind.
func TestCachesAgree(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		l := newLarkfell(t)
		type client struct {
			h     *Handle
			lease *Lease
			told  chan Break
		}
		var clients []*client
		var told [3]chan Break // one for each client, whichever of its handles it closes
		for i := range told {
			told[i] = make(chan Break, 64)
		}
		states := []Caching{0, CacheRead, CacheRead | CacheHandle, CacheRead | CacheWrite, cacheAll}
		answer := func(c *client) {
			select {
			case b := <-c.told:
				if b.Answer {
					to := rapid.SampledFrom(states).Draw(r, "answers") & b.To
					if err := c.lease.Answer(to); err != nil {
						require.ErrorIs(r, err, ErrNotBreaking) // it was closed, or gave more back, meanwhile
					}
				}
			case <-time.After(time.Millisecond):
			}
		}
		for range rapid.IntRange(1, 12).Draw(r, "steps") {
			switch rapid.IntRange(0, 4).Draw(r, "step") {
			case 0, 1:
				key := rapid.IntRange(0, 2).Draw(r, "key")
				c := &client{told: told[key]}
				opened := make(chan error, 1)
				go func() {
					h, _, err := l.Open(Subject{User: piran, Via: site.SMB}, OpenRequest{Share: "nightlog", Path: "README.txt", Access: acl.ReadData | acl.WriteData, Sharing: ShareRead | ShareWrite | ShareDelete, Disposition: OpenOnly, Key: key, Done: make(chan struct{})})
					c.h = h
					opened <- err
				}()
				for done := false; !done; {
					select {
					case err := <-opened:
						require.NoError(r, err)
						done = true
					default:
						for _, x := range clients {
							answer(x)
						}
					}
				}
				c.lease = c.h.Cache(key, rapid.SampledFrom(states).Draw(r, "wants"), func(b Break) bool { c.told <- b; return true })
				clients = append(clients, c)
			case 2:
				if len(clients) > 0 {
					_, err := clients[rapid.IntRange(0, len(clients)-1).Draw(r, "who writes")].h.WriteAt([]byte("x"), 0, false)
					require.NoError(r, err)
				}
			case 3:
				if len(clients) > 0 {
					answer(clients[rapid.IntRange(0, len(clients)-1).Draw(r, "who answers")])
				}
			case 4:
				if len(clients) > 0 {
					i := rapid.IntRange(0, len(clients)-1).Draw(r, "who closes")
					require.NoError(r, clients[i].h.Close())
					clients = append(clients[:i], clients[i+1:]...)
				}
			}
			leases := make(map[*Lease]bool) // those that open with one key are one client, and share one
			writes := false
			for _, c := range clients {
				state := mayCache(c.lease)
				require.Contains(r, states, state)
				leases[c.lease] = true
				writes = writes || state&CacheWrite != 0
			}
			require.False(r, writes && len(leases) > 1, "who caches writes is alone")
		}
		for _, c := range clients {
			require.NoError(r, c.h.Close())
		}
		l.mu.Lock()
		left := len(l.Namespace.open)
		l.mu.Unlock()
		require.Zero(r, left)
	})
}

// A client that never answers is not waited for longer than patience, here by the hand of the clock.
func TestAnAnswerThatNeverComes(t *testing.T) {
	l := newLarkfell(t)
	h, lease, told := l.cacher("README.txt", "a", cacheAll)
	l.mu.Lock()
	until := h.of.lowerOthers(nil, CacheWrite)
	l.mu.Unlock()
	require.NotNil(t, until)
	<-told
	lease.overdue.Reset(time.Millisecond)
	<-until
	require.Zero(t, mayCache(lease))
	require.Equal(t, Break{Late: true}, <-told)
	require.ErrorIs(t, lease.Answer(0), ErrNotBreaking)
}

// What an administrator takes away is written first, if its client is quick.
func TestWrittenBackBeforeItIsTaken(t *testing.T) {
	l := newLarkfell(t)
	h, lease, told := l.cacher("README.txt", "a", cacheAll)
	go func() {
		b := <-told
		_, _ = h.WriteAt([]byte("late"), 0, false)
		_ = lease.Answer(b.To)
	}()
	began := time.Now()
	h.WriteBack(time.Minute)
	require.Less(t, time.Since(began), 30*time.Second)
	buf := make([]byte, 4)
	_, err := h.ReadAt(buf, 0)
	require.NoError(t, err)
	require.Equal(t, "late", string(buf))
	h.WriteBack(0) // it caches no writes any more
	require.NoError(t, h.Close())
}
