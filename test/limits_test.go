package test

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"math/rand/v2"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/cloudsoda/go-smb2"
	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/onc"
	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/internal/usage"
	"amber.example/gatekeeper/test/gateway"
	"amber.example/gatekeeper/test/need"
	"amber.example/gatekeeper/test/nfsraw"
)

const diskFull = 0xc000007f

func setLimit(t testing.TB, g *gateway.Gateway, in service.LimitInput) {
	t.Helper()
	_, err := g.Service.SetLimit(context.Background(), gateway.Keeper, in)
	require.NoError(t, err)
}

func write3(c *nfsraw.Client, file []byte, off uint64, n int) uint32 {
	status, _ := c.Do(nfsraw.NFS, 3, 7, func(w *onc.Writer) {
		w.Opaque(file)
		w.Uint64(off)
		w.Uint32(uint32(n))
		w.Uint32(0)
		w.Opaque(make([]byte, n))
	})
	return status
}

// Writing goes on until the limit, is refused in each protocol's own words, and goes on over the same open handle once the limit is
// raised. What is free is what the limit leaves, and why says so.
func TestALimitOverBothProtocols(t *testing.T) {
	const dquot = 69
	g := gateway.Start(t)
	nightlogOverNFS(t, g)
	nightlog := service.LimitInput{Kind: limit.OfFolder, Name: "nightlog", SoftBytes: "none", HardBytes: "1M"}
	setLimit(t, g, nightlog)
	share := g.Mount(t, g.Dial(t, "piran", 0), "nightlog")
	f, err := share.Create("2026/long.txt")
	require.NoError(t, err)
	wrote := 0
	for {
		n, err := f.Write(make([]byte, 50_000))
		wrote += n
		if err != nil {
			requireStatus(t, err, diskFull)
			break
		}
	}
	require.Greater(t, wrote, 900_000)
	use := func() api.Use {
		t.Helper()
		var uses api.Uses
		answer := ask(t, g, g.Token(t, "keeper"), http.MethodGet, "/api/v1/use?by=folder&name=nightlog", "")
		require.NoError(t, json.Unmarshal([]byte(answer.body), &uses))
		require.Len(t, uses.Uses, 1)
		return uses.Uses[0]
	}
	require.LessOrEqual(t, use().UsedBytes, int64(1_000_000))
	left := uint64(1_000_000 - use().UsedBytes)
	fs, err := share.Statfs("")
	require.NoError(t, err)
	require.LessOrEqual(t, fs.AvailableBlockCount()*fs.BlockSize(), left)
	require.LessOrEqual(t, fs.TotalBlockCount()*fs.BlockSize(), uint64(1_000_000))
	require.Greater(t, fs.TotalBlockCount()*fs.BlockSize(), uint64(990_000))

	c := nfsraw.Dial(t, g.NFS, 2003, 3001)
	root := c.Mnt("/nightlog")
	status, dir := c.Lookup3(root, "2026")
	require.Zero(t, status)
	status, file := c.Lookup3(dir, "long.txt")
	require.Zero(t, status)
	require.EqualValues(t, dquot, write3(c, file, uint64(wrote), int(left)+1))
	require.Zero(t, write3(c, file, 0, 1000), "what is there may be written over")
	status, r := c.Do(nfsraw.NFS, 3, 18, func(w *onc.Writer) { w.Opaque(root) })
	require.Zero(t, status)
	if r.Bool() {
		r.Fixed(84)
	}
	total, _, available := r.Uint64(), r.Uint64(), r.Uint64()
	require.EqualValues(t, 1_000_000, total)
	require.Equal(t, left, available)
	status, r = c.Do(nfsraw.NFS, 4, 1, nfsraw.Compound(0, nfsraw.Op(22, file), nfsraw.Op(34, nfsraw.Raw(make([]byte, 16)), nfsraw.Raw(setSize4(2_000_000)))))
	require.EqualValues(t, dquot, status, "%v", r)

	answer := ask(t, g, g.Token(t, "keeper"), http.MethodGet, "/api/v1/why?user=piran&path=nightlog/2026/long.txt&want=change", "")
	var why api.Why
	require.NoError(t, json.Unmarshal([]byte(answer.body), &why))
	require.True(t, why.Allowed, "there are %d bytes left", left)
	require.NoError(t, f.Truncate(int64(wrote)+int64(left)))
	answer = ask(t, g, g.Token(t, "keeper"), http.MethodGet, "/api/v1/why?user=piran&path=nightlog/2026/long.txt&want=change", "")
	require.NoError(t, json.Unmarshal([]byte(answer.body), &why))
	require.False(t, why.Allowed)
	require.Equal(t, "limit", why.Gate)
	require.Equal(t, "limit of folder nightlog", why.Gates[len(why.Gates)-1].Record)

	nightlog.HardBytes = "2M"
	setLimit(t, g, nightlog)
	_, err = f.WriteAt(make([]byte, 100_000), 1_000_000)
	require.NoError(t, err, "the same handle")
	require.NoError(t, f.Close())
}

