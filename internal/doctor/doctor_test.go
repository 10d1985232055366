package doctor

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var ctx = context.Background()

// machine is one with files of /proc and /sys that a test wrote.
func machine(t *testing.T, files map[string]string) *Machine {
	t.Helper()
	m := &Machine{Root: t.TempDir(), Resolver: nobody{}, Now: time.Now, Firewall: func() (*Ruleset, error) { return &Ruleset{}, nil }}
	for name, text := range files {
		path := filepath.Join(m.Root, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(path), 0o755))
		require.NoError(t, os.WriteFile(path, []byte(text), 0o600))
	}
	return m
}

type nobody struct{}

func (nobody) LookupNetIP(context.Context, string, string) ([]netip.Addr, error) {
	return nil, errors.New("no such host")
}
func (nobody) LookupAddr(context.Context, string) ([]string, error) {
	return nil, errors.New("no such host")
}

const head = "  sl  local_address rem_address   st tx_queue rx_queue tr tm->when retrnsmt   uid  timeout inode\n"

// A port that is taken is told with what kind of thing has it: another gateway, another program, the service manager, the kernel.
func TestWhoHasAPort(t *testing.T) {
	line := func(addr, state, inode string) string {
		return "   0: " + addr + " 00000000:0000 " + state + " 00000000:00000000 00:00000000 00000000     0        0 " + inode + " 1\n"
	}
	m := machine(t, map[string]string{
		"proc/net/tcp":  head + line("0100007F:115E", "0A", "101") + line("00000000:01BD", "0A", "102") + line("0100007F:0801", "01", "103"),
		"proc/net/tcp6": head + line("00000000000000000000000000000000:0801", "0A", "0") + line("00000000000000000000000000000000:210C", "0A", "104"),
		"proc/77/comm":  "amber\n", "proc/1/comm": "init\n", "proc/99/comm": "mo\x1bon\n",
	})
	for pid, inode := range map[string]string{"77": "101", "99": "102", "1": "104"} {
		require.NoError(t, os.MkdirAll(filepath.Join(m.Root, "proc", pid, "fd"), 0o755))
		require.NoError(t, os.Symlink("socket:["+inode+"]", filepath.Join(m.Root, "proc", pid, "fd", "3")))
	}
	for address, says := range map[string]string{
		"127.0.0.1:4446": "another gateway (process 77)", ":4446": "another gateway", "192.0.2.1:4446": "is free", ":445": "the program mo", "127.0.0.1:445": "the program mo",
		":2049": "the kernel", "127.0.0.1:2049": "the kernel", ":8460": "the service manager", ":4451": "is free", "moon": "no address",
	} {
		f := m.ports([]Port{{Name: "SMB", Address: address}})[0]
		require.Contains(t, f.Says, says, address)
		require.NotContains(t, f.Says, "\x1b")
		require.Equal(t, says == "is free", f.State == Well, address)
	}
	require.Equal(t, Well, m.ports([]Port{{Name: "SMB", Address: ":445", Ours: true}})[0].State)
}

// What this process listens at is found by the system's own files, whatever the family.
func TestRealSocketsAreFound(t *testing.T) {
	for _, address := range []string{"127.0.0.1:0", "[::1]:0", ":0"} {
		l, err := net.Listen("tcp", address)
		if err != nil {
			t.Logf("%s: %v", address, err) // a machine without IPv6
			continue
		}
		f := This().ports([]Port{{Name: "SMB", Address: l.Addr().String()}})[0]
		l.Close()
		require.Equal(t, Wrong, f.State, address)
		require.Regexp(t, `program \S+ \(process \d+\)`, f.Says)
	}
}

func TestAddressesOfTheSystem(t *testing.T) {
	rapid.Check(t, func(r *rapid.T) {
		text := rapid.StringMatching(`[0-9A-F]{0,34}:?[0-9A-F]{0,5}`).Draw(r, "text")
		if addr, ok := procAddress(text); ok {
			require.True(r, addr.Addr().IsValid(), text)
		}
	})
	addr, ok := procAddress("0100007F:1F90")
	require.True(t, ok)
	require.Equal(t, "127.0.0.1:8080", addr.String())
	addr, ok = procAddress("0000000000000000FFFF0000010200C0:01BD")
	require.True(t, ok)
	require.Equal(t, "192.0.2.1:445", addr.Addr().Unmap().String()+fmt.Sprint(":", addr.Port()))
}

