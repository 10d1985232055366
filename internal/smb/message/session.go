package message

// NegotiateRequest is MS-SMB2 section 2.2.3.
type NegotiateRequest struct {
	SecurityMode uint16
	Capabilities uint32
	ClientGUID   [16]byte
	Dialects     []uint16
	Contexts     []NegotiateContext // with dialect 3.1.1
}

// The dialect that has contexts.
const dialect311 = 0x0311

const (
	mostDialects = 64
	mostContexts = 32
)

// NegotiateContext is one of MS-SMB2 section 2.2.3.1.
type NegotiateContext struct {
	Type uint16
	Data []byte
}

// Types of contexts.
const (
	ContextPreauth    = 1
	ContextEncryption = 2
	ContextSigning    = 8
)

// Parse reads one.
func (m *NegotiateRequest) Parse(msg []byte) error {
	f := bodyOf(msg, 36)
	count := int(f.u16())
	*m = NegotiateRequest{SecurityMode: f.u16()}
	f.skip(2)
	m.Capabilities, m.ClientGUID = f.u32(), f.guid()
	at, contexts := f.u32(), f.u16()
	f.skip(2)
	if count == 0 || count > mostDialects {
		return ErrMalformed
	}
	has := false
	for range count {
		d := f.u16()
		m.Dialects = append(m.Dialects, d)
		has = has || d == dialect311
	}
	if has && !f.short {
		m.Contexts = f.negotiateContexts(at, contexts)
	}
	return f.err()
}

func (f *fields) negotiateContexts(at uint32, count uint16) (out []NegotiateContext) {
	if count > mostContexts || uint64(at) > uint64(len(f.msg)) || count > 0 && at < HeaderSize {
		f.short = true
		return nil
	}
	f.at = int(at)
	for i := range count {
		if i > 0 {
			f.skip((8 - (f.at-int(at))%8) % 8)
		}
		c := NegotiateContext{Type: f.u16()}
		n := f.u16()
		f.skip(4)
		c.Data = f.take(int(n))
		out = append(out, c)
	}
	return out
}

func appendNegotiateContexts(b []byte, contexts []NegotiateContext) []byte {
	start := len(b)
	for i, c := range contexts {
		if i > 0 {
			b = zeros(b, (8-(len(b)-start)%8)%8)
		}
		b = le.AppendUint16(b, c.Type)
		b = le.AppendUint16(b, uint16(len(c.Data)))
		b = le.AppendUint32(b, 0)
		b = append(b, c.Data...)
	}
	return b
}

// Append puts one.
func (m *NegotiateRequest) Append(b []byte) []byte {
	b = le.AppendUint16(b, 36)
	b = le.AppendUint16(b, uint16(len(m.Dialects)))
	b = le.AppendUint16(b, m.SecurityMode)
	b = le.AppendUint16(b, 0)
	b = le.AppendUint32(b, m.Capabilities)
	b = append(b, m.ClientGUID[:]...)
	at := len(b)
	b = le.AppendUint64(b, 0)
	for _, d := range m.Dialects {
		b = le.AppendUint16(b, d)
	}
	if len(m.Contexts) > 0 {
		b = padded(b, 8)
		le.PutUint32(b[at:], uint32(len(b)))
		le.PutUint16(b[at+4:], uint16(len(m.Contexts)))
		b = appendNegotiateContexts(b, m.Contexts)
	}
	return b
}

// NegotiateResponse is MS-SMB2 section 2.2.4.
type NegotiateResponse struct {
	SecurityMode uint16
	Dialect      uint16
	ServerGUID   [16]byte
	Capabilities uint32
	MaxTransact  uint32
	MaxRead      uint32
	MaxWrite     uint32
	SystemTime   uint64 // a Filetime
	StartTime    uint64
	Token        []byte // the first of the sign-in
	Contexts     []NegotiateContext
}

// Parse reads one.
func (m *NegotiateResponse) Parse(msg []byte) error {
	f := bodyOf(msg, 65)
	*m = NegotiateResponse{SecurityMode: f.u16(), Dialect: f.u16()}
	count := f.u16()
	m.ServerGUID, m.Capabilities, m.MaxTransact, m.MaxRead, m.MaxWrite = f.guid(), f.u32(), f.u32(), f.u32(), f.u32()
	m.SystemTime, m.StartTime = f.u64(), f.u64()
	offset, length := f.u16(), f.u16()
	contexts := f.u32()
	m.Token = f.part(uint32(offset), uint32(length))
	if m.Dialect == dialect311 && !f.short {
		m.Contexts = f.negotiateContexts(contexts, count)
	}
	return f.err()
}

// Append puts one.
func (m *NegotiateResponse) Append(b []byte) []byte {
	b = le.AppendUint16(b, 65)
	b = le.AppendUint16(b, m.SecurityMode)
	b = le.AppendUint16(b, m.Dialect)
	b = le.AppendUint16(b, uint16(len(m.Contexts)))
	b = append(b, m.ServerGUID[:]...)
	for _, v := range []uint32{m.Capabilities, m.MaxTransact, m.MaxRead, m.MaxWrite} {
		b = le.AppendUint32(b, v)
	}
	b = le.AppendUint64(b, m.SystemTime)
	b = le.AppendUint64(b, m.StartTime)
	b = le.AppendUint16(b, uint16(len(b)+8))
	b = le.AppendUint16(b, uint16(len(m.Token)))
	at := len(b)
	b = le.AppendUint32(b, 0)
	b = append(b, m.Token...)
	if len(m.Contexts) > 0 {
		b = padded(b, 8)
		le.PutUint32(b[at:], uint32(len(b)))
		b = appendNegotiateContexts(b, m.Contexts)
	}
	return b
}

