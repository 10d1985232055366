package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/internal/backup"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/plain"
)

// passphraseVariable is the passphrase of backups for who is not asked.
const passphraseVariable = "AMBER_PASSPHRASE"

func (a *app) backupCommand() *cli.Command {
	return a.leaf("backup", "write the records, the key and what was seen at the wire into one file; without one, have the service write it to where it keeps its own", "[FILE]", []cli.Flag{
		&cli.BoolFlag{Name: "seal", Usage: "seal it with a passphrase, from a prompt or " + passphraseVariable},
		&cli.StringSliceFlag{Name: "recipient", Usage: "seal it for this public key of age (age1…); may be given several times"},
		&cli.BoolFlag{Name: "list", Usage: "list those that the service has written by itself"},
	}, func(ctx context.Context, cmd *cli.Command, args []string) error {
		switch {
		case cmd.Bool("list"):
			var out api.KeptBackups
			if err := a.client.call(ctx, http.MethodGet, "backups", nil, nil, &out); err != nil {
				return err
			}
			return show(a, cmd, out, printBackups)
		case len(args) == 0:
			var out api.KeptBackup
			if err := a.client.call(ctx, http.MethodPost, "backups", nil, nil, &out); err != nil {
				return err
			}
			return show(a, cmd, out, func(w io.Writer, b api.KeptBackup) {
				fmt.Fprintf(w, "written: %s, %s\n", b.Name, limit.FormatSize(b.Size))
			})
		}
		return a.backUp(ctx, cmd, args[0])
	})
}

func printBackups(w io.Writer, b api.KeptBackups) {
	if b.Where == "" {
		fmt.Fprintln(w, "none are written by themselves: backup-to in the settings says where to")
		return
	}
	fmt.Fprintln(w, "in", b.Where)
	if b.Problem != "" {
		fmt.Fprintln(w, "mind:", b.Problem)
	}
	t := newTable("name", "made", "size")
	for _, one := range b.Backups {
		t.row(one.Name, shortMoment(one.Made), limit.FormatSize(one.Size))
	}
	t.print(w)
}

// backUp has a backup made and writes it into a file, which is there whole or not at all.
func (a *app) backUp(ctx context.Context, cmd *cli.Command, name string) error {
	in := api.BackupInput{Recipients: cmd.StringSlice("recipient")}
	if cmd.Bool("seal") {
		text, err := a.passphrase(true)
		if err != nil {
			return err
		}
		in.Passphrase = text
	}
	if err := (backup.Seal{Passphrase: in.Passphrase, Recipients: in.Recipients}).Check(); err != nil {
		return usage("%v", err)
	}
	if _, err := os.Lstat(name); err == nil {
		return &failure{code: exitFailed, msg: name + " is there already"}
	}
	f, err := os.CreateTemp(filepath.Dir(name), "."+filepath.Base(name)+"-*") // 0600
	if err != nil {
		return &failure{code: exitFailed, msg: fmt.Sprintf("%s cannot be written: %s", name, plain.Reason(err))}
	}
	defer os.Remove(f.Name())
	defer f.Close()
	n, err := a.client.download(ctx, http.MethodPost, "backup", in, f)
	if err != nil {
		return err
	}
	if err := errors.Join(f.Sync(), f.Close(), os.Link(f.Name(), name)); err != nil {
		return &failure{code: exitFailed, msg: fmt.Sprintf("%s cannot be written: %s", name, plain.Reason(err))}
	}
	says := "it is not sealed, and holds every secret: keep it as you keep the service"
	if in.Passphrase != "" || len(in.Recipients) > 0 {
		says = "it is sealed"
	}
	if cmd.Bool("json") {
		return encode(a.out, map[string]any{"file": name, "size": n, "sealed": in.Passphrase != "" || len(in.Recipients) > 0})
	}
	fmt.Fprintf(a.out, "%s: %s; %s\n", name, limit.FormatSize(n), says)
	return nil
}

// passphrase is asked for, or comes from the environment; twice where it is a new one.
func (a *app) passphrase(anew bool) (string, error) {
	if text := os.Getenv(passphraseVariable); text != "" {
		return text, nil
	}
	in, ok := a.in.(*os.File)
	if !ok || !a.terminal {
		return "", &failure{code: exitUsage, msg: "the passphrase comes from " + passphraseVariable + ", or from a terminal"}
	}
	ask := func(what string) (string, error) {
		fmt.Fprint(a.err, what)
		raw, err := term.ReadPassword(int(in.Fd()))
		fmt.Fprintln(a.err)
		return string(raw), err
	}
	text, err := ask("Passphrase: ")
	if err != nil || !anew {
		return text, err
	}
	again, err := ask("Once more: ")
	if err == nil && again != text {
		return "", &failure{code: exitUsage, msg: "the two are not the same"}
	}
	return text, err
}

