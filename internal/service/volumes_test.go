package service

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/audit"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
)

// taken takes the disk of the volume summit away, and leaves there what is put; back puts it back.
func (c *accounted) taken(put func(dir string)) (back func()) {
	dir := c.Policy().Volumes[0].Path
	away := dir + ".elsewhere"
	require.NoError(c.t, os.Rename(dir, away))
	put(dir)
	c.awaitLook(c.lookAtVolumes())
	return func() {
		require.NoError(c.t, os.RemoveAll(dir))
		require.NoError(c.t, os.Rename(away, dir))
		c.awaitLook(c.lookAtVolumes())
	}
}

func tree(t *testing.T, dir string) (out []string) {
	require.NoError(t, filepath.Walk(dir, func(path string, _ os.FileInfo, err error) error {
		out = append(out, path)
		return err
	}))
	return out
}

// A disk that is not there, whatever is in its place, is an I/O error to who asks, one finding and nothing else; nothing is written below and
// nothing is forgotten; and it comes back by itself.
func TestAMissingDisk(t *testing.T) {
	for name, put := range map[string]func(t *testing.T, dir string){
		"nothing is there":   func(*testing.T, string) {},
		"an empty directory": func(t *testing.T, dir string) { require.NoError(t, os.Mkdir(dir, 0o755)) },
		"another disk with the same names": func(t *testing.T, dir string) {
			require.NoError(t, os.MkdirAll(filepath.Join(dir, "instruments/firmware"), 0o755))
		},
		"another volume": func(t *testing.T, dir string) {
			require.NoError(t, os.MkdirAll(filepath.Join(dir, "instruments/firmware"), 0o755))
			require.NoError(t, files.MarkVolume(dir, "00000000000000000000000000000000"))
		},
		"a file": func(t *testing.T, dir string) { require.NoError(t, os.WriteFile(dir, nil, 0o644)) },
	} {
		t.Run(name, func(t *testing.T) {
			c, ctx := counted(t), context.Background()
			_, err := c.SetLimit(ctx, keeper, LimitInput{Kind: limit.OfUser, Name: "tomasz", HardBytes: "1M"})
			require.NoError(t, err)
			_, err = c.SetLimit(ctx, keeper, LimitInput{Kind: limit.OfFolder, Name: "instruments/firmware", HardBytes: "1M"})
			require.NoError(t, err)
			_, err = c.AddEntry(ctx, keeper, "instruments/firmware", EntryInput{Who: "engineers", Level: "read"})
			require.NoError(t, err)
			require.NoError(t, c.write("firmware/mine", 3000))
			before, in := c.Audit().Findings(), c.use(ByFolder, "instruments")
			dir := c.Policy().Volumes[0].Path

			back := c.taken(func(dir string) { put(t, dir) })
			is, _ := os.Stat(dir)
			var there []string
			if is != nil {
				there = tree(t, dir)
			}
			require.ErrorIs(t, c.write("firmware/mine", 10), files.ErrIO)
			require.ErrorIs(t, c.write("new", 10), files.ErrIO)
			require.NoError(t, c.Recount(ctx, keeper, "summit", nil))
			c.AwaitCounts(ctx)
			for what, do := range map[string]func() error{
				"a folder": func() error {
					_, err := c.CreateFolder(ctx, keeper, FolderInput{Name: "spectra", Volume: "summit"})
					return err
				},
				"homes": func() error { return c.Arrange(ctx, keeper, "instruments", "personal", []string{"engineers"}, nil) },
				"an entry": func() error {
					_, err := c.AddEntry(ctx, keeper, "instruments/firmware", EntryInput{Who: "tomasz", Level: "read"})
					return err
				},
			} {
				require.Error(t, do(), what)
			}
			var found []audit.Finding
			for _, f := range c.Audit().Findings() {
				for _, m := range f.Fixes {
					require.NotContains(t, []access.FixKind{access.FixFolderRemove, access.FixClear, access.FixLimitRemove}, m.Kind, f.Says)
				}
				if f.Kind == audit.VolumeAway {
					found = append(found, f)
				}
				require.NotEqual(t, audit.PathGone, f.Kind, f.Says)
			}
			require.Len(t, found, 1)
			require.Equal(t, audit.High, found[0].Severity)
			require.Contains(t, found[0].Says, "instruments")
			require.Equal(t, in, c.use(ByFolder, "instruments"), "what was counted stays")
			_, err = c.AddEntry(ctx, keeper, "instruments", EntryInput{Who: "tomasz", Level: "read", Note: "while it is away"})
			require.NoError(t, err, "what is said of the folder itself can be altered")
			if is != nil {
				require.Equal(t, there, tree(t, dir), "nothing is written below")
			}

			back()
			require.NoError(t, c.write("firmware/mine", 3000))
			require.False(t, c.found(audit.VolumeAway))
			require.NoError(t, c.RemoveEntry(ctx, keeper, "instruments", 3))
			require.Equal(t, before, c.Audit().Findings())
			require.NoError(t, c.Recount(ctx, keeper, "summit", nil))
			c.settled()
			require.Equal(t, in, c.use(ByFolder, "instruments"))
		})
	}
}

