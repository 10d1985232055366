package test

import (
	"context"
	"io/fs"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/audit"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/test/gateway"
)

// keptPaths are the files and directories at and below a path of the demo's volume.
func keptPaths(t *testing.T, root string) (out []string) {
	err := filepath.WalkDir(root, func(path string, _ fs.DirEntry, err error) error {
		rel, _ := filepath.Rel(root, path)
		out = append(out, rel)
		return err
	})
	if os.IsNotExist(err) {
		return nil
	}
	require.NoError(t, err)
	return out
}

func overJob(t *testing.T, g *gateway.Gateway, id int64) (errText, result string) {
	j, err := g.Service.Job(id)
	require.NoError(t, err)
	<-j.Over()
	return j.Now().Error, string(j.Now().Result)
}

// What somebody leaves is kept: their own directory whole, and from all folders what is theirs and nobody else's, counted where it is by then. What is open, or has
// two names, stays, and is said. In the end it is removed, and nothing beside it.
func TestWhatSomebodyLeavesIsKept(t *testing.T) {
	g := gateway.Start(t)
	g.Unlimited(t)
	ctx := context.Background()
	must := func(err error) {
		t.Helper()
		require.NoError(t, err)
	}
	personalHome(t, g)
	_, err := g.Service.CreateFolder(ctx, gateway.Keeper, service.FolderInput{Name: "holding", Volume: "summit"})
	must(err)
	home := g.Mount(t, g.Dial(t, "piran", 0), "home")
	must(home.MkdirAll("piran/drafts/empty", 0o755))
	must(home.WriteFile("piran/drafts/orbit.tex", []byte("an orbit"), 0o644))
	night := g.Mount(t, g.Dial(t, "piran", 0), "nightlog")
	must(night.MkdirAll("his", 0o755))
	must(night.WriteFile("his/one", []byte("1"), 0o644))
	must(night.WriteFile("two-names", []byte("22"), 0o644))
	must(night.WriteFile("open", []byte("333"), 0o644))
	isolde := g.Mount(t, g.Dial(t, "isolde", 0), "nightlog")
	must(isolde.WriteFile("his/hers", []byte("hers"), 0o644))
	volume := filepath.Join(g.State, "volumes/summit")
	must(os.Link(filepath.Join(volume, "nightlog/two-names"), filepath.Join(volume, "nightlog/second-name")))
	held, err := isolde.Open("open")
	must(err)

	for _, in := range []service.LeaveInput{{Hold: "nowhere"}, {Hold: "home"}, {Hold: "holding", To: "wren", Files: true}, {Until: time.Now().Add(time.Hour)}, {Hold: "holding", Until: time.Now().Add(-time.Hour)},
		{Hold: "holding", On: time.Now().Add(time.Hour), Until: time.Now().Add(time.Minute)}} {
		_, err := g.Service.Leave(ctx, gateway.Keeper, "piran", in)
		require.Error(t, err, "%+v", in)
	}
	in := service.LeaveInput{Hold: "holding", Until: time.Now().Add(48 * time.Hour)}
	plan, err := g.Service.PlanLeave("piran", in)
	must(err)
	require.Contains(t, plan.Partings[1].Becomes, "kept in holding until ")
	left, err := g.Service.Leave(ctx, gateway.Keeper, "piran", in)
	must(err)
	require.Equal(t, plan.Partings, left.Partings)
	errText, result := overJob(t, g, left.Job)
	require.Empty(t, errText)
	require.JSONEq(t, `{"files":3,"stayed":3,"refused":["nightlog/open: somebody has it open","nightlog/second-name: it has several names, and they would be in two folders",
		"nightlog/two-names: it has several names, and they would be in two folders"]}`, result)
	must(held.Close())

	require.Equal(t, []string{".", "piran", "piran/home", "piran/home/piran", "piran/home/piran/drafts", "piran/home/piran/drafts/empty", "piran/home/piran/drafts/orbit.tex",
		"piran/nightlog", "piran/nightlog/his", "piran/nightlog/his/one", "piran/personal", "piran/personal/piran", "piran/personal/piran/allsky-2026-03.dat"}, keptPaths(t, filepath.Join(volume, "holding")))
	require.NoFileExists(t, filepath.Join(volume, "home/piran"))
	require.FileExists(t, filepath.Join(volume, "nightlog/his/hers"))

	// It is counted where it is, as a new count finds it, and is somebody's who left and nobody's fault.
	uid := uint32(2003)
	inFolder := func(name string) limit.Amount {
		f := g.Service.Policy().FolderNamed(name)
		return g.Service.Ledger().Use(limit.Counter{Of: limit.Owned, Number: uid, Volume: f.VolumeID, Folder: f.ID})
	}
	was := map[string]limit.Amount{}
	for _, name := range []string{"holding", "nightlog", "home", "personal"} {
		was[name] = inFolder(name)
	}
	require.EqualValues(t, 8+3, was["holding"].Files)
	must(g.Service.Recount(ctx, gateway.Keeper, "summit", nil))
	g.Service.AwaitCounts(ctx)
	for name, before := range was {
		require.Equal(t, before, inFolder(name), name)
	}
	finding := func(kind string) (out []audit.Finding) {
		for _, f := range g.Service.Audit().Findings() {
			if f.Kind == kind {
				out = append(out, f)
			}
		}
		return out
	}
	require.Len(t, finding(audit.StillTheirs), 1, "of what stayed")
	require.Contains(t, finding(audit.StillTheirs)[0].Says, "3 files")
	require.Empty(t, finding(audit.HeldTooLong))
	require.Error(t, g.Service.RemoveFolder(ctx, gateway.Keeper, "holding"), "something is kept in it")

	// Its day comes, and it is removed.
	_, err = g.Service.ChangeHolding(ctx, gateway.Keeper, "piran", time.Now().Add(-time.Minute))
	must(err)
	require.Len(t, finding(audit.HeldTooLong), 1)
	must(os.WriteFile(filepath.Join(volume, "holding/else"), nil, 0o644))
	j, err := g.Service.RemoveHolding(ctx, gateway.Keeper, "holding/piran")
	must(err)
	errText, result = overJob(t, g, j.ID())
	require.Empty(t, errText)
	require.JSONEq(t, `{"files":3}`, result)
	require.Equal(t, []string{".", "else"}, keptPaths(t, filepath.Join(volume, "holding")))
	require.Zero(t, inFolder("holding"))
	require.Empty(t, finding(audit.HeldTooLong))
	_, err = g.Service.Holding("piran")
	require.Error(t, err)
	must(g.Service.RemoveFolder(ctx, gateway.Keeper, "holding"))
}

