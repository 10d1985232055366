package api

import (
	"cmp"
	"context"
	"fmt"
	"net/http"
	"time"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/job"
	"amber.example/gatekeeper/internal/service"
)

// Volume is a volume's record.
type Volume struct {
	Name     string            `json:"name"`
	Path     string            `json:"path" doc:"On the host."`
	Counting string            `json:"counting" enum:"off,size,allocated" doc:"What is counted of what is stored there."`
	Away     string            `json:"away,omitempty" doc:"Why it is not where it should be; left out where it is there. What is on it is answered with an error meanwhile."`
	Since    *time.Time        `json:"since,omitempty" doc:"Since when it has been away."`
	Labels   map[string]string `json:"labels,omitempty" doc:"What it is marked with, by key."`
}

// Folder is a folder's record.
type Folder struct {
	Name        string            `json:"name"`
	Volume      string            `json:"volume"`
	Path        string            `json:"path" doc:"Below the volume."`
	Description string            `json:"description"`
	Owner       string            `json:"owner,omitempty"`
	Group       string            `json:"group,omitempty"`
	Permissions string            `json:"permissions" enum:"acl,unix" doc:"What decides: the entries, or owner, group, mode and POSIX ACL of each object."`
	Ownership   string            `json:"ownership" enum:"mapped,native" doc:"Where objects carry their owner: in an extended attribute, or as the host's own."`
	Away        string            `json:"away,omitempty" doc:"Why its volume is not where it should be: until it is, everybody is answered with an I/O error."`
	Converting  int64             `json:"converting,omitempty" doc:"When it has just been added with convert: the job that turns modes into entries."`
	Personal    *PersonalOf       `json:"personal,omitempty" doc:"Each of a group has a directory of their own in it."`
	LogAccess   bool              `json:"logAccess,omitempty" doc:"The journal tells who reads and writes which file."`
	Shares      []Published       `json:"shares" doc:"Where it is published over SMB."`
	Exports     []Exported        `json:"exports" doc:"Where it is published over NFS."`
	Places      []Place           `json:"places" doc:"The paths on which something is written, the folder itself first."`
	Labels      map[string]string `json:"labels,omitempty" doc:"What it is marked with, by key."`
}

// PersonalOf says who has a directory of their own in a folder.
type PersonalOf struct {
	Group string `json:"group" doc:"Each of this group has one, called as they are."`
	Level string `json:"level" enum:"change,control" doc:"What they have of it."`
}

// Published is one share of a folder, in short.
type Published struct {
	Name      string `json:"name"`
	ReadOnly  bool   `json:"readOnly"`
	Announced bool   `json:"announced"`
	On        bool   `json:"on" doc:"Whether the service that answers it is switched on."`
}

// Exported is one export of a folder, in short.
type Exported struct {
	Path  string `json:"path"`
	Below string `json:"below,omitempty" doc:"Where in the folder it begins."`
	Rules int    `json:"rules" doc:"How many client rules are in force."`
	On    bool   `json:"on" doc:"Whether the service that answers it is switched on."`
}

// Place is what is written on one path.
type Place struct {
	Path     string  `json:"path" doc:"Folder and path."`
	Cut      bool    `json:"cut" doc:"Inherits nothing from above."`
	Entries  []Entry `json:"entries"`
	Explicit int     `json:"explicit" doc:"How many of the entries are written here; the others are inherited."`
}

// Entry is one entry of an ACL.
type Entry struct {
	ID      int64      `json:"id"`
	Deny    bool       `json:"deny"`
	Kind    string     `json:"kind" enum:"user,group,special"`
	Who     string     `json:"who"`
	Level   string     `json:"level" doc:"pass, read, add, change or control; or names of RFC 8881 bits with commas between."`
	Bits    []string   `json:"bits,omitempty" doc:"The bits, where it is no level."`
	Applies []string   `json:"applies" doc:"What it reaches: folder, subfolders, files; direct for no further than that."`
	Ends    *time.Time `json:"ends,omitempty" doc:"When it ends by itself."`
	Ended   bool       `json:"ended,omitempty" doc:"It has ended and counts no more."`
	Note    string     `json:"note,omitempty"`
	Own     bool       `json:"own,omitempty" doc:"Nobody wrote it: the folder is personal."`
	From    string     `json:"from" doc:"The path it is written on."`
}

