package nfs

import (
	"context"
	"encoding/binary"
	"errors"
	"math"
	"net"
	"net/netip"
	"strconv"
	"time"

	"amber.example/gatekeeper/internal/contain"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/onc"
)

// settle notes that a client took up, or gave up, what it waited for.
func (m *lockManager) settle(owner nlmOwner, r files.Range) {
	m.mu.Lock()
	defer m.mu.Unlock()
	for x := range m.waits {
		if x.owner == owner && x.r.Offset == r.Offset && x.r.Length == r.Length {
			delete(m.waits, x)
			close(x.confirmed)
			x.cancel()
		}
	}
}

// wait waits for a range in the client's place, and calls it back when it has it.
func (m *lockManager) wait(key nlmFile, f *files.Handle, owner nlmOwner, r files.Range, a nlmArgs, freed <-chan struct{}) uint32 {
	a.fh, a.oh = append([]byte{}, a.fh...), append([]byte{}, a.oh...)
	ctx, cancel := context.WithCancel(m.ctx)
	x := &waiting{key, owner, r, a, cancel, make(chan struct{})}
	m.mu.Lock()
	defer m.mu.Unlock()
	for have := range m.waits {
		if have.owner == owner && have.r == r && have.file == key { // it asked again: still waiting
			cancel()
			return nlmBlocked
		}
	}
	if len(m.waits) >= mostWaiting {
		cancel()
		return nlmNoLocks
	}
	m.waits[x] = struct{}{}
	contain.Go(&m.running, "waiting for a lock", func() {
		defer cancel()
		for {
			select {
			case <-ctx.Done():
				return
			case <-freed:
			}
			var err error
			if _, freed, err = f.LockRange(owner, r); err == nil {
				break
			} else if !errors.Is(err, files.ErrLocked) {
				m.settle(owner, r)
				return
			}
		}
		m.owns(key, owner)
		if m.callBack(ctx, x) == nil {
			m.settle(owner, r)
			return
		}
		select {
		case <-x.confirmed:
		case <-ctx.Done():
		case <-time.After(takeUp):
			_ = f.UnlockRange(owner, r.Offset, r.Length) // nobody took it up
			m.settle(owner, r)
		}
	})
	return nlmBlocked
}

// callBack tells a client that it has the lock it waited for.
func (m *lockManager) callBack(ctx context.Context, x *waiting) error {
	ctx, cancel := context.WithTimeout(ctx, callBackFor)
	defer cancel()
	d, err := dialProgram(ctx, x.owner.host, programNLM, 4)
	if err != nil {
		return err
	}
	defer d.Close()
	w := &onc.Writer{}
	w.Opaque(binary.BigEndian.AppendUint64(nil, uint64(time.Now().UnixNano())))
	w.Bool(x.r.Exclusive)
	x.args.put(w)
	res, err := d.Call(programNLM, 4, nlmGranted, nil, w.B)
	if err != nil {
		return err
	}
	res.Opaque(mostNetObj)
	if res.Uint32() != nlmOK || res.Err() != nil {
		return onc.ErrRefused
	}
	return nil
}

// dialProgram connects to a program of a host, asking its port mapper where that is.
func dialProgram(ctx context.Context, host netip.Addr, program, version uint32) (*onc.Dial, error) {
	d, err := onc.DialTCP(ctx, net.JoinHostPort(host.String(), strconv.Itoa(onc.PortmapPort)))
	if err != nil {
		return nil, err
	}
	defer d.Close()
	w := &onc.Writer{}
	for _, v := range []uint32{program, version, onc.ProtocolTCP, 0} {
		w.Uint32(v)
	}
	res, err := d.Call(onc.PortmapProgram, onc.PortmapVersion, 3, nil, w.B)
	if err != nil {
		return nil, err
	}
	port := res.Uint32()
	if port == 0 || port > math.MaxUint16 || res.Err() != nil {
		return nil, onc.ErrRefused
	}
	return onc.DialTCP(ctx, net.JoinHostPort(host.String(), strconv.Itoa(int(port))))
}
