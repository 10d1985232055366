package api

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"path"
	"strings"

	"github.com/go-chi/chi/v5"

	"amber.example/gatekeeper/internal/core/audit"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/live"
	"amber.example/gatekeeper/internal/service"
)

// Levels is what somebody may do over each protocol.
type Levels = service.Levels

func levelsOf(p audit.Pair) Levels { return service.LevelsOf(p) }

// Effect is what changes would do, or have done.
type Effect struct {
	Gain     int            `json:"gain" doc:"How many people gain something."`
	Lose     int            `json:"lose" doc:"How many people lose something."`
	Added    int            `json:"added" doc:"How many entries would be written."`
	Removed  int            `json:"removed" doc:"How many entries would go."`
	Changes  []EffectOnPath `json:"changes"`
	Powers   []Power        `json:"powers" doc:"What people gain or lose beside rights on paths: roles, services, tokens, uid 0, groups that own folders, quotas."`
	Whence   []string       `json:"whence,omitempty" doc:"What would be another about from where, and how, clients come in: people's levels do not tell it. A sentence each."`
	Warnings []Finding      `json:"warnings" doc:"What would be wrong that is not now."`
	Fixed    []Finding      `json:"fixed" doc:"What is wrong now that would not be."`
}

// EffectOnPath is the same change for some people on a path and, where nothing else is said, below.
type EffectOnPath struct {
	Path string `json:"path"`
	// Objects tells what is on the path from what is below it.
	Objects string   `json:"objects,omitempty" doc:"Which objects below the path are meant; left out for the path itself." example:"files in it that they own"`
	Gains   bool     `json:"gains"`
	Loses   bool     `json:"loses"`
	Gained  []string `json:"gained" doc:"The access rights gained over either protocol, by their RFC 8881 names."`
	Lost    []string `json:"lost" doc:"The access rights lost over either protocol."`
	Was     Levels   `json:"was"`
	Is      Levels   `json:"is"`
	Count   int      `json:"count" doc:"How many people."`
	People  []string `json:"people" doc:"Who, by name; no more than a thousand."`
}

// Power is something other than rights on paths that somebody gains or loses.
type Power struct {
	User  string `json:"user,omitempty" doc:"Left out where it is nobody's alone."`
	Gains bool   `json:"gains" doc:"False where it is lost."`
	Says  string `json:"says" example:"wren gets the role administrator"`
}

const mostNames = 1000

func effectOf(e service.Effect) Effect {
	out := Effect{Added: e.Added, Removed: e.Removed, Changes: []EffectOnPath{}, Powers: []Power{}, Warnings: findingsOf(e.Warnings), Fixed: findingsOf(e.Fixed), Whence: e.Whence}
	gain, lose := make(map[identity.ID]bool), make(map[identity.ID]bool)
	for i := range e.Changes {
		c := &e.Changes[i]
		was, is := c.Texts()
		p := EffectOnPath{Path: path.Join(c.Folder, c.Path), Objects: c.Objects, Gains: c.Gains(), Loses: c.Loses(), Was: Levels(was), Is: Levels(is), Count: len(c.People), People: []string{},
			Gained: rights(&c.Is, &c.Was), Lost: rights(&c.Was, &c.Is)}
		for _, id := range c.People {
			if p.Gains {
				gain[id] = true
			}
			if p.Loses {
				lose[id] = true
			}
			if len(p.People) < mostNames {
				in := e.After
				if in.User(id) == nil {
					in = e.Before
				}
				p.People = append(p.People, in.Name(identity.UserPrincipal(id)))
			}
		}
		out.Changes = append(out.Changes, p)
	}
	for _, p := range e.Powers {
		one := Power{Gains: p.Gains, Says: p.Says}
		if p.User != 0 {
			in := e.After
			if in.User(p.User) == nil {
				in = e.Before
			}
			one.User = in.Name(identity.UserPrincipal(p.User))
			if p.Gains {
				gain[p.User] = true
			} else {
				lose[p.User] = true
			}
		}
		out.Powers = append(out.Powers, one)
	}
	out.Gain, out.Lose = len(gain), len(lose)
	return out
}

// rights names the rights that are had over some protocol and were not over the same.
func rights(is, was *audit.Pair) []string {
	more := is.SMB.Rights&^was.SMB.Rights | is.NFS.Rights&^was.NFS.Rights
	return append([]string{}, more.Names(!is.Kind.File())...)
}

