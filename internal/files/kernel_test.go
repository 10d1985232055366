package files

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"net/netip"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"unsafe"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/test/need"
)

// The numbers that play: three people with groups, some of nobody's, and the superuser.
var (
	playerUIDs = []uint32{2001, 2002, 2003, 0}
	playerGIDs = []uint32{3001, 3002, 3003, 3004}
)

// twin is a tree twice: one that is served where modes decide, one that the kernel decides about.
type twin struct {
	t      *testing.T
	rng    *rand.Rand
	served string // directories of the host
	native string
	ns     *Namespace
	paths  []string // that there were at first
}

func newTwin(t *testing.T, dir string, rng *rand.Rand, ownership site.Ownership) *twin {
	w := &twin{t: t, rng: rng, served: filepath.Join(dir, "served"), native: filepath.Join(dir, "native")}
	w.paths = []string{"", "a", "a/f", "a/g", "b", "b/d", "b/d/f", "b/e", "f"}
	for _, root := range []string{w.served, w.native} {
		for _, p := range w.paths {
			if strings.HasSuffix(p, "f") || strings.HasSuffix(p, "g") {
				require.NoError(t, os.WriteFile(filepath.Join(root, p), []byte("data"), 0o600))
			} else {
				require.NoError(t, os.MkdirAll(filepath.Join(root, p), 0o700))
			}
		}
	}
	p, err := site.Compile(site.Records{Volumes: []site.Volume{{ID: 1, Name: "v", Path: dir}},
		Folders: []site.Folder{{ID: 1, Name: "served", VolumeID: 1, Path: "served", Permissions: site.ByMode, Ownership: ownership}},
		Exports: []site.Export{{ID: 1, Path: "/served", FolderID: 1, ClientGroups: true, Rules: []site.ClientRule{
			{ID: 1, From: "*", Write: true, Squash: site.SquashNone, Unknown: site.UnknownNumber, Security: []site.Flavor{site.FlavorSys}}}}},
		Services: site.Services{NFS: true}})
	require.NoError(t, err)
	var policy atomic.Pointer[site.Policy]
	policy.Store(p)
	w.ns = New(policy.Load, nil)
	facts := FactsOf(p, p.Folders[0])
	for _, path := range w.paths {
		is := w.attributes(path)
		host := Facts{place: site.Location{Volume: w.native}, native: true, unix: true}
		for _, f := range []Facts{facts, host} {
			f.at(path, func(fd int, st *unix.Statx_t) { require.NoError(t, f.write(fd, st, f.read(fd, st), is), path) })
		}
	}
	return w
}

func pick[T any](rng *rand.Rand, of []T) T { return of[rng.IntN(len(of))] }

func (w *twin) mode() uint32 {
	m := w.rng.Uint32() & 0o777
	if w.rng.IntN(2) == 0 { // modes that let something happen
		m |= 0o550
	}
	for _, bit := range []uint32{posix.SetUID, posix.SetGID, posix.Sticky} {
		if w.rng.IntN(4) == 0 {
			m |= bit
		}
	}
	return m
}

func (w *twin) acl(mode uint32) posix.ACL {
	list := posix.Of(mode)
	perm := func() uint32 { return w.rng.Uint32() & 7 }
	for _, uid := range playerUIDs[:3] {
		if w.rng.IntN(3) == 0 {
			list = append(list, posix.ACE{Tag: posix.User, Perm: perm(), ID: uid})
		}
	}
	for _, gid := range playerGIDs {
		if w.rng.IntN(3) == 0 {
			list = append(list, posix.ACE{Tag: posix.Group, Perm: perm(), ID: gid})
		}
	}
	if len(list) > 3 {
		list[1].Perm = perm() // the mode's group bits are then the mask
		list = append(list, posix.ACE{Tag: posix.Mask, Perm: mode >> 3 & 7, ID: posix.Nobody})
	}
	return list.Sorted()
}

