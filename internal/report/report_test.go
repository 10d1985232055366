package report

import (
	"bytes"
	"encoding/csv"
	"encoding/json"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/plain"
)

func TestEveryForm(t *testing.T) {
	at := time.Date(2026, 3, 1, 22, 0, 0, 0, time.UTC)
	r := &Report{Title: "Folder plates", Gateway: "larkfell", At: at, Made: at, By: "auditor", Facts: []Fact{{"volume", "summit"}}, Sections: []Section{
		{Title: "Who", Head: []string{"path", "user"}, Rows: [][]string{{"plates/=1+1", "bettany"}, {"=HYPERLINK(1)", "<script>alert(1)</script>"}}},
		{Title: "Findings", Head: []string{"says"}, Empty: "Nothing is found to be wrong."}}}
	write := func(format string) string {
		var b bytes.Buffer
		require.NoError(t, r.Write(&b, format))
		return b.String()
	}
	rows, err := csv.NewReader(strings.NewReader(strings.SplitAfter(write("csv"), "section,says")[0])).ReadAll()
	require.Error(t, err, "the second table has other columns")
	require.Nil(t, rows)
	reader := csv.NewReader(strings.NewReader(write("csv")))
	reader.FieldsPerRecord = -1
	rows, err = reader.ReadAll()
	require.NoError(t, err)
	require.Equal(t, []string{"Who", "'=HYPERLINK(1)", "<script>alert(1)</script>"}, rows[2])
	require.Equal(t, "=HYPERLINK(1)", plain.Uncell(rows[2][1]))
	require.Equal(t, "plain", plain.Uncell(plain.Cell("plain")))

	html := write("html")
	require.NotContains(t, html, "<script>")
	require.NotContains(t, html, "http", "it needs no network")
	require.Contains(t, html, "Nothing is found to be wrong.")
	require.Contains(t, html, "size: A4")

	var again Report
	require.NoError(t, json.Unmarshal([]byte(write("json")), &again))
	require.Equal(t, *r, again)
	require.Error(t, r.Write(&bytes.Buffer{}, "pdf"))
}
