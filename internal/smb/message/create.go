package message

// CreateRequest is MS-SMB2 section 2.2.13.
type CreateRequest struct {
	Oplock        byte
	Impersonation uint32
	Access        uint32
	Attributes    uint32
	Sharing       uint32
	Disposition   uint32
	Options       uint32
	Name          []byte // a path, in UTF-16
	Contexts      []CreateContext
}

// Create options.
const (
	OptDirectory     = 0x00000001
	OptWriteThrough  = 0x00000002
	OptNotDirectory  = 0x00000040
	OptDeleteOnClose = 0x00001000
	OptOpenByID      = 0x00002000
	OptOpenLink      = 0x00200000 // a reparse point itself
)

// Parse reads one.
func (m *CreateRequest) Parse(msg []byte) error {
	f := bodyOf(msg, 57)
	f.skip(1)
	*m = CreateRequest{Oplock: f.u8(), Impersonation: f.u32()}
	f.skip(16)
	m.Access, m.Attributes, m.Sharing, m.Disposition, m.Options = f.u32(), f.u32(), f.u32(), f.u32(), f.u32()
	nameAt, nameLen := f.u16(), f.u16()
	contextsAt, contextsLen := f.u32(), f.u32()
	m.Name = f.part(uint32(nameAt), uint32(nameLen))
	m.Contexts = f.createContexts(f.part(contextsAt, contextsLen))
	return f.err()
}

// Append puts one.
func (m *CreateRequest) Append(b []byte) []byte {
	b = le.AppendUint16(b, 57)
	b = append(b, 0, m.Oplock)
	b = le.AppendUint32(b, m.Impersonation)
	b = zeros(b, 16)
	for _, v := range []uint32{m.Access, m.Attributes, m.Sharing, m.Disposition, m.Options} {
		b = le.AppendUint32(b, v)
	}
	b = le.AppendUint16(b, uint16(len(b)+12))
	b = le.AppendUint16(b, uint16(len(m.Name)))
	at := len(b)
	b = zeros(b, 8)
	b = append(b, m.Name...)
	if len(m.Name) == 0 {
		b = append(b, 0) // the buffer is never empty
	}
	if len(m.Contexts) > 0 {
		b = padded(b, 8)
		le.PutUint32(b[at:], uint32(len(b)))
		n := len(b)
		b = appendCreateContexts(b, m.Contexts)
		le.PutUint32(b[at+4:], uint32(len(b)-n))
	}
	return b
}

// CreateContext is one of MS-SMB2 section 2.2.13.2, or an answer to it of section 2.2.14.2.
type CreateContext struct {
	Name string // four letters, or a GUID's sixteen bytes
	Data []byte
}

// Names of contexts.
const (
	ContextMaximalAccess = "MxAc"
	ContextSecurity      = "SecD" // MS-SMB2 section 2.2.13.2.2: a descriptor for what is made
	ContextOnDiskID      = "QFid"
	ContextMoment        = "TWrp" // MS-SMB2 section 2.2.13.2.7
)

// Context gives the data of a context; false where it is not there.
func (m *CreateRequest) Context(name string) ([]byte, bool) {
	for _, c := range m.Contexts {
		if c.Name == name {
			return c.Data, true
		}
	}
	return nil, false
}

const contextHead = 16

func (f *fields) createContexts(b []byte) (out []CreateContext) {
	for len(b) > 0 {
		c := fields{msg: b}
		next := c.u32()
		nameAt, nameLen := c.u16(), c.u16()
		c.skip(2)
		dataAt, dataLen := c.u16(), c.u32()
		end := uint64(len(b))
		if next != 0 {
			end = uint64(next)
		}
		if c.short || len(out) == mostContexts || next%8 != 0 || end < contextHead || end > uint64(len(b)) ||
			uint64(nameAt)+uint64(nameLen) > end || dataLen > 0 && uint64(dataAt)+uint64(dataLen) > end {
			f.short = true
			return nil
		}
		one := CreateContext{Name: string(b[nameAt : uint32(nameAt)+uint32(nameLen)])}
		if dataLen > 0 {
			one.Data = b[dataAt : uint32(dataAt)+dataLen]
		}
		if out = append(out, one); next == 0 {
			break
		}
		b = b[next:]
	}
	return out
}

