package files

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/site"
)

const (
	readWrite = acl.ReadData | acl.WriteData | acl.ReadAttributes | acl.Delete
	shareAll  = ShareRead | ShareWrite | ShareDelete
)

// stream opens a stream of an object.
func (l *larkfell) stream(user identity.ID, path, stream string, access acl.Mask, d Disposition) (*Handle, Action, error) {
	h, action, err := l.Open(Subject{User: user, Via: site.SMB}, OpenRequest{Share: "nightlog", Path: path, Stream: stream, Access: access, Disposition: d, Sharing: shareAll})
	if err == nil {
		l.t.Cleanup(func() { _ = h.Close() })
	}
	return h, action, err
}

func (l *larkfell) mustStream(path, stream string, d Disposition) *Handle {
	l.t.Helper()
	h, _, err := l.stream(piran, path, stream, readWrite, d)
	require.NoError(l.t, err)
	return h
}

func contents(t require.TestingT, h *Handle) string {
	buf := make([]byte, 1<<16)
	n, err := h.ReadAt(buf, 0)
	require.NoError(t, err)
	return string(buf[:n])
}

// Whatever is written to streams, cut, zeroed, renamed and taken away, each is what a row of bytes would be by the same, the file's own contents stay,
// and what is counted is what a walk finds.
func TestStreamsAreRowsOfBytes(t *testing.T) {
	l := newLarkfell(t)
	l.counted()
	seed := rand.Uint64()
	r := rand.New(rand.NewPCG(seed, 2))
	names := []string{"Zone", "comment", "Märzplatten 🔭", "."}
	for _, path := range []string{"README.txt", "2026/03", ""} {
		model := make(map[string][]byte)
		access := readWrite
		if path == "" { // which nobody deletes anything of
			access &^= acl.Delete
		}
		open := func(name string, d Disposition) *Handle {
			h, _, err := l.stream(piran, path, name, access, d)
			require.NoError(t, err)
			return h
		}
		for step := range 200 {
			why := []any{"%q, seed %d, step %d", path, seed, step}
			name := names[r.IntN(len(names))]
			if r.IntN(2) == 0 {
				name = strings.ToUpper(name)
			}
			key := FoldName(name)
			was, there := model[key]
			switch r.IntN(6) {
			case 0, 1: // anywhere, as long as it fits what ext4 keeps beside an object
				h := open(name, OpenIf)
				if !there {
					was = nil
				}
				at, p := r.IntN(300), bytes.Repeat([]byte{byte(step)}, r.IntN(200))
				n, err := h.WriteAt(p, int64(at), step%7 == 0)
				require.NoError(t, err, why...)
				require.Equal(t, len(p), n)
				if end := at + len(p); end > len(was) {
					was = append(was, make([]byte, end-len(was))...)
				}
				copy(was[at:], p)
				model[key] = was
				require.NoError(t, h.Close())
			case 2:
				h, _, err := l.stream(piran, path, name, access, OpenOnly)
				if !there {
					require.ErrorIs(t, err, ErrNotFound, why...)
					continue
				}
				require.NoError(t, err, why...)
				size := r.IntN(400)
				require.NoError(t, h.Truncate(int64(size)), why...)
				is := make([]byte, size)
				copy(is, was)
				from, to := r.IntN(size+1), r.IntN(size+50)
				if from > to {
					from, to = to, from
				}
				require.NoError(t, h.Zero(int64(from), int64(to)), why...)
				clear(is[min(from, size):min(to, size)])
				model[key] = is
				require.NoError(t, h.Close())
			case 3:
				if there && path != "" {
					h := open(name, OpenOnly)
					require.NoError(t, h.SetDelete(true))
					_, _, err := l.stream(piran, path, name, readWrite, OpenIf)
					require.ErrorIs(t, err, ErrDeletePending)
					require.NoError(t, h.Close())
					delete(model, key)
				}
			case 4:
				to := names[r.IntN(len(names))]
				if there && path != "" {
					h := open(name, OpenOnly)
					_, taken := model[FoldName(to)]
					err := h.RenameStream(to, false)
					if taken && FoldName(to) != key {
						require.ErrorIs(t, err, ErrExists, why...)
					} else {
						require.NoError(t, err, why...)
						delete(model, key)
						model[FoldName(to)] = was
					}
					require.NoError(t, h.Close())
				}
			case 5:
				h, action, err := l.stream(piran, path, name, access, CreateOnly)
				if there {
					require.ErrorIs(t, err, ErrExists, why...)
					continue
				}
				require.NoError(t, err, why...)
				require.Equal(t, Created, action)
				require.NoError(t, h.Close())
				model[key] = nil
			}
			h := l.mustOpen(piran, path, reading, OpenOnly)
			found, err := h.Streams()
			require.NoError(t, err)
			require.Len(t, found, len(model), why...)
			for _, s := range found {
				want, ok := model[FoldName(s.Name)]
				require.True(t, ok, why...)
				require.EqualValues(t, len(want), s.Size, why...)
				own := open(s.Name, OpenOnly)
				require.Equal(t, string(want), contents(t, own), why...)
				require.NoError(t, own.Close())
			}
			require.NoError(t, h.Close())
		}
		l.agrees(false, nil)
	}
	require.Equal(t, "night log", l.read("README.txt"))
	require.Empty(t, l.walk(false).trees)
}

