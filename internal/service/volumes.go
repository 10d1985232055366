package service

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"log/slog"
	"slices"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
)

// VolumeInput is what a new volume is made from.
type VolumeInput struct {
	Name, Path string
	// TakeOver has a directory be the volume though it carries the mark of another service's.
	TakeOver bool
	Labels   map[string]string // by key; "" takes one away
}

func newMark() string {
	b := make([]byte, 16)
	rand.Read(b)
	return hex.EncodeToString(b)
}

// CreateVolume registers a host directory, which is marked so that it is known again.
func (s *Service) CreateVolume(ctx context.Context, by Actor, in VolumeInput) (site.Volume, error) {
	if err := checkPlaceName("name", in.Name); err != nil {
		return site.Volume{}, err
	}
	if !s.tried() && by.Role != identity.Administrator { // before anything is looked at
		return site.Volume{}, &Error{Kind: Forbidden, Message: by.Name + " may look but not change: only an administrator can add volumes"}
	}
	real, err := s.volumeAt(by, in.Path)
	if err != nil {
		return site.Volume{}, err
	}
	check := files.CheckVolume
	if s.tried() {
		check = files.MayBeVolume
	}
	if err := check(real); err != nil {
		return site.Volume{}, invalid("path", "%v", err)
	}
	mark := newMark()
	err = s.change(ctx, by, "add volume", in.Name, func(d *site.Draft) error {
		for _, v := range s.Policy().Volumes {
			if identity.Fold(v.Name) == identity.Fold(in.Name) {
				return conflict("name", "amber volume list", "there is a volume %s already", v.Name)
			}
			if files.Inside(v.Path, real) || files.Inside(real, v.Path) {
				return conflict("path", "amber volume list", "%s overlaps volume %s at %s", real, v.Name, v.Path)
			}
		}
		have, err := files.VolumeMark(real)
		if err != nil {
			return invalid("path", "%v", err)
		}
		if have != "" && !in.TakeOver {
			if i := slices.IndexFunc(s.Policy().Volumes, func(v site.Volume) bool { return v.Mark == have }); i >= 0 {
				v := s.Policy().Volumes[i]
				return conflict("path", "amber volume list", "%s carries the mark of volume %s, which is at %s: it is a copy of it, or the volume is mounted elsewhere now", real, v.Name, v.Path)
			}
			return conflict("path", "amber volume add "+quote(in.Name)+" "+quote(real)+" --take-over",
				"%s carries the mark of another service's volume. Two services that serve one directory ruin it: if the other has ended for good, say that this one takes it over", real)
		}
		v := site.Volume{Name: in.Name, Path: real, Counting: site.CountSize, Mark: mark}
		if err := relabel(&v.Labelled, in.Labels); err != nil {
			return err
		}
		site.Put(d, v)
		s.markVolume(d, real, mark)
		return nil
	})
	if err != nil {
		return site.Volume{}, err
	}
	return s.volume(in.Name)
}

// markVolume has a directory carry a mark.
func (s *Service) markVolume(d *site.Draft, path, mark string) {
	d.Do(site.Effect{Act: site.MarkVolume, Volume: site.Location{Volume: path}, Mark: mark})
	if s.drafting != nil {
		s.drafting.marked[mark] = true
	}
}

// unmarkVolume takes a mark away as far as that can be done.
func (s *Service) unmarkVolume(path, mark string) {
	if mark == "" {
		return
	}
	if err := files.UnmarkVolume(path, mark); err != nil {
		slog.Warn("a directory that is no volume any more still carries the mark of one", "path", path, "error", err)
	}
}

// RemoveVolume forgets a volume on which no folder is left. Nothing on disk is touched but its mark.
func (s *Service) RemoveVolume(ctx context.Context, by Actor, name string) error {
	v, err := s.volume(name)
	if err != nil {
		return err
	}
	err = s.change(ctx, by, "remove volume", v.Name, func(d *site.Draft) error {
		for _, f := range s.Policy().Folders {
			if f.VolumeID == v.ID {
				return conflict("", "amber folder list", "folder %s is on volume %s", f.Name, v.Name)
			}
		}
		site.Delete[site.Volume](d, v.ID)
		d.Do(site.Effect{Act: site.UnmarkVolume, Volume: site.Location{Volume: v.Path}, Mark: v.Mark})
		return nil
	})
	return err
}

