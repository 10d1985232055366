package announce

import (
	"context"
	"fmt"
	"log/slog"
	"maps"
	"net"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"github.com/pion/logging"
	"github.com/pion/mdns/v2"
	"golang.org/x/net/dns/dnsmessage"
	"golang.org/x/net/ipv4"
	"golang.org/x/net/ipv6"
	"golang.org/x/sys/unix"

	"amber.example/gatekeeper/internal/core/plain"
)

// timeToLive is for how long others remember what they were told, in seconds (RFC 6762 section 10).
const timeToLive = 120

var group4, group6 = net.IPv4(224, 0, 0, 251), net.ParseIP("ff02::fb")

// dnsResponder answers, announces and says goodbye.
type dnsResponder struct {
	c          *Config
	interfaces []net.Interface
	conn       *mdns.Conn
	out4       *ipv4.PacketConn
	host       string // "gateway.local."

	mu  sync.Mutex
	now []Service
}

// shared has several programs of one machine listen to the same group, as is usual for multicast.
func shared(network, address string) (net.PacketConn, error) {
	lc := net.ListenConfig{Control: func(_, _ string, c syscall.RawConn) error {
		var err error
		ctl := c.Control(func(fd uintptr) {
			if err = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_REUSEADDR, 1); err == nil {
				err = unix.SetsockoptInt(int(fd), unix.SOL_SOCKET, unix.SO_REUSEPORT, 1)
			}
		})
		if ctl != nil {
			return ctl
		}
		return err
	}}
	return lc.ListenPacket(context.Background(), network, address)
}

func newDNS(ctx context.Context, c *Config, interfaces []net.Interface) (*dnsResponder, error) {
	l4, err := shared("udp4", fmt.Sprintf("%s:%d", group4, c.DNSPort))
	if err != nil {
		return nil, fmt.Errorf("port %d: %s", c.DNSPort, plain.Reason(err))
	}
	var p6 *ipv6.PacketConn
	if l6, err := shared("udp6", fmt.Sprintf("[%s]:%d", group6, c.DNSPort)); err == nil { // a machine may have no IPv6
		p6 = ipv6.NewPacketConn(l6)
	}
	d := &dnsResponder{c: c, interfaces: interfaces}
	sender, err := net.ListenPacket("udp4", ":0")
	if err != nil {
		l4.Close()
		return nil, fmt.Errorf("nothing can be sent: %s", plain.Reason(err))
	}
	d.out4 = ipv4.NewPacketConn(sender)
	_ = d.out4.SetMulticastTTL(255) // RFC 6762 section 11
	d.host = c.Host + ".local."
	loop := slices.ContainsFunc(interfaces, func(i net.Interface) bool { return i.Flags&net.FlagLoopback != 0 })
	d.conn, err = mdns.NewServer(ipv4.NewPacketConn(l4), p6, mdns.WithLocalNames(d.host), mdns.WithInterfaces(interfaces...), mdns.WithIncludeLoopback(loop),
		mdns.WithResponseTTL(timeToLive), mdns.WithCacheRefresh(false), mdns.WithLoggerFactory(quietly{c.Log}))
	if err != nil {
		sender.Close()
		l4.Close()
		return nil, fmt.Errorf("the group of multicast DNS cannot be joined")
	}
	return d, nil
}

// serve answers for these services from now on, and tells of those that came and went.
func (d *dnsResponder) serve(now []Service) {
	d.mu.Lock()
	was := d.now
	d.now = now
	d.mu.Unlock()
	of := func(all []Service, s Service) bool {
		return slices.ContainsFunc(all, func(o Service) bool { return o.Type == s.Type && o.Port == s.Port && maps.Equal(o.Text, s.Text) })
	}
	var gone, come []Service
	for _, s := range was {
		if !of(now, s) {
			d.conn.Unregister(d.c.Host, s.Type)
			gone = append(gone, s)
		}
	}
	for _, s := range now {
		if of(was, s) {
			continue
		}
		err := d.conn.Register(mdns.ServiceInstance{Instance: d.c.Host, Service: s.Type, Domain: "local", Host: d.host, Port: s.Port, Text: d.entries(s)})
		if err != nil {
			d.c.Log.Warn("a service is not announced", "type", s.Type, "error", err)
			continue
		}
		come = append(come, s)
	}
	d.tell(gone, 0)
	d.tell(come, timeToLive)
}

