package api

import (
	"context"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"

	"amber.example/gatekeeper/internal/core/plain"
)

type reachedKey struct{}

// reached is between whom a request went.
type reached struct {
	address string // of the caller, without port
	client  string // as it calls itself
	host    string // the gateway as the caller names it, without port
	secure  bool   // it came over TLS, to here or to a proxy that is trusted
	at      string // from where it came to here: the client, or the last proxy
	proved  bool   // the client showed a certificate that is taken
}

func reachedBy(ctx context.Context) reached {
	r, _ := ctx.Value(reachedKey{}).(reached)
	return r
}

func withoutPort(address string) string {
	if host, _, err := net.SplitHostPort(address); err == nil {
		return host
	}
	return strings.Trim(address, "[]")
}

// reach finds between whom a request goes, and turns down what is addressed to a name that is not the gateway's:
// a page whose own name is made to lead here would otherwise be the console to a browser. What a
// proxy says of the request before it is believed of those that are trusted, and of nobody else.
func (s *Server) reach(next http.Handler) http.Handler {
	return http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if onDraft(r.Context()) { // a request of this API to itself
			next.ServeHTTP(w, r)
			return
		}
		to := reached{address: withoutPort(r.RemoteAddr), client: plain.Text(r.UserAgent()), secure: r.TLS != nil,
			at: withoutPort(r.RemoteAddr), proved: r.TLS != nil && len(r.TLS.VerifiedChains) > 0}
		if s.trusted(to.address) {
			said, agree := forwarded(r.Header)
			if !agree {
				writeProblem(w, http.StatusBadRequest, "Forwarded and X-Forwarded headers say different things: have the proxy remove those that it does not write")
				return
			}
			// From the nearest on: the first that is no trusted proxy is who asks.
			for i := len(said.addresses) - 1; i >= 0; i-- {
				if to.address = said.addresses[i]; !s.trusted(to.address) {
					break
				}
			}
			to.secure = to.secure || strings.EqualFold(said.proto, "https")
			if said.host != "" {
				if !s.named(withoutPort(r.Host), r.Context()) { // the proxy is to know the gateway by its name, too
					said.host = r.Host
				}
				r.Host = said.host
			}
		}
		to.host = withoutPort(r.Host)
		if !s.named(to.host, r.Context()) {
			writeProblem(w, http.StatusMisdirectedRequest, "the console is not called "+plain.Text(to.host)+
				" here: use an address that the service listens on, or start it with --console-name")
			return
		}
		if s.byTLS(w, r, to) {
			return
		}
		next.ServeHTTP(w, r.WithContext(context.WithValue(r.Context(), reachedKey{}, to)))
	})
}

// named says whether the gateway may be called so: by a loopback name, the address that the request came to, or a name
// given at the start.
func (s *Server) named(host string, ctx context.Context) bool {
	host = strings.ToLower(strings.TrimSuffix(host, "."))
	if host == "localhost" || strings.HasSuffix(host, ".localhost") { // RFC 6761 section 6.3
		return true
	}
	for _, name := range s.names {
		if host == strings.ToLower(name) {
			return true
		}
	}
	addr, err := netip.ParseAddr(host)
	if err != nil {
		return false
	}
	addr = addr.Unmap().WithZone("")
	if addr.IsLoopback() {
		return true
	}
	local, ok := ctx.Value(http.LocalAddrContextKey).(net.Addr)
	if !ok {
		return false
	}
	own, err := netip.ParseAddrPort(local.String())
	return err == nil && own.Addr().Unmap().WithZone("") == addr
}

func (s *Server) trusted(address string) bool {
	addr, err := netip.ParseAddr(address)
	if err != nil {
		return false
	}
	for _, p := range s.proxies {
		if p.Contains(addr.Unmap().WithZone("")) {
			return true
		}
	}
	return false
}

// relayed is what proxies say of a request, the nearest last.
type relayed struct {
	addresses   []string
	proto, host string // as the nearest says
}

// forwarded reads RFC 7239's header and the older three. A proxy writes one kind and may pass on the other as a client sent
// it; so where both are there they have to agree, about who asks and how.
func forwarded(h http.Header) (out relayed, agree bool) {
	var standard, older relayed
	for element := range strings.SplitSeq(strings.Join(h.Values("Forwarded"), ","), ",") {
		for pair := range strings.SplitSeq(element, ";") {
			name, value, _ := strings.Cut(strings.TrimSpace(pair), "=")
			value = strings.Trim(value, `"`)
			switch strings.ToLower(name) {
			case "for":
				standard.addresses = append(standard.addresses, withoutPort(value))
			case "proto":
				standard.proto = value
			case "host":
				standard.host = value
			}
		}
	}
	for line := range strings.SplitSeq(strings.Join(h.Values("X-Forwarded-For"), ","), ",") {
		if a := strings.TrimSpace(line); a != "" {
			older.addresses = append(older.addresses, withoutPort(a))
		}
	}
	last := func(name string) string {
		all := strings.Split(strings.Join(h.Values(name), ","), ",")
		return strings.TrimSpace(all[len(all)-1])
	}
	older.proto, older.host = last("X-Forwarded-Proto"), last("X-Forwarded-Host")
	switch {
	case len(h.Values("Forwarded")) == 0:
		return older, true
	case len(older.addresses) == 0 && older.proto == "" && older.host == "":
		return standard, true
	}
	return standard, slices.Equal(standard.addresses, older.addresses) &&
		(older.proto == "" || older.proto == standard.proto) && (older.host == "" || older.host == standard.host)
}
