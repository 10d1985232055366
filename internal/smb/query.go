package smb

import (
	"cmp"
	"slices"
	"strings"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/smb/message"
)

// queryInfo is MS-SMB2 section 3.3.5.20.
func (r *request) queryInfo(m *message.QueryInfoRequest) (*reply, error) {
	o, err := r.open(m.ID)
	if err != nil {
		return nil, err
	}
	size := int(m.Room)
	if !r.fits(size) {
		return nil, statusInvalidParameter
	}
	if o.handle == nil {
		return nil, statusInvalidInfoClass
	}
	var data []byte
	var least int // what must fit; the rest may be cut off, with a warning
	switch m.About {
	case message.AboutFile:
		data, least, err = r.fileInfo(o, m.Class)
	case message.AboutVolume:
		data, least, err = r.volumeInfo(o, m.Class)
	case message.AboutSecurity:
		return r.securityInfo(o, m)
	case message.AboutQuota:
		data, err = r.quotaInfo(o, m.Input, size)
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
	return answer(&message.DataResponse{Data: data}), maybe(status)
}

func (r *request) fileInfo(o *open, class byte) (data []byte, least int, err error) {
	h := o.handle
	var need acl.Mask
	switch class { // those that take FILE_READ_ATTRIBUTES, MS-SMB2 section 3.3.5.20.1
	case message.FileBasicInfo, message.FileAllInfo, message.FileNetworkOpenInfo, message.FileAttributeTagInfo:
		need = acl.ReadAttributes
	}
	info, err := h.StatChecked(need)
	if err != nil {
		return nil, 0, err
	}
	fixed := func(m interface{ Append([]byte) []byte }) ([]byte, int, error) {
		b := m.Append(nil)
		return b, len(b), nil
	}
	switch class {
	case message.FileBasicInfo:
		return fixed(new(basicOf(info)))
	case message.FileStandardInfo:
		return fixed(new(standardOf(info, h)))
	case message.FileInternalInfo:
		return fixed(new(message.Number8(info.Inode)))
	case message.FileEaInfo, message.FileModeInfo, message.FileAlignmentInfo:
		return fixed(new(message.Number4))
	case message.FileAccessInfo:
		return fixed(new(message.Number4(h.Granted())))
	case message.FilePositionInfo:
		return fixed(new(message.Number8))
	case message.FileAllInfo:
		all := message.AllInfo{BasicInfo: basicOf(info), StandardInfo: standardOf(info, h), File: info.Inode, Access: uint32(h.Granted()),
			Name: message.UTF16(`\` + wireName(h))}
		return all.Append(nil), message.AllInfoLeast, nil
	case message.FileNormalizedNameInfo:
		return message.AppendText(nil, message.UTF16(wireName(h))), 4, nil
	case message.FileAlternateNameInfo:
		return nil, 0, statusObjectNameNotFound // no 8.3 names are made
	case message.FileStreamInfo:
		streams, err := streamsOf(h)
		if err != nil || len(streams) == 0 {
			return nil, 0, err
		}
		return streams.Append(nil), message.StreamLeast, nil
	case message.FileNetworkOpenInfo:
		return fixed(&message.NetworkOpenInfo{FileFacts: factsOf(info)})
	case message.FileAttributeTagInfo:
		return fixed(&message.AttributeTagInfo{Attributes: attributesOf(info), ReparseTag: tagOf(info)})
	case message.FileIDInfo:
		id := message.IDInfo{Volume: info.Device}
		le.PutUint64(id.File[:], info.Inode)
		return fixed(&id)
	}
	return nil, 0, statusInvalidInfoClass
}

func basicOf(i files.Info) message.BasicInfo {
	return message.BasicInfo{Times: timesOf(i), Attributes: attributesOf(i)}
}

func standardOf(i files.Info, h *files.Handle) message.StandardInfo {
	return message.StandardInfo{Allocated: uint64(i.Allocated), Size: uint64(i.Size), Links: i.Links, DeletePending: h.DeletePending(), Directory: i.Dir}
}

// streamsOf lists what an object has for contents: a file's own first, and its named streams.
func streamsOf(h *files.Handle) (out message.Streams, err error) {
	object, err := h.Object()
	if err != nil {
		return nil, err
	}
	if !object.Dir {
		out = append(out, message.Stream{Name: message.UTF16("::$DATA"), Size: uint64(object.Size), Allocated: uint64(object.Allocated)})
	}
	named, err := h.Streams()
	for _, s := range named {
		out = append(out, message.Stream{Name: message.UTF16(":" + s.Name + ":$DATA"), Size: uint64(s.Size), Allocated: uint64(s.Allocated)})
	}
	return out, err
}

// wireName is what a handle is open on, as clients spell it.
func wireName(h *files.Handle) string {
	name := wirePath(h.Path())
	if s := h.Stream(); s != "" {
		name += ":" + s
	}
	return name
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
	const sector, leastLabel, leastKind = 512, 18, 12
	perUnit := max(space.BlockSize/sector, 1)
	unit := perUnit * sector
	size := message.VolumeSize{Total: space.Total / unit, Caller: space.Available / unit, Free: space.OnVolume / unit,
		SectorsPerUnit: uint32(perUnit), Bytes: sector}
	var b []byte
	switch class {
	case message.VolumeInfo:
		m := message.VolumeLabel{Created: message.Filetime(r.c.srv.started), Serial: uint32(info.Device), Label: message.UTF16(o.tree.share)}
		return m.Append(nil), leastLabel, nil
	case message.VolumeAttributes:
		// The one name that clients take to mean large files and long names.
		m := message.VolumeKind{Flags: message.VolumePreservesCase | message.VolumeUnicode | message.VolumeACLs | message.VolumeQuotas | message.VolumeSparse |
			message.VolumeStreams,
			MostName: 255, Name: message.UTF16("NTFS")}
		if sh := r.c.srv.Policy().ShareNamed(o.tree.share); sh != nil && sh.ShowLinks {
			m.Flags |= message.VolumeLinks
		}
		if space.SharesBlocks {
			m.Flags |= message.VolumeSharesBlocks
		}
		return m.Append(nil), leastKind, nil
	case message.VolumeSizeInfo:
		b = size.Append(nil)
	case message.VolumeFullSizeInfo:
		b = size.AppendFull(nil)
	case message.VolumeDeviceInfo:
		const disk, mounted = 7, 0x20
		b = le.AppendUint32(le.AppendUint32(nil, disk), mounted)
	case message.VolumeSectorInfo:
		b = (&message.VolumeSectors{Logical: sector, Physical: uint32(unit)}).Append(nil)
	default:
		return nil, 0, statusInvalidInfoClass
	}
	return b, len(b), nil
}

// queryDirectory is MS-SMB2 section 3.3.5.18.
func (r *request) queryDirectory(m *message.QueryDirectoryRequest) (*reply, error) {
	o, err := r.open(m.ID)
	if err != nil {
		return nil, err
	}
	if o.handle == nil || !o.handle.Dir() {
		return nil, statusInvalidParameter
	}
	if !message.ListsNames(m.Class) {
		return nil, statusInvalidInfoClass
	}
	if !r.fits(int(m.Room)) {
		return nil, statusInvalidParameter
	}
	text, ok := message.Text(m.Pattern)
	if !ok || strings.ContainsAny(text, "\\/\x00") {
		return nil, statusObjectNameInvalid
	}
	wanted, ok := newMask(cmp.Or(text, "*"))
	if !ok {
		return nil, statusObjectNameInvalid
	}
	reopen := m.Flags&message.DirReopen != 0
	o.search.Lock()
	defer o.search.Unlock()
	first := !o.begun || reopen
	if m.Flags&message.DirRestart != 0 || first {
		if o.begun && !reopen {
			wanted = o.mask
		}
		names, err := o.matching(wanted)
		if err != nil {
			return nil, err
		}
		kept := 0
		for _, name := range names {
			kept += len(name) + 16 // and where it is
		}
		if !o.room.take(r.c, kept) {
			return nil, statusInsufficientResources
		}
		o.names = names
		o.mask, o.next, o.begun = wanted, 0, true
	} else if _, err := o.handle.StatChecked(acl.ListDirectory); err != nil {
		return nil, err // the rules have changed since it began
	}
	out, err := r.list(o, m)
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
	return answer(&message.DataResponse{Data: out}), nil
}

// matching gives the names in a directory among which those are that a mask wants: all there are, or, where it is a name, the one that it means.
// Nothing else is read then, however many there are.
func (o *open) matching(wanted *mask) ([]string, error) {
	if wanted.plain && wanted.text != "." && wanted.text != ".." {
		if name, status := fromWire(message.UTF16(wanted.text)); status == statusOK {
			return o.handle.Named(name)
		}
	}
	names, err := o.handle.Names()
	if err != nil {
		return nil, err
	}
	slices.Sort(names)
	return append([]string{".", ".."}, names...), nil
}

func (r *request) list(o *open, m *message.QueryDirectoryRequest) ([]byte, error) {
	out := message.NewDirectory()
	for ; o.next < len(o.names); o.next++ {
		name := o.names[o.next]
		wire := toWire(name)
		if !o.mask.match(wire) {
			continue
		}
		info, ok := r.look(o, name)
		if !ok {
			continue
		}
		if !out.AddName(m.Class, &message.DirectoryEntry{FileFacts: factsOf(info), File: info.Inode, Tag: tagOf(info), Name: message.UTF16(wire)}, int(m.Room)) {
			if len(out.Bytes()) == 0 {
				return nil, statusInfoLengthMismatch
			}
			break
		}
		if m.Flags&message.DirSingle != 0 {
			o.next++
			break
		}
	}
	return out.Bytes(), nil
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
