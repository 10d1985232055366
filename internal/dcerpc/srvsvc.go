package dcerpc

import (
	"encoding/binary"
	"strings"
	"unicode/utf16"
)

// Share is one share as it is listed.
type Share struct {
	Name, Comment string
	Pipes         bool // IPC$
}

// ServerService answers MS-SRVS for one caller.
type ServerService struct {
	Name   string         // of the server
	Shares func() []Share // those announced to the caller
}

// Operations of MS-SRVS section 3.1.4, and the errors of MS-ERREF section 2.2 they give.
const (
	opShareEnum     = 15
	opShareGetInfo  = 16
	opServerGetInfo = 21

	errorInvalidLevel = 124
	errorNoSuchShare  = 2310

	typeDisk = 0
	typePipe = 0x80000003 // special, inter-process communication
)

// call runs one operation on its NDR stub.
func (s ServerService) call(op uint16, stub []byte) (out []byte, known bool, err error) {
	in := &ndrReader{b: stub}
	w := &ndrWriter{}
	switch op {
	case opShareEnum:
		in.uniqueString()
		level := in.u32()
		in.u32() // the union's own copy of it
		if in.u32() != 0 {
			in.u32()
			if in.u32() != 0 { // clients send no entries
				return nil, true, ErrMalformed
			}
		}
		in.u32() // preferred length: the answer is whole whatever its size
		resume := in.u32() != 0
		s.enumerate(w, level, resume)
	case opShareGetInfo:
		in.uniqueString()
		name := in.text()
		level := in.u32()
		s.shareInfo(w, name, level)
	case opServerGetInfo:
		in.uniqueString()
		s.serverInfo(w, in.u32())
	default:
		return nil, false, nil
	}
	return w.b, true, in.err
}

// shareLevels says which fields a SHARE_INFO of a level has, MS-SRVS section 2.2.4.
func writeShare(w *ndrWriter, level uint32, s Share) {
	w.pointer()
	w.later(s.Name)
	if level == 0 {
		return
	}
	kind := uint32(typeDisk)
	if s.Pipes {
		kind = typePipe
	}
	w.u32(kind)
	w.pointer()
	w.later(s.Comment)
	if level == 501 {
		w.u32(0)
	}
}

func knownLevel(level uint32) bool { return level == 0 || level == 1 || level == 501 }

// enumerate is NetrShareEnum, MS-SRVS section 3.1.4.8.
func (s ServerService) enumerate(w *ndrWriter, level uint32, resume bool) {
	w.u32(level)
	w.u32(level)
	var status uint32
	var shares []Share
	if knownLevel(level) {
		shares = s.Shares()
		w.pointer()
		w.u32(uint32(len(shares)))
		w.pointer()
		w.u32(uint32(len(shares)))
		for _, sh := range shares {
			writeShare(w, level, sh)
		}
		w.flush()
	} else {
		w.u32(0)
		status = errorInvalidLevel
	}
	w.u32(uint32(len(shares)))
	if resume {
		w.pointer()
	}
	w.u32(0)
	w.u32(status)
}

// shareInfo is NetrShareGetInfo, MS-SRVS section 3.1.4.10.
func (s ServerService) shareInfo(w *ndrWriter, name string, level uint32) {
	w.u32(level)
	if !knownLevel(level) {
		w.u32(0)
		w.u32(errorInvalidLevel)
		return
	}
	for _, sh := range s.Shares() {
		if strings.EqualFold(sh.Name, name) {
			w.pointer()
			writeShare(w, level, sh)
			w.flush()
			w.u32(0)
			return
		}
	}
	w.u32(0)
	w.u32(errorNoSuchShare)
}

// serverInfo is NetrServerGetInfo, MS-SRVS section 3.1.4.17.
func (s ServerService) serverInfo(w *ndrWriter, level uint32) {
	const platform, major, minor, serverType = 500, 10, 0, 0x00000003
	w.u32(level)
	if level != 100 && level != 101 {
		w.u32(0)
		w.u32(errorInvalidLevel)
		return
	}
	w.pointer()
	w.u32(platform)
	w.pointer()
	w.later(s.Name)
	if level == 101 {
		w.u32(major)
		w.u32(minor)
		w.u32(serverType)
		w.pointer()
		w.later("")
	}
	w.flush()
	w.u32(0)
}

// ndrWriter writes NDR, C706 chapter 14: little-endian, four-byte alignment.
type ndrWriter struct {
	b        []byte
	pointers uint32
	pending  []string
}

func (w *ndrWriter) u32(v uint32) { w.b = binary.LittleEndian.AppendUint32(w.b, v) }

// pointer writes a referent ID that is not null.
func (w *ndrWriter) pointer() {
	w.pointers++
	w.u32(0x00020000 + 4*w.pointers)
}

// later puts off the string that the last pointer refers to, until flush.
func (w *ndrWriter) later(s string) { w.pending = append(w.pending, s) }

func (w *ndrWriter) flush() {
	for _, s := range w.pending {
		units := append(utf16.Encode([]rune(s)), 0)
		w.u32(uint32(len(units)))
		w.u32(0)
		w.u32(uint32(len(units)))
		for _, u := range units {
			w.b = binary.LittleEndian.AppendUint16(w.b, u)
		}
		for len(w.b)%4 != 0 {
			w.b = append(w.b, 0)
		}
	}
	w.pending = nil
}

// ndrReader reads it; the first thing missing sets err and all that follows is zero.
type ndrReader struct {
	b   []byte
	at  int
	err error
}

func (r *ndrReader) u32() uint32 {
	if r.err != nil || len(r.b)-r.at < 4 {
		r.err = ErrMalformed
		return 0
	}
	v := binary.LittleEndian.Uint32(r.b[r.at:])
	r.at += 4
	return v
}

// text reads a conformant varying string.
func (r *ndrReader) text() string {
	_, offset, n := r.u32(), r.u32(), r.u32()
	if r.err != nil || offset != 0 || uint64(n)*2 > uint64(len(r.b)-r.at) {
		r.err = ErrMalformed
		return ""
	}
	units := make([]uint16, n)
	for i := range units {
		units[i] = binary.LittleEndian.Uint16(r.b[r.at+2*i:])
	}
	r.at = min((r.at+2*int(n)+3)&^3, len(r.b))
	return strings.TrimRight(string(utf16.Decode(units)), "\x00")
}

func (r *ndrReader) uniqueString() string {
	if r.u32() == 0 {
		return ""
	}
	return r.text()
}
