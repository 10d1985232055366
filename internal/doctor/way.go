package doctor

import (
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/netip"
	"time"

	"amber.example/gatekeeper/internal/core/plain"
	"amber.example/gatekeeper/internal/onc"
)

// Way is one way into a folder for a client, as the service itself goes it.
type Way struct {
	Name    string // "SMB"
	Address string // where it is listened for
	Export  string // the path that is mounted over NFS; "" over SMB
	Client  netip.Addr
	// Inside connects as if from the client, past the network.
	Inside func(netip.AddrPort) net.Conn
	// Refused says why that client may not come, as the audit has it; "" where it may.
	Refused string
	Next    string // what to type where it is refused
}

// Numbers of NFS 3 and of MOUNT 3 (RFC 1813).
const (
	nfsProgram, nfsVersion     = 100003, 3
	mountProgram, mountVersion = 100005, 3
	procedureNull              = 0
	procedureMount             = 1
)

// Go tries the way step by step and says where it ends.
func (w *Way) Go(ctx context.Context) []Finding {
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	reach := reachable(w.Address, w.Client)
	out := []Finding{{What: w.Name + ": TCP to " + reach, State: Well, Says: "is answered"}}
	last := &out[0]
	if only, is := loopbackOnly(w.Address); is && !w.Client.IsLoopback() {
		last.State, last.Says, last.Next = Wrong, "the way ends here: it is listened for at "+only+" alone, where another machine does not get", "amber config show"
		return out
	}
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", reach)
	if err != nil {
		last.State, last.Says, last.Next = Wrong, "the way ends here: "+plain.Reason(err), "amber service list"
		return out
	}
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(patience))
	if w.Export == "" {
		out = append(out, negotiates(conn))
	} else {
		out = append(out, answersNull(ctx, reach))
	}
	if out[1].State != Well {
		return out
	}
	if w.Export != "" && w.Inside != nil {
		out = append(out, w.mounts())
	}
	gate := Finding{What: fmt.Sprintf("%s: host %s", w.Name, w.Client), State: Well, Says: "may come"}
	if w.Refused != "" {
		gate.State, gate.Says, gate.Next = Wrong, "the way ends here: "+w.Refused, w.Next
	}
	return append(out, gate)
}

// reachable is an address by which this machine reaches a listener, of the client's family where there is one.
func reachable(address string, client netip.Addr) string {
	host, port, err := net.SplitHostPort(address)
	addr, parseErr := netip.ParseAddr(host)
	if err != nil || host != "" && (parseErr != nil || !addr.IsUnspecified()) {
		return address
	}
	for _, own := range OwnAddresses() {
		if own.Is4() == client.Unmap().Is4() && !client.IsLoopback() {
			return net.JoinHostPort(own.String(), port)
		}
	}
	return net.JoinHostPort("127.0.0.1", port)
}

func loopbackOnly(address string) (string, bool) {
	host, _, err := net.SplitHostPort(address)
	addr, parseErr := netip.ParseAddr(host)
	return host, err == nil && (host == "localhost" || parseErr == nil && addr.IsLoopback())
}

// negotiates sends an SMB2 NEGOTIATE (MS-SMB2 2.2.3) for the dialects 2.1 to 3.0.2 and reads the answer.
func negotiates(conn net.Conn) Finding {
	f := Finding{What: "SMB: NEGOTIATE", State: Well}
	fail := func(why string) Finding {
		f.State, f.Says, f.Next = Wrong, "the way ends here: "+why, "amber service list"
		return f
	}
	dialects := []uint16{0x0210, 0x0300, 0x0302}
	msg := make([]byte, 64+36+2*len(dialects))
	le := binary.LittleEndian
	copy(msg, "\xfeSMB")
	le.PutUint16(msg[4:], 64)
	le.PutUint16(msg[14:], 1) // credits
	body := msg[64:]
	le.PutUint16(body, 36)
	le.PutUint16(body[2:], uint16(len(dialects)))
	body[4] = 1 // signing
	copy(body[12:28], "amber's doctor  ")
	for i, d := range dialects {
		le.PutUint16(body[36+2*i:], d)
	}
	if _, err := conn.Write(append([]byte{0, 0, byte(len(msg) >> 8), byte(len(msg))}, msg...)); err != nil {
		return fail(plain.Reason(err))
	}
	head := make([]byte, 4+64+8)
	if _, err := io.ReadFull(conn, head); err != nil {
		return fail("nothing came back, or it was cut off")
	}
	if string(head[4:8]) != "\xfeSMB" {
		return fail("what answers there does not speak SMB 2")
	}
	if status := le.Uint32(head[4+8:]); status != 0 {
		return fail(fmt.Sprintf("it is answered with status %#x", status))
	}
	dialect := le.Uint16(head[4+64+4:])
	f.Says = fmt.Sprintf("is answered, with SMB %d.%d", dialect>>8, dialect>>4&15)
	return f
}

// answersNull calls the procedure that does nothing (RFC 1813 section 3.3.0).
func answersNull(ctx context.Context, address string) Finding {
	f := Finding{What: "NFS: NULL", State: Well, Says: "is answered"}
	d, err := onc.DialTCP(ctx, address)
	if err == nil {
		defer d.Close()
		_, err = d.Call(nfsProgram, nfsVersion, procedureNull, nil, nil)
	}
	if err != nil {
		f.State, f.Says, f.Next = Wrong, "the way ends here: what answers there does not speak NFS 3", "amber service list"
	}
	return f
}

// mounts asks to mount the export as if from the client (RFC 1813 section 5.2.1).
func (w *Way) mounts() Finding {
	f := Finding{What: fmt.Sprintf("NFS: MOUNT of %s from %s", w.Export, w.Client), State: Well, Says: "is granted"}
	fail := func(why string) Finding {
		f.State, f.Says, f.Next = Wrong, why, w.Next
		if w.Refused == "" {
			f.Says = "the way ends here: " + why
		}
		return f
	}
	conn := w.Inside(netip.AddrPortFrom(w.Client, 1000)) // a port that only root of a host has, as exports may ask for
	defer conn.Close()
	_ = conn.SetDeadline(time.Now().Add(patience))
	var args, call onc.Writer
	args.String(w.Export)
	onc.AppendCall(&call, 1, mountProgram, mountVersion, procedureMount, &onc.Credential{})
	record := append(call.B, args.B...)
	mark := binary.BigEndian.AppendUint32(nil, 1<<31|uint32(len(record)))
	if _, err := conn.Write(append(mark, record...)); err != nil {
		return fail(plain.Reason(err))
	}
	raw, err := onc.ReadRecord(conn, 64<<10)
	if err != nil {
		return fail("nothing came back")
	}
	r, err := onc.ParseReply(raw, 1)
	if err != nil {
		return fail("it is turned down")
	}
	if status := r.Uint32(); r.Err() != nil || status != 0 {
		return fail(mountSays(status))
	}
	return f
}

func mountSays(status uint32) string {
	switch status { // RFC 1813 section 5.1.5
	case 1, 13:
		return "this host may not mount it"
	case 2:
		return "there is no such export for this host"
	}
	return fmt.Sprintf("it is answered with %d", status)
}
