// Package plain tells text that can be shown from text that does something to where it is shown: control
// characters, which move a terminal's cursor or forge a line, and those of bidirectional writing, which
// make a line read otherwise than it is.
package plain

import (
	"fmt"
	"strings"
	"unicode/utf8"
)

// Safe says whether a character only shows itself.
func Safe(r rune) bool {
	switch {
	case r < 0x20, r >= 0x7f && r < 0xa0: // C0, DEL, C1
		return false
	case r == 0x061c, r == 0x200e, r == 0x200f, r >= 0x202a && r <= 0x202e, r >= 0x2066 && r <= 0x2069: // Bidi_Control, Unicode UAX 9
		return false
	case r == 0x2028, r == 0x2029, r == 0xfeff, r >= 0xfff9 && r <= 0xfffb, r >= 0xe0000 && r <= 0xe007f: // separators, marks and tags that show nothing
		return false
	}
	return true
}

// Check says which character of a line cannot be shown, nil if all can.
func Check(s string) error { return check(s, "") }

// CheckLines is Check for text that is laid out in lines.
func CheckLines(s string) error { return check(s, "\n\r\t") }

func check(s, also string) error {
	if !utf8.ValidString(s) {
		return fmt.Errorf("it is not text in UTF-8")
	}
	for _, r := range s {
		if !Safe(r) && !strings.ContainsRune(also, r) {
			return fmt.Errorf("it has a character that does not show itself, U+%04X: leave it out", r)
		}
	}
	return nil
}

// words are the characters that no shell takes for its own.
const words = "abcdefghijklmnopqrstuvwxyzABCDEFGHIJKLMNOPQRSTUVWXYZ0123456789._/@:,+=-"

// Word spells an argument so that a shell takes it as the one word that it is.
func Word(s string) string {
	if s != "" && strings.Trim(s, words) == "" {
		return s
	}
	return "'" + strings.ReplaceAll(s, "'", `'\''`) + "'"
}

// Text spells out, as \x1b or \u202e, what would not show itself, and bytes that are not UTF-8.
func Text(s string) string { return text(s, "") }

// Lines is Text for what is laid out in lines already.
func Lines(s string) string { return text(s, "\n\t") }

func text(s, also string) string {
	clean := true
	for i, r := range s {
		if !Safe(r) && !strings.ContainsRune(also, r) || r == utf8.RuneError && notUTF8(s[i:]) {
			clean = false
			break
		}
	}
	if clean {
		return s
	}
	var b strings.Builder
	for i := 0; i < len(s); {
		r, n := utf8.DecodeRuneInString(s[i:])
		switch {
		case r == utf8.RuneError && n == 1:
			fmt.Fprintf(&b, `\x%02x`, s[i])
		case Safe(r) || strings.ContainsRune(also, r):
			b.WriteString(s[i : i+n])
		case r < 0x80:
			fmt.Fprintf(&b, `\x%02x`, r)
		case r > 0xffff:
			fmt.Fprintf(&b, `\U%08x`, r)
		default:
			fmt.Fprintf(&b, `\u%04x`, r)
		}
		i += n
	}
	return b.String()
}

func notUTF8(s string) bool {
	_, n := utf8.DecodeRuneInString(s)
	return n == 1
}

// Printed is Lines for what goes to a terminal, where a line may also be written over from its beginning.
func Printed(s string) string { return text(s, "\n\t\r") }
