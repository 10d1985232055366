package smb

import (
	"log/slog"
	"os"
	"path/filepath"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/smb/message"
)

// A request that is not encrypted reads nothing from a share that requires encryption, through no handle on another share either.
func TestSourceOnAnEncryptedShare(t *testing.T) {
	dir := t.TempDir()
	var inForce atomic.Pointer[site.Policy]
	encrypt := func(vault bool) {
		records := site.Records{
			Users:   []identity.User{{ID: 1, Name: "piran", UID: 1, SMB: true}},
			Volumes: []site.Volume{{ID: 1, Name: "v", Path: dir}}, Services: site.Services{SMB: true},
		}
		for i, name := range []string{"nightlog", "vault"} {
			require.NoError(t, os.MkdirAll(filepath.Join(dir, name), 0o755))
			id := int64(i + 1)
			records.Folders = append(records.Folders, site.Folder{ID: id, Name: name, VolumeID: 1, Path: name,
				Rules: []acl.Rule{{Entries: []acl.Entry{{ID: id, Who: identity.Everyone, Level: acl.Change, Applies: acl.Everywhere}}}}})
			records.Shares = append(records.Shares, site.Share{ID: id, Name: name, FolderID: id, Encrypted: vault && name == "vault"})
		}
		policy, err := site.Compile(records)
		require.NoError(t, err)
		inForce.Store(policy)
	}
	encrypt(false)
	s := NewServer(Config{Name: "larkfell", Policy: inForce.Load, Accounts: oneAccount{}, Names: noNames{}, Files: files.New(inForce.Load, nil), Log: slog.New(slog.DiscardHandler)})
	c := dialRaw(t, serves(t, s)).signIn().connect()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "vault", "plate"), []byte("a secret plate"), 0o600))
	to := c.create("copy", readWrite, 2, 0)
	open := c.tree
	h, _, err := c.do(message.TreeConnect, body(&message.TreeConnectRequest{Path: message.UTF16(`\\larkfell\vault`)}))
	require.NoError(t, err)
	require.Equal(t, statusOK, Status(h.Status))
	c.tree = h.TreeID
	from := c.create("plate", readWrite, 1, 0)
	key := c.keyOf(from)
	c.tree = open
	whole := message.CopyChunk{Length: 14}

	status, did := c.copyChunks(fsctlCopyChunk, to, key, whole)
	require.Equal(t, statusOK, status)
	require.EqualValues(t, 14, did.Total)
	encrypt(true)
	require.NoError(t, os.Truncate(filepath.Join(dir, "nightlog", "copy"), 0))
	status, _ = c.copyChunks(fsctlCopyChunk, to, key, whole)
	require.Equal(t, statusAccessDenied, status)
	var extent message.SharedExtent
	extent.Source.Persistent, extent.Source.Volatile = le.Uint64(from), le.Uint64(from[8:])
	extent.Length = 4096
	status, _ = c.control(fsctlDuplicateExtents, to, extent.Append(nil), 0)
	require.Equal(t, statusAccessDenied, status)
	got, err := os.ReadFile(filepath.Join(dir, "nightlog", "copy"))
	require.NoError(t, err)
	require.Empty(t, got)
	encrypt(false)
	status, _ = c.copyChunks(fsctlCopyChunk, to, key, whole)
	require.Equal(t, statusOK, status)
}
