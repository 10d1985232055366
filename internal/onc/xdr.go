// Package onc is ONC remote procedure call version 2 (RFC 5531) over TCP with its external data
// representation (RFC 4506), the AUTH_SYS credential, and a port mapper (RFC 1833, version 2).
package onc

import (
	"encoding/binary"
	"errors"
)

// ErrXDR is what a Reader gives for data that ends too soon or is longer than it may be.
var ErrXDR = errors.New("malformed XDR")

// Reader reads XDR from a record (RFC 4506 section 4). After the first error it gives zero values,
// so that one look at Err at the end of a structure is enough.
type Reader struct {
	b   []byte
	err error
}

// NewReader reads from b, which it does not copy.
func NewReader(b []byte) *Reader { return &Reader{b: b} }

// Err is the first error met.
func (r *Reader) Err() error { return r.err }

// Len is how many bytes are left.
func (r *Reader) Len() int { return len(r.b) }

func (r *Reader) take(n int) []byte {
	if r.err != nil || n < 0 || n > len(r.b) {
		r.err = ErrXDR
		return nil
	}
	out := r.b[:n:n]
	r.b = r.b[n:]
	return out
}

// Uint32 reads an unsigned integer, or an enumeration.
func (r *Reader) Uint32() uint32 {
	b := r.take(4)
	if b == nil {
		return 0
	}
	return binary.BigEndian.Uint32(b)
}

// Uint64 reads an unsigned hyper.
func (r *Reader) Uint64() uint64 {
	b := r.take(8)
	if b == nil {
		return 0
	}
	return binary.BigEndian.Uint64(b)
}

// Bool reads a boolean; anything but 0 and 1 is an error.
func (r *Reader) Bool() bool {
	v := r.Uint32()
	if v > 1 {
		r.err = ErrXDR
	}
	return v == 1
}

// Fixed reads opaque data of n bytes. It aliases the record.
func (r *Reader) Fixed(n int) []byte {
	b := r.take(n)
	r.take(-n & 3)
	if r.err != nil {
		return nil
	}
	return b
}

// Opaque reads opaque data of at most so many bytes. It aliases the record.
func (r *Reader) Opaque(most int) []byte {
	n := r.Uint32()
	if r.err != nil || n > uint32(most) || int64(n) > int64(len(r.b)) {
		r.err = ErrXDR
		return nil
	}
	return r.Fixed(int(n))
}

// String reads a string of at most so many bytes.
func (r *Reader) String(most int) string { return string(r.Opaque(most)) }

// Count reads the length of an array of at most so many elements, each of at least size bytes.
func (r *Reader) Count(most, size int) int {
	n := r.Uint32()
	if r.err != nil || n > uint32(most) || int64(n)*int64(size) > int64(len(r.b)) {
		r.err = ErrXDR
		return 0
	}
	return int(n)
}

// Writer writes XDR by appending to B.
type Writer struct{ B []byte }

// Uint32 writes an unsigned integer.
func (w *Writer) Uint32(v uint32) { w.B = binary.BigEndian.AppendUint32(w.B, v) }

// Uint64 writes an unsigned hyper.
func (w *Writer) Uint64(v uint64) { w.B = binary.BigEndian.AppendUint64(w.B, v) }

// Bool writes a boolean.
func (w *Writer) Bool(v bool) {
	if v {
		w.Uint32(1)
	} else {
		w.Uint32(0)
	}
}

// Fixed writes opaque data without its length.
func (w *Writer) Fixed(b []byte) {
	w.B = append(w.B, b...)
	w.pad(len(b))
}

// Opaque writes opaque data with its length.
func (w *Writer) Opaque(b []byte) {
	w.Uint32(uint32(len(b)))
	w.Fixed(b)
}

// String writes a string.
func (w *Writer) String(s string) {
	w.Uint32(uint32(len(s)))
	w.B = append(w.B, s...)
	w.pad(len(s))
}

func (w *Writer) pad(n int) { w.B = append(w.B, make([]byte, -n&3)...) }

// Len is how many bytes have been written.
func (w *Writer) Len() int { return len(w.B) }

// PutUint32 writes over what was written at an offset.
func (w *Writer) PutUint32(at int, v uint32) { binary.BigEndian.PutUint32(w.B[at:], v) }

// Room extends B by n bytes, and what pads them, and gives the n to be filled; Cut takes back
// what of them was not.
func (w *Writer) Room(n int) []byte {
	at := len(w.B)
	need := at + n + (-n & 3)
	if cap(w.B) < need {
		grown := make([]byte, at, need+256)
		copy(grown, w.B)
		w.B = grown
	}
	w.B = w.B[:need]
	return w.B[at : at+n]
}

// Cut shortens the last Room, which was of size n, to used bytes and clears what pads them.
func (w *Writer) Cut(n, used int) {
	at := len(w.B) - n - (-n & 3)
	w.B = w.B[:at+used+(-used&3)]
	clear(w.B[at+used:])
}

// Rest is what has not been read yet. It aliases the record.
func (r *Reader) Rest() []byte { return r.b }
