package smb

import (
	"cmp"
	"slices"
	"strings"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/files"
)

// File information classes, MS-FSCC section 2.4.
const (
	fileDirectoryInfo       = 1
	fileFullDirectoryInfo   = 2
	fileBothDirectoryInfo   = 3
	fileBasicInfo           = 4
	fileStandardInfo        = 5
	fileInternalInfo        = 6
	fileEaInfo              = 7
	fileAccessInfo          = 8
	fileRenameInfo          = 10
	fileNamesInfo           = 12
	fileDispositionInfo     = 13
	filePositionInfo        = 14
	fileModeInfo            = 16
	fileAlignmentInfo       = 17
	fileAllInfo             = 18
	fileAllocationInfo      = 19
	fileEndOfFileInfo       = 20
	fileAlternateNameInfo   = 21
	fileStreamInfo          = 22
	fileNetworkOpenInfo     = 34
	fileAttributeTagInfo    = 35
	fileIDBothDirectoryInfo = 37
	fileIDFullDirectoryInfo = 38
	fileNormalizedNameInfo  = 48
	fileIDInfo              = 59
	fileDispositionInfoEx   = 64
)

// queryInfo is MS-SMB2 section 3.3.5.20.
func (r *request) queryInfo() (*reply, error) {
	if !r.body.fixed(41) {
		return nil, statusInvalidParameter
	}
	kind, class, size := r.body[2], r.body[3], int(le.Uint32(r.body[4:]))
	o, err := r.open(24)
	if err != nil {
		return nil, err
	}
	if !r.fits(size) {
		return nil, statusInvalidParameter
	}
	if o.handle == nil {
		return nil, statusInvalidInfoClass
	}
	const (
		ofFile, ofVolume, ofSecurity, ofQuota = 1, 2, 3, 4
	)
	var data []byte
	var least int // what must fit; the rest may be cut off, with a warning
	switch kind {
	case ofFile:
		data, least, err = r.fileInfo(o, class)
	case ofVolume:
		data, least, err = r.volumeInfo(o, class)
	case ofSecurity:
		return nil, statusNotSupported
	case ofQuota:
		input, ok := r.body.buffer(int(le.Uint16(r.body[8:])), int(le.Uint32(r.body[12:])))
		if !ok {
			return nil, statusInvalidParameter
		}
		data, err = r.quotaInfo(o, input, size)
	default:
		return nil, statusInvalidParameter
	}
	if err != nil {
		return nil, err
	}
	status := statusOK
	if size < least {
		return nil, statusInfoLengthMismatch
	}
	if len(data) > size {
		data, status = data[:size], statusBufferOverflow
	}
	return withBuffer(data), maybe(status)
}

// withBuffer is the response body that QUERY_INFO, QUERY_DIRECTORY and
// CHANGE_NOTIFY share.
func withBuffer(data []byte) *reply {
	rep := newReply(8+len(data)).fixed(9, 8)
	le.PutUint16(rep.at(2), headerSize+8)
	le.PutUint32(rep.at(4), uint32(len(data)))
	rep.b = append(rep.b, data...)
	return rep
}

