package test

import (
	"context"
	"encoding/hex"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/descriptor"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/test/gateway"
	"amber.example/gatekeeper/test/need"
)

// desktop has a client from other hands ask what a desktop asks, as a user; it gives what came back for each line.
func desktop(t *testing.T, g *gateway.Gateway, user string, lines ...string) []string {
	t.Helper()
	const python = "/usr/bin/python3"
	if err := exec.Command(python, "-c", "import impacket").Run(); err != nil {
		need.Missing(t, "python3-impacket is not installed: make test installs it")
	}
	_, port, _ := strings.Cut(g.SMB, ":")
	cmd := exec.Command(python, "-W", "ignore", "clients/desktop.py", port, user)
	cmd.Env = os.Environ()
	if user == "" || user == "guest" {
		cmd.Env = append(cmd.Env, "SMB_PASSWORD=")
	}
	cmd.Stdin = strings.NewReader(strings.Join(lines, "\nmark\n") + "\nquit\n")
	out, err := cmd.CombinedOutput()
	require.NoError(t, err, "%s", out)
	text, signed := strings.CutPrefix(string(out), "signed in\n")
	require.True(t, signed, "%s", out)
	answers := strings.Split(text, "there is no mark\n")
	require.Len(t, answers, len(lines), "%s", out)
	for i := range answers {
		answers[i] = strings.TrimSpace(answers[i])
	}
	return answers
}

// desktopEnds has keeper end all of keeper's own sessions, that one included: what is answered then is nothing that can be relied on.
func desktopEnds(t *testing.T, g *gateway.Gateway) {
	ctx, cancel := context.WithTimeout(t.Context(), 2*time.Minute)
	defer cancel()
	_, port, _ := strings.Cut(g.SMB, ":")
	cmd := exec.CommandContext(ctx, "/usr/bin/python3", "-W", "ignore", "clients/desktop.py", port, "keeper")
	cmd.Stdin = strings.NewReader("end '' keeper\nquit\n")
	_ = cmd.Run()
	if ctx.Err() != nil {
		t.Error("ending one's own session never ends")
	}
}

func smbOn(t *testing.T, g *gateway.Gateway, user string) {
	t.Helper()
	_, err := g.Service.UpdateUser(context.Background(), gateway.Keeper, user, service.UserChange{SMB: new(true)})
	require.NoError(t, err)
}

// A desktop shows our entries with names, and what it writes becomes entries: with what it did not touch as it was.
func TestADesktopShowsAndSetsEntries(t *testing.T) {
	g := gateway.Start(t)
	ctx := context.Background()
	_, err := g.Service.AddEntry(ctx, gateway.Keeper, "nightlog", service.EntryInput{Who: "wren", Level: "control", Applies: []string{"folder", "subfolders", "files"}, Note: "until the mirror is back", Expires: time.Now().Add(time.Hour)})
	require.NoError(t, err)
	list := func(path string) []acl.Entry {
		f, at, _ := strings.Cut(path, "/")
		for _, folder := range g.Service.Policy().Folders {
			if folder.Name == f {
				if r := folder.Tree.Rule(at); r != nil {
					return r.Entries
				}
			}
		}
		return nil
	}
	was := list("nightlog")
	got := desktop(t, g, "wren", "acl nightlog", "again nightlog", "grant nightlog bettany 0x1200a9 0x03", "deny nightlog/2026 orla 0x3 0x0", "acl nightlog/2026", "chown nightlog/README.txt piran", "acl nightlog/README.txt", "cut nightlog/2026", "acl nightlog/2026")
	require.Equal(t, strings.Split(`owner wren
group observers
allow observers 0x1301ff 0x03
allow staff 0x1200a9 0x03
allow wren 0x060000 0x00
allow wren 0x1f01ff 0x03
allow OWNER RIGHTS 0x000000 0x10`, "\n"), strings.Split(got[0], "\n"))
	require.Equal(t, "done", got[1])
	require.Equal(t, "done", got[2])
	now := list("nightlog")
	require.Len(t, now, len(was)+1)
	for i := range was {
		require.True(t, was[i].Same(now[i]) && was[i].Note == now[i].Note, "%+v\n%+v", was[i], now[i])
	}
	require.Equal(t, acl.Read, now[len(was)].Level)
	require.Equal(t, strings.Split(`owner wren
group observers
deny  orla 0x000003 0x00
allow observers 0x1301ff 0x13
allow staff 0x1200a9 0x13
allow wren 0x1f01ff 0x13
allow bettany 0x1200a9 0x13
allow OWNER RIGHTS 0x000000 0x10`, "\n"), strings.Split(got[4], "\n"))
	require.Equal(t, "done", got[5])
	require.True(t, strings.HasPrefix(got[6], `owner piran`), got[6])
	require.Equal(t, "done", got[7])
	require.Contains(t, got[8], "inherits nothing")
	require.NotContains(t, got[8], " 0x13\n")

	// Each is in the journal as hers, and is taken back like any other change.
	rows := string(ask(t, g, g.Token(t, "keeper"), "GET", "/api/v1/journal?limit=20", "").body)
	require.Contains(t, rows, "set entries")
	require.Contains(t, rows, `"wren"`)
}

