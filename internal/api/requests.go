package api

import (
	"context"
	"crypto/rand"
	"encoding/base32"
	"errors"
	"log/slog"
	"net/http"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
)

// RequestHeader carries the id of each request in its answer; errors and the service's log have the same.
const RequestHeader = "X-Request-Id"

type requestKey struct{}

// requestOf is the id of a request; "" for one of this API to itself.
func requestOf(ctx context.Context) string {
	id, _ := ctx.Value(requestKey{}).(string)
	return id
}

func newRequestID() string {
	var raw [10]byte
	rand.Read(raw[:])
	return strings.ToLower(base32.StdEncoding.EncodeToString(raw[:]))
}

// identify gives each request an id of the service's own, whatever a client sends, and says at level debug how it was answered.
func (s *Server) identify(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if onDraft(r.Context()) {
			next.ServeHTTP(w, r)
			return
		}
		id := newRequestID()
		w.Header().Set(RequestHeader, id)
		begun := time.Now()
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), requestKey{}, id)))
		s.log.Debug("answered", "request", id, "method", r.Method, "path", r.URL.Path, "took", time.Since(begun).Round(time.Microsecond))
	})
}

// numbered puts the request's id into what is refused, and logs what was not expected with it.
func (s *Server) numbered(ctx huma.Context, _ string, v any) (any, error) {
	var p *Problem
	if err, ok := v.(error); ok && errors.As(err, &p) {
		s.number(ctx.Context(), p)
	}
	return v, nil
}

func (s *Server) number(ctx context.Context, p *Problem) {
	p.Request = requestOf(ctx)
	if p.cause == nil {
		return
	}
	level := slog.LevelError
	if errors.Is(p.cause, context.Canceled) && ctx.Err() != nil { // whoever asked went away
		level = slog.LevelDebug
	}
	s.log.Log(ctx, level, "request failed", "request", p.Request, "error", p.cause)
	p.cause = nil
}

// byTLS turns down what comes by plain HTTP from another machine, and has browsers come again by TLS; this machine's own requests and those
// of trusted proxies, which are told how the browser came, are answered either way. Names that an authority has signed for are kept to TLS (RFC 6797).
func (s *Server) byTLS(w http.ResponseWriter, r *http.Request, to reached) (answered bool) {
	if s.host == nil {
		return false
	}
	if r.TLS != nil {
		if s.host.Firm(to.host) {
			w.Header().Set("Strict-Transport-Security", "max-age=31536000")
		}
		return false
	}
	if from := withoutPort(r.RemoteAddr); isLoopback(from) || s.trusted(from) {
		return false
	}
	if (r.Method == http.MethodGet || r.Method == http.MethodHead) && !strings.HasPrefix(r.URL.Path, "/api/") && r.URL.Path != "/metrics" {
		http.Redirect(w, r, "https://"+r.Host+r.URL.RequestURI(), http.StatusPermanentRedirect)
		return true
	}
	writeProblem(w, http.StatusForbidden, "other machines are answered by TLS alone: use https://")
	return true
}
