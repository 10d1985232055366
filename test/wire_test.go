package test

import (
	"bufio"
	"context"
	"crypto/sha256"
	"encoding/json"
	"flag"
	"fmt"
	"io"
	"log/slog"
	"math/rand/v2"
	"net"
	"net/netip"
	"os"
	"os/exec"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"
	"unicode/utf16"

	"github.com/stretchr/testify/require"
	//lint:ignore SA1019 MS-NLMP section 3.3.1 builds NTLMv2 on it
	"golang.org/x/crypto/md4"
	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/nfs"
	"amber.example/gatekeeper/internal/ntlm"
	"amber.example/gatekeeper/internal/smb"
	"amber.example/gatekeeper/test/need"
)

var (
	askings  = flag.Int("askings", 10_000, "how many times the wire is asked beside the audit")
	askSeed  = flag.Uint64("askseed", 1, "the first site that is made up")
	askSites = flag.Int("asksites", 0, "stop after so many sites; 0 for none")
)

// What why says is what the wire does: random sites with exact bits, cuts, denies, all reaches and owners, shares and
// client rules that narrow, files with two names; every user, every object, every bit, and every call, over SMB
// 2.1 and 3.1.1, NFS 3 and 4.1, by clients that share no code with the server.
func TestWhyIsWhatTheWireDoes(t *testing.T) {
	w := newWire(t)
	asked, granted, sites := 0, 0, 0
	var wrong []string
	for seed := *askSeed; asked < *askings && (*askSites == 0 || sites < *askSites); seed++ {
		sites++
		n, yes, bad := w.site(seed)
		asked, granted = asked+n, granted+yes
		wrong = append(wrong, bad...)
		if len(wrong) > 20 {
			break
		}
	}
	t.Logf("%d askings of %d sites from seed %d on, %d granted, %d not as the audit says", asked, sites, *askSeed, granted, len(wrong))
	require.Empty(t, wrong)
	require.Greater(t, granted, asked/20, "too little is granted to prove anything")
	require.Less(t, granted, asked*19/20)
}

// wire is a gateway whose policy the test swaps, and a client from other hands.
type wire struct {
	t      *testing.T
	root   string // of the folder
	policy atomic.Pointer[site.Policy]
	in     io.Writer
	out    *bufio.Scanner
	dirs   []string
	files  []string // with two names for one file: "a/l" and "c/l"
}

const (
	wireUsers  = 5
	wireGroups = 3
)

// ProveNT and the methods after it make the wire what the servers want to know of the records.
func (w *wire) ProveNT(_ context.Context, name, _ string, compare func([]byte) bool) (identity.ID, error) {
	h := md4.New()
	for _, u := range utf16.Encode([]rune(name + "-at-larkfell")) {
		h.Write([]byte{byte(u), byte(u >> 8)})
	}
	if u := w.policy.Load().Directory.UserNamed(name); u != nil && compare(h.Sum(nil)) {
		return u.ID, nil
	}
	return 0, ntlm.ErrWrong
}
func (w *wire) Remembered(context.Context, string) ([][]byte, error) { return nil, nil }
func (w *wire) Remember(context.Context, string, []byte) error       { return nil }
func (w *wire) Forget(context.Context, string, []byte) error         { return nil }
func (w *wire) WriteRule(context.Context, int64, identity.ID, acl.Rule) error {
	return nil // that it was granted is all there is to know
}
func (w *wire) MoveRules(_ context.Context, _ int64, _, _ string, move, _ func() error) error {
	return move()
}