// What is not the records' to say is refused, and nothing is changed by it.
func TestADesktopIsRefused(t *testing.T) {
	g := gateway.Start(t)
	before := g.Changes(t)
	got := desktop(t, g, "wren", "grant nightlog S-1-5-32-544 0x1 0x0", "grant nightlog orla 0x1000000 0x0", "raw nightlog 0100", "raw nightlog 0100048000000000000000000000000000000000",
		"chown nightlog/README.txt piran", "deny nightlog/README.txt orla 0x1 0x0", "raw nightlog 01000480000000000000000000000000ffffff7f", "raw nightlog 0100048000000000000000000000000014000000020008000000000000000000")
	for i, want := range []string{"NONE_MAPPED", "INVALID_SECURITY_DESCR", "INVALID_SECURITY_DESCR", "INVALID_SECURITY_DESCR", "ACCESS_DENIED", "ACCESS_DENIED", "INVALID_SECURITY_DESCR", "done"} {
		require.Contains(t, got[i], want, "%d: %s", i, got[i])
	}
	require.Equal(t, before+1, g.Changes(t), "the last one was a list with nothing in it")
	require.Contains(t, desktop(t, g, "piran", "grant nightlog orla 0x1 0x0")[0], "ACCESS_DENIED", "who may change files may not say who else may")
	// Where modes decide, a desktop is shown what they amount to, and sets none.
	_, err := g.Service.CreateShare(context.Background(), gateway.Keeper, service.ShareInput{Folder: "scratch"})
	require.NoError(t, err)
	smbOn(t, g, "svc-reduce")
	shown := desktop(t, g, "bettany", "acl scratch", "again scratch")
	require.Contains(t, shown[0], "Everyone")
	require.NotEqual(t, "done", shown[1])
}