// A job that is cut off goes on where it was; a name that is taken in the holding is not written over.
func TestKeepingIsTakenUpAgain(t *testing.T) {
	g := gateway.Start(t)
	ctx := context.Background()
	_, err := g.Service.CreateFolder(ctx, gateway.Keeper, service.FolderInput{Name: "holding", Volume: "summit"})
	require.NoError(t, err)
	volume := filepath.Join(g.State, "volumes/summit")
	require.NoError(t, os.MkdirAll(filepath.Join(volume, "holding/piran"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(volume, "holding/piran/precious"), []byte("of another"), 0o644))
	left, err := g.Service.Leave(ctx, gateway.Keeper, "piran", service.LeaveInput{Hold: "holding", On: time.Now().Add(-time.Hour)})
	require.NoError(t, err)
	errText, _ := overJob(t, g, left.Job)
	require.Empty(t, errText)
	require.FileExists(t, filepath.Join(volume, "holding/piran/precious"))
	require.FileExists(t, filepath.Join(volume, "holding/piran-2/personal/piran/allsky-2026-03.dat"))

	// What lies where something is to come stays as it is, and so does what was to come there.
	k, err := g.Files.Keep(cancelled(), keepingOf(g, "wren"), func() {})
	require.ErrorIs(t, err, context.Canceled)
	require.Zero(t, k.Files)
	require.NoError(t, os.MkdirAll(filepath.Join(volume, "holding/bettany/personal/bettany"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(volume, "holding/bettany/personal/bettany/plate-index.dat"), []byte("another"), 0o644))
	k, err = g.Files.Keep(ctx, keepingOf(g, "bettany"), func() {})
	require.NoError(t, err)
	require.EqualValues(t, 1, k.Stayed)
	require.Equal(t, []string{"personal/bettany/plate-index.dat: it is there already"}, k.Refused)
	text, err := os.ReadFile(filepath.Join(volume, "holding/bettany/personal/bettany/plate-index.dat"))
	require.NoError(t, err)
	require.Equal(t, "another", string(text))
	require.FileExists(t, filepath.Join(volume, "personal/bettany/plate-index.dat"))
}

func cancelled() context.Context {
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	return ctx
}

// keepingOf is what would be kept of somebody, from the folder personal.
func keepingOf(g *gateway.Gateway, user string) files.Keeping {
	p := g.Service.Policy()
	return files.Keeping{From: p.FolderNamed("personal").ID, To: p.FolderNamed("holding").ID, UID: p.Directory.UserNamed(user).UID, Own: user, Below: user + "/personal"}
}