// SessionSetupRequest is MS-SMB2 section 2.2.5.
type SessionSetupRequest struct {
	Flags           byte
	SecurityMode    byte
	Capabilities    uint32
	Channel         uint32
	PreviousSession uint64
	Token           []byte
}

// SessionBinding is the flag by which a session is bound to one more connection.
const SessionBinding = 1

// Parse reads one.
func (m *SessionSetupRequest) Parse(msg []byte) error {
	f := bodyOf(msg, 25)
	*m = SessionSetupRequest{Flags: f.u8(), SecurityMode: f.u8(), Capabilities: f.u32(), Channel: f.u32()}
	offset, length := f.u16(), f.u16()
	m.PreviousSession = f.u64()
	m.Token = f.part(uint32(offset), uint32(length))
	return f.err()
}

// Append puts one.
func (m *SessionSetupRequest) Append(b []byte) []byte {
	b = le.AppendUint16(b, 25)
	b = append(b, m.Flags, m.SecurityMode)
	b = le.AppendUint32(b, m.Capabilities)
	b = le.AppendUint32(b, m.Channel)
	b = le.AppendUint16(b, uint16(len(b)+12))
	b = le.AppendUint16(b, uint16(len(m.Token)))
	b = le.AppendUint64(b, m.PreviousSession)
	return append(b, m.Token...)
}

// SessionIsNull is the flag of a session of nobody: nothing of it is signed.
const SessionIsNull = 0x2

// SessionSetupResponse is MS-SMB2 section 2.2.6.
type SessionSetupResponse struct {
	Flags uint16
	Token []byte
}

// Parse reads one.
func (m *SessionSetupResponse) Parse(msg []byte) error {
	f := bodyOf(msg, 9)
	m.Flags = f.u16()
	offset, length := f.u16(), f.u16()
	m.Token = f.part(uint32(offset), uint32(length))
	return f.err()
}

// Append puts one.
func (m *SessionSetupResponse) Append(b []byte) []byte {
	b = le.AppendUint16(b, 9)
	b = le.AppendUint16(b, m.Flags)
	b = le.AppendUint16(b, uint16(len(b)+4))
	b = le.AppendUint16(b, uint16(len(m.Token)))
	return append(b, m.Token...)
}

// TreeConnectRequest is MS-SMB2 section 2.2.9.
type TreeConnectRequest struct {
	Flags uint16
	Path  []byte // \\server\share, in UTF-16
}

// Parse reads one.
func (m *TreeConnectRequest) Parse(msg []byte) error {
	f := bodyOf(msg, 9)
	m.Flags = f.u16()
	offset, length := f.u16(), f.u16()
	m.Path = f.part(uint32(offset), uint32(length))
	return f.err()
}

// Append puts one.
func (m *TreeConnectRequest) Append(b []byte) []byte {
	b = le.AppendUint16(b, 9)
	b = le.AppendUint16(b, m.Flags)
	b = le.AppendUint16(b, uint16(len(b)+4))
	b = le.AppendUint16(b, uint16(len(m.Path)))
	return append(b, m.Path...)
}

// What a share is, and what clients are told of it.
const (
	ShareDisk = 1
	SharePipe = 2

	ShareManualCaching  = 0x0000
	ShareAutoCaching    = 0x0010
	ShareVDOCaching     = 0x0020
	ShareNoCaching      = 0x0030
	ShareLeads          = 0x0001 // its clients ask where it is: MS-DFSC
	ShareLeadsOn        = 0x0002
	ShareListAccessible = 0x0800
	ShareSealed         = 0x8000
)

// ShareKept is of what is said of a share beside its flags: what is open on it outlasts the server, MS-SMB2 section 2.2.10.
const ShareKept = 0x10

// ShareIsLed is another: it is somewhere else.
const ShareIsLed = 0x8

// TreeConnectResponse is MS-SMB2 section 2.2.10.
type TreeConnectResponse struct {
	Type          byte
	ShareFlags    uint32
	Capabilities  uint32
	MaximalAccess uint32
}

// Parse reads one.
func (m *TreeConnectResponse) Parse(msg []byte) error {
	f := bodyOf(msg, 16)
	m.Type = f.u8()
	f.skip(1)
	m.ShareFlags, m.Capabilities, m.MaximalAccess = f.u32(), f.u32(), f.u32()
	return f.err()
}

// Append puts one.
func (m *TreeConnectResponse) Append(b []byte) []byte {
	b = le.AppendUint16(b, 16)
	b = append(b, m.Type, 0)
	b = le.AppendUint32(b, m.ShareFlags)
	b = le.AppendUint32(b, m.Capabilities)
	return le.AppendUint32(b, m.MaximalAccess)
}
