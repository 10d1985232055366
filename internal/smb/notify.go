package smb

import (
	"strings"

	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/smb/message"
)

// changeNotify is MS-SMB2 section 3.3.5.19: answered when something happens in the
// directory, or when it is cancelled or closed.
func (r *request) changeNotify(m *message.ChangeNotifyRequest) (*reply, error) {
	size := int(m.Room)
	o, err := r.open(m.ID)
	if err != nil {
		return nil, err
	}
	if o.handle == nil || !r.fits(size) || r.link.length > 1 {
		return nil, statusInvalidParameter
	}
	deep := m.Flags&message.WatchTree != 0
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
					op.settle(answer(&message.DataResponse{Data: data}), statusOK)
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
	var out message.Notifications
	add := func(action uint32, path string) {
		if dir != "" {
			path = strings.TrimPrefix(path, dir+"/")
		}
		out = append(out, message.Notification{Action: action, Name: message.UTF16(wirePath(path))})
	}
	switch e.Kind {
	case files.EventAdded:
		add(message.NotifyAdded, e.Path)
	case files.EventRemoved:
		add(message.NotifyRemoved, e.Path)
	case files.EventModified:
		add(message.NotifyModified, e.Path)
	case files.EventRenamed:
		add(message.NotifyOldName, e.Path)
		add(message.NotifyNewName, e.NewPath)
	}
	return out.Append(nil)
}
