package hostnames

import (
	"context"
	"net/netip"
	"strings"
	"sync"
	"time"
)

// called is what a host is called to a reader; "" where no name leads to it.
type called struct {
	name  string
	until time.Time
}

const (
	mostAsking = 16 // addresses looked up at once, so that a thousand hosts without names hold up nobody
	calledFor  = 10 * time.Minute
)

// Called gives what hosts are called, as far as that is known within a time; "" for the others, which are looked up meanwhile for whoever asks next.
func (h *Names) Called(addrs []netip.Addr, within time.Duration) map[netip.Addr]string {
	out := make(map[netip.Addr]string, len(addrs))
	var asking sync.WaitGroup
	now := time.Now()
	for _, addr := range addrs {
		if _, twice := out[addr]; twice {
			continue
		}
		h.mu.Lock()
		is, known := h.called[addr]
		h.mu.Unlock()
		out[addr] = is.name
		if known && now.Before(is.until) {
			continue
		}
		select {
		case h.asking <- struct{}{}:
			asking.Go(func() {
				defer func() { <-h.asking }()
				h.ask(addr)
			})
		default: // there are enough
		}
	}
	answered := make(chan struct{})
	go func() { asking.Wait(); close(answered) }()
	select {
	case <-answered:
	case <-time.After(within):
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	for addr := range out {
		if is, known := h.called[addr]; known {
			out[addr] = is.name
		}
	}
	return out
}

// ask looks up what a host is called: a name that it claims and that leads back to it.
func (h *Names) ask(addr netip.Addr) {
	ctx, cancel := context.WithTimeout(context.Background(), lookupTimeout)
	defer cancel()
	is := called{until: time.Now().Add(calledFor)}
	claimed, err := h.lookup.LookupAddr(ctx, addr.String())
	if notAnswered(err) {
		is.until = time.Now().Add(unsureFor)
	}
	for _, name := range claimed[:min(len(claimed), 8)] {
		name = strings.TrimSuffix(strings.ToLower(name), ".")
		back, err := h.lookup.LookupNetIP(ctx, "ip", name)
		if notAnswered(err) {
			is.until = time.Now().Add(unsureFor)
		}
		if leadsTo(back, addr) {
			is.name = name
			break
		}
	}
	h.mu.Lock()
	defer h.mu.Unlock()
	if len(h.called) >= mostKnown {
		clear(h.called)
	}
	h.called[addr] = is
}
