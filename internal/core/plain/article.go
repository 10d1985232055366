package plain

import (
	"fmt"
	"strings"
)

// WithArticle is a noun with the article before it: "an auditor", "a user".
func WithArticle(noun string) string {
	if noun != "" && strings.ContainsRune("aeio", rune(noun[0])) {
		return "an " + noun
	}
	return "a " + noun
}

// Counted is a number with what there are so many of, by one word for one and another for several or none.
func Counted(n int, one, several string) string {
	if n == 1 {
		return "1 " + one
	}
	return fmt.Sprintf("%d %s", n, several)
}
