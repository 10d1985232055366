package plain_test

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/core/plain"
)

func TestSpelling(t *testing.T) {
	for name, text := range map[string]string{
		"alt\xe4r.txt": `alt\xe4r.txt`, "altär.txt": "altär.txt", "": "", "2026/03": "2026/03", `a\b`: `a\x5cb`, `a\xe4`: `a\x5cxe4`, `\x`: `\x5cx`,
		"a\nb": `a\x0ab`, "gpj.\u202eexe": `gpj.\xe2\x80\xaeexe`, "\xc3": `\xc3`, "\xc3/\xa4": `\xc3/\xa4`, "\ufffd": "\ufffd", "\x7f": `\x7f`,
	} {
		require.Equal(t, text, plain.Spell(name))
		require.Equal(t, name, plain.Unspell(text))
		require.NoError(t, plain.Check(text), "it can be typed, and shows itself")
	}
	require.Equal(t, `a\x2fb`, plain.Unspell(`a\x2fb`), "no name has a slash in it")
	require.Equal(t, `a\x00b`, plain.Unspell(`a\x00b`))
	require.Equal(t, `nightlog/alt\xe4r/x/xzz`, plain.Slashes(`nightlog\alt\xe4r\x\xzz`))
	require.Equal(t, "\xe4", plain.Unspell(`\xE4`), "whatever the case of its digits")
}

// Each name has one spelling, which is text that shows itself, and each spelling one name; and what is below a directory stays there.
func TestSpellingIsReversible(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		name := string(rapid.SliceOfN(rapid.ByteRange(1, 255), 0, 12).Draw(t, "name"))
		if rapid.Bool().Draw(t, "with spellings") {
			name += rapid.SampledFrom([]string{`\x`, `\xe4`, `\x5c`, `x5c`, `\`, `\xzz`, "\u202e", "\xe2\x80", `5c`}).Draw(t, "more") + name
		}
		text := plain.Spell(name)
		require.Equal(t, name, plain.Unspell(text))
		require.NoError(t, plain.Check(text))
		require.Equal(t, text, plain.Text(text))
		require.Equal(t, text, plain.Spell(plain.Unspell(text)))
		require.Equal(t, text+"/"+text, plain.Spell(name+"/"+name), "name by name or all at once")
	})
}