// What is made with a list of entries has them from the start, if whoever makes it may say who may do what there; otherwise it is not made at all.
func TestADesktopMakesWithEntries(t *testing.T) {
	g := gateway.Start(t)
	_, err := g.Service.AddEntry(context.Background(), gateway.Keeper, "nightlog", service.EntryInput{Who: "wren", Level: "control", Applies: []string{"folder", "subfolders", "files"}})
	require.NoError(t, err)
	before := g.Changes(t)
	night := g.Service.Policy().FolderNamed("nightlog").Root
	made := desktop(t, g, "wren", "make nightlog/sealed.txt bettany 0x1200a9 0x0", "makedir nightlog/sealed bettany 0x1200a9 0x3", "make nightlog/given.txt wren 0x1f01ff 0x0 wren", "acl nightlog/given.txt",
		"acl nightlog/sealed.txt", "make nightlog/sealed.txt orla 0x1 0x0")
	require.Equal(t, []string{"done", "done", "done"}, made[:3])
	require.True(t, strings.HasPrefix(made[3], "owner wren"), made[3])
	require.Contains(t, made[4], "ACCESS_DENIED", "whoever leaves themselves out is out")
	require.NotEqual(t, "done", made[5], "what is there is not made")
	shown := desktop(t, g, "bettany", "acl nightlog/sealed.txt", "acl nightlog/sealed")
	require.Equal(t, strings.Split(`owner wren
group staff
inherits nothing
allow bettany 0x1200a9 0x00
allow OWNER RIGHTS 0x000000 0x10`, "\n"), strings.Split(shown[0], "\n"))
	require.Contains(t, shown[1], "allow bettany 0x1200a9 0x03")
	require.Equal(t, before+3, g.Changes(t))
	// The audit knows it as the wire does.
	who := string(ask(t, g, g.Token(t, "keeper"), "GET", "/api/v1/who?path=nightlog/sealed.txt", "").body)
	require.Regexp(t, `"user":"bettany"[^}]*"smb":"read"`, who)
	require.Regexp(t, `"user":"piran"[^}]*"smb":"pass, and may delete"`, who, "he sees that it is there")

	before = g.Changes(t)
	refused := desktop(t, g, "wren", "make nightlog/a.txt S-1-5-32-544 0x1 0x0", "make nightlog/b.txt orla 0x1000000 0x0", "makeraw nightlog/c.txt 0100", "makeraw nightlog/d.txt 0100048000000000000000000000000000000000",
		"makeraw nightlog/e.txt 01000480000000000000000000000000ffffff7f", "make nightlog/f.txt wren 0x1f01ff 0x0 piran")
	for i, want := range []string{"NONE_MAPPED", "INVALID_SECURITY_DESCR", "INVALID_SECURITY_DESCR", "INVALID_SECURITY_DESCR", "INVALID_SECURITY_DESCR", ""} {
		require.Contains(t, refused[i], want, "%d: %s", i, refused[i])
	}
	for _, name := range []string{"a", "b", "c", "d", "e"} {
		require.NoFileExists(t, filepath.Join(night, name+".txt"))
	}
	// Who may put files in, and not say who may do what with them, makes none that way.
	require.Contains(t, desktop(t, g, "piran", "make nightlog/mine.txt piran 0x1f01ff 0x0")[0], "ACCESS_DENIED")
	require.NoFileExists(t, filepath.Join(night, "mine.txt"))
	require.Equal(t, "done", desktop(t, g, "piran", "makeraw nightlog/mine.txt 0100008000000000000000000000000000000000")[0], "a descriptor that says nothing is none")
	require.LessOrEqual(t, g.Changes(t), before+1)
}

// What a desktop computes from what it is shown is what the audit says, for everyone, wherever nothing but entries is in the way.
func TestEffectiveAccessIsTheAudits(t *testing.T) {
	g := gateway.Start(t)
	p := g.Service.Policy()
	sids := g.Service.SIDs()
	paths := []string{"nightlog", "nightlog/README.txt", "nightlog/2026", "nightlog/2026/03", "plates", "plates/2026", "instruments", "visitors"}
	var lines []string
	for _, path := range paths {
		lines = append(lines, "hex "+path)
	}
	compared := 0
	got := desktop(t, g, "wren", lines...)
	for i, path := range paths {
		if strings.HasPrefix(got[i], "refused") {
			continue
		}
		raw, err := hex.DecodeString(got[i])
		require.NoError(t, err, got[i])
		var d descriptor.Descriptor
		require.NoError(t, d.Parse(raw))
		share, at, _ := strings.Cut(path, "/")
		sh := p.ShareNamed(share)
		facts := files.FactsOf(p, sh.Folder)
		_, file := facts.Kind(at)
		for _, u := range p.Directory.Users() {
			token := []descriptor.SID{sids.SID(identity.UserPrincipal(u.ID)), descriptor.Everyone}
			for _, group := range p.Directory.MemberOf(u.ID) {
				token = append(token, sids.SID(identity.GroupPrincipal(group.ID)))
			}
			v, gates := access.Explain(p, access.Request{User: u.ID, Via: site.SMB, Share: sh, Folder: sh.Folder, Path: at, File: file, Facts: facts, Now: time.Now()})
			others := acl.All
			if at == "" {
				others &^= acl.Delete // what a share begins with is nobody's to delete, whatever a list says
			}
			for _, gate := range gates {
				if gate.Gate != access.Entry {
					others &= gate.Leaves
				}
			}
			require.Equal(t, v.Granted, d.Check(token, acl.All)&others, "%s on %s", u.Name, path)
			compared++
		}
	}
	require.Greater(t, compared, 40)
}

