package smb

import (
	"encoding/binary"
	"regexp"
	"strings"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/smb/message"
)

// How much one request may have copied: what MS-SMB2 section 3.3.3 gives as the usual.
const (
	mostChunks = 256
	mostChunk  = 1 << 20
	mostCopied = 16 << 20
)

// mostExtents of a file are told at once.
const mostExtents = maxTransact / 16

// key is the one by which an open file is copied from: it says which of its session's it is, and is of no use in another.
func (o *open) key() (k message.ResumeKey) {
	binary.LittleEndian.PutUint64(k[:], o.id)
	return k
}

// fileOf finds the open file that a control code is about.
func (r *request) fileOf(m *message.IoctlRequest) (*open, error) {
	o, err := r.open(m.ID)
	if err == nil && o.handle == nil {
		err = statusInvalidDeviceRequest
	}
	return o, err
}

// resumeKey is FSCTL_SRV_REQUEST_RESUME_KEY, MS-SMB2 section 3.3.5.15.5.
func (r *request) resumeKey(o *open, m *message.IoctlRequest) (*reply, error) {
	k := o.key()
	out := k.Append(nil)
	if int(m.MaxOutput) < len(out) {
		return nil, statusInvalidParameter
	}
	return controlled(m, out), nil
}

// controlled answers a control code.
func controlled(m *message.IoctlRequest, out []byte) *reply {
	return answer(&message.IoctlResponse{Code: m.Code, ID: m.ID, Output: out})
}

// source is the open that a request reads from besides the one that it is about. It may be on another share that the session has, and what
// admits a request to its own share is asked of that one as well: an unencrypted request reads nothing from a share that requires encryption.
func (r *request) source(id uint64, missing error) (*open, error) {
	o := r.sess.find(id)
	switch {
	case o == nil || o.handle == nil:
		return nil, missing
	case !r.maySend(o.tree):
		return nil, statusAccessDenied
	}
	return o, nil
}

// copyChunks is FSCTL_SRV_COPYCHUNK and FSCTL_SRV_COPYCHUNK_WRITE, MS-SMB2 section 3.3.5.15.6. The source may be on another share that the
// session has.
func (r *request) copyChunks(o *open, m *message.IoctlRequest) (*reply, error) {
	var asked message.CopyChunks
	if int(m.MaxOutput) < 12 || asked.Parse(m.Input) != nil {
		return nil, statusInvalidParameter
	}
	source, err := r.source(binary.LittleEndian.Uint64(asked.Source[:]), statusObjectNameNotFound)
	if err != nil {
		return nil, err
	}
	if source.key() != asked.Source {
		return nil, statusObjectNameNotFound
	}
	if m.Code == fsctlCopyChunk && o.handle.Granted()&acl.ReadData == 0 {
		return nil, statusAccessDenied
	}
	most := message.CopiedChunks{Chunks: mostChunks, Part: mostChunk, Total: mostCopied}
	total, over := uint64(0), len(asked.Chunks) > mostChunks
	for _, c := range asked.Chunks {
		total += uint64(c.Length)
		over = over || c.Length == 0 || c.Length > mostChunk
	}
	if over || total > mostCopied {
		return controlled(m, most.Append(nil)), statusInvalidParameter
	}
	var did message.CopiedChunks
	if len(asked.Chunks) == 0 && r.sess.mac.Load() { // all of it
		n, err := o.handle.CopyWhole(r.c.ctx, source.handle)
		if err != nil {
			return nil, err
		}
		did.Total = uint32(min(n, 1<<32-1))
		return controlled(m, did.Append(nil)), nil
	}
	for _, c := range asked.Chunks {
		if c.From > 1<<62 || c.To > 1<<62 {
			return nil, statusInvalidParameter
		}
		n, err := o.handle.CopyFrom(source.handle, int64(c.To), int64(c.From), int(c.Length))
		did.Total += uint32(n)
		if err == nil && n < int(c.Length) {
			err = statusInvalidViewSize // the source ends before
		}
		if err != nil {
			return nil, err
		}
		did.Chunks++
	}
	return controlled(m, did.Append(nil)), nil
}

