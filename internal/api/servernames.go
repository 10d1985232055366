package api

import (
	"context"

	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/service"
)

// ServerName is another name by which clients reach the service over SMB.
type ServerName struct {
	Name        string       `json:"name"`
	Description string       `json:"description,omitempty"`
	Leads       []ServerLead `json:"leads" doc:"Shares of that server that were called otherwise, or are somewhere else now. By all others it is the share of the same name here."`
}

// ServerLead says where one share of such a server is now.
type ServerLead struct {
	Share     string `json:"share" doc:"As it was called."`
	To        string `json:"to" doc:"A share here, or \\\\SERVER\\SHARE."`
	Elsewhere bool   `json:"elsewhere,omitempty" doc:"It is on another server: clients are sent there."`
}

// Lead says where a share is now.
type Lead struct {
	Share string `json:"share" maxLength:"80"`
	To    string `json:"to" maxLength:"600" doc:"A share here, or \\\\SERVER\\SHARE with perhaps a path below; empty takes away what was said of it."`
}

// NewServerName is what one is made from.
type NewServerName struct {
	Name        string `json:"name" maxLength:"253" doc:"A host's name, in full, or its first part alone: then it is meant by every name that begins so."`
	Description string `json:"description,omitempty" maxLength:"200"`
	Leads       []Lead `json:"leads,omitempty" maxItems:"256"`
}

// ServerNameChange is what is to change of one; what is left out stays.
type ServerNameChange struct {
	Name        *string `json:"name,omitempty" maxLength:"253"`
	Description *string `json:"description,omitempty" maxLength:"200"`
	Leads       []Lead  `json:"leads,omitempty" maxItems:"256" doc:"Added to those there are; each takes the place of the one for the same share."`
}

func serverNameOf(p *site.Policy, n *site.ServerName) ServerName {
	out := ServerName{Name: n.Name, Description: n.Description, Leads: []ServerLead{}}
	for _, l := range n.Leads {
		to := ServerLead{Share: l.Share, To: l.Elsewhere, Elsewhere: l.Here == 0}
		if sh := p.Share(l.Here); sh != nil {
			to.To = sh.Name
		}
		out.Leads = append(out.Leads, to)
	}
	return out
}

func leadsOf(leads []Lead) (out []service.LeadInput) {
	for _, l := range leads {
		out = append(out, service.LeadInput(l))
	}
	return out
}

func (s *Server) serverNames() resource[ServerName, NewServerName, ServerNameChange] {
	shown := func(ctx context.Context) func(*site.ServerName) ServerName {
		return func(n *site.ServerName) ServerName { return serverNameOf(s.on(ctx).Policy(), n) }
	}
	return resource[ServerName, NewServerName, ServerNameChange]{
		one: "server name", many: "server names", route: "/server-names", tag: "publishing",
		does: summaries{"List the other names of the server", "Show another name of the server", "Have the server be reached by another name", "Change another name of the server",
			"Take another name of the server away"},
		listing: listing[ServerName]{name: func(n *ServerName) string { return n.Name }, matches: func(n *ServerName) []string { return []string{n.Description} }},
		all: func(ctx context.Context) (out []ServerName) {
			p := s.on(ctx).Policy()
			for i := range p.ServerNames {
				out = append(out, serverNameOf(p, &p.ServerNames[i]))
			}
			return out
		},
		show: func(ctx context.Context, name string) (ServerName, error) {
			n, err := s.on(ctx).ServerName(name)
			return shownBy(n, err, shown(ctx))
		},
		add: func(ctx context.Context, b NewServerName) (ServerName, error) {
			n, err := s.on(ctx).CreateServerName(ctx, caller(ctx), service.ServerNameInput{Name: b.Name, Description: b.Description, Leads: leadsOf(b.Leads)})
			return shownBy(n, err, shown(ctx))
		},
		change: func(ctx context.Context, name string, b ServerNameChange) (ServerName, error) {
			n, err := s.on(ctx).UpdateServerName(ctx, caller(ctx), name, service.ServerNameChange{Name: b.Name, Description: b.Description, Leads: leadsOf(b.Leads)})
			return shownBy(n, err, shown(ctx))
		},
		remove: func(ctx context.Context, name string) error {
			return s.on(ctx).RemoveServerName(ctx, caller(ctx), name)
		},
	}
}
