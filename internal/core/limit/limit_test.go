package limit

import (
	"math"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/core/identity"
)

func at(n int64) *int64 { return &n }

var noon = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

func TestSizesAreReadAndSpelled(t *testing.T) {
	for text, want := range map[string]int64{
		"0": 0, "1": 1, "2500000": 2_500_000, "2.5M": 2_500_000, "2.5MB": 2_500_000, "20G": 20e9, "20 GB": 20e9, "20GiB": 20 << 30, "1kib": 1024, "1.5TB": 1.5e12,
		"7b": 7, "8EB": 8e18, "0.5kB": 500, "1.9": 1, " 3M ": 3e6, "9223372036854775806": math.MaxInt64 - 1,
	} {
		n, err := ParseSize(text)
		require.NoError(t, err, text)
		require.Equal(t, want, n, text)
	}
	for text, want := range map[string]error{
		"": ErrSize, "G": ErrSize, "20Q": ErrSize, "20iB": ErrSize, "twenty": ErrSize, "1e3": ErrSize, "0x10": ErrSize, "1/2": ErrSize, "--5": ErrSize, "5 5": ErrSize, "none": ErrSize,
		"-1": ErrNegative, "-2.5M": ErrNegative, "9223372036854775807": ErrTooBig, "9223372036854775808": ErrTooBig, "8EiB": ErrTooBig, "99999999999999999999999999999": ErrTooBig,
	} {
		_, err := ParseSize(text)
		require.ErrorIs(t, err, want, text)
	}
	n, err := ParseCount("20k")
	require.NoError(t, err)
	require.EqualValues(t, 20_000, n)
	_, err = ParseCount("20kB")
	require.ErrorIs(t, err, ErrCount)
	for n, want := range map[int64]string{0: "0 B", 1: "1 B", 999: "999 B", 1000: "1 kB", 1234: "1.23 kB", 12_345: "12.3 kB", 123_456: "123 kB", 999_499: "999 kB", 999_500: "1 MB",
		3e6: "3 MB", 20 << 30: "21.5 GB", -1500: "-1.5 kB", math.MaxInt64: "9.22 EB", math.MinInt64: "-9.22 EB"} {
		require.Equal(t, want, FormatSize(n))
	}
	for text, want := range map[string]time.Duration{"7d": 168 * time.Hour, "36h": 36 * time.Hour, "2w": 336 * time.Hour, "90m": 90 * time.Minute, "0": 0, "30s": 30 * time.Second} {
		d, err := ParseGrace(text)
		require.NoError(t, err, text)
		require.Equal(t, want, d, text)
	}
	for _, text := range []string{"", "7", "d", "-1d", "7y", "1.5d", "4000000000w", "11000d"} {
		_, err := ParseGrace(text)
		require.Error(t, err, text)
	}
	for d, want := range map[time.Duration]string{-1: "over", 0: "0s", 59 * time.Second: "59s", 61 * time.Minute: "1h 1m", 167*time.Hour + time.Minute: "6d 23h", 48 * time.Hour: "2d"} {
		require.Equal(t, want, FormatGrace(d))
	}
}

func TestWhatIsNoLimit(t *testing.T) {
	for _, c := range []struct {
		b   Bounds
		err error
	}{
		{Bounds{}, nil}, {Bounds{HardBytes: at(0)}, nil}, {Bounds{SoftBytes: at(5), HardBytes: at(5)}, nil}, {Bounds{SoftBytes: at(5)}, nil},
		{Bounds{SoftBytes: at(6), HardBytes: at(5)}, ErrHardSoft}, {Bounds{SoftFiles: at(6), HardFiles: at(5)}, ErrHardSoft}, {Bounds{HardBytes: at(-1)}, ErrNegative},
		{Bounds{SoftFiles: at(-1)}, ErrNegative}, {Bounds{GraceSeconds: -1}, ErrGrace}, {Bounds{GraceSeconds: math.MaxInt64}, ErrGrace},
	} {
		require.ErrorIs(t, c.b.Check(), c.err, "%+v", c.b)
	}
}

