package layered_test

import (
	"maps"
	"testing"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"amber.example/gatekeeper/internal/core/layered"
)

// Every version of a list is what a list that is copied would be, and stays so whatever becomes of later ones; at and around the borders of its parts.
func TestListsAreVersions(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		n := rapid.SampledFrom([]int{0, 1, 511, 512, 513, 1024, 1025}).Draw(t, "size")
		model := make([]int, n)
		for i := range model {
			model[i] = i
		}
		versions := []layered.List[int]{layered.NewList(n, func(i int32) int { return int(i) })}
		models := [][]int{model}
		for step := range rapid.IntRange(1, 6).Draw(t, "steps") {
			at := rapid.IntRange(0, len(versions)-1).Draw(t, "version")
			next := append([]int(nil), models[at]...)
			by := make(map[int32]int)
			for range rapid.IntRange(0, 5).Draw(t, "altered") {
				if len(next) > 0 {
					i := rapid.IntRange(0, len(next)-1).Draw(t, "index")
					next[i], by[int32(i)] = -step-1, -step-1
				}
			}
			for range rapid.SampledFrom([]int{0, 1, 2, 513}).Draw(t, "added") {
				by[int32(len(next))] = 1000 + step
				next = append(next, 1000+step)
			}
			versions, models = append(versions, versions[at].With(by)), append(models, next)
		}
		for v, l := range versions {
			require.Equal(t, len(models[v]), l.Len())
			for i, want := range models[v] {
				require.Equal(t, want, l.At(int32(i)))
			}
		}
	})
}

func TestIndexesAreVersions(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		base := make(map[int]int32)
		for i := range rapid.SampledFrom([]int{0, 1, 100, 5000}).Draw(t, "size") {
			base[i] = int32(i)
		}
		versions := []layered.Index[int]{layered.NewIndex(maps.Clone(base))}
		models := []map[int]int32{base}
		for step := range rapid.IntRange(1, 25).Draw(t, "steps") {
			at := len(versions) - 1
			if rapid.IntRange(0, 5).Draw(t, "another") == 0 {
				at = rapid.IntRange(0, len(versions)-1).Draw(t, "version")
			}
			more := make(map[int]int32)
			for range rapid.SampledFrom([]int{0, 1, 3, 300}).Draw(t, "more") {
				more[rapid.IntRange(0, 6000).Draw(t, "key")] = int32(step)
			}
			next := maps.Clone(models[at])
			maps.Copy(next, more)
			versions, models = append(versions, versions[at].With(more)), append(models, next)
		}
		for v, x := range versions {
			for k := 0; k <= 6000; k += 1 + v%7 {
				got, ok := x.Find(k)
				want, is := models[v][k]
				require.Equal(t, is, ok)
				require.Equal(t, want, got)
			}
		}
	})
}
