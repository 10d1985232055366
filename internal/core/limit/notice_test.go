package limit

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"
)

var defaultMarks = Marks{Percent: DefaultPercent, Grace: true}

// TestEachMarkIsToldOnce goes through what becomes of one limit, step by step.
func TestEachMarkIsToldOnce(t *testing.T) {
	hard := &Limit{Kind: OfUser, Bounds: Bounds{HardBytes: at(1000)}}
	type step struct {
		use     int64
		refused bool
		after   time.Duration
		marks   []int // that are told
	}
	for name, steps := range map[string][]step{
		"one after the other":              {{790, false, 0, nil}, {800, false, 0, []int{80}}, {899, false, 0, nil}, {900, false, 0, []int{90}}, {950, false, 0, []int{95}}, {1000, false, 0, []int{100}}},
		"several at once: the highest":     {{960, false, 0, []int{95}}, {1000, false, 0, []int{100}}},
		"around a mark: once":              {{800, false, 0, []int{80}}, {790, false, 0, nil}, {800, false, 0, nil}, {751, false, 0, nil}, {810, false, 0, nil}},
		"well below and back, later":       {{800, false, 0, []int{80}}, {749, false, 0, nil}, {800, false, 2 * time.Hour, []int{80}}},
		"well below and back, at once":     {{800, false, 0, []int{80}}, {700, false, 0, nil}, {800, false, time.Minute, nil}, {700, false, time.Hour, nil}, {800, false, time.Hour, []int{80}}},
		"down to a lower mark is no news":  {{1000, false, 0, []int{100}}, {849, false, 0, nil}, {905, false, 2 * time.Hour, []int{90}}},
		"refused close to the end is full": {{960, false, 0, []int{95}}, {960, true, 0, []int{100}}, {960, true, 0, nil}, {955, false, 0, nil}},
		"refused far from it is not":       {{500, true, 0, nil}, {949, true, 0, []int{90}}},
		"above the bound":                  {{4000, false, 0, []int{100}}, {5000, false, 0, nil}},
		"nothing there":                    {{0, false, 0, nil}, {0, true, 0, nil}},
	} {
		t.Run(name, func(t *testing.T) {
			var told Told
			now := noon
			for i, s := range steps {
				now = now.Add(s.after)
				var news []Notice
				told, news = defaultMarks.Next(told, &Standing{Limit: hard, Use: Amount{Bytes: s.use}}, [Dimensions]bool{s.refused}, now)
				var marks []int
				for _, n := range news {
					assert.Equal(t, Reached, n.Kind)
					marks = append(marks, n.Percent)
				}
				require.Equal(t, s.marks, marks, "step %d", i)
			}
		})
	}
}

func TestABoundOfNothing(t *testing.T) {
	none := &Limit{Kind: OfUser, Bounds: Bounds{HardBytes: at(0), SoftFiles: at(0), GraceSeconds: 3600}}
	_, news := defaultMarks.Next(Told{}, &Standing{Limit: none}, [Dimensions]bool{true, true}, time.Now())
	assert.Empty(t, news, "who may store nothing and has nothing is told nothing")
	_, news = defaultMarks.Next(Told{}, &Standing{Limit: none, Use: Amount{Bytes: 1}}, [Dimensions]bool{}, time.Now())
	assert.Equal(t, []Notice{{Reached, Bytes, 100}}, news)
}

