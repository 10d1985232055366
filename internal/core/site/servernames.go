package site

import (
	"slices"
	"strings"

	"amber.example/gatekeeper/internal/core/identity"
)

// ServerName is another name by which clients reach the service over SMB: one it is to have besides its own, or that of a server
// whose data have moved. Where shares were called otherwise there, or are somewhere else now, Leads say where each is to be found. By every other name of a
// share, and by every other name of the server, a client gets the share of that name here.
type ServerName struct {
	ID          int64  `json:"id,omitzero"`
	Name        string `json:"name,omitzero"`
	Description string `json:"description,omitzero"`
	Leads       []Lead `json:"leads,omitzero"`
}

// Lead says where one share of a ServerName is now: a share here, or one of another server, as \\SERVER\SHARE with perhaps a path below.
type Lead struct {
	Share     string `json:"share,omitzero"`     // as it was called
	Here      int64  `json:"here,omitzero"`      // a share's number
	Elsewhere string `json:"elsewhere,omitzero"` // where Here is 0
}

// MostServerNames and MostLeads are how many there may be, and of one.
const (
	MostServerNames = 64
	MostLeads       = 256
)

// Is says whether a client that asks for a server means this name: in full, or its first part, where the name has only that.
func (n *ServerName) Is(server string) bool {
	said, is := identity.Fold(server), identity.Fold(n.Name)
	if said == is {
		return true
	}
	first, _, dotted := strings.Cut(said, ".")
	return dotted && first == is
}

// Lead finds where a share is now; nil for nowhere in particular.
func (n *ServerName) Lead(share string) *Lead {
	i := slices.IndexFunc(n.Leads, func(l Lead) bool { return identity.Fold(l.Share) == identity.Fold(share) })
	if i < 0 {
		return nil
	}
	return &n.Leads[i]
}

// ServerNamed finds the record of a name that a client uses for the server; nil where there is none.
func (p *Policy) ServerNamed(server string) *ServerName {
	for i := range p.ServerNames { // one that is written in full comes before one that is only its first part
		if identity.Fold(p.ServerNames[i].Name) == identity.Fold(server) {
			return &p.ServerNames[i]
		}
	}
	for i := range p.ServerNames {
		if p.ServerNames[i].Is(server) {
			return &p.ServerNames[i]
		}
	}
	return nil
}

// Meant is what a client means by a share of a server: a share here, or where elsewhere it is; neither where there is none.
func (p *Policy) Meant(server, share string) (here *PublishedShare, elsewhere string) {
	if n := p.ServerNamed(server); n != nil {
		if l := n.Lead(share); l != nil {
			if l.Here == 0 {
				return nil, l.Elsewhere
			}
			return p.Share(l.Here), ""
		}
	}
	return p.ShareNamed(share), ""
}

// LeadsElsewhere says whether any name leads to another server.
func (p *Policy) LeadsElsewhere() bool {
	return slices.ContainsFunc(p.ServerNames, func(n ServerName) bool {
		return slices.ContainsFunc(n.Leads, func(l Lead) bool { return l.Here == 0 })
	})
}

// Follow follows where a share of a server is led to, as far as the records go. It is false for a way that comes back to where it has been.
func (p *Policy) Follow(server, share string) (at string, ends bool) {
	seen := make(map[string]bool)
	for {
		at = `\\` + server + `\` + share
		if seen[identity.Fold(at)] {
			return at, false
		}
		seen[identity.Fold(at)] = true
		_, elsewhere := p.Meant(server, share)
		if elsewhere == "" {
			return at, true
		}
		var ok bool
		if server, share, _, ok = SplitUNC(elsewhere); !ok {
			return elsewhere, true
		}
	}
}

// SplitUNC parts \\SERVER\SHARE\PATH; false for what is none.
func SplitUNC(s string) (server, share, path string, ok bool) {
	rest, ok := strings.CutPrefix(s, `\\`)
	if !ok {
		return "", "", "", false
	}
	server, rest, _ = strings.Cut(rest, `\`)
	share, path, _ = strings.Cut(rest, `\`)
	return server, share, path, server != "" && share != ""
}
