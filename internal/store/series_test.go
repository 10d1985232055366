package store

import (
	"context"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/meter"
)

func spanWith(name string, n uint64, bucket int) Span {
	s := Span{Name: name, Operations: n, Read: 10 * n, Written: n}
	s.Buckets[bucket] = n
	s.Sum = time.Duration(n)
	return s
}

// What is kept by each step adds up to the same, whichever is asked for, and over a restart.
func TestEachStepAddsUp(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	s, aside, err := OpenSeries(ctx, dir)
	require.NoError(t, err)
	require.Empty(t, aside)
	begin := time.Unix(1_800_000_000, 0) // a full hour
	now := begin.Add(2*time.Hour - 10*time.Second)
	for at := begin; at.Before(now); at = at.Add(10 * time.Second) {
		require.NoError(t, s.Add(ctx, at, []Span{spanWith("1", 2, 3), spanWith("", 3, 5)}))
	}
	require.NoError(t, s.Close())
	s, _, err = OpenSeries(ctx, dir)
	require.NoError(t, err)
	defer s.Close()
	for _, c := range []struct {
		from  time.Time
		step  time.Duration
		spans int
	}{{begin, 10 * time.Second, 719}, {begin.Add(-24 * time.Hour).Add(12 * time.Hour), time.Minute, 120}, {begin.Add(-60 * 24 * time.Hour), time.Hour, 2}} {
		step, points, err := s.Between(ctx, "1", c.from, now.Add(time.Minute), now)
		require.NoError(t, err)
		require.Equal(t, c.step, step)
		require.Len(t, points, c.spans)
		var all Span
		for i, p := range points {
			require.Zero(t, p.At.Unix()%int64(step/time.Second))
			require.True(t, i == 0 || points[i-1].At.Before(p.At))
			all.Operations += p.Operations
			all.Read += p.Read
			all.Times = all.Times.And(p.Times)
		}
		require.EqualValues(t, 719*2, all.Operations)
		require.EqualValues(t, 719*20, all.Read)
		require.EqualValues(t, 719*2, all.Buckets[3])
		require.Equal(t, time.Duration(719*2), all.Sum)
	}
	_, points, err := s.Between(ctx, "no such", begin, now, now)
	require.NoError(t, err)
	require.Empty(t, points)
}

// What is older than its step is kept for goes, and with the last of it the name; there are never more names than may be.
func TestSeriesAreBounded(t *testing.T) {
	ctx := context.Background()
	s, _, err := OpenSeries(ctx, t.TempDir())
	require.NoError(t, err)
	defer s.Close()
	begin := time.Unix(1_800_000_000, 0)
	count := func(query string) (n int) {
		require.NoError(t, s.db.QueryRowContext(ctx, query).Scan(&n))
		return n
	}
	require.NoError(t, s.Add(ctx, begin, []Span{spanWith("gone", 1, 0)}))
	require.NoError(t, s.Add(ctx, begin.Add(3*time.Hour), []Span{spanWith("here", 1, 0)}))
	require.Equal(t, 5, count(`SELECT count(*) FROM samples`), "ten seconds of the first have gone")
	require.NoError(t, s.Add(ctx, begin.Add(91*24*time.Hour), []Span{spanWith("late", 1, 0)}))
	require.Equal(t, 1, count(`SELECT count(*) FROM series`))
	many := make([]Span, MostSeries+50)
	for i := range many {
		many[i] = spanWith(time.Duration(i).String(), 1, 0)
	}
	require.NoError(t, s.Add(ctx, begin.Add(91*24*time.Hour), many))
	require.Equal(t, MostSeries, count(`SELECT count(*) FROM series`))
}

// A damaged history is put aside and begun anew; nothing else depends on it. Rows that are not whole count for nothing.
func TestADamagedHistoryIsBegunAnew(t *testing.T) {
	ctx, dir := context.Background(), t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, SeriesFileName), []byte("SQLite format 3\x00 and then nothing of the kind, but long enough to be looked at as a page of it"), 0o600))
	s, aside, err := OpenSeries(ctx, dir)
	require.NoError(t, err)
	defer s.Close()
	require.NotEmpty(t, aside)
	require.FileExists(t, filepath.Join(dir, aside))
	now := time.Now()
	require.NoError(t, s.Add(ctx, now, []Span{spanWith("1", 1, 0)}))
	_, err = s.db.ExecContext(ctx, `UPDATE samples SET times = x'ff'`)
	require.NoError(t, err)
	_, points, err := s.Between(ctx, "1", now.Add(-time.Hour), now.Add(time.Minute), now)
	require.NoError(t, err)
	require.Len(t, points, 1)
	require.Equal(t, meter.Times{}, points[0].Times)
}
