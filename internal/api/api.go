// Package api is the HTTP API: typed handlers over the use cases of the service
// package, and the OpenAPI 3.1 document made from them. The command line and the web
// console speak it and nothing else.
package api

import (
	"context"
	"encoding/json"
	"errors"
	"io/fs"
	"log/slog"
	"net/http"
	"net/netip"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/danielgtaylor/huma/v2/adapters/humachi"
	"github.com/go-chi/chi/v5"
	"github.com/go-chi/chi/v5/middleware"

	"amber.example/gatekeeper/internal/live"
	"amber.example/gatekeeper/internal/refusal"
	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/internal/trying"
)

// CookieName is the console's session cookie.
const CookieName = "amber_session"

// Config is what a Server is made from.
type Config struct {
	Service *service.Service
	Log     *slog.Logger
	Console fs.FS  // the built web console; nil for none
	Version string // goes into the OpenAPI document
	SMBPort int    // where SMB answers, for what clients are told to type
	NFSPort int    // and NFS
	// SMBOverQUIC is where SMB is answered over QUIC; "" where it is not.
	SMBOverQUIC string
	SMBAt       string // the address and port where SMB is listened for; "" where it is not
	NFSAt       string // and NFS
	// Names are what the console may be called besides loopback names and the addresses it is reached at.
	Names []string
	// Proxies are from where it is believed what is said of a request before it came here.
	Proxies []netip.Prefix
	// Doors are the ways in by which the service goes in as somebody; none where it serves nothing.
	Doors trying.Doors
	// Live are the same ways in, as far as who has come by them; none where it serves nothing.
	Live live.Doors
	// Host is the process that serves; nil where it is none of its own.
	Host Host
	// Scrape answers at /metrics who may look; nil where nobody does.
	Scrape http.Handler
}

// Server answers the API and serves the console.
type Server struct {
	svc      *service.Service
	log      *slog.Logger
	smbPort  int
	nfsPort  int
	smbAt    string
	quicAt   string // over QUIC
	nfsAt    string
	names    []string
	proxies  []netip.Prefix
	previews *turns
	changers map[string]*changer // by what they do
	api      huma.API
	mux      chi.Router
	watchers watching
	doors    trying.Doors
	live     live.Doors
	version  string
	since    time.Time
	host     Host
}

type draftKey struct{}

// on is the service that a request is about: the one in force, or a draft of changes.
func (s *Server) on(ctx context.Context) *service.Service {
	if draft, ok := ctx.Value(draftKey{}).(*service.Service); ok {
		return draft
	}
	return s.svc
}

// onDraft says whether a request is one of this API to itself.
func onDraft(ctx context.Context) bool {
	_, ok := ctx.Value(draftKey{}).(*service.Service)
	return ok
}

type actorKey struct{}

// caller is who asks; the middleware has put it there on every route that needs one.
func caller(ctx context.Context) service.Actor {
	a, _ := ctx.Value(actorKey{}).(service.Actor)
	return a
}

