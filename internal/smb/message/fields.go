package message

import (
	"encoding/binary"
	"errors"
	"time"
	"unicode/utf16"
)

var le = binary.LittleEndian

// ErrMalformed is for bytes that are not the message they should be.
var ErrMalformed = errors.New("malformed message")

// fields reads a message's fields one after another, in the order of the standard. What is not there is zero, and is remembered.
type fields struct {
	msg   []byte
	at    int
	short bool
}

// bodyOf begins after the header, with the structure size that each body begins with.
func bodyOf(msg []byte, size uint16) *fields {
	f := &fields{msg: msg, at: HeaderSize}
	if f.u16() != size {
		f.short = true
	}
	return f
}

func (f *fields) take(n int) []byte {
	if f.short || n < 0 || n > len(f.msg)-f.at {
		f.short = true
		return make([]byte, min(max(n, 0), 32))
	}
	f.at += n
	return f.msg[f.at-n : f.at]
}

func (f *fields) u8() byte    { return f.take(1)[0] }
func (f *fields) u16() uint16 { return le.Uint16(f.take(2)) }
func (f *fields) u32() uint32 { return le.Uint32(f.take(4)) }
func (f *fields) u64() uint64 { return le.Uint64(f.take(8)) }
func (f *fields) skip(n int)  { f.take(n) }
func (f *fields) fileID() FileID {
	return FileID{f.u64(), f.u64()}
}

func (f *fields) guid() (g [16]byte) {
	copy(g[:], f.take(16))
	return g
}

// rest is what follows.
func (f *fields) rest() []byte {
	if f.short {
		return nil
	}
	return f.msg[f.at:]
}

// part is the bytes at an offset, which lie after the header.
func (f *fields) part(offset, length uint32) []byte {
	if f.short || length == 0 {
		return nil
	}
	if offset < HeaderSize || uint64(offset)+uint64(length) > uint64(len(f.msg)) {
		f.short = true
		return nil
	}
	return f.msg[offset : offset+length : offset+length]
}

func (f *fields) err() error {
	if f.short {
		return ErrMalformed
	}
	return nil
}

func zeros(b []byte, n int) []byte {
	for ; n > 8; n -= 8 {
		b = append(b, 0, 0, 0, 0, 0, 0, 0, 0)
	}
	for ; n > 0; n-- {
		b = append(b, 0)
	}
	return b
}

// padded makes the length a multiple of n.
func padded(b []byte, n int) []byte { return zeros(b, (n-len(b)%n)%n) }

// FileID names what is open, MS-SMB2 section 2.2.14.1.
type FileID struct {
	Persistent uint64
	Volatile   uint64
}

// AsBefore stands for the file of the request before, in a compound: MS-SMB2 section 3.2.4.1.4.
var AsBefore = FileID{^uint64(0), ^uint64(0)}

func (id FileID) append(b []byte) []byte {
	b = le.AppendUint64(b, id.Persistent)
	return le.AppendUint64(b, id.Volatile)
}

// UTF16 spells a text as messages do: little-endian, with no byte order mark and no end.
func UTF16(s string) []byte {
	out := make([]byte, 0, 2*len(s))
	for _, u := range utf16.Encode([]rune(s)) {
		out = le.AppendUint16(out, u)
	}
	return out
}

// Text reads UTF-16; false for an odd length or a lone surrogate.
func Text(b []byte) (string, bool) {
	if len(b)%2 != 0 {
		return "", false
	}
	units := make([]uint16, len(b)/2)
	for i := range units {
		units[i] = le.Uint16(b[2*i:])
	}
	for i := 0; i < len(units); i++ {
		switch u := units[i]; {
		case u >= 0xd800 && u < 0xdc00 && i+1 < len(units) && units[i+1] >= 0xdc00 && units[i+1] < 0xe000:
			i++
		case u >= 0xd800 && u < 0xe000:
			return "", false
		}
	}
	return string(utf16.Decode(units)), true
}

const epochGap = 116444736000000000 // 100 ns from 1601 to 1970

// Filetime counts 100 ns from 1601, MS-DTYP section 2.3.3; zero for no time.
func Filetime(t time.Time) uint64 {
	if t.IsZero() {
		return 0
	}
	return uint64(t.Unix()*1e7 + int64(t.Nanosecond()/100) + epochGap)
}

// Time is its inverse; zero for the values that mean "leave it".
func Time(v uint64) time.Time {
	if v == 0 || v >= 1<<63 {
		return time.Time{}
	}
	ticks := int64(v) - epochGap
	return time.Unix(ticks/1e7, ticks%1e7*100)
}
