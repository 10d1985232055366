package service

import (
	"context"
	"errors"
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
	sure  bool // every lookup was answered
	at    time.Time
	until time.Time
	rules []string // for these
}

// What was looked up holds for so long. What could not be is tried again soon; meanwhile what was known before holds, for a while.
const (
	namesFor      = time.Minute
	unsureFor     = 5 * time.Second
	namesOutlast  = time.Hour
	mostKnown     = 4096
	lookupTimeout = 2 * time.Second
)

func newHostNames(r resolver) *hostNames {
	return &hostNames{lookup: r, known: make(map[netip.Addr]knownNames)}
}

// NamesOf gives the host names of an address as far as the client rules in force care, lower
// case and without a final dot. It may take some seconds, the first time. It is false where some name could not be looked up, and is not known from
// before: nobody can say then that the host does not have it.
func (s *Service) NamesOf(ctx context.Context, addr netip.Addr) ([]string, bool) {
	spelt, any := s.Policy().HostNames()
	if !any {
		return nil, true
	}
	return s.hosts.of(ctx, addr.Unmap(), spelt)
}

func (h *hostNames) of(ctx context.Context, addr netip.Addr, spelt []string) ([]string, bool) {
	h.mu.Lock()
	before, known := h.known[addr]
	known = known && slices.Equal(before.rules, spelt)
	h.mu.Unlock()
	now := time.Now()
	if known && now.Before(before.until) {
		return before.names, before.sure
	}
	ctx, cancel := context.WithTimeout(ctx, lookupTimeout)
	defer cancel()
	is := knownNames{sure: true, at: now, until: now.Add(namesFor), rules: slices.Clone(spelt)}
	failed := func(err error) {
		var dns *net.DNSError
		if err != nil && !(errors.As(err, &dns) && dns.IsNotFound) {
			is.sure, is.until = false, now.Add(unsureFor)
		}
	}
	add := func(name string) {
		name = strings.TrimSuffix(strings.ToLower(name), ".")
		if slices.Contains(is.names, name) {
			return
		}
		addrs, err := h.lookup.LookupNetIP(ctx, "ip", name)
		failed(err)
		if slices.ContainsFunc(addrs, func(a netip.Addr) bool { return a.Unmap() == addr }) {
			is.names = append(is.names, name)
		}
	}
	// Hosts without a reverse entry are still found by the names that rules spell out.
	for _, name := range spelt {
		add(name)
	}
	claimed, err := h.lookup.LookupAddr(ctx, addr.String())
	failed(err)
	for _, name := range claimed[:min(len(claimed), 8)] {
		add(name)
	}
	if !is.sure && known && before.sure && now.Sub(before.at) < namesOutlast {
		is.names, is.sure, is.at = before.names, true, before.at
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if len(h.known) >= mostKnown {
		clear(h.known)
	}
	h.known[addr] = is
	return is.names, is.sure
}

var _ resolver = (*net.Resolver)(nil)
