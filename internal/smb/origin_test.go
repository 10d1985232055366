package smb

import (
	"log/slog"
	"net"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/smb/message"
)

// What clients may keep for when they are away is told them when they connect.
func TestWhatClientsMayKeep(t *testing.T) {
	s, addr, _ := startServerOf(t)
	c := dialRaw(t, addr).signIn()
	for kind, flag := range map[site.Offline]uint32{"": 0, site.OfflineAuto: 0x10, site.OfflineVDO: 0x20, site.OfflineNone: 0x30} {
		s.Policy().Shares[0].Offline = kind
		_, out, err := c.do(message.TreeConnect, body(&message.TreeConnectRequest{Path: message.UTF16(`\\larkfell\nightlog`)}))
		require.NoError(t, err)
		var told message.TreeConnectResponse
		require.NoError(t, told.Parse(append(make([]byte, message.HeaderSize), out...)))
		require.Equal(t, flag, told.ShareFlags, "%q", kind)
	}
}

// Where names matter and nobody can look them up, a rule about a name lets nobody in, nor does any after it.
func TestNobodyToAskForNames(t *testing.T) {
	r := site.Records{Volumes: []site.Volume{{ID: 1}}, Folders: []site.Folder{{ID: 1, Name: "f", VolumeID: 1}},
		Shares: []site.Share{{ID: 1, Name: "f", FolderID: 1, Hosts: []site.HostTerm{{From: "dome1.larkfell.example"}, {From: "127.0.0.1"}}}}}
	p, err := site.Compile(r)
	require.NoError(t, err)
	mine, theirs := net.Pipe()
	defer mine.Close()
	defer theirs.Close()
	c := newConn(NewServer(Config{Policy: func() *site.Policy { return p }, Log: slog.New(slog.DiscardHandler)}), mine)
	defer c.cancel()
	require.True(t, c.Origin(p.Shares[0]).Unsure)
	require.Nil(t, p.Shares[0].Match(c.Origin(p.Shares[0])))
}
