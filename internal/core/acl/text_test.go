package acl

import (
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/core/identity"
)

// plain spells principals so that any can be read again.
type plain struct{}

func (plain) Spell(p identity.Principal) (string, error) {
	return fmt.Sprintf("S-1-5-21-1-2-3-%d", int64(p.Kind)<<32|int64(p.ID)), nil
}

func (plain) Read(s string, _ bool) (p identity.Principal, err error) {
	var n int64
	if _, err = fmt.Sscanf(s, "S-1-5-21-1-2-3-%d", &n); err == nil {
		p = identity.Principal{Kind: identity.Kind(n >> 32), ID: identity.ID(n & 0xffffffff)}
	}
	return p, err
}

func TestTextsRoundTrip(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		var entries []Entry
		for range rapid.IntRange(0, 6).Draw(t, "entries") {
			e := Entry{Deny: rapid.Bool().Draw(t, "deny"), Who: identity.Principal{Kind: identity.Kind(rapid.IntRange(1, 5).Draw(t, "kind"))}, Applies: Applies(rapid.IntRange(1, 15).Draw(t, "applies"))}
			if e.Who.Kind <= identity.KindGroup {
				e.Who.ID = identity.ID(rapid.IntRange(1, 99).Draw(t, "id"))
			}
			if e.Applies&Everywhere == 0 {
				e.Applies |= Here
			}
			e.Level = rapid.SampledFrom(Levels).Draw(t, "level")
			if rapid.Bool().Draw(t, "exact") {
				e.Level, e.Mask = GrantOf(Mask(rapid.Uint32().Draw(t, "bits"))&All|Synchronize, e.Deny, true)
			}
			entries = append(entries, e)
		}
		text, err := NFS4Text(entries, plain{})
		require.NoError(t, err)
		again, err := ParseNFS4Text("# a comment\n\n"+text, plain{})
		require.NoError(t, err)
		require.Equal(t, entries, again, text)

		cut := rapid.Bool().Draw(t, "cut")
		sddl, err := SDDL(cut, entries, plain{})
		require.NoError(t, err)
		cutAgain, again, err := ParseSDDL("O:BAG:BA"+sddl+"S:(AU;SAFA;FA;;;WD)", plain{})
		require.NoError(t, err)
		require.Equal(t, entries, again, sddl)
		require.Equal(t, cut, cutAgain)
	})
}

func TestTextsFromElsewhere(t *testing.T) {
	got, err := ParseNFS4Text("A:fdg:S-1-5-21-1-2-3-8589934595:rxtncy\n", plain{})
	require.NoError(t, err)
	require.Equal(t, []Entry{{Who: identity.GroupPrincipal(3), Level: Read, Applies: Everywhere}}, got)
	// Full control, and generic reading by letters; what is inherited is written elsewhere.
	cut, got, err := ParseSDDL("D:PAI(A;OICI;FA;;;S-1-5-21-1-2-3-4294967297)(A;OICIID;FA;;;S-1-5-21-1-2-3-4294967298)(D;;0x80000000;;;S-1-5-21-1-2-3-4294967299)", plain{})
	require.NoError(t, err)
	require.True(t, cut)
	require.Len(t, got, 2)
	require.Equal(t, Control, got[0].Level)
	require.Equal(t, ReadData|ReadNamedAttrs|ReadAttributes|ReadACL|Synchronize, got[1].Mask)
	for _, bad := range []string{"", "A:fd:x", "U::OWNER@:r", "A:q:S-1-5-21-1-2-3-4294967297:r", "A::S-1-5-21-1-2-3-4294967297:q", "A:i:S-1-5-21-1-2-3-4294967297:r", "A::nobody:r"} {
		list, err := ParseNFS4Text(bad, plain{})
		require.True(t, bad == "" || err != nil, "%q: %v", bad, list)
	}
	for _, bad := range []string{"", "O:BA", "D:X", "D:(A;;FA;;;S-1-5-21-1-2-3-4294967297", "D:(A;;FA;;)", "D:(Z;;FA;;;x)", "D:(A;OX;FA;;;x)", "D:(A;;QQ;;;x)", "D:(A;;0xzz;;;x)", "D:(A;;0x1zz;;;S-1-5-21-1-2-3-4294967297)", "D:(A;IO;FA;;;x)", "D:(A;;FA;;;x)"} {
		_, _, err := ParseSDDL(bad, plain{})
		require.ErrorIs(t, err, ErrText, "%q", bad)
	}
}

func FuzzTexts(f *testing.F) {
	f.Add("A:fdg:S-1-5-21-1-2-3-8589934595:rxtncy")
	f.Add("D:PAI(A;OICI;FA;;;S-1-5-21-1-2-3-4294967297)S:")
	f.Fuzz(func(t *testing.T, text string) {
		if list, err := ParseNFS4Text(text, plain{}); err == nil {
			_, err := NFS4Text(list, plain{})
			require.NoError(t, err)
		}
		if cut, list, err := ParseSDDL(text, plain{}); err == nil {
			_, err := SDDL(cut, list, plain{})
			require.NoError(t, err)
		}
	})
}
