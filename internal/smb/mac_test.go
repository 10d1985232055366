package smb

import (
	"bytes"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/smb/message"
)

// A client that asks what the server can is told of that and no more; from then on copying no parts copies all of a file, its streams too.
func TestWhatMacsAreTold(t *testing.T) {
	_, addr, dir := startServerOf(t)
	c := dialRaw(t, addr).signIn().connect()
	whole := make([]byte, 40<<20+17)
	for i := range whole {
		whole[i] = byte(rand.Uint32())
	}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "nightlog", "a"), whole, 0o600))
	stream := c.create("a:AFP_AfpInfo", readWrite, 3, 0)
	require.Equal(t, statusOK, c.status(message.Write, body(&message.WriteRequest{ID: fileID(stream), Data: []byte("finder")})))
	left := c.create("b:left", readWrite, 3, 0)
	require.NotEmpty(t, left)
	from, to := c.create("a", readWrite, 1, 0), c.create("b", readWrite, 1, 0)
	key := c.keyOf(from)

	status, did := c.copyChunks(fsctlCopyChunk, to, key)
	require.Equal(t, statusOK, status)
	require.Zero(t, did.Total, "no part is nothing, to who has not asked")

	told := func(data []byte) *message.MacAnswer {
		status, out := c.opens(&message.CreateRequest{Access: 0x80, Sharing: 7, Disposition: 1, Name: message.UTF16("a"), Contexts: []message.CreateContext{{Name: message.ContextMac, Data: data}}})
		require.Equal(t, statusOK, status)
		for _, x := range out.Contexts {
			if x.Name == message.ContextMac {
				var a message.MacAnswer
				require.NoError(t, a.Parse(x.Data))
				return &a
			}
		}
		return nil
	}
	for _, unasked := range [][]byte{nil, {1}, make([]byte, 24), (&message.MacQuery{}).Append(nil), append([]byte{2}, make([]byte, 23)...), (&message.MacQuery{Asked: 8}).Append(nil)} {
		require.Nil(t, told(unasked), "%x", unasked)
	}
	require.Equal(t, &message.MacAnswer{Asked: 7, Server: message.MacCopiesFiles, Volume: message.MacFullSync, Model: message.UTF16(macModel)}, told((&message.MacQuery{Asked: 0xff, Client: 5}).Append(nil)))
	require.Equal(t, &message.MacAnswer{Asked: 2, Volume: message.MacFullSync}, told((&message.MacQuery{Asked: 2}).Append(nil)))

	status, did = c.copyChunks(fsctlCopyChunk, to, key)
	require.Equal(t, statusOK, status)
	require.EqualValues(t, len(whole), did.Total)
	got, err := os.ReadFile(filepath.Join(dir, "nightlog", "b"))
	require.NoError(t, err)
	require.True(t, bytes.Equal(whole, got))
	var m message.ReadResponse
	_, raw, err := c.do(message.Read, body(&message.ReadRequest{ID: fileID(c.create("b:AFP_AfpInfo", readWrite, 1, 0)), Length: 100}))
	require.NoError(t, err)
	require.NoError(t, m.Parse(append(make([]byte, message.HeaderSize), raw...)))
	require.Equal(t, "finder", string(m.Data))
	require.Equal(t, statusFileClosed, c.status(message.Read, body(&message.ReadRequest{ID: fileID(left), Length: 10})), "the stream that was there has gone")
	status, _ = c.copyChunks(fsctlCopyChunk, from, key)
	require.Equal(t, statusInvalidParameter, status, "onto itself")
	status, _ = c.copyChunks(fsctlCopyChunk, stream, c.keyOf(to))
	require.Equal(t, statusInvalidParameter, status, "a stream is no file")
}
