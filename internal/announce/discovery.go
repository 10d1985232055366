package announce

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/net/ipv4"

	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/listen"
)

// Namespaces of WS-Discovery: that of OASIS' version 1.1, and the one before, which desktops still ask by. Either is answered as it was asked.
const (
	discovery11 = "http://docs.oasis-open.org/ws-dd/ns/discovery/2009/01"
	discovery10 = "http://schemas.xmlsoap.org/ws/2005/04/discovery"

	addressing11 = "http://www.w3.org/2005/08/addressing"
	addressing10 = "http://schemas.xmlsoap.org/ws/2004/08/addressing"

	soap     = "http://www.w3.org/2003/05/soap-envelope"
	transfer = "http://schemas.xmlsoap.org/ws/2004/09/transfer"
	devices  = "http://schemas.xmlsoap.org/ws/2006/02/devprof"
	computer = "http://schemas.microsoft.com/windows/pub/2005/07"
)

const (
	mostDiscovery = 32 << 10 // bytes of one message
	mostAnswers   = 50       // in a second
)

// discovery answers who looks for computers, and describes this one over HTTP.
type discovery struct {
	c          *Config
	interfaces []net.Interface
	in         net.PacketConn
	http       *http.Server
	pace       pace
	wait       sync.WaitGroup

	mu     sync.Mutex
	serves bool // there is SMB to be found
	number uint // of the next message (WS-Discovery 1.1 section 7)
	begun  int64
}

func newDiscovery(c *Config, interfaces []net.Interface) (*discovery, error) {
	in, err := shared("udp4", fmt.Sprintf(":%d", c.DiscoveryPort))
	if err != nil {
		return nil, fmt.Errorf("port %d: %s", c.DiscoveryPort, plain.Reason(err))
	}
	group := ipv4.NewPacketConn(in)
	joined := 0
	for i := range interfaces {
		if group.JoinGroup(&interfaces[i], &net.UDPAddr{IP: net.IPv4(239, 255, 255, 250)}) == nil {
			joined++
		}
	}
	if joined == 0 {
		in.Close()
		return nil, errors.New("the group of WS-Discovery cannot be joined")
	}
	_ = group.SetMulticastTTL(1)
	l, err := net.Listen("tcp", fmt.Sprintf(":%d", c.DescriptionPort))
	if err != nil {
		in.Close()
		return nil, fmt.Errorf("port %d: %s", c.DescriptionPort, plain.Reason(err))
	}
	d := &discovery{c: c, interfaces: interfaces, in: in, pace: pace{most: mostAnswers}, begun: time.Now().Unix()}
	d.http = &http.Server{Handler: http.HandlerFunc(d.describe), ReadTimeout: 5 * time.Second, WriteTimeout: 5 * time.Second, MaxHeaderBytes: 8 << 10}
	d.wait.Go(d.answer)
	d.wait.Go(func() { _ = d.http.Serve(&listen.Bounded{Listener: l, Most: 64, From: 8}) }) // it ends with close
	return d, nil
}

// serve says whether there is SMB to be found, and tells of it.
func (d *discovery) serve(is bool) {
	d.mu.Lock()
	was := d.serves
	d.serves = is
	d.mu.Unlock()
	switch {
	case is && !was:
		d.multicast("Hello")
	case was && !is:
		d.multicast("Bye")
	}
}

func (d *discovery) close() {
	d.serve(false)
	ctx, cancel := context.WithTimeout(context.Background(), time.Second)
	defer cancel()
	_ = d.http.Shutdown(ctx) // who still reads is cut off
	d.http.Close()
	d.in.Close()
	d.wait.Wait()
}

// asked is what a message asks, as far as it matters.
type asked struct {
	Header struct {
		Action    string
		MessageID string
	}
	Body struct {
		Probe *struct {
			XMLName xml.Name
			Types   string
		}
		Resolve *struct {
			XMLName           xml.Name
			EndpointReference struct{ Address string }
		}
	}
}

func (d *discovery) endpoint() string { return "urn:uuid:" + d.c.ID }

