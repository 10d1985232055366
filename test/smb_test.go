package test

import (
	"bytes"
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/cloudsoda/go-smb2"
	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/demo"
	"amber.example/gatekeeper/internal/asking"
	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/test/gateway"
	"amber.example/gatekeeper/test/need"
)

var dialects = map[string]uint16{"2.1": 0x0210, "3.0.2": 0x0302, "3.1.1": 0x0311}

// requireStatus wants the server's NTSTATUS to be the one named.
func requireStatus(t testing.TB, err error, status uint32) {
	t.Helper()
	if status == accessDenied && errors.Is(err, os.ErrPermission) {
		return // the library's own word for it
	}
	var re *smb2.ResponseError
	require.ErrorAs(t, err, &re)
	require.Equal(t, fmt.Sprintf("%08x", status), fmt.Sprintf("%08x", re.Code))
}

const (
	accessDenied   = 0xc0000022
	nameInvalid    = 0xc0000033
	logonFailure   = 0xc000006d
	badNetworkName = 0xc00000cc
)

// What an observer does in a night, on every dialect.
func TestFilesOverSMB(t *testing.T) {
	g := gateway.Start(t)
	g.Unlimited(t)
	for name, dialect := range dialects {
		t.Run(name, func(t *testing.T) {
			m := g.Mount(t, g.Dial(t, "piran", dialect), "nightlog")
			text, err := m.ReadFile("2026/03/2026-03-01.txt")
			require.NoError(t, err)
			require.Contains(t, string(text), "Observer: piran")

			// Larger than one request, at odd offsets, flushed.
			data := make([]byte, 3<<20+17)
			rand.Read(data)
			f, err := m.Create("big.fits")
			require.NoError(t, err)
			_, err = f.Write(data)
			require.NoError(t, err)
			_, err = f.WriteAt([]byte("Larkfell"), 1<<20-3)
			require.NoError(t, err)
			copy(data[1<<20-3:], "Larkfell")
			require.NoError(t, f.Sync())
			require.NoError(t, f.Close())
			back, err := m.ReadFile("BIG.fits") // whatever the case
			require.NoError(t, err)
			require.True(t, bytes.Equal(data, back))

			f, err = m.OpenFile("big.fits", os.O_RDWR, 0)
			require.NoError(t, err)
			require.NoError(t, f.Truncate(1000))
			_, err = f.ReadAt(make([]byte, 10), 1000)
			require.ErrorIs(t, err, io.EOF)
			require.NoError(t, f.Close())
			when := time.Date(2026, 3, 1, 22, 10, 0, 0, time.UTC)
			require.NoError(t, m.Chtimes("big.fits", when, when))
			info, err := m.Stat("big.fits")
			require.NoError(t, err)
			require.EqualValues(t, 1000, info.Size())
			require.WithinDuration(t, when, info.ModTime(), 0)

			require.NoError(t, m.MkdirAll("reduced/Märzplatten/🔭", 0o755))
			require.NoError(t, m.Rename("big.fits", "reduced/Märzplatten/🔭/first.fits"))
			require.NoError(t, m.WriteFile("reduced/second.fits", []byte("x"), 0o644))
			require.NoError(t, m.WriteFile("reduced/third.fits", []byte("replaced"), 0o644))
			require.NoError(t, m.Rename("reduced/third.fits", "reduced/second.fits")) // the library asks to replace
			text, err = m.ReadFile("reduced/second.fits")
			require.NoError(t, err)
			require.Equal(t, "replaced", string(text))
			require.ErrorIs(t, m.Rename("reduced/second.fits", "2026"), os.ErrPermission)
			require.NoError(t, m.Rename("reduced/second.fits", "reduced/SECOND.fits")) // only the case
			list, err := m.ReadDir("reduced")
			require.NoError(t, err)
			require.Len(t, list, 2)
			require.Equal(t, "Märzplatten", list[0].Name())
			require.True(t, list[0].IsDir())
			require.Equal(t, "SECOND.fits", list[1].Name())
			err = m.Remove("reduced")
			require.Error(t, err, "a directory that is not empty")
			require.NoError(t, m.RemoveAll("reduced"))
			space, err := m.Statfs("")
			require.NoError(t, err)
			require.Positive(t, space.AvailableBlockCount())
			_, err = m.Stat("reduced")
			require.ErrorIs(t, err, os.ErrNotExist)
		})
	}
}

