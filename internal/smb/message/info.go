package message

// File information classes, MS-FSCC section 2.4.
const (
	FileDirectoryInfo       = 1
	FileFullDirectoryInfo   = 2
	FileBothDirectoryInfo   = 3
	FileBasicInfo           = 4
	FileStandardInfo        = 5
	FileInternalInfo        = 6
	FileEaInfo              = 7
	FileAccessInfo          = 8
	FileRenameInfo          = 10
	FileNamesInfo           = 12
	FileDispositionInfo     = 13
	FilePositionInfo        = 14
	FileFullEaInfo          = 15
	FileModeInfo            = 16
	FileAlignmentInfo       = 17
	FileAllInfo             = 18
	FileAllocationInfo      = 19
	FileEndOfFileInfo       = 20
	FileAlternateNameInfo   = 21
	FileStreamInfo          = 22
	FileNetworkOpenInfo     = 34
	FileAttributeTagInfo    = 35
	FileIDBothDirectoryInfo = 37
	FileIDFullDirectoryInfo = 38
	FileNormalizedNameInfo  = 48
	FileIDInfo              = 59
	FileDispositionInfoEx   = 64
)

// Attributes of files, MS-FSCC section 2.6.
const (
	AttrDirectory = 0x10
	AttrReparse   = 0x400
	AttrNormal    = 0x80
)

// Of a part that has no structure size, Parse takes the information alone.

// BasicInfo is FileBasicInformation, MS-FSCC section 2.4.7.
type BasicInfo struct {
	Times
	Attributes uint32
}

// Parse reads one.
func (m *BasicInfo) Parse(b []byte) error {
	f := &fields{msg: b}
	m.Times.parse(f)
	m.Attributes = f.u32()
	f.skip(4)
	return f.err()
}

// Append puts one.
func (m *BasicInfo) Append(b []byte) []byte {
	return le.AppendUint32(le.AppendUint32(m.Times.append(b), m.Attributes), 0)
}

// StandardInfo is FileStandardInformation, MS-FSCC section 2.4.47.
type StandardInfo struct {
	Allocated, Size uint64
	Links           uint32
	DeletePending   bool
	Directory       bool
}

// Parse reads one.
func (m *StandardInfo) Parse(b []byte) error {
	f := &fields{msg: b}
	*m = StandardInfo{f.u64(), f.u64(), f.u32(), f.u8() != 0, f.u8() != 0}
	f.skip(2)
	return f.err()
}

// Append puts one.
func (m *StandardInfo) Append(b []byte) []byte {
	b = le.AppendUint64(b, m.Allocated)
	b = le.AppendUint64(b, m.Size)
	b = le.AppendUint32(b, m.Links)
	return append(b, bit(m.DeletePending), bit(m.Directory), 0, 0)
}

func bit(on bool) byte {
	if on {
		return 1
	}
	return 0
}

// AllInfo is FileAllInformation, MS-FSCC section 2.4.2.
type AllInfo struct {
	BasicInfo
	StandardInfo
	File   uint64 // its number
	Access uint32
	Name   []byte
}

// AllInfoLeast is how much room it takes at least.
const AllInfoLeast = 100

// Parse reads one.
func (m *AllInfo) Parse(b []byte) error {
	*m = AllInfo{}
	if len(b) < AllInfoLeast {
		return ErrMalformed
	}
	_ = m.BasicInfo.Parse(b)
	_ = m.StandardInfo.Parse(b[40:])
	f := &fields{msg: b, at: 64}
	m.File = f.u64()
	f.skip(4)
	m.Access = f.u32()
	f.skip(16)
	m.Name = f.text()
	return f.err()
}

// Append puts one.
func (m *AllInfo) Append(b []byte) []byte {
	b = m.BasicInfo.Append(b)
	b = m.StandardInfo.Append(b)
	b = le.AppendUint64(b, m.File)
	b = le.AppendUint32(b, 0) // of extended attributes
	b = le.AppendUint32(b, m.Access)
	b = zeros(b, 16) // position, mode, alignment
	return AppendText(b, m.Name)
}

// AppendText puts how long a text is, and the text.
func AppendText(b, text []byte) []byte {
	return append(le.AppendUint32(b, uint32(len(text))), text...)
}

func (f *fields) text() []byte {
	n := f.u32()
	if n > uint32(len(f.msg)) || n == 0 {
		f.short = f.short || n != 0
		return nil
	}
	return f.take(int(n))
}

