package api

import (
	"context"
	"net/http"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/service"
)

// Export is an export's record.
type Export struct {
	Path         string            `json:"path" doc:"What clients mount."`
	Folder       string            `json:"folder"`
	Below        string            `json:"below,omitempty" doc:"Where in the folder it begins; the folder itself if left out."`
	Description  string            `json:"description"`
	Sync         bool              `json:"sync" doc:"Every write is on disk before it is answered."`
	ClientGroups bool              `json:"clientGroups" doc:"Groups are those that the client lists, and not those of the records."`
	On           bool              `json:"on" doc:"Whether NFS is switched on."`
	Rules        []ClientRule      `json:"rules" doc:"As written; the first that matches decides."`
	InForce      []ClientRule      `json:"inForce" doc:"As in force: with the rules of host sets put in their place, in order."`
	Labels       map[string]string `json:"labels,omitempty" doc:"What it is marked with, by key."`
}

// ClientRule is one rule of an export or a host set.
type ClientRule struct {
	ID             int64    `json:"id"`
	From           string   `json:"from" doc:"An address, a network, a host name, a pattern, * for everyone, or @NAME for a host set."`
	Set            string   `json:"set,omitempty" doc:"Among those in force: the host set it comes from."`
	Number         int      `json:"number,omitempty" doc:"Among those in force: which it is, from 1."`
	ShadowedBy     int      `json:"shadowedBy,omitempty" doc:"Which earlier one matches all that this one does."`
	Everyone       bool     `json:"everyone" doc:"Lets in every host there is."`
	ByName         bool     `json:"byName" doc:"Is about host names, and not addresses."`
	Write          bool     `json:"write"`
	Squash         string   `json:"squash,omitempty" enum:"none,root,all"`
	AnonUID        uint32   `json:"anonUid"`
	AnonGID        uint32   `json:"anonGid"`
	Security       []string `json:"security"`
	PrivilegedPort bool     `json:"privilegedPort"`
	Unknown        string   `json:"unknown,omitempty" enum:"refused,anonymous,number" doc:"What becomes of a uid that no user has."`
	Terms          string   `json:"terms" doc:"The same in words."`
}

// HostSet is a named list of client rules.
type HostSet struct {
	Name        string       `json:"name"`
	Description string       `json:"description"`
	Rules       []ClientRule `json:"rules"`
	UsedBy      []string     `json:"usedBy" doc:"The exports in which it stands, and the shares that are kept to it."`
	Uses        []SetUse     `json:"uses" doc:"The same, with the rules as which it does."`
}

// SetUse is a rule of an export in whose place a host set stands, or a share that is kept to it.
type SetUse struct {
	Export string `json:"export,omitempty"`
	RuleID int64  `json:"ruleId,omitempty"`
	Share  string `json:"share,omitempty"`
	Left   string `json:"left,omitempty" doc:"The hosts that the share is kept to besides, as they are typed."`
}

func ruleOf(r site.ClientRule) ClientRule {
	out := ClientRule{ID: r.ID, From: r.From, Write: r.Write, Squash: string(r.Squash), AnonUID: r.AnonUID, AnonGID: r.AnonGID, Security: []string{},
		PrivilegedPort: r.PrivilegedPort, Unknown: string(r.Unknown)}
	for _, f := range r.Security {
		out.Security = append(out.Security, string(f))
	}
	if r.Squash != "" {
		out.Terms = access.Terms(&r)
	} else {
		out.Terms = "as the host set says"
	}
	_, out.Everyone, _ = site.CleanFrom(r.From)
	return out
}

func rulesOf(rules []site.ClientRule) []ClientRule {
	out := []ClientRule{}
	for _, r := range rules {
		out = append(out, ruleOf(r))
	}
	return out
}

func inForceOf(l *site.ExportRule) ClientRule {
	r := ruleOf(l.ClientRule)
	r.Set, r.Number, r.ShadowedBy, r.Everyone, r.ByName = l.Set, l.Number, l.ShadowedBy, l.Everyone(), l.ByName()
	return r
}

func exportOf(p *site.Policy, e *site.PublishedExport) Export {
	out := Export{Path: e.Path, Folder: e.Folder.Name, Below: e.Below, Description: e.Description, Sync: e.Sync, ClientGroups: e.ClientGroups, On: p.Services.NFS,
		Rules: rulesOf(e.Rules), InForce: []ClientRule{}, Labels: e.Labels.Map()}
	for i := range e.InForce {
		out.InForce = append(out.InForce, inForceOf(&e.InForce[i]))
	}
	return out
}