func newWire(t *testing.T) *wire {
	python := "/usr/bin/python3"
	if err := exec.Command(python, "-c", "import impacket").Run(); err != nil {
		need.Missing(t, "python3-impacket is not there: make tools")
	}
	w := &wire{t: t, root: filepath.Join(t.TempDir(), "probe"), dirs: []string{"", "a", "a/b", "c", "c/d"}, files: []string{"f", "a/f", "a/b/f", "c/d/f", "a/l", "c/l"}}
	for _, d := range w.dirs {
		require.NoError(t, os.MkdirAll(filepath.Join(w.root, d, "vdir"), 0o770))
		require.NoError(t, os.WriteFile(filepath.Join(w.root, d, "victim"), []byte("data"), 0o660))
	}
	for _, f := range w.files {
		if f == "c/l" {
			require.NoError(t, os.Link(filepath.Join(w.root, "a/l"), filepath.Join(w.root, f)))
		} else {
			require.NoError(t, os.WriteFile(filepath.Join(w.root, f), []byte("data"), 0o660))
		}
	}
	w.policy.Store(w.compile(w.records(nil)))
	log := slog.New(slog.NewTextHandler(io.Discard, nil))
	ns := files.New(w.policy.Load, w)
	listen := func() net.Listener {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		return l
	}
	smbListener, nfsListener := listen(), listen()
	smbServer := smb.NewServer(smb.Config{Name: "larkfell", Policy: w.policy.Load, Accounts: w, Files: ns, Log: log})
	key := sha256.Sum256([]byte("wire"))
	nfsServer, err := nfs.NewServer(nfs.Config{Policy: w.policy.Load, Files: ns, Names: func(context.Context, netip.Addr) ([]string, bool) { return nil, true }, Key: key[:], Memory: w, Log: log})
	require.NoError(t, err)
	done := make(chan struct{}, 2)
	go func() { _ = smbServer.Serve(smbListener); done <- struct{}{} }()
	go func() { _ = nfsServer.Serve(nfsListener); done <- struct{}{} }()

	port := func(l net.Listener) string { return fmt.Sprint(l.Addr().(*net.TCPAddr).Port) }
	cmd := exec.Command(python, "-W", "ignore", "clients/ask.py", port(smbListener), port(nfsListener), w.root, "/probe")
	cmd.Stderr = os.Stderr
	in, err := cmd.StdinPipe()
	require.NoError(t, err)
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	require.NoError(t, cmd.Start())
	w.in, w.out = in, bufio.NewScanner(out)
	w.out.Buffer(make([]byte, 1<<20), 1<<26)
	t.Cleanup(func() {
		in.Close()
		_ = cmd.Wait()
		smbListener.Close()
		nfsListener.Close()
		smbServer.Close()
		nfsServer.Close()
		<-done
		<-done
	})
	paths := append(slices.Clone(w.dirs[1:]), w.files...)
	w.ask([]askedBy{{Via: "nfs3", What: "handles", UID: 2001, Paths: paths}})
	return w
}

// askedBy is one thing to ask of the wire; see clients/ask.py.
type askedBy struct {
	Via   string   `json:"via"`
	What  string   `json:"what"`
	User  string   `json:"user,omitempty"`
	UID   uint32   `json:"uid,omitempty"`
	Share string   `json:"share,omitempty"`
	Path  string   `json:"path"`
	Name  string   `json:"name,omitempty"`
	Mask  uint32   `json:"mask,omitempty"`
	Arg   uint32   `json:"arg,omitempty"`
	Paths []string `json:"paths,omitempty"`

	granted bool     // as the audit has it
	number  bool     // the answer is a number:
	want    acl.Mask // that one
}

func (w *wire) ask(list []askedBy) []int64 {
	raw, err := json.Marshal(list)
	require.NoError(w.t, err)
	_, err = w.in.Write(append(raw, '\n'))
	require.NoError(w.t, err)
	require.True(w.t, w.out.Scan(), "the client ended")
	var got []int64
	require.NoError(w.t, json.Unmarshal(w.out.Bytes(), &got))
	require.Len(w.t, got, len(list))
	return got
}

func (w *wire) compile(r site.Records) *site.Policy {
	p, err := site.Compile(r)
	require.NoError(w.t, err)
	return p
}

