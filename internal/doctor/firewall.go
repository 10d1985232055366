package doctor

import (
	"bytes"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"slices"
	"strings"

	"github.com/google/nftables"
	"github.com/google/nftables/expr"
	"golang.org/x/sys/unix"
)

// Ruleset is what the packet filter does with what comes in, as far as it is told by ports.
type Ruleset struct {
	Chains []Chain
}

// Chain is one that what comes in goes through.
type Chain struct {
	Table, Name string
	Drops       bool // what no rule takes is dropped
	Rules       []Rule
}

// Rule is one, as far as it is understood.
type Rule struct {
	Ports  []Range // of TCP; none where it does not ask for any
	All    bool    // it asks for nothing
	Else   bool    // it asks for something else, which is not looked at
	Accept bool
	Drop   bool
	Jump   string // the chain that it goes on in
}

// Range is from one port to another.
type Range struct{ From, To uint16 }

func (r Range) has(port uint16) bool { return r.From <= port && port <= r.To }

var errMayNotLook = errors.New("may not look")

// firewall looks whether each port is let in.
func (m *Machine) firewall(all []Port) []Finding {
	read := m.Firewall
	if read == nil {
		read = kernelRules
	}
	rules, err := read()
	if errors.Is(err, errMayNotLook) {
		return []Finding{{What: "firewall", State: Well, Says: "cannot be looked at by this user; as root, nft list ruleset shows it"}}
	}
	if err != nil {
		return []Finding{{What: "firewall", State: Well, Says: "the kernel has none that is known here"}}
	}
	var out []Finding
	for _, p := range all {
		host, text, err := net.SplitHostPort(p.Address)
		n, portErr := net.LookupPort("tcp", text)
		if addr, parseErr := netip.ParseAddr(host); err != nil || portErr != nil || n == 0 || parseErr == nil && addr.IsLoopback() {
			continue
		}
		f := Finding{What: fmt.Sprintf("firewall for port %d", n), State: Well, Says: "lets it in"}
		if chain, dropped := rules.drops(uint16(n)); dropped {
			f.State, f.Says = Wrong, fmt.Sprintf("chain %s of table %s drops what comes to it, and no rule lets it in", chain.Name, chain.Table)
			f.Next = fmt.Sprintf("nft insert rule %s %s tcp dport %d accept", chain.Table, chain.Name, n)
		}
		out = append(out, f)
	}
	if len(out) == 0 {
		out = append(out, Finding{What: "firewall", State: Well, Says: "nothing is to be let in: all ports are this machine's own"})
	}
	return out
}

// drops gives the first chain that what comes to a port does not get through.
func (r *Ruleset) drops(port uint16) (Chain, bool) {
	for _, c := range r.Chains {
		if c.drops(port) {
			return c, true
		}
	}
	return Chain{}, false
}

// drops says so where it is sure: a rule that may let it in, by what is not looked at, counts as one that does.
func (c *Chain) drops(port uint16) bool {
	for _, rule := range c.Rules {
		of := slices.ContainsFunc(rule.Ports, func(r Range) bool { return r.has(port) })
		switch {
		case of && (rule.Accept || rule.Jump != ""), rule.All && rule.Accept:
			return false
		case rule.All && rule.Jump != "": // what is there is not followed
			return false
		case of && rule.Drop && !rule.Else, rule.All && rule.Drop:
			return true
		}
	}
	return c.Drops
}