// A port is said to be shut where that is sure, and not where a rule may let it in that is not understood.
func TestWhatAFirewallLetsIn(t *testing.T) {
	accept := func(from, to uint16) Rule { return Rule{Ports: []Range{{from, to}}, Accept: true} }
	established := Rule{Else: true, Accept: true}
	for name, c := range map[string]struct {
		chain Chain
		shut  bool
	}{
		"open":                         {Chain{}, false},
		"drops all":                    {Chain{Drops: true, Rules: []Rule{established, accept(22, 22)}}, true},
		"lets it in":                   {Chain{Drops: true, Rules: []Rule{established, accept(445, 445)}}, false},
		"lets a range in":              {Chain{Drops: true, Rules: []Rule{accept(400, 500)}}, false},
		"just beside it":               {Chain{Drops: true, Rules: []Rule{accept(446, 500), accept(1, 444)}}, true},
		"rejected at the end":          {Chain{Rules: []Rule{accept(22, 22), {All: true, Drop: true}}}, true},
		"dropped before it is let in":  {Chain{Rules: []Rule{{Ports: []Range{{445, 445}}, Drop: true}, accept(445, 445)}}, true},
		"dropped for somebody":         {Chain{Rules: []Rule{{Ports: []Range{{445, 445}}, Else: true, Drop: true}}}, false},
		"goes on elsewhere":            {Chain{Drops: true, Rules: []Rule{{All: true, Jump: "moon"}}}, false},
		"everything is let in at last": {Chain{Drops: true, Rules: []Rule{{All: true, Accept: true}}}, false},
	} {
		m := machine(t, nil)
		c.chain.Table, c.chain.Name = "inet filter", "input"
		m.Firewall = func() (*Ruleset, error) { return &Ruleset{Chains: []Chain{c.chain}}, nil }
		f := m.firewall([]Port{{Name: "SMB", Address: ":445"}, {Name: "console", Address: "127.0.0.1:8460"}})
		require.Len(t, f, 1, name)
		require.Equal(t, c.shut, f[0].State == Wrong, name)
		if c.shut {
			require.Equal(t, "nft insert rule inet filter input tcp dport 445 accept", f[0].Next)
		}
	}
	m := machine(t, nil)
	m.Firewall = func() (*Ruleset, error) { return nil, errMayNotLook }
	require.Contains(t, m.firewall([]Port{{Address: ":445"}})[0].Says, "as root")
	_, err := kernelRules() // what it says depends on the machine; it ends
	t.Log(err)
}

type names struct {
	leads  map[string]string
	called map[string]string
}

func (n names) LookupNetIP(_ context.Context, _, host string) ([]netip.Addr, error) {
	if a, ok := n.leads[host]; ok {
		return []netip.Addr{netip.MustParseAddr(a)}, nil
	}
	return nil, errors.New("no such host")
}
func (n names) LookupAddr(_ context.Context, addr string) ([]string, error) {
	if a, ok := n.called[addr]; ok {
		return []string{a}, nil
	}
	return nil, errors.New("no such host")
}

func TestNamesBothWays(t *testing.T) {
	m := machine(t, nil)
	m.Resolver = names{map[string]string{"gateway.larkfell.example": "192.0.2.9", "dome1.larkfell.example": "192.0.2.17"}, map[string]string{"192.0.2.9": "gateway.larkfell.example", "192.0.2.8": "gateway.larkfell.example"}}
	own := []netip.Addr{netip.MustParseAddr("192.0.2.9")}
	require.Equal(t, Well, m.ownName(ctx, "gateway.larkfell.example", own).State)
	require.Equal(t, Wrong, m.ownName(ctx, "dome1.larkfell.example", own).State)
	require.Equal(t, Mind, m.ownName(ctx, "moon.larkfell.example", own).State)
	require.Contains(t, m.reverse(ctx, own[0]).Says, "which leads back")
	require.Equal(t, Mind, m.reverse(ctx, netip.MustParseAddr("192.0.2.8")).State)
	require.Contains(t, m.reverse(ctx, netip.MustParseAddr("192.0.2.7")).Says, "has no name")
	for _, f := range m.names(ctx, Subject{Hosts: []string{"dome1.larkfell.example", "moon.larkfell.example"}}) {
		switch f.What {
		case "host dome1.larkfell.example":
			require.Equal(t, Well, f.State)
		case "host moon.larkfell.example":
			require.Equal(t, Mind, f.State)
		}
	}
}

// slow answers nobody before the end.
type slow struct{}

