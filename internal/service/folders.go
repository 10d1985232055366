package service

import (
	"context"
	"path/filepath"

	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
)

// FolderInput is what a new folder is made from. An empty Path takes the name.
type FolderInput struct {
	Name, Volume, Path, Description string
	Owner, Group                    string            // names; "" for none
	Permissions                     site.Permissions  // "" is by entries
	Ownership                       site.Ownership    // "" is native where the service runs as root, else mapped
	Mode                            *uint32           // of the directory itself, where modes decide; nil leaves a directory that is there as it is
	Labels                          map[string]string // by key; "" takes one away
}

// CreateFolder makes a folder on a volume, with its directory if that is not there.
func (s *Service) CreateFolder(ctx context.Context, by Actor, in FolderInput) (*site.PublishedFolder, error) {
	if err := checkPlaceName("name", in.Name); err != nil {
		return nil, err
	}
	if in.Path == "" {
		in.Path = in.Name
	}
	first, rest, err := site.SplitPath(in.Path)
	if err != nil || filepath.IsAbs(in.Path) {
		return nil, invalid("path", "%q is not a path relative to the volume", in.Path)
	}
	if err := plain.Check(in.Path); err != nil {
		return nil, invalid("path", "%q: %v", in.Path, err)
	}
	path := filepath.Join(first, rest)
	if err := fillKinds(&in); err != nil {
		return nil, err
	}
	err = s.change(ctx, by, "add folder", in.Name, func(d *site.Draft) error {
		v, err := s.volume(in.Volume)
		if err != nil {
			return err
		}
		if s.Policy().FolderNamed(in.Name) != nil {
			return conflict("name", "amber folder show "+quote(in.Name), "there is a folder %s already", in.Name)
		}
		for _, f := range s.Policy().Folders {
			if f.VolumeID == v.ID && (files.Inside(f.Path, path) || files.Inside(path, f.Path)) {
				return conflict("path", "amber folder show "+quote(f.Name), "%s overlaps folder %s: a path belongs to one folder, so that one set of rules governs it", path, f.Name)
			}
		}
		group, err := s.groupOrNone(in.Group)
		if err != nil {
			return err
		}
		owner, err := s.userOrNone(in.Owner)
		if err != nil {
			return err
		}
		f := site.Folder{Name: in.Name, VolumeID: v.ID, Path: path, Description: in.Description, Owner: owner, Group: group, Permissions: in.Permissions, Ownership: in.Ownership}
		if err := relabel(&f.Labelled, in.Labels); err != nil {
			return err
		}
		site.Put(d, f)
		return s.makeDirectory(d, v.Location(), path)
	})
	if err != nil {
		return nil, err
	}
	if in.Permissions == site.ByMode && (in.Mode != nil || in.Owner != "" || in.Group != "") {
		if err := s.SetMode(ctx, by, in.Name, ModeInput{Mode: in.Mode, Owner: in.Owner, Group: in.Group}); err != nil {
			return nil, err
		}
	}
	return s.Folder(in.Name)
}

func fillKinds(in *FolderInput) error {
	switch in.Permissions {
	case "":
		in.Permissions = site.ByEntries
	case site.ByEntries, site.ByMode:
	default:
		return invalid("permissions", "%q is not one of acl, unix", in.Permissions)
	}
	root := files.MayGive()
	switch in.Ownership {
	case "":
		if in.Ownership = site.Mapped; root {
			in.Ownership = site.Native
		}
	case site.Mapped:
	case site.Native:
		if !root {
			return invalid("ownership", "native ownership takes a service that runs as root, or with the capabilities to give files away")
		}
	default:
		return invalid("ownership", "%q is not one of native, mapped", in.Ownership)
	}
	if in.Mode != nil && (in.Permissions != site.ByMode || *in.Mode > 0o7777) {
		return invalid("mode", "a mode is for folders with --permissions unix, and has at most four octal digits")
	}
	return nil
}

// makeDirectory has a directory be made below a volume or a folder, if it can be.
func (s *Service) makeDirectory(d *site.Draft, at site.Location, path string) error {
	known := at
	if s.drafting != nil {
		s.drafting.made[filepath.Join(at.String(), path)] = true
		if s.drafting.marked[at.Mark] {
			known.Mark = "" // it does not carry it yet
		}
	}
	gone := s.drafting != nil && s.drafting.made[at.String()] // the folder itself is still to be made
	if err := files.MayMakeFolder(known, path); err != nil && !gone {
		return invalid("path", "%v", err)
	}
	d.Do(site.Effect{Act: site.MakeDirectory, Volume: at, Path: path})
	return nil
}

// FolderChange is what is to change of a folder; nil leaves a field as it is, "" empties it.
type FolderChange struct {
	Name, Description, Owner, Group *string
	Personal                        *string // the group of which each has a directory; "" for none
	LogAccess                       *bool
	Labels                          map[string]string // by key; "" takes one away
}