// setSize4 is an fattr4 that sets a size.
func setSize4(n uint64) []byte {
	var w onc.Writer
	w.Uint32(1)
	w.Uint32(1 << 4)
	w.Uint32(8)
	w.Uint64(n)
	return w.B
}

// The remote quota protocol tells people of themselves, administrators of all, and others nothing.
func TestRemoteQuota(t *testing.T) {
	const rquota, ok, none, denied = 100011, 1, 2, 3
	g := gateway.Start(t)
	setLimit(t, g, service.LimitInput{Kind: limit.OfUser, Name: "svc-reduce", SoftBytes: "500kB", HardBytes: "5GiB", HardFiles: "100"})
	c := nfsraw.Dial(t, g.NFS, 2102, 3001)
	get := func(version uint32, path string, args ...uint32) (uint32, *onc.Reader) {
		return c.Do(rquota, version, 1, func(w *onc.Writer) {
			w.String(path)
			for _, a := range args {
				w.Uint32(a)
			}
		})
	}
	for _, version := range []uint32{1, 2} {
		args := []uint32{2102}
		if version == 2 {
			args = []uint32{0, 2102}
		}
		status, r := get(version, "/scratch/2026-03", args...)
		require.EqualValues(t, ok, status, "version %d", version)
		block, active := uint64(r.Uint32()), r.Bool()
		require.True(t, active)
		hard, soft, used := uint64(r.Uint32())*block, uint64(r.Uint32())*block, uint64(r.Uint32())*block
		require.Zero(t, soft, "the limit that leaves least is the one in the folder")
		require.InDelta(t, 1_000_000, float64(hard), float64(block))
		require.InDelta(t, 1_000_000, float64(used), float64(block))
	}
	args := []uint32{0, 2003}
	status, _ := get(2, "/scratch", args...)
	require.EqualValues(t, denied, status)
	status, _ = get(2, "/nowhere", 0, 2102)
	require.EqualValues(t, none, status)
	status, _ = get(2, "/scratch", 1, 4711)
	require.EqualValues(t, denied, status, "a group one is not in")
}

// Quotas over SMB by a client from other hands.
func TestQuotaOverSMB(t *testing.T) {
	const python = "/usr/bin/python3"
	if err := exec.Command(python, "-c", "import impacket").Run(); err != nil {
		need.Missing(t, "python3-impacket is not installed: make test installs it")
	}
	g := gateway.Start(t)
	ctx := context.Background()
	on := true
	_, err := g.Service.UpdateUser(ctx, gateway.Keeper, "keeper", service.UserChange{SMB: &on})
	require.NoError(t, err)
	_, err = g.Service.AddEntry(ctx, gateway.Keeper, "personal", service.EntryInput{Who: "keeper", Level: "read"})
	require.NoError(t, err)
	_, port, _ := strings.Cut(g.SMB, ":")
	run := func(args ...string) []string {
		out, err := exec.Command(python, append([]string{"clients/quota.py", port}, args...)...).CombinedOutput()
		require.NoError(t, err, "%s", out)
		return strings.Split(strings.TrimSpace(string(out)), "\n")
	}
	own := run("bettany", "personal")
	require.Len(t, own, 1, "others than administrators are told of themselves: %v", own)
	fields := strings.Fields(own[0])
	require.Equal(t, []string{"4700000", "none", "5000000"}, fields[1:])
	all := run("keeper", "personal")
	require.Greater(t, len(all), 4, "%v", all)
	require.Contains(t, all, own[0])
	require.Contains(t, run("bettany", "personal", fields[0], "-1", "9000000")[0], "ACCESS_DENIED")
	require.Equal(t, []string{"done"}, run("keeper", "personal", fields[0], "4800000", "4900000"))
	require.Equal(t, fields[0]+" 4700000 4800000 4900000", run("bettany", "personal")[0], "the one in the folder leaves less")
	require.Equal(t, []string{"done"}, run("keeper", "personal", fields[0], "-1", "-1"))
	require.Equal(t, own, run("bettany", "personal"))
	require.Contains(t, run("keeper", "personal", "S-1-5-21-1-2-3-4", "1", "2")[0], "refused")
}

