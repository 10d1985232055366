package service

import (
	"context"
	"fmt"
	"slices"
	"strings"

	"amber.example/gatekeeper/internal/accesslog"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/signin"
	"amber.example/gatekeeper/internal/store"
)

// Person is all that is known of a user, in one place.
type Person struct {
	User    *identity.User
	Direct  []string     // groups that list them, and the primary one, by name
	Through []GroupChain // groups that they are in by way of others
	Hosts   []HostNumber // what other machines number them
	SignIns []signin.Session
	Seen    []accesslog.LastSeen
	Owns    []string // folders and groups, in words
	Named   []Naming // where entries and settings name them
	Reviews []string // that go on and ask them
	Tokens  []site.Token
	Events  []store.Event // the latest, the latest last
	Journal []store.JournalRow
}

// GroupChain is a group that somebody is in, and by way of which others, the innermost first.
type GroupChain struct {
	Group string   `json:"group"`
	Chain []string `json:"chain"`
}

// HostNumber is what a machine numbers a user.
type HostNumber struct {
	Host string `json:"host"`
	UID  uint32 `json:"uid"`
	Same bool   `json:"same" doc:"It is the number that they have here."`
	Map  string `json:"map,omitempty" doc:"The number map that has it."`
}

// Naming is where something names somebody, and the command after which it does not.
type Naming struct {
	Where   string `json:"where"`
	Command string `json:"command"`
}

const mostOfPerson = 10 // events, and rows of the journal, that are told of a person

// Person puts together all that is known of a user.
func (s *Service) Person(ctx context.Context, name string) (out Person, err error) {
	if out.User, err = s.User(name); err != nil {
		return out, err
	}
	u, p := out.User, s.Policy()
	d := p.Directory
	for _, g := range d.MemberOf(u.ID) {
		if g.ID == u.Primary || slices.Contains(g.Members, identity.UserPrincipal(u.ID)) {
			out.Direct = append(out.Direct, g.Name)
			continue
		}
		out.Through = append(out.Through, GroupChain{g.Name, d.Chain(u.ID, g.ID)})
	}
	for _, l := range p.IDLists {
		for _, n := range l.Numbers {
			if !n.Group && identity.Fold(n.Name) == identity.Fold(u.Name) {
				out.Hosts = append(out.Hosts, HostNumber{Host: l.Host, UID: n.Number, Same: n.Number == u.UID})
			}
		}
	}
	for _, m := range p.NumberMaps {
		if n, mapped := m.UserThere(u.UID); mapped && n != u.UID {
			out.Hosts = append(out.Hosts, HostNumber{Host: strings.Join(m.From, ", "), UID: n, Map: m.Name})
		}
	}
	for _, f := range p.Folders {
		if f.Owner == u.ID {
			out.Owns = append(out.Owns, "folder "+f.Name)
		}
	}
	for i := range d.Groups() {
		if g := &d.Groups()[i]; slices.Contains(g.Owners, identity.UserPrincipal(u.ID)) {
			out.Owns = append(out.Owns, "group "+g.Name)
		}
	}
	for _, n := range s.usedBy(identity.UserPrincipal(u.ID)) {
		out.Named = append(out.Named, Naming{n.where, n.command})
	}
	for _, e := range p.Exports {
		for _, r := range e.InForce {
			if r.AnonUID == u.UID && r.Squash != "" {
				out.Named = append(out.Named, Naming{fmt.Sprintf("rule %d of export %s squashes to them", r.ID, e.Path), fmt.Sprintf("amber export rule set %s %d --anon-uid %d", quote(e.Path), r.ID, site.Anonymous)})
			}
		}
	}
	for _, v := range p.Reviews {
		if v.Closed.IsZero() && slices.ContainsFunc(v.Reviewers, func(n string) bool { return identity.Fold(n) == identity.Fold(u.Name) }) {
			out.Reviews = append(out.Reviews, v.Name)
		}
	}
	out.Tokens = s.Tokens(u.ID)
	if !s.asOf.IsZero() || s.drafting != nil { // what follows is of now
		return out, nil
	}
	if out.SignIns, err = s.Sessions(ctx, u.ID); err != nil {
		return out, err
	}
	if out.Seen, err = s.LastSeen(ctx, u.ID); err != nil {
		return out, err
	}
	if out.Events, err = s.Events(ctx, store.Match{By: u.Name, Most: mostOfPerson, Back: true}); err != nil {
		return out, err
	}
	out.Journal, err = s.store.Journal(ctx, store.Match{On: u.Name, Only: "changes", Most: mostOfPerson, Back: true})
	return out, err
}
