package test

import (
	"flag"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/test/need"
)

var update = flag.Bool("update", false, "write what the commands print into the docs")

// unsteady is what differs from one run to the next.
var unsteady = regexp.MustCompile(`(?m:^20\d\d-\d\d-\d\d \d\d:\d\d(:\d\d)?)|from \d+ \w+ 20\d\d, \d\d:\d\d UTC|whsec_\S+|from 20\d\d-\d\d-\d\d \d\d:\d\d\s+UTC|20\d\d-\d\d-\d\dT[\d:.]+(Z|[+-]\d\d:\d\d)|20\d\d-\d\d-\d\d \d\d:\d\d:\d\d|until 20\d\d-\d\d-\d\d( \d\d:\d\d UTC)?|until \d+ \w+ \d\d:\d\d|signed in .*|closed \d+ \w+ 20\d\d|127\.0\.0\.1 \(localhost[^)]*\)|127\.0\.0\.1:\d+|\S*/volumes/summit|(since|left on) \d+ \w+ 20\d\d|\d+ \w{3} \d\d:\d\d *|amber-\d+\.\S+|(SMB|NFS) [\d.]+ +\d\d:\d\d +\d+ s *|\d\d:\d\d$|(?m: \d\d:\d\d$)`)

// cells is what commands print, without what differs from one run to the next, and without the spaces by which columns are aligned and lines
// wrapped: those differ with the width of a date.
func cells(printed string) string {
	return strings.Join(strings.Fields(unsteady.ReplaceAllString(strings.TrimRight(printed, "\n"), " … ")), " ")
}

// What was printed on one day is what is printed on another, whatever the width of its dates: on the 1st and the 9th, with one digit; on the 10th
// and the 31st; on a leap day; in the months in which clocks change.
func TestDocsHoldOnEveryDay(t *testing.T) {
	printed := func(day time.Time) string {
		var b strings.Builder
		short, long := day.Format("2 Jan 15:04"), "until "+day.Format("2 Jan 15:04")
		width := max(len(short), len("since"))
		fmt.Fprintf(&b, "%-*s  %-8s  %s\n%-*s  %-8s  %s\n", width, "since", "user", "state", width, short, "keeper", long)
		fmt.Fprintf(&b, "piran has 2.3 MB: nothing can grow from %s UTC on, or until %s\n", day.Format("2006-01-02 15:04"), day.Format("2006-01-02"))
		fmt.Fprintf(&b, "%s  keeper\n", day.Format("2006-01-02 15:04:05"))
		return b.String()
	}
	want := cells(printed(time.Date(2026, 11, 29, 21, 5, 0, 0, time.UTC)))
	for _, day := range []string{"2026-12-01", "2026-12-09", "2026-12-10", "2026-12-31", "2028-02-29", "2027-03-28", "2027-10-31"} {
		at, err := time.Parse(time.DateOnly, day)
		require.NoError(t, err)
		for _, hour := range []int{0, 2, 23} {
			require.Equal(t, want, cells(printed(at.Add(time.Duration(hour)*time.Hour))), day)
		}
	}
	require.NotEqual(t, want, cells(strings.Replace(printed(time.Date(2026, 11, 29, 21, 5, 0, 0, time.UTC)), "piran", "isolde", 1)), "what differs otherwise is seen")
}

// Every console block of the tour is what the commands in it print, run in order
// on a fresh demo. A line after "$ " is a command, goes on after "> ", and what follows is
// its output.
func TestDocsPrintWhatTheySay(t *testing.T) {
	const python = "/usr/bin/python3"
	if err := exec.Command(python, "-c", "import impacket").Run(); err != nil {
		need.Missing(t, "python3-impacket is not installed: make test installs it")
	}
	bin := binary(t)
	for _, name := range []string{"tour.md", "people.md", "roles.md", "signing-in.md", "permissions.md", "exports.md", "shares.md", "operating.md", "audit.md", "limits.md", "notices.md", "changes.md", "console.md", "live.md", "years.md", "desktops.md"} {
		t.Run(name, func(t *testing.T) {
			p := serve(t, bin, filepath.Join(t.TempDir(), "state"), "--demo")
			root, err := filepath.Abs("..")
			require.NoError(t, err)
			dir := t.TempDir() // stands for the repository, with the program built
			require.NoError(t, os.Symlink(filepath.Dir(bin), filepath.Join(dir, "bin")))
			for _, of := range []string{"test", "demo"} {
				require.NoError(t, os.Symlink(filepath.Join(root, of), filepath.Join(dir, of)))
			}
			_, smbPort, _ := strings.Cut(p.smb, ":")
			_, nfsPort, _ := strings.Cut(p.nfs, ":")
			here, there := strings.NewReplacer("4450", smbPort, "20490", nfsPort), strings.NewReplacer(smbPort, "4450", nfsPort, "20490")
			env := []string{"HOME=" + t.TempDir(), "PATH=/usr/bin:/bin", "AMBER_URL=" + p.url}
			doc := filepath.Join(root, "docs", name)
			raw, err := os.ReadFile(doc)
			require.NoError(t, err)
			var out []string
			lines := strings.Split(string(raw), "\n")
			ran := 0
			for i := 0; i < len(lines); i++ {
				out = append(out, lines[i])
				if lines[i] != "```console" {
					continue
				}
				for i++; lines[i] != "```"; {
					command, ok := strings.CutPrefix(lines[i], "$ ")
					require.True(t, ok, "%s:%d: output without a command", name, i+1)
					out = append(out, lines[i])
					for i++; strings.HasPrefix(lines[i], "> "); i++ {
						command += "\n" + lines[i][2:]
						out = append(out, lines[i])
					}
					var want []string
					for ; lines[i] != "```" && !strings.HasPrefix(lines[i], "$ "); i++ {
						want = append(want, lines[i])
					}
					cmd := exec.Command("/bin/sh", "-c", here.Replace(command))
					cmd.Dir, cmd.Env = dir, env
					said, _ := cmd.CombinedOutput() // commands that are refused are part of the story
					got := there.Replace(strings.TrimRight(string(said), "\n"))
					if *update {
						got = strings.ReplaceAll(strings.ReplaceAll(got, p.url, "http://127.0.0.1:8460"), p.state, "state/demo")
						out = append(out, strings.Split(got, "\n")...)
					} else {
						require.Equal(t, cells(strings.Join(want, "\n")), cells(got), "%s: %s", name, command)
					}
					ran++
				}
				out = append(out, lines[i])
			}
			require.Positive(t, ran)
			if *update {
				require.NoError(t, os.WriteFile(doc, []byte(strings.Join(out, "\n")), 0o644))
			}
		})
	}
}