func (d *discovery) answer() {
	buf := make([]byte, mostDiscovery)
	for {
		n, from, err := d.in.ReadFrom(buf)
		if err != nil {
			if errors.Is(err, net.ErrClosed) {
				return
			}
			continue
		}
		to, ok := from.(*net.UDPAddr)
		if !ok || !near(to.AddrPort().Addr(), d.interfaces) || !d.pace.may(time.Now()) {
			continue
		}
		if raw := d.matches(buf[:n], to.AddrPort().Addr()); raw != nil {
			_, _ = d.in.WriteTo(raw, from) // who asked may have gone
		}
	}
}

// matches answers a Probe (section 5.2) or a Resolve (6.2); nil for what is neither, or asks for something else.
func (d *discovery) matches(raw []byte, from netip.Addr) []byte {
	d.mu.Lock()
	serves := d.serves
	d.mu.Unlock()
	var q asked
	if !serves || xml.Unmarshal(raw, &q) != nil || len(q.Header.MessageID) > 256 {
		return nil
	}
	switch p, r := q.Body.Probe, q.Body.Resolve; {
	case p != nil && known(p.XMLName.Space) && wanted(p.Types):
		return d.envelope(p.XMLName.Space, "ProbeMatches", q.Header.MessageID, "<d:ProbeMatches><d:ProbeMatch>"+d.about(p.XMLName.Space, from)+"</d:ProbeMatch></d:ProbeMatches>")
	case r != nil && known(r.XMLName.Space) && strings.TrimSpace(r.EndpointReference.Address) == d.endpoint():
		return d.envelope(r.XMLName.Space, "ResolveMatches", q.Header.MessageID, "<d:ResolveMatches><d:ResolveMatch>"+d.about(r.XMLName.Space, from)+"</d:ResolveMatch></d:ResolveMatches>")
	}
	return nil
}

func known(space string) bool { return space == discovery11 || space == discovery10 }

// wanted says whether a list of types, of which a prefix may be any, asks for what this is: everything, a device, a computer.
func wanted(types string) bool {
	all := strings.Fields(types)
	return !slices.ContainsFunc(all, func(t string) bool {
		_, local, ok := strings.Cut(t, ":")
		if !ok {
			local = t
		}
		return local != "Device" && local != "Computer"
	})
}

func addressing(space string) string {
	if space == discovery11 {
		return addressing11
	}
	return addressing10
}

// about is what is told of this computer: its endpoint, its types, and where it is described.
func (d *discovery) about(_ string, from netip.Addr) string {
	var where []string
	for _, i := range d.interfaces {
		for _, p := range addresses(i) {
			if p.Addr().Is4() && (!from.IsValid() || p.Contains(from.Unmap())) {
				where = append(where, fmt.Sprintf("http://%s/%s", netip.AddrPortFrom(p.Addr(), uint16(d.c.DescriptionPort)), d.c.ID))
			}
		}
	}
	return "<a:EndpointReference><a:Address>" + d.endpoint() + "</a:Address></a:EndpointReference><d:Types>p:Device c:Computer</d:Types><d:XAddrs>" +
		text(strings.Join(where, " ")) + "</d:XAddrs><d:MetadataVersion>1</d:MetadataVersion>"
}

func text(s string) string {
	var b bytes.Buffer
	_ = xml.EscapeText(&b, []byte(s)) // writing to a buffer does not fail
	return b.String()
}

// envelope writes a message (SOAP 1.2).
func (d *discovery) envelope(space, action, relates, body string) []byte {
	d.mu.Lock()
	d.number++
	n := d.number
	d.mu.Unlock()
	to := addressing(space) + "/role/anonymous"
	if space == discovery11 {
		to = addressing11 + "/anonymous"
	}
	if relates == "" {
		to = "urn:schemas-xmlsoap-org:ws:2005:04:discovery"
		if space == discovery11 {
			to = "urn:docs-oasis-open-org:ws-dd:ns:discovery:2009:01"
		}
	}
	var b bytes.Buffer
	fmt.Fprintf(&b, `<?xml version="1.0" encoding="utf-8"?><s:Envelope xmlns:s=%q xmlns:a=%q xmlns:d=%q xmlns:p=%q xmlns:c=%q><s:Header><a:To>%s</a:To><a:Action>%s/%s</a:Action><a:MessageID>urn:uuid:%s</a:MessageID>`,
		soap, addressing(space), space, devices, computer, to, space, action, randomID())
	if relates != "" {
		fmt.Fprintf(&b, "<a:RelatesTo>%s</a:RelatesTo>", text(relates))
	}
	fmt.Fprintf(&b, `<d:AppSequence InstanceId="%d" MessageNumber="%d"></d:AppSequence></s:Header><s:Body>%s</s:Body></s:Envelope>`, d.begun, n, body)
	return b.Bytes()
}

