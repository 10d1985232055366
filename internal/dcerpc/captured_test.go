package dcerpc

import (
	"bytes"
	"encoding/hex"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// What a Python client wrote to the pipe to list the shares, as it was taken down (test/capture_test.go), binds and is
// answered.
func TestCapturedListing(t *testing.T) {
	raw, err := os.ReadFile("../smb/testdata/captured/python-2.1.txt")
	require.NoError(t, err)
	var pdus [][]byte
	for line := range strings.Lines(string(raw)) {
		text, ok := strings.CutPrefix(strings.TrimSpace(line), "> ")
		if !ok {
			continue
		}
		b, err := hex.DecodeString(text)
		require.NoError(t, err)
		// Version 5.0, little-endian, at the end of a WRITE or an IOCTL; its length says that it is one.
		for i := 64; i+headerSize <= len(b); i++ {
			if b[i] == 5 && b[i+1] == 0 && bytes.Equal(b[i+4:i+8], []byte{0x10, 0, 0, 0}) && int(le.Uint16(b[i+8:])) == len(b)-i {
				pdus = append(pdus, b[i:])
				break
			}
		}
	}
	require.GreaterOrEqual(t, len(pdus), 2)
	require.EqualValues(t, pduBind, pdus[0][2])
	c := NewConn(service(3))
	answers := 0
	for _, p := range pdus {
		out, err := c.Handle(p)
		require.NoError(t, err)
		for _, a := range out {
			require.NotEqualValues(t, pduFault, a[2])
			if a[2] == pduResponse && strings.Contains(string(a), "p\x00l\x00a\x00t\x00e\x00s\x00-\x002\x00") {
				answers++
			}
		}
	}
	require.Equal(t, 1, answers)
}