// NetworkOpenInfo is FileNetworkOpenInformation, MS-FSCC section 2.4.33.
type NetworkOpenInfo struct{ FileFacts }

// Parse reads one.
func (m *NetworkOpenInfo) Parse(b []byte) error {
	f := &fields{msg: b}
	m.FileFacts.parse(f)
	f.skip(4)
	return f.err()
}

// Append puts one.
func (m *NetworkOpenInfo) Append(b []byte) []byte { return le.AppendUint32(m.FileFacts.append(b), 0) }

// Stream is one of FileStreamInformation, MS-FSCC section 2.4.49.
type Stream struct {
	Name            []byte // with its colons, in UTF-16
	Size, Allocated uint64
}

// StreamLeast is how much room one takes at least.
const StreamLeast = 24

// Streams is FileStreamInformation.
type Streams []Stream

// Parse reads one.
func (m *Streams) Parse(b []byte) error {
	*m = nil
	return entries(b, func(f *fields) {
		n := f.u32()
		s := Stream{Size: f.u64(), Allocated: f.u64()}
		if n > 0 {
			s.Name = f.take(int(min(n, 1<<20)))
		}
		*m = append(*m, s)
	})
}

// Append puts one.
func (m *Streams) Append(b []byte) []byte {
	l := Entries{b: b, start: len(b), align: 8}
	for _, s := range *m {
		l.begin()
		l.b = le.AppendUint32(l.b, uint32(len(s.Name)))
		l.b = le.AppendUint64(l.b, s.Size)
		l.b = le.AppendUint64(l.b, s.Allocated)
		l.b = append(l.b, s.Name...)
	}
	return l.b
}

// RenameInfo is FileRenameInformation, MS-FSCC section 2.4.37.2.
type RenameInfo struct {
	Replace bool
	Root    uint64
	Name    []byte
}

// Parse reads one.
func (m *RenameInfo) Parse(b []byte) error {
	f := &fields{msg: b}
	m.Replace = f.u8() != 0
	f.skip(7)
	m.Root, m.Name = f.u64(), f.text()
	return f.err()
}

// Append puts one.
func (m *RenameInfo) Append(b []byte) []byte {
	b = zeros(append(b, bit(m.Replace)), 7)
	return AppendText(le.AppendUint64(b, m.Root), m.Name)
}

// Number8 is the information that is one number of eight bytes: FileInternalInformation, FileEndOfFileInformation,
// FileAllocationInformation and FilePositionInformation, MS-FSCC sections 2.4.26, 2.4.13, 2.4.4 and 2.4.40.
type Number8 uint64

// Parse reads one.
func (m *Number8) Parse(b []byte) error {
	f := &fields{msg: b}
	*m = Number8(f.u64())
	return f.err()
}

// Append puts one.
func (m *Number8) Append(b []byte) []byte { return le.AppendUint64(b, uint64(*m)) }

// Number4 is the information that is one number of four bytes: FileEaInformation, FileAccessInformation, FileModeInformation,
// FileAlignmentInformation and FileDispositionInformationEx, MS-FSCC sections 2.4.12, 2.4.1, 2.4.31, 2.4.3 and 2.4.11.1.
type Number4 uint32

// Parse reads one.
func (m *Number4) Parse(b []byte) error {
	f := &fields{msg: b}
	*m = Number4(f.u32())
	return f.err()
}

// Append puts one.
func (m *Number4) Append(b []byte) []byte { return le.AppendUint32(b, uint32(*m)) }

// AttributeTagInfo is FileAttributeTagInformation, MS-FSCC section 2.4.6.
type AttributeTagInfo struct{ Attributes, ReparseTag uint32 }

// Parse reads one.
func (m *AttributeTagInfo) Parse(b []byte) error {
	f := &fields{msg: b}
	m.Attributes, m.ReparseTag = f.u32(), f.u32()
	return f.err()
}

// Append puts one.
func (m *AttributeTagInfo) Append(b []byte) []byte {
	return le.AppendUint32(le.AppendUint32(b, m.Attributes), m.ReparseTag)
}

// IDInfo is FileIdInformation, MS-FSCC section 2.4.27.
type IDInfo struct {
	Volume uint64
	File   [16]byte
}

// Parse reads one.
func (m *IDInfo) Parse(b []byte) error {
	f := &fields{msg: b}
	m.Volume, m.File = f.u64(), f.guid()
	return f.err()
}

// Append puts one.
func (m *IDInfo) Append(b []byte) []byte { return append(le.AppendUint64(b, m.Volume), m.File[:]...) }
