package access

import (
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
)

// Who decides about a path in the console is who may write its ACL over the wire, where nothing but entries stands between: and nobody else.
func TestControlIsWhatTheWireLets(t *testing.T) {
	both := [2]int{}
	rapid.Check(t, func(t *rapid.T) {
		r, own := drawSite(t)
		r.Services = site.Services{SMB: true, NFS: true}
		for i := range r.Users {
			r.Users[i].SMB = true
		}
		for i := range r.Shares {
			r.Shares[i].Entries, r.Shares[i].Hosts, r.Shares[i].ReadOnly = nil, nil, false
		}
		if rapid.Bool().Draw(t, "somebody decides") { // what is drawn seldom lets anybody
			f := &r.Folders[0]
			e := acl.Entry{ID: 5000, Who: identity.GroupPrincipal(1), Level: acl.Control, Applies: acl.Everywhere}
			if len(f.Rules) == 0 || f.Rules[0].Path != "" {
				f.Rules = append([]acl.Rule{{}}, f.Rules...)
			}
			f.Rules[0].Entries = append(f.Rules[0].Entries, e)
		}
		q := drawRequest(t, r)
		q.Via, q.NFS, q.Want, q.Facts, q.File = site.SMB, nil, acl.WriteACL, own, false
		p, err := site.Compile(r)
		require.NoError(t, err)
		f := p.Folders[0]
		q.Folder, q.Share = f, f.Shares[0]
		controls := Controls(p, f, q.Path, q.User, own, q.Now)
		require.Equal(t, Decide(p, q).Allowed(), controls)
		if controls {
			both[1]++
		} else {
			both[0]++
		}
	})
	require.Positive(t, both[0])
	require.Positive(t, both[1])
}
