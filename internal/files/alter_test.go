package files

import (
	"go/ast"
	"go/parser"
	"go/token"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// altering are the kernel's calls that change data, names, owners or marks, as the packages unix and os have them.
var altering = []string{"Pwrite", "Pwritev", "Pwritev2", "Write", "Ftruncate", "Truncate", "Fallocate", "Mkdirat", "Mkdir", "Mknodat", "Mknod", "Symlinkat", "Symlink",
	"Linkat", "Link", "Renameat", "Renameat2", "Rename", "Unlinkat", "Unlink", "Fchownat", "Fchown", "Chown", "Lchown", "Chmod", "Fchmod", "Fchmodat",
	"Setxattr", "Fsetxattr", "Lsetxattr", "Removexattr", "Fremovexattr", "Lremovexattr", "UtimesNanoAt", "CopyFileRange", "Sendfile", "IoctlFileClone", "IoctlFileCloneRange",
	"WriteFile", "Create", "RemoveAll", "Remove", "MkdirAll", "Chtimes"}

// Whatever alters data goes through the layer that counts it and holds it to the limits: no other file calls the kernel for it. What
// makes the directory of a folder, or tries a volume, is the administrator's own and named here.
func TestOneLayerAltersData(t *testing.T) {
	allowed := map[string][]string{"resolve.go": {"Remove", "MkdirAll"}}
	sources, err := filepath.Glob("*.go")
	require.NoError(t, err)
	require.NotEmpty(t, sources)
	layer := 0
	for _, name := range sources {
		if strings.HasSuffix(name, "_test.go") {
			continue
		}
		file, err := parser.ParseFile(token.NewFileSet(), name, nil, 0)
		require.NoError(t, err)
		ast.Inspect(file, func(n ast.Node) bool {
			sel, ok := n.(*ast.SelectorExpr)
			if !ok || !slices.Contains(altering, sel.Sel.Name) {
				return true
			}
			of, ok := sel.X.(*ast.Ident)
			if !ok || of.Name != "unix" && of.Name != "os" && of.Name != "root" || slices.Contains(allowed[name], sel.Sel.Name) {
				return true
			}
			if strings.HasPrefix(name, "alter") {
				layer++
				return true
			}
			t.Errorf("%s calls %s.%s itself", name, of.Name, sel.Sel.Name)
			return true
		})
		ast.Inspect(file, func(n ast.Node) bool { // O_CREAT and O_TRUNC make and empty as well
			sel, ok := n.(*ast.SelectorExpr)
			if ok && slices.Contains([]string{"O_TRUNC", "O_TMPFILE"}, sel.Sel.Name) {
				t.Errorf("%s opens with %s", name, sel.Sel.Name)
			}
			return true
		})
	}
	require.Greater(t, layer, 10, "the layer itself was looked at")
}
