package message

// The create context "AAPL", by which clients of macOS ask what a server can for them. It is laid out as the open source of those clients has it.

// ContextMac is its name.
const ContextMac = "AAPL"

// What a MacQuery asks, and what is answered of it.
const (
	MacServer = 1 // what the server can
	MacVolume = 2 // and the volume
	MacModel  = 4 // and what it is called

	MacCopiesFiles = 2 // of the server: copying no parts of a file copies all of it, with its streams
	MacFullSync    = 4 // of the volume: what is flushed is on disk

	macServerQuery = 1
)

// MacQuery asks what a server can.
type MacQuery struct {
	Asked  uint64
	Client uint64 // what the client can
}

// Parse reads one; one that asks something else is malformed.
func (m *MacQuery) Parse(b []byte) error {
	f := &fields{msg: b}
	command := f.u32()
	f.skip(4)
	*m = MacQuery{Asked: f.u64(), Client: f.u64()}
	if command != macServerQuery {
		return ErrMalformed
	}
	return f.err()
}

// Append puts one.
func (m *MacQuery) Append(b []byte) []byte {
	b = le.AppendUint64(b, macServerQuery)
	return le.AppendUint64(le.AppendUint64(b, m.Asked), m.Client)
}

// MacAnswer is the answer: of what was asked, and nothing else.
type MacAnswer struct {
	Asked  uint64
	Server uint64
	Volume uint64
	Model  []byte // in UTF-16
}

// Parse reads one.
func (m *MacAnswer) Parse(b []byte) error {
	f := &fields{msg: b}
	command := f.u32()
	f.skip(4)
	*m = MacAnswer{Asked: f.u64()}
	if command != macServerQuery {
		return ErrMalformed
	}
	if m.Asked&MacServer != 0 {
		m.Server = f.u64()
	}
	if m.Asked&MacVolume != 0 {
		m.Volume = f.u64()
	}
	if m.Asked&MacModel != 0 {
		f.skip(4)
		m.Model = f.text()
	}
	return f.err()
}

// Append puts one.
func (m *MacAnswer) Append(b []byte) []byte {
	b = le.AppendUint64(le.AppendUint64(b, macServerQuery), m.Asked)
	if m.Asked&MacServer != 0 {
		b = le.AppendUint64(b, m.Server)
	}
	if m.Asked&MacVolume != 0 {
		b = le.AppendUint64(b, m.Volume)
	}
	if m.Asked&MacModel != 0 {
		b = AppendText(le.AppendUint32(b, 0), m.Model)
	}
	return b
}
