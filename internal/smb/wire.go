package smb

import (
	"encoding/binary"
	"errors"
	"strings"
	"time"
	"unicode/utf16"
	"unicode/utf8"
)

var le = binary.LittleEndian

// errShort is for a message that ends before it should.
var errShort = errors.New("message too short")

// header is the SMB2 packet header, MS-SMB2 section 2.2.1.
type header struct {
	creditCharge uint16
	status       Status
	command      command
	credits      uint16
	flags        uint32
	next         uint32
	messageID    uint64
	treeID       uint32
	asyncID      uint64 // instead of treeID where flagAsync is set
	sessionID    uint64
	signature    [16]byte
}

const (
	headerSize = 64

	flagResponse = 0x00000001
	flagAsync    = 0x00000002
	flagRelated  = 0x00000004
	flagSigned   = 0x00000008
)

type command uint16

const (
	cmdNegotiate command = iota
	cmdSessionSetup
	cmdLogoff
	cmdTreeConnect
	cmdTreeDisconnect
	cmdCreate
	cmdClose
	cmdFlush
	cmdRead
	cmdWrite
	cmdLock
	cmdIoctl
	cmdCancel
	cmdEcho
	cmdQueryDirectory
	cmdChangeNotify
	cmdQueryInfo
	cmdSetInfo
	cmdOplockBreak
)

// parseHeader reads a header; MS-SMB2 section 3.3.5.2.
func parseHeader(b []byte) (header, error) {
	var h header
	if len(b) < headerSize || string(b[:4]) != "\xfeSMB" || le.Uint16(b[4:]) != headerSize {
		return h, errShort
	}
	h.creditCharge = le.Uint16(b[6:])
	h.command = command(le.Uint16(b[12:]))
	h.credits = le.Uint16(b[14:])
	h.flags = le.Uint32(b[16:])
	h.next = le.Uint32(b[20:])
	h.messageID = le.Uint64(b[24:])
	if h.flags&flagAsync != 0 {
		h.asyncID = le.Uint64(b[32:])
	} else {
		h.treeID = le.Uint32(b[36:])
	}
	h.sessionID = le.Uint64(b[40:])
	copy(h.signature[:], b[48:])
	return h, nil
}

// put writes the header at the start of b, its signature as zeros.
func (h *header) put(b []byte) {
	clear(b[:headerSize])
	copy(b, "\xfeSMB")
	le.PutUint16(b[4:], headerSize)
	le.PutUint16(b[6:], h.creditCharge)
	le.PutUint32(b[8:], uint32(h.status))
	le.PutUint16(b[12:], uint16(h.command))
	le.PutUint16(b[14:], h.credits)
	le.PutUint32(b[16:], h.flags)
	le.PutUint32(b[20:], h.next)
	le.PutUint64(b[24:], h.messageID)
	if h.flags&flagAsync != 0 {
		le.PutUint64(b[32:], h.asyncID)
	} else {
		le.PutUint32(b[36:], h.treeID)
	}
	le.PutUint64(b[40:], h.sessionID)
}

// body is a request after its header, read by offset. Offsets in requests count
// from the start of the header.
type body []byte

// fixed checks the structure size that every request begins with.
func (b body) fixed(size uint16) bool {
	return len(b) >= int(size&^1) && le.Uint16(b) == size
}

// buffer gives length bytes at an offset that counts from the header.
func (b body) buffer(offset, length int) ([]byte, bool) {
	if length == 0 {
		return nil, true
	}
	offset -= headerSize
	if offset < 0 || offset > len(b) || length < 0 || length > len(b)-offset {
		return nil, false
	}
	return b[offset : offset+length], true
}

func utf16le(s string) []byte {
	out := make([]byte, 0, 2*len(s))
	for _, u := range utf16.Encode([]rune(s)) {
		out = le.AppendUint16(out, u)
	}
	return out
}

// fromUTF16 reads UTF-16; false for an odd length or a lone surrogate.
func fromUTF16(b []byte) (string, bool) {
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

// filetime is MS-DTYP section 2.3.3.
func filetime(t time.Time) uint64 {
	if t.IsZero() {
		return 0
	}
	return uint64(t.Unix()*1e7 + int64(t.Nanosecond()/100) + epochGap)
}

// fromFiletime is its inverse; zero for the values that mean "leave it".
func fromFiletime(v uint64) time.Time {
	if v == 0 || v >= 1<<63 {
		return time.Time{}
	}
	ticks := int64(v) - epochGap
	return time.Unix(ticks/1e7, ticks%1e7*100)
}

// names on the wire

// Names on disk are bytes, and may have in them what names on the wire cannot: reserved characters (MS-FSCC section 2.1.5.2), which are shown at
// U+F000 and up, and bytes that are not UTF-8, which are shown at U+EF80 to U+EFFF: private ranges that several programs use for
// these. Where a name has such a private character itself, its bytes are shown, so that each name has one form on the wire.
const reserved = "\"\\:|<>*?"

const (
	reservedAt = 0xf000
	bytesAt    = 0xef00
)

func isReserved(r rune) bool { return r < 0x20 || strings.ContainsRune(reserved, r) }

// standsFor gives what a private character on the wire stands for: a reserved one, or a byte.
func standsFor(r rune) (byte, bool) {
	switch {
	case r > reservedAt && r < reservedAt+0x80 && isReserved(r-reservedAt):
		return byte(r - reservedAt), true
	case r >= bytesAt+0x80 && r <= bytesAt+0xff:
		return byte(r - bytesAt), true
	}
	return 0, false
}

func toWire(name string) string {
	plain := utf8.ValidString(name)
	for _, r := range name {
		_, stands := standsFor(r)
		plain = plain && !stands && !isReserved(r)
	}
	if plain {
		return name
	}
	var out []rune
	for i := 0; i < len(name); {
		r, n := utf8.DecodeRuneInString(name[i:])
		_, stands := standsFor(r)
		switch {
		case stands || r == utf8.RuneError && n == 1:
			for _, c := range []byte(name[i : i+n]) {
				out = append(out, bytesAt+rune(c))
			}
		case isReserved(r):
			out = append(out, reservedAt+r)
		default:
			out = append(out, r)
		}
		i += n
	}
	return string(out)
}

// fromWire reads a path as clients send it: backslashes between names, none at
// the start. The result has slashes.
func fromWire(raw []byte) (string, Status) {
	s, ok := fromUTF16(raw)
	if !ok {
		return "", statusObjectNameInvalid
	}
	if s == "" {
		return "", statusOK
	}
	if s[0] == '\\' {
		return "", statusInvalidParameter
	}
	if s[len(s)-1] == '\\' {
		s = s[:len(s)-1]
	}
	const stream = "::$DATA" // the file's own contents
	if len(s) > len(stream) && s[len(s)-len(stream):] == stream {
		s = s[:len(s)-len(stream)]
	}
	var out []byte
	for i, part := range strings.Split(s, `\`) {
		switch part {
		case "":
			return "", statusObjectNameInvalid
		case ".", "..":
			return "", statusObjectPathSyntaxBad
		}
		if i > 0 {
			out = append(out, '/')
		}
		for _, r := range part {
			if r == '/' || isReserved(r) {
				return "", statusObjectNameInvalid
			}
			if c, ok := standsFor(r); ok {
				out = append(out, c)
			} else {
				out = utf8.AppendRune(out, r)
			}
		}
	}
	return string(out), statusOK
}