func entryOf(p *site.Policy, e *acl.Entry, from string) Entry {
	kind := "special"
	switch e.Who.Kind {
	case identity.KindUser:
		kind = "user"
	case identity.KindGroup:
		kind = "group"
	}
	out := Entry{ID: e.ID, Deny: e.Deny, Kind: kind, Who: p.Directory.Name(e.Who), Level: e.Grant(),
		Applies: e.Applies.Names(), Note: e.Note, From: from, Own: e.ID < 0}
	if out.Own {
		out.ID = 0
	}
	if e.Level == acl.NoLevel {
		out.Bits = e.Mask.Names(true)
	}
	out.Ends, out.Ended = orNever(e.Expires), e.Ended(time.Now())
	return out
}

func placeOf(p *site.Policy, f *site.PublishedFolder, path string, file bool) Place {
	out := Place{Path: f.Display(path), Entries: []Entry{}}
	shown := make(map[int64]bool)
	if r := f.Tree.Rule(path); r != nil {
		out.Cut = r.Cut
		// In the order in which they are evaluated, then those that only reach below.
		for _, deny := range []bool{true, false} {
			for i := range r.Entries {
				if r.Entries[i].Deny == deny {
					out.Entries = append(out.Entries, entryOf(p, &r.Entries[i], f.Display(path)))
					shown[r.Entries[i].ID] = true
				}
			}
		}
	}
	out.Explicit = len(out.Entries)
	for _, a := range f.Tree.List(path, file).Aces {
		if !shown[a.Entry.ID] {
			out.Entries = append(out.Entries, entryOf(p, a.Entry, f.Display(a.From)))
		}
	}
	return out
}

func (s *Server) folderOf(p *site.Policy, f *site.PublishedFolder) Folder {
	away, _ := s.svc.VolumeAway(f.VolumeID)
	out := Folder{Away: away.Why, Labels: f.Labels.Map(), LogAccess: f.LogAccess, Name: f.Name, Path: f.Path, Description: f.Description, Permissions: string(site.ByEntries), Ownership: string(site.Mapped),
		Shares: []Published{}, Exports: []Exported{}, Places: []Place{}}
	if f.Unix() {
		out.Permissions = string(site.ByMode)
	}
	if f.Ownership != "" {
		out.Ownership = string(f.Ownership)
	}
	for _, e := range f.Exports {
		out.Exports = append(out.Exports, Exported{e.Path, e.Below, len(e.InForce), p.Services.NFS})
	}
	for _, v := range p.Volumes {
		if v.ID == f.VolumeID {
			out.Volume = v.Name
		}
	}
	if u := p.Directory.User(f.Owner); u != nil {
		out.Owner = u.Name
	}
	if g := p.Directory.Group(f.Group); g != nil {
		out.Group = g.Name
	}
	for _, sh := range f.Shares {
		out.Shares = append(out.Shares, Published{sh.Name, sh.ReadOnly, sh.Announced, p.Services.SMB})
	}
	if f.Unix() {
		return out // entries would say nothing
	}
	if len(f.Rules) == 0 || f.Rules[0].Path != "" {
		out.Places = append(out.Places, placeOf(p, f, "", false))
	}
	if f.Personal != nil {
		out.Personal = &PersonalOf{Group: p.Directory.Name(identity.GroupPrincipal(f.Personal.Group)), Level: cmp.Or(f.Personal.Level, acl.Change).String()}
	}
	for _, r := range f.Rules {
		if len(site.WrittenRules([]acl.Rule{r})) == 0 && r.Path != "" {
			continue // one for each person
		}
		out.Places = append(out.Places, placeOf(p, f, r.Path, false))
	}
	return out
}

