package plain

import "strings"

// WithArticle is a noun with the article before it: "an auditor", "a user".
func WithArticle(noun string) string {
	if noun != "" && strings.ContainsRune("aeio", rune(noun[0])) {
		return "an " + noun
	}
	return "a " + noun
}