func appendCreateContexts(b []byte, contexts []CreateContext) []byte {
	for i, c := range contexts {
		start := len(b)
		b = le.AppendUint32(b, 0)
		b = le.AppendUint16(b, contextHead)
		b = le.AppendUint16(b, uint16(len(c.Name)))
		b = le.AppendUint16(b, 0)
		data := (contextHead + len(c.Name) + 7) &^ 7
		if len(c.Data) == 0 {
			data = 0
		}
		b = le.AppendUint16(b, uint16(data))
		b = le.AppendUint32(b, uint32(len(c.Data)))
		b = append(b, c.Name...)
		for len(c.Data) > 0 && len(b) < start+data {
			b = append(b, 0)
		}
		b = append(b, c.Data...)
		if i < len(contexts)-1 {
			b = zeros(b, (8-(len(b)-start)%8)%8)
			le.PutUint32(b[start:], uint32(len(b)-start))
		}
	}
	return b
}

// MaximalAccess answers ContextMaximalAccess: all that somebody may do, MS-SMB2 section 2.2.14.2.5.
func MaximalAccess(mask uint32) CreateContext {
	return CreateContext{ContextMaximalAccess, le.AppendUint32(make([]byte, 4, 8), mask)}
}

// OnDiskID answers ContextOnDiskID: the numbers of the file and of its volume, MS-SMB2 section 2.2.14.2.9.
func OnDiskID(file, volume uint64) CreateContext {
	return CreateContext{ContextOnDiskID, zeros(le.AppendUint64(le.AppendUint64(nil, file), volume), 16)}
}

// FileFacts are the times, sizes and attributes in the order that CREATE, CLOSE and FileNetworkOpenInformation share.
type FileFacts struct {
	Times
	Allocated  uint64
	Size       uint64
	Attributes uint32
}

// Times are those of a file, each a Filetime.
type Times struct{ Created, Accessed, Written, Changed uint64 }

func (t *Times) parse(f *fields) { *t = Times{f.u64(), f.u64(), f.u64(), f.u64()} }

func (t *Times) append(b []byte) []byte {
	for _, v := range []uint64{t.Created, t.Accessed, t.Written, t.Changed} {
		b = le.AppendUint64(b, v)
	}
	return b
}

func (m *FileFacts) parse(f *fields) {
	m.Times.parse(f)
	m.Allocated, m.Size, m.Attributes = f.u64(), f.u64(), f.u32()
}

func (m *FileFacts) append(b []byte) []byte {
	b = m.Times.append(b)
	b = le.AppendUint64(b, m.Allocated)
	b = le.AppendUint64(b, m.Size)
	return le.AppendUint32(b, m.Attributes)
}

// CreateResponse is MS-SMB2 section 2.2.14.
type CreateResponse struct {
	Oplock byte
	Flags  byte
	Action uint32
	FileFacts
	ID       FileID
	Contexts []CreateContext
}

// Parse reads one.
func (m *CreateResponse) Parse(msg []byte) error {
	f := bodyOf(msg, 89)
	*m = CreateResponse{Oplock: f.u8(), Flags: f.u8(), Action: f.u32()}
	m.FileFacts.parse(f)
	f.skip(4)
	m.ID = f.fileID()
	at, n := f.u32(), f.u32()
	m.Contexts = f.createContexts(f.part(at, n))
	return f.err()
}

// Append puts one.
func (m *CreateResponse) Append(b []byte) []byte {
	b = le.AppendUint16(b, 89)
	b = append(b, m.Oplock, m.Flags)
	b = le.AppendUint32(b, m.Action)
	b = m.FileFacts.append(b)
	b = le.AppendUint32(b, 0)
	b = m.ID.append(b)
	at := len(b)
	b = zeros(b, 8)
	if len(m.Contexts) > 0 {
		le.PutUint32(b[at:], uint32(len(b)))
		n := len(b)
		b = padded(appendCreateContexts(b, m.Contexts), 8)
		le.PutUint32(b[at+4:], uint32(len(b)-n))
	}
	return b
}

