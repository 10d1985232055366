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

// Volume information classes, MS-FSCC section 2.5.
const (
	VolumeInfo         = 1
	VolumeSizeInfo     = 3
	VolumeDeviceInfo   = 4
	VolumeAttributes   = 5
	VolumeFullSizeInfo = 7
	VolumeSectorInfo   = 11
)

// Attributes of files, MS-FSCC section 2.6.
const (
	AttrDirectory = 0x10
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

const mostEntries = 4096

// entries reads a list in which each entry begins with how far the next is.
func entries(b []byte, each func(*fields)) error {
	for n := 0; len(b) > 0; n++ {
		f := &fields{msg: b}
		next := f.u32()
		if next != 0 {
			if uint64(next) > uint64(len(b)) || next < 4 {
				return ErrMalformed
			}
			f.msg = b[:next]
		}
		if each(f); f.short || n == mostEntries {
			return ErrMalformed
		}
		if next == 0 {
			return nil
		}
		b = b[next:]
	}
	return nil
}

// Entries builds a list in which each entry begins with how far the next is.
type Entries struct {
	b           []byte
	start, last int
	align       int
	some        bool
}

func (l *Entries) begin() {
	if l.some {
		l.b = zeros(l.b, (l.align-(len(l.b)-l.start)%l.align)%l.align)
		le.PutUint32(l.b[l.last:], uint32(len(l.b)-l.last))
	}
	l.last, l.some = len(l.b), true
	l.b = le.AppendUint32(l.b, 0)
}

// Bytes is the list so far.
func (l *Entries) Bytes() []byte { return l.b }

// DirectoryEntry is one name of a directory, in any of the classes that list names.
type DirectoryEntry struct {
	FileFacts
	File uint64 // its number
	Name []byte // in UTF-16
}

// layout is how an entry of a class is laid out after the facts: MS-FSCC sections 2.4.10, 2.4.14, 2.4.8, 2.4.17, 2.4.18 and 2.4.28.
type layout struct {
	gap  int  // bytes between the name's length and the number, or the name
	id   bool // a number follows
	bare bool // there are no facts
}

var layouts = map[byte]layout{
	FileDirectoryInfo: {}, FileFullDirectoryInfo: {gap: 4}, FileIDFullDirectoryInfo: {gap: 8, id: true},
	FileBothDirectoryInfo: {gap: 30}, FileIDBothDirectoryInfo: {gap: 32, id: true}, FileNamesInfo: {bare: true},
}

// ListsNames says whether a class is one of those that list names.
func ListsNames(class byte) bool {
	_, ok := layouts[class]
	return ok
}

// NewDirectory begins a list of names of a class that ListsNames.
func NewDirectory() *Entries { return &Entries{align: 8} }

// AddName adds a name, if it fits into so much room with what is there; else nothing is changed and it is false.
func (l *Entries) AddName(class byte, e *DirectoryEntry, room int) bool {
	y := layouts[class]
	before, last := len(l.b), l.last
	l.begin()
	l.b = le.AppendUint32(l.b, 0)
	if !y.bare {
		l.b = e.Times.append(l.b)
		l.b = le.AppendUint64(l.b, e.Size)
		l.b = le.AppendUint64(l.b, e.Allocated)
		l.b = le.AppendUint32(l.b, e.Attributes)
	}
	l.b = le.AppendUint32(l.b, uint32(len(e.Name)))
	l.b = zeros(l.b, y.gap)
	if y.id {
		l.b = le.AppendUint64(l.b, e.File)
	}
	l.b = append(l.b, e.Name...)
	if len(l.b) > room {
		l.b, l.last = l.b[:before], last
		if before > l.start {
			le.PutUint32(l.b[last:], 0)
		} else {
			l.some = false
		}
		return false
	}
	return true
}

// ParseDirectory reads a list of names of a class that ListsNames.
func ParseDirectory(class byte, b []byte) (out []DirectoryEntry, err error) {
	y := layouts[class]
	err = entries(b, func(f *fields) {
		var e DirectoryEntry
		f.skip(4)
		if !y.bare {
			e.Times.parse(f)
			e.Size, e.Allocated, e.Attributes = f.u64(), f.u64(), f.u32()
		}
		n := f.u32()
		if y.gap > 0 {
			f.skip(y.gap)
		}
		if y.id {
			e.File = f.u64()
		}
		if n > 0 {
			e.Name = f.take(int(min(n, 1<<20)))
		}
		out = append(out, e)
	})
	return out, err
}

// Actions of a Notification.
const (
	NotifyAdded = iota + 1
	NotifyRemoved
	NotifyModified
	NotifyOldName
	NotifyNewName
)

// Notification is one of FILE_NOTIFY_INFORMATION, MS-FSCC section 2.7.1.
type Notification struct {
	Action uint32
	Name   []byte
}

// Notifications is a list of them.
type Notifications []Notification

// Parse reads one.
func (m *Notifications) Parse(b []byte) error {
	*m = nil
	return entries(b, func(f *fields) { *m = append(*m, Notification{f.u32(), f.text()}) })
}

// Append puts one.
func (m *Notifications) Append(b []byte) []byte {
	l := Entries{b: b, start: len(b), align: 4}
	for _, n := range *m {
		l.begin()
		l.b = AppendText(le.AppendUint32(l.b, n.Action), n.Name)
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

// VolumeLabel is FileFsVolumeInformation, MS-FSCC section 2.5.9.
type VolumeLabel struct {
	Created uint64 // a Filetime
	Serial  uint32
	Label   []byte
}

// Parse reads one.
func (m *VolumeLabel) Parse(b []byte) error {
	f := &fields{msg: b}
	m.Created, m.Serial = f.u64(), f.u32()
	n := f.u32()
	f.skip(2)
	if m.Label = nil; n > 0 {
		m.Label = f.take(int(min(n, 1<<20)))
	}
	return f.err()
}

// Append puts one.
func (m *VolumeLabel) Append(b []byte) []byte {
	b = le.AppendUint32(le.AppendUint64(b, m.Created), m.Serial)
	b = le.AppendUint32(b, uint32(len(m.Label)))
	return append(append(b, 0, 0), m.Label...)
}

// VolumeSize is FileFsSizeInformation and, with Caller and Free apart, FileFsFullSizeInformation: MS-FSCC sections 2.5.8 and 2.5.4.
type VolumeSize struct {
	Total, Caller, Free   uint64 // units: of all, free to who asks, free at all
	SectorsPerUnit, Bytes uint32 // and bytes of a sector
}

// Append puts the short form.
func (m *VolumeSize) Append(b []byte) []byte {
	b = le.AppendUint64(le.AppendUint64(b, m.Total), m.Caller)
	return le.AppendUint32(le.AppendUint32(b, m.SectorsPerUnit), m.Bytes)
}

// AppendFull puts the full form.
func (m *VolumeSize) AppendFull(b []byte) []byte {
	b = le.AppendUint64(le.AppendUint64(le.AppendUint64(b, m.Total), m.Caller), m.Free)
	return le.AppendUint32(le.AppendUint32(b, m.SectorsPerUnit), m.Bytes)
}

// VolumeKind is FileFsAttributeInformation, MS-FSCC section 2.5.1.
type VolumeKind struct {
	Flags    uint32
	MostName uint32 // letters of a name
	Name     []byte
}

// What a volume can.
const (
	VolumePreservesCase = 0x2
	VolumeUnicode       = 0x4
	VolumeACLs          = 0x8
	VolumeQuotas        = 0x20
	VolumeSparse        = 0x40
	VolumeStreams       = 0x40000
)

// Parse reads one.
func (m *VolumeKind) Parse(b []byte) error {
	f := &fields{msg: b}
	m.Flags, m.MostName, m.Name = f.u32(), f.u32(), f.text()
	return f.err()
}

// Append puts one.
func (m *VolumeKind) Append(b []byte) []byte {
	return AppendText(le.AppendUint32(le.AppendUint32(b, m.Flags), m.MostName), m.Name)
}

// VolumeSectors is FileFsSectorSizeInformation, MS-FSCC section 2.5.7.
type VolumeSectors struct{ Logical, Physical uint32 }

// Append puts one.
func (m *VolumeSectors) Append(b []byte) []byte {
	b = le.AppendUint32(b, m.Logical)
	for range 3 {
		b = le.AppendUint32(b, m.Physical)
	}
	return zeros(b, 12)
}

// QuotaQuery is what a query of quotas asks about, MS-SMB2 section 2.2.37.1.
type QuotaQuery struct {
	Single, Restart bool
	SIDs            [][]byte // of whom; none is everybody
}

const (
	mostSIDs    = 1024 // asked about, or set, at once
	shortestSID = 8
	longestSID  = 68
)

// Parse reads one.
func (m *QuotaQuery) Parse(b []byte) error {
	f := &fields{msg: b}
	*m = QuotaQuery{Single: f.u8() != 0, Restart: f.u8() != 0}
	f.skip(2)
	listed, start := f.u32(), f.u32()
	f.skip(4)
	if start > 1<<31 || listed > uint32(len(f.rest())) {
		return ErrMalformed
	}
	if f.err() != nil || listed == 0 {
		return f.err()
	}
	return entries(f.rest()[:listed], func(f *fields) {
		n := f.u32()
		f.short = f.short || n < shortestSID || n > longestSID || len(m.SIDs) == mostSIDs
		m.SIDs = append(m.SIDs, f.take(int(n&127)))
	})
}

// Append puts one.
func (m *QuotaQuery) Append(b []byte) []byte {
	l := Entries{align: 4}
	for _, sid := range m.SIDs {
		l.begin()
		l.b = AppendText(l.b, sid)
	}
	b = append(b, bit(m.Single), bit(m.Restart), 0, 0)
	b = zeros(le.AppendUint32(b, uint32(len(l.b))), 8)
	return append(b, l.b...)
}

// Quota is one of FileQuotaInformation, MS-FSCC section 2.4.36.
type Quota struct {
	SID       []byte
	Used      uint64
	Threshold uint64 // NoQuota for no bound
	Limit     uint64
}

// NoQuota stands for no bound.
const NoQuota = ^uint64(0)

// Quotas is FileQuotaInformation.
type Quotas []Quota

// Parse reads one.
func (m *Quotas) Parse(b []byte) error {
	*m = nil
	return entries(b, func(f *fields) {
		n := f.u32()
		f.skip(8) // when it was changed
		q := Quota{Used: f.u64(), Threshold: f.u64(), Limit: f.u64()}
		f.short = f.short || n < shortestSID || n > longestSID || len(*m) == mostSIDs
		q.SID = f.take(int(n & 127))
		*m = append(*m, q)
	})
}

// Append puts one.
func (m *Quotas) Append(b []byte) []byte {
	l := Entries{b: b, start: len(b), align: 8}
	for i := range *m {
		l.AddQuota(&(*m)[i])
	}
	return l.b
}

// NewQuotas begins a list of quotas.
func NewQuotas() *Entries { return &Entries{align: 8} }

// QuotaSize is how much room a quota takes, with what has to lie before it.
func (l *Entries) QuotaSize(q *Quota) int { return (len(l.b)+7)&^7 - len(l.b) + 40 + len(q.SID) }

// AddQuota adds a quota.
func (l *Entries) AddQuota(q *Quota) {
	l.begin()
	l.b = le.AppendUint32(l.b, uint32(len(q.SID)))
	l.b = le.AppendUint64(l.b, 0)
	for _, v := range []uint64{q.Used, q.Threshold, q.Limit} {
		l.b = le.AppendUint64(l.b, v)
	}
	l.b = append(l.b, q.SID...)
}