func randomID() string {
	var raw [16]byte
	rand.Read(raw[:])
	raw[6], raw[8] = raw[6]&0x0f|0x40, raw[8]&0x3f|0x80
	return fmt.Sprintf("%x-%x-%x-%x-%x", raw[:4], raw[4:6], raw[6:8], raw[8:10], raw[10:])
}

// multicast tells everybody that it has come (section 4.1) or goes (4.2), in the way that is understood by those who speak the older version as well.
func (d *discovery) multicast(action string) {
	body := "<d:Hello>" + d.about(discovery10, netip.Addr{}) + "</d:Hello>"
	if action == "Bye" {
		body = "<d:Bye><a:EndpointReference><a:Address>" + d.endpoint() + "</a:Address></a:EndpointReference></d:Bye>"
	}
	raw := d.envelope(discovery10, action, "", body)
	out := ipv4.NewPacketConn(d.in)
	for i := range d.interfaces {
		if out.SetMulticastInterface(&d.interfaces[i]) == nil {
			_, _ = out.WriteTo(raw, nil, &net.UDPAddr{IP: net.IPv4(239, 255, 255, 250), Port: d.c.DiscoveryPort})
		}
	}
}

// describe answers who asks what this is (WS-Transfer's Get, DPWS 1.0 section 5.1).
func (d *discovery) describe(w http.ResponseWriter, r *http.Request) {
	from, err := netip.ParseAddrPort(r.RemoteAddr)
	if err != nil || !near(from.Addr(), d.interfaces) || r.Method != http.MethodPost || r.URL.Path != "/"+d.c.ID {
		http.Error(w, "there is nothing here", http.StatusNotFound)
		return
	}
	raw, err := io.ReadAll(http.MaxBytesReader(w, r.Body, mostDiscovery))
	var q asked
	if err != nil || xml.Unmarshal(raw, &q) != nil || q.Header.Action != transfer+"/Get" {
		http.Error(w, "what is asked makes no sense", http.StatusBadRequest)
		return
	}
	name := text(d.c.Host)
	w.Header().Set("Content-Type", "application/soap+xml; charset=utf-8")
	fmt.Fprintf(w, `<?xml version="1.0" encoding="utf-8"?><s:Envelope xmlns:s=%q xmlns:a=%q xmlns:m="http://schemas.xmlsoap.org/ws/2004/09/mex" xmlns:p=%q xmlns:c=%q><s:Header>`+
		`<a:To>%s/role/anonymous</a:To><a:Action>%s/GetResponse</a:Action><a:MessageID>urn:uuid:%s</a:MessageID><a:RelatesTo>%s</a:RelatesTo></s:Header><s:Body><m:Metadata>`+
		`<m:MetadataSection Dialect="%s/ThisDevice"><p:ThisDevice><p:FriendlyName>%s</p:FriendlyName><p:FirmwareVersion>1.0</p:FirmwareVersion><p:SerialNumber>1</p:SerialNumber></p:ThisDevice></m:MetadataSection>`+
		`<m:MetadataSection Dialect="%s/ThisModel"><p:ThisModel><p:Manufacturer>Amber Gatekeeper</p:Manufacturer><p:ModelName>Amber Gatekeeper</p:ModelName></p:ThisModel></m:MetadataSection>`+
		`<m:MetadataSection Dialect="%s/Relationship"><p:Relationship Type="%s/host"><p:Host><a:EndpointReference><a:Address>%s</a:Address></a:EndpointReference><p:Types>c:Computer</p:Types>`+
		`<p:ServiceId>%s</p:ServiceId><c:Computer>%s/Workgroup:WORKGROUP</c:Computer></p:Host></p:Relationship></m:MetadataSection></m:Metadata></s:Body></s:Envelope>`,
		soap, addressing10, devices, computer, addressing10, transfer, randomID(), text(q.Header.MessageID), devices, name, devices, devices, devices, d.endpoint(), d.endpoint(), name)
}
