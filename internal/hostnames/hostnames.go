// Package hostnames finds the names of clients' addresses, for client rules that are about names.
package hostnames

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

// Names are those of clients' addresses, as far as they have been looked up. A name
// that an address claims by reverse lookup counts only if looking it up leads back.
type Names struct {
	lookup Resolver

	mu    sync.Mutex
	known map[netip.Addr]knownNames

	called map[netip.Addr]called // under mu
	asking chan struct{}         // places for looking up what hosts are called
}

// Resolver looks names and addresses up: net.Resolver does.
type Resolver interface {
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

// New looks them up by a resolver.
func New(r Resolver) *Names {
	return &Names{lookup: r, known: make(map[netip.Addr]knownNames), called: make(map[netip.Addr]called), asking: make(chan struct{}, mostAsking)}
}

// Of gives the host names of an address as far as those that rules spell care, lower
// case and without a final dot. It may take some seconds, the first time. It is false where some name could not be looked up, and is not known from
// before: nobody can say then that the host does not have it.
func (h *Names) Of(ctx context.Context, addr netip.Addr, spelt []string) ([]string, bool) {
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
		if notAnswered(err) {
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
		if leadsTo(addrs, addr) {
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

// notAnswered says that nobody said whether there is such a name.
func notAnswered(err error) bool {
	var dns *net.DNSError
	return err != nil && !(errors.As(err, &dns) && dns.IsNotFound)
}

func leadsTo(addrs []netip.Addr, addr netip.Addr) bool {
	return slices.ContainsFunc(addrs, func(a netip.Addr) bool { return a.Unmap() == addr })
}

var _ Resolver = (*net.Resolver)(nil)

// Addresses are those that a name leads to.
func (h *Names) Addresses(ctx context.Context, name string) ([]netip.Addr, error) {
	ctx, cancel := context.WithTimeout(ctx, lookupTimeout)
	defer cancel()
	return h.lookup.LookupNetIP(ctx, "ip", name)
}

// Expire has everything be looked up anew when it is next asked for; what is known holds where that cannot be.
func (h *Names) Expire() {
	h.mu.Lock()
	defer h.mu.Unlock()
	for addr, k := range h.known {
		k.until = time.Time{}
		h.known[addr] = k
	}
}
