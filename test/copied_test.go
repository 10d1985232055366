package test

import (
	"bytes"
	"context"
	"crypto/rand"
	"io"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/limit"
	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/test/gateway"
)

// What a client has copied within the service counts as what it would have written, and goes no further than its limits; by the Go client, which
// asks for it by itself.
func TestCopiedWithinTheService(t *testing.T) {
	g := gateway.Start(t)
	g.Unlimited(t)
	m := g.Mount(t, g.Dial(t, "piran", 0x0311), "nightlog")
	plate := make([]byte, 5_000_001)
	rand.Read(plate)
	require.NoError(t, m.WriteFile("plate.fits", plate, 0o666))
	cp := func(from, to string) (int64, error) {
		source, err := m.Open(from)
		require.NoError(t, err)
		defer source.Close()
		target, err := m.Create(to)
		require.NoError(t, err)
		defer target.Close()
		return io.Copy(target, source)
	}
	n, err := cp("plate.fits", "copy.fits")
	require.NoError(t, err)
	require.EqualValues(t, len(plate), n)
	got, err := m.ReadFile("copy.fits")
	require.NoError(t, err)
	require.True(t, bytes.Equal(plate, got))
	_, err = g.Service.SetLimit(context.Background(), gateway.Keeper, service.LimitInput{Kind: limit.OfUser, Name: "piran", HardBytes: "12M"})
	require.NoError(t, err)
	_, err = cp("plate.fits", "third.fits")
	require.Error(t, err, "there is no room for another")
	third, err := m.Stat("third.fits")
	require.NoError(t, err)
	require.LessOrEqual(t, third.Size(), 12_000_000-2*int64(len(plate)))
}
