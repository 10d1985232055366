package api

import (
	"context"
	"net"
	"testing"

	"github.com/stretchr/testify/require"
)

// A protocol that is on and not got to says so; one that is off, or of which nobody knows where it listens, has no trouble.
func TestWhereAServiceListens(t *testing.T) {
	for _, address := range []string{"127.0.0.1:0", "0.0.0.0:0", "[::1]:0"} {
		l, err := net.Listen("tcp", address)
		if err != nil && address == "[::1]:0" {
			continue // a machine without IPv6
		}
		require.NoError(t, err)
		at := l.Addr().String()
		require.Equal(t, Service{Protocol: "smb", On: true, Listens: at}, serviceOf(context.Background(), "smb", true, at))
		l.Close()
		require.Contains(t, serviceOf(context.Background(), "smb", true, at).Trouble, "nothing answers at "+at)
		require.Empty(t, serviceOf(context.Background(), "smb", false, at).Trouble)
	}
	require.Empty(t, serviceOf(context.Background(), "nfs", true, "").Trouble)
}
