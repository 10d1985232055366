package smb

import (
	"bytes"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/smb/message"
)

// control asks a control code of an open file.
func (c *rawClient) control(code uint32, id []byte, in []byte, room uint32) (Status, []byte) {
	c.t.Helper()
	h, out, err := c.do(message.Ioctl, body(&message.IoctlRequest{Code: code, ID: fileID(id), Input: in, MaxOutput: room, Flags: message.IoctlIsFSCTL}))
	require.NoError(c.t, err)
	var m message.IoctlResponse
	_ = m.Parse(append(make([]byte, message.HeaderSize), out...))
	return Status(h.Status), m.Output
}

func (c *rawClient) keyOf(id []byte) (k message.ResumeKey) {
	c.t.Helper()
	status, out := c.control(fsctlRequestResumeKey, id, nil, 32)
	require.Equal(c.t, statusOK, status)
	require.NoError(c.t, k.Parse(out))
	return k
}

func (c *rawClient) copyChunks(code uint32, to []byte, key message.ResumeKey, chunks ...message.CopyChunk) (Status, message.CopiedChunks) {
	c.t.Helper()
	status, out := c.control(code, to, (&message.CopyChunks{Source: key, Chunks: chunks}).Append(nil), 12)
	var did message.CopiedChunks
	_ = did.Parse(out)
	return status, did
}

// Whatever is copied within the server, zeroed and cut, a file is what a row of bytes would be by the same; and what is said to take space holds
// all that is not zero.
func TestCopiedAndZeroed(t *testing.T) {
	_, addr, dir := startServerOf(t)
	c := dialRaw(t, addr).signIn().connect()
	const size = 300 << 10
	paths := [2]string{filepath.Join(dir, "nightlog", "a"), filepath.Join(dir, "nightlog", "b")}
	var model [2][]byte
	for i, p := range paths {
		model[i] = make([]byte, size)
		for j := range model[i] {
			model[i][j] = byte(rand.Uint32()) | 1
		}
		require.NoError(t, os.WriteFile(p, model[i], 0o600))
	}
	ids := [2][]byte{c.create("a", readWrite, 1, 0), c.create("b", readWrite, 1, 0)}
	keys := [2]message.ResumeKey{c.keyOf(ids[0]), c.keyOf(ids[1])}
	seed := rand.Uint64()
	r := rand.New(rand.NewPCG(seed, 1))
	edges := []int{0, 1, 4095, 4096, 4097, 65536, size - 1, size}
	place := func() int {
		if r.IntN(2) == 0 {
			return edges[r.IntN(len(edges))]
		}
		return r.IntN(size)
	}
	for step := range 300 {
		to, from := r.IntN(2), r.IntN(2)
		switch at, end := place(), place(); r.IntN(3) {
		case 0, 1:
			n := min(r.IntN(100<<10)+1, len(model[from])-at)
			if n <= 0 {
				continue
			}
			status, did := c.copyChunks(fsctlCopyChunk, ids[to], keys[from], message.CopyChunk{From: uint64(at), To: uint64(end), Length: uint32(n)})
			require.Equal(t, statusOK, status, "seed %d, step %d", seed, step)
			require.Equal(t, message.CopiedChunks{Chunks: 1, Total: uint32(n)}, did)
			part := bytes.Clone(model[from][at : at+n])
			if end+n > len(model[to]) {
				model[to] = append(model[to], make([]byte, end+n-len(model[to]))...)
			}
			copy(model[to][end:], part)
		case 2:
			at, end = min(at, end), max(at, end)
			status, _ := c.control(fsctlSetZeroData, ids[to], (&message.Extent{Offset: uint64(at), Second: uint64(end)}).Append(nil), 0)
			require.Equal(t, statusOK, status)
			clear(model[to][min(at, len(model[to])):min(end, len(model[to]))])
		}
	}
	for i, p := range paths {
		got, err := os.ReadFile(p)
		require.NoError(t, err)
		require.True(t, bytes.Equal(model[i], got), "seed %d: %s", seed, p)
		status, out := c.control(fsctlQueryAllocatedRanges, ids[i], (&message.Extent{Second: 1 << 40}).Append(nil), 1<<16-200)
		require.Equal(t, statusOK, status)
		for ; len(out) > 0; out = out[16:] {
			var e message.Extent
			require.NoError(t, e.Parse(out))
			require.LessOrEqual(t, e.Offset+e.Second, uint64(len(got)))
			clear(got[e.Offset : e.Offset+e.Second])
		}
		require.Equal(t, len(got), bytes.Count(got, []byte{0}), "there is something where nothing takes space")
	}
}