func (w *twin) attributes(path string) posix.Attributes {
	a := posix.Attributes{UID: pick(w.rng, playerUIDs), GID: pick(w.rng, playerGIDs), Mode: w.mode()}
	a.Dir = !strings.HasSuffix(path, "f") && !strings.HasSuffix(path, "g")
	if path == "" || w.rng.IntN(3) == 0 {
		a.Mode |= 0o111 // else too much ends on the way
	}
	who := posix.Credential{}
	if w.rng.IntN(2) == 0 {
		a = posix.WithACL(&who, a, w.acl(a.Mode))
	}
	if a.Dir && w.rng.IntN(2) == 0 {
		a.Default = w.acl(w.mode())
	}
	return a
}

func (w *twin) credential() posix.Credential {
	c := posix.Credential{UID: pick(w.rng, playerUIDs), GID: pick(w.rng, playerGIDs)}
	if w.rng.IntN(4) > 0 && c.UID == 0 {
		c.UID = playerUIDs[0]
	}
	for _, g := range playerGIDs {
		if w.rng.IntN(3) == 0 {
			c.Groups = append(c.Groups, g)
		}
	}
	return c
}

// asKernel runs fn on a thread that has a credential for the file system, and no other.
func asKernel(c posix.Credential, fn func() error) error {
	done := make(chan error, 1)
	go func() {
		runtime.LockOSThread() // never unlocked: the thread ends with the goroutine
		done <- func() error {
			groups := make([]uint32, len(c.Groups)+1)
			copy(groups, c.Groups)
			if _, _, e := unix.RawSyscall(unix.SYS_SETGROUPS, uintptr(len(c.Groups)), uintptr(ptr(groups)), 0); e != 0 {
				return fmt.Errorf("setgroups: %w", e)
			}
			unix.RawSyscall(unix.SYS_SETFSGID, uintptr(c.GID), 0, 0)
			unix.RawSyscall(unix.SYS_SETFSUID, uintptr(c.UID), 0, 0)
			return fn()
		}()
	}()
	return <-done
}

// act is one thing to do, in both worlds.
type act struct {
	what   string
	served func(v *Visit) error
	kernel func(root int) error
}

// walkTo finds the object at a path, name by name, as a client does.
func walkTo(v *Visit, path string) (*Object, error) {
	o, err := v.Root()
	for name := range strings.SplitSeq(path, "/") {
		if err == nil && name != "" {
			o, err = o.Lookup(name)
		}
	}
	return o, err
}

// at is a path as the kernel is asked for it: the root by its full name, since "." would take passing it.
func (w *twin) at(path string) string {
	if path == "" {
		return w.native
	}
	return path
}

