package files

import (
	"context"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/usage"
)

// exported adds an export of the folder for this host to the records, read-write.
func (l *larkfell) exported() {
	for i := range l.records.Users {
		l.records.Users[i].NFS = true
	}
	l.records.Services.NFS = true
	l.records.Exports = []site.Export{{ID: 1, Path: "/nightlog", FolderID: 1, Rules: []site.ClientRule{{ID: 1, From: "192.0.2.1", Write: true, Squash: site.SquashRoot,
		AnonUID: site.Anonymous, AnonGID: site.Anonymous, Security: []site.Flavor{site.FlavorSys}}}}}
	l.compile()
}

// byModes is exported where modes decide, and anyone may write at first.
func (l *larkfell) byModes() {
	l.t.Helper()
	l.exported()
	l.records.Folders[0].Permissions, l.records.Folders[0].Rules = site.ByMode, nil
	require.NoError(l.t, os.Chmod(l.root, 0o777))
	l.compile()
}

func (l *larkfell) guest(uid uint32) *Guest {
	return &Guest{Export: 1, Origin: site.Origin{Address: netip.MustParseAddr("192.0.2.1"), Port: 900, Flavor: site.FlavorSys}, Said: posix.Credential{UID: uid, GID: uid}}
}

// visit has a guest do something.
func (l *larkfell) visit(uid uint32, manner Manner, do func(v *Visit, root *Object) error) error {
	l.t.Helper()
	v, err := l.Visit(l.guest(uid), manner)
	require.NoError(l.t, err)
	defer v.End()
	root, err := v.Root()
	require.NoError(l.t, err)
	return do(v, root)
}

func (l *larkfell) entry(path string, e acl.Entry) {
	rules := &l.records.Folders[0].Rules
	for i := range *rules {
		if (*rules)[i].Path == path {
			(*rules)[i].Entries = append((*rules)[i].Entries, e)
			l.compile()
			return
		}
	}
	*rules = append(*rules, acl.Rule{ID: int64(100 + len(*rules)), Path: path, Entries: []acl.Entry{e}})
	l.compile()
}

// keyOf gives the key by which NFS knows an object, by one of its names.
func (l *larkfell) keyOf(uid uint32, path string) (key Key) {
	l.t.Helper()
	require.NoError(l.t, l.visit(uid, Working, func(v *Visit, _ *Object) error {
		o, err := walkTo(v, path)
		if err == nil {
			key = o.Key()
		}
		return err
	}), path)
	return key
}

