package secret

import (
	"bytes"
	"encoding/hex"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/store"
)

func opened(t *testing.T, dir string) Sealer {
	t.Helper()
	s, err := Open(dir, false)
	require.NoError(t, err)
	return s
}

// A key that a full disk or a careless copy has cut is not taken for one, whatever is left of it: what was sealed with the whole one would
// be lost without a word, and what is sealed from then on would lie under less than was meant.
func TestACutKeyIsNoKey(t *testing.T) {
	dir := t.TempDir()
	sealed := opened(t, dir).Seal(7, []byte("hash"))
	path := filepath.Join(dir, KeyFileName)
	key, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Len(t, key, 32)
	for n := range 65 {
		is := append(bytes.Clone(key), key...)[:n]
		require.NoError(t, os.WriteFile(path, is, 0o600))
		s, err := Open(dir, false)
		if n == 32 {
			require.NoError(t, err)
			got, err := s.Open(7, sealed)
			require.NoError(t, err)
			require.Equal(t, "hash", string(got))
			continue
		}
		require.Error(t, err, "%d bytes", n)
		require.ErrorContains(t, err, path)
		left, err := os.ReadFile(path)
		require.NoError(t, err)
		require.Equal(t, is, left, "and it is left as it is, for whoever has to find out")
	}
}

func TestAKeyIsForItsOwnerAlone(t *testing.T) {
	dir := t.TempDir()
	opened(t, dir)
	path := filepath.Join(dir, KeyFileName)
	for _, mode := range []os.FileMode{0o640, 0o604, 0o660, 0o666, 0o601, 0o777} {
		require.NoError(t, os.Chmod(path, mode))
		_, err := Open(dir, false)
		require.ErrorContains(t, err, "open to others", "%o", mode)
	}
	require.NoError(t, os.Chmod(path, 0o400))
	opened(t, dir)
}

// A key that is gone is made anew only where nothing was sealed with it, or where somebody says that they know.
func TestAKeyIsMadeOnce(t *testing.T) {
	dir := t.TempDir()
	first := opened(t, dir)
	require.Equal(t, first.Derive("handles"), opened(t, dir).Derive("handles"))
	require.NoError(t, os.Remove(filepath.Join(dir, KeyFileName)))
	require.NoError(t, os.WriteFile(filepath.Join(dir, store.FileName), nil, 0o600))
	_, err := Open(dir, false)
	require.ErrorIs(t, err, ErrNoKey)
	require.NoFileExists(t, filepath.Join(dir, KeyFileName))
	again, err := Open(dir, true)
	require.NoError(t, err)
	require.NotEqual(t, first.Derive("handles"), again.Derive("handles"))
	info, err := os.Stat(filepath.Join(dir, KeyFileName))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Len(t, entries, 2, "nothing half written is left")
}

// What is sealed opens for whom it was sealed, as it is, and not for another, nor for another use, nor with any bit of it changed.
func TestSealsAreFor(t *testing.T) {
	s := opened(t, t.TempDir())
	sealed := s.Seal(7, []byte("a hash of sixteen"))
	for _, other := range []identity.ID{0, 6, 8, 7 << 32} {
		_, err := s.Open(other, sealed)
		require.Error(t, err, other)
	}
	_, err := s.OpenFor("7", sealed)
	require.Error(t, err)
	for i := range len(sealed) * 8 {
		bad := bytes.Clone(sealed)
		bad[i/8] ^= 1 << (i % 8)
		_, err := s.Open(7, bad)
		require.Error(t, err, "bit %d", i)
	}
	for n := range len(sealed) {
		_, err := s.Open(7, sealed[:n])
		require.Error(t, err, "%d bytes", n)
	}
	require.NotEqual(t, sealed, s.Seal(7, []byte("a hash of sixteen")), "the same twice does not look the same")
	hook := s.SealFor("hook ops", "https://192.0.2.9/secret")
	_, err = s.OpenFor("hook ops2", hook)
	require.Error(t, err)
	got, err := s.OpenFor("hook ops", hook)
	require.NoError(t, err)
	require.Equal(t, "https://192.0.2.9/secret", got)
	_, err = opened(t, t.TempDir()).OpenFor("hook ops", hook)
	require.Error(t, err, "the key of another gateway")
	require.NotContains(t, string(hook), "192.0.2.9")
}

// The example of MS-NLMP section 4.2.2.1.2, and characters beyond the first plane as two units.
func TestNTHash(t *testing.T) {
	require.Equal(t, "a4f49c406510bdcab6824ee7c30fd852", hex.EncodeToString(NTHash("Password")))
	require.Equal(t, "31d6cfe0d16ae931b73c59d7e0c089c0", hex.EncodeToString(NTHash("")))
	require.NotEqual(t, NTHash("𝛼"), NTHash("α"))
}

func TestPasswordsAreChecked(t *testing.T) {
	hash := Hash("piran-at-larkfell")
	require.True(t, Check(hash, "piran-at-larkfell"))
	for _, wrong := range []string{"", "piran-at-larkfel", "piran-at-larkfell ", "Piran-at-larkfell", "piran-at-larkfell\x00"} {
		require.False(t, Check(hash, wrong), "%q", wrong)
	}
	require.NotEqual(t, hash, Hash("piran-at-larkfell"), "two people with one password are not seen to have it")
	require.NotContains(t, hash, "piran")
}

// A hash that is damaged lets nobody in, takes no more memory than is meant, and brings nothing down.
func TestDamagedHashes(t *testing.T) {
	hash := Hash("piran-at-larkfell")
	parts := strings.Split(hash, "$")
	with := func(i int, is string) string {
		p := append([]string(nil), parts...)
		p[i] = is
		return strings.Join(p, "$")
	}
	for _, bad := range []string{
		"", "$", "$$$$$", "plain", strings.Repeat("$", 100), hash + "$", strings.TrimPrefix(hash, "$"),
		with(1, "argon2i"), with(3, ""), with(3, "m=19456,t=0,p=1"), with(3, "m=19456,t=2,p=0"), with(3, "m=0,t=2,p=1"),
		with(3, "m=19456,t=2,p=256"), with(3, "m=4294967295,t=2,p=1"), with(3, "m=19456,t=4294967295,p=1"), with(3, "m=-1,t=2,p=1"),
		with(4, ""), with(4, "!"), with(5, ""), with(5, "!"), with(5, "AAAA"),
	} {
		require.False(t, Check(bad, "piran-at-larkfell"), "%q", bad)
		require.False(t, Check(bad, ""), "%q", bad)
	}
}

func TestCodesAreTyped(t *testing.T) {
	seen := make(map[string]bool)
	form := regexp.MustCompile(`^[a-hjkmnp-z2-9]{4}-[a-hjkmnp-z2-9]{4}-[a-hjkmnp-z2-9]{4}$`)
	for range 2000 {
		code := ShortCode()
		require.Regexp(t, form, code, "none of i, l, o, 0 and 1")
		require.False(t, seen[code])
		seen[code] = true
	}
}

// What is hashed costs what is asked of it (RFC 9106 section 4, and the least that is advised today): 19 MiB and two passes, unless a test says otherwise.
func TestWhatAHashCosts(t *testing.T) {
	require.Contains(t, Hash("violet-plate-7"), "$m=19456,t=2,p=1$")
	require.Equal(t, cost.memory, uint32(argonMemory), "nobody here has it cheap")
}
