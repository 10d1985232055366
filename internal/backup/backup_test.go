package backup_test

import (
	"archive/tar"
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"filippo.io/age"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/demo"
	"amber.example/gatekeeper/internal/backup"
	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/internal/signin"
	"amber.example/gatekeeper/internal/store"
)

var ctx = context.Background()

// larkfell is a service with the demo, and a backup of it.
func larkfell(t *testing.T) (*service.Service, []byte) {
	t.Helper()
	state := filepath.Join(t.TempDir(), "state")
	svc, err := service.Open(ctx, state)
	require.NoError(t, err)
	t.Cleanup(func() { svc.Close() })
	require.NoError(t, demo.Load(ctx, svc, state))
	return svc, made(t, svc, backup.Seal{})
}

func made(t *testing.T, svc *service.Service, seal backup.Seal) []byte {
	t.Helper()
	var b bytes.Buffer
	_, err := backup.Write(ctx, &b, svc, seal, "test")
	require.NoError(t, err)
	left, err := filepath.Glob(filepath.Join(svc.StateDir(), "backup-*"))
	require.NoError(t, err)
	require.Empty(t, left, "nothing is left of the copies")
	return b.Bytes()
}

func restore(t *testing.T, raw []byte, keys backup.Keys, state string, volumes map[string]string, check bool) (*backup.Restored, error) {
	t.Helper()
	return backup.Restore(ctx, bytes.NewReader(raw), keys, state, volumes, check)
}

// What is restored elsewhere is what it was: the same people by the same passwords, the same key, the same journal and one row more, and the volume
// where it is said to be now.
func TestAnotherMachine(t *testing.T) {
	svc, raw := larkfell(t)
	was, err := svc.Journal(ctx, store.Match{})
	require.NoError(t, err)
	handles := svc.HandleKey()
	policy := svc.Policy()
	require.NoError(t, svc.Close())
	disk := filepath.Join(t.TempDir(), "summit")
	require.NoError(t, os.Rename(policy.Volumes[0].Path, disk))

	state := filepath.Join(t.TempDir(), "deep", "state")
	done, err := restore(t, raw, backup.Keys{}, state, map[string]string{"Summit": disk}, false)
	require.NoError(t, err)
	require.Equal(t, disk, done.Placings[0].Path)
	require.Empty(t, done.Placings[0].Mind)
	st, err := os.Stat(state)
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o700), st.Mode().Perm())

	back, err := service.Open(ctx, state)
	require.NoError(t, err)
	defer back.Close()
	require.Equal(t, handles, back.HandleKey(), "file handles hold")
	require.Equal(t, disk, back.Policy().Volumes[0].Path)
	_, away := back.VolumeAway(back.Policy().Volumes[0].ID)
	require.False(t, away)
	is, err := back.Journal(ctx, store.Match{})
	require.NoError(t, err)
	require.Len(t, is, len(was)+1)
	_, err = back.VerifyJournal(ctx)
	require.NoError(t, err)
	last := is[len(is)-1]
	require.Equal(t, "restore", last.Action)
	require.Contains(t, last.Subject, "summit to "+disk)
	_, err = back.SignIn(ctx, signin.Try{Name: "keeper", Password: "keeper" + demo.PasswordSuffix, Address: "127.0.0.1"})
	require.NoError(t, err)
}

// What does not fit is refused, and nothing is left where it was to be.
func TestWhatDoesNotFit(t *testing.T) {
	_, raw := larkfell(t)
	parent := t.TempDir()
	state := filepath.Join(parent, "state")
	full := filepath.Join(parent, "full")
	require.NoError(t, os.MkdirAll(full, 0o700))
	require.NoError(t, os.WriteFile(filepath.Join(full, "moon"), nil, 0o600))
	for says, c := range map[string]struct {
		state   string
		volumes map[string]string
	}{
		"is not empty": {full, nil}, "there is no volume cellar in the backup": {state, map[string]string{"cellar": parent}},
		"volume summit cannot be at /nowhere: there is none": {state, map[string]string{"summit": "/nowhere"}},
		"holds the state directory":                          {state, map[string]string{"summit": parent}},
	} {
		_, err := restore(t, raw, backup.Keys{}, c.state, c.volumes, false)
		require.ErrorContains(t, err, says)
	}
	names, err := os.ReadDir(parent)
	require.NoError(t, err)
	require.Len(t, names, 1, "nothing is left")
	done, err := restore(t, raw, backup.Keys{}, state, map[string]string{"summit": full}, false)
	require.NoError(t, err)
	require.Contains(t, done.Placings[0].Mind, "does not carry the volume's mark")
	_, err = restore(t, raw, backup.Keys{}, state, nil, false)
	require.ErrorContains(t, err, "holds records already")
	done, err = restore(t, raw, backup.Keys{}, state, nil, true)
	require.NoError(t, err, "it can be looked at whatever is there")
	require.True(t, done.Checked)
}

