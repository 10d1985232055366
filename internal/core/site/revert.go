package site

import (
	"bytes"
	"cmp"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
)

// Obstacle is why a change cannot be taken back by itself: part of its record has become something else since.
type Obstacle struct {
	Key   Key
	Field string // of the record's JSON form; "" for all of it
}

// Revert takes changes back: what they altered in records is put back to what it was, and what others have altered in the same records since stays. Where
// both have altered the same, that is an obstacle; then the draft is of no use. Changes are given the latest first.
func (d *Draft) Revert(changes []Change) (obstacles []Obstacle, err error) {
	for _, c := range inOrder(changes) {
		k := kindNamed[c.Kind]
		if k == nil {
			continue
		}
		var now json.RawMessage
		if record, there := k.get(&d.is, c.ID, parentOf(c)); there {
			if now, err = json.Marshal(record); err != nil {
				return nil, err
			}
		}
		back, at, err := reverted(now, c)
		if err != nil {
			return nil, fmt.Errorf("%s %d: %w", c.Kind, c.ID, err)
		}
		if at != nil {
			obstacles = append(obstacles, *at)
			continue
		}
		if back == nil && c.Kind == "folder" { // what others have written in it would go with it
			f, _ := folders.get(&d.is, c.ID)
			for _, r := range f.Rules {
				obstacles = append(obstacles, Obstacle{Key: Key{"rule", r.ID}})
			}
			if len(f.Rules) > 0 {
				continue
			}
		}
		if other, is := d.otherRule(c.ID, back); c.Kind == "rule" && is { // written on the same path since
			obstacles = append(obstacles, Obstacle{Key: Key{"rule", other}})
			continue
		}
		if back == nil {
			err = k.drop(d, Change{Kind: c.Kind, ID: c.ID, After: now})
		} else {
			err = k.put(d, back)
		}
		if err != nil {
			return nil, fmt.Errorf("%s %d: %w", c.Kind, c.ID, err)
		}
	}
	return obstacles, nil
}

// otherRule is the rule that is on the path of another that is to come back; false where there is none, or it is no rule.
func (d *Draft) otherRule(id int64, raw json.RawMessage) (int64, bool) {
	var r RuleRecord
	if raw == nil || json.Unmarshal(raw, &r) != nil || r.FolderID == 0 || r.ID != id {
		return 0, false
	}
	is := d.Rule(r.FolderID, r.Path)
	return is.ID, is.ID != 0 && is.ID != id
}

// inOrder has what others lie in come first where it comes back, and last where it goes.
func inOrder(changes []Change) []Change {
	rank := func(c Change) int {
		lies := kindNamed[c.Kind] != nil && kindNamed[c.Kind].Parent != ""
		switch {
		case lies && c.Before == nil:
			return 0
		case lies:
			return 2
		}
		return 1
	}
	out := slices.Clone(changes)
	slices.SortStableFunc(out, func(a, b Change) int { return rank(a) - rank(b) })
	lastFirst(out)
	return out
}

// lastFirst has of each kind what was added go from its end: the records that are left need not move up each time, which for an import of a hundred thousand
// people would be all that undoing does.
func lastFirst(changes []Change) {
	added := make(map[string][]int) // where they stand, by kind
	for i, c := range changes {
		if c.Before == nil {
			added[c.Kind] = append(added[c.Kind], i)
		}
	}
	for _, at := range added {
		of := make([]Change, len(at))
		for i, where := range at {
			of[i] = changes[where]
		}
		slices.SortFunc(of, func(a, b Change) int { return cmp.Compare(b.ID, a.ID) })
		for i, where := range at {
			changes[where] = of[i]
		}
	}
}

// parentOf is the record that the one of a change lies in; 0 for none.
func parentOf(c Change) int64 {
	var r RuleRecord
	if c.Kind != "rule" {
		return 0
	}
	for _, raw := range []json.RawMessage{c.After, c.Before} {
		if raw != nil && json.Unmarshal(raw, &r) == nil {
			return r.FolderID
		}
	}
	return 0
}