// Of a file with two names none grants what the other withholds: not when the host made them, not when rules come to
// differ later, and not by whoever looked it up last.
func TestAFileOfTwoNames(t *testing.T) {
	for name, wire := range map[string]bool{"made by the host": false, "made over the wire": true} {
		t.Run(name, func(t *testing.T) {
			l := newLarkfell(t)
			l.exported()
			l.write("drop/plate.fits", "raw")
			if wire {
				require.NoError(t, os.Mkdir(filepath.Join(l.root, "drop2"), 0o770))
				l.write("drop2/other", "")
				require.ErrorIs(t, l.visit(2003, Working, func(v *Visit, _ *Object) error {
					o, err := walkTo(v, "drop/plate.fits")
					require.NoError(t, err)
					to, err := walkTo(v, "2026")
					require.NoError(t, err)
					return o.Link(to, "mine.fits")
				}), ErrAcross, "other rules hold there, for bettany if not for piran")
				require.NoError(t, l.visit(2003, Working, func(v *Visit, _ *Object) error {
					o, err := walkTo(v, "README.txt")
					require.NoError(t, err)
					to, err := walkTo(v, "2026")
					require.NoError(t, err)
					return o.Link(to, "mine.txt")
				}))
				l.entry("2026", acl.Entry{ID: 50, Deny: true, Who: identity.UserPrincipal(piran), Level: acl.Change, Applies: acl.Everywhere})
			} else {
				require.NoError(t, os.Link(filepath.Join(l.root, "README.txt"), filepath.Join(l.root, "2026/mine.txt")))
				l.entry("2026", acl.Entry{ID: 50, Deny: true, Who: identity.UserPrincipal(piran), Level: acl.Change, Applies: acl.Everywhere})
			}
			// By its first name piran may change it, by its second only read.
			_, err := l.open(piran, "README.txt", acl.WriteData, OpenOnly)
			require.ErrorIs(t, err, ErrDenied)
			_, err = l.open(piran, "2026/mine.txt", acl.WriteData, OpenOnly)
			require.ErrorIs(t, err, ErrDenied)
			l.mustOpen(piran, "README.txt", acl.ReadData, OpenOnly)
			key := l.keyOf(2003, "README.txt")
			for _, by := range []string{"2026/mine.txt", "README.txt", "2026/mine.txt"} {
				require.Equal(t, key, l.keyOf(2006, by), "one file, whoever looks it up")
				f, err := l.File(l.guest(2003), key, true)
				if err == nil {
					f.Release()
				}
				require.ErrorIs(t, err, ErrDenied, "after a look by %s", by)
				f, err = l.File(l.guest(2003), key, false)
				require.NoError(t, err)
				f.Release()
			}
			others, known := FactsOf(l.policy.Load(), l.policy.Load().Folders[0]).Others("README.txt")
			require.True(t, known)
			require.Equal(t, []string{"2026/mine.txt"}, others, "and the audit knows")
			// A handle that was open before feels it as well.
			l.records.Folders[0].Rules[len(l.records.Folders[0].Rules)-1].Entries = nil
			l.compile()
			h := l.mustOpen(piran, "README.txt", acl.WriteData, OpenOnly)
			_, err = h.WriteAt([]byte("x"), 0, false)
			require.NoError(t, err)
			l.entry("2026", acl.Entry{ID: 51, Deny: true, Who: identity.UserPrincipal(piran), Level: acl.Change, Applies: acl.Everywhere})
			_, err = h.WriteAt([]byte("x"), 0, false)
			require.ErrorIs(t, err, ErrDenied)
		})
	}
}

// Names of one file are bounded where all of them are looked at, so that they cost nobody else anything; and by more, made by
// the host, nobody has it.
func TestNamesAreBounded(t *testing.T) {
	l := newLarkfell(t)
	l.exported()
	at := filepath.Join(l.root, "README.txt")
	for i := range mostNames - 1 {
		require.NoError(t, os.Link(at, filepath.Join(l.root, "2026", fmt.Sprint("n", i))))
	}
	l.mustOpen(piran, "README.txt", acl.ReadData, OpenOnly)
	require.ErrorIs(t, l.visit(2003, Working, func(_ *Visit, root *Object) error {
		o, err := root.Lookup("README.txt")
		require.NoError(t, err)
		return o.Link(root, "one more")
	}), ErrManyNames)
	facts := FactsOf(l.policy.Load(), l.policy.Load().Folders[0])
	others, known := facts.Others("README.txt")
	require.True(t, known)
	require.Len(t, others, mostNames-1)
	require.NoError(t, os.Link(at, filepath.Join(l.root, "one more")))
	_, err := l.open(piran, "README.txt", acl.ReadData, OpenOnly)
	require.ErrorIs(t, err, ErrDenied)
	_, known = facts.Others("README.txt")
	require.False(t, known, "as the audit has it")
}

// To rename a directory where it is takes to delete it and to add there, as RFC 8881 section 6.2.1.3.2 and MS-FSA section
// 2.1.5.15.11 have it, and not to read what is in it; its rules stay with it. To bring it where other rules
// hold takes reading it.
func TestRenamingWhatOneCannotRead(t *testing.T) {
	l := newLarkfell(t)
	// piran holds change at the root, and may not read what is closed.
	h := l.mustOpen(piran, "closed", acl.Delete, OpenOnly)
	require.NoError(t, h.Rename(context.Background(), "shut", false))
	require.Equal(t, []string{"closed to shut"}, l.moved)
	require.NoError(t, os.Rename(filepath.Join(l.root, "shut"), filepath.Join(l.root, "closed"))) // the records of this test did not move
	l = newLarkfell(t)
	h = l.mustOpen(piran, "closed", acl.Delete, OpenOnly)
	require.ErrorIs(t, h.Rename(context.Background(), "drop/shut", false), ErrDenied)

	// Nor does anything come to lie under rules that wait for it, unless it may be read.
	l = newLarkfell(t)
	l.entry("new.txt", acl.Entry{ID: 60, Who: identity.UserPrincipal(bettany), Level: acl.Change, Applies: acl.Everywhere})
	l.write("old.txt", "secret")
	l.entry("old.txt", acl.Entry{ID: 61, Deny: true, Who: identity.UserPrincipal(piran), Level: acl.Read, Applies: acl.Everywhere})
	h = l.mustOpen(piran, "old.txt", acl.Delete, OpenOnly)
	require.Error(t, h.Rename(context.Background(), "new.txt", false))
}