func (s *Server) hostSetOf(ctx context.Context, h *site.HostSet) HostSet {
	out := HostSet{Name: h.Name, Description: h.Description, Rules: rulesOf(h.Rules), UsedBy: s.on(ctx).UsedBy(h.Name)}
	if out.UsedBy == nil {
		out.UsedBy = []string{}
	}
	out.Uses = []SetUse{}
	for _, u := range s.on(ctx).SetUses(h.Name) {
		out.Uses = append(out.Uses, SetUse{u.Export, u.Rule, u.Share, u.Left})
	}
	return out
}

// RuleBody is what a client rule is made from, or what is to change of one.
type RuleBody struct {
	From           string   `json:"from,omitempty" maxLength:"253"`
	Write          *bool    `json:"write,omitempty"`
	Squash         *string  `json:"squash,omitempty" enum:"none,root,all"`
	AnonUID        *uint32  `json:"anonUid,omitempty"`
	AnonGID        *uint32  `json:"anonGid,omitempty"`
	Security       []string `json:"security,omitempty" maxItems:"4"`
	PrivilegedPort *bool    `json:"privilegedPort,omitempty"`
	Unknown        *string  `json:"unknown,omitempty" enum:"refused,anonymous,number"`
	Everyone       bool     `json:"everyone,omitempty" doc:"The caller knows that this lets in every host there is."`
	Position       int      `json:"position,omitempty" minimum:"0" doc:"Where among the rules, from 1; last if left out. For new rules only."`
}

func (b RuleBody) input() service.RuleInput {
	return service.RuleInput{From: b.From, Write: b.Write, Squash: b.Squash, AnonUID: b.AnonUID, AnonGID: b.AnonGID, Security: b.Security,
		PrivilegedPort: b.PrivilegedPort, Unknown: b.Unknown, Everyone: b.Everyone}
}

// Tried is what an export does with an address.
type Tried struct {
	Export  string      `json:"export"`
	Address string      `json:"address"`
	Names   []string    `json:"names" doc:"The host names that the address is known to have, as far as rules care."`
	Port    uint16      `json:"port"`
	Lets    bool        `json:"lets" doc:"Whether requests from there reach the export."`
	Rule    *ClientRule `json:"rule,omitempty" doc:"The first rule that matches."`
	Reason  string      `json:"reason"`
}

// NewExport is what an export is made from.
type NewExport struct {
	Folder       string            `json:"folder" maxLength:"4096" doc:"Folder, or folder and path."`
	Path         string            `json:"path,omitempty" maxLength:"255" doc:"What clients mount; / and the folder's name if left out."`
	Description  string            `json:"description,omitempty" maxLength:"200"`
	Sync         bool              `json:"sync,omitempty"`
	ClientGroups bool              `json:"clientGroups,omitempty"`
	Rules        []RuleBody        `json:"rules,omitempty" maxItems:"200"`
	Labels       map[string]string `json:"labels,omitempty" maxProperties:"16" doc:"What it is marked with, by key; an empty value takes one away."`
}

// ExportChange is what is to change of an export; what is left out stays.
type ExportChange struct {
	Path         *string           `json:"path,omitempty" maxLength:"255" doc:"Another path that clients mount; those that have it mounted go on."`
	Description  *string           `json:"description,omitempty" maxLength:"200"`
	Sync         *bool             `json:"sync,omitempty"`
	ClientGroups *bool             `json:"clientGroups,omitempty"`
	Labels       map[string]string `json:"labels,omitempty" maxProperties:"16" doc:"What it is marked with, by key; an empty value takes one away."`
}

// NewHostSet is what a host set is made from.
type NewHostSet struct {
	Name        string     `json:"name" maxLength:"80"`
	Description string     `json:"description,omitempty" maxLength:"200"`
	Rules       []RuleBody `json:"rules,omitempty" maxItems:"200"`
}

// HostSetChange is what is to change of a host set; what is left out stays.
type HostSetChange struct {
	Name        *string `json:"name,omitempty" maxLength:"80" doc:"Another name; the exports that use it go on to."`
	Description *string `json:"description,omitempty" maxLength:"200"`
}

// Position is where among others something is to be.
type Position struct {
	Position int `json:"position" minimum:"1"`
}

