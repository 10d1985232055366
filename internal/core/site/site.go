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
	identity.Labelled
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
	Personal    *Personal   `json:"personal,omitzero"`  // each of a group has a directory of their own in it; nil for none
	LogAccess   bool        `json:"logAccess,omitzero"` // who reads and writes which file is journalled
	identity.Labelled
	Rules []acl.Rule `json:"-"` // journalled one by one
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
	Encrypted        bool        `json:"encrypted,omitzero"`        // nothing goes over the wire open
	Persistent       bool        `json:"persistent,omitzero"`       // what is open outlasts the service
	ShowLinks        bool        `json:"showLinks,omitzero"`        // symbolic links are told to clients, and not followed for them
	Guests           bool        `json:"guests,omitzero"`           // who comes without an account may come in
	Entries          []acl.Entry `json:"entries,omitzero"`
	Hosts            []HostTerm  `json:"hosts,omitzero"`   // from which hosts, the first that fits counts; none: from every one
	Offline          Offline     `json:"offline,omitzero"` // "" is OfflineManual
	MostConnections  int         `json:"mostConnections,omitzero"`
	identity.Labelled
}

// Services says which protocols are switched on.
type Services struct {
	SMB bool `json:"smb"`
	NFS bool `json:"nfs"`
	// SMBEncrypted has nothing of any share go over the wire open.
	SMBEncrypted bool `json:"smbEncrypted,omitzero"`
	// SMBGuest is the user as whom those come in who have no account; 0 where nobody does.
	SMBGuest identity.ID `json:"smbGuest,omitzero"`
}

// TakesIn says whether a share lets a user come in as far as guests are concerned: the one as whom those come who have no account is let in by
// shares that take guests, and by no others.
func (p *Policy) TakesIn(sh *PublishedShare, user identity.ID) bool {
	return user == 0 || user != p.Services.SMBGuest || sh.Guests
}

// Sealed says whether nothing of a share goes over the wire open.
func (p *Policy) Sealed(sh *PublishedShare) bool { return p.Services.SMBEncrypted || sh.Encrypted }

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
	NumberMaps  []NumberMap
	Reviews     []Review

	Limits  []limit.Limit
	Notices Notices
	Hooks   []Hook

	SigningIn SigningIn
	Tokens    []Token

	RetiredNumbers []RetiredNumber
	Profiles       []Profile
	Holdings       []Holding
	ServerNames    []ServerName
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
	InForce []ExportRule // what Hosts comes to, with host sets put in place
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
	NumberMaps  []*HostNumbers
	Reviews     []Review

	Limits  *limit.Table
	Notices Notices
	Hooks   []Hook

	SigningIn SigningIn
	Tokens    []Token
	Profiles  []Profile
	Holdings  []Holding

	ServerNames []ServerName

	folderByName map[string]int // where they are in the lists
	folderByID   map[int64]int
	shareByName  map[string]int
	exportByPath map[string]int
	exportByID   map[int64]int
	hostNames    []string
	namesMatter  bool
	mapsByName   bool // some number map is about host names
}

// Compile checks the records against each other and builds the policy. Errors
// name the record at fault and wrap those of the identity package.
func Compile(r Records) (*Policy, error) {
	dir, err := identity.Compile(r.Users, r.Groups)
	if err != nil {
		return nil, err
	}
	return compile(r, dir, func(Key) bool { return true }, &Policy{}, false)
}

// Next is Compile for a draft that was made from the records of the policy, or that has become another since it was last compiled: what nothing of that
// bears on is shared with the policy.
func (p *Policy) Next(d *Draft) (*Policy, error) {
	r, touched := d.Records(), d.fresh
	d.fresh, d.stirred = make(map[Key]bool), false
	var people []identity.Principal
	for key := range touched {
		switch key.Kind {
		case "user":
			people = append(people, identity.UserPrincipal(identity.ID(key.ID)))
		case "group":
			people = append(people, identity.GroupPrincipal(identity.ID(key.ID)))
		}
	}
	dir, kept := p.Directory, true
	if len(people) > 0 {
		var err error
		if dir, kept, err = dir.Next(r.Users, r.Groups, people); err != nil {
			return nil, err
		}
		for i := range r.Folders { // who has a directory there may be others
			if r.Folders[i].Personal != nil {
				touched[Key{folderRules, r.Folders[i].ID}] = true
			}
		}
	}
	for key := range touched {
		switch key.Kind {
		case "volume", "folder", "share", "export", "host set":
			return compile(r, dir, func(k Key) bool { return touched[k] }, p, kept)
		}
	}
	if !kept {
		return compile(r, dir, func(Key) bool { return true }, p, false)
	}
	next := *p
	next.Directory = dir
	if err := next.takeRest(r, p); err != nil {
		return nil, err
	}
	if err := next.takeRules(r, touched); err != nil {
		return nil, err
	}
	return &next, next.takeLimits(r, touched, p)
}

