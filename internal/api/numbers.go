package api

import (
	"context"
	"net/http"
	"strconv"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/service"
)

// NumberMismatch is a client's number that is not ours.
type NumberMismatch struct {
	Kind     string   `json:"kind" enum:"user,group"`
	Name     string   `json:"name" doc:"On the client."`
	There    uint32   `json:"there" doc:"Its number on the client."`
	Here     *uint32  `json:"here,omitempty" doc:"Our number for that name, where it is another."`
	Taken    string   `json:"taken,omitempty" doc:"Whose the client's number is here."`
	FixHere  []string `json:"fixHere" doc:"Commands of this service that fix it."`
	FixThere []string `json:"fixThere" doc:"Or shell commands for the client, as root."`
}

// NumbersChecked is the outcome of comparing a client's accounts.
type NumbersChecked struct {
	Compared   int              `json:"compared" doc:"How many users and groups of the client were looked at."`
	Mismatches []NumberMismatch `json:"mismatches"`
}

// NumbersToCheck is what a client's accounts are.
type NumbersToCheck struct {
	Passwd string `json:"passwd,omitempty" format:"lines" doc:"Lines of passwd(5)."`
	Group  string `json:"group,omitempty" format:"lines" doc:"Lines of group(5)."`
	Host   string `json:"host,omitempty" maxLength:"80" doc:"Remember them under this name, so that the audit's findings tell of them from now on."`
}

func mismatchesOf(found []service.NumberCheck) []NumberMismatch {
	out := []NumberMismatch{}
	for _, c := range found {
		m := NumberMismatch{Kind: "user", Name: c.Name, There: c.There, Taken: c.Taken, FixHere: c.FixHere, FixThere: c.FixThere}
		if c.Group {
			m.Kind = "group"
		}
		if c.Known {
			m.Here = &c.Here
		}
		out = append(out, m)
	}
	return out
}

// RememberedNumbers is what is remembered of a client's numbers.
type RememberedNumbers struct {
	Host       string           `json:"host"`
	Compared   int              `json:"compared" doc:"How many users and groups it has."`
	Map        string           `json:"map,omitempty" doc:"The number map by which its numbers are translated."`
	Mismatches []NumberMismatch `json:"mismatches" doc:"Less what the number map puts right."`
}

// NumberMap says who the numbers of some hosts are here.
type NumberMap struct {
	Name        string            `json:"name"`
	Description string            `json:"description"`
	From        []string          `json:"from" doc:"The hosts, by address, network, name or pattern of names."`
	Others      string            `json:"others" enum:"same,unknown" doc:"What becomes of numbers that are not in the map: they are whose they are here, or nobody's."`
	Users       map[string]string `json:"users" doc:"By uid there, who it is here; nobody@ for nobody."`
	Groups      map[string]string `json:"groups" doc:"By gid there, which group it is here."`
}

// NumberMapBody is what a number map says; what is left out is as it is by itself, or stays.
type NumberMapBody struct {
	Description *string           `json:"description,omitempty" maxLength:"200"`
	From        *[]string         `json:"from,omitempty" maxItems:"256" doc:"Addresses, networks, names, or patterns of names."`
	Others      *string           `json:"others,omitempty" enum:"same,unknown" doc:"By itself, same."`
	Users       map[string]string `json:"users,omitempty" doc:"By uid there, who it is here; nobody@ for nobody, and empty for what the map is to have no more."`
	Groups      map[string]string `json:"groups,omitempty" doc:"By gid there, in the same way."`
	Like        string            `json:"like,omitempty" maxLength:"253" doc:"A client of which numbers are remembered: those that are otherwise here are put in."`
}

// NewNumberMap is what a number map is made from.
type NewNumberMap struct {
	Name string `json:"name" maxLength:"80"`
	NumberMapBody
}

// NumberMapChange is what is to change of a number map.
type NumberMapChange struct {
	Name *string `json:"name,omitempty" maxLength:"80"`
	NumberMapBody
}

func (b NumberMapBody) input(name *string) service.NumberMapInput {
	return service.NumberMapInput{Name: name, Description: b.Description, From: b.From, Others: (*site.Others)(b.Others), Users: b.Users, Groups: b.Groups, Like: b.Like}
}