// records are a site; everybody may do everything in it without a source of chance.
func (w *wire) records(rng *rand.Rand) site.Records {
	r := site.Records{Volumes: []site.Volume{{ID: 1, Name: "summit", Path: filepath.Dir(w.root)}}, Services: site.Services{SMB: true, NFS: true}}
	oneIn := func(n int) bool { return rng != nil && rng.IntN(n) == 0 }
	for i := 1; i <= wireUsers; i++ {
		r.Users = append(r.Users, identity.User{ID: identity.ID(i), Name: fmt.Sprint("u", i), UID: uint32(2000 + i), SMB: !oneIn(20), NFS: !oneIn(20)})
	}
	for i := 1; i <= wireGroups; i++ {
		g := identity.Group{ID: identity.ID(i), Name: fmt.Sprint("g", i), GID: uint32(3000 + i)}
		for u := 1; u <= wireUsers; u++ {
			if oneIn(2) {
				g.Members = append(g.Members, identity.UserPrincipal(identity.ID(u)))
			}
		}
		if i == wireGroups && oneIn(2) {
			g.Members = append(g.Members, identity.GroupPrincipal(1))
		}
		r.Groups = append(r.Groups, g)
	}
	folder := site.Folder{ID: 1, Name: "probe", VolumeID: 1, Path: "probe", Owner: 1, Group: 1, Permissions: site.ByEntries, Ownership: site.Mapped}
	share := site.Share{ID: 1, Name: "probe", FolderID: 1}
	line := site.ClientRule{ID: 1, From: "127.0.0.1", Write: true, Squash: site.SquashRoot, AnonUID: site.Anonymous, AnonGID: site.Anonymous, Unknown: site.UnknownRefused, Security: []site.Flavor{site.FlavorSys}}
	if rng == nil {
		folder.Rules = []acl.Rule{{ID: 1, Entries: []acl.Entry{{ID: 1, Who: identity.Everyone, Level: acl.Control, Applies: acl.Everywhere}}}}
	} else {
		var id int64
		entries := func(least, most int) (out []acl.Entry) {
			for range least + rng.IntN(most-least+1) {
				id++
				e := acl.Entry{ID: id, Deny: oneIn(4), Applies: acl.Everywhere}
				switch rng.IntN(6) {
				case 0, 1:
					e.Who = identity.UserPrincipal(identity.ID(1 + rng.IntN(wireUsers)))
				case 2:
					e.Who = identity.GroupPrincipal(identity.ID(1 + rng.IntN(wireGroups)))
				case 3:
					e.Who = identity.Owner
				case 4:
					e.Who = identity.OwningGroup
				case 5:
					e.Who = identity.Everyone
				}
				if oneIn(2) {
					e.Applies = acl.Applies(1 + rng.IntN(15))
				}
				if oneIn(3) {
					e.Level = pick(rng, acl.Levels)
				} else if e.Mask = acl.Mask(rng.Uint32()) & acl.All; e.Mask == 0 {
					e.Mask = acl.ReadData
				}
				if !e.Deny && oneIn(2) { // or too much ends on the way
					e.Level, e.Mask = acl.NoLevel, e.Mask|e.Level.Mask(true)|acl.Execute
				}
				out = append(out, e)
			}
			return out
		}
		for i, p := range []string{"", "a", "a/b", "a/f", "c", "c/d", "c/l", "c/d/f"} {
			if p == "" || oneIn(2) {
				folder.Rules = append(folder.Rules, acl.Rule{ID: int64(i + 1), Path: p, Cut: p != "" && oneIn(4), Entries: entries(1, 5)})
			}
		}
		if share.ReadOnly = oneIn(6); oneIn(3) {
			share.Entries = entries(1, 3)
			for i := range share.Entries {
				share.Entries[i].Applies = acl.Everywhere
			}
		}
		line.Write = !oneIn(6)
		r.Services.SMB, r.Services.NFS = !oneIn(40), true
	}
	r.Folders, r.Shares = []site.Folder{folder}, []site.Share{share}
	r.Exports = []site.Export{{ID: 1, Path: "/probe", FolderID: 1, Rules: []site.ClientRule{line}}}
	return r
}

