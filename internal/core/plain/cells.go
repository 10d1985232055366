package plain

import "strings"

// formula are the characters with which a formula begins.
const formula = "=+-@\t\r"

// Cell is a text as a cell of CSV holds it: what a spreadsheet would take for a formula, and file
// names can be anything, gets an apostrophe in front.
func Cell(s string) string {
	if s != "" && strings.ContainsRune(formula, rune(s[0])) {
		return "'" + s
	}
	return s
}

// Uncell is the text that Cell made a cell of.
func Uncell(s string) string {
	if len(s) > 1 && s[0] == '\'' && strings.ContainsRune(formula, rune(s[1])) {
		return s[1:]
	}
	return s
}
