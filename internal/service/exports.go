package service

import (
	"context"
	"fmt"
	"net/netip"
	"path"
	"slices"
	"strings"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/refusal"
)

// RuleInput is what a client rule is made from, or what is to change of one; nil leaves a field
// as it is, or takes the default: read-only, root squashed to 65534, unknown uids refused.
type RuleInput struct {
	From             string // "" leaves it
	Write            *bool
	Squash           *string
	AnonUID, AnonGID *uint32
	Security         []string // nil leaves it
	PrivilegedPort   *bool
	Unknown          *string
	// Everyone is that the caller knows that a rule lets in every host there is.
	Everyone bool
}

// ExportInput is what a new export is made from. An empty Path takes the folder's name.
type ExportInput struct {
	Folder             string // FOLDER or FOLDER/PATH
	Path, Description  string
	Sync, ClientGroups bool
	Rules              []RuleInput
	Labels             map[string]string // by key; "" takes one away
}

// Export finds an export by its path, with or without the slash in front.
func (s *Service) Export(name string) (*site.PublishedExport, error) {
	if e := s.Policy().ExportAt(name); e != nil {
		return e, nil
	}
	return nil, notFound("export", "amber export list", "there is no export %q", name)
}

// HostSet finds a host set by name, whatever its case.
func (s *Service) HostSet(name string) (*site.HostSet, error) {
	if h := s.Policy().HostSetNamed(name); h != nil {
		return h, nil
	}
	return nil, notFound("set", "amber hosts list", "there is no host set %q", name)
}

func cleanExportPath(p string) (string, error) {
	if slices.Contains(strings.Split(p, "/"), "..") {
		return "", invalid("path", "%q leads back with ..: write where clients are to mount it", p)
	}
	clean := path.Clean("/" + p)
	if clean == "/" || len(clean) > 255 {
		return "", invalid("path", "%q is no path for an export: write /NAME, or /NAME/NAME", p)
	}
	for part := range strings.SplitSeq(clean[1:], "/") {
		if err := checkPlaceName("path", part); err != nil {
			return "", err
		}
	}
	return clean, nil
}

// exportPathFree says why an export, of that number, cannot be at a path.
func (s *Service) exportPathFree(where string, export int64) error {
	for _, e := range s.Policy().Exports {
		switch {
		case e.ID == export:
		case e.Path == where:
			return conflict("path", "amber export show "+quote(where), "there is an export %s already", where)
		case files.Inside(e.Path, where), files.Inside(where, e.Path):
			return conflict("path", "amber export show "+quote(e.Path), "%s and export %s would lie within each other: clients could not tell where one ends", where, e.Path)
		}
	}
	return nil
}

