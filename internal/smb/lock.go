package smb

import (
	"errors"

	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/smb/message"
)

// lock is MS-SMB2 section 3.3.5.14: several ranges at once, all or none; a single one
// may wait.
func (r *request) lock(m *message.LockRequest) (*reply, error) {
	o, err := r.open(m.ID)
	if err != nil {
		return nil, err
	}
	if o.handle == nil {
		return nil, statusInvalidParameter
	}
	var locked []files.Range
	back := func() {
		for _, l := range locked {
			_ = o.handle.Unlock(l.Offset, l.Length)
		}
	}
	unlocking := m.Locks[0].Flags&message.Unlock != 0
	for _, e := range m.Locks {
		want := files.Range{Offset: e.Offset, Length: e.Length}
		if unlocking {
			if e.Flags != message.Unlock {
				return nil, statusInvalidParameter
			}
			if err := o.handle.Unlock(want.Offset, want.Length); err != nil {
				return nil, err
			}
			continue
		}
		kind, waits := e.Flags&^message.LockFailNow, e.Flags&message.LockFailNow == 0
		if kind != message.LockShared && kind != message.LockExclusive || len(m.Locks) > 1 && waits {
			back()
			return nil, statusInvalidParameter
		}
		want.Exclusive = kind == message.LockExclusive
		freed, err := o.handle.Lock(want)
		switch {
		case errors.Is(err, files.ErrLocked) && waits && r.link.length == 1:
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
	o.changed()
	return answer(&message.Empty{}), nil
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
					o.changed()
					op.settle(answer(&message.Empty{}), statusOK)
				}
			case <-op.cancel:
				op.settle(nil, statusCancelled)
			case <-op.req.c.ctx.Done():
			}
			return
		}
	})
}
