package message

// The messages by which clients ask where a share is that a server has a name for (MS-DFSC).

// mostReferred bytes of a path are read.
const mostReferred = 8 << 10

// ReferralRequest is REQ_GET_DFS_REFERRAL, MS-DFSC section 2.2.2.
type ReferralRequest struct {
	Level uint16 // the highest version of an answer that is understood
	Path  []byte // \SERVER\SHARE and perhaps what is below, in UTF-16
}

// Parse reads one.
func (m *ReferralRequest) Parse(b []byte) error {
	f := &fields{msg: b}
	*m = ReferralRequest{Level: f.u16()}
	if f.short {
		return ErrMalformed
	}
	path := b[2:]
	for i := 0; ; i += 2 {
		if i+2 > len(path) || i > mostReferred {
			return ErrMalformed
		}
		if path[i] == 0 && path[i+1] == 0 {
			m.Path = path[:i]
			return nil
		}
	}
}

// Append puts one.
func (m *ReferralRequest) Append(b []byte) []byte {
	return append(append(le.AppendUint16(b, m.Level), m.Path...), 0, 0)
}

// ReferralRequestEx is REQ_GET_DFS_REFERRAL_EX, MS-DFSC section 2.2.3, of which the site is not looked at.
type ReferralRequestEx struct{ ReferralRequest }

// Parse reads one.
func (m *ReferralRequestEx) Parse(b []byte) error {
	f := &fields{msg: b}
	*m = ReferralRequestEx{ReferralRequest{Level: f.u16()}}
	flags, length := f.u16(), f.u32()
	if f.short || flags&^1 != 0 || uint64(length) != uint64(len(b)-8) {
		return ErrMalformed
	}
	n := int(f.u16())
	if n > mostReferred {
		return ErrMalformed
	}
	if n > 0 {
		m.Path = f.take(n)
	}
	return f.err()
}

// Append puts one.
func (m *ReferralRequestEx) Append(b []byte) []byte {
	b = le.AppendUint16(le.AppendUint16(b, m.Level), 0)
	b = le.AppendUint32(b, uint32(2+len(m.Path)))
	return append(le.AppendUint16(b, uint16(len(m.Path))), m.Path...)
}

// Referral is RESP_GET_DFS_REFERRAL with one place, MS-DFSC sections 2.2.4 and 2.2.5.3: of version 3, or 4, which is laid out alike.
type Referral struct {
	Version  uint16 // 3 or 4
	Consumed uint16 // bytes of the path that the place stands for
	Seconds  uint32 // for how long it may be relied on
	Path     []byte // as it was asked for, in UTF-16
	Place    []byte // \SERVER\SHARE and perhaps what is below
}

const (
	referralHead  = 8
	referralEntry = 34
	holdsStorage  = 2 // of the header's flags: what is named holds files, and refers nowhere else
)

// Parse reads one.
func (m *Referral) Parse(b []byte) error {
	f := &fields{msg: b}
	*m = Referral{Consumed: f.u16()}
	count, flags := f.u16(), f.u32()
	m.Version = f.u16()
	size, kind, entry := f.u16(), f.u16(), f.u16()
	m.Seconds = f.u32()
	path, alternate, place := f.u16(), f.u16(), f.u16()
	f.skip(16)
	if f.short || count != 1 || flags != holdsStorage || m.Version != 3 && m.Version != 4 || size != referralEntry || kind != 0 || entry != 0 || alternate != path {
		return ErrMalformed
	}
	text := func(at uint16) []byte {
		rest := b[referralHead:]
		if int(at) > len(rest) {
			f.short = true
			return nil
		}
		rest = rest[at:]
		for i := 0; i+2 <= len(rest); i += 2 {
			if rest[i] == 0 && rest[i+1] == 0 {
				return rest[:i]
			}
		}
		f.short = true
		return nil
	}
	m.Path, m.Place = text(path), text(place)
	return f.err()
}

// Append puts one.
func (m *Referral) Append(b []byte) []byte {
	path := referralEntry
	place := path + len(m.Path) + 2
	b = le.AppendUint16(b, m.Consumed)
	b = le.AppendUint16(b, 1)
	b = le.AppendUint32(b, holdsStorage)
	for _, v := range []uint16{m.Version, referralEntry, 0, 0} {
		b = le.AppendUint16(b, v)
	}
	b = le.AppendUint32(b, m.Seconds)
	for _, v := range []int{path, path, place} {
		b = le.AppendUint16(b, uint16(v))
	}
	b = zeros(b, 16)
	b = append(append(b, m.Path...), 0, 0)
	return append(append(b, m.Place...), 0, 0)
}
