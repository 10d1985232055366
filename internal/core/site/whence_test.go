package site

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// What a preview says of from where clients come in, where nobody's level is another.
func TestWhence(t *testing.T) {
	base := func() Records {
		return Records{Volumes: []Volume{{ID: 1}}, Folders: []Folder{{ID: 1, Name: "f", VolumeID: 1}}, HostSets: []HostSet{{ID: 1, Name: "dome", Rules: []ClientRule{{ID: 1, From: "192.0.2.1", Write: true}, {ID: 2, From: "192.0.2.2"}}}, {ID: 2, Name: "none"}},
			Shares: []Share{{ID: 1, Name: "plates", FolderID: 1}}, Exports: []Export{{ID: 1, Path: "/f", FolderID: 1, Rules: []ClientRule{{ID: 3, From: "@dome"}, {ID: 4, From: "192.0.2.0/24"}}}}}
	}
	for name, c := range map[string]struct {
		change func(r *Records)
		back   []string // taken back
		says   []string
	}{
		"nothing": {func(*Records) {}, nil, nil},
		"kept to hosts": {func(r *Records) {
			r.Shares[0].Hosts = []HostTerm{{From: "@dome"}, {From: "198.51.100.1", ReadOnly: true}}
		},
			[]string{"share plates is used from everywhere; it was used from 192.0.2.1, 192.0.2.2 (to read), 198.51.100.1 (to read) only"},
			[]string{"share plates is used from 192.0.2.1, 192.0.2.2 (to read), 198.51.100.1 (to read) only; it was used from everywhere"}},
		"kept to none":    {func(r *Records) { r.Shares[0].Hosts = []HostTerm{{From: "@none"}} }, []string{"share plates is used from everywhere; it was used from nowhere"}, []string{"share plates is used from nowhere; it was used from everywhere"}},
		"a share as well": {func(r *Records) { r.Shares = append(r.Shares, Share{ID: 2, Name: "g", FolderID: 1}) }, nil, nil},
		"a share for few": {func(r *Records) {
			r.Shares = append(r.Shares, Share{ID: 2, Name: "g", FolderID: 1, MostConnections: 1})
		}, nil,
			[]string{"share g takes 1 connection at once; it took as many connections as come"}},
		"encrypted": {func(r *Records) { r.Services.SMBEncrypted = true }, []string{"share plates lets in clients that do not encrypt"}, []string{"share plates refuses clients that do not encrypt, as before SMB 3.0 none can"}},
		"a rule": {func(r *Records) {
			r.Exports[0].Rules = append(r.Exports[0].Rules, ClientRule{ID: 9, From: "198.51.100.7"})
		}, []string{"export /f lets nobody in any more from 198.51.100.7"}, []string{"export /f lets in from 198.51.100.7"}},
		"a terms": {func(r *Records) { r.Exports[0].Rules[1].Write = true }, []string{"export /f has other terms from 192.0.2.0/24"}, []string{"export /f has other terms from 192.0.2.0/24"}},
		"a shadowed": {func(r *Records) {
			r.Exports[0].Rules = append(r.Exports[0].Rules, ClientRule{ID: 9, From: "192.0.2.7"})
		}, nil, nil},
		"an export less": {func(r *Records) { r.Exports = nil }, nil, nil},
	} {
		r := base()
		before, err := Compile(r)
		require.NoError(t, err)
		r = base()
		c.change(&r)
		after, err := Compile(r)
		require.NoError(t, err)
		require.Equal(t, c.says, Whence(before, after), name)
		require.Equal(t, c.back, Whence(after, before), "%s, taken back", name)
	}
}