func (w *twin) act() act {
	path := pick(w.rng, w.paths)
	dir, name := split(pick(w.rng, w.paths[1:]))
	if w.rng.IntN(2) == 0 {
		name = pick(w.rng, []string{"new", "other"})
	}
	object := func(path string, fn func(o *Object) error) func(*Visit) error {
		return func(v *Visit) error {
			o, err := walkTo(v, path)
			if err != nil {
				return err
			}
			return fn(o)
		}
	}
	mode := w.mode()
	full := join(dir, name)
	made := func(_ *Object, err error) error { return err }
	switch w.rng.IntN(13) {
	case 0, 1, 2: // what may be done, all at once
		bits := 1 + w.rng.Uint32N(7)
		return act{fmt.Sprintf("access %s of %q", posix.Bits(bits), path), object(path, func(o *Object) error {
			var want acl.Mask
			for bit, m := range map[uint32]acl.Mask{posix.Read: acl.ReadData, posix.Write: acl.WriteData, posix.Exec: acl.Execute} {
				if bits&bit != 0 {
					want |= m
				}
			}
			if o.Dir() && bits&posix.Write != 0 && bits&posix.Exec == 0 {
				// Alone, to write to a directory is of no use and not asked for.
				if !posix.Permits(&o.w.v.nfs.Unix, o.owner(), bits) {
					return ErrDenied
				}
				return nil
			}
			if verdict := o.w.v.decideAt(access.ToAsk, o.path, !o.Dir(), want); !verdict.Allowed() {
				return ErrDenied
			}
			return nil
		}), func(root int) error { return unix.Faccessat(root, w.at(path), bits, unix.AT_EACCESS) }}
	case 3:
		return act{fmt.Sprintf("create %q %o", full, mode), object(dir, func(o *Object) error { return made(o.CreateFile(name, Set{Mode: &mode})) }), func(root int) error {
			fd, err := unix.Openat(root, full, unix.O_CREAT|unix.O_EXCL|unix.O_WRONLY, mode)
			if err == nil {
				unix.Close(fd)
			}
			return err
		}}
	case 4:
		return act{fmt.Sprintf("mkdir %q %o", full, mode), object(dir, func(o *Object) error { return made(o.Mkdir(name, Set{Mode: &mode})) }), func(root int) error {
			return unix.Mkdirat(root, full, mode)
		}}
	case 5:
		return act{fmt.Sprintf("unlink %q", full), object(dir, func(o *Object) error { return o.Remove(name, false) }), func(root int) error { return unix.Unlinkat(root, full, 0) }}
	case 6:
		return act{fmt.Sprintf("rmdir %q", full), object(dir, func(o *Object) error { return o.Remove(name, true) }), func(root int) error {
			return unix.Unlinkat(root, full, unix.AT_REMOVEDIR)
		}}
	case 7:
		toDir, toName := split(pick(w.rng, w.paths[1:]))
		if w.rng.IntN(2) == 0 {
			toName = "new"
		}
		return act{fmt.Sprintf("rename %q to %q", full, join(toDir, toName)), func(v *Visit) error {
			from, err := walkTo(v, dir)
			if err != nil {
				return err
			}
			to, err := walkTo(v, toDir)
			if err != nil {
				return err
			}
			return from.Rename(w.t.Context(), name, to, toName)
		}, func(root int) error { return unix.Renameat(root, full, root, join(toDir, toName)) }}
	case 8:
		return act{fmt.Sprintf("chmod %q %o", path, mode), object(path, func(o *Object) error { return o.Set(Set{Mode: &mode}) }), func(root int) error {
			return unix.Fchmodat(root, w.at(path), mode, 0)
		}}
	case 9:
		set, uid, gid := Set{}, -1, -1
		if w.rng.IntN(3) == 0 {
			u := pick(w.rng, playerUIDs)
			set.UID, uid = &u, int(u)
		}
		if uid < 0 || w.rng.IntN(2) == 0 {
			g := pick(w.rng, playerGIDs)
			set.GID, gid = &g, int(g)
		}
		return act{fmt.Sprintf("chown %q %d:%d", path, uid, gid), object(path, func(o *Object) error { return o.Set(set) }), func(root int) error {
			return unix.Fchownat(root, w.at(path), uid, gid, 0)
		}}
	case 10:
		size := uint64(w.rng.IntN(9))
		return act{fmt.Sprintf("truncate %q", path), object(path, func(o *Object) error {
			// The owner may always cut short over NFS; the kernel asks the mode.
			if says, _ := o.Says(); o.Regular() && says&acl.WriteData == 0 {
				return ErrDenied
			}
			return o.Set(Set{Size: &size})
		}), func(root int) error {
			fd, err := unix.Openat(root, w.at(path), unix.O_WRONLY, 0)
			if err != nil {
				return err
			}
			defer unix.Close(fd)
			return unix.Ftruncate(fd, int64(size))
		}}
	case 11:
		set, times := Set{Accessed: &SetTime{Now: true}, Modified: &SetTime{Now: true}}, []unix.Timespec{{Nsec: unix.UTIME_NOW}, {Nsec: unix.UTIME_NOW}}
		if w.rng.IntN(2) == 0 {
			set, times = Set{Accessed: &SetTime{Sec: 9}, Modified: &SetTime{Sec: 9}}, []unix.Timespec{{Sec: 9}, {Sec: 9}}
		}
		return act{fmt.Sprintf("utimes %q %v", path, set.Accessed.Now), object(path, func(o *Object) error { return o.Set(set) }), func(root int) error {
			return unix.UtimesNanoAt(root, w.at(path), times, 0)
		}}
	}
	list, def := w.acl(w.mode()), posix.ACL(nil)
	isDir := w.rng.IntN(2) == 0
	if isDir {
		def = w.acl(w.mode())
	}
	return act{fmt.Sprintf("set ACL of %q", path), object(path, func(o *Object) error {
		if isDir && !o.Dir() {
			return ErrInvalid
		}
		_, had := o.ACL()
		if isDir {
			had = def
		}
		return o.SetACL(list, had)
	}), func(root int) error {
		fd, err := unix.Openat(root, w.at(path), unix.O_PATH, 0)
		if err != nil {
			return err
		}
		defer unix.Close(fd)
		var st unix.Stat_t
		if err := unix.Fstat(fd, &st); err != nil {
			return err
		}
		if isDir && st.Mode&unix.S_IFMT != unix.S_IFDIR {
			return unix.EINVAL
		}
		err = unix.Setxattr(procPath(fd), hostACL, list.Bytes(), 0)
		if err == nil && isDir {
			err = unix.Setxattr(procPath(fd), hostDefault, def.Bytes(), 0)
		}
		return err
	}}
}