// kernelRules reads the kernel's, which takes CAP_NET_ADMIN.
func kernelRules() (*Ruleset, error) {
	conn, err := nftables.New()
	if err != nil {
		return nil, err
	}
	chains, err := conn.ListChains()
	if errors.Is(err, unix.EPERM) || errors.Is(err, os.ErrPermission) {
		return nil, errMayNotLook
	}
	if err != nil {
		return nil, err
	}
	out := new(Ruleset)
	for _, c := range chains {
		if c.Hooknum == nil || *c.Hooknum != *nftables.ChainHookInput || c.Type != nftables.ChainTypeFilter {
			continue
		}
		rules, err := conn.GetRules(c.Table, c)
		if err != nil {
			return nil, err
		}
		chain := Chain{Table: familyOf(c.Table.Family) + " " + c.Table.Name, Name: c.Name, Drops: c.Policy != nil && *c.Policy == nftables.ChainPolicyDrop}
		for _, r := range rules {
			chain.Rules = append(chain.Rules, ruleOf(conn, c.Table, r.Exprs))
		}
		out.Chains = append(out.Chains, chain)
	}
	return out, nil
}

func familyOf(f nftables.TableFamily) string {
	switch f {
	case nftables.TableFamilyIPv4:
		return "ip"
	case nftables.TableFamilyIPv6:
		return "ip6"
	case nftables.TableFamilyBridge:
		return "bridge"
	}
	return "inet"
}

// ruleOf reads the expressions of one rule.
func ruleOf(conn *nftables.Conn, table *nftables.Table, exprs []expr.Any) (out Rule) {
	dport := make(map[uint32]bool) // registers that hold the port that is asked for
	asks := false
	for _, e := range exprs {
		switch e := e.(type) {
		case *expr.Payload:
			dport[e.DestRegister] = e.Base == expr.PayloadBaseTransportHeader && e.Offset == 2 && e.Len == 2
		case *expr.Meta:
			dport[e.Register] = false
		case *expr.Cmp:
			asks = true
			switch {
			case dport[e.Register] && e.Op == expr.CmpOpEq && len(e.Data) == 2:
				p := binary.BigEndian.Uint16(e.Data)
				out.Ports = append(out.Ports, Range{p, p})
			case len(e.Data) == 1 && e.Data[0] == unix.IPPROTO_TCP: // which all of this is about
			default:
				out.Else = true
			}
		case *expr.Range:
			asks = true
			if dport[e.Register] && e.Op == expr.CmpOpEq && len(e.FromData) == 2 && len(e.ToData) == 2 {
				out.Ports = append(out.Ports, Range{binary.BigEndian.Uint16(e.FromData), binary.BigEndian.Uint16(e.ToData)})
			} else {
				out.Else = true
			}
		case *expr.Lookup:
			asks = true
			out.Else = true
			if dport[e.SourceRegister] {
				out.Else = false
				out.Ports = append(out.Ports, setOf(conn, table, e.SetName, e.SetID)...)
			}
		case *expr.Ct, *expr.Match, *expr.Fib, *expr.Bitwise, *expr.Limit, *expr.Connlimit:
			asks, out.Else = true, true
		case *expr.Verdict:
			out.Accept = e.Kind == expr.VerdictAccept
			out.Drop = e.Kind == expr.VerdictDrop
			if e.Kind == expr.VerdictJump || e.Kind == expr.VerdictGoto {
				out.Jump = e.Chain
			}
		case *expr.Reject:
			out.Drop = true
		}
	}
	out.All = !asks
	return out
}

func setOf(conn *nftables.Conn, table *nftables.Table, name string, id uint32) (out []Range) {
	if strings.HasPrefix(name, "__map") {
		return nil
	}
	elements, err := conn.GetSetElements(&nftables.Set{Table: table, Name: name, ID: id})
	if err != nil {
		return nil
	}
	slices.SortFunc(elements, func(a, b nftables.SetElement) int { return bytes.Compare(a.Key, b.Key) })
	for i, e := range elements {
		if len(e.Key) < 2 || e.IntervalEnd {
			continue
		}
		from := binary.BigEndian.Uint16(e.Key)
		to := from
		if i+1 < len(elements) && elements[i+1].IntervalEnd {
			to = binary.BigEndian.Uint16(elements[i+1].Key) - 1
		}
		out = append(out, Range{from, to})
	}
	return out
}
