package files

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/usage"
)

// counted has what is in the folder counted, under some limits.
func (l *larkfell) counted(limits ...limit.Limit) *usage.Ledger {
	l.t.Helper()
	l.records.Volumes[0].Counting = site.CountSize
	ledger := usage.New(func() time.Time { return l.now })
	l.Account(ledger)
	l.limit(limits...)
	return ledger
}

// limit puts limits in force, and has what is new counted.
func (l *larkfell) limit(limits ...limit.Limit) {
	l.t.Helper()
	l.records.Limits = limits
	l.compile()
	l.ledger.SetTable(l.policy.Load().Limits)
	for _, need := range l.Follow(1, func() *usage.Setup {
		p := l.policy.Load()
		v := p.Volumes[0]
		return &usage.Setup{ID: 1, Volume: 1, Allocated: v.Counting == site.CountAllocated, Owner: CountFor(p, p.Folders[0]), Trees: p.Limits.Trees(1)}
	}) {
		_, done, err := l.Count(context.Background(), need.Folder, need.Below, atOnce)
		require.NoError(l.t, err)
		require.True(l.t, done)
	}
}

func atOnce(int64) error { return nil }

// used is what a walk finds that shares nothing with the counting: by uid, by gid, in all, and in some directories.
type used struct {
	owners, groups map[uint32]limit.Amount
	all            limit.Amount
	trees          map[string]limit.Amount
}

func (l *larkfell) walk(allocated bool, trees ...string) used {
	l.t.Helper()
	u := used{make(map[uint32]limit.Amount), make(map[uint32]limit.Amount), limit.Amount{}, make(map[string]limit.Amount)}
	seen, inTree := make(map[uint64]bool), make(map[string]bool)
	require.NoError(l.t, filepath.WalkDir(l.root, func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := d.Info()
		if err != nil {
			return err
		}
		st := info.Sys().(*syscall.Stat_t)
		a := limit.Amount{Bytes: st.Size, Files: 1}
		if n, err := unix.Lgetxattr(path, "user.amber.streams", nil); err == nil {
			a.Bytes += int64(n)
		}
		if allocated {
			a.Bytes = st.Blocks * 512
		}
		rel, _ := filepath.Rel(l.root, path)
		for _, tree := range trees {
			key := fmt.Sprint(tree, st.Ino)
			if (rel == tree || strings.HasPrefix(rel, tree+"/")) && !inTree[key] {
				inTree[key] = true
				u.trees[tree] = u.trees[tree].Plus(a)
			}
		}
		if seen[st.Ino] {
			return nil
		}
		seen[st.Ino] = true
		uid, gid := site.Anonymous, site.Anonymous
		buf := make([]byte, 64)
		if n, err := unix.Lgetxattr(path, "user.amber.owner", buf); err == nil {
			_, err := fmt.Sscanf(string(buf[:n]), "%d:%d", &uid, &gid)
			require.NoError(l.t, err)
		}
		u.owners[uid], u.groups[gid], u.all = u.owners[uid].Plus(a), u.groups[gid].Plus(a), u.all.Plus(a)
		return nil
	}))
	return u
}

// agrees holds the ledger to a walk.
func (l *larkfell) agrees(allocated bool, trees map[string]int64, why ...any) {
	l.t.Helper()
	var paths []string
	for path := range trees {
		paths = append(paths, path)
	}
	is := l.walk(allocated, paths...)
	for _, at := range []limit.Counter{{}, {Volume: 1}, {Volume: 1, Folder: 1}} {
		for _, of := range []struct {
			of limit.Counted
			by map[uint32]limit.Amount
		}{{limit.Owned, is.owners}, {limit.Grouped, is.groups}} {
			got := make(map[uint32]limit.Amount)
			l.ledger.Each(func(c limit.Counter, a limit.Amount) {
				number := c.Number
				if c.Number = 0; c.Of == of.of && a != (limit.Amount{}) {
					if c.Of = 0; c == at {
						got[number] = a
					}
				}
			})
			require.Equal(l.t, of.by, got, why...)
		}
	}
	require.Equal(l.t, is.all, l.ledger.Use(limit.Counter{Volume: 1, Folder: 1}), why...)
	require.Equal(l.t, is.all, l.ledger.Use(limit.Counter{Volume: 1}), why...)
	for path, id := range trees {
		require.Equal(l.t, is.trees[path], l.ledger.Use(limit.Counter{Volume: 1, Folder: 1, Tree: id}), "%s %v", path, why)
	}
}

