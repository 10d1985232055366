package live

import (
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/site"
)

// Who is there and would be let in no more, by where they come from.
func TestTurnedAway(t *testing.T) {
	policy := func(hosts []site.HostTerm, rules ...string) *site.Policy {
		r := site.Records{Volumes: []site.Volume{{ID: 1}}, Folders: []site.Folder{{ID: 1, Name: "plates", VolumeID: 1}},
			Shares:  []site.Share{{ID: 1, Name: "plates", FolderID: 1, Hosts: hosts}, {ID: 2, Name: "other", FolderID: 1}},
			Exports: []site.Export{{ID: 1, Path: "/plates", FolderID: 1}}}
		for i, from := range rules {
			r.Exports[0].Rules = append(r.Exports[0].Rules, site.ClientRule{ID: int64(i + 1), From: from})
		}
		p, err := site.Compile(r)
		require.NoError(t, err)
		return p
	}
	only := func(from ...string) (out []site.HostTerm) {
		for _, f := range from {
			out = append(out, site.HostTerm{From: f})
		}
		return out
	}
	there := []Session{{Via: site.SMB, Address: "192.0.2.7", Through: []string{"plates", "other"}}, {Via: site.SMB, Address: "192.0.2.7", Through: []string{"plates"}},
		{Via: site.SMB, Address: "198.51.100.1", Through: []string{"PLATES"}}, {Via: site.NFS, Address: "192.0.2.9", Through: []string{"/plates"}},
		{Via: site.SMB, Address: "inside", Through: []string{"plates"}}, {Via: site.SMB, Address: "192.0.2.8", Through: []string{"gone"}}}
	for name, c := range map[string]struct {
		before, after *site.Policy
		says          []string
	}{
		"as it was":     {policy(nil, "192.0.2.0/24"), policy(nil, "192.0.2.0/24"), nil},
		"one left":      {policy(nil, "*"), policy(only("198.51.100.1"), "192.0.2.9"), []string{"who is connected to share plates now from 192.0.2.7 is let in no more"}},
		"all":           {policy(nil, "*"), policy(only("203.0.113.1")), []string{"who is connected to export /plates now from 192.0.2.9 is let in no more", "who is connected to share plates now from 192.0.2.7, 198.51.100.1 is let in no more"}},
		"not in before": {policy(only("203.0.113.1"), "203.0.113.1"), policy(only("203.0.113.2"), "203.0.113.2"), nil},
		"by name":       {policy(nil, "*"), policy(only("dome1.larkfell.example"), "*.larkfell.example"), nil},
	} {
		require.Equal(t, c.says, TurnedAway(there, c.before, c.after), name)
	}
	var many []Session
	for _, n := range []string{"1", "2", "3", "4", "5", "6", "7"} {
		many = append(many, Session{Via: site.SMB, Address: "192.0.2." + n, Through: []string{"plates"}})
	}
	require.Equal(t, []string{"who is connected to share plates now from 192.0.2.1, 192.0.2.2, 192.0.2.3, 192.0.2.4, 192.0.2.5 and 2 more is let in no more"},
		TurnedAway(many, policy(nil), policy(only("203.0.113.1"))))
}
