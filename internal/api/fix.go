package api

import (
	"encoding/json"
	"strings"

	"amber.example/gatekeeper/internal/command"
	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
)

// toDo is a change: act and kind, what it is of, and what it takes; nil for nothing.
func toDo(act, kind string, of map[string]any, with any) Change {
	c := Change{Kind: kind, Act: act}
	raw := func(v any) json.RawMessage { raw, _ := json.Marshal(v); return raw } // of plain values, never fails
	for name, value := range of {
		if c.Of == nil {
			c.Of = make(map[string]json.RawMessage)
		}
		c.Of[name] = raw(value)
	}
	if with != nil {
		c.With = raw(with)
	}
	return c
}

// changeOf is a fix as a change, where it is one that can be made without a decision more.
func changeOf(m access.Fix) (Change, bool) {
	type fields = map[string]any
	rule := func(act string, with any) Change {
		if m.Set != "" {
			return toDo(act, "host set rule", fields{"name": m.Set, "id": m.Rule}, with)
		}
		return toDo(act, "export rule", fields{"name": strings.TrimPrefix(m.Export, "/"), "id": m.Rule}, with)
	}
	switch m.Kind {
	case access.FixAllow:
		applies := m.Applies
		if m.HereOnly {
			applies = acl.Here
		}
		with := fields{"path": m.Path, "who": m.User, "level": acl.GrantText(m.Level, m.Mask), "deny": m.Deny}
		if applies != 0 {
			with["applies"] = applies.Names()
		}
		return toDo("add", "entry", nil, with), true
	case access.FixRemove:
		return toDo("remove", "entry", fields{"path": m.Path, "id": m.EntryID}, nil), true
	case access.FixShareRemove:
		return toDo("remove", "share entry", fields{"name": m.Share, "id": m.EntryID}, nil), true
	case access.FixClear:
		return toDo("clear", "rules", fields{"path": m.Path}, nil), true
	case access.FixRuleRemove:
		return rule("remove", nil), true
	case access.FixRuleSquash:
		return rule("change", fields{"squash": "root"}), true
	case access.FixRuleUnknown:
		return rule("change", fields{"unknown": "refused"}), true
	case access.FixRuleWrite:
		return rule("change", fields{"write": true}), true
	case access.FixService:
		return toDo("switch", "service", fields{"protocol": command.Word(m.Protocol)}, fields{"on": true}), true
	case access.FixFolderRemove:
		return toDo("remove", "folder", fields{"name": m.Path}, nil), true
	case access.FixGroupRemove:
		return toDo("remove", "group", fields{"name": m.User}, nil), true
	case access.FixMode:
		return toDo("set", "mode", nil, fields{"path": m.Path, "mode": octal(m.Mode)}), true
	case access.FixLimit:
		return toDo("set", "limit", nil, limitBodyOf(m)), true
	case access.FixLimitRemove:
		of := fields{"kind": m.Limit.Kind}
		for name, value := range map[string]string{"name": m.Limit.Name, "volume": m.Limit.Volume, "folder": m.Limit.Folder} {
			if value != "" {
				of[name] = value
			}
		}
		return toDo("remove", "limit", of, nil), true
	case access.FixCounting:
		return toDo("change", "volume", fields{"name": m.Volume}, fields{"counting": "size"}), true
	case access.FixNumberMap:
		return toDo("add", "number map", nil, fields{"name": m.From, "from": []string{m.From}, "like": m.From}), true
	case access.FixNumber:
		if m.Group {
			return toDo("change", "group", fields{"name": m.User}, fields{"gid": m.UID}), true
		}
		return toDo("change", "user", fields{"name": m.User}, fields{"uid": m.UID}), true
	}
	return Change{}, false
}

// changesOf is all fixes of a finding as changes; nil where one of them is none.
func changesOf(fixes []access.Fix) []Change {
	var out []Change
	for _, m := range fixes {
		r, ok := changeOf(m)
		if !ok {
			return nil
		}
		out = append(out, r)
	}
	return out
}
