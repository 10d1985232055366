package service

import (
	"context"
	"errors"
	"fmt"
	"net/netip"
	"path"
	"slices"
	"strings"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/posix"
	"amber.example/gatekeeper/internal/core/site"
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
		case inside(e.Path, where), inside(where, e.Path):
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

// CreateHostSet makes a named list of client rules.
func (s *Service) CreateHostSet(ctx context.Context, by Actor, name, description string, rules []RuleInput) (*site.HostSet, error) {
	if err := checkPlaceName("name", name); err != nil {
		return nil, err
	}
	err := s.change(ctx, by, "add host set", name, func(d *site.Draft) error {
		if s.Policy().HostSetNamed(name) != nil {
			return conflict("name", "amber hosts show "+quote(name), "there is a host set %s already", name)
		}
		h := site.HostSet{Name: name, Description: description}
		for _, r := range rules {
			c, err := s.newRule(d, r, true, nil)
			if err != nil {
				return err
			}
			h.Rules = append(h.Rules, c)
		}
		site.Put(d, h)
		return nil
	})
	if err != nil {
		return nil, err
	}
	return s.HostSet(name)
}

// HostSetChange is what is to change of a host set; nil leaves a field as it is.
type HostSetChange struct{ Name, Description *string }

// UpdateHostSet gives a host set another name, or description.
func (s *Service) UpdateHostSet(ctx context.Context, by Actor, name string, in HostSetChange) (*site.HostSet, error) {
	h, err := s.HostSet(name)
	if err != nil {
		return nil, err
	}
	err = s.change(ctx, by, "change host set", h.Name, func(d *site.Draft) error {
		is, ok := site.Get[site.HostSet](d, h.ID)
		if !ok {
			return notFound("set", "amber hosts list", "there is no host set %q", name)
		}
		was := is.Name
		if err := rename(s.hostSetNames(), h.ID, &is.Name, in.Name); err != nil {
			return err
		}
		set(&is.Description, in.Description)
		site.Put(d, is)
		if is.Name != was {
			renameInExports(d, was, is.Name)
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	return s.HostSet(nameAfter(h.Name, in.Name))
}

// renameInExports has the rules that stand for a host set name it as it is called now.
func renameInExports(d *site.Draft, was, is string) {
	for _, e := range slices.Clone(d.Records().Exports) {
		altered := false
		e.Rules = slices.Clone(e.Rules)
		for i := range e.Rules {
			if identity.Fold(e.Rules[i].From) == identity.Fold(site.SetMark+was) {
				e.Rules[i].From, altered = site.SetMark+is, true
			}
		}
		if altered {
			site.Put(d, e)
		}
	}
}

// UsedBy lists the paths of the exports in which a host set stands.
func (s *Service) UsedBy(set string) []string {
	var out []string
	for _, u := range s.SetUses(set) {
		if !slices.Contains(out, u.Export) {
			out = append(out, u.Export)
		}
	}
	return out
}

// SetUse is where a host set stands: as a rule of an export, by the number under which it can be removed.
type SetUse struct {
	Export string
	Rule   int64
}

// SetUses lists where a host set stands.
func (s *Service) SetUses(set string) (out []SetUse) {
	for _, e := range s.Policy().Exports {
		for _, r := range e.Rules {
			if identity.Fold(r.From) == identity.Fold(site.SetMark+set) {
				out = append(out, SetUse{e.Path, r.ID})
			}
		}
	}
	return out
}

// RemoveHostSet removes a host set that no export uses.
func (s *Service) RemoveHostSet(ctx context.Context, by Actor, name string) error {
	h, err := s.HostSet(name)
	if err != nil {
		return err
	}
	return s.change(ctx, by, "remove host set", h.Name, func(d *site.Draft) error {
		if used := s.UsedBy(h.Name); len(used) > 0 {
			return conflict("", "amber export show "+quote(used[0]), "host set %s is used by %s", h.Name, strings.Join(used, ", "))
		}
		site.Delete[site.HostSet](d, h.ID)
		return nil
	})
}

// fill puts what an input says into a rule.
func (s *Service) fill(r *site.ClientRule, in RuleInput) error {
	if in.From != "" {
		clean, everyone, err := site.CleanFrom(in.From)
		var meant *site.FromError
		if errors.As(err, &meant) {
			return invalid("from", "%s", meant.Says)
		}
		if err != nil {
			return invalid("from", "%q is not an address, a network such as 192.0.2.0/24, a host name, a pattern such as *.larkfell.example, or %sNAME for a host set", in.From, site.SetMark)
		}
		if everyone && !in.Everyone {
			return &Error{Kind: Conflict, Field: "from", Confirm: true, Message: clean + " lets in every host that can reach this gateway."}
		}
		r.From = clean
	}
	if in.Write != nil {
		r.Write = *in.Write
	}
	if in.Squash != nil {
		switch r.Squash = site.Squash(*in.Squash); r.Squash {
		case site.SquashNone, site.SquashRoot, site.SquashAll:
		default:
			return invalid("squash", "%q is not one of none, root, all", *in.Squash)
		}
	}
	if in.Unknown != nil {
		switch r.Unknown = site.Unknown(*in.Unknown); r.Unknown {
		case site.UnknownRefused, site.UnknownAnonymous, site.UnknownNumber:
		default:
			return invalid("unknown", "%q is not one of refused, anonymous, number", *in.Unknown)
		}
	}
	for _, n := range []struct {
		field string
		in    *uint32
		to    *uint32
	}{{"anonUid", in.AnonUID, &r.AnonUID}, {"anonGid", in.AnonGID, &r.AnonGID}} {
		if n.in == nil {
			continue
		}
		if *n.in == posix.Nobody {
			return invalid(n.field, "%d belongs to nobody and cannot be anyone's", *n.in)
		}
		*n.to = *n.in
	}
	if in.Security != nil {
		r.Security = nil
		for _, f := range in.Security {
			if site.Flavor(f) != site.FlavorSys {
				return invalid("security", "%q is not a security flavour that this version speaks: sys", f)
			}
			r.Security = append(r.Security, site.FlavorSys)
		}
		if len(r.Security) == 0 {
			return invalid("security", "without any security flavour nobody gets in: sys")
		}
	}
	if in.PrivilegedPort != nil {
		r.PrivilegedPort = *in.PrivilegedPort
	}
	return nil
}

// newRule is the client rule that an input stands for, with a number: of a host set, or of an export that is there or to be.
func (s *Service) newRule(d *site.Draft, in RuleInput, ofSet bool, of *site.Export) (r site.ClientRule, err error) {
	if name, ok := strings.CutPrefix(in.From, site.SetMark); ok {
		if ofSet {
			return r, invalid("from", "a host set holds rules and no other host sets")
		}
		h, err := s.HostSet(name)
		if err != nil {
			return r, err
		}
		r.From = site.SetMark + h.Name
		if of != nil && slices.ContainsFunc(of.Rules, func(c site.ClientRule) bool { return identity.Fold(c.From) == identity.Fold(r.From) }) {
			return r, conflict("from", "amber hosts show "+quote(h.Name), "host set %s stands in %s already: a second time would match nobody", h.Name, of.Path)
		}
		in.From, in.Everyone = "", false
		if in.Write != nil || in.Squash != nil || in.AnonUID != nil || in.AnonGID != nil || in.Security != nil || in.PrivilegedPort != nil || in.Unknown != nil {
			return r, invalid("from", "the rules of host set %s say for themselves on what terms their hosts come in: amber hosts rule set", h.Name)
		}
		r.ID = d.Number(site.ClientRuleNumbers)
		return r, nil
	}
	if in.From == "" {
		return r, invalid("from", "say from whom: an address, a network, a host name, a pattern, or %sNAME for a host set", site.SetMark)
	}
	r = site.ClientRule{Squash: site.SquashRoot, AnonUID: site.Anonymous, AnonGID: site.Anonymous, Security: []site.Flavor{site.FlavorSys}, Unknown: site.UnknownRefused}
	if err := s.fill(&r, in); err != nil {
		return r, err
	}
	r.ID = d.Number(site.ClientRuleNumbers)
	return r, nil
}

// RuleList is the export or the host set whose client rules are meant: one of the two.
type RuleList struct{ Export, Set string }

// ruled is an export or a host set, whose rules are being changed.
type ruled struct {
	name  string
	of    *site.Export // nil for a host set
	set   *site.HostSet
	rules []site.ClientRule
}

// put writes the rules down.
func (l *ruled) put(d *site.Draft) {
	if l.set != nil {
		l.set.Rules = l.rules
		site.Put(d, *l.set)
		return
	}
	l.of.Rules = l.rules
	site.Put(d, *l.of)
}

// ruleList finds it under the policy now in force.
func (s *Service) ruleList(l RuleList) (*ruled, error) {
	if l.Set != "" {
		h, err := s.HostSet(l.Set)
		if err != nil {
			return nil, err
		}
		is := *h
		return &ruled{name: h.Name, set: &is, rules: slices.Clone(h.Rules)}, nil
	}
	e, err := s.Export(l.Export)
	if err != nil {
		return nil, err
	}
	is := e.Export
	return &ruled{name: e.Path, of: &is, rules: slices.Clone(is.Rules)}, nil
}

// AddRule writes a client rule at a position counted from 1, at the end for 0, and gives its
// number.
func (s *Service) AddRule(ctx context.Context, by Actor, l RuleList, in RuleInput, position int) (int64, error) {
	found, err := s.ruleList(l)
	if err != nil {
		return 0, err
	}
	var id int64
	err = s.change(ctx, by, "add client rule", found.name, func(d *site.Draft) error {
		is, err := s.ruleList(l)
		if err != nil {
			return err
		}
		if position < 0 || position > len(is.rules)+1 {
			return invalid("position", "position %d is not among the %d there would be", position, len(is.rules)+1)
		}
		r, err := s.newRule(d, in, is.set != nil, is.of)
		if err != nil {
			return err
		}
		if position == 0 {
			position = len(is.rules) + 1
		}
		id, is.rules = r.ID, slices.Insert(is.rules, position-1, r)
		is.put(d)
		return nil
	})
	return id, err
}

// changeRule runs a change of one rule of a list.
func (s *Service) changeRule(ctx context.Context, by Actor, action string, l RuleList, id int64, fn func(l *ruled, at int) error) error {
	found, err := s.ruleList(l)
	if err != nil {
		return err
	}
	return s.change(ctx, by, fmt.Sprintf("%s %d", action, id), found.name, func(d *site.Draft) error {
		is, err := s.ruleList(l)
		if err != nil {
			return err
		}
		at := slices.IndexFunc(is.rules, func(r site.ClientRule) bool { return r.ID == id })
		if at < 0 {
			show := "amber export show "
			if is.set != nil {
				show = "amber hosts show "
			}
			return notFound("id", show+quote(is.name), "%s has no client rule %d", is.name, id)
		}
		if err := fn(is, at); err != nil {
			return err
		}
		is.put(d)
		return nil
	})
}

// UpdateRule changes a client rule.
func (s *Service) UpdateRule(ctx context.Context, by Actor, l RuleList, id int64, in RuleInput) error {
	return s.changeRule(ctx, by, "change client rule", l, id, func(l *ruled, at int) error {
		if strings.HasPrefix(l.rules[at].From, site.SetMark) || strings.HasPrefix(in.From, site.SetMark) {
			return invalid("from", "a rule that stands for a host set has nothing to change: remove it and add another")
		}
		return s.fill(&l.rules[at], in)
	})
}

// MoveRule puts a client rule at a position among the others, counted from 1.
func (s *Service) MoveRule(ctx context.Context, by Actor, l RuleList, id int64, position int) error {
	return s.changeRule(ctx, by, "move client rule", l, id, func(l *ruled, at int) error {
		if position < 1 || position > len(l.rules) {
			return invalid("position", "position %d is not among the %d there are", position, len(l.rules))
		}
		r := l.rules[at]
		l.rules = slices.Insert(slices.Delete(l.rules, at, at+1), position-1, r)
		return nil
	})
}

// RemoveRule removes a client rule.
func (s *Service) RemoveRule(ctx context.Context, by Actor, l RuleList, id int64) error {
	return s.changeRule(ctx, by, "remove client rule", l, id, func(l *ruled, at int) error {
		l.rules = site.Without(l.rules, func(r site.ClientRule) bool { return r.ID == id })
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
