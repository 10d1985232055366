// Package demo loads Larkfell Observatory, a made-up site, into an empty state
// directory: people, folders, entries, shares and sample files.
package demo

import (
	"cmp"
	"context"
	"embed"
	"errors"
	"fmt"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"amber.example/gatekeeper/demo/postbox"
	"amber.example/gatekeeper/internal/core/audit"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/limit"
	records "amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/internal/store"
)

//go:embed larkfell.yaml
var scenario []byte

//go:embed all:files
var sampleFiles embed.FS

// PasswordSuffix follows an account's name in its password.
const PasswordSuffix = "-at-larkfell"

type entry struct {
	Allow   string   `yaml:"allow"`
	Deny    string   `yaml:"deny"`
	Level   string   `yaml:"level"`
	Applies []string `yaml:"applies"`
	Note    string   `yaml:"note"`
}

type rule struct {
	From    string `yaml:"from"`
	RW      bool   `yaml:"rw"`
	Squash  string `yaml:"squash"`
	Unknown string `yaml:"unknown"`
}

func inputs(rules []rule) []service.RuleInput {
	var out []service.RuleInput
	for _, r := range rules {
		in := service.RuleInput{From: r.From, Everyone: true} // one of them is a mistake, on purpose
		if r.RW {
			in.Write = &r.RW
		}
		if r.Squash != "" {
			in.Squash = &r.Squash
		}
		if r.Unknown != "" {
			in.Unknown = &r.Unknown
		}
		out = append(out, in)
	}
	return out
}

type larkfell struct {
	Groups []struct {
		Name        string            `yaml:"name"`
		GID         uint32            `yaml:"gid"`
		Description string            `yaml:"description"`
		Members     []string          `yaml:"members"`
		Labels      map[string]string `yaml:"labels"`
	} `yaml:"groups"`
	Users []struct {
		Name          string            `yaml:"name"`
		FullName      string            `yaml:"fullName"`
		UID           uint32            `yaml:"uid"`
		Primary       string            `yaml:"primary"`
		Role          string            `yaml:"role"`
		Service       bool              `yaml:"service"`
		Disabled      bool              `yaml:"disabled"`
		EndsAfterDays int               `yaml:"endsAfterDays"`
		SMB           *bool             `yaml:"smb"`
		NFS           *bool             `yaml:"nfs"`
		Mail          string            `yaml:"mail"`
		Labels        map[string]string `yaml:"labels"`
	} `yaml:"users"`
	Volumes []struct {
		Name string `yaml:"name"`
	} `yaml:"volumes"`
	HostSets []struct {
		Name        string `yaml:"name"`
		Description string `yaml:"description"`
		Rules       []rule `yaml:"rules"`
	} `yaml:"hostSets"`
	Folders []struct {
		Name        string            `yaml:"name"`
		Description string            `yaml:"description"`
		Owner       string            `yaml:"owner"`
		Group       string            `yaml:"group"`
		Permissions string            `yaml:"permissions"`
		Mode        *uint32           `yaml:"mode"`
		Labels      map[string]string `yaml:"labels"`
		Export      *struct {
			Description string `yaml:"description"`
			Rules       []rule `yaml:"rules"`
		} `yaml:"export"`
		Share *struct {
			Description      string   `yaml:"description"`
			ListOnlyOpenable bool     `yaml:"listOnlyOpenable"`
			Hosts            []string `yaml:"hosts"`
			Offline          string   `yaml:"offline"`
		} `yaml:"share"`
		Entries map[string][]entry `yaml:"entries"`
		Cut     map[string][]entry `yaml:"cut"` // the same, on paths that inherit nothing
	} `yaml:"folders"`
	Decide []struct {
		Folder string `yaml:"folder"`
		Who    string `yaml:"who"`
	} `yaml:"decide"`
	Stored []struct {
		Path  string `yaml:"path"`
		Owner string `yaml:"owner"`
		Group string `yaml:"group"`
		Size  string `yaml:"size"`
		Fills string `yaml:"fills"` // so large that its folder holds this much
	} `yaml:"stored"`
	Limits []struct {
		Kind      string `yaml:"kind"`
		Name      string `yaml:"name"`
		Folder    string `yaml:"folder"`
		Soft      string `yaml:"soft"`
		Hard      string `yaml:"hard"`
		HardFiles string `yaml:"hardFiles"`
		Grace     string `yaml:"grace"`
	} `yaml:"limits"`
	History []struct {
		By   string  `yaml:"by"`
		Name string  `yaml:"name"`
		From float64 `yaml:"from"`
	} `yaml:"history"`
	IDLists []struct {
		Host  string            `yaml:"host"`
		Users map[string]uint32 `yaml:"users"`
	} `yaml:"idLists"`
	ServerNames []struct {
		Name, Description string
		Leads             map[string]string
	} `yaml:"serverNames"`
	NumberMaps []struct {
		Name        string            `yaml:"name"`
		Description string            `yaml:"description"`
		From        []string          `yaml:"from"`
		Users       map[string]string `yaml:"users"`
		Groups      map[string]string `yaml:"groups"`
	} `yaml:"numberMaps"`
}