// A stream is as open to somebody as the file is.
func TestStreamsAreUnderTheRulesOfTheirFile(t *testing.T) {
	l := newLarkfell(t)
	require.NoError(t, l.mustStream("README.txt", "comment", CreateOnly).Close())
	for _, c := range []struct {
		who    identity.ID
		path   string
		stream string
		access acl.Mask
		how    Disposition
		err    error
	}{
		{orla, "README.txt", "comment", reading, OpenOnly, nil},
		{orla, "README.txt", "none", reading, OpenOnly, ErrNotFound},
		{orla, "README.txt", "comment", acl.WriteData, OpenOnly, ErrDenied},
		{orla, "README.txt", "comment", reading, OverwriteIf, ErrDenied},
		{orla, "README.txt", "comment", reading, Supersede, ErrDenied},
		{orla, "README.txt", "mine", reading, OpenIf, ErrDenied},
		{orla, "README.txt", "mine", reading, CreateOnly, ErrDenied},
		{orla, "README.txt", "comment", acl.Delete, OpenOnly, ErrDenied},
		{orla, "new.txt", "mine", reading, CreateOnly, ErrDenied},
		{bettany, "README.txt", "comment", reading, OpenOnly, ErrDenied},
		{bettany, "README.txt", "none", reading, OpenOnly, ErrDenied}, // and not whether there is one
		{bettany, "drop", "mine", acl.WriteData, CreateOnly, ErrDenied},
		{piran, "closed/key.txt", "none", reading, OpenOnly, ErrDenied},
		{piran, "closed/none.txt", "none", reading, OpenOnly, ErrDenied},
		{piran, "closed", "mine", readWrite, OpenIf, ErrDenied},
		{piran, "2026/03", "mine", reading, OpenOnly, ErrNotFound},
	} {
		_, _, err := l.stream(c.who, c.path, c.stream, c.access, c.how)
		require.ErrorIs(t, err, c.err, "%d %s:%s %v", c.who, c.path, c.stream, c.access.Names(false))
	}
	require.NoFileExists(t, filepath.Join(l.root, "new.txt"))

	// Who may only add fills the stream of what they add, and neither has it later nor gets at that of what is there.
	h, action, err := l.stream(bettany, "drop/plate.fits", "origin", acl.WriteData, CreateOnly)
	require.NoError(t, err)
	require.Equal(t, Created, action)
	_, err = h.WriteAt([]byte("north"), 0, false)
	require.NoError(t, err)
	require.NoError(t, h.Close())
	_, _, err = l.stream(bettany, "drop/plate.fits", "origin", acl.WriteData, OpenOnly)
	require.ErrorIs(t, err, ErrDenied)
	require.Equal(t, "north", contents(t, l.mustStream("drop/plate.fits", "ORIGIN", OpenOnly)))

	// What the rules take away, an open handle loses.
	open, _, err := l.stream(orla, "README.txt", "comment", reading, OpenOnly)
	require.NoError(t, err)
	l.now = l.now.Add(2 * time.Hour)
	_, err = open.ReadAt(make([]byte, 1), 0)
	require.ErrorIs(t, err, ErrDenied)

	// A file that is marked read-only has its streams read only.
	mark := acl.WriteAttributes | acl.ReadAttributes
	attrs := AttrReadOnly
	require.NoError(t, l.mustOpen(piran, "README.txt", mark, OpenOnly).SetBasic(Times{Attributes: &attrs}, nil))
	for _, how := range []Disposition{OpenIf, OverwriteIf} {
		_, _, err = l.stream(piran, "README.txt", "another", readWrite, how)
		require.ErrorIs(t, err, ErrReadOnlyFile)
	}
}