// CloseWantsFacts is the flag of CLOSE by which its answer has what is known of the file.
const CloseWantsFacts = 1

// CloseRequest is MS-SMB2 section 2.2.15.
type CloseRequest struct {
	Flags uint16
	ID    FileID
}

// Parse reads one.
func (m *CloseRequest) Parse(msg []byte) error {
	f := bodyOf(msg, 24)
	m.Flags = f.u16()
	f.skip(4)
	m.ID = f.fileID()
	return f.err()
}

// Append puts one.
func (m *CloseRequest) Append(b []byte) []byte {
	b = le.AppendUint16(b, 24)
	b = le.AppendUint16(b, m.Flags)
	b = le.AppendUint32(b, 0)
	return m.ID.append(b)
}

// CloseResponse is MS-SMB2 section 2.2.16.
type CloseResponse struct {
	Flags uint16
	FileFacts
}

// Parse reads one.
func (m *CloseResponse) Parse(msg []byte) error {
	f := bodyOf(msg, 60)
	m.Flags = f.u16()
	f.skip(4)
	m.FileFacts.parse(f)
	return f.err()
}

// Append puts one.
func (m *CloseResponse) Append(b []byte) []byte {
	b = le.AppendUint16(b, 60)
	b = le.AppendUint16(b, m.Flags)
	b = le.AppendUint32(b, 0)
	return m.FileFacts.append(b)
}

// FlushRequest is MS-SMB2 section 2.2.17.
type FlushRequest struct{ ID FileID }

// Parse reads one.
func (m *FlushRequest) Parse(msg []byte) error {
	f := bodyOf(msg, 24)
	f.skip(6)
	m.ID = f.fileID()
	return f.err()
}

// Append puts one.
func (m *FlushRequest) Append(b []byte) []byte {
	b = le.AppendUint16(b, 24)
	return m.ID.append(zeros(b, 6))
}

// ReadRequest is MS-SMB2 section 2.2.19.
type ReadRequest struct {
	Flags     byte
	Length    uint32
	Offset    uint64
	ID        FileID
	Minimum   uint32
	Channel   uint32
	Remaining uint32
}

// Parse reads one.
func (m *ReadRequest) Parse(msg []byte) error {
	f := bodyOf(msg, 49)
	f.skip(1)
	*m = ReadRequest{Flags: f.u8(), Length: f.u32(), Offset: f.u64(), ID: f.fileID(), Minimum: f.u32(), Channel: f.u32(), Remaining: f.u32()}
	f.skip(4)
	return f.err()
}

// Append puts one.
func (m *ReadRequest) Append(b []byte) []byte {
	b = le.AppendUint16(b, 49)
	b = append(b, 0, m.Flags)
	b = le.AppendUint32(b, m.Length)
	b = le.AppendUint64(b, m.Offset)
	b = m.ID.append(b)
	b = le.AppendUint32(b, m.Minimum)
	b = le.AppendUint32(b, m.Channel)
	b = le.AppendUint32(b, m.Remaining)
	return zeros(b, 5) // the buffer is never empty
}

// ReadResponse is MS-SMB2 section 2.2.20.
type ReadResponse struct {
	Data      []byte
	Remaining uint32
}

// ReadDataAt is where the data stand in a READ response. Data that stand there already are not moved by Append.
const ReadDataAt = HeaderSize + 16

// Parse reads one.
func (m *ReadResponse) Parse(msg []byte) error {
	f := bodyOf(msg, 17)
	offset := f.u8()
	f.skip(1)
	length := f.u32()
	m.Remaining = f.u32()
	f.skip(4)
	m.Data = f.part(uint32(offset), length)
	return f.err()
}