// Holes are told of, one after another, as far as there is room; a file is sparse once it is said to be, and whatever else is set of it.
func TestSparse(t *testing.T) {
	_, addr, dir := startServerOf(t)
	path := filepath.Join(dir, "nightlog", "holes")
	f, err := os.Create(path)
	require.NoError(t, err)
	require.NoError(t, f.Truncate(8<<20))
	for _, at := range []int64{1 << 20, 3 << 20, 5 << 20} {
		_, err := f.WriteAt(bytes.Repeat([]byte{7}, 64<<10), at)
		require.NoError(t, err)
	}
	require.NoError(t, f.Close())
	c := dialRaw(t, addr).signIn().connect()
	id := c.create("holes", readWrite, 1, 0)
	ask := func(at, length uint64, room uint32) (Status, string) {
		status, out := c.control(fsctlQueryAllocatedRanges, id, (&message.Extent{Offset: at, Second: length}).Append(nil), room)
		said := ""
		for ; len(out) >= 16; out = out[16:] {
			var e message.Extent
			require.NoError(t, e.Parse(out))
			said += fmt.Sprintf("%d+%d ", e.Offset>>16, e.Second>>16)
		}
		return status, said
	}
	for _, q := range []struct {
		at, length uint64
		room       uint32
		status     Status
		says       string
	}{
		{0, 8 << 20, 4096, statusOK, "16+1 48+1 80+1 "}, {0, 8 << 20, 32, statusBufferOverflow, "16+1 48+1 "}, {0, 8 << 20, 15, statusBufferTooSmall, ""},
		{2 << 20, 2 << 20, 4096, statusOK, "48+1 "}, {0, 0, 4096, statusOK, ""}, {6 << 20, 1 << 20, 4096, statusOK, ""}, {9 << 20, 1 << 20, 4096, statusOK, ""}, {1<<62 + 1, 1, 4096, statusInvalidParameter, ""},
	} {
		status, says := ask(q.at, q.length, q.room)
		require.Equal(t, q.status, status, "%+v", q)
		require.Equal(t, q.says, says, "%+v", q)
	}
	attributes := func() uint32 {
		h, out, err := c.do(message.QueryInfo, body(&message.QueryInfoRequest{About: message.AboutFile, Class: message.FileBasicInfo, Room: 40, ID: fileID(id)}))
		require.NoError(t, err)
		require.Equal(t, statusOK, Status(h.Status))
		return le.Uint32(out[8+32:])
	}
	require.Zero(t, attributes()&0x200)
	status, _ := c.control(fsctlSetSparse, id, nil, 0)
	require.Equal(t, statusOK, status)
	require.NotZero(t, attributes()&0x200)
	set := func(a uint32) {
		info := message.BasicInfo{Attributes: a}
		h, _, err := c.do(message.SetInfo, body(&message.SetInfoRequest{About: message.AboutFile, Class: message.FileBasicInfo, Data: info.Append(nil), ID: fileID(id)}))
		require.NoError(t, err)
		require.Equal(t, statusOK, Status(h.Status))
	}
	set(2)
	require.EqualValues(t, 0x202, attributes(), "hidden, and sparse as before")
	status, _ = c.control(fsctlSetSparse, id, []byte{0}, 0)
	require.Equal(t, statusOK, status)
	set(0x200 | 1)
	require.EqualValues(t, 1, attributes(), "it is not by its attributes that a file becomes sparse")
}

