package announce

import (
	"bufio"
	"encoding/xml"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"net/netip"
	"os"
	"os/exec"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/test/need"
)

const id = "3f1c5a0e-8d1b-4c57-9b1e-0a5b6c7d8e9f"

// announcer is one on loopback, whose services can be changed.
func announcer(t *testing.T) (change func(...Service), a *Announcer) {
	t.Helper()
	var now atomic.Pointer[[]Service]
	now.Store(&[]Service{})
	var changed atomic.Pointer[chan struct{}]
	first := make(chan struct{})
	changed.Store(&first)
	free := func(network string) int {
		if network == "tcp" {
			l, err := net.Listen("tcp", "127.0.0.1:0")
			require.NoError(t, err)
			defer l.Close()
			return l.Addr().(*net.TCPAddr).Port
		}
		c, err := net.ListenPacket("udp4", "127.0.0.1:0")
		require.NoError(t, err)
		defer c.Close()
		return c.LocalAddr().(*net.UDPAddr).Port
	}
	a, err := Start(Config{Interfaces: []string{"lo"}, Host: "larkfell", ID: id, Log: slog.New(slog.DiscardHandler), DiscoveryPort: free("udp"), DescriptionPort: free("tcp"),
		Services: func() []Service { return *now.Load() }, Changed: func() <-chan struct{} { return *changed.Load() }})
	require.NoError(t, err)
	t.Cleanup(a.Close)
	return func(s ...Service) {
		now.Store(&s)
		next := make(chan struct{})
		close(*changed.Swap(&next))
	}, a
}

// A client of multicast DNS from other hands finds what is served, by name, host, port and text, and sees it go.
func TestFoundByMulticastDNS(t *testing.T) {
	if err := exec.Command("/usr/bin/python3", "-c", "import zeroconf").Run(); err != nil {
		need.Missing(t, "python3-zeroconf is not installed: make test installs it")
	}
	change, a := announcer(t)
	require.NotNil(t, a.dns)
	cmd := exec.Command("/usr/bin/python3", "../../test/clients/found.py", "4", "60", "_smb._tcp.local.", "_https._tcp.local.")
	out, err := cmd.StdoutPipe()
	require.NoError(t, err)
	cmd.Stderr = os.Stderr
	require.NoError(t, cmd.Start())
	defer func() { _ = cmd.Process.Kill(); _ = cmd.Wait() }()
	lines := bufio.NewScanner(out)
	next := func() string {
		require.True(t, lines.Scan())
		return lines.Text()
	}
	change(Service{Type: "_smb._tcp", Port: 4450})
	require.Regexp(t, `^found larkfell\._smb\._tcp\.local\. larkfell\.local\. 4450 127\.0\.0\.1`, next())
	change(Service{Type: "_smb._tcp", Port: 4450}, Service{Type: "_https._tcp", Port: 8460, Text: map[string]string{"path": "/"}})
	require.Regexp(t, `^found larkfell\._https\._tcp\.local\. larkfell\.local\. 8460 .*'path': '/'`, next())
	change(Service{Type: "_https._tcp", Port: 8460, Text: map[string]string{"path": "/"}})
	require.Equal(t, "gone larkfell._smb._tcp.local.", next())
	a.Close()
	require.Equal(t, "gone larkfell._https._tcp.local.", next(), "it says goodbye at the end")
}

// probe is WS-Discovery's, as the standard's example has it (WS-Discovery 1.1 section 5.1), in either version.
func probe(space, types string) string {
	return fmt.Sprintf(`<?xml version="1.0"?><s:Envelope xmlns:a=%q xmlns:d=%q xmlns:s=%q xmlns:wsdp=%q><s:Header><a:Action>%s/Probe</a:Action><a:MessageID>urn:uuid:0a6dc791-2be6-4991-9af1-454778a1917a</a:MessageID><a:To>x</a:To></s:Header><s:Body><d:Probe><d:Types>%s</d:Types></d:Probe></s:Body></s:Envelope>`,
		addressing(space), space, soap, devices, space, types)
}

// matched is an answer, as a client reads it.
type matched struct {
	Header struct{ RelatesTo, Action string }
	Body   struct {
		ProbeMatches struct {
			XMLName    xml.Name
			ProbeMatch struct {
				EndpointReference struct{ Address string }
				Types, XAddrs     string
			}
		}
	}
}

