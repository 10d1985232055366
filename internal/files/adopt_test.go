package files

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/adopt"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/test/need"
)

// A tree of the host is turned into entries, and then each user may do to each file and directory
// just what the kernel lets a process with that user's numbers do.
func TestAConvertedTreeIsAsTheKernelHasIt(t *testing.T) {
	if os.Geteuid() != 0 {
		need.Missing(t, "it takes root to ask the kernel as others")
	}
	asked := 0
	for seed := range uint64(60) {
		dir := t.TempDir()
		for _, d := range []string{dir, filepath.Dir(dir)} {
			require.NoError(t, os.Chmod(d, 0o755))
		}
		w := newTwin(t, dir, rand.New(rand.NewPCG(seed, 4)), site.Native)
		r := site.Records{Volumes: []site.Volume{{ID: 1, Name: "v", Path: dir}}, Services: site.Services{SMB: true},
			Folders: []site.Folder{{ID: 1, Name: "native", VolumeID: 1, Path: "native", Permissions: site.ByMode, Ownership: site.Native}}, Shares: []site.Share{{ID: 1, Name: "native", FolderID: 1}}}
		for i, gid := range playerGIDs {
			r.Groups = append(r.Groups, identity.Group{ID: identity.ID(i + 1), Name: fmt.Sprint("g", gid), GID: gid})
		}
		for i, uid := range playerUIDs {
			r.Users = append(r.Users, identity.User{ID: identity.ID(i + 1), Name: fmt.Sprint("u", uid), UID: uid, SMB: true, Primary: identity.ID(1 + w.rng.IntN(len(r.Groups)))})
			for g := range r.Groups {
				if w.rng.IntN(3) == 0 {
					r.Groups[g].Members = append(r.Groups[g].Members, identity.UserPrincipal(identity.ID(i+1)))
				}
			}
		}
		before, err := site.Compile(r)
		require.NoError(t, err)
		facts := FactsOf(before, before.Folders[0])
		var found []adopt.Object
		require.NoError(t, facts.Walk(context.Background(), func(o Found) error {
			found = append(found, adopt.Object{Path: o.Path, Unix: o.Unix, Owned: o.Owned})
			return nil
		}))
		require.Len(t, found, len(w.paths))
		r.Folders[0].Permissions, r.Folders[0].Rules = site.ByEntries, adopt.NewConverter(before).Rules(found)
		after, err := site.Compile(r)
		require.NoError(t, err)

		root, err := unix.Open(w.native, unix.O_PATH|unix.O_DIRECTORY, 0)
		require.NoError(t, err)
		for _, u := range r.Users {
			who := access.UnixCredential(before.Directory, u.ID)
			for _, o := range found {
				want := map[uint32]acl.Mask{posix.Read: acl.ReadData, posix.Exec: acl.Execute, posix.Write: acl.WriteData | acl.AppendData}
				if o.Unix.Dir {
					want = map[uint32]acl.Mask{posix.Read: acl.ListDirectory, posix.Exec: acl.Execute, posix.Write | posix.Exec: acl.AddFile | acl.AddSubdirectory | acl.DeleteChild}
				}
				for bits, mask := range want {
					if bits&posix.Exec != 0 && !o.Unix.Dir && u.UID == 0 {
						continue // the kernel runs nothing without any x, not for root either; converted, it is the file's bit that says so
					}
					kernel := asKernel(who, func() error { return unix.Faccessat(root, w.at(o.Path), bits, unix.AT_EACCESS) }) == nil
					if bits == posix.Read && !o.Unix.Dir { // over the wire, who may run it may read it
						kernel = kernel || asKernel(who, func() error { return unix.Faccessat(root, w.at(o.Path), posix.Exec, unix.AT_EACCESS) }) == nil
					}
					v := access.Decide(after, access.Request{User: u.ID, Via: site.SMB, Share: after.Shares[0], Folder: after.Folders[0], Path: o.Path, File: !o.Unix.Dir,
						Facts: FactsOf(after, after.Folders[0]), Want: mask, Now: time.Now()})
					require.Equal(t, kernel, v.Allowed(), "seed %d: %s on %q, bits %o, %+v", seed, u.Name, o.Path, bits, o.Unix)
					asked++
				}
			}
		}
		unix.Close(root)
	}
	require.Greater(t, asked, 5000)
}
