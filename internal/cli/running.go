package cli

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"path/filepath"
	"runtime"
	"strings"

	"github.com/urfave/cli/v3"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/config"
	"amber.example/gatekeeper/internal/store"
)

// runningCommands are about the process that serves.
func (a *app) runningCommands() []*cli.Command {
	return []*cli.Command{
		group("config", "what the process of the service was told",
			a.leaf("show", "say what each setting is, and where it was said", "", nil, func(ctx context.Context, cmd *cli.Command, _ []string) error {
				var out api.Settings
				if err := a.client.call(ctx, http.MethodGet, "settings", nil, nil, &out); err != nil {
					return err
				}
				return show(a, cmd, out, printSettings)
			}),
			a.leaf("reread", "have the file of settings and the certificate read again, as SIGHUP does", "", nil, func(ctx context.Context, cmd *cli.Command, _ []string) error {
				var out api.Reread
				if err := a.client.call(ctx, http.MethodPost, "settings/reread", nil, nil, &out); err != nil {
					return err
				}
				return show(a, cmd, out, func(w io.Writer, out api.Reread) {
					fmt.Fprintln(w, "the settings have been read again")
					if len(out.Waiting) > 0 {
						fmt.Fprintln(w, "after the next start, since they say something else now:", strings.Join(out.Waiting, ", "))
					}
				})
			}),
			a.leaf("log-level", "say from what on is logged, until the settings are read again: debug, info, warn or error", "LEVEL", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
				var out api.LogLevel
				if err := a.client.call(ctx, http.MethodPut, "log-level", nil, api.LogLevel{Level: args[0]}, &out); err != nil {
					return err
				}
				return show(a, cmd, out, func(w io.Writer, out api.LogLevel) { fmt.Fprintln(w, "logged from", out.Level, "on") })
			}),
		),
		group("certificate", "the certificate of the console and the API",
			a.leaf("show", "say how the certificate stands", "", nil, func(ctx context.Context, cmd *cli.Command, _ []string) error {
				var out api.Certificate
				if err := a.client.call(ctx, http.MethodGet, "certificate", nil, nil, &out); err != nil {
					return err
				}
				return show(a, cmd, out, printCertificate)
			}),
			a.leaf("trust", "take the certificate that a service shows for its own from now on, by its fingerprint; without one it is shown and asked about", "[FINGERPRINT]", nil, func(ctx context.Context, cmd *cli.Command, args []string) error {
				return a.trust(ctx, args)
			}),
			a.leaf("forget", "take it for its own no more", "", nil, func(context.Context, *cli.Command, []string) error {
				if err := storePin(a.client.base.String(), ""); err != nil {
					return err
				}
				fmt.Fprintln(a.out, "the certificate of", a.client.base, "is known no more")
				return nil
			}),
		),
		a.doctorCommand(), a.backupCommand(), a.restoreCommand(),
		a.versionCommand(),
	}
}

// settingsOf lists settings as the API does.
func settingsOf(cfg *config.Config) api.Settings { return api.SettingsOf(cfg.Values()) }

func printSettings(w io.Writer, s api.Settings) {
	t, file := newTable("setting", "is", "said by"), ""
	for _, one := range s.Settings {
		where := one.Where
		if path, line, ok := strings.Cut(where, " line "); ok && one.From == "file" {
			file, where = path, filepath.Base(path)+" line "+line
		}
		t.row(one.Name, one.Value, where)
	}
	t.print(w)
	if file != "" {
		fmt.Fprintln(w, "the file is", file)
	}
}

func printCertificate(w io.Writer, c api.Certificate) {
	by := "an authority"
	if c.Own {
		by = "the service itself"
	}
	t := newTable("", "")
	t.row("subject", c.Subject)
	t.row("signed by", by)
	t.row("for", strings.Join(c.Names, ", "))
	t.row("from", shortMoment(c.From))
	t.row("until", shortMoment(c.Until))
	first, second := halves(c.Fingerprint)
	t.row("fingerprint", first)
	t.row("(SHA-256)", second)
	if c.Clients {
		t.row("clients", "tokens are taken only with a certificate of the client's, except on this machine")
	}
	if c.Trouble != "" {
		t.row("mind", c.Trouble+"; the one before is in force")
	}
	t.print(w)
}

// halves parts a fingerprint into two lines.
func halves(fingerprint string) (first, second string) {
	const half = 48
	if len(fingerprint) < half {
		return fingerprint, ""
	}
	return fingerprint[:half-1], fingerprint[half:]
}

// Commit and Date say what the program was built from; the build sets them.
var (
	Commit = "unknown"
	Date   = "unknown"
)

// Build is what a program was built from.
type Build struct {
	Version string `json:"version"`
	Commit  string `json:"commit"`
	Date    string `json:"date"`
	Schema  int64  `json:"schema"`
	Go      string `json:"go"`
	For     string `json:"for"`
}

func (a *app) versionCommand() *cli.Command {
	return a.leaf("version", "say what this program was built from, and which schema its records have", "", nil, func(_ context.Context, cmd *cli.Command, _ []string) error {
		out := Build{Version: a.version, Commit: Commit, Date: Date, Schema: store.Schema(), Go: runtime.Version(), For: runtime.GOOS + "/" + runtime.GOARCH}
		return show(a, cmd, out, func(w io.Writer, b Build) {
			t := newTable("", "")
			t.row("amber", b.Version)
			t.row("commit", b.Commit)
			t.row("date", b.Date)
			t.row("schema", fmt.Sprint(b.Schema))
			t.row("built with", b.Go+", for "+b.For)
			t.print(w)
		})
	})
}