// TestAGraceIsTold goes through a grace with a step each hour.
func TestAGraceIsTold(t *testing.T) {
	begun := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	l := &Limit{Kind: OfUser, Bounds: Bounds{SoftBytes: at(1000), HardBytes: at(10_000), GraceSeconds: int64(3 * 24 * 3600)}}
	var told Told
	var said []string
	for hour := range 96 {
		now := begun.Add(time.Duration(hour) * time.Hour)
		var news []Notice
		told, news = defaultMarks.Next(told, &Standing{Limit: l, Use: Amount{Bytes: 1001}, Since: Since{begun}}, [Dimensions]bool{}, now)
		for _, n := range news {
			said = append(said, now.Sub(begun).String()+" "+string(n.Kind))
		}
	}
	assert.Equal(t, []string{"0s grace begun", "48h0m0s grace ending"}, said)

	// It ends and begins again with use going around the bound: that is not told each time.
	told, n := Told{}, 0
	for minute := range 50 {
		now := begun.Add(time.Duration(minute) * time.Minute)
		s := &Standing{Limit: l, Use: Amount{Bytes: 960}}
		if minute%2 == 0 {
			s.Use.Bytes, s.Since = 1001, Since{now}
		}
		var news []Notice
		told, news = defaultMarks.Next(told, s, [Dimensions]bool{}, now)
		n += len(news)
	}
	assert.Equal(t, 1, n)

	short := &Limit{Kind: OfUser, Bounds: Bounds{SoftBytes: at(1000), HardBytes: at(10_000), GraceSeconds: 3600}}
	told, n = Told{}, 0
	for minute := range 60 {
		var news []Notice
		told, news = defaultMarks.Next(told, &Standing{Limit: short, Use: Amount{Bytes: 1001}, Since: Since{begun}}, [Dimensions]bool{}, begun.Add(time.Duration(minute)*time.Minute))
		n += len(news)
	}
	assert.Equal(t, 1, n, "a grace shorter than a day is told once")

	_, news := Marks{}.Next(Told{}, &Standing{Limit: short, Use: Amount{Bytes: 9999}, Since: Since{begun}}, [Dimensions]bool{}, begun)
	assert.Empty(t, news, "nobody wants to be told")
}

// TestWhatIsToldFollowsUse holds any history of a use to two laws: whoever was told of a mark was at it, and between
// two times of telling of the same mark there was a time well below it, and an hour.
func TestWhatIsToldFollowsUse(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		marks := rapid.SliceOfNDistinct(rapid.IntRange(1, 100), 0, mostMarks, func(n int) int { return n }).Draw(t, "marks")
		marks, err := CleanPercent(marks)
		require.NoError(t, err)
		m := Marks{Percent: marks}
		bound := rapid.OneOf(rapid.Int64Range(1, 400), rapid.Int64Range(math.MaxInt64-400, math.MaxInt64)).Draw(t, "bound")
		l := &Limit{Kind: OfUser, Bounds: Bounds{HardFiles: &bound}}
		percent := func(use int64) float64 { return float64(use) / float64(bound) * 100 }
		now := time.Unix(1e9, 0)
		var told Told
		last, lowest := map[int]time.Time{}, map[int]float64{}
		highest := 0
		for range rapid.IntRange(1, 60).Draw(t, "steps") {
			now = now.Add(time.Duration(rapid.Int64Range(0, 90).Draw(t, "minutes")) * time.Minute)
			use := int64(float64(bound) / 100 * float64(rapid.IntRange(0, 110).Draw(t, "share")))
			if use < 0 {
				use = bound
			}
			for mark := range lowest {
				lowest[mark] = min(lowest[mark], percent(use))
			}
			var news []Notice
			told, news = m.Next(told, &Standing{Limit: l, Use: Amount{Files: use}}, [Dimensions]bool{}, now)
			require.LessOrEqual(t, len(news), 1)
			for _, n := range news {
				require.Contains(t, marks, n.Percent)
				require.GreaterOrEqual(t, percent(use), float64(n.Percent)-0.01)
				if was, ok := last[n.Percent]; ok {
					require.GreaterOrEqual(t, now.Sub(was), markQuiet)
					require.Less(t, lowest[n.Percent], float64(n.Percent-markBack)+0.01)
				}
				last[n.Percent], lowest[n.Percent] = now, percent(use)
				highest = max(highest, n.Percent)
			}
			for _, mark := range marks { // nothing that was reached goes untold
				if percent(use) > float64(mark)+0.01 {
					require.GreaterOrEqual(t, highest, mark)
				}
			}
		}
	})
}

func TestMarksThatMakeNoSense(t *testing.T) {
	for _, bad := range [][]int{{0}, {101}, {-5, 50}, {1, 2, 3, 4, 5, 6, 7, 8, 9}} {
		_, err := CleanPercent(bad)
		assert.ErrorIs(t, err, ErrMarks, "%v", bad)
	}
	got, err := CleanPercent([]int{95, 80, 95})
	assert.NoError(t, err)
	assert.Equal(t, []int{80, 95}, got)
	none, err := CleanPercent(nil)
	assert.NoError(t, err)
	assert.NotNil(t, none, "no marks is not the default ones")
}
