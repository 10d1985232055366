package site

import (
	"errors"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/core/identity"
)

func TestCleanFrom(t *testing.T) {
	for from, want := range map[string]struct {
		clean    string
		everyone bool
	}{
		"192.0.2.7": {"192.0.2.7", false}, "192.0.2.7/24": {"192.0.2.0/24", false}, "2001:db8::/32": {"2001:db8::/32", false},
		"::ffff:192.0.2.7": {"192.0.2.7", false}, "192.0.2.7/32": {"192.0.2.7", false}, "Dome1.Larkfell.Example.": {"dome1.larkfell.example", false},
		"*.larkfell.example": {"*.larkfell.example", false}, "dome?": {"dome?", false},
		"*": {"*", true}, "0.0.0.0/0": {"0.0.0.0/0", true}, "::/0": {"::/0", true}, "**": {"**", true}, "*.*": {"*.*", true}, " 192.0.2.7 ": {"192.0.2.7", false},
	} {
		clean, everyone, err := CleanFrom(from)
		require.NoError(t, err, from)
		require.Equal(t, want.clean, clean)
		require.Equal(t, want.everyone, everyone, from)
	}
	for _, from := range []string{"", "192.0.2.256", "192.0.2.0/33", "192.0.2", "1.2.3.4.5", "a b", "a..b", "/24", "x/24", "-dome", "dome\x00", "@set", "dome.example/24"} {
		_, _, err := CleanFrom(from)
		require.ErrorIs(t, err, ErrFrom, from)
	}
}

func TestMatchPattern(t *testing.T) {
	for _, c := range []struct {
		pattern, name string
		want          bool
	}{
		{"dome1.larkfell.example", "dome1.larkfell.example", true}, {"*.larkfell.example", "dome1.larkfell.example", true},
		{"*.larkfell.example", "a.b.larkfell.example", false}, {"*.larkfell.example", "larkfell.example", false},
		{"dome*", "dome", true}, {"dome?", "dome", false}, {"dome?", "dome12", false}, {"d*e*1", "dome1", true}, {"d*e*1", "dome1x", false},
		{"*a*b.c", "xaxab.c", true}, {"*", "a.b", false}, {"*.*", "a.b", true}, {"?.b", "..b", false}, {"", "", true}, {"*", "", true},
	} {
		require.Equal(t, c.want, MatchPattern(c.pattern, c.name), "%s %s", c.pattern, c.name)
	}
}

// A line said to be shadowed is never the one that decides.
func TestShadowedLinesNeverDecide(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		from := rapid.SampledFrom([]string{"192.0.2.1", "192.0.2.2", "192.0.2.0/24", "192.0.2.0/30", "192.0.2.0/31", "0.0.0.0/0", "::/0", "2001:db8::1", "*",
			"dome1.example", "dome*.example", "*.example", "dome2.example", "*.*"})
		e := Export{ID: 1, Path: "/x", FolderID: 1}
		for i := range rapid.IntRange(1, 8).Draw(t, "rules") {
			e.Rules = append(e.Rules, ClientRule{ID: int64(i), From: from.Draw(t, "from")})
		}
		p, err := Compile(Records{Volumes: []Volume{{ID: 1}}, Folders: []Folder{{ID: 1, Name: "f", VolumeID: 1}}, Exports: []Export{e}})
		require.NoError(t, err)
		o := Origin{Address: netip.MustParseAddr(rapid.SampledFrom([]string{"192.0.2.1", "192.0.2.2", "192.0.2.9", "198.51.100.1", "2001:db8::1"}).Draw(t, "address"))}
		if rapid.Bool().Draw(t, "named") {
			o.Names = []string{rapid.SampledFrom([]string{"dome1.example", "dome2.example", "pc.example", "x.y.example"}).Draw(t, "name")}
		}
		if line := p.Exports[0].Match(&o); line != nil {
			require.Zero(t, line.ShadowedBy, "%v", e.Rules)
			for _, before := range p.Exports[0].InForce[:line.Number-1] {
				require.False(t, before.hosts.match(&o))
			}
		}
	})
}

