package cli

import (
	"bytes"
	"strings"
	"testing"
	"time"
	"unicode/utf8"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
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
