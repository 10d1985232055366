package test

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"os"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/service"
	"amber.example/gatekeeper/test/gateway"
)

type routed struct {
	id, method, path string
	roles            []string
}

// routed reads every operation, and whom it is for, from the document that the service gives out.
func routedOperations(t testing.TB, g *gateway.Gateway) (out []routed) {
	var doc struct {
		Paths map[string]map[string]struct {
			OperationID string
			Description string
			Roles       []string `json:"x-roles"`
		}
	}
	require.NoError(t, json.Unmarshal(ask(t, g, "", "GET", "/openapi.json", "").body, &doc))
	for path, ops := range doc.Paths {
		for method, op := range ops {
			require.NotContains(t, op.Roles, "nobody", "%s is not declared for anybody: say in operations.txt who may ask for it", op.OperationID)
			require.NotNil(t, op.Roles, op.OperationID)
			out = append(out, routed{op.OperationID, strings.ToUpper(method), path, op.Roles})
		}
	}
	slices.SortFunc(out, func(a, b routed) int {
		return strings.Compare(a.path+" "+a.method, b.path+" "+b.method)
	})
	require.Greater(t, len(out), 100)
	return out
}

var roles = []string{"administrator", "operator", "auditor", "owner", "user"}

// somebody makes a user with a role and gives their token.
func somebody(t testing.TB, g *gateway.Gateway, name string, role identity.Role) string {
	t.Helper()
	_, err := g.Service.CreateUser(context.Background(), gateway.Keeper, service.UserInput{Name: name, Role: role, Password: name + "-at-larkfell"})
	require.NoError(t, err)
	return g.Token(t, name)
}

// Every route declares for whom it is, and lets in those and nobody else: a route that declares nothing fails, and so does one that is not as it declares.
func TestEveryRouteWithEveryRole(t *testing.T) {
	g := gateway.Start(t)
	tokens := map[string]string{"administrator": g.Token(t, "keeper"), "auditor": g.Token(t, "auditor"), "user": somebody(t, g, "harrow", identity.NoRole), "operator": somebody(t, g, "vale", identity.Operator)}
	before := g.Changes(t)
	fill := strings.NewReplacer("{name}", "nightlog", "{member}", "orla", "{id}", "999999", "{protocol}", "smb", "{row}", "1", "{kind}", "people")
	for _, op := range routedOperations(t, g) {
		path := fill.Replace(op.path)
		if len(op.roles) == 0 { // for anybody
			require.NotEqual(t, http.StatusForbidden, ask(t, g, "", op.method, path, "{}").status, op.id)
			continue
		}
		for _, token := range []string{"", "forged", "amber-1.forged"} {
			require.Equal(t, http.StatusUnauthorized, ask(t, g, token, op.method, path, "").status, op.id)
		}
		for role, token := range tokens {
			if op.id == "sign-out" || op.id == "follow-job" || op.id == "watch" {
				continue
			}
			lets := slices.Contains(op.roles, role)
			if lets && (op.method == http.MethodDelete || op.id == "verify-journal" || op.id == "verify-events" || role == "administrator" && op.method != http.MethodGet) {
				continue // it would be done
			}
			a := ask(t, g, token, op.method, path, "{}")
			switch {
			case lets && role == "user": // about what is theirs
			case lets:
				require.NotEqual(t, http.StatusForbidden, a.status, "%s as %s: %s", op.id, role, a.body)
			case slices.Contains(op.roles, "owner") && role == "operator": // if they own anything
			case slices.Contains(op.roles, "owner") && role == "user":
				require.Contains(t, []int{http.StatusForbidden, http.StatusUnprocessableEntity, http.StatusBadRequest, http.StatusNotFound}, a.status, "%s as %s: %s", op.id, role, a.body)
			default:
				require.Equal(t, http.StatusForbidden, a.status, "%s as %s: %s", op.id, role, a.body)
			}
		}
	}
	require.Equal(t, before, g.Changes(t), "nothing has been changed by any of them")
}