// What may be set of an object may be set of a new one, and no more: nobody makes things in another's name.
func TestMakingInAnothersName(t *testing.T) {
	l := newLarkfell(t)
	l.exported()
	other, own := uint32(2006), uint32(2003)
	makes := map[string]func(o *Object, name string, s Set) error{
		"create": func(o *Object, name string, s Set) error { _, err := o.CreateFile(name, s); return err },
		"mkdir":  func(o *Object, name string, s Set) error { _, err := o.Mkdir(name, s); return err },
		"mknod":  func(o *Object, name string, s Set) error { _, err := o.Mknod(name, unix.S_IFIFO, s); return err },
		"open": func(o *Object, name string, s Set) error {
			h, _, err := o.OpenNew(name, OpenRequest{Access: acl.WriteData, Sharing: 7}, s)
			if err == nil {
				err = h.Drop()
			}
			return err
		},
	}
	for _, mode := range []site.Permissions{site.ByEntries, site.ByMode} {
		l.records.Folders[0].Permissions = mode
		if mode == site.ByMode {
			l.records.Folders[0].Rules = nil
			require.NoError(t, os.Chmod(l.root, 0o777))
		}
		l.compile()
		for what, do := range makes {
			name := fmt.Sprint(what, "-", mode)
			require.Error(t, l.visit(2003, Working, func(_ *Visit, root *Object) error { return do(root, name, Set{UID: &other}) }), name)
			require.NoFileExists(t, filepath.Join(l.root, name), "and nothing is left of it")
			if what == "mknod" {
				continue // a pipe of a mapped folder is its owner's, whoever makes it
			}
			require.NoError(t, l.visit(2003, Working, func(_ *Visit, root *Object) error { return do(root, name, Set{UID: &own}) }), name)
			require.Error(t, l.visit(2003, Working, func(_ *Visit, root *Object) error {
				c, err := root.Lookup(name)
				require.NoError(t, err)
				return c.Set(Set{UID: &other})
			}), "as setting it later")
		}
	}
}

// Two who may only append never write over each other, wherever they send it to.
func TestAppendersDoNotOverwrite(t *testing.T) {
	l := newLarkfell(t)
	l.write("log", "")
	const each = 300
	var wait sync.WaitGroup
	for who := range 4 {
		h := l.mustOpen(piran, "log", acl.AppendData, OpenOnly)
		wait.Go(func() {
			for i := range each {
				st, err := os.Stat(filepath.Join(l.root, "log"))
				require.NoError(t, err)
				n, err := h.WriteAt(fmt.Appendf(nil, "%d %04d\n", who, i), st.Size(), false)
				require.NoError(t, err)
				require.Equal(t, 7, n)
			}
		})
	}
	wait.Wait()
	seen := make(map[string]bool)
	for line := range strings.Lines(l.read("log")) {
		require.Len(t, line, 7)
		seen[line] = true
	}
	require.Len(t, seen, 4*each)
}

