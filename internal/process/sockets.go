package process

import (
	"fmt"
	"log/slog"
	"net"
	"os"

	"github.com/coreos/go-systemd/v22/activation"

	"amber.example/gatekeeper/internal/config"
	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/onc"
)

// sockets are what the process listens at: sockets that the service manager opened and handed over by name, and for what it has not, the
// addresses of the settings.
type sockets struct {
	console, smb, nfs, metrics net.Listener
	quic                       net.PacketConn // SMB over QUIC; nil where there is none
	quota                      net.PacketConn // the remote quota protocol over UDP; nil where there is none
	quotaErr                   error
	portmap                    net.Listener
	portmapUDP                 net.PacketConn
	handed                     []string // names of those that were handed over
}

// passed are sockets that the service manager handed over, by name.
type passed struct {
	streams map[string]net.Listener
	packets map[string]net.PacketConn
}

// takePassed takes them (sd_listen_fds(3)); what is neither kind or has a name that is not known is refused.
func takePassed() (passed, error) {
	out := passed{make(map[string]net.Listener), make(map[string]net.PacketConn)}
	for _, f := range activation.Files(true) {
		name := f.Name()
		known := name == "console" || name == "smb" || name == "nfs" || name == "portmap" || name == "metrics"
		l, err := net.FileListener(f)
		if err != nil {
			c, packets := net.FilePacketConn(f)
			f.Close()
			if packets != nil || !known || out.packets[name] != nil {
				return out, fmt.Errorf("the service manager handed over a socket called %q, which is not known: FileDescriptorName= is console, smb, nfs, portmap or metrics, each once", name)
			}
			out.packets[name] = c
			continue
		}
		f.Close()
		if !known || out.streams[name] != nil {
			l.Close()
			return out, fmt.Errorf("the service manager handed over a socket called %q: FileDescriptorName= is console, smb, nfs, portmap or metrics, each once", name)
		}
		out.streams[name] = l
	}
	return out, nil
}

func openSockets(cfg *config.Config) (s *sockets, err error) {
	s = new(sockets)
	defer func() {
		if err != nil {
			s.close()
			s = nil
		}
	}()
	handed, err := takePassed()
	if err != nil {
		return s, err
	}
	for _, one := range []struct {
		to          *net.Listener
		name, title string
		address     string
	}{{&s.console, "console", "console", cfg.Console}, {&s.smb, "smb", "SMB", cfg.SMB}, {&s.nfs, "nfs", "NFS", cfg.NFS}, {&s.metrics, "metrics", "metrics", cfg.Metrics}, {&s.portmap, "portmap", "port mapper", cfg.Portmap}} {
		if l := handed.streams[one.name]; l != nil {
			*one.to = l
			s.handed = append(s.handed, one.name)
			continue
		}
		if one.address == "" {
			continue
		}
		l, err := net.Listen("tcp", one.address)
		if err != nil {
			return s, unlistened(one.title, one.address, err)
		}
		*one.to = l
	}
	if s.quic = handed.packets["smb"]; s.quic == nil && cfg.SMBOverQUIC != "" {
		if s.quic, err = listenPacket(cfg.SMBOverQUIC); err != nil {
			return s, unlistened("SMB over QUIC", cfg.SMBOverQUIC, err)
		}
	}
	if s.quota = handed.packets["nfs"]; s.quota == nil {
		s.quota, s.quotaErr = listenPacket(s.nfs.Addr().String())
	}
	if s.portmapUDP = handed.packets["portmap"]; s.portmapUDP == nil && s.portmap != nil {
		c, err := listenPacket(s.portmap.Addr().String())
		if err != nil {
			return s, unlistened("port mapper", cfg.Portmap, err)
		}
		s.portmapUDP = c
	}
	return s, nil
}

// listenPacket gives nil for none, which net.ListenPacket's value is not.
func listenPacket(address string) (net.PacketConn, error) {
	c, err := net.ListenPacket("udp", address)
	if err != nil {
		return nil, err
	}
	return c, nil
}

// unlistened says why an address cannot be had, and what to do.
func unlistened(title, address string, err error) error {
	says := fmt.Sprintf("%s: %s cannot be listened at: %s", title, address, plain.Reason(err))
	if os.IsPermission(err) {
		return fmt.Errorf("%s: ports below 1024 take root, or the service manager to hand them over", says)
	}
	return fmt.Errorf("%s; amber doctor says what does", says)
}

func (s *sockets) close() {
	for _, l := range []net.Listener{s.console, s.smb, s.nfs, s.metrics, s.portmap} {
		if l != nil {
			l.Close()
		}
	}
	for _, c := range []net.PacketConn{s.quic, s.quota, s.portmapUDP} {
		if c != nil {
			c.Close()
		}
	}
}

// serveMappings answers as the port mapper until close, and tells of what goes wrong before.
func (s *sockets) serveMappings(mappings []onc.Mapping, log *slog.Logger, failed chan<- error) {
	if s.portmap == nil {
		return
	}
	port := uint32(portOf(s.portmap.Addr()))
	mappings = append(mappings, onc.Mapping{Program: onc.PortmapProgram, Version: onc.PortmapVersion, Protocol: onc.ProtocolTCP, Port: port},
		onc.Mapping{Program: onc.PortmapProgram, Version: onc.PortmapVersion, Protocol: onc.ProtocolUDP, Port: port})
	programs := []onc.Program{onc.Portmap(mappings)}
	server := &onc.Server{Programs: programs, Log: log}
	go func() { failed <- server.Serve(s.portmap) }()
	if s.portmapUDP != nil {
		go func() { failed <- onc.ServePackets(s.portmapUDP, programs) }()
	}
}

func portOf(a net.Addr) int {
	if a, ok := a.(*net.TCPAddr); ok {
		return a.Port
	}
	return 0
}
