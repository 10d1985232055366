package service

import (
	"context"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"
)

// hostNames finds the names of clients' addresses, for client rules that are about names. A name
// that an address claims by reverse lookup counts only if looking it up leads back.
type hostNames struct {
	lookup resolver

	mu    sync.Mutex
	known map[netip.Addr]knownNames
}

type resolver interface {
	LookupAddr(ctx context.Context, addr string) ([]string, error)
	LookupNetIP(ctx context.Context, network, host string) ([]netip.Addr, error)
}

type knownNames struct {
	names []string
	until time.Time
	rules []string // for these
}

const (
	namesFor      = time.Minute
	mostKnown     = 4096
	lookupTimeout = 2 * time.Second
)

func newHostNames(r resolver) *hostNames {
	return &hostNames{lookup: r, known: make(map[netip.Addr]knownNames)}
}

// NamesOf gives the host names of an address as far as the client rules in force care, lower
// case and without a final dot. It may take some seconds, the first time.
func (s *Service) NamesOf(ctx context.Context, addr netip.Addr) []string {
	spelt, any := s.Policy().HostNames()
	if !any {
		return nil
	}
	return s.hosts.of(ctx, addr.Unmap(), spelt)
}

func (h *hostNames) of(ctx context.Context, addr netip.Addr, spelt []string) []string {
	h.mu.Lock()
	if k, ok := h.known[addr]; ok && time.Now().Before(k.until) && slices.Equal(k.rules, spelt) {
		h.mu.Unlock()
		return k.names
	}
	h.mu.Unlock()
	ctx, cancel := context.WithTimeout(ctx, lookupTimeout)
	defer cancel()
	var names []string
	leadsBack := func(name string) bool {
		addrs, _ := h.lookup.LookupNetIP(ctx, "ip", name)
		return slices.ContainsFunc(addrs, func(a netip.Addr) bool { return a.Unmap() == addr })
	}
	add := func(name string) {
		if name = strings.TrimSuffix(strings.ToLower(name), "."); !slices.Contains(names, name) && leadsBack(name) {
			names = append(names, name)
		}
	}
	// Hosts without a reverse entry are still found by the names that rules spell out.
	for _, name := range spelt {
		add(name)
	}
	claimed, _ := h.lookup.LookupAddr(ctx, addr.String())
	for _, name := range claimed[:min(len(claimed), 8)] {
		add(name)
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if len(h.known) >= mostKnown {
		clear(h.known)
	}
	h.known[addr] = knownNames{names, time.Now().Add(namesFor), slices.Clone(spelt)}
	return names
}

var _ resolver = (*net.Resolver)(nil)
