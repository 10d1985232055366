package bench

import (
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/test/gateway"
)

// many makes files: a hundred in each directory, every hundredth directory with another mode, every
// thousandth file with an ACL.
func many(b *testing.B, root string, n int) {
	acl := []byte{2, 0, 0, 0, 1, 0, 6, 0, 255, 255, 255, 255, 2, 0, 4, 0, 0xd3, 7, 0, 0, 4, 0, 4, 0, 255, 255, 255, 255, 16, 0, 4, 0, 255, 255, 255, 255, 32, 0, 0, 0, 255, 255, 255, 255}
	for i := range n / 100 {
		dir := filepath.Join(root, fmt.Sprintf("night-%03d", i/100), fmt.Sprintf("run-%05d", i))
		mode := os.FileMode(0o775)
		if i%100 == 0 {
			mode = 0o750
		}
		require.NoError(b, os.MkdirAll(dir, mode))
		at, err := unix.Open(dir, unix.O_PATH|unix.O_DIRECTORY, 0)
		require.NoError(b, err)
		for j := range 100 {
			fd, err := unix.Openat(at, "plate-"+strconv.Itoa(j)+".fits", unix.O_CREAT|unix.O_WRONLY, uint32(0o640+j%2*4))
			require.NoError(b, err)
			if j == 0 && i%10 == 0 {
				if err := unix.Fsetxattr(fd, "system.posix_acl_access", acl, 0); err != nil && err != unix.EOPNOTSUPP {
					require.NoError(b, err)
				}
			}
			unix.Close(fd)
		}
		unix.Close(at)
	}
}

// bareWalk reads the mode and the ACL of each file and directory once, and does nothing with them.
func bareWalk(b *testing.B, dir string, seen *int) {
	fd, err := unix.Open(dir, unix.O_RDONLY|unix.O_DIRECTORY|unix.O_NOFOLLOW, 0)
	require.NoError(b, err)
	f := os.NewFile(uintptr(fd), dir)
	defer f.Close()
	names, err := f.Readdirnames(-1)
	require.NoError(b, err)
	var st unix.Stat_t
	buf := make([]byte, 256)
	for _, name := range names {
		require.NoError(b, unix.Fstatat(fd, name, &st, unix.AT_SYMLINK_NOFOLLOW))
		path := dir + "/" + name
		_, _ = unix.Lgetxattr(path, "system.posix_acl_access", buf)
		*seen++
		if st.Mode&unix.S_IFMT == unix.S_IFDIR {
			bareWalk(b, path, seen)
		}
	}
}

// BenchmarkUnixAudit is the full audit of a tree of a million files whose modes decide (AMBER_FILES
// for another number), beside a bare walk.
func BenchmarkUnixAudit(b *testing.B) {
	if os.Geteuid() != 0 {
		b.Skip("native ownership takes root")
	}
	n := 1_000_000
	if s := os.Getenv("AMBER_FILES"); s != "" {
		var err error
		n, err = strconv.Atoi(s)
		require.NoError(b, err)
	}
	g := gateway.Start(b)
	f, err := g.Service.CreateFolder(b.Context(), gateway.Keeper, service.FolderInput{Name: "archive", Volume: "summit", Permissions: "unix", Ownership: "native"})
	require.NoError(b, err)
	_, err = g.Service.CreateShare(b.Context(), gateway.Keeper, service.ShareInput{Folder: "archive"})
	require.NoError(b, err)
	many(b, f.Root, n)
	seen := 0
	bareWalk(b, f.Root, &seen) // once, so that both find everything in memory
	for b.Loop() {
		seen = 0
		started := time.Now()
		bareWalk(b, f.Root, &seen)
		bare := time.Since(started)
		started = time.Now()
		j, err := g.Service.BeginSurvey(b.Context(), gateway.Keeper, "archive", "")
		require.NoError(b, err)
		<-j.Over()
		took := time.Since(started)
		var got service.Survey
		require.NoError(b, json.Unmarshal(j.Now().Result, &got))
		require.Equal(b, n, got.Files)
		require.NotEmpty(b, got.People)
		b.ReportMetric(float64(took)/float64(bare), "times-bare-walk")
		b.ReportMetric(float64(seen)/took.Seconds(), "objects/s")
		b.ReportMetric(float64(got.Kinds), "kinds")
	}
}