// Whatever is done over both protocols, and wherever the service is killed, what it counts in the end is what another program finds.
func TestCountedAcrossKills(t *testing.T) {
	bin := binary(t)
	state := filepath.Join(t.TempDir(), "state")
	for round := range 4 {
		p := serve(t, bin, state, "--demo")
		a := amber{t, bin, p.url, t.TempDir()}
		_, errOut, code := a.try("keeper-at-larkfell", "sign-in", "keeper")
		require.Zero(t, code, errOut)
		if round == 0 {
			a.run("limit", "set", "folder", "personal/piran", "--hard", "1T")
		}
		stop := make(chan struct{})
		var wait sync.WaitGroup
		for i := range 3 {
			wait.Go(func() { work(p, uint64(round), uint64(i), stop) })
		}
		time.Sleep(time.Duration(300+200*round) * time.Millisecond)
		if round < 3 {
			require.NoError(t, p.cmd.Process.Signal(syscall.SIGKILL))
			_ = p.cmd.Wait()
			close(stop)
			wait.Wait()
			p = serve(t, bin, state, "--demo")
			a.url = p.url
			_, errOut, code = a.try("keeper-at-larkfell", "sign-in", "keeper")
			require.Zero(t, code, errOut)
		} else {
			close(stop)
			wait.Wait()
		}
		require.Eventually(t, func() bool {
			var counts []api.Count
			require.NoError(t, json.Unmarshal([]byte(a.run("count", "list", "--json")), &counts))
			for _, c := range counts {
				if c.State != "counted" {
					return false
				}
			}
			return true
		}, 20*time.Second, 100*time.Millisecond)
		agreesWithFind(t, a, filepath.Join(state, "volumes/summit"))
		p.kill()
	}
}

// work has piran and bettany do things until told to stop, or the service is gone.
func work(p *process, round, who uint64, stop chan struct{}) {
	r := rand.New(rand.NewPCG(round, who))
	name := []string{"piran", "bettany", "piran"}[who]
	d := &smb2.Dialer{Initiator: &smb2.NTLMInitiator{User: name, Password: name + "-at-larkfell"}}
	s, err := d.Dial(context.Background(), p.smb)
	if err != nil {
		return
	}
	defer func() { _ = s.Logoff() }()
	share, err := s.Mount("personal")
	if err != nil {
		return
	}
	for {
		select {
		case <-stop:
			return
		default:
		}
		path := fmt.Sprintf("%s/%d", name, r.IntN(12))
		switch r.IntN(6) {
		case 0, 1:
			err = share.WriteFile(path, make([]byte, r.IntN(20_000)), 0o644)
		case 2:
			err = share.Remove(path)
		case 3:
			err = share.Rename(path, fmt.Sprintf("%s/%d", name, r.IntN(12)))
		case 4:
			err = share.Mkdir(fmt.Sprintf("%s/d%d", name, r.IntN(4)), 0o755)
		case 5:
			err = share.Rename(path, fmt.Sprintf("%s/d%d/%d", name, r.IntN(4), r.IntN(4)))
		}
		var answered *smb2.ResponseError
		if err != nil && !errors.As(err, &answered) && !errors.Is(err, os.ErrNotExist) && !errors.Is(err, os.ErrExist) {
			return
		}
	}
}

