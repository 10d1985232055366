package smb

import (
	"os"
	"path/filepath"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/smb/message"
)

func closeBody(id []byte) []byte { return append([]byte{24, 0, 0, 0, 0, 0, 0, 0}, id...) }

// status sends a request and gives what came of it.
func (c *rawClient) status(cmd message.Command, body []byte) Status {
	h, _, err := c.do(cmd, body)
	require.NoError(c.t, err)
	return Status(h.Status)
}

func lockBody(id []byte, flags uint32, ranges ...uint64) []byte {
	b := make([]byte, 24)
	le.PutUint16(b, 48)
	le.PutUint16(b[2:], uint16(len(ranges)/2))
	copy(b[8:], id)
	for i := 0; i < len(ranges); i += 2 {
		b = le.AppendUint64(b, ranges[i])
		b = le.AppendUint64(b, ranges[i+1])
		b = le.AppendUint32(b, flags)
		b = le.AppendUint32(b, 0)
	}
	return append(b, make([]byte, max(0, 48-len(b)))...)
}

func TestByteRangeLocks(t *testing.T) {
	addr, _ := startServer(t)
	a, b := dialRaw(t, addr).signIn().connect(), dialRaw(t, addr).signIn().connect()
	mine, theirs := a.create("README.txt", 0x12019f, 1, 0), b.create("README.txt", 0x12019f, 1, 0)
	write := func(id []byte, offset uint64) []byte {
		w := append(readBody(id, 1, offset)[:48], 'x')
		le.PutUint16(w[2:], message.HeaderSize+48)
		return w
	}
	const shared, exclusive, unlock, now = 1, 2, 4, 16
	require.Equal(t, statusOK, a.status(message.Lock, lockBody(mine, exclusive|now, 2, 3)))
	require.Equal(t, statusLockNotGranted, b.status(message.Lock, lockBody(theirs, shared|now, 4, 1)))
	require.Equal(t, statusOK, b.status(message.Lock, lockBody(theirs, shared|now, 5, 4)))
	require.Equal(t, statusFileLockConflict, b.status(message.Read, readBody(theirs, 3, 0)))
	require.Equal(t, statusOK, b.status(message.Read, readBody(theirs, 2, 0)))
	require.Equal(t, statusFileLockConflict, b.status(message.Write, write(theirs, 4)))
	require.Equal(t, statusFileLockConflict, a.status(message.Write, write(mine, 6)), "another's shared lock")
	require.Equal(t, statusOK, a.status(message.Read, readBody(mine, 9, 0)), "reading under a shared lock and one's own")
	require.Equal(t, statusOK, a.status(message.Write, write(mine, 4)))
	require.Equal(t, statusRangeNotLocked, a.status(message.Lock, lockBody(mine, unlock, 2, 2)))
	require.Equal(t, statusInvalidParameter, a.status(message.Lock, lockBody(mine, exclusive|now, ^uint64(0), 2)))
	require.Equal(t, statusInvalidParameter, a.status(message.Lock, lockBody(mine, exclusive|shared, 30, 1)))
	require.Equal(t, statusInvalidParameter, a.status(message.Lock, lockBody(mine, exclusive, 20, 1, 30, 1)), "waiting for two at once")
	// All or none.
	require.Equal(t, statusLockNotGranted, a.status(message.Lock, lockBody(mine, exclusive|now, 20, 1, 5, 1)))
	require.Equal(t, statusOK, b.status(message.Lock, lockBody(theirs, exclusive|now, 20, 1)))

	// One that waits gets it when the holder closes.
	require.Equal(t, statusPending, b.status(message.Lock, lockBody(theirs, exclusive, 2, 1)))
	require.Equal(t, statusOK, a.status(message.Close, closeBody(mine)))
	h, _, err := b.receive()
	require.NoError(t, err)
	require.Equal(t, message.Lock, h.Command)
	require.Equal(t, statusOK, Status(h.Status))
	require.Equal(t, statusOK, b.status(message.Write, write(theirs, 2)))
}

