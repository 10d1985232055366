package cli

import (
	"bytes"
	"io"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Colours only go with words that say the same, change no text, and are there on terminals alone.
func TestColours(t *testing.T) {
	for line, want := range map[string]string{
		"REFUSED at the entry gate.":                "\x1b[1;31mREFUSED\x1b[0m at the entry gate.",
		"NO  entry    nothing  entry 5 on nightlog": "\x1b[1;31mNO\x1b[0m  entry    nothing  entry 5 on nightlog",
		"high    428d30dc  client rule 1":           "\x1b[1;31mhigh\x1b[0m    428d30dc  client rule 1",
		"gains  nightlog  nothing":                  "\x1b[32mgains\x1b[0m  nightlog  nothing",
		"NO one":                                    "NO one",
		"high on the mountain":                      "high on the mountain",
		"":                                          "",
	} {
		require.Equal(t, want, painted(line))
	}
	rapid.Check(t, func(t *rapid.T) {
		text := rapid.StringMatching(`((ok|NO|high|low|gains|Mind:|amber:|  away)?  ?[a-z0-9 ]{0,20}\n?){0,4}`).Draw(t, "text")
		var plain, coloured bytes.Buffer
		for _, w := range []*lines{{to: &plain}, {to: &coloured, colour: true}} {
			for rest := text; rest != ""; { // in pieces, as it comes
				n := rapid.IntRange(1, len(rest)).Draw(t, "piece")
				m, err := io.WriteString(w, rest[:n])
				require.NoError(t, err)
				require.Equal(t, n, m)
				rest = rest[n:]
			}
		}
		require.Equal(t, text, plain.String())
		for _, code := range []string{red, green, yellow, faint, "0"} {
			coloured = *bytes.NewBufferString(strings.ReplaceAll(coloured.String(), "\x1b["+code+"m", ""))
		}
		require.Equal(t, text, coloured.String())
	})
	require.False(t, shows(&bytes.Buffer{}))
	file, err := os.Create(t.TempDir() + "/out")
	require.NoError(t, err)
	require.False(t, shows(file), "a file is no terminal")
}

// Commands that are printed reach the service that was asked.
func TestPrintedCommandsSayWhere(t *testing.T) {
	var out bytes.Buffer
	w := &lines{to: &out, url: "http://10.0.2.2:8460"}
	_, err := io.WriteString(w, "To allow it:\n  amber entry add nightlog allow orla read\nno users yet: amber user add NAME\namber: there is no user \"x\"\na glass of amber used here\n")
	require.NoError(t, err)
	require.Equal(t, "To allow it:\n  amber --url http://10.0.2.2:8460 entry add nightlog allow orla read\nno users yet: amber --url http://10.0.2.2:8460 user add NAME\n"+
		"amber: there is no user \"x\"\na glass of amber used here\n", out.String())
	out.Reset()
	require.Equal(t, 3, Main(t.Context(), []string{"amber", "user", "list", "--url", "http://127.0.0.1:1"}, os.Stdin, &out, &out, "test"))
	require.Equal(t, "amber: no service answers at http://127.0.0.1:1\n  next: amber serve\n", out.String())
}