func TestFoundByDiscovery(t *testing.T) {
	change, a := announcer(t)
	require.NotNil(t, a.discovery)
	c, err := net.ListenPacket("udp4", "127.0.0.1:0")
	require.NoError(t, err)
	defer c.Close()
	at := &net.UDPAddr{IP: net.IPv4(127, 0, 0, 1), Port: a.c.DiscoveryPort}
	ask := func(text string, patience time.Duration) []byte {
		_, err := c.WriteTo([]byte(text), at)
		require.NoError(t, err)
		require.NoError(t, c.SetReadDeadline(time.Now().Add(patience)))
		buf := make([]byte, 64<<10)
		n, _, err := c.ReadFrom(buf)
		if err != nil {
			return nil
		}
		return buf[:n]
	}
	require.Nil(t, ask(probe(discovery11, "wsdp:Device"), 300*time.Millisecond), "nobody is told of what is not served")
	change(Service{Type: "_smb._tcp", Port: 445})
	require.Eventually(t, func() bool { return ask(probe(discovery11, ""), time.Second) != nil }, 10*time.Second, time.Millisecond)
	for _, space := range []string{discovery11, discovery10} {
		raw := ask(probe(space, "wsdp:Device"), 5*time.Second)
		var m matched
		require.NoError(t, xml.Unmarshal(raw, &m), "%s", raw)
		require.Equal(t, space, m.Body.ProbeMatches.XMLName.Space)
		require.Equal(t, "urn:uuid:0a6dc791-2be6-4991-9af1-454778a1917a", m.Header.RelatesTo)
		require.Equal(t, space+"/ProbeMatches", m.Header.Action)
		is := m.Body.ProbeMatches.ProbeMatch
		require.Equal(t, "urn:uuid:"+id, is.EndpointReference.Address)
		require.Contains(t, is.Types, "c:Computer")

		// Where it says, it is described.
		get := fmt.Sprintf(`<s:Envelope xmlns:s=%q xmlns:a=%q><s:Header><a:Action>%s/Get</a:Action><a:MessageID>urn:uuid:1</a:MessageID></s:Header><s:Body/></s:Envelope>`, soap, addressing10, transfer)
		where := strings.Fields(is.XAddrs)[0]
		resp, err := http.Post(where, "application/soap+xml", strings.NewReader(get))
		require.NoError(t, err)
		described, err := io.ReadAll(resp.Body)
		resp.Body.Close()
		require.NoError(t, err)
		require.Equal(t, http.StatusOK, resp.StatusCode)
		require.Contains(t, string(described), "larkfell/Workgroup:WORKGROUP")
		var any struct{ XMLName xml.Name }
		require.NoError(t, xml.Unmarshal(described, &any))
		for _, wrong := range []string{"", "moon", strings.Repeat("x", mostDiscovery+1), strings.Replace(get, "/Get", "/Put", 1)} {
			resp, err := http.Post(where, "application/soap+xml", strings.NewReader(wrong))
			require.NoError(t, err)
			resp.Body.Close()
			require.Equal(t, http.StatusBadRequest, resp.StatusCode)
		}
		resp, err = http.Get(where)
		require.NoError(t, err)
		resp.Body.Close()
		require.Equal(t, http.StatusNotFound, resp.StatusCode)
	}
	for _, other := range []string{probe(discovery11, "x:Printer"), probe("urn:moon", ""), "moon", "<a><b/></a>", strings.Replace(probe(discovery11, ""), "Probe", "Moon", -1)} {
		require.Nil(t, ask(other, 200*time.Millisecond), other)
	}
	require.NotNil(t, ask(probe(discovery11, ""), 5*time.Second), "it goes on")
}

// Nobody has answers sent to who did not ask: strangers of other networks are not answered, and all together only so often.
func TestNobodyIsFlooded(t *testing.T) {
	lo, err := net.InterfaceByName("lo")
	require.NoError(t, err)
	on := []net.Interface{*lo}
	require.True(t, near(netip.MustParseAddr("127.0.0.1"), on))
	require.True(t, near(netip.MustParseAddr("fe80::1%lo"), on))
	require.False(t, near(netip.MustParseAddr("192.0.2.7"), on))
	p := pace{most: 3}
	now := time.Unix(100, 0)
	allowed := 0
	for range 10 {
		if p.may(now) {
			allowed++
		}
	}
	require.Equal(t, 3, allowed)
	require.True(t, p.may(now.Add(time.Second)))
	require.True(t, p.may(now.Add(-time.Hour)), "a clock that goes back shuts nobody out")
}

func TestInterfaces(t *testing.T) {
	_, err := pick([]string{"moon0"})
	require.ErrorContains(t, err, "there is no interface moon0: there are lo")
	got, err := pick([]string{"lo", "lo"})
	require.NoError(t, err)
	require.Len(t, got, 1)
}

// Whatever is asked, it is answered in well-formed XML or not at all.
func FuzzDiscovery(f *testing.F) {
	f.Add(probe(discovery11, "wsdp:Device"))
	f.Add(probe(discovery10, "a b c:Computer"))
	f.Add(strings.Replace(probe(discovery10, ""), "urn:uuid:0a", "&lt;&#0;&amp;", 1))
	d := &discovery{c: &Config{ID: id, Host: "larkfell"}, serves: true}
	f.Fuzz(func(t *testing.T, text string) {
		raw := d.matches([]byte(text), netip.MustParseAddr("127.0.0.1"))
		if raw == nil {
			return
		}
		var any struct{ XMLName xml.Name }
		require.NoError(t, xml.Unmarshal(raw, &any), "%q", raw)
	})
}