// reverted is a record without a change, as far as others have let it be.
func reverted(now json.RawMessage, c Change) (json.RawMessage, *Obstacle, error) {
	key := Key{c.Kind, c.ID}
	same, err := equal(now, c.After)
	switch {
	case err != nil:
		return nil, nil, err
	case same:
		return c.Before, nil, nil
	case c.Kind == "rule" && c.Before == nil && now != nil: // others have written on the path since, which stays
		var made RuleRecord
		if err := json.Unmarshal(c.After, &made); err != nil {
			return nil, nil, err
		}
		made.Cut, made.Entries = false, nil
		if c.Before, err = json.Marshal(made); err != nil {
			return nil, nil, err
		}
	case c.Before == nil || c.After == nil || now == nil: // it was made or removed, and is not as it was left
		return nil, &Obstacle{Key: key}, nil
	}
	var is, before, after map[string]json.RawMessage
	for _, side := range []struct {
		raw json.RawMessage
		to  *map[string]json.RawMessage
	}{{now, &is}, {c.Before, &before}, {c.After, &after}} {
		if err := json.Unmarshal(side.raw, side.to); err != nil {
			return nil, nil, err
		}
	}
	fields := maps.Clone(before)
	maps.Copy(fields, after)
	for _, field := range slices.Sorted(maps.Keys(fields)) {
		same, err := equal(before[field], after[field])
		if err != nil {
			return nil, nil, err
		}
		if same {
			continue
		}
		back, ok, err := revertedField(is[field], before[field], after[field])
		if err != nil {
			return nil, nil, err
		}
		if !ok {
			return nil, &Obstacle{Key: key, Field: field}, nil
		}
		if is[field] = back; back == nil {
			delete(is, field)
		}
	}
	out, err := json.Marshal(is)
	return out, nil, err
}

// revertedField does it for a part of a record: where it is a list, for those of its items that came, went or were altered.
func revertedField(now, before, after json.RawMessage) (json.RawMessage, bool, error) {
	if same, err := equal(now, after); err != nil || same {
		return before, same, err
	}
	var is, was, became []json.RawMessage
	for _, side := range []struct {
		raw json.RawMessage
		to  *[]json.RawMessage
	}{{now, &is}, {before, &was}, {after, &became}} {
		if side.raw != nil && json.Unmarshal(side.raw, side.to) != nil {
			return nil, false, nil // no list
		}
	}
	find := func(list []json.RawMessage, item json.RawMessage) int {
		return slices.IndexFunc(list, func(other json.RawMessage) bool { return itemKey(other) == itemKey(item) })
	}
	for _, item := range became { // what came or was altered
		at, had := find(is, item), find(was, item)
		if had >= 0 {
			if same, _ := equal(was[had], item); same {
				continue
			}
		}
		if at < 0 {
			return nil, false, nil
		}
		if same, _ := equal(is[at], item); !same {
			return nil, false, nil
		}
		if had >= 0 {
			is[at] = was[had]
		} else {
			is = slices.Delete(is, at, at+1)
		}
	}
	for i, item := range was { // what went
		if find(became, item) >= 0 {
			continue
		}
		if find(is, item) >= 0 {
			return nil, false, nil
		}
		is = slices.Insert(is, min(i, len(is)), item)
	}
	if len(is) == 0 {
		return nil, true, nil
	}
	out, err := json.Marshal(is)
	return out, true, err
}

// itemKey is what tells items of a list apart: their number where they have one of their own, else all that they are.
func itemKey(item json.RawMessage) string {
	var numbered struct {
		ID   *int64 `json:"id"`
		Kind any    `json:"kind"` // of a principal, whose number is another's
	}
	if json.Unmarshal(item, &numbered) == nil && numbered.ID != nil && numbered.Kind == nil {
		return fmt.Sprint("#", *numbered.ID)
	}
	var out bytes.Buffer
	if json.Compact(&out, item) != nil {
		return string(item)
	}
	return out.String()
}

// equal compares two texts of JSON by what they say.
func equal(a, b json.RawMessage) (bool, error) {
	if a == nil || b == nil {
		return a == nil && b == nil, nil
	}
	if bytes.Equal(a, b) {
		return true, nil
	}
	var x, y any
	for raw, to := range map[*json.RawMessage]*any{&a: &x, &b: &y} {
		if err := json.Unmarshal(*raw, to); err != nil {
			return false, err
		}
	}
	one, err := json.Marshal(x)
	if err != nil {
		return false, err
	}
	other, err := json.Marshal(y)
	return bytes.Equal(one, other), err
}