// New makes the handler.
func New(c Config) *Server {
	if c.Log == nil {
		c.Log = slog.Default()
	}
	s := &Server{host: c.Host, doors: c.Doors, live: c.Live, version: c.Version, since: time.Now(), smbAt: c.SMBAt, quicAt: c.SMBOverQUIC, nfsAt: c.NFSAt, svc: c.Service, log: c.Log, smbPort: c.SMBPort, nfsPort: c.NFSPort, names: c.Names, proxies: c.Proxies, previews: newTurns(), changers: make(map[string]*changer), mux: chi.NewRouter()}
	sameSite := http.NewCrossOriginProtection()
	sameSite.SetDenyHandler(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		writeProblem(w, http.StatusForbidden, "this came from another site's page")
	}))
	s.mux.Use(s.identify, middleware.Recoverer, s.secure, s.reach, sameSite.Handler)

	config := huma.DefaultConfig("Amber Gatekeeper", c.Version)
	config.Info.Description = "The file gateway's records and verdicts. Sign in at /api/v1/sign-in, then send the token as a bearer token, or let the browser keep the cookie. " +
		"Any operation may be refused with 400 or 422 for a request that makes no sense, 401 without a session, 403 where the caller may look and not change, " +
		"429 where somebody asks too often, and 503 where nothing can be written down or a volume is away; then nothing has been done. " +
		"A refusal says why in `detail`, names the field in `errors`, and gives the command to type next in `next`."
	config.Info.License = &huma.License{Name: "Apache License 2.0", Identifier: "Apache-2.0"} // SPDX
	config.Servers = []*huma.Server{{URL: "/", Description: "The service that gave this document out."}}
	config.Tags = tags
	config.DocsPath = ""
	config.SchemasPath = ""
	config.CreateHooks = nil
	config.Formats = inOurWords(config.Formats)
	config.RejectUnknownQueryParameters = true
	config.Transformers = append(config.Transformers, s.numbered)
	config.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"bearer": {Type: "http", Scheme: "bearer"},
		"cookie": {Type: "apiKey", In: "cookie", Name: CookieName},
	}
	config.Security = []map[string][]string{{"bearer": {}}, {"cookie": {}}}
	s.api = humachi.New(s.mux, config)
	s.api.UseMiddleware(s.authenticate)
	s.registerSession()
	s.registerOwn()
	s.registerLeaving()
	s.registerPerson()
	s.registerProfiles()
	s.registerNumbers()
	s.registerPeople()
	s.registerRoster()
	s.registerPlaces()
	s.registerArrangements()
	s.registerTexts()
	s.registerJobs()
	s.registerWatch()
	s.registerTrying()
	s.registerConnected()
	s.registerThroughput()
	s.registerStatus()
	s.registerHost()
	s.registerBackups()
	s.registerDoctor()
	s.registerPublishing()
	s.registerExports()
	s.registerMode()
	s.registerWhy()
	s.registerPreview()
	s.registerAudit()
	s.registerFindings()
	s.registerLimits()
	s.registerNotices()
	s.registerAsked()
	s.registerReviews()
	s.registerReports()
	s.registerChanges()
	s.describeChanges()
	for _, schema := range s.api.OpenAPI().Components.Schemas.Map() {
		for _, property := range schema.Properties {
			property.PatternDescription = "" // errors have it already, and no standard knows it
		}
	}
	if c.Scrape != nil {
		s.mux.Get("/metrics", s.scraped(c.Scrape))
	}
	if c.Console != nil {
		s.mux.NotFound(serveConsole(c.Console))
	}
	s.mux.MethodNotAllowed(func(w http.ResponseWriter, r *http.Request) {
		writeProblem(w, http.StatusMethodNotAllowed, r.Method+" is not for this route; see /openapi.json")
	})
	return s
}

func (s *Server) ServeHTTP(w http.ResponseWriter, r *http.Request) { s.mux.ServeHTTP(w, r) }

// OpenAPI gives the document as YAML's JSON, as it is served at /openapi.json.
func (s *Server) OpenAPI() ([]byte, error) { return s.api.OpenAPI().MarshalJSON() }

// secure sets the headers that every answer carries.
func (s *Server) secure(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		h := w.Header()
		h.Set("Content-Security-Policy", "default-src 'self'; style-src 'self' 'unsafe-inline'; img-src 'self' data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'")
		h.Set("X-Content-Type-Options", "nosniff")
		h.Set("Referrer-Policy", "no-referrer")
		if strings.HasPrefix(r.URL.Path, "/api/") {
			h.Set("Cache-Control", "no-store")
		}
		next.ServeHTTP(w, r)
	})
}

// public marks an operation that needs no sign-in.
var public = []map[string][]string{}

func (s *Server) authenticate(ctx huma.Context, next func(huma.Context)) {
	if sec := ctx.Operation().Security; sec != nil && len(sec) == 0 {
		next(ctx)
		return
	}
	if onDraft(ctx.Context()) { // who asked for the draft is known
		if err := mayAsk(caller(ctx.Context()), ctx.Operation(), false); err != nil {
			s.problem(ctx, err)
			return
		}
		next(ctx)
		return
	}
	actor, err := s.who(ctx.Context(), ctx.Header("Authorization"), ctx.Header("Cookie"))
	if err != nil {
		s.problem(ctx, err)
		return
	}
	if err := mayAsk(actor, ctx.Operation(), false); err != nil {
		s.problem(ctx, err)
		return
	}
	next(huma.WithValue(ctx, actorKey{}, actor))
}