// The story of the slice: refused, asked why, one rule changed, in, on the same connection.
func TestRefusedThenAllowedWithoutReconnecting(t *testing.T) {
	g := gateway.Start(t)
	ctx := context.Background()
	orla := g.Dial(t, "orla", 0)
	_, err := orla.Mount("nightlog")
	requireStatus(t, err, accessDenied)

	why, err := g.Service.Why(t.Context(), asking.Question{User: "orla", Path: "nightlog"})
	require.NoError(t, err)
	require.False(t, why.Verdict.Allowed())
	_, err = g.Service.AddEntry(ctx, gateway.Keeper, "nightlog", service.EntryInput{Who: "orla", Level: "read"})
	require.NoError(t, err)
	m := g.Mount(t, orla, "nightlog")
	_, err = m.ReadFile("README.txt")
	require.NoError(t, err)
	requireStatus(t, m.WriteFile("mine.txt", []byte("x"), 0o644), accessDenied)

	// And the other way: what is open is felt too.
	f, err := m.Open("README.txt")
	require.NoError(t, err)
	_, err = f.ReadAt(make([]byte, 4), 0)
	require.NoError(t, err)
	disabled := true
	_, err = g.Service.UpdateUser(ctx, gateway.Keeper, "orla", service.UserChange{Disabled: &disabled})
	require.NoError(t, err)
	_, err = f.ReadAt(make([]byte, 4), 0)
	requireStatus(t, err, accessDenied)
	_, err = m.ReadFile("README.txt")
	requireStatus(t, err, accessDenied)
}

func TestEachSeesWhatTheRulesSay(t *testing.T) {
	g := gateway.Start(t)
	can := func(user, share, path string) (read, write bool) {
		m, err := g.Dial(t, user, 0).Mount(share)
		if err != nil {
			requireStatus(t, err, accessDenied)
			return false, false
		}
		_, err = m.ReadDir(path)
		read = err == nil
		probe := filepath.Join(path, "probe of "+user)
		write = m.WriteFile(probe, []byte("x"), 0o644) == nil
		return read, write
	}
	for _, c := range []struct {
		user, share, path string
		read, write       bool
	}{
		{"wren", "nightlog", "", true, false}, {"isolde", "nightlog", "2026", true, true}, {"orla", "nightlog", "", false, false},
		{"tomasz", "instruments", "", true, true}, {"piran", "instruments", "", true, false},
		{"tomasz", "instruments", "firmware", true, true}, {"piran", "instruments", "firmware", false, false},
		{"wren", "instruments", "firmware", false, false}, {"isolde", "instruments", "firmware/bench", false, false},
		{"bettany", "plates", "2026", true, true}, {"wren", "plates", "2026", true, false},
		{"orla", "visitors", "", false, true}, {"wren", "visitors", "", true, false},
		{"wren", "personal", "wren", true, true}, {"wren", "personal", "piran", false, false}, {"wren", "personal", "", true, false},
	} {
		read, write := can(c.user, c.share, c.path)
		require.Equal(t, c.read, read, "%s reads %s/%s", c.user, c.share, c.path)
		require.Equal(t, c.write, write, "%s writes %s/%s", c.user, c.share, c.path)
		for want, got := range map[string]bool{"read": read, "add": write} { // the audit says what the wire did
			a, err := g.Service.Why(t.Context(), asking.Question{User: c.user, Path: c.share + "/" + c.path, Want: want})
			require.NoError(t, err)
			require.Equal(t, got, a.Verdict.Allowed(), "%s %s %s/%s", c.user, want, c.share, c.path)
		}
	}
}

// Who may add, adds: fills the file while it is open, and never alters it after.
func TestAddChangesNothing(t *testing.T) {
	g := gateway.Start(t)
	g.Unlimited(t)
	m := g.Mount(t, g.Dial(t, "bettany", 0), "plates")
	require.NoError(t, m.WriteFile("2026/03/plate-0200.fits", bytes.Repeat([]byte("raw"), 1<<20), 0o644))
	requireStatus(t, m.WriteFile("2026/03/plate-0200.fits", []byte("forged"), 0o644), accessDenied)
	_, err := m.OpenFile("2026/03/plate-0200.fits", os.O_WRONLY, 0)
	requireStatus(t, err, accessDenied)
	require.Error(t, m.Remove("2026/03/plate-0200.fits"))
	require.Error(t, m.Rename("2026/03/plate-0200.fits", "2026/03/elsewhere.fits"))
	back, err := m.ReadFile("2026/03/plate-0200.fits")
	require.NoError(t, err)
	require.Len(t, back, 3<<20)
}

