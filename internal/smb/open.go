package smb

import (
	"sync"
	"time"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/files"
)

// open is one file, directory or pipe that a session has open.
type open struct {
	id     uint64
	since  time.Time
	tree   *tree
	handle *files.Handle // nil for pipes
	pipe   *pipe         // nil for files

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

// Create options, MS-SMB2 section 2.2.13.
const (
	optDirectory     = 0x00000001
	optWriteThrough  = 0x00000002
	optNotDirectory  = 0x00000040
	optDeleteOnClose = 0x00001000
	optOpenByID      = 0x00002000

	attrDirectory = 0x10
	attrNormal    = 0x80
)

// genericAccess maps the generic rights of MS-DTYP section 2.4.3 to bits, and
// says whether the most there is was asked for.
func genericAccess(want uint32) (mask acl.Mask, maximum bool, status Status) {
	const (
		genericRead, genericWrite, genericExecute, genericAll = 0x80000000, 0x40000000, 0x20000000, 0x10000000
		maximumAllowed, systemSecurity                        = 0x02000000, 0x01000000
	)
	for _, g := range []struct {
		bit  uint32
		mask acl.Mask
	}{
		{genericRead, acl.ReadData | acl.ReadNamedAttrs | acl.ReadAttributes | acl.ReadACL | acl.Synchronize},
		{genericWrite, acl.WriteData | acl.AppendData | acl.WriteNamedAttrs | acl.WriteAttributes | acl.ReadACL | acl.Synchronize},
		{genericExecute, acl.Execute | acl.ReadAttributes | acl.ReadACL | acl.Synchronize}, {genericAll, acl.All},
	} {
		if want&g.bit != 0 {
			mask |= g.mask
			want &^= g.bit
		}
	}
	maximum = want&maximumAllowed != 0
	want &^= maximumAllowed
	if want&systemSecurity != 0 {
		return 0, false, statusPrivilegeNotHeld
	}
	mask |= acl.Mask(want)
	if mask&^acl.All != 0 || mask == 0 && !maximum {
		return 0, false, statusAccessDenied
	}
	return mask, maximum, statusOK
}

// create is MS-SMB2 section 3.3.5.9.
func (r *request) create() (*reply, error) {
	if !r.body.fixed(57) {
		return nil, statusInvalidParameter
	}
	b := r.body
	rawName, ok := b.buffer(int(le.Uint16(b[44:])), int(le.Uint16(b[46:])))
	if !ok {
		return nil, statusInvalidParameter
	}
	rawContexts, ok := b.buffer(int(le.Uint32(b[48:])), int(le.Uint32(b[52:])))
	if !ok {
		return nil, statusInvalidParameter
	}
	contexts, ok := createContexts(rawContexts)
	if !ok {
		return nil, statusInvalidParameter
	}
	if r.tree.pipes() {
		return r.createPipe(rawName)
	}
	path, status := fromWire(rawName)
	if status != statusOK {
		return nil, status
	}
	mask, maximum, status := genericAccess(le.Uint32(b[24:]))
	if status != statusOK {
		return nil, status
	}
	attributes, sharing, disposition, options := le.Uint32(b[28:]), le.Uint32(b[32:]), le.Uint32(b[36:]), le.Uint32(b[40:])
	switch {
	case disposition > uint32(files.OverwriteIf), sharing&^7 != 0, options&optDirectory != 0 && options&optNotDirectory != 0:
		return nil, statusInvalidParameter
	case options&optOpenByID != 0:
		return nil, statusNotSupported
	case options&optDeleteOnClose != 0 && mask&acl.Delete == 0 && !maximum:
		return nil, statusAccessDenied
	}
	h, action, err := r.c.srv.Files.Open(r.c.subject(r.sess.user), files.OpenRequest{
		Share: r.tree.share, Path: path, Access: mask, Maximum: maximum, Sharing: files.Sharing(sharing),
		Disposition: files.Disposition(disposition), Directory: options&optDirectory != 0, File: options&optNotDirectory != 0,
		DeleteOnClose: options&optDeleteOnClose != 0, WriteThrough: options&optWriteThrough != 0, Attributes: attributes,
	})
	if err != nil {
		r.c.log.Debug("open refused", "user", r.sess.name, "share", r.tree.share, "path", path, "reason", err.Error())
		return nil, err
	}
	o, status := r.keep(&open{handle: h})
	if status != statusOK {
		_ = h.Close()
		return nil, status
	}
	info, err := h.Stat()
	if err != nil {
		r.forget(o)
		return nil, err
	}
	rep := newReply(160).fixed(89, 88)
	le.PutUint32(rep.at(4), uint32(action))
	putInfo(rep.at(8), info)
	le.PutUint64(rep.at(64), o.id)
	le.PutUint64(rep.at(72), o.id)
	r.answerContexts(rep, contexts, h, info)
	return rep, nil
}

// keep enters what was opened into the session.
func (r *request) keep(o *open) (*open, Status) {
	o.id, o.tree, o.since = r.c.srv.nextID.Add(1), r.tree, time.Now()
	s := r.sess
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.closed || len(s.opens) >= maxOpens {
		return nil, statusInsufficientResources
	}
	s.opens[o.id] = o
	r.link.fileID, r.link.hasFile = o.id, true
	return o, statusOK
}

func (r *request) forget(o *open) { r.sess.drop(o) }

// putInfo writes the four times, the sizes and the attributes in the order that
// CREATE, CLOSE and FileNetworkOpenInformation share.
func putInfo(b []byte, i files.Info) {
	putTimes(b, i)
	le.PutUint64(b[32:], uint64(i.Allocated))
	le.PutUint64(b[40:], uint64(i.Size))
	le.PutUint32(b[48:], attributesOf(i))
}

func putTimes(b []byte, i files.Info) {
	le.PutUint64(b, filetime(i.Created))
	le.PutUint64(b[8:], filetime(i.Accessed))
	le.PutUint64(b[16:], filetime(i.Modified))
	le.PutUint64(b[24:], filetime(i.Changed))
}

func attributesOf(i files.Info) uint32 {
	a := i.Attributes
	if i.Dir {
		a |= attrDirectory
	}
	if a == 0 {
		a = attrNormal
	}
	return a
}

// createContexts reads those of MS-SMB2 section 2.2.13.2, by name.
func createContexts(b []byte) (map[string][]byte, bool) {
	out := make(map[string][]byte)
	for len(b) > 0 {
		if len(b) < 16 || len(out) > 32 {
			return nil, false
		}
		next := int(le.Uint32(b))
		nameAt, nameLen := int(le.Uint16(b[4:])), int(le.Uint16(b[6:]))
		dataAt, dataLen := int(le.Uint16(b[10:])), int(le.Uint32(b[12:]))
		end := len(b)
		if next != 0 {
			if next%8 != 0 || next < 16 || next > len(b) {
				return nil, false
			}
			end = next
		}
		if nameAt+nameLen > end || dataLen < 0 || dataLen > end || dataAt > end-dataLen {
			return nil, false
		}
		out[string(b[nameAt:nameAt+nameLen])] = b[dataAt : dataAt+dataLen]
		if next == 0 {
			break
		}
		b = b[next:]
	}
	return out, true
}

// answerContexts answers the contexts that are understood: the most access there
// is, and the file's number on disk. The rest may be ignored, and are.
func (r *request) answerContexts(rep *reply, asked map[string][]byte, h *files.Handle, info files.Info) {
	var out []byte
	last := 0
	add := func(name string, data []byte) {
		if len(out) > 0 {
			le.PutUint32(out[last:], uint32(len(out)-last))
		}
		last = len(out)
		out = append(out, make([]byte, 24)...)
		c := out[last:]
		le.PutUint16(c[4:], 16)
		le.PutUint16(c[6:], 4)
		le.PutUint16(c[10:], 24)
		le.PutUint32(c[12:], uint32(len(data)))
		copy(c[16:], name)
		out = append(out, data...)
		for len(out)%8 != 0 {
			out = append(out, 0)
		}
	}
	if _, ok := asked["MxAc"]; ok {
		data := make([]byte, 8)
		le.PutUint32(data[4:], uint32(h.Maximum()))
		add("MxAc", data)
	}
	if _, ok := asked["QFid"]; ok {
		data := make([]byte, 32)
		le.PutUint64(data, info.Inode)
		le.PutUint64(data[8:], info.Device)
		add("QFid", data)
	}
	if len(out) == 0 {
		return
	}
	le.PutUint32(rep.at(80), headerSize+88)
	le.PutUint32(rep.at(84), uint32(len(out)))
	rep.b = append(rep.b, out...)
}

// close is MS-SMB2 section 3.3.5.10.
func (r *request) close() (*reply, error) {
	if !r.body.fixed(24) {
		return nil, statusInvalidParameter
	}
	const wantInfo = 1
	flags := le.Uint16(r.body[2:])
	o, err := r.open(8)
	if err != nil {
		return nil, err
	}
	rep := newReply(64).fixed(60, 60)
	if flags&wantInfo != 0 && o.handle != nil {
		if info, err := o.handle.Stat(); err == nil {
			le.PutUint16(rep.at(2), wantInfo)
			putInfo(rep.at(8), info)
		}
	}
	r.forget(o)
	return rep, nil
}

func (r *request) flush() (*reply, error) {
	if !r.body.fixed(24) {
		return nil, statusInvalidParameter
	}
	o, err := r.open(8)
	if err != nil {
		return nil, err
	}
	if o.handle != nil {
		if err := o.handle.Flush(); err != nil {
			return nil, err
		}
	}
	return newReply(8).fixed(4, 4), nil
}

// read is MS-SMB2 section 3.3.5.12.
func (r *request) read() (*reply, error) {
	if !r.body.fixed(49) {
		return nil, statusInvalidParameter
	}
	length, offset, minimum := int(le.Uint32(r.body[4:])), le.Uint64(r.body[8:]), int(le.Uint32(r.body[32:]))
	o, err := r.open(16)
	if err != nil {
		return nil, err
	}
	if !r.fits(length) || offset > 1<<62 {
		return nil, statusInvalidParameter
	}
	const fixed = 16
	if o.pipe != nil {
		data, status := o.pipe.read(length)
		rep := newReply(fixed+len(data)).fixed(17, fixed)
		rep.at(2)[0] = headerSize + fixed
		le.PutUint32(rep.at(4), uint32(len(data)))
		rep.b = append(rep.b, data...)
		if status != statusOK && status != statusBufferOverflow {
			return nil, status
		}
		return rep, maybe(status)
	}
	buf := r.c.buffer(headerSize + fixed + length)
	if buf == nil {
		return nil, statusInsufficientResources
	}
	clear(buf.b[:headerSize+fixed])
	n, err := o.handle.ReadAt(buf.b[headerSize+fixed:], int64(offset))
	r.sess.traffic.Read(n)
	r.gave = n
	if err == nil && n < max(minimum, 1) && length > 0 {
		err = statusEndOfFile
	}
	if err != nil {
		buf.release()
		return nil, err
	}
	rep := &reply{b: buf.b[:headerSize+fixed+n], buf: buf}
	le.PutUint16(rep.at(0), 17)
	rep.at(2)[0] = headerSize + fixed
	le.PutUint32(rep.at(4), uint32(n))
	return rep, nil
}

// maybe is nil for success, so that a status can be returned as an error.
func maybe(s Status) error {
	if s == statusOK {
		return nil
	}
	return s
}

// write is MS-SMB2 section 3.3.5.13.
func (r *request) write() (*reply, error) {
	if !r.body.fixed(49) {
		return nil, statusInvalidParameter
	}
	const writeThrough = 1
	length, offset, flags := int(le.Uint32(r.body[4:])), le.Uint64(r.body[8:]), le.Uint32(r.body[44:])
	o, err := r.open(16)
	if err != nil {
		return nil, err
	}
	data, ok := r.body.buffer(int(le.Uint16(r.body[2:])), length)
	if !ok || !r.fits(length) || offset > 1<<62 {
		return nil, statusInvalidParameter
	}
	n := length
	if o.pipe != nil {
		if err := o.pipe.write(data); err != nil {
			return nil, statusInvalidParameter
		}
	} else if n, err = o.handle.WriteAt(data, int64(offset), flags&writeThrough != 0); err != nil {
		return nil, err
	}
	r.sess.traffic.Wrote(n)
	r.took = n
	rep := newReply(16).fixed(17, 16)
	le.PutUint32(rep.at(4), uint32(n))
	return rep, nil
}
