package smb

import (
	"strings"

	"amber.example/gatekeeper/internal/files"
)

// Actions of FILE_NOTIFY_INFORMATION, MS-FSCC section 2.7.1.
const (
	notifyAdded = iota + 1
	notifyRemoved
	notifyModified
	notifyOldName
	notifyNewName
)

// changeNotify is MS-SMB2 section 3.3.5.19: answered when something happens in the
// directory, or when it is cancelled or closed.
func (r *request) changeNotify() (*reply, error) {
	if !r.body.fixed(32) {
		return nil, statusInvalidParameter
	}
	const watchTree = 1
	flags, size := le.Uint16(r.body[2:]), int(le.Uint32(r.body[4:]))
	o, err := r.open(8)
	if err != nil {
		return nil, err
	}
	if o.handle == nil || !r.fits(size) || r.link.length > 1 {
		return nil, statusInvalidParameter
	}
	deep := flags&watchTree != 0
	events, stop, err := r.c.srv.Files.Watch(o.handle, deep)
	if err != nil {
		return nil, err
	}
	rep, err := r.later(o.id, func(op *asyncOp) {
		defer stop()
		for {
			select {
			case e, ok := <-events:
				if ok {
					if e, ok = o.handle.Told(e, deep); !ok {
						continue // it is not for them
					}
				}
				data := notifyData(o.handle.Path(), e)
				if !ok || len(data) > size {
					op.settle(nil, statusNotifyEnumDir)
				} else {
					op.settle(withBuffer(data), statusOK)
				}
			case <-op.cancel:
				op.req.c.mu.Lock()
				closed := op.closed
				op.req.c.mu.Unlock()
				if closed {
					op.settle(nil, statusNotifyCleanup)
				} else {
					op.settle(nil, statusCancelled)
				}
			case <-op.req.c.ctx.Done():
			}
			return
		}
	})
	if rep == nil {
		stop()
	}
	return rep, err
}

// notifyData is FILE_NOTIFY_INFORMATION for one event, names relative to dir.
func notifyData(dir string, e files.Event) []byte {
	var out []byte
	add := func(action uint32, path string) {
		if dir != "" {
			path = strings.TrimPrefix(path, dir+"/")
		}
		if len(out) > 0 {
			for len(out)%4 != 0 {
				out = append(out, 0)
			}
			le.PutUint32(out, uint32(len(out)))
		}
		name := utf16le(wirePath(path))
		out = le.AppendUint32(out, 0)
		out = le.AppendUint32(out, action)
		out = le.AppendUint32(out, uint32(len(name)))
		out = append(out, name...)
	}
	switch e.Kind {
	case files.EventAdded:
		add(notifyAdded, e.Path)
	case files.EventRemoved:
		add(notifyRemoved, e.Path)
	case files.EventModified:
		add(notifyModified, e.Path)
	case files.EventRenamed:
		add(notifyOldName, e.Path)
		add(notifyNewName, e.NewPath)
	}
	return out
}
