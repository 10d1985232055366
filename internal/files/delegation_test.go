package files

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
)

// delegate opens a file over NFS and asks for a delegation of it.
func (l *larkfell) delegate(path string, key any) (h *Handle, lease *Lease, told chan Break) {
	l.t.Helper()
	told = make(chan Break, 8)
	require.NoError(l.t, l.visit(2003, Working, func(v *Visit, _ *Object) error {
		o, err := v.open(path)
		require.NoError(l.t, err)
		if h, err = o.Open(OpenRequest{Access: acl.ReadData, Sharing: ShareRead | ShareWrite | ShareDelete, Holder: key}); err == nil {
			lease = h.Delegate(key, func(b Break) bool { told <- b; return true })
		}
		return err
	}))
	return h, lease, told
}

// What alters a delegated file has it be given back: by SMB and NFS, of its bytes, its name, its mode and its list, by other records and by the host itself.
func TestDelegationsAreGivenBack(t *testing.T) {
	write := acl.WriteData | acl.ReadData
	for _, mode := range []site.Permissions{site.ByEntries, site.ByMode} {
		for name, alter := range map[string]func(l *larkfell) error{
			"an open over SMB to write": func(l *larkfell) error { return closed(l.open(piran, "plate", write, OpenOnly)) },
			"one that empties it":       func(l *larkfell) error { return closed(l.open(piran, "plate", write, Overwrite)) },
			"a deletion over SMB": func(l *larkfell) error {
				h, err := l.open(piran, "plate", acl.Delete, OpenOnly)
				if err != nil {
					return err
				}
				h.GiveBack(CacheHandle, gone)
				return closed(h, h.SetDelete(true))
			},
			"times": func(l *larkfell) error {
				h, err := l.open(piran, "plate", acl.WriteAttributes, OpenOnly)
				if err != nil {
					return err
				}
				h.GiveBack(cacheAll, gone)
				return closed(h, nil)
			},
			"a mode over NFS": func(l *larkfell) error {
				return l.visit(2003, Working, func(v *Visit, _ *Object) error {
					perm := uint32(0o640)
					return v.must(l, "plate").Set(Set{Mode: &perm})
				})
			},
			"a list over NFS": func(l *larkfell) error {
				if mode == site.ByEntries {
					l.RulesMoved() // what writing entries comes to
					return ErrBusy
				}
				return l.visit(2003, Working, func(v *Visit, _ *Object) error { return v.must(l, "plate").SetACL(posix.Of(0o644), nil) })
			},
			"another name": func(l *larkfell) error {
				return l.visit(2003, Working, func(v *Visit, root *Object) error { return v.must(l, "plate").Link(root, "second") })
			},
			"a removal over NFS": func(l *larkfell) error {
				return l.visit(2003, Alone, func(_ *Visit, root *Object) error { return root.Remove("plate", false) })
			},
			"a rename over NFS": func(l *larkfell) error {
				return l.visit(2003, Alone, func(_ *Visit, root *Object) error {
					return root.Rename(context.Background(), "plate", root, "moved")
				})
			},
			"other records": func(l *larkfell) error { l.RulesMoved(); return ErrBusy },
			"the host": func(l *larkfell) error {
				require.NoError(l.t, os.WriteFile(filepath.Join(l.root, "plate"), []byte("more"), 0o666))
				l.lookOnHost()
				return ErrBusy
			},
		} {
			t.Run(string(mode)+" "+name, func(t *testing.T) {
				l := newLarkfell(t)
				l.exported()
				if l.records.Folders[0].Permissions = mode; mode == site.ByMode {
					l.records.Folders[0].Rules = nil
				}
				l.compile()
				require.NoError(t, os.Chmod(l.root, 0o777))
				l.write("plate", "text")
				require.NoError(t, os.Chmod(filepath.Join(l.root, "plate"), 0o666))
				uid := uint32(2003)
				require.NoError(t, SetMode(l.policy.Load(), l.ledger, l.policy.Load().Folders[0], "plate", Set{UID: &uid}))
				time.Sleep(20 * time.Millisecond) // longer than the step in which the file system keeps time
				h, lease, told := l.delegate("plate", "a client")
				require.NotNil(t, lease)
				quiet := func() {
					t.Helper()
					l.lookOnHost()
					select {
					case b := <-told:
						t.Fatal("recalled for nothing", b)
					case <-time.After(20 * time.Millisecond):
					}
				}
				require.NoError(t, closed(l.open(piran, "plate", acl.ReadData, OpenOnly)))
				_, _ = h.ReadAt(make([]byte, 4), 0)
				quiet()
				err := alter(l)
				if err != nil {
					require.ErrorIs(t, err, ErrBusy)
				}
				select {
				case b := <-told:
					require.Equal(t, Break{From: CacheRead | CacheHandle, Answer: true, Epoch: b.Epoch}, b)
				case <-time.After(10 * time.Second):
					t.Fatal("never recalled")
				}
				if other, again, _ := l.tryDelegate("plate", "another"); other != nil {
					require.Nil(t, again, "not while one is being given back")
					require.NoError(t, other.Close())
				}
				require.NoError(t, h.Close())
				require.Empty(t, l.delegations)
				quiet()
				if err != nil {
					_ = alter(l)
				}
			})
		}
	}
}

