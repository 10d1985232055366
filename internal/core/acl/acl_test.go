package acl

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/identity"
)

func TestLevels(t *testing.T) {
	require.True(t, Control.Contains(Change))
	require.True(t, Change.Contains(Read) && Change.Contains(Add))
	require.False(t, Add.Contains(Read) || Read.Contains(Add))
	require.Zero(t, Add.Mask(false)&(WriteData|AppendData), "who may add may not alter a file that is there")
	require.NotZero(t, Add.Mask(true)&AddFile)
	for _, c := range []struct {
		mask Mask
		of   Kind
		says string
	}{
		{0, Directory, "nothing"}, {All, Directory, "control"}, {Pass.Mask(true), Directory, "pass"},
		{Read.Mask(true) | Add.Mask(true), Directory, "read and add"}, {Change.Mask(false), File, "change"},
		{Change.Mask(true) &^ Delete, Directory, "read and add"}, {Change.Mask(true) &^ Delete, Root, "change"}, {All &^ Delete, Root, "control"},
		{Add.Mask(false), File, "pass"}, {ReadOnly, Directory, "read"},
	} {
		require.Equal(t, c.says, Describe(c.mask, c.of))
	}
	_, err := ParseLevel("write")
	require.ErrorContains(t, err, "pass, read, add, change, control")
}

// Denying a level leaves every level that does not contain it, and no other.
func TestDenyLevel(t *testing.T) {
	for _, dir := range []bool{true, false} {
		for _, denied := range Levels {
			left := All &^ denied.DenyMask(dir)
			for _, l := range Levels {
				if !dir && (l == Add || denied == Add) {
					continue // on a file Add is Pass
				}
				require.Equal(t, !l.Contains(denied), l.Mask(dir)&^left == 0, "deny %s, has %s, dir %v", denied, l, dir)
			}
		}
	}
}

// How far an entry reaches, RFC 8881 section 6.4.3.
func TestReach(t *testing.T) {
	dir, err := identity.Compile([]identity.User{{ID: 1, Name: "wren", UID: 1}}, nil)
	require.NoError(t, err)
	who := identity.UserPrincipal(1)
	allowed := func(a Applies, path string, file bool) bool {
		tree, err := NewTree(dir.Indexes(), []Rule{{Path: "top", Entries: []Entry{{Who: who, Level: Read, Applies: a}}}})
		require.NoError(t, err)
		return tree.List(path, file).Evaluate(dir.Person(0), Ownership{}, time.Time{}, ReadData, nil) != 0
	}
	for _, c := range []struct {
		applies                                         Applies
		above, here, sub, file, subsub, subfile, beside bool
	}{
		{Everywhere, false, true, true, true, true, true, false},
		{Here, false, true, false, false, false, false, false},
		{Subfolders, false, false, true, false, true, false, false},
		{Files, false, false, false, true, false, true, false},
		{Subfolders | Files | DirectOnly, false, false, true, true, false, false, false},
		{Here | Files | DirectOnly, false, true, false, true, false, false, false},
	} {
		got := []bool{allowed(c.applies, "", false), allowed(c.applies, "top", false), allowed(c.applies, "top/a", false),
			allowed(c.applies, "top/f", true), allowed(c.applies, "top/a/b", false), allowed(c.applies, "top/a/f", true), allowed(c.applies, "topper", false)}
		require.Equal(t, []bool{c.above, c.here, c.sub, c.file, c.subsub, c.subfile, c.beside}, got, "applies %04b", c.applies)
	}
}

func TestTreeRefusesUnclean(t *testing.T) {
	for _, path := range []string{"/a", "a/", "a//b", "a/../b", ".", "a\x00b"} {
		_, err := NewTree(identity.Indexes{}, []Rule{{Path: path}})
		require.Error(t, err, "%q", path)
	}
	_, err := NewTree(identity.Indexes{}, []Rule{{Path: "a"}, {Path: "a"}})
	require.Error(t, err)
}

// What an entry reaches is read back from its names, in whatever order.
func TestAppliesByName(t *testing.T) {
	for a := Applies(0); a <= Everywhere|DirectOnly; a++ {
		names := a.Names()
		slices.Reverse(names)
		back, err := ParseApplies(names)
		require.NoError(t, err)
		require.Equal(t, a, back)
	}
	_, err := ParseApplies([]string{"files", "everything"})
	require.ErrorContains(t, err, `"everything"`)
}