// shareExtent is FSCTL_DUPLICATE_EXTENTS_TO_FILE, MS-SMB2 section 3.3.5.15.16.
func (r *request) shareExtent(o *open, m *message.IoctlRequest) (*reply, error) {
	var asked message.SharedExtent
	const far = 1 << 62
	if asked.Parse(m.Input) != nil || asked.From > far || asked.To > far || asked.Length > far {
		return nil, statusInvalidParameter
	}
	source, err := r.source(asked.Source.Volatile, statusInvalidHandle)
	if err != nil {
		return nil, err
	}
	if err := o.handle.ShareFrom(source.handle, int64(asked.To), int64(asked.From), int64(asked.Length)); err != nil {
		return nil, err
	}
	return controlled(m, nil), nil
}

// zeroData is FSCTL_SET_ZERO_DATA, MS-FSA section 2.1.5.10.39.
func (r *request) zeroData(o *open, m *message.IoctlRequest) (*reply, error) {
	var asked message.Extent
	if asked.Parse(m.Input) != nil || asked.Offset > asked.Second || asked.Second > 1<<63-1 {
		return nil, statusInvalidParameter
	}
	if err := o.handle.Zero(int64(asked.Offset), int64(asked.Second)); err != nil {
		return nil, err
	}
	return controlled(m, nil), nil
}

// setSparse is FSCTL_SET_SPARSE, MS-FSA section 2.1.5.10.37: with nothing said, it is to be.
func (r *request) setSparse(o *open, m *message.IoctlRequest) (*reply, error) {
	if err := o.handle.SetSparse(len(m.Input) == 0 || m.Input[0] != 0); err != nil {
		return nil, err
	}
	return controlled(m, nil), nil
}

// allocatedRanges is FSCTL_QUERY_ALLOCATED_RANGES, MS-FSA section 2.1.5.10.22.
func (r *request) allocatedRanges(o *open, m *message.IoctlRequest) (*reply, error) {
	var asked message.Extent
	if asked.Parse(m.Input) != nil || asked.Offset > 1<<62 || asked.Second > 1<<62 {
		return nil, statusInvalidParameter
	}
	extents, more, err := o.handle.Allocated(int64(asked.Offset), int64(asked.Second), min(int(m.MaxOutput)/16, mostExtents))
	if err != nil {
		return nil, err
	}
	var out []byte
	for _, e := range extents {
		out = (&message.Extent{Offset: uint64(e.Offset), Second: uint64(e.Length)}).Append(out)
	}
	switch {
	case more && len(out) == 0:
		return nil, statusBufferTooSmall
	case more:
		return controlled(m, out), statusBufferOverflow
	}
	return controlled(m, out), nil
}

// snapshots is FSCTL_SRV_ENUMERATE_SNAPSHOTS, MS-SMB2 section 3.3.5.15.1: there are none yet.
func (r *request) snapshots(_ *open, m *message.IoctlRequest) (*reply, error) {
	if m.MaxOutput < 16 {
		return nil, statusInvalidParameter
	}
	out := (&message.Snapshots{}).Append(nil)
	return controlled(m, append(out, 0, 0, 0, 0)), nil // an array of nothing has its end
}

// fileControls are the control codes about an open file.
var fileControls = map[uint32]func(*request, *open, *message.IoctlRequest) (*reply, error){
	fsctlRequestResumeKey: (*request).resumeKey, fsctlCopyChunk: (*request).copyChunks, fsctlCopyChunkWrite: (*request).copyChunks,
	fsctlDuplicateExtents: (*request).shareExtent, fsctlSetZeroData: (*request).zeroData, fsctlSetSparse: (*request).setSparse,
	fsctlQueryAllocatedRanges: (*request).allocatedRanges, fsctlEnumerateSnapshots: (*request).snapshots,
	fsctlGetReparsePoint: (*request).getLink, fsctlSetReparsePoint: (*request).setLink,
}

// earlier is what names a file as it was at a moment, MS-SMB2 section 2.2.13 (and MS-SMB section 2.2.1.1.1): nothing is kept of what was.
var earlier = regexp.MustCompile(`(?i)^@gmt-\d{4}\.\d{2}\.\d{2}-\d{2}\.\d{2}\.\d{2}$`)

// asBefore says whether a create asks for something as it was at another moment: it is not there, and never something else in its place.
func asBefore(m *message.CreateRequest, path string) bool {
	if _, ok := m.Context(message.ContextMoment); ok {
		return true
	}
	if !strings.Contains(path, "@") { // most are not looked at twice
		return false
	}
	for n := range strings.SplitSeq(path, "/") {
		if earlier.MatchString(n) {
			return true
		}
	}
	return false
}
