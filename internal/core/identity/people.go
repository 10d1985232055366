package identity

import (
	"iter"
	"math/bits"
)

// People is a set of users, one bit for each dense index. Its length is that of the directory it was
// made for, with room for one index more; the operations take sets of one directory only.
type People []uint64

// NoPeople is an empty set.
func (d *Directory) NoPeople() People { return make(People, d.words()) }

// words is the length of every set of the directory's users.
func (d *Directory) words() int { return len(d.users)/64 + 1 }

// Everybody is every user. It is only to be read.
func (d *Directory) Everybody() People { return d.everybody }

// Members is the set of users in the group with a dense index, directly or through other
// groups. It is only to be read.
func (d *Directory) Members(group int32) People { return d.members[group] }

func (d *Directory) closeMembers() {
	d.everybody = d.NoPeople()
	for i := range d.users {
		d.everybody.Add(int32(i))
	}
	d.members = make([]People, len(d.groups))
	words := d.words()
	flat := make([]uint64, len(d.groups)*words)
	for g := range d.groups {
		d.members[g] = People(flat[g*words : (g+1)*words : (g+1)*words])
	}
	for u, set := range d.memberOf {
		for w, word := range set {
			for ; word != 0; word &= word - 1 {
				d.members[w*64+bits.TrailingZeros64(word)].Add(int32(u))
			}
		}
	}
}

// Add puts a user in.
func (p People) Add(user int32) { p[user/64] |= 1 << (user % 64) }

// Remove takes a user out.
func (p People) Remove(user int32) { p[user/64] &^= 1 << (user % 64) }

// Has says whether a user is in it.
func (p People) Has(user int32) bool { return user >= 0 && p[user/64]&(1<<(user%64)) != 0 }

// Clone is a copy.
func (p People) Clone() People { return append(People(nil), p...) }

// Or puts in all of another set.
func (p People) Or(q People) {
	for i, w := range q {
		p[i] |= w
	}
}

// And leaves what another set has as well.
func (p People) And(q People) {
	for i, w := range q {
		p[i] &= w
	}
}

// AndNot takes out all of another set.
func (p People) AndNot(q People) {
	for i, w := range q {
		p[i] &^= w
	}
}

// Empty says whether nobody is in it.
func (p People) Empty() bool {
	for _, w := range p {
		if w != 0 {
			return false
		}
	}
	return true
}

// Count is how many are in it.
func (p People) Count() int {
	n := 0
	for _, w := range p {
		n += bits.OnesCount64(w)
	}
	return n
}

// Each gives the dense indexes in it, in order.
func (p People) Each() iter.Seq[int32] {
	return func(yield func(int32) bool) {
		for i, w := range p {
			for ; w != 0; w &= w - 1 {
				if !yield(int32(i*64 + bits.TrailingZeros64(w))) {
					return
				}
			}
		}
	}
}
