package cli

import (
	"bytes"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/plain"
)

// However a text is cut into writes, it is printed the same.
func TestCharactersSplitOverWrites(t *testing.T) {
	for _, text := range []string{"", "a", "é", "Ångström 東京 \U0001F52D!", "plain", "cut \xe4 here", "\xf0\x9f\x94", "a\x1b[31mb"} {
		for size := 1; size <= 5; size++ {
			var out bytes.Buffer
			f := &filter{to: &out}
			for rest := []byte(text); len(rest) > 0; {
				n, err := f.Write(rest[:min(size, len(rest))])
				require.NoError(t, err)
				rest = rest[n:]
			}
			_, err := f.Write([]byte("."))
			require.NoError(t, err)
			require.Equal(t, plain.Printed(text+"."), out.String(), "%q by %d bytes", text, size)
		}
	}
}
