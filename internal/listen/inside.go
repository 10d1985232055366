package listen

import (
	"net"
	"net/netip"
)

// inside is the server's end of a connection inside of the process.
type inside struct {
	net.Conn
	from *net.TCPAddr
}

func (c inside) RemoteAddr() net.Addr { return c.from }

// Inside gives the two ends of a connection that never leaves the process. For the server it comes from an address of the caller's choice.
func Inside(from netip.AddrPort) (client, server net.Conn) {
	client, end := net.Pipe()
	return client, inside{end, net.TCPAddrFromAddrPort(from)}
}
