// Package site is everything an administrator has recorded, in two forms: the
// records as they are written, and the policy compiled from them, one immutable
// value that the data path reads without locks.
//
// It is pure: no clock, no storage, no network.
package site

import (
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/core/plain"
)

// Protocol is a way in.
type Protocol uint8

// The protocols that shares and exports are reached by.
const (
	SMB Protocol = iota + 1
	NFS
)

func (p Protocol) String() string {
	switch p {
	case SMB:
		return "SMB"
	case NFS:
		return "NFS"
	}
	return "no protocol"
}

// Volume is a host directory in which folders are made. Path is absolute.
type Volume struct {
	ID   int64  `json:"id,omitzero"`
	Name string `json:"name,omitzero"`
	Path string `json:"path,omitzero"`
	// Counting says what is counted of what is stored there; "" is nothing, as before there was a choice.
	Counting Counting `json:"counting,omitzero"`
	// Mark is what the directory carries so that it is known for the volume; "" where it has not been marked yet.
	Mark string `json:"mark,omitzero"`
}

// Location is where the volume itself is.
func (v Volume) Location() Location { return Location{Volume: v.Path, Mark: v.Mark} }

// Counting says which bytes count against limits.
type Counting string

// The ways of counting.
const (
	CountNothing   Counting = "off"
	CountSize      Counting = "size"      // as people see files
	CountAllocated Counting = "allocated" // as they take space on disk: holes cost nothing
)

// On says whether anything is counted.
func (c Counting) On() bool { return c == CountSize || c == CountAllocated }

// Folder is a directory on a volume that can be published. Path is relative to
// the volume. Owner and Group own what has no owner of its own on disk.
type Folder struct {
	ID          int64       `json:"id,omitzero"`
	Name        string      `json:"name,omitzero"`
	VolumeID    int64       `json:"volumeId,omitzero"`
	Path        string      `json:"path,omitzero"`
	Description string      `json:"description,omitzero"`
	Owner       identity.ID `json:"owner,omitzero"`
	Group       identity.ID `json:"group,omitzero"`
	Permissions Permissions `json:"permissions,omitzero"`
	Ownership   Ownership   `json:"ownership,omitzero"`
	LogAccess   bool        `json:"logAccess,omitzero"` // who reads and writes which file is journalled
	Rules       []acl.Rule  `json:"-"`                  // journalled one by one
}

// Share is a folder published over SMB. Entries are the share-level
// permissions, on top of the folder's own; none at all lets everyone through.
type Share struct {
	ID               int64       `json:"id,omitzero"`
	Name             string      `json:"name,omitzero"`
	FolderID         int64       `json:"folderId,omitzero"`
	Description      string      `json:"description,omitzero"`
	Announced        bool        `json:"announced,omitzero"` // appears in the list of shares
	ReadOnly         bool        `json:"readOnly,omitzero"`
	ListOnlyOpenable bool        `json:"listOnlyOpenable,omitzero"` // listings leave out what the user may not open
	Entries          []acl.Entry `json:"entries,omitzero"`
}

// Services says which protocols are switched on.
type Services struct {
	SMB bool `json:"smb"`
	NFS bool `json:"nfs"`
}

// On says whether a protocol is switched on.
func (s Services) On(p Protocol) bool { return p == SMB && s.SMB || p == NFS && s.NFS }

// Records is the whole content of the store that decides anything.
type Records struct {
	Users    []identity.User
	Groups   []identity.Group
	Volumes  []Volume
	Folders  []Folder
	Shares   []Share
	HostSets []HostSet
	Exports  []Export
	Services Services

	Acceptances []Acceptance
	IDLists     []IDList
	Reviews     []Review

	Limits  []limit.Limit
	Notices Notices
	Hooks   []Hook
}

// Acceptance says that somebody has looked at a finding and lives with it until a moment.
type Acceptance struct {
	ID      int64     `json:"id,omitzero"`
	Finding string    `json:"finding,omitzero"` // its key
	Reason  string    `json:"reason,omitzero"`
	Until   time.Time `json:"until,omitzero"`
	By      string    `json:"by,omitzero"`
}

// IDList is what another machine calls its users and groups, as last checked.
type IDList struct {
	ID      int64               `json:"id,omitzero"`
	Host    string              `json:"host,omitzero"`
	Numbers []identity.Numbered `json:"numbers,omitzero"`
}

// Location is where a folder is on the host.
type Location struct {
	Volume string // an absolute path
	Mark   string // that the directory there must carry to be the volume; "" for volumes that have none
	Below  string // of the volume
}

// String is the absolute path.
func (l Location) String() string { return filepath.Join(l.Volume, l.Below) }

// PublishedFolder is a folder as compiled. Root is its absolute path on the host.
type PublishedFolder struct {
	Folder
	Root    string
	At      Location
	Tree    *acl.Tree
	Shares  []*PublishedShare
	Exports []*PublishedExport
	// OwnedBy is who owns objects that have no owner of their own.
	OwnedBy acl.Ownership
}

// PublishedShare is a share as compiled. Entries is nil when there is none.
type PublishedShare struct {
	Share
	Folder  *PublishedFolder
	Entries *acl.Tree
}

// Policy is the compiled form of Records: immutable, for any number of readers.
type Policy struct {
	Directory *identity.Directory
	Services  Services
	Volumes   []Volume
	Folders   []*PublishedFolder
	Shares    []*PublishedShare
	HostSets  []HostSet
	Exports   []*PublishedExport

	Acceptances []Acceptance
	IDLists     []IDList
	Reviews     []Review

	Limits  *limit.Table
	Notices Notices
	Hooks   []Hook

	folderByName map[string]*PublishedFolder
	folderByID   map[int64]*PublishedFolder
	shareByName  map[string]*PublishedShare
	exportByPath map[string]*PublishedExport
	exportByID   map[int64]*PublishedExport
	hostNames    []string
	namesMatter  bool
}

