package usage

import "amber.example/gatekeeper/internal/core/limit"

// Gift is a change of owner that has been reserved.
type Gift struct {
	f      *Folder
	id     ID
	from   Owner
	to     Owner
	trees  []*cell
	amount limit.Amount
}

// Give reserves room for something with whom it is about to belong to; an *Over where a limit is in the way.
func (f *Folder) Give(id ID, from, to Owner, names []string, amount limit.Amount) (Gift, error) {
	if f == nil || f.off || from == to {
		return Gift{}, nil
	}
	g := Gift{f: f, id: id, from: from, to: to, trees: f.treesOf(names), amount: amount}
	return g, f.ledger.reserveAll(g.gained(), amount, !f.counted)
}

// Hand is Give for what has been given already: nothing refuses it.
func (f *Folder) Hand(id ID, from, to Owner, names []string, amount limit.Amount) Gift {
	if f == nil || f.off || from == to {
		return Gift{}
	}
	g := Gift{f: f, id: id, from: from, to: to, trees: f.treesOf(names), amount: amount}
	f.ledger.addAll(g.gained(), amount)
	return g
}

func (g Gift) gained() []*cell { return without(g.f.party(g.to).cells, g.f.party(g.from).cells) }

func without(list, less []*cell) []*cell {
	var out []*cell
	for _, c := range list {
		if !contains(less, c) {
			out = append(out, c)
		}
	}
	return out
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
