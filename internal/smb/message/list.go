package message

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
	Tag  uint32 // the reparse tag, of what is a reparse point
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
	if y.gap > 0 {
		le.PutUint32(l.b[len(l.b)-y.gap:], e.Tag)
	}
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
			e.Tag = f.u32()
			f.skip(y.gap - 4)
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
