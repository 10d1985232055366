package service

import (
	"context"
	"errors"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
)

// Candidate is a directory of the host that a volume may be.
type Candidate struct {
	Name   string
	Path   string
	Volume string // the volume that it is; "" for none
	Wrong  string // why it cannot be one; "" for nothing
}

// Candidates are a directory of the host, where it may be a volume, and those in it.
type Candidates struct {
	Candidate
	Up         string // the directory that it is in, where that may be looked at; "" for none
	FileSystem string
	Mind       string // what is to be known of that
	Space      files.Space
	Below      []Candidate
	More       bool
}

// lookWithin is how long a directory of the host has to answer.
const lookWithin = 5 * time.Second

// Candidates looks at a directory of the host, below which volumes may be; "" for where one begins to look. It takes an administrator, as it tells of the host.
func (s *Service) Candidates(by Actor, path string) (Candidates, error) {
	if by.Role != identity.Administrator {
		return Candidates{}, &Error{Kind: Forbidden, Message: by.Name + " may not look at directories of the host: that takes an administrator"}
	}
	if path == "" {
		switch len(s.roots) {
		case 0:
			path = "/"
		case 1:
			path = s.roots[0]
		default: // each by itself
			out := Candidates{}
			for _, root := range s.roots {
				out.Below = append(out.Below, Candidate{Name: root, Path: root})
			}
			return out, nil
		}
	}
	real, err := s.hostDirectory(path)
	if err != nil {
		return Candidates{}, err
	}
	select {
	case s.looking <- struct{}{}:
	default:
		return Candidates{}, &Error{Kind: Unavailable, Field: "path", Message: "directories of the host that were asked about do not answer: wait until they do"}
	}
	ctx, cancel := context.WithTimeout(context.Background(), lookWithin)
	defer cancel()
	at, err := answered(ctx, s.looking, func() (files.HostPlace, error) { return files.LookAtHost(real) })
	switch {
	case ctx.Err() != nil && errors.Is(err, ctx.Err()):
		return Candidates{}, &Error{Kind: Unavailable, Field: "path", Message: plain.Text(real) + " does not answer"}
	case err != nil:
		return Candidates{}, invalid("path", "%v", err)
	}
	return s.candidatesAt(real, at), nil
}

// mostLooking is how many directories are looked at, at once.
const mostLooking = 4

// answered asks a disk, in a place among those who ask that has been taken, until ctx ends. The place is free again when the disk has answered, be it later.
func answered[T any](ctx context.Context, places <-chan struct{}, ask func() (T, error)) (T, error) {
	type answer struct {
		is  T
		err error
	}
	found := make(chan answer, 1)
	go func() {
		defer func() { <-places }()
		is, err := ask()
		found <- answer{is, err}
	}()
	select {
	case a := <-found:
		return a.is, a.err
	case <-ctx.Done():
		var none T
		return none, ctx.Err()
	}
}

func (s *Service) candidatesAt(real string, at files.HostPlace) Candidates {
	out := Candidates{Candidate: s.candidate(real, at.HostDirectory), FileSystem: at.FileSystem, Mind: at.Mind, Space: at.Space, More: at.More}
	out.Name = plain.Spell(filepath.Base(real))
	if up := filepath.Dir(real); up != real && s.withinRoots(up) {
		out.Up = plain.Spell(up)
	}
	for _, d := range at.Below {
		out.Below = append(out.Below, s.candidate(filepath.Join(real, plain.Unspell(d.Name)), d))
	}
	return out
}

// ofTheSystem are directories that are the system's by custom (Filesystem Hierarchy Standard 3.0), and no place for anybody's data.
var ofTheSystem = []string{"/bin", "/boot", "/dev", "/etc", "/lib", "/lib32", "/lib64", "/lost+found", "/proc", "/root", "/run", "/sbin", "/sys", "/usr"}

// candidate says what speaks against a directory of the host besides what its disk says.
func (s *Service) candidate(path string, d files.HostDirectory) Candidate {
	c := Candidate{Name: d.Name, Path: plain.Spell(path), Wrong: d.Wrong}
	volumes := s.Policy().Volumes
	for _, v := range volumes {
		switch {
		case v.Path == path:
			c.Volume, c.Wrong = v.Name, "it is volume "+v.Name
		case c.Volume == "" && files.Inside(path, v.Path):
			c.Wrong = "it is in volume " + v.Name
		case c.Volume == "" && files.Inside(v.Path, path):
			c.Wrong = "volume " + v.Name + " is in it"
		}
	}
	switch {
	case c.Wrong != "":
	case s.holdsState(path):
		c.Wrong = "it holds the service's own state"
	case slices.Contains(ofTheSystem, path):
		c.Wrong = "it is the system's own"
	case path == "/":
		c.Wrong = "it is all of the host"
	case d.Mark != "":
		c.Wrong = "it carries the mark of another volume"
		if i := slices.IndexFunc(volumes, func(v site.Volume) bool { return v.Mark == d.Mark }); i >= 0 {
			c.Wrong = "it carries the mark of volume " + volumes[i].Name + ": a copy of it, or where it is mounted now"
		}
	}
	return c
}

// hostDirectory is a directory of the host by which one may look for volumes, with links followed.
func (s *Service) hostDirectory(path string) (string, error) {
	path = plain.Unspell(path)
	if !filepath.IsAbs(path) || strings.ContainsRune(path, 0) {
		return "", invalid("path", "%q is not an absolute path", plain.Text(path))
	}
	outside := invalid("path", "%s is not below a directory in which volumes may be: %s", plain.Text(path), strings.Join(s.roots, ", "))
	if !s.leadsToRoots(path) {
		return "", outside
	}
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return "", notFound("path", "amber volume candidates", "%s is not there", plain.Text(path))
	}
	if !s.withinRoots(real) {
		return "", outside
	}
	return real, nil
}
