package api

import (
	"context"
	"net"
	"net/http"
	"net/netip"
	"strings"
)

type reachedKey struct{}

// reached is between whom a request went.
type reached struct {
	address string // of the caller, without port
	host    string // the gateway as the caller names it, without port
	secure  bool   // it came over TLS, to here or to a proxy that is trusted
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
		if isTrial(r.Context()) { // a request of this API to itself
			next.ServeHTTP(w, r)
			return
		}
		to := reached{address: withoutPort(r.RemoteAddr), secure: r.TLS != nil}
		if s.trusted(to.address) {
			said := forwarded(r.Header)
			// From the nearest on: the first that is no trusted proxy is who asks.
			for i := len(said.addresses) - 1; i >= 0; i-- {
				if to.address = said.addresses[i]; !s.trusted(to.address) {
					break
				}
			}
			to.secure = to.secure || strings.EqualFold(said.proto, "https")
			if said.host != "" {
				r.Host = said.host
			}
		}
		to.host = withoutPort(r.Host)
		if !s.named(to.host, r.Context()) {
			writeProblem(w, http.StatusMisdirectedRequest, "the console is not called "+printable(to.host)+" here: use an address that the service listens on, or start it with --console-name")
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

// forwarded reads RFC 7239's header, or where there is none the older three.
func forwarded(h http.Header) relayed {
	var out relayed
	if lines := h.Values("Forwarded"); len(lines) > 0 {
		for element := range strings.SplitSeq(strings.Join(lines, ","), ",") {
			for pair := range strings.SplitSeq(element, ";") {
				name, value, _ := strings.Cut(strings.TrimSpace(pair), "=")
				value = strings.Trim(value, `"`)
				switch strings.ToLower(name) {
				case "for":
					out.addresses = append(out.addresses, withoutPort(value))
				case "proto":
					out.proto = value
				case "host":
					out.host = value
				}
			}
		}
		return out
	}
	for line := range strings.SplitSeq(strings.Join(h.Values("X-Forwarded-For"), ","), ",") {
		if a := strings.TrimSpace(line); a != "" {
			out.addresses = append(out.addresses, withoutPort(a))
		}
	}
	last := func(name string) string {
		all := strings.Split(strings.Join(h.Values(name), ","), ",")
		return strings.TrimSpace(all[len(all)-1])
	}
	out.proto, out.host = last("X-Forwarded-Proto"), last("X-Forwarded-Host")
	return out
}
