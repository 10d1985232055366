package service

import (
	"context"
	"fmt"
	"path/filepath"

	"amber.example/gatekeeper/internal/backup"
	"amber.example/gatekeeper/internal/store"
)

// Identity is a UUID of this gateway (of version 8, RFC 9562 section 5.8), the same over restarts and on another machine.
func (s *Service) Identity() string {
	raw := s.keys.Derive("identity")[:16]
	raw[6], raw[8] = raw[6]&0x0f|0x80, raw[8]&0x3f|0x80
	return fmt.Sprintf("%x-%x-%x-%x-%x", raw[:4], raw[4:6], raw[6:8], raw[8:10], raw[10:])
}

// StateDir is the state directory.
func (s *Service) StateDir() string { return s.state }

// CopyDatabases writes the records, what was seen at the wire, and what is in use into a directory, each as it is at one moment.
func (s *Service) CopyDatabases(ctx context.Context, dir string) error {
	for _, one := range []struct {
		from interface {
			CopyTo(ctx context.Context, path string) error
		}
		name string
	}{{s.store, store.FileName}, {s.Log.Store(), store.EventsFileName}, {s.uses, store.UsesFileName}} {
		if err := one.from.CopyTo(ctx, filepath.Join(dir, one.name)); err != nil {
			return err
		}
	}
	return nil
}

// Contents says what the records are about.
func (s *Service) Contents(ctx context.Context) (rows int64, volumes []backup.Volume, err error) {
	err = s.store.DB().QueryRowContext(ctx, `SELECT coalesce(max(seq), 0) FROM journal`).Scan(&rows)
	volumes = []backup.Volume{}
	for _, v := range s.Policy().Volumes {
		volumes = append(volumes, backup.Volume{Name: v.Name, Path: v.Path, Mark: v.Mark})
	}
	return rows, volumes, err
}
