package message

// Command is what a message asks or answers, MS-SMB2 section 2.2.1.
type Command uint16

// Commands.
const (
	Negotiate Command = iota
	SessionSetup
	Logoff
	TreeConnect
	TreeDisconnect
	Create
	Close
	Flush
	Read
	Write
	Lock
	Ioctl
	Cancel
	Echo
	QueryDirectory
	ChangeNotify
	QueryInfo
	SetInfo
	OplockBreak
)

// Flags of a header.
const (
	FlagResponse = 0x00000001
	FlagAsync    = 0x00000002
	FlagRelated  = 0x00000004
	FlagSigned   = 0x00000008
	FlagReplay   = 0x20000000
)

const (
	// HeaderSize is how many bytes every message begins with.
	HeaderSize = 64
	flagsAt    = 16
	// SignatureAt is where in a message its signature stands, 16 bytes.
	SignatureAt = 48
)

// Header is MS-SMB2 section 2.2.1.
type Header struct {
	CreditCharge uint16
	Status       uint32 // of a response; of a request, the sequence of its channel
	Command      Command
	Credits      uint16
	Flags        uint32
	Next         uint32 // bytes to the next message of a compound; 0 for the last
	MessageID    uint64
	TreeID       uint32
	AsyncID      uint64 // instead of TreeID, where FlagAsync is set
	SessionID    uint64
	Signature    [16]byte
}

// IsSMB1 says whether a frame has a message of the old protocol, by which some clients begin.
func IsSMB1(frame []byte) bool { return len(frame) >= 4 && string(frame[:4]) == "\xffSMB" }

// Parse reads the header that a message begins with.
func (h *Header) Parse(msg []byte) error {
	if len(msg) < HeaderSize || string(msg[:4]) != "\xfeSMB" || le.Uint16(msg[4:]) != HeaderSize {
		return ErrMalformed
	}
	f := fields{msg: msg, at: 6}
	*h = Header{CreditCharge: f.u16(), Status: f.u32(), Command: Command(f.u16()), Credits: f.u16(), Flags: f.u32(), Next: f.u32(), MessageID: f.u64()}
	if h.Flags&FlagAsync != 0 {
		h.AsyncID = f.u64()
	} else {
		f.skip(4)
		h.TreeID = f.u32()
	}
	h.SessionID = f.u64()
	copy(h.Signature[:], f.take(16))
	return nil
}

// Put writes the header over the first HeaderSize bytes of a message, its signature as zeros.
func (h *Header) Put(msg []byte) {
	_ = h.Append(msg[:0:HeaderSize])
	clear(msg[SignatureAt:HeaderSize])
}

// MarkSigned sets the flag of a message that has a signature.
func MarkSigned(msg []byte) { msg[flagsAt] |= FlagSigned }

// Append puts a header.
func (h *Header) Append(b []byte) []byte {
	b = append(b, "\xfeSMB"...)
	b = le.AppendUint16(b, HeaderSize)
	b = le.AppendUint16(b, h.CreditCharge)
	b = le.AppendUint32(b, h.Status)
	b = le.AppendUint16(b, uint16(h.Command))
	b = le.AppendUint16(b, h.Credits)
	b = le.AppendUint32(b, h.Flags)
	b = le.AppendUint32(b, h.Next)
	b = le.AppendUint64(b, h.MessageID)
	if h.Flags&FlagAsync != 0 {
		b = le.AppendUint64(b, h.AsyncID)
	} else {
		b = le.AppendUint32(b, 0)
		b = le.AppendUint32(b, h.TreeID)
	}
	b = le.AppendUint64(b, h.SessionID)
	return append(b, h.Signature[:]...)
}

const (
	// TransformSize is how many bytes a sealed frame begins with.
	TransformSize = 52
	// NonceAt and SessionAt are where in them the nonce and the session stand: what lies from NonceAt on is authenticated with what is sealed.
	NonceAt, SessionAt = 20, 44
	// TransformSealed is the one flag of a transform header: what follows is encrypted.
	TransformSealed = 1
)

// IsTransform says whether a frame is sealed.
func IsTransform(frame []byte) bool { return len(frame) >= 4 && string(frame[:4]) == "\xfdSMB" }

// Transform is the header of a sealed frame, MS-SMB2 section 2.2.41.
type Transform struct {
	Signature [16]byte
	Nonce     [16]byte
	Size      uint32 // of what is sealed
	Flags     uint16
	SessionID uint64
}

// Parse reads the transform header that a frame begins with.
func (t *Transform) Parse(frame []byte) error {
	if len(frame) < TransformSize || !IsTransform(frame) {
		return ErrMalformed
	}
	f := fields{msg: frame, at: 4}
	t.Signature, t.Nonce, t.Size = f.guid(), f.guid(), f.u32()
	f.skip(2)
	t.Flags, t.SessionID = f.u16(), f.u64()
	return f.err()
}

// Append puts a transform header.
func (t *Transform) Append(b []byte) []byte {
	b = append(b, "\xfdSMB"...)
	b = append(b, t.Signature[:]...)
	b = append(b, t.Nonce[:]...)
	b = le.AppendUint32(b, t.Size)
	b = le.AppendUint16(b, 0)
	b = le.AppendUint16(b, t.Flags)
	return le.AppendUint64(b, t.SessionID)
}

// ErrorResponse is the body of a response that has no other, MS-SMB2 section 2.2.2.
type ErrorResponse struct {
	Contexts byte // how many there are in Data; 0 where it is no list of contexts
	Data     []byte
}

// TooSmall is the answer to who gave less room than is needed, MS-SMB2 section 2.2.2: with dialect 3.1.1 as a context of section 2.2.2.1.
func TooSmall(needed int, contexts bool) *ErrorResponse {
	return errorWith(le.AppendUint32(nil, uint32(needed)), contexts)
}

// errorWith is an error with data, with contexts in the one of section 2.2.2.1 that is there by default.
func errorWith(data []byte, contexts bool) *ErrorResponse {
	if !contexts {
		return &ErrorResponse{Data: data}
	}
	return &ErrorResponse{Contexts: 1, Data: append(le.AppendUint32(le.AppendUint32(nil, uint32(len(data))), 0), data...)}
}

// Parse reads one.
func (m *ErrorResponse) Parse(msg []byte) error {
	f := bodyOf(msg, 9)
	m.Contexts = f.u8()
	f.skip(1)
	n := int(f.u32())
	if m.Data = nil; n > 0 {
		m.Data = f.take(n)
	}
	return f.err()
}

// Append puts one.
func (m *ErrorResponse) Append(b []byte) []byte {
	b = le.AppendUint16(b, 9)
	b = append(b, m.Contexts, 0)
	b = le.AppendUint32(b, uint32(len(m.Data)))
	if len(m.Data) == 0 {
		return append(b, 0)
	}
	return append(b, m.Data...)
}

// Empty is the body that many messages have: a structure size of 4 and nothing. It is ECHO, LOGOFF, TREE_DISCONNECT and CANCEL, and the
// responses to FLUSH and LOCK: MS-SMB2 sections 2.2.7, 2.2.8, 2.2.11, 2.2.12, 2.2.18, 2.2.27 to 2.2.30.
type Empty struct{}

// Parse reads one.
func (m *Empty) Parse(msg []byte) error {
	f := bodyOf(msg, 4)
	f.skip(2)
	return f.err()
}

// Append puts one.
func (m *Empty) Append(b []byte) []byte { return append(b, 4, 0, 0, 0) }