const (
	signOut  = "sign-out"
	checkIDs = "check-ids"
	preview  = "preview"
	asIf     = "as-if"

	// Auditors may be asked to review; the use case looks whether this one is.
	markReview     = "mark-review"
	markReviewText = "mark-review-text"
	verifyReview   = "verify-review"

	// Jobs that only look; whose job may be cancelled the use case says.
	beginSurvey = "begin-survey"
	lookLargest = "look-for-largest"
	cancelJob   = "cancel-job"

	readRoster = "read-roster"

	resetPassword = "reset-password"
)

// who finds out on whose behalf a request is, by its headers Authorization and Cookie and how it came.
func (s *Server) who(ctx context.Context, authorization, cookies string) (service.Actor, error) {
	over := reachedBy(ctx)
	actor, err := s.svc.Authenticate(ctx, token(authorization, cookies), over.address)
	if err != nil {
		return actor, err
	}
	return actor, s.certified(over, actor)
}

// token finds the session token: a bearer token, else the cookie.
func token(authorization, cookies string) string {
	if scheme, value, ok := strings.Cut(authorization, " "); ok && strings.EqualFold(scheme, "bearer") {
		return value
	}
	r := http.Request{Header: http.Header{"Cookie": {cookies}}}
	if c, err := r.Cookie(CookieName); err == nil {
		return c.Value
	}
	return ""
}

// Problem is RFC 9457's document, with the command to type next.
type Problem struct {
	huma.ErrorModel
	Next    string `json:"next,omitempty" doc:"The command to type next, where there is one."`
	Need    string `json:"need,omitempty" enum:"code,password,codes" doc:"What is to be given or done first: a one-time code, another password, or setting up one-time codes."`
	Confirm bool   `json:"confirm,omitempty" doc:"It is done if the caller says that they know; the request's document says how."`
	Request string `json:"request,omitempty" doc:"The id of the request, as in the header X-Request-Id and in the service's log."`

	cause error // what was not expected, for the log
}

func (p *Problem) Error() string  { return p.Detail }
func (p *Problem) GetStatus() int { return p.Status }

func init() {
	huma.DefaultArrayNullable = false // lists are empty, never null
	// Every error, huma's own validation included, is one kind of document.
	huma.NewError = func(status int, msg string, errs ...error) huma.StatusError {
		if msg == "validation failed" {
			msg = "the request is not as it should be"
		}
		p := &Problem{ErrorModel: huma.ErrorModel{Status: status, Title: http.StatusText(status), Detail: msg}}
		for _, err := range errs {
			if err == nil {
				continue
			}
			var d huma.ErrorDetailer
			if errors.As(err, &d) {
				detail := *d.ErrorDetail()
				detail.Value = nil // it may be a password
				p.Errors = append(p.Errors, &detail)
			} else {
				p.Errors = append(p.Errors, &huma.ErrorDetail{Message: err.Error()})
			}
		}
		return p
	}
}

var statusOf = map[refusal.Kind]int{
	service.Invalid: http.StatusUnprocessableEntity, service.NotFound: http.StatusNotFound, service.Conflict: http.StatusConflict,
	service.Forbidden: http.StatusForbidden, service.Unauthenticated: http.StatusUnauthorized, service.RateLimited: http.StatusTooManyRequests,
	service.Unavailable: http.StatusServiceUnavailable,
}

// asProblem turns what a use case returns into what a client reads. Unexpected
// errors are logged and not shown. where is the part of the request that fields are in.
func (s *Server) asProblem(err error, where string) error {
	if err == nil {
		return nil
	}
	var tried *Problem
	if errors.As(err, &tried) { // another route's, see within
		return tried
	}
	var e *service.Error
	if !errors.As(err, &e) {
		return &Problem{cause: err, ErrorModel: huma.ErrorModel{Status: http.StatusInternalServerError, Title: http.StatusText(http.StatusInternalServerError), Detail: "something went wrong; the service's log says what"}}
	}
	status := statusOf[e.Kind]
	p := &Problem{Next: e.Next, Need: e.Need, Confirm: e.Confirm, ErrorModel: huma.ErrorModel{Status: status, Title: http.StatusText(status), Detail: e.Message}}
	if e.Field != "" {
		p.Errors = []*huma.ErrorDetail{{Location: where + "." + e.Field, Message: e.Message}}
	}
	if e.RetryAfter > 0 {
		return huma.ErrorWithHeaders(p, http.Header{"Retry-After": {strconv.Itoa(int(e.RetryAfter/time.Second) + 1)}})
	}
	return p
}

