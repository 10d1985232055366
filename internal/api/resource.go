package api

import (
	"cmp"
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"amber.example/gatekeeper/internal/core/identity"
	"amber.example/gatekeeper/internal/service"
)

// Named is the parameter of what is asked of a record.
type Named struct {
	Name string `path:"name" maxLength:"800"`
}

// ListQuery are the parameters of every list of records.
type ListQuery struct {
	Match string   `query:"match" maxLength:"200" doc:"Only those in whose name or description this stands, in whatever case."`
	Label []string `query:"label,explode" maxItems:"16" doc:"Only those that have this label: KEY=VALUE, or KEY with any value; again for more, all of which they have to have."`
	Sort  string   `query:"sort" maxLength:"40" doc:"By what they are sorted; with a minus in front, the other way round. As they were made, if left out."`
	Limit int      `query:"limit" minimum:"1" maximum:"100000" doc:"How many there are in a page; all of them if left out. Where there are more, the Link header (RFC 8288) leads to the next page."`
	After string   `query:"after" maxLength:"4000" doc:"Where a page begins, as a Link header had it. What is added or removed meanwhile moves no other from one page to another."`
}

// listing is how a kind of thing is listed.
type listing[T any] struct {
	name    func(*T) string
	matches func(*T) []string          // what match looks in besides the name; may be nil
	labels  func(*T) map[string]string // what it is marked with; nil for what has no labels
	sorts   map[string]func(*T) string // by what it may be sorted besides the name: keys that compare as texts do
}

// byNumber is a number as a text that compares as numbers do.
func byNumber[N ~int | ~int64 | ~uint32](n N) string { return fmt.Sprintf("%020d", int64(n)) }

// orders are the names of what a list may be sorted by.
func (l listing[T]) orders() (out []string) {
	out = append(slices.Collect(maps.Keys(l.sorts)), "name")
	slices.Sort(out)
	for _, name := range slices.Clone(out) {
		out = append(out, "-"+name)
	}
	return out
}

// cursor is where a page begins: after one that sorted so, was called so, and stood there.
type cursor struct {
	Key  string `json:"k,omitempty"`
	Name string `json:"n"`
	At   int    `json:"i"`
}

// page gives what a query asks for of all, and where the next page begins; "" where there is none.
func (l listing[T]) page(all []T, q ListQuery) (out []T, next string, err error) {
	if orders := l.orders(); q.Sort != "" && !slices.Contains(orders, q.Sort) {
		return nil, "", &service.Error{Kind: service.Invalid, Field: "sort", Message: fmt.Sprintf("%q is nothing to sort these by: it is one of %s", q.Sort, strings.Join(orders, ", "))}
	}
	match := identity.Fold(q.Match)
	filter, err := identity.ParseLabelFilter(q.Label)
	if err == nil && len(filter) > 0 && l.labels == nil {
		err = errors.New("these have no labels")
	}
	if err != nil {
		return nil, "", &service.Error{Kind: service.Invalid, Field: "label", Message: err.Error()}
	}
	type keyed struct {
		key  string
		name string
		v    *T
	}
	list := make([]keyed, 0, len(all))
	by, down := strings.CutPrefix(q.Sort, "-")
	key := l.sorts[by]
	for i := range all {
		v := &all[i]
		k := keyed{name: l.name(v), v: v}
		in := []string{k.name}
		if l.matches != nil {
			in = append(in, l.matches(v)...)
		}
		if match != "" && !slices.ContainsFunc(in, func(text string) bool { return strings.Contains(identity.Fold(text), match) }) {
			continue
		}
		if l.labels != nil && !filter.Fits(l.labels(v)) {
			continue
		}
		if key != nil {
			k.key = key(v)
		}
		list = append(list, k)
	}
	compare := func(a, b keyed) int {
		c := cmp.Or(cmp.Compare(a.key, b.key), cmp.Compare(identity.Fold(a.name), identity.Fold(b.name)), cmp.Compare(a.name, b.name))
		if down {
			return -c
		}
		return c
	}
	if by != "" {
		slices.SortStableFunc(list, compare)
	}
	from := 0
	if q.After != "" {
		c, err := readCursor(q.After)
		if err != nil {
			return nil, "", err
		}
		after := keyed{key: c.Key, name: c.Name}
		if by != "" {
			from, _ = slices.BinarySearchFunc(list, after, func(a, b keyed) int { return cmp.Or(compare(a, b), -1) })
		} else if at := slices.IndexFunc(list, func(k keyed) bool { return k.name == c.Name }); at >= 0 {
			from = at + 1
		} else { // it has gone: the next is where it was
			from = min(max(c.At, 0), len(list))
		}
	}
	to := len(list)
	if q.Limit > 0 {
		to = min(from+q.Limit, to)
	}
	out = []T{}
	for _, k := range list[from:to] {
		out = append(out, *k.v)
	}
	if to < len(list) && to > 0 {
		last := list[to-1]
		raw, err := json.Marshal(cursor{last.key, last.name, to - 1})
		if err != nil {
			return nil, "", err
		}
		next = base64.RawURLEncoding.EncodeToString(raw)
	}
	return out, next, nil
}

func readCursor(text string) (c cursor, err error) {
	raw, err := base64.RawURLEncoding.DecodeString(text)
	if err == nil {
		err = json.Unmarshal(raw, &c)
	}
	if err != nil {
		return c, &service.Error{Kind: service.Invalid, Field: "after", Message: "that is not where a page begins: take it from the Link header of the page before"}
	}
	return c, nil
}