// takeRest takes what needs little compiling, or none.
func (p *Policy) takeRest(r Records, before *Policy) error {
	p.Services, p.Volumes, p.Acceptances, p.IDLists, p.Reviews, p.Notices, p.Hooks = r.Services, r.Volumes, r.Acceptances, r.IDLists, r.Reviews, r.Notices, r.Hooks
	p.SigningIn, p.Tokens, p.Profiles, p.Holdings, p.ServerNames = r.SigningIn, r.Tokens, r.Profiles, r.Holdings, r.ServerNames
	return p.takeNumberMaps(r, before.NumberMaps)
}

// takeRules compiles the rules of folders, and nothing else of them: they are published as they were.
func (p *Policy) takeRules(r Records, touched map[Key]bool) error {
	own := false
	for key := range touched {
		at, there := p.folderByID[key.ID]
		if key.Kind != folderRules || !there {
			continue
		}
		if !own {
			own, p.Folders, p.Shares, p.Exports = true, slices.Clone(p.Folders), slices.Clone(p.Shares), slices.Clone(p.Exports)
		}
		f := *p.Folders[at]
		f.Folder, _ = folders.get(&r, key.ID)
		f.Rules = f.inForce(p.Directory)
		var err error
		if f.Tree, err = acl.NewTree(p.Directory.Indexes(), f.Rules); err != nil {
			return fmt.Errorf("folder %s: %w", f.Name, err)
		}
		f.Shares, f.Exports = slices.Clone(f.Shares), slices.Clone(f.Exports)
		for i := range f.Shares {
			s := *f.Shares[i]
			s.Folder, f.Shares[i] = &f, &s
			p.Shares[p.shareByName[identity.Fold(s.Name)]] = &s
		}
		for i := range f.Exports {
			e := *f.Exports[i]
			e.Folder, f.Exports[i] = &f, &e
			p.Exports[p.exportByID[e.ID]] = &e
		}
		p.Folders[at] = &f
	}
	return nil
}

// takeLimits compiles the limits, where they have become others.
func (p *Policy) takeLimits(r Records, touched map[Key]bool, before *Policy) (err error) {
	if before.Limits != nil && !touched[Key{Kind: anyLimit}] {
		p.Limits = before.Limits.With(p.Directory)
		return nil
	}
	for _, l := range r.Limits {
		if _, ok := p.Volume(l.Volume); l.Volume != 0 && !ok || l.Folder != 0 && p.Folder(l.Folder) == nil {
			return fmt.Errorf("where limit %d reaches: %w", l.ID, identity.ErrAbsent)
		}
	}
	p.Limits, err = limit.NewTable(p.Directory, r.Limits)
	return err
}

