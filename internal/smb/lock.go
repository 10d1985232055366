package smb

import (
	"errors"

	"amber.example/gatekeeper/internal/files"
)

// lock is MS-SMB2 section 3.3.5.14: several ranges at once, all or none; a single one
// may wait.
func (r *request) lock() (*reply, error) {
	const shared, exclusive, unlock, failNow = 1, 2, 4, 16
	const element, most = 24, 64
	if !r.body.fixed(48) {
		return nil, statusInvalidParameter
	}
	count := int(le.Uint16(r.body[2:]))
	o, err := r.open(8)
	if err != nil {
		return nil, err
	}
	if count == 0 || count > most || len(r.body) < 24+count*element || o.handle == nil {
		return nil, statusInvalidParameter
	}
	var locked []files.Range
	back := func() {
		for _, l := range locked {
			_ = o.handle.Unlock(l.Offset, l.Length)
		}
	}
	unlocking := le.Uint32(r.body[24+16:])&unlock != 0
	for i := range count {
		e := r.body[24+i*element:]
		want := files.Range{Offset: le.Uint64(e), Length: le.Uint64(e[8:])}
		flags := le.Uint32(e[16:])
		if unlocking {
			if flags != unlock {
				return nil, statusInvalidParameter
			}
			if err := o.handle.Unlock(want.Offset, want.Length); err != nil {
				return nil, err
			}
			continue
		}
		kind := flags &^ failNow
		if kind != shared && kind != exclusive || count > 1 && flags&failNow == 0 {
			back()
			return nil, statusInvalidParameter
		}
		want.Exclusive = kind == exclusive
		freed, err := o.handle.Lock(want)
		switch {
		case errors.Is(err, files.ErrLocked) && flags&failNow == 0 && r.link.length == 1:
			return r.waitForLock(o, want, freed)
		case errors.Is(err, files.ErrLocked):
			err = statusLockNotGranted
		}
		if err != nil {
			back()
			return nil, err
		}
		locked = append(locked, want)
	}
	return newReply(8).fixed(4, 4), nil
}

// waitForLock answers "pending" now, and again once the range is free.
func (r *request) waitForLock(o *open, want files.Range, freed <-chan struct{}) (*reply, error) {
	return r.later(o.id, func(op *asyncOp) {
		for {
			select {
			case <-freed:
				var err error
				if freed, err = o.handle.Lock(want); errors.Is(err, files.ErrLocked) {
					continue
				}
				if err != nil {
					op.settle(nil, statusOf(err))
				} else {
					op.settle(newReply(8).fixed(4, 4), statusOK)
				}
			case <-op.cancel:
				op.settle(nil, statusCancelled)
			case <-op.req.c.ctx.Done():
			}
			return
		}
	})
}
