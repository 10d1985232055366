package dcerpc

import (
	"unicode/utf16"

	"amber.example/gatekeeper/internal/core/descriptor"
)

// writer writes NDR, C706 chapter 14: little-endian. What pointers refer to is put off until what has them is whole, see whole.
type writer struct {
	b        []byte
	pointers uint32
	pending  []func()
}

func (w *writer) align(n int) {
	for len(w.b)%n != 0 {
		w.b = append(w.b, 0)
	}
}

func (w *writer) u16(v uint16) {
	w.align(2)
	w.b = le.AppendUint16(w.b, v)
}

func (w *writer) u32(v uint32) {
	w.align(4)
	w.b = le.AppendUint32(w.b, v)
}

// null writes a pointer that refers to nothing.
func (w *writer) null() { w.u32(0) }

// pointer writes one that refers to what is written later; nil for a pointer to nothing that has to be written.
func (w *writer) pointer(later func()) {
	w.pointers++
	w.u32(0x00020000 + 4*w.pointers)
	if later != nil {
		w.pending = append(w.pending, later)
	}
}

// whole writes what the pointers of all that was written so far refer to, and what the pointers in that refer to (C706 section 14.3.12.3).
func (w *writer) whole() {
	put := w.pending
	w.pending = nil
	for _, p := range put {
		p()
		w.whole()
	}
}

// text writes a conformant varying string with its end.
func (w *writer) text(s string) {
	units := append(utf16.Encode([]rune(s)), 0)
	w.u32(uint32(len(units)))
	w.u32(0)
	w.u32(uint32(len(units)))
	for _, u := range units {
		w.u16(u)
	}
}

// textPointer writes a pointer to one.
func (w *writer) textPointer(s string) { w.pointer(func() { w.text(s) }) }

// counted writes an RPC_UNICODE_STRING, MS-DTYP section 2.3.10.
func (w *writer) counted(s string) {
	units := utf16.Encode([]rune(s))
	w.u32(uint32(2*len(units)) | uint32(2*len(units))<<16)
	w.pointer(func() {
		w.u32(uint32(len(units)))
		w.u32(0)
		w.u32(uint32(len(units)))
		for _, u := range units {
			w.u16(u)
		}
	})
}

// sid writes an RPC_SID, MS-DTYP section 2.4.2.3.
func (w *writer) sid(s descriptor.SID) {
	packed, err := s.Append(nil)
	if err != nil {
		packed = []byte{1, 0, 0, 0, 0, 0, 0, 0}
	}
	w.u32(uint32(packed[1]))
	w.b = append(w.b, packed...)
}

// array writes a conformant array of n elements.
func (w *writer) array(n int, each func(i int)) {
	w.u32(uint32(n))
	for i := range n {
		each(i)
	}
}

// list writes how many there are and a pointer to them.
func (w *writer) list(n int, each func(i int)) {
	w.u32(uint32(n))
	if n == 0 {
		w.null()
		return
	}
	w.pointer(func() { w.array(n, each) })
}

// bytes writes how many there are and a pointer to them.
func (w *writer) bytes(b []byte) {
	w.u32(uint32(len(b)))
	w.pointer(func() {
		w.u32(uint32(len(b)))
		w.b = append(w.b, b...)
	})
}

// reader reads it; the first thing missing sets err and all that follows is zero.
type reader struct {
	b   []byte
	at  int
	err error
}

// most bounds every list that is read: of names, of SIDs.
const most = 1000

func (r *reader) align(n int) { r.at = (r.at + n - 1) &^ (n - 1) }

func (r *reader) take(n int) []byte {
	if r.err != nil || n < 0 || n > len(r.b)-r.at {
		r.err = ErrMalformed
		return make([]byte, min(max(n, 0), 64))
	}
	r.at += n
	return r.b[r.at-n : r.at]
}

func (r *reader) u16() uint16 {
	r.align(2)
	return le.Uint16(r.take(2))
}

func (r *reader) u32() uint32 {
	r.align(4)
	return le.Uint32(r.take(4))
}

// count reads how many of something there are.
func (r *reader) count() int {
	n := r.u32()
	if n > most {
		r.err = ErrMalformed
		return 0
	}
	return int(n)
}

// varying reads how many elements there are, and the head of the conformant varying array that has them: how many at most, from which, how many.
func (r *reader) varying() int {
	n := r.count()
	r.u32()
	r.u32()
	if r.u32() != uint32(n) {
		r.err = ErrMalformed
	}
	return n
}

// text reads a conformant varying string, with or without its end.
func (r *reader) text() string {
	_, offset, n := r.u32(), r.u32(), r.u32()
	if r.err != nil || offset != 0 || uint64(n)*2 > uint64(len(r.b)-r.at) {
		r.err = ErrMalformed
		return ""
	}
	units := make([]uint16, n)
	for i := range units {
		units[i] = r.u16()
	}
	for len(units) > 0 && units[len(units)-1] == 0 {
		units = units[:len(units)-1]
	}
	return string(utf16.Decode(units))
}

// textPointer reads a pointer to one; "" where it refers to nothing.
func (r *reader) textPointer() string {
	if r.u32() == 0 {
		return ""
	}
	return r.text()
}

// counted reads so many RPC_UNICODE_STRINGs that stand one after another, and what they refer to.
func (r *reader) counted(n int) []string {
	there := make([]bool, n)
	for i := range there {
		r.u32()
		there[i] = r.u32() != 0
	}
	out := make([]string, n)
	for i := range out {
		if there[i] {
			out[i] = r.text()
		}
	}
	return out
}

// sid reads an RPC_SID.
func (r *reader) sid() descriptor.SID {
	r.u32()
	if r.err != nil {
		return ""
	}
	sid, n, err := descriptor.ParseSID(r.b[r.at:])
	if err != nil {
		r.err = ErrMalformed
		return ""
	}
	r.at += n
	return sid
}

// sids reads an array of pointers to RPC_SIDs, after how many there are and the pointer to it.
func (r *reader) sids() []descriptor.SID {
	n := r.count()
	if r.u32() == 0 || r.err != nil {
		return nil
	}
	if m := r.count(); m != n {
		r.err = ErrMalformed
	}
	there := make([]bool, n)
	for i := range there {
		there[i] = r.u32() != 0
	}
	var out []descriptor.SID
	for _, is := range there {
		sid := descriptor.SID("")
		if is {
			sid = r.sid()
		}
		if r.err != nil {
			return nil
		}
		out = append(out, sid)
	}
	return out
}

// handle is a context handle, C706 section 12.5.1: what a client is given for something that it opened.
type handle [20]byte

func (r *reader) handle() (h handle) {
	r.align(4)
	copy(h[:], r.take(20))
	return h
}

func (w *writer) handle(h handle) {
	w.align(4)
	w.b = append(w.b, h[:]...)
}