// state spells all there is in a tree, with owners, modes and ACLs.
func state(t *testing.T, f Facts, root string) []string {
	var out []string
	require.NoError(t, filepath.WalkDir(root, func(path string, _ os.DirEntry, err error) error {
		if err != nil {
			return err
		}
		rel, _ := filepath.Rel(root, path)
		if rel == "." {
			rel = ""
		}
		f.at(rel, func(fd int, st *unix.Statx_t) {
			a := f.read(fd, st)
			size := st.Size
			if a.Dir {
				size = 0
			}
			out = append(out, fmt.Sprintf("%q %d:%d %o %d acl %v default %v", rel, a.UID, a.GID, a.Mode, size, a.ACL, a.Default))
		})
		return nil
	}))
	slices.Sort(out)
	return out
}

// What is decided where modes decide is what the kernel decides, and what comes of it is the same:
// random trees with POSIX ACLs, users and operations, beside the kernel's own.
func TestModesDecideAsTheKernelDoes(t *testing.T) {
	if os.Geteuid() != 0 {
		need.Missing(t, "the kernel's answers for other users take root")
	}
	base := t.TempDir()
	if err := unix.Setxattr(base, hostACL, posix.Of(0o755).Bytes(), 0); err != nil {
		need.Missing(t, "%s keeps no POSIX ACLs: %v", base, err)
	}
	for _, dir := range []string{base, filepath.Dir(base)} {
		require.NoError(t, os.Chmod(dir, 0o755))
	}
	old := unix.Umask(0)
	defer unix.Umask(old)
	const cases, perTree = 20000, 20
	allowed := 0
	for tree := range cases / perTree {
		ownership := site.Native
		if tree%2 == 1 {
			ownership = site.Mapped
		}
		seed := uint64(tree)
		rng := rand.New(rand.NewPCG(seed, 7))
		dir := filepath.Join(base, fmt.Sprint(tree))
		require.NoError(t, os.Mkdir(dir, 0o755))
		w := newTwin(t, dir, rng, ownership)
		root, err := unix.Open(w.native, unix.O_PATH|unix.O_DIRECTORY, 0)
		require.NoError(t, err)
		for range perTree {
			a, who := w.act(), w.credential()
			v, err := w.ns.Visit(&Guest{Export: 1, Origin: site.Origin{Address: netip.MustParseAddr("192.0.2.1"), Flavor: site.FlavorSys}, Said: who}, Alone)
			require.NoError(t, err)
			ours := a.served(v)
			v.End()
			theirs := asKernel(who, func() error { return a.kernel(root) })
			if (ours == nil) != (theirs == nil) {
				t.Fatalf("tree %d, %s ownership: %s as %+v: ours %v, the kernel's %v\n%s", tree, ownership, a.what, who, ours, theirs,
					strings.Join(state(t, Facts{place: site.Location{Volume: w.native}, native: true, unix: true}, w.native), "\n"))
			}
			if ours == nil {
				allowed++
			}
			is, want := state(t, FactsOf(w.ns.policy(), w.ns.policy().Folders[0]), w.served), state(t, Facts{place: site.Location{Volume: w.native}, native: true, unix: true}, w.native)
			require.Equal(t, want, is, "tree %d, %s ownership, after %s as %+v (%v)", tree, ownership, a.what, who, errors.Join(ours))
		}
		unix.Close(root)
		require.NoError(t, os.RemoveAll(dir))
	}
	t.Logf("%d cases, of which the kernel and we allow %d", cases, allowed)
	require.Greater(t, allowed, cases/10)
	require.Less(t, allowed, cases*9/10)
}

func ptr(s []uint32) unsafe.Pointer { return unsafe.Pointer(&s[0]) }
