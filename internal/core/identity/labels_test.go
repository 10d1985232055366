package identity

import (
	"fmt"
	"maps"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

// Labels are as a map would be: what is given takes the place of what was, and an empty value takes it away; those before are left as they are.
func TestLabelsAreAMap(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		some := rapid.MapOfN(rapid.SampledFrom([]string{"season", "team", "room", "é-2"}), rapid.SampledFrom([]string{"", "spring", "night"}), 0, 4)
		var is Labels
		want := make(map[string]string)
		for range rapid.IntRange(1, 5).Draw(t, "times") {
			before, was := is, maps.Clone(want)
			others := some.Draw(t, "others")
			var err error
			is, err = is.With(others)
			require.NoError(t, err)
			maps.Copy(want, others)
			maps.DeleteFunc(want, func(_, value string) bool { return value == "" })
			if len(want) == 0 {
				require.Nil(t, is.Map())
			} else {
				require.Equal(t, want, is.Map())
			}
			if len(was) > 0 {
				require.Equal(t, was, before.Map())
			}
			for key, value := range want {
				for filter, fits := range map[string]bool{key: true, key + "=" + value: true, key + "=other": false, "nothing": false} {
					f, err := ParseLabelFilter([]string{filter})
					require.NoError(t, err)
					require.Equal(t, fits, f.Fits(is.Map()), filter)
				}
			}
		}
	})
}

func TestWhatIsNoLabel(t *testing.T) {
	full := make(map[string]string)
	for i := range MostLabels {
		full[fmt.Sprint("key", i)] = "x"
	}
	labels, err := Labels(nil).With(full)
	require.NoError(t, err)
	for says, others := range map[string]map[string]string{
		"more than a record has": {"one-more": "x"}, "use 1 to 32": {"a b": "x"}, "starting with": {"-a": "x"}, "longer than": {"key1": strings.Repeat("x", 65)}, "comma": {"key1": "a,b"},
		"equals": {"key1": "a=b"}, "label key1": {"key1": "a\nb"},
	} {
		_, err := labels.With(others)
		require.ErrorContains(t, err, says)
	}
	again, err := labels.With(map[string]string{"key1": "", "one-more": "x"})
	require.NoError(t, err)
	require.Len(t, again, MostLabels)
	for _, text := range []string{"", "=x", "a b=c"} {
		_, err := ParseLabelFilter([]string{text})
		require.Error(t, err, "%q", text)
	}
}
