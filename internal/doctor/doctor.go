// Package doctor looks for what goes wrong on real machines around a gateway: ports that something else has, a firewall without a rule for them, names
// that lead nowhere, a file system that cannot keep what is to be kept. Each finding says what to type. It changes nothing.
package doctor

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"time"
)

// How something stands.
const (
	Well  = "well"
	Mind  = "to mind"
	Wrong = "wrong"
)

// Finding is what was found about one thing.
type Finding struct {
	What  string // "port 445"
	State string
	Says  string
	Next  string // what to type; "" for nothing
}

// Port is one that the service answers at, or is to.
type Port struct {
	Name    string // "SMB"
	Address string // HOST:PORT, of which the host may be left out
	Ours    bool   // this process listens there
}

// Volume is a directory of the host that is served.
type Volume struct {
	Name, Path string
	Away       string // why it is not there; "" where it is
}

// Subject is what is looked at.
type Subject struct {
	Ports   []Port
	State   string // the state directory
	Volumes []Volume
	// Hosts are names of hosts that client rules speak of.
	Hosts []string
	// Written is when the journal was last written; zero for not known.
	Written time.Time
}

// Machine is where it is looked; Root stands before /proc and /sys, and is "" but for tests.
type Machine struct {
	Root     string
	Resolver Resolver
	Now      func() time.Time
	// Firewall lists the rules for what comes in; nil for the kernel's.
	Firewall func() (*Ruleset, error)
}

// Resolver asks for names, as net.Resolver does.
type Resolver interface {
	LookupNetIP(ctx context.Context, network, host string) ([]netip.Addr, error)
	LookupAddr(ctx context.Context, addr string) ([]string, error)
}

// patience is how long names may take to be found.
const patience = 5 * time.Second

// This is the machine that the process runs on.
func This() *Machine { return &Machine{Resolver: net.DefaultResolver, Now: time.Now} }

// Examine looks at everything. It ends within seconds, whatever does not answer.
func (m *Machine) Examine(ctx context.Context, s Subject) []Finding {
	var out []Finding
	out = append(out, m.ports(s.Ports)...)
	out = append(out, m.families(s.Ports)...)
	out = append(out, m.firewall(s.Ports)...)
	out = append(out, m.names(ctx, s)...)
	out = append(out, m.clock(s.Written))
	out = append(out, m.kernel(s.State)...)
	out = append(out, m.descriptors())
	out = append(out, m.volumes(s)...)
	out = append(out, m.security()...)
	return out
}

// Worst is how the worst of them stands.
func Worst(all []Finding) string {
	out := Well
	for _, f := range all {
		if f.State == Wrong || f.State == Mind && out == Well {
			out = f.State
		}
	}
	return out
}

func (m *Machine) path(p string) string { return m.Root + p }

// names looks whether this host's name and addresses lead to each other, and whether hosts of client rules are found.
func (m *Machine) names(ctx context.Context, s Subject) []Finding {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	var out []Finding
	own := OwnAddresses()
	host, err := os.Hostname()
	if err == nil {
		out = append(out, m.ownName(ctx, host, own))
	}
	for _, addr := range own {
		out = append(out, m.reverse(ctx, addr))
	}
	for _, name := range s.Hosts {
		f := Finding{What: "host " + name, State: Well}
		addrs, err := m.Resolver.LookupNetIP(ctx, "ip", name)
		if err != nil || len(addrs) == 0 {
			f.State, f.Says, f.Next = Mind, "client rules name it, and it has no address: the rules let nobody in by it", "getent ahosts "+name
		} else {
			f.Says = fmt.Sprintf("is %s", addrs[0].Unmap())
		}
		out = append(out, f)
	}
	return out
}

func (m *Machine) ownName(ctx context.Context, host string, own []netip.Addr) Finding {
	f := Finding{What: "this host’s name", State: Well, Next: "getent ahosts " + host}
	addrs, err := m.Resolver.LookupNetIP(ctx, "ip", host)
	switch {
	case err != nil || len(addrs) == 0:
		f.State, f.Says = Mind, host+" is not found: clients that are told it do not get here"
	case !slices.ContainsFunc(addrs, func(a netip.Addr) bool { return a.IsLoopback() || slices.Contains(own, a.Unmap().WithZone("")) }):
		f.State, f.Says = Wrong, fmt.Sprintf("%s leads to %s, which is not this machine", host, addrs[0].Unmap())
	case len(own) > 0 && !slices.ContainsFunc(addrs, func(a netip.Addr) bool { return !a.IsLoopback() }):
		f.State, f.Says = Mind, host+" leads to this machine's loopback alone; other machines may find something else"
	default:
		f.Says, f.Next = fmt.Sprintf("%s leads here", host), ""
	}
	return f
}

func (m *Machine) reverse(ctx context.Context, addr netip.Addr) Finding {
	f := Finding{What: "address " + addr.String(), State: Well}
	names, err := m.Resolver.LookupAddr(ctx, addr.String())
	if err != nil || len(names) == 0 {
		f.Says = "has no name; only hosts that are to be known by name need one"
		return f
	}
	back, err := m.Resolver.LookupNetIP(ctx, "ip", names[0])
	if err != nil || !slices.ContainsFunc(back, func(a netip.Addr) bool { return a.Unmap().WithZone("") == addr }) {
		f.State, f.Says, f.Next = Mind, fmt.Sprintf("is called %s, which does not lead back", names[0]), "getent ahosts "+names[0]
		return f
	}
	f.Says = "is called " + names[0] + ", which leads back"
	return f
}

// OwnAddresses are those by which other machines reach this.
func OwnAddresses() (out []netip.Addr) {
	all, err := net.InterfaceAddrs()
	if err != nil {
		return nil
	}
	for _, a := range all {
		if n, ok := a.(*net.IPNet); ok && n.IP.IsGlobalUnicast() {
			if addr, ok := netip.AddrFromSlice(n.IP); ok && len(out) < 16 {
				out = append(out, addr.Unmap())
			}
		}
	}
	return out
}
