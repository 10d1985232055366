package service

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
)

// Option is something about a service that is decided when it is started.
type Option func(*Service)

// WithVolumeRoots confines volumes to what is below some directories of the host. Without any, they may be
// anywhere.
func WithVolumeRoots(dirs []string) Option { return func(s *Service) { s.roots = dirs } }

// RefusingUnrecorded has nobody served while nothing can be written down.
func RefusingUnrecorded(refuse bool) Option { return func(s *Service) { s.refuseUnrecorded = refuse } }

// KeepingEvents says for how long what was done at the wire is kept; zero for store.KeepEvents.
func KeepingEvents(d time.Duration) Option { return func(s *Service) { s.keepSeen = d } }

// WithNewKey has a key that is missing made anew, though what was sealed with the old one cannot be opened any more.
func WithNewKey(anew bool) Option { return func(s *Service) { s.newKey = anew } }

// settleRoots finds where the roots really are.
func (s *Service) settleRoots(context.Context) error {
	for i, dir := range s.roots {
		real, err := filepath.EvalSymlinks(dir)
		if err == nil {
			real, err = filepath.Abs(real)
		}
		if err != nil {
			return fmt.Errorf("volume root %s: %w", dir, errors.Unwrap(err))
		}
		s.roots[i] = real
	}
	return nil
}

// withinRoots says whether a directory may be a volume as far as the roots say.
func (s *Service) withinRoots(real string) bool {
	for _, root := range s.roots {
		if files.Inside(real, root) {
			return true
		}
	}
	return len(s.roots) == 0
}

// checkVolumes says at the start why the volumes in the records cannot be served as it was started.
func (s *Service) checkVolumes(volumes []site.Volume) error {
	for _, v := range volumes {
		if !s.withinRoots(v.Path) {
			return fmt.Errorf("volume %s is at %s, outside of what --volume-root allows (%s): allow a directory that holds it",
				v.Name, v.Path, strings.Join(s.roots, ", "))
		}
		if s.holdsState(v.Path) {
			return fmt.Errorf("volume %s at %s holds the service's own state, which must not be served: move the state directory elsewhere and name it with --state",
				v.Name, v.Path)
		}
	}
	return nil
}

// volumeAt looks at a host directory that is to be a volume, and gives where it really is. Where it is only
// tried, nothing is written; and who may only look learns nothing about the host.
func (s *Service) volumeAt(by Actor, path string) (string, error) {
	if s.tried() && by.Role != identity.Administrator {
		return "", &Error{Kind: Forbidden, Field: "path",
			Message: "what a volume would do can be tried by an administrator only: the answer tells about directories of the host"}
	}
	if err := plain.Check(path); err != nil {
		return "", invalid("path", "%q: %v", path, err)
	}
	if !filepath.IsAbs(path) {
		return "", invalid("path", "%q is not an absolute path", path)
	}
	outside := invalid("path", "%s is not below a directory in which volumes may be: %s", path, strings.Join(s.roots, ", "))
	if !s.leadsToRoots(path) { // first of all, so that nothing is said about what is elsewhere
		return "", outside
	}
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return "", invalid("path", "%s is not there: make the directory first", path)
	}
	if !s.withinRoots(real) { // a link before a .. leads elsewhere than the name without it
		return "", outside
	}
	if info, err := os.Stat(real); err != nil || !info.IsDir() {
		return "", invalid("path", "%s is not a directory", real)
	}
	if s.holdsState(real) {
		return "", invalid("path", "%s holds the service's own state, which must not be served", real)
	}
	return real, nil
}

// leadsToRoots says whether the longest part of a path that is there really is below a root, links followed.
func (s *Service) leadsToRoots(path string) bool {
	for dir := filepath.Clean(path); ; dir = filepath.Dir(dir) {
		if real, err := filepath.EvalSymlinks(dir); err == nil {
			return s.withinRoots(real)
		}
		if dir == "/" {
			return false
		}
	}
}

// holdsState says whether a directory is, holds, or lies in the state directory, whatever it is called: by a link,
// or mounted a second time. The volumes that the demo keeps in it are no part of that.
func (s *Service) holdsState(dir string) bool {
	own, err := os.Stat(s.state)
	if err != nil {
		return true
	}
	volumes, volumesErr := os.Stat(filepath.Join(s.state, "volumes"))
	at, err := os.Stat(dir)
	if err != nil {
		return files.Inside(dir, s.state) || files.Inside(s.state, dir)
	}
	for up := s.state; ; up = filepath.Dir(up) {
		if info, err := os.Stat(up); err == nil && os.SameFile(info, at) {
			return true
		}
		if up == "/" {
			break
		}
	}
	for up := dir; ; up = filepath.Dir(up) {
		info, err := os.Stat(up)
		switch {
		case err != nil:
		case volumesErr == nil && os.SameFile(info, volumes):
			return false
		case os.SameFile(info, own):
			return true
		}
		if up == "/" {
			return false
		}
	}
}
