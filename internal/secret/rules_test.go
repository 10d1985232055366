package secret

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestWeakPasswords(t *testing.T) {
	for password, says := range map[string]string{
		"":                          "at least 8",
		"seven77":                   "at least 8",
		"äöüßéèê":                   "at least 8", // fourteen bytes
		strings.Repeat("ab1", 86):   "longer than 256",
		"aaaaaaaa":                  "again and again",
		"abababab":                  "again and again",
		"ÄÄÄÄÄÄÄÄÄ":                 "again and again",
		"12345678":                  "follow each other",
		"56789012":                  "follow each other",
		"98765432":                  "follow each other",
		"abcdefgh":                  "follow each other",
		"HGFEDCBA":                  "follow each other",
		"password":                  "guessed first",
		"Password1!":                "guessed first",
		"P@ssw0rd2026":              "guessed first",
		"Summer2026":                "guessed first",
		"2026-Welcome!":             "guessed first",
		"qwertyuiop":                "guessed first",
		"1qaz2wsx":                  "guessed first",
		"12341234":                  "guessed first",
		"ch4ngeme!!":                "guessed first",
		"orla1234":                  "little more than the name",
		"Finnegan!":                 "little more than the name",
		"OrlaFinnegan26":            "little more than the name",
		"finneganorla":              "little more than the name",
		"orlaorlaorla":              "little more than the name",
		"orla-at-larkfell":          "",
		"a long sentence of orla's": "",
		"eight-ch":                  "",
		"passwords are many":        "",
		"áéíóúàèì":                  "",
		strings.Repeat("ab1", 85):   "",
	} {
		got := Weak(password, "orla", "Orla Finnegan")
		if says == "" {
			require.Empty(t, got, password)
		} else {
			require.Contains(t, got, says, password)
		}
	}
	require.Empty(t, Weak("orla1234xy", "li", ""), "a name of two letters is in too many words")
}
