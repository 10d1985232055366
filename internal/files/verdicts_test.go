package files

import (
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/site"
)

// Who asks again and again is told what somebody is told who asks for the first time: at once after whatever the service changes, and after what the host changes of
// the object itself, if it is a file; and of what is above it, or of a directory, a moment later.
func TestRememberedVerdictsAreWhatWouldBeDecided(t *testing.T) {
	for _, mode := range []site.Permissions{site.ByMode, site.ByEntries} {
		l := newLarkfell(t)
		l.exported()
		if l.records.Folders[0].Permissions = mode; mode == site.ByMode {
			l.records.Folders[0].Rules = nil
		}
		require.NoError(t, os.Chmod(l.root, 0o777))
		l.compile()
		require.NoError(t, os.MkdirAll(filepath.Join(l.root, "a/b/d"), 0o777))
		l.write("a/b/c", "x")
		l.write("a/c", "x")
		paths := []string{"", "a", "a/b", "a/b/c", "a/b/d", "a/c"}
		seed := rand.Uint64()
		r := rand.New(rand.NewPCG(seed, 3))
		guests := map[uint32]*Guest{2003: l.guest(2003), 2006: l.guest(2006), 2005: l.guest(2005)}
		told := func(g *Guest, path string) (string, acl.Mask) {
			v, err := l.Visit(g, Working)
			require.NoError(t, err)
			defer v.End()
			o, err := v.open(path)
			require.NoError(t, err)
			var err2 error
			if path != "" {
				dir, name := split(path)
				if parent, err := v.open(dir); err == nil {
					_, err2 = parent.Lookup(name)
				}
			}
			return fmt.Sprint(o.MayLook(), o.require(acl.ReadData), err2), o.Granted()
		}
		for step := range 400 {
			path := paths[r.IntN(len(paths))]
			perm := uint32(r.IntN(0o1000))
			switch r.IntN(6) {
			case 0, 1: // by the service, as whoever owns it or nobody
				owner := []uint32{2003, 2006}[r.IntN(2)]
				_ = l.visit(owner, Working, func(v *Visit, _ *Object) error {
					o, err := v.open(path)
					require.NoError(t, err)
					return o.Set(Set{Mode: &perm})
				})
			case 2:
				uid := []uint32{2003, 2006, 2005}[r.IntN(3)]
				require.NoError(t, SetMode(l.policy.Load(), l.ledger, l.policy.Load().Folders[0], path, Set{UID: &uid, Mode: &perm}))
			case 3: // other records
				l.records.Users[r.IntN(3)].Disabled = r.IntN(2) == 0
				l.compile()
			case 4: // on the host: the object, and all that is below it is seen to have changed a moment later
				require.NoError(t, unix.Setxattr(filepath.Join(l.root, path), ownerAttr, fmt.Appendf(nil, "%d:3001:%o", 2003+3*r.IntN(2), perm), 0))
				if r.IntN(2) == 0 && path == "a/b/c" {
					break // nothing is below that
				}
				l.now = l.now.Add(verdictFor + time.Millisecond)
			case 5:
				l.now = l.now.Add(time.Duration(r.IntN(int(verdictFor))))
			}
			for uid, g := range guests {
				for _, path := range paths {
					saysA, grantedA := told(g, path)
					saysB, grantedB := told(l.guest(uid), path)
					require.Equal(t, saysB, saysA, "%s, uid %d at %q, seed %d, step %d", mode, uid, path, seed, step)
					require.Equal(t, grantedB, grantedA, "%s, uid %d at %q, seed %d, step %d", mode, uid, path, seed, step)
				}
			}
		}
		require.LessOrEqual(t, len(l.verdicts.of), mostVerdicts)
		require.NotEmpty(t, l.verdicts.of)
	}
}
