package plain

import (
	"os/exec"
	"strings"
	"testing"
	"unicode"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

func TestText(t *testing.T) {
	for in, want := range map[string]string{
		"": "", "plates/2026-03": "plates/2026-03", "café ångström 観測": "café ångström 観測", "שלום": "שלום",
		"a\nkeeper  removed": `a\x0akeeper  removed`, "\x1b[2J": `\x1b[2J`, "tab\there": `tab\x09here`, "\x7f": `\x7f`, "\u009b31m": `\u009b31m`,
		"gpj.\u202eexe": `gpj.\u202eexe`, "\u2066x\u2069": `\u2066x\u2069`, "\xff\xfe": `\xff\xfe`, "alt\xe4r.txt": `alt\xe4r.txt`, "\U000e0041": `\U000e0041`, "\ufffd": "\ufffd",
	} {
		require.Equal(t, want, Text(in))
	}
	require.Equal(t, "one\ntwo\tthree\\x1b", Lines("one\ntwo\tthree\x1b"))
	require.ErrorContains(t, Check("a\x1bb"), "U+001B")
	require.Error(t, Check("one\ntwo"))
	require.NoError(t, CheckLines("one\r\n\ttwo"))
	require.Error(t, CheckLines("one\x00"))
	require.Error(t, Check("\xff"))
}

// Whatever it is, what is shown does nothing to where it is shown, and text that does nothing stays as it is.
func TestNothingGoesThrough(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		s := rapid.OneOf(rapid.String(), rapid.Map(rapid.SliceOf(rapid.Byte()), func(b []byte) string { return string(b) })).Draw(t, "text")
		out := Text(s)
		require.True(t, utf8.ValidString(out))
		require.NoError(t, Check(out))
		for _, r := range out {
			require.False(t, unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r), "%U", r)
		}
		if Check(s) == nil {
			require.Equal(t, s, out)
		} else {
			require.True(t, strings.Contains(out, `\`))
		}
	})
}

// A word that is pasted into a shell is what it was.
func TestAShellTakesAWordForWhatItIs(t *testing.T) {
	for in, want := range map[string]string{"plates/2026": "plates/2026", "": "''", "a b": "'a b'", "it's": `'it'\''s'`, "*": "'*'", "café": "'café'", "staff@": "staff@", "a\nb": "'a\nb'"} {
		require.Equal(t, want, Word(in))
	}
	words := []string{"", "-n", "$HOME", "`id`", "a\nb ", `\`, "'", "!!", "~", "#x", "{a,b}", "[!a]*?", "观 測", "\x1b", ";|&<>()"}
	rapid.Check(t, func(t *rapid.T) {
		words = append(words, strings.ReplaceAll(rapid.String().Draw(t, "word"), "\x00", ""))
	})
	line := "printf '%s\\000'"
	for _, w := range words {
		line += " " + Word(w)
	}
	out, err := exec.Command("sh", "-c", line).Output()
	require.NoError(t, err)
	require.Equal(t, strings.Join(words, "\x00")+"\x00", string(out))
}
