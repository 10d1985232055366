package service

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/store"
)

var placeName = regexp.MustCompile(`^[\p{L}\p{N}_][\p{L}\p{N} ._-]{0,79}$`)

func checkPlaceName(field, name string) error {
	if !placeName.MatchString(name) || strings.HasSuffix(name, " ") || strings.HasSuffix(name, ".") {
		return invalid(field, "name %q: use 1 to 80 letters, digits, dots, dashes, underscores and spaces, with a letter or digit first and no space or dot last", name)
	}
	return nil
}

func (s *Service) volume(name string) (site.Volume, error) {
	for _, v := range s.Policy().Volumes {
		if identity.Fold(v.Name) == identity.Fold(name) {
			return v, nil
		}
	}
	return site.Volume{}, notFound("volume", "amber volume list", "there is no volume %q", name)
}

// Folder finds a folder by name, whatever its case.
func (s *Service) Folder(name string) (*site.PublishedFolder, error) {
	if f := s.Policy().FolderNamed(name); f != nil {
		return f, nil
	}
	return nil, notFound("folder", "amber folder list", "there is no folder %q", name)
}

// Share finds a share by name, whatever its case.
func (s *Service) Share(name string) (*site.PublishedShare, error) {
	if sh := s.Policy().ShareNamed(name); sh != nil {
		return sh, nil
	}
	return nil, notFound("share", "amber share list", "there is no share %q", name)
}

// place finds the folder and the path below it, as it stands on disk, from
// FOLDER/PATH as people write it.
func (s *Service) place(full string) (*site.PublishedFolder, files.Place, error) {
	name, path, err := site.SplitPath(full)
	if err != nil {
		return nil, files.Place{}, invalid("path", "%v", err)
	}
	f, err := s.Folder(name)
	if err != nil {
		return nil, files.Place{}, err
	}
	at, err := files.Find(f.Root, path)
	if s.trial != nil && errors.Is(err, files.ErrGone) && path == "" { // a folder that would have been made
		return f, files.Place{Exists: true}, nil
	}
	if err != nil {
		return nil, files.Place{}, invalid("path", "%s: %v", f.Display(path), err)
	}
	return f, at, nil
}

func inside(path, dir string) bool {
	return path == dir || strings.HasPrefix(path, strings.TrimSuffix(dir, "/")+"/")
}

// CreateVolume registers a host directory.
func (s *Service) CreateVolume(ctx context.Context, by Actor, name, path string) (site.Volume, error) {
	if err := checkPlaceName("name", name); err != nil {
		return site.Volume{}, err
	}
	if !filepath.IsAbs(path) {
		return site.Volume{}, invalid("path", "%q is not an absolute path", path)
	}
	real, err := filepath.EvalSymlinks(path)
	if err != nil {
		return site.Volume{}, invalid("path", "%s is not there: make the directory first", path)
	}
	if info, err := os.Stat(real); err != nil || !info.IsDir() {
		return site.Volume{}, invalid("path", "%s is not a directory", real)
	}
	if inside(real, s.state) && !inside(real, filepath.Join(s.state, "volumes")) || inside(s.state, real) {
		return site.Volume{}, invalid("path", "%s holds the service's own state, which must not be served", real)
	}
	if err := files.CheckVolume(real); err != nil {
		return site.Volume{}, invalid("path", "%v", err)
	}
	err = s.change(ctx, by, "add volume", name, func(tx *store.Tx) error {
		for _, v := range s.Policy().Volumes {
			if identity.Fold(v.Name) == identity.Fold(name) {
				return conflict("name", "amber volume list", "there is a volume %s already", v.Name)
			}
			if inside(v.Path, real) || inside(real, v.Path) {
				return conflict("path", "amber volume list", "%s overlaps volume %s at %s", real, v.Name, v.Path)
			}
		}
		return tx.Run(ctx, `INSERT INTO volumes (name, path) VALUES (?, ?)`, name, real)
	})
	if err != nil {
		return site.Volume{}, err
	}
	return s.volume(name)
}

