package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"amber.example/gatekeeper/test/gateway"
)

// schema is as much of OpenAPI's as the test needs.
type schema struct {
	Ref        string             `json:"$ref"`
	Type       any                `json:"type"`
	Enum       []any              `json:"enum"`
	Format     string             `json:"format"`
	Pattern    string             `json:"pattern"`
	Properties map[string]*schema `json:"properties"`
	Items      *schema            `json:"items"`
}

// library are words of the libraries that the service is made with, and what only a programmer reads.
var library = regexp.MustCompile(`strconv|expected|match pattern|invalid character|json:|unmarshal|unexpected|parsing|time: |\^\[|e\+\d|<nil>|\bEOF\b|sql:|SQL logic|constraint failed|goroutine|\[\]|map\[|int64|uint|float64|no such column`)

// wrong are values that something of a kind cannot take, as JSON.
func (s *schema) wrong() (out []string) {
	kind, _ := s.Type.(string)
	if list, ok := s.Type.([]any); ok && len(list) > 0 {
		kind, _ = list[0].(string)
	}
	for of, values := range map[string][]string{
		"string":  {`7`, `{}`, `true`, `["a"]`},
		"integer": {`"seven"`, `1.5`, `-99999999999`, `99999999999999999999`, `1e400`, `true`},
		"number":  {`"seven"`, `true`},
		"boolean": {`"perhaps"`, `2`},
		"array":   {`"one"`, `{"a":1}`, `[{}]`, `[[1]]`},
		"object":  {`"one"`, `[1]`},
	} {
		if of == kind {
			out = values
		}
	}
	if kind == "string" {
		out = append(out, `"\u0007"`, `"`+strings.Repeat("x", 70_000)+`"`, `""`, `"no such thing at all"`)
	}
	return out
}

// documented gives the line that the description of an operation lacks about a refusal that is its own; "" where it has it.
func documented(a answer, description string) string {
	if a.status != http.StatusNotFound && a.status != http.StatusConflict {
		return "" // what the document says of all of them
	}
	want := fmt.Sprintf("\n- %d: ", a.status)
	if len(a.problem.Errors) > 0 {
		at := a.problem.Errors[0].Location
		want = fmt.Sprintf("\n- %d for `%s`: ", a.status, at[strings.LastIndexByte(at, '.')+1:])
	}
	if strings.Contains(description, want) {
		return ""
	}
	return want
}

// Whatever is sent to any route, what is answered is in our words: every field of every route, with values of other kinds than it takes,
// too large, too long, or nothing at all.
func TestNoErrorSpeaksTheLanguageOfALibrary(t *testing.T) {
	g := gateway.Start(t)
	keeper := g.Token(t, "keeper")
	var doc struct {
		Paths map[string]map[string]struct {
			OperationID, Description string
			Parameters               []struct {
				Name, In string
				Schema   *schema
			}
			RequestBody struct {
				Content map[string]struct{ Schema *schema }
			}
		}
		Components struct{ Schemas map[string]*schema }
	}
	require.NoError(t, json.Unmarshal(ask(t, g, "", "GET", "/openapi.json", "").body, &doc))
	resolve := func(s *schema) *schema {
		for s != nil && s.Ref != "" {
			s = doc.Components.Schemas[s.Ref[strings.LastIndexByte(s.Ref, '/')+1:]]
		}
		return s
	}
	asked, refused := 0, 0
	description := ""
	try := func(method, path, body string) {
		t.Helper()
		asked++
		answer := ask(t, g, keeper, method, path, body)
		if answer.status < 400 {
			return
		}
		refused++
		if documented(answer, description) != "" {
			t.Errorf("%s %s %.120s is refused, and its description does not say so\n  %s\n%s", method, path, body, documented(answer, description), answer.body)
		}
		require.Less(t, answer.status, 500, "%s %s %.200s: %s", method, path, body, answer.body)
		said := answer.problem.Detail
		for _, e := range answer.problem.Errors {
			said += "\n" + e.Message
		}
		if word := library.FindString(said); word != "" {
			t.Errorf("%s %s %.120s\n  says %q: %.300s", method, path, body, word, said)
		}
	}
	skip := map[string]bool{"/api/v1/watch": true, "/api/v1/sign-out": true, "/api/v1/preview": true, "/api/v1/as-if": true} // the first goes on for as long as one listens, the last two hold requests of their own
	for path, methods := range doc.Paths {
		if skip[path] || strings.HasPrefix(path, "/api/v1/users/{name}/password") {
			continue
		}
		filled := strings.NewReplacer("{name}", "nobody", "{member}", "nobody", "{id}", "999", "{protocol}", "smb", "{key}", "00000000").Replace(path)
		for method, op := range methods {
			method, description = strings.ToUpper(method), op.Description
			for _, bad := range []string{"x", "-1", "99999999999999999999", "%07", "1.5"} {
				try(method, strings.NewReplacer("{name}", "nobody", "{member}", "nobody", "{id}", bad, "{protocol}", bad, "{key}", bad).Replace(path), "{}")
			}
			for _, p := range op.Parameters {
				if p.In != "query" {
					continue
				}
				for _, bad := range []string{"x", "-1", "99999999999999999999", "1.5", "true", "\a", strings.Repeat("x", 9000)} {
					try(method, filled+"?"+url.QueryEscape(p.Name)+"="+url.QueryEscape(bad), "")
				}
			}
			if method == http.MethodGet {
				continue
			}
			for _, bad := range []string{`{`, `[]`, `"x"`, `null`, `{"a":}`, `{"nothing":1}`, "\x01"} {
				try(method, filled, bad)
			}
			for _, content := range op.RequestBody.Content {
				of := resolve(content.Schema)
				if of == nil {
					continue
				}
				for name, property := range of.Properties {
					if name == "$schema" {
						continue
					}
					for _, bad := range resolve(property).wrong() {
						try(method, filled, `{`+quoteJSON(name)+`:`+bad+`}`)
					}
				}
			}
		}
	}
	require.Greater(t, asked, 2000)
	require.Greater(t, refused, asked/2)
}

func quoteJSON(s string) string {
	raw, _ := json.Marshal(s)
	return string(raw)
}
