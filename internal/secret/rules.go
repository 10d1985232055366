package secret

import (
	_ "embed"
	"fmt"
	"strings"
	"sync"
	"unicode"
)

// The lengths of a password: at least so many characters, at most so many bytes.
const (
	Shortest = 8
	Longest  = 256
)

// besidesName is how many characters a password needs besides the names of whom it belongs to.
const besidesName = 6

//go:embed common.txt
var commonText string

// common are passwords that are tried first by whoever guesses, in lower case and without what is put after a word to get past a rule.
var common = sync.OnceValue(func() map[string]bool {
	out := make(map[string]bool)
	for word := range strings.FieldsSeq(commonText) {
		out[word] = true
	}
	return out
})

// Weak says why a password is not taken for somebody with these names; "" where it is.
func Weak(password string, names ...string) string {
	runes := []rune(strings.ToLower(password))
	switch {
	case len(runes) < Shortest:
		return fmt.Sprintf("the password needs at least %d characters", Shortest)
	case len(password) > Longest:
		return fmt.Sprintf("the password is longer than %d bytes", Longest)
	case few(runes):
		return "the password is one or two characters again and again"
	case straight(runes):
		return "the password is a row of characters that follow each other"
	}
	low := string(runes)
	word := strings.TrimFunc(low, func(r rune) bool { return unicode.IsDigit(r) || unicode.IsPunct(r) || unicode.IsSymbol(r) })
	if common()[low] || common()[word] || common()[unspelled.Replace(word)] {
		return "the password is one of those that are guessed first"
	}
	left := low
	for _, name := range names {
		for part := range strings.FieldsSeq(strings.ToLower(name)) {
			if len([]rune(part)) >= 3 {
				left = strings.ReplaceAll(left, part, "")
			}
		}
	}
	if left != low && len([]rune(left)) < besidesName {
		return "the password is little more than the name"
	}
	return ""
}

// unspelled takes back what is put in the place of letters.
var unspelled = strings.NewReplacer("0", "o", "1", "l", "3", "e", "4", "a", "5", "s", "7", "t", "@", "a", "$", "s", "!", "i")

func few(runes []rune) bool {
	different := make(map[rune]bool)
	for _, r := range runes {
		different[r] = true
	}
	return len(different) <= 2
}

// straight says whether every character is the one after, or before, the one before it, as in 23456789; 0 may follow 9.
func straight(runes []rune) bool {
	for _, step := range []rune{1, -1} {
		all := true
		for i := 1; i < len(runes) && all; i++ {
			is := runes[i] - runes[i-1]
			all = is == step || step == 1 && runes[i-1] == '9' && runes[i] == '0' || step == -1 && runes[i-1] == '0' && runes[i] == '9'
		}
		if all {
			return true
		}
	}
	return false
}