func bound(n int64) *int64 { return &n }

// deeds does random things over both protocols; many fail, since others do theirs meanwhile.
func (l *larkfell) works(r *rand.Rand, n int) {
	dirs := []string{"", "2026", "2026/03", "drop", "drop/in", "wide", "wide/deep", "wide/deep/er"}
	path := func() string {
		if d := dirs[r.IntN(len(dirs))]; d != "" {
			return d + "/" + string(rune('a'+r.IntN(5)))
		}
		return string(rune('a' + r.IntN(5)))
	}
	dir := func() string { return dirs[1+r.IntN(len(dirs)-1)] }
	size := func() int { return []int{0, 1, 511, 512, 4095, 4096, 4097, 70_000}[r.IntN(8)] }
	people := []identity.ID{piran, bettany}
	uids := map[identity.ID]uint32{piran: 2003, bettany: 2005}
	smb := func(who identity.ID, path string, access acl.Mask, d Disposition, directory bool, do func(h *Handle)) {
		h, _, err := l.Open(Subject{User: who, Via: site.SMB}, OpenRequest{Share: "nightlog", Path: path, Access: access, Disposition: d,
			Directory: directory, Sharing: ShareRead | ShareWrite | ShareDelete, Holder: l})
		if err == nil {
			do(h)
			_ = h.Close()
		}
	}
	nfs := func(who identity.ID, manner Manner, do func(v *Visit)) {
		v, err := l.Visit(l.guest(uids[who]), manner)
		if err == nil {
			do(v)
			v.End()
		}
	}
	in := func(v *Visit, path string, do func(dir *Object, name string)) {
		at, name := split(path)
		if d, err := walkTo(v, at); err == nil {
			do(d, name)
		}
	}
	ctx := context.Background()
	for range n {
		who, p := people[r.IntN(2)], path()
		switch r.IntN(16) {
		case 0, 1:
			smb(who, p, acl.WriteData|acl.ReadData, OpenIf, false, func(h *Handle) { _, _ = h.WriteAt(make([]byte, size()), int64(size()), false) })
		case 2:
			smb(who, p, acl.AppendData, OpenIf, false, func(h *Handle) { _, _ = h.WriteAt(make([]byte, size()), 0, false) })
		case 3:
			smb(who, p, acl.WriteData, OverwriteIf, false, func(h *Handle) { _ = h.Truncate(int64(size())) })
		case 4:
			smb(who, dir(), acl.ReadAttributes, OpenIf, true, func(*Handle) {})
		case 5:
			smb(who, p, acl.Delete, OpenOnly, false, func(h *Handle) { _ = h.SetDelete(true) })
		case 6:
			from := p
			if r.IntN(3) == 0 {
				from = dir()
			}
			smb(who, from, acl.Delete, OpenOnly, false, func(h *Handle) { _ = h.Rename(ctx, path(), r.IntN(2) == 0) })
		case 7:
			smb(who, dir(), acl.Delete, OpenOnly, true, func(h *Handle) { _ = h.SetDelete(true) })
		case 8, 9:
			nfs(who, Working, func(v *Visit) {
				in(v, p, func(d *Object, name string) {
					n := uint64(size())
					_, _ = d.CreateFile(name, Set{Size: &n})
				})
			})
		case 10:
			nfs(who, Working, func(v *Visit) { in(v, dir(), func(d *Object, name string) { _, _ = d.Mkdir(name, Set{}) }) })
		case 11:
			nfs(who, Working, func(v *Visit) {
				in(v, p, func(d *Object, name string) { _, _ = d.MakeLink(name, strings.Repeat("x", 1+size()%200), Set{}) })
			})
		case 12:
			nfs(who, Working, func(v *Visit) {
				if o, err := walkTo(v, p); err == nil {
					in(v, path(), func(d *Object, name string) { _ = o.Link(d, name) })
				}
			})
		case 13:
			nfs(who, Alone, func(v *Visit) {
				from := p
				if r.IntN(3) == 0 {
					from = dir()
				}
				in(v, from, func(d *Object, name string) {
					in(v, path(), func(to *Object, toName string) { _ = d.Rename(ctx, name, to, toName) })
				})
			})
		case 14:
			nfs(who, Working, func(v *Visit) {
				in(v, p, func(d *Object, name string) { _ = d.Remove(name, r.IntN(4) == 0) })
			})
		case 15:
			var key Key
			nfs(who, Working, func(v *Visit) {
				if o, err := walkTo(v, p); err == nil && o.Regular() {
					key = o.Key()
					if n := uint64(size()); r.IntN(2) == 0 {
						_ = o.Set(Set{Size: &n})
					}
					if uid := []uint32{2003, 2005, 2006}[r.IntN(3)]; r.IntN(2) == 0 {
						_ = o.Set(Set{UID: &uid})
					}
				}
			})
			if f, err := l.File(l.guest(uids[who]), key, true); err == nil {
				_, _, _ = f.WriteAt(make([]byte, size()), int64(size()), Unstable)
				f.Release()
			}
		}
	}
}

