package api

import (
	"context"
	"net/http"
	"time"

	"amber.example/gatekeeper/internal/service"
)

// Person is all that is known of a user, in one place.
type Person struct {
	User
	Direct  []string             `json:"direct" doc:"Groups that list them, and the primary one."`
	Through []service.GroupChain `json:"through" doc:"Groups that they are in by way of others, the innermost first."`
	Reach   []Spot               `json:"reach" doc:"Where they get, with the paths on which the level changes."`
	Use     *Use                 `json:"use,omitempty" doc:"What they have in use against each limit."`
	Hosts   []service.HostNumber `json:"hosts" doc:"What other machines number them, as far as was checked."`
	SignIns []SignInNow          `json:"signIns" doc:"To the console and this API, that go on."`
	Seen    []LastSeen           `json:"seen" doc:"When they last came in, by each way."`
	Owns    []string             `json:"owns" doc:"Folders and groups."`
	Named   []service.Naming     `json:"named" doc:"Where entries and settings name them."`
	Reviews []string             `json:"reviews" doc:"Those that go on and ask them."`
	Tokens  []Token              `json:"tokens"`
	Events  []Event              `json:"events" doc:"The latest, the latest first."`
}

// LastSeen is when somebody last came in by a way.
type LastSeen struct {
	Via  string    `json:"via"`
	At   time.Time `json:"at"`
	From string    `json:"from"`
}

func (s *Server) person(ctx context.Context, name string) (Person, error) {
	svc := s.on(ctx)
	p, err := svc.Person(ctx, name)
	if err != nil {
		return Person{}, err
	}
	out := Person{User: userOf(svc.Policy(), p.User), Direct: orNone(p.Direct), Through: orNone(p.Through), Hosts: orNone(p.Hosts), SignIns: []SignInNow{}, Seen: []LastSeen{},
		Owns: orNone(p.Owns), Named: orNone(p.Named), Reviews: orNone(p.Reviews), Tokens: []Token{}, Events: []Event{}}
	reach, err := reachOf(svc, p.User.Name)
	if err != nil {
		return Person{}, err
	}
	out.Reach = reach.Spots
	if h, err := svc.History(ctx, service.ByUser, p.User.Name, svc.Ledger().Now()); err == nil { // where anything is counted
		use := useOf(svc.Policy(), &h.Use, svc.Ledger().Now())
		out.Use = &use
	}
	for _, is := range p.SignIns {
		out.SignIns = append(out.SignIns, signInOf(is, caller(ctx)))
	}
	for _, is := range p.Seen {
		out.Seen = append(out.Seen, LastSeen{is.Via, is.At.UTC(), is.From})
	}
	for _, t := range p.Tokens {
		out.Tokens = append(out.Tokens, s.tokenOf(ctx, t))
	}
	for _, e := range p.Events {
		out.Events = append(out.Events, eventOf(e))
	}
	return out, nil
}

func orNone[T any](list []T) []T {
	if list == nil {
		return []T{}
	}
	return list
}

func (s *Server) registerPerson() {
	handle(s, operation("show-person", http.MethodGet, "/people/{name}", "Show all that is known of a user", "people"), func(ctx context.Context, in *Named) (Person, error) {
		return s.person(ctx, in.Name)
	})
}
