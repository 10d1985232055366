package message

// Levels of an oplock, MS-SMB2 section 2.2.13.
const (
	OplockNone      = 0x00
	OplockShared    = 0x01 // level II
	OplockExclusive = 0x08
	OplockBatch     = 0x09
	OplockLease     = 0xff
)

// What a client may do with a lease, MS-SMB2 section 2.2.13.2.8.
const (
	LeaseRead   = 1
	LeaseHandle = 2
	LeaseWrite  = 4
)

// Flags of leases.
const (
	LeaseBreaking   = 0x02 // in a context: it is being given back
	LeaseHasParent  = 0x04
	LeaseMustAnswer = 0x01 // in a notification
)

// DurablePersistent is the flag of a durable handle that outlasts the server, MS-SMB2 section 2.2.13.2.11.
const DurablePersistent = 0x02

// Names of contexts.
const (
	ContextLease       = "RqLs"
	ContextDurable     = "DHnQ"
	ContextReconnect   = "DHnC"
	ContextDurableV2   = "DH2Q"
	ContextReconnectV2 = "DH2C"
	leaseV1Size        = 32
	leaseV2Size        = 52
	reconnectSize      = 16
	durableV2Size      = 32
	reconnectV2Size    = 36
	oplockBreakSize    = 24
	leaseBreakSize     = 44
	leaseAnswerSize    = 36
)

// Lease is SMB2_CREATE_REQUEST_LEASE or, as Second, SMB2_CREATE_REQUEST_LEASE_V2, and the answers to them: MS-SMB2 sections 2.2.13.2.8,
// 2.2.13.2.10, 2.2.14.2.10 and 2.2.14.2.11.
type Lease struct {
	Second bool
	Key    [16]byte
	State  uint32
	Flags  uint32
	Parent [16]byte // with Second, as what follows
	Epoch  uint16
}

// Parse reads the data of a context.
func (m *Lease) Parse(b []byte) error {
	if len(b) != leaseV1Size && len(b) != leaseV2Size {
		return ErrMalformed
	}
	f := &fields{msg: b}
	*m = Lease{Second: len(b) == leaseV2Size, Key: f.guid(), State: f.u32(), Flags: f.u32()}
	f.skip(8)
	if m.Second {
		m.Parent, m.Epoch = f.guid(), f.u16()
	}
	return f.err()
}

// Append puts the data of a context.
func (m *Lease) Append(b []byte) []byte {
	b = append(b, m.Key[:]...)
	b = le.AppendUint32(b, m.State)
	b = le.AppendUint32(b, m.Flags)
	b = le.AppendUint64(b, 0)
	if m.Second {
		b = append(b, m.Parent[:]...)
		b = le.AppendUint32(b, uint32(m.Epoch))
	}
	return b
}

// DurableV2 is SMB2_CREATE_DURABLE_HANDLE_REQUEST_V2, MS-SMB2 section 2.2.13.2.11.
type DurableV2 struct {
	Timeout uint32 // milliseconds; 0 leaves it to the server
	Flags   uint32
	Create  [16]byte
}

// Parse reads the data of a context.
func (m *DurableV2) Parse(b []byte) error {
	if len(b) != durableV2Size {
		return ErrMalformed
	}
	f := &fields{msg: b}
	m.Timeout, m.Flags = f.u32(), f.u32()
	f.skip(8)
	m.Create = f.guid()
	return f.err()
}

// Append puts the data of a context.
func (m *DurableV2) Append(b []byte) []byte {
	b = le.AppendUint32(le.AppendUint32(b, m.Timeout), m.Flags)
	return append(le.AppendUint64(b, 0), m.Create[:]...)
}

// DurableGranted answers ContextDurable, MS-SMB2 section 2.2.14.2.3.
func DurableGranted() CreateContext { return CreateContext{ContextDurable, make([]byte, 8)} }

// DurableV2Granted answers ContextDurableV2, MS-SMB2 section 2.2.14.2.12.
func DurableV2Granted(timeout, flags uint32) CreateContext {
	return CreateContext{ContextDurableV2, le.AppendUint32(le.AppendUint32(nil, timeout), flags)}
}

// Reconnect is SMB2_CREATE_DURABLE_HANDLE_RECONNECT or, as Second, SMB2_CREATE_DURABLE_HANDLE_RECONNECT_V2: MS-SMB2 sections 2.2.13.2.4 and 2.2.13.2.12.
type Reconnect struct {
	Second bool
	ID     FileID
	Create [16]byte // with Second, as what follows
	Flags  uint32
}

// Parse reads the data of a context.
func (m *Reconnect) Parse(b []byte) error {
	if len(b) != reconnectSize && len(b) != reconnectV2Size {
		return ErrMalformed
	}
	f := &fields{msg: b}
	*m = Reconnect{Second: len(b) == reconnectV2Size, ID: f.fileID()}
	if m.Second {
		m.Create, m.Flags = f.guid(), f.u32()
	}
	return f.err()
}

// Append puts the data of a context.
func (m *Reconnect) Append(b []byte) []byte {
	if b = m.ID.append(b); m.Second {
		b = le.AppendUint32(append(b, m.Create[:]...), m.Flags)
	}
	return b
}

// OplockBreakMessage is the notification that an oplock is broken, what a client answers, and the answer to that: MS-SMB2 sections
// 2.2.23.1, 2.2.24.1 and 2.2.25.1.
type OplockBreakMessage struct {
	Level byte
	ID    FileID
}

// Parse reads one.
func (m *OplockBreakMessage) Parse(msg []byte) error {
	f := bodyOf(msg, oplockBreakSize)
	m.Level = f.u8()
	f.skip(5)
	m.ID = f.fileID()
	return f.err()
}

// Append puts one.
func (m *OplockBreakMessage) Append(b []byte) []byte {
	b = le.AppendUint16(b, oplockBreakSize)
	return m.ID.append(append(b, m.Level, 0, 0, 0, 0, 0))
}

// LeaseBreakNotification is MS-SMB2 section 2.2.23.2.
type LeaseBreakNotification struct {
	Epoch    uint16
	Flags    uint32
	Key      [16]byte
	Now, New uint32
}

// Parse reads one.
func (m *LeaseBreakNotification) Parse(msg []byte) error {
	f := bodyOf(msg, leaseBreakSize)
	*m = LeaseBreakNotification{f.u16(), f.u32(), f.guid(), f.u32(), f.u32()}
	f.skip(12)
	return f.err()
}

// Append puts one.
func (m *LeaseBreakNotification) Append(b []byte) []byte {
	b = le.AppendUint16(b, leaseBreakSize)
	b = le.AppendUint16(b, m.Epoch)
	b = le.AppendUint32(b, m.Flags)
	b = append(b, m.Key[:]...)
	b = le.AppendUint32(le.AppendUint32(b, m.Now), m.New)
	return zeros(b, 12)
}

// LeaseBreakAnswer is what a client answers to it, and the answer to that: MS-SMB2 sections 2.2.24.2 and 2.2.25.2.
type LeaseBreakAnswer struct {
	Key   [16]byte
	State uint32
}

// Parse reads one.
func (m *LeaseBreakAnswer) Parse(msg []byte) error {
	f := bodyOf(msg, leaseAnswerSize)
	f.skip(6)
	m.Key, m.State = f.guid(), f.u32()
	f.skip(8)
	return f.err()
}

// Append puts one.
func (m *LeaseBreakAnswer) Append(b []byte) []byte {
	b = zeros(le.AppendUint16(b, leaseAnswerSize), 6)
	b = le.AppendUint32(append(b, m.Key[:]...), m.State)
	return le.AppendUint64(b, 0)
}