// Whatever is done, by many at once and while it is being counted again, what is counted is what a walk finds.
func TestWhatIsCountedIsWhatIsThere(t *testing.T) {
	for _, allocated := range []bool{false, true} {
		for round := range 6 {
			l := newLarkfell(t)
			l.exported()
			l.entry("", acl.Entry{ID: 90, Who: identity.Everyone, Level: acl.Control, Applies: acl.Everywhere})
			l.records.Folders[0].Rules = l.records.Folders[0].Rules[:1] // the same rules everywhere, so that things can be moved
			trees := map[string]int64{"drop": 1, "wide": 2, "wide/deep": 3}
			var limits []limit.Limit
			for path, id := range trees {
				require.NoError(t, os.MkdirAll(filepath.Join(l.root, path), 0o755))
				limits = append(limits, limit.Limit{ID: id, Kind: limit.OfFolder, Folder: 1, Path: path, Bounds: limit.Bounds{HardBytes: bound(1 << 40)}})
			}
			l.records.Volumes[0].Counting = site.CountSize
			l.counted()
			if allocated {
				l.records.Volumes[0].Counting = site.CountAllocated
			}
			l.limit(limits...)
			l.agrees(allocated, trees, "before anything")
			seed := uint64(round + 1)
			var wait sync.WaitGroup
			stop := make(chan struct{})
			counts := 0
			wait.Go(func() {
				for {
					select {
					case <-stop:
						return
					default:
					}
					differed, done, err := l.Count(context.Background(), 1, "", func(int64) error { time.Sleep(time.Millisecond); return nil })
					if !allocated && (err != nil || !done || differed.Any()) {
						t.Errorf("counting again beside others: %v %v %+v", err, done, differed)
					}
					counts++
				}
			})
			var people sync.WaitGroup
			for i := range 4 {
				people.Go(func() { l.works(rand.New(rand.NewPCG(seed, uint64(i))), 400) })
			}
			people.Wait()
			close(stop)
			wait.Wait()
			require.NotZero(t, counts)
			now := make(map[string]int64) // where the trees are by now
			for _, limited := range l.book().Paths() {
				now[limited.Path] = limited.ID
			}
			l.agrees(allocated, now, "allocated %v, seed %d", allocated, seed)
		}
	}
}

func (l *larkfell) book() *usage.Folder { return l.ledger.Folder(1) }