func (r *request) fileInfo(o *open, class byte) (data []byte, least int, err error) {
	h := o.handle
	var need acl.Mask
	switch class { // those that take FILE_READ_ATTRIBUTES, MS-SMB2 section 3.3.5.20.1
	case fileBasicInfo, fileAllInfo, fileNetworkOpenInfo, fileAttributeTagInfo:
		need = acl.ReadAttributes
	}
	info, err := h.StatChecked(need)
	if err != nil {
		return nil, 0, err
	}
	fixed := func(n int, fill func(b []byte)) ([]byte, int, error) {
		b := make([]byte, n)
		if fill != nil {
			fill(b)
		}
		return b, n, nil
	}
	switch class {
	case fileBasicInfo:
		return fixed(40, func(b []byte) { putBasic(b, info) })
	case fileStandardInfo:
		return fixed(24, func(b []byte) { putStandard(b, info, h.DeletePending()) })
	case fileInternalInfo:
		return fixed(8, func(b []byte) { le.PutUint64(b, info.Inode) })
	case fileEaInfo, fileModeInfo, fileAlignmentInfo:
		return fixed(4, nil)
	case fileAccessInfo:
		return fixed(4, func(b []byte) { le.PutUint32(b, uint32(h.Granted())) })
	case filePositionInfo:
		return fixed(8, nil)
	case fileAllInfo: // MS-FSCC section 2.4.2
		b := make([]byte, 96)
		putBasic(b, info)
		putStandard(b[40:], info, h.DeletePending())
		le.PutUint64(b[64:], info.Inode)
		le.PutUint32(b[76:], uint32(h.Granted()))
		return appendName(b, `\`+wirePath(h.Path())), 100, nil
	case fileNormalizedNameInfo:
		return appendName(nil, wirePath(h.Path())), 4, nil
	case fileAlternateNameInfo:
		return nil, 0, statusObjectNameNotFound // no 8.3 names are made
	case fileStreamInfo:
		if info.Dir {
			return nil, 0, nil
		}
		name := utf16le("::$DATA")
		b := make([]byte, 24, 24+len(name))
		le.PutUint32(b[4:], uint32(len(name)))
		le.PutUint64(b[8:], uint64(info.Size))
		le.PutUint64(b[16:], uint64(info.Allocated))
		return append(b, name...), 24, nil
	case fileNetworkOpenInfo:
		return fixed(56, func(b []byte) { putInfo(b, info) })
	case fileAttributeTagInfo:
		return fixed(8, func(b []byte) { le.PutUint32(b, attributesOf(info)) })
	case fileIDInfo:
		return fixed(24, func(b []byte) { le.PutUint64(b, info.Device); le.PutUint64(b[8:], info.Inode) })
	}
	return nil, 0, statusInvalidInfoClass
}

func putBasic(b []byte, i files.Info) {
	putTimes(b, i)
	le.PutUint32(b[32:], attributesOf(i))
}

func putStandard(b []byte, i files.Info, pending bool) {
	le.PutUint64(b, uint64(i.Allocated))
	le.PutUint64(b[8:], uint64(i.Size))
	le.PutUint32(b[16:], i.Links)
	b[20], b[21] = bit(pending), bit(i.Dir)
}

func bit(on bool) byte {
	if on {
		return 1
	}
	return 0
}

func appendName(b []byte, name string) []byte {
	raw := utf16le(name)
	b = le.AppendUint32(b, uint32(len(raw)))
	return append(b, raw...)
}

func wirePath(path string) string {
	parts := strings.Split(path, "/")
	for i := range parts {
		parts[i] = toWire(parts[i])
	}
	return strings.Join(parts, `\`)
}

// volumeInfo answers the classes of MS-FSCC section 2.5.
func (r *request) volumeInfo(o *open, class byte) ([]byte, int, error) {
	info, err := o.handle.StatChecked(0)
	if err != nil {
		return nil, 0, err
	}
	space, err := r.c.srv.Files.Space(r.subject(), o.tree.share)
	if err != nil {
		return nil, 0, err
	}
	const sector = 512
	perUnit := max(space.BlockSize/sector, 1)
	unit := perUnit * sector
	switch class {
	case 1: // FileFsVolumeInformation
		label := utf16le(o.tree.share)
		b := make([]byte, 18, 18+len(label))
		le.PutUint64(b, filetime(r.c.srv.started))
		le.PutUint32(b[8:], uint32(info.Device))
		le.PutUint32(b[12:], uint32(len(label)))
		return append(b, label...), 18, nil
	case 3: // FileFsSizeInformation
		b := make([]byte, 24)
		le.PutUint64(b, space.Total/unit)
		le.PutUint64(b[8:], space.Available/unit)
		le.PutUint32(b[16:], uint32(perUnit))
		le.PutUint32(b[20:], sector)
		return b, 24, nil
	case 4: // FileFsDeviceInformation: a disk, mounted
		b := make([]byte, 8)
		le.PutUint32(b, 7)
		le.PutUint32(b[4:], 0x20)
		return b, 8, nil
	case 5: // FileFsAttributeInformation: case preserved, Unicode
		const preservesCase, unicodeOnDisk, quotas = 0x2, 0x4, 0x20
		name := utf16le("NTFS") // the one name that clients take to mean large files and long names
		b := make([]byte, 12, 12+len(name))
		le.PutUint32(b, preservesCase|unicodeOnDisk|quotas)
		le.PutUint32(b[4:], 255)
		le.PutUint32(b[8:], uint32(len(name)))
		return append(b, name...), 12, nil
	case 7: // FileFsFullSizeInformation
		b := make([]byte, 32)
		le.PutUint64(b, space.Total/unit)
		le.PutUint64(b[8:], space.Available/unit)
		le.PutUint64(b[16:], space.OnVolume/unit)
		le.PutUint32(b[24:], uint32(perUnit))
		le.PutUint32(b[28:], sector)
		return b, 32, nil
	case 11: // FileFsSectorSizeInformation
		b := make([]byte, 28)
		for at := 0; at < 16; at += 4 {
			le.PutUint32(b[at:], uint32(unit))
		}
		le.PutUint32(b, sector)
		return b, 28, nil
	}
	return nil, 0, statusInvalidInfoClass
}

// listing is how the entries of a directory are laid out in one class.
type listing struct {
	name  int // where the name's length stands
	fixed int // where the name begins
	id    int // where the file's number stands; 0 for nowhere
}

var listings = map[byte]listing{
	fileDirectoryInfo: {60, 64, 0}, fileFullDirectoryInfo: {60, 68, 0}, fileIDFullDirectoryInfo: {60, 80, 72},
	fileBothDirectoryInfo: {60, 94, 0}, fileIDBothDirectoryInfo: {60, 104, 96}, fileNamesInfo: {8, 12, 0},
}

// queryDirectory is MS-SMB2 section 3.3.5.18.
func (r *request) queryDirectory() (*reply, error) {
	if !r.body.fixed(33) {
		return nil, statusInvalidParameter
	}
	class, flags, size := r.body[2], r.body[3], int(le.Uint32(r.body[28:]))
	o, err := r.open(8)
	if err != nil {
		return nil, err
	}
	if o.handle == nil || !o.handle.Dir() {
		return nil, statusInvalidParameter
	}
	layout, ok := listings[class]
	if !ok {
		return nil, statusInvalidInfoClass
	}
	raw, ok := r.body.buffer(int(le.Uint16(r.body[24:])), int(le.Uint16(r.body[26:])))
	if !ok || !r.fits(size) {
		return nil, statusInvalidParameter
	}
	text, ok := fromUTF16(raw)
	if !ok || strings.ContainsAny(text, "\\/\x00") {
		return nil, statusObjectNameInvalid
	}
	wanted, ok := newMask(cmp.Or(text, "*"))
	if !ok {
		return nil, statusObjectNameInvalid
	}
	const restart, single, reopen = 1, 2, 16
	o.search.Lock()
	defer o.search.Unlock()
	first := !o.begun || flags&reopen != 0
	if flags&(restart|reopen) != 0 || !o.begun {
		names, err := o.handle.Names()
		if err != nil {
			return nil, err
		}
		if o.begun && flags&reopen == 0 {
			wanted = o.mask
		}
		kept := 0
		for _, name := range names {
			kept += len(name) + 16 // and where it is
		}
		if !o.room.take(r.c, kept) {
			return nil, statusInsufficientResources
		}
		slices.Sort(names)
		o.names = append([]string{".", ".."}, names...)
		o.mask, o.next, o.begun = wanted, 0, true
	} else if _, err := o.handle.StatChecked(acl.ListDirectory); err != nil {
		return nil, err // the rules have changed since it began
	}
	out, err := r.list(o, layout, size, flags&single != 0)
	if err != nil {
		return nil, err
	}
	if o.next >= len(o.names) { // that was all
		o.names, o.next = nil, 0
		o.room.give()
	}
	if len(out) == 0 {
		if first {
			return nil, statusNoSuchFile
		}
		return nil, statusNoMoreFiles
	}
	return withBuffer(out), nil
}

func (r *request) list(o *open, layout listing, size int, single bool) ([]byte, error) {
	var out []byte
	last := -1
	for ; o.next < len(o.names); o.next++ {
		name := o.names[o.next]
		wire := toWire(name)
		if !o.mask.match(wire) {
			continue
		}
		entry, ok := r.look(o, name)
		if !ok {
			continue
		}
		raw := utf16le(wire)
		start := (len(out) + 7) &^ 7
		if start+layout.fixed+len(raw) > size {
			if last < 0 {
				return nil, statusInfoLengthMismatch
			}
			break
		}
		out = append(out, make([]byte, start-len(out)+layout.fixed)...)
		b := out[start:]
		if layout.name == 60 {
			putTimes(b[8:], entry)
			le.PutUint64(b[40:], uint64(entry.Size))
			le.PutUint64(b[48:], uint64(entry.Allocated))
			le.PutUint32(b[56:], attributesOf(entry))
		}
		le.PutUint32(b[layout.name:], uint32(len(raw)))
		if layout.id != 0 {
			le.PutUint64(b[layout.id:], entry.Inode)
		}
		out = append(out, raw...)
		if last >= 0 {
			le.PutUint32(out[last:], uint32(start-last))
		}
		last = start
		if single {
			o.next++
			break
		}
	}
	return out, nil
}

func (r *request) look(o *open, name string) (files.Info, bool) {
	var info files.Info
	var err error
	switch name {
	case ".":
		info, err = o.handle.Stat()
	case "..":
		info, err = o.handle.Parent()
	default:
		e, ok := o.handle.Look(name)
		return e.Info, ok
	}
	return info, err == nil
}