// gone is closed: nobody waits.
var gone = func() chan struct{} { c := make(chan struct{}); close(c); return c }()

// closed closes what was opened, and gives what went wrong.
func closed(h *Handle, err error) error {
	if h != nil {
		return errors.Join(err, h.Close())
	}
	return err
}

func (w *Visit) must(l *larkfell, path string) *Object {
	l.t.Helper()
	o, err := w.open(path)
	require.NoError(l.t, err)
	return o
}

func (l *larkfell) tryDelegate(path string, key any) (h *Handle, lease *Lease, err error) {
	err = l.visit(2003, Working, func(v *Visit, _ *Object) error {
		o, err := v.open(path)
		if err != nil {
			return err
		}
		if h, err = o.Open(OpenRequest{Access: acl.ReadData, Sharing: ShareRead | ShareWrite | ShareDelete, Holder: key}); err == nil {
			lease = h.Delegate(key, func(Break) bool { return true })
		}
		return err
	})
	return h, lease, err
}

// Who writes, or may cache what is written, keeps a file from being delegated; a delegation keeps caching of what is written from being granted, and reading
// from nothing.
func TestDelegationsBesideOthers(t *testing.T) {
	l := newLarkfell(t)
	l.exported()
	none := func() {
		t.Helper()
		h, lease, err := l.tryDelegate("README.txt", "a client")
		require.NoError(t, err)
		require.Nil(t, lease)
		require.NoError(t, h.Close())
	}
	writer := l.mustOpen(piran, "README.txt", acl.WriteData, OpenOnly)
	none()
	require.NoError(t, writer.Close())
	cacher := l.mustOpen(piran, "README.txt", acl.ReadData, OpenOnly)
	lease := cacher.Cache("desk", cacheAll, func(Break) bool { return true })
	_, _, err := l.tryDelegate("README.txt", "a client")
	require.ErrorIs(t, err, ErrBusy, "what it has not written yet is waited for")
	require.NoError(t, lease.Answer(CacheRead|CacheHandle))
	h, d, err := l.tryDelegate("README.txt", "a client")
	require.NoError(t, err)
	require.NotNil(t, d, "both read")
	second, twice, err := l.tryDelegate("README.txt", "a client")
	require.NoError(t, err)
	require.Nil(t, twice, "one for a client")
	require.NoError(t, second.Close())
	third := l.mustOpen(piran, "README.txt", acl.ReadData, OpenOnly)
	state, _, _ := third.Cache("laptop", cacheAll, func(Break) bool { return true }).Now()
	require.Equal(t, CacheRead|CacheHandle, state)
	for _, h := range []*Handle{third, cacher, h} {
		require.NoError(t, h.Close())
	}
	require.Empty(t, l.delegations)
	// Rights that end by themselves are asked for each time.
	l.records.Folders[0].Rules[0].Entries[0].Expires = l.now.Add(time.Hour)
	l.compile()
	none()
	dir, err := l.Namespace.dirHandle(l)
	require.NoError(t, err)
	require.Nil(t, dir.Delegate("a client", func(Break) bool { return true }), "a directory is none to be delegated")
	require.NoError(t, dir.Close())
}

func (n *Namespace) dirHandle(l *larkfell) (*Handle, error) {
	h, _, err := n.Open(Subject{User: identity.ID(piran), Via: site.SMB}, OpenRequest{Share: "nightlog", Path: "2026", Access: acl.ReadData, Disposition: OpenOnly, Directory: true,
		Sharing: ShareRead | ShareWrite | ShareDelete, Holder: l})
	return h, err
}