func (s *Server) problem(ctx huma.Context, err error) {
	var p *Problem
	if !errors.As(s.asProblem(err, "header"), &p) {
		p = &Problem{ErrorModel: huma.ErrorModel{Status: http.StatusInternalServerError}}
	}
	if p.Status == http.StatusUnauthorized {
		ctx.SetHeader("WWW-Authenticate", "Bearer")
	}
	s.number(ctx.Context(), p)
	ctx.SetHeader("Content-Type", "application/problem+json")
	ctx.SetStatus(p.Status)
	_ = json.NewEncoder(ctx.BodyWriter()).Encode(p)
}

// writeProblem is for what is turned down before any operation is reached.
func writeProblem(w http.ResponseWriter, status int, detail string) {
	w.Header().Set("Content-Type", "application/problem+json")
	w.WriteHeader(status)
	_ = json.NewEncoder(w).Encode(Problem{Request: w.Header().Get(RequestHeader), ErrorModel: huma.ErrorModel{Status: status, Title: http.StatusText(status), Detail: detail}})
}

// handle registers a route whose body in and out are plain structs.
func handle[I, O any](s *Server, op huma.Operation, fn func(context.Context, *I) (O, error)) {
	type output struct{ Body O }
	mayBeSet(s, op, func(ctx context.Context, in *I) error { _, err := fn(ctx, in); return err })
	huma.Register(s.api, op, func(ctx context.Context, in *I) (*output, error) {
		if err := plainText(in); err != nil {
			return nil, err
		}
		if err := s.mayAbout(ctx, &op, in); err != nil {
			return nil, s.asProblem(err, fieldsOf(op))
		}
		out, err := fn(ctx, in)
		if err != nil {
			return nil, s.asProblem(err, fieldsOf(op))
		}
		return &output{out}, nil
	})
}

// do registers a route that answers nothing but that it is done.
func do[I any](s *Server, op huma.Operation, fn func(context.Context, *I) error) {
	op.DefaultStatus = http.StatusNoContent
	mayBeSet(s, op, fn)
	huma.Register(s.api, op, func(ctx context.Context, in *I) (*struct{}, error) {
		if err := plainText(in); err != nil {
			return nil, err
		}
		if err := s.mayAbout(ctx, &op, in); err != nil {
			return nil, s.asProblem(err, fieldsOf(op))
		}
		return nil, s.asProblem(fn(ctx, in), fieldsOf(op))
	})
}

func fieldsOf(op huma.Operation) string {
	if op.Method == http.MethodGet || op.Method == http.MethodDelete {
		return "query"
	}
	return "body"
}

// serveConsole serves the built console; paths that are no file are its own to route.
func serveConsole(console fs.FS) http.HandlerFunc {
	files := http.FileServerFS(console)
	return func(w http.ResponseWriter, r *http.Request) {
		if strings.HasPrefix(r.URL.Path, "/api/") {
			writeProblem(w, http.StatusNotFound, "there is no such route; see /openapi.json")
			return
		}
		name := strings.TrimPrefix(r.URL.Path, "/")
		if info, err := fs.Stat(console, name); name == "" || err != nil || info.IsDir() {
			r.URL.Path = "/"
			w.Header().Set("Cache-Control", "no-cache")
		} else if strings.HasPrefix(name, "assets/") {
			w.Header().Set("Cache-Control", "public, max-age=31536000, immutable") // their names change with what is in them
		}
		if _, err := fs.Stat(console, "index.html"); err != nil {
			http.Error(w, "The console has not been built into this binary: run make build.", http.StatusNotFound)
			return
		}
		files.ServeHTTP(w, r)
	}
}