func TestListingsHideWhatCannotBeOpened(t *testing.T) {
	g := gateway.Start(t)
	names := func(user string) (out []string) {
		list, err := g.Mount(t, g.Dial(t, user, 0), "personal").ReadDir("")
		require.NoError(t, err)
		for _, e := range list {
			out = append(out, e.Name())
		}
		return out
	}
	require.Equal(t, []string{"wren"}, names("wren"))
	require.Equal(t, []string{"tomasz"}, names("tomasz"))
}

// Rules go with a directory that is renamed by a client, and hold throughout.
func TestRulesMoveWithTheirDirectory(t *testing.T) {
	g := gateway.Start(t)
	tomasz := g.Mount(t, g.Dial(t, "tomasz", 0), "instruments")
	require.NoError(t, tomasz.Rename("firmware", "microcode"))
	piran := g.Mount(t, g.Dial(t, "piran", 0), "instruments")
	_, err := piran.ReadDir("microcode")
	requireStatus(t, err, accessDenied)
	_, err = tomasz.ReadDir("microcode/bench")
	require.NoError(t, err)
	require.NoError(t, tomasz.Mkdir("firmware", 0o755))
	_, err = piran.ReadDir("firmware")
	require.NoError(t, err, "a new directory of the old name has no rules of its own")
	n, err := g.Service.VerifyJournal(context.Background())
	require.NoError(t, err)
	require.Positive(t, n)
}

// Nothing a client says or a directory holds leads out of the folder.
func TestNoWayOut(t *testing.T) {
	g := gateway.Start(t)
	folder := filepath.Join(g.State, "volumes", "summit", "nightlog")
	outside := filepath.Join(g.State, "volumes", "summit", "outside.txt")
	require.NoError(t, os.WriteFile(outside, []byte("secret"), 0o600))
	for link, target := range map[string]string{"abs": outside, "up": "../outside.txt", "updir": "..", "loop": "loop", "deep": "2026/../../outside.txt", "fine": "2026/03", "finefile": "README.txt"} {
		require.NoError(t, os.Symlink(target, filepath.Join(folder, link)))
	}
	m := g.Mount(t, g.Dial(t, "piran", 0), "nightlog")
	for _, path := range []string{"abs", "up", "updir", "updir/outside.txt", "loop", "deep"} {
		_, err := m.ReadFile(path)
		require.Error(t, err, path)
	}
	_, err := m.ReadFile("finefile")
	require.NoError(t, err)
	_, err = m.ReadFile("fine/2026-03-01.txt")
	require.NoError(t, err)
	list, err := m.ReadDir("")
	require.NoError(t, err)
	var names []string
	for _, e := range list {
		names = append(names, e.Name())
	}
	require.Equal(t, []string{"2026", "README.txt", "fine", "finefile"}, names)
	for _, name := range []string{"a:b:c", "a:", "a*", "a?", "a<b", "a|b", "a\x01b", "nul\x00l"} {
		err := m.WriteFile(name, []byte("x"), 0o644)
		require.Error(t, err, "%q", name)
		if !strings.ContainsAny(name, "*?") { // which the library keeps to itself
			requireStatus(t, err, nameInvalid)
		}
	}
}

// A link inside a folder does not lead around the rules of where it points.
func TestLinksObeyTheRulesOfTheirTarget(t *testing.T) {
	g := gateway.Start(t)
	folder := filepath.Join(g.State, "volumes", "summit", "instruments")
	require.NoError(t, os.Symlink("firmware", filepath.Join(folder, "shortcut")))
	_, err := g.Mount(t, g.Dial(t, "piran", 0), "instruments").ReadFile("shortcut/camera-3.2.hex")
	requireStatus(t, err, accessDenied)
	_, err = g.Mount(t, g.Dial(t, "tomasz", 0), "instruments").ReadFile("shortcut/camera-3.2.hex")
	require.NoError(t, err)
}

