package service

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/ntlm"
	"amber.example/gatekeeper/internal/secret"
	"amber.example/gatekeeper/internal/signin"
)

// renamed renames a directory with rules as a protocol does.
func (s *Service) renamed(t *testing.T, ctx context.Context, during func()) error {
	t.Helper()
	f := s.Policy().Folders[0]
	at := func(name string) string { return filepath.Join(f.Root, name) }
	return s.MoveRules(ctx, f.ID, "firmware", "microcode", func() error {
		err := os.Rename(at("firmware"), at("microcode"))
		during()
		return err
	}, func() error { return os.Rename(at("microcode"), at("firmware")) })
}

func (s *Service) moves(t *testing.T) (n int) {
	require.NoError(t, s.store.DB().QueryRow(`SELECT count(*) FROM moves`).Scan(&n))
	return n
}

// From the first lasting step on a rename runs to its end, whatever becomes of who asked for it; and where the records cannot
// take it, the directory is back under its rules.
func TestARenameIsWholeOrNotAtAll(t *testing.T) {
	const breakIt, fixIt = `CREATE TRIGGER full BEFORE INSERT ON records BEGIN SELECT RAISE(ABORT, 'the disk is full'); END`, `DROP TRIGGER full`
	sql := func(s *Service, text string) {
		_, err := s.store.DB().Exec(text)
		require.NoError(t, err)
	}
	for name, c := range map[string]struct {
		during func(s *Service, hangUp func())
		fails  bool
	}{
		"the connection hangs up":   {func(_ *Service, hangUp func()) { hangUp() }, false},
		"the records fail":          {func(s *Service, _ func()) { sql(s, breakIt) }, true},
		"they fail and it hangs up": {func(s *Service, hangUp func()) { sql(s, breakIt); hangUp() }, true},
		"the records fail for a moment": {func(s *Service, _ func()) {
			sql(s, breakIt)
			time.AfterFunc(30*time.Millisecond, func() { sql(s, fixIt) })
		}, false},
		"an account is changed meanwhile": {func(s *Service, _ func()) {
			_, err := s.UpdateUser(context.Background(), keeper, "tomasz", UserChange{FullName: new("Tomasz")})
			require.NoError(t, err)
		}, false},
	} {
		t.Run(name, func(t *testing.T) {
			s := observatory(t)
			require.NoError(t, s.SetInherit(context.Background(), keeper, "instruments/firmware", false, true))
			ctx, hangUp := context.WithCancel(context.Background())
			defer hangUp()
			err := s.renamed(t, ctx, func() { c.during(s, hangUp) })
			f := s.Policy().Folders[0]
			where, gone := "microcode", "firmware"
			if c.fails {
				require.Error(t, err)
				where, gone = gone, where
			} else {
				require.NoError(t, err)
			}
			require.DirExists(t, filepath.Join(f.Root, where))
			require.NoDirExists(t, filepath.Join(f.Root, gone))
			require.True(t, f.Tree.HasRulesAt(where), "the rules are where the directory is")
			require.False(t, f.Tree.HasRulesAt(gone))
			require.Zero(t, s.moves(t), "and nothing is left for a later start")
		})
	}
	t.Run("the folder goes meanwhile", func(t *testing.T) {
		s := observatory(t)
		ctx := context.Background()
		require.NoError(t, s.SetInherit(ctx, keeper, "instruments/firmware", false, true))
		require.NoError(t, s.RemoveShare(ctx, keeper, "instruments"))
		require.NoError(t, s.RemoveExport(ctx, keeper, "/instruments"))
		require.NoError(t, s.renamed(t, ctx, func() { require.NoError(t, s.RemoveFolder(ctx, keeper, "instruments")) }))
		require.Zero(t, s.moves(t))
	})
}

// Passwords are compared in one place, and there guesses are counted, by whichever protocol they come.
func TestGuessesAreCountedWhereTheyAreCompared(t *testing.T) {
	s, ctx := observatory(t), context.Background()
	right := func(hash []byte) bool { return string(hash) == string(secret.NTHash("tomasz-at-larkfell")) }
	id, err := s.ProveNT(ctx, "tomasz", "192.0.2.9", right)
	require.NoError(t, err)
	require.Equal(t, s.Policy().Directory.UserNamed("tomasz").ID, id)
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second) // what waits its turn is put off
	defer cancel()
	looked, putOff := 0, 0
	for range 40 {
		_, err := s.ProveNT(ctx, "tomasz", "192.0.2.9", func([]byte) bool { looked++; return false })
		if errors.Is(err, ntlm.ErrPutOff) {
			putOff++
		} else {
			require.ErrorIs(t, err, ntlm.ErrWrong)
		}
	}
	require.Less(t, looked, 10)
	require.Positive(t, putOff)
	_, err = s.SignIn(context.Background(), signin.Try{Name: "tomasz", Password: "tomasz-at-larkfell", Address: "192.0.2.10"})
	require.ErrorContains(t, err, "too many wrong passwords", "and the console knows of them")
}

