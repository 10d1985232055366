package ntlm

import (
	"bytes"
	"encoding/hex"
	"os"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/require"
	//lint:ignore SA1019 MS-NLMP section 3.3.1 builds NTLMv2 on it
	"golang.org/x/crypto/md4"
)

// Sign-ins of other people's clients, as they were taken down (test/capture_test.go), are right with the password they were
// made with and no other, the MIC that they promise included.
func TestCapturedSignIns(t *testing.T) {
	hash := func(password string) []byte {
		h := md4.New()
		for _, u := range utf16.Encode([]rune(password)) {
			h.Write([]byte{byte(u), byte(u >> 8)})
		}
		return h.Sum(nil)
	}
	for _, name := range []string{"python-2.1", "go-3.1.1"} {
		raw, err := os.ReadFile("../smb/testdata/captured/" + name + ".txt")
		require.NoError(t, err)
		messages := make(map[byte][]byte) // by type
		for line := range strings.Lines(string(raw)) {
			_, text, _ := strings.Cut(strings.TrimSpace(line), " ")
			b, err := hex.DecodeString(text)
			if i := bytes.Index(b, []byte(signature)); err == nil && i >= 0 && messages[b[i+8]] == nil {
				messages[b[i+8]] = b[i : i+octets(b[:i])]
			}
		}
		require.Len(t, messages, 3, name)
		challenge := messages[2]
		for password, right := range map[string]bool{"piran-at-larkfell": true, "piran-at-larkfelL": false, "": false} {
			x := exchange{negotiate: messages[1], challenge: challenge, flags: 0xffffffff}
			copy(x.nonce[:], challenge[24:32])
			err := x.finish(bytes.Clone(messages[3]), known(hash(password)))
			if right {
				require.NoError(t, err, name)
				require.Equal(t, "piran", strings.ToLower(x.user))
				require.Len(t, x.key, 16)
			} else {
				require.ErrorIs(t, err, ErrWrong, name)
			}
		}
	}
}

// octets is the length of an OCTET STRING whose header ends here: X.690 section 8.1.3.
func octets(before []byte) int {
	n := len(before)
	switch {
	case n > 3 && before[n-4] == 4 && before[n-3] == 0x82:
		return int(before[n-2])<<8 | int(before[n-1])
	case n > 2 && before[n-3] == 4 && before[n-2] == 0x81:
		return int(before[n-1])
	}
	return int(before[n-1])
}