// Copies that ask for what they may not have, or for more than there is.
func TestCopiesRefused(t *testing.T) {
	_, addr, dir := startServerOf(t)
	require.NoError(t, os.WriteFile(filepath.Join(dir, "nightlog", "to"), bytes.Repeat([]byte{1}, 100), 0o600))
	c, other := dialRaw(t, addr).signIn().connect(), dialRaw(t, addr).signIn().connect()
	from, to := c.create("README.txt", 0x120089, 1, 0), c.create("to", readWrite, 1, 0)
	key := c.keyOf(from)
	one := message.CopyChunk{Length: 9}
	refused := func(want Status, code uint32, at []byte, k message.ResumeKey, chunks ...message.CopyChunk) message.CopiedChunks {
		t.Helper()
		status, did := c.copyChunks(code, at, k, chunks...)
		require.Equal(t, want, status)
		return did
	}
	limits := message.CopiedChunks{Chunks: 256, Part: 1 << 20, Total: 16 << 20}
	require.Equal(t, limits, refused(statusInvalidParameter, fsctlCopyChunk, to, key, message.CopyChunk{Length: 1<<20 + 1}))
	require.Equal(t, limits, refused(statusInvalidParameter, fsctlCopyChunk, to, key, message.CopyChunk{}))
	require.Equal(t, limits, refused(statusInvalidParameter, fsctlCopyChunk, to, key, make([]message.CopyChunk, 257)...))
	full := make([]message.CopyChunk, 17)
	for i := range full {
		full[i].Length = 1 << 20
	}
	require.Equal(t, limits, refused(statusInvalidParameter, fsctlCopyChunk, to, key, full...))
	refused(statusInvalidViewSize, fsctlCopyChunk, to, key, message.CopyChunk{Length: 10})
	refused(statusInvalidViewSize, fsctlCopyChunk, to, key, message.CopyChunk{From: 1 << 40, Length: 1})
	refused(statusInvalidParameter, fsctlCopyChunk, to, key, message.CopyChunk{From: 1<<64 - 5, Length: 9})
	refused(statusInvalidParameter, fsctlCopyChunk, to, key, message.CopyChunk{To: 1<<63 - 1, Length: 9})
	refused(statusObjectNameNotFound, fsctlCopyChunk, to, message.ResumeKey{}, one)
	forged := key
	forged[20] = 1
	refused(statusObjectNameNotFound, fsctlCopyChunk, to, forged, one)
	refused(statusAccessDenied, fsctlCopyChunk, from, c.keyOf(to), one)
	status, _ := other.copyChunks(fsctlCopyChunk, other.create("to", readWrite, 1, 0), key, one)
	require.Equal(t, statusObjectNameNotFound, status, "the key of another session's file")

	writeOnly := c.create("to", 0x120116, 1, 0)
	refused(statusAccessDenied, fsctlCopyChunk, writeOnly, key, one)
	require.Equal(t, message.CopiedChunks{Chunks: 1, Total: 9}, refused(statusOK, fsctlCopyChunkWrite, writeOnly, key, one))
	refused(statusAccessDenied, fsctlCopyChunkWrite, to, c.keyOf(writeOnly), one) // it was not opened to be read
	directory := c.create("2026", 0x120089, 1, 1)
	refused(statusInvalidParameter, fsctlCopyChunkWrite, to, c.keyOf(directory), one)

	// What is locked by another is not written over, nor read.
	theirs := other.create("to", readWrite, 1, 0)
	require.Equal(t, statusOK, other.status(message.Lock, lockBody(theirs, 2|16, 0, 4)))
	refused(statusFileLockConflict, fsctlCopyChunk, to, key, one)
	status, _ = c.control(fsctlSetZeroData, to, (&message.Extent{Second: 2}).Append(nil), 0)
	require.Equal(t, statusFileLockConflict, status)

	require.Equal(t, statusOK, other.status(message.Close, closeBody(theirs)))

	for _, wrong := range [][]byte{nil, make([]byte, 15), (&message.Extent{Offset: 9, Second: 3}).Append(nil), (&message.Extent{Second: 1 << 63}).Append(nil)} {
		status, _ := c.control(fsctlSetZeroData, to, wrong, 0)
		require.Equal(t, statusInvalidParameter, status, "%x", wrong)
	}
	share := func(e message.SharedExtent) Status {
		status, _ := c.control(fsctlDuplicateExtents, to, e.Append(nil), 0)
		return status
	}
	require.Equal(t, statusInvalidHandle, share(message.SharedExtent{Source: message.FileID{Volatile: 99999}, Length: 1}))
	require.Equal(t, statusInvalidParameter, share(message.SharedExtent{Source: fileID(from), Length: 1<<64 - 1}))
	require.Equal(t, statusInvalidParameter, share(message.SharedExtent{Source: fileID(from), From: 1 << 30, Length: 1 << 16}))
	if shared := share(message.SharedExtent{Source: fileID(from), Length: 9}); shared == statusOK {
		got, err := os.ReadFile(filepath.Join(dir, "nightlog", "to"))
		require.NoError(t, err)
		require.Equal(t, "night log", string(got[:9]))
	} else {
		require.Equal(t, statusNotSupported, shared, "the file system cannot")
	}
	status, _ = c.control(fsctlSetSparse, from, nil, 0)
	require.Equal(t, statusAccessDenied, status)
	status, out := c.control(fsctlEnumerateSnapshots, from, nil, 16)
	require.Equal(t, statusOK, status)
	require.Equal(t, make([]byte, 16), out)
	alive(t, addr)
}

// What a file was at another moment is not there, and is never what it is now; nor is anything made under such a name.
func TestNothingOfBefore(t *testing.T) {
	_, addr, dir := startServerOf(t)
	c := dialRaw(t, addr).signIn().connect()
	for _, name := range []string{`@GMT-2026.11.28-18.03.00\README.txt`, `2026\@gmt-2026.11.28-18.03.00`, `@GMT-2026.11.28-18.03.00`} {
		for disposition := range uint32(6) {
			h, _, err := c.do(message.Create, createBody(name, readWrite, disposition, 0))
			require.NoError(t, err)
			require.Equal(t, statusObjectNameNotFound, Status(h.Status), "%s by %d", name, disposition)
		}
	}
	for name, status := range map[string]Status{"@GMT-2026": statusObjectNameNotFound, "README.txt": statusObjectNameNotFound} {
		m := message.CreateRequest{Access: 0x120089, Sharing: 7, Disposition: 1, Name: message.UTF16(name), Contexts: []message.CreateContext{{Name: message.ContextMoment, Data: make([]byte, 8)}}}
		h, _, err := c.do(message.Create, body(&m))
		require.NoError(t, err)
		require.Equal(t, status, Status(h.Status), name)
	}
	names, err := os.ReadDir(filepath.Join(dir, "nightlog"))
	require.NoError(t, err)
	require.Len(t, names, 2)
}

func fileID(raw []byte) message.FileID {
	return message.FileID{Persistent: le.Uint64(raw), Volatile: le.Uint64(raw[8:])}
}
