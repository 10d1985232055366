package onc

import (
	"context"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"net/netip"
	"time"

	"amber.example/gatekeeper/internal/contain"
)

// Mapping is one line of a port mapper (RFC 1833 section 3.1).
type Mapping struct{ Program, Version, Protocol, Port uint32 }

// Protocols of a Mapping.
const (
	ProtocolTCP uint32 = 6
	ProtocolUDP uint32 = 17
)

// The port mapper's program, and its port.
const (
	PortmapProgram = 100000
	PortmapVersion = 2
	PortmapPort    = 111
)

// Portmap is the program that tells what is answered where. Nobody can register anything with it.
func Portmap(mappings []Mapping) Program {
	return Program{Number: PortmapProgram, Low: PortmapVersion, High: PortmapVersion, Serve: func(c *Call, w *Writer) AcceptStat {
		switch c.Procedure {
		case 0: // NULL
		case 1, 2: // SET, UNSET
			w.Bool(false)
		case 3: // GETPORT
			asked := Mapping{c.Args.Uint32(), c.Args.Uint32(), c.Args.Uint32(), c.Args.Uint32()}
			if c.Args.Err() != nil {
				return GarbageArgs
			}
			var port, other uint32
			for _, m := range mappings {
				switch {
				case m.Program != asked.Program || m.Protocol != asked.Protocol:
				case m.Version == asked.Version:
					port = m.Port
				default:
					other = m.Port // the program then says which versions it has
				}
			}
			if port == 0 {
				port = other
			}
			w.Uint32(port)
		case 4: // DUMP
			for _, m := range mappings {
				w.Bool(true)
				w.Uint32(m.Program)
				w.Uint32(m.Version)
				w.Uint32(m.Protocol)
				w.Uint32(m.Port)
			}
			w.Bool(false)
		default:
			return ProcUnavail
		}
		return Success
	}}
}

// ServePackets answers calls over UDP until the connection is closed. The answers are no
// longer than a few lines, and those of the programs given must be. Who calls may be somebody else than they say, and so an answer
// must be nothing but for whom it is sent to.
func ServePackets(pc net.PacketConn, programs []Program) error {
	buf := make([]byte, 2048)
	var said datagrams
	for {
		n, from, err := pc.ReadFrom(buf)
		if err != nil {
			if errors.Is(err, net.ErrClosed) {
				return err
			}
			time.Sleep(10 * time.Millisecond)
			continue
		}
		w := &Writer{}
		caller := &Conn{}
		if a, ok := from.(*net.UDPAddr); ok {
			caller.Remote = netip.AddrPortFrom(a.AddrPort().Addr().Unmap(), a.AddrPort().Port())
		}
		contain.Run("a datagram's call", func() {
			if _, answered := dispatch(programs, caller, buf[:n], false, w); answered && said.may(caller.Remote.Addr(), time.Now()) {
				_, _ = pc.WriteTo(w.B, from)
			}
		})
	}
}

// Whom a datagram names as its sender may be somebody else, who would get answers that they never asked for, larger than what was asked.
// So each address gets so many in a second, and all together so many.
const (
	mostAnswers    = 20
	mostAnswersAll = 2000
)

// datagrams counts those that were answered in one second.
type datagrams struct {
	second int64
	all    int
	to     map[netip.Addr]int
}

// may says whether an address gets one more.
func (a *datagrams) may(addr netip.Addr, now time.Time) bool {
	if s := now.Unix(); s != a.second || a.to == nil {
		a.second, a.all, a.to = s, 0, make(map[netip.Addr]int)
	}
	if a.all >= mostAnswersAll || a.to[addr] >= mostAnswers {
		return false
	}
	a.all++
	a.to[addr]++
	return true
}

// Dial is a client's connection, for what a server has to tell its clients.
type Dial struct {
	c   net.Conn
	xid uint32
}

// DialTCP connects. Everything on the connection has to be over by the time the context ends.
func DialTCP(ctx context.Context, address string) (*Dial, error) {
	var d net.Dialer
	c, err := d.DialContext(ctx, "tcp", address)
	if err != nil {
		return nil, err
	}
	if until, ok := ctx.Deadline(); ok {
		_ = c.SetDeadline(until)
	}
	return &Dial{c: c, xid: uint32(time.Now().UnixNano())}, nil
}

// Close ends the connection.
func (d *Dial) Close() { d.c.Close() }

// ErrRefused is for a call that was answered, and not with success.
var ErrRefused = errors.New("the call was refused")

// Call makes a call and gives its results.
func (d *Dial) Call(program, version, procedure uint32, cred *Credential, args []byte) (*Reader, error) {
	d.xid++
	w := &Writer{B: make([]byte, 4)}
	AppendCall(w, d.xid, program, version, procedure, cred)
	w.B = append(w.B, args...)
	binary.BigEndian.PutUint32(w.B, 1<<31|uint32(len(w.B)-4))
	if _, err := d.c.Write(w.B); err != nil {
		return nil, err
	}
	record, err := ReadRecord(d.c, mostRecord)
	if err != nil {
		return nil, err
	}
	return ParseReply(record, d.xid)
}

// ReadRecord reads one record of at most so many bytes.
func ReadRecord(from io.Reader, most int) ([]byte, error) {
	var out []byte
	for {
		var mark [4]byte
		if _, err := io.ReadFull(from, mark[:]); err != nil {
			return nil, err
		}
		m := binary.BigEndian.Uint32(mark[:])
		n := int(m &^ (1 << 31))
		if len(out)+n > most {
			return nil, errTooLong
		}
		part := make([]byte, n)
		if _, err := io.ReadFull(from, part); err != nil {
			return nil, err
		}
		out = append(out, part...)
		if m>>31 == 1 {
			return out, nil
		}
	}
}

// ParseReply reads a reply's header and gives what follows it.
func ParseReply(record []byte, xid uint32) (*Reader, error) {
	r := NewReader(record)
	if r.Uint32() != xid || r.Uint32() != msgReply {
		return nil, errNotCall
	}
	if r.Uint32() != replyAccepted {
		return nil, ErrRefused
	}
	r.Uint32()
	r.Opaque(mostAuth)
	if r.Uint32() != uint32(Success) || r.Err() != nil {
		return nil, errors.Join(ErrRefused, r.Err())
	}
	return r, nil
}

// LocalAddr is this end of the connection.
func (d *Dial) LocalAddr() net.Addr { return d.c.LocalAddr() }