// Sixteen who write at once, over both protocols and in every way that grows, never have more than the limit among them.
func TestNeverAByteOver(t *testing.T) {
	const hard = 200_000
	for round := range 20 {
		kind := []limit.Limit{
			{ID: 1, Kind: limit.OfUser, User: piran}, {ID: 1, Kind: limit.OfUser, User: piran, Volume: 1}, {ID: 1, Kind: limit.OfFolder, Folder: 1},
			{ID: 1, Kind: limit.OfFolder, Folder: 1, Path: "2026"}, {ID: 1, Kind: limit.Default, Folder: 1},
		}[round%5]
		l := newLarkfell(t)
		l.exported()
		kind.HardBytes, kind.HardFiles = bound(hard), bound(60)
		l.counted(kind)
		var over atomic.Int64
		stop := make(chan struct{})
		var watch sync.WaitGroup
		at := limit.Counter{Of: limit.Owned, Number: 2003}
		switch {
		case kind.Kind == limit.OfFolder && kind.Path != "":
			at = limit.Counter{Volume: 1, Folder: 1, Tree: 1}
		case kind.Kind == limit.OfFolder:
			at = limit.Counter{Volume: 1, Folder: 1}
		case kind.Folder != 0: // what no limit is on holds, for a moment, what the one that has it refuses
			at.Volume, at.Folder = 1, 1
		case kind.Volume != 0:
			at.Volume = 1
		}
		watch.Go(func() {
			for {
				select {
				case <-stop:
					return
				default:
					if use := l.ledger.Use(at); use.Bytes > hard || use.Files > 60 {
						over.Store(use.Bytes)
					}
				}
			}
		})
		var refused, granted atomic.Int64
		note := func(err error) {
			switch {
			case err == nil:
				granted.Add(1)
			case errors.Is(err, ErrLimit):
				refused.Add(1)
			}
		}
		var writers sync.WaitGroup
		for i := range 16 {
			writers.Go(func() {
				r := rand.New(rand.NewPCG(uint64(round), uint64(i)))
				for range 30 {
					name := fmt.Sprintf("2026/%d", r.IntN(80))
					length := 1 + r.IntN(9000)
					if i%2 == 0 {
						h, _, err := l.Open(Subject{User: piran, Via: site.SMB}, OpenRequest{Share: "nightlog", Path: name, Access: acl.WriteData | acl.ReadData | acl.Delete,
							Disposition: OpenIf, Sharing: ShareRead | ShareWrite | ShareDelete})
						note(err)
						if err != nil {
							continue
						}
						if r.IntN(3) == 0 {
							note(h.Truncate(int64(length)))
						} else {
							_, err := h.WriteAt(make([]byte, length), int64(r.IntN(9000)), false)
							note(err)
						}
						_ = h.Close()
						continue
					}
					var key Key
					v, err := l.Visit(l.guest(2003), Working)
					if err != nil {
						continue
					}
					if d, err := walkTo(v, "2026"); err == nil {
						n := uint64(r.IntN(3000))
						_, name := split(name)
						o, err := d.CreateFile(name, Set{Size: &n})
						note(err)
						if errors.Is(err, ErrExists) {
							o, err = d.Lookup(name)
						}
						if err == nil {
							key = o.Key()
						}
					}
					v.End()
					if f, err := l.File(l.guest(2003), key, true); err == nil {
						_, _, err := f.WriteAt(make([]byte, length), int64(r.IntN(9000)), Unstable)
						note(err)
						f.Release()
					}
				}
			})
		}
		writers.Wait()
		close(stop)
		watch.Wait()
		require.Zero(t, over.Load(), "round %d", round)
		is := l.walk(false, "2026")
		for _, sum := range []limit.Amount{is.owners[2003], is.all, is.trees["2026"]}[map[bool]int{true: 0, false: 2}[kind.Kind != limit.OfFolder]:] {
			require.LessOrEqual(t, sum.Bytes, int64(hard))
			require.LessOrEqual(t, sum.Files, int64(60))
			break
		}
		require.NotZero(t, refused.Load())
		require.NotZero(t, granted.Load())
		l.agrees(false, nil, "round %d", round)

		// With no limit in the way nobody is refused.
		l.limit()
		refused.Store(0)
		h := l.mustOpen(piran, "2026/free", acl.WriteData, OpenIf)
		_, err := h.WriteAt(make([]byte, hard), 0, false)
		note(err)
		require.Zero(t, refused.Load())
	}
}