// Load puts the scenario into a service that has no records yet. Volumes are made
// below state. It does nothing where there are users already.
func Load(ctx context.Context, svc *service.Service, state string) error {
	if len(svc.Policy().Directory.Users()) > 0 {
		if _, err := os.Stat(filepath.Join(state, "volumes", "summit")); err != nil {
			return fmt.Errorf("%s holds records that are not the demo's: give --demo a state directory of its own with --state", state)
		}
		return nil
	}
	var site larkfell
	if err := yaml.UnmarshalWithOptions(scenario, &site, yaml.Strict()); err != nil {
		return fmt.Errorf("demo scenario: %w", err)
	}
	by := service.Itself
	// Groups and users first without members, since each may name the other.
	for _, g := range site.Groups {
		if _, err := svc.CreateGroup(ctx, by, service.GroupInput{Name: g.Name, GID: &g.GID, Description: g.Description, Labels: g.Labels}); err != nil {
			return err
		}
	}
	off := func(b *bool) bool { return b != nil && !*b }
	for _, u := range site.Users {
		in := service.UserInput{Name: u.Name, FullName: u.FullName, UID: &u.UID, Primary: u.Primary, Role: identity.Role(u.Role), Service: u.Service,
			NoSMB: off(u.SMB), NoNFS: off(u.NFS), Password: u.Name + PasswordSuffix, Mail: u.Mail, Labels: u.Labels}
		if u.EndsAfterDays > 0 {
			in.Expires = time.Now().AddDate(0, 0, u.EndsAfterDays).Truncate(24 * time.Hour)
		}
		if _, err := svc.CreateUser(ctx, by, in); err != nil {
			return err
		}
		if u.Disabled {
			if _, err := svc.UpdateUser(ctx, by, u.Name, service.UserChange{Disabled: &u.Disabled}); err != nil {
				return err
			}
		}
	}
	for _, g := range site.Groups {
		for _, m := range g.Members {
			if err := svc.AddMember(ctx, by, g.Name, m); err != nil {
				return err
			}
		}
	}
	return loadFolders(ctx, svc, site, state)
}