// Every disposition on what is there and on what is not, MS-SMB2 section 2.2.13.
func TestDispositions(t *testing.T) {
	addr, dir := startServer(t)
	c := dialRaw(t, addr).signIn().connect()
	there := filepath.Join(dir, "nightlog", "there.txt")
	for disposition, want := range []struct {
		exists, absent Status
		did, made      uint32
		empties        bool
	}{
		{statusOK, statusOK, 0, 2, true}, {statusOK, statusObjectNameNotFound, 1, 0, false}, {statusObjectNameCollision, statusOK, 0, 2, false},
		{statusOK, statusOK, 1, 2, false}, {statusOK, statusObjectNameNotFound, 3, 0, true}, {statusOK, statusOK, 3, 2, true},
	} {
		require.NoError(t, os.WriteFile(there, []byte("old"), 0o644))
		try := func(name string, status Status, action uint32) {
			h, body, err := c.do(message.Create, createBody(name, 0x12019f, uint32(disposition), message.OptNotDirectory))
			require.NoError(t, err)
			require.Equal(t, status, Status(h.Status), "%s by %d", name, disposition)
			if status == statusOK {
				require.Equal(t, action, le.Uint32(body[4:]))
				require.Equal(t, statusOK, c.status(message.Close, closeBody(body[64:80])))
			}
		}
		try("there.txt", want.exists, want.did)
		raw, err := os.ReadFile(there)
		require.NoError(t, err)
		require.Equal(t, want.empties, len(raw) == 0, "by %d", disposition)
		try("absent.txt", want.absent, want.made)
		_ = os.Remove(filepath.Join(dir, "nightlog", "absent.txt"))
	}
	for name, want := range map[string]Status{"2026\\x\\y": statusObjectPathNotFound, "2026": statusFileIsADirectory, "": statusFileIsADirectory} {
		require.Equal(t, want, c.status(message.Create, createBody(name, 0x120089, 1, message.OptNotDirectory)), name)
	}
	require.Equal(t, statusNotADirectory, c.status(message.Create, createBody("README.txt", 0x120089, 1, message.OptDirectory)))
	require.Equal(t, statusAccessDenied, c.status(message.Create, createBody("", 0x110081, 1, message.OptDeleteOnClose|message.OptDirectory)), "the folder itself is not a client's to delete")
	require.Equal(t, statusOK, c.status(message.Create, createBody("gone.txt", 0x13019f, 2, message.OptDeleteOnClose)))
	c.nc.Close()
	require.Eventually(t, func() bool { _, err := os.Stat(filepath.Join(dir, "nightlog", "gone.txt")); return os.IsNotExist(err) }, 2*time.Minute, time.Millisecond,
		"a broken connection closes, and closing deletes")
}

// Each information class has the size that MS-FSCC says, and is refused room that is too small.
func TestInformationClasses(t *testing.T) {
	addr, _ := startServer(t)
	c := dialRaw(t, addr).signIn().connect()
	id := c.create("README.txt", 0x12019f, 1, 0)
	query := func(kind, class byte, size uint32) (Status, []byte) {
		b := make([]byte, 41)
		le.PutUint16(b, 41)
		b[2], b[3] = kind, class
		le.PutUint32(b[4:], size)
		copy(b[24:], id)
		h, body, err := c.do(message.QueryInfo, b)
		require.NoError(t, err)
		return Status(h.Status), body[8:]
	}
	name := len(message.UTF16(`\README.txt`))
	for key, size := range map[[2]byte]int{
		{1, message.FileBasicInfo}: 40, {1, message.FileStandardInfo}: 24, {1, message.FileInternalInfo}: 8, {1, message.FileEaInfo}: 4, {1, message.FileAccessInfo}: 4, {1, message.FilePositionInfo}: 8,
		{1, message.FileModeInfo}: 4, {1, message.FileAlignmentInfo}: 4, {1, message.FileAllInfo}: 100 + name, {1, message.FileStreamInfo}: 24 + 14, {1, message.FileNetworkOpenInfo}: 56,
		{1, message.FileAttributeTagInfo}: 8, {1, message.FileNormalizedNameInfo}: 4 + name - 2, {1, message.FileIDInfo}: 24,
		{2, 1}: 18 + 16, {2, 3}: 24, {2, 4}: 8, {2, 5}: 12 + 8, {2, 7}: 32, {2, 11}: 28,
	} {
		status, data := query(key[0], key[1], 4096)
		require.Equal(t, statusOK, status, "%v", key)
		require.Len(t, data, size, "%v", key)
		if size > 4 {
			status, _ = query(key[0], key[1], 3)
			require.Equal(t, statusInfoLengthMismatch, status, "%v", key)
		}
	}
	status, data := query(1, message.FileAllInfo, 104)
	require.Equal(t, statusBufferOverflow, status)
	require.Len(t, data, 104)
	require.EqualValues(t, 9, le.Uint64(data[48:]), "the size of the file")
	status, _ = query(1, 99, 4096)
	require.Equal(t, statusInvalidInfoClass, status)
}