// A handle on what has no name any more renames nothing, whatever has that name by now.
func TestRenamingWhatIsGoneRenamesNothing(t *testing.T) {
	l := newLarkfell(t)
	l.exported()
	l.write("2026/mine", "mine")
	h := l.mustOpen(piran, "2026/mine", acl.Delete|acl.ReadData, OpenOnly)
	require.NoError(t, l.visit(2003, Working, func(v *Visit, _ *Object) error {
		d, err := walkTo(v, "2026")
		require.NoError(t, err)
		return d.Remove("mine", false)
	}))
	l.write("2026/mine", "somebody else's")
	require.Error(t, h.Rename(context.Background(), "2026/taken", false))
	require.Equal(t, "somebody else's", l.read("2026/mine"))
	require.NoFileExists(t, filepath.Join(l.root, "2026/taken"))
}

// A rename onto a symbolic link takes the place of what it leads to, whole or not at all.
func TestRenamingOntoALink(t *testing.T) {
	l := newLarkfell(t)
	l.write("2026/new", "new")
	l.write("2026/old", "old")
	require.NoError(t, os.Symlink("old", filepath.Join(l.root, "2026/link")))
	h := l.mustOpen(piran, "2026/new", acl.Delete, OpenOnly)
	require.NoError(t, h.Rename(context.Background(), "2026/link", true))
	require.Equal(t, "new", l.read("2026/old"))
	require.Equal(t, "2026/old", h.Path())
	require.NoFileExists(t, filepath.Join(l.root, "2026/new"))
}

// Every way of growing is refused at a limit, and says which; what shrinks or stays is not, also where the limit is below the use.
func TestEveryWayOfGrowingIsHeld(t *testing.T) {
	l := newLarkfell(t)
	l.exported()
	l.entry("", acl.Entry{ID: 90, Who: identity.Everyone, Level: acl.Control, Applies: acl.Everywhere})
	l.write("2026/other", strings.Repeat("x", 5000))
	own := func(path string) {
		require.NoError(t, unix.Setxattr(filepath.Join(l.root, path), ownerAttr, []byte("2003:2003"), 0))
	}
	l.write("2026/mine", strings.Repeat("x", 5000))
	own("2026/mine")
	piranHas := limit.Limit{ID: 7, Kind: limit.OfUser, User: piran, Bounds: limit.Bounds{HardBytes: bound(5000), HardFiles: bound(1)}}
	l.counted(piranHas)
	full := func(err error) {
		t.Helper()
		var is *Full
		require.ErrorAs(t, err, &is)
		require.ErrorIs(t, err, ErrLimit)
		require.EqualValues(t, 7, is.Over.Limit.ID)
	}
	h := l.mustOpen(piran, "2026/mine", acl.WriteData|acl.ReadData|acl.Delete, OpenOnly)
	_, err := h.WriteAt([]byte("y"), 5000, false)
	full(err)
	full(h.Truncate(5001))
	full(h.MayGrow(5001))
	_, err = h.WriteAt([]byte("yyy"), 100, false)
	require.NoError(t, err)
	_, err = l.open(piran, "2026/more", acl.WriteData, OpenIf)
	full(err)
	require.NoFileExists(t, filepath.Join(l.root, "2026/more"))
	_, _, err = l.Open(Subject{User: piran, Via: site.SMB}, OpenRequest{Share: "nightlog", Path: "2026/dir", Disposition: CreateOnly, Directory: true, Sharing: ShareRead})
	full(err)
	require.NoError(t, l.visit(2003, Working, func(v *Visit, root *Object) error {
		d, err := walkTo(v, "2026")
		require.NoError(t, err)
		_, err = d.CreateFile("more", Set{})
		full(err)
		_, err = d.Mkdir("more", Set{})
		full(err)
		mine, err := d.Lookup("mine")
		require.NoError(t, err)
		n := uint64(5001)
		full(mine.Set(Set{Size: &n}))
		other, err := d.Lookup("other")
		require.NoError(t, err)
		uid := uint32(2003)
		full(other.Set(Set{UID: &uid}))
		require.NoError(t, mine.Link(d, "again"), "another name adds nothing")
		require.NoError(t, d.Remove("again", false))
		return nil
	}))
	f, err := l.File(l.guest(2003), l.keyOf(2003, "2026/mine"), true)
	require.NoError(t, err)
	_, _, err = f.WriteAt([]byte("y"), 5000, Unstable)
	full(err)
	f.Release()

	piranHas.HardBytes, piranHas.HardFiles = bound(10), bound(0)
	l.limit(piranHas)
	require.NoError(t, h.Truncate(4000))
	_, err = h.WriteAt([]byte("y"), 4000, false)
	full(err)
	require.NoError(t, h.Rename(context.Background(), "2026/renamed", false))
	require.NoError(t, h.SetDelete(true))
	require.NoError(t, h.Close())
	require.Zero(t, l.ledger.Use(limit.Counter{Of: limit.Owned, Number: 2003}))
	l.agrees(false, nil)
}