func (slow) LookupNetIP(ctx context.Context, _, _ string) ([]netip.Addr, error) {
	<-ctx.Done()
	return nil, ctx.Err()
}
func (slow) LookupAddr(ctx context.Context, _ string) ([]string, error) {
	<-ctx.Done()
	return nil, ctx.Err()
}

// Names that are not answered hold it up for seconds, however many they are.
func TestNamesThatAreNotAnswered(t *testing.T) {
	m := machine(t, nil)
	m.Resolver = slow{}
	begun := time.Now()
	m.names(ctx, Subject{Hosts: []string{"a.example", "b.example", "c.example"}})
	require.Less(t, time.Since(begun), 3*patience)
}

func TestTheClock(t *testing.T) {
	m := machine(t, nil)
	require.Equal(t, Wrong, m.clock(time.Now().Add(time.Hour)).State)
	require.NotEqual(t, Wrong, m.clock(time.Now()).State)
	m.Now = func() time.Time { return time.Unix(0, 0) }
	require.Equal(t, Wrong, m.clock(time.Time{}).State)
}

func TestDenials(t *testing.T) {
	denial := `type=AVC msg=audit(1.2:3): avc:  denied  { write } for  pid=7 comm="amber" name="moon" tclass=dir` + "\n"
	m := machine(t, map[string]string{"sys/fs/selinux/enforce": "1", "var/log/audit/audit.log": "moon\n" + denial + denial + `avc: denied comm="other"` + "\n"})
	f := m.security()[0]
	require.Equal(t, Wrong, f.State)
	require.Contains(t, f.Says, "2 denials of this program")
	m = machine(t, map[string]string{"sys/module/apparmor/parameters/enabled": "Y\n", "proc/self/attr/current": "amber (enforce)\n"})
	require.Contains(t, m.security()[0].Says, "AppArmor confines it as amber (enforce)")
	require.Contains(t, machine(t, nil).security()[0].Says, "neither")
}

func TestVolumesAndTheState(t *testing.T) {
	dir := t.TempDir()
	m := machine(t, nil)
	all := m.volumes(Subject{State: dir, Volumes: []Volume{{Name: "summit", Path: dir}, {Name: "cellar", Path: "/x", Away: "it is not mounted"}, {Name: "attic", Path: "/nowhere"}}})
	state := make(map[string]string)
	for _, f := range all {
		if state[f.What] == "" || f.State == Wrong {
			state[f.What] = f.State
		}
	}
	require.NotEmpty(t, state["volume summit"])
	require.Equal(t, Wrong, state["volume cellar"])
	require.Equal(t, Wrong, state["volume attic"])
	require.Contains(t, fmt.Sprint(m.volumes(Subject{State: "/nowhere"})), "is made at the first start")
	require.Contains(t, attributes("x", "/nowhere").Says, "once it is made")
	require.Equal(t, Mind, attributes("x", "/proc").State)
	left, err := os.ReadDir(dir)
	require.NoError(t, err)
	require.Empty(t, left, "nothing is left behind")
}

// The way in is gone with real sockets, and ends where it does.
func TestWhereTheWayEnds(t *testing.T) {
	client := netip.MustParseAddr("127.0.0.1")
	last := func(w Way) Finding {
		all := w.Go(ctx)
		for _, f := range all[:len(all)-1] {
			require.Equal(t, Well, f.State, f.Says)
		}
		return all[len(all)-1]
	}
	closed, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	closed.Close()
	require.Contains(t, last(Way{Name: "SMB", Address: closed.Addr().String(), Client: client}).Says, "nothing listens there")
	require.Contains(t, last(Way{Name: "SMB", Address: "127.0.0.1:4450", Client: netip.MustParseAddr("192.0.2.7")}).Says, "where another machine does not get")
	for name, answer := range map[string]string{"cut off": "", "other": "HTTP/1.1 400 Bad Request\r\n\r\n" + string(make([]byte, 100))} {
		l, err := net.Listen("tcp", "127.0.0.1:0")
		require.NoError(t, err)
		go func() {
			for {
				c, err := l.Accept()
				if err != nil {
					return
				}
				_, _ = c.Read(make([]byte, 10))
				_, _ = io.WriteString(c, answer)
				c.Close()
			}
		}()
		require.Equal(t, Wrong, last(Way{Name: "SMB", Address: l.Addr().String(), Client: client}).State, name)
		require.Contains(t, last(Way{Name: "NFS", Address: l.Addr().String(), Export: "/moon", Client: client}).Says, "does not speak NFS 3", name)
		l.Close()
	}
}
