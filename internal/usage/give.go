package usage

import (
	"slices"

	"amber.example/gatekeeper/internal/core/limit"
)

// Gift is a change of owner that has been reserved.
type Gift struct {
	f      *Folder
	id     ID
	from   Owner
	to     Owner
	trees  []*cell
	amount limit.Amount
}

// gift is a change of owner that is to be counted; the zero Gift where nothing changes.
func (f *Folder) gift(id ID, from, to Owner, names []string, amount limit.Amount) Gift {
	if f == nil || f.off || from == to {
		return Gift{}
	}
	return Gift{f: f, id: id, from: from, to: to, trees: f.treesOf(names), amount: amount}
}

// Give reserves room for something with whom it is about to belong to; an *Over where a limit is in the way.
func (f *Folder) Give(id ID, from, to Owner, names []string, amount limit.Amount) (Gift, error) {
	g := f.gift(id, from, to, names, amount)
	if g.f == nil {
		return g, nil
	}
	return g, f.ledger.reserveAll(g.gained(), amount, !f.counted)
}

// Hand is Give for what has been given already: nothing refuses it.
func (f *Folder) Hand(id ID, from, to Owner, names []string, amount limit.Amount) Gift {
	g := f.gift(id, from, to, names, amount)
	if g.f != nil {
		f.ledger.addAll(g.gained(), amount)
	}
	return g
}

func (g Gift) gained() []*cell { return without(g.f.party(g.to).cells, g.f.party(g.from).cells) }

// without gives the cells of one list that are not in another.
func without(list, less []*cell) []*cell {
	return slices.DeleteFunc(slices.Clone(list), func(c *cell) bool { return slices.Contains(less, c) })
}

// Forget gives back what was reserved: the owner is who it was.
func (g Gift) Forget() {
	if g.f != nil {
		g.f.ledger.addAll(g.gained(), limit.Amount{}.Minus(g.amount))
	}
}

// Done says that it has been given, and how much it is by now.
func (g Gift) Done(is limit.Amount) {
	if g.f == nil {
		return
	}
	l := g.f.ledger
	g.f.version.Add(1)
	l.addAll(without(g.f.party(g.from).cells, g.f.party(g.to).cells), limit.Amount{}.Minus(g.amount))
	more := is.Minus(g.amount)
	l.addAll(g.f.party(g.to).cells, more)
	l.addAll(g.trees, more)
	if s := g.f.scan; s != nil {
		s.given(g, is)
	}
}
