package message

// QueryDirectoryRequest is MS-SMB2 section 2.2.33.
type QueryDirectoryRequest struct {
	Class   byte
	Flags   byte
	Index   uint32
	ID      FileID
	Pattern []byte // in UTF-16
	Room    uint32 // for the answer, bytes
}

// Flags of QUERY_DIRECTORY.
const (
	DirRestart = 0x01
	DirSingle  = 0x02
	DirReopen  = 0x10
)

// Parse reads one.
func (m *QueryDirectoryRequest) Parse(msg []byte) error {
	f := bodyOf(msg, 33)
	*m = QueryDirectoryRequest{Class: f.u8(), Flags: f.u8(), Index: f.u32(), ID: f.fileID()}
	at, n := f.u16(), f.u16()
	m.Room = f.u32()
	m.Pattern = f.part(uint32(at), uint32(n))
	return f.err()
}

// Append puts one.
func (m *QueryDirectoryRequest) Append(b []byte) []byte {
	b = le.AppendUint16(b, 33)
	b = append(b, m.Class, m.Flags)
	b = le.AppendUint32(b, m.Index)
	b = m.ID.append(b)
	b = le.AppendUint16(b, uint16(len(b)+8))
	b = le.AppendUint16(b, uint16(len(m.Pattern)))
	b = le.AppendUint32(b, m.Room)
	return append(b, m.Pattern...)
}

// DataResponse has a structure size of 9 and what was asked for: it is the response to QUERY_DIRECTORY, CHANGE_NOTIFY and QUERY_INFO, MS-SMB2
// sections 2.2.34, 2.2.36 and 2.2.38.
type DataResponse struct{ Data []byte }

// Parse reads one.
func (m *DataResponse) Parse(msg []byte) error {
	f := bodyOf(msg, 9)
	at, n := f.u16(), f.u32()
	m.Data = f.part(uint32(at), n)
	return f.err()
}

// Append puts one.
func (m *DataResponse) Append(b []byte) []byte {
	b = le.AppendUint16(b, 9)
	b = le.AppendUint16(b, uint16(len(b)+6))
	b = le.AppendUint32(b, uint32(len(m.Data)))
	return append(b, m.Data...)
}

// WatchTree is the flag of CHANGE_NOTIFY by which all below is watched.
const WatchTree = 1

// ChangeNotifyRequest is MS-SMB2 section 2.2.35.
type ChangeNotifyRequest struct {
	Flags  uint16
	Room   uint32
	ID     FileID
	Filter uint32
}

// Parse reads one.
func (m *ChangeNotifyRequest) Parse(msg []byte) error {
	f := bodyOf(msg, 32)
	*m = ChangeNotifyRequest{Flags: f.u16(), Room: f.u32(), ID: f.fileID(), Filter: f.u32()}
	f.skip(4)
	return f.err()
}

// Append puts one.
func (m *ChangeNotifyRequest) Append(b []byte) []byte {
	b = le.AppendUint16(b, 32)
	b = le.AppendUint16(b, m.Flags)
	b = le.AppendUint32(b, m.Room)
	b = m.ID.append(b)
	b = le.AppendUint32(b, m.Filter)
	return le.AppendUint32(b, 0)
}

// What QUERY_INFO and SET_INFO are about.
const (
	AboutFile     = 1
	AboutVolume   = 2
	AboutSecurity = 3
	AboutQuota    = 4
)

// Parts of a security descriptor, which QUERY_INFO asks for and SET_INFO sets: MS-DTYP section 2.4.7.
const (
	PartOwner = 0x1
	PartGroup = 0x2
	PartDACL  = 0x4
	PartSACL  = 0x8
	PartLabel = 0x10

	PartUnprotected = 0x20000000
	PartProtected   = 0x80000000
)

// QueryInfoRequest is MS-SMB2 section 2.2.37.
type QueryInfoRequest struct {
	About      byte
	Class      byte
	Room       uint32
	Additional uint32
	Flags      uint32
	ID         FileID
	Input      []byte
}

// Parse reads one.
func (m *QueryInfoRequest) Parse(msg []byte) error {
	f := bodyOf(msg, 41)
	*m = QueryInfoRequest{About: f.u8(), Class: f.u8(), Room: f.u32()}
	at := f.u16()
	f.skip(2)
	n := f.u32()
	m.Additional, m.Flags, m.ID = f.u32(), f.u32(), f.fileID()
	m.Input = f.part(uint32(at), n)
	return f.err()
}

// Append puts one.
func (m *QueryInfoRequest) Append(b []byte) []byte {
	b = le.AppendUint16(b, 41)
	b = append(b, m.About, m.Class)
	b = le.AppendUint32(b, m.Room)
	b = le.AppendUint16(b, uint16(len(b)+32))
	b = le.AppendUint16(b, 0)
	b = le.AppendUint32(b, uint32(len(m.Input)))
	b = le.AppendUint32(b, m.Additional)
	b = le.AppendUint32(b, m.Flags)
	b = m.ID.append(b)
	return append(b, m.Input...)
}

// SetInfoRequest is MS-SMB2 section 2.2.39.
type SetInfoRequest struct {
	About      byte
	Class      byte
	Additional uint32
	ID         FileID
	Data       []byte
}

// Parse reads one.
func (m *SetInfoRequest) Parse(msg []byte) error {
	f := bodyOf(msg, 33)
	*m = SetInfoRequest{About: f.u8(), Class: f.u8()}
	n, at := f.u32(), f.u16()
	f.skip(2)
	m.Additional, m.ID = f.u32(), f.fileID()
	m.Data = f.part(uint32(at), n)
	return f.err()
}