// EntryBody is what an entry is made from.
type EntryBody struct {
	Who     string     `json:"who" maxLength:"80" doc:"A user or group (user:NAME or group:NAME where both exist), owner@, group@ or everyone@."`
	Deny    bool       `json:"deny,omitempty"`
	Level   string     `json:"level" maxLength:"300" doc:"pass, read, add, change or control; or names of RFC 8881 bits with commas between."`
	Ends    *time.Time `json:"ends,omitempty" doc:"When it ends by itself; never if left out."`
	Applies []string   `json:"applies,omitempty" maxItems:"4" enum:"folder,subfolders,files,direct" doc:"What it reaches; folder, subfolders and files if left out."`
	Note    string     `json:"note,omitempty" maxLength:"500"`
	Through bool       `json:"through,omitempty" doc:"Write entries as well by which they may pass every directory above, where none does yet."`
}

// EntryChange is what is to change of an entry; what is left out stays.
type EntryChange struct {
	Level   *string    `json:"level,omitempty" maxLength:"300"`
	Applies []string   `json:"applies,omitempty" maxItems:"4" enum:"folder,subfolders,files,direct"`
	Ends    *time.Time `json:"ends,omitempty"`
	Endless bool       `json:"endless,omitempty" doc:"It ends no more."`
	Note    *string    `json:"note,omitempty" maxLength:"500"`
}

func (b EntryChange) change() service.EntryChange {
	out := service.EntryChange{Level: b.Level, Applies: b.Applies, Note: b.Note}
	if b.Ends != nil {
		at := b.Ends.UTC().Truncate(time.Second)
		out.Expires = &at
	}
	if b.Endless {
		out.Expires = &time.Time{}
	}
	return out
}

func (b EntryBody) input() service.EntryInput {
	in := service.EntryInput{Who: b.Who, Deny: b.Deny, Level: b.Level, Applies: b.Applies, Note: b.Note, Through: b.Through}
	if b.Ends != nil {
		in.Expires = b.Ends.UTC().Truncate(time.Second)
	}
	return in
}

// Made is the number of what was made.
type Made struct {
	ID int64 `json:"id"`
}

// VolumeRoom is a volume with the room that there is on it.
type VolumeRoom struct {
	Volume
	Folders    []string `json:"folders"`
	TotalBytes *int64   `json:"totalBytes,omitempty" doc:"That its file system holds; left out where it cannot be told, as is what follows."`
	FreeBytes  *int64   `json:"freeBytes,omitempty"`
	TotalFiles *int64   `json:"totalFiles,omitempty" doc:"Left out where the file system has no such bound."`
	FreeFiles  *int64   `json:"freeFiles,omitempty"`
}

// VolumeCandidate is a directory of the host that a volume may be.
type VolumeCandidate struct {
	Name   string `json:"name"`
	Path   string `json:"path"`
	Volume string `json:"volume,omitempty" doc:"The volume that it is."`
	Wrong  string `json:"wrong,omitempty" doc:"Why it cannot be one."`
}

// VolumeCandidates are a directory of the host and those in it.
type VolumeCandidates struct {
	VolumeCandidate
	Up         string            `json:"up,omitempty" doc:"The directory that it is in, where one may look there."`
	FileSystem string            `json:"fileSystem,omitempty" doc:"What kind it is, such as ext4."`
	Mind       string            `json:"mind,omitempty" doc:"What is to be known of that kind."`
	TotalBytes *int64            `json:"totalBytes,omitempty"`
	FreeBytes  *int64            `json:"freeBytes,omitempty"`
	Below      []VolumeCandidate `json:"below" doc:"By name; hidden ones are left out."`
	More       bool              `json:"more,omitempty" doc:"There are more than are told."`
}