// CreateExport publishes a folder, or a path below it, over NFS. Without client rules no host
// gets in.
func (s *Service) CreateExport(ctx context.Context, by Actor, in ExportInput) (*site.PublishedExport, error) {
	f, at, err := s.place(in.Folder)
	if err != nil {
		return nil, err
	}
	if in.Path == "" {
		in.Path = f.Name
	}
	where, err := cleanExportPath(in.Path)
	if err != nil {
		return nil, err
	}
	err = s.change(ctx, by, "add export", where, func(d *site.Draft) error {
		if !at.Exists {
			return notFound("folder", "amber folder show "+quote(f.Name), "%s is not on disk", f.Display(at.Path))
		}
		if err := s.exportPathFree(where, 0); err != nil {
			return err
		}
		e := site.Export{Path: where, FolderID: f.ID, Below: at.Path, Description: in.Description, Sync: in.Sync, ClientGroups: in.ClientGroups}
		for _, r := range in.Rules {
			c, err := s.newRule(d, r, false, nil)
			if err != nil {
				return err
			}
			e.Rules = append(e.Rules, c)
		}
		if err := relabel(&e.Labelled, in.Labels); err != nil {
			return err
		}
		site.Put(d, e)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return s.Export(where)
}

// ExportChange is what is to change of an export; nil leaves a field as it is.
type ExportChange struct {
	Path, Description  *string
	Sync, ClientGroups *bool
	Labels             map[string]string // by key; "" takes one away
}

// UpdateExport changes an export and gives the new record.
func (s *Service) UpdateExport(ctx context.Context, by Actor, name string, in ExportChange) (*site.PublishedExport, error) {
	e, err := s.Export(name)
	if err != nil {
		return nil, err
	}
	where := e.Path
	if in.Path != nil {
		if where, err = cleanExportPath(*in.Path); err != nil {
			return nil, err
		}
	}
	err = s.change(ctx, by, "change export", e.Path, func(d *site.Draft) error {
		is, ok := site.Get[site.Export](d, e.ID)
		if !ok {
			return notFound("export", "amber export list", "there is no export %q", name)
		}
		if where != e.Path {
			if err := s.exportPathFree(where, e.ID); err != nil {
				return err
			}
			is.Path = where
		}
		set(&is.Description, in.Description)
		set(&is.Sync, in.Sync)
		set(&is.ClientGroups, in.ClientGroups)
		if err := relabel(&is.Labelled, in.Labels); err != nil {
			return err
		}
		site.Put(d, is)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return s.Export(where)
}

// RemoveExport ends the publication. The folder stays.
func (s *Service) RemoveExport(ctx context.Context, by Actor, name string) error {
	e, err := s.Export(name)
	if err != nil {
		return err
	}
	return s.change(ctx, by, "remove export", e.Path, func(d *site.Draft) error {
		site.Delete[site.Export](d, e.ID)
		return nil
	})
}

// Tried is what an export does with an address.
type Tried struct {
	Export *site.PublishedExport
	Origin site.Origin
	Rule   *site.ExportRule // nil: no rule matches
	Lets   bool             // whether requests from there reach the export
	Reason string
}

// Origin is where somebody asks from: an address, or a host name that is looked up.
func (s *Service) Origin(ctx context.Context, from string, port int) (site.Origin, error) {
	if port == 0 {
		port = 1023 // a privileged one, as the kernel's own clients use
	}
	if port < 1 || port > 65535 {
		return site.Origin{}, invalid("port", "%d is no port", port)
	}
	o := site.Origin{Port: uint16(port), Flavor: site.FlavorSys}
	addr, err := netip.ParseAddr(from)
	if err != nil {
		addrs, lookup := s.hosts.Addresses(ctx, from)
		if !refusal.HostName.MatchString(from) || lookup != nil || len(addrs) == 0 {
			return o, invalid("from", "%q is not an address, nor a host name that leads to one", from)
		}
		addr = addrs[0]
	}
	o.Address = addr.Unmap()
	names, sure := s.NamesOf(ctx, o.Address)
	o.Names, o.Unsure = names, !sure
	return o, nil
}

// TryExport says which client rule of an export applies to an address, or a host name, and why.
func (s *Service) TryExport(ctx context.Context, name, from string, port int) (Tried, error) {
	e, err := s.Export(name)
	if err != nil {
		return Tried{}, err
	}
	o, err := s.Origin(ctx, from, port)
	if err != nil {
		return Tried{}, err
	}
	p := s.Policy()
	if e = p.Export(e.ID); e == nil {
		return Tried{}, notFound("export", "amber export list", "there is no export %q", name)
	}
	t := Tried{Export: e, Origin: o, Rule: e.Match(&o), Lets: access.MayMount(p, e, &o)}
	switch {
	case t.Rule == nil && o.Unsure:
		t.Reason = fmt.Sprintf("a client rule by name may match %s or may not: its name cannot be looked up just now", o.Address)
	case t.Rule == nil:
		t.Reason = fmt.Sprintf("none of its %d client rules matches %s", len(e.InForce), o.Address)
	case t.Lets:
		t.Reason = fmt.Sprintf("%s is the first that matches", t.Rule.From)
	case !p.Services.NFS:
		t.Reason = fmt.Sprintf("%s is the first that matches, but NFS is switched off", t.Rule.From)
	case t.Rule.PrivilegedPort && o.Port >= 1024:
		t.Reason = fmt.Sprintf("%s is the first that matches, and it wants a source port below 1024", t.Rule.From)
	default:
		t.Reason = fmt.Sprintf("%s is the first that matches, and it does not take flavour %s", t.Rule.From, o.Flavor)
	}
	return t, nil
}

// Remembered, Remember and Forget keep which NFS clients hold state, so that they may reclaim it
// after a restart; see store.Store.
func (s *Service) Remembered(ctx context.Context, kind string) ([][]byte, error) {
	return s.store.Remembered(ctx, kind)
}