// What is in a tree is held to its limit however it comes there; a directory that comes or goes is counted with all that is in it, up to a
// number of objects, and then clients are told to copy.
func TestWhatComesIntoATree(t *testing.T) {
	l := newLarkfell(t)
	l.exported()
	l.entry("", acl.Entry{ID: 90, Who: identity.Everyone, Level: acl.Control, Applies: acl.Everywhere})
	l.records.Folders[0].Rules = l.records.Folders[0].Rules[:1]
	require.NoError(t, os.MkdirAll(filepath.Join(l.root, "tree"), 0o755))
	require.NoError(t, os.MkdirAll(filepath.Join(l.root, "out/deep"), 0o755))
	l.write("out/deep/file", strings.Repeat("x", 30_000))
	l.write("out/small", "x")
	tree := limit.Limit{ID: 3, Kind: limit.OfFolder, Folder: 1, Path: "tree", Bounds: limit.Bounds{HardBytes: bound(40_000)}}
	l.counted(tree)
	rename := func(from, to string) error {
		h := l.mustOpen(piran, from, acl.Delete, OpenOnly)
		defer h.Close()
		return h.Rename(context.Background(), to, false)
	}
	require.ErrorIs(t, rename("out", "tree/in"), ErrLimit, "30,001 bytes and three directories")
	tree.HardBytes = bound(80_000)
	l.limit(tree)
	require.NoError(t, rename("out", "tree/in"))
	l.agrees(false, map[string]int64{"tree": 3})
	h := l.mustOpen(piran, "tree/in/deep/file", acl.WriteData, OpenOnly)
	_, err := h.WriteAt(make([]byte, 70_000), 0, false)
	require.ErrorIs(t, err, ErrLimit)
	require.NoError(t, h.Close())

	// The tree itself is renamed, and its limit with it.
	require.NoError(t, rename("tree", "elsewhere"))
	require.Equal(t, []string{"tree to elsewhere"}, l.moved)
	tree.Path = "elsewhere" // as MoveRules writes it down
	l.limit(tree)
	l.agrees(false, map[string]int64{"elsewhere": 3})
	require.NoError(t, rename("elsewhere/in", "out"))
	l.agrees(false, map[string]int64{"elsewhere": 3})

	for i := range mostMoved + 1 {
		l.write(fmt.Sprintf("out/%d", i), "")
	}
	_, _, err = l.Count(context.Background(), 1, "", atOnce)
	require.NoError(t, err)
	require.ErrorIs(t, rename("out", "elsewhere/in"), ErrAcross)
	l.agrees(false, map[string]int64{"elsewhere": 3})
}