// RemoveVolume forgets a volume on which no folder is left. Nothing on disk is touched.
func (s *Service) RemoveVolume(ctx context.Context, by Actor, name string) error {
	v, err := s.volume(name)
	if err != nil {
		return err
	}
	return s.change(ctx, by, "remove volume", v.Name, func(tx *store.Tx) error {
		for _, f := range s.Policy().Folders {
			if f.VolumeID == v.ID {
				return conflict("", "amber folder list", "folder %s is on volume %s", f.Name, v.Name)
			}
		}
		return tx.Run(ctx, `DELETE FROM volumes WHERE id = ?`, v.ID)
	})
}

// FolderInput is what a new folder is made from. An empty Path takes the name.
type FolderInput struct {
	Name, Volume, Path, Description string
	Owner, Group                    string           // names; "" for none
	Permissions                     site.Permissions // "" is by entries
	Ownership                       site.Ownership   // "" is native where the service runs as root, else mapped
	Mode                            *uint32          // of the directory itself, where modes decide; nil leaves a directory that is there as it is
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
	path := filepath.Join(first, rest)
	if err := fillKinds(&in); err != nil {
		return nil, err
	}
	err = s.change(ctx, by, "add folder", in.Name, func(tx *store.Tx) error {
		v, err := s.volume(in.Volume)
		if err != nil {
			return err
		}
		if s.Policy().FolderNamed(in.Name) != nil {
			return conflict("name", "amber folder show "+quote(in.Name), "there is a folder %s already", in.Name)
		}
		for _, f := range s.Policy().Folders {
			if f.VolumeID == v.ID && (inside(f.Path, path) || inside(path, f.Path)) {
				return conflict("path", "amber folder show "+quote(f.Name), "%s overlaps folder %s: a path belongs to one folder, so that one set of rules governs it", path, f.Name)
			}
		}
		group, err := s.groupOrNull(in.Group)
		if err != nil {
			return err
		}
		var owner any
		if in.Owner != "" {
			u, err := s.User(in.Owner)
			if err != nil {
				return err
			}
			owner = int64(u.ID)
		}
		if err := tx.Run(ctx, `INSERT INTO folders (name, volume_id, path, description, owner_id, group_id, permissions, ownership) VALUES (?, ?, ?, ?, ?, ?, ?, ?)`,
			in.Name, v.ID, path, in.Description, owner, group, string(in.Permissions), string(in.Ownership)); err != nil {
			return err
		}
		// Last, so that a refused change makes no directory; that one is left over if
		// the commit fails is harmless, since it is empty and published nowhere.
		if s.trial != nil {
			return nil
		}
		if err := files.MakeFolder(v.Path, path); err != nil {
			return invalid("path", "%v", err)
		}
		return nil
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
	root := os.Geteuid() == 0
	switch in.Ownership {
	case "":
		if in.Ownership = site.Mapped; root {
			in.Ownership = site.Native
		}
	case site.Mapped:
	case site.Native:
		if !root {
			return invalid("ownership", "native ownership takes a service that runs as root")
		}
	default:
		return invalid("ownership", "%q is not one of native, mapped", in.Ownership)
	}
	if in.Mode != nil && (in.Permissions != site.ByMode || *in.Mode > 0o7777) {
		return invalid("mode", "a mode is for folders with --permissions unix, and has at most four octal digits")
	}
	return nil
}

// FolderChange is what is to change of a folder; nil leaves a field as it is, "" empties it.
type FolderChange struct {
	Description, Owner, Group *string
	LogAccess                 *bool
}

// UpdateFolder changes a folder's record. Owner and Group are of what has none of its own on disk.
func (s *Service) UpdateFolder(ctx context.Context, by Actor, name string, in FolderChange) (*site.PublishedFolder, error) {
	f, err := s.Folder(name)
	if err != nil {
		return nil, err
	}
	err = s.change(ctx, by, "change folder", f.Name, func(tx *store.Tx) error {
		set := func(column string, value any) error {
			return tx.Run(ctx, `UPDATE folders SET `+column+` = ? WHERE id = ?`, value, f.ID)
		}
		if in.Description != nil {
			if err := set("description", *in.Description); err != nil {
				return err
			}
		}
		if in.Owner != nil {
			var owner any
			if *in.Owner != "" {
				u, err := s.User(*in.Owner)
				if err != nil {
					return err
				}
				owner = int64(u.ID)
			}
			if err := set("owner_id", owner); err != nil {
				return err
			}
		}
		if in.Group != nil {
			group, err := s.groupOrNull(*in.Group)
			if err != nil {
				return err
			}
			if err := set("group_id", group); err != nil {
				return err
			}
		}
		if in.LogAccess != nil {
			return set("log_access", *in.LogAccess)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return s.Folder(f.Name)
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
	return s.change(ctx, by, "set mode", f.Display(at.Path), func(*store.Tx) error {
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
		return s.setMode(f, at.Path, set)
	})
}

// setMode does it, or notes what a trial would have done.
func (s *Service) setMode(f *site.PublishedFolder, path string, set files.Set) error {
	if s.trial == nil {
		return files.SetMode(s.Policy(), f, path, set)
	}
	known, ok := s.factsOf(f).UnixOf(path)
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
	s.trial.modes[objectAt{f.ID, path}] = &a
	return nil
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
	a, ok := s.factsOf(f).UnixOf(at.Path)
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
	return s.change(ctx, by, "remove folder", f.Name, func(tx *store.Tx) error {
		return tx.Run(ctx, `DELETE FROM folders WHERE id = ?`, f.ID)
	})
}

// EntryInput is what a new entry is made from.
type EntryInput struct {
	Who     string // as principals are written
	Deny    bool
	Level   string    // a level, or names of RFC 8881 bits with commas between
	Applies []string  // of folder, subfolders, files, direct; none is the first three
	Expires time.Time // the first moment at which it no longer counts; zero for never
	Note    string
}

type appliesName struct {
	name string
	bit  acl.Applies
}

var appliesNames = []appliesName{{"folder", acl.Here}, {"subfolders", acl.Subfolders}, {"files", acl.Files}, {"direct", acl.DirectOnly}}

// AppliesNames spells what an entry reaches.
func AppliesNames(a acl.Applies) []string {
	var out []string
	for _, n := range appliesNames {
		if a&n.bit != 0 {
			out = append(out, n.name)
		}
	}
	return out
}

func parseApplies(names []string) (acl.Applies, error) {
	if len(names) == 0 {
		return acl.Everywhere, nil
	}
	var a acl.Applies
	for _, name := range names {
		i := slices.IndexFunc(appliesNames, func(n appliesName) bool { return n.name == name })
		if i < 0 {
			return 0, invalid("applies", "%q is not one of folder, subfolders, files, direct", name)
		}
		a |= appliesNames[i].bit
	}
	if a&acl.Everywhere == 0 {
		return 0, invalid("applies", "the entry would reach nothing: name folder, subfolders or files as well")
	}
	if a&acl.DirectOnly != 0 && a&(acl.Subfolders|acl.Files) == 0 {
		return 0, invalid("applies", "direct narrows subfolders and files: name one of them as well")
	}
	return a, nil
}

func (s *Service) writeEntry(ctx context.Context, tx *store.Tx, in EntryInput, place, share any) (int64, error) {
	who, err := s.principal("who", in.Who)
	if err != nil {
		return 0, err
	}
	level, mask, err := acl.ParseGrant(in.Level)
	if err != nil {
		return 0, invalid("level", "%v", err)
	}
	applies, err := parseApplies(in.Applies)
	if err != nil {
		return 0, err
	}
	e := acl.Entry{Deny: in.Deny, Who: who, Level: level, Mask: mask, Applies: applies, Expires: in.Expires, Note: in.Note}
	if err := s.checkEntry(e); err != nil {
		return 0, err
	}
	return insertEntry(ctx, tx, place, share, e)
}

// insertEntry writes an entry on a place or a share; the other is nil.
func insertEntry(ctx context.Context, tx *store.Tx, place, share any, e acl.Entry) (int64, error) {
	var special, user, group any
	switch e.Who.Kind {
	case identity.KindUser:
		user = int64(e.Who.ID)
	case identity.KindGroup:
		group = int64(e.Who.ID)
	default:
		special = int64(e.Who.Kind)
	}
	return tx.Insert(ctx, `INSERT INTO entries (place_id, share_id, deny, special, user_id, group_id, level, mask, applies, expires, note) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`,
		place, share, e.Deny, special, user, group, int64(e.Level), int64(e.Mask), int64(e.Applies), instant(e.Expires), e.Note)
}

// AddEntry writes an entry on FOLDER or FOLDER/PATH and gives its number.
func (s *Service) AddEntry(ctx context.Context, by Actor, full string, in EntryInput) (int64, error) {
	var id int64
	f, at, err := s.entryPlace(full)
	if err != nil {
		return 0, err
	}
	err = s.change(ctx, by, "add entry", f.Display(at.Path), func(tx *store.Tx) error {
		if !at.Exists {
			return notFound("path", "amber entry list "+quote(f.Name), "%s is not on disk: an entry there would say nothing", f.Display(at.Path))
		}
		place, err := tx.Place(ctx, f.ID, at.Path)
		if err != nil {
			return err
		}
		id, err = s.writeEntry(ctx, tx, in, place, nil)
		return err
	})
	return id, err
}

// RemoveEntry removes an explicit entry of FOLDER or FOLDER/PATH.
func (s *Service) RemoveEntry(ctx context.Context, by Actor, full string, id int64) error {
	f, at, err := s.place(full)
	if err != nil {
		return err
	}
	return s.change(ctx, by, "remove entry "+itoa(id), f.Display(at.Path), func(tx *store.Tx) error {
		if !slices.ContainsFunc(s.rule(f.ID, at.Path).Entries, func(e acl.Entry) bool { return e.ID == id }) {
			return notFound("id", "amber entry list "+quote(f.Display(at.Path)), "entry %d is not written on %s", id, f.Display(at.Path))
		}
		if err := tx.Run(ctx, `DELETE FROM entries WHERE id = ?`, id); err != nil {
			return err
		}
		return tx.PrunePlaces(ctx, f.ID)
	})
}

// rule gives what is written on a path under the policy now in force; an empty rule
// where nothing is, or the folder has gone.
func (s *Service) rule(folder int64, path string) acl.Rule {
	if f := s.Policy().Folder(folder); f != nil {
		if r := f.Tree.Rule(path); r != nil {
			return *r
		}
	}
	return acl.Rule{}
}

// SetInherit cuts a path off from what its parents say, or takes that up again.
// With copy, cutting writes what was inherited as explicit entries first.
func (s *Service) SetInherit(ctx context.Context, by Actor, full string, inherit, copy bool) error {
	f, at, err := s.place(full)
	if err != nil {
		return err
	}
	action := "cut inheritance"
	if inherit {
		action = "take up inheritance"
	}
	return s.change(ctx, by, action, f.Display(at.Path), func(tx *store.Tx) error {
		if at.Path == "" {
			return invalid("path", "%s is the folder itself and inherits nothing", f.Name)
		}
		if !at.Exists {
			return notFound("path", "", "%s is not on disk", f.Display(at.Path))
		}
		place, err := tx.Place(ctx, f.ID, at.Path)
		if err != nil {
			return err
		}
		// Current under the writing lock, unlike f.
		if !inherit && copy && !s.rule(f.ID, at.Path).Cut {
			for _, e := range s.Policy().Folder(f.ID).Tree.InheritedEntries(at.Path, at.File) {
				if _, err := insertEntry(ctx, tx, place, nil, e); err != nil {
					return err
				}
			}
		}
		if err := tx.Run(ctx, `UPDATE places SET cut = ? WHERE id = ?`, !inherit, place); err != nil {
			return err
		}
		return tx.PrunePlaces(ctx, f.ID)
	})
}

// Locate finds the folder and the path below it, as it stands on disk.
func (s *Service) Locate(full string) (*site.PublishedFolder, files.Place, error) {
	return s.place(full)
}
