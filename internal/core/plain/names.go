package plain

import (
	"strings"
	"unicode/utf8"
)

// Names on disk are bytes, and need not be text. Where rules, the audit and people name them they are spelled: bytes that are not UTF-8, and those of
// characters that do not show themselves, as \xe4. So is a backslash in a name, as people write it between names: each
// name has one spelling, and each spelling one name.

// Spell gives a path of bytes as text.
func Spell(path string) string {
	at := strange(path)
	if at < 0 {
		return path
	}
	var b strings.Builder
	b.WriteString(path[:at])
	for i := at; i < len(path); {
		r, n := utf8.DecodeRuneInString(path[i:])
		if r == utf8.RuneError && n == 1 || !Safe(r) || r == '\\' {
			for _, c := range []byte(path[i : i+n]) {
				b.WriteString(`\x`)
				b.WriteByte(digits[c>>4])
				b.WriteByte(digits[c&15])
			}
		} else {
			b.WriteString(path[i : i+n])
		}
		i += n
	}
	return b.String()
}

const digits = "0123456789abcdef"

// strange gives where in a path the first character is that has to be looked at; -1 for none.
func strange(path string) int {
	for i := 0; i < len(path); i++ {
		if c := path[i]; c < 0x20 || c >= 0x7f || c == '\\' {
			return i
		}
	}
	return -1
}

// isSpelled says whether a text begins with the spelling of a byte.
func isSpelled(s string) bool {
	return len(s) >= 4 && s[0] == '\\' && s[1] == 'x' && hex(s[2]) >= 0 && hex(s[3]) >= 0
}

func hex(c byte) int {
	switch {
	case c >= '0' && c <= '9':
		return int(c - '0')
	case c >= 'a' && c <= 'f':
		return int(c-'a') + 10
	case c >= 'A' && c <= 'F':
		return int(c-'A') + 10
	}
	return -1
}

// Slashes gives a path as somebody wrote it with slashes between the names: backslashes are taken for those, but where they spell a byte.
func Slashes(text string) string {
	if !strings.Contains(text, `\`) {
		return text
	}
	b := []byte(text)
	for i := range b {
		if b[i] == '\\' && !isSpelled(text[i:]) {
			b[i] = '/'
		}
	}
	return string(b)
}

// Unspell gives the bytes that a text spells. What no name has, a slash and a zero byte, is not spelled so.
func Unspell(text string) string {
	if !strings.Contains(text, `\x`) {
		return text
	}
	var b strings.Builder
	for i := 0; i < len(text); {
		if isSpelled(text[i:]) {
			if c := byte(hex(text[i+2])<<4 | hex(text[i+3])); c != 0 && c != '/' {
				b.WriteByte(c)
				i += 4
				continue
			}
		}
		b.WriteByte(text[i])
		i++
	}
	return b.String()
}