// Append puts one.
func (m *SetInfoRequest) Append(b []byte) []byte {
	b = le.AppendUint16(b, 33)
	b = append(b, m.About, m.Class)
	b = le.AppendUint32(b, uint32(len(m.Data)))
	b = le.AppendUint16(b, uint16(len(b)+24))
	b = le.AppendUint16(b, 0)
	b = le.AppendUint32(b, m.Additional)
	b = m.ID.append(b)
	return append(b, m.Data...)
}

// SetInfoResponse is MS-SMB2 section 2.2.40.
type SetInfoResponse struct{}

// Parse reads one.
func (m *SetInfoResponse) Parse(msg []byte) error { return bodyOf(msg, 2).err() }

// Append puts one.
func (m *SetInfoResponse) Append(b []byte) []byte { return append(b, 2, 0) }

// IoctlIsFSCTL is the flag that all requests of IOCTL have.
const IoctlIsFSCTL = 1

// IoctlRequest is MS-SMB2 section 2.2.31.
type IoctlRequest struct {
	Code      uint32
	ID        FileID
	Input     []byte
	MaxInput  uint32
	MaxOutput uint32
	Flags     uint32
}

// Parse reads one.
func (m *IoctlRequest) Parse(msg []byte) error {
	f := bodyOf(msg, 57)
	f.skip(2)
	*m = IoctlRequest{Code: f.u32(), ID: f.fileID()}
	at, n := f.u32(), f.u32()
	m.MaxInput = f.u32()
	f.skip(8)
	m.MaxOutput, m.Flags = f.u32(), f.u32()
	f.skip(4)
	m.Input = f.part(at, n)
	return f.err()
}

// Append puts one.
func (m *IoctlRequest) Append(b []byte) []byte {
	b = le.AppendUint16(b, 57)
	b = le.AppendUint16(b, 0)
	b = le.AppendUint32(b, m.Code)
	b = m.ID.append(b)
	b = le.AppendUint32(b, uint32(len(b)+32))
	b = le.AppendUint32(b, uint32(len(m.Input)))
	b = le.AppendUint32(b, m.MaxInput)
	b = le.AppendUint64(b, 0)
	b = le.AppendUint32(b, m.MaxOutput)
	b = le.AppendUint32(b, m.Flags)
	b = le.AppendUint32(b, 0)
	return append(b, m.Input...)
}

// IoctlResponse is MS-SMB2 section 2.2.32.
type IoctlResponse struct {
	Code   uint32
	ID     FileID
	Output []byte
	Flags  uint32
}

// Parse reads one.
func (m *IoctlResponse) Parse(msg []byte) error {
	f := bodyOf(msg, 49)
	f.skip(2)
	*m = IoctlResponse{Code: f.u32(), ID: f.fileID()}
	f.skip(8)
	at, n := f.u32(), f.u32()
	m.Flags = f.u32()
	f.skip(4)
	m.Output = f.part(at, n)
	return f.err()
}

// Append puts one.
func (m *IoctlResponse) Append(b []byte) []byte {
	b = le.AppendUint16(b, 49)
	b = le.AppendUint16(b, 0)
	b = le.AppendUint32(b, m.Code)
	b = m.ID.append(b)
	at := uint32(len(b) + 24)
	b = le.AppendUint32(b, at)
	b = le.AppendUint32(b, 0)
	b = le.AppendUint32(b, at)
	b = le.AppendUint32(b, uint32(len(m.Output)))
	b = le.AppendUint32(b, m.Flags)
	b = le.AppendUint32(b, 0)
	return append(b, m.Output...)
}

// ValidateNegotiateRequest is the input of FSCTL_VALIDATE_NEGOTIATE_INFO, MS-SMB2 section 2.2.31.4: what a client said first.
type ValidateNegotiateRequest struct {
	Capabilities uint32
	ClientGUID   [16]byte
	SecurityMode uint16
	Dialects     []uint16
}

// Parse reads one.
func (m *ValidateNegotiateRequest) Parse(input []byte) error {
	f := &fields{msg: input}
	*m = ValidateNegotiateRequest{Capabilities: f.u32(), ClientGUID: f.guid(), SecurityMode: f.u16()}
	count := f.u16()
	if count > mostDialects {
		return ErrMalformed
	}
	for range count {
		m.Dialects = append(m.Dialects, f.u16())
	}
	return f.err()
}

// Append puts one.
func (m *ValidateNegotiateRequest) Append(b []byte) []byte {
	b = le.AppendUint32(b, m.Capabilities)
	b = append(b, m.ClientGUID[:]...)
	b = le.AppendUint16(b, m.SecurityMode)
	b = le.AppendUint16(b, uint16(len(m.Dialects)))
	for _, d := range m.Dialects {
		b = le.AppendUint16(b, d)
	}
	return b
}

// ValidateNegotiateResponse is its output, MS-SMB2 section 2.2.32.6.
type ValidateNegotiateResponse struct {
	Capabilities uint32
	ServerGUID   [16]byte
	SecurityMode uint16
	Dialect      uint16
}

// Parse reads one.
func (m *ValidateNegotiateResponse) Parse(output []byte) error {
	f := &fields{msg: output}
	*m = ValidateNegotiateResponse{f.u32(), f.guid(), f.u16(), f.u16()}
	return f.err()
}

// Append puts one.
func (m *ValidateNegotiateResponse) Append(b []byte) []byte {
	b = le.AppendUint32(b, m.Capabilities)
	b = append(b, m.ServerGUID[:]...)
	b = le.AppendUint16(b, m.SecurityMode)
	return le.AppendUint16(b, m.Dialect)
}