// agreesWithFind holds what the service counts to what a program finds that shares nothing with it.
func agreesWithFind(t *testing.T, a amber, volume string) {
	t.Helper()
	type sums map[string][2]int64
	owners, folders := make(sums), make(sums)
	for _, folder := range []string{"nightlog", "instruments", "plates", "visitors", "scratch", "personal"} {
		uid := "2001"
		if folder == "scratch" {
			uid = "2102"
		}
		out, err := exec.Command("/usr/bin/python3", "clients/count.py", filepath.Join(volume, folder), uid, "0").Output()
		require.NoError(t, err)
		var found struct {
			Total  [2]int64            `json:"total"`
			Owners map[string][2]int64 `json:"owners"`
		}
		require.NoError(t, json.Unmarshal(out, &found))
		folders[folder] = found.Total
		for uid, n := range found.Owners {
			owners[uid] = [2]int64{owners[uid][0] + n[0], owners[uid][1] + n[1]}
		}
	}
	names := map[string]string{"2001": "wren", "2002": "isolde", "2003": "piran", "2004": "tomasz", "2005": "bettany", "2006": "orla", "2101": "svc-dome", "2102": "svc-reduce"}
	for by, want := range map[string]sums{"folder": folders, "user": owners} {
		var uses api.Uses
		require.NoError(t, json.Unmarshal([]byte(a.run("use", "--by", by, "--json")), &uses))
		got := make(sums)
		for _, u := range uses.Uses {
			if u.UsedFiles > 0 {
				got[u.Name] = [2]int64{u.UsedBytes, u.UsedFiles}
			}
		}
		named := make(sums)
		for key, n := range want {
			if name, ok := names[key]; ok {
				key = name
			} else if _, err := strconv.Atoi(key); err == nil {
				key = "uid " + key
			}
			named[key] = n
		}
		require.Equal(t, named, got, "by %s", by)
	}
}

// Where ownership is the host's own, what is counted is what find and awk add up; and also by the space that it takes on disk, where holes
// cost nothing.
func TestNativeUseIsWhatFindSays(t *testing.T) {
	if os.Geteuid() != 0 {
		need.Missing(t, "native ownership takes root")
	}
	g := gateway.Start(t)
	ctx := context.Background()
	g.Unlimited(t)
	_, err := g.Service.CreateFolder(ctx, gateway.Keeper, service.FolderInput{Name: "vault", Volume: "summit", Ownership: site.Native})
	require.NoError(t, err)
	_, err = g.Service.AddEntry(ctx, gateway.Keeper, "vault", service.EntryInput{Who: "staff", Level: "change"})
	require.NoError(t, err)
	_, err = g.Service.CreateShare(ctx, gateway.Keeper, service.ShareInput{Folder: "vault"})
	require.NoError(t, err)
	f := g.Service.Policy().FolderNamed("vault")
	require.Eventually(t, func() bool { book := g.Service.Ledger().Folder(f.ID); return book != nil && book.Counted() }, 10*time.Second, 10*time.Millisecond)
	for _, who := range []string{"piran", "bettany"} {
		share := g.Mount(t, g.Dial(t, who, 0), "vault")
		require.NoError(t, share.Mkdir(who, 0o755))
		for i := range 20 {
			require.NoError(t, share.WriteFile(fmt.Sprintf("%s/%d", who, i), make([]byte, i*1777), 0o644))
		}
		sparse, err := share.Create(who + "/sparse")
		require.NoError(t, err)
		require.NoError(t, sparse.Truncate(50_000_000))
		require.NoError(t, sparse.Close())
		require.NoError(t, share.Remove(who+"/7"))
		require.NoError(t, share.Rename(who+"/8", who+"/9a"))
	}
	agree := func(bytes string) {
		t.Helper()
		script := `find "$1" -printf '%i %U %s %b\n' | sort -u -n | awk '{b = ` + bytes + `; all += b; n++; by[$2] += b; m[$2]++} END {for (u in by) printf "%d %d %d\n", u, by[u], m[u]; printf "-1 %d %d\n", all, n}'`
		out, err := exec.Command("/bin/sh", "-c", script, "sh", f.Root).Output()
		require.NoError(t, err)
		for line := range strings.Lines(string(out)) {
			var uid, sum, n int64
			_, err := fmt.Sscan(line, &uid, &sum, &n)
			require.NoError(t, err)
			c := limit.Counter{Volume: f.VolumeID, Folder: f.ID}
			if uid >= 0 {
				c.Of, c.Number = limit.Owned, uint32(uid)
			}
			require.Equal(t, limit.Amount{Bytes: sum, Files: n}, g.Service.Ledger().Use(c), "uid %d", uid)
		}
	}
	agree("$3")
	_, err = g.Service.UpdateVolume(ctx, gateway.Keeper, "summit", service.VolumeChange{Counting: new(site.CountAllocated)})
	require.NoError(t, err)
	require.Eventually(t, func() bool {
		return slices.ContainsFunc(g.Service.Ledger().Kept(), func(k usage.KeptFolder) bool { return k.ID == f.ID && k.Allocated })
	}, 10*time.Second, 10*time.Millisecond)
	g.Service.AwaitCounts(ctx)
	agree("$4 * 512")
	share := g.Mount(t, g.Dial(t, "piran", 0), "vault")
	require.NoError(t, share.WriteFile("piran/later", make([]byte, 100_000), 0o644))
	sparse, err := share.OpenFile("piran/sparse", os.O_RDWR, 0)
	require.NoError(t, err)
	_, err = sparse.WriteAt(make([]byte, 70_000), 20_000_000)
	require.NoError(t, err)
	require.NoError(t, sparse.Close())
	agree("$4 * 512")
}