func pick[T any](rng *rand.Rand, of []T) T { return of[rng.IntN(len(of))] }

// site makes one up and asks it everything; it gives how much was asked and granted, and what was not as the audit has it.
func (w *wire) site(seed uint64) (asked, granted int, wrong []string) {
	rng := rand.New(rand.NewPCG(seed, 9))
	for _, p := range append(slices.Clone(w.dirs), w.files...) {
		at := filepath.Join(w.root, p)
		_ = unix.Removexattr(at, "user.amber.owner")
		if rng.IntN(2) == 0 {
			own := fmt.Sprintf("%d:%d", 2001+rng.IntN(wireUsers), 3001+rng.IntN(wireGroups))
			require.NoError(w.t, unix.Setxattr(at, "user.amber.owner", []byte(own), 0))
		}
	}
	p := w.compile(w.records(rng))
	w.policy.Store(p)
	f := p.Folders[0]
	facts := files.FactsOf(p, f)
	others := map[string][]string{"a/l": {"c/l"}, "c/l": {"a/l"}}

	for _, u := range p.Directory.Users() {
		may := func(via site.Protocol, at string, file bool) acl.Mask {
			r := access.Request{User: u.ID, Via: via, Folder: f, Path: at, File: file, Others: others[at], Facts: facts, Now: time.Now()}
			if via == site.SMB {
				r.Share = p.Shares[0]
			} else {
				r.NFS = access.Arrive(p, p.Exports[0], site.Origin{Address: netip.MustParseAddr("127.0.0.1"), Port: 4000, Flavor: site.FlavorSys}, posix.Credential{UID: u.UID, GID: u.UID})
			}
			v, gates := access.Explain(p, r) // what why answers
			left := acl.All
			for _, g := range gates {
				left &= g.Leaves
			}
			require.Equal(w.t, v.Granted, left)
			return v.Granted
		}
		var list []askedBy
		for _, via := range []string{"smb2.1", "smb3.1.1"} {
			if u.SMB && p.Services.SMB {
				list = append(list, w.overSMB(via, u.Name, may)...)
			}
		}
		for _, via := range []string{"nfs3", "nfs4.1"} {
			list = append(list, w.overNFS(via, u.UID, may)...)
		}
		for i, got := range w.ask(list) {
			a := &list[i]
			if got == -1 && strings.HasPrefix(a.Via, "smb") {
				got = 0xc0000022 // no tree to ask through
			}
			asked++
			switch {
			case a.number && got != int64(a.want), !a.number && (got == 0) != a.granted, !a.number && got != 0 && !refusal(a.Via, got):
				wrong = append(wrong, fmt.Sprintf("seed %d: %s %s %s %q %s: the wire says %#x, the audit %v %v", seed, u.Name, a.Via, a.What, path.Join(a.Path, a.Name),
					acl.Mask(a.Mask).Names(true), got, a.granted, a.want.Names(true)))
			case a.number && got != 0, !a.number && got == 0:
				granted++
			}
		}
	}
	return asked, granted, wrong
}

// refusal says whether a status is one for what somebody may not do.
func refusal(via string, status int64) bool {
	if strings.HasPrefix(via, "smb") {
		return status == 0xc0000022 // STATUS_ACCESS_DENIED
	}
	return status == 1 || status == 13 || status == 30 // PERM, ACCES, ROFS
}