// exports are called by the path that clients mount; the slash in front may be left out.
func (s *Server) exports() resource[Export, NewExport, ExportChange] {
	shown := func(ctx context.Context) func(*site.PublishedExport) Export {
		return func(e *site.PublishedExport) Export { return exportOf(s.on(ctx).Policy(), e) }
	}
	return resource[Export, NewExport, ExportChange]{
		one: "export", many: "exports", route: "/exports", tag: "publishing",
		does: summaries{"List the exports", "Show an export", "Publish a folder, or a path below it, over NFS", "Change an export", "End a publication; the folder stays"},
		listing: listing[Export]{name: func(e *Export) string { return e.Path }, labels: func(e *Export) map[string]string { return e.Labels }, matches: func(e *Export) []string { return []string{e.Folder, e.Description} }, sorts: map[string]func(*Export) string{
			"folder": func(e *Export) string { return e.Folder }}},
		all: func(ctx context.Context) (out []Export) {
			p := s.on(ctx).Policy()
			for _, e := range p.Exports {
				out = append(out, exportOf(p, e))
			}
			return out
		},
		show: func(ctx context.Context, name string) (Export, error) {
			e, err := s.on(ctx).Export(name)
			return shownBy(e, err, shown(ctx))
		},
		add: func(ctx context.Context, b NewExport) (Export, error) {
			e, err := s.on(ctx).CreateExport(ctx, caller(ctx), service.ExportInput{Folder: b.Folder, Path: b.Path, Description: b.Description, Sync: b.Sync, ClientGroups: b.ClientGroups, Rules: ruleInputs(b.Rules), Labels: b.Labels})
			return shownBy(e, err, shown(ctx))
		},
		change: func(ctx context.Context, name string, b ExportChange) (Export, error) {
			e, err := s.on(ctx).UpdateExport(ctx, caller(ctx), name, service.ExportChange(b))
			return shownBy(e, err, shown(ctx))
		},
		remove: func(ctx context.Context, name string) error { return s.on(ctx).RemoveExport(ctx, caller(ctx), name) },
	}
}

func ruleInputs(rules []RuleBody) (out []service.RuleInput) {
	for _, r := range rules {
		out = append(out, r.input())
	}
	return out
}

func (s *Server) hostSets() resource[HostSet, NewHostSet, HostSetChange] {
	shown := func(ctx context.Context) func(*site.HostSet) HostSet {
		return func(h *site.HostSet) HostSet { return s.hostSetOf(ctx, h) }
	}
	return resource[HostSet, NewHostSet, HostSetChange]{
		one: "host set", many: "host sets", route: "/host-sets", tag: "publishing",
		does:    summaries{"List the host sets", "Show a host set", "Make a named list of client rules", "Give a host set another name, or description", "Remove a host set that nothing uses"},
		listing: listing[HostSet]{name: func(h *HostSet) string { return h.Name }, matches: func(h *HostSet) []string { return []string{h.Description} }},
		all: func(ctx context.Context) (out []HostSet) {
			for i := range s.on(ctx).Policy().HostSets {
				out = append(out, s.hostSetOf(ctx, &s.on(ctx).Policy().HostSets[i]))
			}
			return out
		},
		show: func(ctx context.Context, name string) (HostSet, error) {
			h, err := s.on(ctx).HostSet(name)
			return shownBy(h, err, shown(ctx))
		},
		add: func(ctx context.Context, b NewHostSet) (HostSet, error) {
			h, err := s.on(ctx).CreateHostSet(ctx, caller(ctx), b.Name, b.Description, ruleInputs(b.Rules))
			return shownBy(h, err, shown(ctx))
		},
		change: func(ctx context.Context, name string, b HostSetChange) (HostSet, error) {
			h, err := s.on(ctx).UpdateHostSet(ctx, caller(ctx), name, service.HostSetChange(b))
			return shownBy(h, err, shown(ctx))
		},
		remove: func(ctx context.Context, name string) error { return s.on(ctx).RemoveHostSet(ctx, caller(ctx), name) },
	}
}

func (s *Server) registerExports() {
	register(s, s.exports())
	register(s, s.hostSets())
	register(s, s.serverNames())
	handle(s, operation("test-export", http.MethodGet, "/exports/{name}/test", "Say which client rule applies to an address, and why", "audit"), func(ctx context.Context, in *struct {
		Named
		From string `query:"from" required:"true" maxLength:"253" doc:"An address, or a host name."`
		Port int    `query:"port" minimum:"0" maximum:"65535" doc:"The source port; a privileged one if left out."`
	}) (Tried, error) {
		t, err := s.on(ctx).TryExport(ctx, in.Name, in.From, in.Port)
		if err != nil {
			return Tried{}, err
		}
		out := Tried{Export: t.Export.Path, Address: t.Origin.Address.String(), Names: t.Origin.Names, Port: t.Origin.Port, Lets: t.Lets, Reason: t.Reason}
		if out.Names == nil {
			out.Names = []string{}
		}
		if t.Rule != nil {
			r := inForceOf(t.Rule)
			out.Rule = &r
		}
		return out, nil
	})
	s.registerRules("export", "/exports/{name}", func(n Named) service.RuleList { return service.RuleList{Export: n.Name} })
	s.registerRules("host-set", "/host-sets/{name}", func(n Named) service.RuleList { return service.RuleList{Set: n.Name} })
}