func (a *app) restoreCommand() *cli.Command {
	return a.leaf("restore", "bring a state directory back from a backup, on this machine; or only look whether that would do", "FILE", []cli.Flag{
		&cli.StringFlag{Name: "state", Usage: "the state directory: one that is empty or not there", Value: defaultState()},
		&cli.BoolFlag{Name: "check", Usage: "read it whole and say what is in it and where it does not fit; nothing is written"},
		&cli.StringSliceFlag{Name: "volume", Usage: "NAME=DIRECTORY: where a volume is on this machine; may be given several times", DefaultText: "where they were"},
		&cli.StringFlag{Name: "identity", Usage: "file with secret keys of age, for a backup that is sealed for one of them"},
	}, func(ctx context.Context, cmd *cli.Command, args []string) error {
		volumes := make(map[string]string)
		for _, text := range cmd.StringSlice("volume") {
			name, dir, ok := strings.Cut(text, "=")
			if !ok || name == "" || dir == "" {
				return usage("--volume takes NAME=DIRECTORY, such as summit=/srv/summit, not %q", text)
			}
			volumes[name] = dir
		}
		keys := backup.Keys{Passphrase: func() (string, error) { return a.passphrase(false) }}
		var err error
		if file := cmd.String("identity"); file != "" {
			if keys.Identities, err = backup.ReadIdentities(file); err != nil {
				return usage("%v", err)
			}
		}
		f, err := os.Open(args[0])
		if err != nil {
			return &failure{code: exitFailed, msg: fmt.Sprintf("%s cannot be read: %s", args[0], plain.Reason(err))}
		}
		defer f.Close()
		done, err := backup.Restore(ctx, f, keys, cmd.String("state"), volumes, cmd.Bool("check"))
		if fail, ok := errors.AsType[*failure](err); ok {
			return fail
		}
		if err != nil {
			return &failure{code: exitFailed, msg: args[0] + ": " + err.Error()}
		}
		return show(a, cmd, restoredOf(done, cmd.String("state")), printRestored)
	})
}

// Restored is what a backup was found to hold, and what became of it.
type Restored struct {
	Made     time.Time        `json:"made"`
	Host     string           `json:"host"`
	Version  string           `json:"version"`
	Schema   int64            `json:"schema"`
	Rows     int64            `json:"journalRows"`
	Volumes  []RestoredVolume `json:"volumes"`
	Files    []backup.File    `json:"files"`
	Restored bool             `json:"restored"`
	State    string           `json:"state"`
}

// RestoredVolume is where a volume is now.
type RestoredVolume struct {
	Name string `json:"name"`
	Was  string `json:"was"`
	Path string `json:"path"`
	Mind string `json:"mind,omitempty"`
}

func restoredOf(r *backup.Restored, state string) Restored {
	m := r.Manifest
	out := Restored{Made: m.Made, Host: plain.Text(m.Host), Version: plain.Text(m.Version), Schema: m.Schema, Rows: m.Rows, Files: m.Files, Restored: !r.Checked, State: state, Volumes: []RestoredVolume{}}
	for _, p := range r.Placings {
		out.Volumes = append(out.Volumes, RestoredVolume(p))
	}
	return out
}

func printRestored(w io.Writer, r Restored) {
	fmt.Fprintf(w, "made %s on %s by amber %s, schema %d, %s of the journal\n", shortMoment(r.Made), r.Host, r.Version, r.Schema, plain.Counted(int(r.Rows), "row", "rows"))
	for _, v := range r.Volumes {
		text := "volume " + v.Name + ": at " + v.Path
		if v.Was != v.Path {
			text += ", was at " + v.Was
		}
		hung(w, "  ", text)
		if v.Mind != "" {
			hung(w, "    mind: ", v.Mind)
		}
	}
	if r.Restored {
		fmt.Fprintf(w, "restored: amber serve --state %s\n", plain.Word(r.State))
		return
	}
	fmt.Fprintln(w, "whole, and as it was written; nothing was changed here")
}
