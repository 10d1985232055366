package message

// TagSymbolicLink is the reparse tag of symbolic links, MS-FSCC section 2.1.2.1.
const TagSymbolicLink = 0xa000000c

// SymbolicLink is what a symbolic link says, MS-FSCC section 2.1.2.4: SYMBOLIC_LINK_REPARSE_DATA_BUFFER.
type SymbolicLink struct {
	Target   []byte // where it leads, in UTF-16, with backslashes
	Shown    []byte // the same for people
	Relative bool   // to where the link is
}

const (
	linkRelative = 1
	linkTag      = 0x4c4d5953 // of section 2.2.2.2.1
	mostLink     = 16 << 10
)

// Parse reads one.
func (m *SymbolicLink) Parse(b []byte) error {
	*m = SymbolicLink{}
	f := &fields{msg: b}
	tag, length := f.u32(), f.u16()
	f.skip(2)
	if f.short || tag != TagSymbolicLink || int(length) != len(b)-8 {
		return ErrMalformed
	}
	return m.names(f)
}

// names reads what both forms of a link end with.
func (m *SymbolicLink) names(f *fields) error {
	at, n, shownAt, shown := f.u16(), f.u16(), f.u16(), f.u16()
	flags := f.u32()
	if f.short || flags&^linkRelative != 0 {
		return ErrMalformed
	}
	rest := f.msg[f.at:]
	part := func(at, n uint16) []byte {
		if int(at)+int(n) > len(rest) {
			f.short = true
			return nil
		}
		return rest[at : at+n]
	}
	m.Target, m.Shown, m.Relative = part(at, n), part(shownAt, shown), flags == linkRelative
	if len(m.Target)+len(m.Shown) > mostLink {
		return ErrMalformed
	}
	return f.err()
}

// Append puts one.
func (m *SymbolicLink) Append(b []byte) []byte {
	b = le.AppendUint32(b, TagSymbolicLink)
	b = le.AppendUint16(b, uint16(12+len(m.Target)+len(m.Shown)))
	b = le.AppendUint16(b, 0)
	return m.appendNames(b)
}

func (m *SymbolicLink) appendNames(b []byte) []byte {
	for _, n := range []int{0, len(m.Target), len(m.Target), len(m.Shown)} {
		b = le.AppendUint16(b, uint16(n))
	}
	b = le.AppendUint32(b, uint32(bit(m.Relative)))
	return append(append(b, m.Target...), m.Shown...)
}

// LinkMet is the data of an error by which a client is told that its path leads through a symbolic link, MS-SMB2 section 2.2.2.2.1.
type LinkMet struct {
	Unread uint16 // bytes of the path after the link
	SymbolicLink
}

// Parse reads one.
func (m *LinkMet) Parse(b []byte) error {
	*m = LinkMet{}
	f := &fields{msg: b}
	length, mark, tag, data := f.u32(), f.u32(), f.u32(), f.u16()
	m.Unread = f.u16()
	if f.short || mark != linkTag || tag != TagSymbolicLink || int64(length) != int64(len(b)-4) || int(data) != len(b)-16 {
		return ErrMalformed
	}
	return m.names(f)
}

// Append puts one.
func (m *LinkMet) Append(b []byte) []byte {
	n := 12 + len(m.Target) + len(m.Shown)
	b = le.AppendUint32(b, uint32(12+n))
	b = le.AppendUint32(b, linkTag)
	b = le.AppendUint32(b, TagSymbolicLink)
	b = le.AppendUint16(b, uint16(n))
	b = le.AppendUint16(b, m.Unread)
	return m.appendNames(b)
}

// Error is the answer that has it, with dialect 3.1.1 as a context of section 2.2.2.1.
func (m *LinkMet) Error(contexts bool) *ErrorResponse { return errorWith(m.Append(nil), contexts) }