// Listed is the answer to a list: a page, and in Link where the next one is.
type Listed[T any] struct {
	Link string `header:"Link" doc:"Where there are more: the next page, as rel=next (RFC 8288)."`
	Body []T
}

// list registers the route that lists a kind of thing.
func list[T any](s *Server, op huma.Operation, l listing[T], all func(ctx context.Context) ([]T, error)) {
	huma.Register(s.api, op, func(ctx context.Context, q *ListQuery) (*Listed[T], error) {
		got, err := all(ctx)
		if err != nil {
			return nil, s.asProblem(err, "query")
		}
		return answer(s, op, l, got, *q, nil)
	})
	sayOrders(s, op, l)
}

// PastQuery are the parameters of a list of what the records say, now or at a moment that has passed.
type PastQuery struct {
	ListQuery
	When
}

// listPast is list for what the journal remembers: the records as they were can be listed as well.
func listPast[T any](s *Server, op huma.Operation, l listing[T], all func(ctx context.Context) ([]T, error)) {
	huma.Register(s.api, op, func(ctx context.Context, q *PastQuery) (*Listed[T], error) {
		ctx, err := s.at(ctx, q.When)
		if err != nil {
			return nil, s.asProblem(err, "query")
		}
		got, err := all(ctx)
		if err != nil {
			return nil, s.asProblem(err, "query")
		}
		also := url.Values{}
		if !q.At.IsZero() {
			also.Set("at", q.At.Format(time.RFC3339Nano))
		}
		return answer(s, op, l, got, q.ListQuery, also)
	})
	sayOrders(s, op, l)
}

// NamedThen is the parameter of what is asked of a record, as it is or as it was.
type NamedThen struct {
	Named
	When
}

// answer gives the page that a query asks for; also is what else the query says.
func answer[T any](s *Server, op huma.Operation, l listing[T], all []T, q ListQuery, also url.Values) (*Listed[T], error) {
	page, next, err := l.page(all, q)
	if err != nil {
		return nil, s.asProblem(err, "query")
	}
	out := &Listed[T]{Body: page}
	if next == "" {
		return out, nil
	}
	to := url.Values{"after": {next}, "limit": {strconv.Itoa(q.Limit)}}
	maps.Copy(to, also)
	for _, label := range q.Label {
		to.Add("label", label)
	}
	for name, value := range map[string]string{"match": q.Match, "sort": q.Sort} {
		if value != "" {
			to.Set(name, value)
		}
	}
	out.Link = "<" + op.Path + "?" + to.Encode() + `>; rel="next"`
	return out, nil
}

// sayOrders has the document say what a list may be sorted by.
func sayOrders[T any](s *Server, op huma.Operation, l listing[T]) {
	for _, p := range s.api.OpenAPI().Paths[op.Path].Get.Parameters {
		if p.Name == "sort" {
			p.Description += " One of " + strings.Join(l.orders(), ", ") + "."
		}
	}
}

// resource is a kind of thing that can be listed, shown, added, changed and removed, described once. T is how one is answered, N what one is made
// from, and C what is to change of one; what is left nil cannot be done.
type resource[T, N, C any] struct {
	one, many string // "host set" and "host sets": operations are named after them
	route     string // below /api/v1
	tag       string
	listing[T]

	all    func(ctx context.Context) []T
	show   func(ctx context.Context, name string) (T, error)
	add    func(ctx context.Context, from N) (T, error)
	change func(ctx context.Context, name string, to C) (T, error)
	remove func(ctx context.Context, name string) error
	does   summaries // what the document calls it
}

type summaries struct{ list, show, add, change, remove string }

// register registers the routes of a resource.
func register[T, N, C any](s *Server, r resource[T, N, C]) {
	dashed := func(act, what string) string { return act + "-" + strings.ReplaceAll(what, " ", "-") }
	at := r.route + "/{name}"
	listPast(s, operation(dashed("list", r.many), http.MethodGet, r.route, r.does.list, r.tag), r.listing, func(ctx context.Context) ([]T, error) { return r.all(ctx), nil })
	if r.show != nil {
		handle(s, operation(dashed("show", r.one), http.MethodGet, at, r.does.show, r.tag), func(ctx context.Context, in *NamedThen) (T, error) {
			ctx, err := s.at(ctx, in.When)
			if err != nil {
				return *new(T), err
			}
			return r.show(ctx, in.Name)
		})
	}
	op := operation(dashed("add", r.one), http.MethodPost, r.route, r.does.add, r.tag)
	op.DefaultStatus = http.StatusCreated
	handle(s, op, func(ctx context.Context, in *struct{ Body N }) (T, error) { return r.add(ctx, in.Body) })
	if r.change != nil {
		handle(s, operation(dashed("change", r.one), http.MethodPatch, at, r.does.change, r.tag), func(ctx context.Context, in *struct {
			Named
			Body C
		}) (T, error) {
			return r.change(ctx, in.Name, in.Body)
		})
	}
	do(s, operation(dashed("remove", r.one), http.MethodDelete, at, r.does.remove, r.tag), func(ctx context.Context, in *Named) error { return r.remove(ctx, in.Name) })
}

// orNever is a moment as an answer has it; nil for never.
func orNever(t time.Time) *time.Time {
	if t.IsZero() {
		return nil
	}
	return &t
}

// shownBy makes an answer of what a use case gives.
func shownBy[R, T any](v R, err error, as func(R) T) (T, error) {
	if err != nil {
		return *new(T), err
	}
	return as(v), nil
}