func (d *dnsResponder) entries(s Service) (out []mdns.TXTEntry) {
	for _, key := range slices.Sorted(maps.Keys(s.Text)) {
		out = append(out, mdns.NewTXTString(key, s.Text[key]))
	}
	return out
}

// tell sends what nobody has asked for: that services are there (RFC 6762 section 8.3), or with no time to live that they are not (10.1).
func (d *dnsResponder) tell(all []Service, ttl uint32) {
	if len(all) == 0 {
		return
	}
	raw, err := d.message(all, ttl)
	if err != nil {
		d.c.Log.Warn("services are not announced", "error", err)
		return
	}
	send := func() {
		for i := range d.interfaces {
			if d.out4.SetMulticastInterface(&d.interfaces[i]) == nil {
				_ = d.out4.SetMulticastLoopback(true)
				_, _ = d.out4.WriteTo(raw, nil, &net.UDPAddr{IP: group4, Port: d.c.DNSPort}) // an interface may have no IPv4
			}
		}
	}
	send()
	if ttl > 0 { // at least two, a second apart
		time.AfterFunc(time.Second, send)
	}
}

func (d *dnsResponder) message(all []Service, ttl uint32) ([]byte, error) {
	b := dnsmessage.NewBuilder(nil, dnsmessage.Header{Response: true, Authoritative: true})
	b.EnableCompression()
	if err := b.StartAnswers(); err != nil {
		return nil, err
	}
	const unique = 1 << 15 // the cache-flush bit (RFC 6762 section 10.2)
	host, err := dnsmessage.NewName(d.host)
	if err != nil {
		return nil, err
	}
	for _, s := range all {
		kind, err := dnsmessage.NewName(s.Type + ".local.")
		if err != nil {
			return nil, err
		}
		name, err := dnsmessage.NewName(d.c.Host + "." + s.Type + ".local.")
		if err != nil {
			return nil, err
		}
		texts := []string{}
		for _, key := range slices.Sorted(maps.Keys(s.Text)) {
			texts = append(texts, key+"="+s.Text[key])
		}
		if len(texts) == 0 {
			texts = []string{""}
		}
		one := dnsmessage.ResourceHeader{Name: name, Class: dnsmessage.ClassINET | unique, TTL: ttl}
		if err := b.PTRResource(dnsmessage.ResourceHeader{Name: kind, Class: dnsmessage.ClassINET, TTL: ttl}, dnsmessage.PTRResource{PTR: name}); err != nil {
			return nil, err
		}
		if err := b.SRVResource(one, dnsmessage.SRVResource{Port: s.Port, Target: host}); err != nil {
			return nil, err
		}
		if err := b.TXTResource(one, dnsmessage.TXTResource{TXT: texts}); err != nil {
			return nil, err
		}
	}
	return b.Finish()
}

func (d *dnsResponder) close() {
	d.mu.Lock()
	now := d.now
	d.now = nil
	d.mu.Unlock()
	d.tell(now, 0)
	if err := d.conn.Close(); err != nil {
		d.c.Log.Debug("multicast DNS was not closed as it should be", "error", err)
	}
	d.out4.Close()
}

// quietly has the library log at level debug: what strangers send is nobody's concern.
type quietly struct{ log *slog.Logger }

func (q quietly) NewLogger(string) logging.LeveledLogger { return q }

func (q quietly) say(format string, args ...any) {
	q.log.Debug("multicast DNS", "says", strings.TrimSpace(fmt.Sprintf(format, args...)))
}

func (q quietly) Trace(string)              {}
func (q quietly) Tracef(string, ...any)     {}
func (q quietly) Debug(string)              {}
func (q quietly) Debugf(string, ...any)     {}
func (q quietly) Info(m string)             { q.say("%s", m) }
func (q quietly) Infof(f string, a ...any)  { q.say(f, a...) }
func (q quietly) Warn(m string)             { q.say("%s", m) }
func (q quietly) Warnf(f string, a ...any)  { q.say(f, a...) }
func (q quietly) Error(m string)            { q.say("%s", m) }
func (q quietly) Errorf(f string, a ...any) { q.say(f, a...) }