func TestSignInRefusals(t *testing.T) {
	g := gateway.Start(t)
	for user, password := range map[string]string{"wren": "wrong", "nobody": "x", "": ""} {
		_, err := g.TryDial(user, password, 0)
		requireStatus(t, err, logonFailure)
	}
	_, err := g.TryDial("corin", "corin"+demo.PasswordSuffix, 0)
	requireStatus(t, err, 0xc0000072) // disabled, said only to who knows the password
	_, err = g.TryDial("svc-dome", "svc-dome"+demo.PasswordSuffix, 0)
	requireStatus(t, err, 0xc000015b) // may not use SMB
	_, err = g.Dial(t, "wren", 0).Mount("no such share")
	requireStatus(t, err, badNetworkName)

	// Guessing is slowed, until not even the right password is looked at for a while.
	start := time.Now()
	for range 6 {
		_, err = g.TryDial("isolde", "wrong", 0)
		require.Error(t, err)
	}
	require.Greater(t, time.Since(start), time.Second)
	_, err = g.TryDial("isolde", "isolde"+demo.PasswordSuffix, 0)
	requireStatus(t, err, 0xc0000234)
}

func TestSharingModes(t *testing.T) {
	g := gateway.Start(t)
	a, b := g.Mount(t, g.Dial(t, "piran", 0), "nightlog"), g.Mount(t, g.Dial(t, "isolde", 0), "nightlog")
	f, err := a.Create("shared.txt")
	require.NoError(t, err)
	_, err = b.ReadFile("shared.txt") // the library opens to share everything but deletion
	require.NoError(t, err)
	require.Error(t, b.Remove("shared.txt"))
	require.NoError(t, f.Close())
	require.NoError(t, b.Remove("shared.txt"))
}

// Share listing and a working day by a client from other hands.
func TestImpacket(t *testing.T) {
	const python = "/usr/bin/python3"
	if err := exec.Command(python, "-c", "import impacket").Run(); err != nil {
		need.Missing(t, "python3-impacket is not installed: make test installs it")
	}
	g := gateway.Start(t)
	announced := false
	_, err := g.Service.UpdateShare(context.Background(), gateway.Keeper, "plates", service.ShareChange{Announced: &announced})
	require.NoError(t, err)
	_, err = g.Service.CreateShare(context.Background(), gateway.Keeper, service.ShareInput{Folder: "nightlog", Name: "Night logs$"})
	require.NoError(t, err)
	_, port, _ := strings.Cut(g.SMB, ":")
	run := func(dialect, user, script string) string {
		cmd := exec.Command(python, "clients/smbtry.py", port, user)
		cmd.Env = append(os.Environ(), "SMB_DIALECT="+dialect)
		cmd.Stdin = strings.NewReader(script)
		out, err := cmd.CombinedOutput()
		require.NoError(t, err, "%s", out)
		return string(out)
	}
	for _, dialect := range []string{"", "2.1", "3.0"} {
		t.Run("dialect "+dialect, func(t *testing.T) {
			require.Equal(t, []string{"nightlog - ", "instruments - ", "visitors - ", "personal - ", "IPC$ - Remote procedure calls"},
				strings.Split(strings.TrimSpace(run(dialect, "wren", "shares\n")), "\n")[2:])
			require.Equal(t, []string{"visitors - ", "IPC$ - Remote procedure calls"},
				strings.Split(strings.TrimSpace(run(dialect, "orla", "shares\n")), "\n")[2:])
			out := run(dialect, "piran", "cat nightlog/2026/03/2026-03-01.txt\nput smb_test.go nightlog/2026/x.go\nmkdir nightlog/d\nmove nightlog/2026/x.go d/y.go\nls nightlog/d\nrm nightlog/d/Y.GO\nrmdir nightlog/D\nls instruments/firmware\n")
			require.Contains(t, out, "Guide star lost twice")
			require.Contains(t, run(dialect, "piran", "cat 'NIGHT LOGS$/2026/03/2026-03-01.txt'\n"), "Guide star lost twice", "kept from lists, and reached by name")
			require.Contains(t, out, "y.go")
			require.Contains(t, out, "done: rm nightlog/d/Y.GO")
			require.Contains(t, out, "done: rmdir nightlog/D")
			require.Contains(t, out, "STATUS_ACCESS_DENIED")
			require.Equal(t, 1, strings.Count(out, "refused:"), out)
		})
	}
}