// Around every border: what may grow, and by how much.
func TestBordersOfALimit(t *testing.T) {
	hour := Bounds{SoftBytes: at(100), HardBytes: at(200), GraceSeconds: 3600}
	for _, c := range []struct {
		name    string
		b       Bounds
		use     int64
		since   time.Duration // ago; 0 for not above
		left    int64
		state   State
		refuses int64 // the least growth that is refused
	}{
		{"below soft", hour, 99, 0, 101, Within, 102},
		{"at soft", hour, 100, 0, 100, Within, 101},
		{"just above soft", hour, 101, time.Nanosecond, 99, Soft, 100},
		{"the last moment of the grace", hour, 101, time.Hour - 1, 99, Soft, 100},
		{"the grace is over", hour, 101, time.Hour, 0, Ended, 1},
		{"over, and below again", hour, 90, 0, 110, Within, 111},
		{"at hard", hour, 200, time.Minute, 0, Full, 1},
		{"a limit set below the use", hour, 500, time.Minute, 0, Full, 1},
		{"no grace at all", Bounds{SoftBytes: at(100), HardBytes: at(200)}, 99, 0, 1, Within, 2},
		{"nothing at all", Bounds{HardBytes: at(0)}, 0, 0, 0, Full, 1},
		{"only soft, its grace running", Bounds{SoftBytes: at(10), GraceSeconds: 60}, 11, time.Second, -1, Soft, -1},
		{"only soft, its grace over", Bounds{SoftBytes: at(10), GraceSeconds: 60}, 11, time.Hour, 0, Ended, 1},
		{"as large as can be", Bounds{HardBytes: at(math.MaxInt64 - 1)}, math.MaxInt64 - 2, 0, 1, Within, 2},
		{"counted below nothing while counting", Bounds{HardBytes: at(10)}, -5, 0, 15, Within, 16},
	} {
		s := Standing{Limit: &Limit{Bounds: c.b}, Use: Amount{Bytes: c.use}}
		if c.since > 0 {
			s.Since[Bytes] = noon.Add(-c.since)
		}
		left, bounded := s.Left(Bytes, noon)
		require.Equal(t, c.left >= 0, bounded, c.name)
		if bounded {
			require.Equal(t, c.left, left, c.name)
			_, no := s.Refuses(Amount{Bytes: c.refuses - 1}, noon)
			require.False(t, no, c.name)
			d, no := s.Refuses(Amount{Bytes: c.refuses}, noon)
			require.True(t, no, c.name)
			require.Equal(t, Bytes, d)
		}
		_, no := s.Refuses(Amount{Bytes: -1}, noon)
		require.False(t, no, "shrinking: %s", c.name)
		require.Equal(t, c.state, s.State(noon), c.name)
		s.Counting = true
		_, no = s.Refuses(Amount{Bytes: math.MaxInt64}, noon)
		require.False(t, no, "does not bind while it is counted first")
	}
}

// However a limit and a use are, what Left leaves is exactly what Refuses does not refuse, and no sum overflows.
func TestLeftIsWhatIsNotRefused(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := func(label string) *int64 {
			if rapid.Bool().Draw(t, label+" given") {
				return nil
			}
			return at(rapid.OneOf(rapid.Int64Range(0, 20), rapid.Int64Range(math.MaxInt64-20, math.MaxInt64-1)).Draw(t, label))
		}
		b := Bounds{SoftBytes: n("soft"), HardBytes: n("hard"), GraceSeconds: rapid.Int64Range(0, 3).Draw(t, "grace")}
		if b.Check() != nil {
			return
		}
		s := Standing{Limit: &Limit{Bounds: b}, Use: Amount{Bytes: rapid.OneOf(rapid.Int64Range(-5, 25), rapid.Int64Range(math.MaxInt64-20, math.MaxInt64)).Draw(t, "use")}}
		if soft, ok := b.Soft(Bytes); ok && s.Use.Bytes > soft {
			s.Since[Bytes] = noon.Add(-time.Duration(rapid.Int64Range(0, 5).Draw(t, "since")) * time.Second)
		}
		grow := rapid.OneOf(rapid.Int64Range(1, 30), rapid.Int64Range(math.MaxInt64-30, math.MaxInt64)).Draw(t, "grow")
		left, bounded := s.Left(Bytes, noon)
		_, no := s.Refuses(Amount{Bytes: grow}, noon)
		require.Equal(t, bounded && grow > left, no)
		if hard, ok := b.Hard(Bytes); ok && !no {
			require.LessOrEqual(t, Amount{Bytes: s.Use.Bytes}.Plus(Amount{Bytes: grow}).Bytes, hard)
		}
		require.GreaterOrEqual(t, left, int64(0))
	})
}