func candidatesOf(is service.Candidates) VolumeCandidates {
	out := VolumeCandidates{VolumeCandidate: VolumeCandidate(is.Candidate), Up: is.Up, FileSystem: is.FileSystem, Mind: is.Mind, Below: []VolumeCandidate{}, More: is.More}
	if is.Space.Total > 0 {
		total, free := int64(min(is.Space.Total, 1<<62)), int64(min(is.Space.OnVolume, 1<<62))
		out.TotalBytes, out.FreeBytes = &total, &free
	}
	for _, c := range is.Below {
		out.Below = append(out.Below, VolumeCandidate(c))
	}
	return out
}

// NewVolume is what a volume is made from.
type NewVolume struct {
	Name string `json:"name" maxLength:"80"`
	Path string `json:"path" maxLength:"4096"`

	TakeOver bool              `json:"take_over,omitempty" doc:"Though it carries the mark of another service's volume."`
	Labels   map[string]string `json:"labels,omitempty" maxProperties:"16" doc:"What it is marked with, by key; an empty value takes one away."`
}

// VolumeChange is what is to change of a volume; what is left out stays.
type VolumeChange struct {
	Counting *string           `json:"counting,omitempty" enum:"off,size,allocated" doc:"Bytes as people see them, or as they take space on disk."`
	Name     *string           `json:"name,omitempty" maxLength:"80" doc:"Another name."`
	Path     *string           `json:"path,omitempty" maxLength:"4096" doc:"The directory where it is now; it has to carry the volume's mark."`
	Here     bool              `json:"here,omitempty" doc:"Take what is at the volume's directory now for the volume: for a disk that was replaced, and whose data was put back."`
	Labels   map[string]string `json:"labels,omitempty" maxProperties:"16" doc:"What it is marked with, by key; an empty value takes one away."`
}

// NewFolder is what a folder is made from.
type NewFolder struct {
	Name        string `json:"name" maxLength:"80"`
	Volume      string `json:"volume" maxLength:"80"`
	Path        string `json:"path,omitempty" maxLength:"4096" doc:"Below the volume; the name if left out. A directory already there is adopted."`
	Description string `json:"description,omitempty" maxLength:"200"`
	Owner       string `json:"owner,omitempty" maxLength:"64"`
	Group       string `json:"group,omitempty" maxLength:"64"`
	Permissions string `json:"permissions,omitempty" enum:"acl,unix" doc:"What decides; entries if left out."`
	Ownership   string `json:"ownership,omitempty" enum:"mapped,native" doc:"Native where the service runs as root, and mapped elsewhere, if left out."`
	Mode        string `json:"mode,omitempty" pattern:"^[0-7]{1,4}$" patternDescription:"up to four octal digits, such as 2770" doc:"Octal, of the folder itself, where modes decide."`
	ArrangementBody
	Convert bool              `json:"convert,omitempty" doc:"Turn the owners, modes and POSIX ACLs of what is there already into entries."`
	Labels  map[string]string `json:"labels,omitempty" maxProperties:"16" doc:"What it is marked with, by key; an empty value takes one away."`
}

// FolderChange is what is to change of a folder's record; what is left out stays.
type FolderChange struct {
	Name        *string           `json:"name,omitempty" maxLength:"80" doc:"Another name; what refers to it goes on to."`
	Description *string           `json:"description,omitempty" maxLength:"200"`
	Owner       *string           `json:"owner,omitempty" maxLength:"64" doc:"Of what has none of its own on disk."`
	Group       *string           `json:"group,omitempty" maxLength:"64" doc:"Likewise."`
	Personal    *string           `json:"personal,omitempty" maxLength:"64" doc:"The group of which each has a directory of their own in it, called as they are; empty for none."`
	LogAccess   *bool             `json:"logAccess,omitempty" doc:"Whether the journal tells who reads and writes which file."`
	Labels      map[string]string `json:"labels,omitempty" maxProperties:"16" doc:"What it is marked with, by key; an empty value takes one away."`
}

