package process

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/backup"
	"amber.example/gatekeeper/internal/contain"
	"amber.example/gatekeeper/internal/core/plain"
)

// Backups that are written by themselves are called so, by when they were made (UTC), so that the names sort.
const (
	backupPrefix = "amber-"
	backupTime   = "20060102T150405Z"
	unfinished   = ".unfinished"
)

// backupLook is how often it is looked whether one is due; after one that failed the next try comes after so long.
const (
	backupLook  = 30 * time.Second
	backupAgain = 10 * time.Minute
)

// Kept is a backup that is kept.
type Kept = backup.Kept

// mostBackups is how many backups are sent at a time.
const mostBackups = 2

// MakeBackup writes a backup to somebody who asked for it.
func (p *Process) MakeBackup(ctx context.Context, to io.Writer, seal backup.Seal) error {
	select {
	case p.sending <- struct{}{}:
		defer func() { <-p.sending }()
	default:
		return errors.New("others are being made just now")
	}
	_, err := backup.Write(ctx, to, p.Service, seal, p.opts.Version)
	return err
}

// Backups lists those that are kept where backups are written by themselves, the newest first; where is "" where they are not.
func (p *Process) Backups() (where string, kept []Kept, problem string) {
	if p.cfg.BackupTo == "" {
		return "", nil, ""
	}
	kept, err := keptIn(p.cfg.BackupTo)
	if err != nil {
		return p.cfg.BackupTo, nil, p.cfg.BackupTo + " cannot be looked into: " + plain.Reason(err)
	}
	p.mu.Lock()
	defer p.mu.Unlock()
	return p.cfg.BackupTo, kept, p.backupProblem
}

func keptIn(dir string) (out []Kept, err error) {
	names, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	for _, n := range names {
		made, ok := madeAt(n.Name())
		info, err := n.Info()
		if !ok || err != nil || !info.Mode().IsRegular() {
			continue
		}
		out = append(out, Kept{Name: n.Name(), Made: made, Size: info.Size()})
	}
	slices.SortFunc(out, func(a, b Kept) int { return b.Made.Compare(a.Made) })
	return out, nil
}

// madeAt reads when a backup was made from its name; false for what is called otherwise, and is none of ours.
func madeAt(name string) (time.Time, bool) {
	rest, ok := strings.CutPrefix(name, backupPrefix)
	if !ok {
		return time.Time{}, false
	}
	for _, s := range []backup.Seal{{}, {Recipients: []string{""}}} {
		if text, ok := strings.CutSuffix(rest, s.Extension()); ok {
			at, err := time.Parse(backupTime, text)
			return at, err == nil
		}
	}
	return time.Time{}, false
}

// KeepBackup writes one more to where they are kept, and removes those that are too many.
func (p *Process) KeepBackup(ctx context.Context) (Kept, error) {
	if p.cfg.BackupTo == "" {
		return Kept{}, errors.New("backups are kept nowhere: backup-to in the settings says where to")
	}
	p.keeping.Lock()
	defer p.keeping.Unlock()
	kept, err := p.keepBackup(ctx)
	p.mu.Lock()
	p.backupProblem = ""
	if err != nil {
		p.backupProblem = err.Error()
	}
	p.mu.Unlock()
	return kept, err
}

func (p *Process) keepBackup(ctx context.Context) (Kept, error) {
	dir, seal := p.cfg.BackupTo, backup.Seal{Recipients: p.cfg.BackupRecipients}
	name := backupPrefix + time.Now().UTC().Format(backupTime) + seal.Extension()
	path := filepath.Join(dir, name)
	f, err := os.OpenFile(path+unfinished, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
	if err != nil {
		return Kept{}, fmt.Errorf("no backup can be written in %s: %s", dir, plain.Reason(err))
	}
	_, err = backup.Write(ctx, f, p.Service, seal, p.opts.Version)
	if err == nil {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err == nil {
		err = os.Rename(path+unfinished, path)
	}
	if err != nil {
		os.Remove(path + unfinished)
		return Kept{}, fmt.Errorf("the backup in %s came to nothing: %s", dir, reasonOf(err))
	}
	all, err := keptIn(dir)
	if err != nil {
		return Kept{}, err
	}
	for _, old := range all[min(len(all), p.cfg.BackupKeep):] {
		if err := os.Remove(filepath.Join(dir, old.Name)); err != nil {
			p.log.Warn("a backup that is too many cannot be removed", "name", old.Name, "why", plain.Reason(err))
		}
	}
	for _, one := range all {
		if one.Name == name {
			p.log.Info("a backup has been written", "name", name, "bytes", one.Size)
			return one, nil
		}
	}
	return Kept{}, fmt.Errorf("the backup %s is not there any more", path)
}

// reasonOf is the system's reason where there is one, and what was said where not.
func reasonOf(err error) string {
	if says := plain.Reason(err); says != "it failed" {
		return says
	}
	return plain.Text(err.Error())
}

// runBackups writes backups as often as it is said, until the context ends.
func (p *Process) runBackups(ctx context.Context) {
	left, _ := filepath.Glob(filepath.Join(p.cfg.BackupTo, backupPrefix+"*"+unfinished)) // an earlier process was ended over them
	for _, name := range left {
		os.Remove(name)
	}
	var failed time.Time
	for {
		contain.Run("writing backups", func() {
			all, err := keptIn(p.cfg.BackupTo)
			due := err != nil || len(all) == 0 || time.Since(all[0].Made) >= p.cfg.BackupEvery || all[0].Made.After(time.Now().Add(time.Hour))
			if !due || time.Since(failed) < backupAgain {
				return
			}
			if _, err := p.KeepBackup(ctx); err != nil && ctx.Err() == nil {
				failed = time.Now()
				p.log.Error("no backup has been written", "why", err)
			}
		})
		select {
		case <-ctx.Done():
			return
		case <-time.After(backupLook):
		}
	}
}