// The table in docs/roles.md is what the routes declare.
func TestTheTableOfRoles(t *testing.T) {
	g := gateway.Start(t)
	var b strings.Builder
	fmt.Fprintf(&b, "| operation | %s |\n| --- |%s\n", strings.Join(roles, " | "), strings.Repeat(" --- |", len(roles)))
	for _, op := range routedOperations(t, g) {
		var cells []string
		for _, role := range roles {
			cell := ""
			switch {
			case len(op.roles) == 0:
				cell = "yes"
			case slices.Contains(op.roles, role):
				cell = "yes"
				if role == "owner" || role == "user" {
					cell = "theirs"
				}
			}
			cells = append(cells, cell)
		}
		fmt.Fprintf(&b, "| %s `%s` | %s |\n", op.method, strings.TrimPrefix(op.path, "/api/v1"), strings.Join(cells, " | "))
	}
	const file, begin, end = "../docs/roles.md", "<!-- table -->\n", "<!-- end of table -->\n"
	raw, err := os.ReadFile(file)
	require.NoError(t, err)
	head, rest, ok := strings.Cut(string(raw), begin)
	require.True(t, ok)
	is, tail, ok := strings.Cut(rest, end)
	require.True(t, ok)
	if *update {
		require.NoError(t, os.WriteFile(file, []byte(head+begin+b.String()+end+tail), 0o644))
		return
	}
	require.Equal(t, b.String(), is, "go test ./test -run TheTableOfRoles -update writes it anew")
}

// Nobody who looks after people becomes more by it, whichever way they try.
func TestAnOperatorStaysOne(t *testing.T) {
	g := gateway.Start(t)
	ctx := context.Background()
	vale := somebody(t, g, "vale", identity.Operator)
	_, err := g.Service.UpdateUser(ctx, gateway.Keeper, "wren", service.UserChange{Role: new(identity.Administrator)})
	require.NoError(t, err)
	_, err = g.Service.UpdateUser(ctx, gateway.Keeper, "wren", service.UserChange{Role: new(identity.NoRole)})
	require.NoError(t, err)
	var rows []struct{ Row int64 }
	require.NoError(t, json.Unmarshal(ask(t, g, vale, "GET", "/api/v1/journal?limit=1", "").body, &rows))
	last := rows[0].Row
	people := func() map[string]identity.Role {
		out := make(map[string]identity.Role)
		for _, u := range g.Service.Policy().Directory.Users() {
			if u.Role != identity.NoRole {
				out[u.Name] = u.Role
			}
		}
		return out
	}
	roles, keeper := people(), *g.Service.Policy().Directory.UserNamed("keeper")
	for _, try := range []struct{ method, path, body string }{
		{"PATCH", "users/vale", `{"role":"administrator"}`},
		{"PATCH", "users/orla", `{"role":"auditor"}`},
		{"POST", "users", `{"name":"harrow","role":"administrator","password":"a-long-sentence-of-mine"}`},
		{"PUT", "users/keeper/password", `{"password":"a-long-sentence-of-mine"}`},
		{"POST", "users/keeper/password", ``},
		{"PUT", "users/auditor/password", `{"password":"a-long-sentence-of-mine"}`},
		{"PATCH", "users/keeper", `{"disabled":true}`},
		{"PATCH", "users/keeper", `{"name":"kept"}`},
		{"DELETE", "users/keeper", ``},
		{"DELETE", "users/auditor", ``},
		{"POST", "tokens", `{"name":"more","role":"administrator"}`},
		{"POST", "changes", `{"changes":[{"kind":"user","act":"change","of":{"name":"vale"},"with":{"role":"administrator"}}]}`},
		{"POST", "changes", `{"changes":[{"kind":"user","act":"add","with":{"name":"harrow"}},{"kind":"user","act":"change","of":{"name":"harrow"},"with":{"role":"operator"}}]}`},
		{"POST", "changes", `{"changes":[{"kind":"entry","act":"add","with":{"path":"plates","who":"vale","level":"control"}}]}`},
		{"POST", "changes", `{"changes":[{"kind":"service","act":"switch","of":{"protocol":"smb"},"with":{"on":false}}]}`},
		{"POST", "entries", `{"path":"plates","who":"vale","level":"control"}`},
		{"POST", "journal/undo", fmt.Sprintf(`{"rows":[%d]}`, last)},
		{"PATCH", "signing-in", `{"codesFor":[]}`},
		{"DELETE", "users/keeper/codes", ``},
		{"PUT", "owner", `{"path":"plates","owner":"vale"}`},
		{"POST", "number-maps", `{"name":"mine","from":["127.0.0.1"],"users":{"4242":"keeper"}}`},
		{"POST", "changes", `{"changes":[{"kind":"number map","act":"change","of":{"name":"old-reducer"},"with":{"users":{"4242":"bettany"}}}]}`},
		{"GET", "volume-candidates?path=/", ``},
		{"POST", "users/orla/leaving", `{"hold":"nightlog"}`},
	} {
		a := ask(t, g, vale, try.method, "/api/v1/"+try.path, try.body)
		require.Contains(t, []int{http.StatusForbidden, http.StatusUnprocessableEntity, http.StatusNotFound, http.StatusConflict}, a.status, "%s %s %s: %s", try.method, try.path, try.body, a.body)
		require.Equal(t, roles, people(), "%s %s", try.method, try.path)
		require.Equal(t, keeper, *g.Service.Policy().Directory.UserNamed("keeper"))
	}
	// What is theirs to do they do.
	for _, try := range []struct{ method, path, body string }{
		{"POST", "users", `{"name":"harrow","password":"a-long-sentence-of-mine","mustChange":true}`},
		{"PATCH", "users/harrow", `{"fullName":"Lunt Harrow","ends":"2099-01-01T00:00:00Z"}`},
		{"PUT", "groups/visitors/members/harrow", ``},
		{"POST", "users/harrow/password", ``},
		{"PUT", "limits", `{"kind":"user","name":"harrow","hardBytes":"1MB"}`},
		{"POST", "changes", `{"changes":[{"kind":"user","act":"change","of":{"name":"harrow"},"with":{"disabled":true}},{"kind":"member","act":"remove","of":{"name":"visitors","member":"harrow"}}]}`},
		{"POST", "journal/undo", `{}`},
		{"DELETE", "limits?kind=user&name=harrow", ``},
		{"DELETE", "users/harrow", ``},
	} {
		a := ask(t, g, vale, try.method, "/api/v1/"+try.path, try.body)
		require.Less(t, a.status, 300, "%s %s: %s", try.method, try.path, a.body)
	}
}