func numberMapOf(p *site.Policy, m *site.HostNumbers) NumberMap {
	named := func(list []site.NumberFor, who func(identity.ID) identity.Principal) map[string]string {
		out := make(map[string]string, len(list))
		for _, n := range list {
			name := service.Nobodys
			if n.Who != 0 {
				name = p.Directory.Name(who(n.Who))
			}
			out[strconv.FormatUint(uint64(n.There), 10)] = name
		}
		return out
	}
	return NumberMap{Name: m.Name, Description: m.Description, From: m.From, Others: string(m.Others), Users: named(m.Users, identity.UserPrincipal), Groups: named(m.Groups, identity.GroupPrincipal)}
}

func (s *Server) numberMaps() resource[NumberMap, NewNumberMap, NumberMapChange] {
	shown := func(ctx context.Context) func(*site.HostNumbers) NumberMap {
		return func(is *site.HostNumbers) NumberMap { return numberMapOf(s.on(ctx).Policy(), is) }
	}
	return resource[NumberMap, NewNumberMap, NumberMapChange]{
		one: "number-map", many: "number-maps", route: "/number-maps", tag: "people",
		does: summaries{"List the number maps", "Show a number map", "Add a number map", "Change a number map", "Remove a number map"},
		listing: listing[NumberMap]{name: func(m *NumberMap) string { return m.Name }, matches: func(m *NumberMap) []string { return append([]string{m.Description}, m.From...) },
			sorts: map[string]func(*NumberMap) string{"users": func(m *NumberMap) string { return byNumber(len(m.Users)) }}},
		all: func(ctx context.Context) (out []NumberMap) {
			p := s.on(ctx).Policy()
			for _, is := range p.NumberMaps {
				out = append(out, numberMapOf(p, is))
			}
			return out
		},
		show: func(ctx context.Context, name string) (NumberMap, error) {
			is, err := s.on(ctx).NumberMap(name)
			return shownBy(is, err, shown(ctx))
		},
		add: func(ctx context.Context, b NewNumberMap) (NumberMap, error) {
			is, err := s.on(ctx).CreateNumberMap(ctx, caller(ctx), b.input(&b.Name))
			return shownBy(is, err, shown(ctx))
		},
		change: func(ctx context.Context, name string, b NumberMapChange) (NumberMap, error) {
			is, err := s.on(ctx).UpdateNumberMap(ctx, caller(ctx), name, b.input(b.Name))
			return shownBy(is, err, shown(ctx))
		},
		remove: func(ctx context.Context, name string) error { return s.on(ctx).RemoveNumberMap(ctx, caller(ctx), name) },
	}
}

func (s *Server) registerNumbers() {
	op := operation(checkIDs, http.MethodPost, "/ids/check", "Compare a client's user and group numbers with the records", "people")
	op.MaxBodyBytes = 8 << 20
	handle(s, op, func(ctx context.Context, in *struct {
		Body NumbersToCheck
	}) (NumbersChecked, error) {
		found, n, err := s.on(ctx).CheckNumbers(ctx, caller(ctx), in.Body.Host, in.Body.Passwd, in.Body.Group)
		return NumbersChecked{Compared: n, Mismatches: mismatchesOf(found)}, err
	})
	do(s, operation("forget-ids", http.MethodDelete, "/ids/{name}", "Forget what a client has, so that the audit looks at it no more", "people"), func(ctx context.Context, in *Named) error {
		return s.on(ctx).ForgetNumbers(ctx, caller(ctx), in.Name)
	})
	handle(s, operation("list-ids", http.MethodGet, "/ids", "List what is remembered of clients' numbers, and where it is not as the records have it", "people"), func(ctx context.Context, _ *struct{}) ([]RememberedNumbers, error) {
		out := []RememberedNumbers{}
		for _, h := range s.on(ctx).RememberedNumbers() {
			r := RememberedNumbers{Host: h.Host, Compared: len(h.Numbers), Mismatches: mismatchesOf(h.Mismatches)}
			if h.Map != nil {
				r.Map = h.Map.Name
			}
			out = append(out, r)
		}
		return out, nil
	})
	register(s, s.numberMaps())
}