// NewEntry is an entry with the path to write it on.
type NewEntry struct {
	Path string `json:"path" maxLength:"4096" doc:"FOLDER or FOLDER/PATH."`
	EntryBody
}

// Inheritance is whether a path takes up what is written above it.
type Inheritance struct {
	Path    string `json:"path" maxLength:"4096"`
	Inherit bool   `json:"inherit"`
	Copy    bool   `json:"copy,omitempty" doc:"When cutting, keep a copy of what was inherited."`
}

// AtPath is the parameter of what is asked of a path.
type AtPath struct {
	Path string `query:"path" required:"true" maxLength:"4096" doc:"FOLDER or FOLDER/PATH."`
}

func (s *Server) roomOf(ctx context.Context, v site.Volume) VolumeRoom {
	out := VolumeRoom{Volume: s.volumeOf(v), Folders: []string{}}
	for _, f := range s.on(ctx).Policy().Folders {
		if f.VolumeID == v.ID {
			out.Folders = append(out.Folders, f.Name)
		}
	}
	if space, err := s.on(ctx).VolumeSpace(v); err == nil {
		total, free := int64(min(space.Total, 1<<62)), int64(min(space.OnVolume, 1<<62))
		out.TotalBytes, out.FreeBytes = &total, &free
		if space.Files > 0 {
			files, freeFiles := int64(min(space.Files, 1<<62)), int64(min(space.FreeFiles, 1<<62))
			out.TotalFiles, out.FreeFiles = &files, &freeFiles
		}
	}
	return out
}

// volumes are the directories of the host; of one, the room on it is shown as well.
func (s *Server) volumes() resource[Volume, NewVolume, VolumeChange] {
	return resource[Volume, NewVolume, VolumeChange]{
		one: "volume", many: "volumes", route: "/volumes", tag: "places",
		does: summaries{list: "List the volumes", add: "Register a host directory as a volume", change: "Change what is counted of what is stored on a volume, or what the volume is",
			remove: "Forget a volume that has no folders"},
		listing: listing[Volume]{name: func(v *Volume) string { return v.Name }, labels: func(v *Volume) map[string]string { return v.Labels }, matches: func(v *Volume) []string { return []string{v.Path} }, sorts: map[string]func(*Volume) string{
			"path": func(v *Volume) string { return v.Path }}},
		all: func(ctx context.Context) (out []Volume) {
			for _, v := range s.on(ctx).Policy().Volumes {
				out = append(out, s.volumeOf(v))
			}
			return out
		},
		add: func(ctx context.Context, b NewVolume) (Volume, error) {
			v, err := s.on(ctx).CreateVolume(ctx, caller(ctx), service.VolumeInput{Name: b.Name, Path: b.Path, TakeOver: b.TakeOver, Labels: b.Labels})
			return shownBy(v, err, s.volumeOf)
		},
		change: func(ctx context.Context, name string, b VolumeChange) (Volume, error) {
			v, err := s.on(ctx).UpdateVolume(ctx, caller(ctx), name, service.VolumeChange{Name: b.Name, Path: b.Path, Counting: (*site.Counting)(b.Counting), Here: b.Here, Labels: b.Labels})
			return shownBy(v, err, s.volumeOf)
		},
		remove: func(ctx context.Context, name string) error { return s.on(ctx).RemoveVolume(ctx, caller(ctx), name) },
	}
}