// UpdateFolder changes a folder's record. Owner and Group are of what has none of its own on disk.
func (s *Service) UpdateFolder(ctx context.Context, by Actor, name string, in FolderChange) (*site.PublishedFolder, error) {
	f, err := s.Folder(name)
	if err != nil {
		return nil, err
	}
	err = s.change(ctx, by, "change folder", f.Name, func(d *site.Draft) error {
		is, ok := site.Get[site.Folder](d, f.ID)
		if !ok {
			return notFound("folder", "amber folder list", "there is no folder %q", name)
		}
		if err := rename(s.folderNames(), f.ID, &is.Name, in.Name); err != nil {
			return err
		}
		if in.Owner != nil {
			if is.Owner, err = s.userOrNone(*in.Owner); err != nil {
				return err
			}
		}
		if in.Group != nil {
			if is.Group, err = s.groupOrNone(*in.Group); err != nil {
				return err
			}
		}
		set(&is.Description, in.Description)
		set(&is.LogAccess, in.LogAccess)
		if in.Personal != nil {
			if is.Personal, err = s.personal(&is, *in.Personal); err != nil {
				return err
			}
		}
		if err := relabel(&is.Labelled, in.Labels); err != nil {
			return err
		}
		site.Put(d, is)
		renameInReviews(d, in.Name, func(r *site.Review) bool { return inPlace(r.Folders, f.Name, *in.Name) })
		return nil
	})
	if err != nil {
		return nil, err
	}
	return s.Folder(nameAfter(f.Name, in.Name))
}

// personal is how a folder is to be personal: for each of a group, or, with "", for nobody.
func (s *Service) personal(f *site.Folder, group string) (*site.Personal, error) {
	if group == "" {
		return nil, nil
	}
	if f.Permissions == site.ByMode {
		return nil, conflict("personal", "amber folder convert "+quote(f.Name), "in %s owner, group and mode decide: it cannot be personal", f.Name)
	}
	g, err := s.Group(group)
	if err != nil {
		return nil, err
	}
	return &site.Personal{Group: g.ID}, nil
}

// ModeInput is what is to change of an object where modes decide; nil and "" leave it.
type ModeInput struct {
	Mode         *uint32
	Owner, Group string
}

// SetMode sets mode, owner and group of FOLDER or FOLDER/PATH in a folder where modes decide.
func (s *Service) SetMode(ctx context.Context, by Actor, full string, in ModeInput) error {
	f, at, err := s.place(full)
	if err != nil {
		return err
	}
	return s.change(ctx, by, "set mode", f.Display(at.Path), func(d *site.Draft) error {
		if err := s.byMode(f, at); err != nil {
			return err
		}
		if in.Mode != nil && *in.Mode > 0o7777 {
			return invalid("mode", "%o has more than four octal digits", *in.Mode)
		}
		var set files.Set
		set.Mode = in.Mode
		if in.Owner != "" {
			u, err := s.User(in.Owner)
			if err != nil {
				return err
			}
			set.UID = &u.UID
		}
		if in.Group != "" {
			g, err := s.Group(in.Group)
			if err != nil {
				return err
			}
			set.GID = &g.GID
		}
		s.setMode(d, f, at.Path, set)
		return nil
	})
}

// setMode has it be done, and notes on a draft what will have been.
func (s *Service) setMode(d *site.Draft, f *site.PublishedFolder, path string, set files.Set) {
	d.Do(site.Effect{Act: site.SetMode, Folder: f.ID, Path: path, Mode: set.Mode, UID: set.UID, GID: set.GID})
	if s.drafting == nil {
		return
	}
	known, ok := s.FactsOf(f).UnixOf(path)
	if !ok {
		known = &posix.Attributes{UID: posix.Nobody, GID: posix.Nobody, Dir: true}
	}
	a := *known
	root := &posix.Credential{}
	if set.Mode != nil {
		a = posix.Chmod(root, a, *set.Mode)
	}
	uid, gid := posix.Nobody, posix.Nobody
	if set.UID != nil {
		uid = *set.UID
	}
	if set.GID != nil {
		gid = *set.GID
	}
	a = posix.Given(root, a, uid, gid)
	s.drafting.modes[objectAt{f.ID, path}] = &a
}

func (s *Service) byMode(f *site.PublishedFolder, at files.Place) error {
	if !f.Unix() {
		return conflict("path", "amber entry list "+quote(f.Display(at.Path)), "in %s entries decide, and not modes", f.Name)
	}
	if !at.Exists {
		return notFound("path", "", "%s is not on disk", f.Display(at.Path))
	}
	return nil
}

// Mode gives owner, group, mode and POSIX ACL of FOLDER or FOLDER/PATH where modes decide.
func (s *Service) Mode(full string) (*posix.Attributes, string, error) {
	f, at, err := s.place(full)
	if err != nil {
		return nil, "", err
	}
	if err := s.byMode(f, at); err != nil {
		return nil, "", err
	}
	a, ok := s.FactsOf(f).UnixOf(at.Path)
	if !ok {
		return nil, "", notFound("path", "", "%s is not on disk", f.Display(at.Path))
	}
	return a, f.Display(at.Path), nil
}

// RemoveFolder forgets a folder, its entries and its shares. Data is not touched.
func (s *Service) RemoveFolder(ctx context.Context, by Actor, name string) error {
	f, err := s.Folder(name)
	if err != nil {
		return err
	}
	return s.change(ctx, by, "remove folder", f.Name, func(d *site.Draft) error {
		if err := s.keepsNothing(f); err != nil {
			return err
		}
		site.Delete[site.Folder](d, f.ID)
		return nil
	})
}
