package doctor

import (
	"bufio"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"amber.example/gatekeeper/internal/core/plain"
)

// listener is a socket that listens for TCP, of /proc/net/tcp and tcp6 (proc_pid_net(5)).
type listener struct {
	addr  netip.AddrPort
	inode string
}

const (
	listening  = "0A"
	mostLines  = 100_000
	mostLooked = 20_000 // processes
)

// listeners reads them. Those of another network namespace are not among them.
func (m *Machine) listeners() (out []listener) {
	for _, name := range []string{"/proc/net/tcp", "/proc/net/tcp6"} {
		f, err := os.Open(m.path(name))
		if err != nil {
			continue
		}
		lines := bufio.NewScanner(io.LimitReader(f, 32<<20))
		for n := 0; lines.Scan() && n < mostLines; n++ {
			w := strings.Fields(lines.Text())
			if len(w) < 10 || w[3] != listening {
				continue
			}
			if addr, ok := procAddress(w[1]); ok {
				out = append(out, listener{addr, w[9]})
			}
		}
		f.Close()
	}
	return out
}

// procAddress reads "0100007F:1F90": words of four bytes as the machine has them, which is the other way round.
func procAddress(s string) (netip.AddrPort, bool) {
	host, port, ok := strings.Cut(s, ":")
	raw, err := hex.DecodeString(host)
	n, portErr := strconv.ParseUint(port, 16, 16)
	if !ok || err != nil || portErr != nil || len(raw)%4 != 0 {
		return netip.AddrPort{}, false
	}
	for i := 0; i < len(raw); i += 4 {
		slices.Reverse(raw[i : i+4])
	}
	addr, ok := netip.AddrFromSlice(raw)
	return netip.AddrPortFrom(addr.Unmap(), uint16(n)), ok
}

// holder says what kind of thing has a socket.
func (m *Machine) holder(inode string) string {
	if inode == "0" {
		return "the kernel"
	}
	want := "socket:[" + inode + "]"
	pids, _ := filepath.Glob(m.path("/proc/[0-9]*")) // the pattern is well formed
	hidden := false
	for i, dir := range pids {
		if i == mostLooked {
			break
		}
		fds, err := os.ReadDir(dir + "/fd")
		if err != nil {
			hidden = hidden || errors.Is(err, os.ErrPermission)
			continue
		}
		for _, fd := range fds {
			if to, err := os.Readlink(dir + "/fd/" + fd.Name()); err != nil || to != want {
				continue
			}
			name, _ := os.ReadFile(dir + "/comm") // "" is said as it is
			pid := filepath.Base(dir)
			switch called := plain.Text(strings.TrimSpace(string(name))); {
			case pid == "1":
				return "the service manager, for one of its sockets"
			case called == "amber":
				return "another gateway (process " + pid + ")"
			default:
				return fmt.Sprintf("the program %s (process %s)", called, pid)
			}
		}
	}
	if hidden {
		return "a program of another user, or the kernel: as root this says which"
	}
	return "the kernel" // no process has it
}

// ports says of each who has it.
func (m *Machine) ports(all []Port) (out []Finding) {
	listeners := m.listeners()
	for _, p := range all {
		f := Finding{What: p.Name + " at " + p.Address, State: Well}
		if p.Ours {
			f.Says = "this service listens there"
			out = append(out, f)
			continue
		}
		host, port, err := net.SplitHostPort(p.Address)
		n, portErr := net.LookupPort("tcp", port)
		if err != nil || portErr != nil {
			f.State, f.Says = Wrong, "is no address with a port"
			out = append(out, f)
			continue
		}
		addr, _ := netip.ParseAddr(host) // a name, or nothing, stands for all addresses
		i := slices.IndexFunc(listeners, func(l listener) bool {
			return int(l.addr.Port()) == n && (!addr.IsValid() || addr.IsUnspecified() || l.addr.Addr().IsUnspecified() || l.addr.Addr() == addr.Unmap())
		})
		switch {
		case i >= 0:
			f.State, f.Says, f.Next = Wrong, "is taken by "+m.holder(listeners[i].inode), fmt.Sprintf("ss -Hltnp 'sport = :%d'", n)
		case n != 0 && n < 1024 && os.Geteuid() != 0:
			f.State, f.Says, f.Next = Mind, "is free; ports below 1024 take root, or the service manager to hand them over", "systemctl enable --now amber-gatekeeper"
		default:
			f.Says = "is free"
		}
		out = append(out, f)
	}
	return out
}

// families looks whether who comes by IPv4 and by IPv6 gets to each port.
func (m *Machine) families(all []Port) (out []Finding) {
	own := OwnAddresses()
	has6 := slices.ContainsFunc(own, func(a netip.Addr) bool { return a.Is6() })
	only6 := strings.TrimSpace(m.read("/proc/sys/net/ipv6/bindv6only")) == "1"
	for _, p := range all {
		host, _, err := net.SplitHostPort(p.Address)
		if err != nil {
			continue
		}
		f := Finding{What: p.Name + " for other machines", State: Well}
		addr, parseErr := netip.ParseAddr(host)
		switch {
		case parseErr == nil && addr.IsLoopback() || host == "localhost":
			f.Says = "listens on this machine alone, at " + host
			if p.Name != "console" {
				f.State, f.Next = Mind, fmt.Sprintf("amber serve --%s :PORT", strings.ToLower(p.Name))
			}
		case parseErr == nil && addr.Unmap().Is4() && has6:
			f.State, f.Says = Mind, "is reached over IPv4 alone, and this machine has an address of IPv6: clients that find it try that first"
		case (host == "" || parseErr == nil && addr.IsUnspecified() && addr.Is6()) && only6:
			f.State, f.Says, f.Next = Mind, "is reached over IPv6 alone: net.ipv6.bindv6only is set", "sysctl net.ipv6.bindv6only=0"
		default:
			f.Says = "is reached over each family of addresses that this machine has"
		}
		out = append(out, f)
	}
	return out
}

// read is the text of a small file of the system; "" where there is none.
func (m *Machine) read(name string) string {
	f, err := os.Open(m.path(name))
	if err != nil {
		return ""
	}
	defer f.Close()
	raw, _ := io.ReadAll(io.LimitReader(f, 64<<10)) // what there is of it
	return string(raw)
}
