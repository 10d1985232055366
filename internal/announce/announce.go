// Package announce has the gateway be found on a network by those who look for services there: by DNS-SD over multicast DNS (RFC 6762, RFC 6763), and by
// Web Services Dynamic Discovery (OASIS, 2009). It speaks on the interfaces that it is told, and tells no more than where the console, SMB and NFS are.
package announce

import (
	"context"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"amber.example/gatekeeper/internal/core/plain"
)

// Service is one that can be found.
type Service struct {
	Type string // of DNS-SD: "_smb._tcp"
	Port uint16
	Text map[string]string
}

// Config is what is announced, and where.
type Config struct {
	Interfaces []string // their names; "all" for each that other machines can be reached by
	Host       string   // the name of this host, one label
	ID         string   // a UUID, the same over restarts
	// Services are those that are served now.
	Services func() []Service
	// Changed is closed when they may have become others.
	Changed func() <-chan struct{}
	Log     *slog.Logger
	// Ports are other than those of the standards in tests; zero for those.
	DNSPort, DiscoveryPort, DescriptionPort int
}

// Ports of the standards.
const (
	dnsPort         = 5353 // RFC 6762 section 3
	discoveryPort   = 3702 // WS-Discovery 1.1 section 2.4
	descriptionPort = 5357 // registered for the descriptions of devices (wsdapi)
)

// Announcer announces until it is closed.
type Announcer struct {
	c      Config
	cancel context.CancelFunc
	wait   sync.WaitGroup
	closed sync.Once

	dns       *dnsResponder
	discovery *discovery
}

// Start begins to announce. What one of the two ways cannot do is logged; it is an error where neither can.
func Start(c Config) (*Announcer, error) {
	for _, d := range []struct {
		to *int
		is int
	}{{&c.DNSPort, dnsPort}, {&c.DiscoveryPort, discoveryPort}, {&c.DescriptionPort, descriptionPort}} {
		if *d.to == 0 {
			*d.to = d.is
		}
	}
	interfaces, err := pick(c.Interfaces)
	if err != nil {
		return nil, err
	}
	a := &Announcer{c: c}
	ctx, cancel := context.WithCancel(context.Background())
	a.cancel = cancel
	if a.dns, err = newDNS(ctx, &a.c, interfaces); err != nil {
		c.Log.Warn("nothing is announced by DNS-SD", "why", err)
	}
	if a.discovery, err = newDiscovery(&a.c, interfaces); err != nil {
		c.Log.Warn("nothing is announced by WS-Discovery", "why", err)
	}
	if a.dns == nil && a.discovery == nil {
		cancel()
		return nil, err
	}
	a.wait.Go(func() { a.run(ctx) })
	return a, nil
}

// run follows what is served.
func (a *Announcer) run(ctx context.Context) {
	for {
		changed := a.c.Changed()
		now := a.c.Services()
		if a.dns != nil {
			a.dns.serve(now)
		}
		if a.discovery != nil {
			a.discovery.serve(slices.ContainsFunc(now, func(s Service) bool { return s.Type == "_smb._tcp" }))
		}
		select {
		case <-ctx.Done():
			return
		case <-changed:
		}
	}
}

// Close says goodbye and ends.
func (a *Announcer) Close() { a.closed.Do(a.end) }

func (a *Announcer) end() {
	a.cancel()
	a.wait.Wait()
	if a.dns != nil {
		a.dns.close()
	}
	if a.discovery != nil {
		a.discovery.close()
	}
}

// pick finds interfaces by name.
func pick(names []string) ([]net.Interface, error) {
	all, err := net.Interfaces()
	if err != nil {
		return nil, fmt.Errorf("the interfaces of this machine cannot be listed: %s", plain.Reason(err))
	}
	var out []net.Interface
	for _, name := range names {
		i := slices.IndexFunc(all, func(i net.Interface) bool { return i.Name == name })
		switch {
		case name == "all":
			for _, one := range all {
				if one.Flags&net.FlagUp != 0 && one.Flags&net.FlagMulticast != 0 && one.Flags&net.FlagLoopback == 0 {
					out = append(out, one)
				}
			}
		case i < 0:
			var there []string
			for _, one := range all {
				there = append(there, one.Name)
			}
			return nil, fmt.Errorf("there is no interface %s: there are %s", plain.Text(name), strings.Join(there, ", "))
		default:
			out = append(out, all[i])
		}
	}
	if len(out) == 0 {
		return nil, fmt.Errorf("no interface is up that others are reached by")
	}
	slices.SortFunc(out, func(a, b net.Interface) int { return a.Index - b.Index })
	return slices.CompactFunc(out, func(a, b net.Interface) bool { return a.Index == b.Index }), nil
}

// addresses are those of an interface.
func addresses(i net.Interface) (out []netip.Prefix) {
	all, err := i.Addrs()
	if err != nil {
		return nil
	}
	for _, a := range all {
		if n, ok := a.(*net.IPNet); ok {
			if addr, ok := netip.AddrFromSlice(n.IP); ok {
				ones, _ := n.Mask.Size()
				out = append(out, netip.PrefixFrom(addr.Unmap(), ones))
			}
		}
	}
	return out
}

// near says whether somebody is on the network of one of the interfaces: others are not answered, so that nobody has answers sent to who did not ask.
func near(from netip.Addr, interfaces []net.Interface) bool {
	from = from.Unmap()
	if from.Is6() && from.IsLinkLocalUnicast() {
		return true
	}
	return slices.ContainsFunc(interfaces, func(i net.Interface) bool {
		return slices.ContainsFunc(addresses(i), func(p netip.Prefix) bool { return p.Contains(from.WithZone("")) })
	})
}

// pace bounds how many answers go out in a second, in all.
type pace struct {
	mu   sync.Mutex
	most int
	at   time.Time
	n    int
}

func (p *pace) may(now time.Time) bool {
	p.mu.Lock()
	defer p.mu.Unlock()
	if now.Sub(p.at) >= time.Second || now.Before(p.at) {
		p.at, p.n = now, 0
	}
	p.n++
	return p.n <= p.most
}
