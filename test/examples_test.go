package test

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
)

// untried are examples that cannot be tried on the demo: what they need is not there.
var untried = []string{
	"amber serve", "amber sign-in", "amber sign-out", "amber first-administrator", // another service than the one that runs
	"amber user password", "amber password", "amber codes", // a terminal
	"amber sign-ins end", "amber token", "amber folder make-own", // what is shown once, and what that leaves
	"amber volume add",                                                                                  // a directory of the host outside the state
	"amber ids hand-over", "amber holding remove", "amber try", "amber session end", "amber open close", // what is not tried out beforehand
	"amber certificate trust", "amber certificate forget", "amber backup", "amber restore", // an address of another, and files that it makes: docs/operating.md has them
	"amber config reread --url", // another service
	"amber doctor",              // how it ends says how the machine stands: docs/years.md goes a way in
	"amber status",              // how it ends says how the demo stands: docs/live.md has it
	"amber notice test",         // a mail server and a webhook: what is only tried sends nothing
}

// Every command has two examples in its help, or more, and they can be pasted: each is tried on the demo, changes as previews. No
// line of any help is wider than the rest of what is printed.
func TestEveryExampleOfTheHelp(t *testing.T) {
	bin := binary(t)
	state := filepath.Join(t.TempDir(), "state")
	p := serve(t, bin, state, "--demo")
	a := amber{t, bin, p.url, t.TempDir()}
	_, errOut, code := a.try("keeper-at-larkfell", "sign-in", "keeper")
	require.Zero(t, code, errOut)

	// What some of them name besides the demo.
	for _, line := range []string{
		"share entry add plates allow staff read", // entry 24
		"hosts add spare-hosts", "review add spring --folder plates --reviewer keeper", "review mark spring all keep",
		"review add winter --folder nightlog --reviewer keeper", "review mark winter all keep", "review apply winter", "group add spring-run", "owner set visitors --group visitors --below", // job 1
		"user add ebba --only-owns", "user leave ebba --hold nightlog --until 2031-12-31",
		"notice hook add ops http://127.0.0.1:9/hooks/amber", "finding accept 61717bc8 --until 2031-05-01 --reason known",
	} {
		a.run(strings.Fields(line)...)
	}
	a.try("lunt-at-larkfell", "user", "add", "lunt", "--yes")
	archive := filepath.Join(t.TempDir(), "archive")
	require.NoError(t, os.Mkdir(archive, 0o755))
	a.run("volume", "add", "archive", archive)
	dir := t.TempDir()
	shell := func(line string) string {
		cmd := exec.Command("bash", "-c", line+" --yes")
		cmd.Dir = dir
		cmd.Env = []string{"HOME=" + a.home, "AMBER_URL=" + a.url, "PATH=" + filepath.Dir(bin) + ":" + os.Getenv("PATH")}
		out, err := cmd.CombinedOutput()
		if err != nil {
			t.Errorf("%s\n%s", line, out)
		}
		return string(out)
	}
	for name, text := range map[string]string{
		"people.csv": "name,full name,group,label\nlunt2,Lunt Harrow,visitors,cohort=spring\n", "passwd": "piran:x:2003:3001::/home/piran:/bin/sh\n", "group": "observers:x:3001:\n", "letter.txt": "Subject: room\n\n{notices}\n",
		"entries.txt": shell("amber entry export nightlog"), "entries.sddl": shell("amber entry export nightlog --format sddl"),
		"spring.csv": shell("amber review export spring"), "winter.json": shell("amber review export winter --record"),
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}

	commands := 0
	var walk func(path ...string)
	walk = func(path ...string) {
		out, errOut, code := a.try("", append(path, "--help")...)
		require.Zero(t, code, errOut)
		for line := range strings.Lines(out) {
			if !strings.HasPrefix(line, "  amber ") { // an example is one line
				require.LessOrEqual(t, utf8.RuneCountInString(strings.TrimRight(line, "\n")), 100, line)
			}
		}
		if _, below, ok := strings.Cut(out, "\ncommands\n"); ok {
			for line := range strings.Lines(below) {
				if line == "\n" {
					break
				}
				if strings.HasPrefix(line, "  ") && line[2] != ' ' {
					walk(append(path[:len(path):len(path)], strings.Fields(line)[0])...)
				}
			}
			return
		}
		commands++
		name := "amber " + strings.Join(path, " ")
		_, below, _ := strings.Cut(out, "\nexamples:\n")
		examples := 0
		for line := range strings.Lines(below) {
			line = strings.TrimSpace(line)
			if line == "" {
				break
			}
			examples++
			require.True(t, line == name || strings.HasPrefix(line, name+" "), line)
			try := true
			for _, u := range untried {
				try = try && !strings.HasPrefix(line, u)
			}
			if !try {
				continue
			}
			if !strings.Contains(line, "--json") && !strings.Contains(line, "--preview") {
				line += " --preview"
			}
			shell(line)
		}
		require.GreaterOrEqual(t, examples, 2, "%s has examples", name)
	}
	walk()
	require.Greater(t, commands, 100, fmt.Sprint(commands))
}

// What shells ask for to complete a line is there, and is commands and options of ours.
func TestCompletion(t *testing.T) {
	bin := binary(t)
	ask := func(args ...string) string {
		out, err := exec.Command(bin, args...).Output()
		require.NoError(t, err)
		return string(out)
	}
	const complete = "--generate-shell-completion"
	require.Contains(t, ask(complete), "volume:")
	require.Contains(t, ask("volume", complete), "show:")
	require.Contains(t, ask("volume", "set", "--", complete), "--counting:")
	for _, shell := range []string{"bash", "zsh", "fish"} {
		require.Contains(t, ask("completion", shell), "amber")
	}
}
