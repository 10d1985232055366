package job

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"maps"
	"slices"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// kept keeps jobs in memory, and may refuse to.
type kept struct {
	mu   sync.Mutex
	by   map[int64]Record
	last int64
	full bool
}

var errFull = errors.New("the disk is full")

func (k *kept) Jobs(context.Context) ([]Record, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	return slices.SortedFunc(maps.Values(k.by), func(a, b Record) int { return cmp.Compare(a.ID, b.ID) }), nil
}

func (k *kept) write(fn func() int64) (int64, error) {
	k.mu.Lock()
	defer k.mu.Unlock()
	if k.full {
		return 0, errFull
	}
	return fn(), nil
}

func (k *kept) AddJob(_ context.Context, r Record) (int64, error) {
	return k.write(func() int64 {
		k.last++
		r.ID = k.last
		k.by[r.ID] = r
		return r.ID
	})
}

func (k *kept) NoteJob(_ context.Context, id int64, p Progress) error {
	_, err := k.write(func() int64 {
		r := k.by[id]
		r.Progress = p
		k.by[id] = r
		return id
	})
	return err
}

func (k *kept) EndJob(_ context.Context, r Record, keep int) error {
	_, err := k.write(func() int64 {
		k.by[r.ID] = r
		var ended []int64
		for id, r := range k.by {
			if !r.Ended.IsZero() {
				ended = append(ended, id)
			}
		}
		slices.Sort(ended)
		for _, id := range ended[:max(0, len(ended)-keep)] {
			delete(k.by, id)
		}
		return r.ID
	})
	return err
}

// counting counts to what it is told, from where it was, and waits at each number for a go-ahead.
func counting(step chan struct{}) Kind {
	return Kind{Name: "count", Most: 2, Run: func(ctx context.Context, j *Job) (any, error) {
		var to int64
		if err := j.Args(&to); err != nil {
			return nil, err
		}
		j.SetTotal(to)
		var at int64
		if j.Was() != "" {
			if err := json.Unmarshal([]byte(j.Was()), &at); err != nil {
				return nil, err
			}
		}
		j.SetDone(at)
		for at < to {
			select {
			case <-ctx.Done():
				return nil, ctx.Err()
			case <-step:
			}
			at++
			j.Step()
			if err := j.Note(ctx, func() (string, error) { raw, err := json.Marshal(at); return string(raw), err }); err != nil {
				return nil, err
			}
		}
		return at, nil
	}}
}

func TestAJobGoesOnWhereItWas(t *testing.T) {
	k, step := &kept{by: make(map[int64]Record)}, make(chan struct{})
	r := New(k, counting(step))
	j, err := r.Start(t.Context(), "count", "count to five", "keeper", 5)
	require.NoError(t, err)
	for range 3 {
		step <- struct{}{}
	}
	require.Eventually(t, func() bool { return j.Now().Done == 3 }, time.Minute, time.Millisecond)
	r.Close()
	require.True(t, j.IsOver())
	require.EqualValues(t, 3, k.by[j.ID()].Done)
	require.True(t, k.by[j.ID()].Ended.IsZero(), "it has not ended")

	r = New(k, counting(step))
	require.NoError(t, r.Resume(t.Context()))
	defer r.Close()
	again, err := r.Job(j.ID())
	require.NoError(t, err)
	require.EqualValues(t, 3, again.Now().Done)
	_, _, known := again.Rate()
	require.False(t, known, "nobody can tell how fast it is now")
	step <- struct{}{}
	require.Eventually(t, func() bool { return again.Now().Done == 4 }, time.Minute, time.Millisecond)
	rate, left, known := again.Rate()
	require.True(t, known)
	require.InDelta(t, float64(time.Second)/rate, float64(left), float64(time.Millisecond), "one is left, at the rate of since it was taken up")
	step <- struct{}{}
	<-again.Over()
	require.Equal(t, "5", string(again.Now().Result))
	require.Equal(t, "5", string(k.by[j.ID()].Result))

	later := New(k, counting(step)) // what has ended is remembered
	require.NoError(t, later.Resume(t.Context()))
	defer later.Close()
	was, err := later.Job(j.ID())
	require.NoError(t, err)
	require.True(t, was.IsOver())
	require.Equal(t, again.Now().Result, was.Now().Result)
}

func TestHowJobsEnd(t *testing.T) {
	k, step := &kept{by: make(map[int64]Record)}, make(chan struct{})
	r := New(k, counting(step),
		Kind{Name: "fails", Run: func(context.Context, *Job) (any, error) { return nil, errors.New("the volume is away") }},
		Kind{Name: "breaks", Run: func(context.Context, *Job) (any, error) { panic("a mistake in a program") }},
		Kind{Name: "says too much", Run: func(context.Context, *Job) (any, error) { return func() {}, nil }})
	defer r.Close()
	for kind, says := range map[string]string{"fails": "the volume is away", "breaks": errWentWrong.Error(), "says too much": "json: unsupported type: func()"} {
		j, err := r.Start(t.Context(), kind, kind, "keeper", nil)
		require.NoError(t, err)
		<-j.Over()
		require.Equal(t, says, j.Now().Error)
		require.Nil(t, j.Now().Result)
		require.Equal(t, says, k.by[j.ID()].Error)
	}
	j, err := r.Start(t.Context(), "count", "count", "keeper", 5)
	require.NoError(t, err)
	step <- struct{}{}
	r.Cancel(j)
	r.Cancel(j) // twice is once
	require.Equal(t, ErrCancelled.Error(), j.Now().Error)
	require.False(t, k.by[j.ID()].Ended.IsZero(), "it is not taken up again")

	_, err = r.Start(t.Context(), "there is none", "", "keeper", nil)
	require.Error(t, err)
	_, err = r.Job(99)
	require.ErrorIs(t, err, ErrNone)

	var going []*Job
	for range 2 {
		j, err := r.Start(t.Context(), "count", "count", "keeper", 5)
		require.NoError(t, err)
		going = append(going, j)
	}
	_, err = r.Start(t.Context(), "count", "count", "keeper", 5)
	require.ErrorIs(t, err, ErrFull)
	k.mu.Lock()
	k.full = true
	k.mu.Unlock()
	_, err = r.Start(t.Context(), "fails", "fails", "keeper", 5)
	require.ErrorIs(t, err, errFull, "nothing runs that is not written down")
	step <- struct{}{}
	require.Eventually(t, func() bool { return going[0].IsOver() || going[1].IsOver() }, time.Minute, time.Millisecond, "what cannot be noted ends")
}

func TestJobsThatEndedAreForgotten(t *testing.T) {
	k := &kept{by: make(map[int64]Record)}
	r := New(k, Kind{Name: "quick", Run: func(context.Context, *Job) (any, error) { return nil, nil }})
	defer r.Close()
	const more = 20
	for range mostEnded + more {
		j, err := r.Start(t.Context(), "quick", "quick", "keeper", nil)
		require.NoError(t, err)
		<-j.Over()
	}
	require.Len(t, k.by, mostEnded)
	require.LessOrEqual(t, len(r.All()), mostEnded+1)
	require.EqualValues(t, mostEnded+more, r.All()[0].ID(), "the latest first")
	k.by[1] = Record{ID: 1, Kind: "of another version", Begun: time.Now()}
	require.NoError(t, New(k).Resume(t.Context()), "what is not known is left")
	require.Contains(t, k.by, int64(1))
}