// overSMB asks each bit by itself, reading by what is opened to run, and the most there is.
func (w *wire) overSMB(via, user string, may func(site.Protocol, string, bool) acl.Mask) (list []askedBy) {
	root := may(site.SMB, "", false)
	list = append(list, askedBy{Via: via, What: "connect", User: user, Share: "probe", granted: root != 0})
	each := func(at string, file bool) {
		granted := may(site.SMB, at, file)
		if root == 0 {
			granted = 0 // nobody gets there without the tree
		}
		for bit := acl.Mask(1); bit <= acl.All; bit <<= 1 {
			if bit&acl.All != 0 {
				list = append(list, askedBy{Via: via, What: "open", User: user, Share: "probe", Path: at, Mask: uint32(bit), granted: granted&bit != 0})
			}
		}
		if file {
			list = append(list, askedBy{Via: via, What: "read", User: user, Share: "probe", Path: at, Mask: uint32(acl.Execute), granted: granted&acl.Execute != 0})
		}
		if granted != 0 {
			list = append(list, askedBy{Via: via, What: "maximum", User: user, Share: "probe", Path: at, Mask: 0x02000000, number: true, want: granted})
		} else {
			list = append(list, askedBy{Via: via, What: "open", User: user, Share: "probe", Path: at, Mask: 0x02000000})
		}
	}
	for _, d := range w.dirs {
		each(d, false)
	}
	for _, f := range w.files {
		each(f, true)
	}
	return list
}

// overNFS asks each call.
func (w *wire) overNFS(via string, uid uint32, may func(site.Protocol, string, bool) acl.Mask) (list []askedBy) {
	ask := func(what, at, name string, arg uint32, granted bool) {
		list = append(list, askedBy{Via: via, What: what, UID: uid, Path: at, Name: name, Arg: arg, granted: granted})
	}
	four := via == "nfs4.1"
	each := func(at string, file bool) {
		g := may(site.NFS, at, file)
		has := func(m acl.Mask) bool { return g&m == m }
		// Whoever comes from a host that may mount it is shown what is mounted.
		ask("getattr", at, "", 0, at == "" || has(acl.ReadAttributes))
		var bits acl.Mask
		for _, b := range []struct {
			bit  acl.Mask
			need acl.Mask
			on   bool
		}{{1, acl.ReadData, true}, {2, acl.Execute, !file}, {4, acl.WriteData, file}, {4 | 16, acl.DeleteChild, !file},
			{8, acl.AppendData, file}, {8, acl.AddFile | acl.AddSubdirectory, !file}} {
			if b.on && has(b.need) {
				bits |= b.bit
			}
		}
		list = append(list, askedBy{Via: via, What: "access", UID: uid, Path: at, number: true, want: bits})
		ask("setmode", at, "", 0o664, has(acl.WriteAttributes))
		ask("setowner", at, "", 2999, has(acl.WriteOwner))
		if four {
			ask("getacl", at, "", 0, (at == "" || has(acl.ReadAttributes)) && has(acl.ReadACL))
			ask("setacl", at, "", 0, has(acl.WriteACL))
		}
		if file {
			ask("read", at, "", 0, has(acl.ReadData))
			ask("write", at, "", 0, has(acl.WriteData))
			ask("setsize", at, "", 4, has(acl.WriteData))
			if four {
				ask("openread", at, "", 0, has(acl.ReadData))
				ask("openwrite", at, "", 0, has(acl.WriteData))
			}
			return
		}
		ask("lookup", at, "victim", 0, has(acl.Execute))
		ask("readdir", at, "", 0, has(acl.ListDirectory))
		ask("create", at, "made", 0, has(acl.AddFile))
		ask("mkdir", at, "madedir", 0, has(acl.AddSubdirectory))
		ask("remove", at, "victim", 0, may(site.NFS, path.Join(at, "victim"), true)&acl.Delete != 0)
		ask("rmdir", at, "vdir", 0, may(site.NFS, path.Join(at, "vdir"), false)&acl.Delete != 0)
	}
	for _, d := range w.dirs {
		each(d, false)
	}
	for _, f := range w.files {
		each(f, true)
	}
	return list
}
