package cli

import (
	"bytes"
	"os"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/core/plain"
)

// A table fits its width whatever stands in it, and loses nothing where it may wrap.
func TestTablesFit(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		columns := rapid.IntRange(1, 6).Draw(t, "columns")
		word := rapid.StringMatching(`[a-zäß🔭]{0,30}`)
		head := rapid.SliceOfN(rapid.StringMatching(`[a-z]{1,8}`), columns, columns).Draw(t, "head")
		tab := newTable(head...)
		tab.wrapLast = rapid.Bool().Draw(t, "wrap")
		var last []string
		for range rapid.IntRange(1, 5).Draw(t, "rows") {
			row := rapid.SliceOfN(word, columns, columns).Draw(t, "row")
			if tab.wrapLast { // what comes before a wrapped column is short
				for i := range row[:columns-1] {
					row[i] = string([]rune(row[i])[:min(10, utf8.RuneCountInString(row[i]))])
				}
				row[columns-1] = strings.Join(rapid.SliceOfN(rapid.StringMatching(`[a-z]{1,12}`), 0, 40).Draw(t, "words"), " ")
				last = append(last, strings.Fields(row[columns-1])...)
			}
			tab.row(row...)
		}
		var out bytes.Buffer
		tab.print(&out)
		for _, line := range strings.Split(out.String(), "\n") {
			require.LessOrEqual(t, utf8.RuneCountInString(line), tableWidth)
			require.Equal(t, strings.TrimRight(line, " "), line)
		}
		for _, w := range last {
			require.Contains(t, out.String(), w)
		}
	})
}

func TestEmptyTableSaysWhatToDo(t *testing.T) {
	tab := newTable("name", "uid")
	tab.empty = "no users yet: amber user add NAME"
	var out bytes.Buffer
	tab.print(&out)
	require.Equal(t, tab.empty+"\n", out.String())
}

func TestEndDates(t *testing.T) {
	never, err := endDate("never")
	require.NoError(t, err)
	require.True(t, never.IsZero())
	at, err := endDate("2026-12-31T18:00:00Z")
	require.NoError(t, err)
	require.True(t, time.Date(2026, 12, 31, 18, 0, 0, 0, time.UTC).Equal(at))
	day, err := endDate("2026-12-31")
	require.NoError(t, err)
	require.Equal(t, time.Date(2027, 1, 1, 0, 0, 0, 0, time.Local), day, "the last day still counts")
	for _, bad := range []string{"", "tomorrow", "31.12.2026", "2026-13-01"} {
		_, err := endDate(bad)
		var f *failure
		require.ErrorAs(t, err, &f)
		require.Equal(t, exitUsage, f.code)
	}
}

// What the argument parser says is said in our words, and what was mistyped is guessed.
func TestCommandLinesThatMakeNoSense(t *testing.T) {
	for line, want := range map[string]string{
		"user add x --uid abc":        `--uid takes a whole number, not "abc"`,
		"user add x --uid 5000000000": "--uid 5000000000 is too large",
		"user list --jsn":             "there is no option --jsn; did you mean --json?",
		"user list --nothing-like-it": "there is no option --nothing-like-it",
		"first-administrator keeper":  "--code is missing",
		"user set piran --full-name":  "--full-name needs something after it",
		"serve --lease 5x":            `--lease: "5x" is no length of time, such as 90s, 36h or 30d`,
		"user lst":                    "next: amber user list",
		"exprot list":                 "next: amber export list",
		"frobnicate":                  "next: amber --help",
		"user add":                    "usage: amber user add NAME",
		"volume remove":               "say which volume: by name, or by --label KEY=VALUE",
		"review remove":               "usage: amber review remove NAME",
		"--json volume show x y z":    `"code": 2`,
	} {
		var out, errOut bytes.Buffer
		code := Main(t.Context(), append([]string{"amber"}, strings.Fields(line)...), os.Stdin, &out, &errOut, "test")
		require.Equal(t, exitUsage, code, line)
		require.Contains(t, errOut.String(), want, line)
		for _, library := range []string{"strconv", "flag -", "Required flag", "time: "} {
			require.NotContains(t, errOut.String(), library, line)
		}
	}
}

// How far words are apart is a distance, and one slip is one step.
func TestHowFarWordsAreApart(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		word := rapid.StringOfN(rapid.RuneFrom([]rune("abc")), 0, 6, -1)
		a, b := word.Draw(t, "a"), word.Draw(t, "b")
		require.Equal(t, plain.Apart(a, b), plain.Apart(b, a))
		require.Equal(t, a == b, plain.Apart(a, b) == 0)
		require.LessOrEqual(t, plain.Apart(a, b), max(len(a), len(b)))
		require.LessOrEqual(t, plain.Apart(a, a+"x"), 1)
		if len(a) > 1 {
			require.LessOrEqual(t, plain.Apart(a, a[1:2]+a[:1]+a[2:]), 1)
		}
	})
}
