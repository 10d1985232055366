package service

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"flag"
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/store"
)

// kills is how often the process is killed; 2,000 times takes some minutes.
var kills = flag.Int("kills", 40, "how often TestKilledAtEveryBoundary kills the process")

// killedEnv has the test be the process that is killed: the state directory, and the boundary at which.
const killedEnv = "AMBER_TEST_KILLED"

// someChange is one at random, with effects on disk or without.
func someChange(ctx context.Context, s *Service, rnd *rand.Rand) error {
	n := rnd.IntN(6)
	volume := s.Policy().Volumes[0]
	name, removed := fmt.Sprint("f", n), ""
	_, err := s.Make(ctx, keeper, 0, func(ctx context.Context, set *Service) error {
		switch {
		case rnd.IntN(4) == 0 && set.Policy().FolderNamed("blocked") == nil: // cannot be made on disk once it has been written down
			if _, err := set.CreateFolder(ctx, keeper, FolderInput{Name: "blocked", Volume: volume.Name}); err != nil {
				return err
			}
			return os.WriteFile(filepath.Join(volume.Path, "blocked"), nil, 0o600)
		case set.Policy().FolderNamed(name) != nil:
			if err := set.RemoveFolder(ctx, keeper, name); err != nil {
				return err
			}
			removed = name
			return set.RemoveUser(ctx, keeper, "u"+name)
		}
		if _, err := set.CreateUser(ctx, keeper, UserInput{Name: "u" + name, Groups: []string{"staff"}}); err != nil {
			return err
		}
		if _, err := set.CreateFolder(ctx, keeper, FolderInput{Name: name, Volume: volume.Name, Path: name + "/deep", Owner: "u" + name}); err != nil {
			return err
		}
		_, err := set.AddEntry(ctx, keeper, name, EntryInput{Who: "u" + name, Level: "change"})
		return err
	})
	if in, err := os.Lstat(filepath.Join(volume.Path, "blocked")); err == nil && in.Mode().IsRegular() {
		os.Remove(filepath.Join(volume.Path, "blocked"))
	}
	if err == nil && removed != "" {
		return os.RemoveAll(filepath.Join(volume.Path, removed))
	}
	return err
}

// TestKilledProcess is the process that is killed by the test below: it makes changes until then. Without a boundary it begins the state, or
// looks at what was left.
func TestKilledProcess(t *testing.T) {
	dir, at, ok := strings.Cut(os.Getenv(killedEnv), "\n")
	if !ok {
		t.Skip("it is started by TestKilledAtEveryBoundary")
	}
	var left, seed int
	var full bool
	_, err := fmt.Sscan(at, &left, &seed, &full)
	require.NoError(t, err)
	ctx, state := context.Background(), filepath.Join(dir, "state")
	_, missing := os.Stat(state)
	s, err := Open(ctx, state)
	require.NoError(t, err)
	defer func() { require.NoError(t, s.Close()) }()
	if missing != nil {
		volume := filepath.Join(dir, "volume")
		require.NoError(t, os.Mkdir(volume, 0o755))
		_, err := s.CreateGroup(ctx, keeper, GroupInput{Name: "staff"})
		require.NoError(t, err)
		_, err = s.CreateVolume(ctx, keeper, VolumeInput{Name: "summit", Path: volume})
		require.NoError(t, err)
		return
	}
	if left == 0 {
		lookAtWhatIsLeft(t, s)
		return
	}
	failPoint = func(name string) {
		if left--; left == 0 {
			fmt.Println("killed:", name)
			_ = syscall.Kill(os.Getpid(), syscall.SIGKILL)
			select {}
		}
	}
	rnd := rand.New(rand.NewPCG(uint64(seed), 6))
	for range 5 {
		after := func() {}
		if full && rnd.IntN(2) == 0 {
			after = fill(t, s.store.DB())
		}
		if err := someChange(ctx, s, rnd); err != nil {
			var e *Error
			require.ErrorAs(t, err, &e, "%v", err)
		}
		after()
	}
}

func lookAtWhatIsLeft(t *testing.T, s *Service) {
	ctx := context.Background()
	_, err := s.VerifyJournal(ctx)
	require.NoError(t, err)
	rows, err := s.Journal(ctx, store.Match{})
	require.NoError(t, err)
	rebuilt, err := store.Rebuild(rows)
	require.NoError(t, err)
	require.Equal(t, s.force.Load().records, rebuilt)
	require.NoError(t, soundRecords(s.force.Load().records))
	pending, err := s.store.Pending(ctx)
	require.NoError(t, err)
	require.Empty(t, pending)
	for _, f := range s.Policy().Folders {
		require.DirExists(t, f.Root, f.Name)
		if f.Name == "blocked" { // it could not be taken back either, and what was in its way has gone: it was made at the next start
			continue
		}
		require.NotNil(t, s.Policy().Directory.UserNamed("u"+f.Name), f.Name) // made as one with its user and its entry
		require.Len(t, f.Rules, 1)
	}
}

// Killed at any boundary of a change, with room on its disk or without, the process leaves the records as they were before or as they are to
// be, with a journal that leads to them;
// and at the next start, what was to be done on disk has been done.
func TestKilledAtEveryBoundary(t *testing.T) {
	dir, at, rnd := t.TempDir(), make(map[string]int), rand.New(rand.NewPCG(2000, 12))
	run := func(left int, full bool) {
		cmd := exec.Command(os.Args[0], "-test.run", "^TestKilledProcess$", "-test.v")
		cmd.Env = append(os.Environ(), killedEnv+"="+fmt.Sprintf("%s\n%d %d %v", dir, left, rnd.IntN(1<<30), full))
		out, err := cmd.CombinedOutput()
		var exit *exec.ExitError
		if err != nil && (!errors.As(err, &exit) || exit.Sys().(syscall.WaitStatus).Signal() != syscall.SIGKILL) {
			t.Fatalf("it was not killed: %v\n%s", err, out)
		}
		if _, where, ok := bytes.Cut(out, []byte("killed: ")); ok {
			name, _, _ := bytes.Cut(where, []byte("\n"))
			at[string(name)]++
		}
	}
	run(0, false)
	for i := range *kills {
		run(1+rnd.IntN(24), i%3 == 2)
		run(0, false)
	}
	t.Log("killed at", at)
	if *kills >= 40 {
		require.GreaterOrEqual(t, len(at), 6, "at different boundaries")
	}
}

// soundRecords checks all records, as if all of them had just been made.
func soundRecords(r site.Records) error {
	d := site.NewDraft(site.Records{}, nil)
	var changes []site.Change
	r.Each(func(key site.Key, record any) {
		raw, _ := json.Marshal(record)
		changes = append(changes, site.Change{Kind: key.Kind, ID: key.ID, Before: raw})
	})
	slices.SortStableFunc(changes, func(a, b site.Change) int { return strings.Compare(a.Kind, b.Kind) })
	if err := d.Restore(changes); err != nil {
		return err
	}
	if fault := d.Check(); fault != nil {
		return fault
	}
	return nil
}
