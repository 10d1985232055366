package message

// The inputs and outputs of the control codes that are about parts of files, and about what a file was before.

// ResumeKey names an open file to copy from, MS-SMB2 section 2.2.32.3.
type ResumeKey [24]byte

// Parse reads one.
func (m *ResumeKey) Parse(output []byte) error {
	f := &fields{msg: output}
	copy(m[:], f.take(24))
	f.skip(4)
	return f.err()
}

// Append puts one, without a context.
func (m *ResumeKey) Append(b []byte) []byte { return zeros(append(b, m[:]...), 4) }

// CopyChunks is the input of FSCTL_SRV_COPYCHUNK, MS-SMB2 section 2.2.31.1.
type CopyChunks struct {
	Source ResumeKey
	Chunks []CopyChunk
}

// CopyChunk is one part to be copied, in bytes, MS-SMB2 section 2.2.31.1.1.
type CopyChunk struct {
	From, To uint64
	Length   uint32
}

// mostChunks are read of a request; servers take fewer.
const mostChunks = 1024

// Parse reads one.
func (m *CopyChunks) Parse(input []byte) error {
	f := &fields{msg: input}
	*m = CopyChunks{}
	copy(m.Source[:], f.take(24))
	n := f.u32()
	f.skip(4)
	if n > mostChunks {
		return ErrMalformed
	}
	for range n {
		c := CopyChunk{From: f.u64(), To: f.u64(), Length: f.u32()}
		f.skip(4)
		if f.short {
			break
		}
		m.Chunks = append(m.Chunks, c)
	}
	return f.err()
}

// Append puts one.
func (m *CopyChunks) Append(b []byte) []byte {
	b = append(b, m.Source[:]...)
	b = le.AppendUint32(b, uint32(len(m.Chunks)))
	b = le.AppendUint32(b, 0)
	for _, c := range m.Chunks {
		b = le.AppendUint64(b, c.From)
		b = le.AppendUint64(b, c.To)
		b = le.AppendUint32(b, c.Length)
		b = le.AppendUint32(b, 0)
	}
	return b
}

// CopiedChunks is its output, MS-SMB2 section 2.2.32.1: how much was copied, or, with a request that asked for too much, how much may be asked for.
type CopiedChunks struct{ Chunks, Part, Total uint32 }

// Parse reads one.
func (m *CopiedChunks) Parse(output []byte) error {
	f := &fields{msg: output}
	*m = CopiedChunks{f.u32(), f.u32(), f.u32()}
	return f.err()
}

// Append puts one.
func (m *CopiedChunks) Append(b []byte) []byte {
	b = le.AppendUint32(b, m.Chunks)
	b = le.AppendUint32(b, m.Part)
	return le.AppendUint32(b, m.Total)
}

// SharedExtent is the input of FSCTL_DUPLICATE_EXTENTS_TO_FILE, MS-FSCC section 2.3.7.2.
type SharedExtent struct {
	Source           FileID
	From, To, Length uint64
}

// Parse reads one.
func (m *SharedExtent) Parse(input []byte) error {
	f := &fields{msg: input}
	*m = SharedExtent{f.fileID(), f.u64(), f.u64(), f.u64()}
	return f.err()
}

// Append puts one.
func (m *SharedExtent) Append(b []byte) []byte {
	b = m.Source.append(b)
	b = le.AppendUint64(b, m.From)
	b = le.AppendUint64(b, m.To)
	return le.AppendUint64(b, m.Length)
}

// Extent is a part of a file: the input of FSCTL_SET_ZERO_DATA, where Second is where it ends (MS-FSCC section 2.3.71), and both the input and
// an element of the output of FSCTL_QUERY_ALLOCATED_RANGES, where it is how long it is (sections 2.3.51 and 2.3.52).
type Extent struct{ Offset, Second uint64 }

// Parse reads one.
func (m *Extent) Parse(b []byte) error {
	f := &fields{msg: b}
	*m = Extent{f.u64(), f.u64()}
	return f.err()
}

// Append puts one.
func (m *Extent) Append(b []byte) []byte {
	return le.AppendUint64(le.AppendUint64(b, m.Offset), m.Second)
}

// Snapshots is the output of FSCTL_SRV_ENUMERATE_SNAPSHOTS, MS-SMB2 section 2.2.32.2: how many there are, how many are told, and the names of
// those, in UTF-16, an end after each and one after all.
type Snapshots struct {
	Count, Told uint32
	Names       []byte
}

// Append puts one.
func (m *Snapshots) Append(b []byte) []byte {
	b = le.AppendUint32(b, m.Count)
	b = le.AppendUint32(b, m.Told)
	b = le.AppendUint32(b, uint32(len(m.Names)))
	return append(b, m.Names...)
}

// Parse reads one.
func (m *Snapshots) Parse(output []byte) error {
	f := &fields{msg: output}
	*m = Snapshots{Count: f.u32(), Told: f.u32()}
	m.Names = f.take(int(min(f.u32(), 1<<24)))
	return f.err()
}
