package smb

import (
	"errors"
	"sync"
	"sync/atomic"
	"time"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/smb/message"
)

// open is one file, directory or pipe that a session has open.
type open struct {
	srv    *Server
	id     uint64
	since  time.Time
	tree   *tree
	handle *files.Handle           // nil for pipes
	whence *whence                 // of the handle
	pipe   *pipe                   // nil for files
	sess   atomic.Pointer[session] // nil while its client has no connection

	keeping sync.Mutex // while it is written down
	written writtenOpen
	gone    bool // it is closed, and written down no more

	cache   *cached                 // what its client may cache of it; nil for nothing
	durable atomic.Pointer[durable] // it stays while its client has no connection; nil for what does not

	search sync.Mutex // of what follows: a directory's listing under way
	names  []string
	next   int
	mask   *mask
	begun  bool
	room   room // that names take

	quotaMu sync.Mutex
	quotaAt identity.ID // after whom a listing of quotas goes on
}

func (o *open) close() {
	o.uncache() // first: its client may use the key again at once
	o.forget()
	if o.handle != nil {
		_ = o.handle.Close() // what was to be deleted and cannot be stays
	}
	o.search.Lock()
	o.names = nil
	o.room.give()
	o.search.Unlock()
	if o.pipe != nil {
		o.pipe.close()
	}
}

// genericAccess maps the generic rights of MS-DTYP section 2.4.3 to bits, and
// says whether the most there is was asked for.
func genericAccess(want uint32) (mask acl.Mask, maximum bool, status Status) {
	const maximumAllowed, systemSecurity = 0x02000000, 0x01000000
	maximum = want&maximumAllowed != 0
	want &^= maximumAllowed
	if want&systemSecurity != 0 {
		return 0, false, statusPrivilegeNotHeld
	}
	mask, others := acl.Rights(want)
	if others != 0 || mask == 0 && !maximum {
		return 0, false, statusAccessDenied
	}
	return mask, maximum, statusOK
}

// create is MS-SMB2 section 3.3.5.9.
func (r *request) create(m *message.CreateRequest) (*reply, error) {
	if r.tree.pipes() {
		return r.createPipe(m.Name)
	}
	if r.tree.led != "" {
		return nil, statusPathNotCovered
	}
	if rep, asked, err := r.reconnect(m); asked {
		return rep, err
	}
	wants, status := r.wanted(m)
	if status != statusOK {
		return nil, status
	}
	if rep, asked, err := r.again(&wants); asked {
		return rep, err
	}
	path, stream, status := withStream(m.Name)
	if status != statusOK {
		return nil, status
	}
	if asBefore(m, path) {
		return nil, statusObjectNameNotFound
	}
	mask, maximum, status := genericAccess(m.Access)
	if status != statusOK {
		return nil, status
	}
	directory, file, deletes := m.Options&message.OptDirectory != 0, m.Options&message.OptNotDirectory != 0, m.Options&message.OptDeleteOnClose != 0
	switch {
	case m.Disposition > uint32(files.OverwriteIf), m.Sharing&^7 != 0, directory && file:
		return nil, statusInvalidParameter
	case m.Options&message.OptOpenByID != 0:
		return nil, statusNotSupported
	case deletes && mask&acl.Delete == 0 && !maximum:
		return nil, statusAccessDenied
	}
	sub, from := r.subject(), newWhence(r.c)
	sub.Whence = from
	h, action, err := r.c.srv.Files.Open(sub, files.OpenRequest{
		Share: r.tree.share, Path: path, Stream: stream, Access: mask, Maximum: maximum, Sharing: files.Sharing(m.Sharing),
		Disposition: files.Disposition(m.Disposition), Directory: directory, File: file,
		DeleteOnClose: deletes, WriteThrough: m.Options&message.OptWriteThrough != 0, Attributes: m.Attributes,
		Link: m.Options&message.OptOpenLink != 0,
		Key:  wants.key(), ParentKey: wants.parentKey(), Done: r.c.ctx.Done(),
	})
	if met := (*files.LinkMet)(nil); errors.As(err, &met) {
		return r.linkMet(met), statusStoppedOnSymlink
	}
	if err != nil {
		r.c.log.Debug("open refused", "user", r.sess.name, "share", r.tree.share, "path", path, "reason", err.Error())
		return nil, err
	}
	o := r.opened(&open{handle: h, whence: from})
	if raw, ok := m.Context(message.ContextSecurity); ok && action == files.Created && stream == "" {
		if err := r.secureMade(o, raw); err != nil {
			h.Unmake()
			o.close()
			return nil, err
		}
	}
	info := h.Opened()
	if action != files.Opened { // it has been made, or emptied, since it was looked at
		if info, err = h.Stat(); err != nil {
			o.close()
			return nil, err
		}
	}
	out := openedAs(o, action, factsOf(info))
	if !r.cache(o, &wants, &out) {
		status = statusInvalidParameter
	} else {
		r.outlast(o, &wants, &out)
		status = r.attach(o)
	}
	if status != statusOK {
		o.close()
		return nil, status
	}
	if deletes && !h.GiveBack(files.CacheHandle, r.c.ctx.Done()) {
		return nil, statusCancelled
	}
	// The rest of the contexts may be ignored, and is.
	if _, ok := m.Context(message.ContextMaximalAccess); ok {
		out.Contexts = append(out.Contexts, message.MaximalAccess(uint32(h.Maximum())))
	}
	if raw, ok := m.Context(message.ContextMac); ok {
		if c, ok := mac(raw); ok {
			r.sess.mac.Store(true)
			out.Contexts = append(out.Contexts, c)
		}
	}
	if _, ok := m.Context(message.ContextOnDiskID); ok {
		out.Contexts = append(out.Contexts, message.OnDiskID(info.Inode, info.Device))
	}
	return answer(&out), nil
}