func (s *Server) folders() resource[Folder, NewFolder, FolderChange] {
	shown := func(ctx context.Context) func(*site.PublishedFolder) Folder {
		return func(f *site.PublishedFolder) Folder { return s.folderOf(s.on(ctx).Policy(), f) }
	}
	return resource[Folder, NewFolder, FolderChange]{
		one: "folder", many: "folders", route: "/folders", tag: "places",
		does: summaries{"List the folders", "Show a folder", "Make a folder", "Change a folder's record", "Forget a folder, its entries and its shares; data stays"},
		listing: listing[Folder]{name: func(f *Folder) string { return f.Name }, labels: func(f *Folder) map[string]string { return f.Labels }, matches: func(f *Folder) []string { return []string{f.Description} }, sorts: map[string]func(*Folder) string{
			"volume": func(f *Folder) string { return f.Volume }}},
		all: func(ctx context.Context) (out []Folder) {
			p := s.on(ctx).Policy()
			for _, f := range p.Folders {
				out = append(out, s.folderOf(p, f))
			}
			return out
		},
		show: func(ctx context.Context, name string) (Folder, error) {
			f, err := s.on(ctx).Folder(name)
			return shownBy(f, err, shown(ctx))
		},
		add: s.addFolder,
		change: func(ctx context.Context, name string, b FolderChange) (Folder, error) {
			f, err := s.on(ctx).UpdateFolder(ctx, caller(ctx), name, service.FolderChange(b))
			return shownBy(f, err, shown(ctx))
		},
		remove: func(ctx context.Context, name string) error { return s.on(ctx).RemoveFolder(ctx, caller(ctx), name) },
	}
}

func (s *Server) addFolder(ctx context.Context, b NewFolder) (Folder, error) {
	if b.Convert {
		if b.Permissions != "" || b.Arrangement != "" {
			return Folder{}, &service.Error{Kind: service.Invalid, Field: "convert", Message: "what is there becomes entries: say neither permissions nor an arrangement"}
		}
		b.Permissions = string(site.ByMode)
	}
	svc := s.on(ctx)
	f, err := svc.CreateFolder(ctx, caller(ctx), service.FolderInput{Name: b.Name, Volume: b.Volume, Path: b.Path, Description: b.Description, Owner: b.Owner, Group: b.Group,
		Permissions: site.Permissions(b.Permissions), Ownership: site.Ownership(b.Ownership), Mode: parseOctal(b.Mode), Labels: b.Labels})
	var converting *job.Job
	if err == nil && b.Convert {
		converting, err = svc.ConvertFolder(ctx, caller(ctx), f.Name)
	}
	if err == nil && b.Arrangement != "" {
		err = svc.Arrange(ctx, caller(ctx), f.Name, b.Arrangement, b.Team, b.Others)
	}
	if err != nil {
		return Folder{}, err
	}
	out := s.folderOf(svc.Policy(), svc.Policy().Folder(f.ID))
	if converting != nil {
		out.Converting = converting.ID()
	}
	return out, nil
}

// Browsed is a directory of a folder, with some of what is in it.
type Browsed struct {
	Path  string        `json:"path"`
	User  string        `json:"user,omitempty" doc:"Whose levels are told."`
	Level *Levels       `json:"level,omitempty" doc:"What that user may do to the directory itself."`
	Below []BrowsedName `json:"below" doc:"In the order of their names."`
	More  bool          `json:"more,omitempty" doc:"There are more after the last."`
}

// BrowsedName is one name of it.
type BrowsedName struct {
	Name    string     `json:"name"`
	Sort    files.Sort `json:"sort" enum:"directory,file,link,special" doc:"What it is. Only links that lead to a place in the folder are served, and nothing special is."`
	Size    int64      `json:"size,omitempty" doc:"Of a file, in bytes."`
	Changed time.Time  `json:"changed"`
	Owner   string     `json:"owner"`
	Group   string     `json:"group"`
	Mode    string     `json:"mode" doc:"In octal."`
	Entries int        `json:"entries,omitempty" doc:"How many are written on it itself."`
	Cut     bool       `json:"cut,omitempty" doc:"It inherits no entries from above."`
	Level   *Levels    `json:"level,omitempty" doc:"What the user may do to it."`
}