func loadFolders(ctx context.Context, svc *service.Service, site larkfell, state string) error {
	by := service.Itself
	for _, v := range site.Volumes {
		dir := filepath.Join(state, "volumes", v.Name)
		if err := os.MkdirAll(dir, 0o770); err != nil {
			return err
		}
		if err := copyFiles(dir); err != nil {
			return fmt.Errorf("demo files: %w", err)
		}
		if _, err := svc.CreateVolume(ctx, by, service.VolumeInput{Name: v.Name, Path: dir}); err != nil {
			return err
		}
	}
	for _, h := range site.HostSets {
		if _, err := svc.CreateHostSet(ctx, by, h.Name, h.Description, inputs(h.Rules)); err != nil {
			return err
		}
	}
	for _, f := range site.Folders {
		// Mapped, so that the demo is the same whoever runs it.
		in := service.FolderInput{Name: f.Name, Volume: site.Volumes[0].Name, Description: f.Description, Owner: cmp.Or(f.Owner, "wren"), Group: f.Group,
			Permissions: records.Permissions(f.Permissions), Ownership: records.Mapped, Mode: f.Mode, Labels: f.Labels}
		if _, err := svc.CreateFolder(ctx, by, in); err != nil {
			return err
		}
		for _, path := range sortedKeys(f.Cut) {
			if err := svc.SetInherit(ctx, by, f.Name+"/"+path, false, false); err != nil {
				return err
			}
		}
		for _, written := range []map[string][]entry{f.Entries, f.Cut} {
			for _, path := range sortedKeys(written) {
				for _, e := range written[path] {
					in := service.EntryInput{Who: e.Allow + e.Deny, Deny: e.Deny != "", Level: e.Level, Applies: e.Applies, Note: e.Note}
					if _, err := svc.AddEntry(ctx, by, f.Name+"/"+path, in); err != nil {
						return err
					}
				}
			}
		}
		if f.Share != nil {
			in := service.ShareInput{Folder: f.Name, Description: f.Share.Description, ListOnlyOpenable: f.Share.ListOnlyOpenable, Offline: f.Share.Offline}
			for _, h := range f.Share.Hosts {
				in.Hosts = append(in.Hosts, records.ParseHostTerm(h))
			}
			if _, err := svc.CreateShare(ctx, by, in); err != nil {
				return err
			}
		}
		if f.Export != nil {
			if _, err := svc.CreateExport(ctx, by, service.ExportInput{Folder: f.Name, Description: f.Export.Description, Rules: inputs(f.Export.Rules)}); err != nil {
				return err
			}
		}
	}
	for _, d := range site.Decide {
		in := service.EntryInput{Who: d.Who, Level: "read_acl,write_acl", Applies: []string{"folder"}, Note: "decides who gets in"}
		if _, err := svc.AddEntry(ctx, by, d.Folder, in); err != nil {
			return err
		}
	}
	// They are meant to decide without having control, which is a finding that somebody has to answer for.
	for _, f := range svc.Audit().Findings() {
		if f.Kind == audit.CanTakeControl {
			if err := svc.AcceptFinding(ctx, by, f.Key, "decides who gets in, as agreed with the director", time.Now().AddDate(1, 0, 0)); err != nil {
				return err
			}
		}
	}
	for _, l := range site.IDLists {
		var passwd strings.Builder
		for name, uid := range l.Users {
			fmt.Fprintf(&passwd, "%s:x:%d:%d::/:/bin/false\n", name, uid, uid)
		}
		if _, _, err := svc.CheckNumbers(ctx, by, l.Host, passwd.String(), ""); err != nil {
			return err
		}
	}
	for _, n := range site.ServerNames {
		in := service.ServerNameInput{Name: n.Name, Description: n.Description}
		for _, share := range slices.Sorted(maps.Keys(n.Leads)) {
			in.Leads = append(in.Leads, service.LeadInput{Share: share, To: n.Leads[share]})
		}
		if _, err := svc.CreateServerName(ctx, by, in); err != nil {
			return err
		}
	}
	for _, m := range site.NumberMaps {
		in := service.NumberMapInput{Name: &m.Name, Description: &m.Description, From: &m.From, Users: m.Users, Groups: m.Groups}
		if _, err := svc.CreateNumberMap(ctx, by, in); err != nil {
			return err
		}
	}
	if err := cellar(ctx, svc, site, filepath.Join(state, "volumes", site.Volumes[0].Name)); err != nil {
		return err
	}
	return svc.SetService(ctx, by, "nfs", service.ServiceChange{On: new(true)})
}

