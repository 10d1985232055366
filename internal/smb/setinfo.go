package smb

import (
	"amber.example/gatekeeper/internal/files"
)

// setInfo is MS-SMB2 section 3.3.5.21.
func (r *request) setInfo() (*reply, error) {
	if !r.body.fixed(33) {
		return nil, statusInvalidParameter
	}
	kind, class := r.body[2], r.body[3]
	data, ok := r.body.buffer(int(le.Uint16(r.body[8:])), int(le.Uint32(r.body[4:])))
	o, err := r.open(16)
	if err != nil {
		return nil, err
	}
	if !ok || !r.fits(len(data)) {
		return nil, statusInvalidParameter
	}
	const ofFile, ofQuota = 1, 4
	if o.handle != nil && kind == ofQuota {
		if err := r.setQuotaInfo(o, data); err != nil {
			return nil, err
		}
		return newReply(8).fixed(2, 2), nil
	}
	if o.handle == nil || kind != ofFile {
		return nil, statusNotSupported
	}
	if err := r.setFileInfo(o.handle, class, data); err != nil {
		return nil, err
	}
	return newReply(8).fixed(2, 2), nil
}

func (r *request) setFileInfo(h *files.Handle, class byte, b []byte) error {
	need := map[byte]int{fileBasicInfo: 40, fileRenameInfo: 20, fileDispositionInfo: 1, fileDispositionInfoEx: 4,
		fileAllocationInfo: 8, fileEndOfFileInfo: 8, filePositionInfo: 8, fileModeInfo: 4}
	n, known := need[class]
	switch {
	case class == 15: // FileFullEaInformation
		return statusEASNotSupported
	case !known:
		return statusInvalidInfoClass
	case len(b) < n:
		return statusInfoLengthMismatch
	}
	switch class {
	case fileBasicInfo:
		t := files.Times{Created: fromFiletime(le.Uint64(b)), Accessed: fromFiletime(le.Uint64(b[8:])), Modified: fromFiletime(le.Uint64(b[16:]))}
		if a := le.Uint32(b[32:]); a != 0 {
			if a&attrDirectory != 0 && !h.Dir() {
				return statusInvalidParameter
			}
			t.Attributes = &a
		}
		return h.SetBasic(t)
	case fileRenameInfo:
		length := int(le.Uint32(b[16:]))
		if le.Uint64(b[8:]) != 0 || length < 0 || length > len(b)-20 {
			return statusInvalidParameter
		}
		to, status := fromWire(b[20 : 20+length])
		if status != statusOK {
			return status
		}
		return h.Rename(r.c.ctx, to, b[0] != 0)
	case fileDispositionInfo:
		return h.SetDelete(b[0] != 0)
	case fileDispositionInfoEx:
		const remove, known = 0x1, 0x1 | 0x2 | 0x4 | 0x10 // with POSIX semantics, force image check, and past a read-only mark
		if le.Uint32(b)&^known != 0 {
			return statusNotSupported
		}
		return h.SetDelete(b[0]&remove != 0)
	case fileEndOfFileInfo:
		size := le.Uint64(b)
		if size > 1<<62 {
			return statusInvalidParameter
		}
		return h.Truncate(int64(size))
	case fileAllocationInfo:
		size := le.Uint64(b)
		info, err := h.Stat()
		if err != nil {
			return err
		}
		if size > 1<<62 {
			return statusInvalidParameter
		}
		if size >= uint64(info.Size) { // room is made as it is written, if there is any
			return h.MayGrow(int64(size))
		}
		return h.Truncate(int64(size))
	}
	return nil // position and mode are the client's own business over the network
}