// Of a backup that is cut off anywhere, or of which any bit is another, nothing is restored; sealed or not.
func TestDamage(t *testing.T) {
	svc, raw := larkfell(t)
	id, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	sealed := made(t, svc, backup.Seal{Recipients: []string{id.Recipient().String()}})
	parent := t.TempDir()
	rapid.Check(t, func(r *rapid.T) {
		whole, keys := raw, backup.Keys{}
		if rapid.Bool().Draw(r, "sealed") {
			whole, keys = sealed, backup.Keys{Identities: []age.Identity{id}}
		}
		bad := bytes.Clone(whole)
		if rapid.Bool().Draw(r, "cut off") {
			bad = bad[:rapid.IntRange(0, len(bad)-1).Draw(r, "at")]
		} else {
			// The head of gzip says when and where it was made, which nothing depends on.
			i := rapid.IntRange(10, len(bad)-1).Draw(r, "at")
			bad[i] ^= 1 << rapid.IntRange(0, 7).Draw(r, "bit")
		}
		if _, err := backup.Restore(ctx, bytes.NewReader(bad), keys, filepath.Join(parent, "state"), nil, true); err == nil {
			r.Fatal("it was taken")
		} else if strings.Contains(err.Error(), "gzip:") || strings.Contains(err.Error(), "age:") || strings.Contains(err.Error(), "unexpected EOF") {
			r.Fatalf("in a library's words: %v", err)
		}
		names, err := os.ReadDir(parent)
		require.NoError(r, err)
		require.Empty(r, names)
	})
}

func TestSeals(t *testing.T) {
	svc, _ := larkfell(t)
	state := filepath.Join(t.TempDir(), "state")
	with := func(text string) backup.Keys {
		return backup.Keys{Passphrase: func() (string, error) { return text, nil }}
	}
	sealed := made(t, svc, backup.Seal{Passphrase: "three pale moons"})
	require.NotContains(t, string(sealed), "SQLite")
	_, err := restore(t, sealed, with("three pale moons"), state, nil, true)
	require.NoError(t, err)
	_, err = restore(t, sealed, with("three pale moon"), state, nil, true)
	require.ErrorContains(t, err, "not the passphrase")
	_, err = restore(t, sealed, backup.Keys{}, state, nil, true)
	require.ErrorContains(t, err, "sealed with a passphrase")

	one, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	other, err := age.GenerateX25519Identity()
	require.NoError(t, err)
	sealed = made(t, svc, backup.Seal{Recipients: []string{one.Recipient().String()}})
	_, err = restore(t, sealed, backup.Keys{Identities: []age.Identity{other, one}}, state, nil, true)
	require.NoError(t, err)
	_, err = restore(t, sealed, backup.Keys{Identities: []age.Identity{other}}, state, nil, true)
	require.ErrorContains(t, err, "none of those keys opens it")
	_, err = restore(t, sealed, backup.Keys{}, state, nil, true)
	require.ErrorContains(t, err, "--identity")

	require.Error(t, backup.Seal{Passphrase: "short"}.Check())
	require.Error(t, backup.Seal{Recipients: []string{"age1moon"}}.Check())
	require.Error(t, backup.Seal{Passphrase: "three pale moons", Recipients: []string{one.Recipient().String()}}.Check())
	keys := filepath.Join(t.TempDir(), "keys")
	require.NoError(t, os.WriteFile(keys, []byte("# larkfell\n"+one.String()+"\n"), 0o600))
	ids, err := backup.ReadIdentities(keys)
	require.NoError(t, err)
	require.Len(t, ids, 1)
	require.NoError(t, os.WriteFile(keys, []byte("moon\n"), 0o600))
	_, err = backup.ReadIdentities(keys)
	require.ErrorContains(t, err, "no secret keys of age")
}

// member is one file of an archive that somebody made up.
type member struct{ name, body string }