// cellar makes what people have stored, and sets their limits.
func cellar(ctx context.Context, svc *service.Service, site larkfell, volume string) error {
	for _, f := range site.Stored {
		size, err := limit.ParseSize(cmp.Or(f.Size, f.Fills))
		if err != nil {
			return err
		}
		path := filepath.Join(volume, filepath.FromSlash(f.Path))
		if err := os.WriteFile(path, nil, 0o660); err != nil {
			return err
		}
		if f.Fills != "" {
			folder, _, _ := strings.Cut(f.Path, "/")
			held, err := sizeOf(filepath.Join(volume, folder))
			if err != nil {
				return err
			}
			size -= held
		}
		if err := os.Truncate(path, size); err != nil {
			return err
		}
		if _, err := svc.SetOwner(ctx, service.Itself, f.Path, f.Owner, f.Group, false); err != nil {
			return err
		}
	}
	for _, l := range site.Limits {
		in := service.LimitInput{Kind: limit.Kind(l.Kind), Name: l.Name, Folder: l.Folder, SoftBytes: l.Soft, HardBytes: l.Hard, HardFiles: l.HardFiles, Grace: l.Grace}
		if _, err := svc.SetLimit(ctx, service.Itself, in); err != nil {
			return err
		}
	}
	visitor := service.ProfileInput{Name: new("visitor"), Description: new("Who observes as a guest for a season"), Groups: &[]string{"visitors"}, NFS: new(false), Hard: new("2GB"), EndsAfter: new(90)}
	if _, err := svc.CreateProfile(ctx, service.Itself, visitor); err != nil {
		return err
	}
	return nil
}

// sizeOf adds up the sizes of a directory and all that is below it.
func sizeOf(dir string) (sum int64, err error) {
	err = filepath.WalkDir(dir, func(_ string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		info, err := d.Info()
		if err == nil {
			sum += info.Size()
		}
		return err
	})
	return sum, err
}

// PostboxDir is where below the state directory mail goes.
const PostboxDir = "postbox"

// Postbox opens the stand-in for a mail server, and has the service hand its mail in there; nil where somebody has changed that.
func Postbox(ctx context.Context, svc *service.Service, state string) (*postbox.Box, error) {
	server, listen := svc.Policy().Notices.Mail.Server, "127.0.0.1:0"
	dir := filepath.Join(state, PostboxDir)
	_, missing := os.Stat(dir)
	switch {
	case server == "" && missing != nil: // the first time
	case missing != nil, !strings.HasPrefix(server, "127.0.0.1:"):
		return nil, nil
	default:
		listen = server
	}
	box, err := postbox.Open(dir, listen)
	if err != nil || server != "" {
		return box, err
	}
	from := "files@larkfell.example"
	return box, svc.SetNotices(ctx, service.Itself, service.NoticesChange{Server: &box.Address, From: &from, Trust: &box.Trust})
}

// Remember makes up how uses went in the week before, once they have been counted; nothing where there is a past already.
func Remember(ctx context.Context, svc *service.Service) error {
	var site larkfell
	if err := yaml.UnmarshalWithOptions(scenario, &site, yaml.Strict()); err != nil {
		return fmt.Errorf("demo scenario: %w", err)
	}
	const hours = 7 * 24
	now := svc.Ledger().Now().Truncate(time.Hour)
	for _, h := range site.History {
		is, err := svc.History(ctx, service.Subject(h.By), h.Name, now.Add(-2*hours*time.Hour))
		var none *service.Error
		if errors.As(err, &none) || len(is.Samples) > 1 {
			continue
		}
		if err != nil {
			return err
		}
		var past []store.Sample
		for at := range hours {
			// Nights are when things are stored: use grows from dusk to dawn.
			day, hour := at/24, at%24
			part := (float64(day) + min(float64(hour)/10, 1)) / 7
			share := h.From + (1-h.From)*part
			a := limit.Amount{Bytes: int64(float64(is.Amount.Bytes) * share), Files: max(int64(float64(is.Amount.Files)*share), 1)}
			past = append(past, store.Sample{At: now.Add(time.Duration(at-hours) * time.Hour), Amount: a})
		}
		if err := svc.RememberUses(ctx, service.Subject(h.By), h.Name, past); err != nil {
			return err
		}
	}
	return nil
}

func sortedKeys(m map[string][]entry) []string {
	var keys []string
	for k := range m {
		keys = append(keys, k)
	}
	slices.Sort(keys)
	return keys
}

func copyFiles(to string) error {
	return fs.WalkDir(sampleFiles, "files", func(path string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		dst := filepath.Join(to, strings.TrimPrefix(path, "files"))
		if d.IsDir() {
			return os.MkdirAll(dst, 0o770)
		}
		data, err := sampleFiles.ReadFile(path)
		if err != nil {
			return err
		}
		return os.WriteFile(dst, data, 0o660)
	})
}