// Append puts one.
func (m *ReadResponse) Append(b []byte) []byte {
	b = le.AppendUint16(b, 17)
	b = append(b, byte(len(b)+14), 0)
	b = le.AppendUint32(b, uint32(len(m.Data)))
	b = le.AppendUint32(b, m.Remaining)
	b = le.AppendUint32(b, 0)
	if n := len(b); len(m.Data) > 0 && cap(b)-n >= len(m.Data) && &b[:n+1][n] == &m.Data[0] {
		return b[:n+len(m.Data)]
	}
	return append(b, m.Data...)
}

// WriteThrough is the flag of WRITE by which the answer waits for the disk.
const WriteThrough = 1

// WriteRequest is MS-SMB2 section 2.2.21.
type WriteRequest struct {
	Data      []byte
	Offset    uint64
	ID        FileID
	Channel   uint32
	Remaining uint32
	Flags     uint32
}

// Parse reads one.
func (m *WriteRequest) Parse(msg []byte) error {
	f := bodyOf(msg, 49)
	at, n := f.u16(), f.u32()
	*m = WriteRequest{Offset: f.u64(), ID: f.fileID(), Channel: f.u32(), Remaining: f.u32()}
	f.skip(4)
	m.Flags = f.u32()
	m.Data = f.part(uint32(at), n)
	return f.err()
}

// Append puts one.
func (m *WriteRequest) Append(b []byte) []byte {
	b = le.AppendUint16(b, 49)
	b = le.AppendUint16(b, uint16(len(b)+46))
	b = le.AppendUint32(b, uint32(len(m.Data)))
	b = le.AppendUint64(b, m.Offset)
	b = m.ID.append(b)
	b = le.AppendUint32(b, m.Channel)
	b = le.AppendUint32(b, m.Remaining)
	b = le.AppendUint32(b, 0)
	b = le.AppendUint32(b, m.Flags)
	return append(b, m.Data...)
}

// WriteResponse is MS-SMB2 section 2.2.22.
type WriteResponse struct {
	Count     uint32
	Remaining uint32
}

// Parse reads one.
func (m *WriteResponse) Parse(msg []byte) error {
	f := bodyOf(msg, 17)
	f.skip(2)
	m.Count, m.Remaining = f.u32(), f.u32()
	f.skip(4)
	return f.err()
}

// Append puts one.
func (m *WriteResponse) Append(b []byte) []byte {
	b = le.AppendUint16(b, 17)
	b = le.AppendUint16(b, 0)
	b = le.AppendUint32(b, m.Count)
	b = le.AppendUint32(b, m.Remaining)
	return le.AppendUint32(b, 0)
}

// Flags of a lock.
const (
	LockShared    = 0x1
	LockExclusive = 0x2
	Unlock        = 0x4
	LockFailNow   = 0x10
)

// LockElement is one range, MS-SMB2 section 2.2.26.1.
type LockElement struct {
	Offset, Length uint64
	Flags          uint32
}

// MostLocks is how many ranges one request may have.
const MostLocks = 64

// LockRequest is MS-SMB2 section 2.2.26.
type LockRequest struct {
	Sequence uint32
	ID       FileID
	Locks    []LockElement
}

// Parse reads one.
func (m *LockRequest) Parse(msg []byte) error {
	f := bodyOf(msg, 48)
	count := f.u16()
	*m = LockRequest{Sequence: f.u32(), ID: f.fileID()}
	if count == 0 || count > MostLocks {
		return ErrMalformed
	}
	for range count {
		m.Locks = append(m.Locks, LockElement{f.u64(), f.u64(), f.u32()})
		f.skip(4)
	}
	return f.err()
}

// Append puts one.
func (m *LockRequest) Append(b []byte) []byte {
	b = le.AppendUint16(b, 48)
	b = le.AppendUint16(b, uint16(len(m.Locks)))
	b = le.AppendUint32(b, m.Sequence)
	b = m.ID.append(b)
	for _, l := range m.Locks {
		b = le.AppendUint64(b, l.Offset)
		b = le.AppendUint64(b, l.Length)
		b = le.AppendUint32(b, l.Flags)
		b = le.AppendUint32(b, 0)
	}
	return b
}
