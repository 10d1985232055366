package identity

import (
	"iter"
	"math/bits"
	"sync"
)

// People is a set of users, one bit for each dense index. Its length is that of the directory it was
// made for, with room for one index more; the operations take sets of one directory only.
type People []uint64

// NoPeople is an empty set.
func (d *Directory) NoPeople() People { return make(People, d.words()) }

// words is the length of every set of the directory's users.
func (d *Directory) words() int { return len(d.users)/64 + 1 }

// lazyPeople is a set that is put together when somebody first asks for it.
type lazyPeople struct {
	once sync.Once
	set  People
}

func (l *lazyPeople) get(of func() People) People {
	l.once.Do(func() { l.set = of() })
	return l.set
}

// Everybody is every user. It is only to be read.
func (d *Directory) Everybody() People {
	return d.everybody.get(func() People {
		all := d.NoPeople()
		for i := range d.users {
			all.Add(int32(i))
		}
		return all
	})
}

// Members is the set of users in the group with a dense index, directly or through other
// groups. It is only to be read.
func (d *Directory) Members(group int32) People {
	return d.members.At(group).get(func() People {
		all := d.NoPeople()
		seen, todo := map[int32]bool{group: true}, []int32{group}
		for len(todo) > 0 {
			g := todo[len(todo)-1]
			todo = todo[:len(todo)-1]
			for _, u := range d.primaryOf.At(g) {
				all.Add(u)
			}
			for _, m := range d.listed.At(g) {
				if m.Kind == KindUser {
					all.Add(d.UserIndex(m.ID))
				} else if below := d.GroupIndex(m.ID); !seen[below] {
					seen[below], todo = true, append(todo, below)
				}
			}
		}
		return all
	})
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