// Administrators look after the service with the tools of their desktop; others are told nothing by them.
func TestLookedAfterFromADesktop(t *testing.T) {
	g := gateway.Start(t)
	smbOn(t, g, "keeper")
	m := g.Mount(t, g.Dial(t, "wren", 0x0311), "nightlog")
	f, err := m.Open("README.txt")
	require.NoError(t, err)
	defer f.Close()

	got := desktop(t, g, "keeper", "users", "groups", "memberships piran", "shares", "share plates", "sessions", "files", "sids wren observers larkfell\\\\wren Everyone", "names S-1-5-32-544 S-1-3-4")
	require.Contains(t, got[0], "wren\n")
	require.Contains(t, got[1], "observers\n")
	require.Equal(t, "called Piran Keast", strings.Split(got[2], "\n")[0])
	require.Contains(t, got[2], "observers")
	require.Contains(t, got[2], "staff", "of groups' groups too")
	require.Contains(t, got[3], "nightlog 0 nightlog 1")
	require.Equal(t, "allow Everyone 0x1f01ff", got[4])
	require.Contains(t, got[5], `\\127.0.0.1 wren 1`)
	var id string
	for line := range strings.Lines(got[6]) {
		if strings.Contains(line, `nightlog\README.txt wren`) {
			id, _, _ = strings.Cut(line, " ")
		}
	}
	require.NotEmpty(t, id, got[6])
	ids := strings.Fields(got[7])
	require.Len(t, ids, 4)
	require.Equal(t, ids[0], ids[2])
	require.Equal(t, "S-1-1-0", ids[3])
	require.Equal(t, "S-1-5-32-544\nOWNER RIGHTS", got[8])

	nobody := desktop(t, g, "piran", "users", "groups", "shares", "share plates", "sessions", "files", "close "+id, `end \\\\127.0.0.1 wren`, "sids wren", "memberships wren")
	for i := range 8 {
		require.Contains(t, nobody[i], "refused", "%d: %s", i, nobody[i])
	}
	require.Equal(t, ids[0], nobody[8], "names are everybody's who is signed in")
	buf := make([]byte, 4)
	_, err = f.ReadAt(buf, 0)
	require.NoError(t, err, "nothing was closed by who may not")

	require.Equal(t, "done", desktop(t, g, "keeper", "close "+id)[0])
	_, err = f.ReadAt(buf, 0)
	require.Error(t, err)
	require.Contains(t, desktop(t, g, "keeper", "close "+id)[0], "refused", "it is closed already")
	require.Contains(t, desktop(t, g, "keeper", `end \\\\192.0.2.99 wren`)[0], "refused", "from where nobody is")
	require.Equal(t, "done", desktop(t, g, "keeper", `end \\\\127.0.0.1 wren`)[0])
	_, err = m.ReadFile("README.txt")
	require.Error(t, err)
	// Two who end each other's sessions, and so the pipes by which they do, do not wait for one another for ever.
	for range 3 {
		var both sync.WaitGroup
		for range 2 {
			both.Go(func() { desktopEnds(t, g) })
		}
		both.Wait()
	}
	rows := string(ask(t, g, g.Token(t, "keeper"), "GET", "/api/v1/journal?limit=20", "").body)
	require.Contains(t, rows, "close open")
	require.Contains(t, rows, "end session")
}

// SIDs are the same after a rename, and after a start with the same key.
func TestSIDsStay(t *testing.T) {
	g := gateway.Start(t)
	wren := desktop(t, g, "piran", "sids wren")[0]
	_, err := g.Service.UpdateUser(context.Background(), gateway.Keeper, "wren", service.UserChange{Name: new("wren2")})
	require.NoError(t, err)
	require.Equal(t, wren, desktop(t, g, "piran", "sids wren2")[0])
	require.Equal(t, `larkfell\wren2`, desktop(t, g, "piran", "names "+wren)[0])
}