// A disk that was away when the service began is served once it is there, as is a rename that was under way on it when it ended.
func TestADiskThatIsMissingAtTheStart(t *testing.T) {
	c, ctx := counted(t), context.Background()
	_, err := c.AddEntry(ctx, keeper, "instruments/firmware", EntryInput{Who: "engineers", Level: "read"})
	require.NoError(t, err)
	f := c.Policy().Folders[0]
	_, err = c.store.DB().Exec(`INSERT INTO moves (folder_id, from_path, to_path) VALUES (?, 'firmware', 'microcode')`, f.ID)
	require.NoError(t, err)
	require.NoError(t, os.Rename(filepath.Join(f.Root, "firmware"), filepath.Join(f.Root, "microcode")))
	require.NoError(t, c.Close())

	dir := c.Policy().Volumes[0].Path
	require.NoError(t, os.Rename(dir, dir+".elsewhere"))
	require.NoError(t, os.Mkdir(dir, 0o755))
	c.begin()
	require.True(t, c.found(audit.VolumeAway))
	require.True(t, c.HeldUp(f.ID))
	require.True(t, c.Policy().Folders[0].Tree.HasRulesAt("firmware"), "the rules wait")

	require.NoError(t, os.Remove(dir))
	require.NoError(t, os.Rename(dir+".elsewhere", dir))
	c.files.HoldUp(c.HeldUp)
	require.ErrorIs(t, c.write("mine", 10), files.ErrIO, "not before its rules are where it is")
	require.Eventually(t, func() bool { return !c.HeldUp(f.ID) }, 10*time.Second, 10*time.Millisecond, "nobody need do anything")
	require.False(t, c.found(audit.VolumeAway))
	require.NoError(t, c.write("mine", 10))
	require.True(t, c.Policy().Folders[0].Tree.HasRulesAt("microcode"))
	require.False(t, c.Policy().Folders[0].Tree.HasRulesAt("firmware"))
}

// It is found as well where nothing is counted, and there are no limits.
func TestAMissingDiskOfWhichNothingIsCounted(t *testing.T) {
	c := counted(t)
	_, err := c.UpdateVolume(context.Background(), keeper, "summit", VolumeChange{Counting: new(site.CountNothing)})
	require.NoError(t, err)
	require.Eventually(t, func() bool { return len(c.Ledger().Folders()) == 0 }, 5*time.Second, 5*time.Millisecond)
	back := c.taken(func(string) {})
	require.True(t, c.found(audit.VolumeAway))
	back()
	require.False(t, c.found(audit.VolumeAway))
}

// A disk that was replaced, and whose data was put back without its marks, is taken for the volume once an administrator says so.
func TestAReplacedDisk(t *testing.T) {
	c, ctx := counted(t), context.Background()
	require.NoError(t, c.write("mine", 10))
	dir := c.Policy().Volumes[0].Path
	require.NoError(t, unix.Removexattr(dir, "user.amber.volume"))
	require.NoError(t, os.Rename(dir, dir+".elsewhere")) // it has to be looked at again
	require.NoError(t, os.Mkdir(dir, 0o755))
	c.awaitLook(c.lookAtVolumes())
	require.NoError(t, os.Remove(dir))
	require.NoError(t, os.Rename(dir+".elsewhere", dir))
	c.awaitLook(c.lookAtVolumes())
	require.True(t, c.found(audit.VolumeAway))

	trial, err := c.Preview(ctx, func(ctx context.Context, trial *Service) error {
		_, err := trial.UpdateVolume(ctx, keeper, "summit", VolumeChange{Here: true})
		return err
	})
	require.NoError(t, err)
	require.NotNil(t, trial)
	require.ErrorIs(t, c.write("mine", 20), files.ErrIO, "a preview marks nothing")
	_, err = c.UpdateVolume(ctx, keeper, "summit", VolumeChange{Here: true})
	require.NoError(t, err)
	require.False(t, c.found(audit.VolumeAway))
	require.NoError(t, c.write("mine", 20))
}

// One directory is one service's: another that would have it is told so, and may take it over from one that has ended.
func TestOneVolumeTwoServices(t *testing.T) {
	c, other, ctx := counted(t), open(t), context.Background()
	dir := c.Policy().Volumes[0].Path
	_, err := other.CreateVolume(ctx, keeper, VolumeInput{Name: "mine", Path: dir})
	var refused *Error
	require.ErrorAs(t, err, &refused)
	require.Equal(t, Conflict, refused.Kind)
	require.Contains(t, refused.Next, "--take-over")
	require.NoError(t, c.write("mine", 10), "to be asked for it does it no harm")

	_, err = other.CreateVolume(ctx, keeper, VolumeInput{Name: "mine", Path: dir, TakeOver: true})
	require.NoError(t, err)
	c.awaitLook(c.lookAtVolumes())
	require.Eventually(t, func() bool { return c.found(audit.VolumeAway) }, 10*time.Second, 10*time.Millisecond, "the other finds out that it has lost it")

	require.NoError(t, other.RemoveVolume(ctx, keeper, "mine"))
	mark, err := files.VolumeMark(dir)
	require.NoError(t, err)
	require.Empty(t, mark, "what is no volume any more carries no mark")
}

// A volume of a state directory from before volumes were marked is marked when it is first seen, and only if it is it.
func TestOldVolumesAreMarked(t *testing.T) {
	for _, there := range []bool{true, false} {
		c := counted(t)
		dir := c.Policy().Volumes[0].Path
		require.NoError(t, c.change(t.Context(), keeper, "as it was", "", func(d *site.Draft) error {
			v := d.Records().Volumes[0]
			v.Mark = ""
			site.Put(d, v)
			return nil
		}))
		require.NoError(t, unix.Removexattr(dir, "user.amber.volume"))
		require.NoError(t, c.Close())
		if !there {
			require.NoError(t, os.Rename(dir, dir+".elsewhere"))
			require.NoError(t, os.Mkdir(dir, 0o755))
		}
		c.begin()
		mark, err := files.VolumeMark(dir)
		require.NoError(t, err)
		require.Equal(t, there, mark != "")
		require.Equal(t, mark, c.Policy().Volumes[0].Mark)
	}
}