// compile builds the policy of records, and takes from the one before it what is not touched; kept is that the dense indexes of people are the same.
func compile(r Records, dir *identity.Directory, touched func(Key) bool, before *Policy, kept bool) (*Policy, error) {
	p := &Policy{
		Directory:    dir,
		folderByName: make(map[string]int, len(r.Folders)), folderByID: make(map[int64]int, len(r.Folders)),
		shareByName: make(map[string]int, len(r.Shares)), exportByPath: make(map[string]int, len(r.Exports)), exportByID: make(map[int64]int, len(r.Exports)),
	}
	if err := p.takeRest(r, before); err != nil {
		return nil, err
	}
	// tree gives the one that there was, where nothing has become of it.
	tree := func(was *acl.Tree, key Key, rules []acl.Rule) (*acl.Tree, error) {
		if kept && was != nil && !touched(key) {
			return was, nil
		}
		return acl.NewTree(dir.Indexes(), rules)
	}
	volumes := make(map[int64]Volume)
	for _, v := range r.Volumes {
		volumes[v.ID] = v
	}
	p.Folders = make([]*PublishedFolder, 0, len(r.Folders))
	for _, f := range r.Folders {
		v, ok := volumes[f.VolumeID]
		if !ok {
			return nil, fmt.Errorf("volume of folder %s: %w", f.Name, identity.ErrAbsent)
		}
		name := identity.Fold(f.Name)
		if _, ok := p.folderByName[name]; ok {
			return nil, fmt.Errorf("folder name %q: %w", f.Name, identity.ErrDuplicate)
		}
		pf := &PublishedFolder{
			Folder: f, Root: filepath.Join(v.Path, f.Path), At: Location{v.Path, v.Mark, f.Path},
			OwnedBy: acl.Ownership{User: dir.UserIndex(f.Owner), Group: dir.GroupIndex(f.Group)},
		}
		pf.Rules = f.inForce(dir)
		var was *acl.Tree // none where people come and go in it
		if old := before.Folder(f.ID); old != nil && old.Personal == nil && f.Personal == nil {
			was = old.Tree
		}
		var err error
		if pf.Tree, err = tree(was, Key{folderRules, f.ID}, pf.Rules); err != nil {
			return nil, fmt.Errorf("folder %s: %w", f.Name, err)
		}
		p.folderByName[name], p.folderByID[f.ID] = len(p.Folders), len(p.Folders)
		p.Folders = append(p.Folders, pf)
	}
	hosts, err := p.compileHostSets(r)
	if err != nil {
		return nil, err
	}
	old := make(map[int64]*PublishedShare, len(before.Shares))
	for _, s := range before.Shares {
		old[s.ID] = s
	}
	for _, s := range r.Shares {
		f := p.Folder(s.FolderID)
		if f == nil {
			return nil, fmt.Errorf("folder of share %s: %w", s.Name, identity.ErrAbsent)
		}
		name := identity.Fold(s.Name)
		if _, ok := p.shareByName[name]; ok {
			return nil, fmt.Errorf("share name %q: %w", s.Name, identity.ErrDuplicate)
		}
		ps := &PublishedShare{Share: s, Folder: f}
		if len(s.Entries) > 0 {
			var was *acl.Tree
			if old := old[s.ID]; old != nil {
				was = old.Entries
			}
			if ps.Entries, err = tree(was, Key{"share", s.ID}, []acl.Rule{{Entries: s.Entries}}); err != nil {
				return nil, fmt.Errorf("share %s: %w", s.Name, err)
			}
		}
		if ps.InForce, err = hosts.inForce(rulesOf(s.Hosts)); err != nil {
			return nil, fmt.Errorf("share %s: %w", s.Name, err)
		}
		f.Shares = append(f.Shares, ps)
		p.shareByName[name] = len(p.Shares)
		p.Shares = append(p.Shares, ps)
	}
	if err := p.compileExports(r, hosts); err != nil {
		return nil, err
	}
	all := map[Key]bool{{Kind: anyLimit}: touched(Key{Kind: anyLimit})}
	return p, p.takeLimits(r, all, before)
}

// FolderNamed finds a folder, whatever the case of the name; nil when there is none.
func (p *Policy) FolderNamed(name string) *PublishedFolder {
	return pick(p.Folders, p.folderByName, identity.Fold(name))
}

// pick gives what a key leads to; nil where it leads nowhere.
func pick[K comparable, T any](list []*T, by map[K]int, key K) *T {
	if i, ok := by[key]; ok {
		return list[i]
	}
	return nil
}

// Folder finds a folder by record; nil when there is none.
func (p *Policy) Folder(id int64) *PublishedFolder { return pick(p.Folders, p.folderByID, id) }

// Share finds a share by its number; nil when there is none.
func (p *Policy) Share(id int64) *PublishedShare {
	i := slices.IndexFunc(p.Shares, func(s *PublishedShare) bool { return s.ID == id })
	if i < 0 {
		return nil
	}
	return p.Shares[i]
}

// ShareNamed finds a share, whatever the case of the name; nil when there is none.
func (p *Policy) ShareNamed(name string) *PublishedShare {
	return pick(p.Shares, p.shareByName, identity.Fold(name))
}

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

// Token finds a token by record; false where there is none.
func (p *Policy) Token(id int64) (Token, bool) {
	i := slices.IndexFunc(p.Tokens, func(t Token) bool { return t.ID == id })
	if i < 0 {
		return Token{}, false
	}
	return p.Tokens[i], true
}
