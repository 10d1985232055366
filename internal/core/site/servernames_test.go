package site_test

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/core/site"
)

func TestWhatIsMeantByAName(t *testing.T) {
	p, err := site.Compile(site.Records{
		Volumes: []site.Volume{{ID: 1, Name: "summit", Path: "/srv"}},
		Folders: []site.Folder{{ID: 1, Name: "plates", VolumeID: 1, Path: "plates"}, {ID: 2, Name: "nightlog", VolumeID: 1, Path: "nightlog"}},
		Shares:  []site.Share{{ID: 1, Name: "plates", FolderID: 1}, {ID: 2, Name: "nightlog", FolderID: 2}},
		ServerNames: []site.ServerName{{ID: 1, Name: "barn", Leads: []site.Lead{{Share: "Raw", Here: 1}, {Share: "old", Elsewhere: `\\vault\old\2019`}, {Share: "nightlog", Here: 1}, {Share: "gone", Here: 7}}},
			{ID: 2, Name: "barn.dome.example", Leads: []site.Lead{{Share: "raw", Here: 2}}}, {ID: 3, Name: "shed"}},
	})
	require.NoError(t, err)
	for _, c := range []struct{ server, share, here, elsewhere string }{
		{"barn", "raw", "plates", ""}, {"BARN", "RAW", "plates", ""}, {"barn", "old", "", `\\vault\old\2019`}, {"barn", "nightlog", "plates", ""}, {"barn", "plates", "plates", ""},
		{"barn", "gone", "", ""}, {"barn", "nothing", "", ""}, {"barn.larkfell.example", "raw", "plates", ""}, {"barn.dome.example", "raw", "nightlog", ""},
		{"barn.dome.example", "old", "", ""}, {"shed", "nightlog", "nightlog", ""}, {"shed.larkfell.example", "raw", "", ""}, {"gateway", "nightlog", "nightlog", ""},
		{"192.0.2.1", "raw", "", ""}, {"", "nightlog", "nightlog", ""}, {"barn", "", "", ""},
	} {
		here, elsewhere := p.Meant(c.server, c.share)
		require.Equal(t, c.elsewhere, elsewhere, "%s %s", c.server, c.share)
		if c.here == "" {
			require.Nil(t, here, "%s %s", c.server, c.share)
		} else {
			require.Equal(t, c.here, here.Name, "%s %s", c.server, c.share)
		}
	}
	require.True(t, p.LeadsElsewhere())
	for in, want := range map[string][3]string{`\\a\b`: {"a", "b", ""}, `\\a\b\c\d`: {"a", "b", `c\d`}} {
		server, share, path, ok := site.SplitUNC(in)
		require.True(t, ok)
		require.Equal(t, want, [3]string{server, share, path})
	}
	for _, in := range []string{"", "a", `\a\b`, `\\`, `\\a`, `\\a\`, `\\\b`} {
		_, _, _, ok := site.SplitUNC(in)
		require.False(t, ok, in)
	}
}

// Following where names lead ends, whatever they say, and says so where it comes back to where it was.
func TestFollowingEnds(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		name := rapid.SampledFrom([]string{"a", "b", "c", "A", "a.example"})
		var r site.Records
		for i, server := range []string{"a", "b", "c"} {
			n := site.ServerName{ID: int64(i + 1), Name: server}
			for _, share := range []string{"x", "y"} {
				if rapid.Bool().Draw(t, "leads") {
					to := fmt.Sprintf(`\\%s\%s`, name.Draw(t, "to"), rapid.SampledFrom([]string{"x", "y", "z"}).Draw(t, "share"))
					n.Leads = append(n.Leads, site.Lead{Share: share, Elsewhere: to})
				}
			}
			r.ServerNames = append(r.ServerNames, n)
		}
		p, err := site.Compile(r)
		require.NoError(t, err)
		for _, n := range r.ServerNames {
			for _, l := range n.Leads {
				at, ends := p.Follow(n.Name, l.Share)
				server, share, _, ok := site.SplitUNC(at)
				require.True(t, ok)
				_, further := p.Meant(server, share)
				require.Equal(t, ends, further == "", "%s leads to %s", l.Share, at)
			}
		}
	})
}