// Sharing, locks and what is to be deleted are each stream's own; what becomes of the file becomes of them.
func TestStreamsAreOpenedForThemselves(t *testing.T) {
	l := newLarkfell(t)
	alone := func(stream string) (*Handle, error) {
		h, _, err := l.Open(Subject{User: piran, Via: site.SMB}, OpenRequest{Share: "nightlog", Path: "README.txt", Stream: stream, Access: readWrite, Disposition: OpenIf})
		return h, err
	}
	a, err := alone("a")
	require.NoError(t, err)
	b, err := alone("b")
	require.NoError(t, err, "another stream")
	own, err := alone("")
	require.NoError(t, err, "the file itself")
	_, err = alone("A")
	require.ErrorIs(t, err, ErrSharing)
	_, err = a.Lock(Range{0, 10, true})
	require.NoError(t, err)
	_, err = own.WriteAt([]byte("x"), 0, false)
	require.NoError(t, err)
	require.NoError(t, own.Close())
	require.ErrorIs(t, b.RenameStream("A", true), ErrDenied, "it is open")
	require.NoError(t, a.RenameStream("a2", false))
	again, err := alone("a")
	require.NoError(t, err, "that name is free again")
	require.NoError(t, again.Close())
	_, err = alone("a2")
	require.ErrorIs(t, err, ErrSharing, "it is open by its new name")

	// A renamed file takes them along, and what is open goes on.
	file := l.mustOpen(piran, "README.txt", readWrite, OpenOnly)
	require.NoError(t, file.Rename(t.Context(), "2026/READ.txt", false))
	require.Equal(t, "2026/READ.txt", a.Path())
	_, err = a.WriteAt([]byte("on"), 0, false)
	require.NoError(t, err)
	require.NoError(t, a.Close())
	require.Equal(t, "on", contents(t, l.mustStream("2026/READ.txt", "a2", OpenOnly)))

	// One that is replaced, whole, has none any more; one that is deleted takes no more bytes.
	require.NoError(t, l.mustOpen(piran, "2026/READ.txt", readWrite, OverwriteIf).Close())
	left, err := file.Streams()
	require.NoError(t, err)
	require.Empty(t, left)
	_, err = b.ReadAt(make([]byte, 1), 0)
	require.ErrorIs(t, err, ErrStale)
	c := l.mustStream("2026/READ.txt", "c", CreateOnly)
	require.NoError(t, file.SetDelete(true))
	_, _, err = l.stream(piran, "2026/READ.txt", "c", reading, OpenOnly)
	require.ErrorIs(t, err, ErrDeletePending)
	require.NoError(t, file.Close())
	_, err = c.WriteAt([]byte("x"), 0, false)
	require.ErrorIs(t, err, ErrStale)
}

// No stream is a way past a limit, and none leaves too little room for what the service has to write down about its file.
func TestStreamsHaveBounds(t *testing.T) {
	l := newLarkfell(t)
	l.counted(limit.Limit{ID: 1, Kind: limit.OfUser, User: piran, Bounds: limit.Bounds{HardBytes: bound(3000)}})
	require.NoError(t, l.mustOpen(piran, "mine.txt", readWrite, CreateOnly).Close())
	h := l.mustStream("mine.txt", "s", CreateOnly)
	_, err := h.WriteAt(make([]byte, 2000), 0, false)
	require.NoError(t, err)
	l.agrees(false, nil)
	for _, size := range []int64{3000, 2996} {
		_, err = h.WriteAt(make([]byte, size), 0, false)
		require.ErrorIs(t, err, ErrLimit)
		require.ErrorIs(t, h.Truncate(size), ErrLimit)
	}
	l.agrees(false, nil)
	require.NoError(t, l.mustOpen(piran, "mine.txt", readWrite, OpenOnly).Truncate(900))
	require.ErrorIs(t, l.mustOpen(piran, "mine.txt", readWrite, OpenOnly).Truncate(1100), ErrLimit, "they count together")
	require.NoError(t, h.Truncate(0))
	require.NoError(t, l.mustOpen(piran, "mine.txt", readWrite, OpenOnly).Truncate(2900))
	l.agrees(false, nil)
	gone := l.mustOpen(piran, "mine.txt", readWrite, OpenOnly)
	require.NoError(t, h.Close())
	require.NoError(t, gone.SetDelete(true))
	require.NoError(t, gone.Close())
	l.agrees(false, nil)

	l.limit()
	h = l.mustStream("README.txt", "s", CreateOnly)
	for _, off := range []int64{mostStreamBytes, 1 << 40, 1<<62 - 1} {
		_, err = h.WriteAt([]byte("x"), off, false)
		require.ErrorIs(t, err, ErrNoSpace)
		require.ErrorIs(t, h.Truncate(off+1), ErrNoSpace)
		require.ErrorIs(t, h.MayGrow(off+1), ErrNoSpace)
	}
	for size := int64(256); err == nil || size < mostStreamBytes; size += 256 { // until the file system takes no more
		if err = h.Truncate(size); err != nil {
			require.ErrorIs(t, err, ErrNoSpace)
			break
		}
	}
	attrs := AttrHidden
	require.NoError(t, l.mustOpen(piran, "README.txt", acl.WriteAttributes, OpenOnly).SetBasic(Times{Attributes: &attrs, Created: l.now}, nil))
	fd, err := unix.Open(filepath.Join(l.root, "README.txt"), unix.O_RDONLY, 0)
	require.NoError(t, err)
	defer unix.Close(fd)
	require.NoError(t, mark(fd, aclAttr, make([]byte, 600)), "an access list of some length")

	many := 0
	for ; many < 2*mostStreams; many++ {
		if _, _, err = l.stream(piran, "2026", fmt.Sprint(many), readWrite, CreateOnly); err != nil {
			break
		}
	}
	require.ErrorIs(t, err, ErrNoSpace)
	require.LessOrEqual(t, many, mostStreams)
}

