package test

import (
	"encoding/json"
	"fmt"
	"maps"
	"net/http"
	"os"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/internal/api"
	"amber.example/gatekeeper/test/gateway"
)

// shown is what the API's document is made from about one operation.
type shown struct {
	does, example string
	after         []string
}

func shownOperations(t *testing.T) map[string]shown {
	raw, err := os.ReadFile("../internal/api/operations.txt")
	require.NoError(t, err)
	out := make(map[string]shown)
	for block := range strings.SplitSeq(strings.TrimSpace(string(raw)), "\n\n") {
		lines := strings.Split(block, "\n")
		s := shown{does: lines[1]}
		for _, line := range lines[2:] {
			if rest, ok := strings.CutPrefix(line, "> "); ok {
				require.Empty(t, s.example, lines[0])
				s.example = rest
			} else if rest, ok := strings.CutPrefix(line, "after "); ok {
				s.after = strings.Fields(rest)
			}
		}
		require.NotContains(t, out, lines[0])
		out[lines[0]] = s
	}
	return out
}

// Of every operation it is said what it does, and its example does it, on the demo and on what the operations before it have made.
func TestEveryExampleOfTheDocument(t *testing.T) {
	g := gateway.Start(t)
	var doc struct {
		Tags  []struct{ Name, Description string }
		Paths map[string]map[string]struct {
			OperationID, Summary, Description string
			Tags                              []string
		}
	}
	require.NoError(t, json.Unmarshal(ask(t, g, "", "GET", "/openapi.json", "").body, &doc))
	require.NotContains(t, string(ask(t, g, "", "GET", "/openapi.json", "").body), "patternDescription", "a word of no standard")
	require.Contains(t, string(ask(t, g, g.Token(t, "keeper"), "PUT", "/api/v1/mode", `{"path":"scratch","mode":"0998"}`).body), "four octal digits", "it is said all the same")
	all := shownOperations(t)
	about := make(map[string]bool)
	for _, tag := range doc.Tags {
		require.NotEmpty(t, tag.Description)
		about[tag.Name] = false
	}
	methods, routes := make(map[string]string), make(map[string]string)
	for path, ops := range doc.Paths {
		for method, op := range ops {
			s, ok := all[op.OperationID]
			require.True(t, ok && s.example != "", "%s is not described", op.OperationID)
			require.Contains(t, op.Description, s.does)
			require.True(t, strings.HasSuffix(s.does, "."), s.does)
			require.Len(t, op.Tags, 1)
			require.Contains(t, about, op.Tags[0])
			about[op.Tags[0]] = true
			methods[op.OperationID], routes[op.OperationID] = strings.ToUpper(method), path
		}
	}
	require.Len(t, methods, len(all), "what is described is there")
	for tag, used := range about {
		require.True(t, used, tag)
	}
	// A service that has an administrator makes no first one, and the demo's has no mail server.
	refused := map[string]int{"make-first-administrator": http.StatusConflict, "end-session": http.StatusNotFound, "close-open": http.StatusNotFound, // nobody is connected
		"try-notice":        http.StatusConflict,
		"confirm-own-codes": http.StatusUnprocessableEntity, "remove-own-codes": http.StatusConflict, "remove-codes": http.StatusNotFound, "stay-user": http.StatusNotFound}
	shared, keeper, later := g, g.Token(t, "keeper"), g.Token(t, "keeper")
	for _, id := range slices.Sorted(maps.Keys(all)) {
		s := all[id]
		if id == "watch" { // it goes on for as long as somebody listens: see TestWhoWatchesIsTold
			continue
		}
		t.Run(id, func(t *testing.T) {
			g, keeper, cellar := shared, keeper, t.TempDir()
			switch {
			case id == "sign-out":
				keeper = later
			case methods[id] == http.MethodDelete || len(s.after) > 0 || slices.Contains([]string{"change-export", "change-group", "change-host-set", "convert-folder"}, id):
				// what others need would be gone, or have another name
				g = gateway.Start(t)
				keeper = g.Token(t, "keeper")
			}
			places := []string{"/srv/cellar", cellar, "desk.larkfell.example", "127.0.0.1:1", "mail.larkfell.example", "127.0.0.1:1"} // nobody is there
			filled := strings.NewReplacer(places...)
			for _, before := range s.after {
				if before == "decide" {
					decide(t, g, keeper)
					continue
				}
				answer := one(t, g, keeper, before, methods[before], routes[before], filled.Replace(all[before].example), http.StatusOK)
				var made struct{ ID json.Number }
				_ = json.Unmarshal(answer.body, &made)
				filled = strings.NewReplacer(append(places, "{made}", made.ID.String(), "{answer}", string(answer.body))...)
			}
			want := http.StatusOK
			if refused[id] != 0 {
				want = refused[id]
			}
			one(t, g, keeper, id, methods[id], routes[id], filled.Replace(s.example), want)
		})
	}
}

// decide keeps each line of the review of the examples.
func decide(t *testing.T, g *gateway.Gateway, token string) {
	t.Helper()
	var review api.Review
	require.NoError(t, json.Unmarshal(ask(t, g, token, "GET", "/api/v1/reviews/spring", "").body, &review))
	for _, line := range review.Lines {
		a := ask(t, g, token, "PATCH", "/api/v1/reviews/spring/lines", fmt.Sprintf(`{"marks":[{"line":%d,"decision":"keep"}]}`, line.Number))
		require.Equal(t, http.StatusOK, a.status, "%s", a.body)
	}
}

// one sends an example; any status of success is as good as 200.
func one(t *testing.T, g *gateway.Gateway, token, id, method, route, example string, want int) answer {
	t.Helper()
	path, body, _ := strings.Cut(example, " ")
	at, _, _ := strings.Cut(path, "?")
	parts, of := strings.Split("/api/v1"+at, "/"), strings.Split(route, "/")
	require.Len(t, parts, len(of), "%s is %s", id, route)
	for i, part := range of {
		require.True(t, strings.HasPrefix(part, "{") || part == parts[i], "%s is %s", id, route)
	}
	a := ask(t, g, token, method, "/api/v1"+path, body)
	if a.status/100 == 2 {
		a.status = http.StatusOK
	}
	require.Equal(t, want, a.status, "%s %s %s: %s", id, path, strconv.Quote(body), fmt.Sprintf("%.300s", a.body))
	return a
}
