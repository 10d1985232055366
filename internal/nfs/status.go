package nfs

import (
	"context"
	"net"
	"net/netip"
	"time"

	"amber.example/gatekeeper/internal/onc"
)

// The status monitor, version 1 (X/Open XNFS, chapter 11), as far as a server needs it.
const (
	smNotify  = 6
	mostNames = 1024
)

// serveStatus hears that a host has started anew.
func (m *lockManager) serveStatus(c *onc.Call, _ *onc.Writer) onc.AcceptStat {
	switch c.Procedure {
	case 0:
		return onc.Success
	case smNotify:
		c.Args.String(mostNames)
		c.Args.Uint32()
		if c.Args.Err() != nil {
			return onc.GarbageArgs
		}
		// It speaks for itself alone, whatever name it gives.
		m.freeHost(c.Conn.Remote.Addr())
		return onc.Success
	}
	return onc.ProcUnavail
}

// tellRestart tells a host that held locks that this server has started anew, so that it asks for
// them again while others must wait.
func (m *lockManager) tellRestart(host netip.Addr) {
	ctx, cancel := context.WithTimeout(m.ctx, callBackFor)
	defer cancel()
	d, err := dialProgram(ctx, host, programNSM, 1)
	if err == nil {
		defer d.Close()
		name := ""
		if a, ok := d.LocalAddr().(*net.TCPAddr); ok {
			name = a.IP.String()
		}
		w := &onc.Writer{}
		w.String(name)
		w.Uint32(uint32(time.Now().Unix())*2 + 1) // odd is up
		_, err = d.Call(programNSM, 1, smNotify, nil, w.B)
	}
	if err != nil {
		m.s.Log.Info("a host that held locks could not be told of the restart", "host", host, "error", err)
	}
}
