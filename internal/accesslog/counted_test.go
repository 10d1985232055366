package accesslog

import (
	"context"
	"fmt"
	"math/rand/v2"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/core/site"
	"amber.example/gatekeeper/internal/files"
	"amber.example/gatekeeper/internal/store"
)

// Whatever comes, from however many at once, and however often it cannot be written down in between: in the end each event is counted once.
func TestNothingIsLostOrCountedTwice(t *testing.T) {
	l, ctx := openLog(t, t.TempDir()), context.Background()
	defer l.Store().Close()
	const hands, each = 8, 3000
	kinds := []files.AccessKind{files.Refused, "wrote", "read"}
	var want sync.Map
	var come, wrote sync.WaitGroup
	done := make(chan struct{})
	gone, cancel := context.WithCancel(ctx)
	cancel()
	l.Saw(files.AccessEvent{Kind: "read", User: 1, Path: "plates/first", Via: site.SMB, From: "192.0.2.9"})
	require.Error(t, l.WriteDown(gone))
	wrote.Go(func() { // the disk fails now and then
		rng := rand.New(rand.NewPCG(1, 2))
		for {
			select {
			case <-done:
				return
			default:
			}
			if rng.IntN(3) == 0 {
				_ = l.WriteDown(gone) // nothing fails where there is nothing to write
			} else {
				require.NoError(t, l.WriteDown(ctx))
			}
		}
	})
	for hand := range hands {
		come.Go(func() {
			rng := rand.New(rand.NewPCG(uint64(hand), 5))
			mine := make(map[files.AccessKind]int64)
			for range each {
				kind := kinds[rng.IntN(len(kinds))]
				e := files.AccessEvent{Kind: kind, User: identity.ID(rng.IntN(3)), UID: uint32(rng.IntN(2)), Path: fmt.Sprint("plates/", rng.IntN(500)), Via: site.SMB, From: fmt.Sprint("192.0.2.", rng.IntN(3))}
				if kind == files.Refused {
					e.Gate = access.Entry
				}
				l.Saw(e)
				mine[kind]++
			}
			for kind, n := range mine {
				want.Store(fmt.Sprint(hand, kind), n)
			}
		})
	}
	come.Wait()
	close(done)
	wrote.Wait()
	require.NoError(t, l.WriteDown(ctx))
	require.NoError(t, l.WriteDown(ctx), "and there is nothing more to be written")
	got, all := make(map[string]int64), map[string]int64{"read": 1}
	list, err := l.Events(ctx, store.Match{})
	require.NoError(t, err)
	for _, e := range list {
		require.Positive(t, e.Count)
		require.False(t, e.At.Before(e.Since))
		got[e.Kind] += e.Count
	}
	for hand := range hands {
		for _, kind := range kinds {
			n, _ := want.Load(fmt.Sprint(hand, kind))
			all[string(kind)] += n.(int64)
		}
	}
	require.Equal(t, all, got)
	_, err = l.VerifyEvents(ctx)
	require.NoError(t, err)
}

// Of somebody whom the records do not know, the number is whatever they say: they are told apart by where they come from, and cannot fill the
// record by saying another number each time.
func TestNumbersThatAreMadeUpAreOne(t *testing.T) {
	l, ctx := openLog(t, t.TempDir()), context.Background()
	defer l.Store().Close()
	saw := func(uid uint32, from string) {
		l.Saw(files.AccessEvent{Kind: files.Refused, UID: uid, Path: "plates", Via: site.NFS, From: from, Gate: access.Account})
	}
	for uid := range uint32(1000) {
		saw(uid, "192.0.2.66")
	}
	saw(4242, "192.0.2.67")
	saw(4242, "192.0.2.67")
	require.NoError(t, l.WriteDown(ctx))
	list, err := l.Events(ctx, store.Match{})
	require.NoError(t, err)
	who := make(map[string]int64)
	for _, e := range list {
		who[e.From+" "+e.Who] = e.Count
	}
	require.Equal(t, map[string]int64{"192.0.2.66 several uids": 1000, "192.0.2.67 uid 4242": 2}, who)
}

// Refusals, which anybody can bring about, crowd out nothing of what people did.
func TestRefusalsCrowdOutNothing(t *testing.T) {
	l, ctx := openLog(t, t.TempDir()), context.Background()
	defer l.Store().Close()
	for i := range 10 * MostRefusals {
		l.Saw(files.AccessEvent{Kind: files.Refused, User: 1, Path: fmt.Sprint("plates/no-", i), Via: site.SMB, Gate: access.Entry})
	}
	l.Saw(files.AccessEvent{Kind: "removed", User: 2, Path: "plates/scan-7", Via: site.SMB})
	require.LessOrEqual(t, l.Waiting(), MostRefusals+2)
	require.NoError(t, l.WriteDown(ctx))
	list, err := l.Events(ctx, store.Match{Only: "removed"})
	require.NoError(t, err)
	require.Len(t, list, 1)
	require.Equal(t, "user 2", list[0].Who)
	list, err = l.Events(ctx, store.Match{Only: string(files.Refused)})
	require.NoError(t, err)
	require.Len(t, list, MostRefusals+1)
	total := int64(0)
	for _, e := range list {
		total += e.Count
	}
	require.EqualValues(t, 10*MostRefusals, total)
}