// The state directory cannot be a volume by any name, and volumes lie where they may.
func TestWhereVolumesMayBe(t *testing.T) {
	ctx := context.Background()
	state, links := t.TempDir(), t.TempDir()
	link := func(name, to string) string {
		at := filepath.Join(links, name)
		require.NoError(t, os.Symlink(to, at))
		return at
	}
	// Even when it was started by a link to it.
	s, err := Open(ctx, link("started", state))
	require.NoError(t, err)
	defer s.Close()
	require.NoError(t, os.Mkdir(filepath.Join(state, "volumes"), 0o700))
	require.NoError(t, os.Mkdir(filepath.Join(state, "inner"), 0o700))
	for i, path := range []string{state, link("direct", state), link("above", filepath.Dir(state)), link("inside", filepath.Join(state, "inner")), filepath.Dir(state), "/"} {
		_, err := s.CreateVolume(ctx, keeper, VolumeInput{Name: "v" + itoa(int64(i)), Path: path})
		require.ErrorContains(t, err, "the service's own state", path)
	}
	require.NoError(t, os.Mkdir(filepath.Join(state, "volumes/demo"), 0o700))
	_, err = s.CreateVolume(ctx, keeper, VolumeInput{Name: "demo", Path: filepath.Join(state, "volumes/demo")})
	require.NoError(t, err)

	roots := t.TempDir()
	for _, d := range []string{"srv/a", "elsewhere"} {
		require.NoError(t, os.MkdirAll(filepath.Join(roots, d), 0o755))
	}
	other := t.TempDir()
	s, err = Open(ctx, other, WithVolumeRoots([]string{filepath.Join(roots, "srv")}))
	require.NoError(t, err)
	require.NoError(t, os.Symlink(filepath.Join(roots, "elsewhere"), filepath.Join(roots, "srv/out")))
	require.NoError(t, os.Symlink(filepath.Join(roots, "elsewhere"), filepath.Join(roots, "srv/deep")))
	require.NoError(t, os.Mkdir(filepath.Join(roots, "srv/elsewhere"), 0o755)) // what the last of them is by its name alone
	for _, path := range []string{filepath.Join(roots, "elsewhere"), filepath.Join(roots, "srv/out"), filepath.Join(roots, "srv/../elsewhere"), filepath.Join(roots, "srv/deep") + "/../elsewhere", filepath.Join(roots, "not there"), "/etc"} {
		_, err := s.CreateVolume(ctx, keeper, VolumeInput{Name: "out", Path: path})
		require.ErrorContains(t, err, "not below a directory in which volumes may be", path)
	}
	_, err = s.CreateVolume(ctx, keeper, VolumeInput{Name: "a", Path: filepath.Join(roots, "srv/a")})
	require.NoError(t, err)
	require.NoError(t, s.Close())
	_, err = Open(ctx, other, WithVolumeRoots([]string{filepath.Join(roots, "elsewhere")}))
	require.ErrorContains(t, err, "volume a is at")
	s, err = Open(ctx, other)
	require.NoError(t, err)
	require.NoError(t, s.Close())
}

// What is only tried touches nothing of the host, and tells who may only look nothing about it.
func TestTryingAVolumeTouchesNothing(t *testing.T) {
	s, ctx, dir := observatory(t), context.Background(), t.TempDir()
	require.NoError(t, os.Chtimes(dir, time.Unix(1e9, 0), time.Unix(1e9, 0)))
	auditor := Actor{Name: "auditor", Role: identity.Auditor}
	for _, by := range []Actor{auditor, keeper} {
		_, err := s.Preview(ctx, func(ctx context.Context, trial *Service) error {
			_, err := trial.CreateVolume(ctx, by, VolumeInput{Name: "probe", Path: dir})
			return err
		})
		if by.Role == identity.Auditor {
			for _, path := range []string{dir, "/etc/shadow", "/not/there"} {
				_, pathErr := s.Preview(ctx, func(ctx context.Context, trial *Service) error {
					_, err := trial.CreateVolume(ctx, by, VolumeInput{Name: "probe", Path: path})
					return err
				})
				require.Equal(t, err, pathErr, "the same answer whatever is there")
			}
			require.ErrorContains(t, err, "administrator only")
		} else {
			require.NoError(t, err)
		}
		st, err := os.Stat(dir)
		require.NoError(t, err)
		require.Equal(t, int64(1e9), st.ModTime().Unix(), "not even for a moment was anything made there")
	}
	// Nor does a folder lead out of its volume, where a storage user has put a link.
	volume := s.Policy().Volumes[0]
	require.NoError(t, os.Symlink("/etc", filepath.Join(volume.Path, "out")))
	for _, path := range []string{"out", "out/ssl"} {
		_, err := s.Preview(ctx, func(ctx context.Context, trial *Service) error {
			_, err := trial.CreateFolder(ctx, auditor, FolderInput{Name: "probe", Volume: volume.Name, Path: path, Permissions: site.ByMode})
			return err
		})
		require.Error(t, err, path)
	}
	_, err := s.CreateVolume(ctx, auditor, VolumeInput{Name: "probe", Path: dir})
	require.ErrorContains(t, err, "may look but not change")
	st, err := os.Stat(dir)
	require.NoError(t, err)
	require.Equal(t, int64(1e9), st.ModTime().Unix(), "nor by who may not change anything")
}