// Whose limits bind whom: one's own before those of one's groups before the one for all, each where it reaches.
func TestWhoseLimitsBind(t *testing.T) {
	d, err := identity.Compile([]identity.User{{ID: 1, Name: "wren", UID: 2001, Primary: 2}, {ID: 2, Name: "orla", UID: 2006}, {ID: 3, Name: "corin", UID: 2009}},
		[]identity.Group{{ID: 1, Name: "visitors", GID: 3001, Members: []identity.Principal{identity.UserPrincipal(2), identity.UserPrincipal(3)}}, {ID: 2, Name: "staff", GID: 3002},
			{ID: 3, Name: "guests", GID: 3003, Members: []identity.Principal{identity.UserPrincipal(2)}}})
	require.NoError(t, err)
	hard := Bounds{HardBytes: at(1)}
	table, err := NewTable(d, []Limit{
		{ID: 1, Kind: OfUser, User: 1, Bounds: hard}, {ID: 2, Kind: Default, Bounds: hard}, {ID: 3, Kind: Default, Group: 1, Bounds: hard}, {ID: 4, Kind: Default, Group: 3, Bounds: hard},
		{ID: 5, Kind: OfUser, User: 3, Bounds: Bounds{}}, {ID: 6, Kind: Default, Folder: 9, Bounds: hard}, {ID: 7, Kind: OfUser, User: 1, Volume: 4, Bounds: hard}, {ID: 8, Kind: OfGroup, Group: 2, Folder: 9, Bounds: hard},
		{ID: 9, Kind: OfFolder, Folder: 9, Bounds: hard}, {ID: 10, Kind: OfFolder, Folder: 9, Path: "b", Bounds: hard}, {ID: 11, Kind: OfFolder, Folder: 9, Path: "a/x", Bounds: hard},
	})
	require.NoError(t, err)
	for _, c := range []struct {
		name string
		of   Counter
		want []int64
	}{
		{"an own one", Counter{Of: Owned, Number: 2001}, []int64{1}},
		{"those of two groups", Counter{Of: Owned, Number: 2006}, []int64{3, 4}},
		{"let off the defaults", Counter{Of: Owned, Number: 2009}, nil},
		{"nobody in the records", Counter{Of: Owned, Number: 4711}, []int64{2}},
		{"in a folder, where the default reaches", Counter{Of: Owned, Number: 2009, Volume: 4, Folder: 9}, []int64{6}},
		{"on a volume", Counter{Of: Owned, Number: 2001, Volume: 4}, []int64{7}},
		{"on another volume", Counter{Of: Owned, Number: 2001, Volume: 5}, nil},
		{"a group in a folder", Counter{Of: Grouped, Number: 3002, Volume: 4, Folder: 9}, []int64{8}},
		{"a group everywhere", Counter{Of: Grouped, Number: 3002}, nil},
		{"a gid that no group has", Counter{Of: Grouped, Number: 1, Volume: 4, Folder: 9}, nil},
		{"a folder", Counter{Volume: 4, Folder: 9}, []int64{9}},
		{"a tree", Counter{Volume: 4, Folder: 9, Tree: 11}, []int64{11}},
		{"a volume", Counter{Volume: 4}, nil},
	} {
		var got []int64
		for _, l := range table.Of(c.of) {
			got = append(got, l.ID)
		}
		require.Equal(t, c.want, got, c.name)
	}
	require.EqualValues(t, 11, table.Trees(9)[0].ID, "in order of the paths")
	require.ElementsMatch(t, []Counter{{Of: Owned}, {Of: Owned, Folder: 9}, {Of: Owned, Volume: 4}}, table.Reaches(Owned))
	for _, bad := range []Limit{{Kind: OfUser, User: 9}, {Kind: OfGroup, Group: 9}, {Kind: Default, Group: 9}, {Kind: "tree"}, {Kind: OfFolder, Bounds: Bounds{HardBytes: at(-1)}}} {
		_, err := NewTable(d, []Limit{bad})
		require.Error(t, err, "%+v", bad)
	}
}

