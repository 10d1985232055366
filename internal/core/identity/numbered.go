package identity

import (
	"cmp"
	"slices"
	"sort"
)

// byID finds dense indexes by number. Records are in the order of their numbers, as a rule without gaps: where one would be then, it is, or before.
type byID struct {
	ids   []ID
	other map[ID]int32 // where they are not in order
}

func indexed[T any](records []T, id func(*T) ID) byID {
	x := byID{ids: make([]ID, len(records))}
	for i := range records {
		x.ids[i] = id(&records[i])
	}
	if !slices.IsSorted(x.ids) {
		x.other = make(map[ID]int32, len(records))
		for i, id := range x.ids {
			x.other[id] = int32(i)
		}
	}
	return x
}

// Find gives the dense index of a number.
func (x byID) Find(id ID) (int32, bool) {
	if x.other != nil {
		i, ok := x.other[id]
		return i, ok
	}
	if len(x.ids) == 0 {
		return 0, false
	}
	most := min(id-x.ids[0], ID(len(x.ids)))
	if most >= 0 && most < ID(len(x.ids)) && x.ids[most] == id {
		return int32(most), true
	}
	i, ok := sort.Find(int(max(most, 0)), func(i int) int { return cmp.Compare(id, x.ids[i]) })
	return int32(i), ok
}

// with adds numbers that come after all others.
func (x byID) with(more []ID) byID {
	if len(more) == 0 {
		return x
	}
	return byID{ids: slices.Concat(x.ids, more)}
}