func TestListings(t *testing.T) {
	addr, at := startServer(t)
	c := dialRaw(t, addr).signIn().connect()
	dir := c.create("", 0x120089, 1, message.OptDirectory)
	const single, reopen, restart = 2, 16, 1
	list := func(class, flags byte, size uint32, mask string) (Status, []string) {
		raw := message.UTF16(mask)
		b := make([]byte, 32)
		le.PutUint16(b, 33)
		b[2], b[3] = class, flags
		copy(b[8:], dir)
		le.PutUint16(b[24:], message.HeaderSize+32)
		le.PutUint16(b[26:], uint16(len(raw)))
		le.PutUint32(b[28:], size)
		h, body, err := c.do(message.QueryDirectory, append(append(b, raw...), 0))
		require.NoError(t, err)
		if Status(h.Status) != statusOK {
			return Status(h.Status), nil
		}
		var names []string
		entries, err := message.ParseDirectory(class, body[8:])
		require.NoError(t, err)
		for _, e := range entries {
			name, ok := message.Text(e.Name)
			require.True(t, ok)
			names = append(names, name)
		}
		return Status(h.Status), names
	}
	all := []string{".", "..", "2026", "README.txt"}
	for class := range byte(99) {
		if !message.ListsNames(class) {
			continue
		}
		status, names := list(class, reopen, 4096, "*")
		require.Equal(t, statusOK, status)
		require.Equal(t, all, names, "class %d", class)
		status, _ = list(class, 0, 4096, "*")
		require.Equal(t, statusNoMoreFiles, status)
	}
	for i, want := range all {
		flags := byte(single)
		if i == 0 {
			flags |= reopen
		}
		_, names := list(message.FileNamesInfo, flags, 4096, "*")
		require.Equal(t, []string{want}, names)
	}
	_, names := list(message.FileNamesInfo, reopen, 4096, "r*.TXT")
	require.Equal(t, []string{"README.txt"}, names)
	status, _ := list(message.FileNamesInfo, reopen, 4096, "nothing*")
	require.Equal(t, statusNoSuchFile, status)

	// Asking for one name, of whatever case, reads no directory, however many names are in it: but once, after somebody else has changed it.
	var read atomic.Int32
	defer files.Disturb(func(call, _ string) error {
		if call == "list" {
			read.Add(1)
		}
		return nil
	})()
	old := time.Now().Add(-time.Hour)
	require.NoError(t, os.Chtimes(filepath.Join(at, "nightlog"), old, old))
	for _, asked := range []string{"README.txt", "readme.TXT", "2026"} {
		for range 3 {
			status, names := list(message.FileNamesInfo, reopen, 4096, asked)
			require.Equal(t, statusOK, status)
			require.True(t, strings.EqualFold(names[0], asked))
			require.Contains(t, all, names[0])
			require.Len(t, names, 1)
			status, _ = list(message.FileNamesInfo, 0, 4096, "*")
			require.Equal(t, statusNoMoreFiles, status, "it is the first mask that counts")
			status, names = list(message.FileNamesInfo, restart, 4096, "*")
			require.Equal(t, statusOK, status)
			require.Len(t, names, 1)
		}
	}
	require.LessOrEqual(t, read.Load(), int32(1))
	for _, asked := range []string{"nothing", "..", "."} {
		status, names := list(message.FileNamesInfo, reopen, 4096, asked)
		if asked == "nothing" {
			require.Equal(t, statusNoSuchFile, status)
		} else {
			require.Equal(t, []string{asked}, names)
		}
	}
	status, _ = list(message.FileNamesInfo, reopen, 10, "*")
	require.Equal(t, statusInfoLengthMismatch, status)
	status, _ = list(99, reopen, 4096, "*")
	require.Equal(t, statusInvalidInfoClass, status)
}