func TestForecast(t *testing.T) {
	var points []Point
	for day := range 8 {
		points = append(points, Point{noon.AddDate(0, 0, day-7), int64(100 * day)})
	}
	full, ok := Forecast(points, 1000, noon)
	require.True(t, ok)
	require.WithinDuration(t, noon.AddDate(0, 0, 3), full, time.Minute)
	for name, c := range map[string]struct {
		points []Point
		bound  int64
	}{"full already": {points, 700}, "one point": {points[:1], 1000}, "all at once": {[]Point{{noon, 1}, {noon, 5}}, 1000}, "shrinks": {[]Point{{noon.Add(-time.Hour), 9}, {noon, 5}}, 1000},
		"not in ten years": {[]Point{{noon.Add(-time.Hour), 1}, {noon, 2}}, 1 << 60}, "nothing": {nil, 1}} {
		_, ok := Forecast(c.points, c.bound, noon)
		require.False(t, ok, name)
	}
}

func TestRaisedLeavesRoom(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.Int64Min(0).Draw(t, "n")
		require.True(t, Raised(n) > n || n > math.MaxInt64/2)
	})
	require.EqualValues(t, 1_300_000, Raised(1_000_000))
}

func FuzzParseSize(f *testing.F) {
	for _, s := range []string{"20G", "1.5 TiB", "-1", "none", "9EiB", "1e9", "0x1p3"} {
		f.Add(s)
	}
	f.Fuzz(func(t *testing.T, s string) {
		if n, err := ParseSize(s); err == nil && n < 0 {
			t.Fatal(n)
		}
	})
}

// What is spelled to be typed is read as what it was, to the byte and the second.
func TestExactSpellingsAreReadBack(t *testing.T) {
	for n, want := range map[int64]string{0: "0", 1: "1", 999: "999", 1000: "1kB", 1024: "1KiB", 25_500_000_000: "25500MB", 20e9: "20GB", 512 << 20: "512MiB", 2_500_001: "2500001", 1 << 60: "1EiB", math.MaxInt64 - 1: "9223372036854775806"} {
		require.Equal(t, want, ExactSize(n))
	}
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.Int64Range(0, 5000).Draw(t, "n")
		for range rapid.IntRange(0, 5).Draw(t, "units") {
			n *= rapid.SampledFrom([]int64{1, 1000, 1024}).Draw(t, "unit")
		}
		if n < 0 || n == math.MaxInt64 {
			n = math.MaxInt64 - 1
		}
		back, err := ParseSize(ExactSize(n))
		require.NoError(t, err)
		require.Equal(t, n, back)
		d := time.Duration(rapid.Int64Range(0, int64(mostGrace/time.Second)).Draw(t, "seconds")) * time.Second
		if rapid.Bool().Draw(t, "round") {
			d = d.Truncate(rapid.SampledFrom([]time.Duration{time.Minute, time.Hour, 24 * time.Hour}).Draw(t, "to"))
		}
		same, err := ParseGrace(ExactGrace(d))
		require.NoError(t, err)
		require.Equal(t, d, same)
	})
}
