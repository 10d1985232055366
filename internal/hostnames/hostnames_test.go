package hostnames

import (
	"context"
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
)

// made is a made-up resolver.
type made map[string][]string

func (n made) LookupAddr(_ context.Context, addr string) ([]string, error) { return n[addr], nil }
func (n made) LookupNetIP(_ context.Context, _, host string) (out []netip.Addr, _ error) {
	for _, a := range n[host] {
		out = append(out, netip.MustParseAddr(a))
	}
	return out, nil
}

// A name counts if it leads back to the address, whatever the reverse entry claims.
func TestHostNamesLeadBack(t *testing.T) {
	h := New(made{"192.0.2.17": {"Dome1.larkfell.example.", "liar.example"}, "dome1.larkfell.example": {"192.0.2.17"}, "liar.example": {"198.51.100.1"},
		"spelt.example": {"192.0.2.17", "192.0.2.18"}})
	of := func(address string, spelt ...string) []string {
		t.Helper()
		names, sure := h.Of(context.Background(), netip.MustParseAddr(address), spelt)
		require.True(t, sure)
		return names
	}
	require.Equal(t, []string{"dome1.larkfell.example"}, of("192.0.2.17"))
	require.Equal(t, []string{"spelt.example", "dome1.larkfell.example"}, of("192.0.2.17", "spelt.example"), "asked anew when the rules change")
	require.Equal(t, []string{"spelt.example"}, of("192.0.2.18", "spelt.example"))
	require.Empty(t, of("198.51.100.1", "spelt.example"))
}