// Compile checks the records against each other and builds the policy. Errors
// name the record at fault and wrap those of the identity package.
func Compile(r Records) (*Policy, error) {
	dir, err := identity.Compile(r.Users, r.Groups)
	if err != nil {
		return nil, err
	}
	p := &Policy{
		Directory: dir, Services: r.Services, Volumes: slices.Clone(r.Volumes),
		Acceptances: slices.Clone(r.Acceptances), IDLists: slices.Clone(r.IDLists), Reviews: slices.Clone(r.Reviews),
		Notices: r.Notices, Hooks: slices.Clone(r.Hooks),
		folderByName: make(map[string]*PublishedFolder), folderByID: make(map[int64]*PublishedFolder),
		shareByName: make(map[string]*PublishedShare), exportByPath: make(map[string]*PublishedExport), exportByID: make(map[int64]*PublishedExport),
	}
	volumes := make(map[int64]Volume)
	for _, v := range r.Volumes {
		volumes[v.ID] = v
	}
	for _, f := range r.Folders {
		v, ok := volumes[f.VolumeID]
		if !ok {
			return nil, fmt.Errorf("volume of folder %s: %w", f.Name, identity.ErrAbsent)
		}
		if _, ok := p.folderByName[identity.Fold(f.Name)]; ok {
			return nil, fmt.Errorf("folder name %q: %w", f.Name, identity.ErrDuplicate)
		}
		tree, err := acl.NewTree(dir, f.Rules)
		if err != nil {
			return nil, fmt.Errorf("folder %s: %w", f.Name, err)
		}
		pf := &PublishedFolder{
			Folder: f, Root: filepath.Join(v.Path, f.Path), At: Location{v.Path, v.Mark, f.Path}, Tree: tree,
			OwnedBy: acl.Ownership{User: dir.UserIndex(f.Owner), Group: dir.GroupIndex(f.Group)},
		}
		p.Folders = append(p.Folders, pf)
		p.folderByName[identity.Fold(f.Name)], p.folderByID[f.ID] = pf, pf
	}
	for _, s := range r.Shares {
		f, ok := p.folderByID[s.FolderID]
		if !ok {
			return nil, fmt.Errorf("folder of share %s: %w", s.Name, identity.ErrAbsent)
		}
		if _, ok := p.shareByName[identity.Fold(s.Name)]; ok {
			return nil, fmt.Errorf("share name %q: %w", s.Name, identity.ErrDuplicate)
		}
		ps := &PublishedShare{Share: s, Folder: f}
		if len(s.Entries) > 0 {
			if ps.Entries, err = acl.NewTree(dir, []acl.Rule{{Entries: s.Entries}}); err != nil {
				return nil, fmt.Errorf("share %s: %w", s.Name, err)
			}
		}
		f.Shares = append(f.Shares, ps)
		p.Shares = append(p.Shares, ps)
		p.shareByName[identity.Fold(s.Name)] = ps
	}
	if err := p.compileExports(r); err != nil {
		return nil, err
	}
	for _, l := range r.Limits {
		if _, ok := volumes[l.Volume]; l.Volume != 0 && !ok || l.Folder != 0 && p.folderByID[l.Folder] == nil {
			return nil, fmt.Errorf("where limit %d reaches: %w", l.ID, identity.ErrAbsent)
		}
	}
	if p.Limits, err = limit.NewTable(dir, r.Limits); err != nil {
		return nil, err
	}
	return p, nil
}

// FolderNamed finds a folder, whatever the case of the name; nil when there is none.
func (p *Policy) FolderNamed(name string) *PublishedFolder {
	return p.folderByName[identity.Fold(name)]
}

// Folder finds a folder by record; nil when there is none.
func (p *Policy) Folder(id int64) *PublishedFolder { return p.folderByID[id] }

// ShareNamed finds a share, whatever the case of the name; nil when there is none.
func (p *Policy) ShareNamed(name string) *PublishedShare { return p.shareByName[identity.Fold(name)] }

// Volume finds a volume by record; false where there is none.
func (p *Policy) Volume(id int64) (Volume, bool) {
	i := slices.IndexFunc(p.Volumes, func(v Volume) bool { return v.ID == id })
	if i < 0 {
		return Volume{}, false
	}
	return p.Volumes[i], true
}

// Unix says whether modes decide in the folder, and not entries.
func (f *PublishedFolder) Unix() bool { return f.Permissions == ByMode }

// Display spells a path below the folder as people write it: nightlog/2026/03.
func (f *PublishedFolder) Display(path string) string {
	if path == "" {
		return f.Name
	}
	return f.Name + "/" + path
}

// SplitPath parts "nightlog/2026/03" into the folder's name and the path below
// it, cleaned. An empty path, "..", and NUL are errors. Names that are no text are spelled: see plain.Spell.
func SplitPath(full string) (folder, path string, err error) {
	var parts []string
	for part := range strings.SplitSeq(plain.Slashes(full), "/") {
		switch {
		case part == "" || part == ".":
			continue
		case part == "..":
			return "", "", fmt.Errorf("path %q: %q is not allowed in a path", full, part)
		case strings.ContainsRune(part, 0):
			return "", "", fmt.Errorf("path %q holds a NUL character", full)
		}
		parts = append(parts, part)
	}
	if len(parts) == 0 {
		return "", "", fmt.Errorf("path %q names no folder: write FOLDER or FOLDER/PATH", full)
	}
	return parts[0], strings.Join(parts[1:], "/"), nil
}
