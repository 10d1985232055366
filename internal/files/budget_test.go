package files

import (
	"sync"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/core/site"
)

// Whatever is opened and closed, by whomever: never more than there may be, of all and of one, and in the end nothing.
func TestTheBudgetIsKept(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		b := &budget{most: rapid.IntRange(1, 12).Draw(t, "most"), of: make(map[string]int)}
		b.ofOne = rapid.IntRange(1, b.most).Draw(t, "of one")
		var open []string
		of := map[string]int{}
		for range rapid.IntRange(0, 60).Draw(t, "steps") {
			if len(open) > 0 && rapid.Bool().Draw(t, "close") {
				i := rapid.IntRange(0, len(open)-1).Draw(t, "which")
				b.give(open[i])
				of[open[i]]--
				open = append(open[:i], open[i+1:]...)
				continue
			}
			who := rapid.SampledFrom([]string{"", "192.0.2.1", "192.0.2.2"}).Draw(t, "who")
			err := b.take(who)
			require.Equal(t, len(open) >= b.most || of[who] >= b.ofOne, err != nil)
			if err != nil {
				require.ErrorIs(t, err, ErrTooMany)
				continue
			}
			open = append(open, who)
			of[who]++
		}
		for _, who := range open {
			b.give(who)
		}
		require.Zero(t, b.all)
		require.Empty(t, b.of)
	})
}

// One client that opens without end is refused, and the next can open still; what is closed can be opened again.
func TestOneClientLeavesRoomForOthers(t *testing.T) {
	f := newLarkfell(t)
	f.budget = &budget{most: 10, ofOne: 5, of: make(map[string]int)}
	open := func(from string, path string, disposition Disposition) (*Handle, error) {
		h, _, err := f.Open(Subject{User: piran, Via: site.SMB, From: from}, OpenRequest{Share: "nightlog", Path: path, Access: acl.ReadData | acl.WriteData, Disposition: disposition, Sharing: ShareRead | ShareWrite | ShareDelete})
		return h, err
	}
	var mine []*Handle
	for range 5 {
		h, err := open("192.0.2.1", "a", OpenIf)
		require.NoError(t, err)
		mine = append(mine, h)
	}
	_, err := open("192.0.2.1", "a", OpenIf)
	require.ErrorIs(t, err, ErrTooMany)
	_, err = open("192.0.2.1", "new", CreateOnly)
	require.ErrorIs(t, err, ErrTooMany)
	other, err := open("192.0.2.2", "a", OpenIf)
	require.NoError(t, err)
	_, err = open("192.0.2.2", "new", OpenOnly)
	require.ErrorIs(t, err, ErrNotFound, "nothing was made by who was refused")
	require.NoError(t, mine[0].Close())
	_, err = open("192.0.2.1", "nowhere", OpenOnly)
	require.ErrorIs(t, err, ErrNotFound)
	mine[0], err = open("192.0.2.1", "a", OpenIf)
	require.NoError(t, err, "what failed has kept no place")
	var closing sync.WaitGroup
	for _, h := range append(mine, other) {
		closing.Go(func() {
			if err := h.Close(); err != nil {
				t.Error(err)
			}
		})
	}
	closing.Wait()
	require.Zero(t, f.budget.all)
}