// Named streams by a client from other hands: made, listed, renamed, copied within the server and carried along, under the rules of their file.
func TestADesktopKeepsStreams(t *testing.T) {
	g := gateway.Start(t)
	lines := [][2]string{
		{"put nightlog/README.txt:Origin:$DATA north", "done"},
		{"put nightlog/new.txt:comment first", "done"},
		{"get nightlog/new.txt", ""},
		{"get nightlog/new.txt:COMMENT", "first"},
		{"streams nightlog/new.txt", "::$DATA 0\n:comment:$DATA 5"},
		{"put nightlog/2026:colour amber", "done"},
		{"streams nightlog/2026", ":colour:$DATA 5"},
		{"rename nightlog/new.txt:comment :remark", "done"},
		{"rename nightlog/new.txt:remark elsewhere.txt", "INVALID_PARAMETER"},
		{"rename nightlog/new.txt :whole", "INVALID_PARAMETER"},
		{"rename nightlog/new.txt 2026/moved.txt", "done"},
		{"get nightlog/2026/moved.txt:remark", "first"},
		{"copy nightlog/2026/moved.txt:remark nightlog/README.txt:copied 5", "5"},
		{"copy nightlog/README.txt:copied nightlog/whole.txt 5", "5"},
		{"get nightlog/whole.txt", "first"},
		{"streams nightlog/README.txt", ":Origin:$DATA 5\n:copied:$DATA 5"},
		{"remove nightlog/README.txt:origin", "done"},
		{"get nightlog/README.txt:Origin", "OBJECT_NAME_NOT_FOUND"},
		{"get nightlog/README.txt:", "OBJECT_NAME_INVALID"},
		{"get nightlog/README.txt:a:b:$DATA", "OBJECT_NAME_INVALID"},
	}
	asked := make([]string, len(lines))
	for i, l := range lines {
		asked[i] = l[0]
	}
	for i, got := range desktop(t, g, "piran", asked...) {
		require.Contains(t, got, lines[i][1], lines[i][0])
	}
	for i, got := range desktop(t, g, "wren", "get nightlog/README.txt:copied", "put nightlog/README.txt:copied x", "put nightlog/README.txt:mine x", "remove nightlog/README.txt:copied") {
		require.Contains(t, got, []string{"first", "ACCESS_DENIED", "ACCESS_DENIED", "ACCESS_DENIED"}[i])
	}
}

// Symbolic links on a share that tells of them, by a client from other hands: made, read, and met on the way.
func TestADesktopMakesLinks(t *testing.T) {
	g := gateway.Start(t)
	ctx := context.Background()
	_, err := g.Service.CreateShare(ctx, gateway.Keeper, service.ShareInput{Folder: "nightlog", Name: "linked", ShowLinks: true})
	require.NoError(t, err)
	lines := [][2]string{
		{"link linked/here README.txt", "done"},
		{"target linked/here", "README.txt 1"},
		{"get linked/here", "STOPPED_ON_SYMLINK"},
		{"get nightlog/here", "Larkfell night log."},
		{"link linked/nights 2026/03 dir", "done"},
		{"target linked/nights", `2026\03 1`},
		{"get linked/nights/2026-03-01.txt", "STOPPED_ON_SYMLINK"},
		{"link linked/up ../../etc/passwd", "done"},
		{"target linked/up", `..\..\etc\passwd 1`},
		{"get nightlog/up", "OBJECT_"},
		{"link linked/here elsewhere", "OBJECT_NAME_COLLISION"},
		{"link linked/far 'C:/x' absolute", "IO_REPARSE_DATA_INVALID"},
		{"link linked/far2 'a:b'", "IO_REPARSE_DATA_INVALID"},
		{"link nightlog/far3 x", "NOT_SUPPORTED"},
		{"target linked/README.txt", "NOT_A_REPARSE_POINT"},
		{"unlink linked/nights", "done"},
		{"get linked/2026/03/2026-03-01.txt", "Observer"},
		{"target linked/nights", "OBJECT_NAME_NOT_FOUND"},
	}
	asked := make([]string, len(lines))
	for i, l := range lines {
		asked[i] = l[0]
	}
	for i, got := range desktop(t, g, "piran", asked...) {
		require.Contains(t, got, lines[i][1], lines[i][0])
	}
	require.Contains(t, desktop(t, g, "wren", "link linked/mine README.txt")[0], "ACCESS_DENIED")
	require.Contains(t, desktop(t, g, "wren", "unlink linked/here")[0], "ACCESS_DENIED")
}
