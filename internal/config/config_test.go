package config

import (
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func load(t *testing.T, file string, environment map[string]string, given map[string][]string) (*Config, error) {
	t.Helper()
	from := Sources{Given: given, State: "/var/lib/amber", Variable: func(name string) (string, bool) { v, ok := environment[name]; return v, ok }}
	if file != "" {
		from.File = filepath.Join(t.TempDir(), "amber.yaml")
		require.NoError(t, os.WriteFile(from.File, []byte(file), 0o600))
	}
	return Load(from)
}

// What is wrong in a file is told with its line, whatever is wrong, and never in a library's words.
func TestTheLineAtFault(t *testing.T) {
	for _, c := range []struct{ file, line, says string }{
		{"smb: :445\nsmbb: :446\n", "line 2", `there is no setting "smbb"; there is smb`},
		{"# a\n\nlease: soon\n", "line 3", `"soon" is no length of time`},
		{"lease: 1s\n", "line 1", "not between 5s and 1h"},
		{"console: 127.0.0.1\n", "line 1", "no address with a port"},
		{"console: 127.0.0.1:99999\n", "line 1", "no port"},
		{"smb: [':445', ':446']\n", "line 1", "it takes one text"},
		{"console-name:\n  a: b\n", "line 1", "a text, or a list of texts"},
		{"trusted-proxy:\n- 192.0.2.7\n- somewhere\n", "line 1", "neither an address nor a network"},
		{"smb: :445\nnfs: :2049\nsmb: :446\n", "line 3", ""},
		{"log-level: loud\n", "line 1", "none of debug, info, warn, error"},
		{"refuse-unrecorded: perhaps\n", "line 1", "neither on nor off"},
		{"backup-keep: 0\n", "line 1", "no number from 1"},
		{"backup-to: /srv/copies\nbackup-recipient: age1moon\n", "line 2", "no public key of age"},
		{"backup-recipient: age13qv2n6stu62972qmsxfla96m7qq55tuvs8ds2dc8r4rpped9y5wsk6jn6q\n", "line 1", "backup-to says where to"},
		{"tls-certificate: c.pem\n", "", "given together"},
		{"- smb\n", "line 1", "settings are lines"},
		{"smb: [\n", "line", "no YAML"},
		{strings.Repeat("# moon\n", 200_000), "", "longer than 1 MiB"},
	} {
		_, err := load(t, c.file, nil, nil)
		var wrong *Fault
		require.ErrorAs(t, err, &wrong, "%.60q", c.file)
		require.Contains(t, err.Error(), c.line, "%.60q", c.file)
		require.Contains(t, err.Error(), c.says, "%.60q", c.file)
		require.NotContains(t, err.Error(), "yaml: line", "%.60q", c.file)
	}
	_, err := load(t, "", map[string]string{"AMBER_KEEP": "1m"}, nil)
	require.ErrorContains(t, err, "AMBER_KEEP: 1m is less than 1h")
	_, err = load(t, "", nil, map[string][]string{"keep": {"1m"}})
	require.ErrorContains(t, err, "--keep: 1m is less than 1h")
	_, err = Load(Sources{File: "/nowhere/amber.yaml"})
	require.ErrorContains(t, err, "/nowhere/amber.yaml: it cannot be read: there is none")
	_, err = Load(Sources{File: "/nowhere/amber.yaml", Optional: true})
	require.NoError(t, err)
}

// What is typed goes before the environment, that before the file, that before the default; and each says where it is from.
func TestWhatGoesBefore(t *testing.T) {
	settings := Settings("/s")
	example := map[string]string{"state": "/x", "console": ":1", "smb": ":1", "nfs": ":1", "portmap": ":1", "metrics": ":1", "smb-over-quic": ":1", "console-name": "n", "trusted-proxy": "192.0.2.7",
		"volume-root": "/v", "lease": "30s", "recount": "1h", "keep": "2d", "refuse-unrecorded": "true", "journal-hashes": "/h", "log-level": "warn", "log-format": "json",
		"log-to": "journald", "backup-to": "/b", "backup-every": "2h", "backup-keep": "3", "announce": "eth0"}
	rapid.Check(t, func(r *rapid.T) {
		file, environment, given, want := "", make(map[string]string), make(map[string][]string), make(map[string]string)
		for _, s := range settings {
			v := example[s.Name]
			if v == "" {
				continue
			}
			want[s.Name] = "default"
			if rapid.Bool().Draw(r, "in the file") {
				file += s.Name + ": '" + v + "'\n"
				want[s.Name] = "file"
			}
			if rapid.Bool().Draw(r, "in the environment") {
				environment[s.Variable()] = v
				want[s.Name] = "environment"
			}
			if rapid.Bool().Draw(r, "typed") {
				given[s.Name] = []string{v}
				want[s.Name] = "flag"
			}
		}
		c, err := load(t, file, environment, given)
		require.NoError(t, err)
		for _, v := range c.Values() {
			if example[v.Name] != "" {
				require.Equal(t, want[v.Name], v.From.Kind, v.Name)
			}
			if v.From.Kind == "file" {
				require.Regexp(t, `amber\.yaml line \d+$`, v.From.String())
			}
		}
	})
}

func TestValuesOfAllKinds(t *testing.T) {
	c, err := load(t, "lease: 90s\nkeep: 52w\nrefuse-unrecorded: on\nconsole-name: [a.larkfell.example, b.larkfell.example]\nvolume-root: disks\nbackup-every: 36h\nbackup-keep: 3\nbackup-to: /srv/copies\nportmap:\n", nil, nil)
	require.NoError(t, err)
	require.Equal(t, 90*time.Second, c.Lease)
	require.Equal(t, 364*24*time.Hour, c.Keep)
	require.True(t, c.RefuseUnrecorded)
	require.Equal(t, []string{"a.larkfell.example", "b.larkfell.example"}, c.ConsoleNames)
	require.Len(t, c.VolumeRoots, 1)
	require.True(t, filepath.IsAbs(c.VolumeRoots[0]), "relative to the file")
	require.Equal(t, 36*time.Hour, c.BackupEvery)
	require.Equal(t, 3, c.BackupKeep)
	require.Empty(t, c.Portmap)
	c, err = load(t, "", map[string]string{"AMBER_TRUSTED_PROXY": "192.0.2.7, 198.51.100.0/24"}, nil)
	require.NoError(t, err)
	require.Equal(t, "[192.0.2.7/32 198.51.100.0/24]", fmt.Sprint(c.TrustedProxies))
}

// Only what can be taken up while the service runs is, and where it was said goes with it.
func TestWhatIsTakenUp(t *testing.T) {
	was, err := load(t, "log-level: info\nsmb: :445\n", nil, nil)
	require.NoError(t, err)
	is, err := load(t, "smb: :446\nlog-level: debug\n", nil, nil)
	require.NoError(t, err)
	now := was.With(is)
	require.Equal(t, "debug", now.LogLevel)
	require.Equal(t, ":445", now.SMB)
	for _, v := range now.Values() {
		switch v.Name {
		case "log-level":
			require.Equal(t, "debug", v.Value)
			require.Contains(t, v.From.String(), "line 2")
		case "smb":
			require.Equal(t, ":445", v.Value)
		}
	}
}

// Whatever a file holds, reading it comes to an end with settings or with a fault of ours.
func FuzzFile(f *testing.F) {
	f.Add("smb: :445\nconsole-name: [a, b]\n")
	f.Add("a: &a [*a]\n")
	f.Add("--- |\n x\n...\n--- {}\n")
	f.Add("smb: !!binary aGk=\n? [a]\n: b\n")
	dir := f.TempDir()
	f.Fuzz(func(t *testing.T, text string) {
		name := filepath.Join(dir, "amber.yaml")
		require.NoError(t, os.WriteFile(name, []byte(text), 0o600))
		_, err := Load(Sources{File: name, State: "/s"})
		var wrong *Fault
		if err != nil && !errors.As(err, &wrong) {
			t.Fatalf("%q: %v", text, err)
		}
	})
}