// Who owns a group decides who is in it, and nothing else of it; and puts no group into it that is not theirs.
func TestTheOwnerOfAGroup(t *testing.T) {
	g := gateway.Start(t)
	ctx := context.Background()
	harrow := somebody(t, g, "harrow", identity.NoRole)
	_, err := g.Service.CreateGroup(ctx, gateway.Keeper, service.GroupInput{Name: "crew", Owners: []string{"harrow"}})
	require.NoError(t, err)
	_, err = g.Service.CreateGroup(ctx, gateway.Keeper, service.GroupInput{Name: "spare", Owners: []string{"crew"}})
	require.NoError(t, err)
	call := func(method, path, body string) int {
		return ask(t, g, harrow, method, "/api/v1/"+path, body).status
	}
	require.Equal(t, http.StatusNoContent, call("PUT", "groups/crew/members/orla", ""))
	require.Equal(t, http.StatusOK, call("GET", "groups/crew", ""))
	require.Equal(t, http.StatusForbidden, call("PUT", "groups/crew/members/group:engineers", ""), "whoever owns that has not been asked")
	require.Equal(t, http.StatusForbidden, call("PUT", "groups/spare/members/orla", ""), "they are not in crew themselves")
	require.Equal(t, http.StatusForbidden, call("GET", "groups/staff", ""))
	require.Equal(t, http.StatusForbidden, call("GET", "groups/nowhere", ""), "what there is is not told either")
	require.Equal(t, http.StatusForbidden, call("PATCH", "groups/crew", `{"owners":["orla"]}`))
	require.Equal(t, http.StatusForbidden, call("DELETE", "groups/crew", ""))
	require.Equal(t, http.StatusForbidden, call("PUT", "groups/staff/members/harrow", ""))
	require.Equal(t, http.StatusForbidden, call("POST", "changes", `{"changes":[{"kind":"member","act":"add","of":{"name":"crew","member":"piran"}},{"kind":"member","act":"add","of":{"name":"staff","member":"harrow"}}]}`))
	require.Equal(t, http.StatusNoContent, call("PUT", "groups/crew/members/harrow", ""))
	require.Equal(t, http.StatusNoContent, call("PUT", "groups/spare/members/orla", ""), "one of a group that owns it")
	require.Equal(t, http.StatusNoContent, call("PUT", "groups/crew/members/group:spare", ""), "both are theirs")
	require.Equal(t, http.StatusOK, call("POST", "journal/undo", `{}`))
	require.Equal(t, http.StatusNoContent, call("DELETE", "groups/crew/members/orla", ""))
}

