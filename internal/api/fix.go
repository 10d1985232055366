package api

import (
	"encoding/json"
	"net/http"
	"net/url"
	"strconv"
	"strings"

	"amber.example/gatekeeper/internal/core/access"
	"amber.example/gatekeeper/internal/core/acl"
	"amber.example/gatekeeper/internal/service"
)

// requestOf is a mend as a request, where it is one that can be made without a decision more.
func requestOf(m access.Mend) (Request, bool) {
	body := func(v any) json.RawMessage { raw, _ := json.Marshal(v); return raw } // of plain values, never fails
	rule := func() string {
		if m.Set != "" {
			return "host-sets/" + url.PathEscape(m.Set) + "/rules/" + strconv.FormatInt(m.Rule, 10)
		}
		return "exports/" + url.PathEscape(strings.TrimPrefix(m.Export, "/")) + "/rules/" + strconv.FormatInt(m.Rule, 10)
	}
	on := func(path string) string { return "?path=" + url.QueryEscape(path) }
	switch m.Kind {
	case access.MendAllow:
		applies := m.Applies
		if m.HereOnly {
			applies = acl.Here
		}
		b := map[string]any{"path": m.Path, "who": m.User, "level": acl.GrantText(m.Level, m.Mask), "deny": m.Deny}
		if applies != 0 {
			b["applies"] = applies.Names()
		}
		return Request{http.MethodPost, "entries", body(b)}, true
	case access.MendRemove:
		return Request{http.MethodDelete, "entries/" + strconv.FormatInt(m.EntryID, 10) + on(m.Path), nil}, true
	case access.MendShareRemove:
		return Request{http.MethodDelete, "shares/" + url.PathEscape(m.Share) + "/entries/" + strconv.FormatInt(m.EntryID, 10), nil}, true
	case access.MendClear:
		return Request{http.MethodDelete, "rules" + on(m.Path), nil}, true
	case access.MendRuleRemove:
		return Request{http.MethodDelete, rule(), nil}, true
	case access.MendRuleSquash:
		return Request{http.MethodPatch, rule(), body(map[string]any{"squash": "root"})}, true
	case access.MendRuleUnknown:
		return Request{http.MethodPatch, rule(), body(map[string]any{"unknown": "refused"})}, true
	case access.MendRuleWrite:
		return Request{http.MethodPatch, rule(), body(map[string]any{"write": true})}, true
	case access.MendService:
		return Request{http.MethodPut, "services/" + service.ProtocolWord(m.Protocol), body(map[string]any{"on": true})}, true
	case access.MendFolderRemove:
		return Request{http.MethodDelete, "folders/" + url.PathEscape(m.Path), nil}, true
	case access.MendGroupRemove:
		return Request{http.MethodDelete, "groups/" + url.PathEscape(m.User), nil}, true
	case access.MendMode:
		return Request{http.MethodPut, "mode", body(map[string]any{"path": m.Path, "mode": octal(m.Mode)})}, true
	case access.MendLimit:
		return Request{http.MethodPut, "limits", body(limitBodyOf(m))}, true
	case access.MendLimitRemove:
		return Request{http.MethodDelete, "limits" + limitQuery(m.Limit), nil}, true
	case access.MendCounting:
		return Request{http.MethodPatch, "volumes/" + url.PathEscape(m.Volume), body(map[string]any{"counting": "size"})}, true
	case access.MendNumber:
		if m.Group {
			return Request{http.MethodPatch, "groups/" + url.PathEscape(m.User), body(map[string]any{"gid": m.UID})}, true
		}
		return Request{http.MethodPatch, "users/" + url.PathEscape(m.User), body(map[string]any{"uid": m.UID})}, true
	}
	return Request{}, false
}

// fixOf is all mends of a finding as requests; nil where one of them is none.
func fixOf(mends []access.Mend) []Request {
	var out []Request
	for _, m := range mends {
		r, ok := requestOf(m)
		if !ok {
			return nil
		}
		out = append(out, r)
	}
	return out
}
