package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"time"

	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/service"
)

// resetFile is the file in the state directory in which whoever may write there names the administrator who has forgotten the password.
const (
	resetFile  = "reset-password"
	resetEvery = 2 * time.Second
)

// printReset prints a code with which an administrator sets another password.
func printReset(w io.Writer, svc *service.Service, name string) error {
	code, err := svc.ResetCode(name)
	if err != nil {
		return err
	}
	fmt.Fprintf(w, "\n%s sets another password within fifteen minutes, in the console or with\n\n  amber password %s --reset %s\n\nOne-time codes that they had go with the old one.\n", name, name, code)
	return nil
}

// watchReset looks for the file, and takes it away once it has been read.
func (a *app) watchReset(ctx context.Context, svc *service.Service, state string) {
	path := filepath.Join(state, resetFile)
	for {
		select {
		case <-ctx.Done():
			return
		case <-time.After(resetEvery):
		}
		name, err := takeName(path)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err == nil {
			err = printReset(a.out, svc, name)
		}
		if err != nil {
			slog.Error("no code is printed for "+resetFile, "error", err)
		}
	}
}

// takeName reads the name in a file, and removes that. What is no plain file is removed, and not read.
func takeName(path string) (string, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|unix.O_NOFOLLOW|unix.O_NONBLOCK, 0)
	if errors.Is(err, fs.ErrNotExist) {
		return "", err
	}
	defer os.Remove(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	if info, err := f.Stat(); err != nil || !info.Mode().IsRegular() {
		return "", errors.Join(err, errors.New("it is no plain file"))
	}
	raw, err := io.ReadAll(io.LimitReader(f, 256))
	return strings.TrimSpace(string(raw)), err
}