// Who holds control of a folder decides there, asks about it, and learns nothing of any other.
func TestTheOwnerOfAFolder(t *testing.T) {
	g := gateway.Start(t)
	ctx := context.Background()
	harrow := somebody(t, g, "harrow", identity.NoRole)
	_, err := g.Service.AddEntry(ctx, gateway.Keeper, "instruments", service.EntryInput{Who: "harrow", Level: "control"})
	require.NoError(t, err)
	call := func(method, path, body string) answer { return ask(t, g, harrow, method, "/api/v1/"+path, body) }
	var me struct {
		Role, User string
		Decides    []string
	}
	require.NoError(t, json.Unmarshal(call("GET", "me", "").body, &me))
	require.Equal(t, "user", me.Role)
	require.Equal(t, []string{"instruments"}, me.Decides)
	require.Equal(t, 201, call("POST", "entries", `{"path":"instruments","who":"orla","level":"read"}`).status)
	require.Equal(t, 200, call("GET", "entries?path=instruments", "").status)
	require.Equal(t, 200, call("GET", "who?path=instruments", "").status)
	require.Equal(t, 200, call("GET", "why?user=orla&path=instruments", "").status)
	require.Equal(t, 200, call("GET", "why?user=harrow&path=plates", "").status, "their own access")
	require.Equal(t, 200, call("GET", "reach?user=harrow", "").status)
	require.Equal(t, 200, call("POST", "preview", `{"changes":[{"kind":"entry","act":"add","with":{"path":"instruments","who":"piran","level":"read"}}]}`).status)
	require.Equal(t, 200, call("POST", "journal/undo", `{}`).status)
	for _, try := range []struct{ method, path, body string }{
		{"POST", "entries", `{"path":"plates","who":"harrow","level":"read"}`},
		{"POST", "entries", `{"path":"nowhere","who":"harrow","level":"read"}`},
		{"POST", "entries", `{"path":"instruments/firmware","who":"harrow","level":"read"}`}, // it is cut off
		{"GET", "entries?path=plates", ""},
		{"GET", "who?path=plates", ""},
		{"GET", "why?user=orla&path=plates", ""},
		{"GET", "reach?user=orla", ""},
		{"POST", "rules/copy", `{"from":"plates","to":"instruments"}`},
		{"DELETE", "rules?path=instruments&below=true", ""}, // what is below is written where they hold no control
		{"POST", "preview", `{"changes":[{"kind":"entry","act":"add","with":{"path":"plates","who":"harrow","level":"read"}}]}`},
		{"POST", "preview", `{"changes":[{"kind":"member","act":"add","of":{"name":"staff","member":"harrow"}}]}`},
		{"POST", "changes", `{"changes":[{"kind":"entry","act":"add","with":{"path":"instruments","who":"piran","level":"read"}},{"kind":"entry","act":"add","with":{"path":"plates","who":"harrow","level":"read"}}]}`},
		{"POST", "as-if", `{"changes":[],"ask":"users"}`},
		{"GET", "users", ""}, {"GET", "journal", ""}, {"GET", "folders", ""}, {"GET", "events", ""},
	} {
		a := call(try.method, try.path, try.body)
		require.Equal(t, http.StatusForbidden, a.status, "%s %s %s: %s", try.method, try.path, try.body, a.body)
	}
	// Control that has ended is none.
	require.NoError(t, g.Service.ClearRules(ctx, gateway.Keeper, "instruments", false))
	require.Equal(t, http.StatusForbidden, call("POST", "entries", `{"path":"instruments","who":"harrow","level":"control"}`).status)
}

// A plain user sees what is theirs, and nothing of anybody else's.
func TestAPlainUser(t *testing.T) {
	g := gateway.Start(t)
	harrow := somebody(t, g, "harrow", identity.NoRole)
	theirs := make(map[string]bool)
	for _, op := range routedOperations(t, g) {
		if op.method == http.MethodGet && slices.Contains(op.roles, "user") {
			theirs[op.id] = true
		}
	}
	require.Equal(t, []string{"list-arrangements", "list-sign-ins", "list-tokens", "me", "reach", "show-own", "watch", "why"}, slices.Sorted(maps.Keys(theirs)))
	for _, path := range []string{"sign-ins?all=true", "sign-ins?user=keeper", "tokens?all=true", "tokens?user=keeper", "reach?user=keeper", "why?user=keeper&path=nightlog"} {
		require.Equal(t, http.StatusForbidden, ask(t, g, harrow, "GET", "/api/v1/"+path, "").status, path)
	}
	var all []struct{ User string }
	require.NoError(t, json.Unmarshal(ask(t, g, harrow, "GET", "/api/v1/sign-ins", "").body, &all))
	require.Len(t, all, 1)
	require.Equal(t, "harrow", all[0].User)
}
