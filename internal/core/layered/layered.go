// Package layered holds lists and indexes of which each version shares with the one before what it does not alter, so that making another costs what is
// altered and not what there is. Every version stays as it is, for any number of readers.
package layered

import "slices"

// List is a list by index. The zero List is empty.
type List[T any] struct {
	parts [][]T // each of partSize but the last
	n     int
}

const partSize = 512

// NewList makes a list of what of gives for each index.
func NewList[T any](n int, of func(i int32) T) List[T] {
	l := List[T]{n: n}
	for at := 0; at < n; at += partSize {
		part := make([]T, min(partSize, n-at))
		for i := range part {
			part[i] = of(int32(at + i))
		}
		l.parts = append(l.parts, part)
	}
	return l
}

// Len is how many there are.
func (l List[T]) Len() int { return l.n }

// At gives the one with an index.
func (l List[T]) At(i int32) T { return l.parts[i/partSize][i%partSize] }

// With gives the list with others in some places; those after the last are added, and have to follow each other.
func (l List[T]) With(by map[int32]T) List[T] {
	if len(by) == 0 {
		return l
	}
	out := List[T]{parts: slices.Clone(l.parts), n: l.n}
	own := make(map[int32]bool)
	keys := make([]int32, 0, len(by))
	for i := range by {
		keys = append(keys, i)
	}
	slices.Sort(keys)
	for _, i := range keys {
		part := i / partSize
		if int(part) == len(out.parts) {
			out.parts = append(out.parts, nil)
		}
		if !own[part] {
			own[part] = true
			out.parts[part] = append(make([]T, 0, partSize), out.parts[part]...)
		}
		if int(i) == out.n {
			out.parts[part] = append(out.parts[part], by[i])
			out.n++
			continue
		}
		out.parts[part][i%partSize] = by[i]
	}
	return out
}

// Index finds an index by a key. What is no longer true stays in it: whoever asks sees for themselves whether what is found still has the key. The
// zero Index is empty.
type Index[K comparable] struct {
	base   map[K]int32
	layers []map[K]int32 // the latest first
}

const mostLayers = 8

// NewIndex makes an index of a map, which is not altered any more.
func NewIndex[K comparable](of map[K]int32) Index[K] { return Index[K]{base: of} }

// Find gives the index that was last noted for a key.
func (x Index[K]) Find(k K) (int32, bool) {
	for _, layer := range x.layers {
		if i, ok := layer[k]; ok {
			return i, true
		}
	}
	i, ok := x.base[k]
	return i, ok
}

// With notes more keys.
func (x Index[K]) With(more map[K]int32) Index[K] {
	if len(more) == 0 {
		return x
	}
	layers := append([]map[K]int32{more}, x.layers...)
	if len(layers) <= mostLayers {
		return Index[K]{x.base, layers}
	}
	all := merged(layers...)
	if len(all) > len(x.base)/4+1000 {
		return Index[K]{base: merged(all, x.base)}
	}
	return Index[K]{x.base, []map[K]int32{all}}
}

// merged puts layers together, the latest first.
func merged[K comparable](layers ...map[K]int32) map[K]int32 {
	n := 0
	for _, l := range layers {
		n += len(l)
	}
	out := make(map[K]int32, n)
	for _, l := range slices.Backward(layers) {
		for k, i := range l {
			out[k] = i
		}
	}
	return out
}
