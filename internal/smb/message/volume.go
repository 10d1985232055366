package message

// Volume information classes, MS-FSCC section 2.5.
const (
	VolumeInfo         = 1
	VolumeSizeInfo     = 3
	VolumeDeviceInfo   = 4
	VolumeAttributes   = 5
	VolumeFullSizeInfo = 7
	VolumeSectorInfo   = 11
)

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
	VolumeLinks         = 0x80
	VolumeStreams       = 0x40000
	VolumeSharesBlocks  = 0x08000000
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