// keep enters what was opened into the session.
func (r *request) keep(o *open) (*open, Status) { return r.opened(o), r.attach(o) }

// opened is for what has just been opened.
func (r *request) opened(o *open) *open {
	o.srv, o.id, o.since, o.tree = r.c.srv, r.c.srv.nextID.Add(1), time.Now(), r.tree
	o.sess.Store(r.sess)
	return o
}

// fileID is what clients know it by.
func (o *open) fileID() message.FileID { return message.FileID{Persistent: o.id, Volatile: o.id} }

// openedAs begins the answer to a create.
func openedAs(o *open, did files.Action, facts message.FileFacts) message.CreateResponse {
	return message.CreateResponse{Action: uint32(did), FileFacts: facts, ID: o.fileID()}
}

// attach makes an open one of the session.
func (r *request) attach(o *open) Status {
	o.tree = r.tree
	s := r.sess
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed || len(s.opens) >= maxOpens {
		return statusInsufficientResources
	}
	s.opens[o.id] = o
	o.sess.Store(s)
	r.link.fileID, r.link.hasFile = o.id, true
	return statusOK
}

func (r *request) forget(o *open) { r.sess.drop(o) }

func factsOf(i files.Info) message.FileFacts {
	return message.FileFacts{Times: timesOf(i), Allocated: uint64(i.Allocated), Size: uint64(i.Size), Attributes: attributesOf(i)}
}

func timesOf(i files.Info) message.Times {
	return message.Times{Created: message.Filetime(i.Created), Accessed: message.Filetime(i.Accessed),
		Written: message.Filetime(i.Modified), Changed: message.Filetime(i.Changed)}
}

func attributesOf(i files.Info) uint32 {
	a := i.Attributes
	if i.Dir || i.ToDir {
		a |= message.AttrDirectory
	}
	if i.Link {
		a |= message.AttrReparse
	}
	if a == 0 {
		a = message.AttrNormal
	}
	return a
}

// close is MS-SMB2 section 3.3.5.10.
func (r *request) close(m *message.CloseRequest) (*reply, error) {
	o, err := r.open(m.ID)
	if err != nil {
		return nil, err
	}
	var out message.CloseResponse
	if m.Flags&message.CloseWantsFacts != 0 && o.handle != nil {
		if info, err := o.handle.Stat(); err == nil {
			out.Flags, out.FileFacts = message.CloseWantsFacts, factsOf(info)
		}
	}
	r.forget(o)
	return answer(&out), nil
}

func (r *request) flush(m *message.FlushRequest) (*reply, error) {
	o, err := r.open(m.ID)
	if err != nil {
		return nil, err
	}
	if o.handle != nil {
		if err := o.handle.Flush(); err != nil {
			return nil, err
		}
	}
	return answer(&message.Empty{}), nil
}

// read is MS-SMB2 section 3.3.5.12.
func (r *request) read(m *message.ReadRequest) (*reply, error) {
	o, err := r.open(m.ID)
	if err != nil {
		return nil, err
	}
	if !r.fits(int(m.Length)) || m.Offset > 1<<62 {
		return nil, statusInvalidParameter
	}
	if o.pipe != nil {
		data, status := o.pipe.read(int(m.Length))
		if status != statusOK && status != statusBufferOverflow {
			return nil, status
		}
		return answer(&message.ReadResponse{Data: data}), maybe(status)
	}
	buf := r.c.buffer(message.ReadDataAt + int(m.Length))
	if buf == nil {
		return nil, statusInsufficientResources
	}
	n, err := o.handle.ReadAt(buf.b[message.ReadDataAt:], int64(m.Offset))
	r.sess.traffic.Read(n)
	r.gave = n
	if err == nil && n < int(max(m.Minimum, 1)) && m.Length > 0 {
		err = statusEndOfFile
	}
	if err != nil {
		buf.release()
		return nil, err
	}
	out := message.ReadResponse{Data: buf.b[message.ReadDataAt : message.ReadDataAt+n]}
	return &reply{b: out.Append(buf.b[:message.HeaderSize]), buf: buf}, nil
}

// maybe is nil for success, so that a status can be returned as an error.
func maybe(s Status) error {
	if s == statusOK {
		return nil
	}
	return s
}

// write is MS-SMB2 section 3.3.5.13.
func (r *request) write(m *message.WriteRequest) (*reply, error) {
	o, err := r.open(m.ID)
	if err != nil {
		return nil, err
	}
	n := len(m.Data)
	if !r.fits(n) || m.Offset > 1<<62 {
		return nil, statusInvalidParameter
	}
	if o.pipe != nil {
		if err := o.pipe.write(m.Data); err != nil {
			return nil, statusInvalidParameter
		}
	} else if n, err = o.handle.WriteAt(m.Data, int64(m.Offset), m.Flags&message.WriteThrough != 0); err != nil {
		return nil, err
	}
	r.sess.traffic.Wrote(n)
	r.took = n
	return answer(&message.WriteResponse{Count: uint32(n)}), nil
}