// VolumeChange is what is to change of a volume; nil leaves it as it is.
type VolumeChange struct {
	Name *string
	// Path is where the volume is now: a directory that carries its mark.
	Path     *string
	Counting *site.Counting
	// Here takes what is at the volume's directory now for the volume, whatever was there before.
	Here   bool
	Labels map[string]string // by key; "" takes one away
}

// UpdateVolume changes what is counted of what is stored on a volume, or what the volume is.
func (s *Service) UpdateVolume(ctx context.Context, by Actor, name string, in VolumeChange) (site.Volume, error) {
	v, err := s.volume(name)
	if err != nil {
		return site.Volume{}, err
	}
	if in.Counting != nil {
		switch *in.Counting {
		case site.CountNothing, site.CountSize, site.CountAllocated:
		default:
			return site.Volume{}, invalid("counting", "%q is not one of off, size, allocated", *in.Counting)
		}
	}
	mark, real := newMark(), v.Path
	if in.Path != nil {
		real = *in.Path
	}
	if in.Here || in.Path != nil {
		if real, err = s.volumeAt(by, real); err != nil {
			return site.Volume{}, err
		}
	}
	err = s.change(ctx, by, "change volume", v.Name, func(d *site.Draft) error {
		is, ok := site.Get[site.Volume](d, v.ID)
		if !ok {
			return notFound("volume", "amber volume list", "there is no volume %q", name)
		}
		if err := rename(s.volumeNames(), v.ID, &is.Name, in.Name); err != nil {
			return err
		}
		set(&is.Counting, in.Counting)
		if err := relabel(&is.Labelled, in.Labels); err != nil {
			return err
		}
		if real != v.Path {
			if err := s.mayMoveTo(v, real, in.Here); err != nil {
				return err
			}
			is.Path = real
		}
		if !in.Here {
			site.Put(d, is)
			return nil
		}
		is.Mark = mark
		site.Put(d, is)
		s.markVolume(d, real, mark)
		return nil
	})
	if err != nil {
		return site.Volume{}, err
	}
	if in.Here || in.Path != nil {
		of := s
		if s.drafting != nil {
			of = s.drafting.of
		}
		s.later(func() { of.awaitLook(of.lookAtVolumes()) })
	}
	return s.volume(nameAfter(v.Name, in.Name))
}

// mayMoveTo says why a volume cannot be taken for being at another directory: it has to carry its mark, unless what is there is to be it from now on.
func (s *Service) mayMoveTo(v site.Volume, path string, here bool) error {
	for _, other := range s.Policy().Volumes {
		if other.ID != v.ID && (files.Inside(other.Path, path) || files.Inside(path, other.Path)) {
			return conflict("path", "amber volume list", "%s overlaps volume %s at %s", path, other.Name, other.Path)
		}
	}
	have, err := files.VolumeMark(path)
	if err != nil {
		return invalid("path", "%v", err)
	}
	if have != v.Mark && !here {
		return conflict("path", "amber volume set "+quote(v.Name)+" --path "+quote(path)+" --here",
			"%s does not carry the mark of volume %s. If the data of the volume was put there without its marks, say so with --here", path, v.Name)
	}
	return nil
}

// VolumeSpace is what there is room for on a volume; an error where it is away.
func (s *Service) VolumeSpace(v site.Volume) (files.Space, error) {
	if _, away := s.VolumeAway(v.ID); away {
		return files.Space{}, files.ErrIO
	}
	return files.VolumeSpace(v.Location())
}

// VolumeNamed finds a volume by name, whatever its case.
func (s *Service) VolumeNamed(name string) (site.Volume, error) { return s.volume(name) }