func archive(t *testing.T, m map[string]any, members ...member) []byte {
	t.Helper()
	var b bytes.Buffer
	zip := gzip.NewWriter(&b)
	w := tar.NewWriter(zip)
	raw, err := json.Marshal(m)
	require.NoError(t, err)
	for _, one := range append([]member{{"manifest.json", string(raw)}}, members...) {
		require.NoError(t, w.WriteHeader(&tar.Header{Name: one.name, Mode: 0o600, Size: int64(len(one.body))}))
		_, err := io.WriteString(w, one.body)
		require.NoError(t, err)
	}
	require.NoError(t, errors.Join(w.Close(), zip.Close()))
	return b.Bytes()
}

// An archive that somebody made up gets nothing written outside of where it is read, and nothing taken that it does not describe.
func TestMadeUp(t *testing.T) {
	file := func(name, body string) map[string]any {
		sum := sha256.Sum256([]byte(body))
		return map[string]any{"name": name, "size": len(body), "sha256": hex.EncodeToString(sum[:])}
	}
	is := func(schema int64, files ...map[string]any) map[string]any {
		return map[string]any{"format": 1, "product": "Amber Gatekeeper", "schema": schema, "version": "9", "files": files}
	}
	records, key := file("records.sqlite", "moon"), file("secret.key", "moon")
	for says, raw := range map[string][]byte{
		"newer version":              archive(t, is(store.Schema()+1, records, key), member{"records.sqlite", "moon"}, member{"secret.key", "moon"}),
		"no backup":                  archive(t, is(1, file("../moon", "x"), records, key), member{"../moon", "x"}),
		"it is no backup":            archive(t, is(1, file("lock", "x"), records, key), member{"lock", "x"}),
		"secret.key is not in":       archive(t, is(1, records), member{"records.sqlite", "moon"}),
		"no backup of":               archive(t, is(1, records, records, key)),
		"its sum is another":         archive(t, is(1, records, key), member{"records.sqlite", "noon"}, member{"secret.key", "moon"}),
		"cut off":                    archive(t, is(1, records, key), member{"records.sqlite", "moon"}),
		"cut off, or":                archive(t, is(1, records, key), member{"records.sqlite", "moon"}, member{"../secret.key", "moon"}),
		"the records in it are":      archive(t, is(1, records, key), member{"records.sqlite", "moon"}, member{"secret.key", "moon"}),
		"it is no backup of Amber G": archive(t, map[string]any{"product": "Moon"}),
	} {
		parent := t.TempDir()
		_, err := restore(t, raw, backup.Keys{}, filepath.Join(parent, "state"), nil, false)
		require.ErrorContains(t, err, says)
		names, err := os.ReadDir(parent)
		require.NoError(t, err)
		require.Empty(t, names, says)
	}
	for _, raw := range [][]byte{nil, []byte("moon"), {0x1f, 0x8b}, []byte("age-encryption.org/v1\n-> X25519 moon\n")} {
		_, err := restore(t, raw, backup.Keys{}, filepath.Join(t.TempDir(), "state"), nil, false)
		require.Error(t, err)
	}
}

// A disk that is full, or somebody who goes away, ends a backup; nothing is left, and the service goes on.
func TestABackupThatIsNotTaken(t *testing.T) {
	svc, _ := larkfell(t)
	_, err := backup.Write(ctx, &narrow{room: 1000}, svc, backup.Seal{}, "test")
	require.ErrorIs(t, err, errFull)
	gone, cancel := context.WithCancel(ctx)
	cancel()
	_, err = backup.Write(gone, io.Discard, svc, backup.Seal{}, "test")
	require.Error(t, err)
	left, err := filepath.Glob(filepath.Join(svc.StateDir(), "backup-*"))
	require.NoError(t, err)
	require.Empty(t, left)
	made(t, svc, backup.Seal{})
}

var errFull = errors.New("full")

type narrow struct{ room int }

func (n *narrow) Write(p []byte) (int, error) {
	if n.room -= len(p); n.room < 0 {
		return 0, errFull
	}
	return len(p), nil
}

// Whatever is read, reading it comes to an end with a reason.
func FuzzRead(f *testing.F) {
	f.Add([]byte("age-encryption.org/v1\n-> scrypt AAAA 30\n"))
	f.Add([]byte{0x1f, 0x8b, 8, 0, 0, 0, 0, 0, 0, 0})
	f.Fuzz(func(t *testing.T, raw []byte) {
		keys := backup.Keys{Passphrase: func() (string, error) { return "", errors.New("nobody to ask") }}
		if _, err := backup.Read(bytes.NewReader(raw), keys, t.TempDir()); err == nil {
			t.Fatal("it was taken")
		}
	})
}
