package smb

import (
	"encoding/binary"
	"strings"
	"unicode/utf8"

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
// the start. The result has slashes.
func fromWire(raw []byte) (string, Status) {
	s, ok := message.Text(raw)
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