// A verdict that was taken while a directory was being renamed is not the last word: what is refused at the new place is
// refused there from the next request on.
func TestAVerdictDoesNotOutliveARename(t *testing.T) {
	l := newLarkfell(t)
	require.NoError(t, os.MkdirAll(filepath.Join(l.root, "2026/04"), 0o755))
	l.write("2026/04/list", "text")
	h := l.mustOpen(orla, "2026/04/list", acl.ReadData, OpenOnly)
	_, err := h.ReadAt(make([]byte, 1), 0)
	require.NoError(t, err)
	l.entry("drop", acl.Entry{ID: 70, Deny: true, Who: identity.UserPrincipal(orla), Level: acl.Read, Applies: acl.Everywhere})

	// The read is held up after it has asked for the policy by which it decides, and the rename comes between.
	var asked atomic.Int32
	reading, renamed := make(chan struct{}), make(chan error, 1)
	load := l.policy.Load
	l.Namespace.policy = func() *site.Policy {
		if asked.Add(1) == 3 { // in deciding anew
			close(reading)
			select {
			case err := <-renamed: // it waits for the verdict, or it is over
				renamed <- err
			case <-time.After(300 * time.Millisecond):
			}
		}
		return load()
	}
	read := make(chan error, 1)
	go func() { _, err := h.ReadAt(make([]byte, 1), 0); read <- err }()
	<-reading
	// As Rename does it; the counted goroutine alone asks for the policy.
	l.Namespace.folder(1).paths.Lock()
	go func() {
		v := view{policy: load(), folder: load().Folders[0]}
		renamed <- l.Namespace.carry(context.Background(), v, l.Namespace.folder(1), "2026/04", "drop/04", func() error {
			err := os.Rename(filepath.Join(l.root, "2026/04"), filepath.Join(l.root, "drop/04"))
			l.Namespace.moved(l.Namespace.folder(1), "2026/04", "drop/04")
			return err
		}, nil)
	}()
	<-read
	err = <-renamed
	l.Namespace.folder(1).paths.Unlock()
	require.NoError(t, err)
	l.Namespace.policy = load
	require.Equal(t, "drop/04/list", h.Path())
	_, err = h.ReadAt(make([]byte, 1), 0)
	require.ErrorIs(t, err, ErrDenied)
}

// As much as there is, where there is nothing, is no way in.
func TestMaximumOfNothing(t *testing.T) {
	l := newLarkfell(t)
	l.entry("README.txt", acl.Entry{ID: 80, Deny: true, Who: identity.UserPrincipal(orla), Mask: acl.All, Applies: acl.Everywhere})
	l.entry("", acl.Entry{ID: 81, Deny: true, Who: identity.UserPrincipal(orla), Mask: acl.ListDirectory, Applies: acl.Here})
	_, _, err := l.Open(Subject{User: orla, Via: site.SMB}, OpenRequest{Share: "nightlog", Path: "README.txt", Maximum: true, Sharing: 7, Disposition: OpenOnly})
	require.ErrorIs(t, err, ErrDenied)
}

// The bits that run a file as someone else do not survive that somebody else alters it, by whichever way.
func TestSetIDBitsDoNotSurvive(t *testing.T) {
	for name, alter := range map[string]func(h *Handle) error{
		"write":    func(h *Handle) error { _, err := h.WriteAt([]byte("x"), 0, false); return err },
		"truncate": func(h *Handle) error { return h.Truncate(2) },
	} {
		for _, permissions := range []site.Permissions{site.ByMode, site.ByEntries} {
			l := newLarkfell(t)
			at := filepath.Join(l.root, "tool")
			l.write("tool", "#!/bin/sh")
			require.NoError(t, os.Chmod(l.root, 0o777))
			if l.records.Folders[0].Permissions = permissions; permissions == site.ByMode {
				l.records.Folders[0].Rules = nil
				require.NoError(t, unix.Setxattr(at, ownerAttr, []byte("2005:3001:6777"), 0))
			} else {
				require.NoError(t, os.Chmod(at, 0o755|os.ModeSetuid|os.ModeSetgid))
			}
			l.compile()
			mode := func() (m uint32) {
				FactsOf(l.policy.Load(), l.policy.Load().Folders[0]).at("tool", func(fd int, st *unix.Statx_t) {
					m = uint32(st.Mode) & 0o7777
					if permissions == site.ByMode {
						m = FactsOf(l.policy.Load(), l.policy.Load().Folders[0]).read(fd, st).Mode
					}
				})
				return m
			}
			require.NotZero(t, mode()&(posix.SetUID|posix.SetGID))
			h := l.mustOpen(piran, "tool", acl.WriteData|acl.ReadData, OpenOnly)
			require.NotZero(t, mode()&posix.SetUID, "opening alters nothing")
			require.NoError(t, alter(h))
			require.Zero(t, mode()&(posix.SetUID|posix.SetGID), "%s, %s", name, permissions)
			if permissions == site.ByMode { // set again while it is open, and altered again
				SetMode(l.policy.Load(), usage.New(time.Now), l.policy.Load().Folders[0], "tool", Set{Mode: ptrTo(uint32(0o4777))})
				h.folder.epoch.Add(1)
				require.NoError(t, alter(h))
				require.Zero(t, mode()&posix.SetUID)
			}
			l.write("tool2", "x")
			require.NoError(t, os.Chmod(filepath.Join(l.root, "tool2"), 0o755|os.ModeSetuid))
			if permissions == site.ByEntries {
				l.mustOpen(piran, "tool2", acl.WriteData, Overwrite)
				st, err := os.Stat(filepath.Join(l.root, "tool2"))
				require.NoError(t, err)
				require.Zero(t, st.Mode()&os.ModeSetuid, "overwritten")
			}
		}
	}
}