// RuleOfList names one client rule of a list.
type RuleOfList struct {
	Named
	ID int64 `path:"id"`
}

// registerRules registers what is done to the client rules of one kind of list.
func (s *Server) registerRules(of, path string, list func(Named) service.RuleList) {
	op := operation("add-"+of+"-rule", http.MethodPost, path+"/rules", "Write a client rule", "publishing")
	op.DefaultStatus = http.StatusCreated
	handle(s, op, func(ctx context.Context, in *struct {
		Named
		Body RuleBody
	}) (Made, error) {
		id, err := s.on(ctx).AddRule(ctx, caller(ctx), list(in.Named), in.Body.input(), in.Body.Position)
		return Made{id}, err
	})
	do(s, operation("change-"+of+"-rule", http.MethodPatch, path+"/rules/{id}", "Change a client rule", "publishing"), func(ctx context.Context, in *struct {
		RuleOfList
		Body RuleBody
	}) error {
		return s.on(ctx).UpdateRule(ctx, caller(ctx), list(in.Named), in.ID, in.Body.input())
	})
	do(s, operation("move-"+of+"-rule", http.MethodPut, path+"/rules/{id}/position", "Put a client rule elsewhere among the others", "publishing"), func(ctx context.Context, in *struct {
		RuleOfList
		Body Position
	}) error {
		return s.on(ctx).MoveRule(ctx, caller(ctx), list(in.Named), in.ID, in.Body.Position)
	})
	do(s, operation("remove-"+of+"-rule", http.MethodDelete, path+"/rules/{id}", "Remove a client rule", "publishing"), func(ctx context.Context, in *RuleOfList) error {
		return s.on(ctx).RemoveRule(ctx, caller(ctx), list(in.Named), in.ID)
	})
}

// Mode is owner, group, mode and POSIX ACL of an object where those decide.
type Mode struct {
	Path    string     `json:"path"`
	Owner   string     `json:"owner" doc:"A user's name, or a bare number."`
	Group   string     `json:"group"`
	UID     uint32     `json:"uid"`
	GID     uint32     `json:"gid"`
	Mode    string     `json:"mode" doc:"Four octal digits."`
	Text    string     `json:"text" doc:"As ls writes it."`
	ACL     []ModeLine `json:"acl" doc:"What the POSIX ACL says beyond the mode."`
	Default []ModeLine `json:"default" doc:"What is made in the directory starts with."`
}

// ModeLine is one entry of a POSIX ACL.
type ModeLine struct {
	Tag  string `json:"tag" enum:"user,group,mask,other"`
	Name string `json:"name,omitempty" doc:"A name, or a bare number; the owner, or owning group, if left out."`
	Perm string `json:"perm"`
}

func (s *Server) modeOf(ctx context.Context, full string) (Mode, error) {
	a, path, err := s.on(ctx).Mode(full)
	if err != nil {
		return Mode{}, err
	}
	d := s.on(ctx).Policy().Directory
	out := Mode{Path: path, UID: a.UID, GID: a.GID, Mode: octal(a.Mode), Text: access.Ls(a), Owner: d.UserNumbered(a.UID), Group: d.GroupNumbered(a.GID),
		ACL: linesOf(d, a.ACL), Default: linesOf(d, a.Default)}
	return out, nil
}

// ModeToSet is what is to become of an object where modes decide.
type ModeToSet struct {
	Path  string `json:"path" maxLength:"4096"`
	Mode  string `json:"mode,omitempty" pattern:"^[0-7]{1,4}$" patternDescription:"up to four octal digits, such as 2770" doc:"Octal."`
	Owner string `json:"owner,omitempty" maxLength:"64"`
	Group string `json:"group,omitempty" maxLength:"64"`
}

func (s *Server) registerMode() {
	handle(s, operation("show-mode", http.MethodGet, "/mode", "Show owner, group, mode and POSIX ACL of a path where those decide", "places"), func(ctx context.Context, in *AtPath) (Mode, error) {
		return s.modeOf(ctx, in.Path)
	})
	handle(s, operation("set-mode", http.MethodPut, "/mode", "Set mode, owner and group of a path where those decide", "places"), func(ctx context.Context, in *struct{ Body ModeToSet }) (Mode, error) {
		m := service.ModeInput{Owner: in.Body.Owner, Group: in.Body.Group, Mode: parseOctal(in.Body.Mode)}
		if err := s.on(ctx).SetMode(ctx, caller(ctx), in.Body.Path, m); err != nil {
			return Mode{}, err
		}
		return s.modeOf(ctx, in.Body.Path)
	})
}
