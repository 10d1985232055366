package posix

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// That it decides as the kernel does, internal/files/kernel_test.go proves; here is what needs no kernel.

func TestACLCheck(t *testing.T) {
	basic := Of(0o640)
	require.NoError(t, basic.Check())
	require.Equal(t, uint32(0o640), basic.mode())
	masked := ACL{{UserObj, 7, Nobody}, {User, 6, 2003}, {GroupObj, 5, Nobody}, {Mask, 4, Nobody}, {Other, 0, Nobody}}
	require.NoError(t, masked.Check())
	require.Equal(t, uint32(0o740), masked.mode(), "the group bits are the mask")
	for name, bad := range map[string]ACL{
		"nothing":      {},
		"no others":    basic[:2],
		"no mask":      {masked[0], masked[1], masked[2], masked[4]},
		"out of order": {masked[0], masked[2], masked[1], masked[3], masked[4]},
		"twice":        {masked[0], masked[1], masked[1], masked[2], masked[3], masked[4]},
		"no such tag":  {{3, 7, Nobody}, basic[0], basic[1], basic[2]},
	} {
		require.ErrorIs(t, bad.Check(), ErrACL, name)
	}
	require.NoError(t, ACL{masked[3], masked[4], masked[0], masked[2], masked[1]}.Sorted().Check())
}

// What chmod sets is what the list then amounts to, and the other way round.
func TestChmodAndACLAgree(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		mode := rapid.Uint32Range(0, 0o7777).Draw(t, "mode")
		a := Attributes{UID: 1, GID: 2, Mode: rapid.Uint32Range(0, 0o7777).Draw(t, "was"), Dir: rapid.Bool().Draw(t, "dir")}
		if rapid.Bool().Draw(t, "acl") {
			a = WithACL(&Credential{}, a, ACL{{UserObj, 7, Nobody}, {User, rapid.Uint32Range(0, 7).Draw(t, "perm"), 3}, {GroupObj, 5, Nobody}, {Mask, 4, Nobody}, {Other, 0, Nobody}})
		}
		is := Chmod(&Credential{}, a, mode)
		require.Equal(t, mode, is.Mode)
		if is.ACL != nil {
			require.Equal(t, mode&0o777, is.ACL.mode())
			require.NoError(t, is.ACL.Check())
		}
		back := WithACL(&Credential{}, is, Of(mode&0o777))
		require.Nil(t, back.ACL, "what mode bits can say is said by them")
		require.Equal(t, mode, back.Mode)
	})
}

func FuzzParseACL(f *testing.F) {
	f.Add(Of(0o755).Bytes())
	f.Add([]byte{2, 0, 0, 0})
	f.Fuzz(func(t *testing.T, raw []byte) {
		list, err := ParseACL(raw)
		if err != nil {
			return
		}
		again, err := ParseACL(list.Bytes())
		require.NoError(t, err)
		require.Equal(t, list.mode(), again.mode())
		require.Equal(t, len(list), len(again))
	})
}