func TestExportsCompile(t *testing.T) {
	base := Records{Volumes: []Volume{{ID: 1}}, Folders: []Folder{{ID: 1, Name: "f", VolumeID: 1}},
		HostSets: []HostSet{{ID: 1, Name: "dome", Rules: []ClientRule{{From: "192.0.2.1"}, {From: "dome1.example"}}}},
		Exports:  []Export{{ID: 1, Path: "/f", FolderID: 1, Rules: []ClientRule{{From: "@Dome"}, {From: "192.0.2.0/24"}}}}}
	p, err := Compile(base)
	require.NoError(t, err)
	e := p.ExportAt("f")
	require.Equal(t, e, p.ExportAt("/f"))
	require.Len(t, e.InForce, 3, "a set's rules stand in its place")
	require.Equal(t, []string{"dome", "dome", ""}, []string{e.InForce[0].Set, e.InForce[1].Set, e.InForce[2].Set})
	names, any := p.HostNames()
	require.True(t, any)
	require.Equal(t, []string{"dome1.example"}, names)

	for _, spoil := range []func(r *Records){
		func(r *Records) { r.Exports = append(r.Exports, Export{ID: 2, Path: "/f", FolderID: 1}) },
		func(r *Records) { r.Exports = []Export{{ID: 1, Path: "/f", FolderID: 9}} },
		func(r *Records) { r.HostSets = nil },
		func(r *Records) { r.HostSets = append(r.HostSets, HostSet{ID: 2, Name: "DOME"}) },
	} {
		r := base
		spoil(&r)
		_, err := Compile(r)
		require.True(t, errors.Is(err, identity.ErrAbsent) || errors.Is(err, identity.ErrDuplicate), "%v", err)
	}
	r := base
	r.HostSets = []HostSet{{ID: 1, Name: "dome", Rules: []ClientRule{{From: "@other"}}}}
	_, err = Compile(r)
	require.ErrorIs(t, err, ErrFrom, "sets hold no sets")
}

// What looks like addresses and would match no host is refused, with what was meant.
func TestRulesThatCanNeverMatch(t *testing.T) {
	for from, says := range map[string]string{"192.168.1.*": "write 192.168.1.0/24", "10.*.*.*": "write 10.0.0.0/8", "172.16.*.*": "write 172.16.0.0/16", "10.1.*": "write 10.1.0.0/16",
		"192.168.1.10-20": "a network such as", "192.0.2.1?": "a network such as", "999.1.*": "a network such as"} {
		_, _, err := CleanFrom(from)
		require.ErrorIs(t, err, ErrFrom, from)
		require.ErrorContains(t, err, says, from)
	}
	for from, want := range map[string]string{"*": "*", "*.larkfell.example": "*.larkfell.example", "dome-?": "dome-?", "192.0.2.7": "192.0.2.7", "192.0.2.0/24": "192.0.2.0/24", "3com": "3com", "1-2.example": "1-2.example"} {
		clean, _, err := CleanFrom(from)
		require.NoError(t, err, from)
		require.Equal(t, want, clean)
	}
}

// Names are asked for only where it hangs on them which rule counts; without them, the rule that is found is the same.
func TestNeedsNames(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		sh := Share{ID: 1, Name: "s", FolderID: 1}
		for range rapid.IntRange(0, 4).Draw(t, "hosts") {
			sh.Hosts = append(sh.Hosts, HostTerm{From: rapid.SampledFrom([]string{"192.0.2.1", "192.0.2.0/24", "*", "dome1.example", "dome*.example", "2001:db8::/32"}).Draw(t, "from")})
		}
		p, err := Compile(Records{Volumes: []Volume{{ID: 1}}, Folders: []Folder{{ID: 1, Name: "f", VolumeID: 1}}, Shares: []Share{sh}})
		require.NoError(t, err)
		known := &Origin{Address: netip.MustParseAddr(rapid.SampledFrom([]string{"192.0.2.1", "192.0.2.9", "198.51.100.1", "2001:db8::1"}).Draw(t, "address"))}
		if rapid.Bool().Draw(t, "named") {
			known.Names = []string{"dome1.example"}
		}
		if s := p.Shares[0]; !s.NeedsNames(known.Address) {
			require.Equal(t, s.Match(known), s.Match(&Origin{Address: known.Address}))
			require.Equal(t, s.Match(known), s.Match(&Origin{Address: known.Address, Unsure: true}))
		}
	})
}
