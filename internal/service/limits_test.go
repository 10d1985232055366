package service

import (
	"context"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/audit"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/store"
)

// accounted is a service with what it serves counted; it can be stopped in order, and begun again.
type accounted struct {
	*Service
	t     *testing.T
	state string
	files *files.Namespace
	set   func(*Service) // before it begins; nil for as it is
}

func (c *accounted) begin() {
	var err error
	c.Service, err = Open(context.Background(), c.state)
	require.NoError(c.t, err)
	if c.set != nil {
		c.set(c.Service)
	}
	c.files = files.New(c.Policy, c.Service)
	c.files.Account(c.Ledger())
	c.Account(c.files, 0)
}

func (c *accounted) settled() {
	c.AwaitCounts(context.Background())
	require.True(c.t, c.counts.Idle())
}

// counted is one with a user, who may change what is in a folder with some data.
func counted(t *testing.T) *accounted {
	t.Helper()
	c := &accounted{t: t, state: t.TempDir()}
	dir, ctx := t.TempDir(), context.Background()
	require.NoError(t, os.MkdirAll(filepath.Join(dir, "instruments", "firmware"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(dir, "instruments", "firmware", "camera"), make([]byte, 5000), 0o644))
	c.begin()
	t.Cleanup(func() { c.Close() })
	_, err := c.CreateGroup(ctx, keeper, GroupInput{Name: "engineers"})
	require.NoError(t, err)
	_, err = c.CreateUser(ctx, keeper, UserInput{Name: "tomasz", Groups: []string{"engineers"}, Password: "tomasz-at-larkfell"})
	require.NoError(t, err)
	_, err = c.CreateVolume(ctx, keeper, VolumeInput{Name: "summit", Path: dir})
	require.NoError(t, err)
	_, err = c.CreateFolder(ctx, keeper, FolderInput{Name: "instruments", Volume: "summit", Ownership: site.Mapped})
	require.NoError(t, err)
	_, err = c.AddEntry(ctx, keeper, "instruments", EntryInput{Who: "tomasz", Level: "change"})
	require.NoError(t, err)
	_, err = c.CreateShare(ctx, keeper, ShareInput{Folder: "instruments"})
	require.NoError(t, err)
	require.Eventually(t, func() bool { return c.Counts()[0].State == "counted" }, 5*time.Second, 5*time.Millisecond)
	return c
}

func (c *accounted) write(path string, n int) error {
	h, _, err := c.files.Open(files.Subject{User: c.Policy().Directory.UserNamed("tomasz").ID, Via: site.SMB},
		files.OpenRequest{Share: "instruments", Path: path, Access: acl.WriteData, Disposition: files.OverwriteIf, Sharing: files.ShareRead})
	if err != nil {
		return err
	}
	_, err = h.WriteAt(make([]byte, n), 0, false)
	return errors.Join(err, h.Close())
}

func (c *accounted) use(by Subject, name string) limit.Amount {
	c.t.Helper()
	all, err := c.Uses(context.Background(), by)
	require.NoError(c.t, err)
	for _, u := range all {
		if u.Name == name {
			return u.Amount
		}
	}
	return limit.Amount{}
}

func (c *accounted) found(kind string) bool {
	return slices.ContainsFunc(c.Audit().Findings(), func(f audit.Finding) bool { return f.Kind == kind })
}

// What is counted is trusted after a clean stop; after any other end it is counted again, and meanwhile what was last known binds.
func TestUseIsKeptOverARestart(t *testing.T) {
	c, ctx := counted(t), context.Background()
	require.NoError(t, c.write("firmware/mine", 3000))
	_, err := c.SetLimit(ctx, keeper, LimitInput{Kind: limit.OfUser, Name: "tomasz", SoftBytes: "2000", HardBytes: "4000"})
	require.NoError(t, err)
	require.Equal(t, limit.Amount{Bytes: 3000, Files: 1}, c.use(ByUser, "tomasz"))
	in := c.use(ByFolder, "instruments")
	all, err := c.Uses(ctx, ByUser)
	require.NoError(t, err)
	since := all[0].Standings[0].Since
	require.NotZero(t, since)
	require.NoError(t, c.Close())
	camera := filepath.Join(c.Policy().Folders[0].Root, "firmware/camera")
	require.NoError(t, os.Truncate(camera, 6000)) // behind its back

	c.begin()
	c.settled()
	require.Equal(t, in, c.use(ByFolder, "instruments"), "trusted, and not counted again")
	all, err = c.Uses(ctx, ByUser)
	require.NoError(t, err)
	require.WithinDuration(t, since[limit.Bytes], all[0].Standings[0].Since[limit.Bytes], 0, "the grace runs on")
	require.ErrorIs(t, c.write("firmware/more", 1001), files.ErrLimit)
	require.False(t, c.found(audit.CountDiffer))
	require.NoError(t, c.Recount(ctx, keeper, "summit", nil))
	c.settled()
	require.Equal(t, in.Bytes+1000, c.use(ByFolder, "instruments").Bytes)
	require.True(t, c.found(audit.CountDiffer))
	rows, err := c.Journal(ctx, store.Match{})
	require.NoError(t, err)
	require.True(t, slices.ContainsFunc(rows, func(r store.JournalRow) bool {
		return r.Action == "count again" && strings.HasPrefix(r.Subject, "instruments: 1000 bytes more and 0 files more")
	}))
	require.NoError(t, c.Recount(ctx, keeper, "summit", nil))
	c.settled()
	require.False(t, c.found(audit.CountDiffer), "the next count agrees")

	// As a kill leaves it: what was written down last, and not the end.
	require.NoError(t, c.counts.Keep(ctx))
	copied := t.TempDir()
	require.NoError(t, exec.Command("cp", "-a", c.state+"/.", copied).Run())
	require.NoError(t, os.WriteFile(filepath.Join(c.Policy().Folders[0].Root, "firmware/late"), make([]byte, 10), 0o644))
	require.NoError(t, c.Close())
	c.state = copied
	c.begin()
	require.NotZero(t, c.use(ByFolder, "instruments").Bytes, "the last known numbers bind")
	c.settled()
	require.Equal(t, in.Bytes+1010, c.use(ByFolder, "instruments").Bytes)
}

// Counters that cannot be read are put aside and counted again; the service goes on, and says so.
func TestDamagedCountersAreCountedAgain(t *testing.T) {
	c := counted(t)
	is := c.use(ByFolder, "instruments")
	require.NotZero(t, is.Bytes)
	require.NoError(t, c.Close())
	require.NoError(t, os.WriteFile(filepath.Join(c.state, store.UsesFileName), []byte("this is no database, and never was one"), 0o600))
	c.begin()
	require.Eventually(t, func() bool { return c.Counts()[0].State == "counted" }, 5*time.Second, 5*time.Millisecond)
	require.Equal(t, is, c.use(ByFolder, "instruments"))
	require.True(t, c.found(audit.CountLost))
	kept, err := filepath.Glob(filepath.Join(c.state, store.UsesFileName+".damaged-*"))
	require.NoError(t, err)
	require.Len(t, kept, 1)
}

// What makes no sense is refused with the field at fault, and leaves nothing.
func TestLimitsThatMakeNoSense(t *testing.T) {
	c, ctx := counted(t), context.Background()
	before := len(c.Policy().Limits.Limits)
	for name, bad := range map[string]struct {
		in    LimitInput
		kind  Kind
		field string
	}{
		"hard below soft":     {LimitInput{Kind: limit.OfUser, Name: "tomasz", SoftBytes: "2G", HardBytes: "1G"}, Invalid, "hardBytes"},
		"negative":            {LimitInput{Kind: limit.OfUser, Name: "tomasz", HardBytes: "-1"}, Invalid, "hardBytes"},
		"beyond 2^63":         {LimitInput{Kind: limit.OfUser, Name: "tomasz", SoftBytes: "9223372036854775808"}, Invalid, "softBytes"},
		"an unknown unit":     {LimitInput{Kind: limit.OfUser, Name: "tomasz", HardBytes: "20Q"}, Invalid, "hardBytes"},
		"files with a unit":   {LimitInput{Kind: limit.OfUser, Name: "tomasz", HardFiles: "20MiB"}, Invalid, "hardFiles"},
		"a grace of no time":  {LimitInput{Kind: limit.OfUser, Name: "tomasz", SoftBytes: "1G", Grace: "soon"}, Invalid, "grace"},
		"nothing said":        {LimitInput{Kind: limit.OfUser, Name: "tomasz"}, Invalid, "hardBytes"},
		"nobody":              {LimitInput{Kind: limit.OfUser, Name: "nobody", HardBytes: "1"}, NotFound, "user"},
		"no group":            {LimitInput{Kind: limit.Default, Name: "nobody", HardBytes: "1"}, NotFound, "group"},
		"no path":             {LimitInput{Kind: limit.OfFolder, Name: "instruments/none", HardBytes: "1"}, NotFound, "name"},
		"a file":              {LimitInput{Kind: limit.OfFolder, Name: "instruments/firmware/camera", HardBytes: "1"}, Invalid, "name"},
		"out of the folder":   {LimitInput{Kind: limit.OfFolder, Name: "instruments/../..", HardBytes: "1"}, Invalid, "name"},
		"no volume":           {LimitInput{Kind: limit.OfUser, Name: "tomasz", Volume: "none", HardBytes: "1"}, NotFound, "volume"},
		"two reaches":         {LimitInput{Kind: limit.OfUser, Name: "tomasz", Volume: "summit", Folder: "instruments", HardBytes: "1"}, Invalid, "folder"},
		"a folder's reach":    {LimitInput{Kind: limit.OfFolder, Name: "instruments", Volume: "summit", HardBytes: "1"}, Invalid, "volume"},
		"a kind of no limit":  {LimitInput{Kind: "tree", Name: "instruments", HardBytes: "1"}, Invalid, "kind"},
		"a long list of nine": {LimitInput{Kind: limit.OfUser, Name: "tomasz", HardBytes: strings.Repeat("9", 60)}, Invalid, "hardBytes"},
	} {
		_, err := c.SetLimit(ctx, keeper, bad.in)
		var refused *Error
		require.ErrorAs(t, err, &refused, name)
		require.Equal(t, bad.kind, refused.Kind, name)
		require.Equal(t, bad.field, refused.Field, name)
	}
	_, err := c.SetLimit(ctx, Actor{Name: "auditor", Role: identity.Auditor}, LimitInput{Kind: limit.OfUser, Name: "tomasz", HardBytes: "1"})
	require.ErrorContains(t, err, "only an administrator")
	require.Len(t, c.Policy().Limits.Limits, before)
}

// A change says beforehand who would be over at once, and does nothing of it.
func TestALimitIsPreviewed(t *testing.T) {
	c, ctx := counted(t), context.Background()
	require.NoError(t, c.write("firmware/mine", 3000))
	trial, err := c.Preview(ctx, func(ctx context.Context, trial *Service) error {
		_, err := trial.SetLimit(ctx, keeper, LimitInput{Kind: limit.Default, HardBytes: "2000"})
		return err
	})
	require.NoError(t, err)
	e := c.Effect(trial)
	require.True(t, slices.ContainsFunc(e.Warnings, func(f audit.Finding) bool {
		return f.Kind == audit.LimitBelow && strings.HasPrefix(f.Says, "tomasz has 3 kB")
	}), "%+v", e.Warnings)
	require.NoError(t, c.write("firmware/mine", 4000), "nothing binds")
	require.Empty(t, c.Policy().Limits.Limits)
}

// A user who is removed, or gets another number, leaves what they stored to whom the numbers on disk say.
func TestUsersComeAndGo(t *testing.T) {
	c, ctx := counted(t), context.Background()
	require.NoError(t, c.write("firmware/mine", 3000))
	_, err := c.SetLimit(ctx, keeper, LimitInput{Kind: limit.OfUser, Name: "tomasz", HardBytes: "4000"})
	require.NoError(t, err)
	uid, was := uint32(4711), c.Policy().Directory.UserNamed("tomasz").UID
	_, err = c.UpdateUser(ctx, keeper, "tomasz", UserChange{UID: &uid})
	require.NoError(t, err)
	require.Zero(t, c.use(ByUser, "tomasz"))
	require.EqualValues(t, 3000, c.use(ByUser, "uid "+itoa(int64(was))).Bytes)
	require.NoError(t, c.write("firmware/new", 4000))
	require.ErrorIs(t, c.write("firmware/newer", 1), files.ErrLimit)
	entries := c.Policy().Folders[0].Rules[0].Entries
	require.NoError(t, c.RemoveEntry(ctx, keeper, "instruments", entries[0].ID))
	require.NoError(t, c.RemoveMember(ctx, keeper, "engineers", "tomasz"))
	require.NoError(t, c.RemoveUser(ctx, keeper, "tomasz"))
	require.Empty(t, c.Policy().Limits.Limits, "a limit goes with whom it is of")
	require.EqualValues(t, 4000, c.use(ByUser, "uid 4711").Bytes)
}

// A limit on a directory that is removed is found, and binds again once there is one of that name.
func TestALimitOnAPathThatIsGone(t *testing.T) {
	c := counted(t)
	ctx := context.Background()
	set, err := c.SetLimit(ctx, keeper, LimitInput{Kind: limit.OfFolder, Name: "instruments/firmware", HardBytes: "60k"})
	require.NoError(t, err)
	require.Eventually(t, func() bool { return c.LimitWaits(set) == "" }, 5*time.Second, time.Millisecond)
	gone := func() bool {
		return slices.ContainsFunc(c.Audit().Findings(), func(f audit.Finding) bool {
			return f.Kind == audit.PathGone && f.Subject == "limit of folder instruments/firmware"
		})
	}
	require.False(t, gone())
	dir := filepath.Join(c.Policy().FolderNamed("instruments").Root, "firmware")
	require.NoError(t, os.Rename(dir, filepath.Join(t.TempDir(), "firmware")))
	require.True(t, gone())
	require.NoError(t, os.Mkdir(dir, 0o755))
	require.False(t, gone())
	require.NoError(t, c.Recount(ctx, keeper, "summit", nil))
	c.settled()
	require.NoError(t, c.write("firmware/a", 20_000))
	require.Error(t, c.write("firmware/b", 40_000))
}