// try makes changes on a draft and gives that. What is turned down comes back as it would from the
// route itself.
func (s *Server) try(ctx context.Context, changes []Change) (*service.Service, error) {
	draft, err := s.on(ctx).Preview(ctx, func(ctx context.Context, draft *service.Service) error {
		return s.makeAll(context.WithValue(ctx, draftKey{}, draft), changes)
	})
	if err == nil && !looks(caller(ctx)) {
		err = draft.MayMake(caller(ctx))
	}
	if err != nil && ctx.Err() != nil { // that is why, whatever it came upon
		err = tookTooLong(ctx)
	}
	return draft, err
}

// answered asks a route of this API itself, about the service in the context.
func (s *Server) answered(ctx context.Context, ask string) ([]byte, error) {
	u, err := url.Parse("/api/v1/" + strings.TrimPrefix(strings.TrimPrefix(ask, "/"), "api/v1/"))
	if err != nil {
		return nil, &service.Error{Kind: service.Invalid, Field: "ask", Message: fmt.Sprintf("%q is no path of this API", ask)}
	}
	// The router would take its own outer route for the way to this one.
	ctx = context.WithValue(ctx, chi.RouteCtxKey, (*chi.Context)(nil))
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, u.String(), nil)
	if err != nil {
		return nil, &service.Error{Kind: service.Invalid, Field: "ask", Message: fmt.Sprintf("%q is no path of this API", ask)}
	}
	req.RequestURI = u.RequestURI()
	got := &kept{status: http.StatusOK, header: make(http.Header)}
	s.mux.ServeHTTP(got, req)
	if got.status < 400 {
		return got.body.Bytes(), nil
	}
	p := &Problem{}
	if err := json.Unmarshal(got.body.Bytes(), p); err != nil || p.Status == 0 {
		return nil, fmt.Errorf("GET %s: %d", ask, got.status)
	}
	return nil, p
}

// kept is an answer that goes nowhere.
type kept struct {
	status int
	header http.Header
	body   bytes.Buffer
}

func (k *kept) Header() http.Header         { return k.header }
func (k *kept) WriteHeader(status int)      { k.status = status }
func (k *kept) Write(p []byte) (int, error) { return k.body.Write(p) }

func (s *Server) registerPreview() {
	op := operation(preview, http.MethodPost, "/preview", "Say what changes would do to whom, and make none of them", "audit")
	op.SkipValidateBody = true
	op.MaxBodyBytes = longestSet
	handle(s, op, func(ctx context.Context, in *struct {
		Body    ChangesBody
		RawBody []byte
	}) (Effect, error) {
		body, err := readBody[ChangesBody](in.RawBody)
		if err != nil {
			return Effect{}, err
		}
		ctx, done, err := s.previews.take(ctx, caller(ctx))
		if err != nil {
			return Effect{}, err
		}
		defer done()
		draft, err := s.try(ctx, body.Changes)
		if err != nil {
			return Effect{}, err
		}
		e := effectOf(s.on(ctx).Effect(draft))
		if looks(caller(ctx)) {
			e.Whence = append(e.Whence, live.TurnedAway(s.live.Sessions(), s.on(ctx).Policy(), draft.Policy())...)
		}
		return e, nil
	})
	op = operation(asIf, http.MethodPost, "/as-if", "Answer a question as if changes had been made, and make none of them", "audit")
	op.SkipValidateBody = true
	op.MaxBodyBytes = longestSet
	handle(s, op, func(ctx context.Context, in *struct {
		Body    AsIfBody
		RawBody []byte
	}) (json.RawMessage, error) {
		body, err := readBody[AsIfBody](in.RawBody)
		if err != nil {
			return nil, err
		}
		ctx, done, err := s.previews.take(ctx, caller(ctx))
		if err != nil {
			return nil, err
		}
		defer done()
		draft, err := s.try(ctx, body.Changes)
		if err != nil {
			return nil, err
		}
		raw, err := s.answered(context.WithValue(ctx, draftKey{}, draft), body.Ask)
		if err == nil && !json.Valid(raw) {
			return nil, &service.Error{Kind: service.Invalid, Field: "ask", Message: body.Ask + " does not answer in JSON"}
		}
		return raw, err
	})
}

// AsIfBody is a question, and what it is asked after.
type AsIfBody struct {
	ChangesBody
	Ask string `json:"ask" maxLength:"8192" doc:"What to GET, below /api/v1, with its query: why?user=orla&path=plates."`
}