// What is open and has no name any more counts until it is closed, so that nobody hides what they store.
func TestWhatHasNoNameCountsUntilItIsClosed(t *testing.T) {
	l := newLarkfell(t)
	l.exported()
	l.counted(limit.Limit{ID: 7, Kind: limit.OfUser, User: piran, Bounds: limit.Bounds{HardBytes: bound(5000)}})
	h := l.mustOpen(piran, "2026/hidden", acl.WriteData, CreateOnly)
	_, err := h.WriteAt(make([]byte, 5000), 0, false)
	require.NoError(t, err)
	require.NoError(t, l.visit(2003, Working, func(v *Visit, _ *Object) error {
		d, err := walkTo(v, "2026")
		require.NoError(t, err)
		return d.Remove("hidden", false)
	}))
	of := limit.Counter{Of: limit.Owned, Number: 2003}
	require.EqualValues(t, 5000, l.ledger.Use(of).Bytes)
	_, err = h.WriteAt(make([]byte, 1), 5000, false)
	require.Error(t, err)
	_, _, err = l.Count(context.Background(), 1, "", atOnce)
	require.NoError(t, err)
	require.EqualValues(t, 5000, l.ledger.Use(of).Bytes, "counting again does not lose it")
	require.NoError(t, h.Close())
	require.Zero(t, l.ledger.Use(of))
	l.agrees(false, nil)
}

// Above a soft limit writing goes on until the grace is over, and whatever is below it again begins anew.
func TestAGraceRunsAndEnds(t *testing.T) {
	l := newLarkfell(t)
	l.records.Users[0].Expires = time.Time{}
	l.counted(limit.Limit{ID: 7, Kind: limit.OfFolder, Folder: 1, Bounds: limit.Bounds{SoftBytes: bound(40_000), GraceSeconds: 3600}})
	h := l.mustOpen(piran, "2026/a", acl.WriteData, CreateOnly)
	grow := func(to int) error { _, err := h.WriteAt(make([]byte, 1), int64(to)-1, false); return err }
	require.NoError(t, grow(50_000))
	l.now = l.now.Add(59 * time.Minute)
	require.NoError(t, grow(51_000))
	l.now = l.now.Add(time.Minute)
	require.ErrorIs(t, grow(52_000), ErrLimit)
	require.NoError(t, h.Truncate(50_500), "shrinking goes on")
	require.ErrorIs(t, grow(50_501), ErrLimit)
	require.NoError(t, h.Truncate(0))
	require.NoError(t, grow(50_000), "it has been below, and a new grace begins")
	l.now = l.now.Add(59 * time.Minute)
	require.NoError(t, grow(50_001))
}

// What takes most room is found as it is counted: directories with all below, a file of two names once.
func TestTheLargest(t *testing.T) {
	l := newLarkfell(t)
	require.NoError(t, os.MkdirAll(filepath.Join(l.root, "2026/03/deep"), 0o755))
	for path, n := range map[string]int{"2026/03/deep/a": 9000, "2026/b": 20_000, "drop/c": 100, "d": 12_000} {
		l.write(path, strings.Repeat("x", n))
	}
	require.NoError(t, os.Link(filepath.Join(l.root, "2026/b"), filepath.Join(l.root, "2026/03/deep/b")))
	facts := FactsOf(l.policy.Load(), l.policy.Load().Folders[0])
	looked := int64(0)
	got, err := facts.Largest(context.Background(), "", 3, false, func(n int64) { looked = n })
	require.NoError(t, err)
	require.Equal(t, l.walk(false).all, got.All)
	require.NotZero(t, looked)
	require.Len(t, got.Files, 3)
	require.EqualValues(t, 20_000, got.Files[0].Amount.Bytes)
	require.Equal(t, []string{"d", "2026/03/deep/a"}, []string{got.Files[1].Path, got.Files[2].Path})
	require.Equal(t, "2026", got.Directories[0].Path)
	below := l.walk(false, "2026").trees["2026"]
	require.Equal(t, below, got.Directories[0].Amount)
	got, err = facts.Largest(context.Background(), "2026/03", 100, false, func(int64) {})
	require.NoError(t, err)
	require.Len(t, got.Directories, 1)
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	_, err = facts.Largest(ctx, "", 3, false, func(int64) {})
	require.ErrorIs(t, err, context.Canceled)
	_, err = facts.Largest(context.Background(), "README.txt", 3, false, func(int64) {})
	require.ErrorIs(t, err, ErrNotDirectory)
}
