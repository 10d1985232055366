package smb

import (
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/smb/message"
)

// setInfo is MS-SMB2 section 3.3.5.21.
func (r *request) setInfo(m *message.SetInfoRequest) (*reply, error) {
	o, err := r.open(m.ID)
	if err != nil {
		return nil, err
	}
	if !r.fits(len(m.Data)) {
		return nil, statusInvalidParameter
	}
	switch {
	case o.handle == nil:
		err = statusNotSupported
	case m.About == message.AboutFile:
		err = r.setFileInfo(o.handle, m.Class, m.Data)
		switch m.Class {
		case message.FileRenameInfo, message.FileDispositionInfo, message.FileDispositionInfoEx:
			o.changed()
		}
	case m.About == message.AboutSecurity:
		err = r.setSecurity(o, m)
	case m.About == message.AboutQuota:
		err = r.setQuotaInfo(o, m.Data)
	default:
		err = statusNotSupported
	}
	if err != nil {
		return nil, err
	}
	return answer(&message.SetInfoResponse{}), nil
}

func (r *request) setFileInfo(h *files.Handle, class byte, b []byte) error {
	switch class {
	case message.FileFullEaInfo:
		return statusEASNotSupported
	case message.FileBasicInfo:
		var m message.BasicInfo
		if m.Parse(b) != nil {
			return statusInfoLengthMismatch
		}
		t := files.Times{Created: message.Time(m.Created), Accessed: message.Time(m.Accessed), Modified: message.Time(m.Written)}
		if m.Attributes != 0 {
			if m.Attributes&message.AttrDirectory != 0 && !h.Dir() {
				return statusInvalidParameter
			}
			t.Attributes = &m.Attributes
		}
		return h.SetBasic(t, r.c.ctx.Done())
	case message.FileRenameInfo:
		var m message.RenameInfo
		switch {
		case len(b) < 20:
			return statusInfoLengthMismatch
		case m.Parse(b) != nil, m.Root != 0:
			return statusInvalidParameter
		}
		to, stream, status := withStream(m.Name)
		switch {
		case status != statusOK:
			return status
		case h.Stream() != "" && to == "" && stream != "":
			return h.RenameStream(stream, m.Replace)
		case h.Stream() != "" || stream != "": // a stream stays with its file, and a file's contents are not one of its named streams
			return statusInvalidParameter
		}
		return h.Rename(r.c.ctx, to, m.Replace)
	case message.FileDispositionInfo:
		if len(b) < 1 {
			return statusInfoLengthMismatch
		}
		return r.setDelete(h, b[0] != 0)
	case message.FileDispositionInfoEx:
		const remove, known = 0x1, 0x1 | 0x2 | 0x4 | 0x10 // with POSIX semantics, force image check, and past a read-only mark
		var m message.Number4
		if m.Parse(b) != nil {
			return statusInfoLengthMismatch
		}
		if m&^known != 0 {
			return statusNotSupported
		}
		return r.setDelete(h, m&remove != 0)
	case message.FileEndOfFileInfo, message.FileAllocationInfo, message.FilePositionInfo:
		var m message.Number8
		if m.Parse(b) != nil {
			return statusInfoLengthMismatch
		}
		return setSize(h, class, uint64(m))
	case message.FileModeInfo: // the client's own business over the network, as its position is
		var m message.Number4
		if m.Parse(b) != nil {
			return statusInfoLengthMismatch
		}
		return nil
	}
	return statusInvalidInfoClass
}

// setDelete has something be deleted when it is closed: first others close what they have open for their caches alone.
func (r *request) setDelete(h *files.Handle, on bool) error {
	if on && !h.GiveBack(files.CacheHandle, r.c.ctx.Done()) {
		return statusCancelled
	}
	return h.SetDelete(on)
}

func setSize(h *files.Handle, class byte, size uint64) error {
	if class == message.FilePositionInfo {
		return nil
	}
	if size > 1<<62 {
		return statusInvalidParameter
	}
	if class == message.FileAllocationInfo {
		info, err := h.Stat()
		if err != nil {
			return err
		}
		if size >= uint64(info.Size) { // room is made as it is written, if there is any
			return h.MayGrow(int64(size))
		}
	}
	return h.Truncate(int64(size))
}
