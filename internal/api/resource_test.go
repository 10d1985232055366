package api

import (
	"fmt"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

type thing struct {
	name, about string
	size        int
}

var things = listing[thing]{name: func(t *thing) string { return t.name }, matches: func(t *thing) []string { return []string{t.about} },
	sorts: map[string]func(*thing) string{"size": func(t *thing) string { return byNumber(t.size) }}}

// The pages of a list are all of it, once each and in order, whatever their size, and what comes and goes meanwhile moves nothing else.
func TestPagesAreTheList(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var all []thing
		for i := range rapid.IntRange(0, 30).Draw(t, "how many") {
			all = append(all, thing{fmt.Sprintf("%s%d", rapid.SampledFrom([]string{"a", "B", "é", "b", "Z"}).Draw(t, "name"), i), rapid.SampledFrom([]string{"", "for the Night", "by day"}).Draw(t, "about"),
				rapid.IntRange(0, 4).Draw(t, "size")})
		}
		q := ListQuery{Sort: rapid.SampledFrom(append(things.orders(), "")).Draw(t, "sort"), Match: rapid.SampledFrom([]string{"", "night", "B", "nothing has that"}).Draw(t, "match")}
		whole, next, err := things.page(all, q)
		require.NoError(t, err)
		require.Empty(t, next)
		for _, one := range all {
			in := strings.Contains(strings.ToLower(one.name+"\x00"+one.about), strings.ToLower(q.Match))
			require.Equal(t, in, slices.Contains(whole, one))
		}
		for i := 1; i < len(whole); i++ {
			a, b := whole[i-1], whole[i]
			switch q.Sort {
			case "size":
				require.LessOrEqual(t, a.size, b.size)
			case "-size":
				require.GreaterOrEqual(t, a.size, b.size)
			case "name":
				require.LessOrEqual(t, strings.ToLower(a.name), strings.ToLower(b.name))
			}
		}
		q.Limit = rapid.IntRange(1, 8).Draw(t, "limit")
		now := slices.Clone(all)
		var got []thing
		gone := make(map[thing]bool)
		for page := 0; ; page++ {
			part, next, err := things.page(now, q)
			require.NoError(t, err)
			require.LessOrEqual(t, len(part), q.Limit)
			got = append(got, part...)
			if next == "" {
				break
			}
			require.Len(t, part, q.Limit)
			q.After = next
			if len(got) > 0 && q.Sort != "" && rapid.Bool().Draw(t, "one goes") { // one that was seen: no other is missed by it
				one := rapid.SampledFrom(got).Draw(t, "which")
				now = slices.DeleteFunc(now, func(o thing) bool { return o == one })
				gone[one] = true
			}
			require.LessOrEqual(t, page, len(all))
		}
		require.Equal(t, whole, append([]thing{}, got...))
	})
}

func TestWhatIsNoPage(t *testing.T) {
	for _, q := range []ListQuery{{Sort: "colour"}, {Sort: "--name"}, {After: "*"}, {After: "bm8"}} {
		_, _, err := things.page([]thing{{name: "a"}}, q)
		require.Error(t, err, "%+v", q)
	}
	got, _, err := things.page([]thing{{name: "a"}}, ListQuery{After: "eyJuIjoiIiwiaSI6OTk5OTl9"}) // of a list that was longer
	require.NoError(t, err)
	require.Empty(t, got)
}