// What is damaged is neither believed nor written over.
func TestDamagedStreams(t *testing.T) {
	l := newLarkfell(t)
	path := filepath.Join(l.root, "README.txt")
	for _, bad := range []string{"", "\x02", "\x01\x05abc", "\x01\x01a\xff\xff\xff\xff\xff\xff\xff\xff\x7f", "\x01\x01a\x00\x01A\x00", "\x01\x03a/b\x00"} {
		require.NoError(t, unix.Setxattr(path, streamsAttr, []byte(bad), 0))
		for _, how := range []Disposition{OpenIf, OpenOnly, CreateOnly} {
			_, _, err := l.stream(piran, "README.txt", "a", readWrite, how)
			require.ErrorIs(t, err, ErrIO, "%q", bad)
		}
		buf := make([]byte, 64)
		n, err := unix.Getxattr(path, streamsAttr, buf)
		require.NoError(t, err)
		require.Equal(t, bad, string(buf[:n]))
		require.Equal(t, "night log", contents(t, l.mustOpen(piran, "README.txt", reading, OpenOnly)))
	}
}

func TestStreamsAsTheyAreKept(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var s streams
		for range rapid.IntRange(0, 20).Draw(t, "streams") {
			name := rapid.StringN(1, 20, 60).Filter(func(s string) bool { return CheckStream(s) == nil }).Draw(t, "name")
			s = s.with(name, rapid.SliceOfN(rapid.Byte(), 0, 300).Draw(t, "data"))
		}
		b := s.bytes()
		if b == nil {
			return
		}
		back, err := parseStreams(append(b, make([]byte, rapid.IntRange(0, 5).Draw(t, "spare"))...))
		require.NoError(t, err)
		require.Equal(t, b, back.bytes())
		require.Len(t, back, len(s))
	})
}

func FuzzStreams(f *testing.F) {
	f.Add([]byte("\x01\x04Zone\x03abc\x01b\x00\x00\x00"))
	f.Fuzz(func(t *testing.T, b []byte) {
		s, err := parseStreams(b)
		if err != nil {
			return
		}
		require.LessOrEqual(t, len(s), mostStreams)
		for i, one := range s {
			require.NoError(t, CheckStream(one.name))
			require.Equal(t, i, s.find(one.name), "each name once")
		}
		if len(s) > 0 {
			again, err := parseStreams(s.bytes())
			require.NoError(t, err)
			require.Equal(t, s.bytes(), again.bytes())
		}
	})
}

// A service that is started anew finds an open stream again, and only that.
func TestStreamsOpenedAgain(t *testing.T) {
	l := newLarkfell(t)
	for _, path := range []string{"README.txt", "2026"} {
		h := l.mustStream(path, "s", CreateOnly)
		_, err := h.WriteAt([]byte("kept"), 0, false)
		require.NoError(t, err)
		_, err = h.Lock(Range{0, 4, true})
		require.NoError(t, err)
		k := h.Lasting()
		require.NoError(t, h.Close())
		again, err := l.Reopen(Subject{User: piran, Via: site.SMB}, "nightlog", k, nil)
		require.NoError(t, err)
		require.Equal(t, "kept", contents(t, again))
		require.Equal(t, k, again.Lasting())
		require.NoError(t, again.SetDelete(true))
		require.NoError(t, again.Close())
		_, err = l.Reopen(Subject{User: piran, Via: site.SMB}, "nightlog", k, nil)
		require.ErrorIs(t, err, ErrStale)
		for _, name := range []string{"a/b", "a:b", strings.Repeat("x", 256)} {
			k.Stream = name
			_, err = l.Reopen(Subject{User: piran, Via: site.SMB}, "nightlog", k, nil)
			require.ErrorIs(t, err, ErrGone)
		}
		require.Empty(t, l.Namespace.open)
	}
	require.NoError(t, os.Remove(filepath.Join(l.root, "README.txt")))
}
