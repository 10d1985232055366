package files

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// A directory that is removed while somebody has it open is an empty one, and no error that ends what goes through all of them.
func TestADirectoryThatIsRemovedWhileItIsListed(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "nightlog")
	require.NoError(t, os.Mkdir(dir, 0o755))
	fd, err := unix.Open(dir, unix.O_RDONLY|unix.O_DIRECTORY, 0)
	require.NoError(t, err)
	defer unix.Close(fd)
	require.NoError(t, os.Remove(dir))
	require.NoError(t, readDirents(fd, make([]byte, direntBuffer), func(dirent) bool { t.Error("there is nothing in it"); return true }))
	names, err := readNames(fd)
	require.NoError(t, err)
	require.Empty(t, names)
}