func ptrTo[T any](v T) *T { return &v }

// Who watches is told what a listing would show them at that moment, and no name besides.
func TestNotificationsTellNoHiddenNames(t *testing.T) {
	l := newLarkfell(t)
	l.records.Shares[0].ListOnlyOpenable = true
	l.compile()
	watch := l.mustOpen(orla, "", acl.ListDirectory, OpenOnly)
	events, stop, err := l.Watch(watch, true)
	require.NoError(t, err)
	defer stop()
	told := func() (out []Event) {
		for {
			select {
			case e := <-events:
				if e, ok := watch.Told(e, true); ok {
					out = append(out, e)
				}
			default:
				return out
			}
		}
	}
	l.entry("2026", acl.Entry{ID: 90, Deny: true, Who: identity.UserPrincipal(orla), Level: acl.Read, Applies: acl.Everywhere})
	h := l.mustOpen(piran, "2026/pay.txt", acl.WriteData|acl.Delete, CreateOnly)
	require.Empty(t, told(), "made where she may not list")
	require.NoError(t, h.Rename(context.Background(), "pay2.txt", false))
	require.Equal(t, []Event{{Path: "pay2.txt", Kind: EventAdded}}, told(), "it came to where she may, and from where is not said")
	require.NoError(t, h.Rename(context.Background(), "2026/pay.txt", false))
	require.Equal(t, []Event{{Path: "pay2.txt", Kind: EventRemoved}}, told())
	l.mustOpen(piran, "public.txt", acl.WriteData, CreateOnly)
	require.Equal(t, []Event{{Path: "public.txt", Kind: EventAdded}}, told())
	l.entry("", acl.Entry{ID: 91, Deny: true, Who: identity.UserPrincipal(orla), Level: acl.Read, Applies: acl.Everywhere})
	l.mustOpen(piran, "later.txt", acl.WriteData, CreateOnly)
	require.Empty(t, told(), "access that ended while she waited")
}

// Where modes decide, a handle is good by whichever of a file's names its holder gets to, whoever looked it up last by
// which.
func TestALookupDoesNotShutOthersOut(t *testing.T) {
	l := newLarkfell(t)
	l.byModes()
	own := func(path, owner string) {
		require.NoError(t, unix.Setxattr(filepath.Join(l.root, path), ownerAttr, []byte(owner), 0))
	}
	own("closed", "2005:3001:0700") // bettany's alone
	own("2026", "2005:3001:0755")
	require.NoError(t, os.Link(filepath.Join(l.root, "closed/key.txt"), filepath.Join(l.root, "2026/key.txt")))
	own("2026/key.txt", "2005:3001:0644")
	key := l.keyOf(2003, "2026/key.txt")
	reads := func() error {
		f, err := l.File(l.guest(2003), key, false)
		if err == nil {
			f.Release()
		}
		return err
	}
	require.NoError(t, reads())
	for range 3 {
		require.Equal(t, key, l.keyOf(2005, "closed/key.txt"))
		l.folder(1).epoch.Add(1) // so that it is decided about anew
		require.NoError(t, reads(), "bettany looked it up where piran does not get")
	}
	_, err := l.open(piran, "closed/key.txt", acl.ReadData, OpenOnly)
	require.ErrorIs(t, err, ErrDenied, "by that name he does not")
}
