package smb

import (
	"encoding/binary"
	"strings"
	"unicode/utf8"

	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/smb/message"
)

var le = binary.LittleEndian

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
// the start. The result has slashes. A named stream is none.
func fromWire(raw []byte) (string, Status) {
	path, stream, status := withStream(raw)
	if status == statusOK && stream != "" {
		status = statusObjectNameInvalid
	}
	return path, status
}

// withStream is fromWire for what may end with the name of a stream: a colon and the name, and perhaps another and what streams that have
// contents are called (MS-FSCC section 2.1.5). Of a stream's name each character stands for itself.
func withStream(raw []byte) (path, stream string, status Status) {
	s, ok := message.Text(raw)
	if !ok {
		return "", "", statusObjectNameInvalid
	}
	if s != "" && s[0] == '\\' {
		return "", "", statusInvalidParameter
	}
	if at := strings.IndexByte(s[strings.LastIndexByte(s, '\\')+1:], ':'); at >= 0 {
		const contents = "$DATA"
		at += strings.LastIndexByte(s, '\\') + 1
		name, kind, typed := strings.Cut(s[at+1:], ":")
		if s = s[:at]; typed && !strings.EqualFold(kind, contents) || name == "" && !typed {
			return "", "", statusObjectNameInvalid
		}
		if name != "" && files.CheckStream(name) != nil {
			return "", "", statusObjectNameInvalid
		}
		stream = name
	}
	path, status = pathFrom(s)
	return path, stream, status
}

// pathFrom is fromWire for what names no stream.
func pathFrom(s string) (string, Status) {
	if s == "" {
		return "", statusOK
	}
	if s[len(s)-1] == '\\' {
		s = s[:len(s)-1]
	}
	out := make([]byte, 0, 128)
	first := true
	for part := range strings.SplitSeq(s, `\`) {
		switch part {
		case "":
			return "", statusObjectNameInvalid
		case ".", "..":
			return "", statusObjectPathSyntaxBad
		}
		if !first {
			out = append(out, '/')
		}
		first = false
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
