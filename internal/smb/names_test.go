package smb

import (
	"encoding/hex"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/smb/message"
)

// RFC 4493 section 4.
func TestCMACExamples(t *testing.T) {
	key, _ := hex.DecodeString("2b7e151628aed2a6abf7158809cf4f3c")
	msg, _ := hex.DecodeString("6bc1bee22e409f96e93d7e117393172aae2d8a571e03ac9c9eb76fac45af8e5130c81c46a35ce411e5fbc1191a0a52eff69f2445df4f9b17ad2b417be66c3710")
	c, err := newCMAC(key)
	require.NoError(t, err)
	for n, want := range map[int]string{
		0: "bb1d6929e95937287fa37d129b756746", 16: "070a16b46b4d4144f79bdd9dd04a287c",
		40: "dfa66747de9ae63030ca32611497c827", 64: "51f0bebf7e3b9d92fc49741779363cfe",
	} {
		sum := c.sign(msg[:n])
		require.Equal(t, want, hex.EncodeToString(sum[:]), "%d bytes", n)
	}
}

func TestNamesOnTheWire(t *testing.T) {
	for raw, want := range map[string]string{
		"": "", `a\b`: "a/b", `a\`: "a", "a::$DATA": "a", "Märzplatten": "Märzplatten", "🔭": "🔭", "a\uf03ab": "a:b", "con": "con",
	} {
		got, status := fromWire(message.UTF16(raw))
		require.Equal(t, statusOK, status, raw)
		require.Equal(t, want, got)
	}
	for raw, want := range map[string]Status{
		`\a`: statusInvalidParameter, `a\..\b`: statusObjectPathSyntaxBad, `..`: statusObjectPathSyntaxBad, `..\..\etc`: statusObjectPathSyntaxBad,
		`a\.\b`: statusObjectPathSyntaxBad, `a\\b`: statusObjectNameInvalid, "a/b": statusObjectNameInvalid, "a:b": statusObjectNameInvalid,
		"a:b:$DATA": statusObjectNameInvalid, "a*": statusObjectNameInvalid, "a\x00b": statusObjectNameInvalid, "a\x1fb": statusObjectNameInvalid,
		"a\uf000b": statusOK, "..\uf02f": statusOK,
	} {
		_, status := fromWire(message.UTF16(raw))
		require.Equal(t, want, status, "%q", raw)
	}
	_, status := fromWire([]byte{0, 0xd8}) // half a surrogate pair
	require.Equal(t, statusObjectNameInvalid, status)
	require.Equal(t, "field\uf03a117\uf03f", toWire("field:117?"))
}

func TestStreamsOnTheWire(t *testing.T) {
	for raw, want := range map[string][2]string{
		"a:b": {"a", "b"}, `d\a:b:$DATA`: {"d/a", "b"}, "a:b:$data": {"a", "b"}, ":b": {"", "b"}, "a::$DATA": {"a", ""}, "::$DATA": {"", ""}, "a:..": {"a", ".."},
		"a:\x01\uf03a\uefff": {"a", "\x01\uf03a\uefff"}, "a\uf03ab:c*?\"<>|": {"a:b", "c*?\"<>|"}, "a": {"a", ""}, "a:" + strings.Repeat("x", 255): {"a", strings.Repeat("x", 255)},
	} {
		path, stream, status := withStream(message.UTF16(raw))
		require.Equal(t, statusOK, status, raw)
		require.Equal(t, want, [2]string{path, stream}, raw)
	}
	for raw, want := range map[string]Status{
		"a:": statusObjectNameInvalid, "a:b:": statusObjectNameInvalid, "a:b:$INDEX_ALLOCATION": statusObjectNameInvalid, "a:b:c:$DATA": statusObjectNameInvalid, "a:b/c": statusObjectNameInvalid,
		"a:b\x00c": statusObjectNameInvalid, `a:b\c`: statusObjectNameInvalid, `..:b`: statusObjectPathSyntaxBad, `a\..:b`: statusObjectPathSyntaxBad, `\a:b`: statusInvalidParameter,
		"a*:b": statusObjectNameInvalid, "a:" + strings.Repeat("x", 256): statusObjectNameInvalid, "a:" + strings.Repeat("🔭", 128): statusObjectNameInvalid, "a:::$DATA": statusObjectNameInvalid,
	} {
		_, _, status := withStream(message.UTF16(raw))
		require.Equal(t, want, status, "%q", raw)
	}
}

func TestWildcards(t *testing.T) {
	for _, c := range []struct {
		mask string
		yes  []string
		no   []string
	}{
		{"*", []string{"a", "a.b", ""}, nil},
		{"*.FITS", []string{"plate.fits", ".fits"}, []string{"plate.fit", "fits"}},
		{"pl?te*", []string{"plate-1", "PLATE"}, []string{"plte"}},
		{"<.txt", []string{"a.txt", "a.b.txt"}, []string{"a.md"}},
		{"a>>", []string{"a", "ab", "abc"}, []string{"abcd", "b"}},
		{`a"b`, []string{"a.b"}, []string{"ab", "axb"}},
		{"*.*", []string{"a.b"}, []string{"a"}},
		{"README.txt", []string{"readme.TXT"}, []string{"README.txt2"}},
	} {
		for _, name := range c.yes {
			require.True(t, matches(c.mask, name), "%s %s", c.mask, name)
		}
		for _, name := range c.no {
			require.False(t, matches(c.mask, name), "%s %s", c.mask, name)
		}
	}
}

func TestFiletime(t *testing.T) {
	at := time.Date(2026, 3, 1, 22, 10, 5, 123456700, time.UTC)
	require.True(t, at.Equal(message.Time(message.Filetime(at))))
	require.EqualValues(t, 116444736000000000, message.Filetime(time.Unix(0, 0))) // MS-DTYP section 2.3.3
	require.True(t, message.Time(0).IsZero() && message.Time(^uint64(0)).IsZero())
}

func TestCreditWindow(t *testing.T) {
	w := newCreditWindow()
	require.True(t, w.take(0, 1))
	require.False(t, w.take(0, 1), "used before")
	require.False(t, w.take(1, 1), "not granted yet")
	require.EqualValues(t, 4, w.grant(4))
	require.False(t, w.take(2, 4), "more than there is")
	require.True(t, w.take(2, 3))
	require.False(t, w.take(3, 1), "in the middle of a charge")
	require.True(t, w.take(1, 1))
	require.EqualValues(t, 1, w.grant(0), "never left without")
	require.LessOrEqual(t, w.grant(65535), uint16(maxCredits))
	require.False(t, w.take(^uint64(0), 2))
	for range 100 { // an ID held back does not make the window grow for ever
		for id := w.low + 1; id < w.high; id++ {
			w.take(id, 1)
		}
		w.grant(65535)
	}
	require.LessOrEqual(t, w.high-w.low, uint64(8*maxCredits))
}

func FuzzNames(f *testing.F) {
	f.Add([]byte("a\x00\\\x00b\x00"))
	f.Add(message.UTF16(`a\b:c:$DATA`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		path, stream, status := withStream(raw)
		if status == statusOK && stream != "" && files.CheckStream(stream) != nil {
			t.Fatalf("%q is no stream", stream)
		}
		if status == statusOK && path != "" {
			for i, part := 0, ""; i <= len(path); i++ {
				if i == len(path) || path[i] == '/' {
					if part == "" || part == "." || part == ".." {
						t.Fatalf("%q leads elsewhere", path)
					}
					part = ""
					continue
				}
				part += string(path[i])
			}
		}
		matches(string(raw), path)
	})
}