// Whoever gets another number is told of what keeps the old one, and of numbers that mean something to every client.
func TestANewNumberSaysWhatKeepsTheOldOne(t *testing.T) {
	g := gateway.Start(t)
	change := func(user, body string) api.User {
		t.Helper()
		var u api.User
		answer := ask(t, g, g.Token(t, "keeper"), http.MethodPatch, "/api/v1/users/"+user, body)
		require.Equal(t, http.StatusOK, answer.status, answer.body)
		require.NoError(t, json.Unmarshal([]byte(answer.body), &u))
		return u
	}
	u := change("piran", `{"uid": 2999}`)
	require.Len(t, u.Notes, 1)
	require.Contains(t, u.Notes[0], "1 files still belong to uid 2003")
	require.Empty(t, change("piran", `{"uid": 2999}`).Notes, "it has it already")
	require.Empty(t, change("piran", `{"fullName": "Piran"}`).Notes)
	require.Contains(t, change("corin", `{"uid": 0}`).Notes[0], "root on every client")
	require.Contains(t, change("corin", `{"uid": 65534}`).Notes[0], "nobody's on every client")
	answer := ask(t, g, g.Token(t, "keeper"), http.MethodPost, "/api/v1/exports/plates/rules", `{"from": "@dome-hosts"}`)
	require.Equal(t, http.StatusConflict, answer.status, answer.body)
	require.Contains(t, string(answer.body), "a second time would match nobody")
	answer = ask(t, g, g.Token(t, "keeper"), http.MethodGet, "/api/v1/host-sets/dome-hosts", "")
	var set api.HostSet
	require.NoError(t, json.Unmarshal([]byte(answer.body), &set))
	for _, use := range set.Uses {
		if use.Share != "" { // kept to the hosts besides
			var left []api.HostTerm
			for _, h := range strings.Split(use.Left, ",") {
				left = append(left, api.HostTerm(site.ParseHostTerm(h)))
			}
			hosts, err := json.Marshal(map[string]any{"hosts": left})
			require.NoError(t, err)
			answer = ask(t, g, g.Token(t, "keeper"), http.MethodPatch, "/api/v1/shares/"+use.Share, string(hosts))
			require.Less(t, answer.status, 300, answer.body)
			continue
		}
		answer = ask(t, g, g.Token(t, "keeper"), http.MethodDelete, fmt.Sprintf("/api/v1/exports/%s/rules/%d", strings.TrimPrefix(use.Export, "/"), use.RuleID), "")
		require.Less(t, answer.status, 300, answer.body)
	}
	answer = ask(t, g, g.Token(t, "keeper"), http.MethodDelete, "/api/v1/host-sets/dome-hosts", "")
	require.Less(t, answer.status, 300, "the numbers that it shows are those by which it is taken out: %s", answer.body)
}
