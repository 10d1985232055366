package files

import (
	"errors"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
)

// withSpectra adds a folder on a disk of its own.
func (l *larkfell) withSpectra() (root string) {
	root = filepath.Join(l.t.TempDir(), "spectra")
	require.NoError(l.t, os.MkdirAll(filepath.Join(root, "2026"), 0o755))
	l.records.Volumes = append(l.records.Volumes, site.Volume{ID: 2, Name: "valley", Path: filepath.Dir(root)})
	l.records.Folders = append(l.records.Folders, site.Folder{ID: 2, Name: "spectra", VolumeID: 2, Path: "spectra", Rules: []acl.Rule{
		{ID: 9, Entries: []acl.Entry{{ID: 9, Who: identity.UserPrincipal(piran), Level: acl.Change, Applies: acl.Everywhere}}}}})
	l.records.Shares = append(l.records.Shares, site.Share{ID: 2, Name: "spectra", FolderID: 2})
	l.compile()
	return root
}

func (l *larkfell) openAt(share, path string, access acl.Mask, d Disposition) (*Handle, error) {
	h, _, err := l.Open(Subject{User: piran, Via: site.SMB}, OpenRequest{Share: share, Path: path, Access: access, Disposition: d, Sharing: ShareRead | ShareWrite | ShareDelete})
	return h, err
}

// work does a bit of everything in a share.
func (l *larkfell) work(share, name string) error {
	h, err := l.openAt(share, name, acl.ReadData|acl.WriteData|acl.Delete, CreateOnly)
	if err != nil {
		return err
	}
	_, errWrite := h.WriteAt([]byte("seeing 0.8"), 0, true)
	_, errRead := h.ReadAt(make([]byte, 4), 0)
	errs := []error{errWrite, errRead, h.Rename(l.t.Context(), name+".log", false), h.Close()}
	again, err := l.openAt(share, strings.ToUpper(name)+".LOG", acl.ReadData|acl.WriteData|acl.Delete, OpenOnly)
	if err != nil {
		return errors.Join(append(errs, err)...)
	}
	return errors.Join(append(errs, again.Truncate(2), again.SetDelete(true), again.Close())...)
}

// Whatever a disk does not come back from, the folders on other disks are served. Both lie on one device here, whose objects share so many locks
// (usage.Ledger.Hold): that one of theirs is that of another by chance is not so three times.
func TestAHungDiskStopsNoOther(t *testing.T) {
	for _, call := range []string{"open", "look", "list", "read", "write", "sync", "resize", "make", "remove", "rename", "mark"} {
		t.Run(call, func(t *testing.T) {
			for range 3 {
				if servedBesideAHungDisk(t, call) {
					return
				}
			}
			t.Fatal("the other disk waits")
		})
	}
}

func servedBesideAHungDisk(t *testing.T, call string) bool {
	l := newLarkfell(t)
	root := l.withSpectra()
	before, err := l.openAt("spectra", "2026", acl.ListDirectory|acl.Delete, OpenOnly)
	require.NoError(t, err)
	release, reached := make(chan struct{}), make(chan struct{})
	once := sync.OnceFunc(func() { close(reached) })
	undo := Disturb(func(c, at string) error {
		if c == call && strings.HasPrefix(at, root) {
			once()
			<-release
		}
		return nil
	})
	defer undo()
	var hung sync.WaitGroup
	defer hung.Wait()
	defer close(release)
	hung.Go(func() { _ = l.work("spectra", "a") })
	hung.Go(func() { _ = l.work("spectra", "b") })
	hung.Go(func() { _, _ = before.Names() })
	hung.Go(func() { _ = before.Rename(t.Context(), "2027", false) })
	select {
	case <-reached:
	case <-time.After(10 * time.Second):
		t.Fatal("nothing asks the disk for that")
	}
	done := make(chan error, 1)
	hung.Go(func() { done <- errors.Join(l.work("nightlog", "c"), l.work("nightlog", "d")) })
	select {
	case err := <-done:
		require.NoError(t, err)
		return true
	case <-time.After(20 * time.Second):
		return false
	}
}

// What fails on disk fails for who asked, by its name; and neither what is counted nor what is known of names is wrong afterwards.
func TestADiskThatFails(t *testing.T) {
	kinds := map[error]error{unix.EIO: ErrIO, unix.ENOSPC: ErrNoSpace, unix.EROFS: ErrReadOnlyVolume}
	for _, call := range []string{"open", "look", "list", "read", "write", "sync", "resize", "make", "remove", "rename", "mark"} {
		for errno, is := range kinds {
			t.Run(call+" "+errno.Error(), func(t *testing.T) {
				l := newLarkfell(t)
				failing := true
				defer Disturb(func(c, at string) error {
					if failing && c == call && strings.HasPrefix(at, l.root) {
						return errno
					}
					return nil
				})()
				require.ErrorIs(t, l.work("nightlog", "a"), is)
				failing = false
				for _, name := range []string{"a", "a.log"} { // whatever is left of it can be done away with
					if h, err := l.openAt("nightlog", name, acl.Delete, OpenOnly); err == nil {
						require.NoError(t, h.SetDelete(true))
						require.NoError(t, h.Close())
					}
				}
				require.NoError(t, l.work("nightlog", "a"), "and all is well once the disk is")
				require.Empty(t, l.Namespace.open)
			})
		}
	}
}