func browsedOf(is service.Looked) Browsed {
	out := Browsed{Path: is.Path, User: is.User, Level: is.Level, Below: []BrowsedName{}, More: is.More}
	for i := range is.Below {
		b := &is.Below[i]
		out.Below = append(out.Below, BrowsedName{b.Name, b.Sort, b.Size, b.Changed, b.Owner, b.Group, fmt.Sprintf("%04o", b.Unix.Mode&0o7777), b.Written, b.Cut, b.Level})
	}
	return out
}

func (s *Server) registerPlaces() {
	register(s, s.volumes())
	register(s, s.folders())
	handle(s, operation("list-volume-candidates", http.MethodGet, "/volume-candidates", "Look at a directory of the host for what may be a volume", "places"), func(ctx context.Context, in *struct {
		Path string `query:"path" maxLength:"4096" doc:"An absolute path; where volumes may be, if left out."`
	}) (VolumeCandidates, error) {
		is, err := s.on(ctx).Candidates(caller(ctx), in.Path)
		return shownBy(is, err, candidatesOf)
	})
	handle(s, operation("show-volume", http.MethodGet, "/volumes/{name}", "Show a volume, with the room that there is on it", "places"), func(ctx context.Context, in *Named) (VolumeRoom, error) {
		v, err := s.on(ctx).VolumeNamed(in.Name)
		return shownBy(v, err, func(v site.Volume) VolumeRoom { return s.roomOf(ctx, v) })
	})
	handle(s, operation("list-entries", http.MethodGet, "/entries", "List the entries that bear on a path, in the order in which they are evaluated", "entries"), func(ctx context.Context, in *struct {
		AtPath
		When
	}) (Place, error) {
		svc, err := s.as(ctx, in.When)
		if err != nil {
			return Place{}, err
		}
		f, at, err := svc.Locate(in.Path)
		if err != nil {
			return Place{}, err
		}
		return placeOf(svc.Policy(), f, at.Path, at.File), nil
	})
	handle(s, operation("browse", http.MethodGet, "/browse", "List a directory of a folder, with the levels of a user", "places"), func(ctx context.Context, in *struct {
		AtPath
		When
		User  string `query:"user" maxLength:"64" doc:"Whose levels are told as well."`
		Match string `query:"match" maxLength:"255" doc:"Only names that hold this, whatever its case."`
		Only  string `query:"only" enum:"directories" doc:"Only these."`
		After string `query:"after" maxLength:"4096" doc:"Only names after this one, the last of a page."`
		Limit int    `query:"limit" minimum:"1" maximum:"10000" default:"500" doc:"How many at most."`
	}) (Browsed, error) {
		svc, err := s.as(ctx, in.When)
		if err != nil {
			return Browsed{}, err
		}
		is, err := svc.Browse(ctx, in.Path, in.User, files.Browsing{Match: in.Match, DirectoriesOnly: in.Only != "", After: in.After, Most: in.Limit})
		return shownBy(is, err, browsedOf)
	})
	op := operation("add-entry", http.MethodPost, "/entries", "Write an entry on a path", "entries")
	op.DefaultStatus = http.StatusCreated
	handle(s, op, func(ctx context.Context, in *struct{ Body NewEntry }) (Made, error) {
		id, err := s.on(ctx).AddEntry(ctx, caller(ctx), in.Body.Path, in.Body.input())
		return Made{id}, err
	})
	do(s, operation("remove-entry", http.MethodDelete, "/entries/{id}", "Remove an entry from the path it is written on", "entries"), func(ctx context.Context, in *struct {
		AtPath
		ID int64 `path:"id"`
	}) error {
		return s.on(ctx).RemoveEntry(ctx, caller(ctx), in.Path, in.ID)
	})
	do(s, operation("set-inheritance", http.MethodPut, "/inheritance", "Cut a path off from its parents' entries, or take them up again", "entries"), func(ctx context.Context, in *struct{ Body Inheritance }) error {
		return s.on(ctx).SetInherit(ctx, caller(ctx), in.Body.Path, in.Body.Inherit, in.Body.Copy)
	})
}
